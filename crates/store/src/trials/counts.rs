//! What is counted for a trial, over everyone on its roster, each within the window from their own handover.

use super::{Trial, arms, brought};
use crate::Result;
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::stats::Arm;
use rinse_core::trial::assign::OTHER_UNKNOWN;
use rinse_core::trial::metric::Metric;
use rinse_core::trial::reading::{Amounts, ArmCounts};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// Where a metric stands on a send: human, and as reported. None: it depends on what people did elsewhere.
pub(crate) fn columns(metric: Metric) -> Option<(&'static str, &'static str)> {
    match metric {
        Metric::HumanOpen => Some(("open_at", "any_open_at")),
        // By the rules that don't depend on the message's own links: variants may differ in those.
        Metric::HumanClick => Some(("trial_click_at", "any_click_at")),
        Metric::Reply => Some(("reply_at", "reply_at")),
        Metric::Leaving => Some(("left_at", "left_at")),
        Metric::LeavingTopic => Some(("topic_left_at", "topic_left_at")),
        Metric::Pausing => Some(("paused_at", "paused_at")),
        Metric::Withdrawing => Some(("withdrew_at", "withdrew_at")),
        Metric::Complaining => Some(("complained_at", "complained_at")),
        Metric::Conversion | Metric::Revenue => None,
    }
}

/// The messages whose response to a metric can be known, in SQL over `send`.
pub(super) fn known_of(metric: Metric) -> &'static str {
    if metric == Metric::HumanOpen { "opens_unknown = 0" } else { "1" }
}

/// The people on a roster whose response to the trial's metric can be known, in SQL over `roster r`.
pub(super) fn known(t: &Trial) -> &'static str {
    if t.of_known_opens() { "r.opens_unknown = 0" } else { "1" }
}

/// All arms, those without mail last.
fn places(c: &Connection, t: &Trial) -> Result<usize> {
    Ok(t.plan.parts(arms(c, t)?).len())
}

fn whole(n: i64) -> u64 {
    u64::try_from(n).unwrap_or(0)
}

/// Of each stratum of the assignment, the people and the primary of each arm.
pub(super) fn strata(c: &Connection, t: &Trial, by: Option<Instant>) -> Result<Vec<(i64, Vec<Arm>)>> {
    let mut out = strata_of_messages(c, t, by)?;
    for got in brought::by(c, t, by)?.values().filter(|g| g.first.is_some()) {
        let slot = out.iter_mut().find(|l| l.0 == got.stratum).and_then(|l| l.1.get_mut(got.arm));
        if let Some(slot) = slot {
            slot.successes += 1;
        }
    }
    Ok(out)
}

/// The same without what people did elsewhere.
fn strata_of_messages(c: &Connection, t: &Trial, by: Option<Instant>) -> Result<Vec<(i64, Vec<Arm>)>> {
    let window = t.plan.window_hours * rinse_core::HOUR;
    let primary = columns(t.plan.metric).map_or("NULL".to_owned(), |(column, _)| format!("s.{column}"));
    let mut s = c.prepare_cached(&format!(
        "SELECT r.stratum, r.arm, sum({known}), coalesce(sum({known} AND {primary} < s.handed_at + ?3), 0) FROM roster r
         LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1 WHERE r.trial_id = ?1 AND (?4 IS NULL OR s.handed_at <= ?4) GROUP BY r.stratum, r.arm ORDER BY 1",
        known = known(t)
    ))?;
    let places = places(c, t)?;
    let mut out: Vec<(i64, Vec<Arm>)> = Vec::new();
    let mut rows = s.query(params![t.id.0, t.mailing_id.0, window, by.map(|i| i.millis())])?;
    while let Some(r) = rows.next()? {
        let (stratum, arm): (i64, i64) = (r.get(0)?, r.get(1)?);
        if out.last().is_none_or(|l| l.0 != stratum) {
            out.push((stratum, vec![Arm { successes: 0, trials: 0 }; places]));
        }
        if let Some(slot) = out.last_mut().and_then(|l| l.1.get_mut(usize::try_from(arm).unwrap_or(usize::MAX))) {
            *slot = Arm { successes: whole(r.get(3)?), trials: whole(r.get(2)?) };
        }
    }
    Ok(out)
}

/// A stratum of the assignment, with its people in each arm.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = BalanceRow)]
pub struct Balance {
    pub stratum: String,
    /// Those without mail last.
    pub people: Vec<i64>,
}

