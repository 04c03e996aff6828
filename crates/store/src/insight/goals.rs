//! Goals: what counts as a conversion.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::goal::Goal;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// A goal as it is kept.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = KeptGoal)]
pub struct Kept {
    pub id: i64,
    pub name: String,
    pub goal: Goal,
    /// The goal in words.
    pub words: String,
}

/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Kept>> {
    let mut s = c.prepare_cached("SELECT id, name, what FROM goal ORDER BY name")?;
    let rows = s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get::<_, String>(2)?)))?;
    rows.map(|row| {
        let (id, name, what) = row?;
        let goal: Goal = serde_json::from_str(&what)?;
        Ok(Kept { id, name, words: goal.words(), goal })
    })
    .collect()
}

/// All goals by their numbers, as conditions ask for them.
///
/// # Errors
/// When the database fails.
pub fn known(c: &Connection) -> Result<HashMap<i64, Goal>> {
    Ok(all(c)?.into_iter().map(|k| (k.id, k.goal)).collect())
}

/// Makes a goal, or changes one. What it counted changes with it.
///
/// # Errors
/// A name that is missing or taken; a goal that can't be meant.
pub fn save(c: &Connection, id: Option<i64>, name: &str, goal: &Goal, now: Instant, person: Option<i64>) -> Result<i64> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::Refused("A goal needs a name of at most 80 characters.".into()));
    }
    goal.check().map_err(StoreError::Refused)?;
    let other: Option<i64> = c.query_row("SELECT id FROM goal WHERE name = ?1", [name], |r| r.get(0)).optional()?;
    if other.is_some_and(|o| Some(o) != id) {
        return Err(StoreError::Refused(format!("There is a goal named {name} already: give another name.")));
    }
    let what = serde_json::to_string(goal)?;
    let saved = match id {
        Some(id) => {
            if c.execute("UPDATE goal SET name = ?2, what = ?3, currency = ?4 WHERE id = ?1", params![id, name, what, goal.currency])? == 0
            {
                return Err(StoreError::Missing("goal"));
            }
            id
        }
        None => c.query_row(
            "INSERT INTO goal (name, what, currency, made_at) VALUES (?1, ?2, ?3, ?4) RETURNING id",
            params![name, what, goal.currency, now.millis()],
            |r| r.get(0),
        )?,
    };
    crate::settings::audit(c, now, person, if id.is_none() { "goal made" } else { "goal changed" }, "goal", saved, &goal.words())?;
    Ok(saved)
}

/// Deletes a goal; who calls has seen that nothing uses it.
pub(crate) fn delete(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let name: Option<String> = c.query_row("DELETE FROM goal WHERE id = ?1 RETURNING name", [id], |r| r.get(0)).optional()?;
    let name = name.ok_or(StoreError::Missing("goal"))?;
    crate::settings::audit(c, now, person, "goal deleted", "goal", id, &name)
}
