//! Clearance: loads what the rules need, decides in the core.
//!
//! [`audience`] and [`preview`] decide for everybody a mailing selects, on columns; [`person`] for one
//! person, now, at handover, or at an instant long past; [`forecast`] plays the coming mailings
//! through; [`reserved`] knows the trials that keep their people; [`record`] keeps what was decided. [`warm`] keeps the columns between clearances.

pub mod addresses;
mod base;
pub mod forecast;
pub mod person;
pub mod record;
mod reserved;
pub(crate) mod warm;

use crate::audience::{self, Audience};
use crate::ledger::Grant;
use crate::mailings::draft::{MailingDraft, bits};
use crate::rules::{self, RulesVersion};
use crate::suppression::Target;
use crate::{Result, StoreError};
use rinse_core::channel::Channel;
use rinse_core::clearance::columns::Ready;
use rinse_core::clearance::{Class, Facts, Outcome, OverCap, Reason, RuleSet, Sluice, tally};
use rinse_core::code::Code;
use rinse_core::id::{ContactId, LetterheadId, ListId, MailingId, SegmentId, SeriesId};
use rinse_core::{DAY, Instant, caps, zone};
use rusqlite::{Connection, OptionalExtension};

/// The decision for one person, with what an assignment needs.
#[derive(Debug, Clone, Copy)]
pub struct Decided {
    pub contact: ContactId,
    pub domain: i64,
    /// Place of their time zone in the clearance's; 0: unknown.
    pub zone: u16,
    pub outcome: Outcome,
}

/// A clearance and the rules it was made under.
pub struct Clearance {
    pub decided: Vec<Decided>,
    pub rules: RulesVersion,
    /// The suppression lists that were asked, by their bits.
    pub lists: Vec<i64>,
    zones: Vec<zone::TimeZone>,
}

impl Clearance {
    /// Somebody's time zone, when it is known.
    #[must_use]
    pub fn zone_of(&self, d: Decided) -> Option<&zone::TimeZone> {
        if d.zone > 0 { self.zones.get(usize::from(d.zone)) } else { None }
    }

    #[must_use]
    pub fn sluice(&self) -> Sluice {
        tally(self.decided.iter().map(|d| d.outcome))
    }

    /// Everyone who gets it, now or after a time, ascending.
    #[must_use]
    pub fn getting(&self) -> Vec<ContactId> {
        let mut ids: Vec<ContactId> = self.decided.iter().filter(|d| !matches!(d.outcome, Outcome::Barred(_))).map(|d| d.contact).collect();
        ids.sort_unstable();
        ids
    }

    /// The people of a step: by first reason, or all cleared when `None`.
    #[must_use]
    pub fn people(&self, step: Option<Reason>) -> Vec<ContactId> {
        self.decided
            .iter()
            .filter(|d| match d.outcome {
                Outcome::Cleared => step.is_none(),
                Outcome::Held(_, r) | Outcome::Barred(r) => step.is_some() && r.first() == step,
            })
            .map(|d| d.contact)
            .collect()
    }
}

/// What a mailing is to the rules.
#[derive(Debug, Clone)]
pub struct Mailing {
    pub id: MailingId,
    pub facts: Facts,
    pub target: Target,
    /// The series that it is a step of.
    pub series: Option<SeriesId>,
    /// Whom it is meant for.
    pub who: Audience,
    /// Mail-load cells that it leaves out, a bit each.
    pub leave_out: u32,
    /// The legal entity whose consent counts; empty: the first.
    pub entity: String,
    pub planned_at: Option<Instant>,
    pub started: bool,
}

impl Mailing {
    #[must_use]
    pub fn channel(&self) -> Channel {
        Channel::of_code(i64::from(self.facts.kind.channel)).unwrap_or_default()
    }

    /// Whose consent it asks for.
    pub(crate) fn grant(&self) -> Grant<'_> {
        Grant { channel: self.channel(), entity: &self.entity }
    }
}

