//! Sends: recorded before they are handed over, one per contact and mailing by a unique key, so
//! that a crash in the middle sends to nobody twice and forgets nobody.

use crate::Result;
use crate::clearing::record::Recorder;
use crate::clearing::{Clearance, Decided, person};
use crate::codes::{
    ACTIVE, MAILING_PLANNED, MAILING_SENDING, MAILING_SENT, RESTING, SIGN_UP_WAITING, TRIAL_COLLECTING, TRIAL_READ, TRIAL_ROLLING,
};
use crate::figures::place;
use crate::flow;
pub use crate::send_state::Phase;
use crate::send_state::{
    ACCEPTED, BETWEEN, CANCELLED, DEFERRED, DUE, FAILED, HANDING_OVER, HELD, HOUR_PASSED, IN_DOUBT, NOT_SENT, OPEN, UNTRIED, WAITING,
    next_try, spread_of,
};
use crate::stored::{As, ids_as};
use crate::trials::enrol::Enroller;
use crate::upkeep::{incidents, readings, status};
use crate::warm_up::{self, Warming};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::bounce::{Category, Reply};
use rinse_core::channel::Channel;
use rinse_core::clearance::Outcome;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SendId};
use rinse_core::schedule::{CLOCK_CHANGE, Pace, Schedule, same_hour};
use rinse_core::send::State;
use rinse_core::zone;
use rusqlite::{Connection, OptionalExtension, params};
use std::collections::HashMap;
use std::collections::hash_map::Entry;

/// Why a send ended that no rule barred.
pub const HELD_AT_THEIR_HOUR: &str = "a rule would have held it at the hour they were drawn to";
pub const WARMED_TOO_LONG: &str = "the warm-up of the sender's domain would have kept it longer than the mailing waits";

/// Somebody's part in a mailing, and when it is their turn; none: their hour had passed.
pub type Turn = ((Decided, Phase, usize), Option<Instant>);

/// By what each person's turn is found.
#[derive(Debug, Clone, Copy)]
pub enum Hour<'a> {
    /// By the mailing's own schedule.
    AsScheduled,
    /// At the hour at which the pilot went by their own clock, on the day on which the mailing begins.
    OfPilot(Instant),
    /// Those who have an hour of their own then (none: it has passed, and they get nothing), the others as scheduled.
    Own(&'a HashMap<ContactId, Option<Instant>>),
}

/// When each person gets a mailing that begins at `at`: as it is scheduled, and, under a sender that is warmed up, on a day on which their group
/// has room for it. Keeps their order.
///
/// # Errors
/// When there is no such mailing.
pub fn turns(
    c: &Connection,
    mailing: MailingId,
    at: Instant,
    hour: Hour<'_>,
    done: &Clearance,
    people: impl IntoIterator<Item = (Decided, Phase, usize)>,
) -> Result<Vec<Turn>> {
    let mut out = scheduled(c, mailing, at, hour, done, people)?;
    let warmed: Option<LetterheadId> = c
        .prepare_cached("SELECT letterhead_id FROM mailing WHERE id = ?1 AND channel = 1 AND class = 1")?
        .query_row([mailing.0], |r| r.get(0).map(LetterheadId))
        .optional()?;
    if let Some(letterhead) = warmed {
        let turns: Vec<_> = out.iter().map(|p| (p.0.0.domain, p.0.0.contact, from(p, at))).collect();
        for (i, day) in warm_up::placed(c, letterhead, &turns, at)? {
            out[i].1 = Some(day);
        }
    }
    Ok(out)
}

/// From when on somebody can go: none: never.
fn from(((d, _, _), due): &Turn, at: Instant) -> Option<Instant> {
    match d.outcome {
        Outcome::Held(until, _) => due.map(|due| until.max(due)),
        Outcome::Barred(why) => due.filter(|due| asked_again(why, at, Some(*due))),
        Outcome::Cleared => *due,
    }
}

