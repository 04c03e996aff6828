//! Alerts, the rule of the pause, and which domains a mailbox group has.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::delivery::pause::Rule;
use rinse_store::delivery::alerts::{self, Alert};
use rinse_store::delivery::operators::{self, Domain};
use rinse_store::{domains, flow};
use serde::Deserialize;
use utoipa::ToSchema;

/// Domains that are listed with their groups; rarer ones are groups of their own.
const LISTED: u32 = 500;

/// All alerts, the open ones first, then the newest.
#[utoipa::path(get, path = "/api/delivery/alerts", responses((status = 200, body = Vec<Alert>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Alert>> {
    Ok(Json(app.store.read(alerts::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct EndAlert {
    #[schema(max_length = 500)]
    reason: String,
}

/// Ends an alert, with a reason.
#[utoipa::path(post, path = "/api/delivery/alerts/{id}/end", params(("id" = i64, Path)), request_body = EndAlert, responses((status = 204)))]
pub(crate) async fn end(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(e): Json<EndAlert>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| alerts::end(c, id, &e.reason, now, who.0)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// When a mailbox group is paused by itself.
#[utoipa::path(get, path = "/api/delivery/pause-rule", responses((status = 200, body = Rule)))]
pub(crate) async fn rule(State(app): State<App>) -> Answer<Rule> {
    Ok(Json(app.store.read(flow::rule).await?))
}

/// Changes it; pauses that stand stay.
#[utoipa::path(put, path = "/api/delivery/pause-rule", request_body = Rule, responses((status = 204)))]
pub(crate) async fn set_rule(State(app): State<App>, who: Acting, Json(rule): Json<Rule>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| flow::set_rule(c, rule, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The mail domains with most people, each with its mailbox group and who says so.
#[utoipa::path(get, path = "/api/delivery/groups", responses((status = 200, body = Vec<Domain>)))]
pub(crate) async fn groups(State(app): State<App>) -> Answer<Vec<Domain>> {
    Ok(Json(app.store.read(|c| operators::all(c, LISTED)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct SayGroup {
    /// None: as DNS has it again.
    #[schema(max_length = 100)]
    group: Option<String>,
}

/// Says which mailbox group a domain is of.
#[utoipa::path(put, path = "/api/delivery/groups/{id}", params(("id" = i64, Path, description = "The domain.")), request_body = SayGroup, responses((status = 204)))]
pub(crate) async fn say(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(s): Json<SayGroup>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| operators::say(c, id, s.group.as_deref(), now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ResumeGroup {
    #[schema(max_length = 253)]
    group: String,
}

/// Ends the pause of all of a group's domains: what waited goes now.
#[utoipa::path(post, path = "/api/delivery/resume", request_body = ResumeGroup, responses((status = 204)))]
pub(crate) async fn resume(State(app): State<App>, who: Acting, Json(r): Json<ResumeGroup>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| domains::resume_group(c, &r.group, now, Some(who.0))).await?;
    crate::actions::held_again(&app).await?;
    Ok(StatusCode::NO_CONTENT)
}
