//! The statistics: each function checks its input, returns a struct with all it worked out, and
//! names its formula and source. Counts go to 10,000,000, so products are taken in floating point.

pub mod adjust;
pub mod adjusted_difference;
pub mod agreeing;
pub mod best_power;
pub mod best_set;
pub mod beta_binomial;
pub mod beta_binomial_fit;
pub mod bootstrap;
pub mod calc;
pub mod calibration;
pub mod cluster_rate;
pub mod goodness_of_fit;
pub mod homogeneity;
pub mod hour_trial;
pub mod hours;
pub mod midp;
pub mod midp_limits;
pub mod noninferiority;
pub mod omnibus;
pub mod planning;
pub mod proportion;
mod quadrature;
pub mod randomization;
pub mod rare;
pub mod ratio_of_means;
pub mod sample_size;
pub mod shrink;
pub mod shrink_averaged;
pub mod special;
pub mod spending;
pub mod two_proportions;
pub mod welch;

use serde::{Deserialize, Serialize};

/// Why an input was refused. Every message says what was given and what is allowed.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum StatsError {
    #[error("{successes} successes in {trials} trials: trials must be at least 1 and successes between 0 and trials")]
    Arm { successes: u64, trials: u64 },
    #[error("{name} is {value}: it must lie strictly between {low} and {high}")]
    OutOfRange { name: &'static str, value: f64, low: f64, high: f64 },
    #[error("{name} is {value}: it must be greater than 0")]
    NotPositive { name: &'static str, value: f64 },
    #[error("sides is {0}: it must be 1 or 2")]
    Sides(u32),
    #[error("the effect is 0: no number of people can show a difference of nothing")]
    NoEffect,
    #[error("power {power} is not above the false-alarm rate {alpha} of one side: ask for more power or a smaller alpha")]
    PowerNotAboveAlpha { power: f64, alpha: f64 },
    #[error("no effect up to 100% reaches power {power} with {n_a} and {n_b} people: more people are needed")]
    Unreachable { power: f64, n_a: f64, n_b: f64 },
    #[error("{0}")]
    Shares(&'static str),
    #[error("{0}")]
    Arguments(String),
}

/// An arm: how many of `trials` people did it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default)]
pub struct Arm {
    pub successes: u64,
    pub trials: u64,
}

impl std::ops::Add for Arm {
    type Output = Self;

    /// Both together.
    fn add(self, other: Self) -> Self {
        Self { successes: self.successes + other.successes, trials: self.trials + other.trials }
    }
}

impl std::iter::Sum for Arm {
    fn sum<I: Iterator<Item = Self>>(arms: I) -> Self {
        arms.fold(Self::default(), |all, arm| all + arm)
    }
}

impl Arm {
    /// The rate and its denominator as floats.
    ///
    /// # Errors
    /// When there are no trials or more successes than trials.
    #[allow(clippy::cast_precision_loss)]
    pub fn checked(self) -> Result<(f64, f64), StatsError> {
        if self.trials == 0 || self.successes > self.trials {
            return Err(StatsError::Arm { successes: self.successes, trials: self.trials });
        }
        Ok((self.successes as f64, self.trials as f64))
    }
}

pub(crate) fn open_unit(name: &'static str, value: f64) -> Result<f64, StatsError> {
    if value > 0.0 && value < 1.0 { Ok(value) } else { Err(StatsError::OutOfRange { name, value, low: 0.0, high: 1.0 }) }
}

/// The normal quantile of a two-sided interval at `level`.
pub(crate) fn z_of_level(level: f64) -> Result<f64, StatsError> {
    Ok(special::normal_upper_quantile((1.0 - open_unit("level", level)?) / 2.0))
}
