//! Scores that Rinse keeps, and a try of their rules on the past year.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::IntoResponse;
use rinse_core::id::ContactId;
use rinse_core::reaction::Reaction;
use rinse_core::score::can_be_given;
use rinse_store::reactions::past::{self, Tried};
use rinse_store::scores;
use rinse_store::uses;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// All scores.
#[utoipa::path(get, path = "/api/scores", responses((status = 200, body = Vec<scores::Score>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<scores::Score>> {
    Ok(Json(app.store.read(scores::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewScore {
    /// None: a new one.
    id: Option<i64>,
    name: String,
    half_life_days: Option<f64>,
}

/// Makes or changes a score.
#[utoipa::path(post, path = "/api/scores", request_body = NewScore, responses((status = 200, body = i64)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Json(n): Json<NewScore>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| scores::save(c, n.id, &n.name, n.half_life_days, now, Some(who.0))).await?))
}

/// Deletes a score that nothing uses, with its entries.
#[utoipa::path(delete, path = "/api/scores/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| uses::delete_score(c, id, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Leader {
    contact: ContactId,
    address: String,
    score: f64,
}

/// The 50 people with the highest score.
#[utoipa::path(get, path = "/api/scores/{id}/leaders", params(("id" = i64, Path)), responses((status = 200, body = Vec<Leader>)))]
pub(crate) async fn leaders(State(app): State<App>, Path(id): Path<i64>) -> Answer<Vec<Leader>> {
    let now = app.now();
    let rows = app.store.read(move |c| scores::leaders(c, id, now)).await?;
    Ok(Json(rows.into_iter().map(|(contact, address, score)| Leader { contact: ContactId(contact), address, score }).collect()))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct TryScore {
    /// A reaction that isn't kept yet.
    draft: Option<Reaction>,
}

/// How the score's rules would have ranked those who bought, over the past year.
#[utoipa::path(post, path = "/api/scores/{id}/try", params(("id" = i64, Path)), request_body = TryScore, responses((status = 200, body = Tried)))]
pub(crate) async fn try_out(State(app): State<App>, _: Acting, Path(id): Path<i64>, Json(t): Json<TryScore>) -> Answer<Tried> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| past::try_score(c, id, t.draft.as_ref(), now)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ByHand {
    contact: ContactId,
    points: f64,
    why: String,
}

/// Gives points by hand, with the reason.
#[utoipa::path(post, path = "/api/scores/{id}/points", params(("id" = i64, Path)), request_body = ByHand, responses((status = 204)))]
pub(crate) async fn give(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(h): Json<ByHand>,
) -> Result<impl IntoResponse, ApiError> {
    if !can_be_given(h.points) || h.why.trim().is_empty() || h.why.chars().count() > 200 {
        return Err(ApiError::Malformed("Give between −1,000 and 1,000 points, not 0, and say why in up to 200 characters.".into()));
    }
    let now = app.now();
    app.store
        .write(move |c| {
            rinse_store::contacts::profile(c, h.contact)?;
            let from = scores::From { why: h.why.trim(), person: Some(who.0), ..scores::From::default() };
            scores::add(c, id, h.contact, now, h.points, &from)
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// A person's scores, with what they come from.
#[utoipa::path(get, path = "/api/contacts/{id}/scores", params(("id" = i64, Path)), responses((status = 200, body = Vec<scores::Scored>)))]
pub(crate) async fn of_contact(State(app): State<App>, Path(id): Path<ContactId>) -> Answer<Vec<scores::Scored>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| scores::of_contact(c, id, now)).await?))
}
