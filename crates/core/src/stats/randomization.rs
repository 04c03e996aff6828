//! Two means by drawing the arms again: it assumes nothing of how values are spread, and its size is right however few large purchases there
//! are and however unequal the arms (Fisher 1935; Ernst 2004, Statistical Science 19:676-685).
//!
//! Only those with another value than the commonest matter, and most people buy nothing: each of the others gets one of the places that are
//! left, in one arm or the other. Ties count for both sides.
//!
//! The limits are the test's own, turned around: all shifts that it doesn't reject. Under a shift `d` of the second arm a redrawn
//! difference is `A - d B`, where `A` is that of the values and `B` that of "was in the second arm"; it reaches the observed `D - d` exactly
//! where `d` is at least `(D - A)/(1 - B)`. So the ranks of these quotients are the limits, without a search (as Tritchler 1984, JASA
//! 79:200-207, inverts a permutation test).
//!
//! Where the arms truly differ they seldom spread alike, and a shift is not what happened to them. Beside the limits of the shift stand those of
//! the studentised difference: its redrawn distribution times the standard error that was observed, which holds for arms that spread
//! differently, too (Janssen 1997, Statistics & Probability Letters 36:9-21), and no narrower than the normal's. Their hull is given; what the test says of 0 stands.

use super::special::normal_upper_quantile;
use super::{StatsError, open_unit};
use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use rand_distr::{Distribution, StandardNormal};
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

/// The people of two arms who were drawn together.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Stratum {
    /// All of them, of the first arm and the second.
    pub people: [u64; 2],
    /// The values of those who have another than 0.
    pub others: [Vec<f64>; 2],
}

/// A [`Redrawn`] with its limits.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shift {
    pub test: Redrawn,
    /// Limits for the difference: 0 lies between them exactly where the test doesn't reject it.
    pub lower: f64,
    pub upper: f64,
}

/// The most draws.
const MOST: u64 = 10_000_000;

fn refused<T>(words: &str) -> Result<T, StatsError> {
    Err(StatsError::Arguments(words.to_owned()))
}

/// The value that most people have: most buy nothing.
fn commonest(values: impl Iterator<Item = f64>) -> f64 {
    let mut counts: HashMap<u64, usize> = HashMap::new();
    for v in values {
        // Both zeroes are one.
        *counts.entry((v + 0.0).to_bits()).or_default() += 1;
    }
    counts.into_iter().max_by_key(|(bits, n)| (*n, *bits)).map_or(0.0, |(bits, _)| f64::from_bits(bits))
}

/// Draws `draws` times who is in the first arm, sizes fixed.
///
/// # Errors
/// Not two arms, an empty one, a value that isn't a number, or draws outside 1 to 10,000,000.
pub fn randomization_test(arms: &[Vec<f64>], draws: u64, seed: u64) -> Result<Redrawn, StatsError> {
    let [a, b] = arms else { return refused("give two arms") };
    if a.is_empty() || b.is_empty() {
        return refused("an arm is empty");
    }
    if !a.iter().chain(b).all(|v| v.is_finite()) {
        return refused("a value is no number");
    }
    let usual = commonest(a.iter().chain(b).copied());
    // What counts is how far a value lies from the commonest: a shift of everybody shifts no difference.
    let above = |v: &[f64]| -> Vec<f64> { v.iter().map(|x| x - usual).filter(|x| *x != 0.0).collect() };
    let stratum = Stratum { people: [a.len() as u64, b.len() as u64], others: [above(a), above(b)] };
    redraw(&[vec![stratum]], 0.5, draws, seed).map(|s| s.test)
}

/// Those with another value than 0 of a stratum, the first arm's first, each with whether it was in the second arm.
struct Pool {
    people: [u64; 2],
    others: Vec<(f64, bool)>,
    /// Of the others, how many were in the second arm.
    second: u64,
    total: f64,
    squares: f64,
}

