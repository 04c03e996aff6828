//! What happens to a mailing from planning to the end: paused, resumed, stopped, followed, and where it stands in the calendar.

use crate::codes::{MAILING_DRAFT, MAILING_PLANNED, MAILING_SENDING, TRIAL_COLLECTING, TRIAL_READ, TRIAL_ROLLING};
use crate::send_state::{ACCEPTED, BETWEEN, DEFERRED, DUE, FAILED, HELD, NOT_SENT, PLACED, WAITING};
use crate::settings::audit;
use crate::stored::Worded;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::id::MailingId;
use rinse_core::schedule::{Passed, Schedule};
use rinse_core::standing::{MailingEvent, MailingState};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// Where a mailing stands.
///
/// # Errors
/// When there is no such mailing.
pub(crate) fn state(c: &Connection, id: MailingId) -> Result<MailingState> {
    let found = c.prepare_cached("SELECT state FROM mailing WHERE id = ?1")?.query_row([id.0], |r| Ok(r.get::<_, Worded<_>>(0)?.0));
    found.optional()?.ok_or(StoreError::Missing("mailing"))
}

/// Moves a mailing on.
///
/// # Errors
/// When that doesn't happen to it where it stands.
pub fn advance(c: &Connection, id: MailingId, event: MailingEvent, planned_at: Option<Instant>) -> Result<()> {
    let state = state(c, id)?;
    let Some(to) = state.next(event) else {
        return Err(StoreError::Refused(format!("This mailing is {state}; that can't be done to it any more.")));
    };
    c.execute(
        "UPDATE mailing SET state = ?2, planned_at = coalesce(?3, planned_at) WHERE id = ?1",
        params![id.0, Worded(to), planned_at.map(|i| i.millis())],
    )?;
    Ok(())
}

fn schedule(c: &Connection, id: MailingId) -> Result<Schedule> {
    let text: String = c
        .query_row("SELECT schedule FROM mailing WHERE id = ?1", [id.0], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("mailing"))?;
    Ok(crate::stored::document(&text, "mailing", id.0)?)
}

/// Nothing more of it is handed over until it is resumed.
///
/// # Errors
/// When it isn't on its way, or paused already.
pub fn pause(c: &Connection, id: MailingId, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute(
        formatcp!(
            "UPDATE mailing SET paused_at = ?2 WHERE id = ?1 AND state IN ({MAILING_PLANNED}, {MAILING_SENDING}) AND paused_at IS NULL"
        ),
        params![id.0, now.millis()],
    )?;
    if n == 0 {
        return Err(StoreError::Refused("Only a mailing that is planned or going out can be paused.".into()));
    }
    audit(c, now, person, "mailing paused", "mailing", id.0, "")
}

/// Goes on with a paused mailing. What was due meanwhile keeps its distances: it is moved by the length of the pause. Where
/// everyone has an hour of their own, those whose hour has passed get it as the schedule says for them.
///
/// # Errors
/// When it isn't paused.
pub fn resume(c: &Connection, id: MailingId, now: Instant, person: Option<i64>) -> Result<()> {
    let paused: i64 = c
        .query_row("SELECT paused_at FROM mailing WHERE id = ?1 AND paused_at IS NOT NULL AND series_id IS NULL", [id.0], |r| r.get(0))
        .optional()?
        .ok_or_else(|| StoreError::Refused("This mailing isn't paused.".into()))?;
    let waited = now.millis() - paused;
    match schedule(c, id)?.local.map(|l| l.passed) {
        None => {
            // Held people keep their instants: caps and hours decide on those. Being given up waits as long, too.
            c.execute(
                formatcp!("UPDATE send SET at = at + ?2, give_up_at = give_up_at + ?2 WHERE mailing_id = ?1 AND state IN ({PLACED})"),
                params![id.0, waited],
            )?;
            c.execute(
                formatcp!("UPDATE send SET give_up_at = give_up_at + ?2 WHERE mailing_id = ?1 AND state = {HELD}"),
                params![id.0, waited],
            )?;
        }
        Some(Passed::Now) => {
            c.execute(
                formatcp!("UPDATE send SET at = ?2 WHERE mailing_id = ?1 AND state IN ({PLACED}) AND at < ?2"),
                params![id.0, now.millis()],
            )?;
        }
        Some(Passed::Tomorrow) => {
            c.execute(
                formatcp!("UPDATE send SET at = at + (?2 - at + ?3 - 1) / ?3 * ?3, give_up_at = give_up_at + (?2 - at + ?3 - 1) / ?3 * ?3 WHERE mailing_id = ?1 AND state IN ({PLACED}) AND at < ?2"),
                params![id.0, now.millis(), DAY],
            )?;
        }
        Some(Passed::Not) => {
            c.execute(
                formatcp!("UPDATE send SET state = {NOT_SENT}, reply = ?3 WHERE mailing_id = ?1 AND state IN ({PLACED}) AND at < ?2"),
                params![id.0, now.millis(), crate::send_state::HOUR_PASSED],
            )?;
        }
    }
    c.execute("UPDATE mailing SET paused_at = NULL WHERE id = ?1", [id.0])?;
    // One that should have begun meanwhile begins now.
    c.execute(
        formatcp!("UPDATE mailing SET planned_at = max(planned_at, ?2) WHERE id = ?1 AND state = {MAILING_PLANNED}"),
        params![id.0, now.millis()],
    )?;
    audit(c, now, person, "mailing resumed", "mailing", id.0, "")
}

