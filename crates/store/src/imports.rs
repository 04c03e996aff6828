//! Import runs: a file is staged, checked (a dry run with counts), then applied in batches, each
//! with its progress in the same transaction, so that a crash resumes where it stopped and an
//! unsubscribe never waits long.

use crate::contacts::{self, Profile};
use crate::fields;
use crate::ledger::{self, Origin};
use crate::tags::{self, Kind};
use crate::{Result, Store, StoreError, tables};
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::consent::{Act, Consent, import_may_raise};
use rinse_core::segment::FieldKind;
use rinse_core::segment::person::Value;
use rinse_core::table::{self, Encoding, Field, TableError};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::collections::HashSet;
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use utoipa::ToSchema;

/// Rows applied in one transaction: few enough that an unsubscribe in between waits no longer than a
/// blink (2,000, the most the rules allow, took up to 150 ms).
pub const BATCH: usize = 500;

/// An import run.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Run {
    pub id: i64,
    pub file_name: String,
    pub made_at: i64,
    pub encoding: Encoding,
    pub delimiter: String,
    pub header: bool,
    pub mapping: Vec<Option<Field>>,
    pub list: Option<String>,
    pub tag: Option<String>,
    pub consent: bool,
    pub evidence: String,
    pub state: String,
    pub records: i64,
    pub done: i64,
    pub new: i64,
    pub changed: i64,
    pub unchanged: i64,
    pub refused: i64,
}

/// The first records of a staged file, as read.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Preview {
    pub run: Run,
    pub columns: Vec<String>,
    /// Per column: what kind of field its cells would fill.
    pub kinds: Vec<FieldKind>,
    pub rows: Vec<Vec<String>>,
    /// Per row: why it would be refused.
    pub refusals: Vec<Option<String>>,
}

fn path(store: &Store, id: i64, what: &str) -> PathBuf {
    store.folder().join("imports").join(format!("{id}{what}.csv"))
}

/// Where the refused rows of a run are.
#[must_use]
pub fn refused_path(store: &Store, id: i64) -> PathBuf {
    path(store, id, "-refused")
}

fn table_error(e: &TableError) -> StoreError {
    StoreError::Refused(e.to_string())
}

/// Rewrites an uploaded file in UTF-8.
fn decode(raw: &Path, to: &Path, encoding: Encoding) -> Result<()> {
    let mut out = BufWriter::new(File::create(to)?);
    std::io::copy(&mut tables::Decoded::new(File::open(raw)?, encoding), &mut out)?;
    out.flush()?;
    Ok(())
}

/// Stages an uploaded file: finds out how it is written and proposes a mapping.
///
/// # Errors
/// A file that is no table, an empty one, one without an address column.
pub async fn stage(store: &Store, raw: PathBuf, file_name: String, now: Instant, person: Option<i64>) -> Result<i64> {
    let folder = store.clone();
    let (decoded, shape, mapping, columns) = tokio::task::spawn_blocking(move || -> Result<_> {
        let decoded = folder.folder().join("imports").join(format!("{}.utf8", raw.file_name().unwrap_or_default().to_string_lossy()));
        let looked = (|| {
            let shape = tables::shape(&raw)?;
            decode(&raw, &decoded, shape.encoding)?;
            let sample = sample(&decoded, shape.delimiter)?;
            let mapping = table::propose_mapping(&sample, shape.header).map_err(|e| table_error(&e))?;
            let columns = if shape.header { serde_json::to_string(&sample[0])? } else { String::new() };
            Ok((decoded.clone(), shape, mapping, columns))
        })();
        let _ = std::fs::remove_file(&raw);
        looked.inspect_err(|_| {
            let _ = std::fs::remove_file(&decoded);
        })
    })
    .await
    .map_err(|_| StoreError::Stopped)??;
    let mapping = serde_json::to_string(&mapping)?;
    let encoding = serde_json::to_string(&shape.encoding)?;
    let id = store
        .write(move |c| {
            // The same columns are mapped as they were the last time.
            let before: Option<String> = c
                .query_row(
                    "SELECT mapping FROM import_run WHERE columns = ?1 AND columns <> '' AND state IN ('checked', 'applying', 'applied') ORDER BY id DESC LIMIT 1",
                    [&columns],
                    |r| r.get(0),
                )
                .optional()?;
            Ok(c.query_row(
                "INSERT INTO import_run (file_name, made_at, person_id, encoding, delimiter, header, mapping, columns, state) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,'staged') RETURNING id",
                params![file_name, now.0, person, encoding, shape.delimiter, shape.header, before.unwrap_or(mapping), columns],
                |r| r.get(0),
            )?)
        })
        .await?;
    std::fs::rename(decoded, path(store, id, ""))?;
    Ok(id)
}

