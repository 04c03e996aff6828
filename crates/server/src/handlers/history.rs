//! Past mailings and what became of them: files, looked through, applied, taken back; and what another system tells as it happens.

use super::{Acting, imports};
use crate::csv_out::csv_file;
use crate::error::{Answer, ApiError};
use crate::progress::Job;
use crate::state::App;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use rinse_core::id::MailingId;
use rinse_core::standing::FileState;
use rinse_store::history::handing_out::{self, List};
use rinse_store::history::{self, Decision, LogFile, Outside, Preview};
use serde::Deserialize;
use utoipa::IntoParams;

/// Takes a file (CSV or NDJSON, also in gz or zip) as the request's body, and stages it.
pub(crate) async fn upload(
    State(app): State<App>,
    who: Acting,
    Query(u): Query<imports::Upload>,
    headers: HeaderMap,
    body: Body,
) -> Answer<LogFile> {
    let raw = imports::kept(&app, &headers, body).await?;
    let id = history::stage(&app.store, raw, u.name(), app.now(), Some(who.0)).await?;
    Ok(Json(app.store.read(move |c| history::one(c, id)).await?))
}

/// The files of past mailings, the newest first.
#[utoipa::path(get, path = "/api/history", responses((status = 200, body = Vec<LogFile>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<LogFile>> {
    Ok(Json(app.store.read(history::all).await?))
}

/// A file with its first 100 rows as they would land.
#[utoipa::path(get, path = "/api/history/{id}", params(("id" = i64, Path)), responses((status = 200, body = Preview)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<i64>) -> Answer<Preview> {
    let store = app.store.clone();
    Ok(Json(app.store.read(move |c| history::preview(&store, history::one(c, id)?)).await?))
}

/// The mailings that another system sent.
#[utoipa::path(get, path = "/api/outside-mailings", responses((status = 200, body = Vec<Outside>)))]
pub(crate) async fn outside(State(app): State<App>) -> Answer<Vec<Outside>> {
    Ok(Json(app.store.read(history::mailings).await?))
}

/// What is known of a mailing's sending elsewhere; null: Rinse sent it.
#[utoipa::path(get, path = "/api/mailings/{id}/outside", params(("id" = i64, Path)), responses((status = 200, body = Option<Outside>)))]
pub(crate) async fn of_mailing(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Option<Outside>> {
    Ok(Json(app.store.read(move |c| history::outside(c, id)).await?))
}

/// The lists of a mailing that another system sends: who is handed out, and what its log tells of them.
#[utoipa::path(get, path = "/api/mailings/{id}/hand-out", params(("id" = i64, Path)), responses((status = 200, body = Vec<List>)))]
pub(crate) async fn lists(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<Vec<List>> {
    Ok(Json(app.store.read(move |c| handing_out::lists(c, id)).await?))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// The arm's place; 0 is A.
    #[serde(default)]
    arm: i64,
    /// 0 the whole mailing, 1 the pilot of a trial, 2 its rollout, 3 those who get the other arms as a check of that.
    #[serde(default)]
    phase: i64,
    /// Of a round of an hour trial: those who were drawn to this hour of their day.
    hour: Option<i64>,
    /// Of a round: those of this time zone.
    #[param(max_length = 60)]
    zone: Option<String>,
    /// Numbers of custom fields that stand in columns of their own, with commas between.
    #[serde(default)]
    #[param(max_length = 500)]
    fields: String,
}

/// A list as CSV: address, key, arm, given and family name, country, of a round of an hour trial the hour, time zone and instant, and the fields that
/// are asked for.
#[utoipa::path(get, path = "/api/mailings/{id}/hand-out.csv", params(("id" = i64, Path), Which), responses((status = 200, body = String, content_type = "text/csv")))]
pub(crate) async fn list(State(app): State<App>, Path(id): Path<MailingId>, Query(w): Query<Which>) -> Result<Response, ApiError> {
    let fields: Vec<i64> = w
        .fields
        .split(',')
        .filter(|f| !f.is_empty())
        .map(|f| f.trim().parse().map_err(|_| ApiError::Malformed("fields are numbers with commas between".into())))
        .collect::<Result<_, _>>()?;
    let part = ["", "-pilot", "-rollout", "-check"].get(usize::try_from(w.phase).unwrap_or(0)).copied().unwrap_or("");
    let hour = w.hour.map_or_else(String::new, |h| format!("-{h:02}h"));
    let zone = w.zone.as_deref().map_or_else(String::new, |z| format!("-{}", z.replace(|c: char| !c.is_ascii_alphanumeric(), "-")));
    let name = format!("mailing-{id}{part}-{}{hour}{zone}.csv", rinse_core::trial::letter(usize::try_from(w.arm).unwrap_or(0)));
    let which = handing_out::Which { arm: w.arm, phase: w.phase, hour: w.hour, zone: w.zone };
    let mut rows = app.store.read(move |c| handing_out::people(c, id, &which, &fields)).await?;
    let header = rows.remove(0);
    let header: Vec<&str> = header.iter().map(String::as_str).collect();
    csv_file(&name, &header, rows.into_iter())
}

/// Saves the decision and looks through the file without changing anything; watch `history-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/history/{id}/check", params(("id" = i64, Path)), request_body = Decision, responses((status = 200, body = LogFile)))]
pub(crate) async fn check(State(app): State<App>, _: Acting, Path(id): Path<i64>, Json(d): Json<Decision>) -> Answer<LogFile> {
    history::decide(&app.store, id, d).await?;
    let progress = app.jobs.sender(Job::History(id));
    let told = progress.clone();
    let file = history::check(&app.store, id, move |n| {
        told.send_modify(|p| {
            p.running = true;
            p.done = n;
            p.words = "Looking through".into();
        });
    })
    .await;
    progress.send_modify(|p| p.end(None));
    Ok(Json(file?))
}

/// Applies a file that was looked through; watch `history-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/history/{id}/apply", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn apply(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let file = app.store.read(move |c| history::one(c, id)).await?;
    match file.state {
        FileState::Checked => start(&app, id, Some(who.0)),
        FileState::Applied | FileState::Applying => {}
        _ => return Err(ApiError::Refused("Look through the file before applying it.".into())),
    }
    Ok(StatusCode::ACCEPTED)
}

/// What is said while a file is stopped.
const STOPPING: &str = "Stopping";

/// Stops a file after the part at hand: what was applied stays and can be taken back. One that wasn't applied is put away.
#[utoipa::path(post, path = "/api/history/{id}/stop", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn stop(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let (file, now) = (app.store.read(move |c| history::one(c, id)).await?, app.now());
    if file.state == FileState::Applying {
        app.jobs.sender(Job::History(id)).send_modify(|p| p.words = STOPPING.into());
    } else {
        app.store.write(move |c| history::cancel(c, id, now, Some(who.0))).await?;
    }
    Ok(StatusCode::ACCEPTED)
}

