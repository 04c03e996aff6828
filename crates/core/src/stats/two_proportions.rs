//! Two rates against each other: score test, Newcombe's interval, Fisher's exact test, risk ratio.

use super::proportion::{Method, proportion_interval};
use super::special::normal_sf;
use super::{Arm, StatsError, z_of_level};
use serde::{Deserialize, Serialize};

/// The comparison of arm b with arm a; differences are b minus a.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Comparison {
    pub difference: f64,
    /// Newcombe's hybrid score limits (Stat Med 17:873-890, method 10).
    pub lower: f64,
    pub upper: f64,
    /// Pooled (score) z; 0 when no outcome varies.
    pub z: f64,
    pub p_value: f64,
    pub fisher_p: f64,
    /// Null when arm a has no successes.
    pub risk_ratio: Option<f64>,
    pub risk_ratio_lower: Option<f64>,
    pub risk_ratio_upper: Option<f64>,
}

/// Newcombe's hybrid score limits of the difference b less a (Stat Med 17:873-890, method 10).
///
/// # Errors
/// As [`two_proportions`].
pub fn newcombe(a: Arm, b: Arm, level: f64) -> Result<(f64, f64), StatsError> {
    let (ia, ib) = (proportion_interval(a, level, Method::Wilson)?, proportion_interval(b, level, Method::Wilson)?);
    let difference = ib.estimate - ia.estimate;
    let lower = difference - (ib.estimate - ib.lower).hypot(ia.upper - ia.estimate);
    let upper = difference + (ib.upper - ib.estimate).hypot(ia.estimate - ia.lower);
    Ok((lower.max(-1.0), upper.min(1.0)))
}

/// The pooled (score) test of b against a: its z, and the two-sided p. Without any variation 0 and 1.
///
/// # Errors
/// As [`two_proportions`].
pub fn score_test(a: Arm, b: Arm) -> Result<(f64, f64), StatsError> {
    let ((xa, na), (xb, nb)) = (a.checked()?, b.checked()?);
    let pooled = (xa + xb) / (na + nb);
    let varies = xa + xb > 0.0 && xa + xb < na + nb;
    let z = if varies { (xb / nb - xa / na) / (pooled * (1.0 - pooled) * (1.0 / na + 1.0 / nb)).sqrt() } else { 0.0 };
    Ok((z, (2.0 * normal_sf(z.abs())).min(1.0)))
}

/// Compares two arms at the given confidence level.
///
/// # Errors
/// An arm without trials or with more successes than trials; a level outside (0, 1).
#[allow(clippy::similar_names)]
pub fn two_proportions(a: Arm, b: Arm, level: f64) -> Result<Comparison, StatsError> {
    let (xa, na) = a.checked()?;
    let (xb, nb) = b.checked()?;
    let zq = z_of_level(level)?;
    let (pa, pb) = (xa / na, xb / nb);
    let difference = pb - pa;
    let (lower, upper) = newcombe(a, b, level)?;
    let (z, p_value) = score_test(a, b)?;
    let (risk_ratio, rr_lower, rr_upper) = if a.successes == 0 {
        (None, None, None)
    } else if b.successes == 0 {
        (Some(0.0), None, None)
    } else {
        let rr = pb / pa;
        let half = zq * (1.0 / xb - 1.0 / nb + 1.0 / xa - 1.0 / na).max(0.0).sqrt();
        (Some(rr), Some((rr.ln() - half).exp()), Some((rr.ln() + half).exp()))
    };
    Ok(Comparison {
        difference,
        lower,
        upper,
        z,
        p_value,
        fisher_p: fisher_two_sided(a, b),
        risk_ratio,
        risk_ratio_lower: rr_lower,
        risk_ratio_upper: rr_upper,
    })
}

/// The logarithm of a weight that no float holds beside 1.
const UNDERFLOW: f64 = -800.0;

/// Two-sided Fisher exact test: the probability of all tables with the same margins that are no
/// more probable than the one observed, with a relative slack of 1e-7 so that exact ties count.
///
/// Works by the recurrence between neighbouring tables rather than log-gammas, which lose digits
/// at ten million trials. Weights are relative to the most probable table; the observed one's is
/// kept as a logarithm, so a p-value far below the smallest float ratio stays right.
/// A weight below e^-800 of the mode's is nothing to a float, so tables further out are not walked to: at 10^12 trials that would
/// take days.
#[allow(clippy::cast_precision_loss, clippy::similar_names)]
fn fisher_two_sided(a: Arm, b: Arm) -> f64 {
    let (na, nb) = (a.trials as f64, b.trials as f64);
    let m = (a.successes + b.successes) as f64;
    let (first, last) = ((m - nb).max(0.0), m.min(na));
    let observed = a.successes as f64;
    // P(k+1) / P(k)
    let up = |k: f64| (m - k) / (k + 1.0) * (na - k) / (nb - m + k + 1.0);
    let mode = (((m + 1.0) * (na + 1.0) / (na + nb + 2.0)).floor()).clamp(first, last);
    // Sum of weights from k outwards, relative to k's own weight of 1.
    let tail_from = |k: f64, rising: bool| {
        let (mut weight, mut sum, mut k) = (1.0, 1.0, k);
        while weight > sum * 1e-18 && (if rising { k < last } else { k > first }) {
            weight *= if rising { up(k) } else { 1.0 / up(k - 1.0) };
            k += if rising { 1.0 } else { -1.0 };
            sum += weight;
        }
        sum
    };
    let total = tail_from(mode, true) + tail_from(mode, false) - 1.0;
    // ln weight of the observed table.
    let step = |k: f64, rising: bool| if rising { up(k).ln() } else { -up(k - 1.0).ln() };
    let walk = |stop: &dyn Fn(f64, f64) -> bool, rising: bool| {
        let (mut k, mut log, mut lost) = (mode, 0.0_f64, 0.0_f64);
        while !stop(k, log) && log > UNDERFLOW {
            if if rising { k >= last } else { k <= first } {
                return None;
            }
            let term = step(k, rising) - lost;
            let next = log + term;
            lost = (next - log) - term;
            log = next;
            k += if rising { 1.0 } else { -1.0 };
        }
        Some((k, log))
    };
    let rising = observed >= mode;
    let Some((at, log_observed)) = walk(&|k, _| k == observed, rising) else { return 1.0 };
    if at != observed {
        return 0.0;
    }
    let limit = log_observed + 1e-7;
    if limit >= 0.0 {
        return 1.0;
    }
    let near = log_observed.exp() * tail_from(observed, rising);
    let far = walk(&|_, log| log <= limit, !rising).map_or(0.0, |(k, log)| log.exp() * tail_from(k, !rising));
    ((near + far) / total).min(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Swapping the arms mirrors the difference and leaves every p-value alone.
        #[test]
        fn swapping_arms_mirrors(xa in 0u64..60, ea in 1u64..60, xb in 0u64..60, eb in 1u64..60) {
            let (a, b) = (Arm { successes: xa, trials: xa + ea }, Arm { successes: xb, trials: xb + eb });
            let (ab, ba) = (two_proportions(a, b, 0.95).unwrap(), two_proportions(b, a, 0.95).unwrap());
            prop_assert!((ab.lower + ba.upper).abs() < 1e-12 && (ab.z + ba.z).abs() < 1e-12);
            prop_assert!((ab.fisher_p - ba.fisher_p).abs() < 1e-9);
            prop_assert!(ab.lower <= ab.difference && ab.difference <= ab.upper);
        }
    }
}
