//! What mailings brought, by what they have in common: from the sums that are kept as people buy and click.

use super::groups::{self, Filter, IN_PERIOD, WENT_TO, names};
use crate::attribution::kept;
use crate::{Result, StoreError};
use rinse_core::findings::{By, Clock, in_time, name_of};
use rinse_core::report::Rate;
use rusqlite::types::Value;
use rusqlite::{Connection, params_from_iter};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::{IntoParams, ToSchema};

/// Which goal, and by what.
#[derive(Debug, Clone, Copy, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Towards {
    /// The goal.
    pub goal: i64,
    /// Mailings when absent; not by recipients or hours.
    pub by: Option<By>,
    /// Crossed with days, weeks or months of the conversions.
    pub across: Option<By>,
}

/// What a group of mailings brought towards a goal.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct RevenueRow {
    pub key: String,
    pub name: String,
    pub mailings: u64,
    pub sent: u64,
    pub delivered: u64,
    /// People with a conversion put down to it; one counts for each mailing.
    pub people: u64,
    pub conversions: i64,
    /// Hundredths of the currency; refunds are taken off.
    pub cents: i64,
    /// Hundredths per thousand delivered; none where a group is of days, on which nothing need have been delivered.
    pub per_thousand: Option<f64>,
    /// People of those it was sent to, with the people's own limits; none of days.
    pub rate: Option<Rate>,
}

/// What a group of mailings brought in a day, a week or a month.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct RevenueCell {
    pub key: String,
    pub name: String,
    /// The time, and its name.
    pub when: String,
    pub when_name: String,
    pub conversions: i64,
    /// Hundredths of the currency; refunds are taken off.
    pub cents: i64,
}

#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct RevenueBy {
    pub rows: Vec<RevenueRow>,
    pub total: RevenueRow,
    /// Somebody's conversions are still being put down.
    pub behind: bool,
    /// Where it is crossed with a time: what was bought in the period, whenever its mailing went, in order of time; what isn't there is none.
    pub cells: Option<Vec<RevenueCell>>,
}

/// How a revenue can be asked for: by what mailings have in common, or by the day of the conversion.
fn group(by: By) -> Result<(String, String)> {
    Ok(match by {
        By::Day => ("b.day".into(), String::new()),
        By::Week => ("(b.day + 3) / 7".into(), String::new()),
        By::Month => ("strftime('%Y-%m', b.day * 86400, 'unixepoch')".into(), String::new()),
        By::Weekday | By::PartOfDay | By::Hour | By::Arm | By::Domain | By::Country | By::Source | By::Load => {
            return Err(StoreError::Refused(format!("What mailings brought can’t be told by {}.", by.words())));
        }
        of_mailings => groups::group(of_mailings, Clock::Utc, 'x'),
    })
}

/// What mailings brought towards a goal: those that were handed over in the filter's period, with all that they brought until now; by days, what was
/// bought in the period, whenever its mailing went.
///
/// # Errors
/// A grouping by which it can't be told, or when the database fails.
pub fn by(c: &Connection, goal: i64, by: By, filter: &Filter) -> Result<RevenueBy> {
    let (key, join) = group(by)?;
    let of_days = by.of_time();
    let (conditions, values) = filter.of_mailings();
    let (from, to) = filter.days();
    let sql = if of_days {
        format!(
            "{WENT_TO} SELECT {key}, 0, 0, 0, sum(b.people), sum(b.conversions), sum(b.cents) FROM mailing m JOIN brought_figure b ON b.mailing_id = m.id
             WHERE b.day >= ? AND b.day < ? AND b.goal_id = ?{conditions} GROUP BY 1"
        )
    } else {
        format!(
            "{WENT_TO}, {IN_PERIOD}, g AS (SELECT mailing_id, sum(people) AS people, sum(conversions) AS conversions, sum(cents) AS cents FROM brought_figure WHERE goal_id = ? GROUP BY 1)
             SELECT {key}, count(DISTINCT m.id), sum(f.sent), sum(f.delivered), coalesce(sum(g.people), 0), coalesce(sum(g.conversions), 0), coalesce(sum(g.cents), 0)
             FROM mailing m JOIN f ON f.mailing_id = m.id{join} LEFT JOIN g ON g.mailing_id = m.id WHERE 1{conditions} GROUP BY 1"
        )
    };
    let values = [Value::Integer(from), Value::Integer(to), Value::Integer(goal)].into_iter().chain(values);
    let names = names(c, by)?;
    let mut s = c.prepare_cached(&sql)?;
    let mut rows: Vec<RevenueRow> = s
        .query_map(params_from_iter(values), |r| {
            let n = |i: usize| r.get::<_, i64>(i).map(|n| n.max(0).unsigned_abs());
            Ok(row(groups::key(r.get(0)?), &names, by, [n(1)?, n(2)?, n(3)?, n(4)?], (r.get(5)?, r.get(6)?)))
        })?
        .collect::<rusqlite::Result<_>>()?;
    if of_days {
        rows.sort_by(|a, b| in_time(&a.key, &b.key));
    } else {
        rows.sort_by_key(|r| std::cmp::Reverse((r.cents, r.conversions)));
    }
    // A mailing with two labels is in two groups, and in the whole once.
    let total = if matches!(by, By::Mailing) || of_days {
        let add = |f: fn(&RevenueRow) -> u64| rows.iter().map(f).sum::<u64>();
        let counts = [add(|r| r.mailings), add(|r| r.sent), add(|r| r.delivered), add(|r| r.people)];
        let money = (rows.iter().map(|r| r.conversions).sum(), rows.iter().map(|r| r.cents).sum());
        row(String::new(), &HashMap::new(), by, counts, money)
    } else {
        self::by(c, goal, By::Mailing, filter)?.total
    };
    Ok(RevenueBy { rows, total, behind: kept::is_behind(c)?, cells: None })
}

