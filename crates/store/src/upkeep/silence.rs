//! Silent people, worked out once a day beside the writer, and exactly whenever a cleaning run is about one of them. Rules in
//! [`rinse_core::upkeep::silence`].

use super::policy;
use super::runs;
use crate::codes::{
    BECOMES_KEPT_BACK, BECOMES_SUNSET, CONFIRMED, CONSENTED, MEMBER_APPLIED, MEMBER_NOT_PUT_BACK, MEMBER_PUT_BACK, MEMBER_STAYED, RESTING,
    RETIRED,
};
use crate::ledger::{self, Origin};
use crate::stored::{As, ids_as};
use crate::{Result, Store, StoreError, guides, settings};
use const_format::formatcp;
use rinse_core::code::Code;
use rinse_core::id::{ContactId, SeriesId};
use rinse_core::report::Rate;
use rinse_core::segment::evaluate::day_of;
use rinse_core::segment::share;
use rinse_core::upkeep::Cause;
use rinse_core::upkeep::run::Becomes;
use rinse_core::upkeep::silence::{self, Asked, Became, Known, Numbers, Readout, Stage};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// People looked at by one read.
const PART: i64 = 10_000;
/// Rows written in one transaction.
const WRITTEN_AT_ONCE: usize = 2_000;
/// Mail load calls nobody silent before this.
const LOAD_DAYS: u32 = 90;
/// The recency guide is asked again after so many days: what pays changes slowly, and it reads half a year of mail.
const GUIDE_HOLDS_DAYS: i64 = 7;

/// What holds from one day to the next.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Kept {
    day: i64,
    /// What the recency guide suggested, and on which day.
    suggested: Option<u32>,
    suggested_on: i64,
    /// People who got a letter that asks, and those of them who answered it.
    asked: u64,
    came_back: u64,
}

const KEY: &str = "silence";
const SERIES: &str = "asking_series";

fn kept(c: &Connection) -> Result<Kept> {
    Ok(settings::get(c, KEY)?.map(|text| serde_json::from_str(&text)).transpose()?.unwrap_or_default())
}

/// The series that asks, where one was chosen.
///
/// # Errors
/// When the database fails.
pub fn asking_series(c: &Connection) -> Result<Option<SeriesId>> {
    Ok(settings::get(c, SERIES)?.and_then(|id| id.parse().ok()))
}

/// Chooses the series that asks.
///
/// # Errors
/// When there is no such series.
pub fn choose_series(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let name: String = c
        .prepare_cached("SELECT name FROM series WHERE id = ?1 AND ended_at IS NULL")?
        .query_row([id], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("series"))?;
    settings::set(c, SERIES, &id.to_string())?;
    settings::audit(c, now, person, "series that asks silent people chosen", "series", id, &name)
}

/// After how many days without an answer people are silent, by the policy or by what the recency guide suggested; none: nobody is.
fn window(numbers: &Numbers, kept: &Kept) -> Option<u32> {
    numbers.window_days.or(kept.suggested)
}

/// Judges people by their history.
pub(super) struct Judge {
    numbers: Numbers,
    window: Option<u32>,
    series: Option<SeriesId>,
    now: Instant,
}

/// Somebody silent.
#[derive(Debug, Clone, Copy)]
struct Found {
    contact: ContactId,
    stage: Stage,
    known: Known,
}

impl Judge {
    pub(super) fn new(c: &Connection, now: Instant) -> Result<Self> {
        let numbers = policy::current(c)?.policy.silence;
        Ok(Self { numbers, window: window(&numbers, &kept(c)?), series: asking_series(c)?, now })
    }

