//! What a person should know that nothing else shows: a journal with a gap, mail that couldn't be read. On Today until somebody
//! has seen it.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rusqlite::{Connection, params};

/// The journal isn't as the database knew it.
pub const JOURNAL: &str = "journal";
/// Mail that couldn't be read.
pub const MAIL: &str = "mail";

/// A file of the system of record that wasn't taken in.
pub const RECORDS: &str = "records";

/// A notice that waits for somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    pub id: i64,
    pub kind: String,
    pub at: i64,
    pub words: String,
}

/// At most so many are shown at once.
const SHOWN: i64 = 20;

/// Puts a notice up. The same again (`kind` and what it is `about`) stands once, settled or not.
///
/// # Errors
/// When the database fails.
pub fn raise(c: &Connection, kind: &str, about: &str, words: &str, now: Instant) -> Result<()> {
    c.prepare_cached("INSERT INTO notice (kind, about, at, words) VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING")?.execute(params![
        kind,
        about,
        now.millis(),
        words
    ])?;
    Ok(())
}

/// The notices that nobody has settled, the newest first.
///
/// # Errors
/// When the database fails.
pub fn open(c: &Connection) -> Result<Vec<Notice>> {
    let mut s = c.prepare_cached("SELECT id, kind, at, words FROM notice WHERE settled_at IS NULL ORDER BY id DESC LIMIT ?1")?;
    let rows = s.query_map([SHOWN], |r| Ok(Notice { id: r.get(0)?, kind: r.get(1)?, at: r.get(2)?, words: r.get(3)? }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Somebody has seen it.
///
/// # Errors
/// When there is no such notice that waits.
pub fn settle(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute(
        "UPDATE notice SET settled_at = ?2, person_id = ?3 WHERE id = ?1 AND settled_at IS NULL",
        params![id, now.millis(), person],
    )?;
    if n == 0 {
        return Err(StoreError::Missing("notice"));
    }
    crate::settings::audit(c, now, person, "notice settled", "notice", id, "")
}
