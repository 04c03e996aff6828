//! Trials in a series: anybody who comes to the step is given an arm as their message is handed over, until each arm is as
//! large as planned; the arms' shares can change on the way. See `rinse_core::trial::stretches`.

use super::counts::of_stretch;
use super::{Trial, arms, one, sentence};
use crate::codes::{TRIAL_COLLECTING, TRIAL_ENDED};
use crate::send_state::Phase;
use crate::stored::Worded;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::id::{ContactId, MailingId, TrialId};
use rinse_core::standing::TrialState;
use rinse_core::stats::StatsError;
use rinse_core::trial::assign;
use rinse_core::trial::letter;
use rinse_core::trial::looks::{CalledAtLook, Stopped, look};
use rinse_core::trial::plan::{LEAST_PER_ARM, Plan};
use rinse_core::trial::reading::{ArmCounts, Verdict, read_by};
use rinse_core::trial::rules::Rule;
use rinse_core::trial::sealing::{Seal, stretch_digest};
use rinse_core::trial::stretches::{Counted, ROLLOUT_WATCHED, StretchCounts, added_up, check_parts, full, least_open};
use rinse_core::words::people;
use rinse_core::{DAY, HOUR, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A time in which the arms' shares stayed the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = TrialStretch)]
pub struct Stretch {
    pub began_at: i64,
    /// The parts that each arm has of those who come; 0: it is closed.
    pub parts: Vec<u32>,
    /// People enrolled in each arm; of a trial on opens, those whose opens can be known.
    pub people: Vec<u64>,
    /// Who chose the shares, and why.
    pub person: Option<String>,
    pub why: String,
    #[serde(skip)]
    pub digest: String,
}

/// All stretches of a trial, the first one first; none of a trial whose people were drawn at once.
///
/// # Errors
/// When the database fails.
pub fn stretches(c: &Connection, t: &Trial) -> Result<Vec<Stretch>> {
    if t.plan.per_arm.is_none() { Ok(Vec::new()) } else { stretches_of(c, t.id) }
}

fn stretches_of(c: &Connection, trial: TrialId) -> Result<Vec<Stretch>> {
    let mut s = c.prepare_cached(
        "SELECT began_at, parts, people, p.name, why, digest FROM trial_stretch t LEFT JOIN person p ON p.id = person_id WHERE trial_id = ?1 ORDER BY place",
    )?;
    let rows =
        s.query_map([trial.0], |r| Ok((r.get(0)?, r.get::<_, String>(1)?, r.get::<_, String>(2)?, r.get(3)?, r.get(4)?, r.get(5)?)))?;
    rows.map(|row| {
        let (began_at, parts, people, person, why, digest) = row?;
        Ok(Stretch { began_at, parts: serde_json::from_str(&parts)?, people: serde_json::from_str(&people)?, person, why, digest })
    })
    .collect()
}

/// How many each arm has over all stretches.
#[must_use]
pub fn enrolled(stretches: &[Stretch]) -> Vec<u64> {
    let arms = stretches.first().map_or(0, |s| s.people.len());
    (0..arms).map(|i| stretches.iter().map(|s| s.people[i]).sum()).collect()
}

/// What differs from how the stretches were written down, in words.
pub(super) fn broken(t: &Trial, stretches: &[Stretch]) -> Option<String> {
    let seal = &t.seal.as_ref()?.digest;
    let differs = stretches.iter().zip(0..).any(|(s, place)| stretch_digest(seal, place, s.began_at, &s.parts) != s.digest);
    (differs || stretches.is_empty()).then(|| "The shares of the arms are not those that were written down as they began.".into())
}

/// A stretch begins.
pub(super) fn begin(c: &Connection, t: &Trial, seal: &str, parts: &[u32], why: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let place: i64 = c.query_row("SELECT count(*) FROM trial_stretch WHERE trial_id = ?1", [t.id.0], |r| r.get(0))?;
    c.execute(
        "INSERT INTO trial_stretch (trial_id, place, began_at, parts, people, person_id, why, digest) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        params![
            t.id.0,
            place,
            now.millis(),
            serde_json::to_string(parts)?,
            serde_json::to_string(&vec![0; parts.len()])?,
            person,
            why,
            stretch_digest(seal, place, now.millis(), parts)
        ],
    )?;
    Ok(())
}

