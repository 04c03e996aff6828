//! Links: stored when a mailing is planned, under names that can be changed, and counted by the place they stand in.

use crate::{Result, StoreError};
use rinse_core::id::{MailingId, SendId};
use rinse_core::message::Link;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// Stores the links of a mailing when it is planned or sealed.
///
/// # Errors
/// When the database fails.
pub fn save_links(c: &Connection, id: MailingId, links: &[Link]) -> Result<()> {
    c.execute("DELETE FROM link WHERE mailing_id = ?1", [id.0])?;
    for (i, l) in links.iter().enumerate() {
        c.execute("INSERT INTO link VALUES (?1,?2,?3,?4)", params![id.0, i64::try_from(i).unwrap_or(0), l.url, l.name])?;
    }
    Ok(())
}

/// The links of a mailing, in their order.
///
/// # Errors
/// When the database fails.
pub fn links(c: &Connection, id: MailingId) -> Result<Vec<Link>> {
    let mut s = c.prepare_cached("SELECT url, name FROM link WHERE mailing_id = ?1 ORDER BY position")?;
    Ok(s.query_map([id.0], |r| Ok(Link { url: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?)
}

/// The address a link leads to.
///
/// # Errors
/// When the database fails.
pub fn link_url(c: &Connection, send: SendId, position: u32) -> Result<Option<String>> {
    Ok(c.prepare_cached("SELECT l.url FROM send s JOIN link l ON l.mailing_id = s.mailing_id WHERE s.id = ?1 AND l.position = ?2")?
        .query_row(params![send.0, position], |r| r.get(0))
        .optional()?)
}

/// A link with what people and machines did to it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Counted {
    pub position: i64,
    pub name: String,
    pub url: String,
    /// People who followed it themselves.
    pub people: i64,
    /// Clicks of theirs.
    pub clicks: i64,
    /// People whose message a machine followed it in, and not they.
    pub machine: i64,
    /// Machine clicks.
    pub machine_clicks: i64,
}

/// The links of a mailing with their counts; of one arm when it is given.
///
/// # Errors
/// When the database fails.
pub fn counted(c: &Connection, id: MailingId, arm: Option<i64>) -> Result<Vec<Counted>> {
    let mut s = c.prepare_cached(
        "SELECT l.position, l.name, l.url, count(DISTINCT iif(r.machine = 0, r.send_id, NULL)), count(iif(r.machine = 0, 1, NULL)),
            count(DISTINCT r.send_id) - count(DISTINCT iif(r.machine = 0, r.send_id, NULL)), count(iif(r.machine <> 0, 1, NULL))
         FROM link l LEFT JOIN (SELECT r.link, r.machine, r.send_id FROM send s JOIN response r ON r.send_id = s.id AND r.kind = 2
            WHERE s.mailing_id = ?1 AND s.any_click_at IS NOT NULL AND (?2 IS NULL OR s.arm = ?2)) r ON r.link = l.position
         WHERE l.mailing_id = ?1 GROUP BY l.position ORDER BY l.position",
    )?;
    Ok(s.query_map(params![id.0, arm], |r| {
        Ok(Counted {
            position: r.get(0)?,
            name: r.get(1)?,
            url: r.get(2)?,
            people: r.get(3)?,
            clicks: r.get(4)?,
            machine: r.get(5)?,
            machine_clicks: r.get(6)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Gives a link another name to be counted under.
///
/// # Errors
/// When there is no such link, or no name.
pub fn rename(c: &Connection, id: MailingId, position: i64, name: &str) -> Result<()> {
    let name = name.split_whitespace().collect::<Vec<_>>().join(" ");
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::Refused("A link's name has 1 to 80 characters.".into()));
    }
    let n =
        c.prepare_cached("UPDATE link SET name = ?3 WHERE mailing_id = ?1 AND position = ?2")?.execute(params![id.0, position, name])?;
    if n == 0 { Err(StoreError::Missing("link")) } else { Ok(()) }
}
