//! What mailings brought.

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_store::findings::groups::Filter;
use rinse_store::findings::revenue::{self, RevenueBy, Towards};

/// What mailings brought towards a goal, put down by the rule of attribution in force, refunds off: by what mailings have in common, with all that they
/// brought until now; by days, what was bought in the period, and so crossed with them. It says what followed a click, not what mail caused.
#[utoipa::path(get, path = "/api/findings/revenue", params(Towards, Filter), responses((status = 200, body = RevenueBy)))]
pub(crate) async fn brought(State(app): State<App>, Query(towards): Query<Towards>, Query(filter): Query<Filter>) -> Answer<RevenueBy> {
    let filter = filter.at(app.now().millis());
    Ok(Json(app.store.read(move |c| revenue::told(c, towards, &filter)).await?))
}
