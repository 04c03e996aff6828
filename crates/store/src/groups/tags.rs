//! Tags and lists: words put on people. A list is something they joined, a tag something we noted.
//! Labels: words put on mailings, series and hour trials.

use crate::settings::{Named, Tied};
use crate::{Result, StoreError, naming, sweep};
use rinse_core::Instant;
use rinse_core::id::{ContactId, ListId, MailingId};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    List,
    Tag,
    Label,
}

impl Kind {
    fn table(self) -> &'static str {
        match self {
            Self::List => "list",
            Self::Tag => "tag",
            Self::Label => "label",
        }
    }

    /// The table of members (of labels: of all mailings that carry them, by a view), its column for this kind, and its column for when they came.
    fn members(self) -> (&'static str, &'static str, &'static str) {
        match self {
            Self::List => ("list_member", "list_id", "joined_at"),
            Self::Tag => ("contact_tag", "tag_id", "at"),
            Self::Label => ("labelled", "label_id", "mailing_id"),
        }
    }
}

/// All of a kind, by name, with their people (of labels: their mailings).
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection, kind: Kind) -> Result<Vec<Named>> {
    let (members, id, _) = kind.members();
    let table = kind.table();
    let sql =
        format!("SELECT id, name, (SELECT count(*) FROM {members} m WHERE m.{id} = {table}.id) FROM {table} WHERE gone = 0 ORDER BY name");
    Ok(c.prepare_cached(&sql)?
        .query_map([], |r| Ok(Named { id: r.get(0)?, name: r.get(1)?, people: r.get(2)? }))?
        .collect::<rusqlite::Result<_>>()?)
}