/// Stops what hasn't gone: a planned mailing is a draft again, one on its way sends to nobody more. What was handed over stays.
/// Returns how many people it would still have reached.
///
/// # Errors
/// When it isn't on its way, or a trial of it is.
pub fn cancel(c: &Connection, id: MailingId, now: Instant, person: Option<i64>) -> Result<usize> {
    match state(c, id)? {
        MailingState::Planned => {
            c.execute(formatcp!("UPDATE mailing SET state = {MAILING_DRAFT}, planned_at = NULL, paused_at = NULL WHERE id = ?1"), [id.0])?;
            audit(c, now, person, "mailing taken back", "mailing", id.0, "a draft again")?;
            Ok(0)
        }
        MailingState::Sending => {
            if c.prepare_cached(formatcp!(
                "SELECT 1 FROM trial WHERE mailing_id = ?1 AND state IN ({TRIAL_COLLECTING}, {TRIAL_READ}, {TRIAL_ROLLING})"
            ))?
            .exists([id.0])?
            {
                return Err(StoreError::Refused(
                    "A trial of this mailing is running: stopping part of it would break the comparison.".into(),
                ));
            }
            let round = formatcp!(
                "SELECT 1 FROM hour_round r JOIN hour_trial t ON t.id = r.trial_id WHERE r.mailing_id = ?1 AND r.drawn_at IS NOT NULL AND t.state = {TRIAL_COLLECTING}"
            );
            if c.prepare_cached(round)?.exists([id.0])? {
                return Err(StoreError::Refused(
                    "This mailing is a round of a running hour trial: late hours would lose more people than early ones. End the trial first.".into(),
                ));
            }
            let n = c.execute(
                formatcp!("UPDATE send SET state = {NOT_SENT}, reply = ?2 WHERE mailing_id = ?1 AND state IN ({WAITING})"),
                params![id.0, crate::send_state::CANCELLED],
            )?;
            c.execute("UPDATE mailing SET paused_at = NULL, recording = 0, cancelled_at = ?2 WHERE id = ?1", [id.0, now.millis()])?;
            audit(
                c,
                now,
                person,
                "rest of the mailing cancelled",
                "mailing",
                id.0,
                &format!("not sent to {}", rinse_core::words::people(n as u64)),
            )?;
            Ok(n)
        }
        other => Err(StoreError::Refused(format!("This mailing is {other}; there is nothing left to cancel."))),
    }
}

/// How far a mailing is with one mail domain.
#[derive(Debug, Clone, Default, Serialize, ToSchema)]
pub struct Way {
    /// Empty: all others.
    pub domain: String,
    pub people: i64,
    /// Due later, or next in line.
    pub waiting: i64,
    /// Waiting for what a rule holds.
    pub held: i64,
    pub handing: i64,
    pub accepted: i64,
    /// Put off by the host, to be tried again.
    pub deferred: i64,
    pub failed: i64,
    /// Barred at the last moment, cancelled, or their hour had passed.
    pub stopped: i64,
    /// When the next of them is due.
    pub next_at: Option<i64>,
    /// When the last of them is due.
    pub last_at: Option<i64>,
}

/// Domains shown each for itself.
const SHOWN: usize = 8;

