//! Reply lines that a person reads otherwise than the rules do: said of a line, tried on the past first, a version each time, and taken back.
//!
//! What failed in the last 90 days is read again in parts, beside everything else; anybody whose failure is read otherwise is worked out again. What
//! incidents hold up, and the pace towards hosts, don't change by it.

use super::{policy, status};
use crate::{Result, StoreError};
use rinse_core::bounce::{Category, masked};
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::upkeep::{Happened, standing};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use utoipa::ToSchema;

/// What failed since so long ago is read again.
pub const DAYS: i64 = 90;

/// A line as a person reads it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = LineReading)]
pub struct Reading {
    pub id: i64,
    /// Addresses and numbers masked.
    pub line: String,
    pub category: Category,
    /// What it is read as …
    pub reason: String,
    /// … and as what the rules read it.
    pub by_rules: String,
    /// Does it count against the address?
    pub counts: bool,
    pub at: i64,
    pub person: Option<String>,
    pub why: String,
    pub ended_at: Option<i64>,
    pub ended_by: Option<String>,
    /// What failed before is still being read again.
    pub reads_the_past: bool,
}

const COLUMNS: &str = "SELECT r.id, r.line, r.category, r.at, p.name, r.why, r.ended_at, e.name, r.past_at IS NOT NULL FROM reading r
    LEFT JOIN person p ON p.id = r.person_id LEFT JOIN person e ON e.id = r.ended_by";

fn reading(r: &Row<'_>) -> rusqlite::Result<Reading> {
    let (line, category): (String, Category) = (r.get(1)?, Category::from_code(r.get(2)?));
    Ok(Reading {
        id: r.get(0)?,
        by_rules: Category::of_line(&line).words().to_owned(),
        line,
        category,
        reason: category.words().to_owned(),
        counts: category.class().counts_against_address(),
        at: r.get(3)?,
        person: r.get(4)?,
        why: r.get(5)?,
        ended_at: r.get(6)?,
        ended_by: r.get(7)?,
        reads_the_past: r.get(8)?,
    })
}

/// All of them, those in force first, then the newest.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Reading>> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " ORDER BY r.ended_at IS NOT NULL, r.id DESC LIMIT 200"))?;
    Ok(s.query_map([], reading)?.collect::<rusqlite::Result<_>>()?)
}

fn in_force(c: &Connection, line: &str) -> Result<Option<Category>> {
    let mut s = c.prepare_cached("SELECT category FROM reading WHERE line = ?1 AND ended_at IS NULL")?;
    Ok(s.query_row([line], |r| r.get(0)).optional()?.map(Category::from_code))
}

/// What a failure with a line means: as a person said of lines like it, else what it was found to be.
pub(crate) fn of(c: &Connection, line: &str, found: Category) -> Result<Category> {
    // Most bases have none, and then no line is masked.
    if !c.prepare_cached("SELECT 1 FROM reading WHERE ended_at IS NULL LIMIT 1")?.exists([])? {
        return Ok(found);
    }
    Ok(in_force(c, &masked(line))?.unwrap_or(found))
}

/// Where a pass over what failed stands: behind a failure of an instant, and its send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mark {
    at: i64,
    send: SendId,
}

/// A failure with a line of which something was said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Failure {
    pub send: SendId,
    contact: ContactId,
    mailing: MailingId,
    at: i64,
    category: Category,
}

/// Failures with a line behind a mark, of so many failures, and where it came to; no mark: there are no more.
fn with_line(c: &Connection, line: &str, behind: Mark, most: u32) -> Result<(Vec<Failure>, Option<Mark>)> {
    let mut s = c.prepare_cached(
        "SELECT s.id, s.contact_id, s.mailing_id, s.failed_at, s.category, coalesce(s.reply, '') FROM send s INDEXED BY send_failed
         WHERE s.failed_at IS NOT NULL AND s.failed_at >= ?1 AND (s.failed_at > ?1 OR s.id > ?2) AND s.channel = 1 ORDER BY s.failed_at, s.id LIMIT ?3",
    )?;
    let mut rows = s.query(params![behind.at, behind.send.0, most])?;
    let (mut found, mut looked, mut mark) = (Vec::new(), 0, behind);
    while let Some(r) = rows.next()? {
        looked += 1;
        mark = Mark { at: r.get(3)?, send: SendId(r.get(0)?) };
        if masked(r.get_ref(5)?.as_str().map_err(rusqlite::Error::from)?) == line {
            let category = r.get::<_, Option<i64>>(4)?.map_or(Category::Unknown, Category::from_code);
            found.push(Failure { send: mark.send, contact: ContactId(r.get(1)?), mailing: MailingId(r.get(2)?), at: mark.at, category });
        }
    }
    Ok((found, (looked == most).then_some(mark)))
}

