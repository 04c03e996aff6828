//! Warm-up of sending domains: what each mailbox group may get today, who has to wait for another day, and what came back.

mod waiting;

pub(crate) use waiting::placed;
pub use waiting::{moved, put, waiting};

use crate::codes::TRIAL_COLLECTING;
use crate::flow::{self, Counted};
use crate::stored::{As, ids_as};
use crate::{Result, StoreError, settings};
use const_format::formatcp;
use rinse_core::bounce::Reply;
use rinse_core::code::Code;
use rinse_core::delivery::warm_up::{Because, Counts, Room, Rule, next, words};
use rinse_core::id::{LetterheadId, MailingId, SendId};
use rinse_core::segment::evaluate::day_of;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};
use utoipa::ToSchema;

/// The part of an address behind the `@`, in lower case.
const DOMAIN: &str = "lower(substr(l.from_address, instr(l.from_address, '@') + 1))";
/// Fewer characters say nothing of why.
const LEAST_REASON: usize = 5;

/// A warm-up of a sending domain.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct WarmUp {
    pub id: i64,
    pub domain: String,
    pub rule: Rule,
    pub began_at: i64,
    pub began_by: Option<String>,
    pub ended_at: Option<i64>,
    /// Who ended it; none: it ended by itself, or goes on.
    pub ended_by: Option<String>,
    pub reason: Option<String>,
}

const COLUMNS: &str = "SELECT w.id, w.domain, w.start, w.factor, w.began_at, b.name, w.ended_at, e.name, w.reason
    FROM warm_up w LEFT JOIN person b ON b.id = w.began_by LEFT JOIN person e ON e.id = w.ended_by";

fn row(r: &Row<'_>) -> rusqlite::Result<WarmUp> {
    Ok(WarmUp {
        id: r.get(0)?,
        domain: r.get(1)?,
        rule: Rule { start: r.get(2)?, factor: r.get(3)? },
        began_at: r.get(4)?,
        began_by: r.get(5)?,
        ended_at: r.get(6)?,
        ended_by: r.get(7)?,
        reason: r.get(8)?,
    })
}

/// The warm-ups that go on.
///
/// # Errors
/// When the database fails.
pub fn open(c: &Connection) -> Result<Vec<WarmUp>> {
    let sql = const_format::concatcp!(COLUMNS, " WHERE w.ended_at IS NULL ORDER BY w.domain");
    Ok(c.prepare_cached(sql)?.query_map([], row)?.collect::<rusqlite::Result<_>>()?)
}

/// All warm-ups, those that go on first, then the newest.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<WarmUp>> {
    let sql = const_format::concatcp!(COLUMNS, " ORDER BY w.ended_at IS NOT NULL, w.began_at DESC, w.id DESC LIMIT 100");
    Ok(c.prepare_cached(sql)?.query_map([], row)?.collect::<rusqlite::Result<_>>()?)
}

