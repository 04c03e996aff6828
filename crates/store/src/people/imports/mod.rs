//! Import runs: a file is staged, checked (a dry run with counts), then applied in batches, each
//! with its progress in the same transaction, so that a crash resumes where it stopped and an
//! unsubscribe never waits long. [`records`]: files that the system of record sends by itself.

mod apply;
mod judge;
pub mod records;
mod row;
mod stage;

use crate::codes::{FILE_APPLIED, FILE_CANCELLED, FILE_CHANGEABLE, FILE_CHECKED, FILE_STAGED, FILE_UNDONE};
use crate::stored::Worded;
pub use apply::apply;
use const_format::formatcp;
pub use judge::check;
use rinse_core::standing::FileState;
pub(crate) use stage::lay_down;
pub use stage::{reshape, stage};

use crate::runs::{self, ChangeRun};
use crate::tags::{self, Kind};
use crate::{Result, Store, StoreError, letterheads, tables};
use rinse_core::Instant;
use rinse_core::base_check::Finding;
use rinse_core::segment::FieldKind;
use rinse_core::table::{self, Encoding, Field, TableError};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use utoipa::ToSchema;

/// Which findings of the base check are put right while the file is applied.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Fixes {
    /// Correct domains that are one slip from a frequent one. Such people come without consent.
    pub domains: bool,
    /// Leave out rows that are the same mailbox as somebody else.
    pub duplicates: bool,
    /// Put function addresses, disposable ones and those without a mail host in their tags.
    pub tags: bool,
}

/// What the base check finds in a file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct FileFindings {
    /// Rows by the finding's code.
    pub rows: BTreeMap<String, i64>,
    /// Domains that are one slip from the one they lead to.
    pub domains: BTreeMap<String, String>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    without_host: BTreeMap<String, String>,
}

impl FileFindings {
    fn count(&mut self, finding: Finding) {
        *self.rows.entry(finding.code().to_owned()).or_default() += 1;
    }
}

/// An import run.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Run {
    pub id: i64,
    pub file_name: String,
    pub made_at: i64,
    pub encoding: Encoding,
    pub delimiter: String,
    pub header: bool,
    pub mapping: Vec<Option<Field>>,
    pub list: Option<String>,
    pub tag: Option<String>,
    pub consent: bool,
    /// They agreed to text messages, too.
    pub texts: bool,
    /// The legal entity that consent is given to; empty: the first.
    pub entity: String,
    pub evidence: String,
    pub state: FileState,
    pub records: i64,
    pub done: i64,
    pub new: i64,
    pub changed: i64,
    pub unchanged: i64,
    pub refused: i64,
    /// Of those refused: people who were deleted here.
    pub came_back: i64,
    pub ndjson: bool,
    pub fixes: Fixes,
    pub findings: FileFindings,
}

impl Run {
    /// The score that the file brings, when it is a file of scores.
    #[must_use]
    pub fn score(&self) -> Option<&str> {
        score_of(&self.mapping)
    }
}

fn score_of(mapping: &[Option<Field>]) -> Option<&str> {
    mapping.iter().flatten().find_map(|f| if let Field::Score { name } = f { Some(name.as_str()) } else { None })
}

/// The first records of a staged file, as read.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Preview {
    pub run: Run,
    pub columns: Vec<String>,
    /// Per column: what kind of field its cells would fill.
    pub kinds: Vec<FieldKind>,
    pub rows: Vec<Vec<String>>,
    /// Per row: why it would be refused.
    pub refusals: Vec<Option<String>>,
    /// What applying it changed, with the way back.
    pub change: Option<ChangeRun>,
}

fn path(store: &Store, id: i64, what: &str) -> PathBuf {
    store.folder().join("imports").join(format!("{id}{what}.csv"))
}

/// Where the refused rows of a run are.
#[must_use]
pub fn refused_path(store: &Store, id: i64) -> PathBuf {
    path(store, id, "-refused")
}

/// The file's rows with a finding of the base check, as CSV.
#[must_use]
pub fn findings_path(store: &Store, id: i64) -> PathBuf {
    path(store, id, "-findings")
}

/// Deletes the files of runs that are over: after a person was deleted, none of them may hold them.
///
/// # Errors
/// When the database fails.
pub fn forget_files(c: &Connection, folder: &Path) -> Result<()> {
    let mut s =
        c.prepare_cached(formatcp!("SELECT id FROM import_run WHERE state IN ({FILE_APPLIED}, {FILE_CANCELLED}, {FILE_UNDONE})"))?;
    for id in s.query_map([], |r| r.get::<_, i64>(0))? {
        let id = id?;
        for what in ["", "-refused", "-findings", "-raw"] {
            let _ = std::fs::remove_file(folder.join("imports").join(format!("{id}{what}.csv")));
        }
    }
    Ok(())
}

fn table_error(e: &TableError) -> StoreError {
    StoreError::Refused(e.to_string())
}

