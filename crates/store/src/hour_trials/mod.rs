//! Hour trials: plans, seals and rounds. [`drawing`] gives each person of a round their hour, [`answers`] is what came of it, [`learned`] and [`own`] what
//! may be used of it: hours for all, and each person's own.

pub mod answers;
mod crossing;
pub mod drawing;
pub mod learned;
pub mod own;

pub(crate) use crossing::OFF;
pub use crossing::crossed;

use crate::codes::{MAILING_PLANNED, TRIAL_COLLECTING, TRIAL_READ};
use crate::send_state::ACCEPTED;
use crate::settings::audit;
use crate::stored::{Worded, ids_as};
use crate::{Result, StoreError, mailings};
use const_format::formatcp;
use rinse_core::channel::Channel;
use rinse_core::id::{HourTrialId, MailingId};
use rinse_core::schedule::{LocalTime, Passed};
use rinse_core::standing::{MailingState, TrialEvent, TrialState};
use rinse_core::trial::hour::confirming::{Confirms, expected_gain};
use rinse_core::trial::hour::draw::{GRACE, drawn_at, last_due};
use rinse_core::trial::hour::plan::{HourPlan, clock};
use rinse_core::trial::hour::reading::Reading;
use rinse_core::trial::sealing;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The version of the draw and of the reading that plans are sealed with.
pub const RULE_VERSION: u32 = 1;

/// An hour trial as it is stored.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct HourTrial {
    pub id: HourTrialId,
    pub plan: HourPlan,
    pub state: TrialState,
    pub made_at: i64,
    pub sealed_at: Option<i64>,
    pub reading_due: Option<i64>,
    pub read_at: Option<i64>,
    /// SHA-256 over all that was sealed.
    pub digest: Option<String>,
    #[serde(skip)]
    pub seed: Option<i64>,
    /// The plan's text as it is kept, which the seal is over.
    #[serde(skip)]
    pub text: String,
    #[serde(skip)]
    pub reading: Option<Reading>,
}

const COLUMNS: &str = "id, plan, state, made_at, sealed_at, reading_due, read_at, digest, seed, reading";

fn stored(r: &rusqlite::Row<'_>) -> rusqlite::Result<HourTrial> {
    let (id, text): (HourTrialId, String) = (HourTrialId(r.get(0)?), r.get(1)?);
    let reading: Option<String> = r.get(9)?;
    Ok(HourTrial {
        id,
        plan: crate::stored::document(&text, "hour trial", id.0)?,
        state: r.get::<_, Worded<_>>(2)?.0,
        made_at: r.get(3)?,
        sealed_at: r.get(4)?,
        reading_due: r.get(5)?,
        read_at: r.get(6)?,
        digest: r.get(7)?,
        seed: r.get(8)?,
        text,
        reading: reading.map(|t| crate::stored::document(&t, "hour trial", id.0)).transpose()?,
    })
}

/// # Errors
/// When there is no such trial.
pub fn one(c: &Connection, id: HourTrialId) -> Result<HourTrial> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM hour_trial WHERE id = ?1"))?;
    s.query_row([id.0], stored).optional()?.ok_or(StoreError::Missing("hour trial"))
}

/// All, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<HourTrial>> {
    let mut s =
        c.prepare_cached(&format!("SELECT {COLUMNS} FROM hour_trial ORDER BY coalesce(sealed_at, made_at) DESC, id DESC LIMIT 500"))?;
    Ok(s.query_map([], stored)?.collect::<rusqlite::Result<_>>()?)
}

/// Those that were read since an instant.
///
/// # Errors
/// When the database fails.
fn read_since(c: &Connection, since: Instant) -> Result<Vec<HourTrial>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM hour_trial WHERE state = {TRIAL_READ} AND read_at > ?1"))?;
    Ok(s.query_map([since.millis()], stored)?.collect::<rusqlite::Result<_>>()?)
}

