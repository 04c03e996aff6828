//! Counts and rates at each step, and the people behind them.

use super::Kept;
use crate::send_state::{BETWEEN, FAILED, HELD, NOT_SENT, PLACED};
use crate::{Result, StoreError, figures};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::figure::Figure;
use rinse_core::id::{ContactId, MailingId, SeriesId, TrialId};
use rinse_core::report::Rate;
use rinse_core::series::Does;
use rinse_core::standing::SeriesState;
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// What became of a step's messages.
#[derive(Debug, Clone, Default, Serialize, ToSchema)]
pub struct SeriesMail {
    pub accepted: u64,
    /// Held by a rule now, and due or on their way.
    pub held: i64,
    pub pending: i64,
    pub barred: i64,
    /// Refused for good; what was accepted and came back later is among the accepted.
    pub failed: i64,
    pub opened: Option<Rate>,
    pub clicked: Option<Rate>,
    pub left: Option<Rate>,
    /// The trial that its variants are in.
    pub trial: Option<TrialId>,
}

/// A step with its counts.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeriesLine {
    pub step: u32,
    pub words: String,
    pub depth: usize,
    /// The fork it lies under, and on which side.
    pub under: Option<u32>,
    pub on_yes: Option<bool>,
    pub mailing: Option<MailingId>,
    /// Came to it; there now; went on.
    pub came: i64,
    pub here: i64,
    pub on: i64,
    /// Of those who entered, the share that came to it.
    pub reached: Rate,
    /// Of a fork: went the yes way. Of a wait for something: it happened in time.
    pub yes: Option<Rate>,
    pub mail: Option<SeriesMail>,
}

/// Why people are out, with how many.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeriesOut {
    pub why: String,
    pub people: Rate,
}

/// A series with all its figures.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeriesView {
    #[serde(flatten)]
    pub series: Kept,
    pub entry_words: String,
    pub again_words: String,
    pub exit_words: Vec<String>,
    pub lines: Vec<SeriesLine>,
    pub entered: i64,
    pub inside: i64,
    pub out: Vec<SeriesOut>,
    /// Left it by their own choice.
    pub left: i64,
    /// The number that a new step gets: no step ever had it.
    pub next_step: u32,
    /// The finding in a sentence.
    pub sentence: String,
}

fn count(c: &Connection, sql: &str, id: SeriesId) -> Result<i64> {
    Ok(c.prepare_cached(sql)?.query_row([id.0], |r| r.get(0))?)
}

fn rate(n: i64, of: i64) -> Rate {
    Rate::new(n.unsigned_abs(), of.unsigned_abs())
}