fn reason(why: &str) -> Result<&str> {
    sentence(why).ok_or_else(|| StoreError::Refused("Say in a sentence why: anybody who reads the verdict will ask.".into()))
}

fn enrolling(c: &Connection, id: TrialId) -> Result<Trial> {
    let t = one(c, id)?;
    if t.plan.per_arm.is_none() {
        return Err(StoreError::Refused(
            "The people of this trial were all drawn as it was sealed: only a trial in a series, which people enter one by one, changes on the way."
                .into(),
        ));
    }
    if t.state != TrialState::Collecting || t.enrolled_at.is_some() {
        return Err(StoreError::Refused("Nobody is enrolled any more: what was sealed stays as it is.".into()));
    }
    Ok(t)
}

/// Changes the arms' shares: another stretch begins. No parts close an arm; parts for one that had none let it in.
///
/// # Errors
/// Parts that can't be, no reason, or a trial that enrols nobody.
pub fn change(c: &Connection, id: TrialId, parts: &[u32], why: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let t = enrolling(c, id)?;
    let why = reason(why)?;
    check_parts(parts, arms(c, &t)?, &t.plan.stays_open()).map_err(|e| StoreError::Refused(e.to_string()))?;
    if stretches(c, &t)?.last().is_some_and(|s| s.parts == parts) {
        return Err(StoreError::Refused("These are the shares there are: nothing would change.".into()));
    }
    let seal = t.seal.as_ref().map(|s| s.digest.clone()).unwrap_or_default();
    begin(c, &t, &seal, parts, why, now, person)?;
    settle(c, &t, now)?;
    crate::settings::audit(c, now, person, "arms' shares changed", "trial", id.0, &format!("{parts:?}: {why}"))
}

/// Ends the enrolment before the arms are as large as planned. With so few people that nothing can be read the trial is given
/// up: it ends without a verdict, and what was sealed for no call goes on.
///
/// # Errors
/// No reason, or a trial that enrols nobody.
pub fn end(c: &Connection, id: TrialId, why: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let t = enrolling(c, id)?;
    let why = reason(why)?;
    let all = stretches(c, &t)?;
    let n = enrolled(&all);
    let least = all.last().map_or(0, |s| least_open(&s.parts, &n));
    if least < LEAST_PER_ARM {
        let words = format!("Given up at {} in the smallest arm, of which nothing can be read: {why}", people(least));
        c.execute(
            formatcp!("UPDATE trial SET state = {TRIAL_ENDED}, enrolled_at = ?2, next_look = NULL, enrolment_words = ?3 WHERE id = ?1"),
            params![id.0, now.millis(), words],
        )?;
        return crate::settings::audit(c, now, person, "trial given up", "trial", id.0, why);
    }
    let opened = if t.opened_at.is_some() { ", after the arms had been opened" } else { "" };
    let words = format!("Enrolment was ended at {} in the smallest arm, not {}{opened}: {why}", people(least), t.plan.per_arm.unwrap_or(0));
    c.execute("UPDATE trial SET enrolled_at = ?2, enrolment_words = ?3 WHERE id = ?1", params![id.0, now.millis(), words])?;
    crate::settings::audit(c, now, person, "enrolment ended early", "trial", id.0, why)
}

/// Was its enrolment ended before the arms were as large as planned, after somebody had opened them? Who stops when they like what they see
/// finds something too often.
pub(super) fn ended_on_sight(t: &Trial, stretches: &[Stretch]) -> bool {
    let (Some(per_arm), Some(ended), Some(last)) = (t.plan.per_arm, t.enrolled_at, stretches.last()) else { return false };
    t.called_at_look.is_none() && t.opened_at.is_some_and(|at| at <= ended) && !full(per_arm, &last.parts, &enrolled(stretches))
}

/// What has to be known of how people were enrolled.
pub(super) fn remarks(t: &Trial, stretches: &[Stretch]) -> Vec<String> {
    let seen = |s: &&Stretch| t.opened_at.is_some_and(|at| at <= s.began_at);
    let after = stretches.iter().skip(1).find(seen).map(|_| {
        "The arms' shares were changed after the arms had been opened: anybody who changed them had seen how they did.".to_owned()
    });
    after.into_iter().chain((!t.enrolment_words.is_empty()).then(|| t.enrolment_words.clone())).collect()
}