/// How many of `a` people are among `b` others, both drawn from `n`. What it spreads widely over is drawn from the normal with its mean and
/// variance: it moves a limit's last digits, and no test.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn overlap(rng: &mut ChaCha12Rng, n: u64, a: u64, b: u64) -> u64 {
    if a > n - a {
        return b - overlap(rng, n, n - a, b);
    }
    if b > n - b {
        return a - overlap(rng, n, a, n - b);
    }
    let (few, many) = (a.min(b), a.max(b));
    if few == 0 {
        return 0;
    }
    let (size, p) = (n as f64, many as f64 / n as f64);
    let mean = few as f64 * p;
    let variance = mean * (1.0 - p) * (size - few as f64) / (size - 1.0);
    if variance > 25.0 {
        let z: f64 = StandardNormal.sample(rng);
        return ((mean + z * variance.sqrt()).round().max(0.0) as u64).min(few);
    }
    let mut left = many;
    for i in 0..few {
        left -= u64::from(rng.random_range(0..n - i) < left);
    }
    many - left
}

impl Pool {
    fn new(s: &Stratum) -> Result<Self, StatsError> {
        let [a, b] = &s.others;
        if a.len() as u64 > s.people[0] || b.len() as u64 > s.people[1] {
            return refused("an arm has more values than people");
        }
        if !a.iter().chain(b).all(|v| v.is_finite()) {
            return refused("a value is no number");
        }
        let others: Vec<(f64, bool)> = a.iter().map(|v| (*v, false)).chain(b.iter().map(|v| (*v, true))).collect();
        let total = others.iter().map(|o| o.0).sum();
        let squares = others.iter().map(|o| o.0 * o.0).sum();
        Ok(Self { people: s.people, others, second: b.len() as u64, total, squares })
    }

    /// Adds a redrawn second arm up: its values, their squares, and how many of it were in it before.
    fn draw(&self, rng: &mut ChaCha12Rng, drawn: &mut Drawn) {
        let [na, nb] = self.people;
        if na == 0 || nb == 0 {
            // Nobody can change places.
            let all = if na == 0 { self.total } else { 0.0 };
            (drawn.sum, drawn.squares, drawn.stayed) =
                (drawn.sum + all, drawn.squares + if na == 0 { self.squares } else { 0.0 }, drawn.stayed + nb);
            return;
        }
        let (mut places, mut room, mut stayed) = (na + nb, nb, 0);
        for (value, before) in &self.others {
            if rng.random_range(0..places) < room {
                (room, stayed) = (room - 1, stayed + u64::from(*before));
                drawn.sum += value;
                drawn.squares += value * value;
            }
            places -= 1;
        }
        // Of those with 0, how many that were in the second arm are in it again.
        drawn.stayed += stayed + overlap(rng, places, nb - self.second, room);
    }
}

/// A second arm, redrawn or as it was.
#[derive(Debug, Clone, Copy, Default)]
struct Drawn {
    sum: f64,
    squares: f64,
    stayed: u64,
}

/// The strata of one time.
struct Block {
    weight: f64,
    people: [f64; 2],
    pools: Vec<Pool>,
    total: f64,
    squares: f64,
}

impl Block {
    /// The weighted difference of the means, and its variance.
    fn difference(&self, second: Drawn) -> (f64, f64) {
        let [a, b] = self.people;
        let variance = |n: f64, sum: f64, squares: f64| if n > 1.0 { ((squares - sum * sum / n) / (n - 1.0)).max(0.0) / n } else { 0.0 };
        let first = (self.total - second.sum, self.squares - second.squares);
        let spread = variance(a, first.0, first.1) + variance(b, second.sum, second.squares);
        (self.weight * (second.sum / b - first.0 / a), self.weight * self.weight * spread)
    }

    /// How much of a shift of the second arm is in a redrawn difference.
    #[allow(clippy::cast_precision_loss)]
    fn shifted(&self, stayed: u64) -> f64 {
        let ([a, b], stayed) = (self.people, stayed as f64);
        self.weight * (stayed / b - (b - stayed) / a)
    }
}

