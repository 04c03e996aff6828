//! Taking a run of changes back: what was before is put back for everyone to whom nothing happened since.

use crate::codes::{CHANGE_UNDOING, CHANGE_UNDONE, FILE_UNDONE};
use crate::fields;
use crate::ledger::{self, Origin, Stated};
use crate::runs::{BATCH, ChangeRun, Image, mark, one};
use crate::stored::Worded;
use crate::tags::{self as words, Kind};
use crate::{Result, StoreError, contacts, merges, numbers};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::consent::Consent;
use rinse_core::id::ContactId;
use rinse_core::standing::{ChangeState, FileState};
use rusqlite::{Connection, params};

/// What happened to a person after the run, if anything did.
fn since(c: &Connection, contact: ContactId, run: &ChangeRun) -> Result<bool> {
    let [ledger, send, response, purchase] = run.marks;
    Ok(c.prepare_cached(formatcp!(
        "SELECT run_id IS NOT ?2 OR EXISTS (SELECT 1 FROM ledger WHERE contact_id = ?1 AND id > ?3 AND run_id IS NOT ?2
                AND NOT coalesce((SELECT state = {CHANGE_UNDONE} FROM change_run WHERE id = ledger.run_id), 0))
            OR EXISTS (SELECT 1 FROM send WHERE contact_id = ?1 AND id > ?4)
            OR EXISTS (SELECT 1 FROM send s JOIN response r ON r.send_id = s.id WHERE s.contact_id = ?1 AND r.id > ?5)
            OR EXISTS (SELECT 1 FROM purchase WHERE contact_id = ?1 AND id > ?6)
         FROM contact WHERE id = ?1"
    ))?
    .query_row(params![contact.0, run.id, ledger, send, response, purchase], |r| r.get(0))?)
}

/// Begins to take a run back.
///
/// # Errors
/// When it was taken back already, or is older than 30 days.
pub fn begin(c: &Connection, id: i64, now: Instant) -> Result<ChangeRun> {
    let run = one(c, id, now)?;
    match run.state {
        ChangeState::Undoing => return Ok(run),
        ChangeState::Undone => return Err(StoreError::Refused("This was taken back already.".into())),
        ChangeState::Done => {}
    }
    if !run.undoable {
        return Err(StoreError::Refused("This is older than 30 days and can't be taken back any more.".into()));
    }
    if let Some(import) = run.import_id {
        let state: Worded<FileState> = c.query_row("SELECT state FROM import_run WHERE id = ?1", [import], |r| r.get(0))?;
        if state.0 == FileState::Applying {
            return Err(StoreError::Refused("The import is still being applied. Cancel the rest first.".into()));
        }
    }
    c.execute(formatcp!("UPDATE change_run SET state = {CHANGE_UNDOING} WHERE id = ?1"), [id])?;
    one(c, id, now)
}

