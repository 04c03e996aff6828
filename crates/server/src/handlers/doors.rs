//! Doors for mail and for another sender's events: who may bring them, each under an address of its own.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::token::hex;
use rinse_store::doors::{self, Door};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The doors that are open.
#[utoipa::path(get, path = "/api/doors", responses((status = 200, body = Vec<Door>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Door>> {
    Ok(Json(app.store.read(doors::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewDoor {
    /// Who will bring mail by it.
    name: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct MadeDoor {
    id: i64,
    /// Where raw mail is posted to. It is shown once: a digest of it is kept.
    url: String,
    /// Where another sender posts its events. Shown once, too.
    events_url: String,
}

/// Opens a door for a source of mail.
#[utoipa::path(post, path = "/api/doors", request_body = NewDoor, responses((status = 200, body = MadeDoor)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(n): Json<NewDoor>) -> Answer<MadeDoor> {
    let now = app.now();
    let secret = hex(&rand::random::<[u8; 24]>());
    let base = app.base_url().trim_end_matches('/');
    let (url, events_url) = (format!("{base}/in/mail/{secret}"), format!("{base}/in/events/{secret}"));
    let id = app.store.write(move |c| doors::make(c, &n.name, &secret, now, Some(who.0))).await?;
    Ok(Json(MadeDoor { id, url, events_url }))
}

/// Closes a door.
#[utoipa::path(delete, path = "/api/doors/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| doors::end(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