/// People whose status would be another one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = ReadingMoves)]
pub struct Moves {
    pub from: String,
    pub to: String,
    pub people: u64,
}

/// What a reading would have done to what is on record.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = ReadingTried)]
pub struct Tried {
    /// Failures since then were looked at.
    pub since: i64,
    pub messages: u64,
    pub people: u64,
    pub mailings: u64,
    /// What it is read as now: the words, and how many messages.
    pub now_read: Vec<NowRead>,
    pub moves: Vec<Moves>,
    /// People whose status was worked out: the newest, when there are very many.
    pub worked_out: u64,
}

/// What messages with a line are read as.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct NowRead {
    pub reason: String,
    pub messages: u64,
}

/// Failures looked at by one reading …
const LOOKED_AT_ONCE: u32 = 2_000;
/// … by a try, in all …
const LOOKED_AT: usize = 200_000;
/// … and people whose status one works out.
const WORKED_OUT: usize = 20_000;

/// Where the past of a line begins: whatever was ever said of it reaches back so far from when it was said first.
fn since(c: &Connection, line: &str, now: Instant) -> Result<Mark> {
    let first: Option<i64> = c.prepare_cached("SELECT min(at) FROM reading WHERE line = ?1")?.query_row([line], |r| r.get(0))?;
    Ok(Mark { at: first.unwrap_or(now.millis()).min(now.millis()) - DAYS * DAY, send: SendId(0) })
}

/// What it would have done.
///
/// # Errors
/// When no host said such a line in the last 90 days.
pub fn try_on(c: &Connection, line: &str, category: Category, now: Instant) -> Result<Tried> {
    let begin = since(c, line, now)?;
    let (mut found, mut mark, mut looked) = (Vec::new(), Some(begin), 0);
    while let Some(behind) = mark.filter(|_| looked < LOOKED_AT) {
        let (some, next) = with_line(c, line, behind, LOOKED_AT_ONCE)?;
        (looked, mark) = (looked + LOOKED_AT_ONCE as usize, next);
        found.extend(some);
    }
    if found.is_empty() {
        return Err(StoreError::Refused("No host said this line in the last 90 days. Take it from the list of what hosts said.".into()));
    }
    let mut now_read: BTreeMap<&str, u64> = BTreeMap::new();
    let mut of: HashMap<i64, HashSet<(i64, i64)>> = HashMap::new();
    for f in &found {
        *now_read.entry(f.category.words()).or_default() += 1;
        of.entry(f.contact.0).or_default().insert((f.mailing.0, f.at));
    }
    let mut people: Vec<i64> = of.keys().copied().collect();
    people.sort_unstable_by(|a, b| b.cmp(a));
    people.truncate(WORKED_OUT);
    let policy = policy::current(c)?.policy;
    let mut moves: BTreeMap<(&str, &str), u64> = BTreeMap::new();
    for id in &people {
        let (mut outcomes, sets) = (status::outcomes(c, ContactId(*id))?, status::sets(c, ContactId(*id))?);
        let before = standing(&outcomes, &sets, &policy, now).status;
        for o in &mut outcomes {
            if matches!(o.what, Happened::Failed(_)) && of[id].contains(&(o.mailing.0, o.at.millis())) {
                o.what = Happened::Failed(category);
            }
        }
        let after = standing(&outcomes, &sets, &policy, now).status;
        if before != after {
            *moves.entry((before.words(), after.words())).or_default() += 1;
        }
    }
    Ok(Tried {
        since: begin.at,
        messages: found.len() as u64,
        people: of.len() as u64,
        mailings: found.iter().map(|f| f.mailing).collect::<HashSet<_>>().len() as u64,
        now_read: now_read.into_iter().map(|(reason, messages)| NowRead { reason: reason.to_owned(), messages }).collect(),
        moves: moves.into_iter().map(|((from, to), people)| Moves { from: from.to_owned(), to: to.to_owned(), people }).collect(),
        worked_out: people.len() as u64,
    })
}

