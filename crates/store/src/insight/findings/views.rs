//! Views of findings that somebody saved: a name for what stands in the page's address.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A saved view.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = SavedView)]
pub struct View {
    pub id: i64,
    pub name: String,
    /// The page and what is asked of it, as in `/findings?by=weekday&days=90`.
    pub path: String,
    pub made_at: i64,
    pub person: Option<String>,
}

impl View {
    /// Has its page a table that can be put on paper?
    #[must_use]
    pub fn fits_paper(&self) -> bool {
        let page = self.path.split('?').next().unwrap_or_default();
        [
            "/findings",
            "/findings/revenue",
            "/findings/links",
            "/findings/cohorts",
            "/findings/reactions",
            "/findings/compare",
            "/findings/answers",
        ]
        .contains(&page)
    }
}

/// A name and an address of a page of findings can't be longer.
const LONGEST_NAME: usize = 80;
const LONGEST_PATH: usize = 1_000;

/// All of them, by name.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<View>> {
    let mut s = c.prepare_cached(
        "SELECT v.id, v.name, v.path, v.made_at, p.name FROM saved_view v LEFT JOIN person p ON p.id = v.person_id ORDER BY v.name COLLATE NOCASE",
    )?;
    let rows = s.query_map([], |r| Ok(View { id: r.get(0)?, name: r.get(1)?, path: r.get(2)?, made_at: r.get(3)?, person: r.get(4)? }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Saves a view; one of the same name is looked at otherwise from now on.
///
/// # Errors
/// Without a name, or for an address that isn't one of findings.
pub fn save(c: &Connection, name: &str, path: &str, now: Instant, person: Option<i64>) -> Result<i64> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Err(StoreError::Refused(format!("Give the view a name of 1 to {LONGEST_NAME} letters.")));
    }
    let of_findings = path == "/findings" || path.starts_with("/findings?") || path.starts_with("/findings/");
    if !of_findings || path.len() > LONGEST_PATH || path.chars().any(|c| c.is_control() || c.is_whitespace()) {
        return Err(StoreError::Refused("A saved view is an address of the pages of findings.".into()));
    }
    let id = c.query_row(
        "INSERT INTO saved_view (name, path, made_at, person_id) VALUES (?1, ?2, ?3, ?4)
         ON CONFLICT (name) DO UPDATE SET path = excluded.path, made_at = excluded.made_at, person_id = excluded.person_id RETURNING id",
        params![name, path, now.millis(), person],
        |r| r.get(0),
    )?;
    crate::settings::audit(c, now, person, "view saved", "view", id, name)?;
    Ok(id)
}

/// Forgets one.
///
/// # Errors
/// There is none such.
pub fn delete(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    c.execute("DELETE FROM view_letter WHERE view_id = ?1", [id])?;
    if c.execute("DELETE FROM saved_view WHERE id = ?1", [id])? == 0 {
        return Err(StoreError::Missing("saved view"));
    }
    crate::settings::audit(c, now, person, "view deleted", "view", id, "")
}
