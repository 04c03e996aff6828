//! Mail domains, and pauses of them.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_store::domains::{self, DomainRow, NewDomainPause};

/// The domains of the last 30 days, with how they took the mail.
#[utoipa::path(get, path = "/api/domains", responses((status = 200, body = Vec<DomainRow>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<DomainRow>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| domains::all(c, now)).await?))
}

/// Lets nothing go to a domain until an instant.
#[utoipa::path(post, path = "/api/domains/pauses", request_body = NewDomainPause, responses((status = 204)))]
pub(crate) async fn pause(State(app): State<App>, who: Acting, Json(p): Json<NewDomainPause>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| domains::pause(c, &p, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Ends the pause of a domain: what waited goes now.
#[utoipa::path(delete, path = "/api/domains/{id}/pause", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn resume(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| domains::resume(c, id, now, Some(who.0))).await?;
    crate::actions::held_again(&app).await?;
    Ok(StatusCode::NO_CONTENT)
}
