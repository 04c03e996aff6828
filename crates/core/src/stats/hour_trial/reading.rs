//! Does the hour matter, and which hours may be the best?

use super::fit::{fit, singular};
use super::score::score_test;
use super::{Answer, Design, refuse};
use crate::stats::{StatsError, open_unit};
use nalgebra::{DMatrix, Matrix2, Vector2};
use serde::Serialize;
use std::f64::consts::TAU;

/// A daily wave in the answers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Wave {
    pub cos: f64,
    pub sin: f64,
    pub wald_statistic: f64,
    pub wald_df: u32,
    pub wald_p: f64,
    pub amplitude: f64,
    /// Null when the wave is flat.
    pub peak_hour: Option<f64>,
}

/// All that is read of the hours.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct HourReading {
    pub persons: usize,
    pub omnibus_statistic: f64,
    pub omnibus_df: usize,
    pub omnibus_p: f64,
    /// The hours that occur, ascending; estimates and standard errors in their order.
    pub hours: Vec<u32>,
    /// Each hour less the mean of the hours.
    pub estimates: Vec<f64>,
    pub standard_errors: Vec<f64>,
    pub harmonic: Wave,
    /// Hours that may be the best, ascending.
    pub best_set: Vec<u32>,
}

/// Hours by least squares on stratum and hour, with variances clustered by person (Liang and Zeger 1986, Biometrika 73:13-22): whether the hour
/// matters at all (the score test), each hour's estimate, a daily wave, and the hours that may be the best ([`super::fit::Fit::best_set`]).
///
/// # Errors
/// Fewer than 3 hours or 2 persons, a person twice in a stratum, hours that no strata link, answers that don't vary or that the hours tell exactly,
/// or too few persons for the variances.
pub fn hour_reading(answers: &[Answer], alpha: f64) -> Result<HourReading, StatsError> {
    open_unit("alpha", alpha)?;
    let d = Design::of(answers)?;
    if d.hours.len() < 3 {
        return refuse("fewer than three hours occur: there is no profile to read");
    }
    let omnibus = score_test(&d)?;
    let fit = fit(&d)?;
    let best_set = if omnibus.p_value >= alpha { d.hours.clone() } else { fit.best_set(&d.hours, alpha)? };
    Ok(HourReading {
        persons: d.persons,
        omnibus_statistic: omnibus.statistic,
        omnibus_df: omnibus.df,
        omnibus_p: omnibus.p_value,
        harmonic: wave(&d)?,
        estimates: fit.estimates.iter().copied().collect(),
        standard_errors: fit.standard_errors(),
        hours: d.hours,
        best_set,
    })
}

/// The same regression on one wave a day.
///
/// # Errors
/// As [`fit`], and hours that say nothing of a wave, as two do.
#[allow(clippy::cast_precision_loss)]
pub fn wave(d: &Design) -> Result<Wave, StatsError> {
    let e = d.within()?;
    let n = d.persons as f64;
    let correction = n / (n - 1.0);
    let on_the_clock = |hour: &u32| {
        let (sin, cos) = (TAU * f64::from(*hour) / 24.0).sin_cos();
        Vector2::new(cos, sin)
    };
    let of_hour: Vec<Vector2<f64>> = d.hours.iter().map(on_the_clock).collect();
    let (cos, sin) = (d.stratum_means(|r| of_hour[r.2].x), d.stratum_means(|r| of_hour[r.2].y));
    let x: Vec<Vector2<f64>> = d.rows.iter().map(|r| of_hour[r.2] - Vector2::new(cos[r.1], sin[r.1])).collect();
    let information: Matrix2<f64> = x.iter().map(|w| w * w.transpose()).sum();
    let score: Vector2<f64> = x.iter().zip(&e).map(|(w, e)| w * *e).sum();
    let flat = || StatsError::Arguments("these hours say nothing of a daily wave".into());
    let inverse = information.try_inverse().ok_or_else(flat)?;
    let b = inverse * score;
    let mut by_person = vec![Vector2::zeros(); d.persons];
    for ((row, w), e) in d.rows.iter().zip(&x).zip(&e) {
        by_person[row.0] += w * (e - w.dot(&b));
    }
    let scores: Matrix2<f64> = by_person.iter().map(|g| g * g.transpose()).sum();
    let covariance = inverse * scores * inverse * correction;
    if singular(&DMatrix::from_fn(2, 2, |i, j| covariance[(i, j)])) {
        return Err(flat());
    }
    let wald_statistic = b.dot(&(covariance.try_inverse().ok_or_else(flat)? * b));
    let amplitude = b.norm();
    let rms = (e.iter().map(|v| v * v).sum::<f64>() / e.len() as f64).sqrt();
    Ok(Wave {
        cos: b.x,
        sin: b.y,
        wald_statistic,
        wald_df: 2,
        wald_p: (-wald_statistic / 2.0).exp(),
        amplitude,
        peak_hour: (amplitude >= 1e-9 * rms).then(|| (b.y.atan2(b.x) * 24.0 / TAU).rem_euclid(24.0)),
    })
}
