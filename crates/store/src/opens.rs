//! Whose opens can be known: of each domain, what share of the messages of the last 90 days had their images fetched within minutes of
//! delivery. Of a domain that fetches nearly all by itself an open says nothing, which is not the same as no open.
//!
//! A message keeps what was known of its domain when it was handed over. A domain that is found out later is unknown for the messages of
//! the days that it was found out by, too; one that stops fetching is known again for what it gets from then on.

use crate::Result;
use rinse_core::response::{FETCH_DAYS, becomes_unknown, stays_unknown};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use std::collections::HashSet;

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
    at.0.div_euclid(DAY)
}

/// A host accepted a message to somebody; their domain's number.
///
/// # Errors
/// When the database fails.
pub(crate) fn accepted(c: &Connection, contact: i64, at: Instant) -> Result<i64> {
    let domain: i64 = c
        .prepare_cached(
            "UPDATE domain SET delivered = delivered + 1 WHERE id = (SELECT domain_id FROM contact WHERE id = ?1) RETURNING id",
        )?
        .query_row([contact], |r| r.get(0))?;
    c.prepare_cached(
        "INSERT INTO domain_day (domain_id, day, delivered) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET delivered = delivered + 1",
    )?
    .execute([domain, day(at)])?;
    Ok(domain)
}

/// The images of a message were fetched for the first time, within minutes of its delivery at `delivered`.
///
/// # Errors
/// When the database fails.
pub(crate) fn fetched(c: &Connection, domain: i64, delivered: Instant) -> Result<()> {
    let (all, fetched, unknown): (i64, i64, bool) = c
        .prepare_cached("UPDATE domain SET fetched = fetched + 1 WHERE id = ?1 RETURNING delivered, fetched, opens_unknown")?
        .query_row([domain], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    c.prepare_cached(
        "INSERT INTO domain_day (domain_id, day, fetched) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET fetched = fetched + 1",
    )?
    .execute([domain, day(delivered)])?;
    if !unknown && becomes_unknown(all, fetched) {
        c.prepare_cached("UPDATE domain SET opens_unknown = 1 WHERE id = ?1")?.execute([domain])?;
        c.prepare_cached("INSERT INTO opens_unknown_due (domain_id, since, upto) VALUES (?1, ?2, 0) ON CONFLICT DO UPDATE SET since = min(since, excluded.since), upto = 0")?
            .execute([domain, (day(delivered) - FETCH_DAYS) * DAY])?;
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
    for (domain, delivered, fetched) in found {
        if !stays_unknown(delivered, fetched) {
            c.prepare_cached("UPDATE domain SET opens_unknown = 0 WHERE id = ?1")?.execute([domain])?;
        }
    }
    Ok(())
}

/// Marks messages to domains that were found out, of `most` people; true when there are more.
///
/// # Errors
/// When the database fails.
pub fn mark_some(c: &Connection, most: u32) -> Result<bool> {
    let mut s = c.prepare_cached("SELECT domain_id, since, upto FROM opens_unknown_due LIMIT 1")?;
    let Some((domain, since, upto)) =
        s.query_map([], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?, r.get::<_, i64>(2)?)))?.next().transpose()?
    else {
        return Ok(false);
    };
    let last: Option<i64> = c
        .prepare_cached(
            "SELECT max(id) FROM (SELECT id FROM contact INDEXED BY contact_domain WHERE domain_id = ?1 AND id > ?2 ORDER BY id LIMIT ?3)",
        )?
        .query_row(params![domain, upto, most], |r| r.get(0))?;
    let Some(last) = last else {
        c.prepare_cached("DELETE FROM opens_unknown_due WHERE domain_id = ?1")?.execute([domain])?;
        return Ok(true);
    };
    c.prepare_cached(
        "UPDATE send SET opens_unknown = 1 WHERE id IN (
            SELECT s.id FROM contact k INDEXED BY contact_domain CROSS JOIN send s INDEXED BY send_contact ON s.contact_id = k.id
            WHERE k.domain_id = ?1 AND k.id > ?2 AND k.id <= ?3 AND s.handed_at >= ?4 AND s.channel = 1 AND s.opens_unknown = 0)",
    )?
    .execute([domain, upto, last, since])?;
    c.prepare_cached("UPDATE opens_unknown_due SET upto = ?2 WHERE domain_id = ?1")?.execute([domain, last])?;
    Ok(true)
}
