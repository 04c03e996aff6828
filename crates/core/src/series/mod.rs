//! Series: automated steps with waits and forks, an entry and exits.
//!
//! * this file: the outline, what makes it acceptable, and how its steps follow each other;
//! * [`walk`]: where one person goes next, a pure function of what is known of them;
//! * [`words`](Outline::words): the outline as sentences; [`starters`]: outlines to begin with.
//!
//! Steps have numbers of their own that stay theirs when the outline is changed, so that somebody inside
//! a running series is still at their step afterwards.

pub mod starters;
pub mod walk;
mod words;

pub use words::Named;

use crate::id::{MailingId, SegmentId};
use crate::reaction::Deed;
use crate::{DAY, HOUR};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};
use utoipa::ToSchema;

/// The longest wait: two years, in hours.
pub const LONGEST: u32 = 2 * 365 * 24;
const MOST_STEPS: usize = 60;
const DEEPEST: usize = 4;

/// Something a person does that a series can wait for, fork on, or end with. It counts from when they
/// entered the series on; machines' responses never do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = SeriesHappening)]
pub enum Happening {
    /// Opened or clicked the message of a step.
    Opened {
        step: u32,
    },
    /// Clicked in the message of a step: any link, or the one at this place.
    Clicked {
        step: u32,
        link: Option<u32>,
    },
    Replied {
        step: u32,
    },
    /// An event of this name: an answer to a question, a visit.
    Event {
        name: String,
    },
    /// A purchase; refunds don't count.
    Bought {
        product: Option<String>,
        category: Option<String>,
    },
    /// A goal is met.
    Goal {
        goal: i64,
    },
}

/// What a fork asks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = SeriesQuestion)]
pub enum Question {
    /// Are they in this segment, now?
    Segment { segment: SegmentId },
    /// Has it happened by now?
    Happened { what: Happening },
    /// A random share says yes: the same people each time they come here.
    Share { percent: f64 },
}

/// What a step does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = SeriesDoes)]
pub enum Does {
    /// Sends a message; they go on when it is handed over, or can't be.
    Mail { mailing: MailingId },
    /// Waits so many hours, then until the minute of their day, where one is given.
    Wait { hours: u32, minute: Option<u16> },
    /// Waits until it happens, but no longer than so many hours.
    Await { what: Happening, hours: u32 },
    /// Goes one way or the other; both meet again after it.
    Fork {
        on: Question,
        #[schema(no_recursion)]
        yes: Vec<Step>,
        #[schema(no_recursion)]
        no: Vec<Step>,
    },
    /// Sets a field, tag, list or score, tells another system, asks a person.
    Act { deed: Deed },
}

/// A step.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = SeriesStep)]
pub struct Step {
    /// Its own for good, from 1 on.
    pub id: u32,
    pub does: Does,
}

/// Who enters.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = SeriesEntry)]
pub enum Entry {
    /// Anybody who joins a segment; by choice those who are in it when the series starts, too.
    Segment { segment: SegmentId, those_in_it: bool },
    /// Anybody to whom an event of this name happens.
    Event { name: String },
    /// Anybody who buys.
    Bought { product: Option<String>, category: Option<String> },
    /// So many days after the date in a field of theirs (before it, when negative), at this minute of their day;
    /// by choice every year on that day.
    Date { field: i64, days: i32, minute: u16, yearly: bool },
    /// Only who is put in: by a person, or by a reaction.
    ByHand,
}

/// May somebody who was in it enter again? Never twice at the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = SeriesAgain)]
pub enum Again {
    Never,
    /// So many days after they entered last.
    After {
        days: u32,
    },
    Always,
}

/// What takes somebody out before the end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = SeriesExit)]
pub enum Exit {
    Happened { what: Happening },
    TopicLeft { topic: i64 },
    SegmentLeft { segment: SegmentId },
}

/// A series, whole.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = SeriesOutline)]
pub struct Outline {
    pub entry: Entry,
    pub again: Again,
    /// Nobody enters before or from this instant on; those inside go on.
    #[schema(minimum = 0, maximum = 7_258_118_400_000_i64)]
    pub from: Option<i64>,
    #[schema(minimum = 0, maximum = 7_258_118_400_000_i64)]
    pub until: Option<i64>,
    pub steps: Vec<Step>,
    pub exits: Vec<Exit>,
}

