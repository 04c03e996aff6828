//! Intervals for one rate.

use super::special::beta_quantile;
use super::{Arm, StatsError, z_of_level};
use serde::{Deserialize, Serialize};

/// How an interval is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// Wilson's score interval, without continuity correction: the one shown everywhere.
    Wilson,
    /// Clopper and Pearson's exact interval: never covers less than its level.
    ClopperPearson,
    /// Jeffreys' equal-tailed interval with the edge rule of Brown, Cai & DasGupta (2001).
    Jeffreys,
}

/// A rate with its interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Interval {
    pub estimate: f64,
    pub lower: f64,
    pub upper: f64,
}

/// The rate `x/n` and its interval at `level`.
///
/// Bounds that are 0 or 1 by definition are exactly so.
///
/// # Errors
/// No trials, more successes than trials, or a level outside (0, 1).
pub fn proportion_interval(arm: Arm, level: f64, method: Method) -> Result<Interval, StatsError> {
    let (x, n) = arm.checked()?;
    let z = z_of_level(level)?;
    let p = x / n;
    let tail = (1.0 - level) / 2.0;
    let beta = |a: f64, b: f64| (beta_quantile(a, b, tail, false), beta_quantile(a, b, tail, true));
    let (lower, upper) = match method {
        Method::Wilson => {
            let z2 = z * z;
            let centre = p + z2 / (2.0 * n);
            let half = z * (p * (1.0 - p) / n + z2 / (4.0 * n * n)).sqrt();
            let scale = 1.0 + z2 / n;
            ((centre - half) / scale, (centre + half) / scale)
        }
        Method::ClopperPearson => (
            if x > 0.0 { beta_quantile(x, n - x + 1.0, tail, false) } else { 0.0 },
            if x < n { beta_quantile(x + 1.0, n - x, tail, true) } else { 1.0 },
        ),
        Method::Jeffreys => beta(x + 0.5, n - x + 0.5),
    };
    Ok(Interval {
        estimate: p,
        lower: if arm.successes == 0 { 0.0 } else { lower.max(0.0) },
        upper: if arm.successes == arm.trials { 1.0 } else { upper.min(1.0) },
    })
}
