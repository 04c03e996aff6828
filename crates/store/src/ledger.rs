//! The ledger: the append-only history of a contact's consent and mail status.
//!
//! The columns on `contact` are what the ledger adds up to; both change in the same transaction.

use crate::{Result, StoreError, journal};
use rinse_core::Instant;
use rinse_core::bounce::Category;
use rinse_core::consent::{Act, Consent, Standing as ConsentStanding};
use rinse_core::upkeep::{MailStatus, Outcome, Standing, standing};
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// One entry, as a person's page shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Entry {
    pub at: i64,
    pub kind: String,
    pub topic: Option<String>,
    pub until: Option<i64>,
    pub source: String,
    pub evidence: String,
    pub person: Option<String>,
}

/// Where an act comes from.
#[derive(Debug, Clone, Default)]
pub struct Origin {
    pub source: &'static str,
    pub evidence: String,
    pub send: Option<i64>,
    pub import: Option<i64>,
    /// The run of changes it belongs to.
    pub run: Option<i64>,
    pub person: Option<i64>,
}

fn append(c: &Connection, contact: i64, at: Instant, kind: &str, topic: Option<i64>, until: Option<i64>, o: &Origin) -> Result<()> {
    c.prepare_cached("INSERT INTO ledger (contact_id, at, kind, topic_id, until, source, evidence, send_id, import_id, person_id, run_id) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11)")?
        .execute(params![contact, at.0, kind, topic, until, o.source, o.evidence, o.send, o.import, o.person, o.run])?;
    Ok(())
}

/// Writes an act of consent and the state it leads to. The same state again writes nothing.
///
/// # Errors
/// When there is no such contact.
pub fn act(c: &Connection, contact: i64, at: Instant, act: Act, origin: &Origin) -> Result<bool> {
    let before = stated(c, contact)?.standing();
    let after = before.after(act, at);
    if after.state == before.at(at) && (after.state != Consent::Paused || after.until == before.until) {
        return Ok(false);
    }
    let until = if let Act::Paused { until } = act { Some(until.0) } else { None };
    append(c, contact, at, act.word(), None, until, origin)?;
    match act {
        Act::Withdrew => journal::note(c, journal::What::Withdrew, contact, None, at)?,
        Act::Complained => journal::note(c, journal::What::Complained, contact, None, at)?,
        _ => {}
    }
    set(c, contact, Stated { consent: after.state, at: Some(at.0), paused_until: after.until.map(|u| u.0), under_pause: after.under })?;
    Ok(true)
}

fn set(c: &Connection, contact: i64, to: Stated) -> Result<()> {
    c.prepare_cached("UPDATE contact SET consent = ?2, consent_at = ?3, paused_until = ?4, under_pause = ?5 WHERE id = ?1")?
        .execute(params![contact, to.consent as i64, to.at, to.paused_until, to.under_pause as i64])?;
    Ok(())
}

/// Writes the first entry of a contact who was added in the state it leads to.
///
/// # Errors
/// When the database fails.
pub(crate) fn first(c: &Connection, contact: i64, at: Instant, act: Act, origin: &Origin) -> Result<()> {
    append(c, contact, at, act.word(), None, None, origin)
}

/// Writes an entry that states the consent outright: what holds after a merge, for a changed address,
/// or again after a change was taken back. Nobody's act, so it never raises a refusal of their own.
///
/// # Errors
/// When the database fails.
pub(crate) fn restate(c: &Connection, contact: i64, at: Instant, kind: &str, to: Stated, origin: &Origin) -> Result<()> {
    append(c, contact, at, kind, None, to.paused_until, origin)?;
    c.prepare_cached("UPDATE ledger SET state = ?2 WHERE id = ?1")?.execute(params![c.last_insert_rowid(), to.consent as i64])?;
    set(c, contact, to)
}

/// A contact's consent as it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, serde::Deserialize)]
pub struct Stated {
    pub consent: Consent,
    pub at: Option<i64>,
    pub paused_until: Option<i64>,
    #[serde(default)]
    pub under_pause: Consent,
}

