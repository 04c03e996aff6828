//! Whose opens can be known: of each domain, what share of the messages of the last 90 days had their images fetched within minutes of
//! delivery. Of a domain that fetches nearly all by itself an open says nothing, which is not the same as no open.
//!
//! A message keeps what was known of its domain when it was handed over. A domain that is found out later is unknown for the messages of
//! the days that it was found out by, too; one that stops fetching is known again for what it gets from then on.

use super::{in_force, judging};
use crate::Result;
use rinse_core::id::{ContactId, SendId};
use rinse_core::response::{FETCH_DAYS, FETCH_SPAN, Rules};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashSet;
use utoipa::ToSchema;

/// The domains whose opens can't be told from a machine's, in SQL.
pub(crate) const UNKNOWN_DOMAINS: &str = "SELECT id FROM domain WHERE opens_unknown = 1";

/// Whether the opens of a message's person can't be known as it is handed over, in SQL over `send`.
pub(crate) const OF_ITS_DOMAIN: &str = "coalesce((SELECT d.opens_unknown FROM contact k JOIN domain d ON d.id = k.domain_id WHERE k.id = send.contact_id AND send.channel = 1), 0)";

/// Their numbers.
///
/// # Errors
/// When the database fails.
pub fn unknown_domains(c: &Connection) -> Result<HashSet<i64>> {
    Ok(c.prepare_cached(UNKNOWN_DOMAINS)?.query_map([], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

/// The share of the mail of the last days that went to people whose opens can't be known; none where there was none.
///
/// # Errors
/// When the database fails.
pub fn unknown_share(c: &Connection) -> Result<Option<f64>> {
    Ok(c.prepare_cached("SELECT 1.0 * sum(delivered * opens_unknown) / nullif(sum(delivered), 0) FROM domain")?
        .query_row([], |r| r.get(0))?)
}

fn day(at: Instant) -> i64 {
    at.millis().div_euclid(DAY)
}

/// A host accepted a message to somebody; their domain's number.
///
/// # Errors
/// When the database fails.
pub(crate) fn accepted(c: &Connection, contact: ContactId, at: Instant) -> Result<i64> {
    let domain: i64 = c
        .prepare_cached(
            "UPDATE domain SET delivered = delivered + 1 WHERE id = (SELECT domain_id FROM contact WHERE id = ?1) RETURNING id",
        )?
        .query_row([contact.0], |r| r.get(0))?;
    c.prepare_cached(
        "INSERT INTO domain_day (domain_id, day, delivered) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET delivered = delivered + 1",
    )?
    .execute([domain, day(at)])?;
    Ok(domain)
}

/// The images of a message were fetched for the first time, within minutes of its delivery.
///
/// # Errors
/// When the database fails.
pub(crate) fn fetched(c: &Connection, of: &judging::Known) -> Result<()> {
    let (domain, delivered, (all, before)) = (of.domain, of.delivered_at, of.of_domain);
    c.prepare_cached("UPDATE domain SET fetched = fetched + 1 WHERE id = ?1")?.execute([domain])?;
    c.prepare_cached(
        "INSERT INTO domain_day (domain_id, day, fetched) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET fetched = fetched + 1",
    )?
    .execute([domain, day(delivered)])?;
    if !of.domain_unknown && in_force(c, None)?.1.becomes_unknown(all, before + 1) {
        found(c, domain, true, window(delivered))?;
    }
    Ok(())
}

/// The beginning of the days by which a domain is judged.
pub(super) fn window(at: Instant) -> Instant {
    Instant::of(day(at) * DAY - FETCH_SPAN)
}

/// A domain is found to fetch by itself, or not to, by rules that hold for the messages since an instant: they are marked in parts.
fn found(c: &Connection, domain: i64, unknown: bool, since: Instant) -> Result<()> {
    c.prepare_cached("UPDATE domain SET opens_unknown = ?2 WHERE id = ?1")?.execute(params![domain, unknown])?;
    c.prepare_cached(
        "INSERT INTO opens_unknown_due (domain_id, since, upto, opens_unknown) VALUES (?1, ?2, 0, ?3)
         ON CONFLICT DO UPDATE SET since = min(since, excluded.since), upto = 0, opens_unknown = excluded.opens_unknown",
    )?
    .execute(params![domain, since.millis(), unknown])?;
    Ok(())
}

/// A domain whose opens other rules would find, or wouldn't, to be its own fetching.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct DomainFound {
    #[serde(skip)]
    pub(super) id: i64,
    pub domain: String,
    /// Messages of the last 90 days, and those fetched within five minutes of delivery.
    pub messages: i64,
    pub fetched: i64,
    /// Its people's opens would be unknown; otherwise they'd be known again.
    pub unknown: bool,
}

/// The domains of which other rules say something else than those before: not those that have changed by themselves, which the next day finds.
pub(super) fn found_otherwise(c: &Connection, before: &Rules, rules: &Rules, now: Instant) -> Result<Vec<DomainFound>> {
    let mut s = c.prepare_cached(
        "SELECT d.id, d.name, d.delivered, d.fetched, d.opens_unknown, coalesce(sum(o.delivered), 0), coalesce(sum(o.fetched), 0)
         FROM domain d LEFT JOIN domain_day o ON o.domain_id = d.id AND o.day < ?1 AND d.opens_unknown = 1
         WHERE d.opens_unknown = 1 OR d.fetched > 0 GROUP BY d.id ORDER BY d.delivered DESC, d.id",
    )?;
    let (mut rows, mut out) = (s.query([day(now)])?, Vec::new());
    while let Some(r) = rows.next()? {
        let (unknown, all, fetched): (bool, i64, i64) = (r.get(4)?, r.get(2)?, r.get(3)?);
        // Of today's messages the images may still be fetched: they can find a domain, and can't let it go.
        let (of_days, fetched_of_days): (i64, i64) = (r.get(5)?, r.get(6)?);
        let otherwise = if unknown {
            before.stays_unknown(of_days, fetched_of_days) && !rules.stays_unknown(of_days, fetched_of_days)
        } else {
            rules.becomes_unknown(all, fetched)
        };
        if otherwise {
            out.push(DomainFound { id: r.get(0)?, domain: r.get(1)?, messages: all, fetched, unknown: !unknown });
        }
    }
    Ok(out)
}

/// Other rules come into force: what they say of domains holds for the messages of the days by which these are judged.
pub(super) fn by_other_rules(c: &Connection, before: &Rules, rules: &Rules, now: Instant) -> Result<()> {
    for d in found_otherwise(c, before, rules, now)? {
        found(c, d.id, d.unknown, window(now))?;
    }
    Ok(())
}

/// Days that are over the window fall out; a domain that doesn't fetch any more can be known again. Once a day.
///
/// # Errors
/// When the database fails.
pub fn move_on(c: &Connection, now: Instant) -> Result<()> {
    let (first, today) = (day(now) - FETCH_DAYS, day(now));
    c.execute(
        "UPDATE domain SET delivered = max(0, domain.delivered - o.delivered), fetched = max(0, domain.fetched - o.fetched)
         FROM (SELECT domain_id, sum(delivered) AS delivered, sum(fetched) AS fetched FROM domain_day WHERE day < ?1 GROUP BY domain_id) o WHERE id = o.domain_id",
        [first],
    )?;
    c.execute("DELETE FROM domain_day WHERE day < ?1", [first])?;
    // Of today's messages the images may still be fetched.
    let mut s = c.prepare_cached(
        "SELECT d.id, coalesce(sum(o.delivered), 0), coalesce(sum(o.fetched), 0) FROM domain d LEFT JOIN domain_day o ON o.domain_id = d.id AND o.day < ?1
         WHERE d.opens_unknown = 1 GROUP BY d.id",
    )?;
    let found: Vec<(i64, i64, i64)> = s.query_map([today], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?;
    let rules = in_force(c, None)?.1;
    for (domain, delivered, fetched) in found {
        if !rules.stays_unknown(delivered, fetched) {
            c.prepare_cached("UPDATE domain SET opens_unknown = 0 WHERE id = ?1")?.execute([domain])?;
        }
    }
    Ok(())
}

/// Marks messages to domains that were found out, or that other rules let go, of `most` people, and judges what came for them again; true when
/// there are more.
///
/// # Errors
/// When the database fails.
pub fn mark_some(c: &Connection, most: u32) -> Result<bool> {
    let mut s = c.prepare_cached("SELECT domain_id, since, upto, opens_unknown FROM opens_unknown_due LIMIT 1")?;
    let row = |r: &rusqlite::Row<'_>| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?, r.get::<_, i64>(2)?, r.get::<_, bool>(3)?));
    let Some((domain, since, upto, unknown)) = s.query_map([], row)?.next().transpose()? else { return Ok(false) };
    let last: Option<i64> = c
        .prepare_cached(
            "SELECT max(id) FROM (SELECT id FROM contact INDEXED BY contact_domain WHERE domain_id = ?1 AND id > ?2 ORDER BY id LIMIT ?3)",
        )?
        .query_row(params![domain, upto, most], |r| r.get(0))?;
    let Some(last) = last else {
        c.prepare_cached("DELETE FROM opens_unknown_due WHERE domain_id = ?1")?.execute([domain])?;
        return Ok(true);
    };
    let marked: Vec<(i64, bool)> = c
        .prepare_cached(
            "UPDATE send SET opens_unknown = ?5 WHERE id IN (
                SELECT s.id FROM contact k INDEXED BY contact_domain CROSS JOIN send s INDEXED BY send_contact ON s.contact_id = k.id
                WHERE k.domain_id = ?1 AND k.id > ?2 AND k.id <= ?3 AND s.handed_at >= ?4 AND s.channel = 1 AND s.opens_unknown <> ?5)
             RETURNING id, any_open_at IS NOT NULL",
        )?
        .query_map(params![domain, upto, last, since, unknown], |r| Ok((r.get(0)?, r.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    for (send, _) in marked.into_iter().filter(|m| m.1) {
        judging::judge(c, SendId(send))?;
    }
    c.prepare_cached("UPDATE opens_unknown_due SET upto = ?2 WHERE domain_id = ?1")?.execute(params![domain, last])?;
    Ok(true)
}