/// All of a kind by name, without counting who is in them.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection, kind: Kind) -> Result<Vec<Tied>> {
    let sql = format!("SELECT id, name FROM {} WHERE gone = 0 ORDER BY name", kind.table());
    let rows = c.prepare_cached(&sql)?.query_map([], |r| Ok(Tied { id: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?;
    Ok(rows)
}

fn must_exist(c: &Connection, kind: Kind, id: i64) -> Result<String> {
    c.prepare_cached(&format!("SELECT name FROM {} WHERE id = ?1 AND gone = 0", kind.table()))?
        .query_row([id], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing(kind.table()))
}

/// The name of one.
///
/// # Errors
/// When it is gone.
pub fn name(c: &Connection, kind: Kind, id: i64) -> Result<String> {
    must_exist(c, kind, id)
}

/// The one of that name, made when there is none.
///
/// # Errors
/// When the name can't be one.
pub fn named(c: &Connection, kind: Kind, name: &str, now: Instant) -> Result<i64> {
    let (table, name) = (kind.table(), naming::good(name)?);
    c.execute(&format!("INSERT INTO {table} (name, made_at) VALUES (?1, ?2) ON CONFLICT DO NOTHING"), params![name, now.millis()])?;
    Ok(c.query_row(&format!("SELECT id FROM {table} WHERE name = ?1"), [name], |r| r.get(0))?)
}

/// # Errors
/// When it is gone, or the name is taken.
pub fn rename(c: &Connection, kind: Kind, id: i64, name: &str) -> Result<()> {
    must_exist(c, kind, id)?;
    let name = naming::good(name)?;
    naming::taken(c, kind.table(), name, Some(id))?;
    c.execute(&format!("UPDATE {} SET name = ?2 WHERE id = ?1", kind.table()), params![id, name])?;
    Ok(())
}

/// Deletes one; its people stay. Who calls has seen that nothing uses it.
pub(crate) fn delete(c: &Connection, kind: Kind, id: i64) -> Result<()> {
    must_exist(c, kind, id)?;
    let swept = match kind {
        Kind::List => &sweep::LIST,
        Kind::Tag => &sweep::TAG,
        Kind::Label => {
            for (table, _) in On::ALL.map(On::table) {
                c.execute(&format!("DELETE FROM {table} WHERE label_id = ?1"), [id])?;
            }
            c.execute("DELETE FROM label WHERE id = ?1", [id])?;
            return Ok(());
        }
    };
    let (_, column, _) = kind.members();
    c.execute(&format!("UPDATE import_run SET {column} = NULL WHERE {column} = ?1"), [id])?;
    sweep::delete(c, swept, id)
}

/// Puts the people of one into another; who calls has what used it use the other, and deletes it.
pub(crate) fn pour(c: &Connection, kind: Kind, from: i64, into: i64) -> Result<()> {
    must_exist(c, kind, from)?;
    must_exist(c, kind, into)?;
    if from == into {
        return Err(StoreError::Refused("Choose another to merge it into.".into()));
    }
    if kind == Kind::Label {
        for (table, on) in On::ALL.map(On::table) {
            let sql =
                format!("INSERT INTO {table} (label_id, {on}) SELECT ?2, {on} FROM {table} WHERE label_id = ?1 ON CONFLICT DO NOTHING");
            c.execute(&sql, [from, into])?;
        }
        return Ok(());
    }
    let (members, column, when) = kind.members();
    let rest = format!("contact_id, {when}");
    c.execute(
        &format!("INSERT INTO {members} ({column}, {rest}) SELECT ?2, {rest} FROM {members} WHERE {column} = ?1 ON CONFLICT DO NOTHING"),
        [from, into],
    )?;
    c.execute(&format!("UPDATE import_run SET {column} = ?2 WHERE {column} = ?1"), [from, into])?;
    Ok(())
}

/// Puts people on it; returns how many are new to it.
///
/// # Errors
/// When it is gone.
pub fn add(c: &Connection, kind: Kind, id: i64, contacts: &[ContactId], now: Instant) -> Result<usize> {
    must_exist(c, kind, id)?;
    let mut n = 0;
    for contact in contacts {
        n += put(c, kind, id, *contact, now)?;
    }
    Ok(n)
}

/// Puts one person on one that is known to exist; nobody when there is no such person.
pub(crate) fn put(c: &Connection, kind: Kind, id: i64, contact: ContactId, now: Instant) -> Result<usize> {
    let sql = match kind {
        Kind::List => {
            "INSERT INTO list_member (list_id, contact_id, joined_at) SELECT ?1, id, ?3 FROM contact WHERE id = ?2 ON CONFLICT DO NOTHING"
        }
        Kind::Tag => "INSERT INTO contact_tag (tag_id, contact_id, at) SELECT ?1, id, ?3 FROM contact WHERE id = ?2 ON CONFLICT DO NOTHING",
        Kind::Label => return Err(StoreError::Refused("A label is put on mailings, not on people.".into())),
    };
    Ok(c.prepare_cached(sql)?.execute(params![id, contact.0, now.millis()])?)
}

/// Takes people off it; returns how many were on it.
///
/// # Errors
/// When the database fails.
pub fn take_off(c: &Connection, kind: Kind, id: i64, contacts: &[ContactId]) -> Result<usize> {
    if kind == Kind::Label {
        return Err(StoreError::Refused("A label is put on mailings, not on people.".into()));
    }
    let (members, column, _) = kind.members();
    let mut s = c.prepare_cached(&format!("DELETE FROM {members} WHERE {column} = ?1 AND contact_id = ?2"))?;
    let mut n = 0;
    for contact in contacts {
        n += s.execute([id, contact.0])?;
    }
    Ok(n)
}

/// What a label is put on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum On {
    Mailing,
    /// With all its messages.
    Series,
    /// With its rounds.
    HourTrial,
}

impl On {
    const ALL: [Self; 3] = [Self::Mailing, Self::Series, Self::HourTrial];

    /// The table of those that carry labels, and its column of them.
    pub(crate) fn table(self) -> (&'static str, &'static str) {
        match self {
            Self::Mailing => ("mailing_label", "mailing_id"),
            Self::Series => ("series_label", "series_id"),
            Self::HourTrial => ("hour_trial_label", "trial_id"),
        }
    }
}

/// The labels of a mailing, by name: its own.
///
/// # Errors
/// When the database fails.
pub fn labels_of(c: &Connection, mailing: MailingId) -> Result<Vec<String>> {
    let mut s =
        c.prepare_cached("SELECT l.name FROM label l JOIN mailing_label m ON m.label_id = l.id WHERE m.mailing_id = ?1 ORDER BY 1")?;
    Ok(s.query_map([mailing.0], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

/// The people of a list, ascending.
///
/// # Errors
/// When the database fails.
pub fn on_list(c: &Connection, list: ListId) -> Result<Vec<ContactId>> {
    crate::stored::ids_as(c, "SELECT contact_id FROM list_member WHERE list_id = ?1 ORDER BY contact_id", [list.0], ContactId)
}
