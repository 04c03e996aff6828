//! Suppression lists and live rules: made, filled, looked over, ended.

use super::Acting;
use super::number::At;
use super::rules::{Effect, effects};
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::Instant;
use rinse_core::segment::Tree;
use rinse_core::suppression::Entry;
use rinse_store::clearing::forecast::{self, Suppressing};
use rinse_store::near_misses::{self, NearMiss, NearMissChoice};
use rinse_store::suppression::{self, Beside, Catch, Line, List, NewList};
use rinse_store::{Connection, StoreError, segments, settings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// All lists and rules.
#[utoipa::path(get, path = "/api/suppression", responses((status = 200, body = Vec<List>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<List>> {
    Ok(Json(app.store.read(suppression::all).await?))
}

/// Makes a list, or a live rule.
#[utoipa::path(post, path = "/api/suppression", request_body = NewList, responses((status = 200, body = i64)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(n): Json<NewList>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| suppression::make(c, &n, now, Some(who.0))).await?))
}

#[derive(Serialize, ToSchema)]
#[schema(as = SuppressionListView)]
pub(crate) struct ListView {
    list: List,
    /// The newest 500.
    lines: Vec<Line>,
    catches: Catch,
}

/// A list with its lines and whom it catches now.
#[utoipa::path(get, path = "/api/suppression/{id}", params(("id" = i64, Path)), responses((status = 200, body = ListView)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<i64>) -> Answer<ListView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                Ok(ListView {
                    list: suppression::one(c, id)?,
                    lines: suppression::lines(c, id, 500)?,
                    catches: suppression::catches(c, id, now)?,
                })
            })
            .await?,
    ))
}

#[derive(Deserialize, ToSchema)]
#[schema(as = NewSuppressionLines)]
pub(crate) struct NewLines {
    /// Addresses, domains or hashes, one a line.
    lines: String,
    #[serde(default)]
    reason: String,
    #[serde(default)]
    source: String,
    /// They end by themselves then.
    #[serde(default)]
    expires_at: Option<At>,
}

#[derive(Serialize, ToSchema)]
#[schema(as = LinesAdded)]
pub(crate) struct Added {
    new: u64,
    there_already: u64,
}

/// The lines that were sent, each read.
fn entries(lines: &str) -> Result<Vec<Entry>, ApiError> {
    let mut entries = Vec::new();
    for (i, line) in lines.lines().enumerate().map(|(i, l)| (i + 1, l.trim())).filter(|(_, l)| !l.is_empty()) {
        entries.push(Entry::parse(line).map_err(|e| ApiError::Refused(format!("Line {i}: {e} Nothing was added.")))?);
    }
    if entries.is_empty() {
        return Err(ApiError::Refused("Write at least one address or domain.".into()));
    }
    Ok(entries)
}

/// What suppressing would do.
#[derive(Serialize, ToSchema)]
pub(crate) struct SuppressionPreview {
    /// People in the base who would be on it.
    people: u64,
    /// What it does to the mailings of the coming four weeks.
    effects: Vec<Effect>,
}

/// Whom lines would catch, and what that does to the coming mailings. Nothing is saved.
#[utoipa::path(post, path = "/api/suppression/{id}/preview", params(("id" = i64, Path)), request_body = NewLines, responses((status = 200, body = SuppressionPreview)))]
pub(crate) async fn preview(State(app): State<App>, _: Acting, Path(id): Path<i64>, Json(n): Json<NewLines>) -> Answer<SuppressionPreview> {
    let now = app.now();
    let entries = entries(&n.lines)?;
    Ok(Json(
        app.store
            .read(move |c| {
                let list = suppression::one(c, id)?;
                let people = suppression::would_name(c, &entries)?;
                previewed(c, now, people.len() as u64, &Suppressing::Also { scope: list.scope, people })
            })
            .await?,
    ))
}

/// What another suppression does to the coming mailings, and how many people it is about.
fn previewed(c: &Connection, now: Instant, people: u64, other: &Suppressing) -> Result<SuppressionPreview, StoreError> {
    let (before, after) = (forecast::as_planned(c, now)?, forecast::forecast_if(c, now, None, None, Some(other))?);
    Ok(SuppressionPreview { people, effects: effects(&before, &after) })
}

