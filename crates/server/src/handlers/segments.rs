//! Segments, fields, tags and lists.

use super::Acting;
use crate::csv_out::csv_file;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use rinse_core::address::Address;
use rinse_core::id::{ContactId, SegmentId};
use rinse_core::segment::place::{GAZETTEER, Place};
use rinse_core::segment::{Explained, Field, FieldKind, Tree, explain};
use rinse_core::standing::SeriesState;
use rinse_store::contacts::look::{self, Look};
use rinse_store::fields::{FieldName, OwnField};
use rinse_store::segments::{self, Draft, Overlap, Part, Segment, person};
use rinse_store::settings::{self, Named, Tied};
use rinse_store::tags::{self, Kind};
use rinse_store::{Connection, StoreError, contacts, events, fields, mailings, purchases, uses};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[utoipa::path(get, path = "/api/segments", responses((status = 200, body = Vec<Segment>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<Segment>> {
    Ok(Json(app.store.read(segments::all).await?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SegmentView {
    segment: Segment,
    used_by: Vec<String>,
}

#[utoipa::path(get, path = "/api/segments/{id}", params(("id" = i64, Path)), responses((status = 200, body = SegmentView)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<SegmentId>) -> Answer<SegmentView> {
    Ok(Json(app.store.read(move |c| Ok(SegmentView { segment: segments::one(c, id)?, used_by: uses::of_segment(c, id)? })).await?))
}

async fn save(app: App, id: Option<i64>, d: Draft, who: i64) -> Answer<i64> {
    let now = app.now();
    Ok(Json(
        (app.store
            .write(move |c| {
                let made = segments::save(c, id.map(SegmentId), &d, now, Some(who))?;
                settings::audit(
                    c,
                    now,
                    Some(who),
                    if id.is_none() { "segment made" } else { "segment changed" },
                    "segment",
                    made.0,
                    d.name.trim(),
                )?;
                Ok(made)
            })
            .await?)
            .0,
    ))
}

#[utoipa::path(post, path = "/api/segments", request_body = Draft, responses((status = 200, body = i64)))]
pub(crate) async fn make(State(app): State<App>, who: Acting, Json(d): Json<Draft>) -> Answer<i64> {
    save(app, None, d, who.0).await
}

#[utoipa::path(put, path = "/api/segments/{id}", params(("id" = i64, Path)), request_body = Draft, responses((status = 200, body = i64)))]
pub(crate) async fn change(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(d): Json<Draft>) -> Answer<i64> {
    save(app, Some(id), d, who.0).await
}

/// Deletes a segment that nothing uses.
#[utoipa::path(delete, path = "/api/segments/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete(State(app): State<App>, who: Acting, Path(id): Path<SegmentId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            let name = segments::one(c, id)?.name;
            uses::delete_segment(c, id)?;
            settings::audit(c, now, Some(who.0), "segment deleted", "segment", id.0, &name)
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewName {
    name: String,
}

/// Writes the segment's people of now down as a segment of its own.
#[utoipa::path(post, path = "/api/segments/{id}/freeze", params(("id" = i64, Path)), request_body = NewName, responses((status = 200, body = i64)))]
pub(crate) async fn freeze(State(app): State<App>, who: Acting, Path(id): Path<SegmentId>, Json(n): Json<NewName>) -> Answer<i64> {
    // Whoever asked may leave; what was begun comes to its end.
    tokio::spawn(async move { frozen(&app, id, n.name, who.0).await }).await.map_err(|_| StoreError::Broke)?
}

/// People that are put into a frozen copy in one change.
const FROZEN_AT_ONCE: usize = 5_000;

async fn frozen(app: &App, id: SegmentId, name: String, who: i64) -> Answer<i64> {
    let now = app.now();
    let people = app.store.read(move |c| segments::people(c, &Tree::Segment { segment: id }, now)).await?;
    let called = name.clone();
    let frozen = app.store.write(move |c| segments::begin_frozen(c, id, &called, now, Some(who))).await?;
    for some in people.chunks(FROZEN_AT_ONCE) {
        let some = some.to_vec();
        app.store.write(move |c| segments::add_frozen(c, frozen, &some)).await?;
    }
    let done = move |c: &Connection| {
        segments::end_frozen(c, frozen)?;
        settings::audit(c, now, Some(who), "segment frozen", "segment", frozen.0, name.trim())
    };
    app.store.write(done).await?;
    Ok(Json(frozen.0))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct OutsideTaken {
    segment: SegmentId,
    people: usize,
    /// Lines that are the address of nobody here, or no address; the first 100.
    unknown: Vec<String>,
    unknown_count: usize,
}

/// Replaces the people of a segment kept outside by the addresses in the body, one a line; made when
/// there is none of that name.
#[utoipa::path(put, path = "/api/segments/outside/{name}", params(("name" = String, Path)), request_body(content = String, content_type = "text/plain"), responses((status = 200, body = OutsideTaken)))]
pub(crate) async fn outside(State(app): State<App>, who: Acting, Path(name): Path<String>, body: String) -> Answer<OutsideTaken> {
    let name = name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 120 {
        return Err(ApiError::Refused("Give the segment a name of at most 120 characters.".into()));
    }
    if body.trim().is_empty() {
        return Err(ApiError::Refused("The file is empty; nothing was replaced. To end the segment, delete it.".into()));
    }
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                let (mut found, mut out) =
                    (Vec::new(), OutsideTaken { segment: SegmentId(0), people: 0, unknown: vec![], unknown_count: 0 });
                for line in body.lines().map(str::trim).filter(|l| !l.is_empty()) {
                    let there = match Address::parse(line) {
                        Ok(a) => contacts::find(c, &a.key)?.map(|(id, ..)| id),
                        Err(_) => None,
                    };
                    match there {
                        Some(id) => found.push(id),
                        None => {
                            out.unknown_count += 1;
                            if out.unknown.len() < 100 {
                                out.unknown.push(line.chars().take(200).collect());
                            }
                        }
                    }
                }
                found.sort_unstable();
                found.dedup();
                out.people = found.len();
                out.segment = segments::replace_outside(c, &name, &found, now, Some(who.0))?;
                settings::audit(
                    c,
                    now,
                    Some(who.0),
                    "segment replaced from outside",
                    "segment",
                    out.segment.0,
                    &rinse_core::words::people(out.people as u64),
                )?;
                Ok(out)
            })
            .await?,
    ))
}

/// How many people a tree has, in words, with the first 20 of them.
#[utoipa::path(post, path = "/api/segments/look", request_body = Tree, responses((status = 200, body = Look)))]
pub(crate) async fn look(State(app): State<App>, Json(tree): Json<Tree>) -> Answer<Look> {
    let now = app.now();
    let store = app.store.clone();
    let look = tokio::task::spawn_blocking(move || look::look(&store, &tree, now, 20)).await;
    Ok(Json(look.map_err(|_| StoreError::Stopped)??))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct SplitBy {
    tree: Tree,
    field: Field,
}

/// Splits a tree's people by a field into parts that add up.
#[utoipa::path(post, path = "/api/segments/split", request_body = SplitBy, responses((status = 200, body = Vec<Part>)))]
pub(crate) async fn split(State(app): State<App>, Json(s): Json<SplitBy>) -> Answer<Vec<Part>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| segments::split(c, &s.tree, s.field, now)).await?))
}

