//! Hours that were learned: what hour trials found, for whom, and until when it may be used.

use super::read_since;
use crate::clearing::{self, Clearance};
use crate::{Result, mailings};
use rinse_core::id::{ContactId, HourTrialId, MailingId};
use rinse_core::schedule::{LocalTime, Schedule};
use rinse_core::trial::hour::confirming::Gain;
use rinse_core::trial::hour::plan::clock;
use rinse_core::words::people;
use rinse_core::{DAY, Instant, zone};
use rusqlite::Connection;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use utoipa::ToSchema;

/// What was learned is used for a year: people and habits change.
const USED_FOR: i64 = 365 * DAY;

/// An hour that was learned.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LearnedHour {
    pub trial: HourTrialId,
    pub question: String,
    pub hour: u8,
    /// All hours that can't be told from it.
    pub may_be_best: Vec<u8>,
    /// What it gains against the usual hour, where a trial confirmed it.
    pub gain: Option<Gain>,
    pub learned_at: i64,
    pub expires_at: i64,
    pub weekdays: String,
    /// For whom: the audience of the last round that was drawn, and how many of it were.
    pub audience: String,
    pub people: u64,
    #[serde(skip)]
    mailing: MailingId,
}

/// The hours that may be used now, those for the fewest people first, and of as many the one learned last.
///
/// # Errors
/// When the database fails.
pub fn learned(c: &Connection, now: Instant) -> Result<Vec<LearnedHour>> {
    let mut out = Vec::new();
    for t in read_since(c, now + -USED_FOR)? {
        let (Some(learned_at), Some(r)) = (t.read_at, t.reading) else { continue };
        let last = r.rounds.iter().rev().find(|of| of.drawn > 0);
        let (Some(hour), Some(last)) = (r.best(), last) else { continue };
        let m = mailings::one(c, last.mailing)?;
        let audience = [m.list, m.segment].into_iter().flatten().collect::<Vec<_>>().join(", ");
        out.push(LearnedHour {
            trial: t.id,
            question: t.plan.question,
            hour,
            gain: r.gain,
            learned_at,
            expires_at: learned_at + USED_FOR,
            audience: if audience.is_empty() { "everyone".to_owned() } else { audience },
            people: last.drawn,
            mailing: last.mailing,
            may_be_best: r.best_set,
            weekdays: r.weekdays,
        });
    }
    out.sort_by_key(|l| (l.people, -l.learned_at));
    Ok(out)
}

/// When each person's best hour comes, by the narrowest audience that they are of; none: their hour has passed, and they get nothing. People of
/// no such audience, and of no known time zone, aren't in it. With it, in words, how many go by which.
pub struct BestHours {
    pub turns: HashMap<ContactId, Option<Instant>>,
    pub said: String,
}

/// The best hours of those whom a mailing selects, when it asks for them.
///
/// # Errors
/// When there is no such mailing.
pub fn best_hours(c: &Connection, mailing: MailingId, done: &Clearance, start: Instant, now: Instant) -> Result<Option<BestHours>> {
    let m = mailings::one(c, mailing)?;
    let schedule = m.draft.schedule;
    let Some(local) = schedule.local.filter(|_| schedule.best_hour) else { return Ok(None) };
    let mut by: Vec<(LearnedHour, HashSet<ContactId>)> = Vec::new();
    for l in learned(c, now)? {
        let whom = clearing::audience(c, l.mailing, now)?.decided.iter().map(|d| d.contact).collect();
        by.push((l, whom));
    }
    let share = crate::send_state::spread_of(mailing);
    let mut out = BestHours { turns: HashMap::new(), said: String::new() };
    let mut counts: BTreeMap<usize, u64> = BTreeMap::new();
    for d in &done.decided {
        let Some(clock) = done.zone_of(*d) else { continue };
        let Some(place) = by.iter().position(|(_, whom)| whom.contains(&d.contact)) else { continue };
        let minute = u16::from(by[place].0.hour) * 60;
        let own = Schedule { local: Some(LocalTime { minute, ..local }), ..schedule.clone() };
        out.turns.insert(d.contact, own.due(start, clock as &zone::TimeZone, share.draw(d.contact)));
        *counts.entry(place).or_default() += 1;
    }
    let parts: Vec<String> = counts
        .iter()
        .map(|(place, n)| {
            let l = &by[*place].0;
            format!("{} at {} ({}, “{}”)", people(*n), clock(l.hour), l.audience, l.question)
        })
        .collect();
    let others = done.decided.len() as u64 - counts.values().sum::<u64>();
    let usual = format!("{} at {:02}:{:02}", people(others), local.minute / 60, local.minute % 60);
    out.said = parts.into_iter().chain([usual]).collect::<Vec<_>>().join("; ");
    Ok(Some(out))
}

/// The earliest local minute at which anybody gets a mailing with this schedule: it has to begin in time for it.
///
/// # Errors
/// When the database fails.
pub fn begins(c: &Connection, schedule: &Schedule, now: Instant) -> Result<Schedule> {
    let mut schedule = schedule.clone();
    if let Some(local) = schedule.local.as_mut().filter(|_| schedule.best_hour) {
        let first = learned(c, now)?.iter().map(|l| u16::from(l.hour) * 60).min();
        local.minute = first.map_or(local.minute, |m| m.min(local.minute));
    }
    Ok(schedule)
}
