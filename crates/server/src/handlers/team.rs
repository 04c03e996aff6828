//! The people of the team.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use rinse_store::team::{self, NewPerson, Person};

/// Who may act.
#[utoipa::path(get, path = "/api/people", responses((status = 200, body = Vec<Person>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Person>> {
    Ok(Json(app.store.read(team::people).await?))
}

/// Adds somebody to the team.
#[utoipa::path(post, path = "/api/people", request_body = NewPerson, responses((status = 201, body = i64)))]
pub(crate) async fn add(State(app): State<App>, who: Acting, Json(p): Json<NewPerson>) -> Result<(StatusCode, Json<i64>), ApiError> {
    let now = app.now();
    let id = app.store.write(move |c| team::save(c, None, &p, now, Some(who.0))).await?;
    Ok((StatusCode::CREATED, Json(id)))
}

/// Says something else of somebody: the change is recorded with who made it.
#[utoipa::path(put, path = "/api/people/{id}", params(("id" = i64, Path)), request_body = NewPerson, responses((status = 204)))]
pub(crate) async fn change(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(p): Json<NewPerson>,
) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| team::save(c, Some(id), &p, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