/// How many rounds of a trial are drawn.
///
/// # Errors
/// When the database fails.
pub fn rounds_drawn(c: &Connection, id: HourTrialId) -> Result<usize> {
    let mut s = c.prepare_cached("SELECT count(*) FROM hour_round WHERE trial_id = ?1 AND drawn_at IS NOT NULL")?;
    Ok(usize::try_from(s.query_row([id.0], |r| r.get::<_, i64>(0))?).unwrap_or(0))
}

/// The best hour that was found, where a confirming trial can hold it against the usual one.
///
/// # Errors
/// When no hour was found, or it is the usual one.
pub fn to_confirm(plan: &HourPlan, reading: Option<&Reading>) -> Result<u8> {
    let refuse = |words: &str| Err(StoreError::Refused(words.into()));
    match reading.filter(|r| r.gain.is_none()).and_then(Reading::best) {
        None => refuse("This trial didn't find that the hour matters: there is nothing to confirm."),
        Some(best) if best == plan.usual_hour => {
            refuse("The usual hour is the best one that was found: there is nothing to gain by a change.")
        }
        Some(best) => Ok(best),
    }
}

/// The plan of a trial that holds the best hour of this one against the usual one, sized on what is to be expected of it.
///
/// # Errors
/// As [`to_confirm`].
pub fn confirming(c: &Connection, id: HourTrialId) -> Result<HourPlan> {
    let t = one(c, id)?;
    let best = to_confirm(&t.plan, t.reading.as_ref())?;
    let mut hours = vec![best, t.plan.usual_hour];
    hours.sort_unstable();
    let expected = t.reading.and_then(|r| expected_gain(&r, best, t.plan.usual_hour));
    let effect = expected.unwrap_or(t.plan.effect).clamp(0.005, 0.5);
    Ok(HourPlan {
        question: format!("Is {} worth having, against {}?", clock(best), clock(t.plan.usual_hour)),
        hours,
        effect: (effect * 1000.0).round() / 1000.0,
        rounds: Vec::new(),
        confirms: Some(Confirms { trial: id, best, own: false }),
        ..t.plan
    })
}

/// Makes a plan, or changes one that isn't sealed.
///
/// # Errors
/// When it is sealed, or gone.
pub fn save(c: &Connection, id: Option<HourTrialId>, plan: &HourPlan, now: Instant, person: Option<i64>) -> Result<HourTrialId> {
    let text = serde_json::to_string(plan)?;
    let Some(id) = id else {
        return Ok(c.query_row(
            "INSERT INTO hour_trial (plan, state, made_at, person_id) VALUES (?1, ?2, ?3, ?4) RETURNING id",
            params![text, Worded(TrialState::Planned), now.millis(), person],
            |r| r.get(0).map(HourTrialId),
        )?);
    };
    must_be_planned(c, id)?;
    c.execute("UPDATE hour_trial SET plan = ?2 WHERE id = ?1", params![id.0, text])?;
    Ok(id)
}

fn must_be_planned(c: &Connection, id: HourTrialId) -> Result<HourTrial> {
    let t = one(c, id)?;
    if t.state != TrialState::Planned {
        return Err(StoreError::Refused("The plan is sealed and can't change. Plan a new hour trial instead.".into()));
    }
    Ok(t)
}

/// Takes a plan away that isn't sealed.
///
/// # Errors
/// When it is sealed, or gone.
pub fn remove(c: &Connection, id: HourTrialId, now: Instant, person: Option<i64>) -> Result<()> {
    let t = must_be_planned(c, id)?;
    c.execute("DELETE FROM hour_trial WHERE id = ?1", [id.0])?;
    audit(c, now, person, "plan of an hour trial deleted", "hour trial", id.0, &t.plan.question)
}

fn advance(c: &Connection, id: HourTrialId, event: TrialEvent) -> Result<()> {
    let t = one(c, id)?;
    let Some(to) = t.state.next(event) else {
        return Err(StoreError::Refused(format!("This trial is {}; that can't be done to it any more.", t.state)));
    };
    c.execute("UPDATE hour_trial SET state = ?2 WHERE id = ?1", params![id.0, Worded(to)])?;
    Ok(())
}

