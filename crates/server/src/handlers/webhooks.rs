//! Other systems that are told what happened, and the log of what they were told.

use super::Acting;
use crate::engine::RECORDS;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::IntoResponse;
use rinse_store::uses;
use rinse_store::webhooks;
use serde::{Deserialize, Serialize};
use url::{Host, Url};
use utoipa::ToSchema;

/// All webhooks.
#[utoipa::path(get, path = "/api/webhooks", responses((status = 200, body = Vec<webhooks::Webhook>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<webhooks::Webhook>> {
    Ok(Json(app.store.read(webhooks::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewWebhook {
    name: String,
    /// `http://127.0.0.1:PORT/…`, or on the demo clock `/standin/records`.
    url: String,
}

/// Rinse asks no outside host: another system is told through something that runs on this machine.
fn check_url(text: &str, demo: bool) -> Result<String, ApiError> {
    let text = text.trim();
    if demo && text == RECORDS {
        return Ok(text.to_owned());
    }
    let url = Url::parse(text).map_err(|e| ApiError::Malformed(format!("{text:?} is no web address: {e}.")))?;
    let here = match url.host() {
        Some(Host::Ipv4(ip)) => ip.is_loopback(),
        Some(Host::Ipv6(ip)) => ip.is_loopback(),
        Some(Host::Domain(name)) => name == "localhost",
        None => false,
    };
    if url.scheme() != "http" || !here || !url.username().is_empty() || url.as_str().len() > 500 {
        return Err(ApiError::Malformed(
            "Rinse asks no outside host. Give an address on this machine, as in http://127.0.0.1:9000/rinse; what listens there can pass messages on."
                .into(),
        ));
    }
    Ok(url.into())
}

/// Makes a webhook, with a secret of its own.
#[utoipa::path(post, path = "/api/webhooks", request_body = NewWebhook, responses((status = 200, body = i64)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(n): Json<NewWebhook>) -> Answer<i64> {
    let url = check_url(&n.url, app.clock.is_demo())?;
    let (now, secret): (_, [u8; 32]) = (app.now(), rand::random());
    Ok(Json(app.store.write(move |c| webhooks::make(c, &n.name, &url, &secret, now, Some(who.0))).await?))
}

/// Ends a webhook that no reaction uses; what waits for it is given up.
#[utoipa::path(delete, path = "/api/webhooks/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| uses::end_webhook(c, id, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Secret {
    /// In hexadecimal: what the receiver checks signatures with.
    secret: String,
}

/// The secret that messages are signed with, to copy to the receiver.
#[utoipa::path(post, path = "/api/webhooks/{id}/secret", params(("id" = i64, Path)), responses((status = 200, body = Secret)))]
pub(crate) async fn secret(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Answer<Secret> {
    let now = app.now();
    let bytes = app
        .store
        .write(move |c| {
            let secret = webhooks::secret(c, id)?;
            rinse_store::settings::audit(c, now, Some(who.0), "secret shown", "webhook", id, "")?;
            Ok(secret)
        })
        .await?;
    Ok(Json(Secret { secret: rinse_core::token::hex(&bytes) }))
}

/// Sends a message to try it out.
#[utoipa::path(post, path = "/api/webhooks/{id}/test", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn test(State(app): State<App>, _: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    let (body, key) = (serde_json::json!({ "kind": "test", "at": now.iso() }), format!("t{id}-{:016x}", rand::random::<u64>()));
    app.store
        .write(move |c| {
            webhooks::name(c, id)?;
            webhooks::queue(c, id, &key, None, &body, now)
        })
        .await?;
    app.engine.wake();
    Ok(axum::http::StatusCode::ACCEPTED)
}

/// The newest 200 messages.
#[utoipa::path(get, path = "/api/deliveries", responses((status = 200, body = Vec<webhooks::Delivery>)))]
pub(crate) async fn log(State(app): State<App>) -> Answer<Vec<webhooks::Delivery>> {
    Ok(Json(app.store.read(webhooks::log).await?))
}

/// Tries a message that was given up again.
#[utoipa::path(post, path = "/api/deliveries/{id}/again", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn again(State(app): State<App>, _: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| webhooks::again(c, id, now)).await?;
    app.engine.wake();
    Ok(axum::http::StatusCode::ACCEPTED)
}
