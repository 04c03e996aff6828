//! Small formulas of planning and watching: how large a pilot earns the most, how much is known by now, and whether a rate
//! has left its usual range.

use super::{Arm, StatsError};
use serde::Serialize;

/// The pilot per arm that maximises the expected total response of two arms whose means have the same normal prior (Feit
/// and Berman 2019, Marketing Science 38:1038-1058). `prior_sd` is the spread of arm means, not of differences.
///
/// # Errors
/// An argument that isn't positive.
pub fn test_and_roll(audience: f64, response_sd: f64, prior_sd: f64) -> Result<f64, StatsError> {
    for (name, value) in [("audience", audience), ("response_sd", response_sd), ("prior_sd", prior_sd)] {
        if !(value > 0.0 && value.is_finite()) {
            return Err(StatsError::NotPositive { name, value });
        }
    }
    let r = (response_sd / prior_sd).powi(2);
    let (a, b) = (audience / 4.0 * r, 0.75 * r);
    // sqrt(A + B^2) - B would lose all digits for a small prior_sd.
    Ok(a / ((a + b * b).sqrt() + b))
}

/// The information on the final rate that the share of people who have responded by now carries.
///
/// # Errors
/// Rates out of order, or a final rate that is 0 or 1.
pub fn odds_information(p_t: f64, p_final: f64) -> Result<f64, StatsError> {
    if !(p_final > 0.0 && p_final < 1.0) {
        return Err(StatsError::OutOfRange { name: "p_final", value: p_final, low: 0.0, high: 1.0 });
    }
    if !(0.0..=p_final).contains(&p_t) {
        return Err(StatsError::OutOfRange { name: "p_t", value: p_t, low: 0.0, high: p_final });
    }
    Ok(p_t / (1.0 - p_t) / (p_final / (1.0 - p_final)))
}

/// A control chart of a proportion.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Chart {
    pub center: f64,
    pub upper: Vec<f64>,
    pub lower: Vec<f64>,
    /// The points outside their limits, from 0.
    pub signals: Vec<usize>,
}

/// Three-sigma limits about the pooled rate of the first `baseline_points` (Shewhart 1931).
///
/// # Errors
/// No baseline, one longer than the points, or a point without trials.
pub fn p_chart(points: &[Arm], baseline_points: usize) -> Result<Chart, StatsError> {
    if baseline_points < 1 || baseline_points > points.len() {
        return Err(StatsError::Arguments(format!(
            "the baseline has {baseline_points} of {} points: give at least one, and no more than there are",
            points.len()
        )));
    }
    let counts: Vec<(f64, f64)> = points.iter().map(|p| p.checked()).collect::<Result<_, _>>()?;
    let (x, n) = counts[..baseline_points].iter().fold((0.0, 0.0), |sum, c| (sum.0 + c.0, sum.1 + c.1));
    let center = x / n;
    let half = |n: f64| 3.0 * (center * (1.0 - center) / n).sqrt();
    let upper: Vec<f64> = counts.iter().map(|(_, n)| (center + half(*n)).min(1.0)).collect();
    let lower: Vec<f64> = counts.iter().map(|(_, n)| (center - half(*n)).max(0.0)).collect();
    let outside = |i: &usize| {
        let rate = counts[*i].0 / counts[*i].1;
        rate > upper[*i] || rate < lower[*i]
    };
    let signals = (0..counts.len()).filter(outside).collect();
    Ok(Chart { center, upper, lower, signals })
}
