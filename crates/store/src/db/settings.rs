//! Settings, the audit trail.

use crate::Result;
use rinse_core::Instant;
use rinse_core::id::MailingId;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
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

/// Nothing stands under a key from now on.
///
/// # Errors
/// When the database fails.
pub fn remove(c: &Connection, key: &str) -> Result<()> {
    c.prepare_cached("DELETE FROM setting WHERE key = ?1")?.execute([key])?;
    Ok(())
}

/// The signing key, made on first use from `fresh`.
///
/// # Errors
/// When the database fails.
pub fn signing_key(c: &Connection, fresh: &[u8; 32], now: Instant) -> Result<Vec<u8>> {
    c.execute(
        "INSERT INTO signing_key (id, key, made_at) SELECT 1, ?1, ?2 WHERE NOT EXISTS (SELECT 1 FROM signing_key)",
        params![fresh, now.millis()],
    )?;
    Ok(c.query_row("SELECT key FROM signing_key WHERE id = 1", [], |r| r.get(0))?)
}

/// Records who did what.
///
/// # Errors
/// When the database fails.
pub fn audit(c: &Connection, at: Instant, person: Option<i64>, what: &str, subject: &str, id: i64, detail: &str) -> Result<()> {
    c.prepare_cached("INSERT INTO audit (at, person_id, what, subject, subject_id, detail) VALUES (?1,?2,?3,?4,?5,?6)")?
        .execute(params![at.millis(), person, what, subject, id, detail])?;
    Ok(())
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

/// Puts a test of a draft on record, before it is handed over.
///
/// # Errors
/// When the database fails.
pub fn test_send(c: &Connection, mailing: Option<MailingId>, address: &str, now: Instant, person: Option<i64>) -> Result<i64> {
    Ok(c.query_row(
        "INSERT INTO test_send (at, mailing_id, address, reply, person_id) VALUES (?1, ?2, ?3, '', ?4) RETURNING id",
        params![now.millis(), mailing.map(|id| id.0), address, person],
        |r| r.get(0),
    )?)
}

/// Writes what the host replied to a test.
///
/// # Errors
/// When the database fails.
pub fn test_answered(c: &Connection, id: i64, reply: &str) -> Result<()> {
    c.execute("UPDATE test_send SET reply = ?2 WHERE id = ?1", params![id, reply])?;
    Ok(())
}

/// The newest instant in the audit trail.
///
/// # Errors
/// When the database fails.
pub fn newest_audit(c: &Connection) -> Result<Option<Instant>> {
    Ok(c.query_row("SELECT max(at) FROM audit", [], |r| r.get::<_, Option<i64>>(0))?.map(Instant::of))
}