/// When each person gets a mailing by its schedule.
fn scheduled(
    c: &Connection,
    mailing: MailingId,
    at: Instant,
    hour: Hour<'_>,
    done: &Clearance,
    people: impl IntoIterator<Item = (Decided, Phase, usize)>,
) -> Result<Vec<Turn>> {
    let (schedule, zone): (String, String) = c.query_row(
        "SELECT m.schedule, l.zone FROM mailing m JOIN letterhead l ON l.id = m.letterhead_id WHERE m.id = ?1",
        [mailing.0],
        |r| Ok((r.get(0)?, r.get(1)?)),
    )?;
    let schedule: Schedule = crate::stored::document(&schedule, "mailing", mailing.0)?;
    // A local time of its own says the hour for both.
    let hour = if schedule.local.is_some() && matches!(hour, Hour::OfPilot(_)) { Hour::AsScheduled } else { hour };
    if schedule == Schedule::default() && matches!(hour, Hour::AsScheduled) {
        return Ok(people.into_iter().map(|p| (p, Some(at))).collect());
    }
    let usual = zone::named(&zone).unwrap_or(zone::TimeZone::UTC);
    let share = spread_of(mailing);
    let due = |d: Decided| {
        let clock = done.zone_of(d).unwrap_or(&usual);
        let from = match hour {
            Hour::Own(hours) if hours.contains_key(&d.contact) => return hours.get(&d.contact).copied().flatten(),
            Hour::OfPilot(pilot) => same_hour(pilot, at, clock),
            _ => at,
        };
        schedule.due(from, clock, share.draw(d.contact))
    };
    let mut out: Vec<_> = people.into_iter().map(|p| (p, due(p.0))).collect();
    if schedule.rates.is_empty() {
        return Ok(out);
    }
    // Places are given in the order in which people can go.
    let mut order: Vec<(Instant, usize)> = out.iter().enumerate().filter_map(|(i, p)| Some((from(p, at)?, i))).collect();
    order.sort_unstable();
    let mut names: HashMap<i64, String> = HashMap::new();
    let mut pace = Pace::new(&schedule);
    let last = last_waiting(c, mailing)?;
    let mut s = c.prepare_cached("SELECT name FROM domain WHERE id = (SELECT domain_id FROM contact WHERE id = ?1)")?;
    for (from, i) in order {
        let ((d, _, _), due) = &mut out[i];
        let name = match names.entry(d.domain) {
            Entry::Occupied(e) => e.into_mut(),
            Entry::Vacant(e) => e.insert(s.query_row([d.contact.0], |r| r.get(0))?),
        };
        let behind = last.get(&ContactId(d.domain)).zip(schedule.gap(name)).map_or(from, |(last, gap)| from.max(*last + gap));
        *due = Some(pace.place(d.domain, name, behind));
    }
    Ok(out)
}

/// The last instant at which somebody of each mail domain waits for the mailing already: those who come are behind them.
fn last_waiting(c: &Connection, mailing: MailingId) -> Result<HashMap<ContactId, Instant>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT k.domain_id, max(s.at) FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.mailing_id = ?1 AND s.state IN ({WAITING}) GROUP BY 1"),
    )?;
    Ok(s.query_map([mailing.0], |r| Ok((ContactId(r.get(0)?), Instant::of(r.get(1)?))))?.collect::<rusqlite::Result<_>>()?)
}

/// Somebody whose turn comes later is asked then, where what bars them now depends on the instant.
fn asked_again(why: rinse_core::clearance::Reasons, at: Instant, due: Option<Instant>) -> bool {
    due.is_some_and(|due| due > at) && why.may_pass()
}

/// Records the sends of those cleared (ready at `at`, or when the mailing's schedule has their turn) and held (until their instant), and why the
/// others were held or barred. A row that is there already stays as it is.
///
/// `done` is the clearance that `people` come from.
///
/// # Errors
/// When the database fails.
pub fn record(
    c: &Connection,
    mailing: MailingId,
    done: &Clearance,
    at: Instant,
    people: impl IntoIterator<Item = (Decided, Phase, usize)>,
) -> Result<u64> {
    crate::letterheads::keep_as_sent(c, mailing)?;
    record_some(c, mailing, done, at, &turns(c, mailing, at, Hour::AsScheduled, done, people)?)
}