impl Stated {
    pub(crate) fn standing(self) -> ConsentStanding {
        ConsentStanding { state: self.consent, under: self.under_pause, until: self.paused_until.map(Instant) }
    }
}

/// # Errors
/// When there is no such contact.
pub(crate) fn stated(c: &Connection, contact: i64) -> Result<Stated> {
    c.prepare_cached("SELECT consent, consent_at, paused_until, under_pause FROM contact WHERE id = ?1")?
        .query_row([contact], |r| {
            Ok(Stated {
                consent: Consent::from_code(r.get(0)?),
                at: r.get(1)?,
                paused_until: r.get(2)?,
                under_pause: Consent::from_code(r.get(3)?),
            })
        })
        .map_err(|_| StoreError::Missing("contact"))
}

/// A contact's consent as it stands, with what a pause hides.
///
/// # Errors
/// When there is no such contact.
pub fn stated_now(c: &Connection, contact: i64) -> Result<ConsentStanding> {
    Ok(stated(c, contact)?.standing())
}

/// Writes an entry that changes no state.
///
/// # Errors
/// When the database fails.
pub(crate) fn note(c: &Connection, contact: i64, at: Instant, kind: &str, origin: &Origin) -> Result<()> {
    append(c, contact, at, kind, None, None, origin)
}

/// # Errors
/// When there is no such contact.
pub fn consent_of(c: &Connection, contact: i64) -> Result<Consent> {
    c.prepare_cached("SELECT consent FROM contact WHERE id = ?1")?
        .query_row([contact], |r| r.get(0))
        .map(Consent::from_code)
        .map_err(|_| StoreError::Missing("contact"))
}

/// Records that a contact left a topic; the rest stays.
///
/// # Errors
/// When the database fails.
pub fn leave_topic(c: &Connection, contact: i64, topic: i64, at: Instant, origin: &Origin) -> Result<bool> {
    let new =
        c.prepare_cached("INSERT INTO topic_left VALUES (?1,?2,?3) ON CONFLICT DO NOTHING")?.execute(params![topic, contact, at.0])? > 0;
    if new {
        append(c, contact, at, "left topic", Some(topic), None, origin)?;
        journal::note(c, journal::What::LeftTopic, contact, Some(topic), at)?;
    }
    Ok(new)
}

/// Records that a contact came back to a topic they had left.
///
/// # Errors
/// When the database fails.
pub fn rejoin_topic(c: &Connection, contact: i64, topic: i64, at: Instant, origin: &Origin) -> Result<bool> {
    let gone = c.prepare_cached("DELETE FROM topic_left WHERE topic_id = ?1 AND contact_id = ?2")?.execute([topic, contact])? > 0;
    if gone {
        append(c, contact, at, "came back to topic", Some(topic), None, origin)?;
    }
    Ok(gone)
}

