//! The doors to the outside: open and click links, unsubscribe pages, raw mail. The stand-ins and
//! the real world come in by the same ones.

use crate::engine::ReceivedAt;
use crate::state::App;
use axum::Extension;
use axum::Router;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Path, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{Html, IntoResponse, Response};
use axum::routing::{get, post};
use rinse_core::Instant;
use rinse_core::token::Kind;
use rinse_post::inbound::{self, Inbound};
use rinse_store::responses::{self, Left};
use rinse_store::{mailings, sends, settings};
use sha2::{Digest, Sha256};

/// A transparent picture of one pixel.
const PIXEL: &[u8] = b"GIF89a\x01\0\x01\0\x80\0\0\0\0\0\0\0\0!\xf9\x04\x01\0\0\0\0,\0\0\0\0\x01\0\x01\0\0\x02\x02D\x01\0;";

pub(crate) fn router(app: App) -> Router {
    Router::new()
        .route("/o/{token}", get(open))
        .route("/c/{token}", get(click))
        .route("/u/{token}", get(unsubscribe_page).post(unsubscribe))
        .route("/in/mail", post(mail))
        .layer(DefaultBodyLimit::max(5_000_000))
        .with_state(app)
}

type At = Option<Extension<ReceivedAt>>;

fn instant(app: &App, at: At) -> Instant {
    at.map_or_else(|| app.now(), |e| e.0.0)
}

fn agent(headers: &HeaderMap) -> String {
    headers.get(header::USER_AGENT).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned()
}

async fn open(State(app): State<App>, Path(token): Path<String>, method: Method, headers: HeaderMap, at: At) -> Response {
    // A forged token gets the same picture: nothing is told.
    if let Some((send, _)) = app.signer.read_link(Kind::Open, &token) {
        let (at, agent, head) = (instant(&app, at), agent(&headers), method == Method::HEAD);
        if let Err(e) = app.store.record(move |c| responses::hit(c, send, None, at, &agent, head)).await {
            tracing::error!("an open was not recorded: {e}");
            return StatusCode::SERVICE_UNAVAILABLE.into_response();
        }
    }
    ([(header::CONTENT_TYPE, "image/gif"), (header::CACHE_CONTROL, "no-store")], PIXEL).into_response()
}

async fn click(State(app): State<App>, Path(token): Path<String>, method: Method, headers: HeaderMap, at: At) -> Response {
    let Some((send, link)) = app.signer.read_link(Kind::Click, &token) else { return unknown_link() };
    let (at, agent, head) = (instant(&app, at), agent(&headers), method == Method::HEAD);
    let found = app
        .store
        .record(move |c| {
            let url = mailings::link_url(c, send, link)?;
            if url.is_some() {
                responses::hit(c, send, Some(link), at, &agent, head)?;
            }
            Ok(url)
        })
        .await;
    match found {
        Ok(Some(url)) => (StatusCode::FOUND, [(header::LOCATION, url), (header::CACHE_CONTROL, "no-store".into())]).into_response(),
        Ok(None) => unknown_link(),
        Err(_) => StatusCode::SERVICE_UNAVAILABLE.into_response(),
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A public page in the letterhead's name and colours; plain, small, without script.
fn page(look: Option<&settings::Letterhead>, title: &str, body: &str) -> Html<String> {
    let colour = |c: &str, or: &str| {
        if c.len() == 7 && c.starts_with('#') && c[1..].bytes().all(|b| b.is_ascii_hexdigit()) { c.to_owned() } else { or.to_owned() }
    };
    let (ground, ink, accent, name) = look.map_or(("#ffffff".into(), "#17212b".into(), "#17212b".into(), String::new()), |l| {
        (colour(&l.ground, "#ffffff"), colour(&l.ink, "#17212b"), colour(&l.accent, "#17212b"), escape(&l.name))
    });
    Html(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width,initial-scale=1\"><title>{title}</title>\
         <style>body{{background:{ground};color:{ink};font:18px/1.5 system-ui,sans-serif;margin:0 auto;max-width:34rem;padding:2rem 1.25rem}}button{{font:inherit;background:{accent};color:{ground};border:0;border-radius:3px;padding:.6rem 1.1rem;margin:.3rem .5rem .3rem 0;min-height:44px}}</style>\
         <main><p>{name}</p><h1>{title}</h1>{body}</main></html>"
    ))
}

fn unknown_link() -> Response {
    (
        StatusCode::NOT_FOUND,
        page(
            None,
            "This link is not one of ours any more",
            "<p>Nothing was changed. To stop mail, use the link in the newest message you have, or answer it.</p>",
        ),
    )
        .into_response()
}

async fn look(app: &App, send: i64) -> Option<(settings::Letterhead, Option<String>)> {
    app.store
        .read(move |c| {
            let (id, topic): (i64, Option<String>) = c.query_row(
                "SELECT m.letterhead_id, t.name FROM send s JOIN mailing m ON m.id = s.mailing_id LEFT JOIN topic t ON t.id = m.topic_id WHERE s.id = ?1",
                [send], |r| Ok((r.get(0)?, r.get(1)?)))?;
            Ok(Some((settings::letterhead(c, id)?, topic)))
        })
        .await
        .ok()
        .flatten()
}

async fn unsubscribe_page(State(app): State<App>, Path(token): Path<String>) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::Unsubscribe, &token) else { return unknown_link() };
    let Some((letterhead, topic)) = look(&app, send).await else { return unknown_link() };
    let topic_button = topic.map_or_else(String::new, |t| format!("<button name=\"stop\" value=\"topic\">Stop {}</button>", escape(&t)));
    let body = format!(
        "<p>Press a button and it holds from that moment.</p><form method=\"post\">{topic_button}<button name=\"stop\" value=\"everything\">Stop everything</button></form>"
    );
    page(Some(&letterhead), "Stop getting mail?", &body).into_response()
}

