//! What the evidence pack holds, from the sums and from the lists of upkeep.

use super::runs::{self, CleaningRun};
use super::{incidents, policy};
use crate::blocklists::{self, Blocklist};
use crate::codes::{ACTIVE, RETIRED};
use crate::figures;
use crate::stored::As;
use crate::{Result, StoreError, settings};
use const_format::formatcp;
use rinse_core::figure::Figure;
use rinse_core::upkeep::evidence::{Course, Marks, Measure, Week, course, masked};
use rinse_core::upkeep::{Cause, MailStatus, Policy};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// It looks back so far.
const DAYS: i64 = 364;
/// Removed addresses that are shown, masked.
const SHOWN: i64 = 1_000;

/// A month (by UTC): messages, and people taken out of the mail.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = EvidenceMonth)]
pub struct Month {
    /// As 2026-04.
    pub month: String,
    pub sent: u64,
    pub accepted: u64,
    pub bounced_permanently: u64,
    pub bounced_temporarily: u64,
    pub blocked: u64,
    pub delivered: u64,
    pub complaints: u64,
    pub retired: i64,
    pub rested: i64,
    pub sunset: i64,
    pub deleted: i64,
    pub withdrew: i64,
    pub complained: i64,
}

/// A removed address, masked.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = EvidenceRemoved)]
pub struct Removed {
    pub at: Option<i64>,
    pub address: String,
    pub status: MailStatus,
    pub reason: String,
    pub why: String,
}

/// People not mailed any more, by reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = EvidenceReason)]
pub struct ByReason {
    pub reason: String,
    pub people: i64,
}

/// An incident in short.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = EvidenceIncident)]
pub struct Happened {
    pub at: i64,
    /// The mailbox group, or a domain of it.
    pub place: String,
    pub mailing: String,
    pub failures: u64,
    pub messages: u64,
    pub counts: Option<bool>,
    pub reason: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct CaseNote {
    pub id: i64,
    pub at: i64,
    pub person: Option<String>,
    pub text: String,
}

/// Everything in the pack but the pictures.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Evidence {
    pub made_at: i64,
    pub since: i64,
    /// Who sends: the letterheads' names.
    pub senders: Vec<String>,
    pub marks: Marks,
    pub courses: Vec<Course>,
    pub months: Vec<Month>,
    pub policy_version: i64,
    pub policy_at: i64,
    pub policy: Policy,
    pub retired_by: Vec<ByReason>,
    pub sunset: i64,
    pub deleted: i64,
    pub runs: Vec<CleaningRun>,
    pub incidents: Vec<Happened>,
    pub notes: Vec<CaseNote>,
    /// The blocklists that are asked, and what of ours they had.
    pub blocklists: Vec<Blocklist>,
    pub removed: Vec<Removed>,
}

const MARKS: &str = "evidence_marks";

/// The marks that were set, or those to begin with.
///
/// # Errors
/// When the database fails.
pub fn marks(c: &Connection) -> Result<Marks> {
    Ok(settings::get(c, MARKS)?.map(|text| serde_json::from_str(&text)).transpose()?.unwrap_or_default())
}

/// Sets them.
///
/// # Errors
/// When one is no share, or they contradict each other.
pub fn set_marks(c: &Connection, m: &Marks, now: Instant, person: Option<i64>) -> Result<()> {
    m.check().map_err(|e| StoreError::Refused(e.to_string()))?;
    let text = serde_json::to_string(m)?;
    settings::set(c, MARKS, &text)?;
    settings::audit(c, now, person, "marks of the evidence set", "upkeep", 0, &text)
}

