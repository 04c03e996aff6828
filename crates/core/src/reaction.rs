//! Reactions: when a person does something with a message (or hasn't within a time), something follows.
//!
//! Only human responses count. Each reaction happens at most once per cause: a message for what is done
//! with messages, a purchase or an event of its own for the others. A cause that comes late is acted on
//! late, with the instant at which it happened; one from before the reaction was switched on isn't.

use crate::channel::Channel;
use crate::goal::{buys, is_of};
use crate::id::{ListId, MailingId, SeriesId};
use crate::score::can_be_given;
use crate::segment::words::Names;
use crate::words::fold;
use crate::{HOUR, Instant};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Three links followed within three seconds are a machine's, which only shows with the third: a response is
/// acted on when nothing can make it a machine's any more (milliseconds).
pub const SETTLES_AFTER: i64 = 2 * crate::response::LONGEST_BURST;

/// What it waits for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = ReactionTrigger)]
pub enum Trigger {
    Opened,
    /// No human open so many hours after the message was accepted. People whose opens can't be told from a
    /// machine's are left alone: of them it isn't known.
    NotOpened {
        hours: u32,
        /// A later open takes back what was done.
        taken_back: bool,
    },
    /// Any link, or the one at this place of the mailing.
    Clicked {
        link: Option<u32>,
    },
    NotClicked {
        hours: u32,
        link: Option<u32>,
        taken_back: bool,
    },
    Replied,
    /// Left a topic or everything by the message, or complained about it.
    Left,
    /// The address can't be reached, for good.
    Bounced,
    /// An event of this name: an answer to a question, say.
    Answered {
        name: String,
    },
    /// A purchase; refunds don't count.
    Bought {
        product: Option<String>,
        category: Option<String>,
    },
}

/// What follows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = ReactionDeed)]
pub enum Deed {
    Score {
        score: i64,
        points: f64,
    },
    Tag {
        tag: i64,
        /// False: taken off.
        put: bool,
    },
    List {
        list: ListId,
        put: bool,
    },
    /// Sets a custom field, written as an import would.
    Field {
        field: i64,
        value: String,
    },
    Webhook {
        webhook: i64,
    },
    /// Into a series, or out of it.
    Series {
        series: SeriesId,
        put: bool,
    },
    /// For a person, on Today.
    Task {
        words: String,
    },
}

/// A reaction.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Reaction {
    /// Of one mailing; `None`: everywhere.
    pub mailing: Option<MailingId>,
    pub when: Trigger,
    pub then: Vec<Deed>,
}

/// The kinds of responses a trigger can wait for, as far as they are told one by one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Response {
    Open,
    Click(u32),
    Reply,
    Left,
}

impl Trigger {
    /// The hours it waits, and whether what comes later takes it back.
    #[must_use]
    pub fn deadline(&self) -> Option<(i64, bool)> {
        match self {
            Self::NotOpened { hours, taken_back } | Self::NotClicked { hours, taken_back, .. } => {
                Some((i64::from(*hours) * HOUR, *taken_back))
            }
            _ => None,
        }
    }

    /// Is its cause a message, rather than what was done elsewhere?
    #[must_use]
    pub fn of_message(&self) -> bool {
        !matches!(self, Self::Answered { .. } | Self::Bought { .. })
    }

    /// Can it be known of a message on the channel? Nobody can tell whether a text message was opened, its links go as they are
    /// written, and what it can't reach is no address.
    #[must_use]
    pub fn seen_on(&self, channel: Channel) -> bool {
        channel == Channel::Email
            || !matches!(self, Self::Opened | Self::NotOpened { .. } | Self::Clicked { .. } | Self::NotClicked { .. } | Self::Bounced)
    }

    /// Is this human response what it waits for?
    #[must_use]
    pub fn meets(&self, r: Response) -> bool {
        match (self, r) {
            (Self::Opened, Response::Open) | (Self::Replied, Response::Reply) | (Self::Left, Response::Left) => true,
            (Self::Clicked { link }, Response::Click(at)) => link.is_none_or(|l| l == at),
            _ => false,
        }
    }

    /// Is this human response what it waits not to see?
    #[must_use]
    pub fn undone_by(&self, r: Response) -> bool {
        match (self, r) {
            // Anybody who clicks has opened it, whether the images were fetched or not.
            (Self::NotOpened { .. }, Response::Open | Response::Click(_)) => true,
            (Self::NotClicked { link, .. }, Response::Click(at)) => link.is_none_or(|l| l == at),
            _ => false,
        }
    }

    /// Is a purchase of this what it waits for?
    #[must_use]
    pub fn bought(&self, product: &str, category: &str, cents: i64) -> bool {
        matches!(self, Self::Bought { product: p, category: k } if cents >= 0 && is_of((p, k), product, category))
    }

    /// Is an event of this name what it waits for?
    #[must_use]
    pub fn answered(&self, name: &str) -> bool {
        matches!(self, Self::Answered { name: n } if fold(n) == fold(name))
    }

    fn words(&self, mailing: Option<MailingId>, names: &Names) -> String {
        let named = |link: &Option<u32>| match link {
            None => "any link".to_owned(),
            Some(l) => match mailing.and_then(|m| names.links.get(&(m.0, *l))) {
                Some(name) => format!("the link “{name}”"),
                None => format!("link {}", l + 1),
            },
        };
        let later = |taken_back: bool| if taken_back { " (taken back when it comes later)" } else { "" };
        match self {
            Self::Opened => "opens it".into(),
            Self::NotOpened { hours, taken_back } => format!("hasn’t opened it {hours} hours after it came{}", later(*taken_back)),
            Self::Clicked { link } => format!("clicks {}", named(link)),
            Self::NotClicked { hours, link, taken_back } => {
                format!("hasn’t clicked {} {hours} hours after it came{}", named(link), later(*taken_back))
            }
            Self::Replied => "replies".into(),
            Self::Left => "leaves or complains".into(),
            Self::Bounced => "can’t be reached for good".into(),
            Self::Answered { name } => format!("“{name}” happens"),
            Self::Bought { product, category } => buys(product, category),
        }
    }
}

