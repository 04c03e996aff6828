//! Can differences between hours be found at all: the power of the chi-square test against a profile of rates.

use super::special::chi_square_sf;
use super::{StatsError, open_unit};
use serde::Serialize;

/// The power, and how far the profile is from flat.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct OmnibusPower {
    pub noncentrality: f64,
    pub power: f64,
}

/// The x whose upper tail of chi-square is `q`.
fn chi_square_upper_quantile(q: f64, df: f64) -> f64 {
    let (mut low, mut high) = (0.0, df.max(1.0));
    while chi_square_sf(high, df) > q {
        high *= 2.0;
    }
    for _ in 0..200 {
        let middle = (low + high) / 2.0;
        if chi_square_sf(middle, df) > q {
            low = middle
        } else {
            high = middle
        }
        if high - low <= 1e-15 * high {
            break;
        }
    }
    (low + high) / 2.0
}

/// `P(X > x)` of the noncentral chi-square: a Poisson mixture of central ones, summed outwards from its largest weight.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn noncentral_sf(x: f64, df: f64, noncentrality: f64) -> f64 {
    if noncentrality == 0.0 {
        return chi_square_sf(x, df);
    }
    let half = noncentrality / 2.0;
    // So far above x that nothing of it lies below, to any digit.
    let (mean, sd) = (df + noncentrality, (2.0 * df + 4.0 * noncentrality).sqrt());
    if mean - 40.0 * sd > x && noncentrality > 10_000.0 {
        return 1.0;
    }
    let mode = half.floor() as u64;
    let weight = |j: f64| (j * half.ln() - half - libm::lgamma(j + 1.0)).exp();
    let mut sum = 0.0;
    let mut w = weight(mode as f64);
    let mut j = mode;
    loop {
        let term = w * chi_square_sf(x, df + 2.0 * j as f64);
        sum += term;
        if w < 1e-18 || j > mode + 10_000_000 {
            break;
        }
        j += 1;
        w *= half / j as f64;
    }
    let mut w = weight(mode as f64);
    let mut j = mode;
    while j > 0 {
        w *= j as f64 / half;
        j -= 1;
        sum += w * chi_square_sf(x, df + 2.0 * j as f64);
        if w < 1e-18 {
            break;
        }
    }
    sum.min(1.0)
}

/// What one person an hour adds to the noncentrality.
fn apart(profile: &[f64]) -> Result<f64, StatsError> {
    if profile.len() < 2 || profile.iter().any(|p| !(0.0..=1.0).contains(p)) {
        return Err(StatsError::Arguments("give at least two rates between 0 and 1".into()));
    }
    #[allow(clippy::cast_precision_loss)]
    let mean = profile.iter().sum::<f64>() / profile.len() as f64;
    if !(mean > 0.0 && mean < 1.0) {
        return Err(StatsError::OutOfRange { name: "the mean rate", value: mean, low: 0.0, high: 1.0 });
    }
    // The mean of equal rates may be off by a rounding, and they are flat all the same.
    if profile.iter().all(|p| *p == profile[0]) {
        return Ok(0.0);
    }
    Ok(profile.iter().map(|p| (p - mean).powi(2)).sum::<f64>() / (mean * (1.0 - mean)))
}

#[allow(clippy::cast_precision_loss)]
fn df(profile: &[f64]) -> f64 {
    profile.len() as f64 - 1.0
}

/// The power with so many people in each hour.
///
/// # Errors
/// Rates outside 0 to 1, nobody in an hour, or an alpha outside 0 to 1.
pub fn omnibus_power(profile: &[f64], trials_per_hour: f64, alpha: f64) -> Result<OmnibusPower, StatsError> {
    let alpha = open_unit("alpha", alpha)?;
    let each = apart(profile)?;
    if !(trials_per_hour > 0.0 && trials_per_hour.is_finite()) {
        return Err(StatsError::NotPositive { name: "trials_per_hour", value: trials_per_hour });
    }
    let noncentrality = trials_per_hour * each;
    let power = if each == 0.0 { alpha } else { noncentral_sf(chi_square_upper_quantile(alpha, df(profile)), df(profile), noncentrality) };
    Ok(OmnibusPower { noncentrality, power })
}

/// The people needed in each hour.
///
/// # Errors
/// A flat profile, or a power that isn't above alpha.
pub fn omnibus_sample_size(profile: &[f64], alpha: f64, power: f64) -> Result<f64, StatsError> {
    let (alpha, power) = (open_unit("alpha", alpha)?, open_unit("power", power)?);
    let each = apart(profile)?;
    if each == 0.0 {
        return Err(StatsError::NoEffect);
    }
    if power <= alpha {
        return Err(StatsError::PowerNotAboveAlpha { power, alpha });
    }
    let (df, x) = (df(profile), chi_square_upper_quantile(alpha, df(profile)));
    let (mut low, mut high) = (0.0, 1.0);
    while noncentral_sf(x, df, high) < power {
        low = high;
        high *= 2.0;
    }
    for _ in 0..100 {
        let middle = (low + high) / 2.0;
        if noncentral_sf(x, df, middle) < power {
            low = middle
        } else {
            high = middle
        }
        if high - low <= 1e-12 * high {
            break;
        }
    }
    Ok((low + high) / 2.0 / each)
}
