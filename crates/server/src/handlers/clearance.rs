//! Clearance: the sluice of a mailing, why one person gets it or doesn't, and the coming weeks.

use super::number::At;
use super::{Acting, rules as rule_handlers};
use crate::csv_out::csv_file;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::clearance::{Outcome, Reason};
use rinse_core::id::{ContactId, MailingId};
use rinse_core::standing::{MailingEvent, MailingState};
use rinse_store::clearing::forecast::{self, Forecast, Moved};
use rinse_store::clearing::person::{self, Explained};
use rinse_store::clearing::record::{self, Decision};
use rinse_store::delivery::ahead::{self, Ahead};
use rinse_store::{Connection, StoreError, clearing, contacts, mailings, suppression};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// A cap or a suppression list behind a step.
#[derive(Serialize, ToSchema)]
pub(crate) struct PartView {
    words: String,
    people: u64,
    without_it: u64,
}

/// One step of the sluice with its words.
#[derive(Serialize, ToSchema)]
pub(crate) struct StepView {
    reason: Reason,
    words: &'static str,
    holds: bool,
    people: u64,
    without_it: u64,
    parts: Vec<PartView>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct SluiceView {
    mailing: String,
    state: MailingState,
    list: Option<String>,
    segment: Option<String>,
    at: i64,
    selected: u64,
    cleared: u64,
    held: u64,
    last_release: Option<Instant>,
    steps: Vec<StepView>,
    rules_version: i64,
    rules_at: i64,
    caps: Vec<rule_handlers::CapWords>,
    exceeds: bool,
}

fn instant_for(m: &mailings::Mailing, now: Instant) -> Instant {
    m.planned_at.map_or(now, Instant::of).max(now)
}

fn clearance_of(c: &Connection, m: &mailings::Mailing, now: Instant) -> rinse_store::Result<clearing::Clearance> {
    clearing::preview(c, m.id, instant_for(m, now), now, None)
}

/// What hosts would make of a mailing at its planned instant (now, when it has none): the mailbox groups it goes to, the share that is let in by what
/// they did with the mailings of the last 90 days, and what hosts wouldn't find of the sender.
#[utoipa::path(get, path = "/api/mailings/{id}/hosts", params(("id" = i64, Path)), responses((status = 200, body = Ahead)))]
pub(crate) async fn hosts(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Ahead> {
    let now = app.now();
    let told = app.store.read(move |c| {
        let m = mailings::one(c, id)?;
        let mut domains = HashMap::new();
        if m.draft.channel == Channel::Email {
            for d in &clearance_of(c, &m, now)?.decided {
                if !matches!(d.outcome, Outcome::Barred(_)) {
                    *domains.entry(d.domain).or_default() += 1;
                }
            }
        }
        ahead::of(c, &domains, m.draft.letterhead_id, now)
    });
    Ok(Json(told.await?))
}

/// The sluice of a mailing at its planned instant (now, when it has none).
#[utoipa::path(get, path = "/api/mailings/{id}/sluice", params(("id" = i64, Path)), responses((status = 200, body = SluiceView)))]
pub(crate) async fn sluice(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<SluiceView> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let m = mailings::one(c, id)?;
                let done = clearance_of(c, &m, now)?;
                let (s, names) = (done.sluice(), suppression::names(c)?);
                let named = |reason: Reason, index: usize| match reason {
                    Reason::Suppressed => done.lists.get(index).and_then(|id| names.get(id)).cloned().unwrap_or_default(),
                    _ => done.rules.rules.caps.get(index).map(rinse_core::caps::Cap::words).unwrap_or_default(),
                };
                let steps = s
                    .steps
                    .iter()
                    .map(|x| StepView {
                        reason: x.reason,
                        words: x.reason.words(),
                        holds: x.reason.holds(),
                        people: x.people,
                        without_it: x.without_it,
                        parts: x
                            .parts
                            .iter()
                            .map(|p| PartView { words: named(x.reason, p.index), people: p.people, without_it: p.without_it })
                            .collect(),
                    })
                    .collect();
                Ok(SluiceView {
                    at: instant_for(&m, now).millis(),
                    mailing: m.draft.name,
                    state: m.state,
                    list: m.list,
                    segment: m.segment,
                    selected: s.selected,
                    cleared: s.cleared,
                    held: s.held,
                    last_release: s.last_release,
                    steps,
                    caps: rule_handlers::cap_words(c, &done.rules.rules)?,
                    rules_version: done.rules.id,
                    rules_at: done.rules.at,
                    exceeds: m.draft.over_cap == rinse_core::clearance::OverCap::Exceed,
                })
            })
            .await?,
    ))
}

fn reason(step: &str) -> Result<Option<Reason>, StoreError> {
    if step == "cleared" {
        return Ok(None);
    }
    serde_json::from_value(serde_json::Value::String(step.to_owned())).map(Some).map_err(|_| StoreError::Missing("step"))
}

