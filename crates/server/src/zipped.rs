//! Zip files, as they are made and answered.

use axum::response::{IntoResponse, Response};
use std::io::{Cursor, Result, Write};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// A zip of some files, in this order.
pub(crate) fn zipped<'a>(files: impl IntoIterator<Item = (&'a str, &'a [u8])>) -> Result<Vec<u8>> {
    let mut out = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        out.start_file(name, SimpleFileOptions::default())?;
        out.write_all(bytes)?;
    }
    Ok(out.finish()?.into_inner())
}

/// A zip to be saved under a name.
pub(crate) fn zip_file(name: &str, zip: Vec<u8>) -> Response {
    let headers = [("content-type", "application/zip".to_owned()), ("content-disposition", format!("attachment; filename=\"{name}\""))];
    (headers, zip).into_response()
}
