//! What past mailings and trials make usual.

use super::{Trial, all, brought, columns, counts};
use crate::{Result, StoreError, costly};
use rinse_core::stats::welch::Sample;
use rinse_core::trial::learned::{self, Contrast};
use rinse_core::trial::looks::Leaving;
use rinse_core::trial::metric::{Change, Metric};
use rinse_core::trial::outlook::{USUAL_COMPLAINTS, USUAL_LEAVING};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::{Pair, Reading, Verdict};
use rinse_core::trial::stretches::Counted;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// What past mailings say about a metric: its rate over everyone handed over, the share of 30-day
/// responses that had come by `window_hours`, and the share of opens that were machines'.
#[derive(Debug, Clone, Default)]
pub struct Past {
    /// Of revenue, the mean a person.
    pub rate: Option<f64>,
    /// Of revenue, how far people lie apart.
    pub sd: Option<f64>,
    /// Of revenue, what those brought who brought anything, or some of them.
    pub amounts: Vec<f64>,
    pub maturity: Option<f64>,
    pub machine_share: Option<f64>,
    /// People who left, and who complained, within the window.
    pub leaving: f64,
    pub complaints: f64,
}

/// Looks at the messages of the last 180 days that are at least 30 days old: of a large base once for all who ask within the hour.
///
/// # Errors
/// When the database fails.
pub fn past(c: &Connection, plan: &Plan, now: Instant) -> Result<Past> {
    let goal = plan.goal.as_ref().filter(|_| plan.metric.asks_goal());
    let question = format!("past {:?} {} {goal:?}", plan.metric, plan.window_hours);
    costly::of_the_hour(c, now, &question, || looked_at(c, plan, now))
}

fn looked_at(c: &Connection, plan: &Plan, now: Instant) -> Result<Past> {
    let (from, to, window) = (now + -180 * DAY, now + -30 * DAY, plan.window_hours * HOUR);
    let column = columns(plan.metric).map_or("NULL", |(column, _)| column);
    // Of opens, the rate is that of people whose opens can be known.
    let known = counts::known_of(plan.metric);
    let sql = format!(
        "SELECT count(*), coalesce(sum({known} AND {column} < handed_at + ?3), 0), coalesce(sum({known} AND {column} < handed_at + 2592000000), 0), count(any_open_at), count(open_at),
            coalesce(sum(left_at < handed_at + ?3), 0), coalesce(sum(complained_at < handed_at + ?3), 0), coalesce(sum({known}), 0)
         FROM send WHERE class = 1 AND channel = 1 AND at > ?1 AND at <= ?2 AND handed_at IS NOT NULL"
    );
    let n: Vec<f64> =
        c.prepare_cached(&sql)?.query_row(params![from.millis(), to.millis(), window], |r| (0..8).map(|i| r.get::<_, f64>(i)).collect())?;
    let share = |a: f64, b: f64| (b > 0.0).then(|| a / b);
    let mut out = Past {
        rate: share(n[1], n[7]),
        sd: None,
        amounts: Vec::new(),
        maturity: share(n[1], n[2]),
        machine_share: share(n[3] - n[4], n[3]),
        leaving: share(n[5], n[0]).unwrap_or(USUAL_LEAVING),
        complaints: share(n[6], n[0]).unwrap_or(USUAL_COMPLAINTS),
    };
    if let Some(goal) = plan.goal.as_ref().filter(|_| plan.metric.asks_goal()) {
        let by_the_end = brought::followed(c, &goal.goal, (from, to), window)?;
        let sample = Sample::of(n[0], by_the_end.sum, by_the_end.squares);
        out.rate = share(if plan.metric.is_money() { by_the_end.sum } else { by_the_end.converted }, n[0]);
        out.amounts = if plan.metric.is_money() { by_the_end.amounts } else { Vec::new() };
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
    let (from, to) = (now.millis() - 180 * DAY, now.millis() - 30 * DAY);
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
    let counted = Counted::over(&counts[..mailed], t.beside.as_ref().map_or(&[], |b| &b.stretches));
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
    let past: Vec<Contrast> = comparing(c, metric)?.iter().filter_map(|t| Some(contrast(t)?.2)).collect();
    learned::spread(&past).map_err(|e| StoreError::Refused(e.to_string()))
}

/// The trials of a metric that compared different things. The same against itself says nothing of how far variants lie apart.
fn comparing(c: &Connection, metric: Metric) -> Result<Vec<Trial>> {
    Ok(all(c)?.into_iter().filter(|t| t.plan.metric == metric && t.plan.change != Some(Change::Nothing)).collect())
}

/// What is to be expected of what was called: the difference that was found, in the light of all trials of its metric. What is called was
/// picked for being large, so it mostly is smaller than it looked.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct Corrected {
    /// Whose difference from which arm.
    pub arm: usize,
    pub base: usize,
    /// Differences of rates.
    pub found: f64,
    pub expected: f64,
    /// 95% of what it may be lies between.
    pub lower: f64,
    pub upper: f64,
    /// How many trials it was seen beside.
    pub others: usize,
}

/// The corrected effect of a called trial against the rival that came closest; none of money, and of two changes at once.
///
/// # Errors
/// When the database fails.
pub fn corrected(c: &Connection, t: &Trial, reading: &Reading) -> Result<Option<Corrected>> {
    let (Verdict::Called(arm), Some((_, _, own)), true) = (reading.verdict, contrast(t), t.plan.change != Some(Change::Nothing)) else {
        return Ok(None);
    };
    let sign = t.plan.metric.sign();
    let rivals = reading.pairs.iter().filter(|p| p.arm == arm || p.base == arm);
    let turned = |p: &Pair| if p.arm == arm { (p.base, p.difference) } else { (p.arm, -p.difference) };
    let Some((base, found)) = rivals.map(turned).min_by(|a, b| (sign * a.1).total_cmp(&(sign * b.1))) else { return Ok(None) };
    let counts = t.counts.as_deref().unwrap_or_default();
    let counted = Counted::over(&counts[..counts.len() - usize::from(t.plan.no_mail > 0)], t.beside.as_ref().map_or(&[], |b| &b.stretches));
    let Some((b, a)) = counted.concurrent(base, arm).into_iter().max_by_key(|(b, a)| b.observed().min(a.observed())) else {
        return Ok(None);
    };
    let mine = Contrast { base: b.with_primary(), arm: a.with_primary(), control: own.control };
    let others: Vec<Contrast> = comparing(c, t.plan.metric)?.iter().filter(|o| o.id != t.id).filter_map(|o| Some(contrast(o)?.2)).collect();
    let all: Vec<Contrast> = std::iter::once(mine).chain(others.iter().copied()).collect();
    let shrunk = learned::shrink(&all).map_err(|e| StoreError::Refused(e.to_string()))?[0].times(mine.slope());
    let beside = others.iter().filter(|o| o.control == own.control).count();
    Ok(Some(Corrected { arm, base, found, expected: shrunk.estimate, lower: shrunk.lower, upper: shrunk.upper, others: beside }))
}
