//! Segments: who is meant, as a tree of conditions.
//!
//! A condition answers yes, no or *unknown*: unknown when the value it asks about is missing. A
//! missing value is neither "is Norway" nor "is not Norway"; "is missing" is a condition of its
//! own. And, or and not are Kleene's, so that unknown stays unknown under `not`, and a person is in
//! a segment only when the whole answers yes. SQL's NULL follows the same logic, which is why the
//! store can compile a tree faithfully; [`holds`] is what decides when the two should differ.
//!
//! * this file: the conditions, and what makes a tree acceptable;
//! * [`person`]: what is known of one person; [`evaluate`](holds): the answer, and why;
//! * [`words`]: the sentence; [`place`]: distances and the gazetteer; [`share`]: random shares.

pub mod evaluate;
pub mod person;
pub mod place;
pub mod share;
pub mod words;

pub use evaluate::{Explained, explain, holds};
pub use person::Person;

use crate::consent::Consent;
use crate::goal::{Goal, What};
use crate::id::{ListId, MailingId, SegmentId, SeriesId};
use crate::upkeep::MailStatus;
use crate::upkeep::silence::Stage;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// A field of a person's profile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Field {
    GivenName,
    FamilyName,
    Country,
    Region,
    TimeZone,
    Source,
    /// Where they live, as coordinates (only "is missing" asks for it as a field).
    Position,
    /// A field that was made here, by its number.
    Own(i64),
}

/// What a field holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FieldKind {
    Text,
    Number,
    Date,
    YesNo,
    /// One of a few words.
    Choice,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TextTest {
    Is,
    IsNot,
    Begins,
    Contains,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Compare {
    Over,
    AtLeast,
    Equal,
    AtMost,
    Under,
}

impl Compare {
    #[must_use]
    pub fn holds(self, value: f64, bound: f64) -> bool {
        match self {
            Self::Over => value > bound,
            Self::AtLeast => value >= bound,
            #[allow(clippy::float_cmp)]
            Self::Equal => value == bound,
            Self::AtMost => value <= bound,
            Self::Under => value < bound,
        }
    }
}

/// A test of a date; "today" is the UTC date of the instant asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DateTest {
    /// Earlier than this day (days since 1970-01-01).
    Before(i64),
    /// This day or later.
    From(i64),
    /// In the last so many days, today included.
    LastDays(u32),
    /// In the coming so many days, today included.
    NextDays(u32),
}

/// What a person did with a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Did {
    Opened,
    Clicked,
    Replied,
    /// Left the topic or everything by its link.
    Left,
    Complained,
}

/// Where somebody is with a series.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SeriesPart {
    /// In it, now.
    Inside,
    /// Was in it and isn't any more: through, or out by an exit.
    Before,
    /// Has entered it, whenever.
    Ever,
}

/// At least, or at most, so many.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Times {
    AtLeast(u32),
    AtMost(u32),
}

