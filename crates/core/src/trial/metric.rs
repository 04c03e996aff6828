//! What a trial compares, and what differs between its variants.

use serde::{Deserialize, Serialize};

/// What is compared. The denominator is always everyone assigned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Metric {
    HumanOpen,
    HumanClick,
    Reply,
    /// People who met the goal, whatever they followed.
    Conversion,
    /// What people brought by the goal, refunds taken off: a mean a person.
    Revenue,
    /// People who left a topic or a series, paused, withdrew or complained: fewer is better.
    Leaving,
    /// The parts of leaving, each alone.
    LeavingTopic,
    Pausing,
    Withdrawing,
    Complaining,
}

impl Metric {
    pub const ALL: [Self; 10] = [
        Self::HumanOpen,
        Self::HumanClick,
        Self::Reply,
        Self::Conversion,
        Self::Revenue,
        Self::Leaving,
        Self::LeavingTopic,
        Self::Pausing,
        Self::Withdrawing,
        Self::Complaining,
    ];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::HumanOpen => "human opens",
            Self::HumanClick => "human clicks",
            Self::Reply => "replies",
            Self::Conversion => "people converting",
            Self::Revenue => "revenue",
            Self::Leaving => "people leaving",
            Self::LeavingTopic => "people leaving the topic",
            Self::Pausing => "people pausing",
            Self::Withdrawing => "people withdrawing",
            Self::Complaining => "people complaining",
        }
    }

    /// Is it counted by a goal?
    #[must_use]
    pub fn asks_goal(self) -> bool {
        matches!(self, Self::Conversion | Self::Revenue)
    }

    /// Is it a mean of money rather than a share of people?
    #[must_use]
    pub fn is_money(self) -> bool {
        self == Self::Revenue
    }

    /// 1 where more is better, -1 where fewer is.
    #[must_use]
    pub fn sign(self) -> f64 {
        if self.is_loss() { -1.0 } else { 1.0 }
    }

    /// Leaving, or a part of it: fewer is better.
    #[must_use]
    pub fn is_loss(self) -> bool {
        matches!(self, Self::Leaving | Self::LeavingTopic | Self::Pausing | Self::Withdrawing | Self::Complaining)
    }

    /// Can machines take part in it, so that reported and human figures differ?
    #[must_use]
    pub fn has_machines(self) -> bool {
        matches!(self, Self::HumanOpen | Self::HumanClick)
    }
}

/// What differs between the variants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[schema(as = TrialChange)]
pub enum Change {
    Subject,
    Preheader,
    SenderName,
    ReplyTo,
    Content,
    Offer,
    /// Nothing: the same twice, as a check of ourselves.
    Nothing,
}

impl Change {
    pub const ALL: [Self; 7] = [Self::Subject, Self::Preheader, Self::SenderName, Self::ReplyTo, Self::Content, Self::Offer, Self::Nothing];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Subject => "subject",
            Self::Preheader => "preheader",
            Self::SenderName => "sender name",
            Self::ReplyTo => "reply-to",
            Self::Content => "content",
            Self::Offer => "offer",
            Self::Nothing => "nothing",
        }
    }

    /// Why it can't move a metric; none where it can.
    #[must_use]
    pub fn cannot_move(self, metric: Metric) -> Option<&'static str> {
        match (self, metric) {
            (Self::Content | Self::Offer | Self::ReplyTo, Metric::HumanOpen) => {
                Some("it is seen only once the message is open: count clicks, replies or conversions")
            }
            (Self::ReplyTo, Metric::HumanClick | Metric::Conversion | Metric::Revenue) => {
                Some("where replies go changes who answers: count replies")
            }
            _ => None,
        }
    }
}
