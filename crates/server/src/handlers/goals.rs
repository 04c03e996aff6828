//! Goals: what counts as a conversion.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::IntoResponse;
use rinse_core::attribution::Rule;
use rinse_core::goal::Goal;
use rinse_core::id::MailingId;
use rinse_store::{attribution, goals, uses};
use serde::Deserialize;
use utoipa::ToSchema;

/// All goals.
#[utoipa::path(get, path = "/api/goals", responses((status = 200, body = Vec<goals::Kept>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<goals::Kept>> {
    Ok(Json(app.store.read(goals::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewGoal {
    /// None: a new one.
    id: Option<i64>,
    name: String,
    goal: Goal,
}

/// Makes or changes a goal.
#[utoipa::path(post, path = "/api/goals", request_body = NewGoal, responses((status = 200, body = i64)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Json(n): Json<NewGoal>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| goals::save(c, n.id, &n.name, &n.goal, now, Some(who.0))).await?))
}

/// Deletes a goal that no segment uses.
#[utoipa::path(delete, path = "/api/goals/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| uses::delete_goal(c, id, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Which clicks a conversion is put down to in reports.
#[utoipa::path(get, path = "/api/attribution", responses((status = 200, body = Rule)))]
pub(crate) async fn attribution(State(app): State<App>) -> Answer<Rule> {
    Ok(Json(app.store.read(attribution::rule).await?))
}

/// Changes it; every report changes with it, trials don't.
#[utoipa::path(post, path = "/api/attribution", request_body = Rule, responses((status = 204)))]
pub(crate) async fn attribute(State(app): State<App>, who: Acting, Json(rule): Json<Rule>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| attribution::set_rule(c, rule, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// What a mailing brought towards each goal, as it is kept: some seconds behind what people do.
#[utoipa::path(get, path = "/api/mailings/{id}/goals", params(("id" = i64, Path)), responses((status = 200, body = Vec<attribution::Brought>)))]
pub(crate) async fn of_mailing(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Vec<attribution::Brought>> {
    Ok(Json(app.store.read(move |c| attribution::of_mailing(c, id)).await?))
}
