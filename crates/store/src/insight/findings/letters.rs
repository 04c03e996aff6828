//! Saved views that are mailed to people of the team each week: service messages of our own, outside all figures.

use super::views;
use crate::{Result, StoreError, letterheads, settings};
use rinse_core::Instant;
use rinse_core::id::LetterheadId;
use rinse_core::schedule::next_weekly;
use rinse_core::zone::{TimeZone, named};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// When and to whom a saved view is mailed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = ViewLetters)]
pub struct Letters {
    /// People of the team, by their numbers; nobody: it isn't mailed.
    pub people: Vec<i64>,
    /// Under which it goes, and by whose clock.
    pub letterhead_id: LetterheadId,
    /// Monday is 0.
    #[schema(minimum = 0, maximum = 6)]
    pub weekday: u8,
    /// Of the day.
    #[schema(minimum = 0, maximum = 1439)]
    pub minute: u16,
    #[serde(default)]
    pub next_at: Option<i64>,
    /// What the hosts said to the last ones, person by person.
    #[serde(default)]
    pub last: Vec<Last>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = LastLetter)]
pub struct Last {
    pub name: String,
    pub at: i64,
    /// Empty: none yet.
    pub reply: String,
}

fn clock(c: &Connection, letterhead: LetterheadId) -> Result<TimeZone> {
    Ok(named(&letterheads::one(c, letterhead)?.zone).unwrap_or(TimeZone::UTC))
}

/// How a view is mailed; none: it isn't.
///
/// # Errors
/// When the database fails.
pub fn of(c: &Connection, view: i64) -> Result<Option<Letters>> {
    let mut s = c.prepare_cached(
        "SELECT l.person_id, l.letterhead_id, l.weekday, l.minute, l.next_at, p.name, t.at, t.reply FROM view_letter l JOIN person p ON p.id = l.person_id
         LEFT JOIN test_send t ON t.id = l.test_id WHERE l.view_id = ?1 ORDER BY l.person_id",
    )?;
    let mut rows = s.query([view])?;
    let mut out: Option<Letters> = None;
    while let Some(r) = rows.next()? {
        let letters = match &mut out {
            Some(l) => l,
            None => out.insert(Letters {
                people: Vec::new(),
                letterhead_id: LetterheadId(r.get(1)?),
                weekday: r.get(2)?,
                minute: r.get(3)?,
                next_at: r.get(4)?,
                last: Vec::new(),
            }),
        };
        letters.people.push(r.get(0)?);
        if let Some(at) = r.get(6)? {
            letters.last.push(Last { name: r.get(5)?, at, reply: r.get(7)? });
        }
    }
    Ok(out)
}

/// Has a view mailed as said from now on, or, to nobody, no longer.
///
/// # Errors
/// There is no such view, it has no place on paper, somebody has no address, or the time is none.
pub fn set(c: &Connection, view: i64, l: &Letters, now: Instant, person: Option<i64>) -> Result<()> {
    let found = views::all(c)?.into_iter().find(|v| v.id == view).ok_or(StoreError::Missing("saved view"))?;
    if !found.fits_paper() {
        return Err(StoreError::Refused("This view is drawn only: it has no table that could be put on paper and mailed.".into()));
    }
    if l.weekday > 6 || l.minute > 1_439 {
        return Err(StoreError::Refused("Choose a weekday and a time of the day.".into()));
    }
    c.execute("DELETE FROM view_letter WHERE view_id = ?1", [view])?;
    if !l.people.is_empty() {
        let next = next_weekly(l.weekday, l.minute, &clock(c, l.letterhead_id)?, now);
        for p in &l.people {
            let address: Option<Option<String>> =
                c.prepare_cached("SELECT address FROM person WHERE id = ?1")?.query_row([p], |r| r.get(0)).optional()?;
            if address.flatten().is_none() {
                return Err(StoreError::Refused("Somebody of these has no address: give them one in Setup, under People.".into()));
            }
            c.execute(
                "INSERT OR IGNORE INTO view_letter (view_id, person_id, letterhead_id, weekday, minute, next_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![view, p, l.letterhead_id.0, l.weekday, l.minute, next.millis()],
            )?;
        }
    }
    settings::audit(c, now, person, "letters of a view set", "view", view, &format!("to {} of the team", l.people.len()))
}

/// A letter that goes now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Due {
    pub view: String,
    pub path: String,
    pub letterhead: LetterheadId,
    pub address: String,
    /// Its record; the host's answer belongs there.
    pub test: i64,
}

/// Takes the letters that are due: each is on record and its next turn fixed before it is handed over, so that none goes twice.
///
/// # Errors
/// When the database fails.
pub fn claim(c: &Connection, now: Instant) -> Result<Vec<Due>> {
    let mut s = c.prepare_cached(
        "SELECT l.id, v.name, v.path, l.letterhead_id, p.address, l.weekday, l.minute FROM view_letter l JOIN saved_view v ON v.id = l.view_id
         JOIN person p ON p.id = l.person_id WHERE l.next_at <= ?1 ORDER BY l.id",
    )?;
    type Found = (i64, String, String, i64, Option<String>, u8, u16);
    let due: Vec<Found> = s
        .query_map([now.millis()], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?)))?
        .collect::<rusqlite::Result<_>>()?;
    let mut out = Vec::new();
    for (id, view, path, letterhead, address, weekday, minute) in due {
        let next = next_weekly(weekday, minute, &clock(c, LetterheadId(letterhead))?, now);
        // Somebody whose address was taken away gets nothing until they have one.
        let test = address.as_ref().map(|a| settings::test_send(c, None, a, now, None)).transpose()?;
        c.prepare_cached("UPDATE view_letter SET next_at = ?2, test_id = coalesce(?3, test_id) WHERE id = ?1")?.execute(params![
            id,
            next.millis(),
            test
        ])?;
        out.extend(address.zip(test).map(|(address, test)| Due { view, path, letterhead: LetterheadId(letterhead), address, test }));
    }
    Ok(out)
}

/// When the next one is due.
///
/// # Errors
/// When the database fails.
pub fn next_due(c: &Connection) -> Result<Option<Instant>> {
    Ok(c.prepare_cached("SELECT min(next_at) FROM view_letter")?.query_row([], |r| r.get::<_, Option<i64>>(0))?.map(Instant::of))
}
