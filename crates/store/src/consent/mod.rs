//! Consent: what was agreed to, confirmed, left and suppressed. This file has the view of it: where everybody stands, how that came about, and what
//! waits.

pub mod departed;
pub mod do_not_write;
pub(crate) mod grant;
pub mod ledger;
pub mod signups;
pub mod suppression;
pub mod topics;
pub mod wordings;

use crate::Result;
use crate::codes::{CONFIRMED, CONSENTED, PAUSED};
use crate::send_state::{ACCEPTED, FAILED};
use crate::stored::As;
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::consent::{Consent, Standing};
use rinse_core::id::ContactId;
use rinse_core::report::Rate;
use rusqlite::Connection;
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// People in a state.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct InState {
    pub state: Consent,
    pub people: i64,
}

/// Everybody's state at the end of a month.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MonthOfConsent {
    /// `2026-04`, UTC.
    pub month: String,
    pub states: Vec<InState>,
}

/// Where permission came from.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ConsentSource {
    /// import, sign-up, invitation, analyst, …
    pub source: String,
    pub evidence: String,
    pub people: i64,
}

fn counts(of: &HashMap<i64, Standing>, at: Instant) -> Vec<InState> {
    Consent::ALL
        .into_iter()
        .map(|state| InState { state, people: i64::try_from(of.values().filter(|s| s.at(at) == state).count()).unwrap_or(0) })
        .collect()
}

fn month(at: i64) -> String {
    let iso = Instant::of(at).iso();
    iso.get(..7).unwrap_or_default().to_owned()
}

/// The states at the end of each month, from the ledger; the last one is now. People who are gone
/// count until they went.
///
/// # Errors
/// When the database fails.
pub fn months(c: &Connection, now: Instant) -> Result<Vec<MonthOfConsent>> {
    let mut s = c.prepare_cached(
        "SELECT contact_id, at, kind, until, state FROM ledger WHERE at <= ?1 AND entity = '' AND channel = 1 ORDER BY at, id",
    )?;
    let mut rows = s.query([now.millis()])?;
    let (mut of, mut out, mut current): (HashMap<i64, Standing>, Vec<MonthOfConsent>, Option<String>) = (HashMap::new(), Vec::new(), None);
    while let Some(r) = rows.next()? {
        let (contact, at): (i64, i64) = (r.get(0)?, r.get(1)?);
        let this = month(at);
        if let Some(last) = current.replace(this.clone()).filter(|last| *last != this) {
            out.push(MonthOfConsent { month: last, states: counts(&of, Instant::of(at)) });
        }
        let kind = r.get_ref(2)?.as_str().map_err(rusqlite::Error::from)?;
        if kind == "deleted" || kind == "merged away" {
            of.remove(&contact);
            continue;
        }
        let before = of.get(&contact).copied().unwrap_or_default();
        let until = r.get::<_, Option<i64>>(3)?.map(Instant::of);
        if let Some(after) = ledger::step(before, Instant::of(at), kind, until, r.get(4)?) {
            of.insert(contact, after);
        }
    }
    if let Some(last) = current {
        out.push(MonthOfConsent { month: last, states: counts(&of, now) });
    }
    let from = out.len().saturating_sub(13);
    Ok(out.split_off(from))
}

