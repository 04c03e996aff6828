//! What people do to mailings and trials, shared by the handlers and the demo's director.

use crate::error::ApiError;
use crate::message::{built, check_draft};
use crate::state::App;
use rinse_core::clearance::Outcome;
use rinse_core::message::{Level, TemplateError, prepare};
use rinse_core::trial::assign;
use rinse_core::trial::plan::{Outlook, Plan, outlook};
use rinse_core::{DAY, Instant};
use rinse_store::clearing::Decided;
use rinse_store::sends::{self, Phase};
use rinse_store::{Connection, StoreError, clearing, letterheads, mailings, settings, trials};

/// Refuses a mailing with errors; stores its links.
fn must_pass(c: &Connection, app: &App, id: i64, now: Instant) -> rinse_store::Result<mailings::Mailing> {
    let m = mailings::one(c, id)?;
    if m.draft.template {
        return Err(StoreError::Refused("This is a template: copy it, and plan the copy.".into()));
    }
    let metric = m.trial_id.map(|t| trials::one(c, t)).transpose()?.map(|t| t.plan.metric);
    let errors: Vec<String> =
        check_draft(c, app, &m.draft, metric, now)?.into_iter().filter(|f| f.level == Level::Error).map(|f| f.words).collect();
    if let Some(first) = errors.first() {
        return Err(StoreError::Refused(format!(
            "The message check found {} error{}. {first}",
            errors.len(),
            if errors.len() == 1 { "" } else { "s" }
        )));
    }
    let refused = |e: TemplateError| StoreError::Refused(e.to_string());
    let b = built(&m.draft, &letterheads::one(c, m.draft.letterhead_id)?).map_err(refused)?;
    let prepared = prepare(&b.html, &b.text).map_err(refused)?;
    mailings::save_links(c, id, &prepared.links)?;
    Ok(m)
}

/// Plans a mailing for the whole audience at an instant (now, when it has passed).
pub(crate) async fn plan_mailing(app: &App, id: i64, at: Option<Instant>, person: Option<i64>) -> Result<(), ApiError> {
    let now = app.now();
    let at = at.unwrap_or(now).max(now);
    let held = app.clone();
    app.store
        .write(move |c| {
            let m = must_pass(c, &held, id, now)?;
            // With a local time it begins in time for the first zone.
            let at = m.draft.schedule.starts(at).max(now);
            if m.draft.subjects.len() > 1 {
                return Err(StoreError::Refused("This mailing has two subjects. Plan a trial of them, or take one out.".into()));
            }
            mailings::set_state(c, id, &["draft"], "planned", Some(at))?;
            settings::audit(c, now, person, "mailing planned", "mailing", id, &format!("for {}", at.words()))
        })
        .await?;
    app.engine.wake();
    Ok(())
}

/// What a plan can do with the people there are.
pub(crate) fn outlook_of(c: &Connection, mailing: i64, plan: &Plan, now: Instant) -> rinse_store::Result<Outlook> {
    let arms = mailings::one(c, mailing)?.draft.subjects.len();
    let cleared = clearing::audience(c, mailing, now)?.sluice().cleared;
    let past = trials::past(c, plan.metric, plan.window_hours, now)?;
    // Without history a fifth is a plausible rate of opens, and errs on the side of more people.
    let baseline = past.rate.filter(|r| *r > 0.0 && *r < 1.0).unwrap_or(0.2);
    let mut o = outlook(plan, arms, cleared, baseline, past.maturity, past.machine_share);
    if past.rate.is_none() {
        o.warnings.insert(0, "No past mailings are old enough to know the usual rate; 20% is assumed.".into());
    }
    Ok(o)
}

/// Seals a plan and sends the pilot: people cleared now, drawn, assigned and recorded in one
/// transaction, cleared blind to the arm.
pub(crate) async fn seal(app: &App, id: i64, seed: u64, person: Option<i64>) -> Result<(), ApiError> {
    let now = app.now();
    app.store.read(move |c| clearing::warm_up(c, now)).await?;
    let held = app.clone();
    let sized = app
        .store
        .write(move |c| {
            let t = trials::one(c, id)?;
            let m = must_pass(c, &held, t.mailing_id, now)?;
            let arms = m.draft.subjects.len();
            if let Err(e) = t.plan.check(arms) {
                return Ok(Err(e));
            }
            if arms != 2 {
                return Err(StoreError::Refused("This trial compares two variants: give the mailing two subjects.".into()));
            }
            let done = clearing::audience(c, t.mailing_id, now)?;
            let cleared: Vec<(i64, u32)> = done
                .decided
                .iter()
                .filter(|d| d.outcome == Outcome::Cleared)
                .map(|d| (d.contact, u32::try_from(d.domain).unwrap_or(0)))
                .collect();
            let size = match t.plan.check_size(cleared.len() as u64, 2) {
                Ok(size) => usize::try_from(size).unwrap_or(0),
                Err(e) => return Ok(Err(e)),
            };
            let roster = assign::assign(seed, &assign::draw_pilot(seed, &cleared, size), 2);
            trials::seal(c, id, seed, &roster, now)?;
            let people = roster
                .iter()
                .map(|e| (Decided { contact: e.contact, domain: i64::from(e.stratum), outcome: Outcome::Cleared }, Phase::Pilot, e.arm));
            sends::record(c, t.mailing_id, &done, now, people)?;
            mailings::set_state(c, t.mailing_id, &["draft"], "sending", Some(now))?;
            c.execute("UPDATE mailing SET started_at = ?2 WHERE id = ?1", [t.mailing_id, now.0])?;
            settings::audit(c, now, person, "plan sealed", "trial", id, &format!("{size} people in the pilot"))?;
            Ok(Ok(()))
        })
        .await?;
    sized?;
    app.engine.wake();
    if app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(())
}

/// Releases the rollout: the next day at the pilot's hour, or now.
pub(crate) async fn release(app: &App, id: i64, at_once: bool, person: Option<i64>) -> Result<Instant, ApiError> {
    let now = app.now();
    let at = app
        .store
        .write(move |c| {
            let t = trials::one(c, id)?;
            let hour = t.sealed_at.unwrap_or(now.0).rem_euclid(DAY);
            let mut at = Instant(now.0 - now.0.rem_euclid(DAY) + hour);
            while at <= now {
                at = at + DAY;
            }
            let at = if at_once { now } else { at };
            trials::advance(c, id, "read", "rolling", Some(at))?;
            settings::audit(c, now, person, "rollout released", "trial", id, &format!("for {}", at.words()))?;
            Ok(at)
        })
        .await?;
    app.engine.wake();
    if at_once && app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(at)
}
