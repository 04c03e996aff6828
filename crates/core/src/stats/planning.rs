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
    Ok(about(center, 1.0, &counts))
}

/// Limits of three standard deviations of each point, each so many times the binomial one.
fn about(center: f64, times: f64, counts: &[(f64, f64)]) -> Chart {
    let half = |n: f64| 3.0 * times * (center * (1.0 - center) / n).sqrt();
    let upper: Vec<f64> = counts.iter().map(|(_, n)| (center + half(*n)).min(1.0)).collect();
    let lower: Vec<f64> = counts.iter().map(|(_, n)| (center - half(*n)).max(0.0)).collect();
    let outside = |i: &usize| {
        let rate = counts[*i].0 / counts[*i].1;
        rate > upper[*i] || rate < lower[*i]
    };
    let signals = (0..counts.len()).filter(outside).collect();
    Chart { center, upper, lower, signals }
}

/// A control chart of a proportion whose points are so large that their rates spread more than a binomial.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct WideChart {
    #[serde(flatten)]
    pub chart: Chart,
    /// How many times the binomial standard deviation points spread from one to the next; null where the baseline has no variation at all.
    pub sigma_z: Option<f64>,
}

/// Laney's p' chart (2002, Quality Engineering 14:531-537): the spread is the mean moving range of the baseline's standardised points, divided by
/// `2/√π`.
///
/// # Errors
/// A baseline of fewer than two points or longer than the points, or a point without trials.
#[allow(clippy::cast_precision_loss)]
pub fn p_prime_chart(points: &[Arm], baseline_points: usize) -> Result<WideChart, StatsError> {
    if baseline_points < 2 {
        return Err(StatsError::Arguments("the baseline has fewer than two points: nothing says how far they spread".into()));
    }
    let chart = p_chart(points, baseline_points)?;
    let counts: Vec<(f64, f64)> = points.iter().map(|p| p.checked()).collect::<Result<_, _>>()?;
    let binomial = chart.center * (1.0 - chart.center);
    if binomial == 0.0 {
        return Ok(WideChart { chart: about(chart.center, 0.0, &counts), sigma_z: None });
    }
    let z: Vec<f64> = counts[..baseline_points].iter().map(|(x, n)| (x / n - chart.center) / (binomial / n).sqrt()).collect();
    let moved = z.windows(2).map(|w| (w[1] - w[0]).abs()).sum::<f64>() / (z.len() - 1) as f64;
    let sigma_z = moved / std::f64::consts::FRAC_2_SQRT_PI;
    Ok(WideChart { chart: about(chart.center, sigma_z, &counts), sigma_z: Some(sigma_z) })
}
