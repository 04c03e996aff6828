//! Silent people: how far it is with them, the series that asks them, and what letting them go costs.

use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use axum::response::Response;
use rinse_core::id::{LetterheadId, SeriesId};
use rinse_core::series::starters::ASKING;
use rinse_core::upkeep::silence::Stage;
use rinse_store::series;
use rinse_store::upkeep::silence::{self, SilentRow, SilentView};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// People on a page.
const PAGE: u32 = 100;
/// People of a CSV file.
const ALL: u32 = 1_000_000;

/// Silent people by stage, the series that asks them, and what sunset costs by those kept back.
#[utoipa::path(get, path = "/api/upkeep/silent", responses((status = 200, body = SilentView)))]
pub(crate) async fn view(State(app): State<App>) -> Answer<SilentView> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| silence::view(c, now)).await?))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct WhichSilent {
    stage: Option<Stage>,
    /// Where to go on: the `next` of the page before.
    after: Option<String>,
}

impl WhichSilent {
    fn after(&self) -> Result<Option<(i64, i64)>, ApiError> {
        let Some(after) = self.after.as_deref() else { return Ok(None) };
        let read = after.split_once('.').and_then(|(at, id)| Some((at.parse().ok()?, id.parse().ok()?)));
        read.map(Some).ok_or_else(|| ApiError::Malformed("“after” is the “next” of the page before.".into()))
    }
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SilentPage {
    rows: Vec<SilentRow>,
    next: Option<String>,
}

/// Silent people, the longest silent first.
#[utoipa::path(get, path = "/api/upkeep/silent/people", params(WhichSilent), responses((status = 200, body = SilentPage)))]
pub(crate) async fn people(State(app): State<App>, Query(q): Query<WhichSilent>) -> Answer<SilentPage> {
    let (stage, after) = (q.stage, q.after()?);
    let rows = app.store.read(move |c| silence::people(c, stage, after, PAGE)).await?;
    let next = rows.last().filter(|_| rows.len() == PAGE as usize).map(|r| format!("{}.{}", r.answered_at.unwrap_or(0), r.contact_id));
    Ok(Json(SilentPage { rows, next }))
}

/// The same as CSV.
pub(crate) async fn people_csv(State(app): State<App>, Query(q): Query<WhichSilent>) -> Result<Response, ApiError> {
    let stage = q.stage;
    let rows = app.store.read(move |c| silence::people(c, stage, None, ALL)).await?;
    let each = rows.into_iter().map(|r| {
        let at = |at: Option<i64>| at.map(iso).unwrap_or_default();
        let blind = if r.open_blind { "yes" } else { "no" };
        vec![r.address, r.stage.words().to_owned(), at(r.answered_at), at(r.asked_at), blind.to_owned(), format!("{:.2}", r.per_28_days)]
    });
    csv_file("silent.csv", &["address", "stage", "last_answer", "last_asked", "opens_unknown", "messages_per_28_days"], each)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Asks {
    /// The series that asks; null: one is made from the outline to begin with.
    series: Option<SeriesId>,
    /// The letterhead of one that is made.
    letterhead: Option<LetterheadId>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Asking {
    series: SeriesId,
}

/// Chooses the series that asks silent people, or makes it.
#[utoipa::path(post, path = "/api/upkeep/silent/series", request_body = Asks, responses((status = 200, body = Asking)))]
pub(crate) async fn asks(State(app): State<App>, who: Acting, Json(a): Json<Asks>) -> Answer<Asking> {
    let now = app.now();
    let series = app
        .store
        .write(move |c| {
            let id = match a.series {
                Some(id) => id,
                None => series::from_starter(c, ASKING, a.letterhead.unwrap_or(LetterheadId(1)), now, Some(who.0))?,
            };
            silence::choose_series(c, id.0, now, Some(who.0))?;
            Ok(id)
        })
        .await?;
    Ok(Json(Asking { series }))
}