async fn unsubscribe(State(app): State<App>, Path(token): Path<String>, at: At, body: Bytes) -> Response {
    let Some((send, _)) = app.signer.read_link(Kind::Unsubscribe, &token) else { return unknown_link() };
    let everything = body.as_ref() == b"stop=everything";
    let how = if body.starts_with(b"List-Unsubscribe") { "one-click" } else { "unsubscribe page" };
    let at = instant(&app, at);
    let done = app.store.write(move |c| responses::unsubscribe(c, send, everything, at, how)).await;
    match done {
        Ok(Some(left)) => {
            let (letterhead, topic) = look(&app, send).await.map_or((None, None), |(l, t)| (Some(l), t));
            let what = match left {
                Left::Topic => format!("You get no more {}. Other mail goes on.", escape(&topic.unwrap_or_default())),
                Left::Everything => "You get no more mail from us.".to_owned(),
            };
            page(letterhead.as_ref(), "Done", &format!("<p>{what}</p>")).into_response()
        }
        Ok(None) => unknown_link(),
        Err(e) => {
            tracing::error!("an unsubscribe was not recorded: {e}");
            (StatusCode::SERVICE_UNAVAILABLE, page(None, "That did not work", "<p>Please press the button again in a minute.</p>"))
                .into_response()
        }
    }
}

/// Raw mail to one of our addresses. Matched by the signed token in the address alone; what can't
/// be matched changes nothing.
async fn mail(State(app): State<App>, headers: HeaderMap, at: At, body: Bytes) -> Response {
    let to = headers.get("x-envelope-to").and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
    let at = instant(&app, at);
    let digest: [u8; 32] = Sha256::digest(&body).into();
    let local = to.split('@').next().unwrap_or_default();
    let send = local
        .strip_prefix("back+")
        .and_then(|t| app.signer.read_mailbox(Kind::Return, t))
        .or_else(|| local.strip_prefix("reply+").and_then(|t| app.signer.read_mailbox(Kind::Reply, t)));
    let read = inbound::read(&body);
    let kind = match &read {
        Inbound::DeliveryStatus(_) => "delivery status",
        Inbound::Feedback { .. } => "feedback",
        Inbound::AutoReply => "auto-reply",
        Inbound::Reply => "reply",
        Inbound::Other => "other",
    };
    let done = app
        .store
        .write(move |c| {
            if !responses::first_time(c, &digest, at, kind, send)? {
                return Ok(());
            }
            let Some(send) = send else { return Ok(()) };
            match read {
                Inbound::DeliveryStatus(recipients) => {
                    for r in recipients.iter().filter(|r| r.action == "failed") {
                        sends::failed(c, send, r.reply.category(), &r.reply.line(), at)?;
                    }
                }
                Inbound::Feedback { kind } if kind == "abuse" => {
                    responses::complaint(c, send, at)?;
                }
                Inbound::Reply => {
                    responses::reply(c, send, at)?;
                }
                Inbound::Feedback { .. } | Inbound::AutoReply | Inbound::Other => {}
            }
            Ok(())
        })
        .await;
    match done {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(e) => {
            tracing::error!("a message was not taken in: {e}");
            StatusCode::SERVICE_UNAVAILABLE.into_response()
        }
    }
}
