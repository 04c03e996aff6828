//! Does each person have an hour of their own?

use super::{Answer, Design, refuse};
use crate::stats::StatsError;
use crate::stats::special::normal_sf;
use serde::Serialize;

/// Whether people differ in which hour suits them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct OwnHours {
    /// The variance between people of what an hour adds, beyond the common hours and how active each is.
    pub spread: f64,
    pub standard_error: f64,
    /// The same in units of the square of the mean.
    pub relative: f64,
    pub z: f64,
    /// Small when they differ.
    pub p_value: f64,
    pub same_pairs: u64,
    pub other_pairs: u64,
    /// The variance between people of how active they are at any hour, in units of the square of the mean.
    #[serde(skip)]
    pub active: f64,
}

/// What the common hours and strata alone imply.
#[derive(Debug, Clone)]
pub struct Expected {
    /// Of each row, the mean.
    pub means: Vec<f64>,
    /// By what factor each hour has more or less than the others.
    pub factors: Vec<f64>,
}

/// What is expected of each row by the common hours and strata: Poisson maximum likelihood, by fitting the sums of strata and of hours in turn (Deming
/// and Stephan 1940, Annals of Mathematical Statistics 11:427-444).
fn expected(d: &Design) -> Expected {
    let (mut by_stratum, mut by_hour) = (vec![0.0; d.strata], vec![0.0; d.hours.len()]);
    let mut n = vec![vec![0.0; d.hours.len()]; d.strata];
    for (_, s, h, y) in &d.rows {
        by_stratum[*s] += y;
        by_hour[*h] += y;
        n[*s][*h] += 1.0;
    }
    let (mut a, mut f) = (vec![1.0; d.strata], vec![1.0; d.hours.len()]);
    for _ in 0..100_000 {
        let mut moved: f64 = 0.0;
        let mut fit = |value: &mut f64, sum: f64, by: f64| {
            let next = if sum == 0.0 || by == 0.0 { 0.0 } else { sum / by };
            moved = moved.max((next - *value).abs() / next.max(1e-300));
            *value = next;
        };
        for s in 0..d.strata {
            fit(&mut a[s], by_stratum[s], n[s].iter().zip(&f).map(|(n, f)| n * f).sum());
        }
        for h in 0..d.hours.len() {
            fit(&mut f[h], by_hour[h], n.iter().zip(&a).map(|(n, a)| n[h] * a).sum());
        }
        if moved < 1e-13 {
            break;
        }
    }
    Expected { means: d.rows.iter().map(|(_, s, h, _)| a[*s] * f[*h]).collect(), factors: f }
}

/// What a person's pairs add up to: of products of residuals and of means, at the same hour and at different ones.
#[derive(Default, Clone)]
struct Pairs {
    same: f64,
    same_means: f64,
    other: f64,
    other_means: f64,
    same_pairs: u64,
    other_pairs: u64,
}

/// Sums of products over the pairs of a list of person, hour, v and m: of `v`, of `m`, and how many.
fn pair_sums(of: &[(usize, usize, f64, f64)]) -> (f64, f64, u64) {
    let half = |pick: fn(&(usize, usize, f64, f64)) -> f64| {
        let (sum, squares) = of.iter().map(pick).fold((0.0, 0.0), |s, v| (s.0 + v, s.1 + v * v));
        (sum * sum - squares) / 2.0
    };
    let n = of.len() as u64;
    (half(|p| p.2), half(|p| p.3), n * n.saturating_sub(1) / 2)
}

/// Each person's answers together: person, hour, what is beyond the mean, and the mean.
fn by_person(d: &Design, means: &[f64]) -> Vec<(usize, usize, f64, f64)> {
    // Persons have places, so that nothing is compared.
    let mut next = vec![0; d.persons + 1];
    d.rows.iter().for_each(|r| next[r.0 + 1] += 1);
    (1..next.len()).for_each(|i| next[i] += next[i - 1]);
    let mut of = vec![(0, 0, 0.0, 0.0); d.rows.len()];
    for (r, m) in d.rows.iter().zip(means) {
        of[next[r.0]] = (r.0, r.2, r.3 - m, *m);
        next[r.0] += 1;
    }
    of
}

/// Do people differ in *which* hour suits them? Residuals from the common hours and from how active each is are compared between pairs of one
/// person's answers: at the same hour they agree more than at different hours, or not.
///
/// # Errors
/// As [`super::reading::hour_reading`] of the answers; fewer than two hours, a negative answer, no pair at the same hour or none at different ones, or no variation.
pub fn own_hour_spread(answers: &[Answer]) -> Result<OwnHours, StatsError> {
    Ok(own_hours(&Design::of(answers)?)?.0)
}

/// [`own_hour_spread`] of answers by their places, with what the common hours imply.
///
/// # Errors
/// As there.
#[allow(clippy::cast_precision_loss)]
pub fn own_hours(d: &Design) -> Result<(OwnHours, Expected), StatsError> {
    if d.hours.len() < 2 {
        return refuse("fewer than two hours occur: nobody can have one of their own");
    }
    if d.rows.iter().any(|r| r.3 < 0.0) {
        return refuse("an answer is negative: give counts, or 0 and 1");
    }
    d.linked()?;
    d.within()?;
    let expected = expected(d);
    let mut of = by_person(d, &expected.means);
    let mut pairs: Vec<Pairs> = Vec::new();
    for person in of.chunk_by_mut(|a, b| a.0 == b.0) {
        person.sort_by_key(|r| r.1);
        let (all, all_means, n) = pair_sums(person);
        if n == 0 {
            continue;
        }
        let mut p = Pairs::default();
        for at in person.chunk_by(|a, b| a.1 == b.1) {
            let (same, means, n) = pair_sums(at);
            p.same += same;
            p.same_means += means;
            p.same_pairs += n;
        }
        (p.other, p.other_means, p.other_pairs) = (all - p.same, all_means - p.same_means, n - p.same_pairs);
        pairs.push(p);
    }
    let sum = |pick: fn(&Pairs) -> f64| pairs.iter().map(pick).sum::<f64>();
    let (same_pairs, other_pairs) = pairs.iter().fold((0, 0), |n, p| (n.0 + p.same_pairs, n.1 + p.other_pairs));
    if same_pairs == 0 || other_pairs == 0 {
        return refuse("nobody answered twice at one hour, or nobody at two: go on for more rounds");
    }
    let (w, x) = (sum(|p| p.same_means), sum(|p| p.other_means));
    if pairs.len() < 2 || w <= 0.0 || x <= 0.0 {
        return refuse("fewer than two people answered often enough");
    }
    let (same, other) = (sum(|p| p.same) / w, sum(|p| p.other) / x);
    let relative = same - other;
    let mean = d.rows.iter().map(|r| r.3).sum::<f64>() / d.rows.len() as f64;
    let count = pairs.len() as f64;
    let squares: f64 = pairs.iter().map(|p| ((p.same - same * p.same_means) / w - (p.other - other * p.other_means) / x).powi(2)).sum();
    let standard_error = mean * mean * (count / (count - 1.0) * squares).sqrt();
    if standard_error <= 0.0 {
        return refuse("pairs of answers don't vary: there is nothing to tell people apart by");
    }
    let spread = mean * mean * relative;
    let z = spread / standard_error;
    let found = OwnHours { spread, standard_error, relative, z, p_value: normal_sf(z), same_pairs, other_pairs, active: other };
    Ok((found, expected))
}