fn sample(path: &Path, delimiter: u8) -> Result<Vec<Vec<String>>> {
    let mut rows = Vec::new();
    for record in tables::records(path, delimiter)?.records().take(101) {
        rows.push(record?.iter().map(str::to_owned).collect());
    }
    Ok(rows)
}

/// # Errors
/// When there is no such run.
pub fn run(c: &Connection, id: i64) -> Result<Run> {
    runs_where(c, "i.id = ?1", id)?.pop().ok_or(StoreError::Missing("import"))
}

/// The newest runs.
///
/// # Errors
/// When the database fails.
pub fn runs(c: &Connection) -> Result<Vec<Run>> {
    runs_where(c, "i.id > ?1", 0)
}

fn runs_where(c: &Connection, filter: &str, value: i64) -> Result<Vec<Run>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT i.id, file_name, i.made_at, encoding, delimiter, header, mapping, l.name, consent, evidence, state, records, done, new, changed, unchanged, refused, t.name
         FROM import_run i LEFT JOIN list l ON l.id = list_id LEFT JOIN tag t ON t.id = tag_id WHERE {filter} ORDER BY i.id DESC LIMIT 100"
    ))?;
    let rows = s.query_map([value], |r| {
        Ok((
            Run {
                id: r.get(0)?,
                file_name: r.get(1)?,
                made_at: r.get(2)?,
                encoding: Encoding::Utf8,
                delimiter: char::from(r.get::<_, u8>(4)?).to_string(),
                header: r.get(5)?,
                mapping: vec![],
                list: r.get(7)?,
                tag: r.get(17)?,
                consent: r.get(8)?,
                evidence: r.get(9)?,
                state: r.get(10)?,
                records: r.get(11)?,
                done: r.get(12)?,
                new: r.get(13)?,
                changed: r.get(14)?,
                unchanged: r.get(15)?,
                refused: r.get(16)?,
            },
            r.get::<_, String>(3)?,
            r.get::<_, String>(6)?,
        ))
    })?;
    rows.map(|row| {
        let (mut run, encoding, mapping) = row?;
        run.encoding = serde_json::from_str(&encoding)?;
        run.mapping = serde_json::from_str(&mapping)?;
        Ok(run)
    })
    .collect()
}

/// The first 100 rows as they would land.
///
/// # Errors
/// When there is no such run or its file is gone.
pub fn preview(store: &Store, run: Run) -> Result<Preview> {
    let sample = sample(&path(store, run.id, ""), run.delimiter.as_bytes()[0])?;
    let width = sample.iter().map(Vec::len).max().unwrap_or(0);
    let columns = (0..width)
        .map(|i| match sample.first().filter(|_| run.header).and_then(|h| h.get(i)) {
            Some(name) if !name.is_empty() => name.clone(),
            _ => format!("column {}", i + 1),
        })
        .collect();
    let rows: Vec<Vec<String>> = sample.into_iter().skip(usize::from(run.header)).take(100).collect();
    let refusals = rows.iter().map(|r| read_row(r, &run.mapping, width).err()).collect();
    let kinds = (0..width).map(|i| table::guess_kind(rows.iter().filter_map(|r| r.get(i)).map(String::as_str))).collect();
    Ok(Preview { run, columns, kinds, rows, refusals })
}

/// A row as it would land.
struct Row {
    address: Address,
    profile: Profile,
    /// Values of one's own fields, by column.
    own: Vec<(usize, Value)>,
}

/// Reads a record by the mapping, or says why it is refused.
fn read_row<S: AsRef<str>>(cells: &[S], mapping: &[Option<Field>], width: usize) -> std::result::Result<Row, String> {
    if cells.len() != width {
        return Err(format!("the row has {} fields, the file has {width}", cells.len()));
    }
    let mut p = Profile::default();
    let (mut address, mut own) = (None, Vec::new());
    let (mut latitude, mut longitude) = (None, None);
    for (column, (cell, field)) in cells.iter().zip(mapping).enumerate() {
        let text = cell.as_ref().trim();
        let value = (!text.is_empty()).then(|| text.chars().take(200).collect::<String>());
        match field {
            Some(Field::Address) => address = Some(Address::parse(text).map_err(|e| e.to_string())?),
            Some(Field::GivenName) => p.given_name = value,
            Some(Field::FamilyName) => p.family_name = value,
            Some(Field::Country) => p.country = value.map(|v| v.to_uppercase()),
            Some(Field::Region) => p.region = value,
            Some(Field::TimeZone) => p.zone = value,
            Some(Field::Source) => p.source = value,
            Some(Field::Latitude) => latitude = value.map(|v| degrees(&v, 90.0)).transpose()?,
            Some(Field::Longitude) => longitude = value.map(|v| degrees(&v, 180.0)).transpose()?,
            Some(Field::Own { name, kind }) if value.is_some() => {
                own.push((column, Value::read(*kind, text).map_err(|e| format!("{name}: {e}"))?));
            }
            Some(Field::Own { .. }) | None => {}
        }
    }
    p.position = latitude.zip(longitude);
    address.map(|address| Row { address, profile: p, own }).ok_or_else(|| "no column is mapped to the address".to_owned())
}

