//! The journal: withdrawals, complaints and deletions, once more, in a file beside the database.
//!
//! A restored backup doesn't know who left since it was made; this file does. A line is written, and
//! on the disk, before the transaction it belongs to is committed, and the database keeps how many
//! lines it has: whatever comes after that is replayed when the store is opened ([`crate::replay`]), before anything can
//! be sent. Lines name people by the keyed hash of their address, as tombstones do, so deleting
//! somebody leaves nothing personal behind here either.

mod file;

use crate::grant::Grant;
use crate::stored::As;
use crate::writer::OnCommit;
use crate::{Result, tombstones};
pub(crate) use file::{Line, Whole};
use file::{Mark, Marks};
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::id::{ContactId, SeriesId};
use rinse_core::token::hex;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
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

    pub(crate) fn code(self) -> &'static str {
        match self {
            Self::Withdrew => "withdrew",
            Self::Complained => "complained",
            Self::LeftTopic => "left_topic",
            Self::LeftSeries => "left_series",
            Self::Deleted => "deleted",
        }
    }

    pub(crate) fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|w| w.code() == code)
    }
}

/// Puts a line on its way; it is in the file before the transaction commits.
///
/// # Errors
/// When the database fails.
pub(crate) fn note(c: &Connection, what: What, contact: ContactId, topic: Option<i64>, grant: Grant<'_>, at: Instant) -> Result<()> {
    let key: Option<String> =
        c.prepare_cached("SELECT address_key FROM contact WHERE id = ?1")?.query_row([contact.0], |r| r.get(0)).optional()?;
    let Some(key) = key else { return Ok(()) };
    let who = tombstones::signer(c)?.tombstone(&key);
    c.prepare_cached(
        "INSERT INTO journal_due (what, who, topic, at, entity, channel) VALUES (?1, ?2, (SELECT name FROM topic WHERE id = ?3), ?4, ?5, ?6)",
    )?
    .execute(params![what.code(), who, topic, at.millis(), grant.entity, grant.channel.code()])?;
    Ok(())
}

/// The phone number of somebody who is deleted: nobody has an address with its hash, so that replaying buries it.
///
/// # Errors
/// When the database fails.
pub(crate) fn number_deleted(c: &Connection, phone: &str, at: Instant) -> Result<()> {
    c.prepare_cached("INSERT INTO journal_due (what, who, at, entity) VALUES (?1, ?2, ?3, '')")?.execute(params![
        What::Deleted.code(),
        tombstones::signer(c)?.tombstone(phone),
        at.millis()
    ])?;
    Ok(())
}

/// As [`note`], of somebody who left a series.
///
/// # Errors
/// When the database fails.
pub(crate) fn series_left(c: &Connection, contact: ContactId, series: SeriesId, at: Instant) -> Result<()> {
    note(c, What::LeftSeries, contact, None, Grant::default(), at)?;
    c.prepare_cached(
        "UPDATE journal_due SET topic = (SELECT name FROM series WHERE id = ?1) WHERE id = (SELECT max(id) FROM journal_due) AND what = 'left_series'",
    )?
    .execute([series.0])?;
    Ok(())
}

/// The open journal.
pub(crate) struct Journal {
    pen: file::Pen,
}

impl OnCommit for Journal {
    /// Writes what this transaction put on its way: who leaves is in the journal before the database says so.
    fn before_commit(&mut self, c: &Connection) -> rusqlite::Result<()> {
        let mut s = c.prepare_cached("SELECT what, who, topic, at, entity, channel FROM journal_due ORDER BY id")?;
        let mut rows = s.query([])?;
        let mut lines = Vec::new();
        while let Some(r) = rows.next()? {
            let who: Vec<u8> = r.get(1)?;
            let what = What::from_code(r.get_ref(0)?.as_str()?).ok_or(rusqlite::Error::InvalidQuery)?;
            lines.push(Line {
                seq: 0,
                at: r.get(3)?,
                what,
                who: hex(&who),
                topic: r.get(2)?,
                entity: r.get(4)?,
                channel: r.get::<_, As<Channel>>(5)?.0,
                journal: String::new(),
                before: String::new(),
            });
        }
        drop(rows);
        let written = self.pen.write(lines).map_err(|e| {
            tracing::error!("the journal can't be written ({e}): nobody's withdrawal is taken until it can be");
            rusqlite::Error::ToSqlConversionFailure(e.into())
        })?;
        if let Some(w) = written {
            c.prepare_cached("DELETE FROM journal_due")?.execute([])?;
            mark(c, &w.journal, &w.mark)?;
        }
        Ok(())
    }
}

pub(crate) fn mark(c: &Connection, journal: &str, to: &Mark) -> rusqlite::Result<()> {
    c.prepare_cached("INSERT INTO journal_upto VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET upto = ?2, digest = ?3 WHERE upto < ?2")?
        .execute(params![journal, to.upto, to.digest])?;
    Ok(())
}

fn marks(c: &Connection) -> Result<Marks> {
    let mut s = c.prepare("SELECT journal, upto, digest FROM journal_upto")?;
    let rows = s.query_map([], |r| Ok((r.get(0)?, Mark { upto: r.get(1)?, digest: r.get(2)? })))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// What was replayed, and what the file itself has wrong with it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct Replayed {
    pub withdrawn: usize,
    pub complained: usize,
    pub topics_left: usize,
    pub series_left: usize,
    pub deleted: usize,
    /// Of people whom the database doesn't have: kept, and in force for anybody who brings them.
    pub kept: usize,
    /// What is wrong with the journal, in sentences.
    pub faults: Vec<String>,
}

impl Replayed {
    /// Was there anything that the database didn't know?
    #[must_use]
    pub fn any(&self) -> bool {
        Self { faults: Vec::new(), ..self.clone() } != Self::default()
    }

    pub(crate) fn of(&mut self, what: What) -> &mut usize {
        match what {
            What::Withdrew => &mut self.withdrawn,
            What::Complained => &mut self.complained,
            What::LeftTopic => &mut self.topics_left,
            What::LeftSeries => &mut self.series_left,
            What::Deleted => &mut self.deleted,
        }
    }
}

/// Opens the journal beside a database; what the database hasn't got of it is in what was read.
///
/// # Errors
/// When a file can't be read or written.
pub(crate) fn open(c: &Connection, folder: &Path, durable: bool) -> Result<(Journal, Whole)> {
    let before = marks(c)?;
    let whole = Whole::read(folder, &before)?;
    let fresh: String = c.query_row("SELECT lower(hex(randomblob(8)))", [], |r| r.get(0))?;
    let pen = file::Pen::open(folder, &whole, &before, &fresh, durable)?;
    Ok((Journal { pen }, whole))
}
