//! Mailings and letterheads.

use super::Acting;
use crate::actions;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::IntoResponse;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::message::Finding;
use rinse_store::mailings::{self, Mailing, MailingDraft, MailingRow};
use rinse_store::settings::{self, Letterhead};
use rinse_store::tags;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/mailings", responses((status = 200, body = Vec<MailingRow>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<MailingRow>> {
    Ok(Json(app.store.read(mailings::all).await?))
}

#[utoipa::path(get, path = "/api/mailings/{id}", params(("id" = i64, Path)), responses((status = 200, body = Mailing)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<i64>) -> Answer<Mailing> {
    Ok(Json(app.store.read(move |c| mailings::one(c, id)).await?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct LinkName {
    position: i64,
    name: String,
    url: String,
}

/// The links of a mailing, under the names they are counted by.
#[utoipa::path(get, path = "/api/mailings/{id}/links", params(("id" = i64, Path)), responses((status = 200, body = Vec<LinkName>)))]
pub(crate) async fn links(State(app): State<App>, Path(id): Path<i64>) -> Answer<Vec<LinkName>> {
    let links = app.store.read(move |c| mailings::links(c, id)).await?;
    Ok(Json((0..).zip(links).map(|(position, l)| LinkName { position, name: l.name, url: l.url }).collect()))
}

/// Replaces the labels of a mailing; new ones are made.
#[utoipa::path(put, path = "/api/mailings/{id}/labels", params(("id" = i64, Path)), request_body = Vec<String>, responses((status = 204)))]
pub(crate) async fn label(
    State(app): State<App>,
    _: Acting,
    Path(id): Path<i64>,
    Json(names): Json<Vec<String>>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| tags::label(c, id, &names, now)).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

async fn write(app: App, id: Option<i64>, d: MailingDraft, who: i64) -> Answer<Mailing> {
    if d.name.trim().is_empty() {
        return Err(ApiError::Refused("Give the mailing a name.".into()));
    }
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                let made = mailings::save(c, id, &d, now, Some(who))?;
                settings::audit(
                    c,
                    now,
                    Some(who),
                    if id.is_none() { "mailing made" } else { "mailing changed" },
                    "mailing",
                    made,
                    &d.name,
                )?;
                mailings::one(c, made)
            })
            .await?,
    ))
}

#[utoipa::path(post, path = "/api/mailings", request_body = MailingDraft, responses((status = 200, body = Mailing)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(d): Json<MailingDraft>) -> Answer<Mailing> {
    write(app, None, d, who.0).await
}

#[utoipa::path(put, path = "/api/mailings/{id}", params(("id" = i64, Path)), request_body = MailingDraft, responses((status = 200, body = Mailing)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(d): Json<MailingDraft>) -> Answer<Mailing> {
    write(app, Some(id), d, who.0).await
}

/// The message check of a draft as it stands in the editor.
#[utoipa::path(post, path = "/api/message-check", request_body = MailingDraft, responses((status = 200, body = Vec<Finding>)))]
pub(crate) async fn check(State(app): State<App>, Json(d): Json<MailingDraft>) -> Answer<Vec<Finding>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| actions::check_draft(c, &d, now)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct When {
    /// None: now.
    at: Option<i64>,
}

/// Plans the mailing for its whole audience.
#[utoipa::path(post, path = "/api/mailings/{id}/plan", params(("id" = i64, Path)), request_body = When, responses((status = 204)))]
pub(crate) async fn plan(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(w): Json<When>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    actions::plan_mailing(&app, id, w.at.map(Instant), Some(who.0)).await?;
    if w.at.is_none() && app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[utoipa::path(get, path = "/api/letterheads", responses((status = 200, body = Vec<Letterhead>)))]
pub(crate) async fn letterheads(State(app): State<App>) -> Answer<Vec<Letterhead>> {
    Ok(Json(app.store.read(settings::letterheads).await?))
}

/// Makes or changes a letterhead (`id` 0 makes one). What was sent stays as it was.
#[utoipa::path(post, path = "/api/letterheads", request_body = Letterhead, responses((status = 200, body = i64)))]
pub(crate) async fn save_letterhead(State(app): State<App>, who: Acting, Json(l): Json<Letterhead>) -> Answer<i64> {
    if let Err(e) = Address::parse(&l.from_address) {
        return Err(ApiError::Refused(format!("The from address can't be used: {e}.")));
    }
    if l.name.trim().is_empty() || l.from_name.trim().is_empty() {
        return Err(ApiError::Refused("Give the letterhead a name and the name mail comes from.".into()));
    }
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                let id = settings::save_letterhead(c, &l, now)?;
                settings::audit(c, now, Some(who.0), "letterhead saved", "letterhead", id, &l.name)?;
                Ok(id)
            })
            .await?,
    ))
}
