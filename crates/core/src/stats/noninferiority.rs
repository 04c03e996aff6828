//! Is a guardrail kept: is the treatment worse by less than a margin?

use super::special::{normal_cdf, normal_sf, normal_upper_quantile};
use super::{Arm, StatsError, open_unit};
use serde::{Deserialize, Serialize};

/// When the metric does harm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BadWhen {
    /// Complaints, leaving.
    Higher,
    /// Answers, revenue.
    Lower,
}

/// A test against a margin.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct AgainstMargin {
    /// Treatment less control.
    pub difference: f64,
    pub z: f64,
    /// Below alpha: the margin is kept.
    pub p_value: f64,
    /// The one-sided bound of the difference on the side of harm.
    pub bound: f64,
}

/// The z of a treatment's harm above a margin over strata, where more is bad: their differences weighted by
/// `n_a n_b / (n_a + n_b)` less the margin, by the unpooled standard error of that sum. One stratum alone gives the z of
/// [`noninferiority`]. None where nothing varies: then there is no test.
#[must_use]
pub fn harm_over(strata: &[(Arm, Arm)], margin: f64) -> Option<f64> {
    harm(strata).map(|(difference, error)| (difference - margin) / error)
}

/// How much more harm a treatment does over strata, with its unpooled standard error; none where nothing varies.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn harm(strata: &[(Arm, Arm)]) -> Option<(f64, f64)> {
    let weight = |(a, b): &(Arm, Arm)| a.trials as f64 * b.trials as f64 / (a.trials + b.trials) as f64;
    let all: f64 = strata.iter().map(weight).sum();
    let (mut difference, mut variance) = (0.0, 0.0);
    for s in strata {
        let (w, (xc, nc), (xt, nt)) = (weight(s) / all, s.0.checked().ok()?, s.1.checked().ok()?);
        let (pc, pt) = (xc / nc, xt / nt);
        difference += w * (pt - pc);
        variance += w * w * (pc * (1.0 - pc) / nc + pt * (1.0 - pt) / nt);
    }
    (variance > 0.0).then(|| (difference, variance.sqrt()))
}

/// The Wald test of non-inferiority with unpooled standard error.
///
/// # Errors
/// A negative margin, an arm without trials, or no variation at all.
pub fn noninferiority(control: Arm, treatment: Arm, margin: f64, alpha: f64, bad_when: BadWhen) -> Result<AgainstMargin, StatsError> {
    let alpha = open_unit("alpha", alpha)?;
    if !(margin >= 0.0 && margin.is_finite()) {
        return Err(StatsError::Arguments(format!("a margin of {margin}: it can't be negative")));
    }
    let ((xc, nc), (xt, nt)) = (control.checked()?, treatment.checked()?);
    let (pc, pt) = (xc / nc, xt / nt);
    let se = (pc * ((nc - xc) / nc) / nc + pt * ((nt - xt) / nt) / nt).sqrt();
    if se == 0.0 {
        return Err(StatsError::Arguments("neither arm varies: the standard error is 0".into()));
    }
    let difference = pt - pc;
    let q = normal_upper_quantile(alpha);
    Ok(match bad_when {
        BadWhen::Higher => {
            let z = (difference - margin) / se;
            AgainstMargin { difference, z, p_value: normal_cdf(z), bound: difference + q * se }
        }
        BadWhen::Lower => {
            let z = (difference + margin) / se;
            AgainstMargin { difference, z, p_value: normal_sf(z), bound: difference - q * se }
        }
    })
}