/// How far a mailing is, by mail domain, the largest first; the whole first of all.
///
/// # Errors
/// When the database fails.
pub fn way(c: &Connection, id: MailingId) -> Result<Vec<Way>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT d.name, count(*), sum(s.state = {DUE}), sum(s.state = {HELD}), sum(s.state IN ({BETWEEN})), sum(s.state = {ACCEPTED}), sum(s.state = {DEFERRED}), sum(s.state = {FAILED}), sum(s.state = {NOT_SENT}),
            min(iif(s.state IN ({WAITING}), s.at, NULL)), max(iif(s.state IN ({WAITING}), s.at, NULL))
         FROM send s JOIN contact k ON k.id = s.contact_id JOIN domain d ON d.id = k.domain_id WHERE s.mailing_id = ?1 GROUP BY d.id ORDER BY 2 DESC, 1"),
    )?;
    let all: Vec<Way> = s
        .query_map([id.0], |r| {
            Ok(Way {
                domain: r.get(0)?,
                people: r.get(1)?,
                waiting: r.get(2)?,
                held: r.get(3)?,
                handing: r.get(4)?,
                accepted: r.get(5)?,
                deferred: r.get(6)?,
                failed: r.get(7)?,
                stopped: r.get(8)?,
                next_at: r.get(9)?,
                last_at: r.get(10)?,
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let sum = |of: &[Way]| {
        of.iter().fold(Way::default(), |mut sum, w| {
            sum.people += w.people;
            sum.waiting += w.waiting;
            sum.held += w.held;
            sum.handing += w.handing;
            sum.accepted += w.accepted;
            sum.deferred += w.deferred;
            sum.failed += w.failed;
            sum.stopped += w.stopped;
            sum.next_at = [sum.next_at, w.next_at].into_iter().flatten().min();
            sum.last_at = sum.last_at.max(w.last_at);
            sum
        })
    };
    let mut out = vec![sum(&all)];
    // One domain more than are shown is no "other".
    let shown = if all.len() == SHOWN + 1 { SHOWN + 1 } else { SHOWN.min(all.len()) };
    out.extend_from_slice(&all[..shown]);
    if all.len() > shown {
        out.push(sum(&all[shown..]));
    }
    Ok(out)
}

/// Something in the calendar of mailings.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct CalendarEntry {
    pub mailing: MailingId,
    pub name: String,
    /// What happens: `planned`, `pilot`, `reading`, `rollout`, `went` or `going`.
    pub what: String,
    pub at: i64,
    /// When the last person gets it, where that is known.
    pub until: Option<i64>,
    pub paused: bool,
    pub labels: Vec<String>,
}

/// What the calendar has from one instant to another, in order.
///
/// # Errors
/// When the database fails.
pub fn calendar(c: &Connection, from: Instant, until: Instant) -> Result<Vec<CalendarEntry>> {
    let mut s = c.prepare_cached(
        formatcp!("WITH entry (mailing, what, at, until, trial) AS (
            SELECT id, 'planned', planned_at, NULL, NULL FROM mailing WHERE state = {MAILING_PLANNED}
            UNION ALL SELECT m.id, iif(m.state = {MAILING_SENDING}, 'going', 'went'), m.started_at, m.finished_at, NULL FROM mailing m
                WHERE m.started_at IS NOT NULL AND NOT EXISTS (SELECT 1 FROM trial t WHERE t.mailing_id = m.id AND t.sealed_at IS NOT NULL)
            UNION ALL SELECT mailing_id, 'pilot', sealed_at, reading_due, id FROM trial WHERE sealed_at IS NOT NULL
            UNION ALL SELECT mailing_id, 'reading', coalesce(read_at, reading_due), NULL, id FROM trial WHERE coalesce(read_at, reading_due) IS NOT NULL
            UNION ALL SELECT mailing_id, 'rollout', rollout_at, NULL, id FROM trial WHERE rollout_at IS NOT NULL)
         SELECT m.id, m.name, e.what, e.at, e.until, m.paused_at IS NOT NULL, m.schedule,
            (SELECT json_group_array(name) FROM (SELECT name FROM label JOIN mailing_label x ON x.label_id = label.id WHERE x.mailing_id = m.id ORDER BY 1))
         FROM entry e JOIN mailing m ON m.id = e.mailing WHERE e.at >= ?1 AND e.at < ?2 AND m.archived_at IS NULL ORDER BY e.at, m.id"),
    )?;
    let rows = s.query_map(params![from.millis(), until.millis()], |r| {
        let (what, at, until): (String, i64, Option<i64>) = (r.get(2)?, r.get(3)?, r.get(4)?);
        let schedule: Schedule = crate::stored::document(&r.get::<_, String>(6)?, "mailing", r.get(0)?)?;
        let hours = schedule.over_hours();
        Ok(CalendarEntry {
            mailing: MailingId(r.get(0)?),
            name: r.get(1)?,
            until: until.or((what == "planned" && hours > 0).then(|| at + hours * rinse_core::HOUR)),
            what,
            at,
            paused: r.get(5)?,
            labels: crate::stored::document(&r.get::<_, String>(7)?, "mailing", r.get(0)?)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
