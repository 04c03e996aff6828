//! Letterheads, what a change of one reaches, and the keys that sign their mail.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::message::key_found;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::address::Address;
use rinse_core::id::LetterheadId;
use rinse_post::dkim::{self, Algorithm};
use rinse_store::letterheads::{self, Letterhead, Reach};
use rinse_store::settings;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/letterheads", responses((status = 200, body = Vec<Letterhead>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Letterhead>> {
    Ok(Json(app.store.read(letterheads::all).await?))
}

/// Makes or changes a letterhead (`id` 0 makes one). What was sent stays as it was.
#[utoipa::path(post, path = "/api/letterheads", request_body = Letterhead, responses((status = 200, body = i64)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Json(l): Json<Letterhead>) -> Answer<i64> {
    if let Err(e) = Address::parse(&l.from_address) {
        return Err(ApiError::Refused(format!("The from address can't be used: {e}.")));
    }
    if !l.reply_to.trim().is_empty()
        && let Err(e) = Address::parse(&l.reply_to)
    {
        return Err(ApiError::Refused(format!("The address for replies can't be used: {e}.")));
    }
    if l.name.trim().is_empty() || l.from_name.trim().is_empty() {
        return Err(ApiError::Refused("Give the letterhead a name and the name mail comes from.".into()));
    }
    let now = app.now();
    Ok(Json(
        (app.store
            .write(move |c| {
                let id = letterheads::save(c, &l, now)?;
                settings::audit(c, now, Some(who.0), "letterhead saved", "letterhead", id.0, &l.name)?;
                Ok(id)
            })
            .await?)
            .0,
    ))
}

/// The drafts and planned mailings that a change reaches.
#[utoipa::path(get, path = "/api/letterheads/{id}/reach", params(("id" = i64, Path)), responses((status = 200, body = Reach)))]
pub(crate) async fn reach(State(app): State<App>, Path(id): Path<LetterheadId>) -> Answer<Reach> {
    Ok(Json(app.store.read(move |c| letterheads::reach(c, id)).await?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct KeyView {
    #[serde(flatten)]
    key: letterheads::SigningKey,
    record_name: String,
    record: String,
    /// Is the record in DNS? None: nobody can be asked from here.
    found: Option<bool>,
    /// It can be put into the stand-in DNS from here.
    can_publish: bool,
}

/// The keys that sign a letterhead's mail, with the DNS record of each.
#[utoipa::path(get, path = "/api/letterheads/{id}/keys", params(("id" = i64, Path)), responses((status = 200, body = Vec<KeyView>)))]
pub(crate) async fn keys(State(app): State<App>, Path(id): Path<LetterheadId>) -> Answer<Vec<KeyView>> {
    let keys = app.store.read(move |c| letterheads::keys(c, id)).await?;
    let view = |key: letterheads::SigningKey| {
        let algorithm = Algorithm::from_code(&key.algorithm).unwrap_or(Algorithm::Rsa2048);
        let found = key_found(&app, &key);
        KeyView {
            record_name: dkim::record_name(&key.selector, &key.domain),
            record: dkim::record(algorithm, &key.public),
            found,
            can_publish: found == Some(false) && key.ended_at.is_none(),
            key,
        }
    };
    Ok(Json(keys.into_iter().map(view).collect()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewKey {
    /// `rsa` (2,048 bits) or `ed25519`.
    algorithm: String,
}

/// Makes a key; it signs from now on.
#[utoipa::path(post, path = "/api/letterheads/{id}/keys", params(("id" = i64, Path)), request_body = NewKey, responses((status = 200, body = i64)))]
pub(crate) async fn make_key(State(app): State<App>, who: Acting, Path(id): Path<LetterheadId>, Json(k): Json<NewKey>) -> Answer<i64> {
    let Some(algorithm) = Algorithm::from_code(&k.algorithm) else {
        return Err(ApiError::Refused("A key is of the kind rsa or ed25519.".into()));
    };
    // Making one takes a second of computing: not on a thread that answers others.
    let made = tokio::task::spawn_blocking(move || dkim::new_key(algorithm)).await.map_err(|e| ApiError::Broken(e.to_string()))?;
    let (private, public) = made.map_err(|e| ApiError::Broken(e.to_string()))?;
    let now = app.now();
    Ok(Json(app.store.write(move |c| letterheads::add_key(c, id, algorithm.code(), &private, &public, now, Some(who.0))).await?))
}

/// Ends a key: nothing is signed with it any more.
#[utoipa::path(delete, path = "/api/letterheads/{id}/keys/{key}", params(("id" = i64, Path), ("key" = i64, Path)), responses((status = 204)))]
pub(crate) async fn end_key(
    State(app): State<App>,
    who: Acting,
    Path((id, key)): Path<(LetterheadId, i64)>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| letterheads::end_key(c, id, key, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Puts a key's record into the stand-in DNS, as the keeper of the domain would.
#[utoipa::path(post, path = "/api/letterheads/{id}/keys/{key}/publish", params(("id" = i64, Path), ("key" = i64, Path)), responses((status = 204)))]
pub(crate) async fn publish(
    State(app): State<App>,
    who: Acting,
    Path((id, key)): Path<(LetterheadId, i64)>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    let found = app
        .store
        .write(move |c| {
            let found =
                letterheads::keys(c, id)?.into_iter().find(|k| k.id == key).ok_or(rinse_store::StoreError::Missing("signing key"))?;
            settings::audit(c, now, Some(who.0), "DNS record published", "letterhead", id.0, &found.selector)?;
            Ok(found)
        })
        .await?;
    let algorithm = Algorithm::from_code(&found.algorithm).unwrap_or(Algorithm::Rsa2048);
    let (name, record) = (dkim::record_name(&found.selector, &found.domain), dkim::record(algorithm, &found.public));
    match app.engine.network(|n| n.publish(&name, &record)) {
        Some(Ok(())) => Ok(StatusCode::NO_CONTENT),
        Some(Err(e)) => Err(ApiError::Broken(format!("The stand-in DNS failed: {e}"))),
        None => {
            Err(ApiError::Refused("The domain's own DNS can't be changed from here. Give the record to the person who keeps it.".into()))
        }
    }
}
