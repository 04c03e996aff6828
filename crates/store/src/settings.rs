//! Settings, people, the audit trail, letterheads, topics.

use crate::Result;
use rinse_core::Instant;
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
    /// IANA time zone, for people without one.
    #[serde(default = "utc")]
    pub zone: String,
    /// ISO 3166-1 code, for people without one.
    #[serde(default)]
    pub country: Option<String>,
    /// What one-click unsubscribe ends: `topic` (the mailing's; everything when it has none) or `everything`.
    #[serde(default = "topic")]
    pub one_click: String,
    /// A sign-up has to be confirmed by a link sent to the address.
    #[serde(default = "yes")]
    pub double_opt_in: bool,
    /// What people agree to when they sign up; every change is kept as a version.
    #[serde(default)]
    pub wording: String,
    /// The legal entity that writes: another one keeps separate consent. Empty: the first.
    #[serde(default)]
    pub entity: String,
}

fn yes() -> bool {
    true
}

fn utc() -> String {
    "UTC".into()
}

fn topic() -> String {
    "topic".into()
}

/// # Errors
/// When the database fails.
pub fn letterheads(c: &Connection) -> Result<Vec<Letterhead>> {
    let mut s =
        c.prepare_cached("SELECT id, name, from_name, from_address, postal_address, ground, ink, accent, zone, country, one_click, double_opt_in,
            coalesce((SELECT text FROM consent_wording w WHERE w.letterhead_id = letterhead.id ORDER BY version DESC LIMIT 1), ''), entity FROM letterhead ORDER BY id")?;
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
            zone: r.get(8)?,
            country: r.get(9)?,
            one_click: r.get(10)?,
            double_opt_in: r.get(11)?,
            wording: r.get(12)?,
            entity: r.get(13)?,
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
pub fn save_letterhead(c: &Connection, l: &Letterhead, now: Instant) -> Result<i64> {
    if rinse_core::zone::named(&l.zone).is_none() {
        return Err(crate::StoreError::Refused(format!("{:?} is no time zone: give one as Europe/London is written.", l.zone)));
    }
    if l.country.as_deref().is_some_and(|c| c.len() != 2 || !c.bytes().all(|b| b.is_ascii_uppercase())) {
        return Err(crate::StoreError::Refused("A country is written as two capital letters, as GB is.".into()));
    }
    let one_click = if l.one_click == "everything" { "everything" } else { "topic" };
    let id = (l.id > 0).then_some(l.id);
    let id = c.query_row(
        "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent, zone, country, one_click, double_opt_in, entity) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13)
         ON CONFLICT (id) DO UPDATE SET name = ?2, from_name = ?3, from_address = ?4, postal_address = ?5, ground = ?6, ink = ?7, accent = ?8, zone = ?9, country = ?10, one_click = ?11, double_opt_in = ?12, entity = ?13
         RETURNING id",
        params![id, l.name, l.from_name, l.from_address, l.postal_address, l.ground, l.ink, l.accent, l.zone, l.country, one_click, l.double_opt_in, l.entity.trim()],
        |r| r.get(0),
    )?;
    crate::signups::save_wording(c, id, l.wording.trim(), now)?;
    Ok(id)
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
