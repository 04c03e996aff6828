//! Does the hour matter, and which hours may be the best?

use super::{Answer, Design, refuse};
use crate::stats::best_set::best_set_constant;
use crate::stats::special::chi_square_sf;
use crate::stats::{StatsError, open_unit};
use nalgebra::{DMatrix, DVector, Matrix2, Vector2};
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

/// Is a covariance as good as singular, by the smallest eigenvalue of its correlations?
fn singular(v: &DMatrix<f64>) -> bool {
    let scale: Vec<f64> = (0..v.nrows()).map(|i| v[(i, i)].sqrt()).collect();
    if scale.iter().any(|s| !(*s > 0.0 && s.is_finite())) {
        return true;
    }
    let correlations = DMatrix::from_fn(v.nrows(), v.ncols(), |i, j| v[(i, j)] / scale[i] / scale[j]);
    correlations.symmetric_eigenvalues().min() <= 1e-10
}

/// Without the last hour, which the others imply.
fn dropped(v: &DMatrix<f64>) -> DMatrix<f64> {
    let k = v.nrows() - 1;
    v.view((0, 0), (k, k)).into_owned()
}

/// Hours by least squares on stratum and hour, with variances clustered by person (Liang and Zeger 1986, Biometrika 73:13-22): whether the hour
/// matters at all (the score test), each hour's estimate, a daily wave, and the hours that may be the best ([`best_set_constant`]).
///
/// # Errors
/// Fewer than 3 hours or 2 persons, a person twice in a stratum, hours that no strata link, answers that don't vary or that the hours tell exactly,
/// or too few persons for the variances.
#[allow(clippy::cast_precision_loss)]
pub fn hour_reading(answers: &[Answer], alpha: f64) -> Result<HourReading, StatsError> {
    open_unit("alpha", alpha)?;
    let d = Design::of(answers)?;
    let (k, n) = (d.hours.len(), d.persons as f64);
    if k < 3 {
        return refuse("fewer than three hours occur: there is no profile to read");
    }
    if d.persons < 2 {
        return refuse("fewer than two people answered");
    }
    d.linked()?;
    let e = d.within()?;
    let correction = n / (n - 1.0);
    // Which share of each stratum was drawn to each hour.
    let mut shares = vec![DVector::<f64>::zeros(k); d.strata];
    for (_, stratum, hour, _) in &d.rows {
        shares[*stratum][*hour] += 1.0;
    }
    for share in &mut shares {
        let all = share.sum();
        *share /= all;
    }
    let drawn = |row: &(usize, usize, usize, f64)| {
        let mut v = -shares[row.1].clone();
        v[row.2] += 1.0;
        v
    };
    let (u, products) = d.clustered(d.rows.iter().zip(&e).map(|(row, e)| drawn(row) * *e), k);
    let v = dropped(&(products * correction));
    let short = |words: &str| StatsError::Arguments(words.to_owned());
    let too_few = "too few people answered at some hour: the variances can't be told";
    if singular(&v) {
        return refuse(too_few);
    }
    let u = u.rows(0, k - 1).into_owned();
    let omnibus_statistic = u.dot(&v.lu().solve(&u).ok_or_else(|| short(too_few))?);
    let omnibus_p = chi_square_sf(omnibus_statistic, (k - 1) as f64);

    let mut information = DMatrix::zeros(k, k);
    let mut score = DVector::zeros(k);
    for (row, e) in d.rows.iter().zip(&e) {
        let x = drawn(row);
        information.ger(1.0, &x, &x, 1.0);
        score += x * *e;
    }
    let ones = DMatrix::from_element(k, k, 1.0 / k as f64);
    let inverse = (information + &ones).try_inverse().ok_or_else(|| short(too_few))? - ones;
    let estimates = &inverse * score;
    let rest: Vec<f64> = d.rows.iter().zip(&e).map(|(row, e)| e - drawn(row).dot(&estimates)).collect();
    let squares = |v: &[f64]| v.iter().map(|x| x * x).sum::<f64>();
    if squares(&rest) <= 1e-20 * squares(&e) {
        return refuse("the hours tell the answers exactly: there is no variation left to judge by");
    }
    let (_, scores) = d.clustered(d.rows.iter().zip(&rest).map(|(row, r)| drawn(row) * *r), k);
    let covariance = &inverse * scores * &inverse * correction;
    if singular(&dropped(&covariance)) {
        return refuse(too_few);
    }
    let best_set = if omnibus_p >= alpha {
        d.hours.clone()
    } else {
        let c = best_set_constant(u32::try_from(k).unwrap_or(2), alpha)?;
        let below = |h: usize, g: usize| {
            let variance = covariance[(g, g)] + covariance[(h, h)] - 2.0 * covariance[(g, h)];
            estimates[g] - estimates[h] > c * variance.max(0.0).sqrt()
        };
        (0..k).filter(|h| !(0..k).any(|g| g != *h && below(*h, g))).map(|h| d.hours[h]).collect()
    };
    Ok(HourReading {
        persons: d.persons,
        omnibus_statistic,
        omnibus_df: k - 1,
        omnibus_p,
        harmonic: wave(&d, &e, correction)?,
        estimates: estimates.iter().copied().collect(),
        standard_errors: (0..k).map(|h| covariance[(h, h)].sqrt()).collect(),
        hours: d.hours,
        best_set,
    })
}

/// The same regression on one wave a day.
#[allow(clippy::cast_precision_loss)]
fn wave(d: &Design, e: &[f64], correction: f64) -> Result<Wave, StatsError> {
    let angle = |row: &(usize, usize, usize, f64)| TAU * f64::from(d.hours[row.2]) / 24.0;
    let (cos, sin) = (d.stratum_means(|r| angle(r).cos()), d.stratum_means(|r| angle(r).sin()));
    let x: Vec<Vector2<f64>> = d.rows.iter().map(|r| Vector2::new(angle(r).cos() - cos[r.1], angle(r).sin() - sin[r.1])).collect();
    let information: Matrix2<f64> = x.iter().map(|w| w * w.transpose()).sum();
    let score: Vector2<f64> = x.iter().zip(e).map(|(w, e)| w * *e).sum();
    let flat = || StatsError::Arguments("these hours say nothing of a daily wave".into());
    let inverse = information.try_inverse().ok_or_else(flat)?;
    let b = inverse * score;
    let mut by_person = vec![Vector2::zeros(); d.persons];
    for ((row, w), e) in d.rows.iter().zip(&x).zip(e) {
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