fn degrees(text: &str, most: f64) -> std::result::Result<f64, String> {
    match Value::read(FieldKind::Number, text)? {
        Value::Number(n) if n.abs() <= most => Ok(n),
        _ => Err(format!("{text:?} is not between -{most} and {most} degrees")),
    }
}

/// What the analyst decided on a staged file.
#[derive(Debug, Clone)]
pub struct Decision {
    pub mapping: Vec<Option<Field>>,
    pub header: bool,
    pub list: Option<String>,
    pub tag: Option<String>,
    /// The rows come with consent; the evidence says how it was given.
    pub consent: bool,
    pub evidence: String,
}

/// Saves the decision; the run has to be checked (again) after it.
///
/// # Errors
/// When no column or more than one is the address, or consent is claimed without evidence.
pub async fn decide(store: &Store, id: i64, d: Decision, now: Instant) -> Result<()> {
    for (i, m) in d.mapping.iter().enumerate() {
        if m.is_some() && *m != Some(Field::Address) && d.mapping[..i].contains(m) {
            return Err(StoreError::Refused("Two columns are mapped to the same field. Leave one of them out.".into()));
        }
    }
    if d.mapping.iter().filter(|m| **m == Some(Field::Address)).count() != 1 {
        return Err(StoreError::Refused("Map exactly one column to the address.".into()));
    }
    if d.consent && d.evidence.trim().len() < 5 {
        return Err(StoreError::Refused("Say how these people agreed to get mail (which form, when): consent needs its evidence.".into()));
    }
    let mapping = serde_json::to_string(&d.mapping)?;
    store.write(move |c| {
        let list = match d.list.as_deref().map(str::trim).filter(|l| !l.is_empty()) {
            Some(name) => Some(tags::named(c, Kind::List, name, now)?),
            None => None,
        };
        let tag = match d.tag.as_deref().map(str::trim).filter(|t| !t.is_empty()) {
            Some(name) => Some(tags::named(c, Kind::Tag, name, now)?),
            None => None,
        };
        let n = c.execute(
            "UPDATE import_run SET mapping = ?2, header = ?3, list_id = ?4, tag_id = ?5, consent = ?6, evidence = ?7, state = 'staged' WHERE id = ?1 AND state IN ('staged', 'checked')",
            params![id, mapping, d.header, list, tag, d.consent, d.evidence],
        )?;
        if n == 0 { Err(StoreError::Refused("This import was applied already.".into())) } else { Ok(()) }
    }).await
}

#[derive(Default, Clone, Copy)]
struct Counts {
    new: i64,
    changed: i64,
    unchanged: i64,
    refused: i64,
}

enum Fate {
    New,
    Changed,
    Unchanged,
    Refused(String),
}

struct Applier {
    mapping: Vec<Option<Field>>,
    /// Per column: the field of one's own that it fills, when there is one already.
    fields: Vec<Option<i64>>,
    width: usize,
    consent: bool,
    list: Option<i64>,
    tag: Option<i64>,
}