/// How sets of people overlap.
#[utoipa::path(post, path = "/api/segments/overlap", request_body = Vec<Tree>, responses((status = 200, body = Overlap)))]
pub(crate) async fn overlap(State(app): State<App>, Json(sets): Json<Vec<Tree>>) -> Answer<Overlap> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| segments::overlap(c, &sets, now)).await?))
}

/// Why a person is or isn't meant, condition by condition.
#[utoipa::path(post, path = "/api/segments/explain/{contact}", params(("contact" = i64, Path)), request_body = Tree, responses((status = 200, body = Vec<Explained>)))]
pub(crate) async fn why(State(app): State<App>, Path(contact): Path<ContactId>, Json(tree): Json<Tree>) -> Answer<Vec<Explained>> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                tree.check().map_err(|e| StoreError::Refused(e.to_string()))?;
                let whole =
                    tree.resolve(&segments::known(c)?, &rinse_store::goals::known(c)?).map_err(|e| StoreError::Refused(e.to_string()))?;
                Ok(explain(&whole, &person::load(c, contact)?, now, &segments::names(c)?))
            })
            .await?,
    ))
}

/// A segment's people as CSV.
pub(crate) async fn people_csv(State(app): State<App>, Path(id): Path<SegmentId>) -> Result<Response, ApiError> {
    let now = app.now();
    let rows = app.store.read(move |c| contacts::export(c, &segments::condition(c, id, now)?)).await?;
    csv_file(&format!("segment-{id}.csv"), &contacts::EXPORTED, rows.into_iter())
}

