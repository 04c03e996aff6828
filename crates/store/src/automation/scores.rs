//! Scores that Rinse keeps: their entries with causes, and what they add up to. (Scores that come from
//! outside are fields, see [`crate::fields`].)

use crate::stored::ids_as;
use crate::{Result, StoreError, naming, settings, sweep};
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::score::Standing;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A score.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = OwnScore)]
pub struct Score {
    pub id: i64,
    pub name: String,
    /// In so many days half of it is left; without, it doesn't fade.
    pub half_life_days: Option<f64>,
    /// People with an entry.
    pub people: i64,
    /// The half-life was changed, and isn't everybody's yet.
    pub behind: bool,
}

/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Score>> {
    let mut s = c.prepare_cached(
        "SELECT id, name, half_life_days, (SELECT count(*) FROM score_now n WHERE n.score_id = score.id), followed_upto IS NOT NULL FROM score WHERE gone = 0 ORDER BY name",
    )?;
    Ok(s.query_map([], |r| Ok(Score { id: r.get(0)?, name: r.get(1)?, half_life_days: r.get(2)?, people: r.get(3)?, behind: r.get(4)? }))?
        .collect::<rusqlite::Result<_>>()?)
}

pub(crate) fn half_life(c: &Connection, score: i64) -> Result<Option<f64>> {
    c.prepare_cached("SELECT half_life_days FROM score WHERE id = ?1 AND gone = 0")?
        .query_row([score], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("score"))
}

/// Makes a score, or changes one. By a changed half-life everybody's value is worked out again from their entries, some at a time ([`some`]); until
/// it is theirs, the earlier one holds.
///
/// # Errors
/// A name that is missing or taken, a half-life outside 1 to 3,650 days.
pub fn save(c: &Connection, id: Option<i64>, name: &str, half_life_days: Option<f64>, now: Instant, person: Option<i64>) -> Result<i64> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::Refused("A score needs a name of at most 80 characters.".into()));
    }
    if half_life_days.is_some_and(|d| !(1.0..=3_650.0).contains(&d)) {
        return Err(StoreError::Refused("A half-life is between 1 and 3,650 days, or leave it open.".into()));
    }
    naming::taken(c, "score", name, id)?;
    let saved = match id {
        Some(id) => {
            if half_life(c, id)? != half_life_days {
                c.execute("UPDATE score SET half_life_days = ?2, followed_upto = 0 WHERE id = ?1", params![id, half_life_days])?;
            }
            c.execute("UPDATE score SET name = ?2 WHERE id = ?1", params![id, name])?;
            id
        }
        None => c.query_row(
            "INSERT INTO score (name, half_life_days, made_at) VALUES (?1, ?2, ?3) RETURNING id",
            params![name, half_life_days, now.millis()],
            |r| r.get(0),
        )?,
    };
    let fades = half_life_days.map_or_else(|| "doesn’t fade".into(), |d| format!("half-life {d} days"));
    settings::audit(
        c,
        now,
        person,
        if id.is_none() { "score made" } else { "score changed" },
        "score",
        saved,
        &format!("{name}, {fades}"),
    )?;
    Ok(saved)
}

/// Deletes a score with its entries; who calls has seen that nothing uses it.
pub(crate) fn delete(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    half_life(c, id)?;
    let name: String = c.query_row("SELECT name FROM score WHERE id = ?1", [id], |r| r.get(0))?;
    sweep::delete(c, &sweep::SCORE, id)?;
    settings::audit(c, now, person, "score deleted", "score", id, &name)
}

/// Where an entry comes from.
#[derive(Debug, Clone, Default)]
pub struct From<'a> {
    pub reaction: Option<i64>,
    pub cause: Option<i64>,
    pub why: &'a str,
    pub person: Option<i64>,
}

/// Adds points to a person's score.
///
/// # Errors
/// When there is no such score.
pub fn add(c: &Connection, score: i64, contact: ContactId, at: Instant, points: f64, from: &From<'_>) -> Result<()> {
    let half = half_life(c, score)?;
    c.prepare_cached(
        "INSERT INTO score_entry (score_id, contact_id, at, points, reaction_id, cause, why, person_id) VALUES (?1,?2,?3,?4,?5,?6,?7,?8)",
    )?
    .execute(params![score, contact.0, at.millis(), points, from.reaction, from.cause, from.why, from.person])?;
    let stands = c
        .prepare_cached("SELECT value, as_of, half_life_days IS ?3 FROM score_now WHERE score_id = ?1 AND contact_id = ?2")?
        .query_row(params![score, contact.0, half], |r| {
            Ok((Standing { value: r.get(0)?, as_of: Instant::of(r.get(1)?) }, r.get::<_, bool>(2)?))
        })
        .optional()?;
    let mut standing = match stands {
        Some((standing, true)) => standing,
        Some(_) => return again(c, score, contact),
        None => Standing { value: 0.0, as_of: at },
    };
    standing.add(points, at, half);
    put(c, score, contact, standing, half)
}

fn put(c: &Connection, score: i64, contact: ContactId, s: Standing, half: Option<f64>) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO score_now VALUES (?1,?2,?3,?4,?5)
         ON CONFLICT DO UPDATE SET value = excluded.value, as_of = excluded.as_of, half_life_days = excluded.half_life_days",
    )?
    .execute(params![score, contact.0, s.value, s.as_of.millis(), half])?;
    Ok(())
}

