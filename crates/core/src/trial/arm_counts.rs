//! What is counted of an arm: all that a reading, a look or a rehearsal goes by.

use serde::{Deserialize, Serialize};

/// What was counted for an arm.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, utoipa::ToSchema, Deserialize)]
pub struct ArmCounts {
    pub assigned: u64,
    /// Of them, people whose response can't be known: of opens, those of domains that fetch images by themselves. They are in no
    /// primary, and no part of what it is of.
    #[serde(default)]
    pub unknown: u64,
    pub handed_over: u64,
    pub accepted: u64,
    pub bounced: u64,
    /// People with the primary response, human, within their window.
    pub primary: u64,
    /// The same, machines' responses included.
    pub reported: u64,
    pub clicked: u64,
    pub left: u64,
    pub complained: u64,
    /// People of whose responses a machine's came first and was taken out.
    #[serde(default)]
    pub removed: u64,
    /// Of revenue: what all of them brought, and the sum of its squares person by person.
    #[serde(default)]
    pub sum: f64,
    #[serde(default)]
    pub squares: f64,
}

impl ArmCounts {
    /// Two arms together.
    #[must_use]
    pub fn with(&self, other: &Self) -> Self {
        Self {
            assigned: self.assigned + other.assigned,
            unknown: self.unknown + other.unknown,
            handed_over: self.handed_over + other.handed_over,
            accepted: self.accepted + other.accepted,
            bounced: self.bounced + other.bounced,
            primary: self.primary + other.primary,
            reported: self.reported + other.reported,
            clicked: self.clicked + other.clicked,
            left: self.left + other.left,
            complained: self.complained + other.complained,
            removed: self.removed + other.removed,
            sum: self.sum + other.sum,
            squares: self.squares + other.squares,
        }
    }

    /// Those whose primary response can be known: what a rate of it is of.
    #[must_use]
    pub fn observed(&self) -> u64 {
        self.assigned.saturating_sub(self.unknown)
    }

    /// Those with the primary, of those of whom it can be known.
    #[must_use]
    pub fn with_primary(&self) -> crate::stats::Arm {
        crate::stats::Arm { successes: self.primary, trials: self.observed() }
    }

    /// Those who aren't among `some` of them; only what a primary is made of.
    pub(super) fn without(&self, some: &Self) -> Self {
        Self {
            assigned: self.assigned.saturating_sub(some.assigned),
            unknown: self.unknown.saturating_sub(some.unknown),
            primary: self.primary.saturating_sub(some.primary),
            sum: self.sum - some.sum,
            squares: (self.squares - some.squares).max(0.0),
            ..Self::default()
        }
    }
}
