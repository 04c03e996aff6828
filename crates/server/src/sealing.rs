//! Sealing a trial: who takes part is worked out beside the writer, put on the roster in parts, and in force by one short change, so
//! that nobody who leaves waits for a million others. The engine records the pilot's messages from the roster, as it does a mailing's.

use crate::actions::{Passed, known, passed, share_unknown};
use crate::error::ApiError;
use crate::state::App;
use rinse_core::Instant;
use rinse_core::clearance::Outcome;
use rinse_core::id::{ContactId, TrialId};
use rinse_core::standing::{MailingEvent, MailingState, TrialState};
use rinse_core::trial::assign::Enrolled;
use rinse_core::trial::looks::Look;
use rinse_core::trial::outlook::{Known, outlook};
use rinse_core::trial::plan::PlanError;
use rinse_core::trial::{assign, looks};
use rinse_core::words::people;
use rinse_store::clearing::Decided;
use rinse_store::machines::opens;
use rinse_store::{Connection, StoreError, clearing, load, mailings, settings, trials};
use std::sync::Arc;

/// People put on the roster by one change.
const AT_ONCE: usize = 2_000;

/// What would be sealed.
struct Drawn {
    trial: trials::Trial,
    passed: Passed,
    size: usize,
    roster: Vec<Enrolled>,
    /// What each of them did before, in the same order; empty where the plan doesn't use it.
    before: Vec<(ContactId, u32)>,
    /// The people of each subgroup.
    groups: Vec<Vec<ContactId>>,
    looks: Vec<Look>,
    digest: String,
    /// Why it is under its needed size, when it is.
    small: Option<String>,
}

/// Seals a plan and sends the pilot: people cleared now, blind to the arm, drawn and assigned.
/// `why_small`: an approver's reason, when it is under its needed size.
pub(crate) async fn seal(app: &App, id: TrialId, seed: u64, person: Option<i64>, why_small: String) -> Result<(), ApiError> {
    let now = app.now();
    // One at a time: two that seal the same plan would both fill its roster.
    let alone = app.sealing.lock().await;
    let t = app.store.read(move |c| trials::one(c, id)).await?;
    if t.state != TrialState::Planned {
        return Err(StoreError::Refused("This trial is sealed already.".into()).into());
    }
    app.store.read_at_leisure(move |c| clearing::warm_up(c, now)).await?;
    let passed = match passed(app, t.mailing_id, now).await {
        Ok(passed) => Ok(passed),
        Err(ApiError::Store(e)) => Err(e),
        Err(other) => Err(StoreError::Refused(other.to_string())),
    };
    if t.plan.per_arm.is_some() {
        app.store.write(move |c| seal_in_series(c, passed, &t, seed, person, &why_small, now)).await??;
    } else {
        let why = why_small.clone();
        let drawn = app.store.read_at_leisure(move |c| draw(c, t, passed, seed, (&why, person), now)).await??;
        let drawn = Arc::new(drawn);
        let sealed = match stage(app, id, &drawn).await {
            Ok(()) => app.store.write(move |c| in_force(c, &drawn, seed, person, &why_small, now)).await,
            Err(e) => Err(e),
        };
        if let Err(e) = sealed {
            // Why it isn't sealed is what matters; the next try begins with an empty roster, too.
            let _ = empty(app, id).await;
            return Err(e.into());
        }
    }
    drop(alone);
    app.engine.wake();
    if app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(())
}

/// Who takes part, with what.
fn draw(
    c: &Connection,
    trial: trials::Trial,
    passed: rinse_store::Result<Passed>,
    seed: u64,
    (why_small, person): (&str, Option<i64>),
    now: Instant,
) -> rinse_store::Result<Result<Drawn, PlanError>> {
    let passed = passed?;
    let arms = trials::arms(c, &trial)?;
    if let Err(e) = trial.plan.check(arms) {
        return Ok(Err(e));
    }
    let done = clearing::audience(c, trial.mailing_id, now)?;
    let unknown = opens::unknown_domains(c)?;
    let to_be_placed = |d: &Decided| {
        let domain = u32::try_from(d.domain).unwrap_or(0);
        Ok(assign::Person { contact: d.contact, domain, cell: load::cell_of(c, d.contact)?, opens_unknown: unknown.contains(&d.domain) })
    };
    let cleared: Vec<assign::Person> =
        done.decided.iter().filter(|d| d.outcome == Outcome::Cleared).map(to_be_placed).collect::<rinse_store::Result<_>>()?;
    let size = match trial.plan.check_size(cleared.len() as u64, arms) {
        Ok(size) => usize::try_from(size).unwrap_or(0),
        Err(e) => return Ok(Err(e)),
    };
    let explained = trials::before::explained(c, &trial.plan, now)?;
    let known = Known { unknown: share_unknown(c, Some(&done))?, explained, ..known(c, &trial.plan, now)?.1 };
    let small = outlook(&trial.plan, arms, cleared.len() as u64, known).too_small;
    if let Some(words) = &small {
        trials::may_be_small(c, words, why_small, person)?;
    }
    let roster = assign::assign(seed, &assign::draw_pilot(seed, &assign::strata(&cleared), size), &trial.plan.parts(arms));
    let leaving = trials::leaving(c, trial.plan.window_hours, now)?;
    let looks = looks::plan_looks(&trial.plan, |at| leaving.by(at)).map_err(|e| StoreError::Refused(e.to_string()))?;
    let groups = trials::people_of_groups(c, &trial.plan, now)?;
    let people: Vec<ContactId> = roster.iter().map(|e| e.contact).collect();
    let before = trials::before::of_people(c, &trial.plan, &people, now)?;
    let digest = trials::digest(c, &trial, seed, &looks, &roster, &before)?;
    Ok(Ok(Drawn { trial, passed, size, roster, before, groups, looks, digest, small }))
}

