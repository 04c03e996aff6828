//! What reactions brought.

use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_store::findings::groups::Filter;
use rinse_store::reactions::done::{self, DoneByReactions};
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Period {
    /// In the last so many days …
    days: Option<i64>,
    /// … or from an instant on, and before one.
    from: Option<i64>,
    to: Option<i64>,
}

/// What reactions did in a period, deed by deed, the most first; who and when stands on each reaction's page.
#[utoipa::path(get, path = "/api/findings/reactions", params(Period), responses((status = 200, body = DoneByReactions)))]
pub(crate) async fn told(State(app): State<App>, Query(p): Query<Period>) -> Answer<DoneByReactions> {
    let period = Filter { days: p.days, from: p.from, to: p.to, ..Filter::default() }.at(app.now().millis());
    Ok(Json(app.store.read(move |c| done::told(c, period.from, period.to)).await?))
}
