//! Conversions and revenue of the people on a roster: everything that meets the plan's goal within their window, whatever
//! they followed, also of those who got no mail. Nothing is attributed.

use super::Trial;
use crate::Result;
use rinse_core::goal::{Goal, Happened, What, Worth};
use rinse_core::id::ContactId;
use rinse_core::trial::assign::{self, Placed};
use rinse_core::words::fold;
use rinse_core::{HOUR, Instant};
use rusqlite::{Connection, params};
use std::collections::HashMap;

/// What one person brought within their window.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Got {
    pub(crate) arm: usize,
    pub(crate) stratum: i64,
    /// From the beginning of their window to their first conversion, in milliseconds; none: a refund alone.
    pub(crate) first: Option<i64>,
    /// Refunds taken off.
    pub(crate) cents: i64,
}

impl Got {
    #[allow(clippy::cast_precision_loss)]
    pub(crate) fn value(&self) -> f64 {
        self.cents as f64 / 100.0
    }
}

/// What happened to a person that a goal may be met by.
const BOUGHT: &str = "SELECT p.at, p.product, p.category, p.cents, p.currency";
const DID: &str = "SELECT p.at, p.name, '', 0, ''";

/// What something in a row is worth to a goal; the row is one of [`BOUGHT`] or [`DID`].
pub(crate) fn worth(goal: &Goal, r: &rusqlite::Row<'_>) -> rusqlite::Result<Worth> {
    let name: String = r.get(1)?;
    Ok(match goal.what {
        What::Purchase { .. } => {
            let (category, currency): (String, String) = (r.get(2)?, r.get(4)?);
            goal.worth(Happened::Purchase { product: &name, category: &category, cents: r.get(3)?, currency: &currency })
        }
        What::Event { .. } => goal.worth(Happened::Event { name: &name }),
    })
}

/// The columns and the table that a goal asks, `p`, with the condition on it.
pub(crate) fn source(goal: &Goal) -> (&'static str, &'static str, String) {
    match &goal.what {
        What::Purchase { .. } => (BOUGHT, "purchase", String::new()),
        What::Event { name, .. } => (DID, "event", fold(name)),
    }
}