pub(crate) fn sample(path: &Path, delimiter: u8) -> Result<Vec<Vec<String>>> {
    let mut rows = Vec::new();
    for record in tables::records(path, delimiter)?.records().take(101) {
        rows.push(record?.iter().map(str::to_owned).collect());
    }
    Ok(rows)
}

/// Rows behind the first that are looked through for what columns hold …
const LOOKED_THROUGH: usize = 20_000;
/// … until each column has told something so often.
const TELLS: usize = 5;

/// The first rows, and after them rows that say something in columns which are empty in most: a log's column of pages holds nothing before the
/// first click.
pub(crate) fn telling(path: &Path, delimiter: u8) -> Result<Vec<Vec<String>>> {
    let mut rows = sample(path, delimiter)?;
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let mut told = vec![0; columns];
    let mut tells = |row: &[String]| {
        let new: Vec<usize> = (0..row.len().min(columns)).filter(|&i| told[i] < TELLS && !row[i].trim().is_empty()).collect();
        new.iter().for_each(|&i| told[i] += 1);
        (!new.is_empty(), told.iter().all(|n| *n >= TELLS))
    };
    let mut all = rows.iter().skip(1).any(|row| tells(row).1);
    for record in tables::records(path, delimiter)?.records().skip(rows.len()).take(LOOKED_THROUGH) {
        if all {
            break;
        }
        let row: Vec<String> = record?.iter().map(str::to_owned).collect();
        let (new, done) = tells(&row);
        all = done;
        if new {
            rows.push(row);
        }
    }
    Ok(rows)
}

/// # Errors
/// When there is no such run.
pub fn run(c: &Connection, id: i64) -> Result<Run> {
    runs_where(c, "i.id = ?1", id)?.pop().ok_or(StoreError::Missing("import"))
}

/// The newest runs; files of the system of record only while a person has to look at them.
///
/// # Errors
/// When the database fails.
pub fn runs(c: &Connection) -> Result<Vec<Run>> {
    runs_where(c, formatcp!("i.id > ?1 AND (i.record = 0 OR i.state = {FILE_CHECKED})"), 0)
}

fn runs_where(c: &Connection, filter: &str, value: i64) -> Result<Vec<Run>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT i.id, file_name, i.made_at, encoding, delimiter, header, mapping, l.name, consent, evidence, state, records, done, new, changed, unchanged, refused, t.name, ndjson, fixes, findings, i.entity, consent_texts, i.came_back
         FROM import_run i LEFT JOIN list l ON l.id = list_id LEFT JOIN tag t ON t.id = tag_id WHERE {filter} ORDER BY i.id DESC LIMIT 100"
    ))?;
    let rows = s.query_map([value], |r| {
        Ok((
            Run {
                id: r.get(0)?,
                file_name: r.get(1)?,
                made_at: r.get(2)?,
                encoding: Encoding::Utf8,
                delimiter: char::from(r.get::<_, u8>(4)?).to_string(),
                header: r.get(5)?,
                mapping: vec![],
                list: r.get(7)?,
                tag: r.get(17)?,
                consent: r.get(8)?,
                texts: r.get(22)?,
                entity: r.get(21)?,
                evidence: r.get(9)?,
                state: r.get::<_, Worded<_>>(10)?.0,
                records: r.get(11)?,
                done: r.get(12)?,
                new: r.get(13)?,
                changed: r.get(14)?,
                unchanged: r.get(15)?,
                refused: r.get(16)?,
                came_back: r.get(23)?,
                ndjson: r.get(18)?,
                fixes: Fixes::default(),
                findings: FileFindings::default(),
            },
            [r.get::<_, String>(3)?, r.get(6)?, r.get(19)?, r.get(20)?],
        ))
    })?;
    rows.map(|row| {
        let (mut run, [encoding, mapping, fixes, findings]) = row?;
        run.encoding = serde_json::from_str(&encoding)?;
        run.mapping = serde_json::from_str(&mapping)?;
        run.fixes = serde_json::from_str(&fixes)?;
        run.findings = serde_json::from_str(&findings)?;
        Ok(run)
    })
    .collect()
}

/// The names of a staged file's columns and its first 100 rows; none of one that was deleted with a person's data.
pub(crate) fn first_rows(file: &Path, delimiter: u8, header: bool) -> Result<(Vec<String>, Vec<Vec<String>>)> {
    let sample = if file.exists() { sample(file, delimiter)? } else { Vec::new() };
    let width = sample.iter().map(Vec::len).max().unwrap_or(0);
    let columns = (0..width)
        .map(|i| match sample.first().filter(|_| header).and_then(|h| h.get(i)) {
            Some(name) if !name.is_empty() => name.clone(),
            _ => format!("column {}", i + 1),
        })
        .collect();
    Ok((columns, sample.into_iter().skip(usize::from(header)).take(100).collect()))
}

