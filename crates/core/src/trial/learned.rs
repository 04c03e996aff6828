//! What past trials teach the next one: how far variants usually lie apart.

use crate::stats::shrink::{Effect, shrink_effects};
use crate::stats::special::normal_upper_quantile;
use crate::stats::{Arm, StatsError};

/// The spread of true differences over past trials, as a variance: which of two arms is named first says nothing, so
/// their mean is 0, and by moments E Σ y²/s² = k + τ² Σ 1/s². `None` with fewer than three trials.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn spread(effects: &[Effect]) -> Option<f64> {
    if effects.len() < 3 {
        return None;
    }
    let weight: f64 = effects.iter().map(|e| e.standard_error.powi(-2)).sum();
    let q: f64 = effects.iter().map(|e| (e.estimate / e.standard_error).powi(2)).sum();
    Some(((q - effects.len() as f64) / weight).max(0.0))
}

/// The size of difference that half of them stay under: the median of a half-normal with that variance.
#[must_use]
pub fn typical(spread: f64) -> f64 {
    normal_upper_quantile(0.25) * spread.sqrt()
}

/// What a past trial found on its first contrast, for learning from all of them.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Contrast {
    pub base: Arm,
    pub arm: Arm,
    /// The base was a control: then the mean of all such effects means something.
    pub control: bool,
}

impl Contrast {
    /// The difference of the rates; none where neither arm varies.
    #[must_use]
    pub fn difference(&self) -> Option<Effect> {
        let ((xa, na), (xb, nb)) = (self.base.checked().ok()?, self.arm.checked().ok()?);
        let (pa, pb) = (xa / na, xb / nb);
        let standard_error = (pa * (1.0 - pa) / na + pb * (1.0 - pb) / nb).sqrt();
        (standard_error > 0.0).then_some(Effect { estimate: pb - pa, standard_error })
    }

    /// The difference as log odds with its standard error (Woolf); a half is added to every cell, so that an arm where
    /// nobody or everybody answered has one.
    #[must_use]
    #[allow(clippy::cast_precision_loss)]
    pub fn log_odds(&self) -> Effect {
        let cells = |a: Arm| (a.successes as f64 + 0.5, a.trials.saturating_sub(a.successes) as f64 + 0.5);
        let ((xa, fa), (xb, fb)) = (cells(self.base), cells(self.arm));
        Effect { estimate: (xb / fb).ln() - (xa / fa).ln(), standard_error: (1.0 / xa + 1.0 / fa + 1.0 / xb + 1.0 / fb).sqrt() }
    }

    /// What a step of log odds is in points, at the rate of both arms together.
    #[must_use]
    #[allow(clippy::cast_precision_loss)]
    pub fn slope(&self) -> f64 {
        let p = (self.base.successes + self.arm.successes) as f64 / (self.base.trials + self.arm.trials).max(1) as f64;
        p * (1.0 - p)
    }
}

/// An effect as it looks in the light of all the others: log odds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ShrunkEffect {
    pub estimate: f64,
    pub standard_error: f64,
}

impl ShrunkEffect {
    /// Its 95% interval.
    #[must_use]
    pub fn interval(&self) -> (f64, f64) {
        let half = normal_upper_quantile(0.025) * self.standard_error;
        (self.estimate - half, self.estimate + half)
    }
}

