//! A ratio of two sums per person (clicks per open, revenue per order), compared between arms by the delta method.

use super::special::normal_sf;
use super::{StatsError, z_of_level};
use serde::{Deserialize, Serialize};

/// Sums over the randomised people of an arm: the ratio is `sum_y / sum_x`.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct Sums {
    pub n: f64,
    pub sum_x: f64,
    pub sum_y: f64,
    pub sum_xx: f64,
    pub sum_yy: f64,
    pub sum_xy: f64,
}

impl Sums {
    /// The ratio and its variance: `(s_yy - 2 R s_xy + R^2 s_xx) / (n mx^2)`.
    fn ratio(self) -> Result<(f64, f64), StatsError> {
        if self.n < 2.0 || self.sum_x == 0.0 {
            return Err(StatsError::Arguments("an arm needs two people at least, and a sum below the line that isn't 0".into()));
        }
        let r = self.sum_y / self.sum_x;
        // The means cancel in the bracket, so that it can be taken from the sums as they are.
        let bracket = (self.sum_yy - 2.0 * r * self.sum_xy + r * r * self.sum_xx) / (self.n - 1.0);
        let mean = self.sum_x / self.n;
        Ok((r, (bracket / (self.n * mean * mean)).max(0.0)))
    }
}

/// Two ratios compared.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Ratios {
    pub ratio_a: f64,
    pub ratio_b: f64,
    pub difference: f64,
    pub lower: f64,
    pub upper: f64,
    pub z: f64,
    pub p_value: f64,
}

/// # Errors
/// Fewer than two people in an arm, nothing below the line, or no variation.
pub fn ratio_of_means_delta(a: Sums, b: Sums, level: f64) -> Result<Ratios, StatsError> {
    let z_level = z_of_level(level)?;
    let ((ratio_a, va), (ratio_b, vb)) = (a.ratio()?, b.ratio()?);
    let se = (va + vb).sqrt();
    if se == 0.0 {
        return Err(StatsError::Arguments("neither ratio varies: the standard error is 0".into()));
    }
    let difference = ratio_b - ratio_a;
    let z = difference / se;
    Ok(Ratios {
        ratio_a,
        ratio_b,
        difference,
        lower: difference - z_level * se,
        upper: difference + z_level * se,
        z,
        p_value: 2.0 * normal_sf(z.abs()),
    })
}
