//! The rules as one document, kept in versions; and what they come to for one mailing.

use crate::caps::{Cap, CapError, Kind, Rank};
use crate::channel::Channel;
use crate::holdout::{Draw, Holdout};
use crate::hours::{Hours, USUAL_QUIET};
use crate::id::LetterheadId;
use crate::{DAY, Instant};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

/// What a mailing's class means for the rules.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Class {
    Marketing,
    /// Something the recipient expects: a receipt, a booking, security.
    Service,
}

/// What a mailing does with people over a cap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OverCap {
    /// They get it at the first instant that every cap allows.
    Hold,
    Skip,
    /// They get it all the same: an approver said so, with a reason.
    Exceed,
}

impl OverCap {
    /// As the store keeps it.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Hold => "hold",
            Self::Skip => "skip",
            Self::Exceed => "exceed",
        }
    }

    #[must_use]
    pub fn from_code(text: &str) -> Self {
        match text {
            "skip" => Self::Skip,
            "exceed" => Self::Exceed,
            _ => Self::Hold,
        }
    }
}

/// The sending hours of a letterhead.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LetterheadHours {
    pub letterhead: LetterheadId,
    pub hours: Hours,
}

/// One version of the rules. Suppression lists have their own history.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RuleSet {
    #[serde(default)]
    pub caps: Vec<Cap>,
    #[serde(default)]
    pub hours: Vec<LetterheadHours>,
    /// Countries (ISO 3166-1) where single opt-in isn't enough.
    #[serde(default)]
    pub confirm: Vec<String>,
    /// None: off.
    #[serde(default)]
    pub holdout: Option<Holdout>,
    /// When no text message goes out, by the person's own clock; none: they go out at any hour.
    #[serde(default = "usual_quiet")]
    pub quiet: Option<Hours>,
}

#[allow(clippy::unnecessary_wraps)]
fn usual_quiet() -> Option<Hours> {
    Some(USUAL_QUIET)
}

impl Default for RuleSet {
    /// Nothing but the quiet hours that are usual.
    fn default() -> Self {
        Self { caps: Vec::new(), hours: Vec::new(), confirm: Vec::new(), holdout: None, quiet: usual_quiet() }
    }
}

/// Why a version of the rules can't be saved.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    #[error(transparent)]
    Cap(#[from] CapError),
    #[error("{0} caps are more than the 12 that can hold together: take some out.")]
    TooManyCaps(usize),
    #[error("The same cap is there twice ({0}): take one out.")]
    Twice(String),
    #[error("{0:?} is no country code of two letters, as GB is.")]
    Country(String),
    #[error("A letterhead has its sending hours twice: take one out.")]
    HoursTwice,
    #[error("Quiet hours lie between 0:00 and 23:59 and end at another minute than they begin; to have none, leave them out.")]
    Quiet,
    #[error("{0}")]
    Words(String),
}

impl RuleSet {
    /// # Errors
    /// The first rule that can't hold.
    pub fn check(&self) -> Result<(), RuleError> {
        if self.caps.len() > 12 {
            return Err(RuleError::TooManyCaps(self.caps.len()));
        }
        for (i, cap) in self.caps.iter().enumerate() {
            cap.check()?;
            if self.caps[..i].iter().any(|c| c.window == cap.window && c.scope == cap.scope) {
                return Err(RuleError::Twice(cap.words()));
            }
        }
        for (i, h) in self.hours.iter().enumerate() {
            h.hours.check().map_err(RuleError::Words)?;
            if self.hours[..i].iter().any(|o| o.letterhead == h.letterhead) {
                return Err(RuleError::HoursTwice);
            }
        }
        if let Some(quiet) = self.quiet {
            quiet.check().map_err(|_| RuleError::Quiet)?;
        }
        if let Some(c) = self.confirm.iter().find(|c| c.len() != 2 || !c.bytes().all(|b| b.is_ascii_uppercase())) {
            return Err(RuleError::Country(c.clone()));
        }
        self.holdout.map_or(Ok(()), |h| h.check().map_err(RuleError::Words))
    }

