//! Hour trials: plan, outlook, seal, the rounds as they run, the reading, the record.

use super::Acting;
use crate::actions;
use crate::error::{Answer, ApiError};
use crate::record::hours as record_of;
use crate::state::App;
use crate::zipped::zip_file;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use rinse_core::id::HourTrialId;
use rinse_core::report::Rate;
use rinse_core::standing::TrialState;
use rinse_core::trial::hour::plan::HourPlan;
use rinse_core::trial::hour::reading::Reading;
use rinse_core::trial::hour::rehearsal::Rehearsal;
use rinse_store::hour_trials::learned::LearnedHour;
use rinse_store::hour_trials::own::{self, LearnedOwn};
use rinse_store::hour_trials::{self, HourTrial, answers, drawing};
use rinse_store::{StoreError, settings, trials};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An hour trial in the list.
#[derive(Serialize, ToSchema)]
pub(crate) struct HourTrialRow {
    id: HourTrialId,
    question: String,
    state: TrialState,
    sealed_at: Option<i64>,
    /// Rounds that are drawn, of all.
    drawn: usize,
    rounds: usize,
    verdict: Option<rinse_core::trial::hour::reading::HourVerdict>,
}

/// All hour trials, the newest first.
#[utoipa::path(get, path = "/api/hour-trials", responses((status = 200, body = Vec<HourTrialRow>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<HourTrialRow>> {
    let row = |c: &rinse_store::Connection, t: HourTrial| {
        Ok(HourTrialRow {
            id: t.id,
            state: t.state,
            sealed_at: t.sealed_at,
            drawn: hour_trials::rounds_drawn(c, t.id)?,
            rounds: t.plan.rounds.len(),
            verdict: t.reading.map(|r| r.verdict),
            question: t.plan.question,
        })
    };
    Ok(Json(app.store.read(move |c| hour_trials::all(c)?.into_iter().map(|t| row(c, t)).collect()).await?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct HourTrialView {
    trial: HourTrial,
    /// Once it is sealed.
    rounds: Vec<answers::RoundNow>,
    /// Only while it runs: all hours together.
    pooled: Option<answers::Pooled>,
    rate: Option<Rate>,
    reading: Option<Reading>,
    /// The hour that a confirming trial would hold against the usual one; none where there is nothing to confirm.
    confirms: Option<u8>,
    /// Were people found to have hours of their own, which a trial would hold against the best for all?
    confirms_own: bool,
}

/// One hour trial: pooled figures while it runs, the reading afterwards.
#[utoipa::path(get, path = "/api/hour-trials/{id}", params(("id" = i64, Path)), responses((status = 200, body = HourTrialView)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<HourTrialId>) -> Answer<HourTrialView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let mut trial = hour_trials::one(c, id)?;
                let rounds = answers::rounds(c, &trial, now)?;
                let running = trial.state == TrialState::Collecting;
                let pooled = if running { Some(answers::pooled(c, &trial, now)?) } else { None };
                let whole = |n: i64| u64::try_from(n).unwrap_or(0);
                let rate = pooled.as_ref().map(|p| Rate::new(whole(p.did), whole(p.known)));
                let reading = trial.reading.take();
                let confirms = hour_trials::to_confirm(&trial.plan, reading.as_ref()).ok();
                let confirms_own = own::to_confirm(reading.as_ref()).is_ok();
                Ok(HourTrialView { trial, rounds, pooled, rate, reading, confirms, confirms_own })
            })
            .await?,
    ))
}

/// Makes a plan. It may be unfinished: what is missing is said when it is sealed.
#[utoipa::path(post, path = "/api/hour-trials", request_body = HourPlan, responses((status = 200, body = i64)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(plan): Json<HourPlan>) -> Answer<i64> {
    save_plan(&app, None, plan, who).await
}

/// Changes a plan that isn't sealed.
#[utoipa::path(put, path = "/api/hour-trials/{id}", params(("id" = i64, Path)), request_body = HourPlan, responses((status = 200, body = i64)))]
pub(crate) async fn change(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(plan): Json<HourPlan>) -> Answer<i64> {
    save_plan(&app, Some(id), plan, who).await
}

async fn save_plan(app: &App, id: Option<i64>, plan: HourPlan, who: Acting) -> Answer<i64> {
    let now = app.now();
    plan.check_numbers().map_err(|e| ApiError::Refused(e.to_string()))?;
    Ok(Json(
        (app.store
            .write(move |c| {
                let made = hour_trials::save(c, id.map(HourTrialId), &plan, now, Some(who.0))?;
                settings::audit(c, now, Some(who.0), "hour trial planned", "hour trial", made.0, &plan.question)?;
                Ok(made)
            })
            .await?)
            .0,
    ))
}

/// Takes a plan away that isn't sealed.
#[utoipa::path(delete, path = "/api/hour-trials/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn remove(State(app): State<App>, who: Acting, Path(id): Path<HourTrialId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| hour_trials::remove(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a plan can find with the people there are; asked again as the plan changes.
#[utoipa::path(post, path = "/api/hour-trials/outlook", request_body = HourPlan, responses((status = 200, body = actions::HourOutlookView)))]
pub(crate) async fn outlook(State(app): State<App>, Json(plan): Json<HourPlan>) -> Answer<actions::HourOutlookView> {
    let now = app.now();
    plan.check_numbers().map_err(|e| ApiError::Refused(e.to_string()))?;
    Ok(Json(app.store.read(move |c| actions::hour_outlook(c, &plan, now)).await?))
}

