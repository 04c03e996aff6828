//! On which days a cleaning run is proposed by itself.

use crate::{Result, settings};
use rinse_core::Instant;
use rinse_core::upkeep::run::Every;
use rusqlite::Connection;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Kept {
    every: Option<Every>,
    /// The day on which one was proposed last, or since when the schedule holds; in days since 1970-01-01.
    last: i64,
}

const KEY: &str = "cleaning_schedule";

fn kept(c: &Connection) -> Result<Kept> {
    Ok(settings::get(c, KEY)?.map(|text| serde_json::from_str(&text)).transpose()?.unwrap_or_default())
}

/// The schedule; none: runs are proposed by hand only.
///
/// # Errors
/// When the database fails.
pub fn every(c: &Connection) -> Result<Option<Every>> {
    Ok(kept(c)?.every)
}

/// Sets it, from today on.
///
/// # Errors
/// When the database fails.
pub fn set(c: &Connection, every: Option<Every>, now: Instant, person: Option<i64>) -> Result<()> {
    let last = now.millis().div_euclid(rinse_core::DAY);
    settings::set(c, KEY, &serde_json::to_string(&Kept { every, last })?)?;
    settings::audit(c, now, person, "schedule of cleaning runs set", "upkeep", 0, &every.map_or_else(|| "never".to_owned(), Every::words))
}

/// Is a run to be proposed today?
///
/// # Errors
/// When the database fails.
pub fn is_due(c: &Connection, today: i64) -> Result<bool> {
    let k = kept(c)?;
    Ok(k.every.is_some_and(|every| every.falls_between(k.last, today)))
}

/// One was proposed.
///
/// # Errors
/// When the database fails.
pub fn proposed(c: &Connection, today: i64) -> Result<()> {
    settings::set(c, KEY, &serde_json::to_string(&Kept { last: today, ..kept(c)? })?)
}
