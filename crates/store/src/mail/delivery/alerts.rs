//! Alerts about mailbox groups: worked out again each day from what was counted of the last 90 days, opened at once by a
//! pause, ended by three mailings within limits or by a person.

use super::{opened, operators};
use crate::findings::groups::{self, Filter};
use crate::stored::As;
use crate::upkeep::incidents::ReplyLine;
use crate::{Result, StoreError, settings};
use rinse_core::bounce::{Category, FailureClass, masked};
use rinse_core::code::Code;
use rinse_core::delivery::alert::{self, Kind, OnMailing, Says};
use rinse_core::delivery::junk::{self, Opens};
use rinse_core::delivery::told::{self, Told};
use rinse_core::figure::Figure;
use rinse_core::findings::{By, Clock};
use rinse_core::id::{LetterheadId, MailingId};
use rinse_core::stats::Arm;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use utoipa::ToSchema;

/// It looks back so far.
const DAYS: i64 = 90;
/// Opens of a younger mailing aren't held against anything: people have hardly looked.
const OPENS_AFTER: i64 = 2 * DAY;
/// Alerts that are shown with what the hosts said.
const WITH_LINES: usize = 20;
/// Reply lines that are shown of an alert.
const LINES: usize = 5;

/// A group's mailing, with when it began.
#[derive(Debug, Clone, Copy)]
struct At {
    mailing: MailingId,
    at: Instant,
    on: OnMailing,
}

