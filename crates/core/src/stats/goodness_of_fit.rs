//! Are the arms as large as planned?

use super::StatsError;
use super::special::chi_square_sf;
use serde::{Deserialize, Serialize};

/// A chi-square test.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ChiSquare {
    pub statistic: f64,
    pub df: u32,
    pub p_value: f64,
}

/// Pearson's goodness of fit of observed counts against planned shares (which need not add up to 1).
///
/// # Errors
/// Fewer than two cells, lengths that differ, a share that isn't positive, or nobody at all.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation)]
pub fn sample_ratio_mismatch(observed: &[u64], planned_shares: &[f64]) -> Result<ChiSquare, StatsError> {
    if observed.len() < 2 || observed.len() != planned_shares.len() {
        return Err(StatsError::Shares("give at least two counts and as many planned shares"));
    }
    if planned_shares.iter().any(|s| !s.is_finite() || *s <= 0.0) {
        return Err(StatsError::Shares("every planned share must be greater than 0"));
    }
    let total: f64 = observed.iter().map(|&n| n as f64).sum();
    if total == 0.0 {
        return Err(StatsError::Shares("all counts are 0: there is nobody to compare"));
    }
    let shares: f64 = planned_shares.iter().sum();
    let statistic = observed
        .iter()
        .zip(planned_shares)
        .map(|(&n, share)| {
            let expected = total * share / shares;
            (n as f64 - expected).powi(2) / expected
        })
        .sum();
    let df = observed.len() as u32 - 1;
    Ok(ChiSquare { statistic, df, p_value: chi_square_sf(statistic, f64::from(df)) })
}
