//! Deleting a person, at their wish or after their address was retired for long: what is personal goes, what reports count stays, and a keyed hash
//! keeps the address from coming back with the next file.

use crate::codes::{ACTIVE, NONE, SIGN_UP_ENDED, SIGN_UP_WAITING, TOLD_GIVEN_UP, TOLD_WAITING};
use crate::grant::Grant;
use crate::ledger::{self, Origin};
use crate::send_state::{NOT_SENT, WAITING};
use crate::tombstones::{Tombstones, bury};
use crate::{Result, StoreError, journal, settings};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rusqlite::{Connection, params};

/// Deletes a person, with everybody who was merged into them. It can't be taken back.
///
/// # Errors
/// When there is no such person.
pub fn erase(c: &Connection, contact: ContactId, now: Instant, person: Option<i64>) -> Result<()> {
    erase_by(c, contact, now, &Origin { source: "analyst", person, ..Origin::default() })?;
    settings::audit(c, now, person, "person deleted", "contact", contact.0, "")
}

/// As [`erase`], with what it comes from; a run is in the audit trail as a whole.
pub(crate) fn erase_by(c: &Connection, contact: ContactId, now: Instant, origin: &Origin) -> Result<()> {
    let there: bool = c
        .prepare_cached("SELECT gone IS NULL FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| r.get(0))
        .map_err(|_| StoreError::Missing("contact"))?;
    if !there {
        return Err(StoreError::Refused("This person is not in the base any more.".into()));
    }
    crate::writer::has_erased();
    let tombstones = Tombstones::load(c)?;
    let all: Vec<(ContactId, String, Option<String>)> = c
        .prepare_cached("SELECT id, address_key, phone FROM contact WHERE id = ?1 OR merged_into = ?1")?
        .query_map([contact.0], |r| Ok((ContactId(r.get(0)?), r.get(1)?, r.get(2)?)))?
        .collect::<rusqlite::Result<_>>()?;
    for (id, key, phone) in all {
        for known in [Some(&key), phone.as_ref()].into_iter().flatten() {
            bury(c, &tombstones.hash(known), now)?;
            c.prepare_cached("UPDATE test_send SET address = '' WHERE lower(address) = ?1")?.execute([known])?;
        }
        // Those that nobody confirmed, sent in while there was nobody of this address here, are theirs, too.
        c.prepare_cached("UPDATE sign_up SET contact_id = ?1 WHERE address_key = ?2")?.execute(params![id.0, key])?;
        journal::note(c, journal::What::Deleted, id, None, Grant::default(), now)?;
        if let Some(phone) = phone {
            journal::number_deleted(c, &phone, now)?;
        }
        c.prepare_cached("UPDATE ledger SET evidence = '', salt = NULL WHERE contact_id = ?1")?.execute([id.0])?;
        ledger::note(c, id, now, "deleted", &Origin { evidence: String::new(), ..origin.clone() })?;
        empty(c, id, 1)?;
    }
    Ok(())
}

/// Takes everything personal out of a row and what depends on it; `gone` says why.
pub(crate) fn empty(c: &Connection, contact: ContactId, gone: i64) -> Result<()> {
    c.prepare_cached(
        formatcp!("UPDATE contact SET address = '', address_key = '#' || id, given_name = NULL, family_name = NULL, country = NULL, region = NULL, zone = NULL, phone = NULL, phone_failed_at = NULL,
            source = NULL, latitude = NULL, longitude = NULL, consent = {NONE}, paused_until = NULL, under_pause = 0, status = {ACTIVE}, status_until = NULL, sunset_at = NULL, merged_into = NULL, gone = ?2 WHERE id = ?1"),
    )?
    .execute([contact.0, gone])?;
    for sql in [
        "DELETE FROM field_value WHERE contact_id = ?1",
        "DELETE FROM score_history WHERE contact_id = ?1",
        "DELETE FROM score_entry WHERE contact_id = ?1",
        "DELETE FROM score_now WHERE contact_id = ?1",
        "DELETE FROM task WHERE contact_id = ?1",
        formatcp!(
            "UPDATE delivery SET body = '', answer = '', contact_id = NULL, next_at = NULL, state = CASE state WHEN {TOLD_WAITING} THEN {TOLD_GIVEN_UP} ELSE state END WHERE contact_id = ?1"
        ),
        "DELETE FROM list_member WHERE contact_id = ?1",
        "DELETE FROM contact_tag WHERE contact_id = ?1",
        "DELETE FROM topic_left WHERE contact_id = ?1",
        "DELETE FROM do_not_write_told WHERE contact_id = ?1",
        "DELETE FROM series_left WHERE contact_id = ?1",
        "DELETE FROM series_seen WHERE contact_id = ?1",
        "DELETE FROM suppression_caught WHERE contact_id = ?1",
        "UPDATE series_entry SET ended_at = coalesce(ended_at, came_at), ended = coalesce(ended, 'not in the base any more'), due = NULL WHERE contact_id = ?1",
        "DELETE FROM other_consent WHERE contact_id = ?1",
        "DELETE FROM mail_load WHERE contact_id = ?1",
        "DELETE FROM silent WHERE contact_id = ?1",
        "DELETE FROM own_hour WHERE contact_id = ?1",
        "DELETE FROM segment_member WHERE contact_id = ?1",
        "DELETE FROM before_image WHERE contact_id = ?1",
        formatcp!(
            "UPDATE sign_up SET address = '', address_key = '', given_name = NULL, came_from = NULL, state = iif(state = {SIGN_UP_WAITING}, {SIGN_UP_ENDED}, state) WHERE contact_id = ?1"
        ),
        "UPDATE event SET about = '' WHERE contact_id = ?1",
        "UPDATE send SET reply = NULL WHERE contact_id = ?1 AND reply IS NOT NULL",
        "UPDATE log_step SET reply = NULL WHERE send_id IN (SELECT id FROM send WHERE contact_id = ?1) AND reply IS NOT NULL",
        "DELETE FROM log_person WHERE contact_id = ?1",
        "DELETE FROM reply WHERE send_id IN (SELECT id FROM send WHERE contact_id = ?1)",
        "UPDATE response SET agent = '', network_id = NULL WHERE send_id IN (SELECT id FROM send WHERE contact_id = ?1)",
        // What was still to go out doesn't.
        formatcp!("UPDATE send SET state = {NOT_SENT}, reason = 0 WHERE contact_id = ?1 AND state IN ({WAITING})"),
    ] {
        c.prepare_cached(sql)?.execute([contact.0])?;
    }
    Ok(())
}