/// As [`record`], for a part of those whose turns were given: nobody else's change waits for a million people then.
///
/// # Errors
/// When the database fails.
pub fn record_some(c: &Connection, mailing: MailingId, done: &Clearance, at: Instant, turns: &[Turn]) -> Result<u64> {
    let hold_limit = crate::clearing::mailing(c, mailing)?.facts.hold_limit;
    let (class, priority, channel): (i64, i64, i64) =
        c.query_row("SELECT class, priority, channel FROM mailing WHERE id = ?1", [mailing.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    let mut s = c.prepare_cached(
        "INSERT INTO send (mailing_id, contact_id, cause_id, phase, arm, class, priority, rules_version, state, at, give_up_at, reason, channel)
         VALUES (?1, ?2, ?1, ?3, ?4, ?10, ?11, ?5, ?6, ?7, ?8, ?9, ?12) ON CONFLICT DO NOTHING",
    )?;
    let mut recorder = Recorder::new(c, &done.lists)?;
    let mut n = 0;
    // People come in the order of the base: each page of the indexes by person is written once then. In the order of their
    // turns, a million people would take five times as long.
    for &((d, phase, arm), due) in turns {
        // That somebody has the message already is no decision of its own; who is asked again is decided then.
        if !matches!(d.outcome, Outcome::Barred(why) if why.has(rinse_core::clearance::Reason::AlreadySent) || asked_again(why, at, due)) {
            recorder.write(c, &done.rules, mailing, d.contact, at, d.outcome)?;
        }
        let (state, when, reason) = match (d.outcome, due) {
            (Outcome::Barred(why), due) if !asked_again(why, at, due) => continue,
            (_, None) => (State::NotSent, at, None),
            (Outcome::Barred(_) | Outcome::Cleared, Some(due)) => (State::Due, due, None),
            (Outcome::Held(until, why), Some(due)) => (State::Held, until.max(due), why.first().map(|r| r as i64)),
        };
        n += s.execute(params![
            mailing.0,
            d.contact.0,
            phase as i64,
            i64::try_from(arm).unwrap_or(0),
            done.rules.id,
            As(state),
            when.millis(),
            (due.unwrap_or(at) + hold_limit).millis(),
            reason,
            class,
            priority,
            channel
        ])?;
        if due.is_none() {
            c.prepare_cached("UPDATE send SET reply = ?3 WHERE mailing_id = ?1 AND contact_id = ?2")?.execute(params![
                mailing.0,
                d.contact.0,
                HOUR_PASSED
            ])?;
        }
    }
    Ok(n as u64)
}

/// A planned mailing's sending begins, or goes on; false when somebody has taken it back meanwhile. It isn't over before
/// [`recorded`] says that everybody is on record.
///
/// # Errors
/// When the database fails.
pub fn begin(c: &Connection, mailing: MailingId, now: Instant) -> Result<bool> {
    let began = c.execute(
        formatcp!("UPDATE mailing SET state = {MAILING_SENDING}, recording = 1, started_at = coalesce(started_at, ?2) WHERE id = ?1 AND state = {MAILING_PLANNED}"),
        [mailing.0, now.millis()],
    )?;
    if began > 0 {
        crate::letterheads::keep_as_sent(c, mailing)?;
    }
    Ok(began > 0 || recording(c, mailing)?)
}

/// The sending of a trial's pilot begins, as its plan is sealed.
///
/// # Errors
/// When the database fails.
pub fn begin_pilot(c: &Connection, mailing: MailingId, now: Instant) -> Result<()> {
    crate::letterheads::keep_as_sent(c, mailing)?;
    c.execute("UPDATE mailing SET started_at = ?2, recording = 1 WHERE id = ?1", [mailing.0, now.millis()])?;
    Ok(())
}

/// Is it being put on record still? Not when somebody cancelled it meanwhile.
///
/// # Errors
/// When there is no such mailing.
pub fn recording(c: &Connection, mailing: MailingId) -> Result<bool> {
    Ok(c.prepare_cached("SELECT recording FROM mailing WHERE id = ?1")?.query_row([mailing.0], |r| r.get(0))?)
}

/// Everybody is on record.
///
/// # Errors
/// When the database fails.
pub fn recorded(c: &Connection, mailing: MailingId) -> Result<()> {
    c.execute("UPDATE mailing SET recording = 0 WHERE id = ?1", [mailing.0])?;
    Ok(())
}

/// Keeps the rate of a mail domain for people who are held again as they were due: they stand behind those who wait already.
#[derive(Default)]
struct Paced {
    schedules: HashMap<MailingId, Schedule>,
    last: HashMap<(i64, i64), Instant>,
}

impl Paced {
    fn place(&mut self, c: &Connection, mailing: MailingId, contact: ContactId, until: Instant) -> Result<Instant> {
        let schedule = match self.schedules.entry(mailing) {
            Entry::Occupied(e) => e.into_mut(),
            Entry::Vacant(e) => {
                let text: String = c.prepare_cached("SELECT schedule FROM mailing WHERE id = ?1")?.query_row([mailing.0], |r| r.get(0))?;
                e.insert(crate::stored::document(&text, "mailing", mailing.0)?)
            }
        };
        if schedule.rates.is_empty() {
            return Ok(until);
        }
        let (domain, name): (i64, String) = c
            .prepare_cached("SELECT d.id, d.name FROM contact k JOIN domain d ON d.id = k.domain_id WHERE k.id = ?1")?
            .query_row([contact.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
        let Some(gap) = schedule.gap(&name) else { return Ok(until) };
        let last = match self.last.get(&(mailing.0, domain)) {
            Some(known) => Some(*known),
            None => c
                .prepare_cached(
                    formatcp!("SELECT max(s.at) FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.mailing_id = ?1 AND s.state IN ({UNTRIED}) AND s.at >= ?2 AND k.domain_id = ?3"),
                )?
                .query_row(params![mailing.0, until.millis(), domain], |r| r.get::<_, Option<i64>>(0))?
                .map(Instant::of),
        };
        let at = last.map_or(until, |l| until.max(l + gap));
        self.last.insert((mailing.0, domain), at);
        Ok(at)
    }
}

/// A send about to be handed over.
#[derive(Debug, Clone)]
pub struct Outgoing {
    pub send: SendId,
    pub mailing: MailingId,
    pub contact: ContactId,
    pub arm: usize,
    pub address: String,
    pub given_name: Option<String>,
    pub family_name: Option<String>,
    pub country: Option<String>,
    pub channel: Channel,
    /// Where a text message goes.
    pub phone: Option<String>,
}

/// Who was handed out to another system counts as nobody's after this, unless its log tells that they were sent it.
const TOLD_WITHIN: i64 = 14 * rinse_core::DAY;

/// When the hour comes that somebody was drawn to in a round.
fn hour_of(c: &Connection, mailing: MailingId, contact: ContactId) -> Result<Option<Instant>> {
    let mut s = c.prepare_cached("SELECT due FROM hour_roster WHERE mailing_id = ?1 AND contact_id = ?2")?;
    Ok(s.query_row([mailing.0, contact.0], |r| r.get(0)).optional()?.map(Instant::of))
}

/// The mailings on their way that another system sends.
fn sent_by_another(c: &Connection) -> Result<std::collections::HashSet<MailingId>> {
    ids_as(c, formatcp!("SELECT id FROM mailing WHERE handed_out = 1 AND state = {MAILING_SENDING}"), [], MailingId)
}

/// Takes the next due sends, clears each again, and marks those that go as being handed over.
/// Those that are held again or barred are written so. Returns those that go and how many rows
/// were looked at.
///
/// # Errors
/// When the database fails.
pub fn claim(c: &Connection, now: Instant, limit: usize) -> Result<(Vec<Outgoing>, usize)> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT s.id, s.mailing_id, s.contact_id, s.arm, c.address, c.given_name, c.family_name, c.country, s.give_up_at, s.phase, s.tries, s.channel, c.phone, c.domain_id, s.at, s.class
         FROM send s INDEXED BY send_due CROSS JOIN contact c ON c.id = s.contact_id WHERE s.state IN ({WAITING}) AND s.at <= ?1
            AND s.mailing_id NOT IN (SELECT id FROM mailing WHERE paused_at IS NOT NULL)
         ORDER BY s.at, s.priority, s.mailing_id, s.id LIMIT ?2"),
    )?;
    let due: Vec<(Outgoing, i64, i64, i64, i64, (Instant, bool))> = s
        .query_map(params![now.millis(), i64::try_from(limit).unwrap_or(100)], |r| {
            Ok((
                Outgoing {
                    send: SendId(r.get(0)?),
                    mailing: MailingId(r.get(1)?),
                    contact: ContactId(r.get(2)?),
                    arm: usize::try_from(r.get::<_, i64>(3)?).unwrap_or(0),
                    address: r.get(4)?,
                    given_name: r.get(5)?,
                    family_name: r.get(6)?,
                    country: r.get(7)?,
                    channel: r.get::<_, As<Channel>>(11)?.0,
                    phone: r.get(12)?,
                },
                r.get(8)?,
                r.get(9)?,
                r.get(10)?,
                r.get(13)?,
                (Instant::of(r.get(14)?), r.get(15)?),
            ))
        })?
        .collect::<rusqlite::Result<_>>()?;
    let looked_at = due.len();
    let mut go = Vec::with_capacity(due.len());
    let mut rules: HashMap<MailingId, (person::Loaded, Recorder, Option<Enroller>)> = HashMap::new();
    let mut paced = Paced::default();
    let mut held_back = flow::Held::now(c, now)?;
    let mut warming = Warming::now(c, now)?;
    let outside = sent_by_another(c)?;
    for (mut out, give_up, mut phase, tries, domain, (turn, marketing)) in due {
        // A host that asks for less gets less: anybody who has to wait isn't asked about yet.
        let elsewhere = outside.contains(&out.mailing);
        if out.channel == Channel::Email
            && !elsewhere
            && let Some(at) = held_back.waits(domain, now)
        {
            c.prepare_cached("UPDATE send SET at = ?2 WHERE id = ?1")?.execute([out.send.0, at.millis()])?;
            continue;
        }
        // So is a name that hosts don't know yet: the group has had its messages of the day.
        if out.channel == Channel::Email
            && marketing
            && !elsewhere
            && tries == 0
            && let Some(at) = warming.waits(c, out.mailing, domain, turn)?
        {
            if at.millis() <= give_up {
                c.prepare_cached("UPDATE send SET at = ?2 WHERE id = ?1")?.execute([out.send.0, at.millis()])?;
            } else {
                c.prepare_cached(formatcp!("UPDATE send SET state = {NOT_SENT}, reply = ?2 WHERE id = ?1"))?
                    .execute(params![out.send.0, WARMED_TOO_LONG])?;
            }
            continue;
        }
        let (loaded, recorder, enroller) = match rules.entry(out.mailing) {
            Entry::Occupied(e) => e.into_mut(),
            Entry::Vacant(e) => {
                let loaded = person::load(c, out.mailing, now)?;
                let recorder = Recorder::new(c, &loaded.lists())?;
                let enroller = if loaded.mailing.series.is_some() { Enroller::of(c, out.mailing)? } else { None };
                e.insert((loaded, recorder, enroller))
            }
        };
        // Anybody who is drawn to an hour is on another system's list before it: they are cleared for their hour.
        let hour = if elsewhere { hour_of(c, out.mailing, out.contact)? } else { None };
        let goes_at = hour.map_or(now, |due| due.max(now));
        let outcome = person::at_handover(c, loaded, out.contact, out.send, goes_at, Instant::of(give_up))?;
        recorder.write(c, &loaded.version, out.mailing, out.contact, now, outcome)?;
        match outcome {
            Outcome::Held(..) if hour.is_some() => {
                c.prepare_cached(formatcp!("UPDATE send SET state = {NOT_SENT}, reply = ?2 WHERE id = ?1"))?
                    .execute(params![out.send.0, HELD_AT_THEIR_HOUR])?;
            }
            // Another system sends it: they are on its list from now on, and count.
            Outcome::Cleared if elsewhere => {
                c.prepare_cached(&format!(
                    "UPDATE send SET state = {ACCEPTED}, at = ?2, give_up_at = ?3, reason = NULL, rules_version = ?4, opens_unknown = {} WHERE id = ?1",
                    crate::machines::opens::OF_ITS_DOMAIN
                ))?
                .execute(params![out.send.0, goes_at.millis(), (goes_at + TOLD_WITHIN).millis(), loaded.version.id])?;
            }
            Outcome::Cleared => {
                // What is tried again stays what it was, whatever became of the trial meanwhile.
                if let Some(e) = enroller.as_mut().filter(|_| tries == 0 && phase == Phase::Whole as i64) {
                    let (arm, part) = e.place(c, out.contact, now)?;
                    (out.arm, phase) = (arm, part as i64);
                }
                let goes = place::of(c, out.contact, out.mailing, now)?;
                // It counts from now on, however long it has been due.
                c.prepare_cached(&format!(
                    "UPDATE send SET state = {HANDING_OVER}, at = ?2, handed_at = coalesce(handed_at, ?2), tries = tries + 1, reason = NULL, rules_version = ?3,
                        arm = ?4, phase = ?5, place_id = coalesce(place_id, ?6), local_hour = coalesce(local_hour, ?7), load = coalesce(load, ?8), opens_unknown = {} WHERE id = ?1",
                    crate::machines::opens::OF_ITS_DOMAIN
                ))?
                .execute(params![
                    out.send.0,
                    now.millis(),
                    loaded.version.id,
                    i64::try_from(out.arm).unwrap_or(0),
                    phase,
                    goes.place,
                    goes.local_hour,
                    goes.load
                ])?;
                if out.channel == Channel::Email {
                    held_back.goes(domain, now);
                    if tries == 0 {
                        warming.goes(c, out.mailing, domain)?;
                    }
                }
                go.push(out);
            }
            Outcome::Held(until, why) => {
                let at = paced.place(c, out.mailing, out.contact, until)?;
                c.prepare_cached(formatcp!("UPDATE send SET state = {HELD}, at = ?2, reason = ?3 WHERE id = ?1"))?.execute(params![
                    out.send.0,
                    at.millis(),
                    why.first().map(|r| r as i64)
                ])?;
            }
            Outcome::Barred(why) => {
                c.prepare_cached(formatcp!("UPDATE send SET state = {NOT_SENT}, reason = ?2 WHERE id = ?1"))?
                    .execute(params![out.send.0, why.first().map(|r| r as i64)])?;
            }
        }
    }
    held_back.keep(c)?;
    warming.keep(c)?;
    Ok((go, looked_at))
}

/// What may end a message's way between its being claimed and its being handed over is written after these.
#[derive(Debug, Clone, Copy)]
pub struct Mark {
    ledger: i64,
    audit: i64,
}

/// The mark of a claim, made in its transaction.
///
/// # Errors
/// When the database fails.
pub fn mark(c: &Connection) -> Result<Mark> {
    let sql = "SELECT coalesce((SELECT max(id) FROM ledger), 0), coalesce((SELECT max(id) FROM audit), 0)";
    Ok(c.prepare_cached(sql)?.query_row([], |r| Ok(Mark { ledger: r.get(0)?, audit: r.get(1)? }))?)
}

/// Which of some claimed messages still go: nothing was written of the person since, they left no series, and neither the rules nor the
/// mailing were changed. Whatever doesn't go is cleared once more; this only has to see that something may have changed.
///
/// # Errors
/// When the database fails.
pub fn still_go(c: &Connection, since: Mark, sends: &[SendId]) -> Result<Vec<bool>> {
    let changed: bool = c
        .prepare_cached("SELECT EXISTS (SELECT 1 FROM audit WHERE id > ?1 AND subject IN ('suppression', 'rules', 'setting', 'domain'))")?
        .query_row([since.audit], |r| r.get(0))?;
    if changed {
        return Ok(vec![false; sends.len()]);
    }
    let mut s = c.prepare_cached(formatcp!(
        "SELECT s.state = {HANDING_OVER} AND k.gone IS NULL AND m.paused_at IS NULL AND m.cancelled_at IS NULL
            AND NOT EXISTS (SELECT 1 FROM ledger WHERE contact_id = s.contact_id AND id > ?2)
            AND NOT EXISTS (SELECT 1 FROM series_left WHERE series_id = m.series_id AND contact_id = s.contact_id)
         FROM send s JOIN contact k ON k.id = s.contact_id JOIN mailing m ON m.id = s.mailing_id WHERE s.id = ?1"
    ))?;
    sends.iter().map(|send| Ok(s.query_row([send.0, since.ledger], |r| r.get(0)).optional()?.unwrap_or(false))).collect()
}

/// A claimed message wasn't handed over: it is due again, as if nobody had claimed it, unless the rest of its mailing was cancelled.
///
/// # Errors
/// When the database fails.
pub fn back(c: &Connection, send: SendId) -> Result<()> {
    c.prepare_cached(
        formatcp!("UPDATE send SET state = iif(m.cancelled_at IS NULL, {DUE}, {NOT_SENT}), reply = iif(m.cancelled_at IS NULL, reply, ?2), tries = tries - 1,
            handed_at = iif(tries = 1, NULL, handed_at), place_id = iif(tries = 1, NULL, place_id), local_hour = iif(tries = 1, NULL, local_hour), load = iif(tries = 1, NULL, load)
         FROM mailing m WHERE m.id = send.mailing_id AND send.id = ?1 AND send.state = {HANDING_OVER}"),
    )?
    .execute(params![send.0, CANCELLED])?;
    Ok(())
}

/// Writes what the host answered.
///
/// # Errors
/// When the database fails.
pub fn answered(c: &Connection, send: SendId, reply: &Reply, now: Instant) -> Result<()> {
    let line: String = reply.line().chars().take(300).collect();
    let (domain, mailing, As(channel), tries): (i64, MailingId, As<Channel>, i64) = c
        .prepare_cached(
            "SELECT k.domain_id, s.mailing_id, s.channel, s.tries FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.id = ?1",
        )?
        .query_row([send.0], |r| Ok((r.get(0)?, MailingId(r.get(1)?), r.get(2)?, r.get(3)?)))?;
    if channel == Channel::Email {
        flow::answered(c, domain, mailing, reply, tries - 1, now)?;
        warm_up::answered(c, send, mailing, domain, reply)?;
    }
    if reply.accepted() {
        c.prepare_cached(formatcp!(
            "UPDATE send SET state = {ACCEPTED}, accepted_at = ?2, reply = ?3 WHERE id = ?1 AND state IN ({BETWEEN})"
        ))?
        .execute(params![send.0, now.millis(), line])?;
        let contact: ContactId =
            c.prepare_cached("SELECT contact_id FROM send WHERE id = ?1")?.query_row([send.0], |r| r.get(0).map(ContactId))?;
        crate::rollups::due(c, contact)?;
        if channel == Channel::Email {
            let domain = crate::machines::opens::accepted(c, contact, now)?;
            incidents::accepted(c, domain, mailing, now)?;
        }
        return Ok(());
    }
    if reply.try_again()
        && let Some(wait) = next_try(tries)
    {
        let category = if channel == Channel::Email { readings::of(c, &line, reply.category())? } else { reply.category() };
        c.prepare_cached(formatcp!("UPDATE send SET state = {DEFERRED}, at = ?2, reply = ?3, category = ?4 WHERE id = ?1"))?
            .execute(params![send.0, (now + wait).millis(), line, category as i64])?;
        return Ok(());
    }
    failed(c, send, reply.category(), &line, now)
}

/// Writes that a message failed for good, at handover or by a report afterwards, and works the
/// address's mail status out again, or retires a number that there is none such of.
///
/// # Errors
/// When the database fails.
pub fn failed(c: &Connection, send: SendId, category: Category, line: &str, now: Instant) -> Result<()> {
    let (contact, As(channel), mailing, after): (ContactId, As<Channel>, MailingId, bool) = c
        .prepare_cached("SELECT contact_id, channel, mailing_id, accepted_at IS NOT NULL FROM send WHERE id = ?1")?
        .query_row([send.0], |r| Ok((ContactId(r.get(0)?), r.get(1)?, MailingId(r.get(2)?), r.get(3)?)))?;
    let category = if channel == Channel::Email { readings::of(c, line, category)? } else { category };
    let n = c
        .prepare_cached(formatcp!(
            "UPDATE send SET state = {FAILED}, failed_at = ?2, category = ?3, reply = ?4 WHERE id = ?1 AND failed_at IS NULL"
        ))?
        .execute(params![send.0, now.millis(), category as i64, line])?;
    if n > 0 {
        match channel {
            Channel::Email => {
                incidents::failed(c, contact, mailing, category, after, now)?;
                status::refresh(c, contact, now)?;
            }
            // A text message says nothing of the address; a network that knows no such number says all of that.
            Channel::Text if category == Category::NoSuchAddress => crate::numbers::retired(c, contact, line, now)?,
            Channel::Text => {}
        }
    }
    Ok(())
}

/// Sends that were being handed over when the process stopped.
///
/// # Errors
/// When the database fails.
pub fn in_doubt(c: &Connection) -> Result<Vec<SendId>> {
    ids_as(c, formatcp!("SELECT id FROM send WHERE state IN ({BETWEEN}) AND state = {HANDING_OVER} ORDER BY id"), [], SendId)
}

/// How many a person has to decide on.
///
/// # Errors
/// When the database fails.
pub fn doubtful(c: &Connection) -> Result<i64> {
    let sql = formatcp!("SELECT count(*) FROM send WHERE state IN ({BETWEEN}) AND state = {IN_DOUBT}");
    Ok(c.prepare_cached(sql)?.query_row([], |r| r.get(0))?)
}

/// Settles sends in doubt: `Some(true)` the host has it, `Some(false)` it has not, `None` nobody
/// can tell, so a person decides.
///
/// # Errors
/// When the database fails.
pub fn settle(c: &Connection, sends: &[(SendId, Option<bool>)], now: Instant) -> Result<()> {
    for (send, known) in sends {
        match known {
            Some(true) => answered(c, *send, &Reply { code: 250, enhanced: None, text: "accepted before a restart".into() }, now)?,
            Some(false) => back(c, *send)?,
            None => {
                c.execute(formatcp!("UPDATE send SET state = {IN_DOUBT} WHERE id = ?1"), [send.0])?;
            }
        }
    }
    Ok(())
}

/// A person decides on the sends in doubt: again, or leave.
///
/// # Errors
/// When the database fails.
pub fn decide_doubt(c: &Connection, again: bool, now: Instant) -> Result<usize> {
    Ok(if again {
        c.execute(formatcp!("UPDATE send SET state = {DUE}, at = ?1 WHERE state IN ({BETWEEN}) AND state = {IN_DOUBT}"), [now.millis()])?
    } else {
        c.execute(formatcp!("INSERT INTO rollup_due SELECT contact_id FROM send WHERE state IN ({BETWEEN}) AND state = {IN_DOUBT} ON CONFLICT DO NOTHING"), [])?;
        c.execute(formatcp!("UPDATE send SET state = {ACCEPTED}, accepted_at = handed_at, reply = 'taken as accepted by a person' WHERE state IN ({BETWEEN}) AND state = {IN_DOUBT}"), [])?
    })
}

/// The earliest instant at which something is due to be sent.
///
/// # Errors
/// When the database fails.
pub fn next_due(c: &Connection) -> Result<Option<Instant>> {
    let sends: Option<i64> = c
        .prepare_cached(formatcp!("SELECT at FROM send INDEXED BY send_due WHERE state IN ({WAITING}) AND mailing_id NOT IN (SELECT id FROM mailing WHERE paused_at IS NOT NULL) ORDER BY at LIMIT 1"))?
        .query_row([], |r| r.get(0))
        .optional()?;
    let mailings: Option<i64> = c
        .prepare_cached(formatcp!("SELECT min(planned_at) FROM mailing WHERE state = {MAILING_PLANNED} AND paused_at IS NULL"))?
        .query_row([], |r| r.get(0))?;
    let trials: Option<i64> = c
        .prepare_cached(formatcp!(
            "SELECT min(CASE state WHEN {TRIAL_COLLECTING} THEN min(coalesce(reading_due, next_look), coalesce(next_look, reading_due))
                ELSE rollout_at - at_pilot_hour * (json_extract(plan, '$.per_arm') IS NULL) * ?1 END)
             FROM trial WHERE state = {TRIAL_COLLECTING} AND coalesce(reading_due, next_look) IS NOT NULL OR state = {TRIAL_ROLLING}"
        ))?
        .query_row([CLOCK_CHANGE], |r| r.get(0))?;
    let rests: Option<i64> = c
        .prepare_cached(formatcp!("SELECT min(status_until) FROM contact WHERE status = {RESTING} AND status <> {ACTIVE}"))?
        .query_row([], |r| r.get(0))?;
    let invitations: Option<i64> =
        c.prepare_cached(formatcp!("SELECT min(due_at) FROM sign_up WHERE state = {SIGN_UP_WAITING}"))?.query_row([], |r| r.get(0))?;
    let checks = crate::self_check::next_due(c)?.map(|at| at.millis());
    let reserved: Option<i64> = c
        .prepare_cached(formatcp!(
            "SELECT min(give_up_at) FROM send INDEXED BY send_reserved WHERE state = {ACCEPTED} AND handed_at IS NULL"
        ))?
        .query_row([], |r| r.get(0))?;
    Ok([sends, mailings, trials, rests, invitations, checks, reserved].into_iter().flatten().min().map(Instant::of))
}

/// Marks mailings whose last message is out as sent.
///
/// # Errors
/// When the database fails.
pub fn finish(c: &Connection, now: Instant) -> Result<()> {
    c.prepare_cached(formatcp!(
        "UPDATE mailing SET state = {MAILING_SENT}, finished_at = ?1 WHERE state = {MAILING_SENDING} AND NOT recording
         AND NOT EXISTS (SELECT 1 FROM send WHERE mailing_id = mailing.id AND state IN ({OPEN}))
         AND NOT EXISTS (SELECT 1 FROM trial WHERE mailing_id = mailing.id AND state IN ({TRIAL_COLLECTING}, {TRIAL_READ}, {TRIAL_ROLLING}))"
    ))?
    .execute([now.millis()])?;
    Ok(())
}

/// How a message goes, and the domain that it is from.
///
/// # Errors
/// When there is no such message.
pub fn sent_from(c: &Connection, send: SendId) -> Result<(Channel, String)> {
    let (As(channel), from): (As<Channel>, String) = c
        .prepare_cached(
            "SELECT s.channel, l.from_address FROM send s JOIN mailing m ON m.id = s.mailing_id JOIN letterhead l ON l.id = m.letterhead_id WHERE s.id = ?1",
        )?
        .query_row([send.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok((channel, from.rsplit_once('@').map_or_else(String::new, |(_, domain)| domain.to_owned())))
}
