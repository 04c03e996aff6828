//! Reply lines that a person reads otherwise than the rules do.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use rinse_core::bounce::Category;
use rinse_store::upkeep::readings::{self, Reading, Tried};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a line can be read as.
#[derive(Serialize, ToSchema)]
pub(crate) struct FailureReason {
    category: Category,
    reason: &'static str,
    /// Does it count against the address?
    counts: bool,
}

#[derive(Serialize, ToSchema)]
#[schema(as = LineReadings)]
pub(crate) struct Readings {
    reasons: Vec<FailureReason>,
    /// Those in force first.
    readings: Vec<Reading>,
}

/// Lines that a person reads otherwise, those in force first, and what a line can be read as.
#[utoipa::path(get, path = "/api/upkeep/readings", responses((status = 200, body = Readings)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Readings> {
    let readings = app.store.read(readings::all).await?;
    let reason = |c: Category| FailureReason { category: c, reason: c.words(), counts: c.class().counts_against_address() };
    Ok(Json(Readings { reasons: Category::ALL.into_iter().map(reason).collect(), readings }))
}

#[derive(Deserialize, ToSchema)]
#[schema(as = ProposedLineReading)]
pub(crate) struct ProposedReading {
    /// As `/api/upkeep/reasons` gives it: addresses and numbers masked.
    #[schema(max_length = 1000)]
    line: String,
    category: Category,
}

/// What a reading would have done to the last 90 days. Nothing changes by it.
#[utoipa::path(post, path = "/api/upkeep/readings/try", request_body = ProposedReading, responses((status = 200, body = Tried)))]
pub(crate) async fn try_on(State(app): State<App>, Json(p): Json<ProposedReading>) -> Answer<Tried> {
    let now = app.now();
    Ok(Json(app.store.read_at_leisure(move |c| readings::try_on(c, &p.line, p.category, now)).await?))
}

#[derive(Deserialize, ToSchema)]
#[schema(as = NewLineReading)]
pub(crate) struct NewReading {
    /// As `/api/upkeep/reasons` gives it: addresses and numbers masked.
    #[schema(max_length = 1000)]
    line: String,
    category: Category,
    #[schema(max_length = 500)]
    why: String,
}

#[derive(Serialize, ToSchema)]
#[schema(as = LineReadingMade)]
pub(crate) struct ReadingMade {
    id: i64,
}

/// Reads a line otherwise from now on, and what failed with it in the last 90 days again. One said of it before ends.
#[utoipa::path(post, path = "/api/upkeep/readings", request_body = NewReading, responses((status = 200, body = ReadingMade)))]
pub(crate) async fn put_in_force(State(app): State<App>, who: Acting, Json(n): Json<NewReading>) -> Answer<ReadingMade> {
    let now = app.now();
    let id = app.store.write(move |c| readings::put_in_force(c, &n.line, n.category, n.why.trim(), now, Some(who.0))).await?;
    app.engine.upkeep(now).await?;
    Ok(Json(ReadingMade { id }))
}

/// The rules read a line again, and what failed with it.
#[utoipa::path(post, path = "/api/upkeep/readings/{id}/end", params(("id" = i64, Path)), responses((status = 200, body = ReadingMade)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<Json<ReadingMade>, ApiError> {
    let now = app.now();
    app.store.write(move |c| readings::end(c, id, now, Some(who.0))).await?;
    app.engine.upkeep(now).await?;
    Ok(Json(ReadingMade { id }))
}
