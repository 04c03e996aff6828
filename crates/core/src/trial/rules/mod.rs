//! The versions of the rule that turns counts into a verdict: one for the reading, the rehearsal and every simulation. A trial is read by
//! the version that it was sealed with, whatever came after; a new one is a file of its own here, and the earlier ones stay.

mod fifth;
mod first;

use super::compare;
use super::crossed::{self, Margin};
use super::decide::{self, Compared, breached, level_of, tells};
use super::metric::Metric;
use super::plan::Plan;
use super::reading::{ArmCounts, Verdict};
use super::stretches::Counted;
use crate::stats::StatsError;
use crate::stats::agreeing::LimitsOfFew;
use std::cmp::Ordering;

/// The version that trials are sealed with now. It rises when assignment, the response rules or the decision change.
pub const LATEST: u32 = 6;

/// A version of the rule.
#[derive(Debug, Clone, Copy)]
pub struct Rule {
    version: u32,
}

impl Rule {
    /// Of trials from before there were versions, 0; none of a version that only a newer Rinse knows.
    #[must_use]
    pub fn of(version: u32) -> Option<Self> {
        (version <= LATEST).then_some(Self { version })
    }

    #[must_use]
    pub fn latest() -> Self {
        Self { version: LATEST }
    }

    /// Is a trial on opens of those alone whose opens can be known? Before version 4 it was of everybody, as if the others had not opened.
    #[must_use]
    pub fn of_known_opens(self) -> bool {
        self.version >= 4
    }

    /// Are the people of a plan's primary those alone of whom it can be known?
    #[must_use]
    pub fn leaves_unknown_out(self, plan: &Plan) -> bool {
        plan.metric == Metric::HumanOpen && self.of_known_opens()
    }

    /// Do limits and tests agree, and does money go by drawing the arms again? Since version 5.
    #[must_use]
    pub fn by_limits(self) -> bool {
        self.version >= 5
    }

    /// With the limits that this version takes where few did it: since version 6 the exact test turned around.
    fn with_limits(self, counted: Counted<'_>) -> Counted<'_> {
        Counted { few: if self.version >= 6 { LimitsOfFew::Inverted } else { LimitsOfFew::Extended }, ..counted }
    }

    /// These comparisons of the primary, adjusted for all of them together.
    ///
    /// # Errors
    /// When an arm is empty.
    pub fn compare_pairs(self, plan: &Plan, counted: Counted<'_>, pairs: &[(usize, usize)]) -> Result<Vec<Compared>, StatsError> {
        if self.by_limits() {
            compare::compare_pairs(plan, self.with_limits(counted), pairs)
        } else {
            decide::compare_pairs(plan, counted, pairs)
        }
    }

    /// All comparisons that the verdict goes by: of all pairs, or with the control, those that were open at the same time. Of two changes at
    /// once there are none, but where they don't add up: then each arm is compared with what goes out on no call.
    ///
    /// # Errors
    /// When an arm is empty.
    pub fn compare(self, plan: &Plan, counted: Counted<'_>) -> Result<Vec<Compared>, StatsError> {
        if plan.crossed.is_none() {
            return self.compare_pairs(plan, counted, &counted.pairs(plan.control));
        }
        if self.by_limits() && crossed::interaction(plan, counted.all)? < plan.alpha {
            return crossed::arm_by_arm(plan, self.with_limits(counted));
        }
        Ok(Vec::new())
    }

    /// What each of two changes does, over everybody; of a plan that doesn't cross two there is nothing.
    ///
    /// # Errors
    /// When an arm is empty.
    pub fn margins(self, plan: &Plan, counted: Counted<'_>) -> Result<Vec<Margin>, StatsError> {
        match (plan.crossed.is_some(), self.by_limits()) {
            (false, _) => Ok(Vec::new()),
            (true, true) => crossed::margins_by_limits(plan, self.with_limits(counted)),
            (true, false) => crossed::margins(plan, counted.all),
        }
    }

    /// The verdict on an unbroken trial, and another arm that beat the control too, if there is one. `found`: by [`Rule::compare`]
    /// and [`Rule::margins`]; `stopped`: arms that are never called.
    ///
    /// # Errors
    /// When an arm is empty.
    pub fn decide(
        self,
        plan: &Plan,
        counted: Counted<'_>,
        found: (&[Compared], &[Margin]),
        stopped: &[usize],
    ) -> Result<(Verdict, Option<usize>), StatsError> {
        if self.by_limits() { fifth::decide(plan, counted, found, stopped) } else { first::decide(plan, counted, found, stopped) }
    }
}

/// The order of arms by the primary, the better one greater; of two alike the earlier.
fn by_rate(plan: &Plan, counts: &[ArmCounts], a: usize, b: usize) -> Ordering {
    let good = |i: usize| plan.metric.sign() * level_of(plan, &counts[i]);
    good(a).total_cmp(&good(b)).then(b.cmp(&a))
}

/// A trial to earn: the better one goes out, whatever the difference; it is never called proven.
fn earned(plan: &Plan, counts: &[ArmCounts], stopped: &[usize]) -> Result<Verdict, StatsError> {
    let mut open = Vec::new();
    for i in (0..counts.len()).filter(|i| !stopped.contains(i)) {
        let mut harms = false;
        for j in (0..counts.len()).filter(|j| *j != i) {
            harms |= breached(plan, &[(&counts[j], &counts[i])])?;
        }
        if !harms {
            open.push(i);
        }
    }
    Ok(open.into_iter().max_by(|a, b| by_rate(plan, counts, *a, *b)).map_or(Verdict::CantTell, Verdict::Ahead))
}

/// Is whatever difference there is too small to matter, or can't it be told?
fn no_call(plan: &Plan, counts: &[ArmCounts], compared: &[Compared]) -> Verdict {
    let inside = tells(plan, counts) && !compared.is_empty() && compared.iter().all(|c| c.lower > -plan.effect && c.upper < plan.effect);
    let quiet = compared.iter().all(|c| c.adjusted_p >= plan.level());
    if inside && quiet { Verdict::TooCloseToMatter } else { Verdict::CantTell }
}

/// The verdict by the latest version, at the end.
///
/// # Errors
/// When an arm is empty.
pub fn decide(plan: &Plan, counted: Counted<'_>, stopped: &[usize]) -> Result<(Verdict, Option<usize>), StatsError> {
    let plan = &plan.at_end(counted.all.len())?;
    let rule = Rule::latest();
    rule.decide(plan, counted, (&rule.compare(plan, counted)?, &rule.margins(plan, counted)?), stopped)
}
