//! Settings, people, the audit trail, letterheads, topics, lists, rules.

use crate::Result;
use rinse_core::Instant;
use rinse_core::caps::Cap;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// # Errors
/// When the database fails.
pub fn get(c: &Connection, key: &str) -> Result<Option<String>> {
    Ok(c.prepare_cached("SELECT value FROM setting WHERE key = ?1")?.query_row([key], |r| r.get(0)).optional()?)
}

/// # Errors
/// When the database fails.
pub fn set(c: &Connection, key: &str, value: &str) -> Result<()> {
    c.execute("INSERT INTO setting VALUES (?1, ?2) ON CONFLICT DO UPDATE SET value = excluded.value", [key, value])?;
    Ok(())
}

/// The signing key, made on first use from `fresh`.
///
/// # Errors
/// When the database fails.
pub fn signing_key(c: &Connection, fresh: &[u8; 32], now: Instant) -> Result<Vec<u8>> {
    c.execute(
        "INSERT INTO signing_key (id, key, made_at) SELECT 1, ?1, ?2 WHERE NOT EXISTS (SELECT 1 FROM signing_key)",
        params![fresh, now.0],
    )?;
    Ok(c.query_row("SELECT key FROM signing_key WHERE id = 1", [], |r| r.get(0))?)
}

/// Somebody who works with Rinse and is recorded with every change.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Person {
    pub id: i64,
    pub name: String,
    pub role: String,
}

/// # Errors
/// When the database fails.
pub fn people(c: &Connection) -> Result<Vec<Person>> {
    let mut s = c.prepare_cached("SELECT id, name, role FROM person ORDER BY id")?;
    Ok(s.query_map([], |r| Ok(Person { id: r.get(0)?, name: r.get(1)?, role: r.get(2)? }))?.collect::<rusqlite::Result<_>>()?)
}

/// Records who did what.
///
/// # Errors
/// When the database fails.
pub fn audit(c: &Connection, at: Instant, person: Option<i64>, what: &str, subject: &str, id: i64, detail: &str) -> Result<()> {
    c.prepare_cached("INSERT INTO audit (at, person_id, what, subject, subject_id, detail) VALUES (?1,?2,?3,?4,?5,?6)")?
        .execute(params![at.0, person, what, subject, id, detail])?;
    Ok(())
}

/// A brand's shared block.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Letterhead {
    #[serde(default)]
    pub id: i64,
    pub name: String,
    pub from_name: String,
    pub from_address: String,
    pub postal_address: String,
    pub ground: String,
    pub ink: String,
    pub accent: String,
}

