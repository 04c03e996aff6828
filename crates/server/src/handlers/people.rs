//! People one by one: added by hand, changed, taken out as a record; and what they bought.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use rinse_core::address::Address;
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, ListId};
use rinse_core::phone::Phone;
use rinse_core::table;
use rinse_core::{event, purchase};
use rinse_store::contacts::{self, Profile};
use rinse_store::departed::Departed;
use rinse_store::ledger::{self, Grant, Origin};
use rinse_store::purchases::{self, Taken};
use rinse_store::tags::{self, Kind};
use rinse_store::tombstones::{Tombstones, WAS_DELETED};
use rinse_store::{Connection, StoreError, erasure, events, fields, imports, letterheads, merges, numbers, runs, settings, texts};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewContact {
    address: String,
    #[serde(flatten)]
    profile: Profile,
    list: Option<ListId>,
    /// Where text messages go; empty: nowhere.
    #[serde(default)]
    phone: String,
    /// They agreed to get marketing mail; then the evidence says how.
    consent: bool,
    /// They agreed to text messages, too.
    #[serde(default)]
    texts: bool,
    /// The legal entity that they agreed with; empty: the first.
    #[serde(default)]
    entity: String,
    evidence: String,
}

/// Adds one person by hand, or by script. Consent needs its evidence.
#[utoipa::path(post, path = "/api/contacts", request_body = NewContact, responses((status = 200, body = i64)))]
pub(crate) async fn add(State(app): State<App>, who: Acting, Json(n): Json<NewContact>) -> Answer<i64> {
    let address = Address::parse(&n.address).map_err(|e| ApiError::Malformed(format!("{:?} is no address: {e}.", n.address)))?;
    if (n.consent || n.texts) && n.evidence.trim().len() < 5 {
        return Err(ApiError::Refused("Say how this person agreed to get mail (which form, when): consent needs its evidence.".into()));
    }
    let now = app.now();
    Ok(Json(
        (app.store
            .write(move |c| {
                if contacts::find(c, &address.key)?.is_some() {
                    return Err(StoreError::Refused(format!(
                        "{} is in the base already. Find the person and change what is new.",
                        address.normal
                    )));
                }
                if Tombstones::load(c)?.has(c, &address.key)? {
                    return Err(StoreError::Refused(format!("{} can't be added: {WAS_DELETED}.", address.normal)));
                }
                let entity = letterheads::entity(c, &n.entity)?;
                let departed = Departed::load(c)?;
                let ended = |grant| departed.ended(c, &address.key, grant);
                if n.consent && ended(Grant::email(&entity))?.is_some() || n.texts && ended(Grant::texts(&entity))?.is_some() {
                    return Err(StoreError::Refused(format!(
                        "{} ended what they had agreed to, as the journal says; only their own sign-up brings that back. They can be added without consent.",
                        address.normal
                    )));
                }
                let profile = n.profile.by_code()?;
                let id = contacts::add(c, &address, &profile, now)?;
                let evidence = n.evidence.trim().to_owned();
                let origin = Origin { source: "analyst", evidence, person: Some(who.0), entity, ..Origin::default() };
                if let Some(phone) = read_phone(c, &n.phone, profile.country.as_deref())? {
                    numbers::set(c, id, Some(&phone), now, &origin)?;
                }
                if n.consent {
                    ledger::act(c, id, now, Act::Agreed, &origin)?;
                }
                if n.texts {
                    texts::agreed(c, id, now, &origin)?;
                }
                if let Some(list) = n.list {
                    tags::add(c, Kind::List, list.0, &[id], now)?;
                }
                settings::audit(c, now, Some(who.0), "person added", "contact", id.0, "")?;
                Ok(id)
            })
            .await?).0,
    ))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct FieldChange {
    field_id: i64,
    /// Empty: the value is taken away.
    value: String,
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ContactChange {
    /// The whole profile: what is null here is missing afterwards.
    profile: Profile,
    /// The custom fields that change.
    fields: Vec<FieldChange>,
}

/// Changes a person's profile and fields. The address and consent are not among them.
#[utoipa::path(put, path = "/api/contacts/{id}", params(("id" = i64, Path)), request_body = ContactChange, responses((status = 204)))]
pub(crate) async fn change(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<ContactId>,
    Json(ch): Json<ContactChange>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            contacts::replace_profile(c, id, &ch.profile.by_code()?)?;
            runs::changed_by_hand(c, id)?;
            for f in &ch.fields {
                let field = fields::one(c, f.field_id)?;
                if f.value.trim().is_empty() {
                    fields::clear(c, id, field.id)?;
                } else {
                    let value = fields::read(&field.name, field.kind, &f.value).map_err(|e| StoreError::Refused(format!("{e}.")))?;
                    fields::set(c, id, field.id, &value, None, None)?;
                }
            }
            settings::audit(c, now, Some(who.0), "person changed", "contact", id.0, "")
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// A number as it was typed in; one without a country code is the person's country's, else the usual letterhead's.
fn read_phone(c: &Connection, text: &str, country: Option<&str>) -> rinse_store::Result<Option<Phone>> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    Phone::of(text, country, letterheads::home(c)?.as_deref())
        .map(Some)
        .map_err(|e| StoreError::Refused(format!("The phone number can't be used: {e}.")))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct PhoneChange {
    /// Empty: it is taken away.
    phone: String,
    /// They agreed to text messages to it, and how; empty: nothing is said of that.
    #[serde(default)]
    agreed: String,
    /// The legal entity that they agreed with; empty: the first.
    #[serde(default)]
    entity: String,
}

/// Changes where a person's text messages go, and records that they agreed to them. What was agreed for one number doesn't
/// hold for another.
#[utoipa::path(put, path = "/api/contacts/{id}/phone", params(("id" = i64, Path)), request_body = PhoneChange, responses((status = 204)))]
pub(crate) async fn change_phone(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<ContactId>,
    Json(p): Json<PhoneChange>,
) -> Result<impl IntoResponse, ApiError> {
    let agreed = p.agreed.trim().to_owned();
    if !agreed.is_empty() && agreed.len() < 5 {
        return Err(ApiError::Refused(
            "Say how this person agreed to text messages (which form, when): consent needs its evidence.".into(),
        ));
    }
    let now = app.now();
    app.store
        .write(move |c| {
            let country = contacts::profile(c, id)?.country;
            let phone = read_phone(c, &p.phone, country.as_deref())?;
            let origin = Origin { source: "analyst", person: Some(who.0), entity: letterheads::entity(c, &p.entity)?, ..Origin::default() };
            if numbers::set(c, id, phone.as_ref(), now, &origin)? {
                runs::changed_by_hand(c, id)?;
                settings::audit(c, now, Some(who.0), "phone number changed", "contact", id.0, "")?;
            }
            if agreed.is_empty() { Ok(()) } else { texts::agreed(c, id, now, &Origin { evidence: agreed, ..origin }) }
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// A person's whole record, to be given to them.
pub(crate) async fn record(State(app): State<App>, Path(id): Path<ContactId>) -> Result<Response, ApiError> {
    let now = app.now();
    let person = app.store.read(move |c| contacts::one(c, id, now)).await?;
    Ok(([("content-disposition", format!("attachment; filename=\"person-{id}.json\""))], Json(person)).into_response())
}

#[derive(Serialize, ToSchema)]
pub(crate) struct RefusedLine {
    line: u64,
    reason: String,
}

#[derive(Default, Serialize, ToSchema)]
pub(crate) struct FactsTaken {
    new: usize,
    /// There already, by their keys.
    known: usize,
    refused: usize,
    /// The first 100 of the refused.
    reasons: Vec<RefusedLine>,
}

/// Takes purchases in, as CSV with a header or as NDJSON. The same purchase twice changes nothing.
#[utoipa::path(post, path = "/api/purchases", request_body(content = String, content_type = "text/csv"), responses((status = 200, body = FactsTaken)))]
pub(crate) async fn purchases(State(app): State<App>, who: Acting, body: Bytes) -> Answer<FactsTaken> {
    Ok(Json(take_in_purchases(&app, &body, who.0).await?))
}

/// Takes a file of purchases in.
pub(crate) async fn take_in_purchases(app: &App, body: &[u8], who: i64) -> Result<FactsTaken, ApiError> {
    let rows = read(body, purchase::from_json, &purchase::COLUMNS, "category", purchase::from_record)?;
    take_in(app, rows, who, "purchases", |c, p| Ok((purchases::take(c, p)?, p.address.normal.clone()))).await
}

/// Takes in what people did elsewhere, as CSV with a header or as NDJSON. The same event twice changes nothing.
#[utoipa::path(post, path = "/api/events", request_body(content = String, content_type = "text/csv"), responses((status = 200, body = FactsTaken)))]
pub(crate) async fn events(State(app): State<App>, who: Acting, body: Bytes) -> Answer<FactsTaken> {
    let rows = read(&body, event::from_json, &event::COLUMNS, "about", |cells, columns| {
        let cell = |name: &str| columns.get(name).and_then(|i| cells.get(*i)).copied().unwrap_or_default();
        event::read([cell("key"), cell("address"), cell("at"), cell("name"), cell("about")])
    })?;
    Ok(Json(take_in(&app, rows, who.0, "events", |c, e| Ok((events::take(c, e)?, e.address.normal.clone()))).await?))
}

type Read<T> = (u64, Result<T, String>);

/// Facts taken in by one transaction.
const BATCH: usize = 500;

/// Takes facts in, in batches, so that nobody waits long for the writer.
async fn take_in<T: Send + 'static>(
    app: &App,
    rows: Vec<Read<T>>,
    who: i64,
    what: &'static str,
    take: fn(&Connection, &T) -> rinse_store::Result<(Taken, String)>,
) -> Result<FactsTaken, ApiError> {
    let now = app.now();
    let mut out = FactsTaken::default();
    let mut rows = rows.into_iter().peekable();
    while rows.peek().is_some() {
        let batch: Vec<Read<T>> = rows.by_ref().take(BATCH).collect();
        let taken = app
            .store
            .write(move |c| {
                let one = |(line, row): Read<T>| {
                    Ok(match row {
                        Err(reason) => Err((line, reason)),
                        Ok(fact) => match take(c, &fact)? {
                            (Taken::Nobody, address) => Err((line, format!("nobody here has the address {address}"))),
                            (taken, _) => Ok(taken),
                        },
                    })
                };
                batch.into_iter().map(one).collect::<rinse_store::Result<Vec<_>>>()
            })
            .await?;
        for row in taken {
            match row {
                Ok(Taken::New) => out.new += 1,
                Ok(_) => out.known += 1,
                Err((line, reason)) => {
                    out.refused += 1;
                    if out.reasons.len() < 100 {
                        out.reasons.push(RefusedLine { line, reason });
                    }
                }
            }
        }
    }
    let detail = format!("{} new, {} known, {} refused", out.new, out.known, out.refused);
    app.store.write(move |c| settings::audit(c, now, Some(who), &format!("{what} taken in"), what, 0, &detail)).await?;
    Ok(out)
}

/// The rows of a file with their line numbers, each read or refused.
fn read<T>(
    body: &[u8],
    from_json: fn(&str) -> Result<T, String>,
    needed: &[&'static str],
    more: &'static str,
    from_record: fn(&[&str], &HashMap<&'static str, usize>) -> Result<T, String>,
) -> Result<Vec<Read<T>>, ApiError> {
    let refused = |e: String| ApiError::Refused(e);
    let text = std::str::from_utf8(body).map_err(|_| refused("The file is not in UTF-8. Save it so and try again.".into()))?;
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('{') {
        let lines = (1..).zip(text.lines()).filter(|(_, l)| !l.trim().is_empty());
        return Ok(lines.map(|(n, l)| (n, from_json(l))).collect());
    }
    table::detect_encoding(body).map_err(|e| refused(e.to_string()))?;
    let mut rows = csv::ReaderBuilder::new().flexible(true).delimiter(table::detect_delimiter(text)).from_reader(text.as_bytes());
    let header = rows.headers().map_err(|e| refused(e.to_string()))?.clone();
    let columns = purchase::columns(&header.iter().collect::<Vec<_>>(), needed, more).map_err(refused)?;
    Ok(rows
        .records()
        .map(|r| match r {
            Ok(r) => (r.position().map_or(0, csv::Position::line), from_record(&r.iter().collect::<Vec<_>>(), &columns)),
            Err(e) => (e.position().map_or(0, csv::Position::line), Err(e.to_string())),
        })
        .collect())
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct MergeWith {
    /// The person that stays.
    into: ContactId,
}

/// Merges a person into another; returns the run, which can be taken back.
#[utoipa::path(post, path = "/api/contacts/{id}/merge", params(("id" = i64, Path)), request_body = MergeWith, responses((status = 200, body = i64)))]
pub(crate) async fn merge(State(app): State<App>, who: Acting, Path(id): Path<ContactId>, Json(m): Json<MergeWith>) -> Answer<i64> {
    let now = app.now();
    Ok(Json(
        app.store
            .write(move |c| {
                let run = runs::begin(c, now, Some(who.0), "merge", "merged two people by hand", None)?;
                merges::merge(c, run, id, m.into, now, Some(who.0))?;
                runs::finish(c, run, 1)?;
                settings::audit(c, now, Some(who.0), "person merged", "contact", m.into.0, "")?;
                Ok(run)
            })
            .await?,
    ))
}

/// Deletes a person at their wish. It can't be taken back.
#[utoipa::path(delete, path = "/api/contacts/{id}", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn erase(State(app): State<App>, who: Acting, Path(id): Path<ContactId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    let folder = app.store.folder().to_owned();
    // What they wrote is among the mail that was read.
    let address = app.store.read(move |c| contacts::address_of(c, id)).await?;
    let mailbox = app.engine.mailbox().clone();
    tokio::task::spawn_blocking(move || mailbox.forget(&address)).await.map_err(|_| StoreError::Stopped)?.map_err(StoreError::Io)?;
    app.store
        .write_first(move |c| {
            erasure::erase(c, id, now, Some(who.0))?;
            imports::forget_files(c, &folder)?;
            rinse_store::history::forget_files(c, &folder)
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
