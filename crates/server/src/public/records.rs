//! The door of the record-system stand-in, open on the demo clock only.

use crate::state::App;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use std::sync::PoisonError;

pub(super) async fn take(State(app): State<App>, headers: HeaderMap, body: String) -> Response {
    if !app.clock.is_demo() {
        return StatusCode::NOT_FOUND.into_response();
    }
    let header = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
    let (key, second, signature) = (header("webhook-id"), header("webhook-timestamp").parse().unwrap_or(0), header("webhook-signature"));
    let secrets = app.store.read(|c| rinse_store::webhooks::secrets_of(c, crate::engine::RECORDS)).await.unwrap_or_default();
    let now = app.now();
    let signed = secrets.iter().any(|s| rinse_core::webhook::verify(s, &key, second, &body, &signature, now));
    let line: Option<serde_json::Value> = serde_json::from_str(&body).ok();
    let line = line.filter(|l| signed && l["what"] == "do_not_return").and_then(|l| Some(l["address"].as_str()?.to_owned()));
    if let Some(address) = line {
        let noted = app.engine.network(|n| n.do_not_return(&address, now.millis().div_euclid(rinse_core::DAY)));
        if !matches!(noted, Some(Ok(()))) {
            return (StatusCode::SERVICE_UNAVAILABLE, "I can't write: try again later.").into_response();
        }
    }
    let (status, words) = app.records.lock().unwrap_or_else(PoisonError::into_inner).take(&key, &body, signed);
    (StatusCode::from_u16(status).unwrap_or(StatusCode::OK), words).into_response()
}

/// What it has, for anybody who wants to see that it came.
pub(crate) async fn all(State(app): State<App>) -> Response {
    if !app.clock.is_demo() {
        return StatusCode::NOT_FOUND.into_response();
    }
    let records = app.records.lock().unwrap_or_else(PoisonError::into_inner);
    let list: Vec<_> = records.all().iter().map(|t| serde_json::json!({ "key": t.key, "body": t.body, "times": t.times })).collect();
    Json(list).into_response()
}
