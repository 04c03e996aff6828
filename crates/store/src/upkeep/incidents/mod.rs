//! Incidents: failures of one mailing at one mailbox group, far over its norm, that wait for a person. The rule is in
//! [`rinse_core::upkeep::incident`]; a group is a domain.

use super::policy;
use crate::{Result, StoreError};
use rinse_core::bounce::{Category, masked};
use rinse_core::id::{ContactId, MailingId};
use rinse_core::upkeep::incident::{Counted, NORM_DAYS, NormOf, ON_A_MAILING_DAYS, is_incident, norm};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

fn day(at: Instant) -> i64 {
    at.millis().div_euclid(DAY)
}

fn domain_of(c: &Connection, contact: ContactId) -> Result<i64> {
    Ok(c.prepare_cached("SELECT domain_id FROM contact WHERE id = ?1")?.query_row([contact.0], |r| r.get(0))?)
}

fn add(c: &Connection, at: Instant, domain: i64, mailing: MailingId, by: Counted) -> Result<()> {
    c.prepare_cached("INSERT INTO domain_failure VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO UPDATE SET messages = messages + ?4, failures = failures + ?5")?
        .execute(params![day(at), domain, mailing.0, stored(by.messages), stored(by.failures)])?;
    Ok(())
}

/// A host accepted a message of a mailing to somebody at a domain.
pub(crate) fn accepted(c: &Connection, domain: i64, mailing: MailingId, at: Instant) -> Result<()> {
    add(c, at, domain, mailing, Counted { failures: 0, messages: 1 })
}

/// A message failed; `after`: its host had accepted it before. Opens an incident where the failures pass the norm.
pub(crate) fn failed(c: &Connection, contact: ContactId, mailing: MailingId, category: Category, after: bool, now: Instant) -> Result<()> {
    let domain = domain_of(c, contact)?;
    add(c, now, domain, mailing, Counted { failures: u64::from(category.class().counts_against_address()), messages: u64::from(!after) })?;
    if !category.class().counts_against_address() {
        return Ok(());
    }
    let found = c.prepare_cached("SELECT 1 FROM incident WHERE mailing_id = ?1 AND domain_id = ?2")?.exists([mailing.0, domain])?;
    if found {
        return Ok(());
    }
    let policy = policy::current(c)?.policy;
    let on = on_mailing(c, domain, mailing, now)?;
    if on.failures <= u64::from(policy.incident_addresses) {
        return Ok(());
    }
    let (norm_of, usual) = norm_of(c, domain, mailing, now)?;
    // Addresses that fail may come first: what is still to be handed over belongs to the mailing, too. It is counted now and then only.
    let step = (on.failures.next_power_of_two() / 8).max(1);
    let looked_at = on.failures == u64::from(policy.incident_addresses) + 1 || on.failures % step == 0;
    let whole = || -> Result<Counted> { Ok(Counted { messages: on.messages.max(of_mailing(c, domain, mailing, now)?), ..on }) };
    if looked_at && is_incident(on, usual, &policy) && is_incident(whole()?, usual, &policy) {
        let of = serde_json::to_value(norm_of)?;
        c.prepare_cached(
            "INSERT INTO incident (mailing_id, domain_id, opened_at, norm_of, norm_failures, norm_messages) VALUES (?1,?2,?3,?4,?5,?6)",
        )?
        .execute(params![mailing.0, domain, now.millis(), of.as_str(), stored(usual.failures), stored(usual.messages)])?;
        // The first of them were judged by themselves.
        due(c, mailing, domain)?;
        super::status::settle_due(c, now)?;
    }
    Ok(())
}

/// A message of another system went otherwise than was known: so many messages and failures come or go.
pub(crate) fn known_otherwise(
    c: &Connection,
    contact: ContactId,
    mailing: MailingId,
    at: Instant,
    messages: i64,
    failures: i64,
) -> Result<()> {
    if messages < 0 || failures < 0 {
        // What was forgotten meanwhile needs no taking away.
        c.prepare_cached(
            "UPDATE domain_failure SET messages = max(messages + ?4, 0), failures = max(failures + ?5, 0) WHERE day = ?1 AND domain_id = (SELECT domain_id FROM contact WHERE id = ?2) AND mailing_id = ?3",
        )?
        .execute(params![day(at), contact.0, mailing.0, messages, failures])?;
    } else if messages > 0 || failures > 0 {
        c.prepare_cached("INSERT INTO domain_failure VALUES (?1, (SELECT domain_id FROM contact WHERE id = ?2), ?3, ?4, ?5) ON CONFLICT DO UPDATE SET messages = messages + ?4, failures = failures + ?5")?
            .execute(params![day(at), contact.0, mailing.0, messages, failures])?;
    }
    Ok(())
}