/// The plan run on simulated answers: where no hour is better, where the wanted difference is true, and under a daily wave.
#[utoipa::path(post, path = "/api/hour-trials/rehearsal", request_body = HourPlan, responses((status = 200, body = Rehearsal)))]
pub(crate) async fn rehearse(State(app): State<App>, Json(plan): Json<HourPlan>) -> Answer<Rehearsal> {
    let now = app.now();
    plan.check().map_err(|e| ApiError::Refused(e.to_string()))?;
    Ok(Json(app.store.read_at_leisure(move |c| actions::rehearse_hours(c, &plan, now)).await?))
}

/// The plan of a trial that holds the best hour of this one against the usual one.
#[utoipa::path(get, path = "/api/hour-trials/{id}/confirming", params(("id" = i64, Path)), responses((status = 200, body = HourPlan)))]
pub(crate) async fn confirming(State(app): State<App>, Path(id): Path<HourTrialId>) -> Answer<HourPlan> {
    Ok(Json(app.store.read(move |c| hour_trials::confirming(c, id)).await?))
}

/// The plan of a trial that holds each person's own hour against the best one for all, of those who have another.
#[utoipa::path(get, path = "/api/hour-trials/{id}/confirming-own", params(("id" = i64, Path)), responses((status = 200, body = HourPlan)))]
pub(crate) async fn confirming_own(State(app): State<App>, Path(id): Path<HourTrialId>) -> Answer<HourPlan> {
    Ok(Json(app.store.read(move |c| own::confirming(c, id)).await?))
}

#[derive(Deserialize, Default, ToSchema)]
pub(crate) struct HourSealing {
    /// Of a plan that is too small for what it wants: why it may go all the same. An approver says so.
    #[serde(default)]
    why_small: String,
}

/// Seals the plan: from now on its mailings go out as its rounds.
#[utoipa::path(post, path = "/api/hour-trials/{id}/seal", params(("id" = i64, Path)), request_body = HourSealing, responses((status = 204)))]
pub(crate) async fn seal(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<HourTrialId>,
    Json(s): Json<HourSealing>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    let small = app
        .store
        .read(move |c| {
            let t = hour_trials::one(c, id)?;
            hour_trials::check(c, &t.plan, now)?;
            let view = actions::hour_outlook(c, &t.plan, now)?;
            Ok(view.outlook.filter(|o| !o.enough).map(|o| o.sentence))
        })
        .await?;
    let seed = rand::random::<u64>() >> 1;
    app.store
        .write(move |c| {
            if let Some(words) = &small {
                let reason = trials::may_be_small(c, words, &s.why_small, Some(who.0))?;
                settings::audit(c, now, Some(who.0), "an hour trial under its needed size was let go", "hour trial", id.0, reason)?;
            }
            hour_trials::seal(c, id, seed, now, Some(who.0))
        })
        .await?;
    app.engine.wake();
    Ok(StatusCode::NO_CONTENT)
}

/// Ends a running trial before its last round. Nothing of it is read.
#[utoipa::path(post, path = "/api/hour-trials/{id}/end", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<HourTrialId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| hour_trials::end(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What differs from the seal and the draws, looked at now; nothing when all holds.
#[derive(Serialize, ToSchema)]
pub(crate) struct HourSealView {
    broken: Option<String>,
}

/// Does an hour trial stand as it was sealed and drawn? Everything that was is read again.
#[utoipa::path(get, path = "/api/hour-trials/{id}/seal", params(("id" = i64, Path)), responses((status = 200, body = HourSealView)))]
pub(crate) async fn seal_holds(State(app): State<App>, Path(id): Path<HourTrialId>) -> Answer<HourSealView> {
    Ok(Json(HourSealView { broken: app.store.read_at_leisure(move |c| drawing::broken(c, id)).await? }))
}

/// The hours that were learned and may be used, those for the fewest people first.
#[utoipa::path(get, path = "/api/hours/learned", responses((status = 200, body = Vec<LearnedHour>)))]
pub(crate) async fn learned(State(app): State<App>) -> Answer<Vec<LearnedHour>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| hour_trials::learned::learned(c, now)).await?))
}

/// The hours of people's own that were learned and may be used.
#[utoipa::path(get, path = "/api/hours/own", responses((status = 200, body = Vec<LearnedOwn>)))]
pub(crate) async fn learned_own(State(app): State<App>) -> Answer<Vec<LearnedOwn>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| own::learned(c, now)).await?))
}

/// The record of a read trial: all that led to its verdict, and the scripts that work it out again.
pub(crate) async fn record(State(app): State<App>, Path(id): Path<HourTrialId>) -> Result<Response, ApiError> {
    let zip = app
        .store
        .read_at_leisure(move |c| {
            let t = hour_trials::one(c, id)?;
            let reading = t.reading.as_ref().ok_or_else(|| StoreError::Refused("There is no record before the reading.".into()))?;
            record_of::zip(&t, reading, &answers::of(c, &t)?).map_err(StoreError::Io)
        })
        .await?;
    Ok(zip_file(&format!("hour-trial-{id}.zip"), zip))
}
