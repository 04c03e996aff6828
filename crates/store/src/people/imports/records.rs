//! The system of record keeps its own copy of people and sends it back in files. What is taken from them is what any import takes; nobody gains
//! consent by them, and who was deleted here doesn't come back: they are refused and counted.

use super::{Decision, Fixes, Run};
use crate::codes::{FILE_APPLYING, FILE_STAGED};
use crate::stored::Worded;
use crate::{Result, Store, StoreError};
use const_format::formatcp;
use rinse_core::standing::FileState;
use rinse_core::{Instant, words};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::path::{Path, PathBuf};
use utoipa::ToSchema;

/// A file is held for a person when more than this share of its rows is refused for other reasons than that they come back: it was cut off, or its
/// columns have changed.
const REFUSED_AT_MOST: f64 = 0.2;

/// A file of the system of record.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct RecordFile {
    pub import_id: i64,
    pub file_name: String,
    pub at: i64,
    /// staged, checked (held for a person), applying, applied, cancelled, undone
    pub state: FileState,
    pub rows: i64,
    pub new: i64,
    pub changed: i64,
    pub unchanged: i64,
    pub came_back: i64,
    pub refused_otherwise: i64,
}

/// The newest files, before a number.
///
/// # Errors
/// When the database fails.
pub fn files(c: &Connection, before: Option<i64>, most: u32) -> Result<Vec<RecordFile>> {
    let mut s = c.prepare_cached(
        "SELECT id, file_name, made_at, state, records, new, changed, unchanged, came_back, refused FROM import_run INDEXED BY import_record
         WHERE record = 1 AND id < ?1 ORDER BY id DESC LIMIT ?2",
    )?;
    let rows = s.query_map(params![before.unwrap_or(i64::MAX), most], |r| {
        let came_back: i64 = r.get(8)?;
        Ok(RecordFile {
            import_id: r.get(0)?,
            file_name: r.get(1)?,
            at: r.get(2)?,
            state: r.get::<_, Worded<_>>(3)?.0,
            rows: r.get(4)?,
            new: r.get(5)?,
            changed: r.get(6)?,
            unchanged: r.get(7)?,
            came_back,
            refused_otherwise: (r.get::<_, i64>(9)? - came_back).max(0),
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How many people files would have brought back, and how often in all.
///
/// # Errors
/// When the database fails.
pub fn came_back(c: &Connection) -> Result<(i64, i64)> {
    Ok(c.prepare_cached("SELECT count(*), coalesce(sum(times), 0) FROM came_back")?.query_row([], |r| Ok((r.get(0)?, r.get(1)?)))?)
}

/// A row would have brought somebody back.
pub(crate) fn note_back(c: &Connection, hash: &[u8], import: i64, now: Instant) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO came_back VALUES (?1, 1, ?2, ?2, ?3) ON CONFLICT DO UPDATE SET times = times + 1, last_at = ?2, import_id = ?3",
    )?
    .execute(params![hash, now.millis(), import])?;
    Ok(())
}

/// Where the system of record puts its files.
#[must_use]
pub fn folder(store: &Store) -> PathBuf {
    store.folder().join("records")
}

/// Files that wait, by name. They are put there whole: written under another name, then renamed.
///
/// # Errors
/// When the folder can't be read.
pub fn waiting(folder: &Path) -> std::io::Result<Vec<PathBuf>> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let path = entry.path();
        let whole = path.extension().is_some_and(|e| ["csv", "tsv", "ndjson"].iter().any(|x| e.eq_ignore_ascii_case(x)));
        if whole && entry.file_type()?.is_file() {
            all.push(path);
        }
    }
    all.sort();
    Ok(all)
}

/// Takes a file in: staged, looked at, and applied, unless a person has to look; what became of it.
///
/// # Errors
/// When it can't be read as a table of people.
pub async fn take(store: &Store, file: &Path, now: Instant) -> Result<Run> {
    let name: String = file.file_name().unwrap_or_default().to_string_lossy().chars().filter(|c| !c.is_control()).take(120).collect();
    // A copy is read: what ends Rinse meanwhile leaves the file where it is.
    let raw = store.folder().join("imports").join(format!("upload-record-{name}"));
    let (from, to) = (file.to_owned(), raw.clone());
    tokio::task::spawn_blocking(move || std::fs::copy(from, to)).await.map_err(|_| StoreError::Stopped)??;
    let id = super::stage(store, raw, name, now, None).await?;
    store.write(move |c| Ok(c.execute("UPDATE import_run SET record = 1 WHERE id = ?1", [id])?)).await?;
    std::fs::remove_file(file)?;
    go_on(store, id, now).await
}

/// Files that were being taken in when Rinse ended.
///
/// # Errors
/// When the database fails.
pub fn unfinished(c: &Connection) -> Result<Vec<i64>> {
    Ok(c.prepare_cached(formatcp!(
        "SELECT id FROM import_run INDEXED BY import_record WHERE record = 1 AND state IN ({FILE_STAGED}, {FILE_APPLYING})"
    ))?
    .query_map([], |r| r.get(0))?
    .collect::<rusqlite::Result<_>>()?)
}

/// Goes on with a file that is staged or being applied.
///
/// # Errors
/// When it can't be read as a table of people.
pub async fn go_on(store: &Store, id: i64, now: Instant) -> Result<Run> {
    let mut run = store.read(move |c| super::run(c, id)).await?;
    if run.state == FileState::Staged {
        let decision = Decision {
            mapping: run.mapping,
            header: run.header,
            list: None,
            tag: None,
            consent: false,
            texts: false,
            entity: String::new(),
            evidence: "a file of the system of record: it brings no consent".into(),
            fixes: Fixes::default(),
        };
        super::decide(store, id, decision, now).await?;
        run = super::check(store, id, |_| None, |_| {}).await?;
        if let Some(why) = held(&run) {
            return Err(StoreError::Refused(why));
        }
    }
    super::apply(store, id, now, None, |_| true).await
}

/// Why a person has to look at a file before it is applied.
#[allow(clippy::cast_precision_loss)]
fn held(run: &Run) -> Option<String> {
    let odd = run.refused - run.came_back;
    (odd as f64 > REFUSED_AT_MOST * run.records as f64).then(|| {
        format!(
            "{} of its {} rows would be refused: it may be cut off, or its columns may have changed. Nothing of it was taken in; read it among the imports.",
            words::thousands(odd.unsigned_abs()),
            words::thousands(run.records.unsigned_abs())
        )
    })
}