/// When the window of those begins who were handed no message, or were to get none: at the median handover of those they were given their arms
/// with, so that all are looked at over the same days. By rules before version 5, and where nobody of them was handed any: at the seal.
fn begins(c: &Connection, t: &Trial) -> Result<HashMap<ContactId, i64>> {
    let Some(seed) = t.seed.filter(|_| t.plan.per_arm.is_none() && t.rule().is_ok_and(rinse_core::trial::rules::Rule::by_limits)) else {
        return Ok(HashMap::new());
    };
    let mut s = c.prepare_cached(
        "SELECT r.contact_id, s.handed_at FROM roster r JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1
         WHERE r.trial_id = ?1 AND s.handed_at IS NOT NULL",
    )?;
    let handed: HashMap<ContactId, i64> =
        s.query_map([t.id.0, t.mailing_id.0], |r| Ok((ContactId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let people: Vec<Placed> = super::roster(c, t.id)?
        .into_iter()
        .map(|e| Placed { contact: e.contact, stratum: e.stratum, opens_unknown: e.opens_unknown })
        .collect();
    let mut out = HashMap::new();
    for block in assign::blocks(seed.cast_unsigned(), &people, &t.plan.parts(super::arms(c, t)?)) {
        let mut times: Vec<i64> = block.members.iter().filter_map(|p| handed.get(&p.contact).copied()).collect();
        times.sort_unstable();
        if let Some(median) = times.get(times.len() / 2) {
            out.extend(block.members.iter().filter(|p| !handed.contains_key(&p.contact)).map(|p| (p.contact, *median)));
        }
    }
    Ok(out)
}

/// What each person on the roster brought; empty where the metric asks no goal. `handed_by`: of those alone whose message was handed over by then.
///
/// # Errors
/// When the database fails.
pub(crate) fn by(c: &Connection, t: &Trial, handed_by: Option<Instant>) -> Result<HashMap<ContactId, Got>> {
    let Some(goal) = t.plan.goal.as_ref().filter(|_| t.plan.metric.asks_goal()) else { return Ok(HashMap::new()) };
    let (columns, table, named) = source(&goal.goal);
    let only = if named.is_empty() { "AND ?5 = ?5" } else { "AND p.name_key = ?5" };
    let mut s = c.prepare_cached(&format!(
        "{columns}, r.contact_id, r.arm, r.stratum, s.handed_at FROM roster r
         LEFT JOIN send s ON s.mailing_id = ?2 AND s.contact_id = r.contact_id AND s.arm = r.arm AND s.phase = 1
         JOIN {table} p ON p.contact_id = r.contact_id AND p.at >= coalesce(s.handed_at, ?3) AND (s.handed_at IS NULL OR p.at < s.handed_at + ?4) {only}
         WHERE r.trial_id = ?1 AND (?6 IS NULL OR s.handed_at <= ?6) ORDER BY p.at"
    ))?;
    let (begins, sealed_at, window) = (begins(c, t)?, t.sealed_at.unwrap_or(0), t.plan.window_hours * HOUR);
    let mut rows = s.query(params![t.id.0, t.mailing_id.0, sealed_at, window, named, handed_by.map(|i| i.millis())])?;
    let mut out: HashMap<ContactId, Got> = HashMap::new();
    while let Some(r) = rows.next()? {
        let contact = ContactId(r.get(5)?);
        let began = r.get::<_, Option<i64>>(8)?.unwrap_or_else(|| begins.get(&contact).copied().unwrap_or(sealed_at));
        if !(began..began + window).contains(&r.get::<_, i64>(0)?) {
            continue;
        }
        let worth = worth(&goal.goal, r)?;
        if worth == Worth::default() {
            continue;
        }
        let got = out.entry(contact).or_insert(Got {
            arm: usize::try_from(r.get::<_, i64>(6)?).unwrap_or(usize::MAX),
            stratum: r.get(7)?,
            first: None,
            cents: 0,
        });
        got.cents += worth.cents;
        if worth.conversions > 0 && got.first.is_none() {
            got.first = Some(r.get::<_, i64>(0)? - began);
        }
    }
    Ok(out)
}

/// What followed the messages of a time, within a window from their handover.
#[derive(Debug, Clone, Default)]
pub(super) struct Followed {
    /// Messages after which the goal was met.
    pub(super) converted: f64,
    /// What followed a message, and its square, added up.
    pub(super) sum: f64,
    pub(super) squares: f64,
    /// What followed the messages that anything followed, or some of them, evenly over time.
    pub(super) amounts: Vec<f64>,
}

/// So many amounts say how they are spread.
const AMOUNTS: usize = 5_000;

/// Adds up what followed the marketing messages that were due between two instants, the goal's own events each in the
/// window of every message that it is in.
///
/// # Errors
/// When the database fails.
#[allow(clippy::cast_precision_loss)]
pub(super) fn followed(c: &Connection, goal: &Goal, (from, to): (Instant, Instant), window: i64) -> Result<Followed> {
    let (columns, table, named) = source(goal);
    let only = if named.is_empty() { "AND ?4 = ?4" } else { "AND p.name_key = ?4" };
    let mut s = c.prepare_cached(&format!(
        "{columns}, s.id FROM {table} p JOIN send s ON s.contact_id = p.contact_id AND s.class = 1 AND s.channel = 1 AND s.at > ?1 AND s.at <= ?2
            AND s.handed_at <= p.at AND s.handed_at + ?3 > p.at WHERE p.at > ?1 AND p.at <= ?2 + ?3 {only}"
    ))?;
    let mut rows = s.query(params![from.millis(), to.millis(), window, named])?;
    let mut of: HashMap<i64, Worth> = HashMap::new();
    while let Some(r) = rows.next()? {
        let (worth, sum) = (worth(goal, r)?, of.entry(r.get(5)?).or_default());
        sum.conversions += worth.conversions;
        sum.cents += worth.cents;
    }
    let mut of: Vec<(i64, Worth)> = of.into_iter().collect();
    of.sort_unstable_by_key(|(send, _)| *send);
    let value = |w: &Worth| w.cents as f64 / 100.0;
    let all: Vec<f64> = of.iter().map(|(_, w)| value(w)).filter(|v| *v != 0.0).collect();
    let step = all.len().div_ceil(AMOUNTS).max(1);
    Ok(Followed {
        converted: of.iter().map(|(_, w)| f64::from(u8::from(w.conversions > 0))).sum(),
        sum: all.iter().sum(),
        squares: all.iter().map(|v| v * v).sum(),
        amounts: all.into_iter().step_by(step).collect(),
    })
}
