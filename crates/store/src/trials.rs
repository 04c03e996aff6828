//! Trials: plans, rosters, counts within each person's window, verdicts.

use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::trial::assign::Enrolled;
use rinse_core::trial::plan::{Metric, Plan};
use rinse_core::trial::reading::{ArmCounts, Verdict};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A trial as it is stored.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Trial {
    pub id: i64,
    pub mailing_id: i64,
    pub mailing: String,
    pub plan: Plan,
    pub state: String,
    pub sealed_at: Option<i64>,
    #[serde(skip)]
    pub seed: Option<i64>,
    pub reading_due: Option<i64>,
    pub read_at: Option<i64>,
    pub verdict: Option<Verdict>,
    #[serde(skip)]
    pub counts: Option<[ArmCounts; 2]>,
    pub rollout_at: Option<i64>,
}

fn some(c: &Connection, filter: &str, value: i64) -> Result<Vec<Trial>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT t.id, mailing_id, m.name, plan, t.state, sealed_at, seed, reading_due, read_at, verdict, counts, rollout_at
         FROM trial t JOIN mailing m ON m.id = mailing_id WHERE {filter} ORDER BY coalesce(sealed_at, 9e15) DESC, t.id DESC"
    ))?;
    let rows = s.query_map([value], |r| {
        Ok((
            (r.get(0)?, r.get(1)?, r.get(2)?, r.get::<_, String>(3)?, r.get(4)?, r.get(5)?),
            (r.get(6)?, r.get(7)?, r.get(8)?, r.get::<_, Option<String>>(9)?, r.get::<_, Option<String>>(10)?, r.get(11)?),
        ))
    })?;
    rows.map(|row| {
        let ((id, mailing_id, mailing, plan, state, sealed_at), (seed, reading_due, read_at, verdict, counts, rollout_at)) = row?;
        Ok(Trial {
            id,
            mailing_id,
            mailing,
            plan: serde_json::from_str(&plan)?,
            state,
            sealed_at,
            seed,
            reading_due,
            read_at,
            verdict: verdict.map(|v| serde_json::from_str(&v)).transpose()?,
            counts: counts.map(|v| serde_json::from_str(&v)).transpose()?,
            rollout_at,
        })
    })
    .collect()
}

/// # Errors
/// When there is no such trial.
pub fn one(c: &Connection, id: i64) -> Result<Trial> {
    some(c, "t.id = ?1", id)?.pop().ok_or(StoreError::Missing("trial"))
}

/// All trials, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Trial>> {
    some(c, "t.id > ?1", 0)
}

/// Makes or changes the plan of a mailing's trial. A sealed plan can't change.
///
/// # Errors
/// When the trial is sealed.
pub fn save_plan(c: &Connection, mailing: i64, plan: &Plan, now: Instant, person: Option<i64>) -> Result<i64> {
    let text = serde_json::to_string(plan)?;
    let id: Option<i64> = c
        .query_row(
            "INSERT INTO trial (mailing_id, plan, state, made_at, person_id) VALUES (?1,?2,'planned',?3,?4)
             ON CONFLICT (mailing_id) DO UPDATE SET plan = excluded.plan WHERE state = 'planned' RETURNING id",
            params![mailing, text, now.0, person],
            |r| r.get(0),
        )
        .optional()?;
    id.ok_or_else(|| StoreError::Refused("The plan is sealed and can't change. Plan a new trial instead.".into()))
}

/// Seals the plan and freezes the roster.
///
/// # Errors
/// When it is sealed already.
pub fn seal(c: &Connection, id: i64, seed: u64, roster: &[Enrolled], now: Instant) -> Result<()> {
    let n = c.execute(
        "UPDATE trial SET state = 'collecting', sealed_at = ?2, seed = ?3 WHERE id = ?1 AND state = 'planned'",
        params![id, now.0, seed.cast_signed()],
    )?;
    if n == 0 {
        return Err(StoreError::Refused("This trial is sealed already.".into()));
    }
    let mut s = c.prepare_cached("INSERT INTO roster VALUES (?1,?2,?3,?4)")?;
    for e in roster {
        s.execute(params![id, e.contact, e.stratum, i64::try_from(e.arm).unwrap_or(0)])?;
    }
    Ok(())
}

