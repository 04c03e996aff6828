//! The mid-p exact test turned around: all odds ratios that it doesn't reject, and what they mean as differences of shares.
//!
//! Given the successes of each stratum, the second arm's are noncentral hypergeometric: each count's chance is that without a difference times
//! the odds ratio to its power (Cornfield 1956; Agresti 2013, Categorical Data Analysis, 16.6). The sum over strata is tilted the same way, so
//! one list of chances serves every odds ratio. With an odds ratio and a stratum's successes both shares are known, and their difference grows
//! with it: so 0 is a limit exactly where the test's p is at the level.

use super::midp::summed_chances;
use super::{Arm, StatsError};

/// Odds ratios are sought between e to the power of less and more than this.
const WIDEST: f64 = 40.0;
/// Each halving makes the odds ratio's place twice as exact; these leave 1e-15 of it.
const HALVINGS: usize = 56;

/// Both shares of a stratum with `all` successes, at this logarithm of the odds ratio: the second less the first.
fn difference_at((n_a, n_b, all): (f64, f64, f64), log_odds: f64) -> f64 {
    let (mut low, mut high) = ((all - n_b).max(0.0) / n_a, (all / n_a).min(1.0));
    let second = |first: f64| (all - n_a * first) / n_b;
    let logit = |p: f64| p.ln() - (-p).ln_1p();
    for _ in 0..HALVINGS {
        let first = low.midpoint(high);
        // More in the first arm leaves less for the second: their log odds ratio falls.
        if logit(second(first).clamp(0.0, 1.0)) - logit(first) > log_odds {
            low = first;
        } else {
            high = first;
        }
    }
    let first = low.midpoint(high);
    second(first) - first
}

/// The limits of the second arm's share less the first's by the mid-p test, over strata with people in both arms; weighted as
/// [`super::homogeneity::compare_strata`] weights them. None where all did it, or nobody did: then nothing is known of the odds.
///
/// # Errors
/// As [`super::midp::midp_over`].
#[allow(clippy::cast_precision_loss)]
pub fn midp_limits(strata: &[(Arm, Arm)], level: f64) -> Result<Option<(f64, f64)>, StatsError> {
    let of = summed_chances(strata)?;
    if of.chances.len() < 2 {
        return Ok(None);
    }
    let logs: Vec<f64> = of.chances.iter().map(|p| p.ln()).collect();
    // The chance of more than was seen, what was seen counted half: it grows with the odds ratio.
    let more = |log_odds: f64| {
        let tilted = |i: usize| logs[i] + log_odds * i as f64;
        let top = (0..logs.len()).map(tilted).fold(f64::NEG_INFINITY, f64::max);
        let (mut all, mut above) = (0.0, 0.0);
        for i in 0..logs.len() {
            let w = (tilted(i) - top).exp();
            all += w;
            above += if i > of.seen { w } else { 0.0 } + if i == of.seen { w / 2.0 } else { 0.0 };
        }
        above / all
    };
    let sought = |share: f64| {
        let (mut low, mut high) = (-WIDEST, WIDEST);
        for _ in 0..HALVINGS {
            let middle = low.midpoint(high);
            if more(middle) < share {
                low = middle;
            } else {
                high = middle;
            }
        }
        low.midpoint(high)
    };
    let tables: Vec<(f64, f64, f64)> = strata
        .iter()
        .filter(|(a, b)| a.trials > 0 && b.trials > 0)
        .map(|(a, b)| (a.trials as f64, b.trials as f64, (a.successes + b.successes) as f64))
        .collect();
    let weight = |(n_a, n_b, _): &(f64, f64, f64)| n_a * n_b / (n_a + n_b);
    let all: f64 = tables.iter().map(weight).sum();
    let over = |log_odds: f64| tables.iter().map(|t| weight(t) / all * difference_at(*t, log_odds)).sum::<f64>();
    Ok(Some((over(sought((1.0 - level) / 2.0)), over(sought(1.0 - (1.0 - level) / 2.0)))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::midp::midp_over;
    use proptest::prelude::*;

    fn arm(successes: u64, trials: u64) -> Arm {
        Arm { successes, trials }
    }

    #[test]
    fn a_difference_goes_with_its_odds() {
        for (n_a, n_b, all) in [(1_000.0, 1_000.0, 4.0), (300.0, 3_000.0, 3_299.0), (10.0, 7.0, 8.0)] {
            assert!(difference_at((n_a, n_b, all), 0.0).abs() < 1e-12);
            let d = difference_at((n_a, n_b, all), 1.5);
            let first = (all - n_b * d) / (n_a + n_b);
            let odds = |p: f64| p / (1.0 - p);
            assert!((odds(first + d) / odds(first) - 1.5f64.exp()).abs() < 1e-6, "{n_a} {n_b} {all} {d}");
            assert!(difference_at((n_a, n_b, all), 40.0) <= all / n_b && difference_at((n_a, n_b, all), -40.0) >= -all / n_a);
        }
    }

    proptest! {
        /// What the limits exclude is what the test rejects, and a wider level gives wider limits.
        #[test]
        fn limits_are_the_test_turned_around(
            arms in prop::collection::vec((0u64..9, 5u64..3_000, 0u64..9, 5u64..3_000), 1..4),
            level in 0.6f64..0.999,
        ) {
            let strata: Vec<(Arm, Arm)> = arms.iter().map(|(x, n, y, m)| (arm(*x.min(n), *n), arm(*y.min(m), *m))).collect();
            let p = midp_over(&strata).unwrap().p_value;
            let Some((lower, upper)) = midp_limits(&strata, level).unwrap() else { return Ok(()) };
            if (p - (1.0 - level)).abs() > 1e-6 {
                prop_assert_eq!(lower > 0.0 || upper < 0.0, p < 1.0 - level, "p {} at {}: {} to {}", p, level, lower, upper);
            }
            let (less, more) = midp_limits(&strata, level.midpoint(1.0)).unwrap().unwrap();
            prop_assert!(less <= lower + 1e-12 && lower <= upper && upper <= more + 1e-12);
        }
    }
}