/// Case notes, the newest first.
///
/// # Errors
/// When the database fails.
pub fn notes(c: &Connection) -> Result<Vec<CaseNote>> {
    let mut s = c.prepare_cached(
        "SELECT n.id, n.at, p.name, n.text FROM evidence_note n LEFT JOIN person p ON p.id = n.person_id ORDER BY n.id DESC LIMIT 200",
    )?;
    let rows = s.query_map([], |r| Ok(CaseNote { id: r.get(0)?, at: r.get(1)?, person: r.get(2)?, text: r.get(3)? }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Adds a case note.
///
/// # Errors
/// When it says nothing.
pub fn add_note(c: &Connection, text: &str, now: Instant, person: Option<i64>) -> Result<i64> {
    let text = text.trim();
    if text.is_empty() {
        return Err(StoreError::Refused("Write what happened: an empty note tells nobody anything.".into()));
    }
    Ok(c.query_row(
        "INSERT INTO evidence_note (at, person_id, text) VALUES (?1, ?2, ?3) RETURNING id",
        params![now.millis(), person, text],
        |r| r.get(0),
    )?)
}

/// Takes one away.
///
/// # Errors
/// When there is no such note.
pub fn remove_note(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    if c.execute("DELETE FROM evidence_note WHERE id = ?1", [id])? == 0 {
        return Err(StoreError::Missing("case note"));
    }
    settings::audit(c, now, person, "case note removed", "upkeep", id, "")
}

/// The Monday of a day's week; 1970-01-01 was a Thursday.
fn monday(day: i64) -> i64 {
    day - (day + 3).rem_euclid(7)
}

/// Marketing and service mail by day, text messages left out.
fn by_day(c: &Connection, since: i64) -> Result<Vec<(i64, figures::Sums)>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT day, {} FROM mailing_figure WHERE day >= ?1 AND mailing_id NOT IN (SELECT id FROM mailing WHERE channel = 2) GROUP BY day ORDER BY day",
        figures::added_up()
    ))?;
    let rows = s.query_map([since], |r| Ok((r.get(0)?, figures::sums(r, 1)?)))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

fn month_of(day: i64) -> String {
    Instant::of(day * DAY).iso().chars().take(7).collect()
}

fn courses(days: &[(i64, figures::Sums)], marks: &Marks) -> Vec<Course> {
    Measure::ALL
        .into_iter()
        .map(|measure| {
            let (figure, of) = match measure {
                Measure::Accepted => (Figure::Accepted, Figure::Sent),
                Measure::Bounced => (Figure::Bounced, Figure::Sent),
                Measure::Complaints => (Figure::Complaints, Figure::Delivered),
            };
            let mut weeks: BTreeMap<i64, (u64, u64)> = BTreeMap::new();
            for (day, sums) in days {
                let w = weeks.entry(monday(*day)).or_default();
                *w = (w.0 + sums.of(figure), w.1 + sums.of(of));
            }
            let weeks: Vec<Week> = weeks.into_iter().map(|(day, (count, of))| Week { day, count, of }).collect();
            course(measure, &weeks, marks)
        })
        .collect()
}

fn months(c: &Connection, days: &[(i64, figures::Sums)], since: i64) -> Result<Vec<Month>> {
    let mut all: BTreeMap<String, Month> = BTreeMap::new();
    for (day, s) in days {
        let m = all.entry(month_of(*day)).or_default();
        m.sent += s.of(Figure::Sent);
        m.accepted += s.of(Figure::Accepted);
        m.bounced_permanently += s.of(Figure::BouncedPermanently);
        m.bounced_temporarily += s.of(Figure::BouncedTemporarily);
        m.blocked += s.of(Figure::Blocked);
        m.delivered += s.of(Figure::Delivered);
        m.complaints += s.of(Figure::Complaints);
    }
    // What the ledger says of people, by day: it has no index by time, and is read through once.
    let mut s = c.prepare_cached(
        "SELECT at / 86400000, kind, count(*) FROM ledger WHERE at >= ?1 AND kind IN ('retired', 'resting', 'sunset', 'deleted', 'withdrew', 'complained') GROUP BY 1, 2",
    )?;
    let mut rows = s.query([since * DAY])?;
    while let Some(r) = rows.next()? {
        let (day, n): (i64, i64) = (r.get(0)?, r.get(2)?);
        let m = all.entry(month_of(day)).or_default();
        match r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)? {
            "retired" => m.retired += n,
            "resting" => m.rested += n,
            "sunset" => m.sunset += n,
            "deleted" => m.deleted += n,
            "withdrew" => m.withdrew += n,
            _ => m.complained += n,
        }
    }
    Ok(all.into_iter().map(|(month, m)| Month { month, ..m }).collect())
}

/// The newest retired addresses, masked.
fn removed(c: &Connection) -> Result<Vec<Removed>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT k.status_at, k.address, k.status, k.status_cause, coalesce((SELECT evidence FROM ledger l WHERE l.contact_id = k.id AND l.kind = 'retired' ORDER BY l.id DESC LIMIT 1), '')
         FROM contact k INDEXED BY contact_since WHERE k.status = {RETIRED} AND k.status <> {ACTIVE} AND k.gone IS NULL ORDER BY k.status_at DESC, k.id DESC LIMIT ?1"),
    )?;
    let rows = s.query_map([SHOWN], |r| {
        Ok(Removed {
            at: r.get(0)?,
            address: masked(&r.get::<_, String>(1)?),
            status: r.get::<_, As<MailStatus>>(2)?.0,
            reason: r.get::<_, As<Cause>>(3)?.0.words().to_owned(),
            why: r.get(4)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The evidence of the last 52 weeks.
///
/// # Errors
/// When the database fails.
pub fn evidence(c: &Connection, now: Instant) -> Result<Evidence> {
    let since = monday(now.millis().div_euclid(DAY) - DAYS);
    let (marks, version, days) = (marks(c)?, policy::current(c)?, by_day(c, since)?);
    let retired_by = super::made_of::by_cause(c)?
        .into_iter()
        .filter(|b| b.status == MailStatus::Retired)
        .map(|b| ByReason { reason: b.words, people: b.people })
        .collect();
    let happened = incidents::all(c)?
        .into_iter()
        .filter(|i| i.opened_at >= since * DAY)
        .map(|i| Happened {
            at: i.opened_at,
            place: i.place,
            mailing: i.mailing,
            failures: i.failures,
            messages: i.messages,
            counts: i.counts,
            reason: i.reason,
        })
        .collect();
    let mut s = c.prepare_cached("SELECT name FROM letterhead ORDER BY id")?;
    Ok(Evidence {
        made_at: now.millis(),
        since: since * DAY,
        senders: s.query_map([], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?,
        courses: courses(&days, &marks),
        marks,
        months: months(c, &days, since)?,
        policy_version: version.id,
        policy_at: version.at,
        policy: version.policy,
        retired_by,
        sunset: super::made_of::sunset(c)?,
        deleted: super::return_lines::counts(c)?.0,
        runs: runs::all(c, now)?.into_iter().filter(|r| r.applied_at.is_some_and(|at| at >= since * DAY)).collect(),
        incidents: happened,
        notes: notes(c)?,
        blocklists: blocklists::all(c)?,
        removed: removed(c)?,
    })
}