/// What a live rule would do that isn't made yet. Nothing is saved.
#[utoipa::path(post, path = "/api/suppression/preview", request_body = NewList, responses((status = 200, body = SuppressionPreview)))]
pub(crate) async fn preview_rule(State(app): State<App>, _: Acting, Json(n): Json<NewList>) -> Answer<SuppressionPreview> {
    let now = app.now();
    let segment = n
        .segment_id
        .ok_or_else(|| ApiError::Refused("Choose the segment of the live rule: lines show what they do when they are written.".into()))?;
    Ok(Json(
        app.store
            .read(move |c| {
                let people = segments::people(c, &Tree::Segment { segment }, now)?;
                previewed(c, now, people.len() as u64, &Suppressing::Also { scope: n.scope, people })
            })
            .await?,
    ))
}

/// What ending a list would do.
#[utoipa::path(get, path = "/api/suppression/{id}/without", params(("id" = i64, Path)), responses((status = 200, body = SuppressionPreview)))]
pub(crate) async fn without(State(app): State<App>, Path(id): Path<i64>) -> Answer<SuppressionPreview> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                previewed(c, now, u64::try_from(suppression::catches(c, id, now)?.people).unwrap_or(0), &Suppressing::Without { list: id })
            })
            .await?,
    ))
}

/// Domains and people close to what is barred, for somebody to decide.
#[utoipa::path(get, path = "/api/suppression/near-misses", responses((status = 200, body = Vec<NearMiss>)))]
pub(crate) async fn near_misses(State(app): State<App>) -> Answer<Vec<NearMiss>> {
    Ok(Json(app.store.read(near_misses::all).await?))
}

/// Bars or dismisses one of them; the choice is remembered.
#[utoipa::path(post, path = "/api/suppression/near-misses", request_body = NearMissChoice, responses((status = 204)))]
pub(crate) async fn decide(State(app): State<App>, who: Acting, Json(choice): Json<NearMissChoice>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| near_misses::decide(c, &choice, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Adds lines to a list: all of them, or none when one can't be read.
#[utoipa::path(post, path = "/api/suppression/{id}/lines", params(("id" = i64, Path)), request_body = NewLines, responses((status = 200, body = Added)))]
pub(crate) async fn add(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(n): Json<NewLines>) -> Answer<Added> {
    let now = app.now();
    let entries = entries(&n.lines)?;
    if n.expires_at.is_some_and(|t| t.instant() <= now) {
        return Err(ApiError::Refused("The lines would have ended already: give a date to come, or none.".into()));
    }
    let total = entries.len() as u64;
    let new = app
        .store
        .write(move |c| {
            suppression::one(c, id)?;
            let source = if n.source.trim().is_empty() { "by hand" } else { n.source.trim() };
            let beside = Beside { reason: n.reason.trim(), source, expires_at: n.expires_at.map(At::instant), person: Some(who.0) };
            let mut new = 0;
            for e in &entries {
                new += u64::from(suppression::add(c, id, e, beside, now)?);
            }
            let named = entries.iter().take(20).map(Entry::text).collect::<Vec<_>>().join(", ");
            settings::audit(c, now, Some(who.0), "suppressed", "suppression", id, &format!("{new} lines: {named}"))?;
            Ok(new)
        })
        .await?;
    Ok(Json(Added { new, there_already: total - new }))
}

/// Takes a line off its list.
#[utoipa::path(delete, path = "/api/suppression/lines/{line}", params(("line" = i64, Path)), responses((status = 204)))]
pub(crate) async fn take_off(State(app): State<App>, who: Acting, Path(line): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| suppression::take_off(c, line, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Says that somebody looked a list over, and it is still right.
#[utoipa::path(post, path = "/api/suppression/{id}/looked-over", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn looked_over(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| suppression::looked_over(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Ends a list with all its lines.
#[utoipa::path(delete, path = "/api/suppression/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| suppression::end(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
