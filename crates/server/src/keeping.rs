//! The layer of the API that keeps costly answers ([`crate::kept_answers`]).

use crate::kept_answers::Said;
use crate::state::App;
use axum::Router;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use rinse_store::kept_answers::{self, Answer};
use rinse_store::per_person;
use std::time::{Duration, Instant};
use tower::ServiceExt;

/// Larger answers aren't kept, and no page asks for one.
const LARGEST: usize = 4 << 20;

/// What asks about everybody. What somebody is at work on (a clearance, a forecast, a segment) is no part of it.
const PAGES: [&str; 10] = [
    "/api/delivery",
    "/api/growth",
    "/api/consent",
    "/api/domains",
    "/api/base-check",
    "/api/holdout",
    "/api/suppression/near-misses",
    "/api/trials/learned",
    "/api/upkeep/evidence",
    "/api/upkeep/machine-rules/origins",
];
/// So often it is looked whether something of a large base is to be counted though nobody asked.
const LOOKS: Duration = Duration::from_secs(300);

/// Counts what is a day old, of a large base, until Rinse ends.
pub(crate) async fn keep_counting(app: App, api: Router) {
    let mut closing = app.closing();
    loop {
        if let Err(e) = count_aged(&app, &api).await {
            tracing::warn!("what a large base shows could not be counted: {e}");
        }
        tokio::select! {
            () = tokio::time::sleep(LOOKS) => {}
            _ = closing.wait_for(|over| *over) => return,
        }
    }
}

async fn count_aged(app: &App, api: &Router) -> rinse_store::Result<()> {
    let large = app.store.read(per_person::is_large).await?;
    app.answers.set_large(large);
    if !large {
        return Ok(());
    }
    let now = app.now();
    if app.store.read(move |c| per_person::is_due(c, now)).await? {
        per_person::refresh(&app.store, now).await?;
    }
    for page in PAGES.into_iter().filter(|page| app.answers.aged(page, now.millis())) {
        if let Ok(request) = Request::get(page).header(header::HOST, "localhost").body(Body::empty()) {
            let Ok(answer) = api.clone().oneshot(request).await;
            if !answer.status().is_success() {
                tracing::warn!("{page} could not be counted: {}", answer.status());
            }
        }
    }
    Ok(())
}

/// Answers from what is kept, where it is.
pub(crate) async fn keep(State(app): State<App>, request: Request, next: Next) -> Response {
    let path = request.uri().path().to_owned();
    if request.method() != Method::GET {
        let answer = next.run(request).await;
        if answer.status().is_success() {
            let gone = app.answers.changed(&path);
            if !gone.is_empty() {
                let _ = app.store.write(move |c| kept_answers::forget(c, &gone)).await;
            }
        }
        return answer;
    }
    if !PAGES.contains(&path.as_str()) {
        return next.run(request).await;
    }
    let asked = request.uri().path_and_query().map_or(path, ToString::to_string);
    let Some((answer, again)) = app.answers.last(&asked, app.now().millis()) else { return count(&app, asked, request, next).await };
    if again {
        let mut same = Request::new(Body::empty());
        *same.uri_mut() = request.uri().clone();
        *same.headers_mut() = request.headers().clone();
        *same.extensions_mut() = request.extensions().clone();
        let threads = app.threads.clone();
        // Anybody who asked has their answer; this one goes on without them.
        tokio::spawn(async move {
            let (answers, key) = (app.answers.clone(), asked.clone());
            if threads.ask(async move { count(&app, asked, same, next).await.status() }).await != Ok(StatusCode::OK) {
                answers.not_counted(&key);
            }
        });
    }
    answer
}

/// Counts, and keeps what took long.
async fn count(app: &App, asked: String, request: Request, next: Next) -> Response {
    let (began, as_of) = (Instant::now(), app.now().millis());
    let answer = next.run(request).await;
    let took = began.elapsed();
    if answer.status() != StatusCode::OK || app.answers.is_of_now(&asked, took) {
        return answer;
    }
    let (head, body) = answer.into_parts();
    let Ok(body) = axum::body::to_bytes(body, LARGEST).await else { return StatusCode::INTERNAL_SERVER_ERROR.into_response() };
    let said = app.answers.said(&asked, &body, as_of, took);
    let kept = Answer { asked, as_of, took: u64::try_from(took.as_millis()).unwrap_or(u64::MAX), answer: body.to_vec() };
    let written = match said {
        Some(Said::Kept) => app.store.write(move |c| kept_answers::keep(c, &kept)).await,
        Some(Said::Forgotten) => app.store.write(move |c| kept_answers::forget(c, &[kept.asked])).await,
        None => Ok(()),
    };
    if let Err(e) = written {
        tracing::warn!("an answer could not be kept: {e}");
    }
    Response::from_parts(head, Body::from(body))
}
