//! Mailbox groups: which mail domains the same operator takes mail for, as DNS says it or a person.

use crate::{Result, StoreError, settings};
use rinse_core::delivery::operator::{self, Mx};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// Mail hosts are looked for again after so long.
const FRESH: i64 = 30 * DAY;

/// Who says which group a domain is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SaidBy {
    /// Nobody: it is a group of its own.
    Nobody,
    Dns,
    Person,
}

/// A mail domain and its group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = MailboxDomain)]
pub struct Domain {
    pub id: i64,
    pub name: String,
    pub people: i64,
    pub group: String,
    pub said_by: SaidBy,
    /// Its mail hosts as they were found, the best first.
    pub mx: Option<String>,
    pub mx_at: Option<i64>,
}

/// The domains with most people.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection, most: u32) -> Result<Vec<Domain>> {
    let mut s = c.prepare_cached(
        "SELECT d.id, d.name, n.people, coalesce(d.operator, d.name), d.operator_by, d.mx, d.mx_at
         FROM (SELECT domain_id, count(*) AS people FROM contact WHERE gone IS NULL GROUP BY domain_id) n JOIN domain d ON d.id = n.domain_id
         ORDER BY n.people DESC, d.name LIMIT ?1",
    )?;
    let rows = s.query_map([most], |r| {
        Ok(Domain {
            id: r.get(0)?,
            name: r.get(1)?,
            people: r.get(2)?,
            group: r.get(3)?,
            said_by: match r.get::<_, i64>(4)? {
                1 => SaidBy::Dns,
                2 => SaidBy::Person,
                _ => SaidBy::Nobody,
            },
            mx: r.get(5)?,
            mx_at: r.get(6)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A person says which group a domain is of; none: DNS, or nobody, says it again.
///
/// # Errors
/// When there is no such domain, or the group's name is none.
pub fn say(c: &Connection, domain: i64, group: Option<&str>, now: Instant, person: Option<i64>) -> Result<()> {
    let (name, mx): (String, Option<String>) = c
        .prepare_cached("SELECT name, mx FROM domain WHERE id = ?1")?
        .query_row([domain], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?
        .ok_or(StoreError::Missing("mail domain"))?;
    let (group, by) = match group {
        Some(group) => {
            let group = group.trim().to_lowercase();
            if group.is_empty() || group.len() > 100 || group.chars().any(|c| c.is_control() || c.is_whitespace()) {
                return Err(StoreError::Refused("Name the group as its operator’s domain: up to 100 signs without spaces.".into()));
            }
            (Some(group), 2)
        }
        None => {
            let found = mx.as_deref().and_then(|mx| operator::registered(mx.split(' ').next()?));
            let by = i64::from(found.is_some());
            (found, by)
        }
    };
    c.prepare_cached("UPDATE domain SET operator = ?2, operator_by = ?3 WHERE id = ?1")?.execute(params![domain, group, by])?;
    let said = group.unwrap_or_else(|| name.clone());
    settings::audit(c, now, person, "mailbox group changed", "delivery", domain, &format!("{name} is of {said}"))
}

/// Domains whose mail hosts are to be looked for, those with most people first.
///
/// # Errors
/// When the database fails.
pub fn stale(c: &Connection, now: Instant, most: u32) -> Result<Vec<(i64, String)>> {
    let mut s = c.prepare_cached(
        "SELECT d.id, d.name FROM domain d JOIN (SELECT domain_id, count(*) AS people FROM contact WHERE gone IS NULL GROUP BY domain_id) n ON n.domain_id = d.id
         WHERE d.mx_at IS NULL OR d.mx_at < ?1 ORDER BY n.people DESC, d.name LIMIT ?2",
    )?;
    Ok(s.query_map(params![now.millis() - FRESH, most], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// Mail hosts were found (`None`: DNS gave no answer, and what was found before stays). What a person said stays.
///
/// # Errors
/// When the database fails.
pub fn found(c: &Connection, domain: i64, mx: Option<&[Mx]>, now: Instant) -> Result<()> {
    let Some(mx) = mx else {
        c.prepare_cached("UPDATE domain SET mx_at = ?2 WHERE id = ?1")?.execute([domain, now.millis()])?;
        return Ok(());
    };
    let mut sorted: Vec<&Mx> = mx.iter().collect();
    sorted.sort();
    let hosts = sorted.iter().take(10).map(|m| m.host.trim_end_matches('.').to_lowercase()).collect::<Vec<_>>().join(" ");
    let operator = operator::of(mx);
    c.prepare_cached(
        "UPDATE domain SET mx = ?2, mx_at = ?3, operator = iif(operator_by = 2, operator, ?4), operator_by = iif(operator_by = 2, 2, ?4 IS NOT NULL) WHERE id = ?1",
    )?
    .execute(params![domain, hosts, now.millis(), operator])?;
    Ok(())
}

/// The group of each domain that has one of another name.
///
/// # Errors
/// When the database fails.
pub fn groups(c: &Connection) -> Result<std::collections::HashMap<i64, String>> {
    let mut s = c.prepare_cached("SELECT id, operator FROM domain WHERE operator IS NOT NULL AND operator <> name")?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}
