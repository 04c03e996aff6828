//! Staging: an uploaded file is looked at, decoded, and put down as rows in UTF-8.

use super::{path, table_error, telling};
use crate::codes::{FILE_APPLIED, FILE_APPLYING, FILE_CHECKED, FILE_STAGED, FILE_UNDONE};
use crate::{Result, Store, StoreError, tables};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::table::{self, Encoding, Field};
use rusqlite::{OptionalExtension, params};
use std::collections::HashMap;
use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::{Path, PathBuf};

/// How a file is to be read.
#[derive(Debug, Clone)]
struct Shape {
    encoding: Encoding,
    delimiter: u8,
    header: bool,
    ndjson: bool,
    mapping: Vec<Option<Field>>,
    /// The header's words, to know the same columns again.
    columns: String,
}

/// Puts the rows of a raw file down in `to`, in UTF-8; objects as rows under their keys. What the analyst chose goes before what is found.
/// The shape they have there, and whether they were objects.
pub(crate) fn lay_down(raw: &Path, to: &Path, chosen: Option<(Encoding, u8)>) -> Result<(tables::Shape, bool)> {
    let mut found = tables::shape(raw)?;
    if let Some((encoding, delimiter)) = chosen {
        found.encoding = encoding;
        found.delimiter = delimiter;
    }
    let text = || -> Result<_> { Ok(BufReader::new(tables::Decoded::new(File::open(raw)?, found.encoding))) };
    // An object is a line.
    let objects = || -> Result<_> { Ok(BufReader::new(tables::Bounded::lines(tables::Decoded::new(File::open(raw)?, found.encoding)))) };
    let ndjson = is_ndjson(text()?)?;
    let mut out = BufWriter::new(File::create(to)?);
    if ndjson {
        let keys = keys_of(objects()?)?;
        found.delimiter = b',';
        found.header = true;
        write_rows(objects()?, &keys, &mut out)?;
    } else {
        std::io::copy(&mut text()?, &mut out)?;
    }
    out.flush()?;
    Ok((found, ndjson))
}

/// Puts a raw file's rows down, and proposes what their columns hold.
fn put_down(raw: &Path, to: &Path, chosen: Option<(Encoding, u8)>) -> Result<Shape> {
    let (mut found, ndjson) = lay_down(raw, to, chosen)?;
    let mut rows = telling(to, found.delimiter)?;
    if rows.is_empty() {
        return Err(table_error(&table::TableError::Empty));
    }
    if chosen.is_some() {
        found.header = table::has_header(&rows);
    }
    let mut mapping = table::propose_mapping(&rows, found.header);
    if mapping.is_err() && chosen.is_none() && !ndjson {
        // The likeliest delimiter leaves no addresses whole: another may.
        for delimiter in *b",;\t|" {
            let other = telling(to, delimiter)?;
            let header = table::has_header(&other);
            if let Ok(found_in) = table::propose_mapping(&other, header) {
                (found.delimiter, found.header, rows, mapping) = (delimiter, header, other, Ok(found_in));
                break;
            }
        }
    }
    let mapping = match mapping {
        Ok(mapping) => mapping,
        // Somebody who tries another delimiter sees what it makes of the file.
        Err(_) if chosen.is_some() => vec![None; rows.iter().map(Vec::len).max().unwrap_or(0)],
        Err(e) => return Err(table_error(&e)),
    };
    let columns = if found.header { serde_json::to_string(&rows[0])? } else { String::new() };
    Ok(Shape { encoding: found.encoding, delimiter: found.delimiter, header: found.header, ndjson, mapping, columns })
}

/// Objects, one a line: the first line that isn't blank is one.
fn is_ndjson(text: impl BufRead) -> Result<bool> {
    let mut line = String::new();
    let mut text = text.take(tables::LONGEST_RECORD as u64);
    // What can't be read as a line of text is none of objects.
    while text.read_line(&mut line).unwrap_or(0) > 0 {
        if !line.trim().is_empty() {
            return Ok(serde_json::from_str::<serde_json::Map<String, serde_json::Value>>(&line).is_ok());
        }
        line.clear();
    }
    Ok(false)
}

/// More keys than this are no table.
const MOST_KEYS: usize = 200;

/// The keys of all objects, in the order they are first met.
fn keys_of(text: impl BufRead) -> Result<Vec<String>> {
    let (mut keys, mut known) = (Vec::new(), HashMap::new());
    for line in text.lines() {
        let Ok(object) = serde_json::from_str::<serde_json::Map<String, serde_json::Value>>(&line?) else { continue };
        for (key, _) in object {
            if keys.len() < MOST_KEYS && known.insert(key.clone(), ()).is_none() {
                keys.push(key);
            }
        }
    }
    Ok(keys)
}

