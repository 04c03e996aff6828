//! Cohorts: people by the month they joined in.

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_store::cohorts::{self, Cohorts};
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Months {
    /// So many cohorts, the newest ones.
    #[param(minimum = 1, maximum = 64)]
    months: Option<i32>,
}

/// People by the month they joined in against the months since: who can still be mailed, who answered, what they spent; counted once a day.
#[utoipa::path(get, path = "/api/findings/cohorts", params(Months), responses((status = 200, body = Cohorts)))]
pub(crate) async fn told(State(app): State<App>, Query(q): Query<Months>) -> Answer<Cohorts> {
    let months = q.months.unwrap_or(12).clamp(1, 64);
    Ok(Json(app.store.read(move |c| cohorts::told(c, months)).await?))
}
