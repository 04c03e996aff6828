//! The same against itself: the people of every plain mailing are split at random into two halves that get the same message,
//! and are read as a trial's arms would be. Of such readings alpha of 5% calls one in twenty; more would say that something
//! in assignment, counting or test is wrong.

use crate::Result;
use crate::codes::MAILING_SENT;
use const_format::formatcp;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::report::Rate;
use rinse_core::stats::Arm;
use rinse_core::stats::two_proportions::score_test;
use rinse_core::trial::assign;
use rinse_core::trial::metric::Metric;
use rinse_core::trial::plan::LEAST_PER_ARM;
use rinse_core::{HOUR, Instant};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is counted, and until when.
const METRICS: [Metric; 3] = [Metric::HumanOpen, Metric::HumanClick, Metric::Leaving];
const WINDOW: i64 = 72 * HOUR;
const ALPHA: f64 = 0.05;

/// The two halves of a mailing on one metric.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Found {
    pub metric: Metric,
    pub halves: [Arm; 2],
    pub p_value: f64,
}

/// Splits a mailing that is about to go out; one with variants has a trial of its own, or none is asked for. Nobody opens a
/// text message. `seed`: below 2^63, as it is kept.
///
/// # Errors
/// When the database fails.
pub fn begin(c: &Connection, mailing: MailingId, seed: u64, now: Instant) -> Result<()> {
    c.execute(
        "INSERT INTO self_check (mailing_id, seed, made_at) SELECT ?1, ?2, ?3 WHERE (SELECT count(*) FROM variant WHERE mailing_id = ?1) = 1
            AND (SELECT channel FROM mailing WHERE id = ?1) = 1 ON CONFLICT DO NOTHING",
        params![mailing.0, seed.cast_signed(), now.millis()],
    )?;
    Ok(())
}

/// Reads those whose last person's window is over; each mailing with what was found.
///
/// # Errors
/// When the database fails.
pub fn read_due(c: &Connection, now: Instant) -> Result<Vec<(i64, Vec<Found>)>> {
    let due: Vec<(i64, i64)> = c
        .prepare_cached(
            formatcp!("SELECT mailing_id, seed FROM self_check JOIN mailing m ON m.id = mailing_id WHERE read_at IS NULL AND m.state = {MAILING_SENT} AND m.finished_at + ?2 <= ?1"),
        )?
        .query_map([now.millis(), WINDOW], |r| Ok((r.get(0)?, r.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    due.into_iter().map(|(mailing, seed)| Ok((mailing, halves(c, MailingId(mailing), seed.cast_unsigned())?))).collect()
}

/// Keeps what was found.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, found: &[(i64, Vec<Found>)], now: Instant) -> Result<()> {
    let mut s = c.prepare_cached("UPDATE self_check SET read_at = ?2, found = ?3 WHERE mailing_id = ?1 AND read_at IS NULL")?;
    for (mailing, found) in found {
        s.execute(params![mailing, now.millis(), serde_json::to_string(found)?])?;
    }
    Ok(())
}

/// When the next one is read.
///
/// # Errors
/// When the database fails.
pub fn next_due(c: &Connection) -> Result<Option<Instant>> {
    let sql = formatcp!(
        "SELECT min(m.finished_at) FROM self_check JOIN mailing m ON m.id = mailing_id WHERE read_at IS NULL AND m.state = {MAILING_SENT}"
    );
    let finished: Option<i64> = c.prepare_cached(sql)?.query_row([], |r| r.get(0))?;
    Ok(finished.map(|at| Instant::of(at + WINDOW)))
}

/// Both halves on each metric; empty where they are too few for a test.
fn halves(c: &Connection, mailing: MailingId, seed: u64) -> Result<Vec<Found>> {
    let mut s = c.prepare_cached(
        "SELECT contact_id, coalesce(open_at < handed_at + ?2, 0), coalesce(click_at < handed_at + ?2, 0), coalesce(left_at < handed_at + ?2, 0), opens_unknown
         FROM send WHERE mailing_id = ?1 AND handed_at IS NOT NULL",
    )?;
    let mut rows = s.query(params![mailing.0, WINDOW])?;
    let mut counts = [[Arm { successes: 0, trials: 0 }; 2]; 3];
    while let Some(r) = rows.next()? {
        let half = usize::from(assign::in_second_half(seed, ContactId(r.get(0)?)));
        let unknown: bool = r.get(4)?;
        for (i, arms) in counts.iter_mut().enumerate().filter(|(i, _)| METRICS[*i] != Metric::HumanOpen || !unknown) {
            arms[half].trials += 1;
            arms[half].successes += u64::from(r.get::<_, bool>(i + 1)?);
        }
    }
    if counts[0].iter().any(|a| a.trials < LEAST_PER_ARM) {
        return Ok(Vec::new());
    }
    METRICS
        .into_iter()
        .zip(counts)
        .map(|(metric, halves)| {
            let p_value = score_test(halves[0], halves[1]).map_err(|e| crate::StoreError::Refused(e.to_string()))?.1;
            Ok(Found { metric, halves, p_value })
        })
        .collect()
}

/// How often the same was called different from itself.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SelfCheck {
    pub metric: Metric,
    /// Mailings read, and those called at 5%.
    pub called: Rate,
}

/// All checks that were read.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<SelfCheck>> {
    let mut s = c.prepare_cached("SELECT found FROM self_check WHERE read_at IS NOT NULL")?;
    let rows = s.query_map([], |r| r.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
    let mut found: Vec<Found> = Vec::new();
    for row in rows {
        found.extend(serde_json::from_str::<Vec<Found>>(&row)?);
    }
    Ok(METRICS
        .into_iter()
        .filter_map(|metric| {
            // Where nothing varied there was nothing to call.
            let of: Vec<&Found> = found.iter().filter(|f| f.metric == metric && f.halves.iter().any(|a| a.successes > 0)).collect();
            let called = of.iter().filter(|f| f.p_value < ALPHA).count();
            (!of.is_empty()).then(|| SelfCheck { metric, called: Rate::new(called as u64, of.len() as u64) })
        })
        .collect())
}
