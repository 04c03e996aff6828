//! What people do to mailings and trials, shared by the handlers and the demo's director.

use crate::composing::built;
use crate::error::ApiError;
use crate::message::{Asked, check_draft};
use crate::state::App;
use rinse_core::Instant;
use rinse_core::clearance::Outcome;
use rinse_core::id::{ContactId, MailingId, SeriesId, TrialId};
use rinse_core::message::{Level, Link, TemplateError, prepare};
use rinse_core::series::Outline;
use rinse_core::standing::{MailingEvent, MailingState, TrialState};
use rinse_core::trial::guards::usual_margins;
use rinse_core::trial::hour::{self, plan::HourPlan};
use rinse_core::trial::learned;
use rinse_core::trial::metric::{Change, Metric};
use rinse_core::trial::outlook::{Known, Outlook, USUAL_LEAVING, observed_share, outlook};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::rehearsal::{Rehearsal, Usual, rehearse as rehearse_plan};
use rinse_core::words::thousands;
use rinse_store::clearing::Clearance;
use rinse_store::machines::opens;
use rinse_store::{Connection, StoreError, clearing, costly, held, hour_trials, letterheads, mailings, series, settings, trials};
use serde::Serialize;
use utoipa::ToSchema;

/// A mailing that passed the message check, as it stood then.
pub(crate) struct Passed {
    mailing: mailings::Mailing,
    links: Vec<Link>,
}

impl Passed {
    /// Refuses a mailing with errors. The check takes its time, so it is made before anything is written.
    fn check(c: &Connection, app: &App, id: MailingId, in_series: bool, now: Instant) -> rinse_store::Result<Self> {
        let m = mailings::one(c, id)?;
        if m.draft.template {
            return Err(StoreError::Refused("This is a template: copy it, and plan the copy.".into()));
        }
        if m.draft.handed_out {
            // What another system sends isn't written here.
            return Ok(Self { mailing: m, links: Vec::new() });
        }
        let metric = m.trial_id.map(|t| trials::one(c, t)).transpose()?.map(|t| t.plan.metric);
        let asked = Asked { mailing: Some(m.id), metric, in_series };
        let errors: Vec<String> =
            check_draft(c, app, &m.draft, asked, now)?.into_iter().filter(|f| f.level == Level::Error).map(|f| f.words).collect();
        if let Some(first) = errors.first() {
            return Err(StoreError::Refused(format!(
                "The message check found {} error{}. {first}",
                errors.len(),
                if errors.len() == 1 { "" } else { "s" }
            )));
        }
        let refused = |e: TemplateError| StoreError::Refused(e.to_string());
        let b = built(&m.draft, &letterheads::one(c, m.draft.letterhead_id)?).map_err(refused)?;
        let links = prepare(&b.html, &b.text).map_err(refused)?.links;
        Ok(Self { mailing: m, links })
    }

    /// Is it as it was checked? Then its links are stored.
    pub(crate) fn holds(&self, c: &Connection) -> rinse_store::Result<&mailings::Mailing> {
        if mailings::one(c, self.mailing.id)?.version != self.mailing.version {
            return Err(StoreError::Refused(format!(
                "Somebody changed “{}” while it was checked. Look at it again, and try again.",
                self.mailing.draft.name
            )));
        }
        mailings::save_links(c, self.mailing.id, &self.links)?;
        Ok(&self.mailing)
    }
}

/// Checks one mailing, apart from everything else.
pub(crate) async fn passed(app: &App, id: MailingId, now: Instant) -> Result<Passed, ApiError> {
    let held = app.clone();
    app.on_text(move |c| Passed::check(c, &held, id, false, now)).await
}

/// Plans a mailing for the whole audience at an instant (now, when it has passed).
pub(crate) async fn plan_mailing(app: &App, id: MailingId, at: Option<Instant>, person: Option<i64>) -> Result<(), ApiError> {
    let now = app.now();
    let at = at.unwrap_or(now).max(now);
    if app.store.read(move |c| Ok(mailings::one(c, id)?.series_id)).await?.is_some() {
        return Err(ApiError::Refused(
            "This message is a step of a series: it goes to people as they come to it. Start the series, or copy the message.".into(),
        ));
    }
    let passed = passed(app, id, now).await?;
    app.store
        .write(move |c| {
            let m = passed.holds(c)?;
            // A round of an hour trial begins with its draw; with a local time a mailing begins in time for the first zone.
            let round = hour_trials::planned_for(c, m, now)?;
            let schedule = hour_trials::learned::begins(c, &m.draft.schedule, now)?;
            let at = round.unwrap_or_else(|| schedule.starts(at).max(now));
            if m.draft.subjects.len() > 1 {
                return Err(StoreError::Refused("This mailing has two subjects. Plan a trial of them, or take one out.".into()));
            }
            mailings::advance(c, id, MailingEvent::Planned, Some(at))?;
            settings::audit(c, now, person, "mailing planned", "mailing", id.0, &format!("for {}", at.words()))
        })
        .await?;
    app.engine.wake();
    Ok(())
}

