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
use crate::stored::As;
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::consent::{Consent, Standing};
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
