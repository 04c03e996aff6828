//! Topics: what a mailing is about, which people can leave one by one.

use crate::Result;
use crate::settings::Named;
use rusqlite::Connection;

/// All topics, with how many people left each.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Named>> {
    let mut s =
        c.prepare_cached("SELECT id, name, (SELECT count(*) FROM topic_left t WHERE t.topic_id = topic.id) FROM topic ORDER BY id")?;
    Ok(s.query_map([], |r| Ok(Named { id: r.get(0)?, name: r.get(1)?, people: r.get(2)? }))?.collect::<rusqlite::Result<_>>()?)
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
