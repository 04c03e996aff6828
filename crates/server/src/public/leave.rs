//! The unsubscribe link: a page with buttons, and the one-click POST of RFC 8058. A GET changes nothing,
//! because scanners follow links; a POST always counts, no matter who sent it.

use super::page::{failed, page as render, unknown_link};
use super::{At, instant};
use crate::state::App;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, header};
use axum::response::Response;
use minijinja::{Value, context};
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_post::compose::LEAVE_SERIES;
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::responses::{self, Left, ONE_CLICK};
use rinse_store::topics;

/// Whose message it was, its topic, and the series that sent it.
async fn look(app: &App, send: SendId) -> Option<(Letterhead, Option<(i64, String)>, Option<String>)> {
    app.store
        .read(move |c| Ok((letterheads::of_send(c, send)?, topics::of_send(c, send)?, responses::series_of(c, send)?.map(|s| s.1))))
        .await
        .ok()
}

/// Our own links hold nothing that needs escaping.
fn preferences(app: &App, send: SendId) -> Value {
    Value::from_safe_string(format!("/p/{}", app.signer.link(Kind::Preferences, send, 0)))
}

pub(super) async fn page(State(app): State<App>, Path(token): Path<String>) -> Response {
    let Some((send, number)) = app.signer.read_link(Kind::Unsubscribe, &token).map(|(id, n)| (SendId(id), n)) else {
        return unknown_link();
    };
    let Some((letterhead, topic, series)) = look(&app, send).await else { return unknown_link() };
    // The link to leave the series offers that alone; where no series sent the message, it is an unsubscribe link.
    let alone = number == LEAVE_SERIES && series.is_some();
    let title = if alone { "Leave this series?" } else { "Stop getting mail?" };
    let more = context! { topic => topic.map(|t| t.1), series, alone, preferences => preferences(&app, send) };
    render("leave.html", Some(&letterhead), title, more)
}

/// RFC 8058 has the client send a form, as fields of a query or as parts.
fn is_one_click(headers: &HeaderMap, body: &[u8]) -> bool {
    let parts = headers
        .get(header::CONTENT_TYPE)
        .and_then(|v| v.to_str().ok())
        .is_some_and(|t| t.trim_start().to_ascii_lowercase().starts_with("multipart/form-data"));
    let named = b"List-Unsubscribe";
    if parts { body.windows(named.len()).any(|w| w.eq_ignore_ascii_case(named)) } else { body.starts_with(named) }
}

pub(super) async fn leave(State(app): State<App>, Path(token): Path<String>, headers: HeaderMap, at: At, body: Bytes) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::Unsubscribe, &token).map(|(id, n)| (SendId(id), n)) else { return unknown_link() };
    if body.as_ref() == b"stop=series" {
        return leave_series(&app, send, instant(&app, at)).await;
    }
    if body.as_ref() == b"stop=series-back" {
        return match app.store.write(move |c| responses::rejoin_series(c, send)).await {
            Ok(()) => said(&app, send, "You can get this series again.".into(), None, "").await,
            Err(e) => failed(&e),
        };
    }
    let everything = body.as_ref() == b"stop=everything";
    let how = if is_one_click(&headers, &body) { ONE_CLICK } else { "unsubscribe page" };
    let at = instant(&app, at);
    match app.store.write_first(move |c| responses::unsubscribe(c, send, everything, at, how)).await {
        Ok(Some(left)) => {
            let topic = look(&app, send).await.and_then(|l| l.1);
            let (words, topic_id) = match (left, topic) {
                (Left::Topic, Some((id, name))) => (format!("You get no more {name}. Other mail goes on."), Some(id)),
                _ => ("You get no more mail from us.".to_owned(), None),
            };
            said(&app, send, words, topic_id, "mail").await
        }
        Ok(None) => unknown_link(),
        Err(e) => failed(&e),
    }
}

/// "Done", with the way back: into what they left, if there is one.
async fn said(app: &App, send: SendId, words: String, topic_id: Option<i64>, back: &str) -> Response {
    let letterhead = look(app, send).await.map(|l| l.0);
    render("left.html", letterhead.as_ref(), "Done", context! { words, topic_id, back, preferences => preferences(app, send) })
}

async fn leave_series(app: &App, send: SendId, at: rinse_core::Instant) -> Response {
    match app.store.write_first(move |c| responses::leave_series(c, send, at)).await {
        Ok(Some(name)) => said(app, send, format!("You have left “{name}”. Other mail goes on."), None, "series").await,
        Ok(None) => unknown_link(),
        Err(e) => failed(&e),
    }
}
