//! Links over mailings.

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_store::findings::groups::Filter;
use rinse_store::findings::links::{self, LinkRow};

/// The links of mailings that were handed over in the period, by name and place: people who followed them, those that most people followed first.
/// What a filter says of recipients can't be told here, and is left aside.
#[utoipa::path(get, path = "/api/findings/links", params(Filter), responses((status = 200, body = Vec<LinkRow>)))]
pub(crate) async fn over_mailings(State(app): State<App>, Query(filter): Query<Filter>) -> Answer<Vec<LinkRow>> {
    let filter = filter.at(app.now().millis());
    Ok(Json(app.store.read(move |c| links::told(c, &filter)).await?))
}