/// What a round's mailing says: what is compared with it later.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Content {
    pub subject: String,
    pub preheader: String,
    pub html: String,
    pub text: String,
    pub audience: String,
}

impl Content {
    fn of(m: &mailings::Mailing) -> Result<Self> {
        let sha = |text: &str| sealing::digest(text, 0, RULE_VERSION, &[], &[], &[]);
        let d = &m.draft;
        Ok(Self {
            subject: d.subjects.first().cloned().unwrap_or_default(),
            preheader: d.preheader.clone(),
            html: sha(&d.html),
            text: sha(&d.text),
            audience: serde_json::to_string(&(d.list_id, d.segment_id, d.topic_id, &d.also, &d.without))?,
        })
    }

    /// What differs from this now, in words.
    fn differs(&self, now: &Self) -> Vec<&'static str> {
        let parts = [
            ("its subject", self.subject != now.subject),
            ("its preheader", self.preheader != now.preheader),
            ("its text", self.html != now.html || self.text != now.text),
            ("its audience", self.audience != now.audience),
        ];
        parts.into_iter().filter(|p| p.1).map(|p| p.0).collect()
    }
}

/// Can a mailing be a round?
fn can_ride(c: &Connection, m: &mailings::Mailing) -> Result<()> {
    let refuse = |words: &str| Err(StoreError::Refused(format!("“{}” can't be a round: {words}", m.draft.name)));
    if m.draft.channel == Channel::Text {
        return refuse("it is a text message. An hour trial is of email.");
    }
    if !matches!(m.state, MailingState::Draft | MailingState::Planned) || m.archived_at.is_some() || m.draft.template {
        return refuse("it isn't to come any more. Choose mailings that are drafts or planned.");
    }
    if m.trial_id.is_some() || m.draft.subjects.len() > 1 {
        return refuse("it has variants. Two questions at once answer neither: take the others out, or plan another mailing.");
    }
    if m.series_id.is_some() {
        return refuse("a series sends it, to each person in their time.");
    }
    if let Some((other, _)) = round_of(c, m.id)? {
        return refuse(&format!("it is a round of another hour trial, “{}”.", one(c, other.trial)?.plan.question));
    }
    Ok(())
}

/// May this plan be sealed now? By the plan, its mailings and their letterheads' sending hours.
///
/// # Errors
/// With what is wrong and what to do.
pub fn check(c: &Connection, plan: &HourPlan, now: Instant) -> Result<()> {
    let refused = |e: &dyn std::fmt::Display| StoreError::Refused(e.to_string());
    plan.check().map_err(|e| refused(&e))?;
    if let Some(of) = plan.confirms {
        one(c, of.trial)?;
    }
    let rules = crate::rules::current(c)?;
    for (r, n) in plan.rounds.iter().zip(1..) {
        let m = mailings::one(c, r.mailing)?;
        can_ride(c, &m)?;
        let clearing = crate::clearing::mailing(c, r.mailing)?;
        plan.check_sending_hours(&rules.rules.hours_for(clearing.facts.kind)).map_err(|e| refused(&e))?;
        if let Some(w) = crate::warm_up::of_letterhead(c, m.draft.letterhead_id)? {
            return Err(StoreError::Refused(format!(
                "Round {n} would go from {}, which is being warmed up: most people of an hour would wait for another day. Try hours once the warm-up is over.",
                w.domain
            )));
        }
        if drawn_at(r.day) <= now {
            return Err(StoreError::Refused(format!(
                "Round {n} would have to be drawn by {} UTC, before its date begins anywhere. Choose a later date.",
                drawn_at(r.day).words()
            )));
        }
    }
    Ok(())
}

