//! The recency guide and the quality of sources.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::kept_answers::AsOf;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use rinse_core::cap_guide::{self, Band};
use rinse_core::recency::{Costs, Guide};
use rinse_core::source::Quality;
use rinse_store::growth::{self, Month};
use rinse_store::load::{self, LoadView};
use rinse_store::{guides, per_person, settings};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

#[derive(Serialize, ToSchema)]
pub(crate) struct CapGuide {
    finding: String,
    bands: Vec<Band>,
    people: u64,
}

/// How people answer and leave, by how many messages they had got in 28 days.
#[utoipa::path(get, path = "/api/cap-guide", responses((status = 200, body = CapGuide)))]
pub(crate) async fn cap_guide(State(app): State<App>) -> Result<AsOf<CapGuide>, ApiError> {
    let now = app.now();
    let (sums, as_of) = app.store.read(move |c| per_person::shown(c, now)).await?;
    let bands = cap_guide::bands(&sums.caps);
    Ok(AsOf(CapGuide { finding: cap_guide::finding(&bands), bands, people: sums.caps.people() }, as_of))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct RecencyView {
    guide: Guide,
    costs: Costs,
}

/// How far back a last answer may lie for mail to be worth sending, from the base's own mailings.
#[utoipa::path(get, path = "/api/recency", responses((status = 200, body = RecencyView)))]
pub(crate) async fn recency(State(app): State<App>) -> Result<AsOf<RecencyView>, ApiError> {
    let now = app.now();
    let (guide, costs, as_of) = app.store.read(move |c| guides::recency(c, now)).await?;
    Ok(AsOf(RecencyView { guide, costs }, as_of))
}

/// Sets what answers are worth and losses cost.
#[utoipa::path(put, path = "/api/recency", request_body = Costs, responses((status = 200, body = RecencyView)))]
pub(crate) async fn save_costs(State(app): State<App>, who: Acting, Json(costs): Json<Costs>) -> Result<AsOf<RecencyView>, ApiError> {
    costs.check().map_err(|e| ApiError::Refused(e.into()))?;
    let now = app.now();
    app.store
        .write(move |c| {
            guides::save_costs(c, &costs)?;
            settings::audit(c, now, Some(who.0), "recency costs set", "setting", 0, &serde_json::to_string(&costs)?)
        })
        .await?;
    recency(State(app)).await
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct Lists {
    /// Numbers of lists with commas between; everyone when empty.
    #[serde(default)]
    lists: String,
}

/// How lists grow, by month.
#[utoipa::path(get, path = "/api/growth", params(Lists), responses((status = 200, body = Vec<Month>)))]
pub(crate) async fn growth(State(app): State<App>, Query(q): Query<Lists>) -> Answer<Vec<Month>> {
    let lists: Vec<i64> = q
        .lists
        .split(',')
        .filter(|l| !l.is_empty())
        .map(|l| l.trim().parse().map_err(|_| ApiError::Malformed(format!("{l:?} is no list's number"))))
        .collect::<Result<_, _>>()?;
    let now = app.now();
    Ok(Json(app.store.read(move |c| growth::growth(c, &lists, now)).await?))
}

/// Where people came from, and what became of them.
#[utoipa::path(get, path = "/api/sources", responses((status = 200, body = Vec<Quality>)))]
pub(crate) async fn sources(State(app): State<App>) -> Result<AsOf<Vec<Quality>>, ApiError> {
    let now = app.now();
    let (sums, as_of) = app.store.read(move |c| per_person::shown(c, now)).await?;
    Ok(AsOf(guides::sources(&sums), as_of))
}

/// Mail load: how much mail people get, by how they answer it.
#[utoipa::path(get, path = "/api/load", responses((status = 200, body = LoadView)))]
pub(crate) async fn mail_load(State(app): State<App>) -> Answer<LoadView> {
    Ok(Json(app.store.read(load::view).await?))
}
