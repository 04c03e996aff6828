//! What the guides are worked out from: the recency guide's observations, the sources' counts.

use crate::{Result, settings};
use rinse_core::cap_guide::Drawn;
use rinse_core::recency::{Costs, Guide, Observation, guide};
use rinse_core::source::{Counts, Quality, WEEKS_BEFORE, quality};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};

/// Messages handed over in this time are looked at …
const LOOK_BACK: i64 = 180 * DAY;
/// … and left to ripen so long.
const RIPE: i64 = 7 * DAY;

/// One ripe message of each person, with what came of it and when they had answered before.
///
/// It is drawn by a keyed hash, not the latest: people who complain or leave get no more mail, so
/// their latest message is always the one they left by, and losses would count several times over.
///
/// # Errors
/// When the database fails.
pub fn observations(c: &Connection, now: Instant) -> Result<Vec<Observation>> {
    let mut s = c.prepare_cached(&format!(
        "WITH drawn AS (SELECT id, min(stable_share('recency', id)) FROM send WHERE class = 1 AND channel = 1 AND handed_at > ?1 AND handed_at <= ?2 GROUP BY contact_id)
         SELECT s.contact_id, s.id, s.handed_at, s.open_at IS NOT NULL, s.click_at IS NOT NULL, s.complained_at IS NOT NULL,
            s.left_at IS NOT NULL AND s.complained_at IS NULL, s.failed_at IS NOT NULL, k.domain_id IN ({})
         FROM drawn l CROSS JOIN send s ON s.id = l.id JOIN contact k ON k.id = s.contact_id",
        crate::machines::opens::UNKNOWN_DOMAINS
    ))?;
    // A message's first answer of each kind stands on its row; answers after the message at hand
    // are no part of what was known when it went out.
    let mut before = c.prepare_cached(
        "SELECT max(CASE WHEN open_at < ?3 THEN open_at END), max(CASE WHEN click_at < ?3 THEN click_at END), max(CASE WHEN reply_at < ?3 THEN reply_at END)
         FROM send WHERE contact_id = ?1 AND id < ?2",
    )?;
    let mut since = c.prepare_cached("SELECT count(*) FROM send WHERE contact_id = ?1 AND id <= ?2 AND handed_at > ?3")?;
    let mut rows = s.query(params![(now + -LOOK_BACK).millis(), (now + -RIPE).millis()])?;
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let (contact, send, handed): (i64, i64, i64) = (r.get(0)?, r.get(1)?, r.get(2)?);
        let answered: Option<i64> = before.query_row(params![contact, send, handed], |b| {
            Ok([b.get::<_, Option<i64>>(0)?, b.get(1)?, b.get(2)?].into_iter().flatten().max())
        })?;
        let mailed_since: u32 = since.query_row(params![contact, send, answered.unwrap_or(0)], |b| b.get(0))?;
        out.push(Observation {
            since_answer: answered.map(|a| handed - a),
            mailed_since,
            opened: r.get(3)?,
            clicked: r.get(4)?,
            complained: r.get(5)?,
            withdrew: r.get(6)?,
            bounced: r.get(7)?,
            open_blind: r.get(8)?,
        });
    }
    Ok(out)
}

