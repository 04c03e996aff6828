//! The base check: its findings, their rows, their fixes; and what must not be brought up again.

use super::Acting;
use crate::csv_out::csv_file;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use rinse_core::base_check::Finding;
use rinse_store::base_check::{self, Found, Row};
use rinse_store::{Connection, StoreError, settings};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

fn look(c: &Connection, app: &App) -> rinse_store::Result<Vec<(Found, Vec<Row>)>> {
    let hosts = app.hosts();
    base_check::rows(c, &base_check::rules(c, &hosts)?)
}

fn asked(code: &str) -> Result<Finding, StoreError> {
    Finding::from_code(code).ok_or(StoreError::Missing("finding"))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct BaseCheck {
    people: i64,
    found: Vec<Found>,
    disposable: Vec<String>,
    /// Somebody can be asked which domains take mail.
    dns: bool,
}

/// What the check finds in the whole base, now.
#[utoipa::path(get, path = "/api/base-check", responses((status = 200, body = BaseCheck)))]
pub(crate) async fn all(State(app): State<App>) -> Answer<BaseCheck> {
    let a = app.clone();
    Ok(Json(
        app.store
            .read(move |c| {
                Ok(BaseCheck {
                    people: rinse_store::contacts::present(c)?,
                    found: look(c, &a)?.into_iter().map(|(found, _)| found).collect(),
                    disposable: base_check::disposable(c)?,
                    dns: a.hosts()("tern.example").is_some(),
                })
            })
            .await?,
    ))
}

async fn of(app: &App, finding: String) -> Result<Vec<Row>, ApiError> {
    let a = app.clone();
    Ok(app
        .store
        .read(move |c| {
            let finding = asked(&finding)?;
            Ok(look(c, &a)?.into_iter().find(|(f, _)| f.finding == finding).map(|(_, rows)| rows).unwrap_or_default())
        })
        .await?)
}

#[derive(Serialize, ToSchema)]
pub(crate) struct BaseRows {
    people: usize,
    /// The first 200.
    rows: Vec<Row>,
}

/// The people with a finding, and what its fix would do to each.
#[utoipa::path(get, path = "/api/base-check/{finding}", params(("finding" = String, Path)), responses((status = 200, body = BaseRows)))]
pub(crate) async fn rows(State(app): State<App>, Path(finding): Path<String>) -> Answer<BaseRows> {
    let mut rows = of(&app, finding).await?;
    let people = rows.len();
    rows.truncate(200);
    Ok(Json(BaseRows { people, rows }))
}

pub(crate) async fn csv(State(app): State<App>, Path(finding): Path<String>) -> Result<Response, ApiError> {
    let rows = of(&app, finding.clone()).await?;
    let cells =
        rows.into_iter().map(|r| vec![r.address, r.why, r.becomes.unwrap_or_default(), r.consent.words().into(), r.after.words().into()]);
    csv_file(&format!("{finding}.csv"), &["address", "why", "becomes", "consent", "consent after the fix"], cells)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Fix {
    finding: Finding,
    /// The people to fix; all with the finding when null.
    only: Option<Vec<i64>>,
}

/// Fixes a finding; returns the run, which can be taken back.
#[utoipa::path(post, path = "/api/base-check/fix", request_body = Fix, responses((status = 200, body = i64)))]
pub(crate) async fn fix(State(app): State<App>, who: Acting, Json(f): Json<Fix>) -> Answer<i64> {
    let mut rows = of(&app, f.finding.code().to_owned()).await?;
    if let Some(only) = f.only {
        let only: HashSet<i64> = only.into_iter().collect();
        rows.retain(|r| only.contains(&r.contact_id.0));
    }
    Ok(Json(base_check::fix(&app.store, f.finding, rows, app.now(), Some(who.0)).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Aside {
    finding: Finding,
    /// The domain, mailbox or address that is right as it stands; null brings everything back.
    text: Option<String>,
}

/// Puts a finding aside, or brings those put aside back.
#[utoipa::path(post, path = "/api/base-check/aside", request_body = Aside, responses((status = 204)))]
pub(crate) async fn aside(State(app): State<App>, who: Acting, Json(a): Json<Aside>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| match &a.text {
            Some(text) => base_check::set_aside(c, a.finding, text, now, Some(who.0)),
            None => base_check::bring_back(c, a.finding),
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Replaces the list of disposable domains.
#[utoipa::path(put, path = "/api/base-check/disposable", request_body = Vec<String>, responses((status = 204)))]
pub(crate) async fn save_disposable(
    State(app): State<App>,
    who: Acting,
    Json(names): Json<Vec<String>>,
) -> Result<impl IntoResponse, ApiError> {
    if names.len() > 100_000 {
        return Err(ApiError::Refused("These are over 100,000 domains. Keep those that people here use.".into()));
    }
    let now = app.now();
    app.store
        .write(move |c| {
            base_check::save_disposable(c, &names)?;
            settings::audit(c, now, Some(who.0), "disposable domains changed", "base check", 0, &format!("{} domains", names.len()))
        })
        .await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
