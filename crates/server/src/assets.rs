//! The front end, embedded at build time; every other path is one of its pages.

use axum::http::{Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Assets;

pub(crate) async fn serve(method: Method, uri: Uri) -> Response {
    if !matches!(method, Method::GET | Method::HEAD) {
        return (StatusCode::NOT_FOUND, "There is no such door.").into_response();
    }
    let path = uri.path().trim_start_matches('/');
    let (file, cache) = match Assets::get(path).filter(|_| !path.is_empty()) {
        Some(f) if path.starts_with("assets/") => (Some((f, path)), "public, max-age=31536000, immutable"),
        Some(f) => (Some((f, path)), "no-cache"),
        None if path.starts_with("assets/") || path.starts_with("api/") => (None, ""),
        None => (Assets::get("index.html").map(|f| (f, "index.html")), "no-cache"),
    };
    match file {
        Some((f, _)) => {
            ([(header::CONTENT_TYPE, f.metadata.mimetype().to_owned()), (header::CACHE_CONTROL, cache.to_owned())], f.data.into_owned())
                .into_response()
        }
        None => (StatusCode::NOT_FOUND, "There is no such page.").into_response(),
    }
}
