//! Labels put on mailings, series and hour trials; what becomes of the label itself is with [`crate::tags`].

use crate::tags::{self, Kind, On};
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::id::{HourTrialId, MailingId, SeriesId};
use rusqlite::Connection;
use serde::Serialize;
use utoipa::ToSchema;

/// Something with its labels.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Labelled {
    pub id: i64,
    pub labels: Vec<String>,
}

/// Whatever of a kind has labels.
///
/// # Errors
/// When the database fails.
pub fn labelled(c: &Connection, on: On) -> Result<Vec<Labelled>> {
    let (table, column) = on.table();
    let mut s = c.prepare_cached(&format!("SELECT x.{column}, l.name FROM {table} x JOIN label l ON l.id = x.label_id ORDER BY 1, 2"))?;
    let mut out: Vec<Labelled> = Vec::new();
    let mut rows = s.query([])?;
    while let Some(r) = rows.next()? {
        let (id, name) = (r.get(0)?, r.get(1)?);
        match out.last_mut().filter(|l| l.id == id) {
            Some(l) => l.labels.push(name),
            None => out.push(Labelled { id, labels: vec![name] }),
        }
    }
    Ok(out)
}

/// Replaces the labels of something; new ones are made.
///
/// # Errors
/// When there is no such thing, or a name can't be one.
pub fn label(c: &Connection, on: On, id: i64, names: &[String], now: Instant) -> Result<()> {
    match on {
        On::Mailing => drop(crate::mailings::one(c, MailingId(id))?),
        On::Series => drop(crate::series::one(c, SeriesId(id))?),
        On::HourTrial => drop(crate::hour_trials::one(c, HourTrialId(id))?),
    }
    if names.len() > 20 {
        return Err(StoreError::Refused("There is room for 20 labels.".into()));
    }
    let (table, column) = on.table();
    c.execute(&format!("DELETE FROM {table} WHERE {column} = ?1"), [id])?;
    for name in names {
        let label = tags::named(c, Kind::Label, name, now)?;
        c.execute(&format!("INSERT INTO {table} (label_id, {column}) VALUES (?1, ?2) ON CONFLICT DO NOTHING"), [label, id])?;
    }
    Ok(())
}