/// Other mailings that go out between a round's draw and its last hour, where a cap is in force, in sentences: who gets one is over the cap at
/// late hours and not at early ones, so that the hours lose people unequally.
///
/// # Errors
/// When the database fails.
pub fn in_the_way(c: &Connection, plan: &HourPlan) -> Result<Vec<String>> {
    if !crate::rules::current(c)?.rules.caps.iter().any(|cap| cap.in_force) {
        return Ok(Vec::new());
    }
    let mut s = c.prepare_cached(
        formatcp!("SELECT id, name, planned_at FROM mailing WHERE state = {MAILING_PLANNED} AND class = 1 AND channel = 1 AND planned_at BETWEEN ?1 AND ?2 ORDER BY planned_at, id"),
    )?;
    let mut out = Vec::new();
    for (r, n) in plan.rounds.iter().zip(1..) {
        let rows = s.query_map([drawn_at(r.day).millis(), last_due(r.day, &plan.hours).millis()], |r| {
            Ok((MailingId(r.get(0)?), r.get::<_, String>(1)?, r.get::<_, i64>(2)?))
        })?;
        for row in rows {
            let (id, name, at) = row?;
            if plan.rounds.iter().all(|r| r.mailing != id) {
                out.push(format!(
                    "“{name}” goes out {} UTC, between the draw of round {n} and its last hour. Who gets it may be over a cap at the later hours, which would then lose more people than the earlier ones: move it, or the round.",
                    Instant::of(at).words()
                ));
            }
        }
    }
    Ok(out)
}

/// Seals a plan: from now on its mailings go out as its rounds.
///
/// # Errors
/// As [`check`]; when it is sealed already.
pub fn seal(c: &Connection, id: HourTrialId, seed: u64, now: Instant, person: Option<i64>) -> Result<()> {
    let t = must_be_planned(c, id)?;
    check(c, &t.plan, now)?;
    let mut contents = Vec::new();
    for (r, n) in t.plan.rounds.iter().zip(0..) {
        let m = mailings::one(c, r.mailing)?;
        let content = serde_json::to_string(&Content::of(&m)?)?;
        c.execute(
            "INSERT INTO hour_round (trial_id, round, mailing_id, day, content) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![id.0, n, r.mailing.0, r.day, content],
        )?;
        contents.push(content);
        set_schedule(c, &m, &t.plan, r.day)?;
        if m.state == MailingState::Planned {
            c.execute("UPDATE mailing SET planned_at = ?2 WHERE id = ?1", params![r.mailing.0, drawn_at(r.day).millis()])?;
        }
    }
    let last = t.plan.rounds.last().map_or(now, |r| last_due(r.day, &t.plan.hours));
    let due = last + i64::from(t.plan.window_days) * DAY + 2 * HOUR;
    let digest = digest_of(&t.text, seed, &contents);
    c.execute(
        "UPDATE hour_trial SET seed = ?2, digest = ?3, sealed_at = ?4, reading_due = ?5 WHERE id = ?1",
        params![id.0, seed.cast_signed(), digest, now.millis(), due.millis()],
    )?;
    advance(c, id, TrialEvent::Sealed)?;
    let detail = format!("{} rounds at {} hours", t.plan.rounds.len(), t.plan.hours.len());
    audit(c, now, person, "hour trial sealed", "hour trial", id.0, &detail)
}

/// The digest of a plan's text with what its rounds say.
fn digest_of(plan: &str, seed: u64, contents: &[String]) -> String {
    sealing::digest(plan, seed, RULE_VERSION, &[], contents, &[])
}

/// A round's mailing goes at the usual hour to those who aren't drawn.
fn set_schedule(c: &Connection, m: &mailings::Mailing, plan: &HourPlan, day: i64) -> Result<()> {
    let mut schedule = m.draft.schedule.clone();
    schedule.local = Some(LocalTime { day, minute: u16::from(plan.usual_hour) * 60, passed: Passed::Tomorrow });
    schedule.spread_minutes = schedule.spread_minutes.min(MOST_SPREAD);
    schedule.best_hour = false;
    schedule.own_hour = false;
    c.execute("UPDATE mailing SET schedule = ?2, version = version + 1 WHERE id = ?1", params![m.id.0, serde_json::to_string(&schedule)?])?;
    Ok(())
}

