//! Answers about everybody that take seconds, kept over a restart.

use crate::Result;
use rusqlite::{Connection, params};

/// What was said last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The request's path and query.
    pub asked: String,
    /// The clock's instant at which it was true.
    pub as_of: i64,
    /// How long it took, in milliseconds.
    pub took: u64,
    pub answer: Vec<u8>,
}

/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Answer>> {
    let mut s = c.prepare_cached("SELECT asked, as_of, took_ms, answer FROM kept_answer")?;
    let answer = |r: &rusqlite::Row<'_>| {
        Ok(Answer { asked: r.get(0)?, as_of: r.get(1)?, took: r.get::<_, i64>(2)?.unsigned_abs(), answer: r.get(3)? })
    };
    Ok(s.query_map([], answer)?.collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, a: &Answer) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO kept_answer VALUES (?1, ?2, ?3, ?4)")?.execute(params![
        a.asked,
        a.as_of,
        i64::try_from(a.took).unwrap_or(i64::MAX),
        a.answer
    ])?;
    Ok(())
}

/// Forgets what was said on some requests.
///
/// # Errors
/// When the database fails.
pub fn forget(c: &Connection, asked: &[String]) -> Result<()> {
    asked.iter().try_for_each(|a| c.prepare_cached("DELETE FROM kept_answer WHERE asked = ?1")?.execute([a]).map(drop)).map_err(Into::into)
}
