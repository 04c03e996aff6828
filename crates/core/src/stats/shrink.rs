//! What several trials found, each drawn towards what they found together.

use super::StatsError;
use serde::{Deserialize, Serialize};

/// What one trial found.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct Effect {
    pub estimate: f64,
    pub standard_error: f64,
}

/// The effects together.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Shrunk {
    /// The variance of true effects between trials.
    pub tau2: f64,
    /// Their mean.
    pub mu: f64,
    pub shrunk: Vec<f64>,
    /// It counts the uncertainty of the mean, too.
    pub shrunk_se: Vec<f64>,
}

/// Random effects by DerSimonian and Laird (1986, Controlled Clinical Trials 7:177-188), and the best linear unbiased
/// prediction of each.
///
/// # Errors
/// No effect at all, or a standard error that isn't positive.
#[allow(clippy::cast_precision_loss)]
pub fn shrink_effects(effects: &[Effect]) -> Result<Shrunk, StatsError> {
    if effects.is_empty() {
        return Err(StatsError::Arguments("there is no effect to shrink".into()));
    }
    if let Some(e) = effects.iter().find(|e| !(e.standard_error > 0.0 && e.standard_error.is_finite() && e.estimate.is_finite())) {
        return Err(StatsError::NotPositive { name: "standard_error", value: e.standard_error });
    }
    if let [only] = effects {
        return Ok(Shrunk { tau2: 0.0, mu: only.estimate, shrunk: vec![only.estimate], shrunk_se: vec![only.standard_error] });
    }
    let sum = |f: &dyn Fn(&Effect) -> f64| effects.iter().map(f).sum::<f64>();
    let w = |e: &Effect| e.standard_error.powi(-2);
    let total = sum(&w);
    let mean = sum(&|e| w(e) * e.estimate) / total;
    let q = sum(&|e| w(e) * (e.estimate - mean).powi(2));
    let c = total - sum(&|e| w(e).powi(2)) / total;
    let tau2 = ((q - (effects.len() - 1) as f64) / c).max(0.0);
    let v = |e: &Effect| 1.0 / (e.standard_error.powi(2) + tau2);
    let all = sum(&v);
    let mu = sum(&|e| v(e) * e.estimate) / all;
    let part = |e: &Effect| tau2 / (tau2 + e.standard_error.powi(2));
    Ok(Shrunk {
        tau2,
        mu,
        shrunk: effects.iter().map(|e| mu + part(e) * (e.estimate - mu)).collect(),
        shrunk_se: effects.iter().map(|e| (part(e) * e.standard_error.powi(2) + (1.0 - part(e)).powi(2) / all).sqrt()).collect(),
    })
}
