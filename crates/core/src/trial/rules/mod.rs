//! The versions of the rule that turns counts into a verdict: one for the reading, the rehearsal and every simulation. A trial is read by
//! the version that it was sealed with, whatever came after; a new one is a file of its own here, and the earlier ones stay.

mod first;

use super::metric::Metric;
use super::plan::Plan;
use super::reading::Verdict;
use super::stretches::Counted;
use crate::stats::StatsError;

/// The version that trials are sealed with now. It rises when assignment, the response rules or the decision change.
pub const LATEST: u32 = 4;

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

    /// The verdict on an unbroken trial, and another arm that beat the control too, if there is one. `stopped`: arms that are never called.
    ///
    /// # Errors
    /// When an arm is empty.
    pub fn decide(self, plan: &Plan, counted: Counted<'_>, stopped: &[usize]) -> Result<(Verdict, Option<usize>), StatsError> {
        first::decide(plan, counted, stopped)
    }
}

/// The verdict by the latest version.
///
/// # Errors
/// When an arm is empty.
pub fn decide(plan: &Plan, counted: Counted<'_>, stopped: &[usize]) -> Result<(Verdict, Option<usize>), StatsError> {
    Rule::latest().decide(plan, counted, stopped)
}
