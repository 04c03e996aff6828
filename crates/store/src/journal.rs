//! The journal: withdrawals, complaints and deletions, once more, in a file beside the database.
//!
//! A restored backup doesn't know who left since it was made; this file does. A line is written, and
//! on the disk, before the transaction it belongs to is committed, and the database keeps how many
//! lines it has: whatever comes after that is replayed when the store is opened, before anything can
//! be sent. Lines name people by the keyed hash of their address, as tombstones do, so deleting
//! somebody leaves nothing personal behind here either.

use crate::ledger::{self, Grant, Origin};
use crate::{Result, erasure};
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::consent::Act;
use rinse_core::token::hex;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::path::Path;

/// The file's name in the data folder.
pub const FILE: &str = "withdrawals.journal";

/// What a line says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum What {
    Withdrew,
    Complained,
    LeftTopic,
    /// The series by its name, where a topic stands otherwise.
    LeftSeries,
    Deleted,
}

impl What {
    const ALL: [Self; 5] = [Self::Withdrew, Self::Complained, Self::LeftTopic, Self::LeftSeries, Self::Deleted];

    fn code(self) -> &'static str {
        match self {
            Self::Withdrew => "withdrew",
            Self::Complained => "complained",
            Self::LeftTopic => "left_topic",
            Self::LeftSeries => "left_series",
            Self::Deleted => "deleted",
        }
    }
}

#[derive(Serialize, Deserialize)]
struct Line {
    seq: i64,
    at: i64,
    what: What,
    who: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    topic: Option<String>,
    /// The legal entity, when it isn't the first.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    entity: String,
    #[serde(default, skip_serializing_if = "is_email")]
    channel: Channel,
}

fn is_email(channel: &Channel) -> bool {
    *channel == Channel::Email
}

/// Puts a line on its way; it is in the file before the transaction commits.
///
/// # Errors
/// When the database fails.
pub(crate) fn note(c: &Connection, what: What, contact: i64, topic: Option<i64>, grant: Grant<'_>, at: Instant) -> Result<()> {
    let key: Option<String> =
        c.prepare_cached("SELECT address_key FROM contact WHERE id = ?1")?.query_row([contact], |r| r.get(0)).optional()?;
    let Some(key) = key else { return Ok(()) };
    let who = erasure::signer(c)?.tombstone(&key);
    c.prepare_cached(
        "INSERT INTO journal_due (what, who, topic, at, entity, channel) VALUES (?1, ?2, (SELECT name FROM topic WHERE id = ?3), ?4, ?5, ?6)",
    )?
    .execute(params![what.code(), who, topic, at.0, grant.entity, grant.channel.code()])?;
    Ok(())
}

/// The phone number of somebody who is deleted: nobody has an address with its hash, so that replaying buries it.
///
/// # Errors
/// When the database fails.
pub(crate) fn number_deleted(c: &Connection, phone: &str, at: Instant) -> Result<()> {
    c.prepare_cached("INSERT INTO journal_due (what, who, at, entity) VALUES (?1, ?2, ?3, '')")?.execute(params![
        What::Deleted.code(),
        erasure::signer(c)?.tombstone(phone),
        at.0
    ])?;
    Ok(())
}

/// As [`note`], of somebody who left a series.
///
/// # Errors
/// When the database fails.
pub(crate) fn series_left(c: &Connection, contact: i64, series: i64, at: Instant) -> Result<()> {
    note(c, What::LeftSeries, contact, None, Grant::default(), at)?;
    c.prepare_cached(
        "UPDATE journal_due SET topic = (SELECT name FROM series WHERE id = ?1) WHERE id = (SELECT max(id) FROM journal_due) AND what = 'left_series'",
    )?
    .execute([series])?;
    Ok(())
}

/// The open file.
pub(crate) struct Journal {
    file: File,
    last: i64,
    durable: bool,
}

impl Journal {
    /// Opens the file, and cuts off a line that a crash left half written: nobody was told that it held.
    ///
    /// # Errors
    /// When it can't be read or written.
    pub(crate) fn open(folder: &Path, durable: bool) -> std::io::Result<Self> {
        let mut file = OpenOptions::new().read(true).append(true).create(true).open(folder.join(FILE))?;
        let mut text = Vec::new();
        let from = file.metadata()?.len().saturating_sub(100_000);
        file.seek(SeekFrom::Start(from))?;
        file.read_to_end(&mut text)?;
        let whole = text.iter().rposition(|b| *b == b'\n').map_or(0, |i| i + 1);
        file.set_len(from + whole as u64)?;
        let last = text[..whole].split(|b| *b == b'\n').rev().find_map(|l| serde_json::from_slice::<Line>(l).ok()).map_or(0, |l| l.seq);
        Ok(Self { file, last, durable })
    }

