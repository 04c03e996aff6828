//! Clearance for mail that another system sends, and whom it must not write to.

use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::extract::{Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use rinse_core::Instant;
use rinse_core::suppression::hash;
use rinse_store::clearing::addresses::{self, Says, Sending, Told};
use rinse_store::history::reserving::{self, Reserve};
use rinse_store::{do_not_write, tables};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Addresses that are asked about at once; larger files are for `rinse clear`.
const MOST: usize = 100_000;

#[derive(Deserialize, ToSchema)]
pub(crate) struct ClearAddresses {
    #[serde(flatten)]
    sending: Sending,
    /// None: now.
    #[serde(default)]
    at: Option<i64>,
    #[serde(default)]
    #[schema(max_items = 100_000)]
    addresses: Vec<String>,
    /// Or a table (CSV, TSV) with a column of addresses, whatever it is called; a header is told by having none.
    #[serde(default)]
    file: Option<String>,
    /// Who may be written to now is reserved for a mailing of the other system, until it tells that it has gone: caps hold across both.
    #[serde(default)]
    reserve: Option<Reserve>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct ClearedAddresses {
    at: i64,
    rules_version: i64,
    cleared: usize,
    held: usize,
    barred: usize,
    unreadable: usize,
    /// Of those cleared: counted under the caps from now on.
    reserved: usize,
    /// In the order in which they were given.
    people: Vec<Told>,
}

/// Which of some addresses another system may write to: now, from when on, or not, and why; by the consent, the suppression lists, the caps and the
/// hours of here. Nothing is kept of it, unless those who may be are reserved.
#[utoipa::path(post, path = "/api/clear", request_body = ClearAddresses, responses((status = 200, body = ClearedAddresses)))]
pub(crate) async fn clear(State(app): State<App>, Json(asked): Json<ClearAddresses>) -> Answer<ClearedAddresses> {
    let at = asked.at.map_or(app.now(), Instant::of);
    let (reserve, sending) = (asked.reserve.clone(), asked.sending.clone());
    if reserve.is_some() && at < app.now() {
        return Err(ApiError::Refused("What lies behind can't be reserved. Leave the instant out, or name one that is to come.".into()));
    }
    let answers = app.store.read(move |c| {
        let mut all = asked.addresses;
        if let Some(file) = asked.file {
            all.extend(tables::addresses(file.as_bytes(), MOST + 1)?);
        }
        if all.len() > MOST {
            return Err(rinse_store::StoreError::Refused(format!(
                "Ask about {MOST} addresses at once at most; for more there is rinse clear --file."
            )));
        }
        addresses::clear(c, &asked.sending, at, &all)
    });
    let mut found = answers.await?;
    let reserved = match reserve {
        Some(r) => reserving::all(&app.store, r, sending, at, &mut found.told).await?,
        None => 0,
    };
    let n = |says| found.told.iter().filter(|t| t.says == says).count();
    Ok(Json(ClearedAddresses {
        at: at.millis(),
        rules_version: found.rules_version,
        cleared: n(Says::Cleared),
        held: n(Says::Held),
        barred: n(Says::Barred),
        unreadable: n(Says::Unreadable),
        reserved,
        people: found.told,
    }))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Since {
    /// Only whom it began for at this instant or later; none: everybody.
    #[serde(default)]
    since: Option<i64>,
    /// Addresses as the SHA-256 of their compared form, in hexadecimal.
    #[serde(default)]
    hashed: bool,
}

/// Whom another system must not write to, as CSV: who withdrew, complained, left a topic, whose address is retired or suppressed.
#[utoipa::path(get, path = "/api/do-not-write.csv", params(Since), responses((status = 200, body = String, content_type = "text/csv")))]
pub(crate) async fn list(State(app): State<App>, Query(q): Query<Since>) -> Result<Response, ApiError> {
    let since = Instant::of(q.since.unwrap_or(0));
    let now = app.now();
    let rows = app.store.read(move |c| do_not_write::since(c, since, now)).await?;
    let each = rows.into_iter().map(move |d| {
        let key = d.address.to_lowercase();
        let address = if q.hashed && key.contains('@') { hash(&key) } else { d.address };
        vec![address, d.reason.words().to_owned(), d.topic.unwrap_or_default(), d.entity, iso(d.since)]
    });
    csv_file("do-not-write.csv", &["address", "reason", "topic", "legal_entity", "since"], each)
}

/// Who is told of each change.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct ToldOfChanges {
    /// A webhook; null: nobody.
    webhook: Option<i64>,
}

/// The system that is told, as it happens, whom not to write to.
#[utoipa::path(get, path = "/api/do-not-write/webhook", responses((status = 200, body = ToldOfChanges)))]
pub(crate) async fn told(State(app): State<App>) -> Answer<ToldOfChanges> {
    Ok(Json(ToldOfChanges { webhook: app.store.read(do_not_write::webhook).await? }))
}

/// Chooses it: from now on each withdrawal, complaint, topic left, retirement and line of a suppression list is told to it, signed.
#[utoipa::path(put, path = "/api/do-not-write/webhook", request_body = ToldOfChanges, responses((status = 204)))]
pub(crate) async fn tell(State(app): State<App>, who: Acting, Json(t): Json<ToldOfChanges>) -> Result<StatusCode, ApiError> {
    let now = app.now();
    app.store.write(move |c| do_not_write::tell(c, t.webhook, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}
