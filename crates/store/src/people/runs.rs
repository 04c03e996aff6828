//! Runs of changes that can be taken back: an import, a merge, corrected addresses, a tag put on many.
//!
//! Before a run changes somebody, what was is kept. Taking a run back puts that back for everyone to
//! whom nothing happened since, with entries in the ledger that say so; the others stay as they are and
//! are counted, because their later history rests on the change.

use crate::contacts::Profile;
use crate::fields::Stored;
use crate::ledger::Stated;
use crate::numbers::Held;
use crate::stored::Worded;
use crate::{Result, StoreError};
use rinse_core::id::ContactId;
use rinse_core::standing::ChangeState;
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
    pub state: ChangeState,
    pub undone_at: Option<i64>,
    /// How many were put back.
    pub undone: i64,
    /// How many stayed, because something happened to them since.
    pub kept: i64,
    pub undoable: bool,
    #[serde(skip)]
    pub(crate) marks: [i64; 4],
}

/// What was before a merge, to part them again.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Merged {
    pub into: ContactId,
    /// The run that had changed the one who stays last.
    pub(crate) into_run: Option<i64>,
    pub(crate) profile: Profile,
    pub(crate) fields: Vec<Stored>,
    pub(crate) consent: Stated,
    /// What the other one was on, and what of that was new here.
    pub(crate) lists: Vec<(i64, i64, bool)>,
    pub(crate) tags: Vec<(i64, i64, bool)>,
    pub(crate) topics: Vec<(i64, i64, bool)>,
    pub(crate) segments: Vec<(i64, bool)>,
    pub(crate) purchases: Vec<i64>,
    pub(crate) events: Vec<i64>,
    /// Entries of scores that moved.
    #[serde(default)]
    pub(crate) scored: Vec<i64>,
    /// People who were merged into the other one earlier.
    pub(crate) earlier: Vec<i64>,
    /// The number of the one who stays, with what was agreed for it.
    #[serde(default)]
    pub(crate) number: Held,
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
    Merge(Box<Merged>),
    /// They are on it because of the run.
    Put {
        list: bool,
        id: i64,
    },
    /// Sunset by the run.
    Sunset,
}

fn row(r: &Row<'_>, now: Instant) -> rusqlite::Result<ChangeRun> {
    let (at, state) = (r.get(1)?, r.get::<_, Worded<_>>(7)?.0);
    Ok(ChangeRun {
        id: r.get(0)?,
        at,
        person: r.get(2)?,
        kind: r.get(3)?,
        words: r.get(4)?,
        import_id: r.get(5)?,
        people: r.get(6)?,
        undoable: state == ChangeState::Done && now.millis() - at <= UNDOABLE_FOR,
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
        params![now.millis(), person, kind, words, import],
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
pub(crate) fn keep(c: &Connection, run: i64, contact: ContactId, before: &Image) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO before_image (run_id, contact_id, image, run_before) SELECT ?1, id, ?3, run_id FROM contact WHERE id = ?2",
    )?
    .execute(params![run, contact.0, serde_json::to_string(before)?])?;
    if !matches!(before, Image::Put { .. } | Image::Sunset) {
        mark(c, contact, Some(run))?;
    }
    Ok(())
}

/// Writes who changed the profile last: a run, or (`None`) a person.
pub(crate) fn mark(c: &Connection, contact: ContactId, run: Option<i64>) -> Result<()> {
    c.prepare_cached("UPDATE contact SET run_id = ?2 WHERE id = ?1")?.execute(params![contact.0, run])?;
    Ok(())
}

/// Notes that a person changed somebody's profile: earlier runs leave them as they are.
///
/// # Errors
/// When the database fails.
pub fn changed_by_hand(c: &Connection, contact: ContactId) -> Result<()> {
    mark(c, contact, None)
}
