//! How far below the best something must be so that it can't be the best itself.

use super::special::{normal_cdf, normal_sf};
use super::{StatsError, open_unit};

/// Reaches far enough that nothing of a normal density is left.
const REACH: f64 = 10.0;
/// The trapezoid rule on a smooth integrand that vanishes at both ends is exact to rounding with steps of this size.
const STEP: f64 = 1.0 / 64.0;

/// The chance that some of `k - 1` others lies more than `c` standard errors of a difference above the first, when all are alike:
/// `1 - ∫ φ(x) Φ(x + c√2)^(k-1) dx`.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation)]
fn exceeded(k: u32, c: f64) -> f64 {
    let others = f64::from(k - 1);
    let steps = (2.0 * REACH / STEP) as i64;
    let sum: f64 = (0..=steps)
        .map(|i| {
            let x = -REACH + i as f64 * STEP;
            let at = x + c * std::f64::consts::SQRT_2;
            let ln = if at > 0.0 { (-normal_sf(at)).ln_1p() } else { normal_cdf(at).ln() };
            (-x * x / 2.0).exp() * -(others * ln).exp_m1()
        })
        .sum();
    sum * STEP / (2.0 * std::f64::consts::PI).sqrt()
}

/// The constant `c` with `P(max over j of (X_j - X_0)/√2 <= c) = 1 - alpha` for `k` independent standard normals: one-sided Dunnett (1955, JASA
/// 50:1096-1121) with known variance, and Gupta's subset selection (1965, Technometrics 7:225-245). Whatever lies no more than `c` standard
/// errors of the difference below every other stays in the set of those that may be the best.
///
/// # Errors
/// `k` outside 2 to 200, or `alpha` outside (0, 1).
pub fn best_set_constant(k: u32, alpha: f64) -> Result<f64, StatsError> {
    open_unit("alpha", alpha)?;
    if !(2..=200).contains(&k) {
        return Err(StatsError::OutOfRange { name: "k", value: f64::from(k), low: 1.0, high: 201.0 });
    }
    let (mut low, mut high) = (-40.0, 40.0);
    while high - low > 1e-12 {
        let middle = f64::midpoint(low, high);
        if middle <= low || middle >= high {
            break;
        }
        if exceeded(k, middle) > alpha { low = middle } else { high = middle }
    }
    Ok(f64::midpoint(low, high))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Dunnett's own table (1955), 1 to 9 comparisons with infinite degrees of freedom.
    #[test]
    fn the_published_table() {
        let tables = [
            (0.05, [1.64, 1.92, 2.06, 2.16, 2.23, 2.29, 2.34, 2.38, 2.42]),
            (0.01, [2.33, 2.56, 2.68, 2.77, 2.84, 2.89, 2.93, 2.97, 3.00]),
        ];
        for (alpha, row) in tables {
            for (k, c) in (2..).zip(row) {
                assert!((best_set_constant(k, alpha).unwrap() - c).abs() < 0.0051, "{k} {alpha}");
            }
        }
    }
}
