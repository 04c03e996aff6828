//! Each person's own hour: kept as a trial is read, and used for a year.

use super::learned::{USED_FOR, whom_of};
use super::read_since;
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::id::{ContactId, HourTrialId};
use rinse_core::trial::hour::confirming::{Confirms, Gain};
use rinse_core::trial::hour::own::Each;
use rinse_core::trial::hour::plan::{HourPlan, clock};
use rinse_core::trial::hour::reading::Reading;
use rinse_core::trial::metric::Metric;
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// Hours of their own that may be used.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LearnedOwn {
    pub trial: HourTrialId,
    pub question: String,
    pub each: Each,
    /// What they gain against the best hour for all, for those who have another, where a trial confirmed it.
    pub gain: Option<Gain>,
    pub learned_at: i64,
    pub expires_at: i64,
    pub weekdays: String,
    pub audience: String,
    /// The first hour that was drawn: nobody's own is earlier.
    #[serde(skip)]
    pub(super) first: u8,
}

/// The own hours that may be used now: those for the fewest people first, and of as many the ones learned last.
///
/// # Errors
/// When the database fails.
pub fn learned(c: &Connection, now: Instant) -> Result<Vec<LearnedOwn>> {
    let read = read_since(c, now + -USED_FOR)?;
    let gain_of = |trial: HourTrialId| {
        let of = read.iter().filter(|t| t.plan.of_own_hours().is_some_and(|o| o.trial == trial));
        of.max_by_key(|t| t.read_at).and_then(|t| t.reading.as_ref()?.gain)
    };
    let mut out = Vec::new();
    for t in &read {
        let (Some(learned_at), Some(r)) = (t.read_at, &t.reading) else { continue };
        let Some(each) = r.own.as_ref().and_then(|own| own.each) else { continue };
        let Some((_, audience, _)) = whom_of(c, r)? else { continue };
        out.push(LearnedOwn {
            trial: t.id,
            question: t.plan.question.clone(),
            each,
            gain: gain_of(t.id),
            learned_at,
            expires_at: learned_at + USED_FOR,
            weekdays: r.weekdays.clone(),
            audience,
            first: t.plan.hours.first().copied().unwrap_or(0),
        });
    }
    out.sort_by_key(|l| (l.each.people, -l.learned_at));
    Ok(out)
}

/// Puts the hours of some people by, as a trial found them.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, trial: HourTrialId, hours: &[(ContactId, u8)]) -> Result<()> {
    let mut s = c.prepare_cached("INSERT OR REPLACE INTO own_hour (contact_id, trial_id, hour) VALUES (?1, ?2, ?3)")?;
    for (contact, hour) in hours {
        s.execute(params![contact.0, trial.0, hour])?;
    }
    Ok(())
}

/// Everybody's own hour, by one trial.
///
/// # Errors
/// When the database fails.
pub fn of_trial(c: &Connection, trial: HourTrialId) -> Result<HashMap<ContactId, u8>> {
    let mut s = c.prepare_cached("SELECT contact_id, hour FROM own_hour WHERE trial_id = ?1")?;
    Ok(s.query_map([trial.0], |r| Ok((ContactId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// Who can take part in a trial of own hours: those whose own is another than the best for all. None: it is no such trial.
///
/// # Errors
/// When the database fails.
pub(super) fn who_differ(c: &Connection, plan: &HourPlan) -> Result<Option<HashMap<ContactId, u8>>> {
    let Some(of) = plan.of_own_hours() else { return Ok(None) };
    let differ = of_trial(c, of.trial)?.into_iter().filter(|(_, hour)| *hour != of.best && plan.hours.contains(hour));
    Ok(Some(differ.collect()))
}

/// How much people differ in which hour suits them, in units of the square of the mean rate, by the last trial of this metric that tells.
///
/// # Errors
/// When the database fails.
pub fn spread(c: &Connection, metric: Metric, now: Instant) -> Result<Option<f64>> {
    let mut read = read_since(c, now + -USED_FOR)?;
    read.retain(|t| t.plan.metric == metric && t.plan.confirms.is_none());
    read.sort_by_key(|t| t.read_at);
    let of = |r: Reading| Some(r.own?.spread.max(0.0) / (r.mean * r.mean)).filter(|s| s.is_finite());
    Ok(read.into_iter().rev().find_map(|t| t.reading.and_then(of)))
}

/// Can a trial hold the own hours that were found against the best hour for all? What was found of them.
///
/// # Errors
/// When people weren't found to differ.
pub fn to_confirm(reading: Option<&Reading>) -> Result<Each> {
    let each = reading.and_then(|r| r.own.as_ref()?.each).filter(|each| each.differ > 0);
    each.ok_or_else(|| {
        StoreError::Refused("This trial didn't find that people differ in which hour suits them: nobody has one of their own.".into())
    })
}

/// The plan of a trial that holds each person's own hour against the best for all, of those alone who have another: sized on what is expected of
/// it.
///
/// # Errors
/// As [`to_confirm`].
pub fn confirming(c: &Connection, id: HourTrialId) -> Result<HourPlan> {
    let t = super::one(c, id)?;
    let each = to_confirm(t.reading.as_ref())?;
    #[allow(clippy::cast_precision_loss)]
    let expected = (each.at_own - each.at_common) * each.people as f64 / each.differ as f64;
    let effect = (expected * 1000.0).round() / 1000.0;
    Ok(HourPlan {
        question: format!("Are people's own hours worth having, against {} for all?", clock(each.common)),
        effect: effect.clamp(0.005, 0.5),
        rounds: Vec::new(),
        confirms: Some(Confirms { trial: id, best: each.common, own: true }),
        ..t.plan
    })
}
