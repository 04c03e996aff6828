//! The wording of consent of a letterhead, in its versions: what somebody agreed to stays as it was.

use crate::Result;
use rinse_core::Instant;
use rinse_core::id::LetterheadId;
use rusqlite::{Connection, OptionalExtension, params};

/// The newest wording of consent of a letterhead: its number, version and text.
///
/// # Errors
/// When the database fails.
pub fn newest(c: &Connection, letterhead: LetterheadId) -> Result<Option<(i64, i64, String)>> {
    Ok(c.prepare_cached("SELECT id, version, text FROM consent_wording WHERE letterhead_id = ?1 ORDER BY version DESC LIMIT 1")?
        .query_row([letterhead.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))
        .optional()?)
}

/// Saves a wording as the next version, when it differs from the newest.
///
/// # Errors
/// When the database fails.
pub(crate) fn save(c: &Connection, letterhead: LetterheadId, text: &str, now: Instant) -> Result<()> {
    let newest = newest(c, letterhead)?;
    if newest.as_ref().is_some_and(|w| w.2 == text) || (newest.is_none() && text.is_empty()) {
        return Ok(());
    }
    c.execute(
        "INSERT INTO consent_wording (letterhead_id, version, text, made_at) VALUES (?1, ?2, ?3, ?4)",
        params![letterhead.0, newest.map_or(1, |w| w.1 + 1), text, now.millis()],
    )?;
    Ok(())
}
