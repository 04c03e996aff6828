//! What another system sent, and what became of it: files of mailings and of events ([`rinse_core::history`]), and the same live.
//!
//! A file is staged, looked at and applied in parts, as a file of people is. What logs say of a message's way is kept step by step
//! (`log_step`), and the message's row is what the steps come to ([`taking`]): so the order doesn't matter, the same twice changes nothing,
//! and a file is taken back by taking its steps out. An answer to a message that no log says was sent is refused: no figure's numerator
//! is without its denominator.

mod applying;
pub mod handing_out;
mod looking;
mod outside;
pub mod reserving;
mod staging;
pub mod taking;
mod undoing;

use crate::codes::{FILE_APPLIED, FILE_AT_WORK, FILE_CANCELLED, FILE_CHANGEABLE, FILE_STAGED, FILE_UNDONE};
use crate::stored::Worded;
use crate::{Result, Store, StoreError, imports, tables};
pub use applying::{apply, mark_unknown};
use const_format::formatcp;
pub use looking::{Found, check};
pub use outside::{Outside, all as mailings, of as outside};
use rinse_core::Instant;
use rinse_core::history::columns::{EventColumn, MailingColumn, Table};
use rinse_core::history::proposed::{Proposal, Proposed};
use rinse_core::history::times::{self, Times};
use rinse_core::standing::FileState;
use rinse_core::table::Encoding;
use rinse_core::zone::named;
use rusqlite::{Connection, Row, params};
use serde::{Deserialize, Serialize};
pub use staging::stage;
use std::fs::File;
use std::path::PathBuf;
pub use undoing::{begin_undo, undo_some};
use utoipa::ToSchema;

/// What the columns of a file hold; none: it is left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "of", content = "columns")]
#[schema(as = HistoryMapping)]
pub enum Mapping {
    Mailings(Vec<Option<MailingColumn>>),
    Events(Vec<Option<EventColumn>>),
}

impl Mapping {
    fn table(&self) -> Table {
        match self {
            Self::Mailings(_) => Table::Mailings,
            Self::Events(_) => Table::Events,
        }
    }

    /// The column of its instants.
    fn instants(&self) -> Option<usize> {
        match self {
            Self::Mailings(columns) => columns.iter().position(|c| *c == Some(MailingColumn::SentAt)),
            Self::Events(columns) => columns.iter().position(|c| *c == Some(EventColumn::At)),
        }
    }
}

/// A file of past mailings or of what became of them.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = HistoryFile)]
pub struct LogFile {
    pub id: i64,
    pub file_name: String,
    pub made_at: i64,
    pub encoding: Encoding,
    pub delimiter: String,
    pub header: bool,
    pub ndjson: bool,
    pub mapping: Mapping,
    /// The time zone of its local times.
    pub zone: Option<String>,
    /// In dates written with slashes the month stands first.
    pub month_first: bool,
    /// People whom the base lacks are kept, without consent.
    pub newcomers: bool,
    /// Mailings that no table told of are made from their events.
    pub unnamed: bool,
    /// It names no mailings: they are those that were proposed by subject and hour.
    pub by_subject: bool,
    pub state: FileState,
    /// What was found in it.
    pub found: Found,
    pub records: i64,
    /// Rows behind it, of twice as many in a file of events: the way of the messages first, then the answers.
    pub done: i64,
    pub new: i64,
    pub known: i64,
    pub refused: i64,
    pub applied_at: Option<i64>,
    pub undone_at: Option<i64>,
}

impl LogFile {
    fn times(&self) -> Times {
        Times { zone: self.zone.as_deref().and_then(named), month_first: self.month_first }
    }

    /// Its rows, from the first behind its header and `behind` more.
    fn rows(&self, store: &Store, behind: i64) -> Result<csv::Reader<tables::Bounded<File>>> {
        let mut rows = tables::records(&path(store, self.id), self.delimiter.as_bytes()[0])?;
        let mut record = csv::StringRecord::new();
        for _ in 0..behind + i64::from(self.header) {
            rows.read_record(&mut record)?;
        }
        Ok(rows)
    }

    /// What names its events: the mailings that were proposed, once somebody took them so.
    fn names(&self, proposed: &[Proposal]) -> Proposed {
        if self.by_subject { Proposed::new(proposed) } else { Proposed::default() }
    }

    /// Rows to go through.
    #[must_use]
    pub fn steps(&self) -> i64 {
        if self.mapping.table() == Table::Events { 2 * self.records } else { self.records }
    }
}

const COLUMNS: &str =
    "id, file_name, made_at, encoding, delimiter, header, ndjson, mapping, zone, month_first, newcomers, unnamed, state, found, records,
    done, new, known, refused, applied_at, undone_at, by_subject";