    /// What is known of somebody who may get marketing mail; none of others.
    fn known(&self, c: &Connection, contact: ContactId) -> Result<Option<Known>> {
        // Answers are the first of each kind to a message; an open that can't be told from a machine's is none.
        let mut s = c.prepare_cached(
            formatcp!("SELECT l.cell % 5 = 4, l.blind,
                (SELECT max(max(coalesce(s.click_at, 0), coalesce(s.reply_at, 0), iif(s.opens_unknown = 0 AND l.blind = 0, coalesce(s.open_at, 0), 0)))
                    FROM send s INDEXED BY send_contact WHERE s.contact_id = k.id),
                (SELECT max(at) FROM purchase p WHERE p.contact_id = k.id AND p.cents >= 0),
                (SELECT max(at) FROM ledger e WHERE e.contact_id = k.id AND e.source IN ('sign-up', 'invitation', 'preferences page', 'button of a message')),
                (SELECT max(r.applied_at) FROM cleaning_member m INDEXED BY cleaning_silent JOIN cleaning_run r ON r.id = m.run_id
                    WHERE m.contact_id = k.id AND m.status_after IN ({BECOMES_SUNSET}, {BECOMES_KEPT_BACK}) AND (m.state IN ({MEMBER_PUT_BACK}, {MEMBER_STAYED}) OR m.state = {MEMBER_APPLIED} AND m.status_after = {BECOMES_KEPT_BACK})),
                (SELECT min(s.accepted_at) FROM send s INDEXED BY send_contact WHERE s.contact_id = k.id AND s.failed_at IS NULL AND s.channel = 1)
             FROM contact k JOIN mail_load l ON l.contact_id = k.id
             WHERE k.id = ?1 AND k.gone IS NULL AND k.sunset_at IS NULL AND k.consent IN ({CONSENTED}, {CONFIRMED}) AND k.status <> {RETIRED} AND NOT (k.status = {RESTING} AND k.status_until IS NULL)"),
        )?;
        let at = |r: &rusqlite::Row<'_>, n| r.get::<_, Option<i64>>(n).map(|at| at.filter(|at| *at > 0).map(Instant::of));
        let found = s
            .query_row([contact.0], |r| {
                let answered = [at(r, 2)?, at(r, 3)?, at(r, 4)?].into_iter().flatten().max();
                let (left_alone, first_delivered) = (at(r, 5)?, at(r, 6)?);
                Ok(Known { silent: r.get(0)?, open_blind: r.get(1)?, answered, first_delivered, asked: None, left_alone })
            })
            .optional()?;
        let Some(mut known) = found else { return Ok(None) };
        known.asked = self.asked(c, contact)?;
        Ok(Some(known))
    }

    fn asked(&self, c: &Connection, contact: ContactId) -> Result<Option<Asked>> {
        let Some(series) = self.series else { return Ok(None) };
        let mut s = c.prepare_cached(
            "SELECT e.at, e.ended_at IS NULL, (SELECT max(s.accepted_at) FROM send s INDEXED BY send_contact
                WHERE s.contact_id = e.contact_id AND s.cause = 2 AND s.cause_id = e.id AND s.failed_at IS NULL)
             FROM series_entry e WHERE e.contact_id = ?1 AND e.series_id = ?2 ORDER BY e.id DESC LIMIT 1",
        )?;
        let read = |r: &rusqlite::Row<'_>| {
            Ok(Asked { entered: Instant::of(r.get(0)?), inside: r.get(1)?, delivered: r.get::<_, Option<i64>>(2)?.map(Instant::of) })
        };
        Ok(s.query_row([contact.0, series.0], read).optional()?)
    }

    fn of(&self, c: &Connection, contact: ContactId) -> Result<Option<Found>> {
        let Some(window) = self.window else { return Ok(None) };
        let Some(known) = self.known(c, contact)? else { return Ok(None) };
        Ok(silence::stage(&known, window, &self.numbers, self.now).map(|stage| Found { contact, stage, known }))
    }

    /// Do they still let it pass?
    pub(super) fn still(&self, c: &Connection, contact: ContactId) -> Result<bool> {
        Ok(self.of(c, contact)?.is_some_and(|f| f.stage == Stage::LetPass))
    }

    fn part(&self, c: &Connection, from: i64) -> Result<Vec<Found>> {
        let sql = "SELECT contact_id FROM mail_load WHERE contact_id BETWEEN ?1 AND ?2 AND cell IN (4, 9, 14)";
        let some: Vec<ContactId> = ids_as(c, sql, [from, from + PART - 1], ContactId)?;
        let mut out = Vec::new();
        for contact in some {
            out.extend(self.of(c, contact)?);
        }
        Ok(out)
    }
}

