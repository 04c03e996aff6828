//! What a person's responses add up to, kept beside them: conditions on responses would otherwise count
//! over tens of millions of rows.
//!
//! Responses are written first and rolled up right after, by the writer when nobody waits for it. Until
//! then their people are *due*: a query takes the roll-up for everyone else and counts the rows of the
//! due ones, so that the answer is exact at any moment (see [`crate::segments`]).

use crate::Result;
use crate::codes::FILE_AT_WORK;
use const_format::formatcp;
use rinse_core::id::ContactId;
use rusqlite::{Connection, params};

/// How many of the latest messages a roll-up knows by their instants.
pub const DEPTH: u32 = 6;

/// The messages a person's host accepted, as a kind of roll-up beside the kinds of responses.
pub const RECEIVED: i64 = 6;

/// The people whose roll-up is not of now.
pub(crate) const DUE: &str = "(SELECT s.contact_id AS contact_id FROM response r CROSS JOIN send s ON s.id = r.send_id WHERE r.id > (SELECT upto FROM rollup) UNION SELECT contact_id FROM rollup_due)";

/// Notes that a person's messages changed.
///
/// # Errors
/// When the database fails.
pub(crate) fn due(c: &Connection, contact: ContactId) -> Result<()> {
    c.prepare_cached("INSERT INTO rollup_due VALUES (?1) ON CONFLICT DO NOTHING")?.execute([contact.0])?;
    Ok(())
}

/// The latest response of each message by kind, and when messages were accepted, of the people that
/// `people` selects.
fn latest(people: &str) -> String {
    format!(
        "SELECT r.kind AS kind, s.contact_id AS contact_id, max(r.at) AS at FROM send s INDEXED BY send_contact CROSS JOIN response r INDEXED BY response_send ON r.send_id = s.id
         WHERE r.machine = 0 {people} GROUP BY r.kind, s.contact_id, s.id
         UNION ALL SELECT {RECEIVED}, s.contact_id, s.accepted_at FROM send s INDEXED BY send_contact WHERE s.accepted_at IS NOT NULL {people}"
    )
}

fn rows(people: &str) -> String {
    let nth = |n: u32| format!("max(CASE WHEN place = {n} THEN at END)");
    let all = (1..=DEPTH).map(nth).collect::<Vec<_>>().join(", ");
    format!(
        "INSERT INTO answered SELECT kind, contact_id, count(*), {all} FROM (
            SELECT kind, contact_id, at, row_number() OVER (PARTITION BY kind, contact_id ORDER BY at DESC) AS place FROM ({})
         ) GROUP BY kind, contact_id",
        latest(people)
    )
}

/// Works one person's roll-up out again.
///
/// # Errors
/// When the database fails.
pub(crate) fn again(c: &Connection, contact: ContactId) -> Result<()> {
    c.prepare_cached("DELETE FROM answered WHERE kind IN (1, 2, 3, 4, 5, 6) AND contact_id = ?1")?.execute([contact.0])?;
    c.prepare_cached(&rows("AND s.contact_id = ?1"))?.execute([contact.0])?;
    c.prepare_cached("DELETE FROM rollup_due WHERE contact_id = ?1")?.execute([contact.0])?;
    c.prepare_cached("UPDATE rollup SET latest = max(latest, coalesce((SELECT max(t1) FROM answered WHERE kind IN (1, 2, 3, 4, 5, 6) AND contact_id = ?1), 0))")?
        .execute([contact.0])?;
    Ok(())
}

/// Rolls some of what is due up; true when something is left.
///
/// # Errors
/// When the database fails.
pub fn some(c: &Connection, most: usize) -> Result<bool> {
    // A file of past mailings speaks of the same people again and again: each is rolled up once, when it is in.
    if c.prepare_cached(formatcp!("SELECT 1 FROM log_file WHERE state IN ({FILE_AT_WORK}) LIMIT 1"))?.exists([])? {
        return Ok(false);
    }
    let (upto, newest): (i64, i64) = c
        .prepare_cached("SELECT upto, coalesce((SELECT max(id) FROM response), 0) FROM rollup")?
        .query_row([], |r| Ok((r.get(0)?, r.get(1)?)))?;
    if newest > upto {
        // First their people, then the mark: a stop in between only does some of it twice.
        let last = newest.min(upto + i64::try_from(most).unwrap_or(i64::MAX));
        c.prepare_cached("INSERT INTO rollup_due SELECT s.contact_id FROM response r CROSS JOIN send s ON s.id = r.send_id WHERE r.id > ?1 AND r.id <= ?2 ON CONFLICT DO NOTHING")?
            .execute([upto, last])?;
        c.prepare_cached("UPDATE rollup SET upto = ?1")?.execute([last])?;
    }
    let people: Vec<i64> = c
        .prepare_cached("SELECT contact_id FROM rollup_due LIMIT ?1")?
        .query_map(params![i64::try_from(most).unwrap_or(i64::MAX)], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for contact in &people {
        again(c, ContactId(*contact))?;
    }
    Ok(newest > upto || people.len() == most)
}

/// People rolled up by one statement.
const PART: i64 = 20_000;

/// Rolls everything up at once, from nothing: for a file whose history was written straight into it.
///
/// # Errors
/// When the database fails.
pub fn everything(c: &Connection) -> Result<()> {
    c.execute_batch("DELETE FROM answered; DELETE FROM rollup_due;")?;
    // A part at a time, so that what is sorted stays in memory.
    let last: i64 = c.query_row("SELECT coalesce(max(id), 0) FROM contact", [], |r| r.get(0))?;
    let mut s = c.prepare(&rows("AND s.contact_id BETWEEN ?1 AND ?2"))?;
    let mut from = 1;
    while from <= last {
        s.execute([from, from + PART - 1])?;
        from += PART;
    }
    c.execute(
        "UPDATE rollup SET upto = coalesce((SELECT max(id) FROM response), 0), latest = coalesce((SELECT max(t1) FROM answered), 0)",
        [],
    )?;
    Ok(())
}

/// Is nothing that is rolled up later than this instant? Then the latest ones tell all that conditions
/// ask; of an instant in the past they don't.
///
/// # Errors
/// When the database fails.
pub(crate) fn tell_of(c: &Connection, at: rinse_core::Instant) -> Result<bool> {
    Ok(c.prepare_cached("SELECT latest <= ?1 FROM rollup")?.query_row([at.millis()], |r| r.get(0))?)
}

/// Is everybody's roll-up of now?
///
/// # Errors
/// When the database fails.
pub(crate) fn none_due(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached(
        "SELECT coalesce((SELECT max(id) FROM response), 0) <= (SELECT upto FROM rollup) AND NOT EXISTS (SELECT 1 FROM rollup_due)",
    )?
    .query_row([], |r| r.get(0))?)
}
