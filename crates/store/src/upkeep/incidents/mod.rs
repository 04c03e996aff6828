//! Incidents: failures of one mailing at one mailbox group, or at one domain of it, far over the norm, that wait for a person. The rule is in
//! [`rinse_core::upkeep::incident`].
//!
//! - [`guard`]: what is counted, and when an incident is opened.

mod guard;

use crate::{Result, StoreError};
pub use guard::move_on;
pub(crate) use guard::{accepted, failed, known_otherwise, look_back};
use rinse_core::Instant;
use rinse_core::bounce::{Category, masked};
use rinse_core::id::MailingId;
use rinse_core::upkeep::incident::{NormOf, ON_A_MAILING_DAYS};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// The failed messages of an incident: of its mailing, to people at its domains.
const FAILED: &str = "send s INDEXED BY send_failure JOIN contact k ON k.id = s.contact_id
    JOIN incident_domain x ON x.mailing_id = s.mailing_id AND x.domain_id = k.domain_id WHERE s.failed_at IS NOT NULL";

/// Everybody whose failure an incident is about is to be worked out again.
fn due(c: &Connection, incident: i64) -> Result<()> {
    c.prepare_cached(const_format::concatcp!(
        "INSERT INTO status_due SELECT s.contact_id FROM ",
        FAILED,
        " AND s.mailing_id = (SELECT mailing_id FROM incident WHERE id = ?1) AND x.incident_id = ?1 AND k.gone IS NULL ON CONFLICT DO NOTHING"
    ))?
    .execute([incident])?;
    Ok(())
}

/// A domain joins an incident of its group.
fn cover(c: &Connection, incident: i64, mailing: MailingId, domain: i64) -> Result<()> {
    c.prepare_cached("INSERT INTO incident_domain (mailing_id, domain_id, incident_id) VALUES (?1, ?2, ?3)")?
        .execute([mailing.0, domain, incident])?;
    due(c, incident)
}

/// A reply line as hosts gave it, addresses and numbers masked, and how often.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ReplyLine {
    pub line: String,
    pub times: u64,
}

impl ReplyLine {
    /// The most frequent of some lines, at most so many.
    pub(crate) fn most_frequent(counted: impl IntoIterator<Item = (String, u64)>, most: usize) -> Vec<Self> {
        let mut lines: Vec<Self> = counted.into_iter().map(|(line, times)| Self { line, times }).collect();
        lines.sort_by(|a, b| b.times.cmp(&a.times).then_with(|| a.line.cmp(&b.line)));
        lines.truncate(most);
        lines
    }
}

/// Failures that wait for a person, or that one decided on.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Incident {
    pub id: i64,
    pub mailing_id: MailingId,
    pub mailing: String,
    /// The mailbox group, or the one domain of it.
    pub place: String,
    /// It is about all domains of the group.
    pub whole_group: bool,
    /// At so many domains something failed.
    pub domains: usize,
    pub opened_at: i64,
    /// Failures that would count against their addresses.
    pub failures: u64,
    /// The mailing's messages there.
    pub messages: u64,
    pub first_at: Option<i64>,
    pub last_at: Option<i64>,
    pub norm_of: NormOf,
    pub norm_failures: i64,
    pub norm_messages: i64,
    /// None: not decided.
    pub counts: Option<bool>,
    pub decided_at: Option<i64>,
    pub person: Option<String>,
    pub reason: String,
    pub lines: Vec<ReplyLine>,
}

const COLUMNS: &str = "SELECT i.id, i.mailing_id, m.name, i.name, i.whole, i.opened_at, i.norm_of, i.norm_failures, i.norm_messages, i.decision, i.decided_at, p.name, i.reason, i.messages
    FROM incident i JOIN mailing m ON m.id = i.mailing_id LEFT JOIN person p ON p.id = i.person_id";

/// Reply lines that are shown of one incident.
const LINES: usize = 5;