/// Messages of an hour are spread over no more than it.
const MOST_SPREAD: u16 = 59;

/// A round that is to be drawn, or was.
#[derive(Debug, Clone)]
pub struct RoundOf {
    pub trial: HourTrialId,
    /// From 0.
    pub round: usize,
    pub mailing: MailingId,
    pub day: i64,
    pub drawn: bool,
    /// Another system sends it: everybody is on its list as they are drawn.
    pub handed_out: bool,
}

/// The round that a mailing is, with its trial's plan, while the trial runs.
///
/// # Errors
/// When the database fails.
pub fn round_of(c: &Connection, mailing: MailingId) -> Result<Option<(RoundOf, HourPlan)>> {
    let mut s = c.prepare_cached(formatcp!(
        "SELECT r.trial_id, r.round, r.day, r.drawn_at IS NOT NULL, t.plan, m.handed_out FROM hour_round r JOIN hour_trial t ON t.id = r.trial_id JOIN mailing m ON m.id = r.mailing_id
         WHERE r.mailing_id = ?1 AND r.missed IS NULL AND t.state = {TRIAL_COLLECTING}"
    ))?;
    let found = s.query_row([mailing.0], |r| {
        let trial = HourTrialId(r.get(0)?);
        let plan = crate::stored::document(&r.get::<_, String>(4)?, "hour trial", trial.0)?;
        let round = usize::try_from(r.get::<_, i64>(1)?).unwrap_or(0);
        Ok((RoundOf { trial, round, mailing, day: r.get(2)?, drawn: r.get(3)?, handed_out: r.get(5)? }, plan))
    });
    Ok(found.optional()?)
}

/// When a mailing that is a round is drawn: it is planned for then, whenever somebody asks for. None: it is no round.
///
/// # Errors
/// When that has passed.
pub fn planned_for(c: &Connection, m: &mailings::Mailing, now: Instant) -> Result<Option<Instant>> {
    let Some((round, plan)) = round_of(c, m.id)?.filter(|(r, _)| !r.drawn) else { return Ok(None) };
    let at = drawn_at(round.day);
    if at + GRACE < now {
        return Err(StoreError::Refused(format!(
            "This mailing is round {} of an hour trial, and was to be drawn by {} UTC. The round will be marked as missed within the hour; then the mailing can go out as any other.",
            round.round + 1,
            at.words()
        )));
    }
    set_schedule(c, m, &plan, round.day)?;
    Ok(Some(at.max(now)))
}

/// A round of a running trial that isn't drawn yet.
pub struct Undrawn {
    pub question: String,
    /// From 1.
    pub round: i64,
    pub mailing: MailingId,
    pub name: String,
    pub state: MailingState,
    pub draws_at: Instant,
}

impl Undrawn {
    /// Until when it can be drawn; none: it is being drawn.
    fn until(&self) -> Option<Instant> {
        (self.state != MailingState::Sending).then_some(self.draws_at + GRACE)
    }
}

