//! Sign-ups: from the form to the confirmation, with what the person was shown.

use crate::codes::{SIGN_UP_ENDED, SIGN_UP_HANDING_OVER, SIGN_UP_INVITED, SIGN_UP_NONE, SIGN_UP_WAITING};
use crate::ledger::{self, Grant, Origin};
use crate::suppression::{self, Target};
use crate::tombstones::{self, Tombstones};
use crate::{Result, StoreError, contacts, wordings};
use const_format::formatcp;
use rinse_core::address::Address;
use rinse_core::bounce::Reply;
use rinse_core::consent::{Act, Consent};
use rinse_core::id::{ContactId, LetterheadId, MailingId};
use rinse_core::invitation::{ANSWERS_WITHIN, State, alive, limited};
use rinse_core::report::Rate;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// What somebody sent in.
#[derive(Debug, Clone)]
pub struct Form {
    pub letterhead: LetterheadId,
    pub address: Address,
    pub given_name: Option<String>,
    /// The topics they chose.
    pub topics: Vec<i64>,
    /// `form` or `API`.
    pub came_by: &'static str,
    /// A hash of where it came from, for the limits.
    pub came_from: Option<Vec<u8>>,
}

fn instants(c: &Connection, sql: &str, value: impl rusqlite::ToSql, since: Instant) -> Result<Vec<Instant>> {
    Ok(c.prepare_cached(sql)?.query_map(params![value, since.millis()], |r| r.get(0).map(Instant::of))?.collect::<rusqlite::Result<_>>()?)
}

/// Takes a sign-up in. What comes of it is not told to anybody who sent it: the address may be anybody's.
///
/// # Errors
/// When the letterhead isn't there.
pub fn sign_up(c: &Connection, f: &Form, now: Instant) -> Result<i64> {
    let double: bool = c
        .query_row("SELECT double_opt_in FROM letterhead WHERE id = ?1", [f.letterhead.0], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("letterhead"))?;
    let wording = wordings::newest(c, f.letterhead)?;
    let evidence = wording.as_ref().map_or_else(|| f.came_by.to_owned(), |w| format!("{}, consent wording version {}", f.came_by, w.1));
    let to_address = instants(
        c,
        formatcp!("SELECT at FROM sign_up WHERE address_key = ?1 AND at > ?2 AND state <> {SIGN_UP_NONE}"),
        &f.address.key,
        now + -DAY,
    )?;
    let from_sender = match &f.came_from {
        Some(from) => instants(c, "SELECT at FROM sign_up WHERE came_from = ?1 AND at > ?2", from, now + -HOUR)?,
        None => Vec::new(),
    };
    let limit = limited(&to_address, &from_sender, now);
    let known = contacts::id_of(c, &f.address.key)?;
    let deleted = Tombstones::load(c)?.has(c, &f.address.key)?;
    // Somebody who was deleted comes back by confirming, not before.
    let contact = match known {
        None if limit.is_none() && !deleted => {
            let profile =
                contacts::Profile { given_name: f.given_name.clone(), source: Some("sign-up form".into()), ..contacts::Profile::default() };
            Some(contacts::add(c, &f.address, &profile, now)?)
        }
        known => known,
    };
    let why = match limit {
        Some(limit) => Some(limit),
        None => barred(c, contact, &f.address.key, f.letterhead, now)?,
    };
    let origin = Origin { source: "sign-up", evidence, entity: ledger::entity_of(c, f.letterhead)?, ..Origin::default() };
    if let Some(id) = contact.filter(|_| why.is_none()) {
        // Anybody who signs up isn't silent.
        ledger::lift_sunset(c, id, now, "signed up")?;
        crate::upkeep::silence::ended(c, id)?;
        ledger::act(c, id, now, if double { Act::Invited } else { Act::Agreed }, &origin)?;
        if !double && known.is_none() {
            leave_unchosen(c, id, &f.topics, now, &origin)?;
        }
    }
    let state = if double && why.is_none() { State::Waiting } else { State::None };
    Ok(c.query_row(
        "INSERT INTO sign_up (at, letterhead_id, address, address_key, given_name, topics, wording_id, came_by, came_from, contact_id, is_new, state, why, due_at)
         VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?1) RETURNING id",
        params![
            now.millis(),
            f.letterhead.0,
            f.address.normal,
            f.address.key,
            f.given_name,
            serde_json::to_string(&f.topics)?,
            wording.map(|w| w.0),
            f.came_by,
            f.came_from,
            contact.map(|id| id.0),
            known.is_none(),
            state as i64,
            why.unwrap_or_default()
        ],
        |r| r.get(0),
    )?)
}

