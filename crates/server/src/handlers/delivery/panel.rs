//! The test panel: who is on it, and where the copies landed.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_store::delivery::panel::{self, Panel};
use serde::Deserialize;
use utoipa::ToSchema;

/// The mailboxes of the test panel, and where the copies of the last mailings landed: a sample, in no figure.
#[utoipa::path(get, path = "/api/delivery/panel", responses((status = 200, body = Panel)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Panel> {
    Ok(Json(app.store.read(panel::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewMailboxes {
    /// One or more, with commas or line breaks between them.
    addresses: String,
}

/// Puts mailboxes on the panel.
#[utoipa::path(post, path = "/api/delivery/panel", request_body = NewMailboxes, responses((status = 204)))]
pub(crate) async fn add(State(app): State<App>, who: Acting, Json(new): Json<NewMailboxes>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| panel::add(c, &new.addresses, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes a mailbox off the panel; what it got stays.
#[utoipa::path(delete, path = "/api/delivery/panel/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn remove(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| panel::remove(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
