//! How lists grow: who joined, who left, whose address was retired, by month.

use crate::Result;
use rinse_core::Instant;
use rusqlite::{Connection, params_from_iter, types::Value};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// One month (UTC) of the chosen lists, or of everyone.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, ToSchema)]
pub struct Month {
    /// As 2026-04.
    pub month: String,
    pub joined: i64,
    /// Withdrew or complained; each person once, at the first time.
    pub left: i64,
    /// Their address was retired (and they had not left before).
    pub bounced: i64,
    pub net: i64,
    /// Joined until the month's end, less left and bounced.
    pub reachable: i64,
}

/// Growth by month, from the first joining to `now`; months without any change stand too. A person on
/// several of the lists is one, from the first they joined. No lists: everyone, from when they were added.
///
/// # Errors
/// When the database fails.
pub fn growth(c: &Connection, lists: &[i64], now: Instant) -> Result<Vec<Month>> {
    let members = if lists.is_empty() {
        // Who was merged or came by mistake never joined; who was deleted did, and left.
        "SELECT id AS contact_id, added_at AS joined_at FROM contact WHERE coalesce(gone, 1) = 1".to_owned()
    } else {
        format!(
            "SELECT contact_id, min(joined_at) AS joined_at FROM list_member WHERE list_id IN ({}) GROUP BY contact_id",
            vec!["?"; lists.len()].join(",")
        )
    };
    // What ended a membership counts from the joining on; the first such thing is the one.
    let sql = format!(
        "WITH member AS ({members}), ended AS (
            SELECT l.contact_id, min(max(l.at, m.joined_at)) AS at, l.kind = 'retired' AS bounced FROM ledger l JOIN member m ON m.contact_id = l.contact_id
            WHERE l.kind IN ('withdrew', 'complained', 'retired', 'deleted') GROUP BY l.contact_id)
         SELECT strftime('%Y-%m', at / 1000, 'unixepoch') AS month, sum(what = 0), sum(what = 1), sum(what = 2) FROM (
            SELECT joined_at AS at, 0 AS what FROM member UNION ALL SELECT at, CASE WHEN bounced THEN 2 ELSE 1 END FROM ended)
         GROUP BY month ORDER BY month"
    );
    let mut s = c.prepare(&sql)?;
    let rows = s.query_map(params_from_iter(lists.iter().copied().map(Value::from)), |r| {
        Ok((r.get::<_, String>(0)?, (r.get::<_, i64>(1)?, r.get::<_, i64>(2)?, r.get::<_, i64>(3)?)))
    })?;
    let changes: BTreeMap<String, (i64, i64, i64)> = rows.collect::<rusqlite::Result<_>>()?;
    let Some(first) = changes.keys().next().cloned() else { return Ok(vec![]) };
    let last = rinse_core::segment::evaluate::date_words(rinse_core::segment::evaluate::day_of(now));
    let (mut out, mut month, mut reachable) = (Vec::new(), first, 0);
    while month.as_str() <= &last[..7.min(last.len())] && out.len() < 1_200 {
        let (joined, left, bounced) = changes.get(&month).copied().unwrap_or_default();
        let net = joined - left - bounced;
        reachable += net;
        out.push(Month { month: month.clone(), joined, left, bounced, net, reachable });
        month = next(&month);
    }
    Ok(out)
}

/// The month after one written as 2026-04.
fn next(month: &str) -> String {
    let (year, m) = month.split_once('-').unwrap_or((month, "12"));
    match (year.parse::<i64>().unwrap_or(0), m.parse::<i64>().unwrap_or(12)) {
        (y, 12) => format!("{:04}-01", y + 1),
        (y, m) => format!("{y:04}-{:02}", m + 1),
    }
}
