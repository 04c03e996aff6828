//! Taking a file back: its steps and answers go, the messages' rows are worked out again, and what nobody else told of goes with them. What people
//! said there about being written to stays: who left, has left.

use super::{LogFile, one, taking};
use crate::codes::{FILE_APPLIED, FILE_APPLYING, FILE_CANCELLED, FILE_UNDOING, FILE_UNDONE};
use crate::machines::judging;
use crate::runs::UNDOABLE_FOR;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::standing::FileState;
use rusqlite::{Connection, OptionalExtension, params};

/// Rows that go at once.
const AT_ONCE: u32 = 500;

/// Begins to take a file back.
///
/// # Errors
/// When it wasn't applied, is older than 30 days, or a later file speaks of the same mailings.
pub fn begin_undo(c: &Connection, id: i64, now: Instant) -> Result<LogFile> {
    let file = one(c, id)?;
    match file.state {
        FileState::Undoing => return Ok(file),
        FileState::Applied => {}
        FileState::Cancelled if file.done > 0 => {}
        FileState::Undone => return Err(StoreError::Refused("This was taken back already.".into())),
        FileState::Applying => return Err(StoreError::Refused("The file is still being applied. Stop that first.".into())),
        _ => return Err(StoreError::Refused("Nothing of this file was applied.".into())),
    }
    if file.applied_at.is_some_and(|at| now.millis() - at > UNDOABLE_FOR) {
        return Err(StoreError::Refused("This is older than 30 days and can’t be taken back any more.".into()));
    }
    let later: Option<String> = c
        .query_row(
            formatcp!("SELECT f.file_name FROM log_mailing mine JOIN log_mailing other ON other.mailing_id = mine.mailing_id AND other.log_id > mine.log_id
             JOIN log_file f ON f.id = other.log_id AND f.state IN ({FILE_APPLIED}, {FILE_APPLYING}, {FILE_CANCELLED}, {FILE_UNDOING}) WHERE mine.log_id = ?1 ORDER BY f.id DESC LIMIT 1"),
            [id],
            |r| r.get(0),
        )
        .optional()?;
    if let Some(later) = later {
        return Err(StoreError::Refused(format!("“{later}” came later and speaks of the same mailings. Take that back first.")));
    }
    c.execute(formatcp!("UPDATE log_file SET state = {FILE_UNDOING} WHERE id = ?1"), [id])?;
    one(c, id)
}

fn ids(c: &Connection, sql: &str, id: i64) -> Result<Vec<i64>> {
    crate::stored::ids(c, sql, params![id, AT_ONCE])
}

/// Takes the next part back; false when nothing is left.
///
/// # Errors
/// When the database fails.
pub fn undo_some(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<bool> {
    if one(c, id)?.state != FileState::Undoing {
        return Ok(false);
    }
    if answers(c, id)? || steps(c, id)? || purchases(c, id)? || people(c, id)? || mailings(c, id)? {
        return Ok(true);
    }
    c.execute("DELETE FROM log_refused WHERE log_id = ?1", [id])?;
    c.execute(formatcp!("UPDATE log_file SET state = {FILE_UNDONE}, undone_at = ?2 WHERE id = ?1"), params![id, now.millis()])?;
    crate::settings::audit(c, now, person, "past mailings taken back", "history", id, &one(c, id)?.file_name)?;
    Ok(false)
}

fn answers(c: &Connection, id: i64) -> Result<bool> {
    let some = ids(c, "SELECT DISTINCT send_id FROM response WHERE log_id = ?1 LIMIT ?2", id)?;
    for send in &some {
        c.prepare_cached("DELETE FROM response WHERE log_id = ?1 AND send_id = ?2")?.execute([id, *send])?;
        c.prepare_cached(
            "UPDATE send SET reply_at = (SELECT min(at) FROM response WHERE send_id = ?1 AND kind = 3),
                complained_at = (SELECT min(at) FROM response WHERE send_id = ?1 AND kind = 5),
                withdrew_at = (SELECT min(at) FROM response WHERE send_id = ?1 AND kind = 4),
                left_at = (SELECT min(at) FROM response WHERE send_id = ?1 AND kind IN (4, 5)) WHERE id = ?1",
        )?
        .execute([send])?;
        judging::judge_whole(c, SendId(*send))?;
        c.prepare_cached("INSERT OR IGNORE INTO brought_due SELECT contact_id FROM send WHERE id = ?1")?.execute([send])?;
    }
    Ok(!some.is_empty())
}

fn steps(c: &Connection, id: i64) -> Result<bool> {
    let some = ids(c, "SELECT DISTINCT send_id FROM log_step WHERE log_id = ?1 LIMIT ?2", id)?;
    for send in &some {
        c.prepare_cached("DELETE FROM log_step WHERE log_id = ?1 AND send_id = ?2")?.execute([id, *send])?;
        c.prepare_cached("DELETE FROM log_crossed WHERE log_id = ?1 AND send_id = ?2")?.execute([id, *send])?;
        c.prepare_cached("INSERT INTO status_due SELECT contact_id FROM send WHERE id = ?1 ON CONFLICT DO NOTHING")?.execute([send])?;
        if taking::work_out(c, SendId(*send))? {
            judging::judge_whole(c, SendId(*send))?;
        }
        // What came in by the door meanwhile keeps the message.
        let kept = c
            .prepare_cached("SELECT 1 FROM log_step WHERE send_id = ?1 UNION ALL SELECT 1 FROM response WHERE send_id = ?1")?
            .exists([send])?;
        // The ledger is sealed with the message's number: such a row stays, as one that never went.
        let sealed = c
            .prepare_cached("SELECT 1 FROM ledger WHERE contact_id = (SELECT contact_id FROM send WHERE id = ?1) AND send_id = ?1")?
            .exists([send])?;
        let handed_out = c
            .prepare_cached("SELECT 1 FROM send s JOIN mailing m ON m.id = s.mailing_id WHERE s.id = ?1 AND m.handed_out = 1")?
            .exists([send])?;
        if !kept && !sealed && !handed_out {
            c.prepare_cached("DELETE FROM send WHERE id = ?1")?.execute([send])?;
        }
    }
    Ok(!some.is_empty())
}

fn purchases(c: &Connection, id: i64) -> Result<bool> {
    let some = ids(c, "SELECT id FROM purchase WHERE log_id = ?1 LIMIT ?2", id)?;
    for purchase in &some {
        c.prepare_cached("DELETE FROM purchase WHERE id = ?1")?.execute([purchase])?;
    }
    Ok(!some.is_empty())
}

/// People whom the file brought go, unless something else is known of them by now.
fn people(c: &Connection, id: i64) -> Result<bool> {
    let some = ids(c, "SELECT contact_id FROM log_person WHERE log_id = ?1 LIMIT ?2", id)?;
    for contact in &some {
        c.prepare_cached("DELETE FROM log_person WHERE log_id = ?1 AND contact_id = ?2")?.execute([id, *contact])?;
        let more = c
            .prepare_cached(
                "SELECT 1 FROM contact k WHERE k.id = ?1 AND (k.gone IS NOT NULL OR k.merged_into IS NOT NULL OR k.consent <> ?2
                    OR EXISTS (SELECT 1 FROM send s WHERE s.contact_id = k.id) OR EXISTS (SELECT 1 FROM purchase p WHERE p.contact_id = k.id)
                    OR EXISTS (SELECT 1 FROM event e WHERE e.contact_id = k.id) OR EXISTS (SELECT 1 FROM ledger l WHERE l.contact_id = k.id AND l.kind IN
                        ('agreed', 'invited', 'confirmed', 'paused', 'resumed', 'withdrew', 'complained', 'renewed'))
                    OR EXISTS (SELECT 1 FROM list_member l WHERE l.contact_id = k.id) OR EXISTS (SELECT 1 FROM contact_tag t WHERE t.contact_id = k.id))",
            )?
            .exists(params![contact, Consent::None as i64])?;
        if !more {
            crate::erasure::empty(c, ContactId(*contact), 2)?;
        }
    }
    Ok(!some.is_empty())
}

/// Mailings that only this file told of.
fn mailings(c: &Connection, id: i64) -> Result<bool> {
    let some = ids(c, "SELECT mailing_id FROM log_mailing WHERE log_id = ?1 LIMIT ?2", id)?;
    for mailing in &some {
        c.prepare_cached("DELETE FROM log_mailing WHERE log_id = ?1 AND mailing_id = ?2")?.execute([id, *mailing])?;
        let made_here = c
            .prepare_cached(
                "SELECT 1 FROM outside_mailing o WHERE o.mailing_id = ?1 AND o.log_id = ?2 AND NOT EXISTS (SELECT 1 FROM log_mailing l WHERE l.mailing_id = ?1)
                    AND NOT EXISTS (SELECT 1 FROM send s WHERE s.mailing_id = ?1)",
            )?
            .exists([*mailing, id])?;
        if made_here {
            for sql in [
                "DELETE FROM outside_mailing WHERE mailing_id = ?1",
                "DELETE FROM incident WHERE mailing_id = ?1",
                "DELETE FROM domain_failure WHERE mailing_id = ?1",
                "DELETE FROM group_failure WHERE mailing_id = ?1",
                "DELETE FROM link WHERE mailing_id = ?1",
                "DELETE FROM variant WHERE mailing_id = ?1",
                "DELETE FROM mailing_label WHERE mailing_id = ?1",
                "DELETE FROM mailing_figure WHERE mailing_id = ?1",
                "DELETE FROM figure_hour WHERE mailing_id = ?1",
                "DELETE FROM figure_cell WHERE mailing_id = ?1",
            ] {
                c.prepare_cached(sql)?.execute([mailing])?;
            }
            // What names it by now (a reaction, an alert) keeps it, in the archive and with nothing in it.
            if c.prepare_cached("DELETE FROM mailing WHERE id = ?1")?.execute([mailing]).is_err() {
                c.prepare_cached("UPDATE mailing SET archived_at = started_at WHERE id = ?1")?.execute([mailing])?;
            }
        } else {
            super::outside::span(c, MailingId(*mailing))?;
        }
    }
    Ok(!some.is_empty())
}