/// The first 100 rows as they would land.
///
/// # Errors
/// When its file can't be read. A file that was deleted with a person's data shows no rows.
pub fn preview(store: &Store, c: &Connection, run: Run, now: Instant) -> Result<Preview> {
    let (columns, rows) = first_rows(&path(store, run.id, ""), run.delimiter.as_bytes()[0], run.header)?;
    let width = columns.len();
    let change = runs::of_import(c, run.id, now)?;
    let home = letterheads::home(c)?;
    let layout = row::Layout { mapping: &run.mapping, width, file: &run.file_name, home: home.as_deref() };
    let refusals = rows.iter().map(|r| row::read(r, layout).err()).collect();
    let kinds = (0..width).map(|i| table::guess_kind(rows.iter().filter_map(|r| r.get(i)).map(String::as_str))).collect();
    Ok(Preview { run, columns, kinds, rows, refusals, change })
}

/// What the analyst decided on a staged file.
#[derive(Debug, Clone)]
pub struct Decision {
    pub mapping: Vec<Option<Field>>,
    pub header: bool,
    pub list: Option<String>,
    pub tag: Option<String>,
    /// The rows come with consent; the evidence says how it was given.
    pub consent: bool,
    /// They agreed to text messages to their numbers.
    pub texts: bool,
    /// The legal entity they gave it to; empty: the first.
    pub entity: String,
    pub evidence: String,
    pub fixes: Fixes,
}

/// Saves the decision; the run has to be checked (again) after it.
///
/// # Errors
/// When no column or more than one is the address, or consent is claimed without evidence.
pub async fn decide(store: &Store, id: i64, d: Decision, now: Instant) -> Result<()> {
    for (i, m) in d.mapping.iter().enumerate() {
        if m.is_some() && *m != Some(Field::Address) && d.mapping[..i].contains(m) {
            return Err(StoreError::Refused("Two columns are mapped to the same field. Leave one of them out.".into()));
        }
    }
    if d.mapping.iter().filter(|m| **m == Some(Field::Address)).count() != 1 {
        return Err(StoreError::Refused("Map exactly one column to the address.".into()));
    }
    if score_of(&d.mapping).is_some() {
        let all = |wanted: fn(&Field) -> bool| d.mapping.iter().flatten().any(wanted);
        if !all(|f| *f == Field::ScoreDate) {
            return Err(StoreError::Refused(
                "Map a column to the day of the score: a score without a date can't be told from an old one.".into(),
            ));
        }
        if all(|f| !matches!(f, Field::Address | Field::Score { .. } | Field::ScoreDate | Field::ScoreSource)) || d.consent || d.texts {
            return Err(StoreError::Refused(
                "A file of scores changes nothing but the score. Leave the other columns out, and bring them in a run of their own.".into(),
            ));
        }
    }
    if (d.consent || d.texts) && d.evidence.trim().len() < 5 {
        return Err(StoreError::Refused("Say how these people agreed to get mail (which form, when): consent needs its evidence.".into()));
    }
    if d.texts && !d.mapping.contains(&Some(Field::Phone)) {
        return Err(StoreError::Refused(
            "People agree to text messages for a number. Map a column to the phone number, or leave text messages out.".into(),
        ));
    }
    let mapping = serde_json::to_string(&d.mapping)?;
    let fixes = serde_json::to_string(&d.fixes)?;
    store.write(move |c| {
        let entity = letterheads::entity(c, &d.entity)?;
        let list = match d.list.as_deref().map(str::trim).filter(|l| !l.is_empty()) {
            Some(name) => Some(tags::named(c, Kind::List, name, now)?),
            None => None,
        };
        let tag = match d.tag.as_deref().map(str::trim).filter(|t| !t.is_empty()) {
            Some(name) => Some(tags::named(c, Kind::Tag, name, now)?),
            None => None,
        };
        let n = c.execute(
            formatcp!("UPDATE import_run SET mapping = ?2, header = ?3, list_id = ?4, tag_id = ?5, consent = ?6, evidence = ?7, fixes = ?8, entity = ?9, consent_texts = ?10, state = {FILE_STAGED} WHERE id = ?1 AND state IN ({FILE_CHANGEABLE})"),
            params![id, mapping, d.header, list, tag, d.consent, d.evidence, fixes, entity, d.texts],
        )?;
        if n == 0 { Err(StoreError::Refused("This import was applied already.".into())) } else { Ok(()) }
    }).await
}

/// Gives a file up that wasn't applied.
///
/// # Errors
/// When the database fails.
pub fn cancel(c: &Connection, id: i64) -> Result<()> {
    c.execute(formatcp!("UPDATE import_run SET state = {FILE_CANCELLED} WHERE id = ?1"), [id])?;
    Ok(())
}

/// How many files wait to be applied, and the newest of them.
///
/// # Errors
/// When the database fails.
pub fn unapplied(c: &Connection) -> Result<(i64, Option<i64>)> {
    let sql = formatcp!("SELECT count(*), max(id) FROM import_run WHERE state IN ({FILE_CHANGEABLE})");
    Ok(c.prepare_cached(sql)?.query_row([], |r| Ok((r.get(0)?, r.get(1)?)))?)
}
