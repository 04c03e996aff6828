//! Trials that people enter one by one, as they come to a step of a series, until each arm is as large as planned.
//!
//! Anybody who comes is given an arm by the plain keyed hash. When the shares change, an arm is stopped or another one is
//! let in, a new *stretch* begins. Those who come in another month are other people, so a reading compares only those
//! who came in the same stretch, and adds the stretches up: pooled, an arm that was given more people in a good month
//! would look better than it is.

use super::assign::on_entry;
use super::companies::Design;
use super::compare::Money;
use super::decide::pairs;
use super::plan::{LEAST_PER_ARM, MOST_PARTS, PlanError};
use super::reading::{ArmCounts, BeforeGroup};
use crate::id::ContactId;
use crate::stats::agreeing::LimitsOfFew;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How long after a call those who come are watched, so that it can be held against what was found: the winner's people, and
/// the twentieth that gets the no-call choice. Then all get what was called.
pub const ROLLOUT_WATCHED: i64 = 90 * crate::DAY;

/// What was counted of those who came in one stretch.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StretchCounts {
    /// The parts that each arm had; 0: it was closed.
    pub parts: Vec<u32>,
    pub counts: Vec<ArmCounts>,
}

/// What was counted in all, and, where people came one by one, stretch by stretch.
#[derive(Debug, Clone, Copy)]
pub struct Counted<'a> {
    pub all: &'a [ArmCounts],
    /// Empty: everybody was drawn at once.
    pub stretches: &'a [StretchCounts],
    /// Of revenue: what people brought, where more is known than sums.
    pub money: Option<Money<'a>>,
    /// What people did before the trial, arm by arm; empty: it isn't used.
    pub before: &'a [Vec<BeforeGroup>],
    /// How much less sure comparisons are for companies whose people answer alike; empty: it isn't known.
    pub design: &'a [Design],
    /// The limits where few did it.
    pub few: LimitsOfFew,
}

/// Two arms in each stretch that both were open in: base, arm.
pub type Concurrent<'a> = Vec<(&'a ArmCounts, &'a ArmCounts)>;

impl<'a> From<&'a [ArmCounts]> for Counted<'a> {
    fn from(all: &'a [ArmCounts]) -> Self {
        Self::over(all, &[])
    }
}

impl<'a> Counted<'a> {
    /// What was counted in all and in each stretch.
    #[must_use]
    pub fn over(all: &'a [ArmCounts], stretches: &'a [StretchCounts]) -> Self {
        Self { all, stretches, money: None, before: &[], design: &[], few: LimitsOfFew::default() }
    }

    /// The people of two arms who came at the same time; empty: they never were open together.
    #[must_use]
    pub fn concurrent(&self, base: usize, arm: usize) -> Concurrent<'a> {
        let both =
            |counts: &'a [ArmCounts]| Some((counts.get(base)?, counts.get(arm)?)).filter(|(b, a)| b.observed() > 0 && a.observed() > 0);
        match self.stretches {
            [] => both(self.all).into_iter().collect(),
            all => all.iter().filter_map(|s| both(&s.counts)).collect(),
        }
    }

    /// The pairs that can be compared: those that were open at the same time.
    #[must_use]
    pub fn pairs(&self, control: Option<usize>) -> Vec<(usize, usize)> {
        pairs(self.all.len(), control).into_iter().filter(|(b, a)| !self.concurrent(*b, *a).is_empty()).collect()
    }

    /// The open arms of each stretch, each with its parts; `parts`: those of everybody where there are no stretches.
    pub(super) fn open(&self, parts: &[u32]) -> Vec<Vec<(&'a ArmCounts, u32)>> {
        let of = |counts: &'a [ArmCounts], parts: &[u32]| counts.iter().zip(parts.iter().copied()).filter(|(_, p)| *p > 0).collect();
        match self.stretches {
            [] => vec![of(self.all, parts)],
            all => all.iter().filter(|s| s.counts.iter().any(|c| c.assigned > 0)).map(|s| of(&s.counts, &s.parts)).collect(),
        }
    }

    /// Arms that were open, and aren't in the last stretch: they were stopped.
    #[must_use]
    pub fn closed(&self) -> Vec<usize> {
        let Some(last) = self.stretches.last() else { return Vec::new() };
        let was_open = |i: usize| self.stretches.iter().any(|s| s.parts.get(i).is_some_and(|p| *p > 0));
        (0..last.parts.len()).filter(|i| last.parts[*i] == 0 && was_open(*i)).collect()
    }
}

