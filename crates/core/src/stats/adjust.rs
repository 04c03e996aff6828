//! P-values of several comparisons read together.

use super::StatsError;
use serde::Deserialize;

/// How they are adjusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Adjustment {
    /// Family-wise error (Holm 1979, Scandinavian Journal of Statistics 6:65-70).
    Holm,
    /// False discovery rate (Benjamini and Hochberg 1995, JRSS B 57:289-300).
    BenjaminiHochberg,
}

/// The adjusted p-values, in the order of the input.
///
/// # Errors
/// A value outside 0 to 1.
#[allow(clippy::cast_precision_loss)]
pub fn adjust_p_values(p_values: &[f64], method: Adjustment) -> Result<Vec<f64>, StatsError> {
    if let Some(p) = p_values.iter().find(|p| !(0.0..=1.0).contains(*p)) {
        return Err(StatsError::Arguments(format!("{p} is no p-value: it must lie between 0 and 1")));
    }
    let m = p_values.len();
    let mut order: Vec<usize> = (0..m).collect();
    order.sort_by(|a, b| p_values[*a].total_cmp(&p_values[*b]));
    let mut adjusted = vec![0.0; m];
    match method {
        Adjustment::Holm => {
            let mut highest: f64 = 0.0;
            for (i, &at) in order.iter().enumerate() {
                highest = highest.max((m - i) as f64 * p_values[at]).min(1.0);
                adjusted[at] = highest;
            }
        }
        Adjustment::BenjaminiHochberg => {
            let mut lowest: f64 = 1.0;
            for (i, &at) in order.iter().enumerate().rev() {
                lowest = lowest.min(m as f64 / (i + 1) as f64 * p_values[at]);
                adjusted[at] = lowest;
            }
        }
    }
    Ok(adjusted)
}
