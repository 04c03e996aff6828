//! What DNS says of us: our addresses, and the records of each sender.

use crate::{Result, StoreError, settings};
use rinse_core::Instant;
use rinse_core::delivery::authentication::{Line, State};
use rinse_core::id::LetterheadId;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::net::IpAddr;
use utoipa::ToSchema;

const OWN: &str = "own addresses";
/// Addresses that can be kept.
const MOST: usize = 64;

/// The addresses that mail goes out from, as somebody entered them.
///
/// # Errors
/// When the database fails, or they can't be read.
pub fn own_addresses(c: &Connection) -> Result<Vec<IpAddr>> {
    settings::get(c, OWN)?.map_or_else(|| Ok(Vec::new()), |text| Ok(crate::stored::document(&text, "own addresses", 0)?))
}

/// # Errors
/// When one is no address, or there are too many.
pub fn set_own_addresses(c: &Connection, addresses: &[String], now: Instant, person: Option<i64>) -> Result<()> {
    let mut all: Vec<IpAddr> = Vec::new();
    for text in addresses.iter().map(|a| a.trim()).filter(|a| !a.is_empty()) {
        let ip = text.parse().map_err(|_| StoreError::Refused(format!("“{text}” is no IP address.")))?;
        if !all.contains(&ip) {
            all.push(ip);
        }
    }
    if all.len() > MOST {
        return Err(StoreError::Refused(format!("At most {MOST} addresses can be looked at.")));
    }
    settings::set(c, OWN, &serde_json::to_string(&all)?)?;
    settings::audit(
        c,
        now,
        person,
        "own addresses changed",
        "delivery",
        0,
        &all.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "),
    )
}

/// What was found of a sender.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = SenderLooked)]
pub struct Sender {
    pub letterhead_id: LetterheadId,
    pub name: String,
    pub from_address: String,
    /// None: DNS wasn't looked at yet.
    pub looked_at: Option<i64>,
    pub lines: Vec<Line>,
}

/// What DNS said, as it is kept; nothing where it wasn't looked at.
fn lines_of(kept: Option<String>) -> Result<Vec<Line>> {
    kept.map_or_else(|| Ok(Vec::new()), |l| Ok(crate::stored::document(&l, "what DNS said", 0)?))
}

/// All senders, with what was found last.
///
/// # Errors
/// When the database fails.
pub fn senders(c: &Connection) -> Result<Vec<Sender>> {
    let mut s = c.prepare_cached(
        "SELECT l.id, l.name, l.from_address, a.looked_at, a.lines FROM letterhead l LEFT JOIN authentication a ON a.letterhead_id = l.id ORDER BY l.id",
    )?;
    let mut out = Vec::new();
    let mut rows = s.query([])?;
    while let Some(r) = rows.next()? {
        out.push(Sender {
            letterhead_id: LetterheadId(r.get(0)?),
            name: r.get(1)?,
            from_address: r.get(2)?,
            looked_at: r.get(3)?,
            lines: lines_of(r.get(4)?)?,
        });
    }
    Ok(out)
}

/// What is wrong with a sender, as far as it was looked at.
///
/// # Errors
/// When the database fails.
pub fn wrong_with(c: &Connection, letterhead: LetterheadId) -> Result<Vec<Line>> {
    let lines: Option<String> = c
        .prepare_cached("SELECT lines FROM authentication WHERE letterhead_id = ?1")?
        .query_row([letterhead.0], |r| r.get(0))
        .optional()?;
    Ok(lines_of(lines)?.into_iter().filter(|l| l.state == State::Wrong).collect())
}

/// Keeps what was found.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, letterhead: LetterheadId, lines: &[Line], now: Instant) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO authentication VALUES (?1, ?2, ?3)")?.execute(params![
        letterhead.0,
        now.millis(),
        serde_json::to_string(lines)?
    ])?;
    Ok(())
}
