//! The difference of two means, by Welch's test (Welch 1947, Biometrika 34:28-35).

use super::special::{beta_quantile, beta_tails};
use super::{StatsError, open_unit};
use serde::{Deserialize, Serialize};

/// A sample by its moments; the variance has the divisor n - 1.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Sample {
    pub n: f64,
    pub mean: f64,
    pub variance: f64,
}

impl Sample {
    /// From a count, a sum and a sum of squares; of fewer than two, the variance is 0.
    #[must_use]
    pub fn of(n: f64, sum: f64, squares: f64) -> Self {
        let mean = if n > 0.0 { sum / n } else { 0.0 };
        let variance = if n > 1.0 { ((squares - n * mean * mean) / (n - 1.0)).max(0.0) } else { 0.0 };
        Self { n, mean, variance }
    }
}

/// The second mean less the first.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Difference {
    pub difference: f64,
    pub lower: f64,
    pub upper: f64,
    pub t: f64,
    pub df: f64,
    /// Two-sided.
    pub p_value: f64,
}

/// The two-sided tail of Student's t: `P(|T| > t)`.
#[must_use]
pub fn student_two_sided(t: f64, df: f64) -> f64 {
    let square = t * t;
    if square == 0.0 {
        return 1.0;
    }
    // The side on which the argument isn't rounded to 1.
    if square < df { beta_tails(0.5, df / 2.0, square / (df + square)).1 } else { beta_tails(df / 2.0, 0.5, df / (df + square)).0 }
}

/// The `t` with `P(|T| > t) = q`.
#[must_use]
pub fn student_quantile(q: f64, df: f64) -> f64 {
    let y = beta_quantile(0.5, df / 2.0, q, true);
    (df * y / (1.0 - y)).sqrt()
}

/// Compares two means. `V = v_a/n_a + v_b/n_b`, `t = (m_b - m_a)/sqrt(V)`,
/// `df = V^2 / ((v_a/n_a)^2/(n_a-1) + (v_b/n_b)^2/(n_b-1))`.
///
/// # Errors
/// Fewer than two in a sample, a negative variance, or no variance at all.
pub fn welch(a: Sample, b: Sample, level: f64) -> Result<Difference, StatsError> {
    welch_over(&[(a, b)], level)
}

/// The same over strata. Each weighs by `n_a n_b / (n_a + n_b)`, made to add up to 1; the difference, its variance and the
/// degrees of freedom (Satterthwaite 1946, Biometrics Bulletin 2:110-114) are those of the weighted sum of all the means.
///
/// # Errors
/// As [`welch`]; no stratum at all.
pub fn welch_over(strata: &[(Sample, Sample)], level: f64) -> Result<Difference, StatsError> {
    let level = open_unit("level", level)?;
    for s in strata.iter().flat_map(|(a, b)| [a, b]) {
        if !(s.n >= 2.0 && s.mean.is_finite() && s.variance >= 0.0 && s.variance.is_finite()) {
            return Err(StatsError::Arguments(format!(
                "a sample of {} with variance {}: it needs two values at least, and a variance that isn't negative",
                s.n, s.variance
            )));
        }
    }
    let weight = |(a, b): &(Sample, Sample)| a.n * b.n / (a.n + b.n);
    let all: f64 = strata.iter().map(weight).sum();
    let (mut difference, mut v, mut below) = (0.0, 0.0, 0.0);
    for s in strata {
        let (w, (a, b)) = (weight(s) / all, s);
        let (va, vb) = (w * w * a.variance / a.n, w * w * b.variance / b.n);
        difference += w * (b.mean - a.mean);
        v += va + vb;
        below += va * va / (a.n - 1.0) + vb * vb / (b.n - 1.0);
    }
    if v <= 0.0 {
        return Err(StatsError::Arguments("neither sample varies: there is nothing to measure the difference by".into()));
    }
    let df = v * v / below;
    let t = difference / v.sqrt();
    let half = student_quantile(1.0 - level, df) * v.sqrt();
    Ok(Difference { difference, lower: difference - half, upper: difference + half, t, df, p_value: student_two_sided(t.abs(), df) })
}
