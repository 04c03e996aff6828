//! Messages as they are written: checked, shown, tried out; pieces and images to write them with.

use super::Acting;
use crate::composing;
use crate::engine::TestMessage;
use crate::error::{Answer, ApiError};
use crate::message;
use crate::state::App;
use crate::text;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::message::{Finding, placed};
use rinse_core::phone::Phone;
use rinse_core::text::Size;
use rinse_store::images::{self, Image};
use rinse_store::mailings::links;
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::parts::{self, Piece};
use rinse_store::{StoreError, letterheads, settings};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

#[derive(Deserialize, IntoParams)]
pub(crate) struct Checked {
    /// The draft's number, when it has one: a step of a series owes its own link.
    mailing: Option<MailingId>,
}

/// The message check of a draft as it stands in the editor.
#[utoipa::path(post, path = "/api/message-check", params(Checked), request_body = MailingDraft, responses((status = 200, body = Vec<Finding>)))]
pub(crate) async fn check(State(app): State<App>, Query(q): Query<Checked>, Json(d): Json<MailingDraft>) -> Answer<Vec<Finding>> {
    let now = app.now();
    let asked = app.clone();
    let known = message::Asked { mailing: q.mailing, ..message::Asked::default() };
    Ok(Json(app.on_text(move |c| message::check_draft(c, &asked, &d, known, now)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Seen {
    draft: MailingDraft,
    /// Whose values the placeholders take; none: nobody's, so that every default shows.
    contact: Option<ContactId>,
    #[serde(default)]
    arm: usize,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SeenView {
    subject: String,
    preheader: String,
    html: String,
    text: String,
    /// Of the HTML.
    bytes: usize,
    /// The text part was made from the body.
    derived: bool,
    /// How long a text message is.
    size: Option<Size>,
}

/// A draft as one person would see it.
#[utoipa::path(post, path = "/api/message-preview", request_body = Seen, responses((status = 200, body = SeenView)))]
pub(crate) async fn preview(State(app): State<App>, Json(s): Json<Seen>) -> Answer<SeenView> {
    let asked = app.clone();
    Ok(Json(
        app.on_text(move |c| {
            if text::is_one(&s.draft) {
                let (text, size) = text::shown(c, &asked, &s.draft, s.contact)?;
                let none = String::new;
                return Ok(SeenView { subject: none(), preheader: none(), html: none(), text, bytes: 0, derived: false, size: Some(size) });
            }
            let shown = message::shown(c, &asked, &s.draft, s.arm, s.contact)?;
            Ok(SeenView {
                size: None,
                subject: shown.subject,
                preheader: s.draft.preheader.clone(),
                bytes: shown.html.len(),
                html: shown.html,
                text: shown.text,
                derived: s.draft.text.trim().is_empty(),
            })
        })
        .await?,
    ))
}

/// A draft as a whole message (RFC 5322), to be opened elsewhere.
pub(crate) async fn eml(State(app): State<App>, Json(s): Json<Seen>) -> Result<Response, ApiError> {
    if text::is_one(&s.draft) {
        return Err(ApiError::Refused("A text message is no mail: there is no file of it.".into()));
    }
    let asked = app.clone();
    let made = app.on_text(move |c| message::tried(c, &asked, &s.draft, s.arm, s.contact, None)).await?;
    let headers = [(header::CONTENT_TYPE, "message/rfc822"), (header::CONTENT_DISPOSITION, "attachment; filename=\"message.eml\"")];
    Ok((headers, made.bytes).into_response())
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Try {
    #[serde(flatten)]
    seen: Seen,
    to: String,
    mailing: Option<MailingId>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Tried {
    /// What the host replied.
    reply: String,
    accepted: bool,
    /// It may be taken in some minutes.
    put_off: bool,
}

/// Sends a draft to one address, or a text message to one number, with real values. It is no send: no figure counts what is
/// done with it.
#[utoipa::path(post, path = "/api/message-test", request_body = Try, responses((status = 200, body = Tried)))]
pub(crate) async fn try_out(State(app): State<App>, who: Acting, Json(t): Json<Try>) -> Answer<Tried> {
    if text::is_one(&t.seen.draft) {
        return try_text(app, who, t).await;
    }
    let to = Address::parse(&t.to).map_err(|e| ApiError::Refused(format!("The test can't go to {:?}: {e}.", t.to)))?.normal;
    let now = app.now();
    let (asked, to_kept) = (app.clone(), to.clone());
    let kept = to.clone();
    let id = app
        .store
        .write(move |c| {
            let mailing = t.mailing.filter(|id| mailings::one(c, *id).is_ok());
            settings::test_send(c, mailing, &kept, now, Some(who.0))
        })
        .await?;
    let made = app.on_text(move |c| message::tried(c, &asked, &t.seen.draft, t.seen.arm, t.seen.contact, Some((&to_kept, id)))).await;
    let made = unmade_is_noted(&app, id, made).await?;
    hand_over(app, id, TestMessage::Mail(made), now).await
}

/// A test that couldn't be made says so on its record.
async fn unmade_is_noted<T>(app: &App, test: i64, made: Result<T, ApiError>) -> Result<T, ApiError> {
    if let Err(e) = &made {
        let words = e.to_string();
        app.store.write(move |c| settings::test_answered(c, test, &words)).await?;
    }
    made
}

async fn hand_over(app: App, test: i64, message: TestMessage, now: Instant) -> Answer<Tried> {
    let reply = app.engine.hand_over_test(&message, now).await?;
    let line = reply.line();
    let tried = Tried { reply: line.clone(), accepted: reply.accepted(), put_off: reply.put_off() };
    app.store.write(move |c| settings::test_answered(c, test, &line)).await?;
    Ok(Json(tried))
}

async fn try_text(app: App, who: Acting, t: Try) -> Answer<Tried> {
    if !app.engine.has_text_gateway() {
        return Err(ApiError::Refused("No text gateway is set up. Start Rinse with --text-gateway, as the guide says.".into()));
    }
    let (now, asked) = (app.now(), app.clone());
    let (letterhead, number, mailing) = (t.seen.draft.letterhead_id, t.to.clone(), t.mailing);
    let (id, to) = app
        .store
        .write(move |c| {
            let country = letterheads::one(c, letterhead)?.country;
            let to =
                Phone::parse(&number, country.as_deref()).map_err(|e| StoreError::Refused(format!("The test can't go there: {e}.")))?;
            let mailing = mailing.filter(|id| mailings::one(c, *id).is_ok());
            Ok((settings::test_send(c, mailing, to.as_str(), now, Some(who.0))?, to))
        })
        .await?;
    let made = app.on_text(move |c| text::tried(c, &asked, &t.seen.draft, t.seen.contact, (to.as_str(), id))).await;
    let made = unmade_is_noted(&app, id, made).await?;
    hand_over(app, id, TestMessage::Text(made), now).await
}

/// The placeholders there are.
#[utoipa::path(get, path = "/api/placeholders", responses((status = 200, body = Vec<String>)))]
pub(crate) async fn placeholders(State(app): State<App>) -> Answer<Vec<String>> {
    Ok(Json(app.store.read(message::placeholders).await?))
}

/// Pieces of source to put in, by purpose.
#[utoipa::path(get, path = "/api/message-parts", responses((status = 200, body = Vec<Piece>)))]
pub(crate) async fn all_parts(State(app): State<App>) -> Answer<Vec<Piece>> {
    Ok(Json(app.store.read(parts::all).await?))
}

/// Keeps a piece; one of the same name is replaced.
#[utoipa::path(post, path = "/api/message-parts", request_body = Piece, responses((status = 200, body = i64)))]
pub(crate) async fn save_part(State(app): State<App>, who: Acting, Json(p): Json<Piece>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| parts::save(c, &p, now, Some(who.0))).await?))
}

#[utoipa::path(delete, path = "/api/message-parts/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete_part(State(app): State<App>, _: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    app.store.write(move |c| parts::delete(c, id)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Uploaded images, the newest first.
#[utoipa::path(get, path = "/api/images", responses((status = 200, body = Vec<Image>)))]
pub(crate) async fn all_images(State(app): State<App>) -> Answer<Vec<Image>> {
    Ok(Json(app.store.read(images::all).await?))
}

#[derive(Deserialize)]
pub(crate) struct Named {
    name: String,
}

/// Keeps an image: its bytes as they are, its name beside.
pub(crate) async fn upload_image(State(app): State<App>, who: Acting, Query(n): Query<Named>, bytes: Bytes) -> Answer<Image> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| images::save(c, &n.name, &bytes, now, Some(who.0))).await?))
}

