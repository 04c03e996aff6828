//! How public pages look: the letterhead's name and colours, plain, small, without script.

use crate::templates::templates;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};
use minijinja::{Value, context};
use rinse_store::letterheads::{Letterhead, is_colour};

/// A topic with its box.
pub(crate) struct Topic {
    pub(crate) id: i64,
    pub(crate) name: String,
    pub(crate) on: bool,
}

/// Topics as a template takes them.
pub(crate) fn boxes(topics: &[Topic]) -> Value {
    topics.iter().map(|t| context! { id => t.id, name => t.name.as_str(), on => t.on }).collect()
}

/// A colour, or another when it isn't one: nothing else gets into the style.
fn colour(given: &str, or: &str) -> String {
    if is_colour(given) { given.to_owned() } else { or.to_owned() }
}

/// A page of a letterhead; of nobody's, when its link isn't known.
pub(crate) fn page(template: &str, look: Option<&Letterhead>, title: &str, more: Value) -> Response {
    let of = |pick: fn(&Letterhead) -> &str, or: &str| look.map_or_else(|| or.to_owned(), |l| colour(pick(l), or));
    let frame = context! {
        title,
        name => look.map_or("", |l| l.name.as_str()),
        ground => of(|l| &l.ground, "#ffffff"),
        ink => of(|l| &l.ink, "#17212b"),
        accent => of(|l| &l.accent, "#17212b"),
        ..more
    };
    match templates().get_template(template).and_then(|t| t.render(frame)) {
        Ok(html) => Html(html).into_response(),
        Err(e) => {
            tracing::error!("a public page could not be made: {e}");
            StatusCode::INTERNAL_SERVER_ERROR.into_response()
        }
    }
}

/// Forged, unknown and outlived links all get this.
pub(crate) fn unknown_link() -> Response {
    let words = "Nothing was changed. To stop mail, use the link in the newest message you have, or answer it.";
    (StatusCode::NOT_FOUND, page("plain.html", None, "This link is not one of ours any more", context! { words })).into_response()
}

/// The store failed: the person has to know that nothing holds yet.
pub(crate) fn failed(e: &rinse_store::StoreError) -> Response {
    tracing::error!("a public page failed: {e}");
    let words = "Please press the button again in a minute.";
    (StatusCode::SERVICE_UNAVAILABLE, page("plain.html", None, "That did not work", context! { words })).into_response()
}

/// The fields of a form.
pub(crate) fn fields(body: &[u8]) -> Vec<(String, String)> {
    url::form_urlencoded::parse(body).take(200).map(|(k, v)| (k.into_owned(), v.into_owned())).collect()
}