fn mail(c: &Connection, mailing: MailingId) -> Result<SeriesMail> {
    let sums = figures::of_mailings(c, &[mailing])?.remove(&mailing).unwrap_or_default();
    Ok(c.prepare_cached(
        formatcp!("SELECT count(*) FILTER (WHERE state = {HELD}), count(*) FILTER (WHERE state IN ({PLACED}, {BETWEEN})), count(*) FILTER (WHERE state = {NOT_SENT}),
            count(*) FILTER (WHERE state = {FAILED} AND accepted_at IS NULL), (SELECT id FROM trial WHERE mailing_id = ?1)
         FROM send WHERE mailing_id = ?1"),
    )?
    .query_row([mailing.0], |r| {
        Ok(SeriesMail {
            accepted: sums.of(Figure::Accepted),
            held: r.get(0)?,
            pending: r.get(1)?,
            barred: r.get(2)?,
            failed: r.get(3)?,
            opened: Some(sums.rate(Figure::HumanOpens)),
            clicked: Some(sums.rate(Figure::HumanClicks)),
            left: Some(sums.rate(Figure::Leaving)),
            trial: r.get::<_, Option<i64>>(4)?.map(TrialId),
        })
    })?)
}

/// # Errors
/// When there is no such series.
pub fn view(c: &Connection, id: SeriesId) -> Result<SeriesView> {
    let k = super::one(c, id)?;
    let named = super::named(c, &k.outline)?;
    let entered = count(c, "SELECT count(*) FROM series_entry WHERE series_id = ?1", id)?;
    let inside = count(c, "SELECT count(*) FROM series_entry WHERE series_id = ?1 AND ended_at IS NULL", id)?;
    let mut s = c.prepare_cached("SELECT step, count(*) FROM series_entry WHERE series_id = ?1 AND ended_at IS NULL GROUP BY step")?;
    let here: HashMap<u32, i64> = s.query_map([id.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    // Who left from a step by an exit came to it, and didn't go on.
    let mut s = c.prepare_cached(
        "SELECT e.step, count(*) FROM series_entry e WHERE e.series_id = ?1 AND e.ended_at IS NOT NULL
         AND NOT EXISTS (SELECT 1 FROM series_passage p WHERE p.entry_id = e.id AND p.step = e.step) GROUP BY e.step",
    )?;
    let out_of: HashMap<u32, i64> = s.query_map([id.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let mut s = c.prepare_cached("SELECT step, how, count(*) FROM series_passage WHERE series_id = ?1 GROUP BY step, how")?;
    let mut passed: HashMap<u32, HashMap<String, i64>> = HashMap::new();
    let mut rows = s.query([id.0])?;
    while let Some(r) = rows.next()? {
        passed.entry(r.get(0)?).or_default().insert(r.get(1)?, r.get(2)?);
    }
    let mut lines = Vec::new();
    for p in k.outline.placed() {
        let how = passed.get(&p.step.id);
        let on: i64 = how.map_or(0, |h| h.values().sum());
        let of = |code: &str| how.and_then(|h| h.get(code)).copied().unwrap_or(0);
        let at = here.get(&p.step.id).copied().unwrap_or(0);
        let came = on + at + out_of.get(&p.step.id).copied().unwrap_or(0);
        let (mailing, yes) = match &p.step.does {
            Does::Mail { mailing } => (Some(*mailing), None),
            Does::Fork { .. } => (None, Some(rate(of("yes"), on))),
            Does::Await { .. } => (None, Some(rate(of("happened"), on))),
            _ => (None, None),
        };
        lines.push(SeriesLine {
            step: p.step.id,
            words: named.step(p.step),
            depth: p.depth,
            under: p.under.map(|u| u.0),
            on_yes: p.under.map(|u| u.1),
            mailing,
            came,
            here: at,
            on,
            reached: rate(came, entered),
            yes,
            mail: mailing.map(|m| mail(c, m)).transpose()?,
        });
    }
    let mut s = c.prepare_cached(
        "SELECT ended, count(*) FROM series_entry WHERE series_id = ?1 AND ended_at IS NOT NULL GROUP BY ended ORDER BY 2 DESC, 1",
    )?;
    let out: Vec<(String, i64)> = s.query_map([id.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    let left = count(c, "SELECT count(*) FROM series_left WHERE series_id = ?1", id)?;
    let ever: u32 = c
        .prepare_cached("SELECT max(coalesce((SELECT max(step) FROM series_passage WHERE series_id = ?1), 0), coalesce((SELECT max(step) FROM series_entry WHERE series_id = ?1), 0))")?
        .query_row([id.0], |r| r.get(0))?;
    let next_step = 1 + k.outline.placed().iter().map(|p| p.step.id).max().unwrap_or(0).max(ever);
    let through = out.iter().find(|(why, _)| why == "through").map_or(0, |(_, n)| *n);
    let sentence = sentence(&k, entered, inside, through);
    Ok(SeriesView {
        entry_words: named.entry(&k.outline.entry),
        again_words: k.outline.again.words(),
        exit_words: k.outline.exits.iter().map(|e| named.exit(e)).collect(),
        series: k,
        lines,
        entered,
        inside,
        out: out.into_iter().map(|(why, n)| SeriesOut { why, people: rate(n, entered) }).collect(),
        left,
        next_step,
        sentence,
    })
}

fn sentence(k: &Kept, entered: i64, inside: i64, through: i64) -> String {
    let n = |n: i64| rinse_core::words::thousands(n.unsigned_abs());
    let so_far = match entered {
        0 => "nobody has entered yet".to_owned(),
        _ => format!(
            "{} entered, {} are inside, {} came through, {} left before the end",
            n(entered),
            n(inside),
            n(through),
            n(entered - inside - through)
        ),
    };
    match (k.state, k.paused_at) {
        (SeriesState::Draft, _) => "A draft: nobody enters before it is started.".into(),
        (SeriesState::Ended, _) => format!("Ended: {so_far}."),
        (SeriesState::Running, Some(_)) => format!("Paused, nobody moves on and nothing goes out: {so_far}."),
        (SeriesState::Running, None) => format!("Running: {so_far}."),
    }
}

/// A series as lists show it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeriesRow {
    pub id: SeriesId,
    pub name: String,
    pub state: SeriesState,
    pub paused: bool,
    pub words: String,
    pub messages: usize,
    pub entered: i64,
    pub inside: i64,
    pub through: Rate,
    pub started_at: Option<i64>,
}

/// All series, with how many are inside.
///
/// # Errors
/// When the database fails.
pub fn rows(c: &Connection) -> Result<Vec<SeriesRow>> {
    super::all(c)?
        .into_iter()
        .map(|k| {
            let named = super::named(c, &k.outline)?;
            let (entered, inside, through): (i64, i64, i64) = c
                .prepare_cached("SELECT count(*), count(*) FILTER (WHERE ended_at IS NULL), count(*) FILTER (WHERE ended = 'through') FROM series_entry WHERE series_id = ?1")?
                .query_row([k.id.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
            Ok(SeriesRow {
                id: k.id,
                words: k.outline.words(&named),
                messages: k.outline.mailings().len(),
                name: k.name,
                state: k.state,
                paused: k.paused_at.is_some(),
                entered,
                inside,
                through: rate(through, entered - inside),
                started_at: k.started_at,
            })
        })
        .collect()
}

/// How many people are inside all running series.
///
/// # Errors
/// When the database fails.
pub fn inside(c: &Connection) -> Result<i64> {
    Ok(c.prepare_cached("SELECT count(*) FROM series_entry WHERE ended_at IS NULL")?.query_row([], |r| r.get(0))?)
}

/// Somebody who is or was in a series.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeriesPerson {
    pub contact: ContactId,
    pub address: String,
    pub entered_at: i64,
    pub cause: String,
    /// The step they are at, or were at last, in words.
    pub at: String,
    pub came_at: i64,
    /// When they are looked at next; null: they wait for something.
    pub due: Option<i64>,
    pub ended_at: Option<i64>,
    pub ended: Option<String>,
}

/// Which people are asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Who {
    Everyone,
    Inside,
    /// At a step now.
    Here(u32),
    /// Came to a step.
    Came(u32),
    /// Left a step so.
    How(u32, String),
    /// Out, for this reason.
    Out(String),
}

impl Who {
    /// Reads what a page asks for: `inside`, `here-3`, `came-3`, `yes-3`, `no-3`, `out-…`.
    ///
    /// # Errors
    /// When it says none of these.
    pub fn read(text: &str) -> Result<Self> {
        let step = |n: &str| n.parse::<u32>().map_err(|_| StoreError::Refused(format!("{n:?} is no step.")));
        Ok(match text.split_once('-') {
            None if text.is_empty() => Self::Everyone,
            None if text == "inside" => Self::Inside,
            Some(("here", n)) => Self::Here(step(n)?),
            Some(("came", n)) => Self::Came(step(n)?),
            Some(("out", why)) => Self::Out(why.to_owned()),
            Some((how, n)) => Self::How(step(n)?, how.to_owned()),
            None => return Err(StoreError::Refused(format!("{text:?} names no people of a series."))),
        })
    }
}

/// The people of a part of a series, the latest first: 500, or all for a file.
///
/// # Errors
/// When there is no such series.
pub fn people(c: &Connection, id: SeriesId, who: &Who, everyone: bool) -> Result<Vec<SeriesPerson>> {
    let k = super::one(c, id)?;
    let named = super::named(c, &k.outline)?;
    let words: HashMap<u32, String> = k.outline.placed().iter().map(|p| (p.step.id, named.step(p.step))).collect();
    let passed = "EXISTS (SELECT 1 FROM series_passage p WHERE p.entry_id = e.id AND p.step = ?2";
    let (filter, step, text) = match who {
        Who::Everyone => ("?2 IS NULL AND ?3 IS NULL".to_owned(), None, None),
        Who::Inside => ("e.ended_at IS NULL AND ?2 IS NULL AND ?3 IS NULL".to_owned(), None, None),
        Who::Here(s) => ("e.ended_at IS NULL AND e.step = ?2 AND ?3 IS NULL".to_owned(), Some(*s), None),
        Who::Came(s) => (format!("?3 IS NULL AND (e.step = ?2 OR {passed}))"), Some(*s), None),
        Who::How(s, how) => (format!("{passed} AND p.how = ?3)"), Some(*s), Some(how.clone())),
        Who::Out(why) => ("?2 IS NULL AND e.ended = ?3".to_owned(), None, Some(why.clone())),
    };
    let mut s = c.prepare(&format!(
        "SELECT k.id, k.address, e.at, e.cause, e.step, e.came_at, e.due, e.ended_at, e.ended FROM series_entry e JOIN contact g ON g.id = e.contact_id
         JOIN contact k ON k.id = coalesce(g.merged_into, g.id) WHERE e.series_id = ?1 AND {filter} ORDER BY e.came_at DESC, e.id DESC LIMIT ?4"
    ))?;
    let rows = s.query_map(params![id.0, step, text, if everyone { -1 } else { 500 }], |r| {
        let step: u32 = r.get(4)?;
        Ok(SeriesPerson {
            contact: ContactId(r.get(0)?),
            address: r.get(1)?,
            entered_at: r.get(2)?,
            cause: r.get(3)?,
            at: words.get(&step).cloned().unwrap_or_else(|| "a step that is gone".into()),
            came_at: r.get(5)?,
            due: r.get(6)?,
            ended_at: r.get(7)?,
            ended: r.get(8)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A series that somebody is or was in, for their own page.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SeriesOfPerson {
    pub series: SeriesId,
    pub name: String,
    pub entered_at: i64,
    pub cause: String,
    pub at: String,
    pub due: Option<i64>,
    pub ended_at: Option<i64>,
    pub ended: Option<String>,
    pub left_by_choice: bool,
}

/// The series of one person, the latest first.
///
/// # Errors
/// When the database fails.
pub fn of_person(c: &Connection, contact: ContactId) -> Result<Vec<SeriesOfPerson>> {
    let mut s = c.prepare_cached(
        "SELECT e.series_id, e.at, e.cause, e.step, e.due, e.ended_at, e.ended, EXISTS (SELECT 1 FROM series_left l WHERE l.series_id = e.series_id AND l.contact_id = ?1)
         FROM series_entry e WHERE e.contact_id = ?1 ORDER BY e.id DESC LIMIT 100",
    )?;
    let mut rows = s.query([contact.0])?;
    let mut known: HashMap<SeriesId, (Kept, rinse_core::series::Named)> = HashMap::new();
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let id = SeriesId(r.get(0)?);
        if let std::collections::hash_map::Entry::Vacant(e) = known.entry(id) {
            let k = super::one(c, id)?;
            let named = super::named(c, &k.outline)?;
            e.insert((k, named));
        }
        let (k, named) = &known[&id];
        let step: u32 = r.get(3)?;
        let at = k.outline.placed().iter().find(|p| p.step.id == step).map_or_else(|| "a step that is gone".into(), |p| named.step(p.step));
        out.push(SeriesOfPerson {
            series: id,
            name: k.name.clone(),
            entered_at: r.get(1)?,
            cause: r.get(2)?,
            at,
            due: r.get(4)?,
            ended_at: r.get(5)?,
            ended: r.get(6)?,
            left_by_choice: r.get(7)?,
        });
    }
    Ok(out)
}

/// Messages that those inside running series will come to by an instant, if nothing more happens: contact, mailing, instant.
/// Who will enter meanwhile isn't known.
///
/// # Errors
/// When the database fails.
pub fn ahead(c: &Connection, now: Instant, until: Instant) -> Result<Vec<(ContactId, MailingId, Instant)>> {
    super::walk::ahead(c, now, until)
}