/// The domains from which a complaint came in the last 90 days. Another domain's people may complain as much: its host doesn't say so.
///
/// # Errors
/// When the database fails.
pub fn reporting(c: &Connection, now: Instant) -> Result<HashSet<i64>> {
    let mut s = c.prepare_cached(
        "SELECT DISTINCT p.domain_id FROM mailing m JOIN figure_cell f ON f.mailing_id = m.id JOIN place p ON p.id = f.place_id
         WHERE m.channel = 1 AND f.complaints > 0 AND f.hour >= ?1 / 3600000",
    )?;
    Ok(s.query_map([looked_back(now).millis()], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

fn looked_back(now: Instant) -> Instant {
    Instant::of(now.millis().div_euclid(DAY) * DAY - DAYS * DAY)
}

/// What each group did with the mailings of the last 90 days, in the order of time.
fn history(c: &Connection, now: Instant) -> Result<BTreeMap<String, Vec<At>>> {
    let from = looked_back(now);
    let filter = Filter { from: Some(from.millis()), channel: Some(1), ..Filter::default() };
    let asked = [
        Figure::Sent,
        Figure::Accepted,
        Figure::Blocked,
        Figure::Bounced,
        Figure::Delivered,
        Figure::Complaints,
        Figure::OpensKnown,
        Figure::HumanOpens,
    ];
    let pieces = groups::pieces_of(c, (By::Domain, Some(By::Mailing)), Clock::Utc, &filter, &asked)?;
    let began: HashMap<MailingId, i64> = c
        .prepare_cached(
            "SELECT id, started_at FROM mailing WHERE started_at IS NOT NULL AND series_id IS NULL AND channel = 1 AND started_at >= ?1",
        )?
        .query_map([from.millis()], |r| Ok((MailingId(r.get(0)?), r.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    let (names, of) = (groups::names(c, By::Domain)?, operators::groups(c)?);
    // A domain whose people's complaints are never reported says nothing of them.
    let reporting = reporting(c, now)?;
    let mut by: BTreeMap<String, BTreeMap<(i64, MailingId), OnMailing>> = BTreeMap::new();
    let mut opens: HashMap<MailingId, Arm> = HashMap::new();
    for p in &pieces {
        let Some(at) = began.get(&p.mailing) else { continue };
        let known = if now.millis() - at >= OPENS_AFTER { p.sums.arm(Figure::HumanOpens) } else { Arm::default() };
        let all = opens.entry(p.mailing).or_default();
        *all = *all + known;
        // Domains of few people are no group of anybody's.
        let Some(domain) = p.key.parse::<i64>().ok().filter(|d| *d > 0) else { continue };
        let Some(group) = of.get(&domain).or_else(|| names.get(&p.key)) else { continue };
        let m = by.entry(group.clone()).or_default().entry((*at, p.mailing)).or_default();
        m.sent += p.sums.of(Figure::Sent);
        m.accepted += p.sums.of(Figure::Accepted);
        m.blocked += p.sums.of(Figure::Blocked);
        m.bounced += p.sums.of(Figure::Bounced);
        if reporting.contains(&domain) {
            m.reporting += p.sums.of(Figure::Delivered);
        }
        m.complaints += p.sums.of(Figure::Complaints);
        m.here = m.here + known;
    }
    for all in by.values_mut() {
        for ((_, mailing), m) in all.iter_mut() {
            if let Some(whole) = opens.get(mailing) {
                m.elsewhere =
                    Arm { successes: whole.successes.saturating_sub(m.here.successes), trials: whole.trials.saturating_sub(m.here.trials) };
            }
        }
    }
    // A pause is a word of its own, of the mailing that was on its way; where that is a message of a series, of the mailing before it.
    let mut s = c.prepare_cached(
        "SELECT DISTINCT coalesce(d.operator, d.name), p.mailing_id, p.made_at FROM domain_pause p JOIN domain d ON d.id = p.domain_id
         WHERE p.by_itself AND p.mailing_id IS NOT NULL AND p.made_at >= ?1 ORDER BY p.made_at",
    )?;
    let mut rows = s.query([from.millis()])?;
    while let Some(r) = rows.next()? {
        let (group, mailing, made_at): (String, MailingId, i64) = (r.get(0)?, MailingId(r.get(1)?), r.get(2)?);
        let all = by.entry(group).or_default();
        let before = || all.range(..=(made_at, MailingId(i64::MAX))).next_back().map(|(key, _)| *key);
        let key = began.get(&mailing).map(|at| (*at, mailing)).or_else(before).unwrap_or((made_at, mailing));
        all.entry(key).or_default().paused = true;
    }
    let at = |((at, mailing), on): ((i64, MailingId), OnMailing)| At { mailing, at: Instant::of(at), on };
    Ok(by.into_iter().map(|(group, all)| (group, all.into_iter().map(at).collect())).collect())
}

/// Accepted of sent of each group's mailings of the last 90 days.
pub(super) fn accepted(c: &Connection, now: Instant) -> Result<BTreeMap<String, BTreeMap<(Instant, MailingId), Arm>>> {
    let of = |a: At| ((a.at, a.mailing), Arm { successes: a.on.accepted, trials: a.on.sent });
    Ok(history(c, now)?.into_iter().map(|(group, all)| (group, all.into_iter().filter(|a| a.on.sent > 0).map(of).collect())).collect())
}

/// Messages of the largest mailing of the last 90 days to each group, of senders that hosts know.
///
/// # Errors
/// When the database fails.
pub fn largest(c: &Connection, now: Instant) -> Result<HashMap<String, u32>> {
    let new = crate::warm_up::mailings(c)?;
    let of = |all: Vec<At>| all.iter().filter(|a| !new.contains(&a.mailing)).map(|a| a.on.sent).max().unwrap_or(0);
    let all = history(c, now)?.into_iter().map(|(group, all)| (group, u32::try_from(of(all)).unwrap_or(u32::MAX)));
    Ok(all.filter(|(_, most)| *most > 0).collect())
}

/// An alert as it is worked out.
#[derive(Debug, Clone)]
struct Found {
    group: String,
    kind: Kind,
    mailing: MailingId,
    since: Instant,
    last: Instant,
    ended: Option<Instant>,
    grave: bool,
    told: Told,
}

/// What was worked out at once: the alerts, and what people opened against what is expected.
#[derive(Debug, Clone, Default)]
pub struct Looked {
    alerts: Vec<Found>,
    opened: Vec<opened::Judged>,
}

/// Works all alerts out of what was counted. Beside the writer: see [`keep`].
///
/// # Errors
/// When the database fails.
pub fn look(c: &Connection, now: Instant) -> Result<Looked> {
    let ended: HashMap<(String, i64), i64> = c
        .prepare_cached(
            "SELECT name, kind, max(ended_at) FROM delivery_alert WHERE person_id IS NOT NULL AND ended_at IS NOT NULL GROUP BY 1, 2",
        )?
        .query_map([], |r| Ok(((r.get(0)?, r.get(1)?), r.get(2)?)))?
        .collect::<rusqlite::Result<_>>()?;
    let mut out = Looked::default();
    for (group, all) in history(c, now)? {
        let on: Vec<OnMailing> = all.iter().map(|a| a.on).collect();
        let opens = junk::each(&on.iter().map(|m| Opens { here: m.here, elsewhere: m.elsewhere }).collect::<Vec<_>>());
        out.opened.extend(all.iter().zip(&opens).filter_map(|(a, expected)| {
            let judged = |expected| opened::Judged { group: group.clone(), mailing: a.mailing, at: a.at, here: a.on.here, expected };
            expected.map(judged)
        }));
        for kind in Kind::ALL {
            let mut says = alert::says(kind, &on);
            // What a person has judged is judged.
            if let Some(until) = ended.get(&(group.clone(), kind.code())) {
                all.iter().zip(&mut says).filter(|(a, _)| a.at.millis() <= *until).for_each(|(_, s)| *s = Says::Nothing);
            }
            let expected = |i: usize| opens[i].as_ref().filter(|_| kind == Kind::OpenedLess);
            for span in alert::spans(&says) {
                let outside: Vec<usize> = (span.from..=span.last).filter(|i| says[*i] == Says::Outside).collect();
                out.alerts.push(Found {
                    group: group.clone(),
                    kind,
                    mailing: all[span.from].mailing,
                    since: all[span.from].at,
                    last: all[span.last].at,
                    ended: span.until.map(|i| all[i].at),
                    grave: outside.iter().any(|i| alert::is_grave(kind, &on[*i])),
                    told: told::of(outside.iter().map(|i| (&on[*i], expected(*i)))),
                });
            }
        }
    }
    Ok(out)
}

/// Keeps what was worked out: new alerts are opened, those that are over ended; one that a person ended stays so.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, looked: &Looked, now: Instant) -> Result<()> {
    opened::keep(c, &looked.opened)?;
    let found = &looked.alerts;
    let mut s = c.prepare_cached(
        "INSERT INTO delivery_alert (name, kind, mailing_id, since, last_at, grave, mailings, words, figures, ended_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)
         ON CONFLICT (name, kind, mailing_id) DO UPDATE SET since = min(since, excluded.since), last_at = excluded.last_at, grave = excluded.grave, mailings = excluded.mailings, words = excluded.words,
            figures = excluded.figures, ended_at = coalesce(excluded.ended_at, iif(person_id IS NULL, NULL, ended_at))",
    )?;
    // Once the mailing that began it is behind what is looked at, the rest of an alert is found as if it began later.
    let mut begun = c.prepare_cached(
        "UPDATE delivery_alert SET last_at = max(last_at, ?5), ended_at = coalesce(ended_at, ?6) WHERE id = (
            SELECT id FROM delivery_alert WHERE name = ?1 AND kind = ?2 AND mailing_id <> ?3 AND since < ?4 AND coalesce(ended_at, ?4) >= ?4 ORDER BY since LIMIT 1)
         RETURNING id",
    )?;
    let mut of_earlier: Vec<i64> = Vec::new();
    for f in found {
        let earlier = begun
            .query_row(params![f.group, f.kind.code(), f.mailing.0, f.since.millis(), f.last.millis(), f.ended.map(|e| e.millis())], |r| {
                r.get(0)
            })
            .optional()?;
        if let Some(earlier) = earlier {
            of_earlier.push(earlier);
            continue;
        }
        s.execute(params![
            f.group,
            f.kind.code(),
            f.mailing.0,
            f.since.millis(),
            f.last.millis(),
            f.grave,
            i64::try_from(f.told.mailings).unwrap_or(i64::MAX),
            told::words(f.kind, &f.told),
            serde_json::to_string(&f.told)?,
            f.ended.map(|e| e.millis())
        ])?;
    }
    // A pause may have opened one that is seen to have begun before.
    let mut same = c.prepare_cached(
        "DELETE FROM delivery_alert WHERE name = ?1 AND kind = ?2 AND mailing_id <> ?3 AND person_id IS NULL AND since BETWEEN ?4 AND ?5",
    )?;
    for f in found {
        same.execute(params![f.group, f.kind.code(), f.mailing.0, f.since.millis(), f.ended.unwrap_or(now).millis()])?;
    }
    // What isn't found any more: its mailings are behind what is looked at, or were counted otherwise since.
    let open: Vec<(i64, String, i64, i64)> = c
        .prepare_cached("SELECT id, name, kind, mailing_id FROM delivery_alert WHERE ended_at IS NULL")?
        .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?
        .collect::<rusqlite::Result<_>>()?;
    for (id, name, kind, mailing) in open {
        if !of_earlier.contains(&id) && !found.iter().any(|f| f.group == name && f.kind.code() == kind && f.mailing == MailingId(mailing)) {
            c.prepare_cached("UPDATE delivery_alert SET ended_at = ?2 WHERE id = ?1")?.execute([id, now.millis()])?;
        }
    }
    Ok(())
}

/// An alert about a mailbox group.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = DeliveryAlert)]
pub struct Alert {
    pub id: i64,
    pub group: String,
    pub kind: Kind,
    /// The mailing that showed it first.
    pub mailing_id: MailingId,
    pub mailing: String,
    pub since: i64,
    pub last_at: i64,
    /// For certain under the second mark, or paused by itself.
    pub grave: bool,
    /// What was found, in a sentence.
    pub words: String,
    pub ended_at: Option<i64>,
    /// Who ended it; none: it ended by itself.
    pub person: Option<String>,
    pub reason: Option<String>,
    /// What the hosts said to its mailings, the most frequent first.
    pub lines: Vec<ReplyLine>,
}

const COLUMNS: &str =
    "SELECT a.id, a.name, a.kind, a.mailing_id, m.name, a.since, a.last_at, a.grave, a.words, a.ended_at, p.name, a.reason
    FROM delivery_alert a JOIN mailing m ON m.id = a.mailing_id LEFT JOIN person p ON p.id = a.person_id";

fn alert(r: &Row<'_>) -> rusqlite::Result<Alert> {
    Ok(Alert {
        id: r.get(0)?,
        group: r.get(1)?,
        kind: r.get::<_, As<Kind>>(2)?.0,
        mailing_id: MailingId(r.get(3)?),
        mailing: r.get(4)?,
        since: r.get(5)?,
        last_at: r.get(6)?,
        grave: r.get(7)?,
        words: r.get(8)?,
        ended_at: r.get(9)?,
        person: r.get(10)?,
        reason: r.get(11)?,
        lines: Vec::new(),
    })
}

/// The open alerts, without what the hosts said: that is read out of all failures of their mailings.
///
/// # Errors
/// When the database fails.
pub fn open(c: &Connection) -> Result<Vec<Alert>> {
    open_of(c, None)
}

fn open_of(c: &Connection, letterhead: Option<LetterheadId>) -> Result<Vec<Alert>> {
    const SQL: &str = const_format::concatcp!(
        COLUMNS,
        " WHERE a.ended_at IS NULL AND (?1 IS NULL OR m.letterhead_id = ?1) ORDER BY a.grave DESC, a.since DESC LIMIT 100"
    );
    Ok(c.prepare_cached(SQL)?.query_map([letterhead.map(|l| l.0)], alert)?.collect::<rusqlite::Result<_>>()?)
}

/// The newest open alert about a group that blocks us.
///
/// # Errors
/// When the database fails.
pub fn newest_block(c: &Connection) -> Result<Option<i64>> {
    Ok(c.prepare_cached("SELECT max(id) FROM delivery_alert WHERE ended_at IS NULL AND kind = ?1")?
        .query_row([Kind::Blocked.code()], |r| r.get(0))?)
}

/// The open alerts, with what the hosts said; of one sender's mailings where that is asked for.
///
/// # Errors
/// When the database fails.
pub fn open_with_lines(c: &Connection, letterhead: Option<LetterheadId>) -> Result<Vec<Alert>> {
    let mut all = open_of(c, letterhead)?;
    with_lines(c, &mut all)?;
    Ok(all)
}

/// All alerts, the open ones first, then the newest.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Alert>> {
    let mut ended = c
        .prepare_cached(const_format::concatcp!(COLUMNS, " WHERE a.ended_at IS NOT NULL ORDER BY a.ended_at DESC, a.id DESC LIMIT 200"))?
        .query_map([], alert)?
        .collect::<rusqlite::Result<Vec<_>>>()?;
    with_lines(c, &mut ended)?;
    let mut out = open_with_lines(c, None)?;
    out.extend(ended);
    Ok(out)
}

/// What hosts said stands with the first of some alerts: those long over have it in their mailings.
fn with_lines(c: &Connection, alerts: &mut [Alert]) -> Result<()> {
    for a in alerts.iter_mut().filter(|a| a.kind == Kind::Blocked).take(WITH_LINES) {
        a.lines = lines(c, a)?;
    }
    Ok(())
}

/// What a group's hosts said when they blocked the mailings of an alert.
fn lines(c: &Connection, a: &Alert) -> Result<Vec<ReplyLine>> {
    let mut s = c.prepare_cached(
        "SELECT s.reply, s.category FROM mailing m CROSS JOIN send s INDEXED BY send_failure ON s.mailing_id = m.id AND s.failed_at IS NOT NULL
            CROSS JOIN contact k ON k.id = s.contact_id CROSS JOIN domain d ON d.id = k.domain_id
         WHERE m.channel = 1 AND (m.id = ?4 OR m.started_at BETWEEN ?2 AND ?3) AND coalesce(d.operator, d.name) = ?1",
    )?;
    let mut by: HashMap<String, u64> = HashMap::new();
    let mut rows = s.query(params![a.group, a.since, a.last_at, a.mailing_id.0])?;
    while let Some(r) = rows.next()? {
        if r.get::<_, Option<i64>>(1)?.map_or(Category::Unknown, Category::from_code).class() == FailureClass::Block {
            *by.entry(masked(&r.get::<_, Option<String>>(0)?.unwrap_or_default())).or_default() += 1;
        }
    }
    Ok(ReplyLine::most_frequent(by, LINES))
}

/// A person ends an alert.
///
/// # Errors
/// When it isn't open, or no reason is given.
pub fn end(c: &Connection, id: i64, reason: &str, now: Instant, person: i64) -> Result<()> {
    let reason = reason.trim();
    if reason.chars().count() < 5 {
        return Err(StoreError::Refused("Say why it is over: anybody who sees the group do it again will want to know.".into()));
    }
    let group: Option<String> = c
        .prepare_cached(
            "UPDATE delivery_alert SET ended_at = ?2, person_id = ?3, reason = ?4 WHERE id = ?1 AND ended_at IS NULL RETURNING name",
        )?
        .query_row(params![id, now.millis(), person, reason], |r| r.get(0))
        .optional()?;
    let group = group.ok_or(StoreError::Missing("open alert"))?;
    settings::audit(c, now, Some(person), "delivery alert ended", "delivery", id, &format!("{group}: {reason}"))
}