impl Default for Outline {
    fn default() -> Self {
        Self { entry: Entry::ByHand, again: Again::Never, from: None, until: None, steps: Vec::new(), exits: Vec::new() }
    }
}

/// A step with its place: how deep it lies, and the fork and the way that it is under.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Placed<'a> {
    pub step: &'a Step,
    pub depth: usize,
    /// The fork, and whether it lies on its yes.
    pub under: Option<(u32, bool)>,
    /// Where they go after it.
    pub next: Option<u32>,
}

fn place<'a>(steps: &'a [Step], depth: usize, under: Option<(u32, bool)>, after: Option<u32>, out: &mut Vec<Placed<'a>>) {
    for (i, step) in steps.iter().enumerate() {
        let next = steps.get(i + 1).map(|s| s.id).or(after);
        out.push(Placed { step, depth, under, next });
        if let Does::Fork { yes, no, .. } = &step.does {
            place(yes, depth + 1, Some((step.id, true)), next, out);
            place(no, depth + 1, Some((step.id, false)), next, out);
        }
    }
}

impl Outline {
    /// All steps from top to bottom, those of a fork after it: yes, then no.
    #[must_use]
    pub fn placed(&self) -> Vec<Placed<'_>> {
        let mut out = Vec::new();
        place(&self.steps, 0, None, None, &mut out);
        out
    }

    /// Where somebody enters.
    #[must_use]
    pub fn first(&self) -> Option<u32> {
        self.steps.first().map(|s| s.id)
    }

    /// The mailings of its steps, by step.
    #[must_use]
    pub fn mailings(&self) -> BTreeMap<u32, MailingId> {
        let mail = |p: &Placed<'_>| if let Does::Mail { mailing } = p.step.does { Some((p.step.id, mailing)) } else { None };
        self.placed().iter().filter_map(mail).collect()
    }

    /// Everything that it listens for.
    #[must_use]
    pub fn happenings(&self) -> Vec<&Happening> {
        let placed = self.placed();
        let steps = placed.iter().filter_map(|p| match &p.step.does {
            Does::Await { what, .. } | Does::Fork { on: Question::Happened { what }, .. } => Some(what),
            _ => None,
        });
        let exits = self.exits.iter().filter_map(|e| if let Exit::Happened { what } = e { Some(what) } else { None });
        steps.chain(exits).collect()
    }

    /// Where somebody at a step goes on in a changed outline: where they are, when the step is still there; else at
    /// the first of those after it that is. None: they are through.
    #[must_use]
    pub fn moved(&self, from: u32, to: &Self) -> Option<u32> {
        let there: HashSet<u32> = to.placed().iter().map(|p| p.step.id).collect();
        let next: BTreeMap<u32, Option<u32>> = self.placed().iter().map(|p| (p.step.id, p.next)).collect();
        let mut at = Some(from);
        while let Some(step) = at.filter(|s| !there.contains(s)) {
            at = next.get(&step).copied().flatten();
        }
        at
    }

    /// # Errors
    /// A sentence that says what can't be meant.
    pub fn check(&self) -> Result<(), String> {
        let placed = self.placed();
        if placed.len() > MOST_STEPS {
            return Err(format!("{} steps are more than the {MOST_STEPS} that a series can have: split it in two.", placed.len()));
        }
        let mut ids = HashSet::new();
        let mut mailings = HashSet::new();
        for p in &placed {
            if p.step.id == 0 || !ids.insert(p.step.id) {
                return Err("Two steps have the same number: take one out and add it again.".into());
            }
            if p.depth > DEEPEST {
                return Err(format!("Forks are nested more than {DEEPEST} deep: make a series of the inner part."));
            }
            match &p.step.does {
                Does::Mail { mailing } if !mailings.insert(*mailing) => {
                    return Err("A mailing stands at two steps: copy it, so that each has figures of its own.".into());
                }
                Does::Wait { hours, minute } => {
                    if *hours > LONGEST || (*hours == 0 && minute.is_none()) {
                        return Err(format!("A wait is between 1 hour and {} days, or until a time of day.", LONGEST / 24));
                    }
                    minute_of_day(*minute)?;
                }
                Does::Await { hours, .. } if !(1..=LONGEST).contains(hours) => {
                    return Err(format!("It waits at least 1 hour and at most {} days.", LONGEST / 24));
                }
                Does::Fork { on: Question::Share { percent }, .. } if !(*percent > 0.0 && *percent < 100.0) => {
                    return Err("A share lies between 0 and 100%.".into());
                }
                Does::Fork { yes, no, .. } if yes.is_empty() && no.is_empty() => {
                    return Err("A fork with nothing on either side makes no difference: put a step on one, or take it out.".into());
                }
                Does::Act { deed } => crate::reaction::check_deed(deed)?,
                _ => {}
            }
        }
        let mail = self.mailings();
        for what in self.happenings() {
            match what {
                Happening::Opened { step } | Happening::Clicked { step, .. } | Happening::Replied { step } if !mail.contains_key(step) => {
                    return Err("It asks about the message of a step that sends none, or is gone: choose a step with a message.".into());
                }
                Happening::Event { name } if name.trim().is_empty() => return Err("Choose the event that it waits for.".into()),
                _ => {}
            }
        }
        match &self.entry {
            Entry::Event { name } if name.trim().is_empty() => return Err("Choose the event that people enter by.".into()),
            Entry::Date { days, minute, .. } => {
                if !(-365..=3650).contains(days) {
                    return Err("The day lies at most 365 days before the date and at most ten years after it.".into());
                }
                minute_of_day(Some(*minute))?;
            }
            _ => {}
        }
        if let Again::After { days } = self.again
            && !(1..=3650).contains(&days)
        {
            return Err("Again after 1 to 3650 days, or always.".into());
        }
        if self.exits.len() > 10 {
            return Err("Ten exits are the most: make a segment of some and leave by that.".into());
        }
        if let (Some(from), Some(until)) = (self.from, self.until)
            && from >= until
        {
            return Err("It ends before it begins: put the end later.".into());
        }
        Ok(())
    }

    /// What it lacks to be started.
    ///
    /// # Errors
    /// A sentence that says what to add.
    pub fn ready(&self) -> Result<(), String> {
        self.check()?;
        let does = |p: &Placed<'_>| matches!(p.step.does, Does::Mail { .. } | Does::Act { .. });
        if self.placed().iter().any(does) { Ok(()) } else { Err("Nothing happens in it: add a message, or something it does.".into()) }
    }

    /// The day on which somebody enters for a date in a field, and where it comes each year the first one not before `today`;
    /// all in days since 1970-01-01. 29 February is the 28th in other years.
    #[must_use]
    pub fn entry_day(date: i64, days: i32, yearly: bool, today: i64) -> Option<i64> {
        let shift = i64::from(days);
        if !yearly {
            return Some(date + shift);
        }
        let civil = |d: i64| jiff::civil::date(1970, 1, 1).checked_add(jiff::Span::new().days(d)).ok();
        let born = civil(date)?;
        let year = civil(today - shift)?.year();
        (year..=year + 1).find_map(|y| {
            let month_end = jiff::civil::date(y, born.month(), 1).days_in_month();
            let day = jiff::civil::date(y, born.month(), born.day().min(month_end));
            let since = i64::from(jiff::civil::date(1970, 1, 1).until(day).ok()?.get_days());
            (since + shift >= today).then_some(since + shift)
        })
    }
}

fn minute_of_day(minute: Option<u16>) -> Result<(), String> {
    if minute.is_some_and(|m| i64::from(m) >= DAY / crate::MINUTE) {
        return Err("A time of day lies between 00:00 and 23:59.".into());
    }
    Ok(())
}

/// Hours in milliseconds.
pub(crate) fn span(hours: u32) -> i64 {
    i64::from(hours) * HOUR
}

#[cfg(test)]
mod tests;