fn read(r: &Row<'_>) -> rusqlite::Result<(LogFile, [String; 3])> {
    let file = LogFile {
        id: r.get(0)?,
        file_name: r.get(1)?,
        made_at: r.get(2)?,
        encoding: Encoding::Utf8,
        delimiter: char::from(r.get::<_, u8>(4)?).to_string(),
        header: r.get(5)?,
        ndjson: r.get(6)?,
        mapping: Mapping::Events(Vec::new()),
        zone: r.get(8)?,
        month_first: r.get(9)?,
        newcomers: r.get(10)?,
        unnamed: r.get(11)?,
        by_subject: r.get(21)?,
        state: r.get::<_, Worded<_>>(12)?.0,
        found: Found::default(),
        records: r.get(14)?,
        done: r.get(15)?,
        new: r.get(16)?,
        known: r.get(17)?,
        refused: r.get(18)?,
        applied_at: r.get(19)?,
        undone_at: r.get(20)?,
    };
    Ok((file, [r.get(3)?, r.get(7)?, r.get(13)?]))
}

fn files_where(c: &Connection, filter: &str, value: i64) -> Result<Vec<LogFile>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM log_file WHERE {filter} ORDER BY id DESC LIMIT 200"))?;
    let rows = s.query_map([value], read)?;
    rows.map(|row| {
        let (mut file, [encoding, mapping, found]) = row?;
        file.encoding = serde_json::from_str(&encoding)?;
        file.mapping = serde_json::from_str(&mapping)?;
        file.found = serde_json::from_str(&found)?;
        Ok(file)
    })
    .collect()
}

/// The mailings that a file's subjects and hours came to when it was looked through.
fn proposed(c: &Connection, id: i64) -> Result<Vec<Proposal>> {
    let text: String = c.query_row("SELECT proposed FROM log_file WHERE id = ?1", [id], |r| r.get(0))?;
    Ok(serde_json::from_str(&text)?)
}

/// # Errors
/// When there is no such file.
pub fn one(c: &Connection, id: i64) -> Result<LogFile> {
    files_where(c, "id = ?1", id)?.pop().ok_or(StoreError::Missing("file of past mailings"))
}

/// The newest 200.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<LogFile>> {
    files_where(c, "id > ?1", 0)
}

/// Files that were being applied or taken back when Rinse ended.
///
/// # Errors
/// When the database fails.
pub fn unfinished(c: &Connection) -> Result<Vec<LogFile>> {
    files_where(c, formatcp!("id > ?1 AND state IN ({FILE_AT_WORK})"), 0)
}

fn path(store: &Store, id: i64) -> PathBuf {
    store.folder().join("imports").join(format!("log-{id}.csv"))
}

/// Deletes what is kept of files that are over: after a person was deleted, none of them may hold them.
///
/// # Errors
/// When the database fails.
pub fn forget_files(c: &Connection, folder: &std::path::Path) -> Result<()> {
    let mut s = c.prepare_cached(formatcp!("SELECT id FROM log_file WHERE state IN ({FILE_APPLIED}, {FILE_CANCELLED}, {FILE_UNDONE})"))?;
    for id in s.query_map([], |r| r.get::<_, i64>(0))? {
        let id = id?;
        let _ = std::fs::remove_file(folder.join("imports").join(format!("log-{id}.csv")));
    }
    Ok(())
}

/// A file with its first rows as they would land.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = HistoryPreview)]
pub struct Preview {
    pub file: LogFile,
    pub columns: Vec<String>,
    pub rows: Vec<Vec<String>>,
    /// Per row: why it would be refused.
    pub refusals: Vec<Option<String>>,
    /// Its instants are local times: somebody has to say of which zone.
    pub asks_zone: bool,
    /// In its dates day and month could be either: somebody has to say which stands first.
    pub asks_month_first: bool,
}

/// The first 100 rows. A file that was deleted with a person's data shows none.
///
/// # Errors
/// When the file can't be read.
pub fn preview(store: &Store, file: LogFile) -> Result<Preview> {
    let (columns, rows) = imports::first_rows(&path(store, file.id), file.delimiter.as_bytes()[0], file.header)?;
    let times = file.times();
    let refusals = rows
        .iter()
        .map(|r| {
            let cells: Vec<&str> = r.iter().map(String::as_str).collect();
            match &file.mapping {
                Mapping::Events(columns) => rinse_core::history::event(&cells, columns, &times).err(),
                Mapping::Mailings(columns) => rinse_core::history::mailing(&cells, columns, &times).err(),
            }
        })
        .collect();
    let asks = file.mapping.instants().map(|i| times::asks(rows.iter().filter_map(|r| r.get(i)).map(String::as_str))).unwrap_or_default();
    Ok(Preview { file, columns, rows, refusals, asks_zone: asks.zone, asks_month_first: asks.month_first })
}

/// What the analyst decided on a staged file.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[schema(as = HistoryDecision)]
pub struct Decision {
    pub mapping: Mapping,
    pub header: bool,
    #[serde(default)]
    pub zone: Option<String>,
    #[serde(default)]
    pub month_first: bool,
    #[serde(default)]
    pub newcomers: bool,
    #[serde(default)]
    pub unnamed: bool,
    #[serde(default)]
    pub by_subject: bool,
}

fn must<C: PartialEq + Copy>(columns: &[Option<C>], wanted: C, what: &str) -> Result<()> {
    if columns.contains(&Some(wanted)) { Ok(()) } else { Err(StoreError::Refused(format!("Say which column holds {what}."))) }
}

