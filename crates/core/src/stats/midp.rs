//! Two proportions by the conditional exact test with mid-p: for rare outcomes and arms of very different sizes, where the pooled z test
//! calls too often.

use super::{Arm, StatsError};
use serde::Serialize;

/// The most trials of an arm.
const MOST: u64 = 10_000_000;

/// Both one-sided mid-p values, and twice the smaller.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct MidP {
    /// Small when b is higher.
    pub p_higher: f64,
    pub p_lower: f64,
    pub p_value: f64,
}

/// `ln n! - ln(√(2πn) (n/e)ⁿ)`: what Stirling's formula lacks.
fn stirling_error(n: f64) -> f64 {
    if n <= 15.0 {
        return if n == 0.0 { 0.0 } else { libm::lgamma(n + 1.0) - (n + 0.5) * n.ln() + n - 0.5 * (2.0 * std::f64::consts::PI).ln() };
    }
    let s = n * n;
    (1.0 / 12.0 - (1.0 / 360.0 - (1.0 / 1260.0 - (1.0 / 1680.0 - 1.0 / 1188.0 / s) / s) / s) / s) / n
}

/// The deviance `x ln(x/np) + np - x`, without cancellation where both are close.
fn deviance(x: f64, np: f64) -> f64 {
    if (x - np).abs() < 0.1 * (x + np) {
        let v = (x - np) / (x + np);
        let mut sum = (x - np) * v;
        let mut term = 2.0 * x * v;
        for j in 1..1000 {
            term *= v * v;
            let next = sum + term / f64::from(2 * j + 1);
            if next == sum {
                break;
            }
            sum = next;
        }
        return sum;
    }
    x * (x / np).ln() + np - x
}

/// The binomial density by its saddle point (Loader 2000): `P(X = x)` of `n` trials with chance `p = 1 - q`.
fn binomial(x: f64, n: f64, p: f64, q: f64) -> f64 {
    if p == 0.0 || q == 0.0 {
        return f64::from(u8::from(x == if p == 0.0 { 0.0 } else { n }));
    }
    if x == 0.0 {
        return if p < 0.1 { (-deviance(n, n * q) - n * p).exp() } else { (n * q.ln()).exp() };
    }
    if x == n {
        return if q < 0.1 { (-deviance(n, n * p) - n * q).exp() } else { (n * p.ln()).exp() };
    }
    let ln = stirling_error(n) - stirling_error(x) - stirling_error(n - x) - deviance(x, n * p) - deviance(n - x, n * q);
    ln.exp() * (n / (2.0 * std::f64::consts::PI * x * (n - x))).sqrt()
}

/// Given all successes `K` of both arms, b's are hypergeometric; the observed table counts half (Lancaster 1961, JASA 56:223-234). The smaller tail is
/// summed from the observed one outwards, the other is 1 less that.
///
/// # Errors
/// An arm without trials, more successes than trials, or more than 10,000,000 trials in an arm.
pub fn midp_two_proportions(a: Arm, b: Arm) -> Result<MidP, StatsError> {
    let ((x_a, n_a), (x, n_b)) = (a.checked()?, b.checked()?);
    if a.trials > MOST || b.trials > MOST {
        return Err(StatsError::Arguments(format!("an arm has more than {MOST} trials: the exact test is for fewer")));
    }
    let (all, people) = (x_a + x, n_a + n_b);
    let share = all / people;
    let observed = if all == 0.0 || all == people {
        1.0
    } else {
        let rest = (people - all) / people;
        binomial(x, n_b, share, rest) * binomial(x_a, n_a, share, rest) / binomial(all, people, share, rest)
    };
    let upward = x >= all * n_b / people;
    let (mut k, mut term, mut sum) = (x, 1.0, 0.0);
    loop {
        term *= if upward {
            (n_b - k) * (all - k) / ((k + 1.0) * (n_a - all + k + 1.0))
        } else {
            k * (n_a - all + k) / ((n_b - k + 1.0) * (all - k + 1.0))
        };
        if !(term > 1e-18 * sum && term > 0.0) {
            break;
        }
        sum += term;
        k += if upward { 1.0 } else { -1.0 };
    }
    let tail = observed * (sum + 0.5);
    let (p_higher, p_lower) = if upward { (tail, 1.0 - tail) } else { (1.0 - tail, tail) };
    Ok(MidP { p_higher, p_lower, p_value: (2.0 * p_higher.min(p_lower)).min(1.0) })
}