/// Looks back at a mailing of another system: where its failures passed the norm of the days before, they wait for a person, too.
pub(crate) fn look_back(c: &Connection, mailing: MailingId) -> Result<()> {
    let policy = policy::current(c)?.policy;
    let mut s = c.prepare_cached(
        "SELECT f.domain_id, sum(f.failures), sum(f.messages), max(f.day) FROM domain_failure f WHERE f.mailing_id = ?1
            AND NOT EXISTS (SELECT 1 FROM incident i WHERE i.mailing_id = ?1 AND i.domain_id = f.domain_id) GROUP BY 1 HAVING sum(f.failures) > ?2",
    )?;
    let found: Vec<(i64, Counted, i64)> = s
        .query_map(params![mailing.0, policy.incident_addresses], |r| {
            let n = |i| r.get::<_, i64>(i).map(i64::unsigned_abs);
            Ok((r.get(0)?, Counted { failures: n(1)?, messages: n(2)? }, r.get(3)?))
        })?
        .collect::<rusqlite::Result<_>>()?;
    for (domain, on, last) in found {
        let then = Instant::of(last * DAY);
        let (of, usual) = norm_of(c, domain, mailing, then)?;
        if is_incident(on, usual, &policy) {
            c.prepare_cached(
                "INSERT INTO incident (mailing_id, domain_id, opened_at, norm_of, norm_failures, norm_messages) VALUES (?1,?2,?3,?4,?5,?6)",
            )?
            .execute(params![
                mailing.0,
                domain,
                then.millis(),
                serde_json::to_value(of)?.as_str(),
                stored(usual.failures),
                stored(usual.messages)
            ])?;
        }
    }
    Ok(())
}

/// A count as SQLite keeps it.
fn stored(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

fn counted(r: &Row<'_>) -> rusqlite::Result<Counted> {
    let n = |i| r.get::<_, i64>(i).map(|n| n.unsigned_abs());
    Ok(Counted { failures: n(0)?, messages: n(1)? })
}

/// A mailing's failures and messages at a domain, of the last days.
fn on_mailing(c: &Connection, domain: i64, mailing: MailingId, now: Instant) -> Result<Counted> {
    Ok(c.prepare_cached(
        "SELECT coalesce(sum(failures), 0), coalesce(sum(messages), 0) FROM domain_failure WHERE day BETWEEN ?1 AND ?2 AND domain_id = ?3 AND mailing_id = ?4",
    )?
    .query_row(params![day(now) - ON_A_MAILING_DAYS, day(now), domain, mailing.0], counted)?)
}

/// A mailing's messages to a domain, those that are still to be handed over as well.
fn of_mailing(c: &Connection, domain: i64, mailing: MailingId, now: Instant) -> Result<u64> {
    Ok(c.prepare_cached(
        "SELECT count(*) FROM contact k INDEXED BY contact_domain CROSS JOIN send s ON s.contact_id = k.id
         WHERE k.domain_id = ?1 AND s.mailing_id = ?2 AND (s.handed_at IS NULL OR s.handed_at >= ?3)",
    )?
    .query_row(params![domain, mailing.0, (day(now) - ON_A_MAILING_DAYS) * DAY], |r| r.get::<_, i64>(0))?
    .unsigned_abs())
}

/// What was usual before: of the domain, of the base where it had too little, without this mailing and without what didn't count either.
fn norm_of(c: &Connection, domain: i64, mailing: MailingId, now: Instant) -> Result<(NormOf, Counted)> {
    let of = |which: &str| -> Result<Counted> {
        let sql = format!(
            "SELECT coalesce(sum(f.failures), 0), coalesce(sum(f.messages), 0) FROM domain_failure f WHERE f.day BETWEEN ?1 AND ?2 AND f.mailing_id <> ?4
                AND (?3 IS NULL OR 1) {which} AND NOT EXISTS (SELECT 1 FROM incident i WHERE i.mailing_id = f.mailing_id AND i.domain_id = f.domain_id AND i.decision IS NOT 1)"
        );
        Ok(c.prepare_cached(&sql)?.query_row(params![day(now) - NORM_DAYS, day(now), domain, mailing.0], counted)?)
    };
    let own = of("AND f.domain_id = ?3")?;
    let (found, usual) = norm(own, own);
    if found == NormOf::Group {
        return Ok((found, usual));
    }
    Ok(norm(own, of("")?))
}

/// Everybody whose failure an incident is about is to be worked out again.
fn due(c: &Connection, mailing: MailingId, domain: i64) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO status_due SELECT s.contact_id FROM send s INDEXED BY send_failure JOIN contact k ON k.id = s.contact_id
         WHERE s.mailing_id = ?1 AND s.failed_at IS NOT NULL AND k.domain_id = ?2 AND k.gone IS NULL ON CONFLICT DO NOTHING",
    )?
    .execute([mailing.0, domain])?;
    Ok(())
}