/// Puts everybody on the roster, some at a time; an earlier try that was cut off leaves nobody there.
async fn stage(app: &App, id: TrialId, drawn: &Arc<Drawn>) -> rinse_store::Result<()> {
    empty(app, id).await?;
    for from in (0..drawn.roster.len()).step_by(AT_ONCE) {
        let drawn = Arc::clone(drawn);
        let part = move |c: &Connection| {
            let to = drawn.roster.len().min(from + AT_ONCE);
            let before = drawn.before.get(from..to).unwrap_or_default();
            trials::put_on_roster(c, id, &drawn.roster[from..to], &drawn.groups, before)
        };
        app.store.write(part).await?;
    }
    Ok(())
}

/// Takes everybody off the roster of a plan that isn't sealed.
async fn empty(app: &App, id: TrialId) -> rinse_store::Result<()> {
    while app.store.write(move |c| trials::take_off_roster(c, id, AT_ONCE)).await? > 0 {}
    Ok(())
}

/// The plan is sealed, if nothing of it was changed meanwhile.
fn in_force(c: &Connection, drawn: &Drawn, seed: u64, person: Option<i64>, why_small: &str, now: Instant) -> rinse_store::Result<()> {
    let (id, mailing) = (drawn.trial.id, drawn.trial.mailing_id);
    drawn.passed.holds(c)?;
    if trials::one(c, id)?.text != drawn.trial.text {
        return Err(StoreError::Refused("Somebody changed the plan while it was being sealed. Look at it again, and try again.".into()));
    }
    if let Some(words) = &drawn.small {
        trials::let_small(c, id, words, why_small, person, now)?;
    }
    trials::seal_drawn(c, id, seed, drawn.looks.clone(), drawn.digest.clone(), now)?;
    mailings::advance(c, mailing, MailingEvent::TrialSealed, Some(now))?;
    rinse_store::sends::begin_pilot(c, mailing, now)?;
    settings::audit(c, now, person, "plan sealed", "trial", id.0, &format!("{} in the pilot", people(drawn.size as u64)))
}

/// Seals the plan of a message in a running series: from now on those who come to it are enrolled.
fn seal_in_series(
    c: &Connection,
    passed: rinse_store::Result<Passed>,
    t: &trials::Trial,
    seed: u64,
    person: Option<i64>,
    why_small: &str,
    now: Instant,
) -> rinse_store::Result<Result<(), PlanError>> {
    let m = mailings::one(c, t.mailing_id)?;
    let arms = m.draft.subjects.len();
    if let Err(e) = t.plan.check(arms) {
        return Ok(Err(e));
    }
    if m.series_id.is_none() {
        return Err(StoreError::Refused(
            "This message is in no series any more: plan the trial again, with a share of its audience.".into(),
        ));
    }
    if m.state != MailingState::Series {
        return Err(StoreError::Refused(
            "The series isn't running, and its message may change still. Start the series first: until the plan is sealed everybody gets A."
                .into(),
        ));
    }
    passed?.holds(c)?;
    if let Some(words) = outlook(&t.plan, arms, 0, known(c, &t.plan, now)?.1).too_small {
        trials::let_small(c, t.id, &words, why_small, person, now)?;
    }
    let looks = looks::looks_on_entry(&t.plan).map_err(|e| StoreError::Refused(e.to_string()))?;
    trials::seal(c, t.id, seed, &[], looks, now)?;
    let detail = format!("those who come are enrolled, {} per arm", t.plan.per_arm.unwrap_or(0));
    settings::audit(c, now, person, "plan sealed", "trial", t.id.0, &detail)?;
    Ok(Ok(()))
}
