//! Saved views.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use rinse_store::findings::letters::{self, Letters};
use rinse_store::findings::views::{self, View};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// All of them, by name.
#[utoipa::path(get, path = "/api/findings/views", responses((status = 200, body = Vec<View>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<View>> {
    Ok(Json(app.store.read(views::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewView {
    name: String,
    /// The page and what is asked of it, as in `/findings?by=weekday`.
    path: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SavedAs {
    id: i64,
}

/// Saves a view; one of the same name is replaced.
#[utoipa::path(post, path = "/api/findings/views", request_body = NewView, responses((status = 201, body = SavedAs)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Json(v): Json<NewView>) -> Result<(StatusCode, Json<SavedAs>), ApiError> {
    let now = app.now();
    let id = app.store.write(move |c| views::save(c, &v.name, &v.path, now, Some(who.0))).await?;
    Ok((StatusCode::CREATED, Json(SavedAs { id })))
}

/// How a view is mailed to people of the team each week; null: it isn't.
#[utoipa::path(get, path = "/api/findings/views/{id}/letters", params(("id" = i64, Path)), responses((status = 200, body = Option<Letters>)))]
pub(crate) async fn letters_of(State(app): State<App>, Path(id): Path<i64>) -> Answer<Option<Letters>> {
    Ok(Json(app.store.read(move |c| letters::of(c, id)).await?))
}

/// Has a view mailed to people of the team each week, or, to nobody, no longer: service messages, outside all figures.
#[utoipa::path(put, path = "/api/findings/views/{id}/letters", params(("id" = i64, Path)), request_body = Letters, responses((status = 204)))]
pub(crate) async fn set_letters(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(l): Json<Letters>,
) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| letters::set(c, id, &l, now, Some(who.0))).await?;
    app.engine.wake();
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets one.
#[utoipa::path(delete, path = "/api/findings/views/{id}", responses((status = 204)))]
pub(crate) async fn delete(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| views::delete(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
