//! The handlers, by resource.

pub(crate) mod base_check;
pub(crate) mod changes;
pub(crate) mod clearance;
pub(crate) mod consent;
pub(crate) mod contacts;
pub(crate) mod course;
pub(crate) mod domains;
pub(crate) mod doors;
pub(crate) mod findings;
pub(crate) mod goals;
pub(crate) mod guides;
pub(crate) mod imports;
pub(crate) mod letterheads;
pub(crate) mod mailings;
pub(crate) mod messages;
pub(crate) mod number;
pub(crate) mod people;
pub(crate) mod reactions;
pub(crate) mod rules;
pub(crate) mod scores;
pub(crate) mod segments;
pub(crate) mod series;
pub(crate) mod suppression;
pub(crate) mod today;
pub(crate) mod trials;
pub(crate) mod webhooks;

use crate::error::ApiError;
use crate::state::App;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::response::{IntoResponse, Response};
use rinse_core::table::neutral_cell;

/// The acting person, recorded with every change.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Acting(pub(crate) i64);

impl FromRequestParts<App> for Acting {
    type Rejection = ApiError;
    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, ApiError> {
        let named = parts.headers.get("x-acting-person").and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
        let id = named.ok_or(ApiError::NobodyActing)?;
        // Somebody who isn't on the list can be put on no record.
        if app.store.read(move |c| rinse_store::settings::is_person(c, id)).await? { Ok(Self(id)) } else { Err(ApiError::NobodyActing) }
    }
}

/// A table as CSV; cells that a spreadsheet would run are neutralised.
pub(crate) fn csv_bytes(header: &[&str], rows: impl Iterator<Item = Vec<String>>) -> Result<Vec<u8>, csv::Error> {
    let mut out = csv::Writer::from_writer(Vec::new());
    out.write_record(header)?;
    for row in rows {
        out.write_record(row.iter().map(|c| neutral_cell(c)))?;
    }
    out.into_inner().map_err(|e| e.into_error().into())
}

/// A CSV file to save.
pub(crate) fn csv_file(name: &str, header: &[&str], rows: impl Iterator<Item = Vec<String>>) -> Result<Response, ApiError> {
    let bytes = csv_bytes(header, rows).map_err(|e| ApiError::Broken(format!("The CSV could not be written: {e}")))?;
    Ok((
        [("content-type", "text/csv; charset=utf-8".to_owned()), ("content-disposition", format!("attachment; filename=\"{name}\""))],
        bytes,
    )
        .into_response())
}

/// An instant as CSV files carry it.
pub(crate) fn iso(millis: i64) -> String {
    rinse_core::Instant(millis).iso()
}
