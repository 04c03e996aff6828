//! Findings: each mailing's figures and the rows behind them; by what messages have in common; side by side; saved views.

pub(crate) mod by;
pub(crate) mod cohorts;
pub(crate) mod compare;
pub(crate) mod done;
pub(crate) mod links;
pub(crate) mod revenue;
pub(crate) mod views;

use crate::csv_out::{csv_file, iso};
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use rinse_core::figure::{Definition, Figure};
use rinse_core::id::MailingId;
use rinse_store::figures;
use rinse_store::findings::{self, MailingFigures};
use rinse_store::mailings;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

#[derive(Deserialize, IntoParams)]
pub(crate) struct Period {
    /// How many days back; everything when absent.
    #[param(minimum = 1, maximum = 36_500)]
    days: Option<i64>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Findings {
    mailings: Vec<MailingFigures>,
    /// How many mailings there are without the filter.
    all: usize,
    /// What each figure counts, and of what, in the order in which they are told.
    catalogue: Vec<Definition>,
}

/// How the mailings did.
#[utoipa::path(get, path = "/api/findings", params(Period), responses((status = 200, body = Findings)))]
pub(crate) async fn all(State(app): State<App>, Query(p): Query<Period>) -> Answer<Findings> {
    let now = app.now().millis();
    let since = p.days.map_or(0, |d| now - d.clamp(1, 4000) * rinse_core::DAY);
    Ok(Json(
        app.store
            .read(move |c| {
                let catalogue = Figure::ALL.into_iter().map(Figure::definition).collect();
                Ok(Findings { mailings: findings::mailings(c, since, now)?, all: mailings::begun(c)?, catalogue })
            })
            .await?,
    ))
}

/// The source rows of a figure, as CSV.
pub(crate) async fn rows_csv(State(app): State<App>, Path((mailing, figure)): Path<(MailingId, String)>) -> Result<Response, ApiError> {
    let figure = figure.trim_end_matches(".csv").to_owned();
    let name = format!("mailing-{mailing}-{figure}.csv");
    let rows = app.store.read(move |c| figures::rows(c, mailing, &figure)).await?;
    csv_file(
        &name,
        &["address", "arm", "at"],
        rows.into_iter().map(|(a, arm, at)| vec![a, rinse_core::trial::letter(usize::try_from(arm).unwrap_or(0)).to_string(), iso(at)]),
    )
}

/// The rows behind a figure of the workline, as CSV.
pub(crate) async fn workline_csv(State(app): State<App>, Path(figure): Path<String>) -> Result<Response, ApiError> {
    let (figure, now) = (figure.trim_end_matches(".csv").to_owned(), app.now().millis());
    let name = format!("{figure}.csv");
    let (header, rows) = app.store.read(move |c| findings::workline_rows(c, &figure, now)).await?;
    csv_file(&name, header, rows.into_iter())
}
