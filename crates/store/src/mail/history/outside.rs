//! Mailings sent by another system: they are mailings like others, sent, with the other system's key.

use super::handing_out;
use crate::figures;
use crate::{Result, StoreError, letterheads};
use rinse_core::Instant;
use rinse_core::figure::Figure;
use rinse_core::history::PastMailing;
use rinse_core::id::{LetterheadId, MailingId};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A mailing that another system sent.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = OutsideMailing)]
pub struct Outside {
    pub mailing_id: MailingId,
    pub name: String,
    /// The other system's key.
    pub key: String,
    pub sent_at: i64,
    /// As many people got it, its table says.
    pub size: Option<i64>,
    /// As many are known of to have been sent it: rates are of these.
    pub sent: u64,
    pub accepted: u64,
    /// The log has no agents: what people opened isn't known.
    pub opens_unknown: bool,
}

const COLUMNS: &str = "SELECT o.mailing_id, m.name, o.key, m.started_at, o.size, o.opens_unknown FROM outside_mailing o JOIN mailing m ON m.id = o.mailing_id";

fn counted(c: &Connection, mut found: Vec<Outside>) -> Result<Vec<Outside>> {
    let ids: Vec<MailingId> = found.iter().map(|o| o.mailing_id).collect();
    let sums = figures::of_mailings(c, &ids)?;
    for o in &mut found {
        if let Some(s) = sums.get(&o.mailing_id) {
            (o.sent, o.accepted) = (s.of(Figure::Sent), s.of(Figure::Accepted));
        }
    }
    Ok(found)
}

fn row(r: &rusqlite::Row<'_>) -> rusqlite::Result<Outside> {
    Ok(Outside {
        mailing_id: MailingId(r.get(0)?),
        name: r.get(1)?,
        key: r.get(2)?,
        sent_at: r.get(3)?,
        size: r.get(4)?,
        sent: 0,
        accepted: 0,
        opens_unknown: r.get(5)?,
    })
}

/// The newest 500.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Outside>> {
    let mut s = c.prepare_cached(&format!("{COLUMNS} ORDER BY m.started_at DESC, m.id DESC LIMIT 500"))?;
    let found = s.query_map([], row)?.collect::<rusqlite::Result<_>>()?;
    counted(c, found)
}

/// What is known of a mailing's sending elsewhere; none: Rinse sent it.
///
/// # Errors
/// When the database fails.
pub fn of(c: &Connection, mailing: MailingId) -> Result<Option<Outside>> {
    let mut s = c.prepare_cached(&format!("{COLUMNS} WHERE o.mailing_id = ?1"))?;
    let found: Option<Outside> = s.query_row([mailing.0], row).optional()?;
    Ok(counted(c, found.into_iter().collect())?.pop())
}

/// The mailing of a key.
#[derive(Debug, Clone, Copy)]
pub(super) struct To {
    pub mailing: MailingId,
    /// Its people were handed out from here: nobody else is sent it.
    pub handed_out: bool,
    /// The arm that its key names.
    pub arm: Option<i64>,
}

impl To {
    pub(super) fn of_others(mailing: MailingId) -> Self {
        Self { mailing, handed_out: false, arm: None }
    }
}

/// The mailing that was handed out under a key.
fn handed_out(c: &Connection, key: &str) -> Result<Option<To>> {
    if !key.starts_with("rinse-") {
        return Ok(None);
    }
    let (base, arm) = match key.rsplit_once('-') {
        Some((base, letter)) if handing_out::arm_of(letter).is_some() => (base, handing_out::arm_of(letter)),
        _ => (key, None),
    };
    let id: Option<i64> = c
        .prepare_cached(
            "SELECT o.mailing_id FROM outside_mailing o JOIN mailing m ON m.id = o.mailing_id WHERE o.key = ?1 AND m.handed_out = 1",
        )?
        .query_row([base], |r| r.get(0))
        .optional()?;
    Ok(id.map(|mailing| To { mailing: MailingId(mailing), handed_out: true, arm }))
}

