//! What a text gateway brings: answers to text messages, and reports of what became of one.
//!
//! Signed with the gateway's secret; from the stand-in it comes from within. Anything else changes nothing: anybody who could make
//! up an answer could end other people's messages.

use super::{At, instant};
use crate::gateway;
use crate::state::App;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_core::phone::{self, Phone};
use rinse_core::webhook::verify;
use rinse_store::{responses, texts};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use sha2::{Digest, Sha256};

/// Somebody wrote to one of our numbers.
#[derive(Deserialize)]
struct Answer {
    /// The gateway's own: the same one again is the same answer.
    id: String,
    from: String,
    to: String,
    text: String,
}

/// A message that was taken has arrived, or hasn't.
#[derive(Deserialize)]
struct Report {
    /// Ours.
    message: String,
    /// As the gateway would have answered at the handover: 404 there is no such number, 2xx it arrived.
    status: u16,
    #[serde(default)]
    words: String,
}

/// The message, when it is the gateway's.
fn read<T: DeserializeOwned>(app: &App, headers: &HeaderMap, at: &At, body: &Bytes) -> Result<(T, Instant), StatusCode> {
    let text = std::str::from_utf8(body).map_err(|_| StatusCode::BAD_REQUEST)?;
    if at.is_none() {
        let header = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
        let (Some(id), Some(second), Some(signature)) =
            (header("webhook-id"), header("webhook-timestamp").and_then(|s| s.parse().ok()), header("webhook-signature"))
        else {
            return Err(StatusCode::UNAUTHORIZED);
        };
        let own = app.engine.text_secret().is_some_and(|secret| verify(secret, id, second, text, signature, app.now()));
        if !own {
            return Err(StatusCode::UNAUTHORIZED);
        }
    }
    Ok((serde_json::from_str(text).map_err(|_| StatusCode::BAD_REQUEST)?, instant(app, *at)))
}

fn done(taken: rinse_store::Result<()>) -> Response {
    match taken {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(e) => {
            tracing::error!("what a text gateway brought was not taken in: {e}");
            StatusCode::SERVICE_UNAVAILABLE.into_response()
        }
    }
}

pub(super) async fn answer(State(app): State<App>, headers: HeaderMap, at: At, body: Bytes) -> Response {
    let (a, at): (Answer, Instant) = match read(&app, &headers, &at, &body) {
        Ok(read) => read,
        Err(status) => return status.into_response(),
    };
    let (Ok(from), Ok(to)) = (Phone::parse(&a.from, None), phone::sender(&a.to, None)) else {
        return StatusCode::BAD_REQUEST.into_response();
    };
    let digest: [u8; 32] = Sha256::digest(format!("text answer {} {from}", a.id)).into();
    let taken = app.store.write_first(move |c| {
        if responses::first_time(c, &digest, at, "text", None)? {
            let came = texts::answer(c, &from, &to, &a.text, at)?;
            if came == texts::Came::Nobody {
                tracing::info!("a text message came from a number that nobody here has");
            }
        }
        Ok(())
    });
    done(taken.await)
}

pub(super) async fn report(State(app): State<App>, headers: HeaderMap, at: At, body: Bytes) -> Response {
    let (r, at): (Report, Instant) = match read(&app, &headers, &at, &body) {
        Ok(read) => read,
        Err(status) => return status.into_response(),
    };
    let reply = gateway::reply(r.status, &r.words);
    // What isn't one of ours, or arrived, or is tried again by the gateway itself, changes nothing.
    let Some(send) = app.signer.read_message(&r.message).filter(|_| !reply.accepted() && !reply.try_again()) else {
        return StatusCode::NO_CONTENT.into_response();
    };
    done(app.store.write(move |c| texts::came_back(c, SendId(send), &reply, at)).await)
}