/// The messages of a series pass the check: those that aren't out yet.
async fn series_passes(app: &App, outline: Outline, now: Instant) -> Result<Vec<Passed>, ApiError> {
    let held = app.clone();
    app.on_text(move |c| {
        let mut all = Vec::new();
        for mailing in outline.mailings().into_values() {
            let m = mailings::one(c, mailing)?;
            if m.state != MailingState::Draft {
                continue;
            }
            if m.draft.subjects.len() > 1 && m.trial_id.is_none() {
                return Err(StoreError::Refused(format!(
                    "“{}” has several variants, and a step sends one: plan a trial of them, or take the others out.",
                    m.draft.name
                )));
            }
            all.push(Passed::check(c, &held, mailing, true, now).map_err(|e| match e {
                StoreError::Refused(words) => StoreError::Refused(format!("“{}”: {words}", m.draft.name)),
                other => other,
            })?);
        }
        Ok(all)
    })
    .await
}

/// Starts a series whose messages pass the check.
pub(crate) async fn start_series(app: &App, id: SeriesId, person: Option<i64>) -> Result<(), ApiError> {
    let now = app.now();
    let outline = app.store.read(move |c| Ok(series::one(c, id)?.outline)).await?;
    let passed = series_passes(app, outline.clone(), now).await?;
    app.store
        .write(move |c| {
            if series::one(c, id)?.outline != outline {
                return Err(StoreError::Refused(
                    "Somebody changed the series while it was checked. Look at it again, and try again.".into(),
                ));
            }
            passed.iter().try_for_each(|p| p.holds(c).map(drop))?;
            series::start(c, id, now, person)
        })
        .await?;
    due_now(app, now).await
}

/// Changes a running series; new messages pass the check.
pub(crate) async fn change_series(app: &App, id: SeriesId, name: String, outline: Outline, person: Option<i64>) -> Result<(), ApiError> {
    let now = app.now();
    // What can't be of this series at all is said first.
    let looked = outline.clone();
    app.store.read(move |c| series::may_adopt(c, id, &looked)).await?;
    let passed = series_passes(app, outline.clone(), now).await?;
    app.store
        .write(move |c| {
            series::adopt(c, id, &outline)?;
            passed.iter().try_for_each(|p| p.holds(c).map(drop))?;
            series::change(c, id, &name, &outline, now, person)
        })
        .await?;
    due_now(app, now).await
}

/// Has everybody who was held by what has changed asked again: of very many some at a time, and between them others write.
pub(crate) async fn held_again(app: &App) -> Result<(), ApiError> {
    while app.store.write(held::more).await? {}
    app.engine.wake();
    Ok(())
}

/// Something is due now: on the demo clock, which stands still, it is done at once.
pub(crate) async fn due_now(app: &App, now: Instant) -> Result<(), ApiError> {
    app.engine.wake();
    if app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(())
}

/// What past mailings and trials say about a plan's metric.
pub(crate) fn known(c: &Connection, plan: &Plan, now: Instant) -> rinse_store::Result<(trials::Past, Known)> {
    let past = trials::past(c, plan, now)?;
    // Without history a fifth is a plausible rate of opens, and errs on the side of more people; of the others a fiftieth.
    let usual = match plan.metric {
        Metric::HumanOpen => 0.2,
        Metric::Revenue => 0.0,
        loss if loss.is_loss() => USUAL_LEAVING,
        _ => 0.02,
    };
    let baseline = past.rate.filter(|r| *r > 0.0 && (*r < 1.0 || plan.metric.is_money())).unwrap_or(usual);
    let spread = trials::past_spread(c, plan.metric)?;
    let (sd, leaving, complaints) = (past.sd, past.leaving, past.complaints);
    let (maturity, machine_share) = (past.maturity, past.machine_share);
    Ok((past, Known { baseline, sd, leaving, complaints, maturity, machine_share, unknown: None, spread, a_day: None, explained: None }))
}

/// The share of people whose opens can't be known: of an audience's cleared ones, or, in a series, of those mailed lately.
pub(crate) fn share_unknown(c: &Connection, audience: Option<&Clearance>) -> rinse_store::Result<Option<f64>> {
    let Some(done) = audience else { return opens::unknown_share(c) };
    let unknown = opens::unknown_domains(c)?;
    let cleared = done.decided.iter().filter(|d| d.outcome == Outcome::Cleared);
    let (all, of_them) = cleared.fold((0_u64, 0_u64), |(all, of_them), d| (all + 1, of_them + u64::from(unknown.contains(&d.domain))));
    #[allow(clippy::cast_precision_loss)]
    Ok((all > 0).then(|| of_them as f64 / all as f64))
}

