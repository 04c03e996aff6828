//! Runs of changes that can be taken back: an import, a merge, corrected addresses, a tag put on many.
//!
//! Before a run changes somebody, what was is kept. Taking a run back puts that back for everyone to
//! whom nothing happened since, with entries in the ledger that say so; the others stay as they are and
//! are counted, because their later history rests on the change.

use crate::contacts::{self, Profile};
use crate::fields::{self, Stored};
use crate::ledger::{self, Origin, Stated};
use crate::numbers::{self, Held};
use crate::tags::{self as words, Kind};
use crate::{Result, StoreError, merges};
use rinse_core::consent::Consent;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How long a run can be taken back.
pub const UNDOABLE_FOR: i64 = 30 * DAY;
/// People put back in one transaction.
pub const BATCH: i64 = 500;

/// A run of changes.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ChangeRun {
    pub id: i64,
    pub at: i64,
    pub person: Option<String>,
    /// import, merge, address, tag, list, sunset
    pub kind: String,
    pub words: String,
    pub import_id: Option<i64>,
    pub people: i64,
    /// done, undoing, undone
    pub state: String,
    pub undone_at: Option<i64>,
    /// How many were put back.
    pub undone: i64,
    /// How many stayed, because something happened to them since.
    pub kept: i64,
    pub undoable: bool,
    #[serde(skip)]
    marks: [i64; 4],
}

/// What was before.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) enum Image {
    /// A profile, some fields, and what an import put them on.
    Profile {
        profile: Profile,
        fields: Vec<Stored>,
        lists: Vec<i64>,
        tags: Vec<i64>,
        consent: Option<Stated>,
        /// The legal entity it was given to; empty: the first.
        #[serde(default)]
        entity: String,
        /// Their number, when the file brings one.
        #[serde(default)]
        number: Option<Held>,
    },
    /// A score: what stood in the field, and on that day from that source.
    Score {
        field: Stored,
        id: i64,
        day: i64,
        source: String,
        number: Option<f64>,
    },
    Address {
        address: String,
        key: String,
        domain: i64,
        consent: Stated,
    },
    Merge(Box<merges::Before>),
    /// They are on it because of the run.
    Put {
        list: bool,
        id: i64,
    },
    /// Sunset by the run.
    Sunset,
}

fn row(r: &Row<'_>, now: Instant) -> rusqlite::Result<ChangeRun> {
    let (at, state): (i64, String) = (r.get(1)?, r.get(7)?);
    Ok(ChangeRun {
        id: r.get(0)?,
        at,
        person: r.get(2)?,
        kind: r.get(3)?,
        words: r.get(4)?,
        import_id: r.get(5)?,
        people: r.get(6)?,
        undoable: state == "done" && now.0 - at <= UNDOABLE_FOR,
        state,
        undone_at: r.get(8)?,
        undone: r.get(9)?,
        kept: r.get(10)?,
        marks: [r.get(11)?, r.get(12)?, r.get(13)?, r.get(14)?],
    })
}

const COLUMNS: &str = "r.id, r.at, p.name, r.kind, r.words, r.import_id, r.people, r.state, r.undone_at, r.undone, r.kept,
    r.ledger_mark, r.send_mark, r.response_mark, r.purchase_mark FROM change_run r LEFT JOIN person p ON p.id = r.person_id";

/// The newest runs.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection, now: Instant) -> Result<Vec<ChangeRun>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} ORDER BY r.id DESC LIMIT 100"))?;
    Ok(s.query_map([], |r| row(r, now))?.collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When there is no such run.
pub fn one(c: &Connection, id: i64, now: Instant) -> Result<ChangeRun> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} WHERE r.id = ?1"))?;
    s.query_row([id], |r| row(r, now)).optional()?.ok_or(StoreError::Missing("run of changes"))
}

/// The run of an import.
///
/// # Errors
/// When the database fails.
pub fn of_import(c: &Connection, import: i64, now: Instant) -> Result<Option<ChangeRun>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} WHERE r.import_id = ?1"))?;
    Ok(s.query_row([import], |r| row(r, now)).optional()?)
}

/// Begins a run.
///
/// # Errors
/// When the database fails.
pub fn begin(c: &Connection, now: Instant, person: Option<i64>, kind: &str, words: &str, import: Option<i64>) -> Result<i64> {
    Ok(c.query_row(
        "INSERT INTO change_run (at, person_id, kind, words, import_id, ledger_mark, send_mark, response_mark, purchase_mark)
         SELECT ?1, ?2, ?3, ?4, ?5, coalesce((SELECT max(id) FROM ledger), 0), coalesce((SELECT max(id) FROM send), 0),
            coalesce((SELECT max(id) FROM response), 0), coalesce((SELECT max(id) FROM purchase), 0) RETURNING id",
        params![now.0, person, kind, words, import],
        |r| r.get(0),
    )?)
}

/// Writes how many people the run changed.
///
/// # Errors
/// When the database fails.
pub fn finish(c: &Connection, run: i64, people: usize) -> Result<()> {
    c.execute("UPDATE change_run SET people = ?2 WHERE id = ?1", params![run, i64::try_from(people).unwrap_or(i64::MAX)])?;
    Ok(())
}

