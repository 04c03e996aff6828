//! Past mailings by what they have in common: the groupings, how sure a group's rate is, which group is best, and what is outside the norm.
//! Nothing of this was left to chance as it happened, and every word says so.

pub mod best;
pub mod norm;

use crate::report::LEVEL;
use crate::stats::Arm;
use crate::stats::cluster_rate::cluster_rate;
use crate::{DAY, Instant};
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use utoipa::ToSchema;

/// By what messages are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = GroupedBy)]
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
    /// The message of a series.
    Step,
    Arm,
    /// Of the recipient, as it was when the message was handed over.
    Domain,
    Country,
    Source,
    Load,
}

impl By {
    pub const ALL: [Self; 21] = [
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
        Self::Step,
        Self::Arm,
        Self::Domain,
        Self::Country,
        Self::Source,
        Self::Load,
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
            Self::Step => "step",
            Self::Arm => "arm",
            Self::Domain => "mailbox domain",
            Self::Country => "country",
            Self::Source => "source",
            Self::Load => "mail load",
        }
    }

    /// Does it say where a message went? Sums of places and of mail load aren't kept together.
    #[must_use]
    pub fn of_place(self) -> bool {
        matches!(self, Self::Domain | Self::Country | Self::Source)
    }

    /// Is it told by a clock?
    #[must_use]
    pub fn of_time(self) -> bool {
        matches!(self, Self::Day | Self::Week | Self::Month | Self::Weekday | Self::PartOfDay | Self::Hour)
    }
}

/// The days of the week, as groups number them.
pub const WEEKDAYS: [&str; 7] = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const PARTS: [&str; 4] = ["night, 00 to 06", "morning, 06 to 12", "afternoon, 12 to 18", "evening, 18 to 24"];

fn date(days: i64) -> String {
    crate::zone::stamp(Instant::of(days * DAY)).strftime("%-d %b %Y").to_string()
}

/// Which of two groups of time comes first, by their keys: numbers, or months as in "2026-04".
#[must_use]
pub fn in_time(a: &str, b: &str) -> Ordering {
    match (a.parse::<i64>(), b.parse::<i64>()) {
        (Ok(x), Ok(y)) => x.cmp(&y),
        _ => a.cmp(b),
    }
}

/// The name of a group by its key, where no row of a table names it.
#[must_use]
pub fn name_of(by: By, key: &str) -> String {
    let number = key.parse::<i64>().ok();
    let listed = |names: &[&str]| number.and_then(|n| usize::try_from(n).ok()).and_then(|n| names.get(n)).map(|n| (*n).to_owned());
    let named = match (by, number) {
        (By::Weekday, _) => listed(&WEEKDAYS),
        (By::PartOfDay, _) => listed(&PARTS),
        (By::Hour, Some(h)) => Some(format!("{h:02}:00")),
        (By::Day, Some(d)) => Some(date(d)),
        // Weeks begin on Mondays; 1970-01-01 was a Thursday.
        (By::Week, Some(w)) => Some(format!("week of {}", date(w * 7 - 3))),
        (By::Month, _) => format!("{key}-01T00:00:00Z").parse().ok().map(|t: jiff::Timestamp| t.strftime("%b %Y").to_string()),
        (By::Class, Some(1)) => Some("marketing".into()),
        (By::Class, Some(2)) => Some("service".into()),
        (By::Channel, Some(1)) => Some("email".into()),
        (By::Channel, Some(2)) => Some("text messages".into()),
        (By::Arm, Some(a)) if a >= 0 => usize::try_from(a).ok().map(|a| format!("arm {}", crate::trial::letter(a))),
        (By::Arm, _) => Some("no trial".into()),
        (By::Load, _) => Some(key.parse().map_or_else(|_| "not known then".to_owned(), crate::load::cell_words)),
        _ => None,
    };
    named.unwrap_or_else(|| if key.is_empty() { "not known".into() } else { key.to_owned() })
}

/// By whose clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = WhoseClock)]
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(By::Weekday, "2", "Wednesday")]
    #[case(By::Hour, "8", "08:00")]
    #[case(By::Day, "20559", "16 Apr 2026")]
    #[case(By::Week, "2937", "week of 13 Apr 2026")]
    #[case(By::Month, "2026-04", "Apr 2026")]
    #[case(By::Arm, "1", "arm B")]
    #[case(By::Arm, "-1", "no trial")]
    #[case(By::Load, "8", "usual mail, slackening")]
    #[case(By::Load, "-1", "not known then")]
    #[case(By::Country, "", "not known")]
    #[case(By::Country, "NO", "NO")]
    fn groups_are_named(#[case] by: By, #[case] key: &str, #[case] name: &str) {
        assert_eq!(name_of(by, key), name);
    }

    #[test]
    fn few_mailings_say_nothing_of_their_kind() {
        let arm = |successes| Arm { successes, trials: 1_000 };
        assert_eq!(over_mailings(&[arm(200); LEAST_MAILINGS - 1]), None);
        let alike = over_mailings(&[arm(200), arm(201), arm(199), arm(200), arm(202), arm(198)]).unwrap();
        let apart = over_mailings(&[arm(300), arm(100), arm(250), arm(150), arm(220), arm(180)]).unwrap();
        assert!(apart.upper - apart.lower > alike.upper - alike.lower && apart.design_effect > 1.0);
    }
}
