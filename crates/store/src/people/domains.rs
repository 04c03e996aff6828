//! Mail domains: how they took our mail lately, and which of them get nothing for a while.

use crate::send_state::{ACCEPTED, DEFERRED, HELD, WAITING};
use crate::settings::audit;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::id::ContactId;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// A domain that mail was handed to in the last 30 days, or that is paused.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct DomainRow {
    pub id: i64,
    pub name: String,
    pub people: i64,
    /// Messages handed over in the last 30 days, and what became of them.
    pub handed: i64,
    pub accepted: i64,
    /// Put off by the host, waiting for their next try.
    pub deferred: i64,
    pub failed: i64,
    pub pause: Option<DomainPause>,
}

/// No mail to a domain until an instant.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct DomainPause {
    pub until: i64,
    pub reason: String,
    pub made_at: i64,
    pub by: Option<String>,
    /// Messages that wait for its end.
    pub held: i64,
}

/// What a pause is made of.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct NewDomainPause {
    pub domain: String,
    #[schema(minimum = 0, maximum = 7_258_118_400_000_i64)]
    pub until: i64,
    pub reason: String,
}

const LONGEST: i64 = 90 * DAY;

/// The domains of the last 30 days, the largest first, at most 200; those on pause before them.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection, now: Instant) -> Result<Vec<DomainRow>> {
    let mut pauses = HashMap::new();
    let mut s = c.prepare_cached(
        formatcp!("SELECT p.domain_id, p.until_at, p.reason, p.made_at, who.name,
            (SELECT count(*) FROM send s JOIN contact c ON c.id = s.contact_id WHERE s.state IN ({WAITING}) AND s.state = {HELD} AND c.domain_id = p.domain_id AND s.at >= p.until_at)
         FROM domain_pause p LEFT JOIN person who ON who.id = p.person_id WHERE p.ended_at IS NULL AND p.until_at > ?1"),
    )?;
    let mut rows = s.query([now.millis()])?;
    while let Some(r) = rows.next()? {
        let pause = DomainPause { until: r.get(1)?, reason: r.get(2)?, made_at: r.get(3)?, by: r.get(4)?, held: r.get(5)? };
        pauses.insert(r.get::<_, i64>(0)?, pause);
    }
    // By the mailings of the time, whose messages an index has: asking person by person reads everybody's.
    let mut s = c.prepare_cached(
        formatcp!("SELECT d.id, d.name, (SELECT count(*) FROM contact WHERE domain_id = d.id AND gone IS NULL), coalesce(n.handed, 0), coalesce(n.accepted, 0),
            coalesce(n.deferred, 0), coalesce(n.failed, 0)
         FROM domain d LEFT JOIN (
            SELECT c.domain_id, count(*) AS handed, sum(s.state = {ACCEPTED}) AS accepted, sum(s.state = {DEFERRED}) AS deferred, sum(s.failed_at IS NOT NULL) AS failed
            FROM mailing m CROSS JOIN send s ON s.mailing_id = m.id CROSS JOIN contact c ON c.id = s.contact_id
            WHERE m.channel = 1 AND coalesce(m.started_at, m.made_at) > ?2 AND s.handed_at > ?1 GROUP BY c.domain_id) n ON n.domain_id = d.id
         ORDER BY 4 DESC, 3 DESC, d.name"),
    )?;
    let found = s.query_map([(now + -30 * DAY).millis(), (now + -2 * LONGEST).millis()], |r| {
        Ok(DomainRow {
            id: r.get(0)?,
            name: r.get(1)?,
            people: r.get(2)?,
            handed: r.get(3)?,
            accepted: r.get(4)?,
            deferred: r.get(5)?,
            failed: r.get(6)?,
            pause: None,
        })
    })?;
    let mut found: Vec<DomainRow> = found.collect::<rusqlite::Result<_>>()?;
    for row in &mut found {
        row.pause = pauses.remove(&row.id);
    }
    found.retain(|row| row.pause.is_some() || row.people > 0);
    found.sort_by_key(|row| row.pause.is_none());
    found.truncate(200);
    Ok(found)
}

/// Lets nothing go to a domain until an instant; one that is paused already gets the new end and reason.
///
/// # Errors
/// When nobody has that domain, the end lies behind or too far ahead, or no reason is given.
pub fn pause(c: &Connection, p: &NewDomainPause, now: Instant, person: Option<i64>) -> Result<()> {
    let name = p.domain.trim().trim_start_matches('@').to_lowercase();
    let id: i64 =
        c.prepare_cached("SELECT id FROM domain WHERE name = ?1")?.query_row([&name], |r| r.get(0)).optional()?.ok_or_else(|| {
            StoreError::Refused(format!("Nobody in the base has an address at “{name}”. Write the domain as it stands after the @."))
        })?;
    if p.until <= now.millis() || p.until > (now + LONGEST).millis() {
        return Err(StoreError::Refused("A pause ends at an instant to come, within 90 days.".into()));
    }
    let reason = p.reason.trim();
    if reason.chars().count() < 5 {
        return Err(StoreError::Refused(
            "Say why nothing may go to this domain for a while: anybody who looks up a held message is told.".into(),
        ));
    }
    end_there(c, id, now)?;
    c.execute(
        "INSERT INTO domain_pause (domain_id, made_at, until_at, reason, person_id) VALUES (?1, ?2, ?3, ?4, ?5)",
        params![id, now.millis(), p.until, reason, person],
    )?;
    audit(c, now, person, "domain paused", "domain", id, &format!("{name} until {}: {reason}", Instant::of(p.until).words()))
}

/// Ends a pause before its time: what waited only for it goes now, cleared again.
///
/// # Errors
/// When the domain isn't paused.
pub fn resume(c: &Connection, domain: i64, now: Instant, person: Option<i64>) -> Result<()> {
    if !end_there(c, domain, now)? {
        return Err(StoreError::Missing("pause of a domain"));
    }
    audit(c, now, person, "domain no longer paused", "domain", domain, "")
}

/// A mailbox group gets nothing until an instant.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct GroupPause {
    pub until: i64,
    pub reason: String,
    pub made_at: i64,
    /// Rinse made it, because the group's hosts blocked too much.
    pub by_itself: bool,
    /// Messages that wait for its end.
    pub waiting: i64,
}

