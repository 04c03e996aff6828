//! What several trials found, each drawn towards the others as far as they agree, averaged over how far true effects may differ: with few
//! trials that spread is hardly known, and taking it as known makes intervals too short.

use super::StatsError;
use super::shrink::Effect;
use super::special::normal_cdf;
use serde::{Deserialize, Serialize};

/// What true effects spread about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mean {
    Zero,
    Free,
}

/// The effects together, averaged over the spread.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Averaged {
    /// The standard deviation of true effects between trials, its posterior mean.
    pub tau: f64,
    pub mu: f64,
    pub shrunk: Vec<f64>,
    pub shrunk_sd: Vec<f64>,
    /// 95% of the posterior lies between.
    pub lower: Vec<f64>,
    pub upper: Vec<f64>,
}

/// Places on the logarithm of the spread.
const STEPS: usize = 4_000;

/// One effect given the spread: normal with this mean and standard deviation.
type Normal = (f64, f64);

/// What holds at one spread: its logarithmic density, the mean of effects, and each effect's distribution.
fn at(effects: &[Effect], mean: Mean, scale: f64, tau: f64) -> (f64, f64, Vec<Normal>) {
    let v = |e: &Effect| e.standard_error.powi(2) + tau * tau;
    let precision: f64 = effects.iter().map(|e| 1.0 / v(e)).sum();
    let (m, of_mean) = match mean {
        Mean::Zero => (0.0, 0.0),
        Mean::Free => (effects.iter().map(|e| e.estimate / v(e)).sum::<f64>() / precision, 1.0 / precision),
    };
    let mut ln = -tau * tau / (2.0 * scale * scale);
    ln -= effects.iter().map(|e| v(e).ln() / 2.0 + (e.estimate - m).powi(2) / (2.0 * v(e))).sum::<f64>();
    if mean == Mean::Free {
        ln -= precision.ln() / 2.0;
    }
    let each = effects.iter().map(|e| {
        let part = tau * tau / v(e);
        let variance = part * e.standard_error.powi(2) + (1.0 - part).powi(2) * of_mean;
        (m + part * (e.estimate - m), variance.sqrt())
    });
    (ln, m, each.collect())
}

/// Where a mixture of normals has this much below it.
fn quantile(parts: &[(f64, Normal)], q: f64) -> f64 {
    let mut low = parts.iter().map(|(_, (m, sd))| m - 12.0 * sd).fold(f64::INFINITY, f64::min);
    let mut high = parts.iter().map(|(_, (m, sd))| m + 12.0 * sd).fold(f64::NEG_INFINITY, f64::max);
    for _ in 0..80 {
        let middle = f64::midpoint(low, high);
        let below: f64 = parts.iter().map(|(w, (m, sd))| w * normal_cdf((middle - m) / sd)).sum();
        if below < q { low = middle } else { high = middle }
    }
    f64::midpoint(low, high)
}

/// Normal effects about a common mean, with a half-normal spread (Gelman 2006, Bayesian Analysis 1:515-533): the spread is integrated out, on its
/// logarithm, so that its own uncertainty is in every interval.
///
/// # Errors
/// No effect, an estimate that is no number, or a standard error or scale that isn't positive.
#[allow(clippy::cast_precision_loss)]
pub fn shrink_effects_averaged(effects: &[Effect], mean: Mean, scale: f64) -> Result<Averaged, StatsError> {
    if effects.is_empty() {
        return Err(StatsError::Arguments("there is no effect to shrink".into()));
    }
    if let Some(e) = effects.iter().find(|e| !(e.standard_error > 0.0 && e.standard_error.is_finite())) {
        return Err(StatsError::NotPositive { name: "standard_error", value: e.standard_error });
    }
    if effects.iter().any(|e| !e.estimate.is_finite()) {
        return Err(StatsError::Arguments("an estimate is no number".into()));
    }
    if !(scale > 0.0 && scale.is_finite()) {
        return Err(StatsError::NotPositive { name: "scale", value: scale });
    }
    let least = effects.iter().map(|e| e.standard_error).fold(scale, f64::min);
    let (from, to) = ((1e-9 * least).ln(), (9.0 * scale).ln());
    let step = (to - from) / STEPS as f64;
    let places: Vec<(f64, f64, f64, Vec<Normal>)> = (0..=STEPS)
        .map(|i| {
            let ln_tau = from + i as f64 * step;
            let (ln, m, each) = at(effects, mean, scale, ln_tau.exp());
            // On the logarithm the spread itself is a factor of its density.
            (ln + ln_tau, ln_tau.exp(), m, each)
        })
        .collect();
    let highest = places.iter().map(|p| p.0).fold(f64::NEG_INFINITY, f64::max);
    let raw: Vec<f64> = places.iter().map(|p| (p.0 - highest).exp()).collect();
    let total: f64 = raw.iter().sum();
    let weights: Vec<f64> = raw.iter().map(|w| w / total).collect();
    let average = |f: &dyn Fn(&(f64, f64, f64, Vec<Normal>)) -> f64| places.iter().zip(&weights).map(|(p, w)| w * f(p)).sum::<f64>();
    let mut found = Averaged {
        tau: average(&|p| p.1),
        mu: average(&|p| p.2),
        shrunk: Vec::new(),
        shrunk_sd: Vec::new(),
        lower: Vec::new(),
        upper: Vec::new(),
    };
    for i in 0..effects.len() {
        let mean = average(&|p| p.3[i].0);
        let variance = average(&|p| p.3[i].1.powi(2) + (p.3[i].0 - mean).powi(2));
        // What weighs next to nothing moves no quantile.
        let parts: Vec<(f64, Normal)> = places.iter().zip(&weights).filter(|(_, w)| **w > 1e-14).map(|(p, w)| (*w, p.3[i])).collect();
        found.shrunk.push(mean);
        found.shrunk_sd.push(variance.sqrt());
        found.lower.push(quantile(&parts, 0.025));
        found.upper.push(quantile(&parts, 0.975));
    }
    Ok(found)
}
