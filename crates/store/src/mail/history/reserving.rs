//! Reservations: another system asks who may be written to, and says that it will write to them. Until it tells that it has, or the reservation
//! ends, each counts under the caps as if it had gone: so caps hold across two senders.
//!
//! A reservation is the row of a message whose first step hasn't come yet.

use super::outside;
use crate::clearing::addresses::{Says, Sending, Told};
use crate::clearing::person;
use crate::contacts;
use crate::send_state::{ACCEPTED, NOT_SENT};
use crate::{Result, Store, StoreError, topics};
use const_format::formatcp;
use rinse_core::address::Address;
use rinse_core::clearance::Outcome;
use rinse_core::history::PastMailing;
use rinse_core::id::{MailingId, SendId};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Deserialize;
use utoipa::ToSchema;

/// No reservation lasts longer.
const LONGEST: i64 = 30 * DAY;
/// People reserved by one change.
const AT_ONCE: usize = 100;
/// Those that end at once.
const ENDED_AT_ONCE: u32 = 1_000;

/// Of somebody who was handed out: nothing tells that they were sent it.
const NOT_TOLD: &str = "handed out to another sender, whose log doesn't tell of it";

/// What is reserved for.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[schema(as = Reservation)]
pub struct Reserve {
    /// The other system's key of the mailing: its events come under it.
    #[schema(max_length = 200)]
    pub mailing: String,
    #[serde(default)]
    #[schema(max_length = 200)]
    pub name: String,
    /// Who wasn't written to by then may be written to by others again; at most 30 days ahead.
    pub until: i64,
}

/// The mailing that is reserved for; it is made where it isn't known.
///
/// # Errors
/// Service mail, an end that lies behind or too far ahead, or a mailing of another topic.
pub fn begin(c: &Connection, r: &Reserve, sending: &Sending, at: Instant) -> Result<MailingId> {
    if !sending.service_reason.trim().is_empty() {
        return Err(StoreError::Refused("Service mail counts under no cap: there is nothing to reserve.".into()));
    }
    if r.until <= at.millis() || r.until > at.millis() + LONGEST {
        return Err(StoreError::Refused("A reservation ends after the sending, within 30 days.".into()));
    }
    let key: String = r.mailing.trim().chars().filter(|c| !c.is_control()).take(200).collect();
    if key.is_empty() {
        return Err(StoreError::Refused("Name the mailing that is reserved for by the other system’s key.".into()));
    }
    let topic: Option<i64> = match sending.topic.as_deref().map(str::trim).filter(|t| !t.is_empty()) {
        Some(name) => Some(topics::named(c, name)?),
        None => None,
    };
    if let Some(id) = outside::known(c, &key)?.map(|to| to.mailing) {
        let of: Option<i64> = c.query_row("SELECT topic_id FROM mailing WHERE id = ?1", [id.0], |r| r.get(0))?;
        if of != topic {
            return Err(StoreError::Refused(format!(
                "The mailing {key:?} is known with another topic. Reserve under its own, or under another key."
            )));
        }
        return Ok(id);
    }
    let name = if r.name.trim().is_empty() { key.clone() } else { r.name.trim().to_owned() };
    let mailing = PastMailing { key, name, subject: String::new(), topic: String::new(), sent_at: at, size: None };
    let (id, _) = outside::put(c, &mailing, None)?;
    c.execute(
        "UPDATE mailing SET topic_id = ?2, letterhead_id = coalesce(?3, letterhead_id) WHERE id = ?1",
        params![id.0, topic, sending.letterhead.map(|id| id.0)],
    )?;
    Ok(id)
}

/// Reserves each of some people who may be written to at that instant still; what is said of each. Nobody is reserved twice for a mailing.
///
/// # Errors
/// When there is no such mailing.
pub fn some(c: &Connection, mailing: MailingId, people: &[String], at: Instant, until: i64) -> Result<Vec<Option<Outcome>>> {
    let mut loaded = person::load(c, mailing, at)?;
    people
        .iter()
        .map(|given| {
            let Ok(address) = Address::parse(given.trim()) else { return Ok(None) };
            let Some(contact) = contacts::id_of(c, &address.key)? else { return Ok(None) };
            let there: Option<bool> = c
                .prepare_cached("SELECT handed_at IS NULL FROM send WHERE mailing_id = ?1 AND contact_id = ?2")?
                .query_row([mailing.0, contact.0], |r| r.get(0))
                .optional()?;
            if there == Some(true) {
                return Ok(Some(Outcome::Cleared));
            }
            let insert = formatcp!(
                "INSERT OR IGNORE INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at) VALUES (?1, ?2, ?1, {NOT_SENT}, ?3, ?4) RETURNING id"
            );
            let send: Option<SendId> =
                c.prepare_cached(insert)?.query_row(params![mailing.0, contact.0, at.millis(), until], |r| r.get(0).map(SendId)).optional()?;
            let Some(send) = send else { return Ok(None) };
            let outcome = person::at_handover(c, &mut loaded, contact, send, at, Instant::of(until))?;
            if matches!(outcome, Outcome::Cleared) {
                c.prepare_cached(formatcp!("UPDATE send SET state = {ACCEPTED} WHERE id = ?1"))?.execute([send.0])?;
            } else {
                c.prepare_cached("DELETE FROM send WHERE id = ?1")?.execute([send.0])?;
            }
            Ok(Some(outcome))
        })
        .collect()
}

/// Reserves those who are cleared, asking about each once more: who isn't any longer is told as that. How many were.
///
/// # Errors
/// As [`begin`].
pub async fn all(store: &Store, r: Reserve, sending: Sending, at: Instant, told: &mut [Told]) -> Result<usize> {
    let until = r.until;
    let mailing = store.write(move |c| begin(c, &r, &sending, at)).await?;
    let mut cleared: Vec<&mut Told> = told.iter_mut().filter(|t| t.says == Says::Cleared).collect();
    let mut reserved = 0;
    for part in cleared.chunks_mut(AT_ONCE) {
        let people: Vec<String> = part.iter().map(|t| t.address.clone()).collect();
        let outcomes = store.write(move |c| some(c, mailing, &people, at, until)).await?;
        for (t, outcome) in part.iter_mut().zip(outcomes) {
            reserved += usize::from(outcome == Some(Outcome::Cleared));
            t.is_now(outcome);
        }
    }
    Ok(reserved)
}

/// Ends reservations whose time is over; true when there are more.
///
/// # Errors
/// When the database fails.
pub fn end_some(c: &Connection, now: Instant) -> Result<bool> {
    let mut s = c.prepare_cached(formatcp!(
        "SELECT id FROM send INDEXED BY send_reserved WHERE state = {ACCEPTED} AND handed_at IS NULL AND give_up_at <= ?1 LIMIT ?2"
    ))?;
    let over: Vec<i64> = s.query_map(params![now.millis(), ENDED_AT_ONCE], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    for send in &over {
        // Who was handed out stays on record, as somebody who wasn't written to.
        let handed_out = c
            .prepare_cached(formatcp!(
                "UPDATE send SET state = {NOT_SENT}, reply = ?2 WHERE id = ?1 AND (SELECT handed_out FROM mailing m WHERE m.id = send.mailing_id) = 1"
            ))?
            .execute(params![send, NOT_TOLD])?;
        if handed_out > 0 {
            continue;
        }
        c.prepare_cached("DELETE FROM send WHERE id = ?1")?.execute([send])?;
    }
    Ok(over.len() == ENDED_AT_ONCE as usize)
}