/// Draws the arms again within strata, and turns the test into limits for the second mean less the first. Strata of one time are a block:
/// the means of a block are of all its people, and blocks are weighed by `n_a n_b/(n_a + n_b)`, as [`super::welch::welch_over`] weighs them.
///
/// # Errors
/// No block with people in both arms, a value that isn't a number, or draws outside 1 to 10,000,000.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub fn redraw(blocks: &[Vec<Stratum>], level: f64, draws: u64, seed: u64) -> Result<Shift, StatsError> {
    let level = open_unit("level", level)?;
    if !(1..=MOST).contains(&draws) {
        return refused("draws are a whole number from 1 to 10,000,000");
    }
    let sizes = |b: &[Stratum]| b.iter().fold([0_u64; 2], |n, s| [n[0] + s.people[0], n[1] + s.people[1]]);
    let both: Vec<(&Vec<Stratum>, [f64; 2])> =
        blocks.iter().map(|b| (b, sizes(b).map(|n| n as f64))).filter(|(_, n)| n[0] > 0.0 && n[1] > 0.0).collect();
    if both.is_empty() {
        return refused("an arm is empty");
    }
    let whole: f64 = both.iter().map(|(_, n)| n[0] * n[1] / (n[0] + n[1])).sum();
    let (mut blocks, mut difference, mut variance, mut size) = (Vec::new(), 0.0, 0.0, 0.0);
    for (strata, people) in both {
        let of = |each: fn(&f64) -> f64| [0, 1].map(|arm| strata.iter().flat_map(|s| &s.others[arm]).map(each).sum::<f64>());
        let (sums, squares, sizes) = (of(|v| *v), of(|v| v * v), of(|v| v.abs()));
        let block = Block {
            weight: people[0] * people[1] / (people[0] + people[1]) / whole,
            people,
            pools: strata.iter().map(Pool::new).collect::<Result<Vec<_>, _>>()?,
            total: sums[0] + sums[1],
            squares: squares[0] + squares[1],
        };
        let (d, v) = block.difference(Drawn { sum: sums[1], squares: squares[1], stayed: 0 });
        (difference, variance) = (difference + d, variance + v);
        size += block.weight * (sizes[0] + sizes[1]) * (1.0 / people[0]).max(1.0 / people[1]);
        blocks.push(block);
    }
    if size == 0.0 {
        let test = Redrawn { difference, p_higher: 1.0, p_lower: 1.0, p_value: 1.0 };
        return Ok(Shift { test, lower: difference, upper: difference });
    }
    let mut rng = ChaCha12Rng::seed_from_u64(seed);
    let slack = 1e-11 * size;
    // Draws that give everybody their own arm again say nothing against any shift.
    let (mut shifts, mut same) = (Vec::with_capacity(draws as usize), 0_u64);
    let mut studentised = Vec::with_capacity(draws as usize);
    for _ in 0..draws {
        let (mut a, mut v, mut b) = (0.0, 0.0, 0.0);
        for block in &blocks {
            let mut second = Drawn::default();
            block.pools.iter().for_each(|p| p.draw(&mut rng, &mut second));
            let (of, spread) = block.difference(second);
            (a, v, b) = (a + of, v + spread, b + block.shifted(second.stayed));
        }
        // As much as was found is as much, whatever the rounding.
        let less = if (difference - a).abs() <= slack { 0.0 } else { difference - a };
        if 1.0 - b < 1e-9 {
            same += 1
        } else {
            shifts.push(less / (1.0 - b))
        }
        studentised.push(if v > 0.0 { a / v.sqrt() } else { 0.0 });
    }
    let p = |n: usize| (1 + same + n as u64) as f64 / (1 + draws) as f64;
    let (p_higher, p_lower) = (p(shifts.iter().filter(|s| **s <= 0.0).count()), p(shifts.iter().filter(|s| **s >= 0.0).count()));
    let test = Redrawn { difference, p_higher, p_lower, p_value: (2.0 * p_higher.min(p_lower)).min(1.0) };
    // The first rank that isn't rejected on its side.
    let rank = ((1.0 - level) / 2.0 * (1 + draws) as f64 - 1.0).floor() as i64 + 1;
    let shift = (ranked(&mut shifts, rank - same as i64), ranked(&mut shifts, (draws as i64) + 1 - rank));
    // No narrower than a normal one: where the better arm is the smaller and spreads wider, what is drawn from both together is.
    let z = normal_upper_quantile((1.0 - level) / 2.0);
    let least = ranked(&mut studentised, rank).min(-z);
    let most = ranked(&mut studentised, (draws as i64) + 1 - rank).max(z);
    let error = variance.sqrt();
    let (lower, upper) = hull(shift, (difference - error * most, difference - error * least));
    Ok(Shift { test, lower, upper })
}

