//! Sign-up: the form, the invitation it leads to, and the confirmation. Anybody who sends the form learns
//! nothing about the address: the answer is always the same.

use super::page::{Topic, boxes, failed, fields, page as render, unknown_link};
use super::{At, instant};
use crate::state::App;
use axum::body::Bytes;
use axum::extract::{ConnectInfo, Path, State};
use axum::response::Response;
use minijinja::{Value, context};
use rinse_core::address::Address;
use rinse_core::id::{LetterheadId, SendId};
use rinse_core::token::Kind;
use rinse_store::StoreError;
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::signups::{self, Form};
use rinse_store::topics;
use sha2::{Digest, Sha256};
use std::net::SocketAddr;

/// The form of a letterhead as it is filled in so far.
struct Filled {
    letterhead: Letterhead,
    topics: Vec<Topic>,
    address: String,
    given_name: String,
}

fn show(f: &Filled, said: Option<&str>) -> Response {
    let more = context! { said, topics => boxes(&f.topics), address => f.address.as_str(), given_name => f.given_name.as_str(), wording => f.letterhead.wording.as_str() };
    render("signup.html", Some(&f.letterhead), &format!("Letters from {}", f.letterhead.name), more)
}

async fn form(app: &App, letterhead: LetterheadId, chosen: Option<Vec<i64>>) -> Result<Filled, StoreError> {
    app.store
        .read(move |c| {
            let topics = topics::names(c)?
                .into_iter()
                .map(|t| Topic { on: chosen.as_ref().is_some_and(|k| k.contains(&t.id)), id: t.id, name: t.name })
                .collect();
            Ok(Filled { letterhead: letterheads::one(c, letterhead)?, topics, address: String::new(), given_name: String::new() })
        })
        .await
}

pub(super) async fn page(State(app): State<App>, Path(letterhead): Path<String>) -> Response {
    let Ok(letterhead) = letterhead.parse() else { return unknown_link() };
    match form(&app, letterhead, None).await {
        Ok(f) => show(&f, None),
        Err(StoreError::Missing(_)) => unknown_link(),
        Err(e) => failed(&e),
    }
}

pub(super) async fn send(
    State(app): State<App>,
    Path(letterhead): Path<String>,
    peer: Option<axum::Extension<ConnectInfo<SocketAddr>>>,
    at: At,
    body: Bytes,
) -> Response {
    let Ok(letterhead) = letterhead.parse::<i64>() else { return unknown_link() };
    let fields = fields(&body);
    let get = |name: &str| fields.iter().find(|(k, _)| k == name).map(|(_, v)| v.trim().to_owned()).unwrap_or_default();
    let topics: Vec<i64> = fields.iter().filter(|(k, _)| k == "topic").filter_map(|(_, v)| v.parse().ok()).collect();
    let mut filled = match form(&app, LetterheadId(letterhead), Some(topics.clone())).await {
        Ok(f) => f,
        Err(StoreError::Missing(_)) => return unknown_link(),
        Err(e) => return failed(&e),
    };
    (filled.address, filled.given_name) = (get("address"), get("given_name").chars().take(80).collect());
    let address = match Address::parse(&filled.address) {
        Ok(a) => a,
        Err(e) => return show(&filled, Some(&format!("This address can't be right: {e}. Please look at it again."))),
    };
    if !filled.topics.is_empty() && topics.is_empty() {
        return show(&filled, Some("Please choose at least one of the topics."));
    }
    let now = instant(&app, at);
    let from = peer.map(|p| Sha256::digest(p.0.0.ip().to_string().as_bytes()).to_vec());
    let f = Form {
        letterhead: LetterheadId(letterhead),
        address,
        given_name: Some(filled.given_name.clone()).filter(|n| !n.is_empty()),
        topics,
        came_by: "form",
        came_from: from,
    };
    if let Err(e) = app.store.write(move |c| signups::sign_up(c, &f, now)).await {
        return failed(&e);
    }
    app.engine.wake();
    let words = if filled.letterhead.double_opt_in {
        "Please look into your mailbox: if this address can get our letters, a message with a link has been sent to it. They come once you have opened that link and pressed its button."
    } else {
        "Thank you. Your letters will come, and each of them has a link to stop."
    };
    render("plain.html", Some(&filled.letterhead), "One more step", context! { words })
}

async fn asked(app: &App, token: &str, at: At) -> Result<Option<(i64, signups::Asked, Letterhead)>, StoreError> {
    let Some((id, _)) = app.signer.read_link(Kind::Confirm, token) else { return Ok(None) };
    let now = instant(app, at);
    app.store
        .read(move |c| {
            let Some(asked) = signups::asked(c, id, now)? else { return Ok(None) };
            let letterhead = letterheads::one(c, asked.letterhead)?;
            Ok(Some((id, asked, letterhead)))
        })
        .await
}

pub(super) async fn confirm_page(State(app): State<App>, Path(token): Path<String>, at: At) -> Response {
    match asked(&app, &token, at).await {
        Ok(Some((_, a, l))) => render("confirm.html", Some(&l), "Is this right?", context! { topics => a.topics, wording => a.wording }),
        Ok(None) => unknown_link(),
        Err(e) => failed(&e),
    }
}

pub(super) async fn confirm(State(app): State<App>, Path(token): Path<String>, at: At) -> Response {
    let now = instant(&app, at);
    let (id, letterhead) = match asked(&app, &token, at).await {
        Ok(Some((id, _, l))) => (id, l),
        Ok(None) => return unknown_link(),
        Err(e) => return failed(&e),
    };
    match app.store.write(move |c| signups::confirm(c, id, now)).await {
        Ok(Some(contact)) => {
            let of = u32::try_from(letterhead.id.0).unwrap_or(0);
            let preferences = Value::from_safe_string(format!("/p/{}", app.signer.link(Kind::Person, SendId(contact), of)));
            render("confirmed.html", Some(&letterhead), "Thank you", context! { preferences })
        }
        Ok(None) => unknown_link(),
        Err(e) => failed(&e),
    }
}
