//! Two means by drawing the arms again: it assumes nothing of how values are spread, and its size is right however few large purchases there
//! are and however unequal the arms (Fisher 1935; Ernst 2004, Statistical Science 19:676-685).

use super::StatsError;
use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use rand_distr::{Distribution, Hypergeometric};
use serde::Serialize;
use std::collections::HashMap;

/// The second arm's mean less the first's, and how often chance alone does as much.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Redrawn {
    pub difference: f64,
    /// Small when the second is higher.
    pub p_higher: f64,
    pub p_lower: f64,
    pub p_value: f64,
}

/// The most draws.
const MOST: u64 = 10_000_000;

/// The value that most people have: most buy nothing.
fn commonest(values: impl Iterator<Item = f64>) -> f64 {
    let mut counts: HashMap<u64, usize> = HashMap::new();
    for v in values {
        // Both zeroes are one.
        *counts.entry((v + 0.0).to_bits()).or_default() += 1;
    }
    counts.into_iter().max_by_key(|(bits, n)| (*n, *bits)).map_or(0.0, |(bits, _)| f64::from_bits(bits))
}

/// Draws `draws` times who is in the first arm, sizes fixed. Only those with another value than the commonest matter: how many of them fall into
/// the first arm is hypergeometric, which ones a partial shuffle says. Ties count for both sides.
///
/// # Errors
/// Not two arms, an empty one, a value that isn't a number, or draws outside 1 to 10,000,000.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation)]
pub fn randomization_test(arms: &[Vec<f64>], draws: u64, seed: u64) -> Result<Redrawn, StatsError> {
    let refuse = |words: &str| Err(StatsError::Arguments(words.to_owned()));
    let [a, b] = arms else { return refuse("give two arms") };
    if a.is_empty() || b.is_empty() {
        return refuse("an arm is empty");
    }
    if !a.iter().chain(b).all(|v| v.is_finite()) {
        return refuse("a value is no number");
    }
    if !(1..=MOST).contains(&draws) {
        return refuse("draws are a whole number from 1 to 10,000,000");
    }
    let mean = |v: &[f64]| v.iter().sum::<f64>() / v.len() as f64;
    let difference = mean(b) - mean(a);
    let usual = commonest(a.iter().chain(b).copied());
    // The other values first in the first arm, then in the second: their sum above the commonest is what moves.
    let above = |v: &[f64]| -> Vec<f64> { v.iter().map(|x| x - usual).filter(|x| *x != 0.0).collect() };
    let (mut others, second) = (above(a), above(b));
    let observed: f64 = others.iter().sum();
    others.extend(second);
    if others.is_empty() {
        return Ok(Redrawn { difference, p_higher: 1.0, p_lower: 1.0, p_value: 1.0 });
    }
    let slack = 1e-11 * a.iter().chain(b).map(|v| v.abs()).sum::<f64>();
    let people = (a.len() + b.len()) as u64;
    let total: f64 = others.iter().sum();
    let Ok(how_many) = Hypergeometric::new(people, others.len() as u64, a.len() as u64) else { return refuse("the arms are too large") };
    let mut rng = ChaCha12Rng::seed_from_u64(seed);
    let (mut higher, mut lower) = (0_u64, 0_u64);
    for _ in 0..draws {
        let first = how_many.sample(&mut rng) as usize;
        // The smaller side is drawn.
        let few = first.min(others.len() - first);
        for i in 0..few {
            let j = rng.random_range(i..others.len());
            others.swap(i, j);
        }
        let drawn: f64 = others[..few].iter().sum();
        let sum = if few == first { drawn } else { total - drawn };
        // The difference falls as the first arm's sum rises.
        higher += u64::from(sum <= observed + slack);
        lower += u64::from(sum >= observed - slack);
    }
    let p = |n: u64| (1 + n) as f64 / (1 + draws) as f64;
    let (p_higher, p_lower) = (p(higher), p(lower));
    Ok(Redrawn { difference, p_higher, p_lower, p_value: (2.0 * p_higher.min(p_lower)).min(1.0) })
}