/// [`by`] what mailings have in common, crossed with the time of the conversions where that is asked for.
///
/// # Errors
/// As there; when it is crossed with what is no time, or time with time.
pub fn told(c: &Connection, towards: Towards, filter: &Filter) -> Result<RevenueBy> {
    let by = towards.by.unwrap_or(By::Mailing);
    let mut found = self::by(c, towards.goal, by, filter)?;
    if let Some(time) = towards.across {
        found.cells = Some(crossed(c, towards.goal, by, time, filter)?);
    }
    Ok(found)
}

fn crossed(c: &Connection, goal: i64, by: By, time: By, filter: &Filter) -> Result<Vec<RevenueCell>> {
    if by.of_time() || !time.of_time() {
        return Err(StoreError::Refused("What mailings brought is crossed with days, weeks or months, and those with nothing.".into()));
    }
    let (key, join) = if by == By::Mailing { ("m.id".to_owned(), String::new()) } else { group(by)? };
    let (when, _) = group(time)?;
    let (conditions, values) = filter.of_mailings();
    let (from, to) = filter.days();
    let mut s = c.prepare_cached(&format!(
        "{WENT_TO} SELECT {key}, {when}, sum(b.conversions), sum(b.cents) FROM mailing m JOIN brought_figure b ON b.mailing_id = m.id{join}
         WHERE b.day >= ? AND b.day < ? AND b.goal_id = ?{conditions} GROUP BY 1, 2"
    ))?;
    let values = [Value::Integer(from), Value::Integer(to), Value::Integer(goal)].into_iter().chain(values);
    let names = names(c, by)?;
    let named = |by: By, key: &str| names.get(key).filter(|_| !by.of_time()).cloned().unwrap_or_else(|| name_of(by, key));
    let mut cells: Vec<RevenueCell> = s
        .query_map(params_from_iter(values), |r| {
            let (key, when) = (groups::key(r.get(0)?), groups::key(r.get(1)?));
            Ok(RevenueCell { name: named(by, &key), when_name: named(time, &when), key, when, conversions: r.get(2)?, cents: r.get(3)? })
        })?
        .collect::<rusqlite::Result<_>>()?;
    cells.retain(|cell| cell.conversions != 0 || cell.cents != 0);
    cells.sort_by(|a, b| in_time(&a.when, &b.when).then_with(|| a.name.cmp(&b.name)));
    Ok(cells)
}

fn row(key: String, names: &HashMap<String, String>, by: By, counts: [u64; 4], (conversions, cents): (i64, i64)) -> RevenueRow {
    let [mailings, sent, delivered, people] = counts;
    RevenueRow {
        name: names.get(&key).cloned().unwrap_or_else(|| name_of(by, &key)),
        key,
        mailings,
        sent,
        delivered,
        people,
        conversions,
        cents,
        per_thousand: (delivered > 0).then(|| cents as f64 * 1_000.0 / delivered as f64),
        rate: (sent > 0).then(|| Rate::new(people.min(sent), sent)),
    }
}
