//! Applying a checked run, in batches that leave room for others.

use super::judge::{Counts, Fate, Judge, Judged, Seen, missing, rules_of};
use super::row::Row;
use super::{Run, path, run, stage};
use crate::codes::{FILE_APPLYING, FILE_CHECKED};
use crate::contacts;
use crate::fields;
use crate::ledger::{self, Grant, Origin};
use crate::numbers;
use crate::runs::{self, Image};
use crate::stored::Worded;
use crate::tags::{self, Kind};
use crate::{Result, Store, StoreError, tables};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::consent::{Act, Consent};
use rinse_core::id::ContactId;
use rinse_core::segment::FieldKind;
use rinse_core::standing::FileState;
use rinse_core::table::Field;
use rusqlite::{Connection, params};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant as Moment};

/// Rows applied in one transaction to begin with …
const FIRST_BATCH: usize = 500;
/// … then as many as take about this long, so that an unsubscribe in between waits no longer than a blink …
const BATCH_TAKES: Duration = Duration::from_millis(9);
/// … and never more than this.
const LARGEST_BATCH: usize = 2_000;
const SMALLEST_BATCH: usize = 100;

struct Work {
    judge: Judge,
    id: i64,
    run: i64,
    now: Instant,
    origin: Origin,
    /// Of consent to text messages.
    by_text: Origin,
}

/// What goes from batch to batch.
#[derive(Default)]
struct Memory {
    seen: Seen,
    domains: HashMap<String, i64>,
}

/// Applies a checked run from where it stands, in batches; also goes on with one that a crash cut
/// short. `progress` is told the rows done and may stop it by returning false.
///
/// # Errors
/// When the run was not checked, or its file is gone.
pub async fn apply(store: &Store, id: i64, now: Instant, person: Option<i64>, mut progress: impl FnMut(i64) -> bool) -> Result<Run> {
    let (r, change) = store.write(move |c| start(c, id, now, person)).await?;
    if r.state == FileState::Applied {
        return Ok(r);
    }
    let file = path(store, id, "");
    let (f, s, rr) = (file.clone(), store.clone(), r.clone());
    let judge = tokio::task::spawn_blocking(move || s.read_now(|c| Judge::new(c, &rr, &f, rules_of(c, &rr)?)))
        .await
        .map_err(|_| StoreError::Stopped)??;
    let origin = Origin {
        source: "import",
        evidence: r.evidence.clone(),
        import: Some(id),
        run: Some(change),
        person,
        entity: r.entity.clone(),
        ..Origin::default()
    };
    let by_text = Origin { channel: Channel::Text, ..origin.clone() };
    let work = Arc::new(Work { judge, id, run: change, now, origin, by_text });
    let mut rows = tables::records(&file, r.delimiter.as_bytes()[0])?;
    let mut record = csv::StringRecord::new();
    let skip = r.done + i64::from(r.header);
    let mut memory = Memory::default();
    let (mut at, mut done, mut size) = (0, r.done, FIRST_BATCH);
    loop {
        let mut batch = Vec::with_capacity(size);
        while batch.len() < size && rows.read_record(&mut record)? {
            at += 1;
            if at <= skip {
                // What a crash cut short still knows its earlier rows.
                work.judge.remember(&mut memory.seen, &record);
                continue;
            }
            batch.push(record.clone());
        }
        if batch.is_empty() {
            break;
        }
        done += i64::try_from(batch.len()).unwrap_or(0);
        let (w, upto, mut moved) = (Arc::clone(&work), done, std::mem::take(&mut memory));
        let took;
        (memory, took) = store
            .write(move |c| {
                let began = Moment::now();
                let mut n = Counts::default();
                for record in &batch {
                    let judged = w.judge.judge(c, &mut moved.seen, record)?;
                    n.count(&judged.fate);
                    take(c, &w, &mut moved.domains, judged)?;
                }
                // What became of the rows, not what the dry run foresaw: others may have changed the base since.
                c.prepare_cached("UPDATE import_run SET done = ?2, new = new + ?3, changed = changed + ?4, unchanged = unchanged + ?5, refused = refused + ?6, came_back = came_back + ?7 WHERE id = ?1")?
                    .execute(params![w.id, upto, n.new, n.changed, n.unchanged, n.refused, n.came_back])?;
                Ok((moved, began.elapsed()))
            })
            .await?;
        if took > BATCH_TAKES {
            size = (size / 2).max(SMALLEST_BATCH);
        } else if took * 2 < BATCH_TAKES {
            size = (size * 2).min(LARGEST_BATCH);
        }
        if !progress(done) {
            stage::forget_raw(store, id);
            return store.write(move |c| finish(c, id, change, FileState::Cancelled, now, person)).await;
        }
    }
    stage::forget_raw(store, id);
    store.write(move |c| finish(c, id, change, FileState::Applied, now, person)).await
}

