//! What packed files hold.

use super::ReportError;
use flate2::read::MultiGzDecoder;
use std::io::{Cursor, Read};
use zip::ZipArchive;

/// A report of 50,000 records takes 40 MB or so.
pub(super) const UNPACKED: usize = 128 << 20;
/// More files in an archive are no reports.
const FILES: usize = 50;

const GZIP: &[u8] = b"\x1f\x8b";
const ZIP: &[u8] = b"PK\x03\x04";
/// An archive without a file.
const EMPTY_ZIP: &[u8] = b"PK\x05\x06";

pub(super) fn is_packed(bytes: &[u8]) -> bool {
    [GZIP, ZIP, EMPTY_ZIP].iter().any(|mark| bytes.starts_with(mark))
}

/// Reads to the end, or to the limit.
fn whole(from: impl Read, room: usize) -> Result<Vec<u8>, ReportError> {
    let mut out = Vec::new();
    from.take(room as u64 + 1).read_to_end(&mut out).map_err(|e| ReportError::Archive(e.to_string()))?;
    if out.len() > room {
        return Err(ReportError::UnpacksTooLarge);
    }
    if is_packed(&out) {
        return Err(ReportError::Inside("another archive".into()));
    }
    Ok(out)
}

/// The documents in a file: itself where it isn't packed.
pub(super) fn open(bytes: &[u8]) -> Result<Vec<Vec<u8>>, ReportError> {
    if bytes.starts_with(GZIP) {
        return Ok(vec![whole(MultiGzDecoder::new(bytes), UNPACKED)?]);
    }
    if !is_packed(bytes) {
        return Ok(vec![bytes.to_vec()]);
    }
    let broken = |e: zip::result::ZipError| ReportError::Archive(e.to_string());
    let mut archive = ZipArchive::new(Cursor::new(bytes)).map_err(broken)?;
    if archive.len() > FILES {
        return Err(ReportError::Inside(format!("{} files", archive.len())));
    }
    let (mut out, mut room) = (Vec::new(), UNPACKED);
    for i in 0..archive.len() {
        let file = archive.by_index(i).map_err(broken)?;
        // Nothing is written anywhere; but who packs a path means to.
        let name = file.name().map_err(broken)?;
        if name.contains(['/', '\\']) || name.contains("..") {
            return Err(ReportError::Inside(format!("a path ({:?})", name.chars().take(60).collect::<String>())));
        }
        let document = whole(file, room)?;
        room -= document.len();
        out.push(document);
    }
    Ok(out)
}
