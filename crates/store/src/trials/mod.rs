//! Trials: plans, rosters, verdicts. [`enrol`] gives those who come to a step of a series their arms, [`counts`] counts within each person's window, [`brought`] what people bought and did,
//! [`before`] what they did before, [`companies`] whose people answer alike, [`past`] says what past mailings and trials make usual.

pub mod before;
pub(crate) mod brought;
pub mod companies;
pub mod counts;
pub mod course;
mod crossing;
pub mod enrol;
pub mod learned;
pub mod past;
pub mod self_check;

pub(crate) use counts::columns;
pub use counts::{Balance, balance, counts};
pub(crate) use past::contrast;
pub use past::{Corrected, Past, corrected, leaving, past, past_spread};

use crate::codes::{FILE_AT_WORK, TRIAL_COLLECTING, TRIAL_ENDED, TRIAL_PLANNED, TRIAL_READ, TRIAL_ROLLING};
use crate::send_state::{ACCEPTED, HANDING_OVER, WAITING};
use crate::stored::{Worded, ids_as};
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::history::MORE_MAY_COME;
use rinse_core::id::{ContactId, MailingId, TrialId};
use rinse_core::schedule::CLOCK_CHANGE;
use rinse_core::segment::Tree;
use rinse_core::standing::{TrialEvent, TrialState};
use rinse_core::trial::assign::{self, Enrolled};
use rinse_core::trial::looks::{self, CalledAtLook, Look, Stopped};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::{ArmCounts, AtLook, Beside, Reading, Verdict, read_by};
use rinse_core::trial::rules::{self, Rule};
use rinse_core::trial::sealing::{self, Seal};
use rinse_core::trial::stretches::{StretchCounts, recomputed as on_entry};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// A trial as it is stored.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Trial {
    pub id: TrialId,
    pub mailing_id: MailingId,
    pub mailing: String,
    pub plan: Plan,
    pub state: TrialState,
    pub sealed_at: Option<i64>,
    #[serde(skip)]
    pub seed: Option<i64>,
    pub reading_due: Option<i64>,
    pub read_at: Option<i64>,
    pub verdict: Option<Verdict>,
    #[serde(skip)]
    pub counts: Option<Vec<ArmCounts>>,
    /// What the reading rested on beside them; none of readings from before it was kept.
    #[serde(skip)]
    pub beside: Option<Beside>,
    pub rollout_at: Option<i64>,
    #[serde(skip)]
    pub seal: Option<Seal>,
    /// The plan's text as it is kept, which the seal is over.
    #[serde(skip)]
    pub text: String,
    /// Looks held so far.
    pub looked: i64,
    pub stopped: Vec<Stopped>,
    /// When somebody opened the arms before the end, and who.
    pub opened_at: Option<i64>,
    pub opened_by: Option<String>,
    /// Why it was sealed under its needed size, and who let it.
    pub small_reason: Option<String>,
    pub small_by: Option<String>,
    /// In a series: since when nobody more is enrolled.
    pub enrolled_at: Option<i64>,
    /// Why that was before the arms were as large as planned.
    pub enrolment_words: String,
    /// The rollout goes at the pilot's hour.
    #[serde(skip)]
    pub at_pilot_hour: bool,
    /// In a series: a look called an arm.
    pub called_at_look: Option<CalledAtLook>,
}

impl Trial {
    /// Is it on opens, and read from those alone whose opens can be known, by the rule that it was sealed with?
    pub(crate) fn of_known_opens(&self) -> bool {
        self.rule().is_ok_and(|rule| rule.leaves_unknown_out(&self.plan))
    }

    /// The rule that it was sealed with.
    ///
    /// # Errors
    /// When only a newer Rinse knows it.
    pub fn rule(&self) -> Result<Rule> {
        let version = self.seal.as_ref().map_or(0, |s| s.rule_version);
        Rule::of(version).ok_or_else(|| {
            StoreError::Refused(format!("This trial was sealed by a newer Rinse (rule version {version}). Read it with that one."))
        })
    }

    /// Those alone are read whose message was handed over by then; none: all.
    pub(crate) fn read_by(&self) -> Option<Instant> {
        self.called_at_look.map(|l| Instant::of(l.through))
    }