/// Begins to warm a sending domain up.
///
/// # Errors
/// When a number of the rule is outside its range, no letterhead sends from the domain, or it is warmed up already.
pub fn begin(c: &Connection, domain: &str, rule: Rule, now: Instant, person: Option<i64>) -> Result<i64> {
    let rule = rule.checked().map_err(|e| StoreError::Refused(e.to_string()))?;
    let domain = domain.trim().to_lowercase();
    let sends = c.prepare_cached(const_format::concatcp!("SELECT 1 FROM letterhead l WHERE ", DOMAIN, " = ?1"))?.exists([&domain])?;
    if !sends {
        return Err(StoreError::Refused(format!("No letterhead sends from {domain}: make one first, then warm its domain up.")));
    }
    if c.prepare_cached("SELECT 1 FROM warm_up WHERE domain = ?1 AND ended_at IS NULL")?.exists([&domain])? {
        return Err(StoreError::Refused(format!("{domain} is being warmed up already.")));
    }
    // Rounds lose nothing to a ceiling, or the hours couldn't be compared.
    let round = const_format::concatcp!(
        formatcp!("SELECT m.name FROM hour_round r JOIN hour_trial t ON t.id = r.trial_id JOIN mailing m ON m.id = r.mailing_id JOIN letterhead l ON l.id = m.letterhead_id
         WHERE t.state = {TRIAL_COLLECTING} AND r.missed IS NULL AND m.finished_at IS NULL AND "),
        DOMAIN,
        " = ?1 LIMIT 1"
    );
    if let Some(name) = c.prepare_cached(round)?.query_row([&domain], |r| r.get::<_, String>(0)).optional()? {
        return Err(StoreError::Refused(format!(
            "“{name}” goes from {domain} as a round of an hour trial: a ceiling would move most of its people to other days. Warm the domain up when the trial is over, or cancel it."
        )));
    }
    c.prepare_cached("INSERT INTO warm_up (domain, start, factor, began_at, began_by) VALUES (?1, ?2, ?3, ?4, ?5)")?.execute(params![
        domain,
        rule.start,
        rule.factor,
        now.millis(),
        person
    ])?;
    let id = c.last_insert_rowid();
    let words = format!("{domain}: {} a day at first, times {} after a good day", rule.start, rule.factor);
    settings::audit(c, now, person, "warm-up begun", "warm-up", id, &words)?;
    Ok(id)
}

/// A person ends a warm-up: who waits for another day keeps it, nobody new is held.
///
/// # Errors
/// When it doesn't go on, or no reason is given.
pub fn end(c: &Connection, id: i64, reason: &str, now: Instant, person: i64) -> Result<()> {
    let reason = reason.trim();
    if reason.chars().count() < LEAST_REASON {
        return Err(StoreError::Refused("Say why it ends: people who see hosts block the domain will want to know.".into()));
    }
    over(c, id, Some((person, reason)), now)
}

fn over(c: &Connection, id: i64, by: Option<(i64, &str)>, now: Instant) -> Result<()> {
    let domain: Option<String> = c
        .prepare_cached("UPDATE warm_up SET ended_at = ?2, ended_by = ?3, reason = ?4 WHERE id = ?1 AND ended_at IS NULL RETURNING domain")?
        .query_row(params![id, now.millis(), by.map(|b| b.0), by.map(|b| b.1)], |r| r.get(0))
        .optional()?;
    let domain = domain.ok_or(StoreError::Missing("warm-up"))?;
    let words = by.map_or_else(|| format!("{domain}: every group gets its usual day"), |(_, reason)| format!("{domain}: {reason}"));
    settings::audit(c, now, by.map(|b| b.0), "warm-up ended", "warm-up", id, &words)
}

/// A warm-up's rule is changed: from the next day on.
///
/// # Errors
/// When a number of it is outside its range, or the warm-up doesn't go on.
pub fn change(c: &Connection, id: i64, rule: Rule, now: Instant, person: Option<i64>) -> Result<()> {
    let rule = rule.checked().map_err(|e| StoreError::Refused(e.to_string()))?;
    let n = c.prepare_cached("UPDATE warm_up SET start = ?2, factor = ?3 WHERE id = ?1 AND ended_at IS NULL")?.execute(params![
        id,
        rule.start,
        rule.factor
    ])?;
    if n == 0 {
        return Err(StoreError::Missing("warm-up"));
    }
    settings::audit(c, now, person, "warm-up changed", "warm-up", id, &format!("begins at {}, grows by {}", rule.start, rule.factor))
}

/// The letterheads that send from a domain.
fn letterheads(c: &Connection, domain: &str) -> Result<Vec<LetterheadId>> {
    let sql = const_format::concatcp!("SELECT l.id FROM letterhead l WHERE ", DOMAIN, " = ?1");
    ids_as(c, sql, [domain], LetterheadId)
}

/// The warm-up that a mailing's sender is in.
fn of_mailing(c: &Connection, mailing: MailingId) -> Result<Option<i64>> {
    let sql = const_format::concatcp!(
        "SELECT w.id FROM mailing m JOIN letterhead l ON l.id = m.letterhead_id JOIN warm_up w ON w.ended_at IS NULL AND w.domain = ",
        DOMAIN,
        " WHERE m.id = ?1 AND m.channel = 1"
    );
    Ok(c.prepare_cached(sql)?.query_row([mailing.0], |r| r.get(0)).optional()?)
}

fn group_of(c: &Connection, domain: i64) -> Result<String> {
    Ok(c.prepare_cached("SELECT coalesce(operator, name) FROM domain WHERE id = ?1")?.query_row([domain], |r| r.get(0))?)
}

/// The names of domains' groups, asked for once each.
#[derive(Default)]
struct Names(HashMap<i64, String>);

impl Names {
    fn of(&mut self, c: &Connection, domain: i64) -> Result<&str> {
        Ok(match self.0.entry(domain) {
            Entry::Occupied(e) => e.into_mut(),
            Entry::Vacant(e) => e.insert(group_of(c, domain)?),
        })
    }
}

/// What a usual day brings a group; where nobody has looked yet: everybody there.
fn usual(c: &Connection, id: i64, group: &str) -> Result<u32> {
    let known = c
        .prepare_cached("SELECT usual FROM warm_up_group WHERE warm_up_id = ?1 AND name = ?2")?
        .query_row(params![id, group], |r| r.get(0))
        .optional()?;
    if let Some(known) = known {
        return Ok(known);
    }
    Ok(c.prepare_cached(
        "SELECT count(*) FROM domain d CROSS JOIN contact k INDEXED BY contact_domain ON k.domain_id = d.id WHERE coalesce(d.operator, d.name) = ?1 AND k.gone IS NULL",
    )?
    .query_row([group], |r| r.get(0))?)
}

/// A group's day: its ceiling (none: none any more), why, and what has come back so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = WarmUpDay)]
pub struct Day {
    /// Days since 1970, UTC.
    pub day: i64,
    pub ceiling: Option<u32>,
    pub because: Because,
    #[serde(flatten)]
    pub counts: Counts,
}

fn day(r: &Row<'_>, from: usize) -> rusqlite::Result<Day> {
    let n = |i: usize| r.get::<_, u32>(from + i);
    Ok(Day {
        day: r.get(from)?,
        ceiling: r.get(from + 1)?,
        because: r.get::<_, As<Because>>(from + 2)?.0,
        counts: Counts { handed: n(3)?, accepted: n(4)?, deferred: n(5)?, blocked: n(6)?, failed: n(7)?, complained: n(8)? },
    })
}

const DAY_COLUMNS: &str = "day, ceiling, because, handed, accepted, deferred, blocked, failed, complained";

/// A group's day as it stands on `today`, from the last one on which something went.
fn standing(rule: &Rule, last: Option<Day>, usual: u32, today: i64) -> Day {
    let (ceiling, because) = match last {
        Some(last) if last.day >= today => return last,
        None if rule.start >= usual => (None, Because::Over),
        None => (Some(rule.start), Because::First),
        Some(last) => last.ceiling.map_or((None, Because::Over), |c| next(rule, c, usual, &last.counts)),
    };
    Day { day: today, ceiling, because, counts: Counts::default() }
}

fn today(c: &Connection, w: &WarmUp, group: &str, usual: u32, today: i64) -> Result<Day> {
    let sql =
        const_format::concatcp!("SELECT ", DAY_COLUMNS, " FROM warm_up_day WHERE warm_up_id = ?1 AND name = ?2 ORDER BY day DESC LIMIT 1");
    let last = c.prepare_cached(sql)?.query_row(params![w.id, group], |r| day(r, 0)).optional()?;
    Ok(standing(&w.rule, last, usual, today))
}

/// Who may go now under the ceilings of the day, and who waits for another. Made for one claim.
pub(crate) struct Warming {
    open: Vec<WarmUp>,
    day: i64,
    of_mailing: HashMap<MailingId, Option<usize>>,
    names: Names,
    today: HashMap<(usize, String), Day>,
}

impl Warming {
    /// # Errors
    /// When the database fails.
    pub(crate) fn now(c: &Connection, now: Instant) -> Result<Self> {
        Ok(Self { open: open(c)?, day: day_of(now), of_mailing: HashMap::new(), names: Names::default(), today: HashMap::new() })
    }

    /// The day of the group that a message of a mailing to a domain goes to; none where the sender isn't warmed up.
    fn of(&mut self, c: &Connection, mailing: MailingId, domain: i64) -> Result<Option<&mut Day>> {
        if self.open.is_empty() {
            return Ok(None);
        }
        let at = match self.of_mailing.entry(mailing) {
            Entry::Occupied(e) => *e.get(),
            Entry::Vacant(e) => {
                let id = of_mailing(c, mailing)?;
                *e.insert(self.open.iter().position(|w| Some(w.id) == id))
            }
        };
        let Some(at) = at else { return Ok(None) };
        let group = self.names.of(c, domain)?;
        Ok(Some(match self.today.entry((at, group.to_owned())) {
            Entry::Occupied(e) => e.into_mut(),
            Entry::Vacant(e) => {
                let w = &self.open[at];
                let usual = usual(c, w.id, group)?;
                keep_usual(c, w.id, group, usual)?;
                e.insert(today(c, w, group, usual, self.day)?)
            }
        }))
    }

    /// Somebody's turn came at `at`; where their group has had its messages of the day, they go at the same time of the next.
    ///
    /// # Errors
    /// When the database fails.
    pub(crate) fn waits(&mut self, c: &Connection, mailing: MailingId, domain: i64, at: Instant) -> Result<Option<Instant>> {
        let today = self.day;
        Ok(self.of(c, mailing, domain)?.filter(|d| d.ceiling.is_some_and(|most| d.counts.handed >= most)).map(|_| on_day(at, today + 1)))
    }

    /// A message goes for the first time.
    ///
    /// # Errors
    /// When the database fails.
    pub(crate) fn goes(&mut self, c: &Connection, mailing: MailingId, domain: i64) -> Result<()> {
        if let Some(d) = self.of(c, mailing, domain)? {
            d.counts.handed += 1;
        }
        Ok(())
    }

    /// # Errors
    /// When the database fails.
    pub(crate) fn keep(&self, c: &Connection) -> Result<()> {
        let mut s = c.prepare_cached(
            "INSERT INTO warm_up_day (warm_up_id, name, day, ceiling, because, handed) VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT DO UPDATE SET handed = excluded.handed",
        )?;
        for ((at, group), d) in self.today.iter().filter(|(_, d)| d.counts.handed > 0) {
            s.execute(params![self.open[*at].id, group, d.day, d.ceiling, d.because.code(), d.counts.handed])?;
        }
        Ok(())
    }
}

/// The same time of day, on another day.
fn on_day(at: Instant, day: i64) -> Instant {
    Instant::of(at.millis().rem_euclid(DAY) + day * DAY)
}

/// Is anything warmed up? Mostly nothing is.
fn any(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached("SELECT EXISTS (SELECT 1 FROM warm_up WHERE ended_at IS NULL)")?.query_row([], |r| r.get(0))?)
}