/// # Errors
/// When the database fails.
pub fn letterheads(c: &Connection) -> Result<Vec<Letterhead>> {
    let mut s =
        c.prepare_cached("SELECT id, name, from_name, from_address, postal_address, ground, ink, accent FROM letterhead ORDER BY id")?;
    Ok(s.query_map([], |r| {
        Ok(Letterhead {
            id: r.get(0)?,
            name: r.get(1)?,
            from_name: r.get(2)?,
            from_address: r.get(3)?,
            postal_address: r.get(4)?,
            ground: r.get(5)?,
            ink: r.get(6)?,
            accent: r.get(7)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When there is no such letterhead.
pub fn letterhead(c: &Connection, id: i64) -> Result<Letterhead> {
    letterheads(c)?.into_iter().find(|l| l.id == id).ok_or(crate::StoreError::Missing("letterhead"))
}

/// # Errors
/// When the database fails.
pub fn save_letterhead(c: &Connection, l: &Letterhead) -> Result<i64> {
    let id = (l.id > 0).then_some(l.id);
    Ok(c.query_row(
        "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (?1,?2,?3,?4,?5,?6,?7,?8)
         ON CONFLICT (id) DO UPDATE SET name = ?2, from_name = ?3, from_address = ?4, postal_address = ?5, ground = ?6, ink = ?7, accent = ?8
         RETURNING id",
        params![id, l.name, l.from_name, l.from_address, l.postal_address, l.ground, l.ink, l.accent],
        |r| r.get(0),
    )?)
}

/// Something with a name and a number of people.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Named {
    pub id: i64,
    pub name: String,
    pub people: i64,
}

/// Something with a name, tied to a person.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Tied {
    pub id: i64,
    pub name: String,
}

/// # Errors
/// When the database fails.
pub fn topics(c: &Connection) -> Result<Vec<Named>> {
    let mut s =
        c.prepare_cached("SELECT id, name, (SELECT count(*) FROM topic_left t WHERE t.topic_id = topic.id) FROM topic ORDER BY id")?;
    Ok(s.query_map([], |r| Ok(Named { id: r.get(0)?, name: r.get(1)?, people: r.get(2)? }))?.collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When the database fails.
pub fn topic_named(c: &Connection, name: &str) -> Result<i64> {
    c.execute("INSERT INTO topic (name) VALUES (?1) ON CONFLICT DO NOTHING", [name])?;
    Ok(c.query_row("SELECT id FROM topic WHERE name = ?1", [name], |r| r.get(0))?)
}

/// The cap, with its switch, as one version of the rules.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct RulesVersion {
    pub id: i64,
    pub at: i64,
    pub person: Option<String>,
    pub cap_limit: u32,
    pub cap_window_hours: i64,
    pub cap_in_force: bool,
}

impl RulesVersion {
    /// The cap, when it is in force.
    #[must_use]
    pub fn cap(&self) -> Option<Cap> {
        Cap::new(self.cap_limit, self.cap_window_hours).ok().filter(|_| self.cap_in_force)
    }
}

/// The rules in force.
///
/// # Errors
/// When the database fails.
pub fn rules(c: &Connection) -> Result<RulesVersion> {
    Ok(c.prepare_cached("SELECT r.id, r.at, p.name, cap_limit, cap_window_hours, cap_in_force FROM rules_version r LEFT JOIN person p ON p.id = person_id ORDER BY r.id DESC LIMIT 1")?
        .query_row([], |r| {
            Ok(RulesVersion { id: r.get(0)?, at: r.get(1)?, person: r.get(2)?, cap_limit: r.get(3)?, cap_window_hours: r.get(4)?, cap_in_force: r.get(5)? })
        })?)
}

/// Saves a new version of the rules.
///
/// # Errors
/// When the database fails.
pub fn save_rules(c: &Connection, now: Instant, person: Option<i64>, cap: Cap, in_force: bool) -> Result<i64> {
    let hours = cap.window() / rinse_core::HOUR;
    Ok(c.query_row(
        "INSERT INTO rules_version (at, person_id, cap_limit, cap_window_hours, cap_in_force) VALUES (?1,?2,?3,?4,?5) RETURNING id",
        params![now.0, person, cap.limit(), hours, in_force],
        |r| r.get(0),
    )?)
}

/// A line of the suppression list.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SuppressionLine {
    pub text: String,
    pub reason: String,
    pub added_at: i64,
}

/// # Errors
/// When the database fails.
pub fn suppression(c: &Connection) -> Result<Vec<SuppressionLine>> {
    let mut s = c.prepare_cached("SELECT text, reason, added_at FROM suppression ORDER BY added_at DESC, text")?;
    Ok(s.query_map([], |r| Ok(SuppressionLine { text: r.get(0)?, reason: r.get(1)?, added_at: r.get(2)? }))?
        .collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When the database fails.
pub fn suppress(c: &Connection, text: &str, reason: &str, now: Instant, person: Option<i64>) -> Result<()> {
    c.execute("INSERT INTO suppression VALUES (?1,?2,?3,?4) ON CONFLICT DO NOTHING", params![text, reason, now.0, person])?;
    Ok(())
}

/// # Errors
/// When the database fails.
pub fn unsuppress(c: &Connection, text: &str) -> Result<bool> {
    Ok(c.execute("DELETE FROM suppression WHERE text = ?1", [text])? > 0)
}