    /// Where its reading stands among the looks that may call an arm; none where they may not.
    fn at_look(&self, arms: usize) -> Result<Option<AtLook>> {
        let bounds = looks::call_bounds(&self.plan, arms).map_err(|e| StoreError::Refused(e.to_string()))?;
        let look = self.called_at_look.map_or(bounds.len(), |l| l.look);
        let at = look.checked_sub(1).and_then(|i| bounds.get(i));
        Ok(at.map(|b| AtLook { look, of: bounds.len(), information: b.information, level: b.level }))
    }

    /// When the pilot went, where its rollout goes at that hour.
    #[must_use]
    pub fn pilot_hour(&self) -> Option<Instant> {
        self.sealed_at.filter(|_| self.at_pilot_hour).map(Instant::of)
    }

    /// Are its arms closed: not read yet, and opened by nobody?
    pub(crate) fn closed(&self) -> bool {
        self.counts.is_none() && self.opened_at.is_none()
    }
}

fn some(c: &Connection, filter: &str, value: i64) -> Result<Vec<Trial>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT t.id, mailing_id, m.name, plan, t.state, sealed_at, seed, reading_due, read_at, verdict, counts, rollout_at,
            seal, looked, stopped, opened_at, p.name, small_reason, (SELECT name FROM person WHERE id = small_by), beside, enrolled_at, enrolment_words, at_pilot_hour, called_at_look
         FROM trial t JOIN mailing m ON m.id = mailing_id LEFT JOIN person p ON p.id = opened_by WHERE {filter} ORDER BY coalesce(sealed_at, 9e15) DESC, t.id DESC"
    ))?;
    let rows = s.query_map([value], |r| {
        Ok((
            (TrialId(r.get(0)?), MailingId(r.get(1)?), r.get(2)?, r.get::<_, String>(3)?, r.get::<_, Worded<_>>(4)?.0, r.get(5)?),
            (r.get(6)?, r.get(7)?, r.get(8)?, r.get::<_, Option<String>>(9)?, r.get::<_, Option<String>>(10)?, r.get(11)?),
            (
                r.get::<_, Option<String>>(12)?,
                r.get(13)?,
                r.get::<_, String>(14)?,
                r.get(15)?,
                r.get(16)?,
                r.get(17)?,
                r.get(18)?,
                r.get::<_, Option<String>>(19)?,
                r.get(20)?,
                r.get(21)?,
                r.get(22)?,
                r.get::<_, Option<String>>(23)?,
            ),
        ))
    })?;
    rows.map(|row| {
        let ((id, mailing_id, mailing, plan, state, sealed_at), (seed, reading_due, read_at, verdict, counts, rollout_at), rest) = row?;
        let (seal, looked, stopped, opened_at, opened_by, small_reason, small_by, beside, enrolled_at, words, at_pilot_hour, called) = rest;
        Ok(Trial {
            id,
            mailing_id,
            mailing,
            plan: serde_json::from_str(&plan)?,
            state,
            sealed_at,
            seed,
            reading_due,
            read_at,
            verdict: verdict.map(|v| serde_json::from_str(&v)).transpose()?,
            counts: counts.map(|v| serde_json::from_str(&v)).transpose()?,
            rollout_at,
            beside: beside.map(|v| serde_json::from_str(&v)).transpose()?,
            seal: seal.map(|v| serde_json::from_str(&v)).transpose()?,
            text: plan,
            looked,
            stopped: serde_json::from_str(&stopped)?,
            opened_at,
            opened_by,
            small_reason,
            small_by,
            enrolled_at,
            enrolment_words: words,
            at_pilot_hour,
            called_at_look: called.map(|v| serde_json::from_str(&v)).transpose()?,
        })
    })
    .collect()
}

/// # Errors
/// When there is no such trial.
pub fn one(c: &Connection, id: TrialId) -> Result<Trial> {
    some(c, "t.id = ?1", id.0)?.pop().ok_or(StoreError::Missing("trial"))
}

/// All trials, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Trial>> {
    some(c, "t.id > ?1", 0)
}

