//! Tables as CSV, to save and in zips.

use crate::error::ApiError;
use axum::response::{IntoResponse, Response};
use rinse_core::table::neutral_cell;

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
    rinse_core::Instant::of(millis).iso()
}
