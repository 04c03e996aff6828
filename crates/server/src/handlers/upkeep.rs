//! Upkeep: what the base is made of, incidents, the policy, cleaning runs.

use super::Acting;
use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::progress::Job;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use rinse_core::id::ContactId;
use rinse_core::upkeep::policy::Retires;
use rinse_core::upkeep::run::{Every, RunState};
use rinse_core::upkeep::{Cause, MailStatus, Policy};
use rinse_core::{DAY, Instant};
use rinse_store::Connection;
use rinse_store::upkeep::applying;
use rinse_store::upkeep::effects::{self, Came};
use rinse_store::upkeep::incidents::{self, Incident};
use rinse_store::upkeep::made_of::{self, BaseDay, ByCause, Order, UpkeepRow, Which};
use rinse_store::upkeep::policy::{self, Cadence, History, PolicyVersion};
use rinse_store::upkeep::reasons::{self, Said};
use rinse_store::upkeep::runs::{self, CleaningRun, Member};
use rinse_store::upkeep::schedule;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// People on a page.
const PAGE: u32 = 100;
/// People of a CSV file.
const ALL: u32 = 1_000_000;
/// The picture goes back so far …
const PICTURED: i64 = 366 * DAY;
/// … in at most so many points.
const POINTS: usize = 60;

#[derive(Serialize, ToSchema)]
pub(crate) struct Upkeep {
    base: BaseDay,
    /// As it was, oldest first.
    days: Vec<BaseDay>,
    by_cause: Vec<ByCause>,
    /// Addresses that a cleaning run has to decide on.
    due: i64,
    /// Silent people who were asked and let it pass.
    silent_due: i64,
    /// Addresses retired for so long that a run deletes them.
    to_delete: i64,
    /// Those that wait for a person.
    incidents: Vec<Incident>,
    /// Runs that were applied since the picture begins, and the one that is open.
    runs: Vec<CleaningRun>,
    policy_version: i64,
    policy_at: i64,
    /// Do the rules retire by themselves?
    at_once: bool,
}

/// What the base is made of, and what is due.
#[utoipa::path(get, path = "/api/upkeep", responses((status = 200, body = Upkeep)))]
pub(crate) async fn front(State(app): State<App>) -> Answer<Upkeep> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| front_of(c, now)).await?))
}

