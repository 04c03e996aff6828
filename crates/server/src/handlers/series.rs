//! Series: outlines, what happens to them, and the people in them.

use super::Acting;
use crate::actions;
use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use rinse_core::address::Address;
use rinse_core::id::{ContactId, LetterheadId, ListId, SeriesId};
use rinse_core::series::{Outline, starters};
use rinse_core::standing::SeriesState;
use rinse_store::series::view::{self, Who};
use rinse_store::series::{self, entering};
use rinse_store::series_entry;
use rinse_store::{StoreError, contacts, tags};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// All series: those that run first.
#[utoipa::path(get, path = "/api/series", responses((status = 200, body = Vec<view::SeriesRow>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<view::SeriesRow>> {
    Ok(Json(app.store.read(view::rows).await?))
}

/// An outline to begin with.
#[derive(Serialize, ToSchema)]
pub(crate) struct SeriesStarter {
    key: &'static str,
    name: &'static str,
    words: &'static str,
    messages: usize,
}

/// The outlines to begin with.
#[utoipa::path(get, path = "/api/series/starters", responses((status = 200, body = Vec<SeriesStarter>)))]
pub(crate) async fn starters() -> Json<Vec<SeriesStarter>> {
    Json(
        starters::all()
            .into_iter()
            .map(|s| SeriesStarter { key: s.key, name: s.name, words: s.words, messages: s.messages.len() })
            .collect(),
    )
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewSeries {
    #[serde(default)]
    name: String,
    letterhead_id: LetterheadId,
    /// The key of an outline to begin with; none: an empty one.
    starter: Option<String>,
}

/// Makes a series as a draft.
#[utoipa::path(post, path = "/api/series", request_body = NewSeries, responses((status = 200, body = i64)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(n): Json<NewSeries>) -> Answer<i64> {
    let now = app.now();
    let made = move |c: &_| match &n.starter {
        Some(key) => series::from_starter(c, key, n.letterhead_id, now, Some(who.0)),
        None => series::save(c, None, &n.name, n.letterhead_id, &Outline::default(), now, Some(who.0)),
    };
    Ok(Json((app.store.write(made).await?).0))
}