    /// Writes what this transaction put on its way.
    ///
    /// # Errors
    /// When the file or the database fails: then the transaction must not be committed.
    pub(crate) fn flush(&mut self, c: &Connection) -> rusqlite::Result<()> {
        let mut s = c.prepare_cached("SELECT what, who, topic, at, entity, channel FROM journal_due ORDER BY id")?;
        let mut rows = s.query([])?;
        let (mut text, mut seq) = (String::new(), self.last);
        while let Some(r) = rows.next()? {
            seq += 1;
            let who: Vec<u8> = r.get(1)?;
            let word = r.get_ref(0)?.as_str()?;
            let what = What::ALL.into_iter().find(|w| w.code() == word).ok_or(rusqlite::Error::InvalidQuery)?;
            let channel = Channel::from_code(r.get(5)?);
            let line = Line { seq, at: r.get(3)?, what, who: hex(&who), topic: r.get(2)?, entity: r.get(4)?, channel };
            text.push_str(&serde_json::to_string(&line).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))?);
            text.push('\n');
        }
        if text.is_empty() {
            return Ok(());
        }
        let broken = |e: std::io::Error| rusqlite::Error::ToSqlConversionFailure(e.into());
        self.file.write_all(text.as_bytes()).map_err(broken)?;
        if self.durable {
            self.file.sync_data().map_err(broken)?;
        }
        self.last = seq;
        c.prepare_cached("DELETE FROM journal_due")?.execute([])?;
        c.prepare_cached("UPDATE journal_mark SET upto = ?1")?.execute([seq])?;
        Ok(())
    }
}

/// What was replayed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub struct Replayed {
    pub withdrawn: usize,
    pub complained: usize,
    pub topics_left: usize,
    pub series_left: usize,
    pub deleted: usize,
}

impl Replayed {
    #[must_use]
    pub fn any(self) -> bool {
        self != Self::default()
    }
}

/// Brings the database up to what the journal says: lines it hasn't got are applied, in one
/// transaction.
///
/// # Errors
/// When a file can't be read.
pub(crate) fn replay(c: &Connection, folder: &Path) -> Result<Replayed> {
    let mut done = Replayed::default();
    let Ok(file) = File::open(folder.join(FILE)) else { return Ok(done) };
    let upto: i64 = c.query_row("SELECT upto FROM journal_mark", [], |r| r.get(0))?;
    let mut lines = Vec::new();
    for text in BufReader::new(file).lines() {
        // A line that can't be read was cut off by a crash before anybody was told.
        if let Ok(line) = serde_json::from_str::<Line>(&text?)
            && line.seq > upto
        {
            lines.push(line);
        }
    }
    let Some(last) = lines.last().map(|l| l.seq) else { return Ok(done) };
    c.execute_batch("BEGIN IMMEDIATE")?;
    let applied = (|| {
        let signer = erasure::signer(c)?;
        let mut people: HashMap<String, i64> = HashMap::new();
        let mut s = c.prepare("SELECT id, address_key FROM contact WHERE gone IS NULL")?;
        let mut rows = s.query([])?;
        while let Some(r) = rows.next()? {
            people.insert(hex(&signer.tombstone(r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?)), r.get(0)?);
        }
        drop(rows);
        for line in &lines {
            let at = Instant(line.at);
            let evidence = "replayed after a restore".to_owned();
            let origin = Origin { source: "journal", evidence, channel: line.channel, entity: line.entity.clone(), ..Origin::default() };
            let Some(&contact) = people.get(&line.who) else {
                if line.what == What::Deleted {
                    done.deleted += usize::from(erasure::bury(c, &line.who, at)?);
                }
                continue;
            };
            match line.what {
                What::Withdrew => done.withdrawn += usize::from(ledger::act(c, contact, at, Act::Withdrew, &origin)?),
                What::Complained => done.complained += usize::from(ledger::act(c, contact, at, Act::Complained, &origin)?),
                What::LeftTopic => {
                    let topic: Option<i64> = c.query_row("SELECT id FROM topic WHERE name = ?1", [&line.topic], |r| r.get(0)).optional()?;
                    if let Some(topic) = topic {
                        done.topics_left += usize::from(ledger::leave_topic(c, contact, topic, at, &origin)?);
                    }
                }
                What::LeftSeries => {
                    let mut s = c.prepare_cached("SELECT id FROM series WHERE name = ?1 COLLATE NOCASE ORDER BY id")?;
                    for series in s.query_map([&line.topic], |r| r.get(0))?.collect::<rusqlite::Result<Vec<i64>>>()? {
                        done.series_left += usize::from(crate::series::entering::leave(c, series, contact, at)?);
                    }
                }
                What::Deleted => {
                    erasure::erase(c, contact, at, None)?;
                    done.deleted += 1;
                }
            }
        }
        c.execute_batch("DELETE FROM journal_due")?;
        c.execute("UPDATE journal_mark SET upto = ?1", [last])?;
        Ok(done)
    })();
    c.execute_batch(if applied.is_ok() { "COMMIT" } else { "ROLLBACK" })?;
    applied
}
