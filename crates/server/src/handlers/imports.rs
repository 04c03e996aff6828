//! Imports: upload, preview, dry run, apply, refused rows.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::progress::Job;
use crate::state::App;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::HeaderMap;
use axum::http::header::CONTENT_LENGTH;
use axum::response::{IntoResponse, Response};
use futures::StreamExt;
use rinse_core::standing::FileState;
use rinse_core::table::{Encoding, Field};
use rinse_store::imports::{self, Decision, Fixes, Preview, Run};
use serde::Deserialize;
use std::path::PathBuf;
use tokio::io::AsyncWriteExt;
use utoipa::ToSchema;

/// The largest file taken: two million rows of a wide table.
const MOST_BYTES: usize = 1 << 30;

#[derive(Deserialize)]
pub(crate) struct Upload {
    name: String,
}

impl Upload {
    /// The file's name as it is kept.
    pub(crate) fn name(&self) -> String {
        self.name.chars().filter(|c| !c.is_control()).take(120).collect()
    }
}

fn too_large() -> ApiError {
    ApiError::Refused("The file is over 1 GB. Split it and import the parts one after the other.".into())
}

/// Writes a request's body to disk as it comes.
pub(crate) async fn kept(app: &App, headers: &HeaderMap, body: Body) -> Result<PathBuf, ApiError> {
    // What says beforehand that it is too large isn't taken at all.
    let said = headers.get(CONTENT_LENGTH).and_then(|l| l.to_str().ok()).and_then(|l| l.parse::<usize>().ok());
    if said.is_some_and(|bytes| bytes > MOST_BYTES) {
        return Err(too_large());
    }
    let raw = app.store.folder().join("imports").join(format!("upload-{:016x}", rand::random::<u64>()));
    let broken = |e: std::io::Error| ApiError::Broken(format!("The file could not be kept: {e}. Look whether the disk is full."));
    let mut file = tokio::fs::File::create(&raw).await.map_err(broken)?;
    let (mut stream, mut size) = (body.into_data_stream(), 0);
    while let Some(chunk) = stream.next().await {
        let part = match chunk {
            Ok(c) if size + c.len() <= MOST_BYTES => c,
            other => {
                let _ = tokio::fs::remove_file(&raw).await;
                return Err(match other {
                    Ok(_) => too_large(),
                    Err(e) => ApiError::Malformed(format!("the upload broke off ({e}). Try again")),
                });
            }
        };
        size += part.len();
        file.write_all(&part).await.map_err(broken)?;
    }
    file.flush().await.map_err(broken)?;
    Ok(raw)
}

/// Takes a file as the request's body, and stages it.
pub(crate) async fn upload(State(app): State<App>, who: Acting, Query(u): Query<Upload>, headers: HeaderMap, body: Body) -> Answer<Run> {
    let raw = kept(&app, &headers, body).await?;
    let id = imports::stage(&app.store, raw, u.name(), app.now(), Some(who.0)).await?;
    Ok(Json(app.store.read(move |c| imports::run(c, id)).await?))
}

#[utoipa::path(get, path = "/api/imports", responses((status = 200, body = Vec<Run>)))]
pub(crate) async fn runs(State(app): State<App>) -> Answer<Vec<Run>> {
    Ok(Json(app.store.read(imports::runs).await?))
}

