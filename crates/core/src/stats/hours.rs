//! Does the hour matter, and which hours can't be told apart from the best?

use super::adjust::{Adjustment, adjust_p_values};
use super::beta_binomial_fit::{Group, Prior, fit};
use super::homogeneity::chi_square_homogeneity;
use super::special::{log_rates, normal_cdf};
use super::{Arm, StatsError};
use serde::{Deserialize, Serialize};
use std::f64::consts::TAU;

/// How many of those drawn to an hour answered.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct Hour {
    pub hour: u32,
    pub successes: u64,
    pub trials: u64,
}

/// A daily wave fitted to the log odds by maximum likelihood.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Harmonic {
    /// Waves a day.
    pub k: u32,
    pub intercept: f64,
    pub cos: f64,
    pub sin: f64,
    pub lr_statistic: f64,
    pub lr_df: u32,
    pub lr_p: f64,
    /// Null when the wave is flat.
    pub peak_hour: Option<f64>,
}

/// The spread of rates between hours; both null when they differ by no more than chance.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Spread {
    pub alpha: Option<f64>,
    pub beta: Option<f64>,
}

/// All that is read from the hours.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct HourProfile {
    pub omnibus_statistic: f64,
    pub omnibus_df: u32,
    pub omnibus_p: f64,
    pub harmonic: Harmonic,
    pub beta_binomial_ml: Spread,
    /// In the order of the input.
    pub shrunk_rates: Vec<f64>,
    /// Hours not distinguishable from the best, ascending.
    pub best_set: Vec<u32>,
}

/// Reads the hours: an omnibus test, a daily wave, rates shrunk to their spread, and the set that can't be told from the best
/// (one-sided pooled tests against it, Holm, 5%). Hours without trials only get the prior mean.
///
/// # Errors
/// Fewer than three hours with trials, an hour twice or outside 0 to 23, or nothing that varies.
#[allow(clippy::cast_precision_loss)]
pub fn hour_profile(hours: &[Hour]) -> Result<HourProfile, StatsError> {
    let refuse = |words: &str| Err(StatsError::Arguments(words.to_owned()));
    let mut seen = [false; 24];
    for h in hours {
        let Some(slot) = seen.get_mut(h.hour as usize) else { return refuse("an hour is a whole number from 0 to 23") };
        if std::mem::replace(slot, true) {
            return refuse("an hour stands there twice");
        }
        if h.successes > h.trials {
            return Err(StatsError::Arm { successes: h.successes, trials: h.trials });
        }
    }
    let used: Vec<Hour> = hours.iter().copied().filter(|h| h.trials > 0).collect();
    if used.len() < 3 {
        return refuse("fewer than three hours have trials: there is no profile to read");
    }
    let (x, n) = used.iter().fold((0.0, 0.0), |sum, h| (sum.0 + h.successes as f64, sum.1 + h.trials as f64));
    if x == 0.0 || x == n {
        return refuse("all outcomes are equal: there is nothing to tell hours apart by");
    }
    let arms: Vec<Arm> = used.iter().map(|h| Arm { successes: h.successes, trials: h.trials }).collect();
    let omnibus = chi_square_homogeneity(&arms)?;
    let groups: Vec<Group> = used.iter().map(|h| Group { successes: h.successes as f64, trials: h.trials as f64, units: 1.0 }).collect();
    let prior = fit(&groups);
    let pooled = x / n;
    let shrunk = |h: &Hour| prior.map_or(pooled, |p: Prior| p.shrunk(h.successes as f64, h.trials as f64));
    Ok(HourProfile {
        omnibus_statistic: omnibus.statistic,
        omnibus_df: omnibus.df,
        omnibus_p: omnibus.p_value,
        harmonic: harmonic(&used, pooled),
        beta_binomial_ml: Spread { alpha: prior.map(|p| p.alpha), beta: prior.map(|p| p.beta) },
        shrunk_rates: hours.iter().map(shrunk).collect(),
        best_set: best_set(&used)?,
    })
}

/// The log-likelihood at a rate given by its log odds.
fn log_likelihood(x: f64, n: f64, eta: f64) -> f64 {
    let (ln_p, ln_q) = log_rates(eta);
    x * ln_p + (n - x) * ln_q
}