/// Works out who is silent, reading beside the writer and writing a little at a time. Mail load comes first.
///
/// # Errors
/// When the database fails; the day before's stays until the next try.
pub async fn refresh(store: &Store, now: Instant) -> Result<()> {
    let today = day_of(now);
    let (mut kept, by_hand, last) = store
        .read_at_leisure(|c| {
            let last: i64 = c.query_row("SELECT coalesce(max(contact_id), 0) FROM mail_load", [], |r| r.get(0))?;
            Ok((kept(c)?, policy::current(c)?.policy.silence.window_days.is_some(), last))
        })
        .await?;
    if !by_hand && (kept.suggested_on == 0 || today - kept.suggested_on >= GUIDE_HOLDS_DAYS) {
        let guide = store.read_at_leisure(move |c| guides::recency(c, now)).await?.0;
        // Where it suggests nothing now, what it suggested last holds: nobody is silent one week and not the next for want of a suggestion.
        kept.suggested = guide.suggestion.and_then(|days| u32::try_from(days).ok()).or(kept.suggested);
        kept.suggested_on = today;
    }
    (kept.asked, kept.came_back) = store.read_at_leisure(came_back).await?;
    kept.day = today;
    let text = serde_json::to_string(&kept)?;
    store.write(move |c| settings::set(c, KEY, &text)).await?;
    for from in (1..=last).step_by(usize::try_from(PART).unwrap_or(1)) {
        let found = store.read_at_leisure(move |c| Judge::new(c, now)?.part(c, from)).await?;
        // Who isn't silent any more, then who is.
        let still: Vec<ContactId> = found.iter().map(|f| f.contact).collect();
        let still = serde_json::to_string(&still)?;
        store
            .write(move |c| {
                c.prepare_cached(
                    "DELETE FROM silent WHERE contact_id BETWEEN ?1 AND ?2 AND contact_id NOT IN (SELECT value FROM json_each(?3))",
                )?
                .execute(params![from, from + PART - 1, still])?;
                Ok(())
            })
            .await?;
        for some in found.chunks(WRITTEN_AT_ONCE) {
            let some = some.to_vec();
            store.write(move |c| some.iter().try_for_each(|f| put(c, f))).await?;
        }
    }
    Ok(())
}

fn put(c: &Connection, f: &Found) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO silent SELECT ?1, ?2, ?3, ?4, ?5 WHERE EXISTS (SELECT 1 FROM contact WHERE id = ?1 AND gone IS NULL)
         ON CONFLICT DO UPDATE SET stage = ?2, answered_at = ?3, blind = ?4, asked_at = ?5",
    )?
    .execute(params![
        f.contact.0,
        f.stage.code(),
        f.known.answered.map_or(0, |at| at.millis()),
        f.known.open_blind,
        f.known.asked.and_then(|a| a.delivered).map(|at| at.millis())
    ])?;
    Ok(())
}

/// People who got a letter that asks, and those who answered one or bought after it.
fn came_back(c: &Connection) -> Result<(u64, u64)> {
    let Some(series) = asking_series(c)? else { return Ok((0, 0)) };
    let n = |r: &rusqlite::Row<'_>, i| r.get::<_, i64>(i).map(i64::unsigned_abs);
    Ok(c.prepare_cached(
        "SELECT count(*), coalesce(sum(answered OR EXISTS (SELECT 1 FROM purchase p WHERE p.contact_id = a.contact_id AND p.cents >= 0 AND p.at > a.at)), 0)
         FROM (SELECT s.contact_id AS contact_id, min(s.accepted_at) AS at, max(coalesce(s.click_at, s.reply_at) IS NOT NULL) AS answered
            FROM mailing m JOIN send s ON s.mailing_id = m.id WHERE m.series_id = ?1 AND s.accepted_at IS NOT NULL AND s.failed_at IS NULL GROUP BY 1) a",
    )?
    .query_row([series.0], |r| Ok((n(r, 0)?, n(r, 1)?)))?)
}

/// Somebody gave a sign of life: they aren't silent any more.
///
/// # Errors
/// When the database fails.
pub(crate) fn ended(c: &Connection, contact: ContactId) -> Result<()> {
    c.prepare_cached("DELETE FROM silent WHERE contact_id = ?1")?.execute([contact.0])?;
    Ok(())
}

/// People at a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct AtStage {
    pub stage: Stage,
    pub people: i64,
    /// Of them, those whose opens can't be told.
    pub blind: i64,
}

/// The series that asks.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct AskingSeries {
    pub id: i64,
    pub name: String,
    pub state: String,
    /// People who got one of its letters, and how many of them answered one or bought after it.
    pub came_back: Rate,
}