/// The frozen roster.
///
/// # Errors
/// When the database fails.
pub fn roster(c: &Connection, id: i64) -> Result<Vec<Enrolled>> {
    let mut s = c.prepare_cached("SELECT contact_id, stratum, arm FROM roster WHERE trial_id = ?1 ORDER BY contact_id")?;
    Ok(s.query_map([id], |r| {
        Ok(Enrolled { contact: r.get(0)?, stratum: r.get(1)?, arm: usize::try_from(r.get::<_, i64>(2)?).unwrap_or(0) })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Sets the instant of the reading once everyone of the pilot has been handed over: the end of the
/// last person's window.
///
/// # Errors
/// When the database fails.
pub fn set_reading_due(c: &Connection) -> Result<()> {
    c.execute(
        "UPDATE trial SET reading_due = (SELECT max(s.handed_at) FROM send s WHERE s.mailing_id = trial.mailing_id AND s.phase = 1)
            + json_extract(plan, '$.window_hours') * 3600000
         WHERE state = 'collecting' AND reading_due IS NULL
         AND NOT EXISTS (SELECT 1 FROM send s WHERE s.mailing_id = trial.mailing_id AND s.phase = 1 AND s.handed_at IS NULL AND s.state IN (0, 1, 2, 4))
         AND EXISTS (SELECT 1 FROM send s WHERE s.mailing_id = trial.mailing_id AND s.phase = 1 AND s.handed_at IS NOT NULL)",
        [],
    )?;
    Ok(())
}

/// Counts both arms over everyone on the roster, each within the window from their own handover.
///
/// # Errors
/// When the database fails.
pub fn counts(c: &Connection, t: &Trial) -> Result<[ArmCounts; 2]> {
    let (primary, reported) = match t.plan.metric {
        Metric::HumanOpen => ("open_at", "any_open_at"),
        Metric::HumanClick => ("click_at", "any_click_at"),
        Metric::Reply => ("reply_at", "reply_at"),
    };
    let window = t.plan.window_hours * rinse_core::HOUR;
    let within = |column: &str| format!("coalesce(sum(s.{column} < s.handed_at + {window}), 0)");
    let sql = format!(
        "SELECT r.arm, count(*), count(s.handed_at), count(s.accepted_at), count(s.failed_at), {}, {}, {}, {}, {}
         FROM roster r LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm WHERE r.trial_id = ?1 GROUP BY r.arm",
        within(primary), within(reported), within("click_at"), within("left_at"), within("complained_at"),
    );
    let mut out = [ArmCounts::default(); 2];
    let mut s = c.prepare_cached(&sql)?;
    let mut rows = s.query([t.id, t.mailing_id])?;
    while let Some(r) = rows.next()? {
        let n = |i| r.get::<_, i64>(i).map(|v| u64::try_from(v).unwrap_or(0));
        if let Some(slot) = usize::try_from(r.get::<_, i64>(0)?).ok().and_then(|a| out.get_mut(a)) {
            *slot = ArmCounts {
                assigned: n(1)?,
                handed_over: n(2)?,
                accepted: n(3)?,
                bounced: n(4)?,
                primary: n(5)?,
                reported: n(6)?,
                clicked: n(7)?,
                left: n(8)?,
                complained: n(9)?,
            };
        }
    }
    Ok(out)
}

/// Stores the reading.
///
/// # Errors
/// When the database fails.
pub fn save_reading(c: &Connection, id: i64, verdict: Verdict, counts: &[ArmCounts; 2], now: Instant) -> Result<()> {
    c.execute(
        "UPDATE trial SET state = 'read', read_at = ?2, verdict = ?3, counts = ?4 WHERE id = ?1 AND state = 'collecting'",
        params![id, now.0, serde_json::to_string(&verdict)?, serde_json::to_string(counts)?],
    )?;
    Ok(())
}

/// Moves a trial on.
///
/// # Errors
/// When it isn't in the state it should leave.
pub fn advance(c: &Connection, id: i64, from: &str, to: &str, rollout_at: Option<Instant>) -> Result<()> {
    let n = c.execute(
        "UPDATE trial SET state = ?3, rollout_at = coalesce(?4, rollout_at) WHERE id = ?1 AND state = ?2",
        params![id, from, to, rollout_at.map(|i| i.0)],
    )?;
    if n == 0 { Err(StoreError::Refused(format!("The trial is not {from} any more."))) } else { Ok(()) }
}

/// What past mailings say about a metric: its rate over everyone handed over, the share of 30-day
/// responses that had come by `window_hours`, and the share of opens that were machines'.
#[derive(Debug, Clone, Copy, Default)]
pub struct Past {
    pub rate: Option<f64>,
    pub maturity: Option<f64>,
    pub machine_share: Option<f64>,
}

/// Looks at the messages of the last 180 days that are at least 30 days old.
///
/// # Errors
/// When the database fails.
pub fn past(c: &Connection, metric: Metric, window_hours: i64, now: Instant) -> Result<Past> {
    let column = match metric {
        Metric::HumanOpen => "open_at",
        Metric::HumanClick => "click_at",
        Metric::Reply => "reply_at",
    };
    let sql = format!(
        "SELECT count(*), coalesce(sum({column} < handed_at + ?3), 0), coalesce(sum({column} < handed_at + 2592000000), 0), count(any_open_at), count(open_at)
         FROM send WHERE class = 1 AND at > ?1 AND at <= ?2 AND handed_at IS NOT NULL"
    );
    let day = rinse_core::DAY;
    Ok(c.prepare_cached(&sql)?.query_row(params![now.0 - 180 * day, now.0 - 30 * day, window_hours * rinse_core::HOUR], |r| {
        let n = |i| r.get::<_, f64>(i);
        let share = |a: f64, b: f64| (b > 0.0).then(|| a / b);
        Ok(Past { rate: share(n(1)?, n(0)?), maturity: share(n(1)?, n(2)?), machine_share: share(n(3)? - n(4)?, n(3)?) })
    })?)
}
