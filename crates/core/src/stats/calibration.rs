//! How often would looking several times call a difference where there is none? Worked out exactly, to hold our own
//! simulations against.

use super::special::normal_upper_quantile;
use super::spending::{Spending, spending_bounds};
use super::{StatsError, open_unit};
use serde::Deserialize;

/// The bounds of the looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Looks {
    /// The one-look bound at each of them.
    None,
    ObrienFleming,
    Pocock,
}

/// Counts further from their mean than so many standard deviations are left out: 1e-15 of all.
const REACH: f64 = 8.0;

/// The binomial probabilities of `m` trials at rate `p`.
#[allow(clippy::cast_precision_loss)]
fn binomial(m: usize, p: f64) -> Vec<f64> {
    let ln = |k: usize| libm::lgamma(m as f64 + 1.0) - libm::lgamma(k as f64 + 1.0) - libm::lgamma((m - k) as f64 + 1.0);
    (0..=m).map(|k| (ln(k) + k as f64 * p.ln() + (m - k) as f64 * (-p).ln_1p()).exp()).collect()
}

/// The window of counts that matter after `n` trials.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn window(n: usize, p: f64) -> (usize, usize) {
    let (mean, half) = (n as f64 * p, REACH * (n as f64 * p * (1.0 - p)).sqrt() + 2.0);
    ((mean - half).max(0.0) as usize, ((mean + half).ceil() as usize).min(n))
}

/// The rate of rejecting at any look, both arms having the same rate; look i sees the first `floor(n i / K)` of each.
///
/// # Errors
/// A rate or an alpha outside 0 to 1, no looks, or more looks than people.
#[allow(clippy::cast_precision_loss)]
pub fn calibration(n_per_arm: usize, rate: f64, alpha: f64, looks: usize, bounds: Looks) -> Result<f64, StatsError> {
    let (rate, alpha) = (open_unit("rate", rate)?, open_unit("alpha", alpha)?);
    if looks == 0 || looks > n_per_arm || n_per_arm > 100_000 {
        return Err(StatsError::Arguments(format!(
            "{looks} looks at {n_per_arm} people in each arm: give at least one look, a person for each, and 100,000 people at most"
        )));
    }
    let sizes: Vec<usize> = (1..=looks).map(|i| n_per_arm * i / looks).collect();
    let z = match bounds {
        Looks::None => vec![normal_upper_quantile(alpha / 2.0); looks],
        Looks::ObrienFleming | Looks::Pocock => {
            let spending = if bounds == Looks::Pocock { Spending::Pocock } else { Spending::ObrienFleming };
            let fractions: Vec<f64> = sizes.iter().map(|n| *n as f64 / n_per_arm as f64).collect();
            spending_bounds(alpha, 2, &fractions, spending)?.z_bounds
        }
    };
    // The chance of every pair of counts of those who haven't been rejected yet.
    let (mut low, mut high) = (0, 0);
    let mut kept = vec![1.0];
    let (mut n, mut rejected) = (0, 0.0);
    for (size, bound) in sizes.into_iter().zip(z) {
        let step = binomial(size - n, rate);
        let (to_low, to_high) = window(size, rate);
        let (from, to) = (high - low + 1, to_high - to_low + 1);
        // One arm's new people, then the other's.
        let mut half = vec![0.0; to * from];
        for a in 0..from {
            for (k, w) in step.iter().enumerate().filter(|(_, w)| **w > 1e-18) {
                let x = low + a + k;
                if (to_low..=to_high).contains(&x) {
                    for b in 0..from {
                        half[(x - to_low) * from + b] += w * kept[a * from + b];
                    }
                }
            }
        }
        let mut next = vec![0.0; to * to];
        for a in 0..to {
            for b in 0..from {
                let mass = half[a * from + b];
                if mass > 0.0 {
                    for (k, w) in step.iter().enumerate().filter(|(_, w)| **w > 1e-18) {
                        let x = low + b + k;
                        if (to_low..=to_high).contains(&x) {
                            next[a * to + x - to_low] += w * mass;
                        }
                    }
                }
            }
        }
        let size_f = size as f64;
        for a in 0..to {
            for b in 0..to {
                let (xa, xb) = ((to_low + a) as f64, (to_low + b) as f64);
                let pooled = (xa + xb) / (2.0 * size_f);
                let variance = pooled * (1.0 - pooled) * 2.0 / size_f;
                if variance > 0.0 && ((xb - xa) / size_f).abs() / variance.sqrt() >= bound {
                    rejected += next[a * to + b];
                    next[a * to + b] = 0.0;
                }
            }
        }
        (low, high, kept, n) = (to_low, to_high, next, size);
    }
    Ok(rejected)
}
