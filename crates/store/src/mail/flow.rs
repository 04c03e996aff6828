//! What hosts answer, as it comes: counted by five minutes, held against the rule of the pause, and heard for the pace.

use crate::{Result, StoreError, settings};
use rinse_core::bounce::{Category, FailureClass, Reply};
use rinse_core::code::Code;
use rinse_core::delivery::alert::Kind;
use rinse_core::delivery::pause::Rule;
use rinse_core::delivery::throttle::{FLOOR, Heard, Throttle, Turn, after, heard};
use rinse_core::id::{LetterheadId, MailingId};
use rinse_core::segment::evaluate::day_of;
use rinse_core::{DAY, HOUR, Instant, MINUTE};
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::collections::HashMap;

/// A slot is so long.
const SLOT: i64 = 5 * MINUTE;
/// The rule of the pause looks back over so many slots: an hour.
const LOOKS_BACK: i64 = HOUR / SLOT;
/// Slots are kept so long.
const KEPT: i64 = 2 * DAY;
/// What was put off is kept by day for so many days.
const KEPT_DAYS: i64 = 90;
const RULE: &str = "pause rule";

/// When a group is paused by itself.
///
/// # Errors
/// When the database fails, or the rule can't be read.
pub fn rule(c: &Connection) -> Result<Rule> {
    settings::get(c, RULE)?
        .map_or_else(|| Ok(Rule::default()), |text| crate::stored::document(&text, "rule of the pause", 0).map_err(Into::into))
}

/// # Errors
/// When a number of it is outside its range.
pub fn set_rule(c: &Connection, rule: Rule, now: Instant, person: Option<i64>) -> Result<()> {
    let rule = rule.checked().map_err(|e| StoreError::Refused(e.to_string()))?;
    let text = serde_json::to_string(&rule)?;
    settings::set(c, RULE, &text)?;
    settings::audit(c, now, person, "rule of the pause changed", "delivery", 0, &text)
}

/// What a slot counts a reply as.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Counted {
    Accepted,
    Deferred,
    Blocked,
    Failed,
}

/// Does a host put a stranger off that it has never met (RFC 6647), or say nothing of us when it puts a message off for the first time?
pub(crate) fn first_meeting(reply: &Reply) -> bool {
    reply.try_again() && heard(reply, 0).is_none()
}

/// What a reply to a message that was tried so often before counts as; no reply at all counts as nothing.
pub(crate) fn counted(reply: &Reply, tried_before: i64) -> Option<Counted> {
    if reply.accepted() {
        return Some(Counted::Accepted);
    }
    if reply.code == 0 {
        return None;
    }
    let about_us = reply.category().class() == FailureClass::Block && reply.category() != Category::TooLarge;
    Some(match (about_us, reply.try_again()) {
        // A first meeting is no block, whatever its code says.
        (true, true) if tried_before == 0 && first_meeting(reply) => Counted::Deferred,
        (true, _) => Counted::Blocked,
        (false, true) => Counted::Deferred,
        (false, false) => Counted::Failed,
    })
}

/// A host answered a message of a mailing to somebody at a domain, which was tried so often before.
pub(crate) fn answered(c: &Connection, domain: i64, mailing: MailingId, reply: &Reply, tried_before: i64, now: Instant) -> Result<()> {
    let Some(what) = counted(reply, tried_before) else { return Ok(()) };
    let is = |w: Counted| i64::from(what == w);
    c.prepare_cached(
        "INSERT INTO delivery_slot VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT DO UPDATE SET accepted = accepted + ?3, deferred = deferred + ?4,
            blocked = blocked + ?5, failed = failed + ?6",
    )?
    .execute(params![
        domain,
        now.millis().div_euclid(SLOT),
        is(Counted::Accepted),
        is(Counted::Deferred),
        is(Counted::Blocked),
        is(Counted::Failed)
    ])?;
    // Each message once, on the day on which it went.
    if what == Counted::Deferred && tried_before == 0 {
        c.prepare_cached("INSERT INTO deferred_day VALUES (?1, ?2, (SELECT letterhead_id FROM mailing WHERE id = ?3), 1) ON CONFLICT DO UPDATE SET messages = messages + 1")?
            .execute([day_of(now), domain, mailing.0])?;
    }
    let Some(said) = heard(reply, tried_before) else { return Ok(()) };
    // Most mail is let in by hosts that never asked for less.
    if said == Heard::LetIn && !c.prepare_cached("SELECT EXISTS (SELECT 1 FROM throttle)")?.query_row([], |r| r.get::<_, bool>(0))? {
        return Ok(());
    }
    let group: String = c.prepare_cached("SELECT coalesce(operator, name) FROM domain WHERE id = ?1")?.query_row([domain], |r| r.get(0))?;
    let held = pace(c, &group, said, now)?;
    if what != Counted::Blocked {
        return Ok(());
    }
    // It goes as slowly as can be, and one more was blocked: to go on would lose them one by one.
    let slowest = held.is_some_and(|t| t.slows() && t.ceiling <= FLOOR);
    pause_where_due(c, &group, mailing, slowest, now)
}