/// # Errors
/// When there is no such mailing.
pub fn mailing(c: &Connection, id: MailingId) -> Result<Mailing> {
    let mut s = c.prepare_cached(
        "SELECT class, topic_id, list_id, over_cap, segment_id, channel, letterhead_id, priority, hold_days, l.zone, l.country, planned_at, started_at, complainers_by IS NOT NULL, leave_out, l.entity, series_id
         FROM mailing m JOIN letterhead l ON l.id = letterhead_id WHERE m.id = ?1",
    )?;
    let (also, without) = audience::beside(c, id)?;
    let found = s.query_row([id.0], |r| {
        let (topic, letterhead): (Option<i64>, LetterheadId) = (r.get(1)?, LetterheadId(r.get(6)?));
        let service = r.get::<_, i64>(0)? == 2;
        let series: Option<SeriesId> = r.get::<_, Option<i64>>(16)?.map(SeriesId);
        Ok(Mailing {
            id,
            facts: Facts {
                class: if service { Class::Service } else { Class::Marketing },
                kind: kind(r.get(5)?, topic, letterhead, series.is_some()),
                rank: (r.get(7)?, id.0),
                over_cap: OverCap::from_code(&r.get::<_, String>(3)?),
                // A series waits for its caps as long as it takes: the step isn't lost.
                hold_limit: if series.is_some() { crate::send_state::NEVER } else { r.get::<_, i64>(8)? * DAY },
                zone: zone::named(&r.get::<_, String>(9)?).unwrap_or(zone::TimeZone::UTC),
                country: r.get(10)?,
                complainers_too: r.get(13)?,
            },
            target: Target { mailing: id, topic, letterhead, service },
            series,
            who: Audience {
                list: r.get::<_, Option<i64>>(2)?.map(ListId),
                segment: r.get::<_, Option<i64>>(4)?.map(SegmentId),
                also,
                without,
            },
            leave_out: r.get(14)?,
            entity: r.get(15)?,
            planned_at: r.get::<_, Option<i64>>(11)?.map(Instant::of),
            started: r.get::<_, Option<i64>>(12)?.is_some(),
        })
    });
    found.optional()?.ok_or(StoreError::Missing("mailing"))
}

/// Clears everyone whom a draft is meant for, as if it began at `at`. `id`: the draft's number, when it has one.
///
/// # Errors
/// When its letterhead, a list or a segment is gone.
pub fn draft(c: &Connection, d: &MailingDraft, id: Option<MailingId>, at: Instant) -> Result<Clearance> {
    let l = crate::letterheads::one(c, d.letterhead_id)?;
    let series: Option<SeriesId> = match id {
        Some(id) => c
            .prepare_cached("SELECT series_id FROM mailing WHERE id = ?1")?
            .query_row([id.0], |r| r.get(0).map(|id: Option<i64>| id.map(SeriesId)))
            .optional()?
            .flatten(),
        None => None,
    };
    let (id, service) = (id.unwrap_or_default(), !d.service_reason.trim().is_empty());
    let m = Mailing {
        id,
        facts: Facts {
            class: if service { Class::Service } else { Class::Marketing },
            kind: kind(d.channel.code(), d.topic_id, d.letterhead_id, series.is_some()),
            rank: (d.priority, id.0),
            over_cap: d.over_cap,
            hold_limit: d.hold_days * DAY,
            zone: zone::named(&l.zone).unwrap_or(zone::TimeZone::UTC),
            country: l.country,
            complainers_too: !d.complainers_reason.trim().is_empty(),
        },
        target: Target { mailing: id, topic: d.topic_id, letterhead: d.letterhead_id, service },
        series,
        who: d.audience(),
        leave_out: bits(&d.leave_out),
        entity: l.entity,
        planned_at: None,
        started: false,
    };
    cleared(c, &m, at, rules::current(c)?, Vec::new())
}

fn kind(channel: i64, topic: Option<i64>, letterhead: LetterheadId, series: bool) -> caps::Kind {
    let small = |n: i64| u32::try_from(n).unwrap_or(0);
    caps::Kind { channel: u8::try_from(channel).unwrap_or(1), topic: small(topic.unwrap_or(0)), letterhead: small(letterhead.0), series }
}