/// The value of a rank, from 1; beyond the ends there is no limit.
#[allow(clippy::cast_possible_wrap)]
fn ranked(values: &mut [f64], rank: i64) -> f64 {
    if rank < 1 {
        return f64::NEG_INFINITY;
    }
    match usize::try_from(rank - 1).ok().filter(|r| *r < values.len()) {
        Some(r) => *values.select_nth_unstable_by(r, f64::total_cmp).1,
        None => f64::INFINITY,
    }
}

/// Limits as wide as the others where those are wider, but never over 0 where the test's own aren't.
fn hull((lower, upper): (f64, f64), others: (f64, f64)) -> (f64, f64) {
    let (low, high) = (lower.min(others.0), upper.max(others.1));
    (if lower > 0.0 && low <= 0.0 { lower } else { low }, if upper < 0.0 && high >= 0.0 { upper } else { high })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn stratum(people: [u64; 2], a: &[f64], b: &[f64]) -> Stratum {
        Stratum { people, others: [a.to_vec(), b.to_vec()] }
    }

    #[test]
    fn the_limits_are_those_of_every_assignment_counted() {
        // 5 of 9: 126 assignments; the shifts that fewer than 5% of a side reach are found by counting.
        let (a, b) = ([1.0, 4.0, 2.5, 0.5], [3.0, 6.0, 7.5, 5.0, 9.0]);
        let p_higher = |shift: f64| {
            let all: Vec<f64> = a.iter().copied().chain(b.iter().map(|v| v - shift)).collect();
            let of = |second: f64, all: f64| second / 5.0 - (all - second) / 4.0;
            let total: f64 = all.iter().sum();
            let seen = of(all[4..].iter().sum(), total);
            let sums =
                (0_u32..512).filter(|m| m.count_ones() == 5).map(|m| (0..9).filter(|i| m >> i & 1 == 1).map(|i| all[i]).sum::<f64>());
            let drawn: Vec<f64> = sums.map(|s| of(s, total)).collect();
            drawn.iter().filter(|d| **d >= seen - 1e-9).count() as f64 / drawn.len() as f64
        };
        let (mut low, mut high) = (-20.0, 20.0);
        for _ in 0..60 {
            let middle = (low + high) / 2.0;
            if p_higher(middle) <= 0.05 { low = middle } else { high = middle }
        }
        let found = redraw(&[vec![stratum([4, 5], &a, &b)]], 0.9, 200_000, 3).unwrap();
        assert!((found.lower - low).abs() < 0.02, "{found:?} {low}");
        assert!((found.test.p_higher - p_higher(0.0)).abs() < 0.002, "{found:?}");
    }

    proptest! {
        /// Test and limits say the same; turned around they turn around; and strata and blocks change no difference of even arms.
        #[test]
        fn the_test_and_the_limits_agree(a in prop::collection::vec(1.0f64..90.0, 0..30), b in prop::collection::vec(1.0f64..90.0, 0..30), more in 0u64..400, at in prop::sample::select(vec![0.8, 0.95, 0.99])) {
            let people = [50 + more, 50 + more / 2];
            let one = redraw(&[vec![stratum(people, &a, &b)]], at, 2_000, 1).unwrap();
            prop_assert_eq!(one.test.p_value < 1.0 - at, one.lower > 0.0 || one.upper < 0.0, "{:?}", one);
            prop_assert!(one.lower <= one.test.difference + 1e-9 && one.upper >= one.test.difference - 1e-9);
            let back = redraw(&[vec![stratum([people[1], people[0]], &b, &a)]], at, 2_000, 1).unwrap();
            prop_assert!((one.test.difference + back.test.difference).abs() < 1e-9);
            prop_assert!((one.test.p_value - back.test.p_value).abs() < 0.15, "{:?} {:?}", one, back);
            let cut = [stratum([people[0] - 10, people[1] - 10], &a, &b), stratum([10, 10], &[], &[])];
            let two = redraw(&[cut.to_vec()], at, 2_000, 1).unwrap();
            prop_assert!((two.test.difference - one.test.difference).abs() < 1e-9);
        }
    }
}