fn incident(c: &Connection, r: &Row<'_>) -> Result<Incident> {
    let (id, mailing_id): (i64, MailingId) = (r.get(0)?, MailingId(r.get(1)?));
    let mut s = c.prepare_cached(const_format::concatcp!(
        "SELECT s.reply, s.failed_at, s.category, k.domain_id FROM ",
        FAILED,
        " AND s.mailing_id = ?1 AND x.incident_id = ?2"
    ))?;
    let (mut lines, mut domains, mut failures) = (BTreeMap::<String, u64>::new(), BTreeSet::<i64>::new(), 0);
    let (mut first, mut last) = (None::<i64>, None::<i64>);
    let mut rows = s.query([mailing_id.0, id])?;
    while let Some(f) = rows.next()? {
        let (reply, at, category): (Option<String>, i64, Option<i64>) = (f.get(0)?, f.get(1)?, f.get(2)?);
        if category.map_or(Category::Unknown, Category::from_code).class().counts_against_address() {
            failures += 1;
            (first, last) = (Some(first.map_or(at, |t| t.min(at))), Some(last.map_or(at, |t| t.max(at))));
            *lines.entry(masked(&reply.unwrap_or_default())).or_default() += 1;
            domains.insert(f.get(3)?);
        }
    }
    let opened_at: i64 = r.get(5)?;
    let messages: i64 = match r.get::<_, Option<i64>>(13)? {
        Some(n) => n,
        None => messages_of(c, id, Instant::of(opened_at))?,
    };
    let norm_of: String = r.get(6)?;
    Ok(Incident {
        id,
        mailing_id,
        mailing: r.get(2)?,
        place: r.get(3)?,
        whole_group: r.get(4)?,
        domains: domains.len(),
        opened_at,
        failures,
        messages: messages.unsigned_abs().max(failures),
        first_at: first,
        last_at: last,
        norm_of: serde_json::from_value(serde_json::Value::String(norm_of))?,
        norm_failures: r.get(7)?,
        norm_messages: r.get(8)?,
        counts: r.get::<_, Option<i64>>(9)?.map(|d| d == 1),
        decided_at: r.get(10)?,
        person: r.get(11)?,
        reason: r.get(12)?,
        lines: ReplyLine::most_frequent(lines, LINES),
    })
}

/// The mailing's messages to an incident's domains around the day on which it was found.
fn messages_of(c: &Connection, incident: i64, found: Instant) -> Result<i64> {
    let day = guard::day(found);
    Ok(c.prepare_cached(
        "SELECT coalesce(sum(f.messages), 0) FROM incident_domain x CROSS JOIN domain_failure f INDEXED BY domain_failure_domain
            ON f.domain_id = x.domain_id AND f.mailing_id = x.mailing_id AND f.day BETWEEN ?2 AND ?3 WHERE x.incident_id = ?1",
    )?
    .query_row([incident, day - ON_A_MAILING_DAYS, day + ON_A_MAILING_DAYS], |r| r.get(0))?)
}

/// All incidents, those that wait first, then the newest.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Incident>> {
    some(c, const_format::concatcp!(COLUMNS, " ORDER BY i.decision IS NOT NULL, i.id DESC LIMIT 100"))
}

/// Those that wait for a person, the newest first.
///
/// # Errors
/// When the database fails.
pub fn undecided(c: &Connection) -> Result<Vec<Incident>> {
    some(c, const_format::concatcp!(COLUMNS, " WHERE i.decision IS NULL ORDER BY i.id DESC LIMIT 100"))
}

fn some(c: &Connection, sql: &str) -> Result<Vec<Incident>> {
    let mut s = c.prepare_cached(sql)?;
    let (mut rows, mut out) = (s.query([])?, Vec::new());
    while let Some(r) = rows.next()? {
        out.push(incident(c, r)?);
    }
    Ok(out)
}

/// Those that wait for a person, in few words: where, the mailing, and when it was opened.
///
/// # Errors
/// When the database fails.
pub fn waiting(c: &Connection) -> Result<Vec<(String, String, Instant)>> {
    let mut s = c.prepare_cached(
        "SELECT i.name, m.name, i.opened_at FROM incident i JOIN mailing m ON m.id = i.mailing_id WHERE i.decision IS NULL ORDER BY i.id DESC LIMIT 100",
    )?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, Instant::of(r.get(2)?))))?.collect::<rusqlite::Result<_>>()?)
}

/// A person says whether an incident's failures count (`None`: it waits again). Everybody it is about is worked out again:
/// [`super::status::settle_due`].
///
/// # Errors
/// When there is no such incident.
pub fn decide(c: &Connection, id: i64, counts: Option<bool>, reason: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let found: i64 = c
        .prepare_cached("SELECT opened_at FROM incident WHERE id = ?1")?
        .query_row([id], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("incident"))?;
    c.execute(
        "UPDATE incident SET decision = ?2, decided_at = iif(?2 IS NULL, NULL, ?3), person_id = ?4, reason = ?5, messages = coalesce(messages, ?6) WHERE id = ?1",
        params![id, counts.map(i64::from), now.millis(), person, reason, messages_of(c, id, Instant::of(found))?],
    )?;
    due(c, id)?;
    let what = match counts {
        Some(true) => "incident: the failures count",
        Some(false) => "incident: the failures don’t count",
        None => "incident: decision taken back",
    };
    crate::settings::audit(c, now, person, what, "upkeep", id, reason)
}