impl Applier {
    fn judge(&self, c: &Connection, seen: &mut HashSet<u64>, cells: &csv::StringRecord) -> Result<(Fate, Option<(Row, Option<i64>)>)> {
        let cells: Vec<&str> = cells.iter().collect();
        let row = match read_row(&cells, &self.mapping, self.width) {
            Ok(row) => row,
            Err(why) => return Ok((Fate::Refused(why), None)),
        };
        let hash = {
            use std::hash::{DefaultHasher, Hash, Hasher};
            let mut h = DefaultHasher::new();
            row.address.key.hash(&mut h);
            h.finish()
        };
        if !seen.insert(hash) {
            return Ok((Fate::Refused("the same address stands in an earlier row".into()), None));
        }
        let Some((id, consent, stored)) = contacts::find(c, &row.address.key)? else {
            return Ok((Fate::New, Some((row, None))));
        };
        if self.consent && !import_may_raise(consent) {
            let what = if consent == Consent::Complained { "complained" } else { "withdrew" };
            return Ok((Fate::Refused(format!("this person {what}; an import can't bring their consent back")), None));
        }
        let joins = |set: Option<i64>, sql: &str| -> Result<bool> {
            Ok(match set {
                Some(set) => !c.prepare_cached(sql)?.exists([set, id])?,
                None => false,
            })
        };
        let agrees = self.consent && matches!(consent, Consent::None | Consent::Invited);
        let changes = contacts::differs(&stored, &row.profile)
            || agrees
            || joins(self.list, "SELECT 1 FROM list_member WHERE list_id = ?1 AND contact_id = ?2")?
            || joins(self.tag, "SELECT 1 FROM contact_tag WHERE tag_id = ?1 AND contact_id = ?2")?
            || self.own_differs(c, id, &row)?;
        Ok((if changes { Fate::Changed } else { Fate::Unchanged }, Some((row, Some(id)))))
    }

