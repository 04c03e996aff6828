//! How a trial's answers come in, and which links each arm's people follow.

use super::{Trial, arms, columns};
use crate::{Result, costly};
use rinse_core::id::{ContactId, MailingId};
use rinse_core::report::Rate;
use rinse_core::trial::course::{self, Band, Group, Line, POINTS, PastMailing};
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// How the answers come in over the window.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = TrialCourse)]
pub struct Course {
    /// Hours from a person's handover to each point.
    pub hours: Vec<f64>,
    /// A line an arm; one of all together while the arms are closed.
    pub lines: Vec<Line>,
    pub pooled: bool,
    /// What past mailings did by the same metric.
    pub band: Option<Band>,
}

/// The links of the trial's mailing with the people of each arm who followed them.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LinkByArm {
    pub position: i64,
    pub name: String,
    pub url: String,
    /// People who followed it themselves within the window, of everyone assigned.
    pub arms: Vec<Rate>,
}

/// # Errors
/// When the database fails.
#[allow(clippy::cast_precision_loss)]
pub fn course(c: &Connection, t: &Trial, now: Instant) -> Result<Course> {
    let closed = t.closed();
    let window = (t.plan.window_hours * HOUR).max(1);
    let Some((column, _)) = columns(t.plan.metric) else { return of_goal(c, t, now) };
    let points = i64::try_from(POINTS).unwrap_or(24);
    let mut groups = vec![Vec::new(); if closed { 1 } else { arms(c, t)? }];
    let mut s = c.prepare_cached(&format!(
        "SELECT arm, min(?3, (?4 - handed_at) * ?3 / ?5), iif({column} < handed_at + ?5 AND {column} <= ?4, ({column} - handed_at) * ?3 / ?5, NULL), count(*)
         FROM send WHERE mailing_id = ?1 AND phase = ?2 AND handed_at <= ?4
            AND NOT EXISTS (SELECT 1 FROM roster r WHERE r.trial_id = ?6 AND r.contact_id = send.contact_id AND r.opens_unknown = 1) GROUP BY 1, 2, 3"
    ))?;
    // None: everybody counts.
    let without_unknown = t.of_known_opens().then_some(t.id.0);
    let mut rows =
        s.query(params![t.mailing_id.0, crate::send_state::Phase::Pilot as i64, points, now.millis(), window, without_unknown])?;
    while let Some(r) = rows.next()? {
        let n = |v: i64| usize::try_from(v).unwrap_or(0);
        let group =
            Group { passed: n(r.get(1)?), answered: r.get::<_, Option<i64>>(2)?.map(n), people: r.get::<_, i64>(3)?.unsigned_abs() };
        if let Some(arm) = groups.get_mut(if closed { 0 } else { n(r.get(0)?) }) {
            arm.push(group);
        }
    }
    let hours = (1..=POINTS).map(|k| t.plan.window_hours as f64 * k as f64 / POINTS as f64).collect();
    let lines = groups.iter().map(|g| course::line(g)).collect();
    Ok(Course { hours, lines, pooled: closed, band: course::band(&past_mailings(c, t, column, window, now)?) })
}

/// Of conversions: how they come in, one person after the other. There is no band: what follows a mailing has no place on it.
#[allow(clippy::cast_precision_loss)]
fn of_goal(c: &Connection, t: &Trial, now: Instant) -> Result<Course> {
    let (closed, window) = (t.closed(), (t.plan.window_hours * HOUR).max(1));
    let points = i64::try_from(POINTS).unwrap_or(24);
    let step = |after: i64| usize::try_from(after * points / window).unwrap_or(0);
    let got = super::brought::by(c, t, None)?;
    let mut groups = vec![Vec::new(); if closed { 1 } else { arms(c, t)? }];
    let mut s = c.prepare_cached("SELECT arm, contact_id, handed_at FROM send WHERE mailing_id = ?1 AND phase = ?2 AND handed_at <= ?3")?;
    let mut rows = s.query(params![t.mailing_id.0, crate::send_state::Phase::Pilot as i64, now.millis()])?;
    while let Some(r) = rows.next()? {
        let since = now.millis() - r.get::<_, i64>(2)?;
        let first = got.get(&ContactId(r.get(1)?)).and_then(|g| g.first).filter(|first| *first <= since);
        let group = Group { passed: step(since).min(POINTS), answered: first.map(step), people: 1 };
        if let Some(arm) = groups.get_mut(if closed { 0 } else { usize::try_from(r.get::<_, i64>(0)?).unwrap_or(usize::MAX) }) {
            arm.push(group);
        }
    }
    let hours = (1..=POINTS).map(|k| t.plan.window_hours as f64 * k as f64 / POINTS as f64).collect();
    Ok(Course { hours, lines: groups.iter().map(|g| course::line(g)).collect(), pooled: closed, band: None })
}

