//! Contacts: the list, one person, lists and topics.

use super::Acting;
use crate::csv_out::csv_file;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use rinse_core::id::{ContactId, ListId, SegmentId};
use rinse_core::words;
use rinse_store::contacts::{self, Contact, ContactRow, Page, Sort};
use rinse_store::settings::{self, Named};
use rinse_store::{merges, runs, tags};
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};

#[derive(Deserialize, IntoParams)]
pub(crate) struct PageQuery {
    #[serde(default)]
    search: String,
    list: Option<ListId>,
    tag: Option<i64>,
    segment: Option<SegmentId>,
    status: Option<i64>,
    /// In this mail-load cell.
    load: Option<u8>,
    sort: Option<Sort>,
    #[serde(default)]
    descending: bool,
    #[serde(default)]
    page: u32,
}

impl PageQuery {
    fn asked(self) -> contacts::Query {
        contacts::Query {
            search: self.search,
            list: self.list,
            tag: self.tag,
            segment: self.segment,
            status: self.status,
            load: self.load,
            sort: self.sort.unwrap_or(Sort::AddedAt),
            descending: self.descending,
            page: self.page,
            size: 50,
        }
    }
}

/// The people the list shows, on all its pages, as CSV.
pub(crate) async fn csv(State(app): State<App>, Query(q): Query<PageQuery>) -> Result<Response, ApiError> {
    let (q, now) = (q.asked(), app.now());
    let rows = app.store.read(move |c| contacts::export_query(c, &q, now)).await?;
    csv_file("people.csv", &contacts::EXPORTED, rows.into_iter())
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct PutOn {
    word: PutWord,
    /// The list's or the tag's number; of no meaning for a sunset.
    #[serde(default)]
    id: i64,
}

#[derive(Deserialize, Clone, Copy, PartialEq, Eq, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum PutWord {
    List,
    Tag,
    /// No marketing, for silence, until they answer or sign up.
    Sunset,
}

/// Puts everybody the list shows, on all its pages, on a list or a tag, or sunsets them; returns the run, which can be taken back.
#[utoipa::path(post, path = "/api/contacts/put", params(PageQuery), request_body = PutOn, responses((status = 200, body = i64)))]
pub(crate) async fn put(State(app): State<App>, who: Acting, Query(q): Query<PageQuery>, Json(p): Json<PutOn>) -> Answer<i64> {
    let (q, now) = (q.asked(), app.now());
    let (kind, code) = match p.word {
        PutWord::List => (Some(tags::Kind::List), "list"),
        PutWord::Tag => (Some(tags::Kind::Tag), "tag"),
        PutWord::Sunset => (None, "sunset"),
    };
    let (ids, name) = app
        .store
        .read(move |c| {
            let name = kind.map_or_else(|| Ok("sunset".to_owned()), |kind| tags::name(c, kind, p.id))?;
            Ok((contacts::matching(c, &q, now)?, name))
        })
        .await?;
    let person = Some(who.0);
    let words = if kind.is_some() {
        format!("put {} on {name}", words::people(ids.len() as u64))
    } else {
        format!("sunset {}", words::people(ids.len() as u64))
    };
    let run = app
        .store
        .write(move |c| {
            let run = runs::begin(c, now, person, code, &words, None)?;
            settings::audit(c, now, person, "people put on", "change", run, &name)?;
            Ok(run)
        })
        .await?;
    let mut done = 0;
    for part in ids.chunks(1_000) {
        let part = part.to_vec();
        done += app
            .store
            .write(move |c| match kind {
                Some(kind) => merges::put_on(c, run, kind, p.id, &part, now),
                None => merges::sunset(c, run, &part, now, person),
            })
            .await?;
    }
    app.store.write(move |c| runs::finish(c, run, done)).await?;
    Ok(Json(run))
}

/// A page of the contact list.
#[utoipa::path(get, path = "/api/contacts", params(PageQuery), responses((status = 200, body = Page)))]
pub(crate) async fn page(State(app): State<App>, Query(q): Query<PageQuery>) -> Answer<Page> {
    let q = q.asked();
    let now = app.now();
    Ok(Json(app.store.read(move |c| contacts::page(c, &q, now)).await?))
}

/// One person, whole.
#[utoipa::path(get, path = "/api/contacts/{id}", params(("id" = i64, Path)), responses((status = 200, body = Contact)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<ContactId>) -> Answer<Contact> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| contacts::one(c, id, now)).await?))
}

/// Some people by their numbers (at most 200).
#[utoipa::path(post, path = "/api/contacts/by-ids", request_body = Vec<i64>, responses((status = 200, body = Vec<ContactRow>)))]
pub(crate) async fn by_ids(State(app): State<App>, Json(ids): Json<Vec<ContactId>>) -> Answer<Vec<ContactRow>> {
    Ok(Json(app.store.read(move |c| contacts::by_ids(c, &ids)).await?))
}

#[utoipa::path(get, path = "/api/lists", responses((status = 200, body = Vec<Named>)))]
pub(crate) async fn lists(State(app): State<App>) -> Answer<Vec<Named>> {
    Ok(Json(app.store.read(|c| tags::all(c, tags::Kind::List)).await?))
}

#[utoipa::path(get, path = "/api/topics", responses((status = 200, body = Vec<Named>)))]
pub(crate) async fn topics(State(app): State<App>) -> Answer<Vec<Named>> {
    Ok(Json(app.store.read(rinse_store::topics::all).await?))
}
