//! Hours that were learned: what hour trials found, for whom, and until when it may be used.

use super::{own, read_since};
use crate::clearing::{self, Clearance};
use crate::{Result, mailings};
use rinse_core::id::{ContactId, HourTrialId, MailingId};
use rinse_core::schedule::{LocalTime, Schedule};
use rinse_core::trial::hour::confirming::Gain;
use rinse_core::trial::hour::plan::clock;
use rinse_core::trial::hour::reading::Reading;
use rinse_core::words::people;
use rinse_core::{DAY, Instant, zone};
use rusqlite::Connection;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use utoipa::ToSchema;

/// What was learned is used for a year: people and habits change.
pub(super) const USED_FOR: i64 = 365 * DAY;

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
        // A trial of own hours tells of those ([`own::learned`]), not of an hour for all.
        let Some(hour) = r.best().filter(|_| t.plan.of_own_hours().is_none()) else { continue };
        let Some((mailing, audience, people)) = whom_of(c, &r)? else { continue };
        out.push(LearnedHour {
            trial: t.id,
            question: t.plan.question,
            hour,
            gain: r.gain,
            learned_at,
            expires_at: learned_at + USED_FOR,
            audience,
            people,
            mailing,
            may_be_best: r.best_set,
            weekdays: r.weekdays,
        });
    }
    out.sort_by_key(|l| (l.people, -l.learned_at));
    Ok(out)
}

/// For whom something was learned: the mailing whose audience it is, that audience in words, and how many of it were drawn. None: nobody was.
pub(super) fn whom_of(c: &Connection, r: &Reading) -> Result<Option<(MailingId, String, u64)>> {
    let Some(last) = r.rounds.iter().rev().find(|of| of.drawn > 0) else { return Ok(None) };
    let m = mailings::one(c, last.mailing)?;
    let audience = [m.list, m.segment].into_iter().flatten().collect::<Vec<_>>().join(", ");
    Ok(Some((last.mailing, if audience.is_empty() { "everyone".to_owned() } else { audience }, last.drawn)))
}

/// When each person's best hour comes, by the narrowest audience that they are of; none: their hour has passed, and they get nothing. People of
/// no such audience, and of no known time zone, aren't in it. Where the mailing asks for each person's own hour, that comes first. With it, in
/// words, how many go by which.
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
    let Some(local) = schedule.local.filter(|_| schedule.by_learned()) else { return Ok(None) };
    let mut by: Vec<(LearnedHour, HashSet<ContactId>)> = Vec::new();
    for l in learned(c, now)? {
        let whom = clearing::audience(c, l.mailing, now)?.decided.iter().map(|d| d.contact).collect();
        by.push((l, whom));
    }
    let share = crate::send_state::spread_of(mailing);
    let owns = if schedule.own_hour { own::learned(c, now)? } else { Vec::new() };
    let own_of = owns.iter().map(|l| own::of_trial(c, l.trial)).collect::<Result<Vec<_>>>()?;
    let mut out = BestHours { turns: HashMap::new(), said: String::new() };
    let mut counts: BTreeMap<usize, u64> = BTreeMap::new();
    let mut own_counts: BTreeMap<usize, u64> = BTreeMap::new();
    for d in &done.decided {
        let Some(clock) = done.zone_of(*d) else { continue };
        let own = own_of.iter().zip(0..).find_map(|(of, place)| Some((place, *of.get(&d.contact)?)));
        let hour = if let Some((place, hour)) = own {
            *own_counts.entry(place).or_default() += 1;
            hour
        } else {
            let Some(place) = by.iter().position(|(_, whom)| whom.contains(&d.contact)) else { continue };
            *counts.entry(place).or_default() += 1;
            by[place].0.hour
        };
        let at = Schedule { local: Some(LocalTime { minute: u16::from(hour) * 60, ..local }), ..schedule.clone() };
        out.turns.insert(d.contact, at.due(start, clock as &zone::TimeZone, share.draw(d.contact)));
    }
    let own_parts = own_counts.iter().map(|(place, n)| format!("{} at an hour of their own (“{}”)", people(*n), owns[*place].question));
    let parts = counts.iter().map(|(place, n)| {
        let l = &by[*place].0;
        format!("{} at {} ({}, “{}”)", people(*n), clock(l.hour), l.audience, l.question)
    });
    let others = done.decided.len() as u64 - out.turns.len() as u64;
    let usual = format!("{} at {:02}:{:02}", people(others), local.minute / 60, local.minute % 60);
    out.said = own_parts.chain(parts).chain([usual]).collect::<Vec<_>>().join("; ");
    Ok(Some(out))
}

/// The earliest local minute at which anybody gets a mailing with this schedule: it has to begin in time for it.
///
/// # Errors
/// When the database fails.
pub fn begins(c: &Connection, schedule: &Schedule, now: Instant) -> Result<Schedule> {
    let mut schedule = schedule.clone();
    let (by_learned, by_own) = (schedule.by_learned(), schedule.own_hour);
    if let Some(local) = schedule.local.as_mut().filter(|_| by_learned) {
        let best = learned(c, now)?.into_iter().map(|l| l.hour);
        let own = if by_own { own::learned(c, now)? } else { Vec::new() };
        let first = best.chain(own.iter().map(|l| l.first)).map(|hour| u16::from(hour) * 60).min();
        local.minute = first.map_or(local.minute, |m| m.min(local.minute));
    }
    Ok(schedule)
}