/// Retired, complained and suppressed addresses never get an invitation, whether somebody here has them or not.
fn barred(c: &Connection, contact: Option<ContactId>, key: &str, letterhead: LetterheadId, now: Instant) -> Result<Option<&'static str>> {
    if let Some(contact) = contact {
        let status: i64 = c.query_row("SELECT status FROM contact WHERE id = ?1", [contact.0], |r| r.get(0))?;
        if status == 3 {
            return Ok(Some("the address is retired"));
        }
        if ledger::stated_for(c, contact, Grant::email(&ledger::entity_of(c, letterhead)?))?.consent == Consent::Complained {
            return Ok(Some("they complained"));
        }
    }
    let target = Target { mailing: MailingId(0), topic: None, letterhead, service: true };
    let suppressed = suppression::names_address(c, target, key, now)?
        || match contact {
            Some(contact) => suppression::naming(c, target, contact, now)?.1 != 0,
            None => false,
        };
    Ok(suppressed.then_some("the address is suppressed"))
}

fn leave_unchosen(c: &Connection, contact: ContactId, chosen: &[i64], now: Instant, origin: &Origin) -> Result<()> {
    if chosen.is_empty() {
        return Ok(());
    }
    for t in crate::topics::names(c)?.iter().filter(|t| !chosen.contains(&t.id)) {
        ledger::leave_topic(c, contact, t.id, now, &Origin { evidence: "not chosen at sign-up".into(), ..origin.clone() })?;
    }
    Ok(())
}

/// An invitation about to be handed over.
#[derive(Debug, Clone)]
pub struct Invitation {
    pub sign_up: i64,
    pub letterhead: LetterheadId,
    pub address: String,
    pub given_name: Option<String>,
}

/// Takes some of the invitations that wait, and marks them as being handed over; says also at how many it looked. What is older than a day is
/// given up, and so is what was being handed over when the process stopped: it goes once. Anybody who came to be barred while
/// theirs waited for a host that put it off gets none.
///
/// # Errors
/// When the database fails.
pub fn claim(c: &Connection, now: Instant) -> Result<(Vec<Invitation>, usize)> {
    c.prepare_cached(formatcp!(
        "UPDATE sign_up SET state = {SIGN_UP_ENDED}, why = 'it waited for more than a day' WHERE state = {SIGN_UP_WAITING} AND at <= ?1"
    ))?
    .execute([(now + -ANSWERS_WITHIN).millis()])?;
    let mut s = c.prepare_cached(
        formatcp!("SELECT id, letterhead_id, address, given_name, address_key FROM sign_up WHERE state = {SIGN_UP_WAITING} AND due_at <= ?1 ORDER BY id LIMIT 100"),
    )?;
    let waiting: Vec<(Invitation, String)> = s
        .query_map([now.millis()], |r| {
            let i = Invitation { sign_up: r.get(0)?, letterhead: LetterheadId(r.get(1)?), address: r.get(2)?, given_name: r.get(3)? };
            Ok((i, r.get(4)?))
        })?
        .collect::<rusqlite::Result<_>>()?;
    let (mut found, looked_at) = (Vec::new(), waiting.len());
    for (i, key) in waiting {
        if let Some(why) = barred(c, contacts::id_of(c, &key)?, &key, i.letterhead, now)? {
            c.prepare_cached(formatcp!("UPDATE sign_up SET state = {SIGN_UP_ENDED}, why = ?2 WHERE id = ?1"))?
                .execute(params![i.sign_up, why])?;
            continue;
        }
        c.prepare_cached(formatcp!("UPDATE sign_up SET state = {SIGN_UP_HANDING_OVER}, tries = tries + 1, invited_at = ?2 WHERE id = ?1"))?
            .execute([i.sign_up, now.millis()])?;
        found.push(i);
    }
    Ok((found, looked_at))
}

