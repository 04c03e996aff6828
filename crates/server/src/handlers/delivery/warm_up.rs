//! Warm-up of sending domains.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::delivery::warm_up::Rule;
use rinse_core::segment::evaluate::day_of;
use rinse_store::warm_up::{self, Group, SendingDomain, WarmUp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A warm-up with its groups.
#[derive(Serialize, ToSchema)]
pub(crate) struct WarmUpView {
    #[serde(flatten)]
    warm_up: WarmUp,
    /// Of one that goes on; of one that ended, its days as they were.
    groups: Vec<Group>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct WarmUpsView {
    domains: Vec<SendingDomain>,
    warm_ups: Vec<WarmUpView>,
    /// Days since 1970, UTC.
    today: i64,
    /// What a new one begins with.
    usual: Rule,
}

/// Warm-ups that are told with their groups.
const TOLD: usize = 10;

/// The domains that letterheads send from, and their warm-ups: those that go on first.
#[utoipa::path(get, path = "/api/delivery/warm-ups", responses((status = 200, body = WarmUpsView)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<WarmUpsView> {
    let now = app.now();
    let told = app.store.read(move |c| {
        let view = |w: WarmUp| Ok(WarmUpView { groups: warm_up::groups(c, &w, now)?, warm_up: w });
        let warm_ups = warm_up::all(c)?.into_iter().take(TOLD).map(view).collect::<rinse_store::Result<_>>()?;
        Ok(WarmUpsView { domains: warm_up::sending_domains(c)?, warm_ups, today: day_of(now), usual: Rule::default() })
    });
    Ok(Json(told.await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct BeginWarmUp {
    #[schema(max_length = 253)]
    domain: String,
    #[serde(flatten)]
    rule: Rule,
}

/// Begins to warm a sending domain up: from now on each mailbox group gets no more of its marketing mail a day than its ceiling.
#[utoipa::path(post, path = "/api/delivery/warm-ups", request_body = BeginWarmUp, responses((status = 204)))]
pub(crate) async fn begin(State(app): State<App>, who: Acting, Json(b): Json<BeginWarmUp>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| warm_up::begin(c, &b.domain, b.rule, now, Some(who.0))).await?;
    app.engine.warm(now).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Changes the factor of a warm-up, and what groups that it hasn't reached yet begin with.
#[utoipa::path(put, path = "/api/delivery/warm-ups/{id}", params(("id" = i64, Path)), request_body = Rule, responses((status = 204)))]
pub(crate) async fn change(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(rule): Json<Rule>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| warm_up::change(c, id, rule, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct EndWarmUp {
    #[schema(max_length = 500)]
    reason: String,
}

/// Ends a warm-up before its time, with a reason: nobody new is held, and who waits keeps their day.
#[utoipa::path(post, path = "/api/delivery/warm-ups/{id}/end", params(("id" = i64, Path)), request_body = EndWarmUp, responses((status = 204)))]
pub(crate) async fn end(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(e): Json<EndWarmUp>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| warm_up::end(c, id, &e.reason, now, who.0)).await?;
    Ok(StatusCode::NO_CONTENT)
}
