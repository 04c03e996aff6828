//! Trials: plan, outlook, seal, the running trial, the verdict, the rollout, the record.

use super::{Acting, iso};
use crate::actions;
use crate::engine::assignment_holds;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use rinse_core::report::Rate;
use rinse_core::trial::outside::{self, OutsideReading, Results};
use rinse_core::trial::plan::{Outlook, Plan};
use rinse_core::trial::reading::{self, ArmCounts, Reading};
use rinse_store::trials::Trial;
use rinse_store::{StoreError, clearing, mailings, settings, tables, trials};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/trials", responses((status = 200, body = Vec<Trial>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Trial>> {
    Ok(Json(app.store.read(trials::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct TableText {
    /// A table with a header: variant, sent, and counts.
    text: String,
}

/// A results table from any sender, read with the rigour of a trial of our own. Nothing is kept.
#[utoipa::path(post, path = "/api/verdict", request_body = TableText, responses((status = 200, body = OutsideReading)))]
pub(crate) async fn outside(Json(t): Json<TableText>) -> Answer<OutsideReading> {
    let rows = tables::read_all(t.text.as_bytes(), 1_000)?;
    let read = Results::read(&rows).and_then(|results| outside::read(&results));
    Ok(Json(read.map_err(|e| ApiError::Malformed(e.to_string()))?))
}

/// Both arms together: all that is shown before the end.
#[derive(Serialize, ToSchema)]
pub(crate) struct Pooled {
    assigned: u64,
    handed_over: u64,
    accepted: u64,
    rate: Rate,
    /// Share of the window that has passed for the last person.
    elapsed: f64,
    maturity: Option<f64>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct TrialView {
    trial: Trial,
    subjects: Vec<String>,
    /// Only while it runs.
    pooled: Option<Pooled>,
    /// Only after the end.
    reading: Option<Reading>,
    /// People the rollout would go to, cleared anew now.
    rollout: Option<u64>,
    machine_share: Option<f64>,
}

/// One trial: its outlook while planned, pooled figures while it runs, the reading afterwards.
#[utoipa::path(get, path = "/api/trials/{id}", params(("id" = i64, Path)), responses((status = 200, body = TrialView)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<i64>) -> Answer<TrialView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let trial = trials::one(c, id)?;
                let subjects = mailings::one(c, trial.mailing_id)?.draft.subjects;
                let past = trials::past(c, trial.plan.metric, trial.plan.window_hours, now)?;
                let pooled = if trial.state == "collecting" {
                    let [a, b] = trials::counts(c, &trial)?;
                    let sum = |f: fn(&ArmCounts) -> u64| f(&a) + f(&b);
                    let window = (trial.plan.window_hours * rinse_core::HOUR).max(1);
                    #[allow(clippy::cast_precision_loss)]
                    let elapsed = trial.reading_due.map_or(0.0, |due| (1.0 - (due - now.0) as f64 / window as f64).clamp(0.0, 1.0));
                    Some(Pooled {
                        assigned: sum(|c| c.assigned),
                        handed_over: sum(|c| c.handed_over),
                        accepted: sum(|c| c.accepted),
                        rate: Rate::new(sum(|c| c.primary), sum(|c| c.assigned)),
                        elapsed,
                        maturity: past.maturity,
                    })
                } else {
                    None
                };
                let reading = match &trial.counts {
                    Some(counts) => Some(
                        reading::read(&trial.plan, counts, assignment_holds(c, &trial)?).map_err(|e| StoreError::Refused(e.to_string()))?,
                    ),
                    None => None,
                };
                let rollout =
                    if trial.state == "read" { Some(clearing::audience(c, trial.mailing_id, now)?.sluice().cleared) } else { None };
                Ok(TrialView { trial, subjects, pooled, reading, rollout, machine_share: past.machine_share })
            })
            .await?,
    ))
}

/// Makes or changes the plan of a mailing's trial.
#[utoipa::path(put, path = "/api/mailings/{id}/trial", params(("id" = i64, Path)), request_body = Plan, responses((status = 200, body = i64)))]
pub(crate) async fn save_plan(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(plan): Json<Plan>) -> Answer<i64> {
    let now = app.now();
    let p = plan.clone();
    let arms = app.store.read(move |c| Ok(mailings::one(c, id)?.draft.subjects.len())).await?;
    p.check(arms)?;
    Ok(Json(
        app.store
            .write(move |c| {
                let trial = trials::save_plan(c, id, &plan, now, Some(who.0))?;
                settings::audit(c, now, Some(who.0), "trial planned", "trial", trial, &plan.question)?;
                Ok(trial)
            })
            .await?,
    ))
}

/// What a plan can find with the people there are; asked again as the plan changes.
#[utoipa::path(post, path = "/api/mailings/{id}/outlook", params(("id" = i64, Path)), request_body = Plan, responses((status = 200, body = Outlook)))]
pub(crate) async fn outlook(State(app): State<App>, Path(id): Path<i64>, Json(plan): Json<Plan>) -> Answer<Outlook> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| actions::outlook_of(c, id, &plan, now)).await?))
}

/// Seals the plan; the pilot goes out.
#[utoipa::path(post, path = "/api/trials/{id}/seal", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn seal(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    actions::seal(&app, id, rand::random::<u64>() >> 1, Some(who.0)).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Release {
    /// Now, rather than the next day at the pilot's hour.
    at_once: bool,
}

/// Releases the rollout, cleared anew when it goes. Returns its instant.
#[utoipa::path(post, path = "/api/trials/{id}/release", params(("id" = i64, Path)), request_body = Release, responses((status = 200, body = i64)))]
pub(crate) async fn release(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(r): Json<Release>) -> Answer<i64> {
    Ok(Json(actions::release(&app, id, r.at_once, Some(who.0)).await?.0))
}

/// All that led to the verdict, to be recomputed elsewhere.
pub(crate) async fn record(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, ApiError> {
    let body = app.store.read(move |c| {
        let t = trials::one(c, id)?;
        let Some(counts) = &t.counts else { return Err(StoreError::Refused("The arms are opened at the end of the window. Until then there is no record.".into())) };
        let read = reading::read(&t.plan, counts, assignment_holds(c, &t)?).map_err(|e| StoreError::Refused(e.to_string()))?;
        let roster: Vec<_> = trials::roster(c, id)?.into_iter().map(|e| json!([e.contact, e.stratum, e.arm])).collect();
        Ok(json!({
            "question": t.plan.question, "plan": t.plan, "subjects": mailings::one(c, t.mailing_id)?.draft.subjects, "seed": t.seed.map(i64::cast_unsigned),
            "sealed_at": t.sealed_at.map(iso), "read_at": t.read_at.map(iso), "counts": counts, "reading": read,
            "roster": { "columns": ["contact", "stratum", "arm"], "rows": roster },
        }))
    }).await?;
    Ok(([("content-disposition", format!("attachment; filename=\"trial-{id}.json\""))], Json(body)).into_response())
}
