//! Where people's responses come from: networks and agents of which many come soon after delivery may be machines that no rule knows yet.

use crate::Result;
use rinse_core::{DAY, Instant, MINUTE};
use rusqlite::{Connection, Row, params};
use serde::Serialize;
use utoipa::ToSchema;

/// How far back.
pub const DAYS: i64 = 90;
/// Few people click so soon after delivery.
const SOON: i64 = 2 * MINUTE;
/// From fewer messages nothing is told.
const LEAST: i64 = 10;
const TOLD: u32 = 12;

/// A network or an agent from which responses came that count as people's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Origin {
    /// As it stands in a list of the rules.
    pub name: String,
    /// A network; otherwise an agent.
    pub network: bool,
    pub opens: i64,
    pub clicks: i64,
    pub messages: i64,
    /// Opens and clicks within two minutes of delivery.
    pub soon: i64,
    /// The domain that one of these messages went to.
    pub domain: String,
}

/// The origins of which the most responses came within two minutes of delivery and count as people's, of the last [`DAYS`].
///
/// # Errors
/// When the database fails.
pub fn told(c: &Connection, now: Instant) -> Result<Vec<Origin>> {
    let first = first_since(c, now + -DAYS * DAY)?;
    let mut all = by(c, true, first)?;
    all.extend(by(c, false, first)?);
    Ok(all)
}

/// The first response that came in since an instant: they are numbered as they come in.
pub(super) fn first_since(c: &Connection, since: Instant) -> Result<i64> {
    let at = |id: i64| -> Result<Option<i64>> {
        let mut s = c.prepare_cached("SELECT at FROM response WHERE id >= ?1 ORDER BY id LIMIT 1")?;
        Ok(s.query_map([id], |r| r.get(0))?.next().transpose()?)
    };
    let (mut low, mut high): (i64, i64) = (0, c.query_row("SELECT coalesce(max(id), 0) + 1 FROM response", [], |r| r.get(0))?);
    while low < high {
        let middle = low + (high - low) / 2;
        if at(middle)?.is_some_and(|at| at < since.millis()) { low = middle + 1 } else { high = middle }
    }
    Ok(low)
}

fn by(c: &Connection, network: bool, first: i64) -> Result<Vec<Origin>> {
    let (name, join) = if network { ("n.network", "JOIN network n ON n.id = r.network_id") } else { ("r.agent", "") };
    let mut s = c.prepare(&format!(
        "SELECT {name}, sum(r.kind = 1), sum(r.kind = 2), count(DISTINCT r.send_id), sum(r.at - coalesce(s.accepted_at, s.handed_at, s.at) < ?2) AS soon, max(s.contact_id)
         FROM response r {join} JOIN send s ON s.id = r.send_id
         WHERE r.id >= ?1 AND r.kind IN (1, 2) AND r.machine = 0 AND r.agent NOT IN ('', 'button') GROUP BY 1 HAVING soon > 0 AND count(DISTINCT r.send_id) >= ?3
         ORDER BY soon DESC, 1 LIMIT ?4"
    ))?;
    let mut domain = c.prepare_cached("SELECT d.name FROM contact k JOIN domain d ON d.id = k.domain_id WHERE k.id = ?1")?;
    let row = |r: &Row<'_>| {
        let one: i64 = r.get(5)?;
        let origin = Origin {
            name: r.get(0)?,
            network,
            opens: r.get(1)?,
            clicks: r.get(2)?,
            messages: r.get(3)?,
            soon: r.get(4)?,
            domain: String::new(),
        };
        Ok((origin, one))
    };
    let found: Vec<(Origin, i64)> = s.query_map(params![first, SOON, LEAST, TOLD], row)?.collect::<rusqlite::Result<_>>()?;
    found
        .into_iter()
        .map(|(o, one)| Ok(Origin { domain: domain.query_map([one], |r| r.get(0))?.next().transpose()?.unwrap_or_default(), ..o }))
        .collect()
}