/// Takes back the next part of a run; returns how many are behind it, and whether it is done.
///
/// # Errors
/// When the database fails.
pub fn some(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<(i64, bool)> {
    let run = one(c, id, now)?;
    if run.state != ChangeState::Undoing {
        return Ok((run.undone + run.kept, true));
    }
    let origin = Origin { source: "taken back", evidence: run.words.clone(), run: Some(id), person, ..Origin::default() };
    let (mut undone, mut kept) = (0, 0);
    // The latest change first: a chain of merges comes apart in the order it was made.
    let images: Vec<(i64, ContactId, String, Option<i64>)> = c
        .prepare_cached("SELECT id, contact_id, image, run_before FROM before_image WHERE run_id = ?1 ORDER BY id DESC LIMIT ?2")?
        .query_map([id, BATCH], |r| Ok((r.get(0)?, ContactId(r.get(1)?), r.get(2)?, r.get(3)?)))?
        .collect::<rusqlite::Result<_>>()?;
    for (image_id, contact, image, run_before) in &images {
        let image: Image = serde_json::from_str(image)?;
        if put_back(c, *contact, &image, &run, now, &origin)? {
            if !matches!(image, Image::Put { .. } | Image::Sunset) {
                mark(c, *contact, *run_before)?;
            }
            undone += 1;
        } else {
            kept += 1;
        }
        c.prepare_cached("DELETE FROM before_image WHERE id = ?1")?.execute([image_id])?;
    }
    let mut left = images.len() == usize::try_from(BATCH).unwrap_or(0);
    if !left && let Some(import) = run.import_id {
        // Then those the import added, a part at a time, the last first.
        let added: Vec<ContactId> = c
            .prepare_cached("SELECT id FROM contact WHERE import_id = ?1 AND gone IS NULL AND id < coalesce((SELECT CAST(value AS INTEGER) FROM setting WHERE key = 'undo-' || ?2), 9e18) ORDER BY id DESC LIMIT ?3")?
            .query_map([import, id, BATCH - i64::try_from(images.len()).unwrap_or(0)], |r| r.get(0).map(ContactId))?
            .collect::<rusqlite::Result<_>>()?;
        for contact in &added {
            if since(c, *contact, &run)? {
                kept += 1;
            } else {
                let none = Stated { consent: Consent::None, at: None, ..Stated::default() };
                ledger::restate(c, *contact, now, "taken back", none, &origin)?;
                crate::erasure::empty(c, *contact, 2)?;
                undone += 1;
            }
        }
        left = !added.is_empty();
        if let Some(last) = added.last() {
            crate::settings::set(c, &format!("undo-{id}"), &last.to_string())?;
        }
    }
    c.execute("UPDATE change_run SET undone = undone + ?2, kept = kept + ?3 WHERE id = ?1", params![id, undone, kept])?;
    if !left {
        c.execute(formatcp!("UPDATE change_run SET state = {CHANGE_UNDONE}, undone_at = ?2 WHERE id = ?1"), params![id, now.millis()])?;
        crate::settings::remove(c, &format!("undo-{id}"))?;
        if let Some(import) = run.import_id {
            c.execute(formatcp!("UPDATE import_run SET state = {FILE_UNDONE} WHERE id = ?1"), [import])?;
        }
        crate::settings::audit(c, now, person, "change taken back", "change", id, &run.words)?;
    }
    Ok((run.undone + run.kept + undone + kept, !left))
}

/// Did an import's run bring this person in?
fn added_by(c: &Connection, contact: ContactId, run: &ChangeRun) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM contact WHERE id = ?1 AND import_id = ?2")?.exists(params![contact.0, run.import_id])?)
}

/// Puts one person back; false when something happened since.
fn put_back(c: &Connection, contact: ContactId, image: &Image, run: &ChangeRun, now: Instant, origin: &Origin) -> Result<bool> {
    match image {
        Image::Put { list, id } => {
            words::take_off(c, if *list { Kind::List } else { Kind::Tag }, *id, &[contact])?;
            return Ok(true);
        }
        Image::Sunset => {
            return ledger::take_sunset_back(c, contact, Some(run.at), now, origin);
        }
        Image::Merge(before) => {
            let into = before.into;
            if since(c, contact, run)? || since(c, into, run)? {
                return Ok(false);
            }
            merges::part(c, contact, before, now, origin)?;
        }
        Image::Address { address, key, domain, consent } => {
            if since(c, contact, run)? || contacts::id_of(c, key)?.is_some() {
                return Ok(false);
            }
            c.prepare_cached("UPDATE contact SET address = ?2, address_key = ?3, domain_id = ?4 WHERE id = ?1")?
                .execute(params![contact.0, address, key, domain])?;
            c.prepare_cached("UPDATE send SET address_of = NULL WHERE contact_id = ?1 AND address_of = ?1")?.execute([contact.0])?;
            ledger::restate(c, contact, now, "taken back", *consent, origin)?;
            crate::upkeep::status::refresh(c, contact, now)?;
        }
        Image::Score { field, id, day, source, number } => {
            if since(c, contact, run)? {
                return Ok(false);
            }
            fields::put_back(c, contact, field)?;
            fields::forget_score(c, contact, *id, *day, source, *number)?;
        }
        Image::Profile { profile, fields, lists, tags, consent, entity, number } => {
            if since(c, contact, run)? {
                return Ok(false);
            }
            contacts::replace_profile(c, contact, profile)?;
            for f in fields {
                fields::put_back(c, contact, f)?;
            }
            for (kind, ids) in [(Kind::List, lists), (Kind::Tag, tags)] {
                for id in ids {
                    words::take_off(c, kind, *id, &[contact])?;
                }
            }
            if let Some(consent) = consent {
                let origin = Origin { entity: entity.clone(), ..origin.clone() };
                ledger::restate(c, contact, now, "taken back", *consent, &origin)?;
            }
            if let Some(number) = number {
                // Somebody that the run added may have it: they go, too, unless something happened to them.
                if let Some(other) = number.phone.as_deref().map(|p| numbers::owner(c, p)).transpose()?.flatten()
                    && added_by(c, other, run)?
                    && !since(c, other, run)?
                {
                    numbers::release(c, other)?;
                }
                numbers::put_back(c, contact, number, now, origin)?;
            }
        }
    }
    Ok(true)
}
