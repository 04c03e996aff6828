//! Cohorts: people by the month they joined in.

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_store::cohorts::{self, Cohorts, Months};

/// People by the month they joined in against the months since: who can still be mailed, who answered, what they spent; counted once a day.
#[utoipa::path(get, path = "/api/findings/cohorts", params(Months), responses((status = 200, body = Cohorts)))]
pub(crate) async fn told(State(app): State<App>, Query(q): Query<Months>) -> Answer<Cohorts> {
    let months = q.shown();
    Ok(Json(app.store.read(move |c| cohorts::told(c, months)).await?))
}