/// Counts something of a message to a domain on the day on which it went, where its sender is warmed up.
fn count(c: &Connection, mailing: MailingId, domain: i64, handed_at: i64, column: &str) -> Result<()> {
    let Some(id) = of_mailing(c, mailing)? else { return Ok(()) };
    let sql = format!("UPDATE warm_up_day SET {column} = {column} + 1 WHERE warm_up_id = ?1 AND name = ?2 AND day = ?3");
    c.prepare_cached(&sql)?.execute(params![id, group_of(c, domain)?, day_of(Instant::of(handed_at))])?;
    Ok(())
}

/// A host answered a message. The first answer counts; where that was a first meeting, the second: a host that puts every stranger off says
/// nothing of us by it. Called before the answer is written on the message.
pub(crate) fn answered(c: &Connection, send: SendId, mailing: MailingId, domain: i64, reply: &Reply) -> Result<()> {
    if !any(c)? {
        return Ok(());
    }
    let (tries, handed_at, before): (i64, Option<i64>, Option<String>) = c
        .prepare_cached("SELECT tries, handed_at, reply FROM send WHERE id = ?1")?
        .query_row([send.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    let counts = match tries {
        1 => !flow::first_meeting(reply),
        2 => before.is_some_and(|line| flow::first_meeting(&Reply::parse(&line))),
        _ => false,
    };
    let (true, Some(what), Some(handed_at)) = (counts, flow::counted(reply, tries - 1), handed_at) else { return Ok(()) };
    let column = match what {
        Counted::Accepted => "accepted",
        Counted::Deferred => "deferred",
        Counted::Blocked => "blocked",
        Counted::Failed => "failed",
    };
    count(c, mailing, domain, handed_at, column)
}

/// Somebody complains of a message that its host took at the first try, or at the second: counted once. Called before it is written on it.
pub(crate) fn complained(c: &Connection, send: SendId) -> Result<()> {
    if !any(c)? {
        return Ok(());
    }
    let of: Option<(i64, i64, i64)> = c
        .prepare_cached(
            "SELECT s.mailing_id, k.domain_id, s.handed_at FROM send s JOIN contact k ON k.id = s.contact_id
             WHERE s.id = ?1 AND s.complained_at IS NULL AND s.accepted_at IS NOT NULL AND s.handed_at IS NOT NULL AND s.tries <= 2",
        )?
        .query_row([send.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))
        .optional()?;
    let Some((mailing, domain, handed_at)) = of else { return Ok(()) };
    count(c, MailingId(mailing), domain, handed_at, "complained")
}

/// The days on which something went, of each group, the oldest first.
fn days_of(c: &Connection, id: i64) -> Result<HashMap<String, Vec<Day>>> {
    let mut days: HashMap<String, Vec<Day>> = HashMap::new();
    let sql = const_format::concatcp!("SELECT name, ", DAY_COLUMNS, " FROM warm_up_day WHERE warm_up_id = ?1 ORDER BY name, day");
    let mut s = c.prepare_cached(sql)?;
    for found in s.query_map([id], |r| Ok((r.get::<_, String>(0)?, day(r, 1)?)))? {
        let (name, d) = found?;
        days.entry(name).or_default().push(d);
    }
    Ok(days)
}

/// The groups that were met or looked at, with what a usual day brings each.
fn known(c: &Connection, id: i64) -> Result<HashMap<String, u32>> {
    let mut s = c.prepare_cached("SELECT name, usual FROM warm_up_group WHERE warm_up_id = ?1")?;
    Ok(s.query_map([id], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

fn keep_usual(c: &Connection, id: i64, group: &str, usual: u32) -> Result<()> {
    let sql =
        "INSERT INTO warm_up_group VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET usual = excluded.usual WHERE usual <> excluded.usual";
    c.prepare_cached(sql)?.execute(params![id, group, usual])?;
    Ok(())
}

/// A group under a warm-up.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = WarmUpGroup)]
pub struct Group {
    pub name: String,
    /// What a usual day brings it: a ceiling over that is none.
    pub usual: u32,
    pub today: Day,
    /// Why today's ceiling is what it is.
    pub because: String,
    /// The days on which something went, the oldest first.
    pub days: Vec<Day>,
    /// People whose turn is still to come.
    pub waiting: u32,
    /// The last day on which one of them goes, if all goes well.
    pub last: Option<i64>,
}

/// Days of a group that are told.
const TOLD_DAYS: usize = 60;

/// The groups of a warm-up, those under a ceiling first, then by what a usual day brings.
///
/// # Errors
/// When the database fails.
pub fn groups(c: &Connection, w: &WarmUp, now: Instant) -> Result<Vec<Group>> {
    let (mut days, known) = (days_of(c, w.id)?, known(c, w.id)?);
    let waits = if w.ended_at.is_none() { waiting(c, w)? } else { HashMap::new() };
    // What never had a ceiling is no part of it: groups of few people.
    let limited = |name: &str, usual: u32| usual > w.rule.start || days.get(name).is_some_and(|of| of.iter().any(|d| d.ceiling.is_some()));
    let known: Vec<(String, u32)> = known.into_iter().filter(|(name, usual)| limited(name, *usual)).collect();
    let mut out: Vec<Group> = known
        .into_iter()
        .map(|(name, usual)| {
            let mut of = days.remove(&name).unwrap_or_default();
            let today = standing(&w.rule, of.last().copied(), usual, day_of(now));
            of.drain(..of.len().saturating_sub(TOLD_DAYS));
            let waits = waits.get(&name);
            let before = of.iter().rev().find(|d| d.day < today.day).and_then(|d| d.ceiling);
            Group {
                because: words(today.because, before, today.ceiling),
                today,
                days: of,
                waiting: waits.map_or(0, |by| by.values().sum()),
                last: waits.and_then(|by| by.keys().copied().max()),
                usual,
                name,
            }
        })
        .collect();
    out.sort_by(|a, b| {
        a.today.ceiling.is_none().cmp(&b.today.ceiling.is_none()).then(b.usual.cmp(&a.usual)).then_with(|| a.name.cmp(&b.name))
    });
    Ok(out)
}

/// The room that a group has on the days to come; `taken` by those who wait already.
pub(crate) fn room(c: &Connection, w: &WarmUp, group: &str, now: Instant, taken: HashMap<i64, u32>) -> Result<Room> {
    let usual = usual(c, w.id, group)?;
    let d = today(c, w, group, usual, day_of(now))?;
    Ok(Room { rule: w.rule, ceiling: d.ceiling, usual, day: d.day, handed: d.counts.handed, taken })
}

/// The warm-up that a letterhead's domain is in.
///
/// # Errors
/// When the database fails.
pub fn of_letterhead(c: &Connection, letterhead: LetterheadId) -> Result<Option<WarmUp>> {
    let sql = const_format::concatcp!(COLUMNS, " JOIN letterhead l ON ", DOMAIN, " = w.domain WHERE l.id = ?1 AND w.ended_at IS NULL");
    Ok(c.prepare_cached(sql)?.query_row([letterhead.0], row).optional()?)
}

/// What was found of a warm-up that goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Looked {
    id: i64,
    /// What a usual day brings, where that isn't what was known.
    usual: Vec<(String, u32)>,
    /// No group has a ceiling any more; so many are known then.
    over: Option<usize>,
}

/// Looks once a day what a usual day brings each group (the largest mailing of the last 90 days there, at most everybody there), and whether a
/// warm-up is over because no group with more people than its start has a ceiling any more. Beside the writer: see [`keep`].
///
/// `largest`: messages of the largest mailing to each group that got one, by senders that aren't warmed up.
///
/// # Errors
/// When the database fails.
pub fn look(c: &Connection, people: &HashMap<String, u32>, largest: &HashMap<String, u32>, now: Instant) -> Result<Vec<Looked>> {
    let of = |w: WarmUp| {
        let (mut known, days, mut usual) = (known(c, w.id)?, days_of(c, w.id)?, Vec::new());
        for (name, people) in people {
            let is = largest.get(name).copied().unwrap_or(*people).min(*people);
            if known.get(name).map_or(is > w.rule.start, |was| *was != is) {
                known.insert(name.clone(), is);
                usual.push((name.clone(), is));
            }
        }
        let last = |name: &String| days.get(name).and_then(|of| of.last().copied());
        let free = known.iter().all(|(name, usual)| standing(&w.rule, last(name), *usual, day_of(now)).ceiling.is_none());
        Ok(Looked { id: w.id, usual, over: (free && !days.is_empty()).then_some(known.len()) })
    };
    open(c)?.into_iter().map(of).collect()
}

/// Keeps what was found. A warm-up that was ended meanwhile, or met another group, isn't ended by it.
///
/// # Errors
/// When the database fails.
pub fn keep(c: &Connection, found: &[Looked], now: Instant) -> Result<()> {
    let going: HashSet<i64> = open(c)?.into_iter().map(|w| w.id).collect();
    for f in found.iter().filter(|f| going.contains(&f.id)) {
        f.usual.iter().try_for_each(|(name, usual)| keep_usual(c, f.id, name, *usual))?;
        if f.over.is_some() && f.over == Some(known(c, f.id)?.len()) {
            over(c, f.id, None, now)?;
        }
    }
    Ok(())
}

/// Mailings of senders that are warmed up.
///
/// # Errors
/// When the database fails.
pub fn mailings(c: &Connection) -> Result<HashSet<MailingId>> {
    let sql = const_format::concatcp!(
        "SELECT m.id FROM warm_up w JOIN letterhead l ON ",
        DOMAIN,
        " = w.domain JOIN mailing m ON m.letterhead_id = l.id WHERE w.ended_at IS NULL"
    );
    ids_as(c, sql, [], MailingId)
}

/// People of each mailbox group.
///
/// # Errors
/// When the database fails.
pub fn people(c: &Connection) -> Result<HashMap<String, u32>> {
    let mut s = c.prepare_cached(
        "SELECT coalesce(d.operator, d.name), count(*) FROM domain d CROSS JOIN contact k INDEXED BY contact_domain ON k.domain_id = d.id WHERE k.gone IS NULL GROUP BY 1",
    )?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// The domain of a letterhead, where no mailing ever went from it.
///
/// # Errors
/// When the database fails.
pub fn new_name(c: &Connection, letterhead: LetterheadId) -> Result<Option<String>> {
    let sql = const_format::concatcp!("SELECT ", DOMAIN, " FROM letterhead l WHERE l.id = ?1");
    let domain: Option<String> = c.prepare_cached(sql)?.query_row([letterhead.0], |r| r.get(0)).optional()?;
    let all = sending_domains(c)?;
    Ok(domain.filter(|d| all.iter().any(|known| known.domain == *d && known.first_at.is_none())))
}

/// A domain that letterheads send from.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SendingDomain {
    pub domain: String,
    pub letterheads: Vec<String>,
    /// When its first message went; none: it has sent nothing.
    pub first_at: Option<i64>,
    /// It is being warmed up.
    pub warm_up: Option<i64>,
}

/// The domains that letterheads send from.
///
/// # Errors
/// When the database fails.
pub fn sending_domains(c: &Connection) -> Result<Vec<SendingDomain>> {
    let sql = const_format::concatcp!(
        "SELECT ",
        DOMAIN,
        ", l.name, (SELECT min(started_at) FROM mailing WHERE letterhead_id = l.id AND channel = 1 AND started_at IS NOT NULL),
            (SELECT id FROM warm_up WHERE ended_at IS NULL AND domain = ",
        DOMAIN,
        ") FROM letterhead l ORDER BY 1, 2"
    );
    let mut out: Vec<SendingDomain> = Vec::new();
    let mut s = c.prepare_cached(sql)?;
    for found in s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get::<_, Option<i64>>(2)?, r.get(3)?)))? {
        let (domain, name, first_at, warm_up): (String, String, _, _) = found?;
        match out.last_mut().filter(|d| d.domain == domain) {
            Some(d) => {
                d.letterheads.push(name);
                d.first_at = d.first_at.into_iter().chain(first_at).min();
            }
            None => out.push(SendingDomain { domain, letterheads: vec![name], first_at, warm_up }),
        }
    }
    Ok(out)
}