/// Newton's method on the three coefficients, halving a step that goes too far.
#[allow(clippy::cast_precision_loss)]
fn harmonic(used: &[Hour], pooled: f64) -> Harmonic {
    let rows: Vec<([f64; 3], f64, f64)> = used
        .iter()
        .map(|h| {
            let angle = TAU * f64::from(h.hour) / 24.0;
            ([1.0, angle.cos(), angle.sin()], h.successes as f64, h.trials as f64)
        })
        .collect();
    let eta = |b: &[f64; 3], z: &[f64; 3]| b[0] * z[0] + b[1] * z[1] + b[2] * z[2];
    let total = |b: &[f64; 3]| rows.iter().map(|(z, x, n)| log_likelihood(*x, *n, eta(b, z))).sum::<f64>();
    let start = [(pooled / (1.0 - pooled)).ln(), 0.0, 0.0];
    let null = total(&start);
    let mut b = start;
    let mut at = null;
    for _ in 0..200 {
        let (mut gradient, mut information) = ([0.0; 3], [[0.0; 3]; 3]);
        for (z, x, n) in &rows {
            let p = 1.0 / (1.0 + (-eta(&b, z)).exp());
            for i in 0..3 {
                gradient[i] += (x - n * p) * z[i];
                for j in 0..3 {
                    information[i][j] += n * p * (1.0 - p) * z[i] * z[j];
                }
            }
        }
        let Some(step) = solve(information, gradient) else { break };
        let mut scale = 1.0;
        let next = loop {
            let next = [b[0] + scale * step[0], b[1] + scale * step[1], b[2] + scale * step[2]];
            if total(&next) >= at - 1e-12 * at.abs() || scale < 1e-6 {
                break next;
            }
            scale /= 2.0;
        };
        let moved = (0..3).map(|i| (next[i] - b[i]).abs()).fold(0.0, f64::max);
        b = next;
        at = total(&b);
        if moved < 1e-13 {
            break;
        }
    }
    let lr = (2.0 * (at - null)).max(0.0);
    let peak = (b[2].atan2(b[1]) * 24.0 / TAU).rem_euclid(24.0);
    Harmonic {
        k: 1,
        intercept: b[0],
        cos: b[1],
        sin: b[2],
        lr_statistic: lr,
        lr_df: 2,
        // Chi-square with two degrees of freedom.
        lr_p: (-lr / 2.0).exp(),
        peak_hour: (b[1].hypot(b[2]) >= 1e-9).then_some(peak),
    }
}

/// Three equations, by elimination with pivots; None when they say nothing.
fn solve(mut a: [[f64; 3]; 3], mut b: [f64; 3]) -> Option<[f64; 3]> {
    for i in 0..3 {
        let pivot = (i..3).max_by(|p, q| a[*p][i].abs().total_cmp(&a[*q][i].abs()))?;
        a.swap(i, pivot);
        b.swap(i, pivot);
        if a[i][i].abs() < 1e-300 {
            return None;
        }
        for k in i + 1..3 {
            let f = a[k][i] / a[i][i];
            let above = a[i];
            for (cell, over) in a[k].iter_mut().zip(above).skip(i) {
                *cell -= f * over;
            }
            b[k] -= f * b[i];
        }
    }
    let mut x = [0.0; 3];
    for i in (0..3).rev() {
        let rest: f64 = (i + 1..3).map(|j| a[i][j] * x[j]).sum();
        x[i] = (b[i] - rest) / a[i][i];
    }
    x.iter().all(|v| v.is_finite()).then_some(x)
}

/// The hour with the highest rate (ties: the earliest), and every one that isn't significantly lower.
#[allow(clippy::cast_precision_loss)]
fn best_set(used: &[Hour]) -> Result<Vec<u32>, StatsError> {
    let mut sorted = used.to_vec();
    sorted.sort_by_key(|h| h.hour);
    let rate = |h: &Hour| h.successes as f64 / h.trials as f64;
    let mut best = sorted[0];
    for h in &sorted {
        if rate(h) > rate(&best) {
            best = *h;
        }
    }
    let others: Vec<Hour> = sorted.iter().copied().filter(|h| h.hour != best.hour).collect();
    let p: Vec<f64> = others
        .iter()
        .map(|h| {
            let (n, m) = (h.trials as f64, best.trials as f64);
            let pooled = (h.successes as f64 + best.successes as f64) / (n + m);
            let se = (pooled * (1.0 - pooled) * (1.0 / n + 1.0 / m)).sqrt();
            if se == 0.0 { 0.5 } else { normal_cdf((rate(h) - rate(&best)) / se) }
        })
        .collect();
    let adjusted = adjust_p_values(&p, Adjustment::Holm)?;
    let mut set: Vec<u32> = others.iter().zip(adjusted).filter(|(_, p)| *p >= 0.05).map(|(h, _)| h.hour).collect();
    set.push(best.hour);
    set.sort_unstable();
    Ok(set)
}