/// How evenly the arms were filled, stratum by stratum; of a trial on opens, with those whose opens can be known.
///
/// # Errors
/// When the database fails.
pub fn balance(c: &Connection, t: &Trial) -> Result<Vec<Balance>> {
    let stretches = super::enrol::stretches(c, t)?;
    if !stretches.is_empty() {
        let row = |(s, n): (super::enrol::Stretch, usize)| Balance {
            stratum: format!("stretch {n}, from {} UTC", Instant::of(s.began_at).words()),
            people: s.people.iter().map(|n| i64::try_from(*n).unwrap_or(0)).collect(),
        };
        return Ok(stretches.into_iter().zip(1..).map(row).collect());
    }
    let mut name = c.prepare_cached("SELECT name FROM domain WHERE id = ?1")?;
    let sealed = t.seal.is_some();
    strata(c, t, None)?
        .into_iter()
        .map(|(stratum, arms)| {
            // Before there were seals a stratum was the domain alone.
            let group = if sealed { stratum / 8 } else { stratum };
            let domain: Option<String> = name.query_row([group], |r| r.get(0)).optional()?;
            let domain = domain.unwrap_or_else(|| {
                if group == i64::from(OTHER_UNKNOWN) { "other domains that fetch images by themselves" } else { "other domains" }.into()
            });
            let words = match usize::try_from(stratum % 8).ok().and_then(|a| rinse_core::load::Answer::ALL.get(a)) {
                Some(answer) if sealed => format!("{domain}, {}", answer.words()),
                _ => domain,
            };
            Ok(Balance { stratum: words, people: arms.iter().map(|a| i64::try_from(a.trials).unwrap_or(0)).collect() })
        })
        .collect()
}

/// Counts each arm, those without mail last.
///
/// # Errors
/// When the database fails.
pub fn counts(c: &Connection, t: &Trial) -> Result<Vec<ArmCounts>> {
    counted(c, t, None, t.read_by())
}

/// The same of those who came in one stretch, and were handed their message by an instant.
pub(super) fn of_stretch(c: &Connection, t: &Trial, place: usize, by: Option<Instant>) -> Result<Vec<ArmCounts>> {
    counted(c, t, Some(i64::try_from(place).unwrap_or(i64::MAX)), by)
}

fn counted(c: &Connection, t: &Trial, stretch: Option<i64>, by: Option<Instant>) -> Result<Vec<ArmCounts>> {
    let window = t.plan.window_hours * rinse_core::HOUR;
    let within = |column: &str| format!("coalesce(sum(s.{column} < s.handed_at + {window}), 0)");
    let known = known(t);
    let of_known = |column: &str| format!("coalesce(sum({known} AND s.{column} < s.handed_at + {window}), 0)");
    let (primary, reported) = columns(t.plan.metric).map_or_else(|| ("0".into(), "0".into()), |(p, r)| (of_known(p), of_known(r)));
    let removed = columns(t.plan.metric).filter(|_| t.plan.metric.has_machines()).map_or_else(
        || "0".into(),
        |(own, any)| format!("coalesce(sum({known} AND s.{any} < s.handed_at + {window} AND (s.{own} IS NULL OR s.{any} < s.{own})), 0)"),
    );
    let sql =
        format!(
        "SELECT r.arm, count(*), count(s.handed_at), count(s.accepted_at), count(s.failed_at), {primary}, {reported}, {}, {}, {}, {removed}, count(*) - sum({known})
         FROM roster r LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1
         WHERE r.trial_id = ?1 AND (?3 IS NULL OR r.stratum = ?3) AND (?4 IS NULL OR s.handed_at <= ?4) GROUP BY r.arm",
        within("click_at"), within("left_at"), within("complained_at"),
    );
    let mut out = vec![ArmCounts::default(); places(c, t)?];
    let mut s = c.prepare_cached(&sql)?;
    let mut rows = s.query(params![t.id.0, t.mailing_id.0, stretch, by.map(|i| i.millis())])?;
    while let Some(r) = rows.next()? {
        let n = |i| r.get::<_, i64>(i).map(whole);
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
                removed: n(10)?,
                unknown: n(11)?,
                ..ArmCounts::default()
            };
        }
    }
    for got in brought::by(c, t, by)?.values().filter(|g| stretch.is_none_or(|s| g.stratum == s)) {
        add(&mut out, got);
    }
    Ok(out)
}

