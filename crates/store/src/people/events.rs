//! What people did elsewhere, by the other system's own key: the same event twice changes nothing.

use crate::purchases::Taken;
use crate::{Result, contacts, naming};
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

/// The names of events there are; where there are more than a hundred the hundred commonest.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection) -> Result<Vec<String>> {
    naming::words(c, "event", "name", 100)
}
