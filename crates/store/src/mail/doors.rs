//! The doors for mail: each source that brings mail has a secret of its own, which stands in the address that it posts to. Only its
//! digest is kept.

use crate::settings::audit;
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::token::hex;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

/// Somebody who brings mail.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Door {
    pub id: i64,
    pub name: String,
    pub made_at: i64,
    /// The day on which something was last brought, in milliseconds.
    pub used_at: Option<i64>,
}

const MOST: i64 = 50;

fn digest(secret: &str) -> String {
    hex(&Sha256::digest(secret.as_bytes()))
}

/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Door>> {
    let mut s = c.prepare_cached("SELECT id, name, made_at, used_at FROM door WHERE ended_at IS NULL ORDER BY name, id")?;
    let rows = s.query_map([], |r| Ok(Door { id: r.get(0)?, name: r.get(1)?, made_at: r.get(2)?, used_at: r.get(3)? }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Opens a door for a source.
///
/// # Errors
/// Without a name, or when there are 50.
pub fn make(c: &Connection, name: &str, secret: &str, now: Instant, person: Option<i64>) -> Result<i64> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 100 {
        return Err(StoreError::Refused("Name the source that will bring mail, in at most 100 characters.".into()));
    }
    let n: i64 = c.query_row("SELECT count(*) FROM door WHERE ended_at IS NULL", [], |r| r.get(0))?;
    if n >= MOST {
        return Err(StoreError::Refused(format!("There are {MOST} doors already. End one that nothing comes by.")));
    }
    c.execute(
        "INSERT INTO door (name, digest, made_at, person_id) VALUES (?1, ?2, ?3, ?4)",
        params![name, digest(secret), now.millis(), person],
    )?;
    let id = c.last_insert_rowid();
    audit(c, now, person, "door for mail opened", "door", id, name)?;
    Ok(id)
}

/// Closes a door: what its source brings from now on is refused.
///
/// # Errors
/// When there is no such door.
pub fn end(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    if c.execute("UPDATE door SET ended_at = ?2 WHERE id = ?1 AND ended_at IS NULL", [id, now.millis()])? == 0 {
        return Err(StoreError::Missing("door"));
    }
    audit(c, now, person, "door for mail closed", "door", id, "")
}

/// The door that a secret opens.
///
/// # Errors
/// When the database fails.
pub fn opened_by(c: &Connection, secret: &str) -> Result<Option<i64>> {
    Ok(c.prepare_cached("SELECT id FROM door WHERE digest = ?1 AND ended_at IS NULL")?
        .query_row([digest(secret)], |r| r.get(0))
        .optional()?)
}

/// Notes the day of use, once a day.
///
/// # Errors
/// When the database fails.
pub fn used(c: &Connection, id: i64, now: Instant) -> Result<()> {
    let day = now.millis() - now.millis().rem_euclid(rinse_core::DAY);
    c.prepare_cached("UPDATE door SET used_at = ?2 WHERE id = ?1 AND coalesce(used_at, 0) < ?2")?.execute([id, day])?;
    Ok(())
}
