//! A series as it is kept, and how somebody comes into it and out again: let in, taken out, or by their own choice, which keeps them from
//! entering again.

use crate::send_state::{NOT_SENT, WAITING};
use crate::stored::Worded;
use crate::{Result, StoreError, journal};
use const_format::formatcp;
use rinse_core::id::{ContactId, LetterheadId, SeriesId};
use rinse_core::series::{Again, Outline};
use rinse_core::standing::SeriesState;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A series as it is kept.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = KeptSeries)]
pub struct Kept {
    pub id: SeriesId,
    pub name: String,
    pub letterhead_id: LetterheadId,
    pub outline: Outline,
    /// draft, running, ended
    pub state: SeriesState,
    pub made_at: i64,
    pub started_at: Option<i64>,
    pub paused_at: Option<i64>,
    pub ended_at: Option<i64>,
}

impl Kept {
    /// May somebody enter at this instant?
    #[must_use]
    pub fn open(&self, at: Instant) -> bool {
        self.state == SeriesState::Running
            && self.started_at.is_some_and(|s| s <= at.millis())
            && self.outline.from.is_none_or(|f| f <= at.millis())
            && self.outline.until.is_none_or(|u| at.millis() < u)
    }
}

const COLUMNS: &str = "id, name, letterhead_id, outline, state, made_at, started_at, paused_at, ended_at";

pub(crate) fn read(c: &Connection, filter: &str, values: impl rusqlite::Params) -> Result<Vec<Kept>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM series WHERE {filter}"))?;
    let mut rows = s.query(values)?;
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        out.push(Kept {
            id: SeriesId(r.get(0)?),
            name: r.get(1)?,
            letterhead_id: LetterheadId(r.get(2)?),
            outline: serde_json::from_str(&r.get::<_, String>(3)?)?,
            state: r.get::<_, Worded<_>>(4)?.0,
            made_at: r.get(5)?,
            started_at: r.get(6)?,
            paused_at: r.get(7)?,
            ended_at: r.get(8)?,
        });
    }
    Ok(out)
}

/// # Errors
/// When there is no such series.
pub fn one(c: &Connection, id: SeriesId) -> Result<Kept> {
    read(c, "id = ?1", [id.0])?.pop().ok_or(StoreError::Missing("series"))
}

/// The name of a series that hasn't ended.
pub(crate) fn name(c: &Connection, id: SeriesId) -> Result<String> {
    let k = one(c, id)?;
    if k.state == SeriesState::Ended { Err(StoreError::Refused(format!("The series “{}” has ended.", k.name))) } else { Ok(k.name) }
}

/// Lets somebody enter at `at`, where the series is open to them: not twice at the same time, again only as the outline says,
/// and never when they left it by their own choice. Returns whether they did.
///
/// # Errors
/// When the database fails.
pub fn enter(c: &Connection, k: &Kept, contact: ContactId, at: Instant, cause: &str, now: Instant) -> Result<bool> {
    let Some(first) = k.outline.first().filter(|_| k.open(at)) else { return Ok(false) };
    let there = c.prepare_cached("SELECT 1 FROM contact WHERE id = ?1 AND gone IS NULL")?.exists([contact.0])?;
    let left = c.prepare_cached("SELECT 1 FROM series_left WHERE series_id = ?1 AND contact_id = ?2")?.exists([k.id.0, contact.0])?;
    if !there || left {
        return Ok(false);
    }
    let last: Option<(i64, bool)> = c
        .prepare_cached("SELECT at, ended_at IS NULL FROM series_entry WHERE contact_id = ?1 AND series_id = ?2 ORDER BY id DESC LIMIT 1")?
        .query_row([contact.0, k.id.0], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?;
    let may = match (last, k.outline.again) {
        (None, _) => true,
        (Some((_, true)), _) | (Some(_), Again::Never) => false,
        (Some((before, _)), Again::After { days }) => at.millis() - before >= i64::from(days) * DAY,
        // The same cause seen twice is no second entry.
        (Some((before, _)), Again::Always) => at.millis() > before,
    };
    if may {
        c.prepare_cached(
            "INSERT INTO series_entry (series_id, contact_id, at, cause, step, came_at, due) VALUES (?1, ?2, ?3, ?4, ?5, ?3, ?6)",
        )?
        .execute(params![k.id.0, contact.0, at.millis(), cause, first, at.millis().min(now.millis())])?;
    }
    Ok(may)
}

/// Somebody is out; what waits for them isn't sent.
pub(crate) fn end(c: &Connection, entry: i64, at: Instant, why: &str) -> Result<()> {
    c.prepare_cached("UPDATE series_entry SET ended_at = ?2, ended = ?3, due = NULL WHERE id = ?1 AND ended_at IS NULL")?
        .execute(params![entry, at.millis(), why])?;
    withdraw(c, entry)?;
    Ok(())
}

/// Takes somebody out, when they are inside.
///
/// # Errors
/// When the database fails.
pub fn take_out(c: &Connection, id: SeriesId, contact: ContactId, now: Instant, why: &str) -> Result<bool> {
    let entry: Option<i64> = c
        .prepare_cached("SELECT id FROM series_entry WHERE series_id = ?1 AND contact_id = ?2 AND ended_at IS NULL")?
        .query_row([id.0, contact.0], |r| r.get(0))
        .optional()?;
    if let Some(entry) = entry {
        end(c, entry, now, why)?;
    }
    Ok(entry.is_some())
}

/// Somebody leaves a series by their own choice: they are out, and don't enter it again. Returns whether that is new.
///
/// # Errors
/// When the database fails.
pub fn leave(c: &Connection, id: SeriesId, contact: ContactId, now: Instant) -> Result<bool> {
    let new = c.prepare_cached("INSERT INTO series_left VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING")?.execute(params![
        id.0,
        contact.0,
        now.millis()
    ])?;
    if new > 0 {
        journal::series_left(c, contact, id, now)?;
    }
    take_out(c, id, contact, now, "left it by their own choice")?;
    Ok(new > 0)
}

/// Records that somebody left every series of a name, as the journal knows them; how many they hadn't left. None: there is none of that name.
pub(crate) fn leave_named(c: &Connection, contact: ContactId, name: &str, now: Instant) -> Result<Option<usize>> {
    let mut s = c.prepare_cached("SELECT id FROM series WHERE name = ?1 COLLATE NOCASE ORDER BY id")?;
    let all = s.query_map([name], |r| r.get(0))?.collect::<rusqlite::Result<Vec<i64>>>()?;
    let mut left = 0;
    for series in &all {
        left += usize::from(leave(c, SeriesId(*series), contact, now)?);
    }
    Ok((!all.is_empty()).then_some(left))
}

/// Takes back that somebody left a series: they may enter again.
///
/// # Errors
/// When the database fails.
pub fn rejoin(c: &Connection, id: SeriesId, contact: ContactId) -> Result<()> {
    c.prepare_cached("DELETE FROM series_left WHERE series_id = ?1 AND contact_id = ?2")?.execute([id.0, contact.0])?;
    Ok(())
}

/// What waits to be sent for an entry isn't sent any more.
pub(crate) fn withdraw(c: &Connection, entry: i64) -> Result<usize> {
    Ok(c.prepare_cached(formatcp!("UPDATE send SET state = {NOT_SENT}, reply = 'they left the series before it was their turn' WHERE cause = 2 AND cause_id = ?1 AND state IN ({WAITING})"))?
        .execute([entry])?)
}
