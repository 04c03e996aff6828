//! What something may be called.

use crate::{Result, StoreError};
use rusqlite::{Connection, params};

/// A name that something can have, without the spaces around it.
pub(crate) fn good(name: &str) -> Result<&str> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::Refused("Give it a name of at most 80 characters.".into()));
    }
    Ok(name)
}

/// Refuses a name that something else of the same kind has.
pub(crate) fn taken(c: &Connection, table: &'static str, name: &str, but: Option<i64>) -> Result<()> {
    let sql = format!("SELECT 1 FROM {table} WHERE name = ?1 COLLATE NOCASE AND id <> ?2");
    if c.prepare_cached(&sql)?.exists(params![name, but.unwrap_or(0)])? {
        return Err(StoreError::Refused(format!("There is a {table} called “{name}” already. Choose another name.")));
    }
    Ok(())
}
