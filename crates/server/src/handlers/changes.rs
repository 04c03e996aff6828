//! Runs of changes, and taking them back.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::progress::Job;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::IntoResponse;
use rinse_store::runs::{self, ChangeRun};
use rinse_store::undo;

/// The newest runs of changes.
#[utoipa::path(get, path = "/api/changes", responses((status = 200, body = Vec<ChangeRun>)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<Vec<ChangeRun>> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| runs::all(c, now)).await?))
}

#[utoipa::path(get, path = "/api/changes/{id}", params(("id" = i64, Path)), responses((status = 200, body = ChangeRun)))]
pub(crate) async fn one(State(app): State<App>, Path(id): Path<i64>) -> Answer<ChangeRun> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| runs::one(c, id, now)).await?))
}

/// Takes a run back for everyone to whom nothing happened since; watch `change-{id}` in `/api/progress`.
#[utoipa::path(post, path = "/api/changes/{id}/undo", params(("id" = i64, Path)), responses((status = 202)))]
pub(crate) async fn undo(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| undo::begin(c, id, now)).await?;
    start_undo(&app, id, Some(who.0));
    Ok(axum::http::StatusCode::ACCEPTED)
}

/// Goes on taking a run back, a part at a time, so that nobody waits long for the writer.
pub(crate) fn start_undo(app: &App, id: i64, person: Option<i64>) {
    let app = app.clone();
    let progress = app.jobs.sender(Job::Change(id));
    if !progress.begin(|p| p.words = "Taking back".into()) {
        return;
    }
    tokio::spawn(async move {
        let error = loop {
            let now = app.now();
            match app.store.write(move |c| undo::some(c, id, now, person)).await {
                Ok((done, false)) => progress.send_modify(|p| p.done = done),
                Ok((_, true)) => break None,
                Err(e) => break Some(e.to_string()),
            }
        };
        progress.send_modify(|p| p.end(error));
    });
}
