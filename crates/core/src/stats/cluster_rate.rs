//! One rate over several mailings whose rates differ.

use super::welch::student_quantile;
use super::{Arm, StatsError, open_unit};
use serde::Serialize;

/// The rate with limits that count the spread between the groups.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct ClusterRate {
    pub rate: f64,
    /// Null of one group: nothing says how far rates differ.
    pub standard_error: Option<f64>,
    pub lower: Option<f64>,
    pub upper: Option<f64>,
    /// How many times the binomial variance the variance is.
    pub design_effect: Option<f64>,
}

/// The ratio estimator over `m` groups: `r = Σx/Σn`, `se² = m/(m-1) Σ(x_j - r n_j)²/(Σn)²`, limits by Student's t with `m - 1` degrees of freedom on
/// the log odds (Cochran 1977, Sampling Techniques, section 9).
///
/// # Errors
/// No group, a group without trials, or a level outside (0, 1).
#[allow(clippy::cast_precision_loss)]
pub fn cluster_rate(groups: &[Arm], level: f64) -> Result<ClusterRate, StatsError> {
    open_unit("level", level)?;
    if groups.is_empty() {
        return Err(StatsError::Arguments("there is no group to take a rate of".into()));
    }
    let counts: Vec<(f64, f64)> = groups.iter().map(|g| g.checked()).collect::<Result<_, _>>()?;
    let (x, n) = counts.iter().fold((0.0, 0.0), |sum, c| (sum.0 + c.0, sum.1 + c.1));
    let (rate, m) = (x / n, counts.len() as f64);
    let mut found = ClusterRate { rate, standard_error: None, lower: None, upper: None, design_effect: None };
    if counts.len() < 2 {
        return Ok(found);
    }
    let spread: f64 = counts.iter().map(|(x, n)| (x - rate * n).powi(2)).sum();
    let binomial = rate * (1.0 - rate);
    if binomial == 0.0 {
        return Ok(ClusterRate { standard_error: Some(0.0), ..found });
    }
    let se = (m / (m - 1.0) * spread).sqrt() / n;
    let half = student_quantile(1.0 - level, m - 1.0) * se / binomial;
    let logistic = |eta: f64| 1.0 / (1.0 + (-eta).exp());
    let eta = (rate / (1.0 - rate)).ln();
    found.standard_error = Some(se);
    (found.lower, found.upper) = (Some(logistic(eta - half)), Some(logistic(eta + half)));
    found.design_effect = Some(se * se / (binomial / n));
    Ok(found)
}
