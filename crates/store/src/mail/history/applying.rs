//! Applying a file that was looked through: the ways of the messages first, then the answers, in parts that leave room for others, each with
//! its progress in the same transaction.

use super::taking::{self, Memory, Taken, Takes};
use super::{LogFile, Mapping, one, outside, proposed};
use crate::codes::{FILE_APPLYING, TRIAL_COLLECTING};
use crate::stored::Worded;
use crate::{Result, Store, StoreError, tables};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::history::proposed::Proposed;
use rinse_core::history::times::Times;
use rinse_core::history::{self, Event, MORE_MAY_COME, PastMailing};
use rinse_core::id::MailingId;
use rinse_core::standing::FileState;
use rusqlite::{Connection, params};
use std::fs::File;
use std::time::{Duration, Instant as Moment};

/// Rows of one part to begin with …
const FIRST: usize = 500;
/// … then as many as take about this long …
const TAKES: Duration = Duration::from_millis(25);
/// … and never more or fewer than these.
const MOST: usize = 5_000;
const FEWEST: usize = 100;
/// Refused rows that are kept of a file.
const REFUSED_KEPT: i64 = 100_000;

/// What a row of the file is.
enum Read {
    Event(Box<Event>),
    Mailing(Box<PastMailing>),
    Refused(String),
}

/// Where in the file a part begins and what is read from there.
struct Reader {
    rows: csv::Reader<tables::Bounded<File>>,
    mapping: Mapping,
    times: Times,
    /// The mailings of a log that names none.
    named: Proposed,
    /// In the first pass the ways of messages, then the answers.
    steps: bool,
    row: i64,
}

impl Reader {
    fn open(store: &Store, file: &LogFile, steps: bool, behind: i64) -> Result<Self> {
        let named = file.names(&store.read_now(|c| proposed(c, file.id))?);
        Ok(Self { rows: file.rows(store, behind)?, mapping: file.mapping.clone(), times: file.times(), named, steps, row: behind })
    }

    /// The next rows that this pass is about, and how many were looked at.
    fn next(&mut self, size: usize) -> Result<(Vec<(i64, Read)>, i64)> {
        let (mut out, mut looked_at, mut record) = (Vec::with_capacity(size), 0, csv::StringRecord::new());
        // Rows of the other pass are passed over, not for ever: progress is told.
        while out.len() < size && looked_at < 20 * i64::try_from(size).unwrap_or(i64::MAX) && self.rows.read_record(&mut record)? {
            (self.row, looked_at) = (self.row + 1, looked_at + 1);
            let cells: Vec<&str> = record.iter().collect();
            let read = match &self.mapping {
                Mapping::Events(columns) => match history::event(&cells, columns, &self.times) {
                    Ok(mut e) if taking::is_step(e.kind) == self.steps => {
                        self.named.name(&mut e);
                        Read::Event(Box::new(e))
                    }
                    Err(why) if self.steps => Read::Refused(why),
                    _ => continue,
                },
                Mapping::Mailings(columns) => match history::mailing(&cells, columns, &self.times) {
                    Ok(m) => Read::Mailing(Box::new(m)),
                    Err(why) => Read::Refused(why),
                },
            };
            out.push((self.row, read));
        }
        Ok((out, looked_at))
    }
}

/// Applies a file from where it stands; also goes on with one that a crash cut short. `progress` is told the rows that are done and may stop
/// it by returning false: what was applied stays, and can be taken back.
///
/// # Errors
/// When it wasn't looked through, or its file is gone.
pub async fn apply(store: &Store, id: i64, now: Instant, person: Option<i64>, progress: impl FnMut(i64) -> bool) -> Result<LogFile> {
    let file = store.write(move |c| start(c, id, now)).await?;
    if file.state != FileState::Applying {
        return Ok(file);
    }
    let done = parts(store, &file, now, person, progress).await;
    if done.is_err() {
        // What is in stays, as of one that was stopped: it can be taken back, and brought again.
        finish(store, id, FileState::Cancelled, now, person).await?;
    }
    done
}

async fn parts(store: &Store, file: &LogFile, now: Instant, person: Option<i64>, mut progress: impl FnMut(i64) -> bool) -> Result<LogFile> {
    let id = file.id;
    let takes = Takes {
        log: Some(id),
        name: file.file_name.clone(),
        accepts: file.found.accepts,
        newcomers: file.newcomers,
        unnamed: file.unnamed,
        now,
    };
    let passes: &[bool] = if matches!(file.mapping, Mapping::Events(_)) { &[true, false] } else { &[true] };
    let (mut done, mut size) = (file.done, FIRST);
    for (i, &steps) in passes.iter().enumerate() {
        let before = i64::try_from(i).unwrap_or(0) * file.records;
        if done >= before + file.records && done > 0 {
            continue;
        }
        let (s, f, behind) = (store.clone(), file.clone(), done - before);
        let mut reader =
            tokio::task::spawn_blocking(move || Reader::open(&s, &f, steps, behind)).await.map_err(|_| StoreError::Stopped)??;
        loop {
            let read = tokio::task::spawn_blocking(move || {
                let part = reader.next(size);
                (reader, part)
            })
            .await
            .map_err(|_| StoreError::Stopped)?;
            reader = read.0;
            let (batch, looked_at) = read.1?;
            if looked_at == 0 {
                break;
            }
            done += looked_at;
            let (t, upto) = (takes.clone(), done);
            let took = store.write(move |c| part(c, id, &t, &batch, upto)).await?;
            if took > TAKES {
                size = (size / 2).max(FEWEST);
            } else if took * 2 < TAKES {
                size = (size * 2).min(MOST);
            }
            if !progress(done) {
                return finish(store, id, FileState::Cancelled, now, person).await;
            }
        }
    }
    finish(store, id, FileState::Applied, now, person).await
}