/// Keeps what was before, and marks the person as changed by the run.
pub(crate) fn keep(c: &Connection, run: i64, contact: i64, before: &Image) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO before_image (run_id, contact_id, image, run_before) SELECT ?1, id, ?3, run_id FROM contact WHERE id = ?2",
    )?
    .execute(params![run, contact, serde_json::to_string(before)?])?;
    if !matches!(before, Image::Put { .. } | Image::Sunset) {
        mark(c, contact, Some(run))?;
    }
    Ok(())
}

/// Writes who changed the profile last: a run, or (`None`) a person.
pub(crate) fn mark(c: &Connection, contact: i64, run: Option<i64>) -> Result<()> {
    c.prepare_cached("UPDATE contact SET run_id = ?2 WHERE id = ?1")?.execute(params![contact, run])?;
    Ok(())
}

/// Notes that a person changed somebody's profile: earlier runs leave them as they are.
///
/// # Errors
/// When the database fails.
pub fn changed_by_hand(c: &Connection, contact: i64) -> Result<()> {
    mark(c, contact, None)
}

/// What happened to a person after the run, if anything did.
fn since(c: &Connection, contact: i64, run: &ChangeRun) -> Result<bool> {
    let [ledger, send, response, purchase] = run.marks;
    Ok(c.prepare_cached(
        "SELECT run_id IS NOT ?2 OR EXISTS (SELECT 1 FROM ledger WHERE contact_id = ?1 AND id > ?3 AND run_id IS NOT ?2
                AND NOT coalesce((SELECT state = 'undone' FROM change_run WHERE id = ledger.run_id), 0))
            OR EXISTS (SELECT 1 FROM send WHERE contact_id = ?1 AND id > ?4)
            OR EXISTS (SELECT 1 FROM send s JOIN response r ON r.send_id = s.id WHERE s.contact_id = ?1 AND r.id > ?5)
            OR EXISTS (SELECT 1 FROM purchase WHERE contact_id = ?1 AND id > ?6)
         FROM contact WHERE id = ?1",
    )?
    .query_row(params![contact, run.id, ledger, send, response, purchase], |r| r.get(0))?)
}

/// Begins to take a run back.
///
/// # Errors
/// When it was taken back already, or is older than 30 days.
pub fn begin_undo(c: &Connection, id: i64, now: Instant) -> Result<ChangeRun> {
    let run = one(c, id, now)?;
    if run.state == "undoing" {
        return Ok(run);
    }
    if run.state == "undone" {
        return Err(StoreError::Refused("This was taken back already.".into()));
    }
    if !run.undoable {
        return Err(StoreError::Refused("This is older than 30 days and can't be taken back any more.".into()));
    }
    if let Some(import) = run.import_id {
        let state: String = c.query_row("SELECT state FROM import_run WHERE id = ?1", [import], |r| r.get(0))?;
        if state == "applying" {
            return Err(StoreError::Refused("The import is still being applied. Cancel the rest first.".into()));
        }
    }
    c.execute("UPDATE change_run SET state = 'undoing' WHERE id = ?1", [id])?;
    one(c, id, now)
}

/// Takes back the next part of a run; returns how many are behind it, and whether it is done.
///
/// # Errors
/// When the database fails.
pub fn undo_some(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<(i64, bool)> {
    let run = one(c, id, now)?;
    if run.state != "undoing" {
        return Ok((run.undone + run.kept, true));
    }
    let origin = Origin { source: "taken back", evidence: run.words.clone(), run: Some(id), person, ..Origin::default() };
    let (mut undone, mut kept) = (0, 0);
    // The latest change first: a chain of merges comes apart in the order it was made.
    let images: Vec<(i64, i64, String, Option<i64>)> = c
        .prepare_cached("SELECT id, contact_id, image, run_before FROM before_image WHERE run_id = ?1 ORDER BY id DESC LIMIT ?2")?
        .query_map([id, BATCH], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?
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
        let added: Vec<i64> = c
            .prepare_cached("SELECT id FROM contact WHERE import_id = ?1 AND gone IS NULL AND id < coalesce((SELECT CAST(value AS INTEGER) FROM setting WHERE key = 'undo-' || ?2), 9e18) ORDER BY id DESC LIMIT ?3")?
            .query_map([import, id, BATCH - i64::try_from(images.len()).unwrap_or(0)], |r| r.get(0))?
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
        c.execute("UPDATE change_run SET state = 'undone', undone_at = ?2 WHERE id = ?1", params![id, now.0])?;
        c.execute("DELETE FROM setting WHERE key = 'undo-' || ?1", [id])?;
        if let Some(import) = run.import_id {
            c.execute("UPDATE import_run SET state = 'undone' WHERE id = ?1", [import])?;
        }
        crate::settings::audit(c, now, person, "change taken back", "change", id, &run.words)?;
    }
    Ok((run.undone + run.kept + undone + kept, !left))
}

/// Did an import's run bring this person in?
fn added_by(c: &Connection, contact: i64, run: &ChangeRun) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM contact WHERE id = ?1 AND import_id = ?2")?.exists(params![contact, run.import_id])?)
}

/// Puts one person back; false when something happened since.
fn put_back(c: &Connection, contact: i64, image: &Image, run: &ChangeRun, now: Instant, origin: &Origin) -> Result<bool> {
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
                .execute(params![contact, address, key, domain])?;
            c.prepare_cached("UPDATE send SET address_of = NULL WHERE contact_id = ?1 AND address_of = ?1")?.execute([contact])?;
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
