//! What came of the rounds of an hour trial: of everybody who was drawn, each within the window from their own handover.

use super::{Content, HourTrial};
use crate::trials::brought::{source, worth};
use crate::trials::columns;
use crate::{Result, mailings};
use rinse_core::id::{ContactId, MailingId};
use rinse_core::standing::MailingState;
use rinse_core::trial::hour::draw::drawn_at;
use rinse_core::trial::hour::reading::Answered;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashSet;
use utoipa::ToSchema;

/// Handed over later than this after their hour, or never: lost. Machines open what they open within the window, too.
pub(super) const WITHIN: i64 = HOUR;

/// Did somebody do what is counted within the window, in SQL; `window`: its length. Of a goal it isn't in their message: [`converted`] tells.
fn did(t: &HourTrial, window: &str) -> String {
    columns(t.plan.metric).map_or_else(|| format!("0 * {window}"), |c| format!("coalesce(s.{} < s.handed_at + {window}, 0)", c.0))
}

/// Who met the plan's goal within the window of a round, whatever they followed: from their handover, or, where nothing was handed to them, from
/// when it was due. By round, from 0, and person; empty where the metric asks no goal.
fn converted(c: &Connection, t: &HourTrial) -> Result<HashSet<(i64, ContactId)>> {
    let Some(goal) = t.plan.goal.as_ref().filter(|_| t.plan.metric.asks_goal()) else { return Ok(HashSet::new()) };
    let (columns, table, named) = source(&goal.goal);
    let only = if named.is_empty() { "AND ?3 = ?3" } else { "AND p.name_key = ?3" };
    let mut s = c.prepare_cached(&format!(
        "{columns}, d.round, r.contact_id FROM hour_round d JOIN hour_roster r ON r.mailing_id = d.mailing_id
            LEFT JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id
            JOIN {table} p ON p.contact_id = r.contact_id AND p.at >= coalesce(s.handed_at, r.due) AND p.at < coalesce(s.handed_at, r.due) + ?2 {only}
         WHERE d.trial_id = ?1 AND d.drawn_at IS NOT NULL"
    ))?;
    let mut rows = s.query(params![t.id.0, i64::from(t.plan.window_days) * DAY, named])?;
    let mut out = HashSet::new();
    while let Some(r) = rows.next()? {
        if worth(&goal.goal, r)?.conversions > 0 {
            out.insert((r.get(5)?, ContactId(r.get(6)?)));
        }
    }
    Ok(out)
}