    fn own_differs(&self, c: &Connection, contact: i64, row: &Row) -> Result<bool> {
        for (column, value) in &row.own {
            let stored = match self.fields.get(*column).copied().flatten() {
                Some(field) => fields::get(c, contact, field)?,
                None => None,
            };
            if stored.as_ref() != Some(value) {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

fn applier(c: &Connection, r: &Run, path: &Path) -> Result<Applier> {
    let (list, tag) = c.query_row("SELECT list_id, tag_id FROM import_run WHERE id = ?1", [r.id], |x| Ok((x.get(0)?, x.get(1)?)))?;
    let width = sample(path, r.delimiter.as_bytes()[0])?.first().map_or(0, Vec::len);
    let there = fields::all(c)?;
    let fields = r
        .mapping
        .iter()
        .map(|m| match m {
            Some(Field::Own { name, kind }) => match there.iter().find(|f| f.name.to_lowercase() == name.trim().to_lowercase()) {
                Some(f) if f.kind == *kind => Ok(Some(f.id)),
                Some(f) => Err(StoreError::Refused(format!(
                    "There is a field “{}” that holds another kind of value. Map the column to that field.",
                    f.name
                ))),
                None => Ok(None),
            },
            _ => Ok(None),
        })
        .collect::<Result<_>>()?;
    Ok(Applier { mapping: r.mapping.clone(), fields, width, consent: r.consent, list, tag })
}

/// The dry run: counts what applying would do and writes the refused rows with their reasons.
///
/// # Errors
/// When the file can't be read.
pub async fn check(store: &Store, id: i64, mut progress: impl FnMut(i64) + Send + 'static) -> Result<Run> {
    let s = store.clone();
    let (records, n) = tokio::task::spawn_blocking(move || -> Result<_> {
        s.read_now(|c| {
            let r = run(c, id)?;
            let file = path(&s, id, "");
            let a = applier(c, &r, &file)?;
            let (mut n, mut records, mut seen) = (Counts::default(), 0, HashSet::new());
            let mut refused = csv::WriterBuilder::new().flexible(true).from_path(refused_path(&s, id))?;
            let mut rows = tables::records(&file, r.delimiter.as_bytes()[0])?;
            let mut record = csv::StringRecord::new();
            if r.header && rows.read_record(&mut record)? {
                refused.write_record(record.iter().map(table::neutral_cell).chain(["reason".to_owned(), "line".to_owned()]))?;
            }
            while rows.read_record(&mut record)? {
                records += 1;
                match a.judge(c, &mut seen, &record)?.0 {
                    Fate::New => n.new += 1,
                    Fate::Changed => n.changed += 1,
                    Fate::Unchanged => n.unchanged += 1,
                    Fate::Refused(why) => {
                        n.refused += 1;
                        let line = record.position().map_or(0, csv::Position::line).to_string();
                        refused.write_record(record.iter().map(table::neutral_cell).chain([why, line]))?;
                    }
                }
                if records % 10_000 == 0 {
                    progress(records);
                }
            }
            refused.flush()?;
            Ok((records, n))
        })
    })
    .await
    .map_err(|_| StoreError::Stopped)??;
    store.write(move |c| {
        c.execute(
            "UPDATE import_run SET state = 'checked', records = ?2, new = ?3, changed = ?4, unchanged = ?5, refused = ?6 WHERE id = ?1 AND state IN ('staged', 'checked')",
            params![id, records, n.new, n.changed, n.unchanged, n.refused],
        )?;
        run(c, id)
    }).await
}

/// Applies a checked run from where it stands, in batches; also goes on with one that a crash cut
/// short. `progress` is told the rows done and may stop it by returning false.
///
/// # Errors
/// When the run was not checked, or its file is gone.
pub async fn apply(store: &Store, id: i64, now: Instant, person: Option<i64>, mut progress: impl FnMut(i64) -> bool) -> Result<Run> {
    let r = store
        .write(move |c| {
            let r = run(c, id)?;
            match r.state.as_str() {
                "checked" | "applying" => {}
                "applied" => return Ok(r),
                _ => return Err(StoreError::Refused("Check the import before applying it.".into())),
            }
            for m in &r.mapping {
                if let Some(Field::Own { name, kind }) = m {
                    fields::named(c, name, *kind, now)?;
                }
            }
            c.execute("UPDATE import_run SET state = 'applying' WHERE id = ?1", [id])?;
            run(c, id)
        })
        .await?;
    if r.state == "applied" {
        return Ok(r);
    }
    let file = path(store, id, "");
    let (f, s, rr) = (file.clone(), store.clone(), r.clone());
    let a = tokio::task::spawn_blocking(move || s.read_now(|c| applier(c, &rr, &f))).await.map_err(|_| StoreError::Stopped)??;
    let a = std::sync::Arc::new(a);
    let mut rows = tables::records(&file, r.delimiter.as_bytes()[0])?;
    let mut record = csv::StringRecord::new();
    let skip = r.done + i64::from(r.header);
    let mut seen: HashSet<u64> = HashSet::new();
    let mut at = 0;
    let mut done = r.done;
    loop {
        let mut batch = Vec::with_capacity(BATCH);
        while batch.len() < BATCH && rows.read_record(&mut record)? {
            at += 1;
            if at <= skip {
                continue;
            }
            batch.push(record.clone());
        }
        if batch.is_empty() {
            break;
        }
        done += i64::try_from(batch.len()).unwrap_or(0);
        let (a, evidence, upto) = (std::sync::Arc::clone(&a), r.evidence.clone(), done);
        let moved = std::mem::take(&mut seen);
        seen = store.write(move |c| apply_batch(c, &a, moved, &batch, &evidence, id, upto, now, person)).await?;
        if !progress(done) {
            return store
                .write(move |c| {
                    c.execute("UPDATE import_run SET state = 'cancelled' WHERE id = ?1", [id])?;
                    run(c, id)
                })
                .await;
        }
    }
    store
        .write(move |c| {
            c.execute("UPDATE import_run SET state = 'applied' WHERE id = ?1", [id])?;
            let r = run(c, id)?;
            crate::settings::audit(
                c,
                now,
                person,
                "import applied",
                "import",
                id,
                &format!("{}: {} new, {} changed, {} refused", r.file_name, r.new, r.changed, r.refused),
            )?;
            Ok(r)
        })
        .await
}

#[allow(clippy::too_many_arguments)]
fn apply_batch(
    c: &Connection,
    a: &Applier,
    mut seen: HashSet<u64>,
    batch: &[csv::StringRecord],
    evidence: &str,
    id: i64,
    upto: i64,
    now: Instant,
    person: Option<i64>,
) -> Result<HashSet<u64>> {
    let origin = Origin { source: "import", evidence: evidence.to_owned(), import: Some(id), person, ..Origin::default() };
    for record in batch {
        let (fate, row) = a.judge(c, &mut seen, record)?;
        let Some((row, stored)) = row else { continue };
        let contact = match (fate, stored) {
            (Fate::New, _) => contacts::add(c, &row.address, &row.profile, now, Some(id))?,
            (Fate::Changed, Some(contact)) => {
                contacts::update(c, contact, &row.profile)?;
                contact
            }
            _ => continue,
        };
        for (column, value) in &row.own {
            if let Some(field) = a.fields.get(*column).copied().flatten() {
                fields::set(c, contact, field, value, None, None)?;
            }
        }
        if let Some(tag) = a.tag {
            tags::put(c, Kind::Tag, tag, contact, now)?;
        }
        if a.consent {
            ledger::act(c, contact, now, Act::Agreed, &origin)?;
        }
        if let Some(list) = a.list {
            tags::put(c, Kind::List, list, contact, now)?;
        }
    }
    c.execute("UPDATE import_run SET done = ?2 WHERE id = ?1", params![id, upto])?;
    Ok(seen)
}