/// Takes a file back; watch `history-{id}` in `/api/progress`. Who left by it has left.
#[utoipa::path(post, path = "/api/history/{id}/undo", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn undo(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| history::begin_undo(c, id, now)).await?;
    start_undo(&app, id, Some(who.0));
    Ok(StatusCode::ACCEPTED)
}

/// Goes on with what was cut short.
pub(crate) async fn resume(app: &App) {
    let Ok(files) = app.store.read(history::unfinished).await else { return };
    for file in files {
        if file.state == FileState::Applying {
            start(app, file.id, None);
        } else {
            start_undo(app, file.id, None);
        }
    }
}

fn start(app: &App, id: i64, person: Option<i64>) {
    let app = app.clone();
    let progress = app.jobs.sender(Job::History(id));
    if !progress.begin(|p| p.words = "Applying".into()) {
        return;
    }
    tokio::spawn(async move {
        let total = app.store.read(move |c| history::one(c, id)).await.map_or(0, |f| f.steps());
        let told = progress.clone();
        let done = history::apply(&app.store, id, app.now(), person, move |n| {
            told.send_modify(|p| {
                p.done = n;
                p.total = total;
            });
            told.now().words != STOPPING
        })
        .await;
        progress.send_modify(|p| p.end(done.err().map(|e| e.to_string())));
    });
}

fn start_undo(app: &App, id: i64, person: Option<i64>) {
    let app = app.clone();
    let progress = app.jobs.sender(Job::History(id));
    if !progress.begin(|p| p.words = "Taking back".into()) {
        return;
    }
    tokio::spawn(async move {
        let error = loop {
            let now = app.now();
            match app.store.write(move |c| history::undo_some(c, id, now, person)).await {
                Ok(true) => progress.send_modify(|p| p.done += 1),
                Ok(false) => break None,
                Err(e) => break Some(e.to_string()),
            }
        };
        progress.send_modify(|p| p.end(error));
    });
}

/// The refused rows with a reason column, as CSV: the first 100,000 (of a file that was looked through, 1,000).
pub(crate) async fn refused(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, ApiError> {
    let store = app.store.clone();
    let csv = app.store.read(move |c| history::refused(&store, c, id)).await?;
    Ok((
        [
            ("content-type", "text/csv; charset=utf-8".to_owned()),
            ("content-disposition", format!("attachment; filename=\"refused-{id}.csv\"")),
        ],
        csv,
    )
        .into_response())
}