/// Makes or changes the plan of a mailing's trial. A sealed plan can't change.
///
/// # Errors
/// When the trial is sealed.
pub fn save_plan(c: &Connection, mailing: MailingId, plan: &Plan, now: Instant, person: Option<i64>) -> Result<TrialId> {
    if c.prepare_cached("SELECT 1 FROM mailing WHERE id = ?1 AND channel = 2")?.exists([mailing.0])? {
        return Err(StoreError::Refused("A text message has no variants to try. Plan the trial on an email.".into()));
    }
    if c.prepare_cached("SELECT 1 FROM hour_round WHERE mailing_id = ?1 AND missed IS NULL")?.exists([mailing.0])? {
        return Err(StoreError::Refused(
            "This mailing is a round of an hour trial: two questions at once answer neither. Plan this trial on another mailing.".into(),
        ));
    }
    let in_series = c.prepare_cached("SELECT 1 FROM mailing WHERE id = ?1 AND series_id IS NOT NULL")?.exists([mailing.0])?;
    if in_series && plan.per_arm.is_none() {
        return Err(StoreError::Refused(
            "This message is a step of a series: people come to it one by one. Say how many each arm takes (people per arm).".into(),
        ));
    }
    if !in_series && plan.per_arm.is_some() {
        return Err(StoreError::Refused(
            "Only a message of a series enrols people as they come; this one has an audience. Say which share of it takes part.".into(),
        ));
    }
    if let Some(goal) = plan.goal.as_ref().filter(|_| plan.metric.asks_goal()) {
        goal.goal.check().map_err(StoreError::Refused)?;
    }
    let text = serde_json::to_string(plan)?;
    let id: Option<TrialId> = c
        .query_row(
            formatcp!(
                "INSERT INTO trial (mailing_id, plan, state, made_at, person_id) VALUES (?1,?2,{TRIAL_PLANNED},?3,?4)
             ON CONFLICT (mailing_id) DO UPDATE SET plan = excluded.plan WHERE state = {TRIAL_PLANNED} RETURNING id"
            ),
            params![mailing.0, text, now.millis(), person],
            |r| r.get(0).map(TrialId),
        )
        .optional()?;
    id.ok_or_else(|| StoreError::Refused("The plan is sealed and can't change. Plan a new trial instead.".into()))
}

/// A reason, when it is long enough to be a sentence.
fn sentence(why: &str) -> Option<&str> {
    Some(why.trim()).filter(|why| why.chars().count() >= 10)
}

/// May a trial be sealed under its needed size? By an approver's word, with a reason, which is returned.
///
/// # Errors
/// When it isn't an approver's, or no reason is given.
pub fn may_be_small<'a>(c: &Connection, too_small: &str, reason: &'a str, person: Option<i64>) -> Result<&'a str> {
    let reason = sentence(reason)
        .ok_or_else(|| StoreError::Refused(format!("{too_small} Or an approver lets it go, and says in a sentence why.")))?;
    if !crate::team::is_approver(c, person)? {
        return Err(StoreError::Refused(format!("{too_small} Only an approver can let it go all the same.")));
    }
    Ok(reason)
}

/// Lets a trial be sealed under its needed size.
///
/// # Errors
/// As [`may_be_small`].
pub fn let_small(c: &Connection, id: TrialId, too_small: &str, reason: &str, person: Option<i64>, now: Instant) -> Result<()> {
    let reason = may_be_small(c, too_small, reason, person)?;
    c.execute("UPDATE trial SET small_reason = ?2, small_by = ?3 WHERE id = ?1", params![id.0, reason, person])?;
    crate::settings::audit(c, now, person, "a trial under its needed size was let go", "trial", id.0, reason)
}

/// Seals the plan and freezes the roster, all at once: for few people.
///
/// # Errors
/// When it is sealed already.
pub fn seal(c: &Connection, id: TrialId, seed: u64, roster: &[Enrolled], looks: Vec<Look>, now: Instant) -> Result<()> {
    let t = one(c, id)?;
    let people: Vec<ContactId> = roster.iter().map(|e| e.contact).collect();
    let before = before::of_people(c, &t.plan, &people, now)?;
    put_on_roster(c, id, roster, &people_of_groups(c, &t.plan, now)?, &before)?;
    let digest = digest(c, &t, seed, &looks, roster, &before)?;
    seal_drawn(c, id, seed, looks, digest, now)
}

/// What seals a plan with its variants, looks and roster.
///
/// # Errors
/// When the database fails.
pub fn digest(c: &Connection, t: &Trial, seed: u64, looks: &[Look], roster: &[Enrolled], before: &[(ContactId, u32)]) -> Result<String> {
    let mut before = before.to_vec();
    before.sort_unstable();
    let sent: Vec<String> = variants(c, t.mailing_id)?.into_iter().chain(before::sealed(&before)).collect();
    Ok(sealing::digest(&t.text, seed, rules::LATEST, looks, &sent, roster))
}