/// Everything that conditions can refer to, for the builder.
#[derive(Serialize, ToSchema)]
pub(crate) struct Vocabulary {
    fields: Vec<FieldName>,
    lists: Vec<Tied>,
    tags: Vec<Tied>,
    /// On mailings.
    labels: Vec<Named>,
    /// Names of events that people did elsewhere.
    events: Vec<String>,
    topics: Vec<Tied>,
    segments: Vec<Tied>,
    mailings: Vec<Tied>,
    products: Vec<String>,
    categories: Vec<String>,
    places: Vec<Place>,
    goals: Vec<Tied>,
    scores: Vec<Tied>,
    /// Series that haven't ended.
    series: Vec<Tied>,
}

#[utoipa::path(get, path = "/api/vocabulary", responses((status = 200, body = Vocabulary)))]
pub(crate) async fn vocabulary(State(app): State<App>) -> Answer<Vocabulary> {
    Ok(Json(
        app.store
            .read(|c| {
                let (products, categories) = purchases::products(c)?;
                Ok(Vocabulary {
                    fields: fields::names(c)?,
                    lists: tags::names(c, Kind::List)?,
                    tags: tags::names(c, Kind::Tag)?,
                    labels: tags::all(c, Kind::Label)?,
                    events: events::names(c)?,
                    topics: rinse_store::topics::names(c)?,
                    segments: segments::all(c)?.into_iter().map(|s| Tied { id: s.id.0, name: s.name }).collect(),
                    mailings: mailings::all(c)?
                        .into_iter()
                        .filter(|m| m.started_at.is_some())
                        .map(|m| Tied { id: m.id.0, name: m.name })
                        .collect(),
                    products,
                    categories,
                    places: GAZETTEER.to_vec(),
                    goals: rinse_store::goals::all(c)?.into_iter().map(|g| Tied { id: g.id, name: g.name }).collect(),
                    scores: rinse_store::scores::all(c)?.into_iter().map(|s| Tied { id: s.id, name: s.name }).collect(),
                    series: rinse_store::series::all(c)?
                        .into_iter()
                        .filter(|s| s.state != SeriesState::Ended)
                        .map(|s| Tied { id: s.id.0, name: s.name })
                        .collect(),
                })
            })
            .await?,
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewField {
    name: String,
    kind: FieldKind,
}

/// Makes a field.
#[utoipa::path(post, path = "/api/fields", request_body = NewField, responses((status = 200, body = i64)))]
pub(crate) async fn make_field(State(app): State<App>, who: Acting, Json(f): Json<NewField>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                segments_taken(c, &f.name)?;
                let id = fields::named(c, &f.name, f.kind, now)?;
                settings::audit(c, now, Some(who.0), "field made", "field", id, f.name.trim())?;
                Ok(id)
            })
            .await?,
    ))
}

fn segments_taken(c: &rinse_store::Connection, name: &str) -> Result<(), StoreError> {
    let same = |f: &FieldName| f.name.to_lowercase() == name.trim().to_lowercase();
    if fields::names(c)?.iter().any(same) {
        return Err(StoreError::Refused(format!("There is a field called “{}” already. Choose another name.", name.trim())));
    }
    Ok(())
}

/// What can be named, renamed, merged and deleted on the words page.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Word {
    List,
    Tag,
    Label,
    Field,
}