/// Where the permission of those who have one came from: the entry it rests on, by what it says.
///
/// # Errors
/// When the database fails.
pub fn sources(c: &Connection) -> Result<Vec<ConsentSource>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT l.source, l.evidence, count(*) FROM contact c JOIN ledger l ON l.id = (SELECT max(id) FROM ledger WHERE contact_id = c.id AND kind IN ('agreed', 'confirmed') AND entity = '' AND channel = 1)
         WHERE c.gone IS NULL AND (c.consent IN ({CONSENTED}, {CONFIRMED}) OR c.consent = {PAUSED}) GROUP BY 1, CASE WHEN l.evidence LIKE 'link of %' THEN '' ELSE l.evidence END ORDER BY 3 DESC LIMIT 30"),
    )?;
    let rows = s.query_map([], |r| Ok(ConsentSource { source: r.get(0)?, evidence: r.get(1)?, people: r.get(2)? }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How mail fares, of people of one kind.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Faring {
    pub words: String,
    /// Accepted and not come back, of what was handed over.
    pub delivered: Rate,
    /// Answered by a human click or a reply, of what was delivered: opens aren't asked, since some can't be seen.
    pub answered: Rate,
    pub complained: Rate,
}

/// How mail fared by the recipients' consent at its handover, and by what that consent came by.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FaringByConsent {
    pub since: i64,
    pub by_state: Vec<Faring>,
    pub by_source: Vec<Faring>,
}

/// Marketing of the last so many days is looked at.
const FARING_DAYS: i64 = 180;

/// # Errors
/// When the database fails.
pub fn faring(c: &Connection, now: Instant) -> Result<FaringByConsent> {
    // When each first confirmed, and by what they last gave their permission.
    let mut confirmed: HashMap<ContactId, i64> = HashMap::new();
    let mut source: HashMap<ContactId, String> = HashMap::new();
    let mut s = c.prepare_cached(
        "SELECT contact_id, at, kind, source FROM ledger WHERE kind IN ('agreed', 'confirmed') AND entity = '' AND channel = 1 ORDER BY id",
    )?;
    let mut rows = s.query([])?;
    while let Some(r) = rows.next()? {
        let contact = ContactId(r.get(0)?);
        if r.get_ref(2)?.as_str().map_err(rusqlite::Error::from)? == "confirmed" {
            confirmed.entry(contact).or_insert(r.get(1)?);
        }
        source.insert(contact, r.get(3)?);
    }
    let since = (now + -FARING_DAYS * rinse_core::DAY).millis();
    // Handed over, delivered, answered, complained.
    let mut state: [[u64; 4]; 2] = Default::default();
    let mut by_source: HashMap<String, [u64; 4]> = HashMap::new();
    let mut s = c.prepare_cached(
        formatcp!("SELECT contact_id, handed_at, accepted_at IS NOT NULL AND failed_at IS NULL, click_at IS NOT NULL OR reply_at IS NOT NULL, complained_at IS NOT NULL
         FROM send WHERE class = 1 AND channel = 1 AND at > ?1 AND handed_at IS NOT NULL AND state IN ({ACCEPTED}, {FAILED})
            AND mailing_id IN (SELECT m.id FROM mailing m JOIN letterhead l ON l.id = m.letterhead_id WHERE l.entity = '')"),
    )?;
    let mut rows = s.query([since])?;
    while let Some(r) = rows.next()? {
        let (contact, handed): (_, i64) = (ContactId(r.get(0)?), r.get(1)?);
        let delivered: bool = r.get(2)?;
        let counts = [true, delivered, delivered && r.get(3)?, delivered && r.get(4)?];
        let at = usize::from(confirmed.get(&contact).is_some_and(|t| *t <= handed));
        let add = |sums: &mut [u64; 4]| sums.iter_mut().zip(counts).for_each(|(sum, yes)| *sum += u64::from(yes));
        add(&mut state[at]);
        if let Some(source) = source.get(&contact) {
            add(by_source.entry(source.clone()).or_default());
        }
    }
    let faring = |words: String, n: [u64; 4]| Faring {
        words,
        delivered: Rate::new(n[1], n[0]),
        answered: Rate::new(n[2], n[1]),
        complained: Rate::new(n[3], n[1]),
    };
    let mut by_source: Vec<Faring> = by_source.into_iter().map(|(words, n)| faring(words, n)).collect();
    by_source.sort_by_key(|f| std::cmp::Reverse(f.delivered.of));
    Ok(FaringByConsent { since, by_state: vec![faring("consented".into(), state[0]), faring("confirmed".into(), state[1])], by_source })
}

/// People's consent to something beside email of the first legal entity.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ConsentBeside {
    pub channel: Channel,
    /// Empty: the first.
    pub entity: String,
    pub states: Vec<InState>,
}

/// Of every legal entity that a letterhead writes for: email, and text messages where one sends them.
///
/// # Errors
/// When the database fails.
pub fn beside(c: &Connection) -> Result<Vec<ConsentBeside>> {
    let mut s = c.prepare_cached(
        "SELECT g.channel, g.entity, coalesce(o.consent, 0), count(o.contact_id) FROM (
            SELECT 1 AS channel, entity FROM letterhead WHERE entity <> '' UNION SELECT 2, entity FROM letterhead WHERE text_number <> ''
            UNION SELECT DISTINCT channel, entity FROM other_consent WHERE channel = 2
         ) g LEFT JOIN other_consent o ON o.channel = g.channel AND o.entity = g.entity GROUP BY 1, 2, 3 ORDER BY 1, 2, 3",
    )?;
    let mut out: Vec<ConsentBeside> = Vec::new();
    let mut rows = s.query([])?;
    while let Some(r) = rows.next()? {
        let (channel, entity): (_, String) = (r.get::<_, As<Channel>>(0)?.0, r.get(1)?);
        if out.last().is_none_or(|e| e.entity != entity || e.channel != channel) {
            out.push(ConsentBeside { channel, entity, states: Vec::new() });
        }
        let (As(state), people): (As<Consent>, i64) = (r.get(2)?, r.get(3)?);
        if let Some(e) = out.last_mut().filter(|_| people > 0) {
            e.states.push(InState { state, people });
        }
    }
    Ok(out)
}
