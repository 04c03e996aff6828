//! What past trials teach the next one: how far variants usually lie apart.

use crate::stats::shrink::Effect;
use crate::stats::shrink_averaged::{Mean, shrink_effects_averaged as averaged};
use crate::stats::special::normal_upper_quantile;
use crate::stats::{Arm, StatsError};

/// How far log odds of true effects may lie apart before any trial was read: the scale of the half-normal prior.
const SCALE: f64 = 0.3;
/// With fewer trials nothing is said of how far variants lie apart: it would be the prior's word.
const LEAST_TRIALS: usize = 3;

/// The spread of true differences over past trials, as a variance of rates: averaged over what it may be ([`averaged`]), at the rate of these
/// trials. `None` with fewer than three.
///
/// # Errors
/// When an effect has no standard error.
#[allow(clippy::cast_precision_loss)]
pub fn spread(contrasts: &[Contrast]) -> Result<Option<f64>, StatsError> {
    if contrasts.len() < LEAST_TRIALS {
        return Ok(None);
    }
    let effects: Vec<Effect> = contrasts.iter().map(Contrast::log_odds).collect();
    // Which of two arms is named first says nothing, so they spread about 0.
    let tau = averaged(&effects, Mean::Zero, SCALE)?.tau;
    let slope = contrasts.iter().map(Contrast::slope).sum::<f64>() / contrasts.len() as f64;
    Ok(Some((tau * slope).powi(2)))
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

/// An effect as it looks in the light of all the others: log odds, with 95% of what it may be between the limits.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ShrunkEffect {
    pub estimate: f64,
    pub standard_error: f64,
    pub lower: f64,
    pub upper: f64,
}

impl ShrunkEffect {
    /// Multiplied by a number, which may be below 0.
    #[must_use]
    pub fn times(self, by: f64) -> Self {
        let (one, other) = (self.lower * by, self.upper * by);
        Self { estimate: self.estimate * by, standard_error: self.standard_error * by.abs(), lower: one.min(other), upper: one.max(other) }
    }
}

/// Draws effects towards what such trials find: without a control towards 0, since which arm is named first says nothing; with one towards their
/// common mean. It is averaged over how far true effects may lie apart (function 29 of `rinse calc`): with few trials that is hardly known, and
/// limits that take it as known are too narrow. Trials of the same against itself must not be among them.
///
/// # Errors
/// When an effect has no standard error.
pub fn shrink(contrasts: &[Contrast]) -> Result<Vec<ShrunkEffect>, StatsError> {
    let mut out = vec![ShrunkEffect::default(); contrasts.len()];
    for (control, mean) in [(false, Mean::Zero), (true, Mean::Free)] {
        let at: Vec<usize> = (0..contrasts.len()).filter(|i| contrasts[*i].control == control).collect();
        let effects: Vec<Effect> = at.iter().map(|i| contrasts[*i].log_odds()).collect();
        if effects.is_empty() {
            continue;
        }
        let s = averaged(&effects, mean, SCALE)?;
        for (k, i) in at.iter().enumerate() {
            out[*i] = ShrunkEffect { estimate: s.shrunk[k], standard_error: s.shrunk_sd[k], lower: s.lower[k], upper: s.upper[k] };
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use chacha20::ChaCha12Rng;
    use rand::SeedableRng;
    use rand_distr::{Binomial, Distribution, Normal};

    #[test]
    fn the_spread_that_made_them_is_found_again() {
        let mut rng = ChaCha12Rng::seed_from_u64(5);
        let (apart, n) = (Normal::new(0.0, 0.15).unwrap(), 4_000_u64);
        let mut trial = |truth: f64| {
            let odds = 0.25 * truth.exp();
            let mut drawn = |p: f64| Arm { successes: Binomial::new(n, p).unwrap().sample(&mut rng), trials: n };
            Contrast { base: drawn(0.2), arm: drawn(odds / (1.0 + odds)), control: false }
        };
        let mut truths = ChaCha12Rng::seed_from_u64(6);
        let mut found = 0.0;
        for _ in 0..200 {
            let contrasts: Vec<Contrast> = (0..5).map(|_| trial(apart.sample(&mut truths))).collect();
            found += spread(&contrasts).unwrap().unwrap().sqrt() / 200.0;
        }
        assert!((found / (0.15 * 0.16) - 1.0).abs() < 0.25, "{found}");
        assert!(spread(&[trial(0.1), trial(0.2)]).unwrap().is_none() && typical(0.0) == 0.0);
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
