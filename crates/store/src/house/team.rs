//! The people of the team: recorded with every change, mailed the letters of saved views.

use crate::{Result, StoreError, settings};
use rinse_core::Instant;
use rinse_core::address::Address;
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Somebody who works with Rinse.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Person {
    pub id: i64,
    pub name: String,
    pub role: String,
    /// Where letters of saved views go.
    pub address: Option<String>,
}

/// What is said of somebody.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct NewPerson {
    pub name: String,
    /// `analyst`, `marketer` or `approver`.
    pub role: String,
    pub address: Option<String>,
}

const ROLES: [&str; 3] = ["analyst", "marketer", "approver"];
const LONGEST_NAME: usize = 80;

/// # Errors
/// When the database fails.
pub fn people(c: &Connection) -> Result<Vec<Person>> {
    let mut s = c.prepare_cached("SELECT id, name, role, address FROM person ORDER BY id")?;
    let person = |r: &rusqlite::Row<'_>| Ok(Person { id: r.get(0)?, name: r.get(1)?, role: r.get(2)?, address: r.get(3)? });
    Ok(s.query_map([], person)?.collect::<rusqlite::Result<_>>()?)
}

/// Is there somebody of the team with this number?
///
/// # Errors
/// When the database fails.
pub fn is_person(c: &Connection, id: i64) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM person WHERE id = ?1")?.exists([id])?)
}

/// May this person let through what a rule stops?
pub(crate) fn is_approver(c: &Connection, person: Option<i64>) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM person WHERE id = ?1 AND role = 'approver'")?.exists([person])?)
}

/// Adds somebody, or says something else of them.
///
/// # Errors
/// Without a name of their own, with an address that is none, when the last approver would be gone, or there is no such person.
pub fn save(c: &Connection, id: Option<i64>, p: &NewPerson, now: Instant, person: Option<i64>) -> Result<i64> {
    let refused = |words: &str| Err(StoreError::Refused(words.into()));
    let name = p.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
        return refused("Give them a name of 1 to 80 letters.");
    }
    if !ROLES.contains(&p.role.as_str()) {
        return refused("A role is analyst, marketer or approver.");
    }
    let address = p.address.as_deref().map(str::trim).filter(|a| !a.is_empty());
    let address = address.map(|a| Address::parse(a).map_err(|e| StoreError::Refused(format!("{a:?} is no address: {e}.")))).transpose()?;
    if c.prepare_cached("SELECT 1 FROM person WHERE name = ?1 AND id IS NOT ?2")?.exists(params![name, id])? {
        return refused("Somebody else has this name: changes are recorded with names, so each is there once.");
    }
    let address = address.map(|a| a.normal);
    let id = match id {
        None => {
            c.query_row("INSERT INTO person (name, role, address) VALUES (?1, ?2, ?3) RETURNING id", params![name, p.role, address], |r| {
                r.get(0)
            })?
        }
        Some(id) => {
            if c.execute("UPDATE person SET name = ?2, role = ?3, address = ?4 WHERE id = ?1", params![id, name, p.role, address])? == 0 {
                return Err(StoreError::Missing("person of the team"));
            }
            id
        }
    };
    if !c.prepare_cached("SELECT 1 FROM person WHERE role = 'approver'")?.exists([])? {
        return refused("They are the last approver: without one nobody can let an exception through. Make somebody else one first.");
    }
    settings::audit(c, now, person, "person of the team saved", "person", id, &format!("{name}, {}", p.role))?;
    Ok(id)
}