/// Writes what the host said to an invitation.
///
/// # Errors
/// When the database fails.
pub fn answered(c: &Connection, sign_up: i64, reply: &Reply, now: Instant) -> Result<()> {
    let tries: i64 = c.prepare_cached("SELECT tries FROM sign_up WHERE id = ?1")?.query_row([sign_up], |r| r.get(0))?;
    // Greylisting only asks to come again.
    let (state, due) = match crate::send_state::next_try(tries).filter(|_| reply.try_again()) {
        _ if reply.accepted() => (State::Invited, now),
        Some(wait) => (State::Waiting, now + wait),
        None => (State::Ended, now),
    };
    let why = if reply.accepted() { String::new() } else { reply.line().chars().take(300).collect() };
    c.prepare_cached(formatcp!("UPDATE sign_up SET state = ?2, why = ?3, due_at = ?4 WHERE id = ?1 AND state = {SIGN_UP_HANDING_OVER}"))?
        .execute(params![sign_up, state as i64, why, due.millis()])?;
    Ok(())
}

/// An invitation came back: it did not reach anybody. What was confirmed all the same stays.
///
/// # Errors
/// When the database fails.
pub fn came_back(c: &Connection, sign_up: i64, reply: &Reply) -> Result<()> {
    let why: String = format!("it came back: {}", reply.line()).chars().take(300).collect();
    c.prepare_cached(formatcp!(
        "UPDATE sign_up SET state = {SIGN_UP_ENDED}, why = ?2 WHERE id = ?1 AND state = {SIGN_UP_INVITED} AND confirmed_at IS NULL"
    ))?
    .execute(params![sign_up, why])?;
    Ok(())
}

/// Anybody who got an invitation marked it as spam: they never get another.
///
/// # Errors
/// When the database fails.
pub fn complained(c: &Connection, sign_up: i64, at: Instant) -> Result<()> {
    let found: Option<(Option<i64>, i64)> =
        c.query_row("SELECT contact_id, letterhead_id FROM sign_up WHERE id = ?1", [sign_up], |r| Ok((r.get(0)?, r.get(1)?))).optional()?;
    let Some((Some(contact), letterhead)) = found else { return Ok(()) };
    let evidence = format!("about the invitation of sign-up {sign_up}");
    let origin =
        Origin { source: "feedback report", evidence, entity: ledger::entity_of(c, LetterheadId(letterhead))?, ..Origin::default() };
    ledger::act(c, ContactId(contact), at, Act::Complained, &origin)?;
    Ok(())
}

/// A sign-up as its confirmation page shows it.
#[derive(Debug, Clone)]
pub struct Asked {
    pub letterhead: LetterheadId,
    pub topics: Vec<String>,
    pub wording: Option<String>,
    pub confirmed: bool,
}

/// The sign-up that an invitation asks about, while it can be confirmed (or was).
///
/// # Errors
/// When the database fails.
pub fn asked(c: &Connection, sign_up: i64, now: Instant) -> Result<Option<Asked>> {
    let found = c
        .prepare_cached("SELECT s.letterhead_id, s.topics, w.text, s.invited_at, s.confirmed_at FROM sign_up s LEFT JOIN consent_wording w ON w.id = s.wording_id WHERE s.id = ?1 AND s.address <> ''")?
        .query_row([sign_up], |r| {
            Ok((LetterheadId(r.get(0)?), r.get::<_, String>(1)?, r.get(2)?, r.get::<_, Option<i64>>(3)?.map(Instant::of), r.get::<_, Option<i64>>(4)?))
        })
        .optional()?;
    let Some((letterhead, topics, wording, invited, confirmed)) = found else { return Ok(None) };
    if !alive(invited, now) {
        return Ok(None);
    }
    let chosen: Vec<i64> = serde_json::from_str(&topics)?;
    let topics = crate::topics::names(c)?.into_iter().filter(|t| chosen.is_empty() || chosen.contains(&t.id)).map(|t| t.name).collect();
    Ok(Some(Asked { letterhead, topics, wording, confirmed: confirmed.is_some() }))
}

