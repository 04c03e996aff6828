//! Blocklists that are asked about us, and what of ours they had.

use crate::{Result, StoreError, settings};
use rinse_core::Instant;
use rinse_core::delivery::blocklist::{self, Of};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// Lists that can be kept.
const MOST: usize = 64;

/// A blocklist that is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = BlocklistAsked)]
pub struct List {
    pub id: i64,
    pub zone: String,
    pub of: Of,
}

/// How a list answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Answers {
    NotAsked,
    /// It has the entry that every list has, and not the one that none may have.
    AsAList,
    /// What it says is worth nothing.
    NotAsAList,
}

/// Something of ours on a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Listing {
    pub subject: String,
    pub listed_at: i64,
    /// None: it is listed still.
    pub off_at: Option<i64>,
    /// What the list said.
    pub answer: String,
}

/// A list with what of ours it had, the newest first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Blocklist {
    pub list: List,
    pub answers: Answers,
    pub asked_at: Option<i64>,
    pub listings: Vec<Listing>,
}

/// All of them, with what they had.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Blocklist>> {
    let mut listings =
        c.prepare_cached("SELECT subject, listed_at, off_at, answer FROM listing WHERE blocklist_id = ?1 ORDER BY off_at IS NOT NULL, listed_at DESC LIMIT 100")?;
    let mut s = c.prepare_cached("SELECT id, zone, of_what, state, asked_at FROM blocklist ORDER BY zone, of_what")?;
    let (mut out, mut rows) = (Vec::new(), s.query([])?);
    while let Some(r) = rows.next()? {
        let id: i64 = r.get(0)?;
        let of = if r.get::<_, i64>(2)? == 0 { Of::Addresses } else { Of::Domains };
        let answers = match r.get::<_, i64>(3)? {
            1 => Answers::AsAList,
            2 => Answers::NotAsAList,
            _ => Answers::NotAsked,
        };
        let found = listings
            .query_map([id], |r| Ok(Listing { subject: r.get(0)?, listed_at: r.get(1)?, off_at: r.get(2)?, answer: r.get(3)? }))?
            .collect::<rusqlite::Result<_>>()?;
        out.push(Blocklist { list: List { id, zone: r.get(1)?, of }, answers, asked_at: r.get(4)?, listings: found });
    }
    Ok(out)
}

/// A list that is asked from now on.
///
/// # Errors
/// When its name is none, or there are too many.
pub fn add(c: &Connection, zone: &str, of: Of, now: Instant, person: Option<i64>) -> Result<i64> {
    let zone = blocklist::zone(zone).map_err(StoreError::Refused)?;
    let n: i64 = c.prepare_cached("SELECT count(*) FROM blocklist")?.query_row([], |r| r.get(0))?;
    if n >= MOST as i64 {
        return Err(StoreError::Refused(format!("At most {MOST} lists can be asked.")));
    }
    let id: Option<i64> = c
        .prepare_cached("INSERT INTO blocklist (zone, of_what) VALUES (?1, ?2) ON CONFLICT DO NOTHING RETURNING id")?
        .query_row(params![zone, i64::from(of == Of::Domains)], |r| r.get(0))
        .optional()?;
    let id = id.ok_or_else(|| StoreError::Refused(format!("{zone} is asked already.")))?;
    settings::audit(c, now, person, "blocklist added", "delivery", id, &zone)?;
    Ok(id)
}

/// It isn't asked any more; what it had is forgotten.
///
/// # Errors
/// When there is no such list.
pub fn remove(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let zone: Option<String> =
        c.prepare_cached("DELETE FROM blocklist WHERE id = ?1 RETURNING zone")?.query_row([id], |r| r.get(0)).optional()?;
    settings::audit(c, now, person, "blocklist removed", "delivery", id, &zone.ok_or(StoreError::Missing("blocklist"))?)
}

/// What a list said: whether it is one, and for each subject that was asked about whether it is listed, with the answer; none: nobody said anything.
#[derive(Debug, Clone)]
pub struct Said {
    pub list: i64,
    pub works: Option<bool>,
    pub of: Vec<(String, Option<(bool, String)>)>,
}

/// Keeps what a list said. What can't be told changes nothing, and a list that isn't one has nobody.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, said: &Said, now: Instant) -> Result<()> {
    let Some(works) = said.works else { return Ok(()) };
    c.prepare_cached("UPDATE blocklist SET state = ?2, asked_at = ?3 WHERE id = ?1")?.execute(params![
        said.list,
        if works { 1 } else { 2 },
        now.millis()
    ])?;
    let ends = "UPDATE listing SET off_at = ?3 WHERE blocklist_id = ?1 AND subject = ?2 AND off_at IS NULL";
    for (subject, answer) in &said.of {
        match answer {
            Some((true, words)) if works => {
                c.prepare_cached(
                    "INSERT INTO listing (blocklist_id, subject, answer, listed_at) VALUES (?1, ?2, ?3, ?4)
                     ON CONFLICT (blocklist_id, subject) WHERE off_at IS NULL DO UPDATE SET answer = excluded.answer",
                )?
                .execute(params![said.list, subject, words, now.millis()])?;
            }
            Some((false, _)) if works => {
                c.prepare_cached(ends)?.execute(params![said.list, subject, now.millis()])?;
            }
            _ => {}
        }
    }
    Ok(())
}

/// What of ours is listed now, and where.
///
/// # Errors
/// When the database fails.
pub fn listed(c: &Connection) -> Result<Vec<(String, String, i64)>> {
    let mut s = c.prepare_cached(
        "SELECT l.subject, b.zone, l.listed_at FROM listing l JOIN blocklist b ON b.id = l.blocklist_id WHERE l.off_at IS NULL ORDER BY l.listed_at DESC LIMIT 100",
    )?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?)
}