/// Are these the parts of a stretch?
///
/// # Errors
/// With what is wrong and what to do.
pub fn check_parts(parts: &[u32], arms: usize, keep: &[usize]) -> Result<(), PlanError> {
    if parts.len() != arms || parts.iter().any(|p| *p > MOST_PARTS) {
        return Err(PlanError::StretchParts(arms));
    }
    if parts.iter().filter(|p| **p > 0).count() < 2 {
        return Err(PlanError::OneOpen);
    }
    match keep.iter().find(|arm| parts.get(**arm).is_some_and(|p| *p == 0)) {
        Some(arm) => Err(PlanError::MustStayOpen(super::letter(*arm))),
        None => Ok(()),
    }
}

/// Is every open arm as large as planned? `enrolled`: of each arm, over all stretches.
#[must_use]
pub fn full(per_arm: u64, parts: &[u32], enrolled: &[u64]) -> bool {
    parts.iter().zip(enrolled).all(|(p, n)| *p == 0 || *n >= per_arm)
}

/// People in the smallest of the open arms. `enrolled`: of each arm, over all stretches.
#[must_use]
pub fn least_open(parts: &[u32], enrolled: &[u64]) -> u64 {
    parts.iter().zip(enrolled).filter(|(p, _)| **p > 0).map(|(_, n)| *n).min().unwrap_or(0)
}

/// What was counted of each arm over all stretches.
#[must_use]
pub fn added_up(stretches: &[StretchCounts]) -> Vec<ArmCounts> {
    let arms = stretches.first().map_or(0, |s| s.counts.len());
    (0..arms).map(|i| stretches.iter().fold(ArmCounts::default(), |sum, s| sum.with(&s.counts[i]))).collect()
}

/// In how many days every open arm will be as large as planned, when so many people come a day; none: when nobody comes.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn days_left(per_arm: u64, parts: &[u32], enrolled: &[u64], a_day: f64) -> Option<f64> {
    let all: u32 = parts.iter().sum();
    let open = parts.iter().zip(enrolled).filter(|(p, _)| **p > 0);
    (a_day > 0.0 && all > 0).then(|| {
        let days = |(p, n): (&u32, &u64)| per_arm.saturating_sub(*n) as f64 * f64::from(all) / (f64::from(*p) * a_day);
        open.map(days).fold(0.0, f64::max)
    })
}

/// How many people take part in all, when the smallest arm of the first stretch has as many as planned.
#[must_use]
pub fn people(per_arm: u64, parts: &[u32]) -> u64 {
    let least = parts.iter().copied().filter(|p| *p > 0).min().unwrap_or(1);
    parts.iter().map(|p| (per_arm * u64::from(*p)).div_ceil(u64::from(least))).sum()
}

/// Is a planned number per arm one that can be read?
///
/// # Errors
/// When it is too small, or absurd.
pub(super) fn check_number(per_arm: u64) -> Result<(), PlanError> {
    if (LEAST_PER_ARM..=1_000_000).contains(&per_arm) { Ok(()) } else { Err(PlanError::PerArm(per_arm)) }
}