impl Times {
    #[must_use]
    pub fn holds(self, n: u32) -> bool {
        match self {
            Self::AtLeast(least) => n >= least,
            Self::AtMost(most) => n <= most,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Bought {
    /// Number of purchases; refunds don't count.
    Count,
    /// Sum of their values; refunds subtract.
    Value,
}

/// A tree of conditions. An empty `all` is everyone, an empty `any` nobody.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Tree {
    All {
        #[schema(no_recursion)]
        of: Vec<Tree>,
    },
    Any {
        #[schema(no_recursion)]
        of: Vec<Tree>,
    },
    Not {
        #[schema(no_recursion)]
        of: Box<Tree>,
    },
    /// Text and choices, compared without regard to case.
    Text {
        field: Field,
        is: TextTest,
        value: String,
    },
    Number {
        field: i64,
        is: Compare,
        value: f64,
    },
    Date {
        field: i64,
        is: DateTest,
    },
    YesNo {
        field: i64,
        yes: bool,
    },
    Missing {
        field: Field,
    },
    /// An outside score that was dated within the last so many days.
    Dated {
        field: i64,
        within_days: u32,
    },
    List {
        list: ListId,
    },
    Tag {
        tag: i64,
    },
    /// Has not left the topic.
    Topic {
        topic: i64,
    },
    Consent {
        states: Vec<Consent>,
    },
    Status {
        states: Vec<MailStatus>,
    },
    /// The address's domain, and by choice those under it; never a part of a name.
    Domain {
        domain: String,
        subdomains: bool,
    },
    Near {
        latitude: f64,
        longitude: f64,
        km: f64,
        /// The place's name, or whose home it is, for the sentence.
        place: String,
        /// The sentence says miles (the distance is kept in kilometres).
        #[serde(default)]
        miles: bool,
    },
    /// Messages that were answered so: a message counts once, however often it was opened.
    Did {
        did: Did,
        /// False: machines' responses count too.
        human: bool,
        times: Times,
        within_days: Option<u32>,
        mailing: Option<MailingId>,
        link: Option<u32>,
        /// Messages of a series' steps.
        #[serde(default)]
        series: Option<SeriesId>,
    },
    /// Is in a series, or was.
    Series {
        series: SeriesId,
        part: SeriesPart,
    },
    Received {
        times: Times,
        within_days: Option<u32>,
    },
    Bought {
        what: Bought,
        is: Compare,
        value: f64,
        product: Option<String>,
        category: Option<String>,
        within_days: Option<u32>,
    },
    /// Did something elsewhere, by the event's name.
    Event {
        name: String,
        times: Times,
        within_days: Option<u32>,
    },
    /// Met a goal.
    Converted {
        goal: i64,
        times: Times,
        within_days: Option<u32>,
    },
    /// In one of these mail-load cells, as of the last day it was worked out.
    Load {
        cells: Vec<u8>,
    },
    /// Silent, and at one of these stages, as of the last day it was worked out.
    Silent {
        stages: Vec<Stage>,
    },
    /// A score that Rinse keeps, as it stands at the instant asked about; 0 without an entry.
    Score {
        score: i64,
        is: Compare,
        value: f64,
    },
    Added {
        within_days: u32,
    },
    /// A random share of everyone, the same people each time for the same salt.
    Share {
        percent: f64,
        salt: String,
    },
    /// In another segment.
    Segment {
        segment: SegmentId,
    },
}

/// Why a tree can't be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SegmentError {
    #[error("The segment goes in a circle: {0}. Take one of these references out.")]
    Circle(String),
    #[error("It uses a segment that is gone. Choose another, or take the condition out.")]
    Gone,
    #[error("It uses a goal that is gone. Choose another, or take the condition out.")]
    GoalGone,
    #[error("It has {0} conditions, and 100 are the most. Make a segment of a part of them and use that.")]
    TooMany(usize),
    #[error("It is nested {0} deep, and 12 is the most.")]
    TooDeep(usize),
    #[error("{0}")]
    Value(&'static str),
}

/// A stored segment, as far as references need it.
#[derive(Debug, Clone)]
pub struct Known {
    pub name: String,
    /// `None`: its members are written down (frozen, or kept outside).
    pub tree: Option<Tree>,
}

const MOST: usize = 100;
const DEEPEST: usize = 12;

impl Tree {
    /// The branches of a node.
    #[must_use]
    pub fn branches(&self) -> &[Tree] {
        match self {
            Self::All { of } | Self::Any { of } => of,
            Self::Not { of } => std::slice::from_ref(of.as_ref()),
            _ => &[],
        }
    }

    fn size(&self) -> (usize, usize) {
        let inner = self.branches().iter().map(Self::size).fold((0, 0), |a, b| (a.0 + b.0, a.1.max(b.1)));
        (inner.0 + usize::from(self.branches().is_empty()), inner.1 + 1)
    }

    /// All conditions, branches left out.
    pub fn leaves<'a>(&'a self, out: &mut Vec<&'a Tree>) {
        match self {
            Self::All { of } | Self::Any { of } => of.iter().for_each(|t| t.leaves(out)),
            Self::Not { of } => of.leaves(out),
            leaf => out.push(leaf),
        }
    }

    /// Refuses what can't be meant: too large a tree, empty words, shares over 100%.
    ///
    /// # Errors
    /// The first thing that is wrong, with what to do.
    pub fn check(&self) -> Result<(), SegmentError> {
        let (size, depth) = self.size();
        if size > MOST {
            return Err(SegmentError::TooMany(size));
        }
        if depth > DEEPEST {
            return Err(SegmentError::TooDeep(depth));
        }
        let mut leaves = Vec::new();
        self.leaves(&mut leaves);
        for leaf in leaves {
            let wrong = match leaf {
                Self::Text { value, .. } if value.trim().is_empty() => {
                    Some("Write the words to compare with, or ask whether it is missing.")
                }
                Self::Text { value, .. } if value.len() > 500 => Some("The words to compare with are longer than 500 bytes."),
                Self::Number { value, .. } | Self::Bought { value, .. } | Self::Score { value, .. } if !value.is_finite() => {
                    Some("Write a number to compare with.")
                }
                Self::Event { name, .. } if name.trim().is_empty() => Some("Choose an event."),
                Self::Domain { domain, .. } if !domain.contains('.') => Some("Write a whole domain, as in tern.example."),
                Self::Near { latitude, longitude, km, .. }
                    if !(-90.0..=90.0).contains(latitude) || !(-180.0..=180.0).contains(longitude) || !(0.0..=20_100.0).contains(km) =>
                {
                    Some("Give a place on earth and a distance of at most 20,100 km.")
                }
                Self::Share { percent, .. } if !(0.0..=100.0).contains(percent) => Some("A share is between 0% and 100%."),
                Self::Consent { states } if states.is_empty() => Some("Choose at least one consent state."),
                Self::Silent { stages } if stages.is_empty() => Some("Choose at least one stage of silence."),
                Self::Load { cells } if cells.is_empty() => Some("Choose at least one mail-load cell."),
                Self::Load { cells } if cells.iter().any(|c| *c >= crate::load::CELLS) => Some("There are 15 mail-load cells: 0 to 14."),
                Self::Status { states } if states.is_empty() => Some("Choose at least one mail status."),
                Self::Did { link: Some(_), mailing: None, .. } => Some("Name the mailing that the link stands in."),
                Self::Did { mailing: Some(_), series: Some(_), .. } => Some("Name a mailing or a series, not both."),
                Self::Did { link: Some(_), did, .. } if *did != Did::Clicked => Some("Only a click has a link."),
                _ => None,
            };
            if let Some(words) = wrong {
                return Err(SegmentError::Value(words));
            }
        }
        Ok(())
    }

    /// The segments it refers to directly.
    #[must_use]
    pub fn references(&self) -> Vec<SegmentId> {
        let mut leaves = Vec::new();
        self.leaves(&mut leaves);
        leaves.iter().filter_map(|l| if let Self::Segment { segment } = l { Some(*segment) } else { None }).collect()
    }

    /// The tree with every live segment and every goal it refers to put in its place. References to segments
    /// whose members are written down stay.
    ///
    /// # Errors
    /// A circle, named; a segment or a goal that is gone; a whole that is too large.
    pub fn resolve(&self, known: &HashMap<SegmentId, Known>, goals: &HashMap<i64, Goal>) -> Result<Tree, SegmentError> {
        let whole = self.put_in(known, goals, &mut Vec::new())?;
        let (size, _) = whole.size();
        if size > MOST * 10 { Err(SegmentError::TooMany(size)) } else { Ok(whole) }
    }

    fn put_in(
        &self,
        known: &HashMap<SegmentId, Known>,
        goals: &HashMap<i64, Goal>,
        path: &mut Vec<SegmentId>,
    ) -> Result<Tree, SegmentError> {
        let all = |of: &[Tree], path: &mut Vec<SegmentId>| of.iter().map(|t| t.put_in(known, goals, path)).collect::<Result<Vec<_>, _>>();
        Ok(match self {
            Self::All { of } => Self::All { of: all(of, path)? },
            Self::Any { of } => Self::Any { of: all(of, path)? },
            Self::Not { of } => Self::Not { of: Box::new(of.put_in(known, goals, path)?) },
            Self::Segment { segment } => {
                let k = known.get(segment).ok_or(SegmentError::Gone)?;
                if path.contains(segment) {
                    let names = path.iter().chain([segment]).filter_map(|id| known.get(id)).map(|k| k.name.as_str());
                    return Err(SegmentError::Circle(names.collect::<Vec<_>>().join(" → ")));
                }
                let Some(tree) = &k.tree else { return Ok(self.clone()) };
                path.push(*segment);
                let inner = tree.put_in(known, goals, path)?;
                path.pop();
                inner
            }
            Self::Converted { goal, times, within_days } => met(goals.get(goal).ok_or(SegmentError::GoalGone)?, *times, *within_days),
            leaf => leaf.clone(),
        })
    }
}

/// "Met the goal so often within so many days" in terms of purchases and events.
fn met(goal: &Goal, times: Times, within_days: Option<u32>) -> Tree {
    match &goal.what {
        What::Event { name, .. } => Tree::Event { name: name.clone(), times, within_days },
        What::Purchase { product, category } => {
            let (is, n) = match times {
                Times::AtLeast(n) => (Compare::AtLeast, n),
                Times::AtMost(n) => (Compare::AtMost, n),
            };
            let (product, category) = (product.clone(), category.clone());
            Tree::Bought { what: Bought::Count, is, value: f64::from(n), product, category, within_days }
        }
    }
}

#[cfg(test)]
mod tests;
