//! People of rounds that another system sent, who got their message at another hour than the one they were drawn to.

use super::answers::WITHIN;
use crate::Result;
use const_format::formatcp;
use rinse_core::MINUTE;
use rinse_core::history::CROSSED_AT_MOST;
use rinse_core::id::HourTrialId;
use rinse_core::words::thousands;
use rusqlite::Connection;

/// So long before their hour is their hour still.
const EARLY: i64 = 15 * MINUTE;

/// Whose message went at another hour, in SQL.
pub(crate) const OFF: &str = formatcp!("coalesce(s.handed_at NOT BETWEEN h.due - {EARLY} AND h.due + {WITHIN}, 0)");

/// Why a trial is void, by who got their message before their hour from another system (who got it late is lost, as in a round of our own). They
/// are read at the hour that they were drawn to, which brings the hours nearer to each other: a hundredth is lost in the noise, more isn't.
///
/// # Errors
/// When the database fails.
pub fn crossed(c: &Connection, trial: HourTrialId) -> Result<Option<String>> {
    let mut s = c.prepare_cached(formatcp!(
        "SELECT h.hour, count(s.handed_at), coalesce(sum(s.handed_at < h.due - {EARLY}), 0) FROM hour_round r JOIN mailing m ON m.id = r.mailing_id
         JOIN hour_roster h ON h.mailing_id = m.id JOIN send s ON s.mailing_id = h.mailing_id AND s.contact_id = h.contact_id
         WHERE r.trial_id = ?1 AND r.missed IS NULL AND m.handed_out = 1 GROUP BY 1 ORDER BY 1"
    ))?;
    let hours: Vec<(i64, i64, i64)> =
        s.query_map([trial.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?;
    let n = |n: i64| thousands(n.unsigned_abs());
    Ok(hours.into_iter().find(|(_, told, crossed)| crossed * CROSSED_AT_MOST > *told).map(|(hour, told, crossed)| {
        format!(
            "{} of {} people who were drawn to {hour:02}:00 got their message before that hour from the other sender: more than 1 in {CROSSED_AT_MOST}.",
            n(crossed),
            n(told)
        )
    }))
}