/// Silent people, and what is done about them.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SilentView {
    /// The day on which it was worked out, in days since 1970-01-01; none: not yet.
    pub day: Option<i64>,
    /// Silent: no answer for so many days, by the mail load at least 90; none: the recency guide suggests nothing, and nothing is set by hand.
    pub window_days: Option<u32>,
    /// What the recency guide suggests.
    pub guide_days: Option<u32>,
    pub by_hand: bool,
    pub numbers: Numbers,
    pub stages: Vec<AtStage>,
    pub mailable: i64,
    pub series: Option<AskingSeries>,
    pub sunset: i64,
    pub readout: Readout,
    /// People kept back whose time isn't over, and when it is over for the first of them.
    pub kept_back: i64,
    pub next_read_at: Option<i64>,
}

/// # Errors
/// When the database fails.
pub fn view(c: &Connection, now: Instant) -> Result<SilentView> {
    let (kept, numbers) = (kept(c)?, policy::current(c)?.policy.silence);
    let mut s = c.prepare_cached("SELECT count(*), coalesce(sum(blind), 0) FROM silent WHERE stage = ?1")?;
    let stages = Stage::ALL
        .into_iter()
        .map(|stage| Ok(s.query_row([stage.code()], |r| Ok(AtStage { stage, people: r.get(0)?, blind: r.get(1)? }))?))
        .collect::<Result<_>>()?;
    let series = asking_series(c)?
        .map(|id| {
            c.prepare_cached("SELECT id, name, state FROM series WHERE id = ?1")?
                .query_row([id.0], |r| {
                    let came_back = Rate::new(kept.came_back, kept.asked);
                    Ok(AskingSeries { id: r.get(0)?, name: r.get(1)?, state: r.get(2)?, came_back })
                })
                .optional()
        })
        .transpose()?
        .flatten();
    let since = (now + -i64::from(numbers.kept_back_days) * DAY).millis();
    let (kept_back, first): (i64, Option<i64>) = c
        .prepare_cached(
            formatcp!("SELECT count(*), min(r.applied_at) FROM cleaning_run r JOIN cleaning_member m ON m.run_id = r.id WHERE m.state = {MEMBER_APPLIED} AND m.status_after = {BECOMES_KEPT_BACK} AND r.applied_at > ?1"),
        )?
        .query_row([since], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok(SilentView {
        day: (kept.day > 0).then_some(kept.day),
        window_days: window(&numbers, &kept).map(|days| days.max(LOAD_DAYS)),
        guide_days: kept.suggested,
        by_hand: numbers.window_days.is_some(),
        numbers,
        stages,
        mailable: super::made_of::mailable(c)?,
        series,
        sunset: super::made_of::sunset(c)?,
        readout: readout(c, &numbers, now)?,
        kept_back,
        next_read_at: first.map(|at| at + i64::from(numbers.kept_back_days) * DAY),
    })
}

/// What became of those kept back and those sunset, within their time, by runs for which that time is over.
fn readout(c: &Connection, numbers: &Numbers, now: Instant) -> Result<Readout> {
    let days = numbers.kept_back_days;
    let span = i64::from(days) * DAY;
    let bought = "EXISTS (SELECT 1 FROM purchase p WHERE p.contact_id = m.contact_id AND p.cents >= 0 AND p.at > r.applied_at AND p.at <= r.applied_at + ?1)";
    let within = |column: &str| format!("s.{column} > r.applied_at AND s.{column} <= r.applied_at + ?1");
    let mail =
        |which: &str| format!("EXISTS (SELECT 1 FROM send s INDEXED BY send_contact WHERE s.contact_id = m.contact_id AND ({which}))");
    let answered = mail(&format!("{} OR {} OR s.opens_unknown = 0 AND {}", within("click_at"), within("reply_at"), within("open_at")));
    let sql = format!(
        "SELECT count(*) FILTER (WHERE m.status_after = {BECOMES_KEPT_BACK}), count(*) FILTER (WHERE m.status_after = {BECOMES_KEPT_BACK} AND ({answered} OR {bought})),
            count(*) FILTER (WHERE m.status_after = {BECOMES_KEPT_BACK} AND {bought}), count(*) FILTER (WHERE m.status_after = {BECOMES_KEPT_BACK} AND {complained}),
            count(*) FILTER (WHERE m.status_after = {BECOMES_SUNSET}), count(*) FILTER (WHERE m.status_after = {BECOMES_SUNSET} AND {bought})
         FROM cleaning_run r JOIN cleaning_member m ON m.run_id = r.id
         WHERE r.applied_at <= ?2 AND m.state IN ({MEMBER_APPLIED}, {MEMBER_NOT_PUT_BACK}) AND m.status_after IN ({BECOMES_SUNSET}, {BECOMES_KEPT_BACK})",
        complained = mail(&within("complained_at")),
    );
    let became = c.prepare_cached(&sql)?.query_row(params![span, now.millis() - span], |r| {
        let n = |i| r.get::<_, i64>(i).map(i64::unsigned_abs);
        Ok(Became { kept: n(0)?, kept_answered: n(1)?, kept_bought: n(2)?, kept_complained: n(3)?, sunset: n(4)?, sunset_bought: n(5)? })
    })?;
    Ok(silence::readout(&became, days))
}

/// Somebody silent, as lists show them.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SilentRow {
    pub contact_id: ContactId,
    pub address: String,
    pub stage: Stage,
    pub answered_at: Option<i64>,
    pub asked_at: Option<i64>,
    pub open_blind: bool,
    /// Messages in 28 days.
    pub per_28_days: f64,
}

