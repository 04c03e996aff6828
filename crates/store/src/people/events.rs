//! What people did elsewhere, by the other system's own key: the same event twice changes nothing.

use crate::purchases::Taken;
use crate::{Result, contacts};
use rinse_core::event::Event;
use rinse_core::words::fold;
use rusqlite::{Connection, params};

/// Takes an event in.
///
/// # Errors
/// When the database fails.
pub fn take(c: &Connection, e: &Event) -> Result<Taken> {
    let Some(contact) = contacts::id_of(c, &e.address.key)? else { return Ok(Taken::Nobody) };
    let n = c
        .prepare_cached(
            "INSERT INTO event (key, contact_id, at, name, name_key, about) VALUES (?1,?2,?3,?4,?5,?6) ON CONFLICT (key) DO NOTHING",
        )?
        .execute(params![e.key, contact.0, e.at.millis(), e.name, fold(&e.name), e.about])?;
    Ok(if n > 0 { Taken::New } else { Taken::Known })
}

/// The names of events there are, the commonest first.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection) -> Result<Vec<String>> {
    Ok(c.prepare_cached("SELECT max(name) FROM event GROUP BY name_key ORDER BY count(*) DESC LIMIT 100")?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?)
}
