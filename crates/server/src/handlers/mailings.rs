//! Mailings: drafts, copies, the archive, links.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, header};
use axum::response::IntoResponse;
use rinse_core::id::MailingId;
use rinse_store::labels;
use rinse_store::mailings::links::Counted;
use rinse_store::mailings::{self, Mailing, MailingDraft, MailingRow, draft, links};
use rinse_store::responses::{self, Reply};
use rinse_store::settings;
use rinse_store::tags;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/mailings", responses((status = 200, body = Vec<MailingRow>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<MailingRow>> {
    Ok(Json(app.store.read(mailings::all).await?))
}

#[utoipa::path(get, path = "/api/mailings/{id}", params(("id" = i64, Path)), responses((status = 200, body = Mailing)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Mailing> {
    Ok(Json(app.store.read(move |c| mailings::one(c, id)).await?))
}

#[derive(Deserialize, utoipa::IntoParams)]
pub(crate) struct OfArm {
    /// Of this arm alone; 0 is A.
    arm: Option<i64>,
}

/// The links of a mailing by the place they stand in, with what people and machines did to each.
#[utoipa::path(get, path = "/api/mailings/{id}/links", params(("id" = i64, Path), OfArm), responses((status = 200, body = Vec<Counted>)))]
pub(crate) async fn links_of(State(app): State<App>, Path(id): Path<MailingId>, Query(q): Query<OfArm>) -> Answer<Vec<Counted>> {
    Ok(Json(app.store.read(move |c| links::counted(c, id, q.arm)).await?))
}

/// What people wrote back.
#[utoipa::path(get, path = "/api/mailings/{id}/replies", params(("id" = i64, Path)), responses((status = 200, body = Vec<Reply>)))]
pub(crate) async fn replies(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Vec<Reply>> {
    Ok(Json(app.store.read(move |c| responses::replies(c, id)).await?))
}

/// What of a kind has labels.
#[utoipa::path(get, path = "/api/labels/{on}", params(("on" = inline(tags::On), Path)), responses((status = 200, body = Vec<labels::Labelled>)))]
pub(crate) async fn labelled(State(app): State<App>, Path(on): Path<tags::On>) -> Answer<Vec<labels::Labelled>> {
    Ok(Json(app.store.read(move |c| labels::labelled(c, on)).await?))
}

/// Replaces the labels of a mailing, a series (with all its messages) or an hour trial (with its rounds); new ones are made.
#[utoipa::path(put, path = "/api/labels/{on}/{id}", params(("on" = inline(tags::On), Path), ("id" = i64, Path)), request_body = Vec<String>, responses((status = 204)))]
pub(crate) async fn put_labels(
    State(app): State<App>,
    _: Acting,
    Path((on, id)): Path<(tags::On, i64)>,
    Json(names): Json<Vec<String>>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| labels::label(c, on, id, &names, now)).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

async fn write(app: App, id: Option<i64>, version: Option<i64>, d: MailingDraft, who: i64) -> Answer<Mailing> {
    if d.name.trim().is_empty() {
        return Err(ApiError::Refused("Give the mailing a name.".into()));
    }
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                if let (Some(id), Some(version)) = (id, version) {
                    draft::must_be_current(c, MailingId(id), version, &d)?;
                }
                let made = mailings::save(c, id.map(MailingId), &d, now, Some(who))?;
                settings::audit(
                    c,
                    now,
                    Some(who),
                    if id.is_none() { "mailing made" } else { "mailing changed" },
                    "mailing",
                    made.0,
                    &d.name,
                )?;
                mailings::one(c, made)
            })
            .await?,
    ))
}

#[utoipa::path(post, path = "/api/mailings", request_body = MailingDraft, responses((status = 200, body = Mailing)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(d): Json<MailingDraft>) -> Answer<Mailing> {
    write(app, None, None, d, who.0).await
}

/// Saves a draft. With `If-Match` only the version it names: 412 says who saved another one meanwhile, and in what it differs.
#[utoipa::path(put, path = "/api/mailings/{id}", params(("id" = i64, Path), ("if-match" = Option<String>, Header)), request_body = MailingDraft, responses((status = 200, body = Mailing)))]
pub(crate) async fn save(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    headers: HeaderMap,
    Json(d): Json<MailingDraft>,
) -> Result<impl IntoResponse, ApiError> {
    let saved = write(app, Some(id), version_of(&headers)?, d, who.0).await?;
    Ok(([(header::ETAG, format!("\"{}\"", saved.version))], saved))
}

