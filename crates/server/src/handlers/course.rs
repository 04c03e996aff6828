//! What happens to a mailing from planning to the end, and the calendar of all of them.

use super::Acting;
use super::number::At;
use crate::actions;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use icalendar::{Calendar, Component, Event};
use rinse_core::id::MailingId;
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::mailings::MailingDraft;
use rinse_store::mailings::course::{self, CalendarEntry, Way};
use rinse_store::mailings::reach;
use rinse_store::{StoreError, letterheads};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Deserialize, ToSchema)]
pub(crate) struct When {
    /// None: now.
    at: Option<At>,
}

/// Plans the mailing for its whole audience.
#[utoipa::path(post, path = "/api/mailings/{id}/plan", params(("id" = i64, Path)), request_body = When, responses((status = 204)))]
pub(crate) async fn plan(
    State(app): State<App>,
    who: Acting,
    Path(id): Path<MailingId>,
    Json(w): Json<When>,
) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    actions::plan_mailing(&app, id, w.at.map(At::instant), Some(who.0)).await?;
    if w.at.is_none() && app.clock.is_demo() {
        app.engine.tick(now).await?;
    }
    Ok(axum::http::StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct AudienceAsked {
    draft: MailingDraft,
    /// None: now.
    at: Option<At>,
    /// The mailing itself, which is no other.
    mailing: Option<MailingId>,
}

/// An audience before any rule: how many, at which hosts, by which clocks, and what else they get around that time.
#[utoipa::path(post, path = "/api/audience", request_body = AudienceAsked, responses((status = 200, body = reach::AudienceLook)))]
pub(crate) async fn look(State(app): State<App>, Json(a): Json<AudienceAsked>) -> Answer<reach::AudienceLook> {
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let zone = letterheads::one(c, a.draft.letterhead_id)?.zone;
                a.draft.schedule.check().map_err(|e| StoreError::Refused(e.to_string()))?;
                let at = a.at.map_or(now, At::instant).max(now);
                reach::look(c, &a.draft.audience(), &a.draft.schedule, &zone, at, a.mailing.map(|id| id.0))
            })
            .await?,
    ))
}

async fn woken(app: &App) -> Result<StatusCode, ApiError> {
    app.engine.wake();
    if app.clock.is_demo() {
        app.engine.tick(app.now()).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Nothing more of it is handed over until it is resumed.
#[utoipa::path(post, path = "/api/mailings/{id}/pause", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn pause(State(app): State<App>, who: Acting, Path(id): Path<MailingId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| course::pause(c, id, now, Some(who.0))).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Goes on with a paused mailing.
#[utoipa::path(post, path = "/api/mailings/{id}/resume", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn resume(State(app): State<App>, who: Acting, Path(id): Path<MailingId>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| course::resume(c, id, now, Some(who.0))).await?;
    woken(&app).await
}

/// Stops what hasn't gone; returns how many people it would still have reached.
#[utoipa::path(post, path = "/api/mailings/{id}/cancel", params(("id" = i64, Path)), responses((status = 200, body = u64)))]
pub(crate) async fn cancel(State(app): State<App>, who: Acting, Path(id): Path<MailingId>) -> Answer<u64> {
    let now = app.now();
    let n = app.store.write(move |c| course::cancel(c, id, now, Some(who.0))).await?;
    woken(&app).await?;
    Ok(Json(n as u64))
}

/// How far a mailing is, by mail domain; the whole first.
#[utoipa::path(get, path = "/api/mailings/{id}/way", params(("id" = i64, Path)), responses((status = 200, body = Vec<Way>)))]
pub(crate) async fn way(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Vec<Way>> {
    Ok(Json(app.store.read(move |c| course::way(c, id)).await?))
}

#[derive(Deserialize, utoipa::IntoParams)]
pub(crate) struct Span {
    from: At,
    until: At,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct CalendarView {
    now: i64,
    entries: Vec<CalendarEntry>,
}

/// What the calendar has from one instant to another, at most 400 days.
#[utoipa::path(get, path = "/api/calendar", params(Span), responses((status = 200, body = CalendarView)))]
pub(crate) async fn calendar(State(app): State<App>, Query(s): Query<Span>) -> Answer<CalendarView> {
    let (from, until) = (s.from.instant(), s.until.instant());
    let until = until.min(from + 400 * DAY);
    let entries = app.store.read(move |c| course::calendar(c, from, until)).await?;
    Ok(Json(CalendarView { now: app.now().millis(), entries }))
}

/// What an entry of the calendar is called.
fn words(what: &str) -> &str {
    match what {
        "planned" => "goes out",
        "going" => "is going out",
        "went" => "went out",
        "pilot" => "pilot",
        "reading" => "reading of the trial",
        other => other,
    }
}

/// The calendar as iCalendar (RFC 5545), a year back and ahead, for other calendars to follow.
pub(crate) async fn ics(State(app): State<App>) -> Result<Response, ApiError> {
    let now = app.now();
    let entries = app.store.read(move |c| course::calendar(c, now + -365 * DAY, now + 365 * DAY)).await?;
    let stamp = |ms: i64| {
        let t = rinse_core::zone::stamp(Instant::of(ms));
        t.strftime("%Y%m%dT%H%M%SZ").to_string()
    };
    let mut calendar = Calendar::new();
    calendar.name("Mailings");
    for e in entries {
        let mut event = Event::new();
        event
            .uid(&format!("{}-{}-{}@rinse", e.mailing, e.what, e.at))
            .summary(&format!("{}: {}{}", e.name, words(&e.what), if e.paused { " (paused)" } else { "" }))
            .url(&format!("{}/mailings/{}", app.base_url().trim_end_matches('/'), e.mailing))
            .add_property("DTSTAMP", stamp(now.millis()))
            .add_property("DTSTART", stamp(e.at))
            .add_property("DTEND", stamp(e.until.unwrap_or(e.at + HOUR)));
        calendar.push(event.done());
    }
    Ok(([(header::CONTENT_TYPE, "text/calendar; charset=utf-8")], calendar.done().to_string()).into_response())
}
