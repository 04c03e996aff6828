//! The rules in their versions: the newest is in force, and every decision names the one it was made
//! under. A version is never changed; going back on a change saves the older rules again.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::clearance::RuleSet;
use rinse_core::id::LetterheadId;
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use utoipa::ToSchema;

/// One version of the rules.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct RulesVersion {
    pub id: i64,
    pub at: i64,
    pub person: Option<String>,
    pub rules: RuleSet,
    /// Why it was made.
    pub note: String,
}

const COLUMNS: &str = "SELECT r.id, r.at, p.name, r.rules, r.note FROM rules_version r LEFT JOIN person p ON p.id = r.person_id";

fn version(r: &Row<'_>) -> rusqlite::Result<(i64, i64, Option<String>, String, String)> {
    Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?))
}

fn read((id, at, person, rules, note): (i64, i64, Option<String>, String, String)) -> Result<RulesVersion> {
    Ok(RulesVersion { id, at, person, rules: serde_json::from_str(&rules)?, note })
}

/// The rules in force.
///
/// # Errors
/// When the database fails.
pub fn current(c: &Connection) -> Result<RulesVersion> {
    read(c.prepare_cached(&format!("{COLUMNS} ORDER BY r.id DESC LIMIT 1"))?.query_row([], version)?)
}

/// The rules that were in force at an instant.
///
/// # Errors
/// When the database fails.
pub fn at(c: &Connection, at: Instant) -> Result<RulesVersion> {
    let then = c
        .prepare_cached(&format!("{COLUMNS} WHERE r.at <= ?1 ORDER BY r.id DESC LIMIT 1"))?
        .query_row([at.millis()], version)
        .optional()?;
    then.map_or_else(|| one(c, 1), read)
}

/// # Errors
/// When there is no such version.
pub fn one(c: &Connection, id: i64) -> Result<RulesVersion> {
    read(
        c.prepare_cached(&format!("{COLUMNS} WHERE r.id = ?1"))?
            .query_row([id], version)
            .optional()?
            .ok_or(StoreError::Missing("version of the rules"))?,
    )
}

/// All versions, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<RulesVersion>> {
    let mut s = c.prepare_cached(&format!("{COLUMNS} ORDER BY r.id DESC LIMIT 200"))?;
    let rows: Vec<_> = s.query_map([], version)?.collect::<rusqlite::Result<_>>()?;
    rows.into_iter().map(read).collect()
}

/// Saves the next version, and says so in the audit trail. Anybody who is held is asked again under it.
///
/// # Errors
/// Rules that can't hold, or name a letterhead or topic that isn't there.
pub fn save(c: &Connection, now: Instant, person: Option<i64>, rules: &RuleSet, note: &str) -> Result<i64> {
    rules.check().map_err(|e| StoreError::Refused(e.to_string()))?;
    for cap in &rules.caps {
        use rinse_core::caps::Scope;
        match cap.scope {
            Scope::Topic { id } if !c.prepare_cached("SELECT 1 FROM topic WHERE id = ?1")?.exists([id])? => {
                return Err(StoreError::Missing("topic"));
            }
            Scope::Letterhead { id } => {
                crate::letterheads::one(c, LetterheadId(id))?;
            }
            _ => {}
        }
    }
    for h in &rules.hours {
        crate::letterheads::one(c, h.letterhead)?;
    }
    let id = c.query_row(
        "INSERT INTO rules_version (at, person_id, rules, note) VALUES (?1,?2,?3,?4) RETURNING id",
        params![now.millis(), person, serde_json::to_string(rules)?, note],
        |r| r.get(0),
    )?;
    crate::held::clear_anew(c, None, now)?;
    crate::settings::audit(c, now, person, "rules changed", "rules", id, note)?;
    Ok(id)
}