fn step_people(c: &Connection, id: MailingId, step: &str, now: Instant) -> rinse_store::Result<Vec<ContactId>> {
    Ok(clearance_of(c, &mailings::one(c, id)?, now)?.people(reason(step)?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct StepPeople {
    people: u64,
    /// The first 200, by address.
    first: Vec<contacts::ContactRow>,
}

/// The people of a step.
#[utoipa::path(get, path = "/api/mailings/{id}/sluice/{step}", params(("id" = i64, Path), ("step" = String, Path)), responses((status = 200, body = StepPeople)))]
pub(crate) async fn step(State(app): State<App>, Path((id, step)): Path<(MailingId, String)>) -> Answer<StepPeople> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let ids = step_people(c, id, &step, now)?;
                Ok(StepPeople { people: ids.len() as u64, first: contacts::by_ids(c, &ids)? })
            })
            .await?,
    ))
}

/// The people of a step as CSV.
pub(crate) async fn step_csv(State(app): State<App>, Path((id, step)): Path<(MailingId, String)>) -> Result<Response, ApiError> {
    let (now, name) = (app.now(), format!("{step}.csv"));
    let rows = app
        .store
        .read(move |c| {
            let ids = step_people(c, id, &step, now)?;
            let mut rows = Vec::with_capacity(ids.len());
            for chunk in ids.chunks(200) {
                rows.extend(contacts::by_ids(c, chunk)?);
            }
            Ok(rows)
        })
        .await?;
    csv_file(
        &name,
        &["address", "given_name", "family_name", "country"],
        rows.into_iter()
            .map(|r| vec![r.address, r.given_name.unwrap_or_default(), r.family_name.unwrap_or_default(), r.country.unwrap_or_default()]),
    )
}

#[derive(Deserialize, utoipa::IntoParams)]
pub(crate) struct AtInstant {
    /// UTC milliseconds; the mailing's own instant, when it isn't given.
    at: Option<At>,
}

/// A decision about a person and a mailing, and what was decided before.
#[derive(Serialize, ToSchema)]
pub(crate) struct Asked {
    address: String,
    mailing: String,
    explained: Explained,
    decisions: Vec<Decision>,
}

/// "May this person get the mailing at the instant?", with every rule's answer.
#[utoipa::path(get, path = "/api/mailings/{id}/clearance/{contact}", params(("id" = i64, Path), ("contact" = i64, Path), AtInstant), responses((status = 200, body = Asked)))]
pub(crate) async fn ask(
    State(app): State<App>,
    Path((id, contact)): Path<(MailingId, ContactId)>,
    Query(q): Query<AtInstant>,
) -> Answer<Asked> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let m = mailings::one(c, id)?;
                let own = m.started_at.or(m.planned_at).map_or(now, Instant::of);
                let at = q.at.map_or(own, At::instant);
                let row = contacts::by_ids(c, &[contact])?.pop().ok_or(StoreError::Missing("contact"))?;
                Ok(Asked {
                    address: row.address,
                    mailing: m.draft.name,
                    explained: person::explain(c, id, contact, at, now)?,
                    decisions: record::of_contact(c, contact, Some(id))?,
                })
            })
            .await?,
    ))
}

/// What was decided about a person, the newest first.
#[utoipa::path(get, path = "/api/contacts/{id}/decisions", params(("id" = i64, Path)), responses((status = 200, body = Vec<Decision>)))]
pub(crate) async fn decisions(State(app): State<App>, Path(id): Path<ContactId>) -> Answer<Vec<Decision>> {
    Ok(Json(app.store.read(move |c| record::of_contact(c, id, None)).await?))
}

#[derive(Deserialize, utoipa::IntoParams)]
pub(crate) struct MovedTo {
    /// As if this mailing (a draft, too) were planned …
    mailing: Option<MailingId>,
    /// … for this instant, in UTC milliseconds.
    at: Option<At>,
}

/// The coming four weeks: who gets what when, who waits, which mailings compete. With a mailing and an
/// instant: as if it were moved there; nothing is saved.
#[utoipa::path(get, path = "/api/forecast", params(MovedTo), responses((status = 200, body = Forecast)))]
pub(crate) async fn forecast_of(State(app): State<App>, Query(q): Query<MovedTo>) -> Answer<Forecast> {
    let now = app.now();
    let moved = match (q.mailing, q.at) {
        (Some(mailing), Some(at)) => Some(Moved { mailing, at: at.instant() }),
        (None, None) => None,
        _ => return Err(ApiError::Malformed("Give both the mailing that is moved and its new instant, or neither.".into())),
    };
    let played = move |c: &Connection| match moved {
        None => forecast::as_planned(c, now),
        moved => forecast::forecast(c, now, moved, None),
    };
    Ok(Json(app.store.read(played).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Replan {
    /// UTC milliseconds.
    at: At,
}

/// Moves a planned mailing to another instant.
#[utoipa::path(post, path = "/api/mailings/{id}/move", params(("id" = i64, Path)), request_body = Replan, responses((status = 204)))]
pub(crate) async fn replan(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<MailingId>,
    Json(r): Json<Replan>,
) -> Result<axum::http::StatusCode, ApiError> {
    let (now, at) = (app.now(), r.at.instant());
    if at < now {
        return Err(ApiError::Refused("That instant has passed: choose one to come.".into()));
    }
    app.store
        .write(move |c| {
            mailings::advance(c, id, MailingEvent::Moved, Some(at))?;
            rinse_store::settings::audit(c, now, Some(who.0), "mailing moved", "mailing", id.0, &format!("to {}", at.words()))
        })
        .await?;
    app.engine.wake();
    Ok(axum::http::StatusCode::NO_CONTENT)
}