/// A series with its figures.
#[utoipa::path(get, path = "/api/series/{id}", params(("id" = i64, Path)), responses((status = 200, body = view::SeriesView)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<SeriesId>) -> Answer<view::SeriesView> {
    Ok(Json(app.store.read(move |c| view::view(c, id)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ChangedSeries {
    name: String,
    letterhead_id: LetterheadId,
    outline: Outline,
}

/// Saves a draft, or changes a running series: see `effects` for what that does to those inside.
#[utoipa::path(put, path = "/api/series/{id}", params(("id" = i64, Path)), request_body = ChangedSeries, responses((status = 204)))]
pub(crate) async fn save(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<SeriesId>,
    Json(s): Json<ChangedSeries>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    if app.store.read(move |c| series::one(c, id)).await?.state == SeriesState::Running {
        actions::change_series(&app, id, s.name, s.outline, Some(who.0)).await?;
    } else {
        app.store.write(move |c| series::save(c, Some(id), &s.name, s.letterhead_id, &s.outline, now, Some(who.0))).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SeriesEffects {
    /// The changed outline in one sentence.
    words: String,
    /// Those inside who don't stay where they are.
    moves: Vec<series::SeriesMove>,
}

/// What a changed outline means, and does to those inside.
#[utoipa::path(post, path = "/api/series/{id}/effects", params(("id" = i64, Path)), request_body = Outline, responses((status = 200, body = SeriesEffects)))]
pub(crate) async fn effects(State(app): State<App>, Path(id): Path<SeriesId>, Json(outline): Json<Outline>) -> Answer<SeriesEffects> {
    let read = move |c: &_| {
        let moves = series::effects(c, id, &outline)?;
        Ok(SeriesEffects { words: outline.words(&series::named(c, &outline)?), moves })
    };
    Ok(Json(app.store.read(read).await?))
}

/// Starts a series.
#[utoipa::path(post, path = "/api/series/{id}/start", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn start(State(app): State<App>, who: Acting, Path(id): Path<SeriesId>) -> Result<impl IntoResponse, ApiError> {
    actions::start_series(&app, id, Some(who.0)).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct PauseSeries {
    pause: bool,
}

/// Pauses a series, or resumes it.
#[utoipa::path(post, path = "/api/series/{id}/pause", params(("id" = i64, Path)), request_body = PauseSeries, responses((status = 204)))]
pub(crate) async fn pause(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<SeriesId>,
    Json(p): Json<PauseSeries>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| series::pause(c, id, p.pause, now, Some(who.0))).await?;
    actions::due_now(&app, now).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Ends a series for good, or deletes a draft. Answers with how many people were taken out.
#[utoipa::path(delete, path = "/api/series/{id}", params(("id" = i64, Path)), responses((status = 200, body = usize)))]
pub(crate) async fn end(State(app): State<App>, who: Acting, Path(id): Path<SeriesId>) -> Answer<usize> {
    let now = app.now();
    Ok(Json(app.store.write(move |c| series::end(c, id, now, Some(who.0))).await?))
}

#[derive(Deserialize, IntoParams)]
pub(crate) struct WhichPeople {
    /// `inside`, `here-3`, `came-3`, `yes-3` (or another way of leaving a step), `out-through`; empty: everyone.
    #[serde(default)]
    who: String,
}

/// The newest 500 people of a part of a series.
#[utoipa::path(get, path = "/api/series/{id}/people", params(("id" = i64, Path), WhichPeople), responses((status = 200, body = Vec<view::SeriesPerson>)))]
pub(crate) async fn people(
    State(app): State<App>,
    Path(id): Path<SeriesId>,
    Query(q): Query<WhichPeople>,
) -> Answer<Vec<view::SeriesPerson>> {
    let who = Who::read(&q.who)?;
    Ok(Json(app.store.read(move |c| view::people(c, id, &who, false)).await?))
}

/// All people of a part of a series, as CSV.
pub(crate) async fn csv(
    State(app): State<App>,
    Path(id): Path<SeriesId>,
    Query(q): Query<WhichPeople>,
) -> Result<impl IntoResponse, ApiError> {
    let who = Who::read(&q.who)?;
    let people = app.store.read(move |c| view::people(c, id, &who, true)).await?;
    let rows = people.into_iter().map(|p| {
        vec![
            p.address,
            iso(p.entered_at),
            p.cause,
            p.at,
            iso(p.came_at),
            p.ended_at.map(iso).unwrap_or_default(),
            p.ended.unwrap_or_default(),
        ]
    });
    csv_file("series.csv", &["address", "entered", "by", "at the step", "came to it", "out", "why"], rows)
}

/// Who is put in: some people, or those of a list.
#[derive(Deserialize, ToSchema)]
pub(crate) struct PutIn {
    #[serde(default)]
    contacts: Vec<ContactId>,
    /// Addresses, as they are written.
    #[serde(default)]
    addresses: Vec<String>,
    list: Option<ListId>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct PutInDone {
    entered: usize,
    asked: usize,
    /// Addresses that nobody in the base has.
    unknown: Vec<String>,
}

/// Puts people into a series by hand.
#[utoipa::path(post, path = "/api/series/{id}/people", params(("id" = i64, Path)), request_body = PutIn, responses((status = 200, body = PutInDone)))]
pub(crate) async fn put_in(State(app): State<App>, who: Acting, Path(id): Path<SeriesId>, Json(p): Json<PutIn>) -> Answer<PutInDone> {
    if p.contacts.len() + p.addresses.len() > 10_000 {
        return Err(ApiError::Malformed("Put at most 10,000 people in at once, or take a list.".into()));
    }
    let now = app.now();
    let done = app
        .store
        .write(move |c| {
            let (mut ids, mut unknown) = (p.contacts, Vec::new());
            for given in &p.addresses {
                let known = match Address::parse(given) {
                    Ok(address) => contacts::id_of(c, &address.key)?,
                    Err(_) => None,
                };
                match known {
                    Some(id) => ids.push(id),
                    None => unknown.push(given.clone()),
                }
            }
            if let Some(list) = p.list {
                tags::name(c, tags::Kind::List, list.0)?;
                ids.extend(tags::on_list(c, list)?);
            }
            ids.sort_unstable();
            ids.dedup();
            if ids.is_empty() && unknown.is_empty() {
                return Err(StoreError::Refused("Say who: choose a list, or write addresses.".into()));
            }
            let entered = entering::put_in(c, id, &ids, now, Some(who.0))?;
            Ok(PutInDone { entered, asked: ids.len(), unknown })
        })
        .await?;
    actions::due_now(&app, now).await?;
    Ok(Json(done))
}

/// Takes somebody out of a series.
#[utoipa::path(delete, path = "/api/series/{id}/people/{contact}", params(("id" = i64, Path), ("contact" = i64, Path)), responses((status = 204)))]
pub(crate) async fn take_out(
    State(app): State<App>,
    who: Acting,
    Path((id, contact)): Path<(SeriesId, ContactId)>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            if !series_entry::take_out(c, id, contact, now, "taken out by hand")? {
                return Err(StoreError::Refused("They aren't in this series.".into()));
            }
            rinse_store::settings::audit(c, now, Some(who.0), "taken out of a series", "series", id.0, &format!("contact {contact}"))
        })
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The series that somebody is or was in.
#[utoipa::path(get, path = "/api/contacts/{id}/series", params(("id" = i64, Path)), responses((status = 200, body = Vec<view::SeriesOfPerson>)))]
pub(crate) async fn of_contact(State(app): State<App>, Path(id): Path<ContactId>) -> Answer<Vec<view::SeriesOfPerson>> {
    Ok(Json(app.store.read(move |c| view::of_person(c, id)).await?))
}