/// The names of what deeds refer to, beside [`Names`].
#[derive(Debug, Clone, Default)]
pub struct DeedNames {
    pub names: Names,
    pub webhooks: std::collections::HashMap<i64, String>,
}

impl Deed {
    #[must_use]
    pub fn words(&self, n: &DeedNames) -> String {
        let of = |map: &std::collections::HashMap<i64, String>, id: &i64| map.get(id).cloned().unwrap_or_else(|| "what is gone".into());
        match self {
            Self::Score { score, points } => {
                format!("{}{} on {}", if *points < 0.0 { '−' } else { '+' }, points.abs(), of(&n.names.scores, score))
            }
            Self::Tag { tag, put } => format!("{} the tag {}", if *put { "put" } else { "take off" }, of(&n.names.tags, tag)),
            Self::List { list, put } => format!("{} the list {}", if *put { "put on" } else { "take off" }, of(&n.names.lists, &list.0)),
            Self::Field { field, value } => format!("set {} to “{}”", of(&n.names.fields, field), value.trim()),
            Self::Webhook { webhook } => format!("tell {}", of(&n.webhooks, webhook)),
            Self::Series { series, put } => {
                format!("{} the series {}", if *put { "put into" } else { "take out of" }, of(&n.names.series, &series.0))
            }
            Self::Task { words } => format!("ask a person: “{}”", words.trim()),
        }
    }
}

impl Reaction {
    /// The reaction as a sentence.
    #[must_use]
    pub fn words(&self, n: &DeedNames) -> String {
        let then: Vec<String> = self.then.iter().map(|d| d.words(n)).collect();
        format!("When somebody {}: {}", self.when.words(self.mailing, &n.names), then.join(", "))
    }

    /// When the earliest cause lies that it can act on, for one that is switched on at `on`: a deadline may pass
    /// after it for a message that came before.
    #[must_use]
    pub fn messages_from(&self, on: Instant) -> Instant {
        on + -self.when.deadline().map_or(0, |(wait, _)| wait)
    }

    /// # Errors
    /// A sentence that says what can't be meant.
    pub fn check(&self) -> Result<(), String> {
        if let Some((wait, _)) = self.when.deadline()
            && !(HOUR..=30 * 24 * HOUR).contains(&wait)
        {
            return Err("Wait between 1 and 720 hours.".into());
        }
        match &self.when {
            Trigger::Clicked { link: Some(_) } | Trigger::NotClicked { link: Some(_), .. } if self.mailing.is_none() => {
                return Err("A link belongs to a mailing: choose the mailing, or any link.".into());
            }
            Trigger::Answered { name } if name.trim().is_empty() => return Err("Choose the event it waits for.".into()),
            _ => {}
        }
        if self.then.is_empty() || self.then.len() > 10 {
            return Err("Say what follows: one to ten things.".into());
        }
        self.then.iter().try_for_each(check_deed)?;
        Ok(())
    }
}

/// Can a deed be meant?
pub(crate) fn check_deed(deed: &Deed) -> Result<(), String> {
    match deed {
        Deed::Score { points, .. } if !can_be_given(*points) => Err("Points are between −1,000 and 1,000, and not 0.".into()),
        Deed::Task { words } if words.trim().is_empty() || words.chars().count() > 200 => {
            Err("Write in up to 200 characters what the person is to do.".into())
        }
        Deed::Field { value, .. } if value.trim().is_empty() || value.len() > 500 => {
            Err("Write the value the field gets, in up to 500 bytes.".into())
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn when(when: Trigger) -> Reaction {
        Reaction { mailing: None, when, then: vec![Deed::Score { score: 1, points: 5.0 }] }
    }

    #[test]
    fn what_can_t_be_meant_is_refused() {
        assert!(when(Trigger::Opened).check().is_ok());
        assert!(when(Trigger::Clicked { link: Some(0) }).check().unwrap_err().contains("belongs to a mailing"));
        assert!(Reaction { mailing: Some(MailingId(1)), ..when(Trigger::Clicked { link: Some(0) }) }.check().is_ok());
        for hours in [0, 721] {
            assert!(when(Trigger::NotOpened { hours, taken_back: false }).check().is_err());
        }
        assert!(Reaction { then: vec![], ..when(Trigger::Opened) }.check().is_err());
        assert!(Reaction { then: vec![Deed::Score { score: 1, points: 0.0 }], ..when(Trigger::Opened) }.check().is_err());
    }

    #[test]
    fn each_trigger_meets_its_own() {
        let responses = [Response::Open, Response::Click(0), Response::Click(1), Response::Reply, Response::Left];
        let met = |t: &Trigger| responses.iter().filter(|r| t.meets(**r)).count();
        assert_eq!([met(&Trigger::Opened), met(&Trigger::Clicked { link: None }), met(&Trigger::Clicked { link: Some(1) })], [1, 2, 1]);
        let silent = Trigger::NotOpened { hours: 48, taken_back: true };
        assert_eq!((met(&silent), responses.iter().filter(|r| silent.undone_by(**r)).count()), (0, 3), "a click shows that it was opened");
        let buys = Trigger::Bought { product: Some("Storm lantern".into()), category: None };
        assert!(
            buys.bought(" storm LANTERN", "Light", 0) && !buys.bought("Storm lantern", "Light", -1) && !buys.bought("Chart print", "", 5)
        );
    }
}
