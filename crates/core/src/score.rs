//! Scores: points with causes, which may fade.
//!
//! A score is the sum of its entries, each worth its points when it was earned and half of them a
//! half-life later: value(t) = Σ points · 2^(−(t − at) / half-life). Because every entry fades at the
//! same rate, the sum is kept as one number with its instant ([`Standing`]), whatever the order in
//! which entries come in.

use crate::stats::Arm;
use crate::stats::proportion::{Method, proportion_interval};
use crate::stats::special::normal_upper_quantile;
use crate::{DAY, Instant};
use serde::Serialize;
use utoipa::ToSchema;

/// What is left of a point after `elapsed` milliseconds; without a half-life all of it.
fn faded(elapsed: i64, half_life_days: Option<f64>) -> f64 {
    #[allow(clippy::cast_precision_loss)]
    half_life_days.map_or(1.0, |days| (-(elapsed.max(0) as f64) / (days * DAY as f64)).exp2())
}

/// Points that an entry may have: between −1,000 and 1,000, and not 0.
#[must_use]
pub fn can_be_given(points: f64) -> bool {
    points.is_finite() && points != 0.0 && points.abs() <= 1_000.0
}

/// A person's score, as of the instant of its newest entry.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Standing {
    pub value: f64,
    pub as_of: Instant,
}

impl Standing {
    /// Adds an entry. An earlier one than the newest has faded already.
    pub fn add(&mut self, points: f64, at: Instant, half_life_days: Option<f64>) {
        if at >= self.as_of {
            self.value = self.value * faded(at - self.as_of, half_life_days) + points;
            self.as_of = at;
        } else {
            self.value += points * faded(self.as_of - at, half_life_days);
        }
    }

    /// The score at an instant, to a millionth: what adding and fading leave behind in the last
    /// places is no difference between two people.
    #[must_use]
    pub fn at(&self, now: Instant, half_life_days: Option<f64>) -> f64 {
        (self.value * faded(now - self.as_of, half_life_days) * 1e6).round() / 1e6
    }
}

/// How well a score told those who bought from those who didn't.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = ScoreRanking)]
pub struct Ranking {
    /// The share of pairs of a buyer and another in which the buyer ranks higher; ties count half.
    pub share: f64,
    /// Its 95% interval; the whole range when either group is too small to tell.
    pub lower: f64,
    pub upper: f64,
    pub buyers: usize,
    pub others: usize,
}

/// The area under the ROC curve, with its interval on the logit scale from the placement variance
/// (DeLong, DeLong & Clarke-Pearson 1988, Biometrics 44:837-845). `None` without both groups.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn ranking(people: &[(f64, bool)]) -> Option<Ranking> {
    let mut sorted: Vec<&(f64, bool)> = people.iter().collect();
    sorted.sort_by(|a, b| a.0.total_cmp(&b.0));
    let buyers = people.iter().filter(|p| p.1).count();
    let others = people.len() - buyers;
    if buyers == 0 || others == 0 {
        return None;
    }
    let (m, n) = (buyers as f64, others as f64);
    // Where each stands among the other group: the share below it, ties counted half.
    let (mut above_others, mut below_buyers) = (Vec::with_capacity(buyers), Vec::with_capacity(others));
    let (mut buyers_before, mut others_before, mut i) = (0usize, 0usize, 0usize);
    while i < sorted.len() {
        let tie = sorted[i..].iter().take_while(|p| p.0 == sorted[i].0).count();
        let tied_buyers = sorted[i..i + tie].iter().filter(|p| p.1).count();
        let tied_others = tie - tied_buyers;
        let placed = (others_before as f64 + tied_others as f64 / 2.0) / n;
        above_others.extend(std::iter::repeat_n(placed, tied_buyers));
        let placed = ((buyers - buyers_before - tied_buyers) as f64 + tied_buyers as f64 / 2.0) / m;
        below_buyers.extend(std::iter::repeat_n(placed, tied_others));
        buyers_before += tied_buyers;
        others_before += tied_others;
        i += tie;
    }
    let share = above_others.iter().sum::<f64>() / m;
    let variance = |v: &[f64]| v.iter().map(|x| (x - share).powi(2)).sum::<f64>() / (v.len() as f64 - 1.0);
    let (mut lower, mut upper) = (0.0, 1.0);
    if buyers > 1 && others > 1 && share > 0.0 && share < 1.0 {
        let sd = (variance(&above_others) / m + variance(&below_buyers) / n).sqrt();
        let (logit, half) = ((share / (1.0 - share)).ln(), normal_upper_quantile(0.025) * sd / (share * (1.0 - share)));
        let back = |x: f64| 1.0 / (1.0 + (-x).exp());
        (lower, upper) = (back(logit - half), back(logit + half));
    }
    Some(Ranking { share, lower, upper, buyers, others })
}