/// Nobody more is needed once every open arm is as large as planned.
fn settle(c: &Connection, t: &Trial, now: Instant) -> Result<()> {
    let all = stretches(c, t)?;
    if let (Some(per_arm), Some(last)) = (t.plan.per_arm, all.last())
        && full(per_arm, &last.parts, &enrolled(&all))
    {
        c.execute("UPDATE trial SET enrolled_at = ?2 WHERE id = ?1 AND enrolled_at IS NULL", params![t.id.0, now.millis()])?;
    }
    Ok(())
}

/// Holds the next look, when so many people of every open arm have been through their window that it has its information.
/// An arm that does harm is closed, where it can be: nobody more is given it.
pub(super) fn hold_look(c: &Connection, mut t: Trial, now: Instant) -> Result<()> {
    let looks = t.seal.as_ref().map_or(&[][..], |s| &s.looks);
    let held = usize::try_from(t.looked).unwrap_or(usize::MAX);
    let (Some(l), Some(per_arm)) = (looks.get(held).copied(), t.plan.per_arm) else {
        c.execute("UPDATE trial SET next_look = NULL WHERE id = ?1", [t.id.0])?;
        return Ok(());
    };
    let again = if held + 1 < looks.len() { Some((now + DAY).millis()) } else { None };
    let stretches = stretches(c, &t)?;
    let through = now + -t.plan.window_hours * HOUR;
    let counted =
        |(place, s): (usize, &Stretch)| Ok(StretchCounts { parts: s.parts.clone(), counts: of_stretch(c, &t, place, Some(through))? });
    let of: Vec<StretchCounts> = stretches.iter().enumerate().map(counted).collect::<Result<_>>()?;
    let Some(mut parts) = of.last().map(|s| s.parts.clone()) else { return Ok(()) };
    let all = added_up(&of);
    let people: Vec<u64> = all.iter().map(ArmCounts::observed).collect();
    if !l.due(least_open(&parts, &people), per_arm) {
        c.execute("UPDATE trial SET next_look = ?2 WHERE id = ?1", params![t.id.0, (now + DAY).millis()])?;
        return Ok(());
    }
    let refused = |e: StatsError| StoreError::Refused(e.to_string());
    let found = look(&t.plan, Counted::over(&all, &of), &l, now.millis()).map_err(refused)?;
    let new: Vec<Stopped> = found.into_iter().filter(|f| parts[f.arm] > 0 && t.stopped.iter().all(|s| s.arm != f.arm)).collect();
    t.stopped.extend(new.iter().cloned());
    let stopped = serde_json::to_string(&t.stopped)?;
    c.execute("UPDATE trial SET looked = looked + 1, stopped = ?2, next_look = ?3 WHERE id = ?1", params![t.id.0, stopped, again])?;
    if t.plan.looks_call && called(c, &t, held + 1, through)? {
        return Ok(());
    }
    let closing: Vec<&Stopped> = new.iter().filter(|s| !t.plan.stays_open().contains(&s.arm)).collect();
    if closing.is_empty() || t.enrolled_at.is_some() {
        return Ok(());
    }
    closing.iter().for_each(|s| parts[s.arm] = 0);
    let why: Vec<String> = closing.iter().map(|s| format!("a look stopped {} for {}", letter(s.arm), s.harm)).collect();
    let why = why.join(", ");
    if parts.iter().filter(|p| **p > 0).count() < 2 {
        let words = format!("Enrolment ended as {why}: nothing was left to compare.");
        c.execute("UPDATE trial SET enrolled_at = ?2, enrolment_words = ?3 WHERE id = ?1", params![t.id.0, now.millis(), words])?;
    } else {
        let seal = t.seal.as_ref().map(|s| s.digest.clone()).unwrap_or_default();
        begin(c, &t, &seal, &parts, &why, now, None)?;
        settle(c, &t, now)?;
    }
    crate::settings::audit(c, now, None, "arm stopped for harm", "trial", t.id.0, &why)
}

