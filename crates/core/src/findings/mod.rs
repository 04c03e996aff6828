//! Past mailings by what they have in common: the groupings, how sure a group's rate is, which group is best, and what is outside the norm.
//! Nothing of this was left to chance as it happened, and every word says so.

pub mod best;
pub mod norm;

use crate::report::LEVEL;
use crate::stats::Arm;
use crate::stats::cluster_rate::cluster_rate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// By what messages are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum By {
    Mailing,
    /// Of the first handover: the day …
    Day,
    Week,
    Month,
    Weekday,
    /// Six hours each.
    PartOfDay,
    Hour,
    Topic,
    Letterhead,
    Label,
    Class,
    Channel,
    /// The list, and the segment, that the mailing went to.
    List,
    Segment,
    Series,
    Arm,
    /// Of the recipient, as it was when the message was handed over.
    Domain,
    Country,
    Source,
}

impl By {
    pub const ALL: [Self; 19] = [
        Self::Mailing,
        Self::Day,
        Self::Week,
        Self::Month,
        Self::Weekday,
        Self::PartOfDay,
        Self::Hour,
        Self::Topic,
        Self::Letterhead,
        Self::Label,
        Self::Class,
        Self::Channel,
        Self::List,
        Self::Segment,
        Self::Series,
        Self::Arm,
        Self::Domain,
        Self::Country,
        Self::Source,
    ];

    /// In a sentence: "by weekday".
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Mailing => "mailing",
            Self::Day => "day",
            Self::Week => "week",
            Self::Month => "month",
            Self::Weekday => "weekday",
            Self::PartOfDay => "part of the day",
            Self::Hour => "hour",
            Self::Topic => "topic",
            Self::Letterhead => "letterhead",
            Self::Label => "label",
            Self::Class => "class",
            Self::Channel => "channel",
            Self::List => "list",
            Self::Segment => "segment",
            Self::Series => "series",
            Self::Arm => "arm",
            Self::Domain => "mailbox domain",
            Self::Country => "country",
            Self::Source => "source",
        }
    }

    /// Is it told by a clock?
    #[must_use]
    pub fn of_time(self) -> bool {
        matches!(self, Self::Day | Self::Week | Self::Month | Self::Weekday | Self::PartOfDay | Self::Hour)
    }
}

/// By whose clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Clock {
    /// Each recipient's own; the letterhead's where none is known.
    #[default]
    Recipients,
    Utc,
}

/// From fewer mailings nothing is said about a group beyond its own messages.
pub const LEAST_MAILINGS: usize = 6;

/// The limits of a rate over mailings, which differ from each other more than chance among people makes them: the unit is the mailing.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct OverMailings {
    pub lower: f64,
    pub upper: f64,
    /// How many times the variance among people it is.
    pub design_effect: f64,
}

/// A group's limits with the mailing as the unit; none of too few mailings, or where every message or none is counted.
#[must_use]
pub fn over_mailings(mailings: &[Arm]) -> Option<OverMailings> {
    let with: Vec<Arm> = mailings.iter().copied().filter(|a| a.trials > 0).collect();
    if with.len() < LEAST_MAILINGS {
        return None;
    }
    let r = cluster_rate(&with, LEVEL).ok()?;
    Some(OverMailings { lower: r.lower?, upper: r.upper?, design_effect: r.design_effect? })
}
