//! The unsubscribe link: a page with buttons, and the one-click POST of RFC 8058. A GET changes nothing,
//! because scanners follow links; a POST always counts, whoever sent it.

use super::page::{failed, page as render, unknown_link};
use super::{At, instant};
use crate::state::App;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::response::Response;
use minijinja::{Value, context};
use rinse_core::token::Kind;
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::responses::{self, Left, ONE_CLICK};

/// Whose message it was, and its topic.
async fn look(app: &App, send: i64) -> Option<(Letterhead, Option<(i64, String)>)> {
    app.store
        .read(move |c| {
            let (id, topic, name): (i64, Option<i64>, Option<String>) = c.query_row(
                "SELECT m.letterhead_id, t.id, t.name FROM send s JOIN mailing m ON m.id = s.mailing_id LEFT JOIN topic t ON t.id = m.topic_id WHERE s.id = ?1",
                [send],
                |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
            )?;
            Ok(Some((letterheads::one(c, id)?, topic.zip(name))))
        })
        .await
        .ok()
        .flatten()
}

/// Our own links hold nothing that needs escaping.
fn preferences(app: &App, send: i64) -> Value {
    Value::from_safe_string(format!("/p/{}", app.signer.link(Kind::Preferences, send, 0)))
}

pub(super) async fn page(State(app): State<App>, Path(token): Path<String>) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::Unsubscribe, &token) else { return unknown_link() };
    let Some((letterhead, topic)) = look(&app, send).await else { return unknown_link() };
    let more = context! { topic => topic.map(|t| t.1), preferences => preferences(&app, send) };
    render("leave.html", Some(&letterhead), "Stop getting mail?", more)
}

pub(super) async fn leave(State(app): State<App>, Path(token): Path<String>, at: At, body: Bytes) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::Unsubscribe, &token) else { return unknown_link() };
    let everything = body.as_ref() == b"stop=everything";
    let how = if body.starts_with(b"List-Unsubscribe") { ONE_CLICK } else { "unsubscribe page" };
    let at = instant(&app, at);
    match app.store.write(move |c| responses::unsubscribe(c, send, everything, at, how)).await {
        Ok(Some(left)) => {
            let (letterhead, topic) = look(&app, send).await.map_or((None, None), |(l, t)| (Some(l), t));
            let (words, topic_id) = match (left, topic) {
                (Left::Topic, Some((id, name))) => (format!("You get no more {name}. Other mail goes on."), Some(id)),
                _ => ("You get no more mail from us.".to_owned(), None),
            };
            render("left.html", letterhead.as_ref(), "Done", context! { words, topic_id, preferences => preferences(&app, send) })
        }
        Ok(None) => unknown_link(),
        Err(e) => failed(&e),
    }
}
