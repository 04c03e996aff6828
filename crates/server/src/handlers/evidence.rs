//! Evidence that the base is kept clean, on screen and as a pack.

use crate::error::{Answer, ApiError};
use crate::evidence;
use crate::handlers::Acting;
use crate::state::App;
use crate::zipped::zip_file;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use rinse_core::upkeep::evidence::Marks;
use rinse_store::upkeep::evidence::{self as kept, Evidence};
use serde::Deserialize;
use utoipa::ToSchema;

/// Rates week by week against the marks and the base's own limits, and what was done.
#[utoipa::path(get, path = "/api/upkeep/evidence", responses((status = 200, body = Evidence)))]
pub(crate) async fn view(State(app): State<App>) -> Answer<Evidence> {
    let now = app.now();
    Ok(Json(app.store.read_at_leisure(move |c| kept::evidence(c, now)).await?))
}

/// The pack: a zip with a PDF, CSV files and JSON, addresses masked.
pub(crate) async fn pack(State(app): State<App>) -> Result<Response, ApiError> {
    let now = app.now();
    let e = app.store.read_at_leisure(move |c| kept::evidence(c, now)).await?;
    let zip = app.compute(move || evidence::zip(&e)).await?.map_err(|e| ApiError::Broken(e.to_string()))?;
    Ok(zip_file(&format!("evidence-{}.zip", &now.iso()[..10]), zip))
}

/// The PDF of the pack alone.
pub(crate) async fn pdf(State(app): State<App>) -> Result<Response, ApiError> {
    let now = app.now();
    let e = app.store.read_at_leisure(move |c| kept::evidence(c, now)).await?;
    let pdf = app.compute(move || evidence::pdf(&e)).await?.map_err(|e| ApiError::Broken(e.to_string()))?;
    Ok(([("content-type", "application/pdf")], pdf).into_response())
}

/// Sets the marks.
#[utoipa::path(post, path = "/api/upkeep/evidence/marks", request_body = Marks, responses((status = 204)))]
pub(crate) async fn marks(State(app): State<App>, who: Acting, Json(m): Json<Marks>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| kept::set_marks(c, &m, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewNote {
    #[schema(max_length = 4000)]
    text: String,
}

/// Adds a case note.
#[utoipa::path(post, path = "/api/upkeep/evidence/notes", request_body = NewNote, responses((status = 204)))]
pub(crate) async fn add_note(State(app): State<App>, who: Acting, Json(n): Json<NewNote>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| kept::add_note(c, &n.text, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes a case note away.
#[utoipa::path(delete, path = "/api/upkeep/evidence/notes/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn remove_note(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| kept::remove_note(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