/// The mailings of the 180 days before the seal that are at least 30 days old, the latest 40 of them.
fn past_mailings(c: &Connection, t: &Trial, column: &str, window: i64, now: Instant) -> Result<Vec<PastMailing>> {
    let question = format!("band {column} {window} {} {:?}", t.of_known_opens(), t.sealed_at);
    costly::of_the_hour(c, now, &question, || band_of(c, t, column, window, now))
}

fn band_of(c: &Connection, t: &Trial, column: &str, window: i64, now: Instant) -> Result<Vec<PastMailing>> {
    let until = t.sealed_at.unwrap_or(now.millis()) - 30 * DAY;
    let mut s = c.prepare_cached(&format!(
        "SELECT mailing_id, CASE WHEN {column} < handed_at + ?3 THEN ({column} - handed_at) * ?4 / ?3 WHEN {column} < handed_at + ?5 THEN ?4 ELSE -1 END, count(*)
         FROM send WHERE class = 1 AND channel = 1 AND at > ?1 AND at <= ?2 AND handed_at IS NOT NULL{}
            AND mailing_id IN (SELECT id FROM mailing WHERE started_at > ?1 AND started_at <= ?2 ORDER BY started_at DESC LIMIT 40)
         GROUP BY 1, 2 ORDER BY 1",
        if t.of_known_opens() { " AND opens_unknown = 0" } else { "" }
    ))?;
    let points = i64::try_from(POINTS).unwrap_or(24);
    let mut rows = s.query(params![until - 150 * DAY, until, window, points, 30 * DAY])?;
    let (mut past, mut last) = (Vec::new(), None);
    while let Some(r) = rows.next()? {
        let mailing = MailingId(r.get(0)?);
        if last != Some(mailing) {
            past.push(PastMailing { steps: [0; POINTS], later: 0, never: 0 });
            last = Some(mailing);
        }
        let Some(m) = past.last_mut() else { continue };
        let people = r.get::<_, i64>(2)?.unsigned_abs();
        match usize::try_from(r.get::<_, i64>(1)?) {
            Ok(step) if step < POINTS => m.steps[step] += people,
            Ok(_) => m.later += people,
            Err(_) => m.never += people,
        }
    }
    Ok(past)
}

/// Who of each arm followed which link, themselves and within their window; empty while the arms are closed.
///
/// # Errors
/// When the database fails.
pub fn links(c: &Connection, t: &Trial) -> Result<Vec<LinkByArm>> {
    if t.closed() {
        return Ok(Vec::new());
    }
    let arms = arms(c, t)?;
    let mut assigned = vec![0_u64; arms];
    let mut s = c.prepare_cached("SELECT arm, count(*) FROM roster WHERE trial_id = ?1 GROUP BY arm")?;
    let mut rows = s.query([t.id.0])?;
    let place = |arm: i64| usize::try_from(arm).ok().filter(|a| *a < arms);
    while let Some(r) = rows.next()? {
        if let Some(arm) = place(r.get(0)?) {
            assigned[arm] = r.get::<_, i64>(1)?.unsigned_abs();
        }
    }
    let mut followed: std::collections::HashMap<i64, Vec<u64>> = std::collections::HashMap::new();
    let mut s = c.prepare_cached(
        "SELECT r.link, s.arm, count(DISTINCT s.id) FROM send s JOIN response r ON r.send_id = s.id AND r.kind = 2 AND r.machine = 0
         WHERE s.mailing_id = ?1 AND s.phase = ?2 AND s.click_at IS NOT NULL AND r.at < s.handed_at + ?3 GROUP BY 1, 2",
    )?;
    let mut rows = s.query(params![t.mailing_id.0, crate::send_state::Phase::Pilot as i64, t.plan.window_hours * HOUR])?;
    while let Some(r) = rows.next()? {
        let (Some(link), Some(arm)) = (r.get::<_, Option<i64>>(0)?, place(r.get(1)?)) else { continue };
        followed.entry(link).or_insert_with(|| vec![0; arms])[arm] = r.get::<_, i64>(2)?.unsigned_abs();
    }
    let mut s = c.prepare_cached("SELECT position, name, url FROM link WHERE mailing_id = ?1 ORDER BY position")?;
    let rows = s.query_map([t.mailing_id.0], |r| Ok((r.get::<_, i64>(0)?, r.get(1)?, r.get(2)?)))?;
    rows.map(|row| {
        let (position, name, url) = row?;
        let people = followed.remove(&position).unwrap_or_else(|| vec![0; arms]);
        Ok(LinkByArm { position, name, url, arms: people.iter().zip(&assigned).map(|(n, of)| Rate::new(*n, *of)).collect() })
    })
    .collect()
}