/// Silent people, the longest silent first, a page at a time after the one who answered then and has that number.
///
/// # Errors
/// When the database fails.
pub fn people(c: &Connection, stage: Option<Stage>, after: Option<(i64, i64)>, most: u32) -> Result<Vec<SilentRow>> {
    let sql = format!(
        "SELECT s.contact_id, k.address, s.stage, s.answered_at, s.asked_at, s.blind, coalesce((SELECT per_28_days FROM mail_load l WHERE l.contact_id = s.contact_id), 0)
         FROM silent s JOIN contact k ON k.id = s.contact_id WHERE ?1 IS ?1 {} AND (s.answered_at, s.contact_id) > (?2, ?3) ORDER BY s.answered_at, s.contact_id LIMIT ?4",
        if stage.is_some() { "AND s.stage = ?1" } else { "" }
    );
    let after = after.unwrap_or((-1, 0));
    let mut s = c.prepare_cached(&sql)?;
    let rows = s.query_map(params![stage.map(Code::code), after.0, after.1, most], |r| {
        Ok(SilentRow {
            contact_id: ContactId(r.get(0)?),
            address: r.get(1)?,
            stage: r.get::<_, As<Stage>>(2)?.0,
            answered_at: r.get::<_, Option<i64>>(3)?.filter(|at| *at > 0),
            asked_at: r.get(4)?,
            open_blind: r.get(5)?,
            per_28_days: r.get(6)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How far it is with somebody, as of the last day it was worked out.
///
/// # Errors
/// When the database fails.
pub fn stage_of(c: &Connection, contact: ContactId) -> Result<Option<Stage>> {
    Ok(c.prepare_cached("SELECT stage FROM silent WHERE contact_id = ?1")?
        .query_row([contact.0], |r| Ok(r.get::<_, As<Stage>>(0)?.0))
        .optional()?)
}

/// Puts those on a run who let it pass, from this number on; where to go on. A share of them, drawn by hash, is kept back.
///
/// # Errors
/// When the database fails.
pub fn put_on(c: &Connection, run: i64, after: i64, now: Instant, most: i64) -> Result<Option<i64>> {
    let sql = "SELECT contact_id FROM silent WHERE stage = 2 AND contact_id > ?1 ORDER BY contact_id LIMIT ?2";
    let some: Vec<ContactId> = ids_as(c, sql, [after, most], ContactId)?;
    let judge = Judge::new(c, now)?;
    let salt = format!("sunset {run}");
    for contact in &some {
        let Some(found) = judge.of(c, *contact)?.filter(|f| f.stage == Stage::LetPass) else { continue };
        let back = share::draw(&salt, *contact) < f64::from(judge.numbers.kept_back_percent) / 100.0;
        let (becomes, cause) = if back { (Becomes::KeptBack, Cause::KeptBack) } else { (Becomes::Sunset, Cause::LetPass) };
        let status = c
            .prepare_cached("SELECT status, status_until, status_cause FROM contact WHERE id = ?1")?
            .query_row([contact.0], super::status::stored)?;
        runs::put(c, run, *contact, status, (becomes, None, cause), &silence::why(&found.known))?;
    }
    Ok(some.last().map(|id| id.0).filter(|_| some.len() == usize::try_from(most).unwrap_or(0)))
}

/// Ends marketing to somebody for their silence.
pub(super) fn sunset(c: &Connection, contact: ContactId, at: Instant, origin: &Origin) -> Result<()> {
    ended(c, contact)?;
    ledger::put_sunset(c, contact, at, at, origin)?;
    Ok(())
}
