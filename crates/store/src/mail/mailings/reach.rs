//! What an audience comes to before any rule: how many, at which mail hosts, by which clocks, and what else they get.

use crate::Result;
use crate::audience::Audience;
use crate::codes::{MAILING_PLANNED, MAILING_SENDING, MAILING_SENT};
use const_format::formatcp;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::schedule::Schedule;
use rinse_core::{DAY, Instant, zone};
use rusqlite::{Connection, params, params_from_iter};
use serde::Serialize;
use std::collections::HashSet;
use utoipa::ToSchema;

/// So many people of a domain or a zone.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Portion {
    /// Empty: all others.
    pub name: String,
    pub people: i64,
}

/// Another mailing that many of the same people get.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MailingOverlap {
    pub mailing: MailingId,
    pub name: String,
    pub at: i64,
    /// Of this audience, those in its audience too.
    pub people: i64,
}

/// An audience before any rule: how many, at which mail hosts, by which clocks, and what else they get.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct AudienceLook {
    pub people: i64,
    /// The largest first, then all others together.
    pub domains: Vec<Portion>,
    pub zones: Vec<Portion>,
    /// People whose zone isn't known: they are given the letterhead's.
    pub without_zone: i64,
    /// When the first and the last of them are due by the schedule.
    pub first_at: i64,
    pub last_at: i64,
    /// Mailings from a week before to a week after.
    pub overlaps: Vec<MailingOverlap>,
}

const SHOWN: usize = 8;

fn largest(mut all: Vec<Portion>) -> Vec<Portion> {
    all.sort_by(|a, b| b.people.cmp(&a.people).then_with(|| a.name.cmp(&b.name)));
    if all.len() > SHOWN + 1 {
        let rest = all.split_off(SHOWN).iter().map(|p| p.people).sum();
        all.push(Portion { name: String::new(), people: rest });
    }
    all
}

/// Looks at an audience that would get a mailing at `at`. `but`: a mailing that isn't counted as another.
///
/// # Errors
/// When a list or segment is gone.
pub fn look(c: &Connection, who: &Audience, schedule: &Schedule, usual_zone: &str, at: Instant, but: Option<i64>) -> Result<AudienceLook> {
    let (condition, values) = who.condition(c, at)?;
    let grouped = |by: &str| -> Result<Vec<Portion>> {
        let mut s = c.prepare(&format!(
            "SELECT {by}, count(*) FROM contact c JOIN domain d ON d.id = c.domain_id WHERE c.gone IS NULL AND {condition} GROUP BY 1"
        ))?;
        Ok(s.query_map(params_from_iter(&values), |r| Ok(Portion { name: r.get(0)?, people: r.get(1)? }))?
            .collect::<rusqlite::Result<_>>()?)
    };
    let mut zones = grouped("coalesce(c.zone, '')")?;
    let people = zones.iter().map(|z| z.people).sum();
    let start = schedule.starts(at).max(at);
    let usual = zone::named(usual_zone).unwrap_or(zone::TimeZone::UTC);
    let clocks = zones.iter().map(|z| zone::named(&z.name).unwrap_or_else(|| usual.clone()));
    let dues: Vec<Instant> = clocks.filter_map(|clock| schedule.due(start, &clock, 0.0)).collect();
    let unknown = zones.iter().position(|z| z.name.is_empty()).map(|i| zones.remove(i));
    let spread = i64::from(schedule.spread_minutes) * rinse_core::MINUTE;
    let (first, last) = (dues.iter().min().copied().unwrap_or(start), dues.iter().max().copied().unwrap_or(start) + spread);
    Ok(AudienceLook {
        people,
        domains: largest(grouped("d.name")?),
        zones: largest(zones),
        without_zone: unknown.map_or(0, |u| u.people),
        first_at: first.millis(),
        last_at: last.millis(),
        overlaps: overlaps(c, who, at, but)?,
    })
}

fn overlaps(c: &Connection, who: &Audience, at: Instant, but: Option<i64>) -> Result<Vec<MailingOverlap>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT id, name, coalesce(started_at, planned_at) AS at FROM mailing WHERE state IN ({MAILING_PLANNED}, {MAILING_SENDING}, {MAILING_SENT}) AND id IS NOT ?3 AND at BETWEEN ?1 AND ?2 ORDER BY at"),
    )?;
    let near: Vec<(i64, String, i64)> = s
        .query_map(params![at.millis() - 7 * DAY, at.millis() + 7 * DAY, but], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?
        .collect::<rusqlite::Result<_>>()?;
    if near.is_empty() {
        return Ok(Vec::new());
    }
    let ours: Option<HashSet<ContactId>> = who.people(c, at)?.map(|ids| ids.into_iter().collect());
    let everyone: i64 = c.query_row("SELECT count(*) FROM contact WHERE gone IS NULL", [], |r| r.get(0))?;
    let size = |n: usize| i64::try_from(n).unwrap_or(i64::MAX);
    let mut out = Vec::new();
    for (mailing, name, when) in near {
        let theirs = super::one(c, MailingId(mailing))?.draft.audience().people(c, Instant::of(when));
        // A segment of an old mailing may be gone by now.
        let Ok(theirs) = theirs else { continue };
        let people = match (&ours, theirs) {
            (None, None) => everyone,
            (Some(ours), None) => size(ours.len()),
            (None, Some(theirs)) => size(theirs.len()),
            (Some(ours), Some(theirs)) => size(theirs.iter().filter(|id| ours.contains(id)).count()),
        };
        out.push(MailingOverlap { mailing: MailingId(mailing), name, at: when, people });
    }
    Ok(out)
}