/// The mailing of a key; of a name, where one alone has it.
pub(super) fn known(c: &Connection, key: &str) -> Result<Option<To>> {
    if let Some(to) = handed_out(c, key)? {
        return Ok(Some(to));
    }
    if let Some(id) = by_key(c, key)? {
        return Ok(Some(To::of_others(id)));
    }
    let mut s = c.prepare_cached(
        "SELECT o.mailing_id FROM outside_mailing o JOIN mailing m ON m.id = o.mailing_id LEFT JOIN variant v ON v.mailing_id = m.id AND v.arm = 0
         WHERE m.name = ?1 OR v.subject = ?1 LIMIT 2",
    )?;
    let named: Vec<i64> = s.query_map([key], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    Ok(if let [one] = named.as_slice() { Some(To::of_others(MailingId(*one))) } else { None })
}

/// The key of the mailing of a subject that went between two instants.
pub(super) fn near(c: &Connection, subject: &str, from: i64, until: i64) -> Result<Option<String>> {
    let mut s = c.prepare_cached(
        "SELECT o.key FROM mailing m JOIN outside_mailing o ON o.mailing_id = m.id JOIN variant v ON v.mailing_id = m.id AND v.arm = 0
         WHERE v.subject = ?1 AND m.started_at BETWEEN ?2 AND ?3 ORDER BY m.started_at LIMIT 1",
    )?;
    Ok(s.query_row(params![subject, from, until], |r| r.get(0)).optional()?)
}

/// The mailing whose own key this is.
pub(super) fn by_key(c: &Connection, key: &str) -> Result<Option<MailingId>> {
    Ok(c.prepare_cached("SELECT mailing_id FROM outside_mailing WHERE key = ?1")?
        .query_row([key], |r| r.get(0).map(MailingId))
        .optional()?)
}

/// The letterhead that mailings of another system are under.
pub(super) fn letterhead(c: &Connection) -> Result<LetterheadId> {
    let none = || StoreError::Refused("Make a letterhead first: mailings are under one, those of another system as well.".into());
    Ok(letterheads::usual(c)?.ok_or_else(none)?.id)
}

/// What became of a row of mailings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Put {
    New,
    Known,
}

/// Makes a mailing, or fills in what is known of it by now.
pub(super) fn put(c: &Connection, m: &PastMailing, log: Option<i64>) -> Result<(MailingId, Put)> {
    let size = m.size.map(|n| i64::try_from(n).unwrap_or(i64::MAX));
    if let Some(id) = by_key(c, &m.key)? {
        // What was made from events alone had its key for a name.
        let named = c.execute("UPDATE mailing SET name = ?2 WHERE id = ?1 AND name = ?3 AND name <> ?2", params![id.0, m.name, m.key])?;
        let subject = c.execute(
            "UPDATE variant SET subject = ?2 WHERE mailing_id = ?1 AND arm = 0 AND subject = '' AND ?2 <> ''",
            params![id.0, m.subject],
        )?;
        let sized = c.execute(
            "UPDATE outside_mailing SET size = ?2 WHERE mailing_id = ?1 AND size IS NULL AND ?2 IS NOT NULL",
            params![id.0, size],
        )?;
        return Ok((id, if named + subject + sized > 0 { Put::New } else { Put::Known }));
    }
    let letterhead = letterhead(c)?;
    let topic: Option<i64> = match m.topic.as_str() {
        "" => None,
        name => Some(crate::topics::named(c, name)?),
    };
    let id: i64 = c.query_row(
        "INSERT INTO mailing (name, letterhead_id, topic_id, state, planned_at, started_at, finished_at, made_at) VALUES (?1, ?2, ?3, 'sent', ?4, ?4, ?4, ?4) RETURNING id",
        params![m.name, letterhead.0, topic, m.sent_at.millis()],
        |r| r.get(0),
    )?;
    c.execute("INSERT INTO variant (mailing_id, arm, subject) VALUES (?1, 0, ?2)", params![id, m.subject])?;
    c.execute("INSERT INTO outside_mailing (mailing_id, key, size, log_id) VALUES (?1, ?2, ?3, ?4)", params![id, m.key, size, log])?;
    Ok((MailingId(id), Put::New))
}

/// Makes a mailing that only its events tell of.
pub(super) fn unnamed(c: &Connection, key: &str, at: Instant, log: Option<i64>) -> Result<MailingId> {
    let m = PastMailing { key: key.into(), name: key.into(), subject: String::new(), topic: String::new(), sent_at: at, size: None };
    Ok(put(c, &m, log)?.0)
}

/// When it began and ended, by what is known of its messages.
pub(super) fn span(c: &Connection, mailing: MailingId) -> Result<()> {
    c.prepare_cached(
        "UPDATE mailing SET started_at = coalesce(x.first, started_at), finished_at = coalesce(x.last, finished_at)
         FROM (SELECT min(at) AS first, max(at) AS last FROM send WHERE mailing_id = ?1 AND handed_at IS NOT NULL) x WHERE id = ?1",
    )?
    .execute([mailing.0])?;
    Ok(())
}
