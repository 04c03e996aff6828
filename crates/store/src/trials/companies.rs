//! Companies of a trial's people: domains that several of them share, and that aren't those of a mailbox provider.

use super::{Trial, counts};
use crate::{Result, costly};
use rinse_core::stats::Arm;
use rinse_core::stats::cluster_rate::cluster_rate;
use rinse_core::trial::companies::{Design, LEAST_COMPANIES, effect};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::ArmCounts;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// A domain with a larger part of the people is a mailbox provider's: its people have nothing to do with each other.
const PROVIDER: f64 = 0.05;

/// The design effect of each pair that is compared; none of goals and money.
pub(super) fn design(c: &Connection, t: &Trial, all: &[ArmCounts]) -> Result<Vec<Design>> {
    let Some((column, _)) = counts::columns(t.plan.metric) else { return Ok(Vec::new()) };
    let mut s = c.prepare_cached(&format!(
        "SELECT k.domain_id, r.arm, count(*), coalesce(sum(s.{column} < s.handed_at + ?3), 0) FROM roster r JOIN contact k ON k.id = r.contact_id
         LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1
         WHERE r.trial_id = ?1 AND {} AND (?4 IS NULL OR s.handed_at <= ?4) GROUP BY 1, 2",
        counts::known(t)
    ))?;
    let mut of: HashMap<i64, Vec<Arm>> = HashMap::new();
    let mut rows = s.query(params![t.id.0, t.mailing_id.0, t.plan.window_hours * HOUR, t.read_by().map(|i| i.millis())])?;
    while let Some(r) = rows.next()? {
        let arms = of.entry(r.get(0)?).or_insert_with(|| vec![Arm { successes: 0, trials: 0 }; all.len()]);
        if let Some(arm) = usize::try_from(r.get::<_, i64>(1)?).ok().and_then(|a| arms.get_mut(a)) {
            *arm = Arm { trials: r.get::<_, i64>(2)?.unsigned_abs(), successes: r.get::<_, i64>(3)?.unsigned_abs() };
        }
    }
    let people: u64 = all.iter().map(|c| c.assigned).sum();
    #[allow(clippy::cast_precision_loss)]
    let company = |arms: &Vec<Arm>| (arms.iter().map(|a| a.trials).sum::<u64>() as f64) < PROVIDER * people as f64;
    let companies: Vec<Vec<Arm>> = of.into_values().filter(company).collect();
    let mailed = all.len() - usize::from(t.plan.no_mail > 0);
    let pairs = rinse_core::trial::decide::pairs(mailed, t.plan.control);
    Ok(pairs.into_iter().map(|(base, arm)| Design { base, arm, effect: effect((base, arm), all, &companies) }).collect())
}

/// What past mail says of companies here.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct Companies {
    /// The share of people whose company has several of them.
    pub share: f64,
    /// How many times less sure a rate of theirs is than of people who answer one by one.
    pub effect: f64,
}

/// How alike people of one company answered the largest of the newest mailings; none where there are too few companies.
///
/// # Errors
/// When the database fails.
pub fn past(c: &Connection, plan: &Plan, now: Instant) -> Result<Option<Companies>> {
    costly::of_the_hour(c, now, &format!("companies {:?} {}", plan.metric, plan.window_hours), || of_the_newest(c, plan, now))
}

#[allow(clippy::cast_precision_loss)]
fn of_the_newest(c: &Connection, plan: &Plan, now: Instant) -> Result<Option<Companies>> {
    let Some((column, _)) = counts::columns(plan.metric) else { return Ok(None) };
    let window = plan.window_hours * HOUR;
    let known = counts::known_of(plan.metric);
    let newest: Option<i64> = c
        .prepare_cached(
            "SELECT mailing_id FROM (SELECT mailing_id FROM send WHERE class = 1 AND at <= ?1 AND at > ?1 - ?2 AND channel = 1 ORDER BY at DESC LIMIT 50000)
             GROUP BY 1 ORDER BY count(*) DESC LIMIT 1",
        )?
        .query_map([now.millis() - window, 180 * DAY], |r| r.get(0))?
        .next()
        .transpose()?;
    let Some(mailing) = newest else { return Ok(None) };
    let mut s = c.prepare_cached(&format!(
        "SELECT count(*), coalesce(sum(s.{column} < s.handed_at + ?2), 0) FROM send s JOIN contact k ON k.id = s.contact_id
         WHERE s.mailing_id = ?1 AND s.handed_at IS NOT NULL AND {known} GROUP BY k.domain_id"
    ))?;
    let all: Vec<Arm> = s
        .query_map(params![mailing, window], |r| {
            Ok(Arm { trials: r.get::<_, i64>(0)?.unsigned_abs(), successes: r.get::<_, i64>(1)?.unsigned_abs() })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let people: u64 = all.iter().map(|a| a.trials).sum();
    let several: Vec<Arm> = all.into_iter().filter(|a| a.trials > 1 && (a.trials as f64) < PROVIDER * people as f64).collect();
    if several.len() < LEAST_COMPANIES {
        return Ok(None);
    }
    let found = cluster_rate(&several, 0.95).ok().and_then(|r| r.design_effect);
    let share = several.iter().map(|a| a.trials).sum::<u64>() as f64 / people as f64;
    Ok(found.map(|effect| Companies { share, effect }))
}
