//! Messages by what they have in common: as JSON, CSV and PDF.

use crate::csv_out::csv_file;
use crate::error::{Answer, ApiError};
use crate::grouped::{self, Asked, FindingsBy, MailingDid};
use crate::report;
use crate::state::App;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use rinse_core::figure::Definition;
use rinse_core::id::MailingId;
use rinse_store::findings::groups::Filter;
use serde::Deserialize;

/// Messages by what they have in common, handed over in a period, with their figures: rates with the people's own limits (Wilson) and with the
/// mailing as the unit; which group is best in the chosen figure; of mailings, which lie outside their norm. Nothing of this was left to chance.
#[utoipa::path(get, path = "/api/findings/by", params(Asked, Filter), responses((status = 200, body = FindingsBy)))]
pub(crate) async fn by(State(app): State<App>, Query(asked): Query<Asked>, Query(filter): Query<Filter>) -> Answer<FindingsBy> {
    let filter = filter.at(app.now().millis());
    Ok(Json(app.store.read(move |c| grouped::told(c, &asked, &filter)).await?))
}

/// How a mailing did, from its first handover on: every figure with the norm of its kind, by mailbox domain, and by the hour of its answers.
#[utoipa::path(get, path = "/api/mailings/{id}/did", params(("id" = i64, Path)), responses((status = 200, body = MailingDid)))]
pub(crate) async fn one_mailing(State(app): State<App>, Path(id): Path<MailingId>) -> Answer<MailingDid> {
    let now = app.now().millis();
    Ok(Json(app.store.read(move |c| grouped::one(c, id, now)).await?))
}

/// Messages by what they have in common as CSV: a row a group, or a row a pair of groups, counts and rates of the figures.
pub(crate) async fn by_csv(State(app): State<App>, Query(asked): Query<Asked>, Query(filter): Query<Filter>) -> Result<Response, ApiError> {
    let filter = filter.at(app.now().millis());
    let found = app.store.read(move |c| grouped::told(c, &asked, &filter)).await?;
    let rate = |r: Option<f64>| r.map(|r| format!("{r:.6}")).unwrap_or_default();
    if let Some(across) = found.across {
        let named = |key: &str| found.columns.iter().find(|c| c.key == key).map_or_else(String::new, |c| c.name.clone());
        let row_name = |key: &str| found.rows.iter().find(|r| r.key == key).map_or_else(String::new, |r| r.name.clone());
        let header = [found.by.words(), across.words(), "mailings", "of", found.figure.key, "rate", "lower", "upper"];
        let rows = found.cells.iter().map(|c| {
            let r = c.rate;
            vec![
                row_name(&c.row),
                named(&c.column),
                c.mailings.to_string(),
                r.of.to_string(),
                r.count.to_string(),
                rate(r.rate),
                rate(r.lower),
                rate(r.upper),
            ]
        });
        return csv_file("findings.csv", &header, rows);
    }
    let told: Vec<Definition> = found.catalogue.iter().filter(|d| d.of.is_some()).copied().collect();
    let rates: Vec<String> = told.iter().map(|d| format!("{}_rate", d.key)).collect();
    let mut header = vec![found.by.words(), "mailings", "days", "sent"];
    for (d, rate) in told.iter().zip(&rates) {
        header.extend([d.key, rate]);
    }
    let rows = found.rows.iter().map(|row| {
        let mut line = vec![row.name.clone(), row.mailings.to_string(), row.days.to_string(), row.sent.to_string()];
        for d in &told {
            let r = row.figures.get(&d.figure);
            line.extend([r.map(|r| r.count.to_string()).unwrap_or_default(), rate(r.and_then(|r| r.rate))]);
        }
        line
    });
    csv_file("findings.csv", &header, rows)
}

#[derive(Deserialize)]
pub(crate) struct Page {
    /// The page and what is asked of it, as in `/findings/revenue?by=month`.
    path: String,
}

/// A page of findings as a PDF: its sentence, its picture over time, its table.
pub(crate) async fn pdf(State(app): State<App>, Query(page): Query<Page>) -> Result<Response, ApiError> {
    if !page.path.starts_with("/findings") {
        return Err(ApiError::Malformed("Name a page of findings, as in /findings?by=weekday.".into()));
    }
    let now = app.now().millis();
    let pdf = app.store.read_at_leisure(move |c| Ok(report::of_path(c, "Findings", &page.path, now)?.1)).await?;
    Ok(([(header::CONTENT_TYPE, "application/pdf"), (header::CONTENT_DISPOSITION, "attachment; filename=\"findings.pdf\"")], pdf)
        .into_response())
}