/// Draws effects towards what such trials find: without a control towards 0, since which arm is named first says nothing;
/// with one towards their common mean (DerSimonian & Laird, function 18 of `rinse calc`). The standard error counts that the
/// spread is known from these trials only.
///
/// # Errors
/// When an effect has no standard error.
#[allow(clippy::cast_precision_loss)]
pub fn shrink(contrasts: &[Contrast]) -> Result<Vec<ShrunkEffect>, StatsError> {
    let mut out = vec![ShrunkEffect { estimate: 0.0, standard_error: 0.0 }; contrasts.len()];
    for control in [false, true] {
        let at: Vec<usize> = (0..contrasts.len()).filter(|i| contrasts[*i].control == control).collect();
        let effects: Vec<Effect> = at.iter().map(|i| contrasts[*i].log_odds()).collect();
        if effects.is_empty() {
            continue;
        }
        if control {
            let s = shrink_effects(&effects)?;
            for (k, i) in at.iter().enumerate() {
                out[*i] = ShrunkEffect { estimate: s.shrunk[k], standard_error: s.shrunk_se[k] };
            }
            continue;
        }
        // With too few to know the spread, each stands for itself.
        let spread = spread(&effects);
        let others = effects.len() as f64 - 2.0;
        for (e, i) in effects.iter().zip(&at) {
            let b = spread.map_or(1.0, |t| t / (t + e.standard_error.powi(2)));
            // The spread is an estimate itself: what it moves the effect by is unsure by that much (Morris 1983, section 4).
            let unsure = if others > 0.0 { 2.0 / others * ((1.0 - b) * e.estimate).powi(2) } else { 0.0 };
            out[*i] = ShrunkEffect { estimate: b * e.estimate, standard_error: (b * e.standard_error.powi(2) + unsure).sqrt() };
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use chacha20::ChaCha12Rng;
    use rand::SeedableRng;
    use rand_distr::{Distribution, Normal};

    #[test]
    fn the_spread_that_made_them_is_found_again() {
        let (mut rng, truth) = (ChaCha12Rng::seed_from_u64(5), 0.02);
        let apart = Normal::new(0.0, truth).unwrap();
        let effects: Vec<Effect> = (0..4_000)
            .map(|i| {
                let se = 0.005 + 0.00001 * f64::from(i % 1000);
                Effect { estimate: apart.sample(&mut rng) + Normal::new(0.0, se).unwrap().sample(&mut rng), standard_error: se }
            })
            .collect();
        let found = spread(&effects).unwrap();
        assert!((found.sqrt() / truth - 1.0).abs() < 0.05, "{}", found.sqrt());
        let noise: Vec<Effect> =
            effects.iter().map(|e| Effect { estimate: Normal::new(0.0, e.standard_error).unwrap().sample(&mut rng), ..*e }).collect();
        assert!(spread(&noise).unwrap().sqrt() < 0.004, "noise alone has no spread");
        assert!(spread(&effects[..2]).is_none() && typical(0.0) == 0.0);
    }

    #[test]
    fn without_a_control_the_order_of_arms_only_turns_the_sign() {
        let of = |xs: [u64; 8], turned: bool| {
            let contrasts: Vec<Contrast> = xs
                .chunks(2)
                .map(|x| {
                    let (a, b) = (Arm { successes: x[0], trials: 1_000 }, Arm { successes: x[1], trials: 1_000 });
                    if turned { Contrast { base: b, arm: a, control: false } } else { Contrast { base: a, arm: b, control: false } }
                })
                .collect();
            shrink(&contrasts).unwrap()
        };
        let xs = [200, 260, 210, 150, 190, 200, 220, 300];
        for (a, b) in of(xs, false).iter().zip(of(xs, true)) {
            assert!((a.estimate + b.estimate).abs() < 1e-12 && (a.standard_error - b.standard_error).abs() < 1e-12);
        }
        let raw = Contrast { base: Arm { successes: 200, trials: 1_000 }, arm: Arm { successes: 260, trials: 1_000 }, control: false };
        let first = of(xs, false)[0];
        assert!(first.estimate > 0.0 && first.estimate < raw.log_odds().estimate, "drawn towards 0");
        // In points at the rate of both: close to the plain difference.
        assert!((raw.log_odds().estimate * raw.slope() - 0.06).abs() < 0.002);
        let none = Contrast { base: Arm { successes: 0, trials: 50 }, arm: Arm { successes: 3, trials: 50 }, control: true };
        assert!(shrink(&[none, none]).unwrap().iter().all(|s| s.estimate.is_finite() && s.standard_error > 0.0));
    }
}
