//! Mailings: drafts, their variants, audience and links.

use crate::{Result, StoreError};
use rinse_core::clearance::{HOLD_LIMIT, OverCap};
use rinse_core::message::{CONTACT_PLACEHOLDERS, Link};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A mailing, whole.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Mailing {
    pub id: i64,
    pub name: String,
    pub topic_id: Option<i64>,
    pub letterhead_id: i64,
    /// None: everyone.
    pub list_id: Option<i64>,
    pub list: Option<String>,
    pub segment_id: Option<i64>,
    pub segment: Option<String>,
    pub over_cap: OverCap,
    /// 1 to 5, 1 first: who goes first when several wait for the same people.
    pub priority: u8,
    /// People are held for at most so many days.
    pub hold_days: i64,
    /// Why it may exceed the caps, and who said so.
    pub exceed_reason: String,
    pub exceed_by: Option<String>,
    /// Why it is a service mailing; empty: marketing.
    pub service_reason: String,
    /// Why it may go to people who complained too, and who said so.
    pub complainers_reason: String,
    pub complainers_by: Option<String>,
    /// Mail-load cells that it leaves out.
    pub leave_out: Vec<u8>,
    pub html: String,
    pub text: String,
    pub subjects: Vec<String>,
    pub state: String,
    pub planned_at: Option<i64>,
    pub started_at: Option<i64>,
    pub finished_at: Option<i64>,
    pub trial_id: Option<i64>,
    pub labels: Vec<String>,
}

/// What the editor saves.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct MailingDraft {
    pub name: String,
    pub topic_id: Option<i64>,
    pub letterhead_id: i64,
    pub list_id: Option<i64>,
    /// Only those of the list (or of everyone) who are in this segment.
    #[serde(default)]
    pub segment_id: Option<i64>,
    pub over_cap: OverCap,
    #[serde(default = "usual_priority")]
    pub priority: u8,
    #[serde(default = "usual_hold_days")]
    pub hold_days: i64,
    /// Why it may exceed the caps; only an approver can say so.
    #[serde(default)]
    pub exceed_reason: String,
    /// Why the recipients expect it (a receipt, a booking, security): then it is a service mailing.
    #[serde(default)]
    pub service_reason: String,
    /// Why it may go to people who complained too: service mail that law requires; only an approver can say so.
    #[serde(default)]
    pub complainers_reason: String,
    /// Mail-load cells whose people it leaves out.
    #[serde(default)]
    pub leave_out: Vec<u8>,
    pub html: String,
    pub text: String,
    pub subjects: Vec<String>,
}

impl MailingDraft {
    /// An empty draft under a letterhead, with what is usual.
    #[must_use]
    pub fn under(letterhead: i64, name: &str) -> Self {
        Self {
            name: name.to_owned(),
            topic_id: None,
            letterhead_id: letterhead,
            list_id: None,
            segment_id: None,
            over_cap: OverCap::Hold,
            priority: usual_priority(),
            hold_days: usual_hold_days(),
            exceed_reason: String::new(),
            service_reason: String::new(),
            complainers_reason: String::new(),
            leave_out: Vec::new(),
            html: String::new(),
            text: String::new(),
            subjects: vec![String::new()],
        }
    }
}

fn usual_priority() -> u8 {
    3
}

fn usual_hold_days() -> i64 {
    HOLD_LIMIT / DAY
}

/// Mail-load cells as their bits, and back.
fn bits(cells: &[u8]) -> u32 {
    cells.iter().filter(|cell| **cell < 15).fold(0, |bits, cell| bits | 1 << cell)
}

fn cells(bits: u32) -> Vec<u8> {
    (0..15).filter(|cell| bits & (1 << cell) != 0).collect()
}

fn role(c: &Connection, person: Option<i64>) -> Result<Option<String>> {
    Ok(c.query_row("SELECT role FROM person WHERE id = ?1", [person], |r| r.get(0)).optional()?)
}

/// What an approver has to let through.
struct LetThrough<'a> {
    asked: bool,
    reason: &'a str,
    /// The reason that stands on record, when it was let through before.
    kept: Option<String>,
    column: &'static str,
    /// "let a mailing exceed the caps. Ask one, or …"
    refusal: &'static str,
    /// "this mailing may exceed the caps"
    what: &'static str,
}

/// Refuses what only an approver can let through. Somebody else may go on with a draft that was, as long as
/// nothing of that changes.
fn approved(c: &Connection, l: &LetThrough<'_>, person: Option<i64>) -> Result<()> {
    if !l.asked || l.kept.as_deref() == Some(l.reason) {
        return Ok(());
    }
    if role(c, person)?.as_deref() != Some("approver") {
        return Err(StoreError::Refused(format!("Only an approver can {}", l.refusal)));
    }
    if l.reason.chars().count() < 10 {
        return Err(StoreError::Refused(format!("Say in a sentence why {}: the reason stays on record.", l.what)));
    }
    Ok(())
}