/// Clears everyone the mailing selects, at the instant `at`, by what is on record: as at its start.
///
/// # Errors
/// When there is no such mailing.
pub fn audience(c: &Connection, id: MailingId, at: Instant) -> Result<Clearance> {
    cleared(c, &mailing(c, id)?, at, rules::current(c)?, Vec::new())
}

/// Clears everyone the mailing selects at a coming instant: messages that planned mailings will have
/// sent them by then count as reserved. `rules`: as if these were in force.
///
/// # Errors
/// When there is no such mailing.
pub fn preview(c: &Connection, id: MailingId, at: Instant, now: Instant, rules: Option<&RuleSet>) -> Result<Clearance> {
    let m = mailing(c, id)?;
    let mut version = rules::current(c)?;
    if let Some(rules) = rules {
        version.rules = rules.clone();
    }
    let reserved = forecast::reserved_before(c, &m, at, now, &version.rules)?;
    cleared(c, &m, at, version, reserved)
}

fn cleared(
    c: &Connection,
    m: &Mailing,
    at: Instant,
    version: RulesVersion,
    reserved: Vec<(ContactId, caps::Message)>,
) -> Result<Clearance> {
    let rules = version.rules.for_mailing(&m.facts, at);
    let columns = warm::columns(c, at + -reach(&version.rules))?;
    let mut memo = base::Memo::default();
    let people = &*columns.people.under(c, m.grant(), &mut memo)?;
    let who = people.selected(c, &m.who, at)?;
    let (marks, lists) = base::marks(c, people, m, at, &mut memo)?;
    let with_reserved = (!reserved.is_empty()).then(|| columns.messages.with(&people.base.contact, &by_person(reserved), true));
    let messages = with_reserved.as_ref().unwrap_or(&columns.messages);
    // Halves of a large audience are decided side by side.
    let part = who.len().div_ceil(if who.len() < 50_000 { 1 } else { threads() }).max(1);
    let ready = Ready::new(&people.base, &marks, &rules, at);
    let one = |i: usize| Decided {
        contact: people.base.contact[i],
        domain: people.domain[i],
        zone: people.base.zone[i],
        outcome: ready.clear(i, messages),
    };
    let decide = |part: &[u32]| -> Vec<Decided> { part.iter().map(|i| one(*i as usize)).collect() };
    let decided = std::thread::scope(|scope| {
        let others: Vec<_> = who.chunks(part).skip(1).map(|part| scope.spawn(|| decide(part))).collect();
        let mut decided = Vec::with_capacity(who.len());
        decided.extend(who[..part.min(who.len())].iter().map(|i| one(*i as usize)));
        for other in others {
            decided.extend(other.join().map_err(|_| StoreError::Stopped)?);
        }
        Ok::<_, StoreError>(decided)
    })?;
    Ok(Clearance { decided, rules: version, lists, zones: people.base.zones.clone() })
}

/// As many parts as a large base is worked on in.
fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, |n| n.get().min(4))
}

/// How far back messages can count, for any mailing under these rules.
fn reach(rules: &RuleSet) -> i64 {
    rules.caps.iter().filter(|cap| cap.in_force).map(|cap| cap.window.reach()).max().unwrap_or(0)
}

fn by_person(mut found: Vec<(ContactId, caps::Message)>) -> Vec<(ContactId, Vec<caps::Message>)> {
    found.sort_unstable_by_key(|(contact, m)| (*contact, m.at));
    let mut out: Vec<(ContactId, Vec<caps::Message>)> = Vec::new();
    for (contact, message) in found {
        match out.last_mut().filter(|last| last.0 == contact) {
            Some(last) => last.1.push(message),
            None => out.push((contact, vec![message])),
        }
    }
    out
}

/// Reads what clearances need, so that the next one finds it in memory.
///
/// # Errors
/// When the database fails.
pub fn warm_up(c: &Connection, at: Instant) -> Result<()> {
    warm::columns(c, at + -reach(&rules::current(c)?.rules)).map(|_| ())
}