/// Works some people's values out by the half-life that holds now, where theirs is an earlier one; true when somebody is left.
///
/// # Errors
/// When the database fails.
pub fn some(c: &Connection, most: usize) -> Result<bool> {
    let due = c
        .prepare_cached("SELECT id, followed_upto FROM score WHERE followed_upto IS NOT NULL AND gone = 0 LIMIT 1")?
        .query_row([], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?)))
        .optional()?;
    let Some((score, after)) = due else { return Ok(false) };
    let people: Vec<ContactId> = ids_as(
        c,
        "SELECT contact_id FROM score_now WHERE score_id = ?1 AND contact_id > ?2 ORDER BY contact_id LIMIT ?3",
        params![score, after, i64::try_from(most).unwrap_or(i64::MAX)],
        ContactId,
    )?;
    people.iter().try_for_each(|k| again(c, score, *k))?;
    c.prepare_cached("UPDATE score SET followed_upto = ?2 WHERE id = ?1")?.execute(params![score, people.last().map(|last| last.0)])?;
    Ok(true)
}

/// Works a person's score out from its entries.
fn again(c: &Connection, score: i64, contact: ContactId) -> Result<()> {
    let half = half_life(c, score)?;
    let mut s = c.prepare_cached("SELECT points, at FROM score_entry WHERE contact_id = ?1 AND score_id = ?2 ORDER BY at")?;
    let mut rows = s.query([contact.0, score])?;
    let mut standing: Option<Standing> = None;
    while let Some(r) = rows.next()? {
        let at = Instant::of(r.get(1)?);
        standing.get_or_insert(Standing { value: 0.0, as_of: at }).add(r.get(0)?, at, half);
    }
    match standing {
        Some(s) => put(c, score, contact, s, half),
        None => {
            c.prepare_cached("DELETE FROM score_now WHERE score_id = ?1 AND contact_id = ?2")?.execute([score, contact.0])?;
            Ok(())
        }
    }
}

/// Moves entries from one person to another, when two are merged or parted: all of `from`'s, or these.
pub(crate) fn hand_on(c: &Connection, from: ContactId, into: ContactId, entries: Option<&[i64]>) -> Result<Vec<i64>> {
    let list = "SELECT id, score_id FROM score_entry WHERE contact_id = ?1";
    let there: Vec<(i64, i64)> =
        c.prepare_cached(list)?.query_map([from.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let moved: Vec<(i64, i64)> = there.into_iter().filter(|(id, _)| entries.is_none_or(|e| e.contains(id))).collect();
    for (id, _) in &moved {
        c.prepare_cached("UPDATE score_entry SET contact_id = ?2 WHERE id = ?1")?.execute([*id, into.0])?;
    }
    let mut scores: Vec<i64> = moved.iter().map(|m| m.1).collect();
    scores.sort_unstable();
    scores.dedup();
    for score in scores {
        again(c, score, from)?;
        again(c, score, into)?;
    }
    Ok(moved.into_iter().map(|m| m.0).collect())
}

/// A person's standing in every score they have an entry of.
///
/// # Errors
/// When the database fails.
pub fn standings(c: &Connection, contact: ContactId) -> Result<Vec<(i64, (Standing, Option<f64>))>> {
    let mut s = c.prepare_cached("SELECT n.score_id, n.value, n.as_of, n.half_life_days FROM score_now n JOIN score s ON s.id = n.score_id WHERE n.contact_id = ?1 AND s.gone = 0")?;
    Ok(s.query_map([contact.0], |r| Ok((r.get(0)?, (Standing { value: r.get(1)?, as_of: Instant::of(r.get(2)?) }, r.get(3)?))))?
        .collect::<rusqlite::Result<_>>()?)
}

/// A person's score with its newest entries.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Scored {
    pub id: i64,
    pub name: String,
    pub now: f64,
    pub half_life_days: Option<f64>,
    pub entries: Vec<Entry>,
}

#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = ScoreEntry)]
pub struct Entry {
    pub at: i64,
    pub points: f64,
    pub why: String,
}

/// A person's scores, each with its newest 50 entries.
///
/// # Errors
/// When the database fails.
pub fn of_contact(c: &Connection, contact: ContactId, now: Instant) -> Result<Vec<Scored>> {
    let names: std::collections::HashMap<i64, String> = all(c)?.into_iter().map(|s| (s.id, s.name)).collect();
    let mut list = c.prepare_cached(
        "SELECT at, points, why FROM score_entry WHERE contact_id = ?1 AND score_id = ?2 ORDER BY at DESC, id DESC LIMIT 50",
    )?;
    standings(c, contact)?
        .into_iter()
        .map(|(id, (standing, half_life_days))| {
            let entries = list
                .query_map([contact.0, id], |r| Ok(Entry { at: r.get(0)?, points: r.get(1)?, why: r.get(2)? }))?
                .collect::<rusqlite::Result<_>>()?;
            Ok(Scored {
                id,
                name: names.get(&id).cloned().unwrap_or_default(),
                now: standing.at(now, half_life_days),
                half_life_days,
                entries,
            })
        })
        .collect()
}

/// The people with the highest score.
///
/// # Errors
/// When there is no such score.
pub fn leaders(c: &Connection, score: i64, now: Instant) -> Result<Vec<(i64, String, f64)>> {
    half_life(c, score)?;
    let mut s = c.prepare_cached(
        "SELECT k.id, k.address, score_at(n.value, n.as_of, n.half_life_days, ?2) AS v FROM score_now n JOIN contact k ON k.id = n.contact_id WHERE n.score_id = ?1 AND k.gone IS NULL ORDER BY v DESC, k.id LIMIT 50",
    )?;
    Ok(s.query_map([score, now.millis()], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?)
}
