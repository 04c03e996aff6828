//! Reactions: the rules, whom they concerned, and the tasks they set.

use super::Acting;
use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::IntoResponse;
use rinse_core::id::MailingId;
use rinse_core::reaction::Reaction;
use rinse_store::reactions::{self, Which};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

#[derive(Deserialize, IntoParams)]
pub(crate) struct OfMailing {
    /// A mailing's own, with those that act everywhere.
    mailing: Option<MailingId>,
}

/// Reactions, those that have ended last.
#[utoipa::path(get, path = "/api/reactions", params(OfMailing), responses((status = 200, body = Vec<reactions::Kept>)))]
pub(crate) async fn all(State(app): State<App>, Query(q): Query<OfMailing>) -> Answer<Vec<reactions::Kept>> {
    Ok(Json(app.store.read(move |c| reactions::list(c, q.mailing.map_or(Which::All, Which::Of))).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewReaction {
    /// The one it takes the place of.
    id: Option<i64>,
    rule: Reaction,
    on: bool,
}

/// Makes a reaction, or puts it in another's place.
#[utoipa::path(post, path = "/api/reactions", request_body = NewReaction, responses((status = 200, body = i64)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Json(n): Json<NewReaction>) -> Answer<i64> {
    let now = app.now();
    let id = app.store.write(move |c| reactions::save(c, n.id, &n.rule, n.on, now, Some(who.0))).await?;
    app.engine.wake();
    Ok(Json(id))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct ReactionPage {
    reaction: reactions::Kept,
    people: Vec<reactions::Reacted>,
}

/// A reaction, and the newest 200 whom it concerned.
#[utoipa::path(get, path = "/api/reactions/{id}", params(("id" = i64, Path)), responses((status = 200, body = ReactionPage)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<i64>) -> Answer<ReactionPage> {
    let read = move |c: &_| Ok(ReactionPage { reaction: reactions::one(c, id)?, people: reactions::reacted(c, id, false)? });
    Ok(Json(app.store.read(read).await?))
}

/// All whom a reaction concerned, as CSV.
pub(crate) async fn csv(State(app): State<App>, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let people = app.store.read(move |c| reactions::reacted(c, id, true)).await?;
    let rows =
        people.into_iter().map(|p| vec![p.address, p.cause, iso(p.at), iso(p.done_at), p.taken_back_at.map(iso).unwrap_or_default()]);
    csv_file("reaction.csv", &["address", "cause", "happened", "acted", "taken back"], rows)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Switch {
    on: bool,
}

/// Switches a reaction on or off.
#[utoipa::path(post, path = "/api/reactions/{id}/switch", params(("id" = i64, Path)), request_body = Switch, responses((status = 204)))]
pub(crate) async fn switch(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(s): Json<Switch>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| reactions::switch(c, id, s.on, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Ends a reaction; what it did stays.
#[utoipa::path(delete, path = "/api/reactions/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| reactions::end(c, id, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Tasks that reactions set: the open ones, then the newest done.
#[utoipa::path(get, path = "/api/tasks", responses((status = 200, body = Vec<reactions::Task>)))]
pub(crate) async fn tasks(State(app): State<App>) -> Answer<Vec<reactions::Task>> {
    Ok(Json(app.store.read(reactions::tasks).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Settled {
    done: bool,
}

/// Marks a task as done, or as open again.
#[utoipa::path(post, path = "/api/tasks/{id}", params(("id" = i64, Path)), request_body = Settled, responses((status = 204)))]
pub(crate) async fn settle(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(s): Json<Settled>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| reactions::settle(c, id, s.done, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
