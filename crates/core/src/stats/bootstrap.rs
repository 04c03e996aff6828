//! The difference of two means by resampling (Efron 1979, Annals of Statistics 7:1-26), percentile limits: it assumes
//! nothing of how the values are spread, which few large purchases among many people need.

use super::{StatsError, open_unit};
use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use rand_distr::{Binomial, Distribution};

/// Values of `n` people, of whom most have 0: only the others are listed.
#[derive(Debug, Clone, Copy)]
pub struct Values<'a> {
    pub n: u64,
    pub others: &'a [f64],
}

impl Values<'_> {
    /// The mean of `n` people drawn from these with replacement.
    #[allow(clippy::cast_precision_loss)]
    fn resampled(&self, rng: &mut ChaCha12Rng) -> f64 {
        let share = self.others.len() as f64 / self.n as f64;
        // How many of those drawn aren't 0, then which.
        let drawn = Binomial::new(self.n, share.min(1.0)).map_or(0, |b| b.sample(rng));
        (0..drawn).map(|_| self.others[rng.random_range(0..self.others.len())]).sum::<f64>() / self.n as f64
    }
}

/// Percentile limits of the mean of `b` less the mean of `a`, from `draws` resamples. The same seed gives the same limits.
///
/// # Errors
/// When nobody is there, more values than people are listed, or the level is outside (0, 1).
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub fn bootstrap_difference(a: Values<'_>, b: Values<'_>, level: f64, draws: usize, seed: u64) -> Result<(f64, f64), StatsError> {
    open_unit("level", level)?;
    for v in [a, b] {
        if v.n == 0 || v.others.len() as u64 > v.n || draws < 2 {
            return Err(StatsError::Shares("List at most one value a person, of at least one person."));
        }
    }
    let mut rng = ChaCha12Rng::seed_from_u64(seed);
    let mut found: Vec<f64> = (0..draws).map(|_| b.resampled(&mut rng) - a.resampled(&mut rng)).collect();
    found.sort_by(f64::total_cmp);
    let at = |q: f64| found[((q * draws as f64) as usize).min(draws - 1)];
    Ok((at((1.0 - level) / 2.0), at(f64::midpoint(1.0, level))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::welch::{Sample, welch};

    #[test]
    fn with_many_people_it_agrees_with_welch_and_few_large_values_make_it_lopsided() {
        let bought: Vec<f64> = (0..600).map(|i| 10.0 + f64::from(i % 40)).collect();
        let values = |others| Values { n: 5_000, others };
        let sample = |v: &[f64]| Sample::of(5_000.0, v.iter().sum(), v.iter().map(|x| x * x).sum());
        let w = welch(sample(&bought[..500]), sample(&bought), 0.95).unwrap();
        let (lower, upper) = bootstrap_difference(values(&bought[..500]), values(&bought), 0.95, 4_000, 1).unwrap();
        let width = w.upper - w.lower;
        assert!((lower - w.lower).abs() < 0.05 * width && (upper - w.upper).abs() < 0.05 * width, "{lower} {upper} {w:?}");
        assert_eq!(bootstrap_difference(values(&[]), values(&[]), 0.95, 100, 1).unwrap(), (0.0, 0.0));
        // One great purchase: no resample has less than none of it.
        let (lower, _) = bootstrap_difference(values(&[]), values(&[9_000.0]), 0.95, 2_000, 1).unwrap();
        assert!(lower == 0.0 && bootstrap_difference(Values { n: 0, others: &[] }, values(&[]), 0.95, 100, 1).is_err());
    }
}
