//! Clearance: loads what the rules need, decides in the core.
//!
//! [`audience`] and [`preview`] decide for everybody a mailing selects, on columns; [`person`] for one
//! person, now, at handover, or at an instant long past; [`forecast`] plays the coming mailings
//! through; [`record`] keeps what was decided.

mod base;
pub mod forecast;
pub mod person;
pub mod record;

use crate::rules::{self, RulesVersion};
use crate::suppression::Target;
use crate::{Result, StoreError, mailings};
use rinse_core::clearance::columns::clear_all;
use rinse_core::clearance::{Class, Facts, Outcome, OverCap, Reason, RuleSet, Sluice, tally};
use rinse_core::{DAY, Instant, caps, zone};
use rusqlite::{Connection, OptionalExtension};

/// The decision for one person, with what an assignment needs.
#[derive(Debug, Clone, Copy)]
pub struct Decided {
    pub contact: i64,
    pub domain: i64,
    pub outcome: Outcome,
}

/// A clearance and the rules it was made under.
pub struct Clearance {
    pub decided: Vec<Decided>,
    pub rules: RulesVersion,
    /// The suppression lists that were asked, by their bits.
    pub lists: Vec<i64>,
}

impl Clearance {
    #[must_use]
    pub fn sluice(&self) -> Sluice {
        tally(self.decided.iter().map(|d| d.outcome))
    }

    /// The people of a step: by first reason, or all cleared when `None`.
    #[must_use]
    pub fn people(&self, step: Option<Reason>) -> Vec<i64> {
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
    pub id: i64,
    pub facts: Facts,
    pub target: Target,
    pub list: Option<i64>,
    pub segment: Option<i64>,
    pub planned_at: Option<Instant>,
    pub started: bool,
}

/// # Errors
/// When there is no such mailing.
pub fn mailing(c: &Connection, id: i64) -> Result<Mailing> {
    let mut s = c.prepare_cached(
        "SELECT class, topic_id, list_id, over_cap, segment_id, channel, letterhead_id, priority, hold_days, l.zone, l.country, planned_at, started_at
         FROM mailing m JOIN letterhead l ON l.id = letterhead_id WHERE m.id = ?1",
    )?;
    let found = s.query_row([id], |r| {
        let (topic, letterhead): (Option<i64>, i64) = (r.get(1)?, r.get(6)?);
        let service = r.get::<_, i64>(0)? == 2;
        Ok(Mailing {
            id,
            facts: Facts {
                class: if service { Class::Service } else { Class::Marketing },
                kind: kind(r.get(5)?, topic, letterhead),
                rank: (r.get(7)?, id),
                over_cap: OverCap::from_code(&r.get::<_, String>(3)?),
                hold_limit: r.get::<_, i64>(8)? * DAY,
                zone: zone::named(&r.get::<_, String>(9)?).unwrap_or(zone::TimeZone::UTC),
                country: r.get(10)?,
            },
            target: Target { mailing: id, topic, letterhead, service },
            list: r.get(2)?,
            segment: r.get(4)?,
            planned_at: r.get::<_, Option<i64>>(11)?.map(Instant),
            started: r.get::<_, Option<i64>>(12)?.is_some(),
        })
    });
    found.optional()?.ok_or(StoreError::Missing("mailing"))
}

fn kind(channel: i64, topic: Option<i64>, letterhead: i64) -> caps::Kind {
    let small = |n: i64| u32::try_from(n).unwrap_or(0);
    caps::Kind { channel: u8::try_from(channel).unwrap_or(1), topic: small(topic.unwrap_or(0)), letterhead: small(letterhead) }
}

/// Clears everyone the mailing selects, at the instant `at`, by what is on record: as at its start.
///
/// # Errors
/// When there is no such mailing.
pub fn audience(c: &Connection, id: i64, at: Instant) -> Result<Clearance> {
    cleared(c, &mailing(c, id)?, at, rules::current(c)?, Vec::new())
}

/// Clears everyone the mailing selects at a coming instant: messages that planned mailings will have
/// sent them by then count as reserved. `rules`: as if these were in force.
///
/// # Errors
/// When there is no such mailing.
pub fn preview(c: &Connection, id: i64, at: Instant, now: Instant, rules: Option<&RuleSet>) -> Result<Clearance> {
    let m = mailing(c, id)?;
    let mut version = rules::current(c)?;
    if let Some(rules) = rules {
        version.rules = rules.clone();
    }
    let reserved = forecast::reserved_before(c, &m, at, now, &version.rules)?;
    cleared(c, &m, at, version, reserved)
}

fn cleared(c: &Connection, m: &Mailing, at: Instant, version: RulesVersion, reserved: Vec<(i64, caps::Message)>) -> Result<Clearance> {
    let rules = version.rules.for_mailing(&m.facts, at);
    let mut people = base::people(c, mailings::audience(c, m.list, m.segment, at)?, m.list.is_some())?;
    let messages = if rules.caps.is_empty() { Vec::new() } else { base::messages(c, at + -rules.reach())? };
    base::put_messages(&mut people.base, messages, reserved);
    let (marks, lists) = base::marks(c, &people, m, at)?;
    let outcomes = clear_all(&people.base, &marks, &rules, at);
    let decided = people.base.contact.iter().zip(&people.domain).zip(outcomes);
    Ok(Clearance {
        decided: decided.map(|((contact, domain), outcome)| Decided { contact: *contact, domain: *domain, outcome }).collect(),
        rules: version,
        lists,
    })
}
