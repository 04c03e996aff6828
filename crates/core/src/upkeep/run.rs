//! Cleaning runs: what they are for, how far they are, and how far they are with each person.

use super::MailStatus;
use crate::{DAY, Instant};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What somebody becomes by a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Becomes {
    Active = 0,
    Resting = 1,
    Observed = 2,
    Retired = 3,
    /// No marketing, for silence; service mail and consent stay.
    Sunset = 4,
    /// Keeps getting mail, to measure what sunset costs.
    KeptBack = 5,
    /// The profile goes, a tombstone stays; it can't be undone.
    Deleted = 6,
}

impl Becomes {
    pub const ALL: [Self; 7] = [Self::Active, Self::Resting, Self::Observed, Self::Retired, Self::Sunset, Self::KeptBack, Self::Deleted];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Sunset => "sunset",
            Self::KeptBack => "kept back",
            Self::Deleted => "deleted",
            Self::Active | Self::Resting | Self::Observed | Self::Retired => self.status().map_or("", MailStatus::words),
        }
    }

    /// The mail status, where it is one.
    #[must_use]
    pub fn status(self) -> Option<MailStatus> {
        MailStatus::ALL.into_iter().find(|s| Self::from(*s) == self)
    }
}

impl From<MailStatus> for Becomes {
    fn from(s: MailStatus) -> Self {
        match s {
            MailStatus::Active => Self::Active,
            MailStatus::Resting => Self::Resting,
            MailStatus::Observed => Self::Observed,
            MailStatus::Retired => Self::Retired,
        }
    }
}

/// The days on which a run is proposed by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "every", rename_all = "snake_case")]
#[schema(as = CleaningEvery)]
pub enum Every {
    /// On a day of the week: 0 is Monday.
    Week {
        #[schema(maximum = 6)]
        weekday: u8,
    },
    /// On the first of the month.
    Month,
}

impl Every {
    /// Does a day of it fall after `last` and no later than `today`? Days since 1970-01-01, by UTC: a machine that was off makes up for it.
    #[must_use]
    pub fn falls_between(self, last: i64, today: i64) -> bool {
        // A month has a first in any 31 days, a week each of its days.
        (last.max(today - 31) + 1..=today).any(|day| match self {
            Self::Week { weekday } => (day + 3).rem_euclid(7) == i64::from(weekday),
            Self::Month => Instant::of(day * DAY).iso().get(8..10) == Some("01"),
        })
    }

    #[must_use]
    pub fn words(self) -> String {
        const DAYS: [&str; 7] = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
        match self {
            Self::Week { weekday } => format!("each {}", DAYS[usize::from(weekday.min(6))]),
            Self::Month => "on the first of each month".to_owned(),
        }
    }
}

/// What a run is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = CleaningKind)]
pub enum Kind {
    /// Decides on what is due: addresses to retire, silent people, addresses to delete.
    Due,
    /// Brings a version of the policy into force.
    Policy,
}

/// How far a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RunState {
    /// People are being put on it.
    Proposing,
    Proposed,
    Applying,
    Applied,
    Undoing,
    /// Everybody who could be put back was.
    Undone,
    /// Nothing came of it.
    Dropped,
}

/// How far a run is with a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum MemberState {
    Proposed = 0,
    /// A person took them out: they stay as they are.
    TakenOut = 1,
    Applied = 2,
    PutBack = 3,
    /// Something happened to them since: they stay as the run left them.
    NotPutBack = 4,
    /// They stayed as they were when the run was applied.
    Stayed = 5,
    /// They had changed before the run was applied: it left them alone.
    Changed = 6,
    /// About to be put back.
    Undoing = 7,
}

impl MemberState {
    pub const ALL: [Self; 8] =
        [Self::Proposed, Self::TakenOut, Self::Applied, Self::PutBack, Self::NotPutBack, Self::Stayed, Self::Changed, Self::Undoing];
}

crate::code::coded!(Becomes, "what somebody becomes by a cleaning run");
crate::code::coded!(MemberState, "state of somebody on a cleaning run");

crate::code::worded!(Kind, "kind of cleaning run", Due => "due", Policy => "policy");
crate::code::worded!(RunState, "state of a cleaning run", Proposing => "proposing", Proposed => "proposed", Applying => "applying", Applied => "applied",
    Undoing => "undoing", Undone => "undone", Dropped => "dropped");

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// 16 April 2026 is day 20,559, a Thursday.
    #[rstest]
    #[case(Every::Week { weekday: 3 }, 20_558, 20_559, true)]
    #[case(Every::Week { weekday: 3 }, 20_559, 20_559, false)]
    #[case(Every::Week { weekday: 0 }, 20_556, 20_559, false)]
    #[case(Every::Week { weekday: 0 }, 20_548, 20_559, true)]
    // The machine was off for a year.
    #[case(Every::Month, 20_200, 20_559, true)]
    #[case(Every::Month, 20_544, 20_573, false)]
    #[case(Every::Month, 20_544, 20_574, true)]
    fn a_day_of_the_schedule_is_met_once(#[case] every: Every, #[case] last: i64, #[case] today: i64, #[case] due: bool) {
        assert_eq!(every.falls_between(last, today), due, "{}", every.words());
    }

    #[test]
    fn what_somebody_becomes_is_a_status_or_more() {
        for b in Becomes::ALL {
            assert!(!b.words().is_empty());
            assert_eq!(b.status().is_some(), (b as u8) < 4);
        }
    }
}
