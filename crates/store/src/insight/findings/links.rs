//! Links over mailings, by their name and the place they stand in, from the sums that are kept as they are followed.

use super::groups::{Filter, IN_PERIOD, WENT_TO};
use crate::Result;
use rinse_core::findings::{OverMailings, over_mailings};
use rinse_core::report::Rate;
use rinse_core::stats::Arm;
use rusqlite::types::Value;
use rusqlite::{Connection, params_from_iter};
use serde::Serialize;
use utoipa::ToSchema;

/// A link of one name at one place.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = LinkOverMailings)]
pub struct LinkRow {
    pub name: String,
    /// Its place in the message, from 1.
    pub place: i64,
    /// Where it leads in the newest of these mailings.
    pub url: String,
    pub mailings: usize,
    /// People who followed it themselves, of those the mailings were sent to.
    pub people: Rate,
    /// The same with the mailing as the unit, of six or more.
    pub over_mailings: Option<OverMailings>,
    pub clicks: i64,
    /// People in whose message a machine alone followed it.
    pub machine: i64,
}

/// The links of mailings that were handed over in the filter's period, those that most people followed first.
///
/// # Errors
/// When the database fails.
pub fn told(c: &Connection, filter: &Filter) -> Result<Vec<LinkRow>> {
    let (conditions, values) = filter.of_mailings();
    let (from, to) = filter.days();
    let mut s = c.prepare_cached(&format!(
        "{WENT_TO}, {IN_PERIOD} SELECT l.name, l.position, l.url, f.sent, coalesce(sum(x.people), 0), coalesce(sum(x.clicks), 0), coalesce(sum(x.reached - x.people), 0)
         FROM mailing m JOIN f ON f.mailing_id = m.id JOIN link l ON l.mailing_id = m.id LEFT JOIN link_cell x ON x.mailing_id = m.id AND x.position = l.position
         WHERE 1{conditions} GROUP BY m.id, l.position ORDER BY l.name, l.position, m.id"
    ))?;
    let mut rows = s.query(params_from_iter([Value::Integer(from), Value::Integer(to)].into_iter().chain(values)))?;
    let mut out: Vec<(LinkRow, Vec<Arm>)> = Vec::new();
    while let Some(r) = rows.next()? {
        let (name, place): (String, i64) = (r.get(0)?, r.get::<_, i64>(1)? + 1);
        let n = |i: usize| r.get::<_, i64>(i).map(|n| n.max(0).unsigned_abs());
        let arm = Arm { successes: n(4)?.min(n(3)?), trials: n(3)? };
        if out.last().is_none_or(|(l, _)| l.name != name || l.place != place) {
            let row = LinkRow {
                name,
                place,
                url: String::new(),
                mailings: 0,
                people: Rate::new(0, 0),
                over_mailings: None,
                clicks: 0,
                machine: 0,
            };
            out.push((row, Vec::new()));
        }
        if let Some((row, arms)) = out.last_mut() {
            row.url = r.get(2)?;
            row.clicks += r.get::<_, i64>(5)?;
            row.machine += r.get::<_, i64>(6)?;
            arms.push(arm);
        }
    }
    let mut out: Vec<LinkRow> = out
        .into_iter()
        .map(|(row, arms)| {
            let (people, sent) = arms.iter().fold((0, 0), |s, a| (s.0 + a.successes, s.1 + a.trials));
            LinkRow { mailings: arms.len(), people: Rate::new(people, sent), over_mailings: over_mailings(&arms), ..row }
        })
        .collect();
    out.sort_by_key(|l| std::cmp::Reverse(l.people.count));
    Ok(out)
}