/// A fifth of the people, by score.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = ScoreFifth)]
pub struct Fifth {
    pub people: usize,
    pub least: f64,
    pub most: f64,
    pub buyers: usize,
    /// Wilson's interval of the share who bought, at 95%.
    pub lower: f64,
    pub upper: f64,
}

/// The people in fifths, the highest score first. People of the same score stay together, so fifths
/// may be uneven, and fewer than five where many have the same.
#[must_use]
pub fn fifths(people: &[(f64, bool)]) -> Vec<Fifth> {
    let mut sorted: Vec<&(f64, bool)> = people.iter().collect();
    sorted.sort_by(|a, b| b.0.total_cmp(&a.0));
    let (mut out, mut from) = (Vec::new(), 0);
    for fifth in 1..=5 {
        let mut to = (sorted.len() * fifth).div_ceil(5);
        while to < sorted.len() && to > 0 && sorted[to].0 == sorted[to - 1].0 {
            to += 1;
        }
        if to <= from {
            continue;
        }
        let group = &sorted[from..to];
        let buyers = group.iter().filter(|p| p.1).count();
        let arm = Arm { successes: buyers as u64, trials: group.len() as u64 };
        let (lower, upper) = proportion_interval(arm, 0.95, Method::Wilson).map_or((0.0, 1.0), |i| (i.lower, i.upper));
        out.push(Fifth { people: group.len(), least: group[group.len() - 1].0, most: group[0].0, buyers, lower, upper });
        from = to;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn order_of_arrival_changes_nothing(entries in prop::collection::vec((-50i32..50, 0i64..400), 1..20), half in prop::option::of(1.0f64..200.0), turn in 0usize..20) {
            let put = |order: &[(i32, i64)]| {
                let mut s = Standing::default();
                order.iter().for_each(|(p, day)| s.add(f64::from(*p), Instant::of(day * DAY), half));
                s
            };
            let mut turned = entries.clone();
            turned.rotate_left(turn % entries.len());
            let now = Instant::of(401 * DAY);
            prop_assert!((put(&entries).at(now, half) - put(&turned).at(now, half)).abs() < 2e-6);
            // By the definition, entry by entry.
            let sum: f64 = entries.iter().map(|(p, day)| f64::from(*p) * half.map_or(1.0, |h| 0.5f64.powf((401 - day) as f64 / h))).sum();
            prop_assert!((put(&entries).at(now, half) - sum).abs() < 2e-6);
        }

        #[test]
        fn taking_an_entry_back_leaves_nothing_of_it(before in prop::collection::vec((1i32..50, 0i64..100), 0..6), points in 1i32..50, day in 0i64..100, half in prop::option::of(1.0f64..50.0)) {
            let mut s = Standing::default();
            before.iter().for_each(|(p, d)| s.add(f64::from(*p), Instant::of(d * DAY), half));
            let as_it_was = s.at(Instant::of(100 * DAY), half);
            s.add(f64::from(points), Instant::of(day * DAY), half);
            s.add(-f64::from(points), Instant::of(day * DAY), half);
            prop_assert!((s.at(Instant::of(100 * DAY), half) - as_it_was).abs() < 2e-6);
        }

        #[test]
        fn ranking_counts_pairs(people in prop::collection::vec((0u8..6, any::<bool>()), 2..40)) {
            let people: Vec<(f64, bool)> = people.into_iter().map(|(s, b)| (f64::from(s), b)).collect();
            let (mut won, mut pairs) = (0.0, 0.0);
            for a in people.iter().filter(|p| p.1) {
                for b in people.iter().filter(|p| !p.1) {
                    pairs += 1.0;
                    won += if a.0 > b.0 { 1.0 } else if a.0 < b.0 { 0.0 } else { 0.5 };
                }
            }
            match ranking(&people) {
                None => prop_assert!(pairs == 0.0),
                Some(r) => {
                    prop_assert!((r.share - won / pairs).abs() < 1e-12);
                    prop_assert!(r.lower <= r.share && r.share <= r.upper);
                }
            }
            let fifths = fifths(&people);
            prop_assert_eq!(fifths.iter().map(|f| f.people).sum::<usize>(), people.len());
            prop_assert!(fifths.windows(2).all(|w| w[0].least > w[1].most), "nobody stands between two fifths");
        }
    }

    #[test]
    fn half_is_left_after_a_half_life() {
        let mut s = Standing::default();
        s.add(8.0, Instant::of(0), Some(30.0));
        assert_eq!([0, 30, 60, 90].map(|d| s.at(Instant::of(d * DAY), Some(30.0))), [8.0, 4.0, 2.0, 1.0]);
        assert_eq!(s.at(Instant::of(900 * DAY), None), 8.0);
    }
}