/// One ripe message of each person that a host accepted, with how many they had got by then and what
/// came of it. Drawn as for [`observations`].
///
/// # Errors
/// When the database fails.
pub fn cap_guide(c: &Connection, now: Instant) -> Result<Vec<Drawn>> {
    let mut s = c.prepare_cached(
        "WITH drawn AS (SELECT id, min(stable_share('cap guide', id)) FROM send WHERE class = 1 AND channel = 1 AND accepted_at > ?1 AND accepted_at <= ?2 GROUP BY contact_id)
         SELECT (SELECT count(*) FROM send x WHERE x.contact_id = s.contact_id AND x.class = 1 AND x.accepted_at > s.accepted_at - ?3 AND x.accepted_at <= s.accepted_at),
            coalesce(s.open_at, s.click_at, s.reply_at) IS NOT NULL, s.opens_unknown,
            EXISTS (SELECT 1 FROM ledger l WHERE l.contact_id = s.contact_id AND l.send_id = s.id AND l.kind = 'withdrew'),
            EXISTS (SELECT 1 FROM ledger l WHERE l.contact_id = s.contact_id AND l.send_id = s.id AND l.kind = 'left topic'),
            s.complained_at IS NOT NULL
         FROM drawn d CROSS JOIN send s ON s.id = d.id JOIN contact k ON k.id = s.contact_id WHERE k.gone IS NULL",
    )?;
    let rows = s.query_map(params![(now + -LOOK_BACK).millis(), (now + -RIPE).millis(), rinse_core::cap_guide::DAYS * DAY], |r| {
        Ok(Drawn {
            got: r.get(0)?,
            answered: r.get(1)?,
            opens_unknown: r.get(2)?,
            withdrew: r.get(3)?,
            left_topic: r.get(4)?,
            complained: r.get(5)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The costs that were set, or the ones to start with.
///
/// # Errors
/// When the database fails.
pub fn costs(c: &Connection) -> Result<Costs> {
    Ok(match settings::get(c, "recency_costs")? {
        Some(text) => serde_json::from_str(&text)?,
        None => Costs::default(),
    })
}

/// # Errors
/// When the database fails.
pub fn save_costs(c: &Connection, costs: &Costs) -> Result<()> {
    settings::set(c, "recency_costs", &serde_json::to_string(costs)?)
}

/// The recency guide at an instant.
///
/// # Errors
/// When the database fails.
pub fn recency(c: &Connection, now: Instant) -> Result<(Guide, Costs)> {
    let costs = costs(c)?;
    Ok((guide(&observations(c, now)?, &costs), costs))
}

/// The sources whose sign-ups of the last week jumped: the alarm alone, without the year's mail.
///
/// # Errors
/// When the database fails.
pub fn jumps(c: &Connection, now: Instant) -> Result<Vec<Quality>> {
    let week = (now + -7 * DAY).millis();
    let before = week - i64::from(WEEKS_BEFORE) * 7 * DAY;
    let mut s = c.prepare_cached(
        "SELECT nullif(trim(source), ''), sum(added_at > ?1), sum(added_at <= ?1) FROM contact WHERE added_at > ?2 AND added_at <= ?3 AND gone IS NULL GROUP BY 1",
    )?;
    let all = s.query_map([week, before, now.millis()], |r| {
        let counts =
            Counts { last_week: r.get::<_, i64>(1)?.unsigned_abs(), before: r.get::<_, i64>(2)?.unsigned_abs(), ..Counts::default() };
        Ok(quality(r.get(0)?, &counts))
    })?;
    Ok(all.collect::<rusqlite::Result<Vec<_>>>()?.into_iter().filter(|q| q.jumped).collect())
}

/// Every source with its quality, the one with most people first.
///
/// # Errors
/// When the database fails.
pub fn sources(c: &Connection, now: Instant) -> Result<Vec<Quality>> {
    let week = (now + -7 * DAY).millis();
    let before = week - i64::from(WEEKS_BEFORE) * 7 * DAY;
    let sql = format!(
        "WITH mail AS (
            SELECT contact_id, max(category = 1 AND failed_at IS NOT NULL) AS bounced, max(complained_at IS NOT NULL) AS complained,
                sum(handed_at > ?1) AS recent, max(coalesce(open_at, click_at, reply_at) IS NOT NULL AND handed_at > ?1) AS answered
            FROM send WHERE handed_at IS NOT NULL AND class = 1 AND channel = 1 GROUP BY contact_id)
         SELECT nullif(trim(k.source), ''), count(*), count(m.contact_id), coalesce(sum(m.bounced), 0), coalesce(sum(m.complained), 0),
            coalesce(sum(m.recent >= 4 AND k.domain_id NOT IN ({blind}) AND NOT m.answered), 0),
            coalesce(sum(m.recent >= 4 AND k.domain_id NOT IN ({blind})), 0),
            sum(k.id IN (SELECT contact_id FROM purchase WHERE cents > 0)), sum(k.added_at > ?2), sum(k.added_at > ?3 AND k.added_at <= ?2)
         FROM contact k LEFT JOIN mail m ON m.contact_id = k.id WHERE k.gone IS NULL GROUP BY 1 ORDER BY 2 DESC",
        blind = crate::machines::opens::UNKNOWN_DOMAINS
    );
    let mut s = c.prepare_cached(&sql)?;
    let rows = s.query_map(params![(now + -LOOK_BACK).millis(), week, before], |r| {
        let n = |i: usize| r.get::<_, i64>(i).map(i64::unsigned_abs);
        let counts = Counts {
            people: n(1)?,
            mailed: n(2)?,
            bounced: n(3)?,
            complained: n(4)?,
            silent: n(5)?,
            could_answer: n(6)?,
            bought: n(7)?,
            last_week: n(8)?,
            before: n(9)?,
        };
        Ok(quality(r.get(0)?, &counts))
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