/// The plan that a mailing's trial begins with: its margins are of what is usual here.
pub(crate) fn starting_plan(c: &Connection, mailing: MailingId, now: Instant) -> rinse_store::Result<Plan> {
    let usual = Plan { question: String::new(), harm_looks: 2, change: Some(Change::Subject), ..Plan::usual("") };
    let past = trials::past(c, &usual, now)?;
    let (leaving_margin, complaint_margin) = usual_margins(past.leaving, past.complaints);
    let in_series = mailings::one(c, mailing)?.series_id.is_some();
    let (per_arm, pilot_share) = if in_series { (Some(1_000), 1.0) } else { (None, usual.pilot_share) };
    Ok(Plan { leaving_margin, complaint_margin, per_arm, pilot_share, ..usual })
}

/// Runs a plan on simulated answers, with the people there are now.
pub(crate) fn rehearse(c: &Connection, mailing: MailingId, plan: &Plan, now: Instant) -> rinse_store::Result<Rehearsal> {
    let arms = mailings::one(c, mailing)?.draft.subjects.len();
    let refused = |e: &dyn std::fmt::Display| StoreError::Refused(e.to_string());
    // What it asks makes no difference to how it goes.
    Plan { question: "?".into(), ..plan.clone() }.check(arms).map_err(|e| refused(&e))?;
    let (past, known) = known(c, plan, now)?;
    let audience = if plan.per_arm.is_some() { None } else { Some(clearing::audience(c, mailing, now)?) };
    let cleared = audience.as_ref().map_or(0, |done| done.sluice().cleared);
    let pilot = plan.check_size(cleared, arms).map_err(|e| refused(&e))?;
    let unknown = 1.0 - observed_share(plan, share_unknown(c, audience.as_ref())?);
    let usual = Usual {
        primary: known.baseline,
        sd: known.sd.unwrap_or(0.0),
        amounts: &past.amounts,
        leaving: past.leaving,
        complaints: past.complaints,
        unknown,
    };
    let typical = known.spread.map(learned::typical).filter(|t| *t > 0.0005);
    // The same plan is always rehearsed the same.
    rehearse_plan(plan, arms, pilot, usual, typical, 10_000, 0x5EED).map_err(|e| refused(&e))
}

/// What a plan can do with the people there are.
pub(crate) fn outlook_of(c: &Connection, mailing: MailingId, plan: &Plan, now: Instant) -> rinse_store::Result<Outlook> {
    let arms = mailings::one(c, mailing)?.draft.subjects.len();
    plan.check_numbers(arms).map_err(|e| StoreError::Refused(e.to_string()))?;
    let (past, known) = known(c, plan, now)?;
    let in_series = plan.per_arm.is_some();
    let there = costly::until_changed(c, now, &format!("outlook of mailing {mailing} in a series {in_series}"), || {
        there(c, mailing, in_series, now)
    })?;
    let unknown = there.unknown;
    let a_day = if plan.per_arm.is_some() { trials::enrol::a_day(c, mailing, now)? } else { None };
    let explained = trials::before::explained(c, plan, now)?;
    let mut o = outlook(plan, arms, there.cleared, Known { unknown, a_day, explained, ..known });
    if past.rate.is_none() && !plan.metric.is_money() {
        let words = format!("No past mailings are old enough to know the usual rate; {:.1}% is assumed.", known.baseline * 100.0);
        o.warnings.insert(0, words);
    }
    if let Some(companies) = trials::companies::past(c, plan, now)?.filter(|found| found.effect > 1.1) {
        o.warnings.push(format!(
            "{:.0}% of people are at addresses of companies that several share, and answer alike: a rate of theirs is as sure as with {:.1} times fewer people (design effect {:.2}). People are drawn one by one, so arms differ less for it; where they do, the verdict goes by company.",
            100.0 * companies.share, companies.effect, companies.effect
        ));
    }
    for (both, t) in there.also_in {
        o.warnings.push(format!(
            "{} of the people cleared are in the trial of {} still, and would answer two at once. Seal this one after it{}.",
            thousands(both),
            t.mailing,
            t.reading_due.map_or_else(String::new, |due| format!(", {} UTC", Instant::of(due).words())),
        ));
    }
    Ok(o)
}

/// Who could take part in a trial.
#[derive(Clone)]
struct There {
    cleared: u64,
    /// The share whose opens can't be known.
    unknown: Option<f64>,
    /// Trials that are under way, with how many of the cleared are in them.
    also_in: Vec<(u64, trials::Trial)>,
}

