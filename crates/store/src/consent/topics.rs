//! Topics: what a mailing is about, which people can leave one by one.

use crate::Result;
use crate::settings::{Named, Tied};
use rinse_core::id::{ContactId, SendId};
use rusqlite::{Connection, OptionalExtension};

/// All topics, with how many people left each.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Named>> {
    let mut s =
        c.prepare_cached("SELECT id, name, (SELECT count(*) FROM topic_left t WHERE t.topic_id = topic.id) FROM topic ORDER BY id")?;
    Ok(s.query_map([], |r| Ok(Named { id: r.get(0)?, name: r.get(1)?, people: r.get(2)? }))?.collect::<rusqlite::Result<_>>()?)
}

/// All topics, without counting who left them.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection) -> Result<Vec<Tied>> {
    let mut s = c.prepare_cached("SELECT id, name FROM topic ORDER BY id")?;
    Ok(s.query_map([], |r| Ok(Tied { id: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?)
}

/// The topic with this name; it is made where there is none.
///
/// # Errors
/// When the database fails.
pub fn named(c: &Connection, name: &str) -> Result<i64> {
    if c.execute("INSERT INTO topic (name) VALUES (?1) ON CONFLICT DO NOTHING", [name])? > 0 {
        crate::departed::named(c, name)?;
    }
    Ok(c.query_row("SELECT id FROM topic WHERE name = ?1", [name], |r| r.get(0))?)
}

/// The topic of a message's mailing, when it has one: number and name.
///
/// # Errors
/// When the database fails.
pub fn of_send(c: &Connection, send: SendId) -> Result<Option<(i64, String)>> {
    let mut s = c.prepare_cached(
        "SELECT t.id, t.name FROM send s JOIN mailing m ON m.id = s.mailing_id JOIN topic t ON t.id = m.topic_id WHERE s.id = ?1",
    )?;
    Ok(s.query_row([send.0], |r| Ok((r.get(0)?, r.get(1)?))).optional()?)
}

/// Every topic, and whether somebody gets it: they do until they leave it.
///
/// # Errors
/// When the database fails.
pub fn of_person(c: &Connection, contact: ContactId) -> Result<Vec<(i64, String, bool)>> {
    let mut s = c.prepare_cached(
        "SELECT t.id, t.name, NOT EXISTS (SELECT 1 FROM topic_left l WHERE l.topic_id = t.id AND l.contact_id = ?1) FROM topic t ORDER BY t.id",
    )?;
    Ok(s.query_map([contact.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?)
}