/// The most successes over several strata: their distributions are added up one by one.
const MOST_OVER: f64 = 20_000.0;

/// How many of a stratum's successes are b's, from the fewest that can be: the hypergeometric chances.
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, clippy::cast_precision_loss)]
fn chances(n_a: f64, n_b: f64, all: f64) -> (f64, Vec<f64>) {
    let (least, most) = ((all - n_a).max(0.0), all.min(n_b));
    let mode = ((all + 1.0) * (n_b + 1.0) / (n_a + n_b + 2.0)).floor().clamp(least, most);
    let up = |k: f64| (n_b - k) * (all - k) / ((k + 1.0) * (n_a - all + k + 1.0));
    let place = (mode - least) as usize;
    let mut out = vec![1.0; (most - least) as usize + 1];
    for i in place + 1..out.len() {
        out[i] = out[i - 1] * up(least + (i - 1) as f64);
    }
    for i in (0..place).rev() {
        out[i] = out[i + 1] / up(least + i as f64);
    }
    let sum: f64 = out.iter().sum();
    out.iter_mut().for_each(|p| *p /= sum);
    (least, out)
}

/// How many of the successes of all strata are the second arm's, given those of each stratum.
pub(super) struct SummedChances {
    /// From the fewest that can be.
    pub chances: Vec<f64>,
    /// The place of what was seen.
    pub seen: usize,
}

/// The hypergeometric chances of each stratum with people in both arms, added up.
///
/// # Errors
/// More successes than trials; no stratum with both arms, or more than 20,000 successes over several.
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub(super) fn summed_chances(strata: &[(Arm, Arm)]) -> Result<SummedChances, StatsError> {
    let both: Vec<&(Arm, Arm)> = strata.iter().filter(|(a, b)| a.trials > 0 && b.trials > 0).collect();
    let (mut least, mut sum, mut observed, mut successes) = (0.0, vec![1.0], 0.0, 0.0);
    for (a, b) in &both {
        let ((x_a, n_a), (x_b, n_b)) = (a.checked()?, b.checked()?);
        successes += x_a + x_b;
        // Of one stratum as many are added up as b's successes can be.
        let width = (x_a + x_b).min(n_b) - (x_a + x_b - n_a).max(0.0) + 1.0;
        if both.len() > 1 && successes > MOST_OVER || width > MOST_OVER {
            return Err(StatsError::Arguments(format!("more than {MOST_OVER} successes over several strata: the exact test is for fewer")));
        }
        let (from, of) = chances(n_a, n_b, x_a + x_b);
        let mut next = vec![0.0; sum.len() + of.len() - 1];
        for (i, p) in sum.iter().enumerate() {
            for (j, q) in of.iter().enumerate() {
                next[i + j] += p * q;
            }
        }
        (least, sum, observed) = (least + from, next, observed + x_b);
    }
    if both.is_empty() {
        return Err(StatsError::Arguments("no stratum has people in both arms".into()));
    }
    Ok(SummedChances { chances: sum, seen: (observed - least) as usize })
}

/// [`midp_two_proportions`] over strata: given the successes of each, b's in all are the sum of what chance gives it in each.
///
/// # Errors
/// As there; no stratum with both arms, or more than 20,000 successes over several.
pub fn midp_over(strata: &[(Arm, Arm)]) -> Result<MidP, StatsError> {
    let both: Vec<(Arm, Arm)> = strata.iter().copied().filter(|(a, b)| a.trials > 0 && b.trials > 0).collect();
    if let [(a, b)] = both[..] {
        return midp_two_proportions(a, b);
    }
    let SummedChances { chances: sum, seen: at } = summed_chances(&both)?;
    let half = sum[at] / 2.0;
    let (below, above) = (sum[..at].iter().sum::<f64>() + half, sum[at + 1..].iter().sum::<f64>() + half);
    Ok(MidP { p_higher: above, p_lower: below, p_value: (2.0 * below.min(above)).min(1.0) })
}
