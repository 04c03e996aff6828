//! Mailings side by side, and when people answer.

use crate::compared::{self, Compared};
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_core::findings::Clock;
use rinse_store::findings::answers::{self, Answers};
use rinse_store::findings::groups::Filter;
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Two to six mailings, as in `3,5`: the others are held against the first.
    mailings: String,
}

/// Two to six mailings side by side, every figure with its difference to the first. Who got which was not left to chance.
#[utoipa::path(get, path = "/api/findings/compare", params(Which), responses((status = 200, body = Compared)))]
pub(crate) async fn compare(State(app): State<App>, Query(which): Query<Which>) -> Answer<Compared> {
    let ids = compared::numbers(&which.mailings).map_err(|e| ApiError::Malformed(e.to_string()))?;
    Ok(Json(app.store.read(move |c| compared::told(c, &ids)).await?))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ByClock {
    /// Whose clock tells the hours.
    clock: Option<Clock>,
}

/// When people answer, by hour of the week.
#[utoipa::path(get, path = "/api/findings/answers", params(ByClock, Filter), responses((status = 200, body = Answers)))]
pub(crate) async fn when_answered(State(app): State<App>, Query(by): Query<ByClock>, Query(filter): Query<Filter>) -> Answer<Answers> {
    let (clock, filter) = (by.clock.unwrap_or_default(), filter.at(app.now().millis()));
    Ok(Json(app.store.read(move |c| answers::told(c, clock, &filter)).await?))
}