/// The version that a change is of (RFC 9110, section 13.1.1); none: it is made whatever stands there.
fn version_of(headers: &HeaderMap) -> Result<Option<i64>, ApiError> {
    let Some(given) = headers.get(header::IF_MATCH) else { return Ok(None) };
    let text = given.to_str().unwrap_or_default().trim();
    if text == "*" {
        return Ok(None);
    }
    let version = text.trim_start_matches("W/").trim_matches('"').parse();
    version.map(Some).map_err(|_| ApiError::Malformed("If-Match names a version as ETag gave it, or is *.".into()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Copied {
    name: String,
    /// A template rather than a draft.
    #[serde(default)]
    template: bool,
}

/// A copy as a new draft, or as a template to begin others from.
#[utoipa::path(post, path = "/api/mailings/{id}/copy", params(("id" = i64, Path)), request_body = Copied, responses((status = 200, body = i64)))]
pub(crate) async fn copy(State(app): State<App>, who: Acting, Path(id): Path<MailingId>, Json(x): Json<Copied>) -> Answer<i64> {
    if x.name.trim().is_empty() {
        return Err(ApiError::Refused("Give the copy a name.".into()));
    }
    let now = app.now();
    Ok(Json(
        (app.store
            .write(move |c| {
                let made = draft::copy(c, id, x.name.trim(), x.template, now, Some(who.0))?;
                settings::audit(c, now, Some(who.0), "mailing copied", "mailing", made.0, &format!("from mailing {id}"))?;
                Ok(made)
            })
            .await?)
            .0,
    ))
}

/// A text message to go along with an email: a draft of its own, with the same audience to begin with.
#[utoipa::path(post, path = "/api/mailings/{id}/companion", params(("id" = i64, Path)), responses((status = 200, body = i64)))]
pub(crate) async fn companion(State(app): State<App>, who: Acting, Path(id): Path<MailingId>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(
        (app.store
            .write(move |c| {
                let made = draft::companion(c, id, now, Some(who.0))?;
                settings::audit(
                    c,
                    now,
                    Some(who.0),
                    "mailing made",
                    "mailing",
                    made.0,
                    &format!("text message to go along with mailing {id}"),
                )?;
                Ok(made)
            })
            .await?)
            .0,
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Away {
    away: bool,
}

/// Puts it in the archive, or takes it out.
#[utoipa::path(put, path = "/api/mailings/{id}/archive", params(("id" = i64, Path)), request_body = Away, responses((status = 204)))]
pub(crate) async fn archive(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<MailingId>,
    Json(x): Json<Away>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            draft::archive(c, id, x.away, now)?;
            settings::audit(
                c,
                now,
                Some(who.0),
                if x.away { "put in the archive" } else { "taken out of the archive" },
                "mailing",
                id.0,
                "",
            )
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct LinkName {
    name: String,
}

/// Gives a link another name to be counted under.
#[utoipa::path(put, path = "/api/mailings/{id}/links/{position}", params(("id" = i64, Path), ("position" = i64, Path)), request_body = LinkName, responses((status = 204)))]
pub(crate) async fn rename_link(
    State(app): State<App>,
    who: Acting,
    Path((id, position)): Path<(MailingId, i64)>,
    Json(x): Json<LinkName>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            links::rename(c, id, position, &x.name)?;
            settings::audit(c, now, Some(who.0), "link renamed", "mailing", id.0, &x.name)
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// A line of two messages side by side; None: the other has a line more here.
#[derive(Serialize, ToSchema)]
pub(crate) struct SideBySide {
    left: Option<String>,
    right: Option<String>,
    same: bool,
}

/// Part by part, two messages side by side.
#[derive(Serialize, ToSchema)]
pub(crate) struct PartBeside {
    part: &'static str,
    lines: Vec<SideBySide>,
}

fn side_by_side(left: &str, right: &str) -> Vec<SideBySide> {
    // What differs in nearly every line is compared as far as there is time.
    let diff = similar::TextDiff::configure().timeout(Duration::from_secs(2)).diff_lines(left, right);
    let text = |v: &str| Some(v.trim_end_matches(['\r', '\n']).to_owned());
    let mut out: Vec<SideBySide> = Vec::new();
    for op in diff.ops() {
        let (mut gone, mut come) = (Vec::new(), Vec::new());
        for change in diff.iter_changes(op) {
            match change.tag() {
                similar::ChangeTag::Equal => out.push(SideBySide { left: text(change.value()), right: text(change.value()), same: true }),
                similar::ChangeTag::Delete => gone.push(text(change.value())),
                similar::ChangeTag::Insert => come.push(text(change.value())),
            }
        }
        // Lines that changed stand beside what they became.
        let n = gone.len().max(come.len());
        gone.resize(n, None);
        come.resize(n, None);
        out.extend(gone.into_iter().zip(come).map(|(left, right)| SideBySide { left, right, same: false }));
    }
    out
}

/// The sources of two mailings side by side.
#[utoipa::path(get, path = "/api/mailings/{id}/beside/{other}", params(("id" = i64, Path), ("other" = i64, Path)), responses((status = 200, body = Vec<PartBeside>)))]
pub(crate) async fn beside(State(app): State<App>, Path((id, other)): Path<(MailingId, MailingId)>) -> Answer<Vec<PartBeside>> {
    let (a, b) = app.store.read(move |c| Ok((mailings::one(c, id)?.draft, mailings::one(c, other)?.draft))).await?;
    Ok(Json(app.compute(move || beside_each_other(a, b)).await?))
}

fn beside_each_other(a: MailingDraft, b: MailingDraft) -> Vec<PartBeside> {
    let senders = |d: &MailingDraft| d.senders.iter().map(|s| format!("{} <{}>", s.name, s.reply_to)).collect::<Vec<_>>().join("\n");
    let parts = [
        ("senders", senders(&a), senders(&b)),
        ("subjects", a.subjects.join("\n"), b.subjects.join("\n")),
        ("preheader", a.preheader, b.preheader),
        ("html", a.html, b.html),
        ("text", a.text, b.text),
    ];
    parts.into_iter().map(|(part, a, b)| PartBeside { part, lines: side_by_side(&a, &b) }).collect()
}
