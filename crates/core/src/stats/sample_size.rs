//! How many people a comparison of two rates needs, how often it finds an effect, and the smallest
//! effect it can find. Normal approximation with the pooled variance under no effect; for equal
//! arms it agrees with R's `power.prop.test`.

use super::special::{normal_cdf, normal_upper_quantile};
use super::{StatsError, open_unit};
use serde::Serialize;

/// People per arm, unrounded.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct SampleSize {
    pub n_a: f64,
    pub n_b: f64,
}

fn per_side(alpha: f64, sides: u32) -> Result<f64, StatsError> {
    if sides != 1 && sides != 2 {
        return Err(StatsError::Sides(sides));
    }
    Ok(open_unit("alpha", alpha)? / f64::from(sides))
}

fn positive(name: &'static str, value: f64) -> Result<f64, StatsError> {
    if value > 0.0 && value.is_finite() { Ok(value) } else { Err(StatsError::NotPositive { name, value }) }
}

fn attainable(power: f64, alpha: f64) -> Result<(), StatsError> {
    open_unit("power", power)?;
    if power <= alpha { Err(StatsError::PowerNotAboveAlpha { power, alpha }) } else { Ok(()) }
}

/// People needed to find `effect_abs` (a difference in rates, of either sign) with `power`;
/// `ratio` is `n_b / n_a`.
///
/// # Errors
/// An effect of 0; a rate outside (0, 1); a ratio that isn't positive; sides other than 1 or 2;
/// a power not above alpha per side.
pub fn sample_size_two_proportions(
    baseline: f64,
    effect_abs: f64,
    alpha: f64,
    power: f64,
    ratio: f64,
    sides: u32,
) -> Result<SampleSize, StatsError> {
    let tail = per_side(alpha, sides)?;
    attainable(power, tail)?;
    let (p1, p2) = (open_unit("baseline", baseline)?, open_unit("baseline + effect", baseline + effect_abs)?);
    let r = positive("ratio", ratio)?;
    if effect_abs == 0.0 {
        return Err(StatsError::NoEffect);
    }
    let pooled = (p1 + r * p2) / (1.0 + r);
    let null = normal_upper_quantile(tail) * (pooled * (1.0 - pooled) * (1.0 + 1.0 / r)).sqrt();
    let alternative = normal_upper_quantile(1.0 - power) * (p1 * (1.0 - p1) + p2 * (1.0 - p2) / r).sqrt();
    let n_a = ((null + alternative) / effect_abs).powi(2);
    Ok(SampleSize { n_a, n_b: r * n_a })
}

/// How often the comparison finds `effect_abs`. The far tail (a finding of the wrong sign) is left
/// out, so no effect gives alpha per side.
///
/// # Errors
/// As [`sample_size_two_proportions`], except that an effect of 0 is allowed; arms must not be empty.
pub fn power_two_proportions(baseline: f64, effect_abs: f64, n_a: f64, n_b: f64, alpha: f64, sides: u32) -> Result<f64, StatsError> {
    let tail = per_side(alpha, sides)?;
    let (p1, p2) = (open_unit("baseline", baseline)?, open_unit("baseline + effect", baseline + effect_abs)?);
    let (n_a, n_b) = (positive("n_a", n_a)?, positive("n_b", n_b)?);
    let pooled = (n_a * p1 + n_b * p2) / (n_a + n_b);
    let null = normal_upper_quantile(tail) * (pooled * (1.0 - pooled) * (1.0 / n_a + 1.0 / n_b)).sqrt();
    Ok(normal_cdf((effect_abs.abs() - null) / (p1 * (1.0 - p1) / n_a + p2 * (1.0 - p2) / n_b).sqrt()))
}

/// The smallest rise above `baseline` that is found with `power`.
///
/// # Errors
/// As [`power_two_proportions`], and when no rise below certainty reaches the power.
pub fn minimum_detectable_effect(baseline: f64, n_a: f64, n_b: f64, alpha: f64, power: f64, sides: u32) -> Result<f64, StatsError> {
    attainable(power, per_side(alpha, sides)?)?;
    let reaches = |d: f64| power_two_proportions(baseline, d, n_a, n_b, alpha, sides).map(|p| p >= power);
    reaches(0.0)?;
    let room = 1.0 - baseline;
    // Power need not grow all the way to certainty, so the first crossing is looked for from below.
    let steps = 4096;
    let mut high = None;
    for i in 1..steps {
        let d = room * (f64::from(i) / f64::from(steps)).powi(3);
        if d > 0.0 && baseline + d < 1.0 && reaches(d)? {
            high = Some((room * (f64::from(i - 1) / f64::from(steps)).powi(3), d));
            break;
        }
    }
    let (mut low, mut high) = high.ok_or(StatsError::Unreachable { power, n_a, n_b })?;
    for _ in 0..200 {
        let middle = 0.5 * (low + high);
        if middle <= low || middle >= high {
            break;
        }
        if reaches(middle)? { high = middle } else { low = middle }
    }
    Ok(high)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Size, power and smallest effect are three views of one equation.
        #[test]
        fn size_power_and_effect_agree(base in 0.01f64..0.5, effect in 0.002f64..0.2, power in 0.5f64..0.95) {
            let n = sample_size_two_proportions(base, effect, 0.05, power, 1.0, 2).unwrap();
            let back = power_two_proportions(base, effect, n.n_a, n.n_b, 0.05, 2).unwrap();
            prop_assert!((back - power).abs() < 1e-9);
            let least = minimum_detectable_effect(base, n.n_a, n.n_b, 0.05, power, 2).unwrap();
            prop_assert!((least - effect).abs() < 1e-6 * effect.max(1e-3));
        }
    }
}