/// The rounds of running trials that aren't drawn yet, the trials sealed last first.
///
/// # Errors
/// When the database fails.
pub fn undrawn(c: &Connection) -> Result<Vec<Undrawn>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT json_extract(t.plan, '$.question'), r.round + 1, m.id, m.name, m.state, r.day FROM hour_round r JOIN hour_trial t ON t.id = r.trial_id
            JOIN mailing m ON m.id = r.mailing_id
         WHERE t.state = {TRIAL_COLLECTING} AND r.drawn_at IS NULL AND r.missed IS NULL ORDER BY t.sealed_at DESC, t.id DESC, r.round"),
    )?;
    let rows = s.query_map([], |r| {
        let state = r.get::<_, Worded<_>>(4)?.0;
        Ok(Undrawn {
            question: r.get(0)?,
            round: r.get(1)?,
            mailing: MailingId(r.get(2)?),
            name: r.get(3)?,
            state,
            draws_at: drawn_at(r.get(5)?),
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Marks the rounds that weren't drawn in time: their mailings are as any others again.
///
/// # Errors
/// When the database fails.
pub fn mark_missed(c: &Connection, now: Instant) -> Result<()> {
    let late = |r: &Undrawn| r.until().is_some_and(|until| until < now);
    undrawn(c)?.into_iter().filter(late).try_for_each(|r| miss(c, r.mailing, "its message wasn't planned in time", now))
}

/// When a trial is read next, or a round is found missed. (A round's draw is when its mailing is planned for.)
///
/// # Errors
/// When the database fails.
pub fn next_due(c: &Connection) -> Result<Option<Instant>> {
    let read: Option<i64> = c
        .prepare_cached(formatcp!("SELECT min(reading_due) FROM hour_trial WHERE state = {TRIAL_COLLECTING} AND NOT {AWAITED}"))?
        .query_row([], |r| r.get(0))?;
    let missed = undrawn(c)?.iter().filter_map(Undrawn::until).min().map(|until| until + 1);
    Ok([read.map(Instant::of), missed].into_iter().flatten().min())
}

/// A round isn't drawn, and why.
///
/// # Errors
/// When the database fails.
pub fn miss(c: &Connection, mailing: MailingId, why: &str, now: Instant) -> Result<()> {
    c.execute("UPDATE hour_round SET missed = ?2 WHERE mailing_id = ?1 AND drawn_at IS NULL AND missed IS NULL", params![mailing.0, why])?;
    audit(c, now, None, "round of an hour trial missed", "mailing", mailing.0, why)
}

/// Ends a trial before its last round: nothing of it is read. Rounds that are out stay out.
///
/// # Errors
/// When it isn't running.
pub fn end(c: &Connection, id: HourTrialId, now: Instant, person: Option<i64>) -> Result<()> {
    advance(c, id, TrialEvent::GivenUp)?;
    c.execute("UPDATE hour_round SET missed = 'the trial was ended' WHERE trial_id = ?1 AND drawn_at IS NULL AND missed IS NULL", [id.0])?;
    audit(c, now, person, "hour trial ended", "hour trial", id.0, "before its last round; nothing of it is read")
}

/// Keeps what was read.
///
/// # Errors
/// When it was read already.
pub fn save_reading(c: &Connection, id: HourTrialId, reading: &Reading, now: Instant) -> Result<()> {
    advance(c, id, TrialEvent::Read)?;
    let text = serde_json::to_string(reading)?;
    c.execute("UPDATE hour_trial SET read_at = ?2, reading = ?3 WHERE id = ?1", params![id.0, now.millis(), text])?;
    audit(c, now, None, "hour trial read", "hour trial", id.0, &reading.sentence)
}

/// Is somebody handed out to another system of whom its log may tell yet, in SQL, of a trial?
const AWAITED: &str = formatcp!(
    "EXISTS (SELECT 1 FROM hour_round r JOIN mailing m ON m.id = r.mailing_id JOIN hour_roster h ON h.mailing_id = m.id
            JOIN send s ON s.mailing_id = h.mailing_id AND s.contact_id = h.contact_id
        WHERE r.trial_id = hour_trial.id AND r.missed IS NULL AND m.handed_out = 1 AND s.state = {ACCEPTED} AND s.handed_at IS NULL)"
);

/// The trials whose last window is over and that weren't read. One with rounds that another system sends waits for what its log tells.
///
/// # Errors
/// When the database fails.
pub fn to_read(c: &Connection, now: Instant) -> Result<Vec<HourTrialId>> {
    ids_as(
        c,
        formatcp!("SELECT id FROM hour_trial WHERE state = {TRIAL_COLLECTING} AND reading_due <= ?1 AND NOT {AWAITED}"),
        [now.millis()],
        HourTrialId,
    )
}