/// Trials that another system sends are read a day after the last file of a log at the earliest: it may tell in one who was sent something, and in the
/// next what they did.
fn readings_wait(c: &Connection, now: Instant) -> Result<()> {
    let from = now + MORE_MAY_COME;
    c.prepare_cached(formatcp!(
        "UPDATE trial SET reading_due = max(reading_due, ?1) WHERE state = {TRIAL_COLLECTING} AND (SELECT handed_out FROM mailing m WHERE m.id = trial.mailing_id) = 1"
    ))?
    .execute([from.millis()])?;
    c.prepare_cached(formatcp!(
        "UPDATE hour_trial SET reading_due = max(reading_due, ?1) WHERE state = {TRIAL_COLLECTING}
            AND EXISTS (SELECT 1 FROM hour_round r JOIN mailing m ON m.id = r.mailing_id WHERE r.trial_id = hour_trial.id AND m.handed_out = 1)"
    ))?
    .execute([from.millis()])?;
    Ok(())
}

fn start(c: &Connection, id: i64, now: Instant) -> Result<LogFile> {
    let file = one(c, id)?;
    match file.state {
        FileState::Applying | FileState::Applied => return Ok(file),
        FileState::Checked => {}
        _ => return Err(StoreError::Refused("Look through the file before applying it.".into())),
    }
    outside::letterhead(c)?;
    c.execute("DELETE FROM log_refused WHERE log_id = ?1", [id])?;
    if file.by_subject {
        for p in proposed(c, id)? {
            let (name, sent_at) = (p.subject.clone(), Instant::of(p.from));
            let m = PastMailing { key: p.key, name, subject: p.subject, topic: String::new(), sent_at, size: None };
            let (mailing, _) = outside::put(c, &m, Some(id))?;
            c.prepare_cached("INSERT OR IGNORE INTO log_mailing VALUES (?1, ?2)")?.execute([mailing.0, id])?;
        }
    }
    c.execute(formatcp!("UPDATE log_file SET state = {FILE_APPLYING}, done = 0, new = 0, known = 0, refused = 0 WHERE id = ?1"), [id])?;
    readings_wait(c, now)?;
    one(c, id)
}

/// Takes a part in; how long it took.
fn part(c: &Connection, id: i64, t: &Takes, batch: &[(i64, Read)], upto: i64) -> Result<Duration> {
    let began = Moment::now();
    let (mut memory, mut new, mut known, mut refused) = (Memory::default(), 0, 0, 0_i64);
    let kept: i64 = c.prepare_cached("SELECT refused FROM log_file WHERE id = ?1")?.query_row([id], |r| r.get(0))?;
    for (row, read) in batch {
        let taken = match read {
            Read::Event(e) => taking::take(c, t, &mut memory, e)?,
            Read::Mailing(m) if m.sent_at > t.now => Taken::Refused("it lies in the future".into()),
            Read::Mailing(m) => {
                let (mailing, put) = outside::put(c, m, t.log)?;
                c.prepare_cached("INSERT OR IGNORE INTO log_mailing VALUES (?1, ?2)")?.execute([mailing.0, id])?;
                if put == outside::Put::New { Taken::New } else { Taken::Known }
            }
            Read::Refused(why) => Taken::Refused(why.clone()),
        };
        match taken {
            Taken::New => new += 1,
            Taken::Known => known += 1,
            Taken::Refused(why) => {
                refused += 1;
                if kept + refused <= REFUSED_KEPT {
                    c.prepare_cached("INSERT OR IGNORE INTO log_refused VALUES (?1, ?2, ?3)")?.execute(params![id, row, why])?;
                }
            }
        }
    }
    taking::settle(c, &mut memory)?;
    c.prepare_cached("UPDATE log_file SET done = ?2, new = new + ?3, known = known + ?4, refused = refused + ?5 WHERE id = ?1")?
        .execute(params![id, upto, new, known, refused])?;
    Ok(began.elapsed())
}

/// Finishes the mailings that a file spoke of, one by one, then the file itself.
async fn finish(store: &Store, id: i64, state: FileState, now: Instant, person: Option<i64>) -> Result<LogFile> {
    finish_mailings(store, id).await?;
    store
        .write(move |c| {
            c.execute("UPDATE log_file SET state = ?2, applied_at = ?3 WHERE id = ?1", params![id, Worded(state), now.millis()])?;
            readings_wait(c, now)?;
            let f = one(c, id)?;
            let counts = format!("{}: {} new, {} known, {} refused", f.file_name, f.new, f.known, f.refused);
            crate::settings::audit(c, now, person, &format!("past mailings {state}"), "history", id, &counts)?;
            Ok(f)
        })
        .await
}

/// Marks the messages of a mailing whose log has no agents, in parts: whether a person opened them isn't known.
///
/// # Errors
/// When the database fails.
pub async fn mark_unknown(store: &Store, mailing: MailingId) -> Result<()> {
    let mut after = Some(-1);
    while let Some(last) = after {
        after = store.write(move |c| taking::mark_some(c, mailing, last)).await?;
    }
    Ok(())
}

async fn finish_mailings(store: &Store, id: i64) -> Result<()> {
    let spoken_of: Vec<i64> = store
        .read(move |c| {
            let mut s = c.prepare_cached(
                "SELECT l.mailing_id FROM log_mailing l JOIN mailing m ON m.id = l.mailing_id WHERE l.log_id = ?1 ORDER BY m.started_at, m.id",
            )?;
            Ok(s.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
        })
        .await?;
    for mailing in spoken_of {
        mark_unknown(store, MailingId(mailing)).await?;
        store.write(move |c| taking::finish_mailing(c, MailingId(mailing))).await?;
    }
    Ok(())
}