/// The people of each subgroup, in order.
///
/// # Errors
/// When a segment is gone.
pub fn people_of_groups(c: &Connection, plan: &Plan, now: Instant) -> Result<Vec<Vec<ContactId>>> {
    plan.subgroups.iter().map(|group| crate::segments::people(c, &Tree::Segment { segment: group.segment }, now)).collect()
}

/// Puts people on the roster of a plan that is being sealed. Who is in a subgroup is frozen, too: what the trial does to people
/// must not move them in or out.
///
/// # Errors
/// When the database fails.
pub fn put_on_roster(
    c: &Connection,
    id: TrialId,
    roster: &[Enrolled],
    groups: &[Vec<ContactId>],
    before: &[(ContactId, u32)],
) -> Result<()> {
    let mut s = c.prepare_cached("INSERT INTO roster_before VALUES (?1, ?2, ?3)")?;
    for (contact, share) in before {
        s.execute(params![id.0, contact.0, share])?;
    }
    let mut s = c.prepare_cached("INSERT INTO roster (trial_id, contact_id, stratum, arm, opens_unknown) VALUES (?1, ?2, ?3, ?4, ?5)")?;
    for e in roster {
        s.execute(params![id.0, e.contact.0, e.stratum, i64::try_from(e.arm).unwrap_or(0), e.opens_unknown])?;
    }
    let mut s = c.prepare_cached("INSERT INTO roster_group VALUES (?1, ?2, ?3)")?;
    for (place, people) in groups.iter().enumerate() {
        for e in roster.iter().filter(|e| people.binary_search(&e.contact).is_ok()) {
            s.execute(params![id.0, i64::try_from(place).unwrap_or(0), e.contact.0])?;
        }
    }
    Ok(())
}

/// Takes some people off the roster of a plan that isn't sealed; how many.
///
/// # Errors
/// When the database fails.
pub fn take_off_roster(c: &Connection, id: TrialId, most: usize) -> Result<usize> {
    let some = |table: &str, key: &str| {
        c.prepare_cached(&format!(
            "DELETE FROM {table} WHERE trial_id = ?1 AND ({key}) IN (SELECT {key} FROM {table} JOIN trial t ON t.id = trial_id
                WHERE trial_id = ?1 AND t.state = {TRIAL_PLANNED} LIMIT ?2)"
        ))?
        .execute(params![id.0, i64::try_from(most).unwrap_or(i64::MAX)])
    };
    Ok(some("roster", "contact_id")? + some("roster_group", "place, contact_id")? + some("roster_before", "contact_id")?)
}

/// Seals the plan of a trial whose people are on the roster, by the [`digest`] of both.
///
/// # Errors
/// When it is sealed already.
pub fn seal_drawn(c: &Connection, id: TrialId, seed: u64, looks: Vec<Look>, digest: String, now: Instant) -> Result<()> {
    let t = one(c, id)?;
    let kept = serde_json::to_string(&Seal { rule_version: rules::LATEST, looks, digest })?;
    let n = c.execute(
        formatcp!(
            "UPDATE trial SET state = {TRIAL_COLLECTING}, sealed_at = ?2, seed = ?3, seal = ?4 WHERE id = ?1 AND state = {TRIAL_PLANNED}"
        ),
        params![id.0, now.millis(), seed.cast_signed(), kept],
    )?;
    if n == 0 {
        return Err(StoreError::Refused("This trial is sealed already.".into()));
    }
    if t.plan.per_arm.is_some() {
        c.execute(&format!("INSERT INTO trial_opens_unknown SELECT ?1, id FROM ({})", crate::machines::opens::UNKNOWN_DOMAINS), [id.0])?;
        let digest = one(c, id)?.seal.map(|s| s.digest).unwrap_or_default();
        enrol::begin(c, &t, &digest, &t.plan.parts(arms(c, &t)?), "as planned", now, None)?;
        if t.plan.harm_looks > 0 {
            c.execute("UPDATE trial SET next_look = ?2 WHERE id = ?1", params![id.0, t.plan.window_end(now).millis()])?;
        }
    }
    Ok(())
}

