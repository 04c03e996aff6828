//! What a reading rests on beside the counts of its arms: whether it is sound, and what more is known of the people than how many did it.

use super::arm_counts::ArmCounts;
use super::companies::Design;
use super::looks::Stopped;
use super::stretches::StretchCounts;
use serde::{Deserialize, Serialize};

/// What else a reading is made of.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Beside {
    /// The roster equals its recomputation, and everyone got their arm.
    pub assignment_holds: bool,
    /// What differs from the seal, in words.
    pub broken: Option<String>,
    pub stopped: Vec<Stopped>,
    /// Of each stratum, the primary of each arm.
    pub strata: Vec<Vec<crate::stats::Arm>>,
    /// Of each subgroup, in the plan's order, the primary of its people in each arm.
    pub subgroups: Vec<Vec<ArmCounts>>,
    /// Of revenue before version 5 of the rule: what each arm's people brought who brought anything.
    pub values: Vec<Vec<f64>>,
    /// Of revenue since: the same, with all people, by the strata that they were drawn in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub amounts: Vec<Amounts>,
    /// Where the plan uses what people did before: of each arm, people by that, with those who have the primary.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<Vec<BeforeGroup>>,
    /// How much less sure comparisons are for companies whose people answer alike.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub design: Vec<Design>,
    /// In a series whose looks may call: where this reading stands among them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_look: Option<AtLook>,
    /// In a series: its enrolment was ended before the arms were as large as planned, by somebody who could see them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ended_on_sight: bool,
    /// In a series: what was counted of those who came in each stretch.
    #[serde(default)]
    pub stretches: Vec<StretchCounts>,
    /// What else has to be known to understand it.
    #[serde(default)]
    pub remarks: Vec<String>,
}

/// People who did the same before the trial: the share of their last messages that they answered by the plan's metric.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct BeforeGroup {
    pub share: f64,
    pub people: u64,
    pub primary: u64,
}

/// Where a reading stands among looks that may call: what of alpha it decides with, and what was spent by then.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct AtLook {
    /// From 1; the last is the end.
    pub look: usize,
    pub of: usize,
    pub information: f64,
    pub level: f64,
}

/// Of revenue: the people of a stratum, arm by arm, those without mail last, and what those brought who brought anything.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Amounts {
    /// In a series, the stretch that they came in.
    #[serde(default)]
    pub stretch: usize,
    pub people: Vec<u64>,
    pub brought: Vec<Vec<f64>>,
}
