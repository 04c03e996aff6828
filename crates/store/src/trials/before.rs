//! What people did before their trial: the share of each one's last messages that they answered by the plan's metric. Frozen at the seal, it takes
//! out of the comparison what would have differed between people anyway.

use super::{Trial, counts};
use crate::{Result, costly};
use rinse_core::id::{ContactId, TrialId};
use rinse_core::trial::metric::Metric;
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::BeforeGroup;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{CachedStatement, Connection, Statement, params};

/// So many of a person's last messages are looked at.
const MESSAGES: u32 = 12;
/// Shares of up to twelve are whole in this many parts, so that they are kept to the last digit.
const PARTS: u32 = 27_720;
/// With fewer messages nothing is said of how much it explains.
const LEAST: usize = 300;
/// So many messages of the past say how much it explains.
const SAMPLE: i64 = 4_000;

/// Finds a person's last messages whose window was over at an instant, and before a message. None of a metric that isn't on a message.
fn last_messages(c: &Connection, metric: Metric) -> Result<Option<CachedStatement<'_>>> {
    let Some((column, _)) = counts::columns(metric) else { return Ok(None) };
    Ok(Some(c.prepare_cached(&format!(
        "SELECT count(*), coalesce(sum(answered), 0) FROM (SELECT coalesce({column} < handed_at + ?3, 0) AS answered FROM send
            WHERE contact_id = ?1 AND id < ?4 AND channel = 1 AND class = 1 AND handed_at + ?3 <= ?2 AND {} ORDER BY id DESC LIMIT {MESSAGES})",
        counts::known_of(metric)
    ))?))
}

/// The share that a person answered, in parts; none of somebody without messages.
fn share(s: &mut Statement<'_>, contact: ContactId, (at, window, before): (Instant, i64, i64)) -> Result<Option<u32>> {
    let (n, x): (u32, u32) = s.query_row(params![contact.0, at.millis(), window, before], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok((n > 0).then(|| x * PARTS / n))
}

/// What the people of a pilot did before now, in the order they are given; those without messages count as the others do on average.
///
/// # Errors
/// When the database fails.
pub fn of_people(c: &Connection, plan: &Plan, people: &[ContactId], now: Instant) -> Result<Vec<(ContactId, u32)>> {
    let Some(mut s) = last_messages(c, plan.metric)?.filter(|_| plan.uses_before) else { return Ok(Vec::new()) };
    let window = plan.window_hours * HOUR;
    let found = people.iter().map(|p| share(&mut s, *p, (now, window, i64::MAX))).collect::<Result<Vec<_>>>()?;
    let (n, sum) = found.iter().flatten().fold((0_u64, 0_u64), |(n, sum), x| (n + 1, sum + u64::from(*x)));
    let usual = u32::try_from(sum / n.max(1)).unwrap_or(0);
    Ok(people.iter().zip(found).map(|(p, x)| (*p, x.unwrap_or(usual))).collect())
}

/// The same as text, to be sealed.
pub(super) fn sealed(before: &[(ContactId, u32)]) -> Option<String> {
    (!before.is_empty()).then(|| before.iter().map(|(contact, share)| format!("{contact} {share}")).collect::<Vec<_>>().join(","))
}

/// What was frozen, in the order of people.
pub(super) fn frozen(c: &Connection, trial: TrialId) -> Result<Vec<(ContactId, u32)>> {
    let mut s = c.prepare_cached("SELECT contact_id, share FROM roster_before WHERE trial_id = ?1 ORDER BY contact_id")?;
    Ok(s.query_map([trial.0], |r| Ok((ContactId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// The people of each arm by what they did before, with those who have the primary; empty where the plan doesn't use it.
pub(super) fn groups(c: &Connection, t: &Trial, arms: usize) -> Result<Vec<Vec<BeforeGroup>>> {
    let Some((column, _)) = counts::columns(t.plan.metric).filter(|_| t.plan.uses_before) else { return Ok(Vec::new()) };
    let mut s = c.prepare_cached(&format!(
        "SELECT r.arm, b.share, count(*), coalesce(sum(s.{column} < s.handed_at + ?3), 0)
         FROM roster r JOIN roster_before b ON b.trial_id = r.trial_id AND b.contact_id = r.contact_id
         LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1 WHERE r.trial_id = ?1 AND {} GROUP BY 1, 2",
        counts::known(t)
    ))?;
    let mut out = vec![Vec::new(); arms];
    let mut rows = s.query(params![t.id.0, t.mailing_id.0, t.plan.window_hours * HOUR])?;
    while let Some(r) = rows.next()? {
        let n = |i| r.get::<_, i64>(i).map(|n| n.unsigned_abs());
        let group = BeforeGroup { share: f64::from(r.get::<_, u32>(1)?) / f64::from(PARTS), people: n(2)?, primary: n(3)? };
        if let Some(arm) = usize::try_from(r.get::<_, i64>(0)?).ok().and_then(|a| out.get_mut(a)) {
            arm.push(group);
        }
    }
    Ok(out)
}

/// The share of the metric's variance that what people did before explains, by messages of the last half year; none where too few are old enough.
///
/// # Errors
/// When the database fails.
pub fn explained(c: &Connection, plan: &Plan, now: Instant) -> Result<Option<f64>> {
    let question = format!("explained {:?} {} {}", plan.metric, plan.window_hours, plan.may_use_before());
    costly::of_the_hour(c, now, &question, || explained_by(c, plan, now))
}

fn explained_by(c: &Connection, plan: &Plan, now: Instant) -> Result<Option<f64>> {
    let (Some((column, _)), Some(mut last)) = (counts::columns(plan.metric), last_messages(c, plan.metric)?) else { return Ok(None) };
    if !plan.may_use_before() {
        return Ok(None);
    }
    let window = plan.window_hours * HOUR;
    // The newest that are old enough, a few of each mailing.
    let mut s = c.prepare_cached(&format!(
        "SELECT id, contact_id, handed_at, coalesce({column} < handed_at + ?2, 0) FROM send
         WHERE class = 1 AND at <= ?1 AND at > ?1 - {} AND channel = 1 AND handed_at IS NOT NULL AND id % 7 = 0 AND {} ORDER BY at DESC LIMIT {SAMPLE}",
        180 * DAY,
        counts::known_of(plan.metric)
    ))?;
    let messages: Vec<(i64, i64, i64, f64)> = s
        .query_map(params![(now + -window).millis(), window], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?
        .collect::<rusqlite::Result<_>>()?;
    let mut pairs: Vec<(f64, f64)> = Vec::new();
    for (id, contact, handed_at, answered) in messages {
        if let Some(x) = share(&mut last, ContactId(contact), (Instant::of(handed_at), window, id))? {
            pairs.push((f64::from(x), answered));
        }
    }
    Ok((pairs.len() >= LEAST).then(|| correlation(&pairs).powi(2)).filter(|e| e.is_finite()))
}

/// Pearson's; no number where nothing varies.
#[allow(clippy::cast_precision_loss)]
fn correlation(pairs: &[(f64, f64)]) -> f64 {
    let n = pairs.len() as f64;
    let (mx, my) = pairs.iter().fold((0.0, 0.0), |m, p| (m.0 + p.0 / n, m.1 + p.1 / n));
    let sum = |of: &dyn Fn(f64, f64) -> f64| pairs.iter().map(|p| of(p.0 - mx, p.1 - my)).sum::<f64>();
    sum(&|x, y| x * y) / (sum(&|x, _| x * x) * sum(&|_, y| y * y)).sqrt()
}