/// The person confirms. Returns who they are; `None` when there is nothing (any more) to confirm. The
/// same again changes nothing.
///
/// # Errors
/// When the database fails.
pub fn confirm(c: &Connection, sign_up: i64, now: Instant) -> Result<Option<i64>> {
    if asked(c, sign_up, now)?.is_none() {
        return Ok(None);
    }
    type Row = (Option<i64>, String, String, Option<String>, Option<i64>, bool, Option<i64>, i64);
    let (contact, address, topics, given_name, wording, is_new, confirmed, letterhead): Row = c.query_row(
        "SELECT contact_id, address, topics, given_name, w.version, is_new, confirmed_at, s.letterhead_id FROM sign_up s LEFT JOIN consent_wording w ON w.id = s.wording_id WHERE s.id = ?1",
        [sign_up],
        |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?, r.get(7)?)),
    )?;
    let address = Address::parse(&address).map_err(|e| StoreError::Refused(e.to_string()))?;
    // A merged person's confirmation is for the person they are now.
    let contact = match contacts::id_of(c, &address.key)?.or(contact.map(ContactId)) {
        Some(id) => id,
        None => {
            tombstones::lift(c, &address.key)?;
            let profile = contacts::Profile { given_name, source: Some("sign-up form".into()), ..contacts::Profile::default() };
            contacts::add(c, &address, &profile, now)?
        }
    };
    if confirmed.is_none() {
        let evidence = wording.map_or_else(
            || "confirmed by the link sent to them".to_owned(),
            |v| format!("confirmed by the link sent to them, consent wording version {v}"),
        );
        let origin =
            Origin { source: "invitation", evidence, entity: ledger::entity_of(c, LetterheadId(letterhead))?, ..Origin::default() };
        ledger::act(c, contact, now, Act::Confirmed, &origin)?;
        let chosen: Vec<i64> = serde_json::from_str(&topics)?;
        if is_new {
            leave_unchosen(c, contact, &chosen, now, &origin)?;
        }
        for topic in &chosen {
            ledger::rejoin_topic(c, contact, *topic, now, &origin)?;
        }
        c.execute("UPDATE sign_up SET confirmed_at = ?2, contact_id = ?3 WHERE id = ?1", [sign_up, now.millis(), contact.0])?;
    }
    Ok(Some(contact.0))
}

/// A sign-up as the consent view lists it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Waiting {
    pub id: i64,
    pub at: i64,
    pub address: String,
    pub contact_id: Option<ContactId>,
    pub came_by: String,
    pub invited_at: Option<i64>,
    /// Why no invitation went, when none did.
    pub why: String,
}

/// How many of the invitations that were accepted, and are old enough to tell, were confirmed.
///
/// # Errors
/// When the database fails.
pub fn confirmation_rate(c: &Connection, now: Instant) -> Result<Rate> {
    let (of, n): (i64, i64) = c.query_row(
        formatcp!("SELECT count(*), count(confirmed_at) FROM sign_up WHERE state = {SIGN_UP_INVITED} AND (confirmed_at IS NOT NULL OR invited_at <= ?1)"),
        [(now + -rinse_core::invitation::LIVES).millis()],
        |r| Ok((r.get(0)?, r.get(1)?)),
    )?;
    Ok(Rate::new(n.unsigned_abs(), of.unsigned_abs()))
}

/// Sign-ups of the last 14 days that nobody confirmed, the newest first.
///
/// # Errors
/// When the database fails.
pub fn waiting(c: &Connection, now: Instant) -> Result<Vec<Waiting>> {
    let mut s = c.prepare_cached(
        "SELECT id, at, address, contact_id, came_by, invited_at, why FROM sign_up WHERE confirmed_at IS NULL AND at > ?1 AND address <> '' ORDER BY id DESC LIMIT 200",
    )?;
    let rows = s.query_map([(now + -rinse_core::invitation::LIVES).millis()], |r| {
        Ok(Waiting {
            id: r.get(0)?,
            at: r.get(1)?,
            address: r.get(2)?,
            contact_id: r.get::<_, Option<i64>>(3)?.map(ContactId),
            came_by: r.get(4)?,
            invited_at: r.get(5)?,
            why: r.get(6)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