/// The groups with a domain that is paused now: the pause that ends last.
///
/// # Errors
/// When the database fails.
pub fn paused_groups(c: &Connection, now: Instant) -> Result<HashMap<String, GroupPause>> {
    let mut s = c.prepare_cached(
        "SELECT coalesce(d.operator, d.name), p.until_at, p.reason, p.made_at, p.by_itself, p.domain_id
         FROM domain_pause p JOIN domain d ON d.id = p.domain_id WHERE p.ended_at IS NULL AND p.until_at > ?1 ORDER BY p.until_at",
    )?;
    let (mut out, mut of, mut first) = (HashMap::<String, GroupPause>::new(), HashMap::<i64, (String, i64)>::new(), i64::MAX);
    let mut rows = s.query([now.millis()])?;
    while let Some(r) = rows.next()? {
        let (group, until): (String, i64) = (r.get(0)?, r.get(1)?);
        first = first.min(until);
        of.insert(r.get(5)?, (group.clone(), until));
        out.insert(group, GroupPause { until, reason: r.get(2)?, made_at: r.get(3)?, by_itself: r.get(4)?, waiting: 0 });
    }
    if out.is_empty() {
        return Ok(out);
    }
    // All that is held is gone through once, however many domains a group has.
    let mut s = c.prepare_cached(formatcp!(
        "SELECT k.domain_id, s.at, count(*) FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.state IN ({WAITING}) AND s.state = {HELD} AND s.at >= ?1 GROUP BY 1, 2"
    ))?;
    let mut rows = s.query([first])?;
    while let Some(r) = rows.next()? {
        if let Some((group, until)) = of.get(&r.get(0)?)
            && r.get::<_, i64>(1)? >= *until
            && let Some(pause) = out.get_mut(group)
        {
            pause.waiting += r.get::<_, i64>(2)?;
        }
    }
    Ok(out)
}

/// Ends the pauses of all domains of a mailbox group before their time.
///
/// # Errors
/// When none of them is paused.
pub fn resume_group(c: &Connection, group: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let domains: Vec<i64> = c
        .prepare_cached(
            "SELECT DISTINCT p.domain_id FROM domain d JOIN domain_pause p ON p.domain_id = d.id AND p.ended_at IS NULL AND p.until_at > ?2 WHERE coalesce(d.operator, d.name) = ?1",
        )?
        .query_map(params![group, now.millis()], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    if domains.is_empty() {
        return Err(StoreError::Missing("pause of a mailbox group"));
    }
    for domain in domains {
        end_there(c, domain, now)?;
    }
    audit(c, now, person, "domain no longer paused", "domain", 0, group)
}

fn end_there(c: &Connection, id: i64, now: Instant) -> Result<bool> {
    let ended =
        c.execute("UPDATE domain_pause SET ended_at = ?2 WHERE domain_id = ?1 AND ended_at IS NULL AND until_at > ?2", [id, now.millis()])?;
    if ended > 0 {
        crate::held::clear_anew(c, Some(id), now)?;
    }
    Ok(ended > 0)
}

/// The domains that were paused at an instant, until when.
pub(crate) fn paused(c: &Connection, at: Instant) -> Result<HashMap<i64, i64>> {
    let mut s = c.prepare_cached(
        "SELECT domain_id, max(until_at) FROM domain_pause WHERE made_at <= ?1 AND until_at > ?1 AND (ended_at IS NULL OR ended_at > ?1) GROUP BY 1",
    )?;
    Ok(s.query_map([at.millis()], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// Until when the domain of a person was paused at an instant, and why.
pub(crate) fn paused_for(c: &Connection, contact: ContactId, at: Instant) -> Result<Option<(Instant, String)>> {
    let mut s = c.prepare_cached(
        "SELECT until_at, reason FROM domain_pause WHERE domain_id = (SELECT domain_id FROM contact WHERE id = ?1) AND made_at <= ?2 AND until_at > ?2
            AND (ended_at IS NULL OR ended_at > ?2) ORDER BY until_at DESC",
    )?;
    Ok(s.query_row([contact.0, at.millis()], |r| Ok((Instant::of(r.get(0)?), r.get(1)?))).optional()?)
}