/// The arm of everyone of a mailing's pilot who gets a message; none for a mailing without a sealed trial.
///
/// # Errors
/// When the database fails.
pub fn pilot(c: &Connection, mailing: MailingId) -> Result<Option<HashMap<ContactId, usize>>> {
    let id: Option<TrialId> = c
        .prepare_cached(formatcp!(
            "SELECT id FROM trial WHERE mailing_id = ?1 AND state = {TRIAL_COLLECTING} AND json_extract(plan, '$.per_arm') IS NULL"
        ))?
        .query_row([mailing.0], |r| r.get(0).map(TrialId))
        .optional()?;
    let Some(id) = id else { return Ok(None) };
    let arms = arms(c, &one(c, id)?)?;
    // Those of the arm without mail take part and get nothing.
    Ok(Some(roster(c, id)?.into_iter().filter(|e| e.arm < arms).map(|e| (e.contact, e.arm)).collect()))
}

/// All that is sent, variant by variant.
fn variants(c: &Connection, mailing: MailingId) -> Result<Vec<String>> {
    let mut s = c.prepare_cached(
        "SELECT v.subject, m.preheader, m.format, m.html, m.text, v.sender_name, v.reply_to FROM variant v JOIN mailing m ON m.id = v.mailing_id WHERE m.id = ?1 ORDER BY v.arm",
    )?;
    let rows = s.query_map([mailing.0], |r| {
        let parts: [String; 5] = [r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?];
        let sender: [String; 2] = [r.get(5)?, r.get(6)?];
        // A sender that is the letterhead's adds nothing, as in seals from before there were others.
        let own = if sender.iter().all(String::is_empty) { String::new() } else { format!("\u{1f}{}", sender.join("\u{1f}")) };
        Ok(parts.join("\u{1f}") + &own)
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How many variants the trial's mailing has; those without mail are one arm more.
///
/// # Errors
/// When the database fails.
pub fn arms(c: &Connection, t: &Trial) -> Result<usize> {
    Ok(c.prepare_cached("SELECT count(*) FROM variant WHERE mailing_id = ?1")?
        .query_row([t.mailing_id.0], |r| r.get::<_, i64>(0))?
        .try_into()
        .unwrap_or(0))
}

/// What differs from the seal now, in words; none when it holds, and for trials from before there were seals.
///
/// # Errors
/// When the database fails.
pub fn broken(c: &Connection, t: &Trial) -> Result<Option<String>> {
    broken_by(c, t, &roster(c, t.id)?)
}

fn broken_by(c: &Connection, t: &Trial, roster: &[Enrolled]) -> Result<Option<String>> {
    let (Some(seal), Some(seed)) = (&t.seal, t.seed) else { return Ok(None) };
    // In a series the roster comes after the seal: it stands by being what the seed and the stretches make of it.
    let in_series = t.plan.per_arm.is_some();
    let roster = if in_series { &[] } else { roster };
    let sent: Vec<String> = variants(c, t.mailing_id)?.into_iter().chain(before::sealed(&before::frozen(c, t.id)?)).collect();
    let now = sealing::digest(&t.text, seed.cast_unsigned(), seal.rule_version, &seal.looks, &sent, roster);
    if now != seal.digest {
        return Ok(Some("What was sealed is not what is here: the plan, the variants or the roster were changed since.".into()));
    }
    Ok(if in_series { enrol::broken(t, &enrol::stretches(c, t)?) } else { None })
}

/// All that a reading rests on beside the counts of its arms, which are given.
///
/// # Errors
/// When the database fails.
pub fn beside(c: &Connection, t: &Trial, counts: &[ArmCounts]) -> Result<Beside> {
    let roster = roster(c, t.id)?;
    // Everyone of the pilot got the arm of the roster, and the roster is what the seed makes of it.
    let strays: i64 = c.query_row(
        "SELECT count(*) FROM send s LEFT JOIN roster r ON r.trial_id = ?1 AND r.contact_id = s.contact_id WHERE s.mailing_id = ?2 AND s.phase = 1 AND (r.arm IS NULL OR r.arm <> s.arm)",
        [t.id.0, t.mailing_id.0], |r| r.get(0),
    )?;
    let stretches = enrol::stretches(c, t)?;
    let (void, said) = match crossing::crossing(c, t.id, t.mailing_id)? {
        crossing::Crossing::None => (None, None),
        crossing::Crossing::Some(words) => (None, Some(words)),
        crossing::Crossing::Void(words) => (Some(words), None),
    };
    let strata = if stretches.is_empty() { counts::strata(c, t, None)? } else { Vec::new() };
    let in_stretch =
        |place: usize| Ok(StretchCounts { parts: stretches[place].parts.clone(), counts: counts::of_stretch(c, t, place, t.read_by())? });
    let by_limits = t.rule()?.by_limits();
    Ok(Beside {
        assignment_holds: strays == 0 && recomputed(c, t, &roster)? == roster,
        broken: broken_by(c, t, &roster)?.or(void),
        stopped: t.stopped.clone(),
        strata: strata.into_iter().map(|(_, arms)| arms).collect(),
        stretches: (0..stretches.len()).map(in_stretch).collect::<Result<_>>()?,
        remarks: enrol::remarks(t, &stretches).into_iter().chain(said).collect(),
        subgroups: (0..t.plan.subgroups.len()).map(|place| counts::of_group(c, t, place)).collect::<Result<_>>()?,
        values: if by_limits { Vec::new() } else { counts::values(c, t)? },
        amounts: if by_limits { counts::amounts(c, t, t.read_by())? } else { Vec::new() },
        before: before::groups(c, t, arms(c, t)?)?,
        design: if by_limits { companies::design(c, t, counts)? } else { Vec::new() },
        at_look: t.at_look(arms(c, t)?)?,
        ended_on_sight: enrol::ended_on_sight(t, &stretches),
    })
}

/// The assignment, computed again from the seed and the frozen roster.
///
/// # Errors
/// When the database fails.
pub fn recomputed(c: &Connection, t: &Trial, roster: &[Enrolled]) -> Result<Vec<Enrolled>> {
    if t.plan.per_arm.is_some() {
        let parts: Vec<Vec<u32>> = enrol::stretches(c, t)?.into_iter().map(|s| s.parts).collect();
        let seed = t.seed.unwrap_or(0).cast_unsigned();
        let arm = |e: &Enrolled| on_entry(seed, e.contact, e.stratum as usize, &parts);
        return Ok(roster.iter().filter_map(|e| Some(Enrolled { arm: arm(e)?, ..*e })).collect());
    }
    let placed = |e: &Enrolled| assign::Placed { contact: e.contact, stratum: e.stratum, opens_unknown: e.opens_unknown };
    let people: Vec<assign::Placed> = roster.iter().map(placed).collect();
    Ok(assign::assign(t.seed.unwrap_or(0).cast_unsigned(), &people, &t.plan.parts(arms(c, t)?)))
}

/// The frozen roster.
///
/// # Errors
/// When the database fails.
pub fn roster(c: &Connection, id: TrialId) -> Result<Vec<Enrolled>> {
    let mut s = c.prepare_cached("SELECT contact_id, stratum, arm, opens_unknown FROM roster WHERE trial_id = ?1 ORDER BY contact_id")?;
    Ok(s.query_map([id.0], |r| {
        let arm = usize::try_from(r.get::<_, i64>(2)?).unwrap_or(0);
        Ok(Enrolled { contact: ContactId(r.get(0)?), stratum: r.get(1)?, arm, opens_unknown: r.get(3)? })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Sets the instant of the reading once everyone of the pilot has been handed over: the end of the
/// last person's window.
///
/// # Errors
/// When the database fails.
pub fn set_reading_due(c: &Connection) -> Result<()> {
    let due: Vec<i64> = c
        .prepare_cached(
            formatcp!("UPDATE trial SET reading_due = max((SELECT max(s.handed_at) FROM send s WHERE s.mailing_id = trial.mailing_id AND s.phase = 1)
                + json_extract(plan, '$.window_hours') * 3600000,
                coalesce((SELECT max(f.applied_at) + {MORE_MAY_COME} FROM log_file f JOIN mailing m ON m.id = trial.mailing_id AND m.handed_out = 1), 0))
             WHERE state = {TRIAL_COLLECTING} AND reading_due IS NULL AND (enrolled_at IS NOT NULL OR json_extract(plan, '$.per_arm') IS NULL)
             AND NOT EXISTS (SELECT 1 FROM mailing m WHERE m.id = trial.mailing_id AND m.recording)
             AND NOT EXISTS (SELECT 1 FROM mailing m JOIN log_file f ON f.state IN ({FILE_AT_WORK}) WHERE m.id = trial.mailing_id AND m.handed_out = 1)
             AND NOT EXISTS (SELECT 1 FROM send s JOIN mailing m ON m.id = s.mailing_id
                WHERE m.id = trial.mailing_id AND m.handed_out = 1 AND s.phase = 1 AND s.handed_at IS NULL AND s.state = {ACCEPTED})
             AND NOT EXISTS (SELECT 1 FROM send s WHERE s.mailing_id = trial.mailing_id AND s.phase = 1 AND s.handed_at IS NULL AND s.state IN ({WAITING}, {HANDING_OVER}))
             AND EXISTS (SELECT 1 FROM send s WHERE s.mailing_id = trial.mailing_id AND s.phase = 1 AND s.handed_at IS NOT NULL) RETURNING id"),
        )?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    due.into_iter().try_for_each(|id| set_next_look(c, TrialId(id)))
}

/// The instant of the last handover of a trial's pilot.
fn last_handover(t: &Trial) -> Option<i64> {
    Some(t.reading_due? - t.plan.window_hours * rinse_core::HOUR)
}

fn set_next_look(c: &Connection, id: TrialId) -> Result<()> {
    let t = one(c, id)?;
    if t.plan.per_arm.is_some() {
        return Ok(());
    }
    let next = t.seal.as_ref().and_then(|s| s.looks.get(usize::try_from(t.looked).unwrap_or(usize::MAX)));
    let at = last_handover(&t).zip(next).map(|(from, l)| from + l.at);
    c.execute("UPDATE trial SET next_look = ?2 WHERE id = ?1", params![id.0, at])?;
    Ok(())
}

/// Holds the looks that are due: arms that do harm are stopped, and nothing is called.
///
/// # Errors
/// When the database fails.
pub fn hold_looks(c: &Connection, now: Instant) -> Result<()> {
    let due: Vec<i64> = c
        .prepare_cached(formatcp!("SELECT id FROM trial WHERE state = {TRIAL_COLLECTING} AND next_look <= ?1"))?
        .query_map([now.millis()], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for id in due {
        let mut t = one(c, TrialId(id))?;
        if t.plan.per_arm.is_some() {
            enrol::hold_look(c, t, now)?;
            continue;
        }
        let held = usize::try_from(t.looked).unwrap_or(usize::MAX);
        if let Some(l) = t.seal.as_ref().and_then(|s| s.looks.get(held)).copied() {
            // Those without mail can't leave it: an arm is held against the others that get some.
            let mut mailed = counts(c, &t)?;
            mailed.truncate(arms(c, &t)?);
            let found = looks::look(&t.plan, mailed.as_slice().into(), &l, now.millis()).map_err(|e| StoreError::Refused(e.to_string()))?;
            let new: Vec<Stopped> = found.into_iter().filter(|f| !t.stopped.iter().any(|s| s.arm == f.arm)).collect();
            t.stopped.extend(new);
        }
        c.execute("UPDATE trial SET looked = looked + 1, stopped = ?2 WHERE id = ?1", params![id, serde_json::to_string(&t.stopped)?])?;
        set_next_look(c, TrialId(id))?;
    }
    Ok(())
}

/// Records that somebody opened the arms before the end.
///
/// # Errors
/// When the trial isn't collecting.
pub fn open_early(c: &Connection, id: TrialId, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute(
        formatcp!("UPDATE trial SET opened_at = coalesce(opened_at, ?2), opened_by = coalesce(opened_by, ?3) WHERE id = ?1 AND state = {TRIAL_COLLECTING}"),
        params![id.0, now.millis(), person],
    )?;
    if n == 0 { Err(StoreError::Refused("Only a trial that is collecting has closed arms.".into())) } else { Ok(()) }
}

/// Stores the reading, with all that it rested on; false when the trial isn't collecting any more.
///
/// # Errors
/// When the database fails.
pub fn save_reading(c: &Connection, id: TrialId, reading: &Reading, counts: &[ArmCounts], beside: &Beside, now: Instant) -> Result<bool> {
    let n = c.execute(
        formatcp!("UPDATE trial SET state = {TRIAL_READ}, read_at = ?2, verdict = ?3, counts = ?4, beside = ?5, reading = ?6 WHERE id = ?1 AND state = {TRIAL_COLLECTING}"),
        params![
            id.0,
            now.millis(),
            serde_json::to_string(&reading.verdict)?,
            serde_json::to_string(counts)?,
            serde_json::to_string(beside)?,
            serde_json::to_string(reading)?
        ],
    )?;
    Ok(n > 0)
}

/// A trial read from its counts by the rule that was sealed. What else it rests on is as it was when it was read; of one that isn't read
/// yet, as it is now.
///
/// # Errors
/// When an arm is empty, or the database fails.
pub fn read(c: &Connection, t: &Trial, counts: &[ArmCounts]) -> Result<Reading> {
    let beside = match &t.beside {
        Some(beside) => beside.clone(),
        None => self::beside(c, t, counts)?,
    };
    read_by(t.rule()?, &t.plan, counts, &beside).map_err(|e| StoreError::Refused(e.to_string()))
}

/// The reading as it was when the trial was read, and what comes out otherwise when it is read again by the same rule from the same
/// counts. Of one that was read before readings were kept, as it comes out now.
///
/// # Errors
/// When it isn't read, or the database fails.
pub fn reading(c: &Connection, t: &Trial) -> Result<(Reading, Option<String>)> {
    let Some(counts) = &t.counts else { return Err(StoreError::Refused("This trial isn't read yet.".into())) };
    let again = read(c, t, counts)?;
    let kept: Option<String> = c.prepare_cached("SELECT reading FROM trial WHERE id = ?1")?.query_row([t.id.0], |r| r.get(0))?;
    let Some(kept) = kept else {
        // The verdict was always kept: by it the rollout went.
        let differs = (t.verdict != Some(again.verdict)).then(|| "the verdict".to_owned());
        return Ok((again, differs));
    };
    let kept: Reading = serde_json::from_str(&kept)?;
    let differs = kept.differs_from(&again);
    Ok((kept, differs))
}

/// Moves a trial on.
///
/// # Errors
/// When that doesn't happen to it where it stands.
pub fn advance(c: &Connection, id: TrialId, event: TrialEvent, rollout_at: Option<Instant>) -> Result<()> {
    let mut s = c.prepare_cached("SELECT state FROM trial WHERE id = ?1")?;
    let state: TrialState = s.query_row([id.0], |r| Ok(r.get::<_, Worded<_>>(0)?.0)).optional()?.ok_or(StoreError::Missing("trial"))?;
    let Some(to) = state.next(event) else {
        return Err(StoreError::Refused(format!("The trial is {state}: it can't be {event} now.")));
    };
    let sql = "UPDATE trial SET state = ?2, rollout_at = coalesce(?3, rollout_at) WHERE id = ?1";
    c.execute(sql, params![id.0, Worded(to), rollout_at.map(|i| i.millis())])?;
    Ok(())
}

/// Releases the rollout: the next day at the pilot's hour, each person's own, or at `now`. What is returned is that hour by UTC.
///
/// # Errors
/// When the trial isn't read, or released already.
pub fn release(c: &Connection, id: TrialId, at_once: bool, now: Instant) -> Result<Instant> {
    let t = one(c, id)?;
    let day = rinse_core::DAY;
    let mut at = Instant::of(now.millis() - now.millis().rem_euclid(day) + t.sealed_at.unwrap_or(now.millis()).rem_euclid(day));
    while at <= now {
        at = at + day;
    }
    let at = if at_once { now } else { at };
    advance(c, id, TrialEvent::Released, Some(at))?;
    c.execute("UPDATE trial SET at_pilot_hour = ?2 WHERE id = ?1", params![id.0, !at_once])?;
    Ok(at)
}

/// The trials whose window is over and that weren't read.
///
/// # Errors
/// When the database fails.
pub fn to_read(c: &Connection, now: Instant) -> Result<Vec<TrialId>> {
    ids_as(c, formatcp!("SELECT id FROM trial WHERE state = {TRIAL_COLLECTING} AND reading_due <= ?1"), [now.millis()], TrialId)
}

/// The trials whose rollout may begin: where clocks went forward since the pilot its hour comes sooner than by UTC.
///
/// # Errors
/// When the database fails.
pub fn to_roll_out(c: &Connection, now: Instant) -> Result<Vec<TrialId>> {
    let sql = formatcp!(
        "SELECT id FROM trial WHERE state = {TRIAL_ROLLING} AND json_extract(plan, '$.per_arm') IS NULL AND rollout_at - at_pilot_hour * {CLOCK_CHANGE} <= ?1"
    );
    ids_as(c, sql, [now.millis()], TrialId)
}

/// Ends the trials of series whose rollout has come: people who enter from now on get what goes out.
///
/// # Errors
/// When the database fails.
pub fn roll_out_in_series(c: &Connection, now: Instant) -> Result<()> {
    let sql = formatcp!(
        "UPDATE trial SET state = {TRIAL_ENDED} WHERE state = {TRIAL_ROLLING} AND rollout_at <= ?1 AND json_extract(plan, '$.per_arm') IS NOT NULL"
    );
    c.prepare_cached(sql)?.execute([now.millis()])?;
    Ok(())
}