/// Everybody who was drawn, in every round.
///
/// # Errors
/// When the database fails.
pub fn of(c: &Connection, t: &HourTrial) -> Result<Vec<Answered>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT d.round, r.contact_id, r.zone, r.stratum, r.hour, r.opens_unknown, s.handed_at IS NULL OR s.handed_at > r.due + ?2,
            coalesce(s.any_open_at < s.handed_at + ?3 AND s.open_at IS NULL, 0), {did}
         FROM hour_round d JOIN hour_roster r ON r.mailing_id = d.mailing_id LEFT JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id
         WHERE d.trial_id = ?1 AND d.drawn_at IS NOT NULL ORDER BY d.round, r.contact_id",
        did = did(t, "?3")
    ))?;
    let converted = converted(c, t)?;
    let window = i64::from(t.plan.window_days) * DAY;
    let rows = s.query_map(params![t.id.0, WITHIN, window], |r| {
        let (round, contact) = (r.get(0)?, ContactId(r.get(1)?));
        Ok(Answered {
            round: usize::try_from(round).unwrap_or(0),
            contact,
            zone: r.get(2)?,
            stratum: r.get(3)?,
            hour: r.get(4)?,
            opens_unknown: r.get(5)?,
            lost: r.get(6)?,
            machine: r.get(7)?,
            did: r.get(8)? || converted.contains(&(round, contact)),
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A round as it stands.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct RoundNow {
    /// From 1.
    pub round: i64,
    pub mailing: MailingId,
    pub name: String,
    pub state: MailingState,
    pub day: i64,
    /// When it is drawn, or was to be.
    pub draws_at: i64,
    pub drawn_at: Option<i64>,
    pub missed: Option<String>,
    pub people: i64,
    pub handed_over: i64,
    /// Whose hour is over by more than an hour, and whose message wasn't handed over.
    pub lost: i64,
    /// What of its message was changed after the seal.
    pub changed: Vec<String>,
}

/// Is somebody of a round lost by now, in SQL? `?2`: within how long of their hour, `?3`: now.
const LOST: &str = "s.handed_at > r.due + ?2 OR s.handed_at IS NULL AND r.due + ?2 < ?3";

/// The rounds of a sealed trial as they stand.
///
/// # Errors
/// When the database fails.
pub fn rounds(c: &Connection, t: &HourTrial, now: Instant) -> Result<Vec<RoundNow>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT d.round + 1, d.mailing_id, m.name, m.state, d.day, d.drawn_at, d.missed, d.content, coalesce(n.people, 0), coalesce(n.handed_over, 0), coalesce(n.lost, 0)
         FROM hour_round d JOIN mailing m ON m.id = d.mailing_id LEFT JOIN (
            SELECT o.round, count(*) AS people, count(s.handed_at) AS handed_over, sum({LOST}) AS lost FROM hour_round o JOIN hour_roster r ON r.mailing_id = o.mailing_id
            LEFT JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id WHERE o.trial_id = ?1 AND o.drawn_at IS NOT NULL GROUP BY o.round
         ) n ON n.round = d.round WHERE d.trial_id = ?1 ORDER BY d.round"
    ))?;
    let mut contents = Vec::new();
    let mut out: Vec<RoundNow> = s
        .query_map(params![t.id.0, WITHIN, now.millis()], |r| {
            contents.push(r.get::<_, String>(7)?);
            Ok(RoundNow {
                round: r.get(0)?,
                mailing: MailingId(r.get(1)?),
                name: r.get(2)?,
                state: r.get::<_, crate::stored::Worded<_>>(3)?.0,
                day: r.get(4)?,
                draws_at: drawn_at(r.get(4)?).millis(),
                drawn_at: r.get(5)?,
                missed: r.get(6)?,
                people: r.get(8)?,
                handed_over: r.get(9)?,
                lost: r.get(10)?,
                changed: Vec::new(),
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    for (r, content) in out.iter_mut().zip(contents) {
        let sealed: Content = crate::stored::document(&content, "hour trial", t.id.0)?;
        let m = mailings::one(c, r.mailing)?;
        r.changed = sealed.differs(&Content::of(&m)?).into_iter().map(str::to_owned).collect();
    }
    Ok(out)
}

/// One hour while the trial runs: how many were drawn to it and how many of them were lost; nothing of what they did.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct HourNow {
    pub hour: u8,
    pub people: i64,
    pub lost: i64,
}

/// All hours together: all that is shown of answers before the end.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = HoursPooled)]
pub struct Pooled {
    pub people: i64,
    /// Whose answer can be known.
    pub known: i64,
    pub handed_over: i64,
    pub did: i64,
    pub hours: Vec<HourNow>,
}

/// What is known while it runs.
///
/// # Errors
/// When the database fails.
pub fn pooled(c: &Connection, t: &HourTrial, now: Instant) -> Result<Pooled> {
    let known = if t.plan.leaves_unknown_out() { "r.opens_unknown = 0" } else { "1" };
    let mut s = c.prepare_cached(&format!(
        "SELECT r.hour, count(*), sum({known}), count(s.handed_at), coalesce(sum({known} AND {did}), 0), coalesce(sum({LOST}), 0)
         FROM hour_round d JOIN hour_roster r ON r.mailing_id = d.mailing_id LEFT JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id
         WHERE d.trial_id = ?1 AND d.drawn_at IS NOT NULL GROUP BY r.hour ORDER BY r.hour",
        did = did(t, "?4")
    ))?;
    let converted = i64::try_from(converted(c, t)?.len()).unwrap_or(i64::MAX);
    let mut out = Pooled { people: 0, known: 0, handed_over: 0, did: converted, hours: Vec::new() };
    let mut rows = s.query(params![t.id.0, WITHIN, now.millis(), i64::from(t.plan.window_days) * DAY])?;
    while let Some(r) = rows.next()? {
        let (hour, people): (u8, i64) = (r.get(0)?, r.get(1)?);
        out.people += people;
        out.known += r.get::<_, i64>(2)?;
        out.handed_over += r.get::<_, i64>(3)?;
        out.did += r.get::<_, i64>(4)?;
        out.hours.push(HourNow { hour, people, lost: r.get(5)? });
    }
    Ok(out)
}