fn no_doubles<C: PartialEq>(columns: &[Option<C>]) -> Result<()> {
    let double = columns.iter().enumerate().any(|(i, c)| c.is_some() && columns[..i].contains(c));
    if double { Err(StoreError::Refused("Two columns are taken for the same. Leave one of them out.".into())) } else { Ok(()) }
}

/// Saves the decision; the file has to be looked through (again) after it.
///
/// # Errors
/// When a column that is needed is missing, two are taken for the same, the zone is none, or the file was applied already.
pub async fn decide(store: &Store, id: i64, d: Decision) -> Result<()> {
    match &d.mapping {
        Mapping::Events(columns) => {
            no_doubles(columns)?;
            must(columns, EventColumn::Address, "the addresses")?;
            must(columns, EventColumn::Kind, "what happened")?;
            must(columns, EventColumn::At, "when it happened")?;
            if !columns.contains(&Some(EventColumn::Subject)) {
                must(columns, EventColumn::Mailing, "the mailing’s key or name, or its subject")?;
            }
        }
        Mapping::Mailings(columns) => {
            no_doubles(columns)?;
            must(columns, MailingColumn::SentAt, "when the mailings were sent")?;
            if ![MailingColumn::Key, MailingColumn::Name, MailingColumn::Subject].iter().any(|c| columns.contains(&Some(*c))) {
                return Err(StoreError::Refused("Say which column holds the mailings’ key, name or subject.".into()));
            }
        }
    }
    if let Some(zone) = d.zone.as_deref().filter(|z| named(z).is_none()) {
        return Err(StoreError::Refused(format!("“{zone}” is no time zone. Write it as Europe/Oslo.")));
    }
    store
        .write(move |c| {
            let n = c.execute(
                formatcp!("UPDATE log_file SET mapping = ?2, header = ?3, zone = ?4, month_first = ?5, newcomers = ?6, unnamed = ?7, by_subject = ?8, state = {FILE_STAGED}, found = '{{}}', proposed = '[]'
                 WHERE id = ?1 AND state IN ({FILE_CHANGEABLE})"),
                params![id, serde_json::to_string(&d.mapping)?, d.header, d.zone, d.month_first, d.newcomers, d.unnamed, d.by_subject],
            )?;
            if n == 0 { Err(StoreError::Refused("This file was applied already.".into())) } else { Ok(()) }
        })
        .await
}

/// Puts a file away that wasn't applied.
///
/// # Errors
/// When it was.
pub fn cancel(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute(formatcp!("UPDATE log_file SET state = {FILE_CANCELLED} WHERE id = ?1 AND state IN ({FILE_CHANGEABLE})"), [id])?;
    if n == 0 {
        return Err(StoreError::Refused("This file was applied already. Take it back instead.".into()));
    }
    crate::settings::audit(c, now, person, "past mailings put away", "history", id, "")
}

/// The refused rows of a file with their reasons, as CSV. After a person was deleted the file is kept no longer.
///
/// # Errors
/// When the file is gone.
pub fn refused(store: &Store, c: &Connection, id: i64) -> Result<Vec<u8>> {
    let file = one(c, id)?;
    let mut s = c.prepare_cached("SELECT row, why FROM log_refused WHERE log_id = ?1 ORDER BY row")?;
    let why: std::collections::BTreeMap<i64, String> =
        s.query_map([id], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let at = path(store, id);
    if !at.exists() {
        return Err(StoreError::Refused("The file is kept no longer, because a person in the base was deleted since.".into()));
    }
    let mut records = crate::tables::records(&at, file.delimiter.as_bytes()[0])?;
    let mut out = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
    let (mut record, mut row) = (csv::StringRecord::new(), 0);
    if file.header && records.read_record(&mut record)? {
        record.push_field("refused because");
        out.write_record(&record)?;
    }
    let last = why.keys().next_back().copied().unwrap_or(0);
    while row < last && records.read_record(&mut record)? {
        row += 1;
        if let Some(why) = why.get(&row) {
            record.push_field(why);
            out.write_record(&record)?;
        }
    }
    out.into_inner().map_err(|e| StoreError::Io(e.into_error()))
}

/// A mailing that another sender tells of for the first time gets the name it is given.
///
/// # Errors
/// When the database fails.
pub fn introduce(c: &Connection, told: &rinse_core::history::Told, now: Instant) -> Result<()> {
    let e = &told.event;
    if e.mailing.is_empty() || (told.name.is_empty() && told.subject.is_empty()) || e.at > now || outside::known(c, &e.mailing)?.is_some() {
        return Ok(());
    }
    let name = if told.name.is_empty() { &told.subject } else { &told.name };
    let mailing = rinse_core::history::PastMailing {
        key: e.mailing.clone(),
        name: name.clone(),
        subject: told.subject.clone(),
        topic: told.topic.clone(),
        sent_at: e.at,
        size: None,
    };
    outside::put(c, &mailing, None).map(drop)
}