/// Days that are behind the norm are forgotten. Once a day.
///
/// # Errors
/// When the database fails.
pub fn move_on(c: &Connection, now: Instant) -> Result<()> {
    c.prepare_cached("DELETE FROM domain_failure WHERE day < ?1")?.execute([day(now) - NORM_DAYS - ON_A_MAILING_DAYS])?;
    Ok(())
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
    pub domain: String,
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

const COLUMNS: &str = "SELECT i.id, i.mailing_id, m.name, d.name, i.opened_at, i.norm_of, i.norm_failures, i.norm_messages, i.decision, i.decided_at, p.name, i.reason, i.domain_id, i.messages
    FROM incident i JOIN mailing m ON m.id = i.mailing_id JOIN domain d ON d.id = i.domain_id LEFT JOIN person p ON p.id = i.person_id";

/// Reply lines that are shown of one incident.
const LINES: usize = 5;

fn incident(c: &Connection, r: &Row<'_>) -> Result<Incident> {
    let (mailing_id, domain_id): (MailingId, i64) = (MailingId(r.get(1)?), r.get(12)?);
    let mut s = c.prepare_cached(
        "SELECT s.reply, s.failed_at, s.category FROM send s INDEXED BY send_failure JOIN contact k ON k.id = s.contact_id
         WHERE s.mailing_id = ?1 AND s.failed_at IS NOT NULL AND k.domain_id = ?2",
    )?;
    let (mut lines, mut failures, mut first, mut last) = (BTreeMap::<String, u64>::new(), 0, None::<i64>, None::<i64>);
    let mut rows = s.query([mailing_id.0, domain_id])?;
    while let Some(f) = rows.next()? {
        let (reply, at, category): (Option<String>, i64, Option<i64>) = (f.get(0)?, f.get(1)?, f.get(2)?);
        if category.map_or(Category::Unknown, Category::from_code).class().counts_against_address() {
            failures += 1;
            (first, last) = (Some(first.map_or(at, |t| t.min(at))), Some(last.map_or(at, |t| t.max(at))));
            *lines.entry(masked(&reply.unwrap_or_default())).or_default() += 1;
        }
    }
    let messages: i64 = match r.get::<_, Option<i64>>(13)? {
        Some(n) => n,
        None => messages_of(c, domain_id, mailing_id, Instant::of(r.get(4)?))?,
    };
    let norm_of: String = r.get(5)?;
    Ok(Incident {
        id: r.get(0)?,
        mailing_id,
        mailing: r.get(2)?,
        domain: r.get(3)?,
        opened_at: r.get(4)?,
        failures,
        messages: messages.unsigned_abs().max(failures),
        first_at: first,
        last_at: last,
        norm_of: serde_json::from_value(serde_json::Value::String(norm_of))?,
        norm_failures: r.get(6)?,
        norm_messages: r.get(7)?,
        counts: r.get::<_, Option<i64>>(8)?.map(|d| d == 1),
        decided_at: r.get(9)?,
        person: r.get(10)?,
        reason: r.get(11)?,
        lines: ReplyLine::most_frequent(lines, LINES),
    })
}

/// A mailing's messages at a domain around the day on which it was found.
fn messages_of(c: &Connection, domain: i64, mailing: MailingId, found: Instant) -> Result<i64> {
    Ok(c.prepare_cached(
        "SELECT coalesce(sum(messages), 0) FROM domain_failure WHERE domain_id = ?1 AND mailing_id = ?2 AND day BETWEEN ?3 AND ?4",
    )?
    .query_row(params![domain, mailing.0, day(found) - ON_A_MAILING_DAYS, day(found) + ON_A_MAILING_DAYS], |r| r.get(0))?)
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

/// Those that wait for a person, in few words: domain, mailing, and when it was opened.
///
/// # Errors
/// When the database fails.
pub fn waiting(c: &Connection) -> Result<Vec<(String, String, Instant)>> {
    let mut s = c.prepare_cached(
        "SELECT d.name, m.name, i.opened_at FROM incident i JOIN mailing m ON m.id = i.mailing_id JOIN domain d ON d.id = i.domain_id WHERE i.decision IS NULL ORDER BY i.id DESC LIMIT 100",
    )?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, Instant::of(r.get(2)?))))?.collect::<rusqlite::Result<_>>()?)
}

/// A person says whether an incident's failures count (`None`: it waits again). Everybody it is about is worked out again:
/// [`super::status::settle_due`].
///
/// # Errors
/// When there is no such incident.
pub fn decide(c: &Connection, id: i64, counts: Option<bool>, reason: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let (mailing, domain, found): (i64, i64, i64) = c
        .prepare_cached("SELECT mailing_id, domain_id, opened_at FROM incident WHERE id = ?1")?
        .query_row([id], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))
        .optional()?
        .ok_or(StoreError::Missing("incident"))?;
    c.execute(
        "UPDATE incident SET decision = ?2, decided_at = iif(?2 IS NULL, NULL, ?3), person_id = ?4, reason = ?5, messages = coalesce(messages, ?6) WHERE id = ?1",
        params![id, counts.map(i64::from), now.millis(), person, reason, messages_of(c, domain, MailingId(mailing), Instant::of(found))?],
    )?;
    due(c, MailingId(mailing), domain)?;
    let what = match counts {
        Some(true) => "incident: the failures count",
        Some(false) => "incident: the failures don’t count",
        None => "incident: decision taken back",
    };
    crate::settings::audit(c, now, person, what, "upkeep", id, reason)
}
