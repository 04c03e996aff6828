//! What past mailings and trials make usual.

use super::{Trial, all, brought, columns};
use crate::Result;
use rinse_core::stats::shrink::Effect;
use rinse_core::stats::welch::Sample;
use rinse_core::trial::learned::{self, Contrast};
use rinse_core::trial::looks::Leaving;
use rinse_core::trial::metric::{Change, Metric};
use rinse_core::trial::outlook::{USUAL_COMPLAINTS, USUAL_LEAVING};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::Verdict;
use rinse_core::trial::stretches::Counted;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, params};

/// What past mailings say about a metric: its rate over everyone handed over, the share of 30-day
/// responses that had come by `window_hours`, and the share of opens that were machines'.
#[derive(Debug, Clone, Copy, Default)]
pub struct Past {
    /// Of revenue, the mean a person.
    pub rate: Option<f64>,
    /// Of revenue, how far people lie apart.
    pub sd: Option<f64>,
    pub maturity: Option<f64>,
    pub machine_share: Option<f64>,
    /// People who left, and who complained, within the window.
    pub leaving: f64,
    pub complaints: f64,
}

/// Looks at the messages of the last 180 days that are at least 30 days old.
///
/// # Errors
/// When the database fails.
pub fn past(c: &Connection, plan: &Plan, now: Instant) -> Result<Past> {
    let (from, to, window) = (now + -180 * DAY, now + -30 * DAY, plan.window_hours * HOUR);
    let column = columns(plan.metric).map_or("NULL", |(column, _)| column);
    // Of opens, the rate is that of people whose opens can be known.
    let known = if plan.metric == Metric::HumanOpen { "opens_unknown = 0" } else { "1" };
    let sql = format!(
        "SELECT count(*), coalesce(sum({known} AND {column} < handed_at + ?3), 0), coalesce(sum({known} AND {column} < handed_at + 2592000000), 0), count(any_open_at), count(open_at),
            coalesce(sum(left_at < handed_at + ?3), 0), coalesce(sum(complained_at < handed_at + ?3), 0), coalesce(sum({known}), 0)
         FROM send WHERE class = 1 AND channel = 1 AND at > ?1 AND at <= ?2 AND handed_at IS NOT NULL"
    );
    let n: Vec<f64> = c.prepare_cached(&sql)?.query_row(params![from.0, to.0, window], |r| (0..8).map(|i| r.get::<_, f64>(i)).collect())?;
    let share = |a: f64, b: f64| (b > 0.0).then(|| a / b);
    let mut out = Past {
        rate: share(n[1], n[7]),
        sd: None,
        maturity: share(n[1], n[2]),
        machine_share: share(n[3] - n[4], n[3]),
        leaving: share(n[5], n[0]).unwrap_or(USUAL_LEAVING),
        complaints: share(n[6], n[0]).unwrap_or(USUAL_COMPLAINTS),
    };
    if let Some(goal) = plan.goal.as_ref().filter(|_| plan.metric.asks_goal()) {
        let by_the_end = brought::followed(c, &goal.goal, (from, to), window)?;
        let sample = Sample::of(n[0], by_the_end.sum, by_the_end.squares);
        out.rate = share(if plan.metric.is_money() { by_the_end.sum } else { by_the_end.converted }, n[0]);
        out.sd = (sample.variance > 0.0).then(|| sample.variance.sqrt());
        // People buy without any mail, too, and go on after the window: there is no share of it that "is in".
        out.maturity = None;
    }
    Ok(out)
}

/// When people left after the mailings that [`past`] looks at, within so many hours.
///
/// # Errors
/// When the database fails.
pub fn leaving(c: &Connection, window_hours: i64, now: Instant) -> Result<Leaving> {
    let (from, to) = (now.0 - 180 * DAY, now.0 - 30 * DAY);
    let people: i64 = c
        .prepare_cached("SELECT count(*) FROM send WHERE class = 1 AND channel = 1 AND at > ?1 AND at <= ?2 AND handed_at IS NOT NULL")?
        .query_row([from, to], |r| r.get(0))?;
    let mut s = c.prepare_cached(
        "SELECT left_at - handed_at FROM send WHERE class = 1 AND channel = 1 AND at > ?1 AND at <= ?2 AND left_at < handed_at + ?3 ORDER BY 1",
    )?;
    let after = s.query_map([from, to, window_hours * HOUR], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    Ok(Leaving { after, people: people.unsigned_abs() })
}

/// What a past trial found on its first contrast, base and arm; none of a trial that is void or isn't read.
pub(crate) fn contrast(t: &Trial) -> Option<(usize, usize, Contrast)> {
    // Money has no odds, and of two changes at once no pair of arms is the effect of one.
    if t.plan.metric.is_money() || t.plan.crossed.is_some() {
        return None;
    }
    let counts = t.counts.as_ref().filter(|_| !matches!(t.verdict, None | Some(Verdict::Void)))?;
    let mailed = counts.len() - usize::from(t.plan.no_mail > 0);
    let counted = Counted { all: &counts[..mailed], stretches: t.beside.as_ref().map_or(&[], |b| &b.stretches) };
    let (base, arm) = *counted.pairs(t.plan.control).first()?;
    // Of several stretches the one with the most people in both arms stands for the trial.
    let (b, a) = counted.concurrent(base, arm).into_iter().max_by_key(|(b, a)| b.observed().min(a.observed()))?;
    Some((base, arm, Contrast { base: b.with_primary(), arm: a.with_primary(), control: t.plan.control.is_some() }))
}

/// The variance of true differences over past trials of a metric.
///
/// # Errors
/// When the database fails.
pub fn past_spread(c: &Connection, metric: Metric) -> Result<Option<f64>> {
    // The same against itself says nothing of how far variants lie apart.
    let past = all(c)?.into_iter().filter(|t| t.plan.metric == metric && t.plan.change != Some(Change::Nothing));
    let effects: Vec<Effect> = past.filter_map(|t| contrast(&t)?.2.difference()).collect();
    Ok(learned::spread(&effects))
}
