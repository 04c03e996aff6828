//! People of one company: they answer alike, and one scanner or filter stands before all of them.
//!
//! Arms are drawn person by person, so likeness alone makes no difference between arms less sure. A company whose scanner takes one arm's message
//! otherwise does: then its people are no longer as many answers as they are people. So the error of a comparison is taken by company, too (each
//! company one cluster; Liang and Zeger 1986, Biometrika 73:13-22), and the larger of both decides.

use super::reading::ArmCounts;
use crate::stats::Arm;
use crate::stats::agreeing::{Test, Tested};
use crate::stats::special::{normal_sf, normal_upper_quantile};
use serde::{Deserialize, Serialize};

/// With fewer companies that have several people nothing is said of how they differ.
pub const LEAST_COMPANIES: usize = 20;

/// How many times the variance of a comparison is that of people who answer one by one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Design {
    pub base: usize,
    pub arm: usize,
    pub effect: f64,
}

/// The design effect of the difference of two arms. `companies`: of each company with several people, the primary of each arm; everybody else
/// stands alone. 1 where there are too few companies, or nothing varies.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn effect((base, arm): (usize, usize), counts: &[ArmCounts], companies: &[Vec<Arm>]) -> f64 {
    let (Some(a), Some(b)) = (counts.get(base), counts.get(arm)) else { return 1.0 };
    let several: Vec<(Arm, Arm)> =
        companies.iter().filter_map(|c| Some((*c.get(base)?, *c.get(arm)?))).filter(|(a, b)| a.trials + b.trials > 1).collect();
    let (na, nb) = (a.observed() as f64, b.observed() as f64);
    if several.len() < LEAST_COMPANIES || na < 1.0 || nb < 1.0 {
        return 1.0;
    }
    let (pa, pb) = (a.primary as f64 / na, b.primary as f64 / nb);
    let alone = |x: f64, n: f64, p: f64, all: f64| (x * (1.0 - p).powi(2) + (n - x).max(0.0) * p * p) / (all * all);
    let plain = alone(a.primary as f64, na, pa, na) + alone(b.primary as f64, nb, pb, nb);
    let (mut in_companies, mut as_people) = (0.0, 0.0);
    for (x, y) in &several {
        let of = |arm: &Arm, p: f64, all: f64| (arm.successes as f64 - arm.trials as f64 * p) / all;
        in_companies += (of(y, pb, nb) - of(x, pa, na)).powi(2);
        as_people += alone(x.successes as f64, x.trials as f64, pa, na) + alone(y.successes as f64, y.trials as f64, pb, nb);
    }
    let m = several.len() as f64;
    if plain > 0.0 { (plain - as_people + m / (m - 1.0) * in_companies) / plain } else { 1.0 }
}

/// A comparison whose error is taken by company where that is larger. The exact test of few stays as it is.
pub(super) fn widened(t: Tested, effect: f64, level: f64) -> Tested {
    if effect <= 1.0 || t.test == Test::MidP {
        return t;
    }
    let by = effect.sqrt();
    let p_value = (2.0 * normal_sf(normal_upper_quantile((t.p_value / 2.0).clamp(1e-300, 0.5)) / by)).min(1.0);
    let (lower, upper) = (t.difference - (t.difference - t.lower) * by, t.difference + (t.upper - t.difference) * by);
    Tested { p_value, lower, upper, ..t }.agreed(level)
}

#[cfg(test)]
mod tests {
    use super::*;
    use chacha20::ChaCha12Rng;
    use rand::{RngExt, SeedableRng};

    /// 200 companies of ten; each company's filter opens everything of B, or nothing, or what people do.
    fn drawn(rng: &mut ChaCha12Rng, filters: bool) -> (Vec<ArmCounts>, Vec<Vec<Arm>>) {
        let mut all = vec![ArmCounts::default(); 2];
        let companies = (0..200)
            .map(|i| {
                let mut of = vec![Arm { successes: 0, trials: 0 }; 2];
                // Companies differ in how they answer, whatever the arm.
                let rate = if i % 2 == 0 { 0.1 } else { 0.5 };
                for _ in 0..10 {
                    let arm = usize::from(rng.random::<bool>());
                    let filtered = filters && arm == 1 && i % 4 < 2;
                    let did = if filtered { i % 4 == 0 } else { rng.random::<f64>() < rate };
                    of[arm].trials += 1;
                    of[arm].successes += u64::from(did);
                }
                of
            })
            .collect::<Vec<_>>();
        for of in &companies {
            for (sum, c) in all.iter_mut().zip(of) {
                (sum.assigned, sum.primary) = (sum.assigned + c.trials, sum.primary + c.successes);
            }
        }
        (all, companies)
    }

    #[test]
    fn likeness_alone_widens_nothing_and_a_filter_before_one_arm_does() {
        let mut rng = ChaCha12Rng::seed_from_u64(4);
        let mean = |rng: &mut ChaCha12Rng, filters| {
            (0..50).map(|_| drawn(rng, filters)).map(|(all, companies)| effect((0, 1), &all, &companies)).sum::<f64>() / 50.0
        };
        let (alike, filtered) = (mean(&mut rng, false), mean(&mut rng, true));
        assert!((alike - 1.0).abs() < 0.05, "{alike}");
        assert!(filtered > 1.4, "{filtered}");
        let (all, companies) = drawn(&mut rng, true);
        assert_eq!(effect((0, 1), &all, &companies[..10]), 1.0, "too few companies to say");
        // Four times the variance is twice the error.
        let t = Tested { difference: 0.03, p_value: 0.0027, lower: 0.01, upper: 0.05, test: Test::Score };
        let w = widened(t, 4.0, 0.95);
        assert!((w.p_value - 0.1336).abs() < 0.001 && w.lower <= 0.0 && (w.upper - 0.07).abs() < 1e-12, "{w:?}");
        assert_eq!(widened(t, 0.8, 0.95), t);
    }
}