/// A run with its first 100 rows as they would land.
#[utoipa::path(get, path = "/api/imports/{id}", params(("id" = i64, Path)), responses((status = 200, body = Preview)))]
pub(crate) async fn preview(State(app): State<App>, Path(id): Path<i64>) -> Answer<Preview> {
    let (store, now) = (app.store.clone(), app.now());
    Ok(Json(app.store.read(move |c| imports::preview(&store, c, imports::run(c, id)?, now)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct ImportDecision {
    mapping: Vec<Option<Field>>,
    header: bool,
    list: Option<String>,
    tag: Option<String>,
    consent: bool,
    /// They agreed to text messages to their numbers, too.
    #[serde(default)]
    texts: bool,
    /// The legal entity that they agreed with; empty: the first.
    #[serde(default)]
    entity: String,
    evidence: String,
    #[serde(default)]
    fixes: Fixes,
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct FileShape {
    encoding: Encoding,
    /// One of , ; | and the tab.
    delimiter: String,
}

/// Reads a staged file again, by another encoding or delimiter than those found out.
#[utoipa::path(post, path = "/api/imports/{id}/shape", params(("id" = i64, Path)), request_body = FileShape, responses((status = 204)))]
pub(crate) async fn shape(
    State(app): State<App>,
    _: Acting,
    Path(id): Path<i64>,
    Json(s): Json<FileShape>,
) -> Result<impl IntoResponse, ApiError> {
    let [delimiter @ (b',' | b';' | b'|' | b'\t')] = s.delimiter.as_bytes() else {
        return Err(ApiError::Malformed("the delimiter is a comma, a semicolon, a bar or a tab".into()));
    };
    imports::reshape(&app.store, id, s.encoding, *delimiter).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Saves the decision and runs the dry run; watch `import-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/imports/{id}/check", params(("id" = i64, Path)), request_body = ImportDecision, responses((status = 200, body = Run)))]
pub(crate) async fn check(State(app): State<App>, _: Acting, Path(id): Path<i64>, Json(d): Json<ImportDecision>) -> Answer<Run> {
    let d = Decision {
        mapping: d.mapping,
        header: d.header,
        list: d.list,
        tag: d.tag,
        consent: d.consent,
        texts: d.texts,
        entity: d.entity,
        evidence: d.evidence,
        fixes: d.fixes,
    };
    imports::decide(&app.store, id, d, app.now()).await?;
    let progress = app.jobs.sender(Job::Import(id));
    let told = progress.clone();
    let run = imports::check(&app.store, id, app.hosts(), move |n| {
        told.send_modify(|p| {
            p.running = true;
            p.done = n;
            p.words = "Checking".into();
        })
    })
    .await;
    progress.send_modify(|p| p.end(None));
    Ok(Json(run?))
}

/// Applies a checked run; watch `import-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/imports/{id}/apply", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn apply(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let run = app.store.read(move |c| imports::run(c, id)).await?;
    match run.state {
        FileState::Checked => start_apply(&app, id, Some(who.0)),
        FileState::Applied | FileState::Applying => {}
        _ => return Err(ApiError::Refused("Check the import before applying it.".into())),
    }
    Ok(axum::http::StatusCode::ACCEPTED)
}

/// Applies in the background, from where the run stands.
pub(crate) fn start_apply(app: &App, id: i64, person: Option<i64>) {
    let app = app.clone();
    let progress = app.jobs.sender(Job::Import(id));
    if !progress.begin(|p| p.words = "Applying".into()) {
        return;
    }
    tokio::spawn(async move {
        let total = app.store.read(move |c| imports::run(c, id)).await.map_or(0, |r| r.records);
        let told = progress.clone();
        let done = imports::apply(&app.store, id, app.now(), person, move |n| {
            told.send_modify(|p| {
                p.done = n;
                p.total = total;
            });
            told.now().words != "Cancelling"
        })
        .await;
        progress.send_modify(|p| p.end(done.err().map(|e| e.to_string())));
    });
}

/// Stops an import after the batch at hand; what was applied stays.
#[utoipa::path(post, path = "/api/imports/{id}/cancel", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn cancel(State(app): State<App>, _: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let run = app.store.read(move |c| imports::run(c, id)).await?;
    if run.state.can_be_changed() {
        app.store.write(move |c| imports::cancel(c, id)).await?;
    } else {
        app.jobs.sender(Job::Import(id)).send_modify(|p| p.words = "Cancelling".into());
    }
    Ok(axum::http::StatusCode::ACCEPTED)
}

/// The refused rows with a reason column.
pub(crate) async fn refused(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, ApiError> {
    file(&app, id, "refused", imports::refused_path(&app.store, id)).await
}

/// The rows that the base check has something to say of.
pub(crate) async fn findings(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, ApiError> {
    file(&app, id, "findings", imports::findings_path(&app.store, id)).await
}

async fn file(app: &App, id: i64, what: &str, path: PathBuf) -> Result<Response, ApiError> {
    app.store.read(move |c| imports::run(c, id)).await?;
    let bytes = tokio::fs::read(path).await.map_err(|_| {
        ApiError::Refused("Check the import first; then its rows are known. After a person was deleted they are kept no longer.".into())
    })?;
    Ok((
        [
            ("content-type", "text/csv; charset=utf-8".to_owned()),
            ("content-disposition", format!("attachment; filename=\"{what}-{id}.csv\"")),
        ],
        bytes,
    )
        .into_response())
}