fn there(c: &Connection, mailing: MailingId, in_series: bool, now: Instant) -> rinse_store::Result<There> {
    let done = clearing::audience(c, mailing, now)?;
    let cleared = done.people(None);
    let unknown = share_unknown(c, Some(&done).filter(|_| !in_series))?;
    let mut also_in = Vec::new();
    let others = trials::all(c)?.into_iter().filter(|t| !in_series && t.state == TrialState::Collecting && t.mailing_id != mailing);
    for t in others {
        let theirs: std::collections::HashSet<ContactId> = trials::roster(c, t.id)?.iter().map(|e| e.contact).collect();
        let both = cleared.iter().filter(|person| theirs.contains(person)).count() as u64;
        if both > 0 {
            also_in.push((both, t));
        }
    }
    Ok(There { cleared: cleared.len() as u64, unknown, also_in })
}

/// Releases the rollout: the next day at the pilot's hour, or now.
pub(crate) async fn release(app: &App, id: TrialId, at_once: bool, person: Option<i64>) -> Result<Instant, ApiError> {
    let now = app.now();
    let at = app
        .store
        .write(move |c| {
            let at = trials::release(c, id, at_once, now)?;
            settings::audit(c, now, person, "rollout released", "trial", id.0, &format!("for {}", at.words()))?;
            Ok(at)
        })
        .await?;
    app.engine.wake();
    if at_once && app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(at)
}

/// What an hour trial's plan can find, and what stands in the way of sealing it.
#[derive(Serialize, ToSchema)]
pub(crate) struct HourOutlookView {
    /// None while no round is chosen.
    pub(crate) outlook: Option<hour::size::Outlook>,
    /// Of those who usually do what is counted.
    rate: f64,
    /// No past mailing is old enough to know it.
    rate_assumed: bool,
    /// Of the first round: anybody who could be drawn, whether or not their opens can be known.
    people: u64,
    /// Why it can't be sealed now.
    refused: Option<String>,
    /// What may spoil it.
    warnings: Vec<String>,
}

/// The usual rate of what an hour trial counts, and whether it is known.
fn usual_rate(c: &Connection, plan: &HourPlan, now: Instant) -> rinse_store::Result<(f64, bool)> {
    let like = Plan { metric: plan.metric, goal: plan.goal.clone(), window_hours: i64::from(plan.window_days) * 24, ..Plan::usual("") };
    let (past, known) = known(c, &like, now)?;
    Ok((known.baseline.clamp(0.0001, 0.9999), past.rate.is_none()))
}

/// Who could be drawn in the first round, and of how many what is counted can be known.
fn people_of(c: &Connection, plan: &HourPlan, now: Instant) -> rinse_store::Result<Option<(u64, u64)>> {
    let Some(first) = plan.rounds.first() else { return Ok(None) };
    let at = hour::draw::drawn_at(first.day).max(now);
    // What is asked and how large a difference is wanted makes no difference to who could be drawn.
    let of = (plan.metric, &plan.goal, &plan.rounds, &plan.hours, plan.confirms);
    let (people, known) = costly::until_changed(c, now, &format!("hour plan {of:?}"), || {
        let done = clearing::preview(c, first.mailing, at, now, None)?;
        hour_trials::drawing::could_take_part(c, &done, first.day, plan)
    })?;
    Ok(Some((people, if plan.leaves_unknown_out() { known } else { people })))
}

/// What an hour trial's plan can find with the people there are.
pub(crate) fn hour_outlook(c: &Connection, plan: &HourPlan, now: Instant) -> rinse_store::Result<HourOutlookView> {
    let (rate, rate_assumed) = usual_rate(c, plan, now)?;
    let (people, own) = (people_of(c, plan, now)?, hour_trials::own::spread(c, plan.metric, now)?);
    let outlook =
        people.map(|(_, known)| hour::size::outlook(plan, rate, known, own).map_err(|e| StoreError::Refused(e.to_string()))).transpose()?;
    let refused = hour_trials::check(c, plan, now).err().map(|e| e.to_string());
    let warnings = hour_trials::in_the_way(c, plan)?;
    Ok(HourOutlookView { outlook, rate, rate_assumed, people: people.map_or(0, |p| p.0), refused, warnings })
}

/// Runs an hour trial's plan on simulated answers, with the people there are now.
pub(crate) fn rehearse_hours(c: &Connection, plan: &HourPlan, now: Instant) -> rinse_store::Result<hour::rehearsal::Rehearsal> {
    let (rate, _) = usual_rate(c, plan, now)?;
    let (_, known) = people_of(c, plan, now)?.unwrap_or_default();
    // The same plan is always rehearsed the same.
    hour::rehearsal::rehearse(plan, rate, known, 0x5EED).map_err(|e| StoreError::Refused(e.to_string()))
}