/// A person reads a line otherwise from now on; what failed in the last 90 days is read again: see [`unfinished`].
///
/// # Errors
/// When nothing is said why, or it is read so already.
pub fn put_in_force(c: &Connection, line: &str, category: Category, why: &str, now: Instant, person: Option<i64>) -> Result<i64> {
    if line.trim().is_empty() || masked(line) != line {
        return Err(StoreError::Refused("Give the line as it stands in the list of what hosts said, addresses and numbers masked.".into()));
    }
    if why.is_empty() {
        return Err(StoreError::Refused("Say why the line is read otherwise: it stands in its history.".into()));
    }
    let before = in_force(c, line)?;
    if before.unwrap_or_else(|| Category::of_line(line)) == category {
        return Err(StoreError::Refused(format!("The line is read as “{}” already.", category.words())));
    }
    c.prepare_cached(
        "UPDATE reading SET ended_at = ?2, ended_by = ?3, past_at = NULL, past_send = NULL WHERE line = ?1 AND ended_at IS NULL",
    )?
    .execute(params![line, now.millis(), person])?;
    let Mark { at, send } = since(c, line, now)?;
    let id = c
        .prepare_cached(
            "INSERT INTO reading (line, category, at, person_id, why, past_at, past_send) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) RETURNING id",
        )?
        .query_row(params![line, category as i64, now.millis(), person, why, at, send.0], |r| r.get(0))?;
    crate::settings::audit(c, now, person, "reply line read otherwise", "upkeep", id, &format!("{}: {why}", category.words()))?;
    Ok(id)
}

/// The rules read a line again, and what failed since 90 days before anything was said of it.
///
/// # Errors
/// When there is none such in force.
pub fn end(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let line: Option<String> =
        c.prepare_cached("SELECT line FROM reading WHERE id = ?1 AND ended_at IS NULL")?.query_row([id], |r| r.get(0)).optional()?;
    let line = line.ok_or(StoreError::Missing("reading in force"))?;
    let Mark { at, send } = since(c, &line, now)?;
    c.prepare_cached("UPDATE reading SET ended_at = ?2, ended_by = ?3, past_at = ?4, past_send = ?5 WHERE id = ?1")?.execute(params![
        id,
        now.millis(),
        person,
        at,
        send.0
    ])?;
    crate::settings::audit(c, now, person, "reply line read by the rules again", "upkeep", id, "")
}

/// A reading whose past isn't read again yet, and where that stands.
///
/// # Errors
/// When the database fails.
pub fn unfinished(c: &Connection) -> Result<Option<(i64, Mark)>> {
    let mut s = c.prepare_cached("SELECT id, past_at, past_send FROM reading WHERE past_at IS NOT NULL ORDER BY id LIMIT 1")?;
    Ok(s.query_row([], |r| Ok((r.get(0)?, Mark { at: r.get(1)?, send: SendId(r.get(2)?) }))).optional()?)
}

/// What was found of a part of the past.
#[derive(Debug, Clone)]
pub struct Looked {
    /// Failures to read again; what each means is asked as it is written.
    pub again: Vec<Failure>,
    next: Option<Mark>,
}

/// Looks at a part of the past, beside the writer.
///
/// # Errors
/// When the database fails.
pub fn look(c: &Connection, id: i64, behind: Mark) -> Result<Looked> {
    let line: String = c.prepare_cached("SELECT line FROM reading WHERE id = ?1")?.query_row([id], |r| r.get(0))?;
    let means = in_force(c, &line)?.unwrap_or_else(|| Category::of_line(&line));
    let (mut again, next) = with_line(c, &line, behind, LOOKED_AT_ONCE)?;
    again.retain(|f| f.category != means);
    Ok(Looked { again, next })
}

/// Reads some failures again, as their lines are read now.
///
/// # Errors
/// When the database fails.
pub fn read_again(c: &Connection, some: &[Failure]) -> Result<()> {
    for f in some {
        let line: Option<String> = c
            .prepare_cached("SELECT reply FROM send WHERE id = ?1 AND failed_at IS NOT NULL")?
            .query_row([f.send.0], |r| r.get(0))
            .optional()?;
        let Some(line) = line else { continue };
        let means = of(c, &line, Category::of_line(&line))?;
        c.prepare_cached("UPDATE send SET category = ?2 WHERE id = ?1")?.execute(params![f.send.0, means as i64])?;
        c.prepare_cached("INSERT INTO status_due SELECT id FROM contact WHERE id = ?1 AND gone IS NULL ON CONFLICT DO NOTHING")?
            .execute([f.contact.0])?;
    }
    Ok(())
}

/// A part of the past was read again.
///
/// # Errors
/// When the database fails.
pub fn came_to(c: &Connection, id: i64, behind: Mark, looked: &Looked) -> Result<()> {
    // Said otherwise meanwhile, it begins at its own mark.
    c.prepare_cached("UPDATE reading SET past_at = ?4, past_send = ?5 WHERE id = ?1 AND past_at = ?2 AND past_send = ?3")?
        .execute(params![id, behind.at, behind.send.0, looked.next.map(|m| m.at), looked.next.map(|m| m.send.0)])?;
    Ok(())
}