/// The arm of somebody on the roster, computed again. `stretches`: the parts of each.
#[must_use]
pub fn recomputed(seed: u64, contact: ContactId, stretch: usize, stretches: &[Vec<u32>]) -> Option<usize> {
    stretches.get(stretch).map(|parts| on_entry(seed, contact, parts))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::decide::{compare, contrast, contrast_over};
    use crate::trial::plan::Plan;
    use crate::trial::plan::tests::goal;
    use crate::trial::reading::{Beside, Verdict, read};
    use crate::trial::rules::decide;
    use proptest::prelude::*;

    fn plan() -> Plan {
        Plan { per_arm: Some(1_000), effect: 0.03, ..Plan::usual("?") }
    }

    fn of(assigned: u64, primary: u64) -> ArmCounts {
        ArmCounts { assigned, handed_over: assigned, accepted: assigned, primary, reported: primary, ..ArmCounts::default() }
    }

    fn stretch<const N: usize>(parts: [u32; N], counts: [(u64, u64); N]) -> StretchCounts {
        StretchCounts { parts: parts.to_vec(), counts: counts.map(|(n, x)| of(n, x)).to_vec() }
    }

    #[test]
    fn a_good_month_with_more_people_in_one_arm_is_no_effect() {
        // 10% answer in the first month and 30% in the second, whichever arm; B gets four in five then.
        let stretches = [stretch([1, 1], [(2_000, 200), (2_000, 200)]), stretch([1, 4], [(1_000, 300), (4_000, 1_200)])];
        let all = added_up(&stretches);
        let pooled = contrast(&plan(), &all[0], &all[1], 0.95).unwrap();
        assert!(pooled.difference > 0.06 && pooled.p_value < 1e-6, "pooled, B looks better: {pooled:?}");
        let beside = Beside { assignment_holds: true, stretches: stretches.to_vec(), ..Beside::default() };
        let r = read(&plan(), &all, &beside).unwrap();
        assert!(
            r.verdict == Verdict::TooCloseToMatter && r.pairs[0].difference.abs() < 1e-12 && r.pairs[0].adjusted_p > 0.999,
            "{}",
            r.sentence
        );
        assert!(r.sizes.p_value > 0.999 && r.sizes.df == 2 && r.bayes.is_none() && r.omnibus.is_none());
        assert!(r.notes.is_empty() && r.remarks[0].contains("2 stretches"), "{:?}", r.remarks);
    }

    #[test]
    fn arms_that_were_never_open_together_are_not_compared_and_a_stopped_one_is_not_called() {
        let stretches =
            [stretch([1, 1, 0], [(3_000, 600), (3_000, 900), (0, 0)]), stretch([1, 0, 1], [(3_000, 600), (0, 0), (3_000, 720)])];
        let (all, beside) = (added_up(&stretches), Beside { assignment_holds: true, stretches: stretches.to_vec(), ..Beside::default() });
        let r = read(&plan(), &all, &beside).unwrap();
        assert_eq!(r.pairs.iter().map(|p| (p.base, p.arm)).collect::<Vec<_>>(), [(0, 1), (0, 2)]);
        // B beat A by more, and was stopped; C beat A while it was open.
        assert_eq!(r.verdict, Verdict::Called(2), "{}", r.sentence);
        assert!(r.remarks.iter().any(|n| n.starts_with("B was taken out on the way")), "{:?}", r.remarks);
        assert!((r.pairs[1].primary.difference - 0.04).abs() < 1e-12);
    }

    #[test]
    fn harm_in_any_stretch_counts_and_no_harm_anywhere_is_not_surely_none() {
        let harmful = |left: [u64; 2]| {
            let mut s = [stretch([1, 1], [(2_000, 400), (2_000, 520)]), stretch([1, 3], [(1_000, 200), (3_000, 780)])];
            for (s, left) in s.iter_mut().zip([left, left]) {
                (s.counts[0].left, s.counts[1].left) = (left[0], left[1]);
            }
            let beside = Beside { assignment_holds: true, stretches: s.to_vec(), ..Beside::default() };
            read(&plan(), &added_up(&s), &beside).unwrap()
        };
        assert_eq!(harmful([4, 6]).verdict, Verdict::Called(1));
        assert_eq!(harmful([4, 90]).verdict, Verdict::CantTell, "it drives people away");
        let none = &harmful([0, 0]).pairs[0].guardrails[1];
        assert!(
            none.comparison.lower < 0.0 && none.comparison.upper > 0.0005,
            "nobody complained, which isn't that nobody would: {none:?}"
        );
    }

    #[test]
    fn money_over_stretches_is_added_up_too() {
        let money = Plan { metric: crate::trial::metric::Metric::Revenue, goal: goal("GBP"), effect: 1.0, ..plan() };
        let paid = |n: u64, mean: f64| ArmCounts { sum: n as f64 * mean, squares: n as f64 * (mean * mean + 100.0), ..of(n, 0) };
        let strata = [(paid(2_000, 1.0), paid(2_000, 1.5)), (paid(1_000, 4.0), paid(4_000, 4.5))];
        let c = contrast_over(&money, &strata.iter().map(|(a, b)| (a, b)).collect::<Vec<_>>(), 0.95).unwrap();
        // Weights 1,000 and 800; variances 0.1 and 0.125: a standard error of 0.2369.
        assert!((c.difference - 0.5).abs() < 1e-12 && (c.upper - c.lower - 2.0 * 1.9604 * 0.2357).abs() < 2e-3, "{c:?}");
        assert!((0.03..0.04).contains(&c.p_value), "{c:?}");
    }

    proptest! {
        /// One stretch is a trial like any other, and cutting it in two at random moves nothing much.
        #[test]
        fn one_stretch_is_no_stretch(x in 50u64..400, y in 50u64..400, cut in 0.2f64..0.8) {
            let all = [of(1_000, x), of(1_000, y)];
            let (plain, one) = (compare(&plan(), (&all[..]).into()).unwrap(), [stretch([1, 1], [(1_000, x), (1_000, y)])]);
            prop_assert_eq!(&plain, &compare(&plan(), Counted::over(&all, &one)).unwrap());
            prop_assert_eq!(decide(&plan(), (&all[..]).into(), &[]).unwrap(), decide(&plan(), Counted::over(&all, &one), &[]).unwrap());
            let first = |n: u64| (n as f64 * cut) as u64;
            let (n, a, b) = (first(1_000), first(x), first(y));
            let two = [stretch([1, 1], [(n, a), (n, b)]), stretch([1, 1], [(1_000 - n, x - a), (1_000 - n, y - b)])];
            let cut = &compare(&plan(), Counted::over(&all, &two)).unwrap()[0];
            prop_assert!((cut.difference - plain[0].difference).abs() < 1e-9);
            prop_assert!(((cut.upper - cut.lower) / (plain[0].upper - plain[0].lower) - 1.0).abs() < 0.05, "{cut:?} {plain:?}");
        }

        /// Arms turned around turn the comparison around.
        #[test]
        fn turned_around(counts in prop::collection::vec((40u64..900, 40u64..900, 0.05f64..0.9, 0.05f64..0.9), 1..4)) {
            let strata: Vec<(ArmCounts, ArmCounts)> = counts.iter().map(|&(n, m, p, q)| (of(n, (n as f64 * p) as u64), of(m, (m as f64 * q) as u64))).collect();
            let forth = contrast_over(&plan(), &strata.iter().map(|(a, b)| (a, b)).collect::<Vec<_>>(), 0.95).unwrap();
            let back = contrast_over(&plan(), &strata.iter().map(|(a, b)| (b, a)).collect::<Vec<_>>(), 0.95).unwrap();
            prop_assert!((forth.difference + back.difference).abs() < 1e-12 && (forth.lower + back.upper).abs() < 1e-12 && (forth.p_value - back.p_value).abs() < 1e-9);
            prop_assert!(forth.lower <= forth.difference && forth.difference <= forth.upper);
        }

        /// It is full when nothing is left to wait for; the people planned are enough for every arm, and one arm has no more.
        #[test]
        fn full_when_no_day_is_left(per_arm in 30u64..5_000, parts in prop::collection::vec(0u32..=10, 2..6), enrolled in prop::collection::vec(0u64..6_000, 6), a_day in 0.1f64..500.0) {
            prop_assume!(parts.iter().any(|p| *p > 0));
            let enrolled = &enrolled[..parts.len()];
            prop_assert_eq!(full(per_arm, &parts, enrolled), days_left(per_arm, &parts, enrolled, a_day) == Some(0.0));
            prop_assert!(days_left(per_arm, &parts, enrolled, 0.0).is_none());
            let (all, total) = (people(per_arm, &parts), parts.iter().sum::<u32>());
            let smallest = parts.iter().filter(|p| **p > 0).map(|p| all * u64::from(*p) / u64::from(total)).min().unwrap();
            prop_assert!((per_arm..=per_arm + 1).contains(&smallest), "{smallest} of {per_arm}");
        }
    }
}
