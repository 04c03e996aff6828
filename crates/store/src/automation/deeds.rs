//! What is done for somebody because of something: by a reaction, or at a step of a series.

use crate::tags::{self, Kind};
use crate::{Result, StoreError, fields, runs, scores, segments, series_entry, webhooks};
use rinse_core::Instant;
use rinse_core::id::{ContactId, SeriesId};
use rinse_core::reaction::{Deed, DeedNames};
use rinse_core::segment::person::Value;
use rusqlite::{Connection, params};

/// Why something is done for somebody: by a reaction, or at a step of a series.
pub(crate) struct Cause {
    /// The same cause has the same key, so that other systems are told once.
    pub key: String,
    pub why: String,
    pub reaction: Option<i64>,
    pub series: Option<SeriesId>,
    /// What the reaction acts on.
    pub number: Option<i64>,
    pub contact: ContactId,
    pub at: Instant,
}

/// Does one thing for somebody; `body` says to other systems why. Returns whether it changed anything.
pub(crate) fn carry_out(c: &Connection, deed: &Deed, of: &Cause, mut body: serde_json::Value, now: Instant) -> Result<bool> {
    let contact = of.contact;
    Ok(match deed {
        Deed::Score { score, points } => {
            let from = scores::From { reaction: of.reaction, cause: of.number, why: &of.why, person: None };
            scores::add(c, *score, contact, of.at, *points, &from)?;
            true
        }
        Deed::Tag { tag, put } => place(c, Kind::Tag, *tag, contact, *put, now)?,
        Deed::List { list, put } => place(c, Kind::List, list.0, contact, *put, now)?,
        Deed::Field { field, value } => {
            let kind = fields::one(c, *field)?.kind;
            let set = Value::read(kind, value).is_ok_and(|v| fields::set(c, contact, *field, &v, None, None).unwrap_or(false));
            if set {
                runs::mark(c, contact, None)?;
            }
            set
        }
        Deed::Webhook { webhook } => {
            let address: String = c.prepare_cached("SELECT address FROM contact WHERE id = ?1")?.query_row([contact.0], |r| r.get(0))?;
            if let Some(fields) = body.as_object_mut() {
                fields.insert("at".into(), of.at.iso().into());
                fields.insert("contact".into(), serde_json::json!({ "id": contact, "address": address }));
            }
            webhooks::queue(c, *webhook, &of.key, Some(contact), &body, now)?
        }
        Deed::Series { series: id, put: true } => {
            let series = series_entry::one(c, *id)?;
            series_entry::enter(c, &series, contact, now, &of.why, now)?
        }
        Deed::Series { series: id, put: false } => {
            series_entry::take_out(c, *id, contact, now, "taken out by a reaction or another series")?
        }
        Deed::Task { words } => {
            c.prepare_cached("INSERT INTO task (at, reaction_id, series_id, contact_id, words) VALUES (?1, ?2, ?3, ?4, ?5)")?
                .execute(params![of.at.millis(), of.reaction, of.series.map(|id| id.0), contact.0, words.trim()])?;
            true
        }
    })
}

pub(crate) fn place(c: &Connection, kind: Kind, id: i64, contact: ContactId, put: bool, now: Instant) -> Result<bool> {
    Ok(if put { tags::put(c, kind, id, contact, now)? } else { tags::take_off(c, kind, id, &[contact])? } > 0)
}

/// The names of all that a reaction can refer to.
///
/// # Errors
/// When the database fails.
pub(crate) fn names(c: &Connection) -> Result<DeedNames> {
    let webhooks = c
        .prepare_cached("SELECT id, name FROM webhook")?
        .query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    Ok(DeedNames { names: segments::names(c)?, webhooks })
}

/// Does everything exist that a deed refers to, and can its field hold what it sets?
pub(crate) fn fits(c: &Connection, deed: &Deed) -> Result<()> {
    match deed {
        Deed::Score { score, .. } => drop(scores::half_life(c, *score)?),
        Deed::Tag { tag, .. } => drop(tags::name(c, Kind::Tag, *tag)?),
        Deed::List { list, .. } => drop(tags::name(c, Kind::List, list.0)?),
        Deed::Field { field, value } => {
            let field = fields::one(c, *field)?;
            rinse_core::segment::person::Value::read(field.kind, value)
                .map_err(|e| StoreError::Refused(format!("{}: {e}.", field.name)))?;
        }
        Deed::Webhook { webhook } => drop(webhooks::name(c, *webhook)?),
        Deed::Series { series, .. } => drop(series_entry::name(c, *series)?),
        Deed::Task { .. } => {}
    }
    Ok(())
}