/// Does the look call an arm? Then nobody more is enrolled, and the trial is read at once, of those whose window is over.
fn called(c: &Connection, t: &Trial, look: usize, through: Instant) -> Result<bool> {
    let seen = Trial { called_at_look: Some(CalledAtLook { look, through: through.millis() }), ..t.clone() };
    let counts = super::counts(c, &seen)?;
    let reading =
        read_by(seen.rule()?, &seen.plan, &counts, &super::beside(c, &seen, &counts)?).map_err(|e| StoreError::Refused(e.to_string()))?;
    let Verdict::Called(arm) = reading.verdict else { return Ok(false) };
    let now = through + t.plan.window_hours * HOUR;
    let words = format!("A look called {} before the arms were as large as planned.", letter(arm));
    c.execute(
        "UPDATE trial SET enrolled_at = coalesce(enrolled_at, ?2), enrolment_words = ?3, called_at_look = ?4, reading_due = ?2, next_look = NULL WHERE id = ?1",
        params![t.id.0, now.millis(), words, serde_json::to_string(&seen.called_at_look)?],
    )?;
    crate::settings::audit(c, now, None, "called at a look", "trial", t.id.0, &words)?;
    Ok(true)
}

/// How many people come to the message a day: over the last 28 days those who got it, or, where it isn't out, who entered
/// its series; none: nobody came yet.
///
/// # Errors
/// When the database fails.
#[allow(clippy::cast_precision_loss)]
pub fn a_day(c: &Connection, mailing: MailingId, now: Instant) -> Result<Option<f64>> {
    let (series, out_since): (Option<i64>, Option<i64>) =
        c.query_row("SELECT series_id, started_at FROM mailing WHERE id = ?1", [mailing.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let from = now.millis() - 28 * DAY;
    let per_day = |n: i64, since: i64| {
        // Those of the first hours say little of a day.
        let days = ((now.millis() - since.max(from)) as f64 / DAY as f64).max(1.0);
        (n > 0).then(|| n as f64 / days)
    };
    if let Some(since) = out_since {
        let n = c.query_row(
            "SELECT count(DISTINCT contact_id) FROM send WHERE mailing_id = ?1 AND cause = 2 AND handed_at > ?2",
            [mailing.0, from],
            |r| r.get(0),
        )?;
        return Ok(per_day(n, since));
    }
    let found: Option<(i64, Option<i64>)> = c
        .query_row(
            "SELECT (SELECT count(*) FROM series_entry WHERE series_id = s.id AND at > ?2), started_at FROM series s WHERE id = ?1",
            params![series, from],
            |r| Ok((r.get(0)?, r.get(1)?)),
        )
        .optional()?;
    Ok(found.and_then(|(n, since)| per_day(n, since?)))
}

/// Gives those who come to a message of a series their arm. It is made for each batch of messages: what has to be known of the
/// trial is read, and not the reading that is kept with it.
pub(crate) struct Enroller {
    trial: TrialId,
    mailing: MailingId,
    plan: Plan,
    seed: u64,
    state: TrialState,
    verdict: Option<Verdict>,
    rollout_at: Option<Instant>,
    enrols: bool,
    /// The people per arm are those whose opens can be known.
    of_known_opens: bool,
    place: i64,
    parts: Vec<u32>,
    /// In this stretch, and in those before.
    people: Vec<u64>,
    before: Vec<u64>,
}

impl Enroller {
    /// None: the message has no trial that was sealed, so that all get the first variant.
    pub(crate) fn of(c: &Connection, mailing: MailingId) -> Result<Option<Self>> {
        type Read = (i64, String, Option<i64>, Worded<TrialState>, Option<String>, Option<i64>, bool, Option<String>);
        let found: Option<Read> = c
            .prepare_cached(formatcp!(
                "SELECT id, plan, seed, state, verdict, rollout_at, state = {TRIAL_COLLECTING} AND enrolled_at IS NULL, seal
                 FROM trial WHERE mailing_id = ?1 AND sealed_at IS NOT NULL"
            ))?
            .query_row([mailing.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?, r.get(7)?)))
            .optional()?;
        let Some((trial, plan, seed, state, verdict, rollout_at, enrols, seal)) = found else { return Ok(None) };
        let plan: Plan = serde_json::from_str(&plan)?;
        let seal: Option<Seal> = seal.map(|s| serde_json::from_str(&s)).transpose()?;
        let mut all = if plan.per_arm.is_some() { stretches_of(c, TrialId(trial))? } else { Vec::new() };
        let Some(last) = all.pop() else { return Ok(None) };
        let before = if all.is_empty() { vec![0; last.people.len()] } else { enrolled(&all) };
        Ok(Some(Self {
            trial: TrialId(trial),
            mailing,
            seed: seed.unwrap_or(0).cast_unsigned(),
            state: state.0,
            verdict: verdict.map(|v| serde_json::from_str(&v)).transpose()?,
            rollout_at: rollout_at.map(Instant::of),
            enrols,
            of_known_opens: seal.and_then(|s| Rule::of(s.rule_version)).is_some_and(|rule| rule.leaves_unknown_out(&plan)),
            plan,
            place: i64::try_from(all.len()).unwrap_or(0),
            parts: last.parts,
            people: last.people,
            before,
        }))
    }

    /// The arm of somebody whose message is about to be handed over, and what part of the trial it is.
    pub(crate) fn place(&mut self, c: &Connection, contact: ContactId, now: Instant) -> Result<(usize, Phase)> {
        let no_call = self.plan.on_no_call.unwrap_or(0);
        let took_part: Option<i64> = c
            .prepare_cached("SELECT arm FROM roster WHERE trial_id = ?1 AND contact_id = ?2")?
            .query_row([self.trial.0, contact.0], |r| r.get(0))
            .optional()?;
        if self.state == TrialState::Ended {
            let arm = self.verdict.and_then(|v| v.goes_out(&self.plan)).unwrap_or(no_call);
            // Who comes again is watched once, by the first message.
            let before = "SELECT 1 FROM send WHERE mailing_id = ?1 AND contact_id = ?2 AND phase IN (2, 3)";
            let watched = self.rollout_at.is_some_and(|at| now < at + ROLLOUT_WATCHED)
                && !c.prepare_cached(before)?.exists([self.mailing.0, contact.0])?;
            let check =
                matches!(self.verdict, Some(Verdict::Called(_) | Verdict::NoWorse(_))) && assign::in_rollout_check(self.seed, contact);
            return Ok(match (took_part, watched) {
                (None, true) if check => (no_call, Phase::RolloutCheck),
                (None, true) => (arm, Phase::Rollout),
                _ => (arm, Phase::Whole),
            });
        }
        // Who comes again keeps their arm, and counts once.
        if let Some(arm) = took_part {
            return Ok((usize::try_from(arm).unwrap_or(no_call), Phase::Whole));
        }
        if !self.enrols {
            return Ok((no_call, Phase::Whole));
        }
        let arm = assign::on_entry(self.seed, contact, &self.parts);
        // As the domains were found at the seal: what comes to light on the way moves nobody in or out.
        let unknown = c
            .prepare_cached(
                "SELECT 1 FROM contact k JOIN trial_opens_unknown u ON u.domain_id = k.domain_id WHERE k.id = ?2 AND u.trial_id = ?1",
            )?
            .exists([self.trial.0, contact.0])?;
        c.prepare_cached("INSERT INTO roster (trial_id, contact_id, stratum, arm, opens_unknown) VALUES (?1, ?2, ?3, ?4, ?5)")?
            .execute(params![self.trial.0, contact.0, self.place, i64::try_from(arm).unwrap_or(0), unknown])?;
        if unknown && self.of_known_opens {
            return Ok((arm, Phase::Pilot));
        }
        self.people[arm] += 1;
        c.prepare_cached("UPDATE trial_stretch SET people = ?3 WHERE trial_id = ?1 AND place = ?2")?.execute(params![
            self.trial.0,
            self.place,
            serde_json::to_string(&self.people)?
        ])?;
        let all: Vec<u64> = self.people.iter().zip(&self.before).map(|(n, before)| n + before).collect();
        if full(self.plan.per_arm.unwrap_or(0), &self.parts, &all) {
            c.execute("UPDATE trial SET enrolled_at = ?2 WHERE id = ?1", params![self.trial.0, now.millis()])?;
            self.enrols = false;
        }
        Ok((arm, Phase::Pilot))
    }
}