/// Writes who let it through, and says so in the audit trail.
fn write_approval(c: &Connection, id: i64, l: &LetThrough<'_>, now: Instant, person: Option<i64>) -> Result<()> {
    let column = l.column;
    if !l.asked {
        c.execute(&format!("UPDATE mailing SET {column}_reason = '', {column}_by = NULL WHERE id = ?1"), [id])?;
        return Ok(());
    }
    let new = c.execute(
        &format!(
            "UPDATE mailing SET {column}_reason = ?2, {column}_by = ?3 WHERE id = ?1 AND ({column}_reason <> ?2 OR {column}_by IS NULL)"
        ),
        params![id, l.reason, person],
    )?;
    if new > 0 {
        crate::settings::audit(c, now, person, l.what, "mailing", id, l.reason)?;
    }
    Ok(())
}

fn subjects(c: &Connection, id: i64) -> Result<Vec<String>> {
    let mut s = c.prepare_cached("SELECT subject FROM variant WHERE mailing_id = ?1 ORDER BY arm")?;
    Ok(s.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When there is no such mailing.
pub fn one(c: &Connection, id: i64) -> Result<Mailing> {
    let mut m = c
        .prepare_cached("SELECT m.id, m.name, topic_id, letterhead_id, list_id, l.name, over_cap, html, text, m.state, planned_at, started_at, finished_at, t.id, m.segment_id, g.name, priority, hold_days, exceed_reason, p.name, service_reason, complainers_reason, q.name, leave_out
            FROM mailing m LEFT JOIN person p ON p.id = exceed_by LEFT JOIN person q ON q.id = complainers_by LEFT JOIN list l ON l.id = list_id LEFT JOIN segment g ON g.id = m.segment_id LEFT JOIN trial t ON t.mailing_id = m.id WHERE m.id = ?1")?
        .query_row([id], |r| {
            Ok(Mailing {
                id: r.get(0)?, name: r.get(1)?, topic_id: r.get(2)?, letterhead_id: r.get(3)?, list_id: r.get(4)?, list: r.get(5)?,
                over_cap: OverCap::from_code(&r.get::<_, String>(6)?), priority: r.get(16)?, hold_days: r.get(17)?, exceed_reason: r.get(18)?, exceed_by: r.get(19)?, service_reason: r.get(20)?, complainers_reason: r.get(21)?, complainers_by: r.get(22)?, leave_out: cells(r.get(23)?), html: r.get(7)?, text: r.get(8)?, subjects: vec![], state: r.get(9)?,
                planned_at: r.get(10)?, started_at: r.get(11)?, finished_at: r.get(12)?, trial_id: r.get(13)?, segment_id: r.get(14)?, segment: r.get(15)?, labels: vec![],
            })
        })
        .optional()?
        .ok_or(StoreError::Missing("mailing"))?;
    m.subjects = subjects(c, id)?;
    m.labels = crate::tags::labels_of(c, id)?;
    Ok(m)
}

/// A mailing as lists show it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MailingRow {
    pub id: i64,
    pub name: String,
    pub state: String,
    pub planned_at: Option<i64>,
    pub started_at: Option<i64>,
    pub list: Option<String>,
    pub trial_id: Option<i64>,
    pub labels: Vec<String>,
}

/// All mailings: those to come first, then the newest sent.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<MailingRow>> {
    let mut s = c.prepare_cached(
        "SELECT m.id, m.name, m.state, planned_at, started_at, l.name, t.id,
            (SELECT json_group_array(name) FROM (SELECT name FROM label JOIN mailing_label x ON x.label_id = label.id WHERE x.mailing_id = m.id ORDER BY 1))
         FROM mailing m LEFT JOIN list l ON l.id = list_id LEFT JOIN trial t ON t.mailing_id = m.id
         ORDER BY m.state = 'sent', coalesce(started_at, planned_at, m.made_at) DESC, m.id DESC LIMIT 500",
    )?;
    Ok(s.query_map([], |r| {
        Ok(MailingRow {
            id: r.get(0)?,
            name: r.get(1)?,
            state: r.get(2)?,
            planned_at: r.get(3)?,
            started_at: r.get(4)?,
            list: r.get(5)?,
            trial_id: r.get(6)?,
            labels: serde_json::from_str(&r.get::<_, String>(7)?).unwrap_or_default(),
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Makes or changes a draft. Only drafts change: what was planned or sent stays as it was.
///
/// # Errors
/// When the mailing is no draft any more.
pub fn save(c: &Connection, id: Option<i64>, d: &MailingDraft, now: Instant, person: Option<i64>) -> Result<i64> {
    if d.subjects.is_empty() || d.subjects.len() > 6 {
        return Err(StoreError::Refused("A mailing has one to six variants.".into()));
    }
    crate::settings::letterhead(c, d.letterhead_id)?;
    for (id, sql, what) in [
        (d.topic_id, "SELECT 1 FROM topic WHERE id = ?1", "topic"),
        (d.list_id, "SELECT 1 FROM list WHERE id = ?1", "list"),
        (d.segment_id, "SELECT 1 FROM segment WHERE id = ?1", "segment"),
    ] {
        if let Some(id) = id
            && !c.prepare_cached(sql)?.exists([id])?
        {
            return Err(StoreError::Missing(what));
        }
    }
    let over = d.over_cap.code();
    if !(1..=5).contains(&d.priority) {
        return Err(StoreError::Refused("A priority is 1 (goes first) to 5.".into()));
    }
    if !(1..=28).contains(&d.hold_days) {
        return Err(StoreError::Refused("People are held for 1 to 28 days.".into()));
    }
    let service = d.service_reason.trim();
    if !service.is_empty() && service.chars().count() < 10 {
        return Err(StoreError::Refused(
            "Say in a sentence why the recipients expect this mailing, as they do a receipt or a booking: the reason stays on record."
                .into(),
        ));
    }
    if service.is_empty() && !d.complainers_reason.trim().is_empty() {
        return Err(StoreError::Refused("Marketing never goes to people who complained. Only service mail that law requires can.".into()));
    }
    let kept = |column: &str| -> Result<Option<String>> {
        let sql = format!("SELECT {column}_reason FROM mailing WHERE id = ?1 AND {column}_by IS NOT NULL");
        Ok(c.query_row(&sql, [id], |r| r.get(0)).optional()?)
    };
    let exceed = LetThrough {
        asked: d.over_cap == OverCap::Exceed,
        reason: d.exceed_reason.trim(),
        kept: kept("exceed")?,
        column: "exceed",
        refusal: "let a mailing exceed the caps. Ask one, or let it hold or skip people.",
        what: "this mailing may exceed the caps",
    };
    let complainers = LetThrough {
        asked: !d.complainers_reason.trim().is_empty(),
        reason: d.complainers_reason.trim(),
        kept: kept("complainers")?,
        column: "complainers",
        refusal: "let service mail go to people who complained. Ask one, or leave those people out.",
        what: "this mailing may go to people who complained",
    };
    approved(c, &exceed, person)?;
    approved(c, &complainers, person)?;
    let service_before: String =
        c.query_row("SELECT service_reason FROM mailing WHERE id = ?1", [id], |r| r.get(0)).optional()?.unwrap_or_default();
    let class = if service.is_empty() { 1 } else { 2 };
    let id = match id {
        Some(id) => {
            let n = c.execute(
                "UPDATE mailing SET name=?2, topic_id=?3, letterhead_id=?4, list_id=?5, over_cap=?6, html=?7, text=?8, segment_id=?9, priority=?10, hold_days=?11, class=?12, service_reason=?13, leave_out=?14 WHERE id = ?1 AND state = 'draft'",
                params![id, d.name, d.topic_id, d.letterhead_id, d.list_id, over, d.html, d.text, d.segment_id, d.priority, d.hold_days, class, service, bits(&d.leave_out)],
            )?;
            if n == 0 {
                return Err(StoreError::Refused("Only a draft can be changed. Make a new mailing instead.".into()));
            }
            id
        }
        None => c.query_row(
            "INSERT INTO mailing (name, topic_id, letterhead_id, list_id, over_cap, html, text, made_at, person_id, segment_id, priority, hold_days, class, service_reason, leave_out) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15) RETURNING id",
            params![d.name, d.topic_id, d.letterhead_id, d.list_id, over, d.html, d.text, now.0, person, d.segment_id, d.priority, d.hold_days, class, service, bits(&d.leave_out)],
            |r| r.get(0),
        )?,
    };
    write_approval(c, id, &exceed, now, person)?;
    write_approval(c, id, &complainers, now, person)?;
    if service != service_before {
        let what = if service.is_empty() { "marketing mailing again" } else { "service mailing" };
        crate::settings::audit(c, now, person, what, "mailing", id, service)?;
    }
    c.execute("DELETE FROM variant WHERE mailing_id = ?1", [id])?;
    for (arm, subject) in d.subjects.iter().enumerate() {
        c.execute("INSERT INTO variant VALUES (?1, ?2, ?3)", params![id, i64::try_from(arm).unwrap_or(0), subject])?;
    }
    Ok(id)
}

/// Stores the links of a mailing when it is planned or sealed.
///
/// # Errors
/// When the database fails.
pub fn save_links(c: &Connection, id: i64, links: &[Link]) -> Result<()> {
    c.execute("DELETE FROM link WHERE mailing_id = ?1", [id])?;
    for (i, l) in links.iter().enumerate() {
        c.execute("INSERT INTO link VALUES (?1,?2,?3,?4)", params![id, i64::try_from(i).unwrap_or(0), l.url, l.name])?;
    }
    Ok(())
}

/// The links of a mailing, in their order.
///
/// # Errors
/// When the database fails.
pub fn links(c: &Connection, id: i64) -> Result<Vec<Link>> {
    let mut s = c.prepare_cached("SELECT url, name FROM link WHERE mailing_id = ?1 ORDER BY position")?;
    Ok(s.query_map([id], |r| Ok(Link { url: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?)
}

/// The address a link leads to.
///
/// # Errors
/// When the database fails.
pub fn link_url(c: &Connection, send: i64, position: u32) -> Result<Option<String>> {
    Ok(c.prepare_cached("SELECT l.url FROM send s JOIN link l ON l.mailing_id = s.mailing_id WHERE s.id = ?1 AND l.position = ?2")?
        .query_row(params![send, position], |r| r.get(0))
        .optional()?)
}

/// Moves a mailing to another state.
///
/// # Errors
/// When it isn't in a state it may leave.
pub fn set_state(c: &Connection, id: i64, from: &[&str], to: &str, planned_at: Option<Instant>) -> Result<()> {
    let state: String =
        c.query_row("SELECT state FROM mailing WHERE id = ?1", [id], |r| r.get(0)).optional()?.ok_or(StoreError::Missing("mailing"))?;
    if !from.contains(&state.as_str()) {
        return Err(StoreError::Refused(format!("This mailing is {state}; that can't be done to it any more.")));
    }
    c.execute(
        "UPDATE mailing SET state = ?2, planned_at = coalesce(?3, planned_at) WHERE id = ?1",
        params![id, to, planned_at.map(|i| i.0)],
    )?;
    Ok(())
}

/// How many of the audience lack each placeholder, and how many they are.
///
/// # Errors
/// When the segment is gone.
pub fn missing(c: &Connection, list: Option<i64>, segment: Option<i64>, now: Instant) -> Result<(BTreeMap<String, u64>, u64)> {
    let (from, values) = audience(c, list, segment, now)?;
    let count = |what: &str| format!("coalesce(sum({what} IS NULL OR {what} = ''), 0)");
    let sql = format!("SELECT count(*), {}, {}, {} FROM {from}", count("c.given_name"), count("c.family_name"), count("c.country"));
    Ok(c.prepare_cached(&sql)?.query_row(rusqlite::params_from_iter(&values), |r| {
        let n = |i| r.get::<_, i64>(i).map(|v| u64::try_from(v).unwrap_or(0));
        let names = [CONTACT_PLACEHOLDERS[0], CONTACT_PLACEHOLDERS[1], CONTACT_PLACEHOLDERS[3]];
        Ok((names.iter().zip([n(1)?, n(2)?, n(3)?]).map(|(k, v)| ((*k).to_owned(), v)).collect(), n(0)?))
    })?)
}

/// The people on a list, in the order of their numbers.
///
/// # Errors
/// When the database fails.
pub(crate) fn members(c: &Connection, list: i64) -> Result<Vec<i64>> {
    let mut s = c.prepare_cached("SELECT contact_id FROM list_member WHERE list_id = ?1 ORDER BY contact_id")?;
    Ok(s.query_map([list], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

/// The people a mailing selects, as the FROM and WHERE of a query over `contact c`.
///
/// # Errors
/// When the segment is gone.
fn audience(c: &Connection, list: Option<i64>, segment: Option<i64>, now: Instant) -> Result<(String, Vec<rusqlite::types::Value>)> {
    let (mut from, mut values) = match list {
        Some(list) => ("list_member m CROSS JOIN contact c ON c.id = m.contact_id WHERE m.list_id = ?".to_owned(), vec![list.into()]),
        None => ("contact c WHERE c.gone IS NULL".to_owned(), vec![]),
    };
    if let Some(segment) = segment {
        let condition = crate::segments::condition(c, segment, now)?;
        from.push_str(" AND ");
        from.push_str(&condition.text);
        values.extend(condition.values);
    }
    Ok((from, values))
}