/// Adds what a person brought to their arm.
fn add(counts: &mut [ArmCounts], got: &brought::Got) {
    if let Some(slot) = counts.get_mut(got.arm) {
        let n = u64::from(got.first.is_some());
        (slot.primary, slot.reported) = (slot.primary + n, slot.reported + n);
        let value = got.value();
        (slot.sum, slot.squares) = (slot.sum + value, slot.squares + value * value);
    }
}

/// The people of a subgroup in each arm, with their primary.
///
/// # Errors
/// When the database fails.
pub(super) fn of_group(c: &Connection, t: &Trial, place: usize) -> Result<Vec<ArmCounts>> {
    let place = i64::try_from(place).unwrap_or(0);
    let primary = columns(t.plan.metric).map_or("NULL".to_owned(), |(column, _)| format!("s.{column}"));
    let mut s = c.prepare_cached(&format!(
        "SELECT r.contact_id, r.arm, {known} AND coalesce({primary} < s.handed_at + ?3, 0), NOT ({known}) FROM roster_group g JOIN roster r ON r.trial_id = g.trial_id AND r.contact_id = g.contact_id
         LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1 WHERE g.trial_id = ?1 AND g.place = ?4",
        known = known(t)
    ))?;
    let got = brought::by(c, t, None)?;
    let mut out = vec![ArmCounts::default(); places(c, t)?];
    let mut rows = s.query(params![t.id.0, t.mailing_id.0, t.plan.window_hours * rinse_core::HOUR, place])?;
    while let Some(r) = rows.next()? {
        if let Some(slot) = usize::try_from(r.get::<_, i64>(1)?).ok().and_then(|a| out.get_mut(a)) {
            slot.assigned += 1;
            slot.primary += whole(r.get(2)?);
            slot.unknown += whole(r.get(3)?);
        }
        if let Some(got) = got.get(&ContactId(r.get(0)?)) {
            add(&mut out, got);
        }
    }
    Ok(out)
}

/// Of revenue: the people of each stratum, or stretch, arm by arm, and what those brought who brought anything, in the currency's unit.
///
/// # Errors
/// When the database fails.
pub(super) fn amounts(c: &Connection, t: &Trial, by: Option<Instant>) -> Result<Vec<Amounts>> {
    if !t.plan.metric.is_money() {
        return Ok(Vec::new());
    }
    let in_series = t.plan.per_arm.is_some();
    let strata = strata_of_messages(c, t, by)?;
    let place: HashMap<i64, usize> = strata.iter().zip(0..).map(|((stratum, _), i)| (*stratum, i)).collect();
    let of = |(stratum, arms): &(i64, Vec<Arm>)| Amounts {
        stretch: if in_series { usize::try_from(*stratum).unwrap_or(0) } else { 0 },
        people: arms.iter().map(|a| a.trials).collect(),
        brought: vec![Vec::new(); arms.len()],
    };
    let mut out: Vec<Amounts> = strata.iter().map(of).collect();
    let got = brought::by(c, t, by)?;
    // In the roster's order, so that the same trial is drawn again the same.
    let mut people: Vec<(&ContactId, &brought::Got)> = got.iter().filter(|(_, g)| g.cents != 0).collect();
    people.sort_unstable_by_key(|(contact, _)| **contact);
    for (_, got) in people {
        if let Some(arm) = place.get(&got.stratum).and_then(|i| out[*i].brought.get_mut(got.arm)) {
            arm.push(got.value());
        }
    }
    Ok(out)
}

/// Of revenue before version 5 of the rule: what the people of each arm brought who brought anything, in the currency's unit.
///
/// # Errors
/// When the database fails.
pub(super) fn values(c: &Connection, t: &Trial) -> Result<Vec<Vec<f64>>> {
    if !t.plan.metric.is_money() {
        return Ok(Vec::new());
    }
    let mut out = vec![Vec::new(); places(c, t)?];
    let got = brought::by(c, t, None)?;
    // In the roster's order, so that the same trial is resampled the same.
    let mut people: Vec<(&ContactId, &brought::Got)> = got.iter().filter(|(_, g)| g.cents != 0).collect();
    people.sort_unstable_by_key(|(contact, _)| **contact);
    for (_, got) in people {
        if let Some(arm) = out.get_mut(got.arm) {
            arm.push(got.value());
        }
    }
    Ok(out)
}
