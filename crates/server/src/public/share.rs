//! A message as anybody may see it: with nothing of the recipient's in it, so anybody who opens it is nobody.

use super::page::{failed, unknown_link};
use crate::composing;
use crate::state::App;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{Html, IntoResponse, Response};
use rinse_core::id::MailingId;
use rinse_core::standing::MailingState;
use rinse_core::token::Kind;
use rinse_post::compose;
use rinse_store::{StoreError, letterheads, mailings};

/// Only what the message itself brings is shown: no script, no form, nothing that could act in our name.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data: https:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'; sandbox allow-popups allow-top-navigation-by-user-activation";

pub(super) async fn page(State(app): State<App>, Path(token): Path<String>) -> Response {
    let Some((mailing, arm)) = app.signer.read_link(Kind::Share, &token) else { return unknown_link() };
    let store = app.store.clone();
    let found = store
        .read(move |c| {
            let m = mailings::one(c, MailingId(mailing))?;
            let l = letterheads::of_mailing(c, MailingId(mailing))?;
            let html = composing::built(&m.draft, &l).map_err(|e| StoreError::Refused(e.to_string()))?.html;
            let sender = composing::sender(c, &l, app.base_url())?;
            Ok((l, m, html, sender))
        })
        .await;
    let (letterhead, m, html, sender) = match found {
        Ok(found) => found,
        Err(StoreError::Missing(_)) => return unknown_link(),
        Err(e) => return failed(&e),
    };
    // A draft is nobody's to see yet.
    if m.state == MailingState::Draft {
        return unknown_link();
    }
    let arm = usize::try_from(arm).unwrap_or(0).min(m.draft.subjects.len().saturating_sub(1));
    let sender = sender.of_variant(composing::own_senders(&m.draft).get(arm));
    let own = format!("/s/{token}");
    let shown = compose::shared(
        &html,
        (m.draft.subjects.get(arm).map_or("", String::as_str), arm),
        &sender,
        &format!("/f/{}", letterhead.id),
        &own,
    );
    match shown {
        Ok(html) => ([(header::CONTENT_SECURITY_POLICY, POLICY)], Html(html)).into_response(),
        Err(e) => {
            tracing::error!("a shared message could not be made: {e}");
            unknown_link()
        }
    }
}
