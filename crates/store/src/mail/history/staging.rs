//! Staging: an uploaded file is unpacked, read as a table and put down in UTF-8, and its columns are proposed.

use super::{Mapping, path};
use crate::codes::{FILE_APPLIED, FILE_APPLYING, FILE_CHECKED, FILE_STAGED, FILE_UNDONE};
use crate::{Result, Store, StoreError, imports};
use const_format::formatcp;
use flate2::read::MultiGzDecoder;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::history::columns::{self, Table};
use rinse_core::history::times;
use rusqlite::{OptionalExtension, params};
use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

/// A file has so many bytes at most, unpacked: fifty million rows.
const MOST: u64 = 8 << 30;

fn refused(why: &str) -> StoreError {
    StoreError::Refused(why.to_owned())
}

/// Writes out what a packed file holds; one that isn't packed stays as it is.
fn unpack(raw: &Path, most: u64) -> Result<()> {
    let mut file = File::open(raw)?;
    let mut mark = [0; 4];
    let n = file.read(&mut mark)?;
    file.seek(SeekFrom::Start(0))?;
    let broken = |e: &dyn std::fmt::Display| refused(&format!("The file can’t be unpacked ({e}). Pack it again, or send it as it is."));
    let to = raw.with_extension("unpacked");
    let written = match &mark[..n] {
        [0x1f, 0x8b, ..] => {
            let mut out = File::create(&to)?;
            std::io::copy(&mut MultiGzDecoder::new(BufReader::new(file)).take(most + 1), &mut out).map_err(|e| broken(&e))?
        }
        b"PK\x03\x04" => {
            let mut archive = zip::ZipArchive::new(BufReader::new(file)).map_err(|e| broken(&e))?;
            if archive.len() != 1 {
                return Err(refused(&format!("The archive holds {} files. Send each by itself.", archive.len())));
            }
            let inside = archive.by_index(0).map_err(|e| broken(&e))?;
            let mut out = File::create(&to)?;
            std::io::copy(&mut inside.take(most + 1), &mut out).map_err(|e| broken(&e))?
        }
        _ => return Ok(()),
    };
    if written > most {
        std::fs::remove_file(&to)?;
        return Err(refused("Unpacked, the file is over 8 GB. Split it, and bring the parts one after the other."));
    }
    std::fs::rename(to, raw)?;
    Ok(())
}

struct Staged {
    shape: crate::tables::Shape,
    ndjson: bool,
    mapping: Mapping,
    month_first: bool,
    columns: String,
    records: i64,
}

fn read(raw: &Path, to: &Path) -> Result<Staged> {
    unpack(raw, MOST)?;
    let (mut shape, ndjson) = imports::lay_down(raw, to, None)?;
    let rows = imports::telling(to, shape.delimiter)?;
    let told = |cell: &String| times::is_instant(cell) || Address::parse(cell).is_ok();
    shape.header = ndjson || rows.first().is_some_and(|first| !first.iter().any(told));
    let table = columns::table(&rows, shape.header).ok_or_else(|| {
        refused("This is neither a table of mailings (a key or name, and when each was sent) nor one of events (an address, what happened, and when).")
    })?;
    let mapping = match table {
        Table::Events => Mapping::Events(columns::events(&rows, shape.header)),
        Table::Mailings => Mapping::Mailings(columns::mailings(&rows, shape.header)),
    };
    let cells = |i: usize| rows.iter().skip(usize::from(shape.header)).filter_map(move |r| r.get(i)).map(String::as_str);
    let month_first = mapping.instants().and_then(|i| times::month_first(cells(i))).unwrap_or(false);
    let columns = if shape.header { serde_json::to_string(&rows[0])? } else { String::new() };
    // The rest is counted without being read as text.
    let mut n = 0;
    let mut records = crate::tables::records(to, shape.delimiter)?;
    let mut record = csv::ByteRecord::new();
    while records.read_byte_record(&mut record)? {
        n += 1;
    }
    Ok(Staged { shape, ndjson, mapping, month_first, columns, records: n - i64::from(shape.header) })
}

/// Stages an uploaded file: unpacks it (gz, or a zip with one file), finds out how it is written, and proposes what its columns hold; the
/// same columns are taken as they were the last time.
///
/// # Errors
/// A file that is no table of mailings or events, or too large.
pub async fn stage(store: &Store, raw: PathBuf, file_name: String, now: Instant, person: Option<i64>) -> Result<i64> {
    let to = raw.with_extension("utf8");
    let (raw_file, put) = (raw.clone(), to.clone());
    let staged = tokio::task::spawn_blocking(move || {
        let staged = read(&raw_file, &put);
        let _ = std::fs::remove_file(&raw_file);
        let _ = std::fs::remove_file(raw_file.with_extension("unpacked"));
        staged.inspect_err(|_| drop(std::fs::remove_file(&put)))
    })
    .await
    .map_err(|_| StoreError::Stopped)??;
    let id = store
        .write(move |c| {
            let s = staged;
            let before: Option<(String, Option<String>, bool)> = c
                .query_row(
                    formatcp!("SELECT mapping, zone, month_first FROM log_file WHERE columns = ?1 AND columns <> '' AND state IN ({FILE_CHECKED}, {FILE_APPLYING}, {FILE_APPLIED}, {FILE_UNDONE}) ORDER BY id DESC LIMIT 1"),
                    [&s.columns],
                    |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
                )
                .optional()?;
            let holds = match s.mapping.table() {
                Table::Mailings => "mailings",
                Table::Events => "events",
            };
            let (mapping, zone, month_first) = before.unwrap_or((serde_json::to_string(&s.mapping)?, None, s.month_first));
            Ok(c.query_row(
                formatcp!("INSERT INTO log_file (file_name, made_at, person_id, encoding, delimiter, header, ndjson, holds, mapping, columns, zone, month_first, state, records)
                 VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,{FILE_STAGED},?13) RETURNING id"),
                params![
                    file_name,
                    now.millis(),
                    person,
                    serde_json::to_string(&s.shape.encoding)?,
                    s.shape.delimiter,
                    s.shape.header,
                    s.ndjson,
                    holds,
                    mapping,
                    s.columns,
                    zone,
                    month_first,
                    s.records
                ],
                |r| r.get(0),
            )?)
        })
        .await?;
    std::fs::rename(to, path(store, id))?;
    Ok(id)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn a_bomb_is_refused_and_leaves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let raw = folder.path().join("raw");
        let mut gz = flate2::write::GzEncoder::new(File::create(&raw).unwrap(), flate2::Compression::best());
        std::io::copy(&mut std::io::repeat(b'a').take(200_000), &mut gz).unwrap();
        gz.finish().unwrap().flush().unwrap();
        assert!(unpack(&raw, 100_000).unwrap_err().to_string().contains("over 8 GB"));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        unpack(&raw, 200_000).unwrap();
        assert_eq!(std::fs::metadata(&raw).unwrap().len(), 200_000);
    }
}