    /// The hours in which such marketing may go out: the letterhead's, and for text messages those that aren't quiet.
    #[must_use]
    pub fn hours_for(&self, kind: Kind) -> Vec<Hours> {
        let (letterhead, quiet) = self.hours_behind(kind);
        letterhead.into_iter().chain(quiet.map(Hours::others)).collect()
    }

    /// The letterhead's sending hours, and the quiet hours.
    fn hours_behind(&self, kind: Kind) -> (Option<Hours>, Option<Hours>) {
        let letterhead = self.hours.iter().find(|h| h.letterhead == LetterheadId(i64::from(kind.letterhead))).map(|h| h.hours);
        (letterhead, self.quiet.filter(|_| i64::from(kind.channel) == Channel::Text.code()))
    }

    /// The hours behind [`Self::hours_for`], as they were set.
    #[must_use]
    pub fn hours_words(&self, kind: Kind) -> String {
        let (letterhead, quiet) = self.hours_behind(kind);
        let words = letterhead.map(|h| format!("hours {}", h.words())).into_iter();
        words.chain(quiet.map(|q| format!("quiet {}", q.words()))).collect::<Vec<_>>().join(", ")
    }

    /// What they come to for one mailing at one instant.
    #[must_use]
    pub fn for_mailing(&self, m: &Facts, at: Instant) -> Rules {
        let marketing = m.class == Class::Marketing;
        let caps = self.caps.iter().enumerate().filter(|(_, c)| marketing && c.in_force && c.scope.covers(m.kind));
        Rules {
            class: m.class,
            over_cap: m.over_cap,
            rank: m.rank,
            caps: caps.map(|(i, c)| (u8::try_from(i).unwrap_or(0), *c)).collect(),
            hours: if marketing { self.hours_for(m.kind) } else { Vec::new() },
            zone: m.zone.clone(),
            confirm: self.confirm.clone(),
            own_country: m.country.clone(),
            holdout: self.holdout.filter(|_| marketing).map(|h| h.drawn(at)),
            give_up_at: at + m.hold_limit,
            complainers_too: !marketing && m.complainers_too,
        }
    }
}

/// What the rules ask of a mailing.
#[derive(Debug, Clone)]
pub struct Facts {
    pub class: Class,
    pub kind: Kind,
    pub rank: Rank,
    pub over_cap: OverCap,
    /// How long it holds people, in milliseconds.
    pub hold_limit: i64,
    /// The letterhead's zone, for people without one.
    pub zone: TimeZone,
    /// The letterhead's country, for people without one.
    pub country: Option<String>,
    /// Of service mail that law requires: an approver lets it go to people who complained, too.
    pub complainers_too: bool,
}

/// How long a mailing holds people by default.
pub const HOLD_LIMIT: i64 = 7 * DAY;

/// The rules of one clearance.
#[derive(Debug, Clone)]
pub struct Rules {
    pub class: Class,
    pub over_cap: OverCap,
    pub rank: Rank,
    /// Those in force that cover the mailing, with their places among all.
    pub caps: Vec<(u8, Cap)>,
    /// All of them have to let it.
    pub hours: Vec<Hours>,
    pub zone: TimeZone,
    pub confirm: Vec<String>,
    pub own_country: Option<String>,
    pub holdout: Option<Draw>,
    /// Nobody is held past this instant.
    pub give_up_at: Instant,
    /// Service mail that goes to people who complained, too.
    pub complainers_too: bool,
}

impl Rules {
    /// Does somebody of this country have to confirm? Of an unknown one, the letterhead's counts.
    #[must_use]
    pub fn must_confirm(&self, country: Option<&str>) -> bool {
        country.or(self.own_country.as_deref()).is_some_and(|c| self.confirm.iter().any(|x| x == c))
    }

    /// How far back messages can still count.
    #[must_use]
    pub fn reach(&self) -> i64 {
        self.caps.iter().map(|(_, c)| c.window.reach()).max().unwrap_or(0)
    }
}