fn kind(word: Word) -> Option<Kind> {
    match word {
        Word::List => Some(Kind::List),
        Word::Tag => Some(Kind::Tag),
        Word::Label => Some(Kind::Label),
        Word::Field => None,
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewWord {
    word: Word,
    name: String,
}

/// Lists, tags, labels and custom fields, with how many each holds.
#[derive(Serialize, ToSchema)]
pub(crate) struct CountedWords {
    fields: Vec<OwnField>,
    lists: Vec<Named>,
    tags: Vec<Named>,
    labels: Vec<Named>,
}

/// What people and mailings are told by, counted: of a large base row by row.
#[utoipa::path(get, path = "/api/words", responses((status = 200, body = CountedWords)))]
pub(crate) async fn words(State(app): State<App>) -> Answer<CountedWords> {
    let counted = |c: &rinse_store::Connection| {
        Ok(CountedWords {
            fields: fields::all(c)?,
            lists: tags::all(c, Kind::List)?,
            tags: tags::all(c, Kind::Tag)?,
            labels: tags::all(c, Kind::Label)?,
        })
    };
    Ok(Json(app.store.read(counted).await?))
}

/// Makes a list or a tag.
#[utoipa::path(post, path = "/api/words", request_body = NewWord, responses((status = 200, body = i64)))]
pub(crate) async fn make_word(State(app): State<App>, who: Acting, Json(n): Json<NewWord>) -> Answer<i64> {
    let Some(kind) = kind(n.word) else { return Err(ApiError::Malformed("a field needs its kind: use /api/fields".into())) };
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                if tags::names(c, kind)?.iter().any(|t| t.name.to_lowercase() == n.name.trim().to_lowercase()) {
                    return Err(StoreError::Refused(format!("There is one called “{}” already. Choose another name.", n.name.trim())));
                }
                let id = tags::named(c, kind, &n.name, now)?;
                settings::audit(c, now, Some(who.0), "made", if kind == Kind::List { "list" } else { "tag" }, id, n.name.trim())?;
                Ok(id)
            })
            .await?,
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct WordChange {
    word: Word,
    /// A new name.
    name: Option<String>,
    /// The one it is merged into.
    into: Option<i64>,
}

/// Renames a list, tag or field, or merges a list or tag into another.
#[utoipa::path(put, path = "/api/words/{id}", params(("id" = i64, Path)), request_body = WordChange, responses((status = 204)))]
pub(crate) async fn change_word(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<i64>,
    Json(w): Json<WordChange>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            match (kind(w.word), &w.name, w.into) {
                (Some(k), None, Some(into)) => uses::merge_groups(c, k, id, into)?,
                (Some(k), Some(name), None) => tags::rename(c, k, id, name)?,
                (None, Some(name), None) => fields::rename(c, id, name)?,
                _ => return Err(StoreError::Refused("Give a new name, or what to merge it into.".into())),
            }
            let detail = w.name.clone().unwrap_or_else(|| format!("merged into {}", w.into.unwrap_or(0)));
            settings::audit(c, now, Some(who.0), "changed", &format!("{:?}", w.word).to_lowercase(), id, &detail)
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Deletes a list, tag or field that nothing uses.
#[utoipa::path(delete, path = "/api/words/{word}/{id}", params(("word" = Word, Path), ("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn delete_word(
    State(app): State<App>,
    who: Acting,
    Path((word, id)): Path<(Word, i64)>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            match kind(word) {
                Some(k) => uses::delete_group(c, k, id)?,
                None => uses::delete_field(c, id)?,
            }
            settings::audit(c, now, Some(who.0), "deleted", &format!("{word:?}").to_lowercase(), id, "")
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// What depends on a list, tag or field.
#[utoipa::path(get, path = "/api/words/{word}/{id}/used-by", params(("word" = Word, Path), ("id" = i64, Path)), responses((status = 200, body = Vec<String>)))]
pub(crate) async fn word_used_by(State(app): State<App>, Path((word, id)): Path<(Word, i64)>) -> Answer<Vec<String>> {
    Ok(Json(
        app.store
            .read(move |c| match kind(word) {
                Some(k) => uses::of_group(c, k, id),
                None => uses::of_field(c, id),
            })
            .await?,
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Members {
    word: Word,
    contacts: Vec<ContactId>,
    /// False: taken off.
    on: bool,
}

/// Puts people on a list or tag, or takes them off; returns how many it changed.
#[utoipa::path(post, path = "/api/words/{id}/people", params(("id" = i64, Path)), request_body = Members, responses((status = 200, body = usize)))]
pub(crate) async fn members(State(app): State<App>, who: Acting, Path(id): Path<i64>, Json(m): Json<Members>) -> Answer<usize> {
    let Some(kind) = kind(m.word) else { return Err(ApiError::Malformed("people are put on lists and tags".into())) };
    if m.contacts.len() > 10_000 {
        return Err(ApiError::Refused("At most 10,000 people at a time.".into()));
    }
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                let n = if m.on { tags::add(c, kind, id, &m.contacts, now)? } else { tags::take_off(c, kind, id, &m.contacts)? };
                let what = if m.on { "people put on" } else { "people taken off" };
                settings::audit(
                    c,
                    now,
                    Some(who.0),
                    what,
                    if kind == Kind::List { "list" } else { "tag" },
                    id,
                    &rinse_core::words::people(n as u64),
                )?;
                Ok(n)
            })
            .await?,
    ))
}
