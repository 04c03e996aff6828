//! The doors to the outside: open and click links, public pages, raw mail. The stand-ins and the real
//! world come in by the same ones.

pub(crate) mod events;
mod go_on;
mod leave;
mod mail;
pub(crate) mod page;
mod preferences;
mod records;
pub(crate) use records::all as records;
mod share;
pub(crate) mod signup;
mod text;

use crate::engine::ReceivedAt;
use crate::state::App;
use axum::Extension;
use axum::Router;
use axum::extract::{ConnectInfo, DefaultBodyLimit, Path, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_store::responses::Came;
use rinse_store::{mailings, responses};
use std::net::SocketAddr;

/// A transparent picture of one pixel.
const PIXEL: &[u8] = b"GIF89a\x01\0\x01\0\x80\0\0\0\0\0\0\0\0!\xf9\x04\x01\0\0\0\0,\0\0\0\0\x01\0\x01\0\0\x02\x02D\x01\0;";

pub(crate) fn router(app: App) -> Router {
    Router::new()
        .route("/o/{token}", get(open))
        .route("/c/{token}", get(click))
        .route("/u/{token}", get(leave::page).post(leave::leave))
        .route("/g/{token}", get(go_on::page).post(go_on::press))
        .route("/p/{token}", get(preferences::page).post(preferences::save))
        .route("/f/{letterhead}", get(signup::page).post(signup::send))
        .route("/i/{token}", get(signup::confirm_page).post(signup::confirm))
        .route("/s/{token}", get(share::page))
        .route("/m/{key}", get(image))
        .route("/in/mail/{door}", post(mail::take))
        .route("/in/events/{door}", post(events::take))
        .route("/in/text", post(text::answer))
        .route("/in/text-report", post(text::report))
        .layer(DefaultBodyLimit::max(5_000_000))
        .with_state(app)
}

/// The same for what comes from within: the stand-ins have doors of their own that nobody outside reaches.
pub(crate) fn within(app: App) -> Router {
    let standins = Router::new().route(crate::engine::RECORDS, post(records::take)).with_state(app.clone());
    router(app).merge(standins)
}

pub(crate) type At = Option<Extension<ReceivedAt>>;

pub(crate) fn instant(app: &App, at: At) -> Instant {
    at.map_or_else(|| app.now(), |e| e.0.0)
}

fn agent(headers: &HeaderMap) -> String {
    headers.get(header::USER_AGENT).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned()
}

/// Where a request comes from: as the listener saw it, or as the stand-in world says.
type Peer = Option<Extension<ConnectInfo<SocketAddr>>>;

/// A hit by a request.
fn came(app: &App, link: Option<u32>, method: &Method, headers: &HeaderMap, (at, peer): (At, Peer)) -> Came {
    Came { link, at: instant(app, at), agent: agent(headers), from: peer.map(|p| p.0.0.ip()), head: *method == Method::HEAD }
}

async fn open(State(app): State<App>, Path(token): Path<String>, method: Method, headers: HeaderMap, (at, peer): (At, Peer)) -> Response {
    // A forged token gets the same picture: nothing is told.
    if let Some((send, _)) = app.signer.read_link(Kind::Open, &token) {
        let came = came(&app, None, &method, &headers, (at, peer));
        if let Err(e) = app.store.record(move |c| responses::hit(c, SendId(send), &came)).await {
            tracing::error!("an open was not recorded: {e}");
            return StatusCode::SERVICE_UNAVAILABLE.into_response();
        }
    }
    ([(header::CONTENT_TYPE, "image/gif"), (header::CACHE_CONTROL, "no-store")], PIXEL).into_response()
}

async fn click(State(app): State<App>, Path(token): Path<String>, method: Method, headers: HeaderMap, (at, peer): (At, Peer)) -> Response {
    let Some((send, link)) = app.signer.read_link(Kind::Click, &token) else { return page::unknown_link() };
    let came = came(&app, Some(link), &method, &headers, (at, peer));
    let found = app
        .store
        .record(move |c| {
            let url = mailings::link_url(c, SendId(send), link)?;
            if url.is_some() {
                responses::hit(c, SendId(send), &came)?;
            }
            Ok(url)
        })
        .await;
    match found {
        Ok(Some(url)) => {
            (StatusCode::FOUND, [(header::LOCATION, in_header(&url)), (header::CACHE_CONTROL, "no-store".into())]).into_response()
        }
        Ok(None) => page::unknown_link(),
        Err(_) => StatusCode::SERVICE_UNAVAILABLE.into_response(),
    }
}

/// An address as a header carries it: what isn't visible ASCII is written in percent signs (RFC 3986, section 2.1).
fn in_header(url: &str) -> String {
    let mut out = String::with_capacity(url.len());
    for b in url.bytes() {
        if (0x21..0x7f).contains(&b) { out.push(b.into()) } else { out.push_str(&format!("%{b:02X}")) }
    }
    out
}

/// An image of a message.
async fn image(State(app): State<App>, Path(key): Path<String>) -> Response {
    match app.store.read(move |c| rinse_store::images::by_key(c, &key)).await {
        Ok(Some((kind, bytes))) => {
            ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, "public, max-age=31536000, immutable".into())], bytes).into_response()
        }
        Ok(None) => StatusCode::NOT_FOUND.into_response(),
        Err(_) => StatusCode::SERVICE_UNAVAILABLE.into_response(),
    }
}