#[derive(Deserialize)]
pub(crate) struct Drawn {
    #[serde(default)]
    reported: bool,
}

/// What a drawn message may do: show itself, and nothing else.
const DRAWN: &str = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; form-action 'none'; frame-ancestors 'self'; sandbox";

/// A mailing's message with the count of people drawn behind each of its links.
pub(crate) async fn drawn(State(app): State<App>, Path(id): Path<MailingId>, Query(q): Query<Drawn>) -> Result<Response, ApiError> {
    let asked = app.clone();
    let html = app
        .store
        .read(move |c| {
            let m = mailings::one(c, id)?;
            let l = letterheads::of_mailing(c, id)?;
            let counts = links::counted(c, id, None)?;
            let html = composing::built(&m.draft, &l).map_err(|e| StoreError::Refused(e.to_string()))?.html;
            let most = counts.iter().map(|l| l.people + if q.reported { l.machine } else { 0 }).max().unwrap_or(0).max(1);
            let marked = placed(&html, |n| {
                counts.get(n).map_or_else(String::new, |l| {
                    let people = l.people + if q.reported { l.machine } else { 0 };
                    // The fuller, the more people: the figure stands there too, so nothing depends on the shade.
                    let shade = 12 + 60 * people / most;
                    format!(
                        "<span style=\"display:inline-block;margin-left:4px;padding:0 6px;border:1px solid #2c3a8f;font:600 13px sans-serif;color:#17212b;background:rgba(90,110,220,0.{shade:02})\">{people}</span>"
                    )
                })
            })
            .map_err(|e| StoreError::Refused(e.to_string()))?;
            let sender = composing::sender(c, &l, asked.base_url())?;
            rinse_post::compose::shared(&marked, (m.draft.subjects.first().map_or("", String::as_str), 0), &sender, "#", "#")
                .map_err(|e| StoreError::Refused(e.to_string()))
        })
        .await?;
    Ok(([(header::CONTENT_SECURITY_POLICY, DRAWN), (header::CONTENT_TYPE, "text/html; charset=utf-8")], html).into_response())
}