/// Marks the run as being applied, makes its fields and tags, and begins its run of changes.
fn start(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<(Run, i64)> {
    let r = run(c, id)?;
    let there = runs::of_import(c, id, now)?.map(|x| x.id);
    match r.state {
        FileState::Checked | FileState::Applying => {}
        FileState::Applied => return Ok((r, there.unwrap_or(0))),
        _ => return Err(StoreError::Refused("Check the import before applying it.".into())),
    }
    for m in r.mapping.iter().flatten() {
        match m {
            Field::Own { name, kind } => fields::named(c, name, *kind, now)?,
            Field::Score { name } => fields::named(c, name, FieldKind::Number, now)?,
            _ => 0,
        };
    }
    if r.fixes.tags {
        for finding in rinse_core::base_check::Finding::ALL.into_iter().filter(|f| r.findings.rows.contains_key(f.code())) {
            if let Some(tag) = finding.tag() {
                tags::named(c, Kind::Tag, tag, now)?;
            }
        }
    }
    let change = match there {
        Some(change) => change,
        None => runs::begin(c, now, person, "import", &format!("import of {}", r.file_name), Some(id))?,
    };
    c.execute(
        formatcp!("UPDATE import_run SET state = {FILE_APPLYING}, new = 0, changed = 0, unchanged = 0, refused = 0, came_back = 0 WHERE id = ?1 AND state = {FILE_CHECKED}"),
        [id],
    )?;
    Ok((run(c, id)?, change))
}

fn finish(c: &Connection, id: i64, change: i64, state: FileState, now: Instant, person: Option<i64>) -> Result<Run> {
    c.execute("UPDATE import_run SET state = ?2 WHERE id = ?1", params![id, Worded(state)])?;
    let r = run(c, id)?;
    runs::finish(c, change, usize::try_from(r.new + r.changed).unwrap_or(0))?;
    let counts = format!("{}: {} new, {} changed, {} refused", r.file_name, r.new, r.changed, r.refused);
    crate::settings::audit(c, now, person, &format!("import {state}"), "import", id, &counts)?;
    Ok(r)
}

/// Writes what a row changes, and keeps what was before.
fn take(c: &Connection, w: &Work, domains: &mut HashMap<String, i64>, judged: Judged) -> Result<()> {
    if let Fate::CameBack(hash) = &judged.fate {
        return super::records::note_back(c, hash, w.id, w.now);
    }
    let Some(row) = judged.row else { return Ok(()) };
    let tags: Vec<i64> = w.judge.tags_for(&judged.findings).into_iter().flatten().collect();
    let agrees = w.judge.consent && !row.corrected;
    let is_new = matches!(judged.fate, Fate::New);
    let contact = match judged.fate {
        Fate::New => {
            let domain = match domains.get(&row.address.domain) {
                Some(id) => *id,
                None => {
                    let id = contacts::domain_id(c, &row.address.domain)?;
                    domains.insert(row.address.domain.clone(), id);
                    id
                }
            };
            // Consent to another legal entity stands beside the person's row, not in it.
            let own = w.origin.entity.is_empty();
            let consent = if agrees && own { Consent::Consented } else { Consent::None };
            let contact = contacts::insert(c, &row.address, domain, &row.profile, w.now, (Some(w.id), Some(w.run)), consent)?;
            if agrees && own {
                ledger::first(c, contact, w.now, Act::Agreed, &w.origin)?;
            } else if agrees {
                ledger::act(c, contact, w.now, Act::Agreed, &w.origin)?;
            }
            contact
        }
        Fate::Changed(contact) => {
            if let (Some(score), Some(field)) = (&row.score, w.judge.score) {
                let before = Image::Score {
                    field: fields::stored(c, contact, field)?,
                    id: field,
                    day: score.day,
                    source: score.source.clone(),
                    number: fields::scored(c, contact, field, score.day, &score.source)?,
                };
                runs::keep(c, w.run, contact, &before)?;
                fields::score(c, contact, field, score.number, score.day, &score.source)?;
                return Ok(());
            }
            runs::keep(c, w.run, contact, &before(c, w, contact, &row, &tags)?)?;
            contacts::update(c, contact, &row.profile)?;
            if agrees {
                ledger::act(c, contact, w.now, Act::Agreed, &w.origin)?;
            }
            contact
        }
        _ => return Ok(()),
    };
    if let Some(phone) = &row.phone {
        // Whose it is was asked as the row was judged.
        let before = if is_new { None } else { numbers::of(c, contact)? };
        if before.as_deref() != Some(phone.as_str()) {
            numbers::change(c, contact, before.as_deref(), Some(phone), w.now, &w.origin)?;
        }
        if w.judge.texts {
            ledger::act(c, contact, w.now, Act::Agreed, &w.by_text)?;
        }
    }
    for (column, value) in &row.own {
        if let Some(field) = w.judge.fields.get(*column).copied().flatten() {
            fields::set(c, contact, field, value, None, None)?;
        }
    }
    for tag in tags {
        tags::put(c, Kind::Tag, tag, contact, w.now)?;
    }
    if let Some(list) = w.judge.list {
        tags::put(c, Kind::List, list.0, contact, w.now)?;
    }
    Ok(())
}

/// What is changed by a row, as it stands before.
fn before(c: &Connection, w: &Work, contact: ContactId, row: &Row, tags: &[i64]) -> Result<Image> {
    let fields = row.own.iter().filter_map(|(column, _)| w.judge.fields.get(*column).copied().flatten());
    let profile = contacts::profile(c, contact)?;
    let entity = w.origin.entity.clone();
    let stated = ledger::stated_for(c, contact, Grant::email(&entity))?;
    let number = row.phone.is_some().then(|| numbers::held(c, contact)).transpose()?;
    let new = |kind, ids: &mut dyn Iterator<Item = i64>| -> Result<Vec<i64>> {
        let mut out = Vec::new();
        for id in ids {
            if missing(c, kind, id, contact)? {
                out.push(id);
            }
        }
        Ok(out)
    };
    Ok(Image::Profile {
        profile,
        fields: fields.map(|f| fields::stored(c, contact, f)).collect::<Result<_>>()?,
        lists: new(Kind::List, &mut w.judge.list.map(|id| id.0).into_iter())?,
        tags: new(Kind::Tag, &mut tags.iter().copied())?,
        consent: (w.judge.consent && !row.corrected && matches!(stated.consent, Consent::None | Consent::Invited)).then_some(stated),
        entity,
        number,
    })
}
