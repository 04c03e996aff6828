//! Lines for the system of record: whom it must not bring back. The address stands in a line until it was handed over, at most 30 days; then only
//! its keyed hash is left, by which a file that brings it back is told.

use crate::{Result, settings, tombstones, webhooks};
use rinse_core::id::ContactId;
use rinse_core::token::hex;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// An address that nobody took is forgotten after this time.
const KEPT_FOR: i64 = 30 * DAY;

/// A line.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ReturnLine {
    pub id: i64,
    pub at: i64,
    /// In hexadecimal.
    pub hash: String,
    /// Until it was handed over.
    pub address: Option<String>,
    pub reason: String,
    pub run_id: Option<i64>,
    pub handed_at: Option<i64>,
}

/// Writes the line of somebody who is about to be deleted.
///
/// # Errors
/// When the database fails.
pub(super) fn write(c: &Connection, contact: ContactId, run: i64, reason: &str, now: Instant) -> Result<()> {
    let (address, key): (String, String) = c
        .prepare_cached("SELECT address, address_key FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let hash = tombstones::signer(c)?.tombstone(&key);
    let id: i64 = c
        .prepare_cached("INSERT INTO do_not_return (at, hash, address, reason, run_id) VALUES (?1, ?2, ?3, ?4, ?5) RETURNING id")?
        .query_row(params![now.millis(), hash, address, reason, run], |r| r.get(0))?;
    let Some(webhook) = webhook(c)? else { return Ok(()) };
    let (key, at) = (format!("do-not-return-{id}"), now.iso());
    let body =
        serde_json::json!({ "what": "do_not_return", "line": id, "at": at, "address": address, "hash": hex(&hash), "reason": reason });
    if webhooks::queue(c, webhook, &key, None, &body, now)? {
        c.prepare_cached(
            "UPDATE do_not_return SET delivery_id = (SELECT id FROM delivery WHERE webhook_id = ?2 AND key = ?3) WHERE id = ?1",
        )?
        .execute(params![id, webhook, key])?;
    }
    Ok(())
}

const WEBHOOK: &str = "return_webhook";

/// The system that is told of each line at once, when one is.
///
/// # Errors
/// When the database fails.
pub fn webhook(c: &Connection) -> Result<Option<i64>> {
    webhooks::chosen(c, WEBHOOK)
}

/// Chooses the system that is told of each line at once; none: lines wait to be taken as a file.
///
/// # Errors
/// When there is no such webhook.
pub fn tell(c: &Connection, id: Option<i64>, now: Instant, person: Option<i64>) -> Result<()> {
    webhooks::choose(c, WEBHOOK, id, "system told of do-not-return lines chosen", now, person)
}

/// Lines, the newest first, a page at a time before a number.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection, waiting: bool, before: Option<i64>, most: u32) -> Result<Vec<ReturnLine>> {
    let sql = format!(
        "SELECT id, at, lower(hex(hash)), address, reason, run_id, handed_at FROM do_not_return WHERE id < ?1 {} ORDER BY id DESC LIMIT ?2",
        if waiting { "AND address IS NOT NULL" } else { "" }
    );
    let mut s = c.prepare_cached(&sql)?;
    let rows = s.query_map(params![before.unwrap_or(i64::MAX), most], |r| {
        Ok(ReturnLine {
            id: r.get(0)?,
            at: r.get(1)?,
            hash: r.get(2)?,
            address: r.get(3)?,
            reason: r.get(4)?,
            run_id: r.get(5)?,
            handed_at: r.get(6)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How many lines there are, and how many still wait with their address.
///
/// # Errors
/// When the database fails.
pub fn counts(c: &Connection) -> Result<(i64, i64)> {
    Ok(c.prepare_cached("SELECT count(*), count(address) FROM do_not_return")?.query_row([], |r| Ok((r.get(0)?, r.get(1)?)))?)
}

/// They were handed over, up to this line: their addresses are forgotten.
///
/// # Errors
/// When the database fails.
pub fn handed(c: &Connection, upto: i64, now: Instant, person: Option<i64>) -> Result<usize> {
    let n = c
        .prepare_cached("UPDATE do_not_return SET address = NULL, handed_at = ?2 WHERE id <= ?1 AND address IS NOT NULL")?
        .execute([upto, now.millis()])?;
    if n > 0 {
        settings::audit(c, now, person, "do-not-return lines handed over", "upkeep", upto, &format!("{n} lines"))?;
    }
    Ok(n)
}

/// Addresses that nobody took in time are forgotten.
///
/// # Errors
/// When the database fails.
pub fn move_on(c: &Connection, now: Instant) -> Result<usize> {
    Ok(c.prepare_cached("UPDATE do_not_return SET address = NULL WHERE address IS NOT NULL AND at <= ?1")?
        .execute([now.millis() - KEPT_FOR])?)
}