/// Writes objects as rows under a header, a line for a line, so that line numbers can be told.
fn write_rows(text: impl BufRead, keys: &[String], out: &mut impl Write) -> Result<()> {
    let row = |cells: &mut dyn Iterator<Item = String>| -> Result<Vec<u8>> {
        let mut w = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
        w.write_record(cells)?;
        w.into_inner().map_err(|e| StoreError::Io(e.into_error()))
    };
    let one_line = |text: &str| text.replace(['\r', '\n'], " ");
    out.write_all(&row(&mut keys.iter().map(|k| one_line(k)))?)?;
    for line in text.lines() {
        let line = line?;
        if line.trim().is_empty() {
            out.write_all(b"\n")?;
            continue;
        }
        let Ok(object) = serde_json::from_str::<serde_json::Map<String, serde_json::Value>>(&line) else {
            // One cell too few or too many: refused, with the line as it stands.
            out.write_all(&row(&mut [one_line(&line), String::new()].into_iter().take(if keys.len() == 1 { 2 } else { 1 }))?)?;
            continue;
        };
        let cell = |key: &String| match object.get(key) {
            None | Some(serde_json::Value::Null) => String::new(),
            Some(serde_json::Value::String(text)) => one_line(text),
            Some(serde_json::Value::Bool(yes)) => (if *yes { "yes" } else { "no" }).into(),
            Some(other) => other.to_string(),
        };
        out.write_all(&row(&mut keys.iter().map(cell))?)?;
    }
    Ok(())
}

fn raw_path(store: &Store, id: i64) -> PathBuf {
    path(store, id, "-raw")
}

/// Stages an uploaded file: finds out how it is written and proposes a mapping. The same columns are
/// mapped as they were the last time.
///
/// # Errors
/// A file that is no table, an empty one, one without an address column.
pub async fn stage(store: &Store, raw: PathBuf, file_name: String, now: Instant, person: Option<i64>) -> Result<i64> {
    let (raw_file, folder) = (raw.clone(), store.folder().join("imports"));
    let (decoded, shape) = tokio::task::spawn_blocking(move || -> Result<_> {
        let decoded = folder.join(format!("{}.utf8", raw_file.file_name().unwrap_or_default().to_string_lossy()));
        put_down(&raw_file, &decoded, None).map(|shape| (decoded.clone(), shape)).inspect_err(|_| {
            let _ = std::fs::remove_file(&decoded);
            let _ = std::fs::remove_file(&raw_file);
        })
    })
    .await
    .map_err(|_| StoreError::Stopped)??;
    let id = store
        .write(move |c| {
            let s = shape;
            let before: Option<String> = c
                .query_row(
                    formatcp!("SELECT mapping FROM import_run WHERE columns = ?1 AND columns <> '' AND state IN ({FILE_CHECKED}, {FILE_APPLYING}, {FILE_APPLIED}, {FILE_UNDONE}) ORDER BY id DESC LIMIT 1"),
                    [&s.columns],
                    |r| r.get(0),
                )
                .optional()?;
            let (encoding, mapping) = (serde_json::to_string(&s.encoding)?, serde_json::to_string(&s.mapping)?);
            Ok(c.query_row(
                formatcp!("INSERT INTO import_run (file_name, made_at, person_id, encoding, delimiter, header, mapping, columns, ndjson, state) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,{FILE_STAGED}) RETURNING id"),
                params![file_name, now.millis(), person, encoding, s.delimiter, s.header, before.unwrap_or(mapping), s.columns, s.ndjson],
                |r| r.get(0),
            )?)
        })
        .await?;
    std::fs::rename(decoded, path(store, id, ""))?;
    std::fs::rename(raw, raw_path(store, id))?;
    Ok(id)
}

/// Reads a staged file again, by another encoding or delimiter.
///
/// # Errors
/// When it was applied already.
pub async fn reshape(store: &Store, id: i64, encoding: Encoding, delimiter: u8) -> Result<()> {
    let state = store.read(move |c| Ok(super::run(c, id)?.state)).await?;
    if !state.can_be_changed() {
        return Err(StoreError::Refused("This import was applied already.".into()));
    }
    let (raw, to) = (raw_path(store, id), path(store, id, ""));
    let shape =
        tokio::task::spawn_blocking(move || put_down(&raw, &to, Some((encoding, delimiter)))).await.map_err(|_| StoreError::Stopped)??;
    store
        .write(move |c| {
            let (encoding, mapping) = (serde_json::to_string(&shape.encoding)?, serde_json::to_string(&shape.mapping)?);
            c.execute(
                formatcp!("UPDATE import_run SET encoding = ?2, delimiter = ?3, header = ?4, mapping = ?5, columns = ?6, state = {FILE_STAGED} WHERE id = ?1"),
                params![id, encoding, shape.delimiter, shape.header, mapping, shape.columns],
            )?;
            Ok(())
        })
        .await
}

/// Nobody will read the file in another way any more.
pub(super) fn forget_raw(store: &Store, id: i64) {
    let _ = std::fs::remove_file(raw_path(store, id));
}
