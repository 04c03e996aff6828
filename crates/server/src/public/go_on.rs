//! The button of a letter that asks whether to go on. A GET shows it and changes nothing, because scanners follow links; pressing it is a response
//! of the person's own, once a message.

use super::page::{failed, page as render, unknown_link};
use super::{At, instant};
use crate::state::App;
use axum::extract::{Path, State};
use axum::response::Response;
use minijinja::{Value, context};
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::responses::{self, WentOn};

async fn letterhead(app: &App, send: SendId) -> Option<Letterhead> {
    app.store.read(move |c| letterheads::of_send(c, send)).await.ok()
}

pub(super) async fn page(State(app): State<App>, Path(token): Path<String>) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::GoOn, &token).map(|(id, n)| (SendId(id), n)) else { return unknown_link() };
    let Some(letterhead) = letterhead(&app, send).await else { return unknown_link() };
    render("go_on.html", Some(&letterhead), "Shall we go on writing to you?", context! { preferences => preferences(&app, send) })
}

/// Our own links hold nothing that needs escaping.
fn preferences(app: &App, send: SendId) -> Value {
    Value::from_safe_string(format!("/p/{}", app.signer.link(Kind::Preferences, send, 0)))
}

pub(super) async fn press(State(app): State<App>, Path(token): Path<String>, at: At) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::GoOn, &token).map(|(id, n)| (SendId(id), n)) else { return unknown_link() };
    let at = instant(&app, at);
    let words = match app.store.write(move |c| responses::go_on(c, send, at)).await {
        Ok(Some(WentOn::Renewed)) => "Thank you: we go on writing to you.",
        Ok(Some(WentOn::NoConsent)) => {
            "You get no letters from us at present, and this button doesn’t change that. Sign up again to get them."
        }
        Ok(None) => return unknown_link(),
        Err(e) => return failed(&e),
    };
    let letterhead = letterhead(&app, send).await;
    render("left.html", letterhead.as_ref(), "Done", context! { words, preferences => preferences(&app, send) })
}