fn front_of(c: &Connection, now: Instant) -> rinse_store::Result<Upkeep> {
    let base = made_of::now(c, now)?;
    let mut days = made_of::days(c, now + -PICTURED)?;
    days.retain(|d| d.day != base.day);
    let step = days.len().div_ceil(POINTS).max(1);
    // The newest is always drawn.
    let mut days: Vec<BaseDay> = days.into_iter().rev().step_by(step).collect();
    days.reverse();
    days.push(base);
    let policy = policy::current(c)?;
    let pictured = |r: &CleaningRun| match r.state {
        RunState::Dropped => false,
        RunState::Applied | RunState::Undone => r.applied_at.is_some_and(|at| now.millis() - at < PICTURED),
        _ => true,
    };
    Ok(Upkeep {
        base,
        days,
        by_cause: made_of::by_cause(c)?,
        due: made_of::due(c)?,
        silent_due: made_of::let_pass(c)?,
        to_delete: made_of::to_delete(c, &policy.policy, now)?,
        incidents: incidents::undecided(c)?,
        runs: runs::all(c, now)?.into_iter().filter(pictured).collect(),
        policy_version: policy.id,
        policy_at: policy.at,
        at_once: policy.policy.retires == Retires::AtOnce,
    })
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct WhichPeople {
    status: Option<MailStatus>,
    cause: Option<Cause>,
    /// Only addresses that begin so.
    #[param(max_length = 254)]
    begins: Option<String>,
    #[serde(default)]
    #[param(inline)]
    order: Order,
    /// Where to go on: the `next` of the page before, in the same order.
    after: Option<String>,
}

impl WhichPeople {
    fn which(self) -> Result<Which, ApiError> {
        let after = self.after.as_deref().map(|a| {
            let (id, place) = a.split_once('.')?;
            Some((place.to_owned(), id.parse().ok()?))
        });
        if after == Some(None) {
            return Err(ApiError::Malformed("“after” is the “next” of the page before.".into()));
        }
        let begins = self.begins.filter(|b| !b.trim().is_empty());
        Ok(Which { status: self.status, cause: self.cause, begins, order: self.order, after: after.flatten() })
    }
}

#[derive(Serialize, ToSchema)]
pub(crate) struct UpkeepPage {
    rows: Vec<UpkeepRow>,
    next: Option<String>,
}

/// Addresses that rest, are observed or are retired, with why.
#[utoipa::path(get, path = "/api/upkeep/people", params(WhichPeople), responses((status = 200, body = UpkeepPage)))]
pub(crate) async fn people(State(app): State<App>, Query(q): Query<WhichPeople>) -> Answer<UpkeepPage> {
    let which = q.which()?;
    let order = which.order;
    let rows = app.store.read(move |c| made_of::people(c, &which, PAGE)).await?;
    let place = |r: &UpkeepRow| if order == Order::Address { r.key.clone() } else { r.since.unwrap_or(0).to_string() };
    let next = rows.last().filter(|_| rows.len() == PAGE as usize).map(|r| format!("{}.{}", r.contact_id, place(r)));
    Ok(Json(UpkeepPage { rows, next }))
}

/// The same as CSV.
pub(crate) async fn people_csv(State(app): State<App>, Query(q): Query<WhichPeople>) -> Result<Response, ApiError> {
    let which = q.which()?;
    let rows = app.store.read(move |c| made_of::people(c, &which, ALL)).await?;
    let each = rows.into_iter().map(|r| {
        let until = if r.due { "a cleaning run decides".to_owned() } else { r.until.map(iso).unwrap_or_default() };
        vec![r.address, r.status.words().to_owned(), r.reason, r.since.map(iso).unwrap_or_default(), until, r.why]
    });
    csv_file("upkeep.csv", &["address", "status", "reason", "since", "until", "evidence"], each)
}

/// All incidents, those that wait first.
#[utoipa::path(get, path = "/api/upkeep/incidents", responses((status = 200, body = Vec<Incident>)))]
pub(crate) async fn all_incidents(State(app): State<App>) -> Answer<Vec<Incident>> {
    Ok(Json(app.store.read(incidents::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Counts {
    /// Null: it waits again.
    counts: Option<bool>,
    #[serde(default)]
    #[schema(max_length = 500)]
    reason: String,
}

/// Says whether an incident's failures count against their addresses. It can be said otherwise at any time.
#[utoipa::path(post, path = "/api/upkeep/incidents/{id}", params(("id" = i64, Path)), request_body = Counts, responses((status = 200, body = Vec<Incident>)))]
pub(crate) async fn decide(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(d): Json<Counts>) -> Answer<Vec<Incident>> {
    let now = app.now();
    app.store.write(move |c| incidents::decide(c, id, d.counts, d.reason.trim(), now, Some(who.0))).await?;
    app.engine.upkeep(now).await?;
    Ok(Json(app.store.read(incidents::all).await?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct PolicyPage {
    current: PolicyVersion,
    versions: Vec<PolicyVersion>,
    cadence: Vec<Cadence>,
    /// What the base's own history says of permanent failures; null before the first day is over.
    history: Option<History>,
}

/// The upkeep policy: the version in force, earlier ones, and what the base's own history and cadence make of its numbers.
#[utoipa::path(get, path = "/api/upkeep/policy", responses((status = 200, body = PolicyPage)))]
pub(crate) async fn policy_page(State(app): State<App>) -> Answer<PolicyPage> {
    let now = app.now();
    let page = move |c: &Connection| {
        Ok(PolicyPage {
            current: policy::current(c)?,
            versions: policy::all(c)?,
            cadence: policy::cadence(c, now)?,
            history: policy::history(c)?,
        })
    };
    Ok(Json(app.store.read(page).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ProposedPolicy {
    policy: Policy,
    /// Why.
    #[schema(max_length = 500)]
    note: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Begun {
    run: i64,
}

/// Previews a policy: a run is proposed with everybody whom it would change. Applying the run brings it into force. Watch `cleaning-{id}` in
/// `/api/progress`.
#[utoipa::path(post, path = "/api/upkeep/policy", request_body = ProposedPolicy, responses((status = 202, body = Begun)))]
pub(crate) async fn propose_policy(
    State(app): State<App>,
    who: Acting,
    Json(p): Json<ProposedPolicy>,
) -> Result<(StatusCode, Json<Begun>), ApiError> {
    let ProposedPolicy { mut policy, note } = p;
    if note.trim().is_empty() {
        return Err(ApiError::Malformed("Say why the policy changes: it stands in its history.".into()));
    }
    // What was retired before stays so: runs decide from now on.
    if let Retires::InRuns { since } = &mut policy.retires {
        let now = app.now();
        let before = app.store.read(policy::current).await?.policy.retires;
        *since = if let Retires::InRuns { since } = before { since } else { now };
    }
    policy.check().map_err(|e| ApiError::Refused(e.to_string()))?;
    begin(&app, who, Some(policy), note.trim().to_owned()).await
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ProposedRun {
    #[serde(default)]
    #[schema(max_length = 500)]
    note: String,
}

/// Proposes a run with everything that is due: addresses to retire, silent people who let it pass, addresses to delete. Watch `cleaning-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/upkeep/runs", request_body = ProposedRun, responses((status = 202, body = Begun)))]
pub(crate) async fn propose(
    State(app): State<App>,
    who: Acting,
    Json(p): Json<ProposedRun>,
) -> Result<(StatusCode, Json<Begun>), ApiError> {
    begin(&app, who, None, p.note.trim().to_owned()).await
}

async fn begin(app: &App, who: Acting, policy: Option<Policy>, note: String) -> Result<(StatusCode, Json<Begun>), ApiError> {
    let now = app.now();
    let of = policy.clone();
    let run = app.store.write(move |c| runs::begin(c, of.as_ref(), &note, now, Some(who.0))).await?;
    let progress = app.jobs.sender(Job::Cleaning(run));
    progress.begin(|p| p.words = "Looking for who is concerned".into());
    let app = app.clone();
    tokio::spawn(async move {
        let done = app.engine.put_people(run, policy, now).await;
        if done.is_err() {
            let _ = app.store.write(move |c| runs::drop_run(c, run, now, None)).await;
        }
        progress.send_modify(|p| p.end(done.err().map(|e| e.to_string())));
    });
    Ok((StatusCode::ACCEPTED, Json(Begun { run })))
}

/// The newest cleaning runs.
#[utoipa::path(get, path = "/api/upkeep/runs", responses((status = 200, body = Vec<CleaningRun>)))]
pub(crate) async fn all_runs(State(app): State<App>) -> Answer<Vec<CleaningRun>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| runs::all(c, now)).await?))
}

/// What hosts said in the last 90 days, addresses and numbers masked.
#[utoipa::path(get, path = "/api/upkeep/reasons", responses((status = 200, body = Said)))]
pub(crate) async fn said(State(app): State<App>) -> Answer<Said> {
    let now = app.now();
    Ok(Json(app.store.read_at_leisure(move |c| reasons::said(c, now)).await?))
}

#[derive(Serialize, Deserialize, ToSchema)]
#[schema(as = CleaningSchedule)]
pub(crate) struct Schedule {
    /// Null: runs are proposed by hand only.
    every: Option<Every>,
}

/// The days on which a run is proposed by itself.
#[utoipa::path(get, path = "/api/upkeep/schedule", responses((status = 200, body = Schedule)))]
pub(crate) async fn schedule(State(app): State<App>) -> Answer<Schedule> {
    Ok(Json(Schedule { every: app.store.read(schedule::every).await? }))
}

/// Sets them.
#[utoipa::path(put, path = "/api/upkeep/schedule", request_body = Schedule, responses((status = 204)))]
pub(crate) async fn set_schedule(State(app): State<App>, who: Acting, Json(s): Json<Schedule>) -> Result<StatusCode, ApiError> {
    if matches!(s.every, Some(Every::Week { weekday }) if weekday > 6) {
        return Err(ApiError::Malformed("A day of the week is 0 (Monday) to 6 (Sunday).".into()));
    }
    let now = app.now();
    app.store.write(move |c| schedule::set(c, s.every, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Serialize, ToSchema)]
pub(crate) struct RunPage {
    #[serde(flatten)]
    run: CleaningRun,
    /// What came of it since it was applied.
    came: Option<Came>,
}

#[utoipa::path(get, path = "/api/upkeep/runs/{id}", params(("id" = i64, Path)), responses((status = 200, body = RunPage)))]
pub(crate) async fn one_run(State(app): State<App>, Path(id): Path<i64>) -> Answer<RunPage> {
    let now = app.now();
    let page = move |c: &Connection| {
        let run = runs::one(c, id, now)?;
        Ok(RunPage { came: effects::came(c, &run)?, run })
    };
    Ok(Json(app.store.read(page).await?))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct WhichMembers {
    cause: Option<Cause>,
    /// Where to go on: after the person with this number.
    #[param(minimum = 0)]
    after: Option<i64>,
}

/// People of a run, a page of 100 at a time, with their evidence.
#[utoipa::path(get, path = "/api/upkeep/runs/{id}/people", params(("id" = i64, Path), WhichMembers), responses((status = 200, body = Vec<Member>)))]
pub(crate) async fn members(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<WhichMembers>) -> Answer<Vec<Member>> {
    Ok(Json(app.store.read(move |c| runs::members(c, id, q.cause, q.after.unwrap_or(0), PAGE)).await?))
}

/// All people of a run as CSV.
pub(crate) async fn members_csv(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<WhichMembers>) -> Result<Response, ApiError> {
    let rows = app.store.read(move |c| runs::members(c, id, q.cause, 0, ALL)).await?;
    let each = rows.into_iter().map(|m| {
        let state = format!("{:?}", m.state).to_lowercase();
        vec![m.address, m.cause.words().to_owned(), m.before.words().to_owned(), m.after.words().to_owned(), state, m.why]
    });
    csv_file(&format!("cleaning-run-{id}.csv"), &["address", "reason", "before", "after", "state", "evidence"], each)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct TakenOut {
    out: bool,
}

/// Takes somebody out of a proposed run, or puts them on it again.
#[utoipa::path(post, path = "/api/upkeep/runs/{id}/people/{contact}", params(("id" = i64, Path), ("contact" = i64, Path)), request_body = TakenOut, responses((status = 204)))]
pub(crate) async fn take_out(
    State(app): State<App>,
    _: Acting,
    Path((id, contact)): Path<(i64, ContactId)>,
    Json(t): Json<TakenOut>,
) -> Result<StatusCode, ApiError> {
    app.store.write(move |c| runs::take_out(c, id, contact, t.out)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Drops a run that isn't applied.
#[utoipa::path(post, path = "/api/upkeep/runs/{id}/drop", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn drop_run(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| runs::drop_run(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Applies a run; watch `cleaning-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/upkeep/runs/{id}/apply", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn apply(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| applying::begin_apply(c, id, now, Some(who.0))).await?;
    go_on(&app, id, "Applying");
    Ok(StatusCode::ACCEPTED)
}

#[derive(Deserialize, ToSchema, Default)]
pub(crate) struct Undo {
    /// Only those with this cause.
    cause: Option<Cause>,
    /// Only this person.
    contact: Option<ContactId>,
}

/// Undoes a run for everybody to whom nothing happened since, or for some of them; watch `cleaning-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/upkeep/runs/{id}/undo", params(("id" = i64, Path)), request_body = Undo, responses((status = 202)))]
pub(crate) async fn undo(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(u): Json<Undo>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| applying::begin_undo(c, id, u.cause, u.contact, now, Some(who.0))).await?;
    go_on(&app, id, "Putting back");
    Ok(StatusCode::ACCEPTED)
}

fn go_on(app: &App, id: i64, words: &str) {
    let (app, progress) = (app.clone(), app.jobs.sender(Job::Cleaning(id)));
    progress.begin(|p| p.words = words.to_owned());
    tokio::spawn(async move {
        let done = app.engine.upkeep(app.now()).await;
        progress.send_modify(|p| p.end(done.err().map(|e| e.to_string())));
    });
}
