//! What DNS says of our senders, and blocklists.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::delivery::blocklist::Of;
use rinse_store::blocklists::{self, Blocklist};
use rinse_store::delivery::names::{self, Sender};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is known of our names.
#[derive(Serialize, ToSchema)]
pub(crate) struct OurNames {
    /// Somebody can be asked: Rinse was started with a name server.
    dns: bool,
    addresses: Vec<String>,
    senders: Vec<Sender>,
    blocklists: Vec<Blocklist>,
}

/// Our senders as DNS has them, and what blocklists have of ours, as it was looked at last.
#[utoipa::path(get, path = "/api/delivery/names", responses((status = 200, body = OurNames)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<OurNames> {
    let dns = app.engine.dns.is_asked();
    let told = app.store.read(move |c| {
        let addresses = names::own_addresses(c)?.iter().map(ToString::to_string).collect();
        Ok(OurNames { dns, addresses, senders: names::senders(c)?, blocklists: blocklists::all(c)? })
    });
    Ok(Json(told.await?))
}

/// Looks again, now.
#[utoipa::path(post, path = "/api/delivery/names/look", responses((status = 204)))]
pub(crate) async fn look(State(app): State<App>, _: Acting) -> Result<impl IntoResponse, ApiError> {
    if !app.engine.dns.is_asked() {
        return Err(ApiError::Refused("Nobody can be asked: start Rinse with --dns system, or with the address of a name server.".into()));
    }
    app.engine.look(app.now()).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct OwnAddresses {
    #[schema(max_items = 64)]
    addresses: Vec<String>,
}

/// Says which addresses our mail goes out from.
#[utoipa::path(put, path = "/api/delivery/names/addresses", request_body = OwnAddresses, responses((status = 204)))]
pub(crate) async fn set_addresses(State(app): State<App>, who: Acting, Json(a): Json<OwnAddresses>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| names::set_own_addresses(c, &a.addresses, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewBlocklist {
    /// As it is asked: `bl.list.example`.
    #[schema(max_length = 253)]
    zone: String,
    of: Of,
}

/// Has a blocklist asked from now on; its number.
#[utoipa::path(post, path = "/api/delivery/blocklists", request_body = NewBlocklist, responses((status = 200, body = i64)))]
pub(crate) async fn add_list(State(app): State<App>, who: Acting, Json(list): Json<NewBlocklist>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| blocklists::add(c, &list.zone, list.of, now, Some(who.0))).await?))
}

/// A blocklist isn't asked any more.
#[utoipa::path(delete, path = "/api/delivery/blocklists/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn remove_list(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| blocklists::remove(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