/// Messages of a group's domains that were blocked, and that were answered at all, in some slots up to now.
fn lately(c: &Connection, group: &str, slots: i64, now: Instant) -> Result<(u64, u64)> {
    let to = now.millis().div_euclid(SLOT);
    let (blocked, all): (i64, i64) = c
        .prepare_cached(
            "SELECT coalesce(sum(blocked), 0), coalesce(sum(accepted + deferred + blocked + failed), 0)
             FROM domain d CROSS JOIN delivery_slot s ON s.domain_id = d.id AND s.slot > ?2 AND s.slot <= ?3 WHERE coalesce(d.operator, d.name) = ?1",
        )?
        .query_row(params![group, to - slots, to], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok((blocked.unsigned_abs(), all.unsigned_abs()))
}

/// At how many messages a minute mail goes to a group.
#[allow(clippy::cast_precision_loss)]
fn going(c: &Connection, group: &str, now: Instant) -> Result<f64> {
    let (_, two) = lately(c, group, 2, now)?;
    Ok(two as f64 / (SLOT / MINUTE) as f64)
}

fn throttle(r: &Row<'_>) -> rusqlite::Result<(Throttle, i64)> {
    let at = |n| r.get::<_, i64>(n).map(Instant::of);
    let t = Throttle {
        usual: r.get(0)?,
        ceiling: r.get(1)?,
        run: r.get(2)?,
        minute: at(3)?,
        good: r.get(4)?,
        bad: r.get(5)?,
        next: at(6)?,
        queued: at(7)?,
        asked_at: at(8)?,
    };
    Ok((t, r.get(9)?))
}

const COLUMNS: &str = "usual, ceiling, run, minute, good, bad, next_at, queued_at, asked_at, since";

fn keep(c: &Connection, group: &str, t: Option<&Throttle>, since: i64) -> Result<()> {
    let Some(t) = t else {
        c.prepare_cached("DELETE FROM throttle WHERE name = ?1")?.execute([group])?;
        return Ok(());
    };
    c.prepare_cached(const_format::concatcp!(
        "INSERT OR REPLACE INTO throttle (name, ",
        COLUMNS,
        ") VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)"
    ))?
    .execute(params![
        group,
        t.usual,
        t.ceiling,
        t.run,
        t.minute.millis(),
        t.good,
        t.bad,
        t.next.millis(),
        t.queued.millis(),
        t.asked_at.millis(),
        since
    ])?;
    Ok(())
}

fn pace(c: &Connection, group: &str, said: Heard, now: Instant) -> Result<Option<Throttle>> {
    let was = c
        .prepare_cached(const_format::concatcp!("SELECT ", COLUMNS, " FROM throttle WHERE name = ?1"))?
        .query_row([group], throttle)
        .optional()?;
    let usual = if was.is_none() && said == Heard::Slower { going(c, group, now)? } else { 0.0 };
    let is = after(was.map(|w| w.0), said, now, || usual);
    if is != was.map(|w| w.0) {
        keep(c, group, is.as_ref(), was.map_or(now.millis(), |w| w.1))?;
    }
    Ok(is)
}

/// Groups that are held back, and which of them each domain is of.
pub(crate) struct Held {
    groups: Vec<(String, Throttle, i64)>,
    of: HashMap<i64, usize>,
}

impl Held {
    /// # Errors
    /// When the database fails.
    pub(crate) fn now(c: &Connection, now: Instant) -> Result<Self> {
        let (mut groups, mut of) = (Vec::new(), HashMap::new());
        let mut s = c.prepare_cached(const_format::concatcp!("SELECT ", COLUMNS, ", name FROM throttle WHERE ceiling < usual"))?;
        let found: Vec<((Throttle, i64), String)> =
            s.query_map([], |r| Ok((throttle(r)?, r.get(10)?)))?.collect::<rusqlite::Result<_>>()?;
        let mut domains = c.prepare_cached("SELECT id FROM domain WHERE coalesce(operator, name) = ?1")?;
        for ((t, since), name) in found {
            let Some(t) = t.at(now).filter(Throttle::slows) else {
                keep(c, &name, None, since)?;
                continue;
            };
            for d in domains.query_map([&name], |r| r.get::<_, i64>(0))? {
                of.insert(d?, groups.len());
            }
            groups.push((name, t, since));
        }
        Ok(Self { groups, of })
    }

    /// Anybody who at a domain has to wait is placed before anything is asked about them.
    pub(crate) fn waits(&mut self, domain: i64, now: Instant) -> Option<Instant> {
        let (_, t, _) = &mut self.groups[*self.of.get(&domain)?];
        if t.next <= now {
            return None;
        }
        match t.turn(now) {
            Turn::Now => None,
            Turn::At(at) => Some(at),
        }
    }

    /// A message to a domain goes.
    pub(crate) fn goes(&mut self, domain: i64, now: Instant) {
        if let Some(i) = self.of.get(&domain) {
            self.groups[*i].1.turn(now);
        }
    }

    /// # Errors
    /// When the database fails.
    pub(crate) fn keep(&self, c: &Connection) -> Result<()> {
        self.groups.iter().try_for_each(|(name, t, since)| keep(c, name, Some(t), *since))
    }
}

/// A group that is held back.
#[derive(Debug, Clone, PartialEq)]
pub struct HeldBack {
    pub name: String,
    pub usual: f64,
    pub ceiling: f64,
    pub since: i64,
}

/// The groups that are held back now.
///
/// # Errors
/// When the database fails.
pub fn held_back(c: &Connection, now: Instant) -> Result<Vec<HeldBack>> {
    let mut s =
        c.prepare_cached(const_format::concatcp!("SELECT ", COLUMNS, ", name FROM throttle WHERE ceiling < usual ORDER BY name"))?;
    let all: Vec<((Throttle, i64), String)> = s.query_map([], |r| Ok((throttle(r)?, r.get(10)?)))?.collect::<rusqlite::Result<_>>()?;
    let still = all.into_iter().filter_map(|((t, since), name)| Some((t.at(now).filter(Throttle::slows)?, since, name)));
    Ok(still.map(|(t, since, name)| HeldBack { name, usual: t.usual, ceiling: t.ceiling, since }).collect())
}

fn pause_where_due(c: &Connection, group: &str, mailing: MailingId, slowest: bool, now: Instant) -> Result<()> {
    let rule = rule(c)?;
    if !rule.on {
        return Ok(());
    }
    let (blocked, answered) = lately(c, group, LOOKS_BACK, now)?;
    let due = rule.pauses(blocked, answered);
    let until = now + rule.lasts();
    if !due && !slowest {
        return Ok(());
    }
    let reason = if due {
        format!("Paused by itself: {blocked} of the last hour’s {answered} messages to {group} were blocked.")
    } else {
        format!("Paused by itself: {group} blocks even the single messages that it gets now and then.")
    };
    // What was counted before this pause makes no second one.
    let paused = c
        .prepare_cached(
            "INSERT INTO domain_pause (domain_id, made_at, until_at, reason, by_itself, mailing_id) SELECT d.id, ?2, ?3, ?4, 1, ?5 FROM domain d
             WHERE coalesce(d.operator, d.name) = ?1
                AND NOT EXISTS (SELECT 1 FROM domain_pause p WHERE p.domain_id = d.id AND (p.ended_at IS NULL AND p.until_at > ?2 OR p.by_itself AND p.made_at > ?2 - ?6 AND NOT ?7))",
        )?
        .execute(params![group, now.millis(), until.millis(), reason, mailing.0, HOUR, slowest && !due])?;
    if paused > 0 {
        settings::audit(c, now, None, "domain paused", "domain", 0, &format!("{group} until {}: {reason}", until.words()))?;
        alert(c, group, mailing, &reason, now)?;
    }
    Ok(())
}

/// A group was paused by itself: the alert stands at once.
fn alert(c: &Connection, group: &str, mailing: MailingId, words: &str, now: Instant) -> Result<()> {
    let open = c
        .prepare_cached("SELECT 1 FROM delivery_alert WHERE name = ?1 AND kind = ?2 AND ended_at IS NULL")?
        .exists(params![group, Kind::Blocked.code()])?;
    if open {
        c.prepare_cached("UPDATE delivery_alert SET last_at = ?3, grave = 1 WHERE name = ?1 AND kind = ?2 AND ended_at IS NULL")?
            .execute(params![group, Kind::Blocked.code(), now.millis()])?;
        return Ok(());
    }
    c.prepare_cached(
        "INSERT INTO delivery_alert (name, kind, mailing_id, since, last_at, grave, words) VALUES (?1, ?2, ?3, ?4, ?4, 1, ?5)
         ON CONFLICT (name, kind, mailing_id) DO UPDATE SET ended_at = NULL, person_id = NULL, reason = NULL, last_at = ?4, grave = 1",
    )?
    .execute(params![group, Kind::Blocked.code(), mailing.0, now.millis(), words])?;
    Ok(())
}

/// Messages that were put off at their first try since a day, by domain and day, of all senders or of one.
///
/// # Errors
/// When the database fails.
pub fn put_off(c: &Connection, from_day: i64, letterhead: Option<LetterheadId>) -> Result<Vec<(i64, i64, u64)>> {
    let mut s = c.prepare_cached(
        "SELECT domain_id, day, sum(messages) FROM deferred_day WHERE day >= ?1 AND (?2 IS NULL OR letterhead_id = ?2) GROUP BY day, domain_id",
    )?;
    let rows =
        s.query_map(params![from_day, letterhead.map(|l| l.0)], |r| Ok((r.get(0)?, r.get(1)?, r.get::<_, i64>(2)?.unsigned_abs())))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Slots that are behind everything that looks at them are forgotten. Once a day.
///
/// # Errors
/// When the database fails.
pub fn move_on(c: &Connection, now: Instant) -> Result<()> {
    c.prepare_cached("DELETE FROM delivery_slot WHERE slot < ?1")?.execute([(now.millis() - KEPT).div_euclid(SLOT)])?;
    c.prepare_cached("DELETE FROM deferred_day WHERE day < ?1")?.execute([day_of(now) - KEPT_DAYS])?;
    Ok(())
}
