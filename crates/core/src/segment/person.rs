//! What is known of one person, as conditions ask for it.

use super::{Did, Field, FieldKind, evaluate};
use crate::Instant;
use crate::consent::Consent;
use crate::id::{ContactId, ListId, MailingId, SegmentId, SeriesId};
use crate::score::Standing;
use crate::upkeep::MailStatus;
use crate::upkeep::silence::Stage;
use crate::words::fold;
use std::collections::{HashMap, HashSet};

/// The value of a field that was made here.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Text or a choice.
    Text(String),
    Number(f64),
    /// Days since 1970-01-01.
    Date(i64),
    YesNo(bool),
}

impl Value {
    /// Reads a cell as a field of this kind holds it.
    ///
    /// # Errors
    /// Says what can't be read and how it should be written. A number or a date that could mean two
    /// things is refused rather than guessed.
    pub fn read(kind: FieldKind, cell: &str) -> Result<Self, String> {
        let text = cell.trim();
        match kind {
            FieldKind::Text | FieldKind::Choice => Ok(Self::Text(text.chars().take(500).collect())),
            FieldKind::Number => {
                let number = match text.split_once(',') {
                    None => text.replace(['\u{a0}', ' '], ""),
                    Some((_, after)) if after.len() == 3 || text.contains('.') || after.contains(',') => {
                        return Err(format!("{text:?} could be two numbers: write it without commas"));
                    }
                    Some((whole, part)) => format!("{whole}.{part}"),
                };
                number.parse().ok().filter(|n: &f64| n.is_finite()).map(Self::Number).ok_or_else(|| format!("{text:?} is not a number"))
            }
            FieldKind::Date => {
                let dotted: Vec<&str> = text.split('.').collect();
                let iso = match dotted.as_slice() {
                    [day, month, year] if year.len() == 4 => format!("{year}-{month:0>2}-{day:0>2}"),
                    _ => text.chars().take(10).collect(),
                };
                evaluate::parse_date(&iso).map(Self::Date).ok_or_else(|| format!("{text:?} is not a date: write it as 2026-04-16"))
            }
            FieldKind::YesNo => match fold(text).as_str() {
                "yes" | "y" | "true" | "1" | "ja" | "oui" | "si" | "sí" | "sì" | "sim" => Ok(Self::YesNo(true)),
                "no" | "n" | "false" | "0" | "nein" | "nee" | "nej" | "nei" | "non" | "não" => Ok(Self::YesNo(false)),
                _ => Err(format!("{text:?} is neither yes nor no")),
            },
        }
    }
}

/// A value with the day it was dated, when it is an outside score.
#[derive(Debug, Clone, PartialEq)]
pub struct Held {
    pub value: Value,
    pub dated: Option<i64>,
}

/// A response to a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Answer {
    pub did: Did,
    pub at: Instant,
    pub human: bool,
    pub link: Option<u32>,
}

/// A message that the person's host accepted.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Message {
    pub mailing: MailingId,
    /// The series that the mailing is a step of.
    pub series: Option<SeriesId>,
    pub accepted_at: Option<Instant>,
    pub answers: Vec<Answer>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Purchase {
    pub at: Instant,
    /// Hundredths of its currency, so that sums are exact; negative: a refund.
    pub cents: i64,
    pub product: String,
    pub category: String,
}

/// One person.
#[derive(Debug, Clone)]
pub struct Person {
    pub id: ContactId,
    pub texts: HashMap<Field, String>,
    pub own: HashMap<i64, Held>,
    /// Latitude and longitude in degrees.
    pub position: Option<(f64, f64)>,
    pub lists: HashSet<ListId>,
    pub tags: HashSet<i64>,
    pub topics_left: HashSet<i64>,
    /// Segments whose members are written down.
    pub segments: HashSet<SegmentId>,
    pub consent: Consent,
    pub status: MailStatus,
    pub domain: String,
    /// Their opens can't be told from a machine's.
    pub open_blind: bool,
    pub added_at: Instant,
    /// Their mail-load cell, once it was worked out.
    pub load_cell: Option<u8>,
    /// How far it is with them, if they are silent.
    pub silence: Option<Stage>,
    /// Their scores, each with its half-life in days.
    pub scores: HashMap<i64, (Standing, Option<f64>)>,
    /// The series that they have entered, and whether they are inside.
    pub series: HashMap<SeriesId, bool>,
    pub messages: Vec<Message>,
    pub purchases: Vec<Purchase>,
    /// What they did elsewhere: when, and the event's name.
    pub events: Vec<(Instant, String)>,
}

impl Person {
    /// Nobody in particular: everything missing.
    #[must_use]
    pub fn unknown(id: ContactId) -> Self {
        Self {
            id,
            texts: HashMap::new(),
            own: HashMap::new(),
            position: None,
            lists: HashSet::new(),
            tags: HashSet::new(),
            topics_left: HashSet::new(),
            segments: HashSet::new(),
            consent: Consent::None,
            status: MailStatus::Active,
            domain: String::new(),
            open_blind: false,
            added_at: Instant::of(0),
            load_cell: None,
            silence: None,
            scores: HashMap::new(),
            series: HashMap::new(),
            messages: Vec::new(),
            purchases: Vec::new(),
            events: Vec::new(),
        }
    }

    pub(super) fn score(&self, score: i64, now: Instant) -> f64 {
        self.scores.get(&score).map_or(0.0, |(standing, half_life)| standing.at(now, *half_life))
    }

    /// The text of a field, folded for comparing; `None` when it is missing.
    pub(super) fn text(&self, field: Field) -> Option<String> {
        let given = match field {
            Field::Own(id) => match &self.own.get(&id)?.value {
                Value::Text(t) => t,
                _ => return None,
            },
            built_in => self.texts.get(&built_in)?,
        };
        Some(fold(given)).filter(|t| !t.is_empty())
    }

    pub(super) fn is_missing(&self, field: Field) -> bool {
        match field {
            Field::Own(id) => match self.own.get(&id).map(|h| &h.value) {
                None => true,
                Some(Value::Text(t)) => fold(t).is_empty(),
                Some(_) => false,
            },
            Field::Position => self.position.is_none(),
            built_in => self.text(built_in).is_none(),
        }
    }
}