/// How the mailings to a contact's present address ended, oldest first.
///
/// # Errors
/// When the database fails.
pub fn outcomes(c: &Connection, contact: i64) -> Result<Vec<Outcome>> {
    let mut s = c.prepare_cached(
        "SELECT mailing_id, coalesce(failed_at, accepted_at), CASE WHEN failed_at IS NULL THEN NULL ELSE category END FROM send
         WHERE contact_id = ?1 AND address_of IS NULL AND (accepted_at IS NOT NULL OR failed_at IS NOT NULL) ORDER BY 2",
    )?;
    Ok(s.query_map([contact], |r| {
        Ok(Outcome { mailing: r.get(0)?, at: Instant(r.get(1)?), failure: r.get::<_, Option<i64>>(2)?.map(Category::from_code) })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// As [`outcomes`], as far as they were known at an instant.
///
/// # Errors
/// When the database fails.
pub(crate) fn outcomes_until(c: &Connection, contact: i64, at: Instant) -> Result<Vec<Outcome>> {
    Ok(outcomes(c, contact)?.into_iter().filter(|o| o.at <= at).collect())
}

/// What an entry makes of a standing: one that states the consent outright sets it, an act is taken; none
/// when the entry is about something else.
pub(crate) fn step(
    before: ConsentStanding,
    at: Instant,
    kind: &str,
    until: Option<Instant>,
    state: Option<i64>,
) -> Option<ConsentStanding> {
    match state {
        Some(state) => Some(ConsentStanding { state: Consent::from_code(state), under: before.under, until }),
        None => Act::of_word(kind, until).map(|act| before.after(act, at)),
    }
}

/// A contact's consent as it stood at an instant: what the ledger added up to then.
///
/// # Errors
/// When the database fails.
pub(crate) fn stated_at(c: &Connection, contact: i64, at: Instant) -> Result<Stated> {
    let mut s = c.prepare_cached("SELECT at, kind, until, state FROM ledger WHERE contact_id = ?1 AND at <= ?2 ORDER BY id")?;
    let mut rows = s.query([contact, at.0])?;
    let (mut now, mut changed) = (ConsentStanding::default(), None);
    while let Some(r) = rows.next()? {
        let when = Instant(r.get(0)?);
        let until = r.get::<_, Option<i64>>(2)?.map(Instant);
        let Some(after) = step(now, when, r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?, until, r.get(3)?) else { continue };
        now = after;
        changed = Some(when.0);
    }
    Ok(Stated { consent: now.state, at: changed, paused_until: now.until.map(|u| u.0), under_pause: now.under })
}

/// Had a contact left a topic at an instant?
///
/// # Errors
/// When the database fails.
pub(crate) fn topic_left_at(c: &Connection, contact: i64, topic: i64, at: Instant) -> Result<bool> {
    let mut s = c.prepare_cached(
        "SELECT kind = 'left topic' FROM ledger WHERE contact_id = ?1 AND topic_id = ?2 AND at <= ?3 ORDER BY id DESC LIMIT 1",
    )?;
    let mut rows = s.query([contact, topic, at.0])?;
    Ok(rows.next()?.is_some_and(|r| r.get(0).unwrap_or(false)))
}

/// Works the mail status out again and records a change with its cause.
///
/// # Errors
/// When the database fails.
pub fn refresh_status(c: &Connection, contact: i64, now: Instant) -> Result<Standing> {
    let (status, until): (i64, Option<i64>) =
        c.prepare_cached("SELECT status, status_until FROM contact WHERE id = ?1")?.query_row([contact], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let s = standing(&outcomes(c, contact)?, now);
    if s.status != MailStatus::from_code(status) || s.until.map(|u| u.0) != until {
        let origin = Origin { source: "bounce rules", evidence: s.why.clone(), ..Origin::default() };
        append(c, contact, now, s.status.words(), None, s.until.map(|u| u.0), &origin)?;
        c.prepare_cached("UPDATE contact SET status = ?2, status_until = ?3, status_at = ?4 WHERE id = ?1")?.execute(params![
            contact,
            s.status as i64,
            s.until.map(|u| u.0),
            now.0
        ])?;
    }
    Ok(s)
}

/// Contacts whose rest or pause is over by `now`.
///
/// # Errors
/// When the database fails.
pub fn end_rests(c: &Connection, now: Instant) -> Result<usize> {
    let mut s = c.prepare_cached("SELECT id FROM contact WHERE status = 1 AND status_until <= ?1")?;
    let due: Vec<i64> = s.query_map([now.0], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    for &id in &due {
        refresh_status(c, id, now)?;
    }
    Ok(due.len())
}

/// A contact's ledger, oldest first.
///
/// # Errors
/// When the database fails.
pub fn of_contact(c: &Connection, contact: i64) -> Result<Vec<Entry>> {
    let mut s = c.prepare_cached(
        "SELECT l.at, l.kind, t.name, l.until, l.source, l.evidence, p.name FROM ledger l
         LEFT JOIN topic t ON t.id = l.topic_id LEFT JOIN person p ON p.id = l.person_id WHERE l.contact_id = ?1 ORDER BY l.id",
    )?;
    Ok(s.query_map([contact], |r| {
        Ok(Entry {
            at: r.get(0)?,
            kind: r.get(1)?,
            topic: r.get(2)?,
            until: r.get(3)?,
            source: r.get(4)?,
            evidence: r.get(5)?,
            person: r.get(6)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}
