//! Acting on what has come in: purchases and events in the order they arrived, bounces and
//! deadlines by the clock. Every step can be done again: what was acted upon is keyed by its cause.

use crate::deeds::{Cause, carry_out, place};
use crate::response_kinds;
use crate::tags::Kind;
use crate::{Result, attribution, scores};
use rinse_core::id::{ContactId, MailingId};
use rinse_core::reaction::{Deed, Reaction, Response, SETTLES_AFTER, Trigger};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};

/// Rows looked at in one transaction, so that an unsubscribe never waits long.
const AT_ONCE: i64 = 2_000;

/// Is any reaction switched on?
///
/// # Errors
/// When the database fails.
pub fn active(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached("SELECT EXISTS (SELECT 1 FROM reaction WHERE on_at IS NOT NULL)")?.query_row([], |r| r.get(0))?)
}

/// A reaction that acts.
struct Live {
    id: i64,
    on_at: Instant,
    rule: Reaction,
    words: String,
}

fn live(c: &Connection) -> Result<Vec<Live>> {
    if !active(c)? {
        return Ok(Vec::new());
    }
    let names = crate::deeds::names(c)?;
    let all = super::stored(c, super::Which::All)?;
    let on =
        all.into_iter().filter_map(|s| Some(Live { id: s.id, on_at: Instant::of(s.on_at?), words: s.rule.words(&names), rule: s.rule }));
    Ok(on.collect())
}

/// Acts on a part of what has come in until `now`. Returns how much was looked at: none means that all is done.
///
/// # Errors
/// When the database fails.
pub fn step(c: &Connection, now: Instant) -> Result<usize> {
    let live = live(c)?;
    if live.is_empty() {
        return Ok(0);
    }
    // Deadlines first: what comes after one can only take back what it did once that is done.
    let (passed, whole) = by_the_clock(c, &live, now)?;
    if !whole {
        return Ok(passed);
    }
    Ok(passed + answers(c, &live, now)? + purchases(c, &live, now)? + events(c, &live, now)?)
}

fn mark(c: &Connection, column: &str, upto: i64) -> Result<()> {
    c.prepare_cached(&format!("UPDATE reaction_mark SET {column} = ?1"))?.execute([upto])?;
    Ok(())
}

fn answers(c: &Connection, live: &[Live], now: Instant) -> Result<usize> {
    let mut s = c.prepare_cached(
        "SELECT r.id, r.at, r.send_id, r.kind, r.link, r.machine, s.mailing_id, coalesce(k.merged_into, k.id), r.log_id IS NOT NULL FROM response r JOIN send s ON s.id = r.send_id
         JOIN contact k ON k.id = s.contact_id WHERE r.id > (SELECT response FROM reaction_mark) ORDER BY r.id LIMIT ?1",
    )?;
    let mut rows = s.query([AT_ONCE])?;
    let (mut seen, mut upto) = (0, None);
    while let Some(r) = rows.next()? {
        let (at, kind) = (Instant::of(r.get(1)?), r.get::<_, i64>(3)?);
        // One that comes next may show this one to be a machine's.
        if now - at < SETTLES_AFTER && matches!(kind, response_kinds::OPEN | response_kinds::CLICK) && !r.get::<_, bool>(8)? {
            break;
        }
        (seen, upto) = (seen + 1, Some(r.get(0)?));
        let what = match kind {
            response_kinds::OPEN => Response::Open,
            response_kinds::CLICK => Response::Click(r.get::<_, Option<u32>>(4)?.unwrap_or(0)),
            response_kinds::REPLY => Response::Reply,
            _ => Response::Left,
        };
        // A machine's, or of a file of what is long past.
        if r.get::<_, i64>(5)? != 0 || r.get(8)? {
            continue;
        }
        let (send, mailing, contact): (i64, MailingId, ContactId) = (r.get(2)?, MailingId(r.get(6)?), ContactId(r.get(7)?));
        for l in live.iter().filter(|l| l.rule.mailing.is_none_or(|m| m == mailing)) {
            if l.rule.when.meets(what) {
                react(c, l, send, contact, at, now)?;
            }
            if l.rule.when.deadline().is_some_and(|(_, taken_back)| taken_back) && l.rule.when.undone_by(what) {
                take_back(c, l, send, now)?;
            }
        }
    }
    upto.map_or(Ok(()), |id| mark(c, "response", id))?;
    Ok(seen)
}

fn purchases(c: &Connection, live: &[Live], now: Instant) -> Result<usize> {
    let sql = "SELECT id, contact_id, at, product, category, cents, log_id IS NOT NULL FROM purchase WHERE id > (SELECT purchase FROM reaction_mark) ORDER BY id LIMIT ?1";
    elsewhere(c, live, now, "purchase", sql, |r| {
        let (product, category, cents): (String, String, i64) = (r.get(3)?, r.get(4)?, r.get(5)?);
        let past: bool = r.get(6)?;
        Ok(Box::new(move |when| !past && when.bought(&product, &category, cents)))
    })
}

fn events(c: &Connection, live: &[Live], now: Instant) -> Result<usize> {
    let sql = "SELECT id, contact_id, at, name FROM event WHERE id > (SELECT event FROM reaction_mark) ORDER BY id LIMIT ?1";
    elsewhere(c, live, now, "event", sql, |r| {
        let name: String = r.get(3)?;
        Ok(Box::new(move |when| when.answered(&name)))
    })
}

/// Does a trigger wait for what a row tells?
type Waits = Box<dyn Fn(&Trigger) -> bool>;

/// Acts on what was done elsewhere: rows that begin with their number, whose they are, and when it happened.
fn elsewhere(
    c: &Connection,
    live: &[Live],
    now: Instant,
    source: &str,
    sql: &str,
    read: impl Fn(&rusqlite::Row<'_>) -> rusqlite::Result<Waits>,
) -> Result<usize> {
    let mut s = c.prepare_cached(sql)?;
    let mut rows = s.query([AT_ONCE])?;
    let (mut seen, mut upto) = (0, None);
    while let Some(r) = rows.next()? {
        let (id, contact, at): (i64, ContactId, i64) = (r.get(0)?, ContactId(r.get(1)?), r.get(2)?);
        (seen, upto) = (seen + 1, Some(id));
        let waits = read(r)?;
        for l in live.iter().filter(|l| waits(&l.rule.when)) {
            if put_down_to(c, &l.rule, contact, Instant::of(at))? {
                react(c, l, id, contact, Instant::of(at), now)?;
            }
        }
    }
    upto.map_or(Ok(()), |id| mark(c, source, id))?;
    Ok(seen)
}

/// A mailing's own reaction to what is done elsewhere acts on what is put down to the mailing.
pub(super) fn put_down_to(c: &Connection, rule: &Reaction, contact: ContactId, at: Instant) -> Result<bool> {
    match rule.mailing {
        None => Ok(true),
        mailing => Ok(attribution::mailing_of(c, contact, at)? == mailing),
    }
}

/// Messages whose deadline passed without what it waited for: `?1` to `?2` is when they were accepted, `?3` the
/// wait, `?4` the mailing or null, `?5` the link or null. A message that came back tells nothing; nor does one
/// whose opens can't be told from a machine's, where opens are asked for.
pub(super) fn unanswered(when: &Trigger) -> String {
    let none = match when {
        Trigger::NotClicked { link: Some(_), .. } => {
            "NOT EXISTS (SELECT 1 FROM response r WHERE r.send_id = s.id AND r.kind = 2 AND r.machine = 0 AND r.link = ?5 AND r.at <= s.accepted_at + ?3)".to_owned()
        }
        Trigger::NotClicked { .. } => "?5 IS NULL AND (s.click_at IS NULL OR s.click_at > s.accepted_at + ?3)".into(),
        _ => format!(
            "?5 IS NULL AND (s.click_at IS NULL OR s.click_at > s.accepted_at + ?3) AND (s.open_at IS NULL OR s.open_at > s.accepted_at + ?3)
             AND k.domain_id NOT IN ({})",
            crate::machines::opens::UNKNOWN_DOMAINS
        ),
    };
    format!(
        "SELECT s.id, coalesce(k.merged_into, k.id), s.accepted_at + ?3 AS at FROM send s JOIN contact k ON k.id = s.contact_id
         WHERE s.accepted_at > ?1 AND s.accepted_at <= ?2 AND (?4 IS NULL OR s.mailing_id = ?4) AND s.failed_at IS NULL AND s.channel = 1 AND {none}"
    )
}

pub(super) fn link_of(when: &Trigger) -> Option<u32> {
    match when {
        Trigger::NotClicked { link, .. } | Trigger::Clicked { link } => *link,
        _ => None,
    }
}

/// Failures that are the address's own, for good: they count as bounced.
pub(super) fn permanent() -> String {
    use rinse_core::bounce::{Category, FailureClass};
    let codes: Vec<String> =
        Category::ALL.iter().filter(|k| k.class() == FailureClass::Permanent).map(|k| (*k as i64).to_string()).collect();
    codes.join(",")
}

/// Deadlines and bounces: how many were found, and whether that is all of them.
fn by_the_clock(c: &Connection, live: &[Live], now: Instant) -> Result<(usize, bool)> {
    let last: i64 = c.prepare_cached("SELECT clock FROM reaction_mark")?.query_row([], |r| r.get(0))?;
    // A day is looked at again: what was written late with an earlier instant is found still.
    let from = last - DAY;
    let settled = now.millis() - SETTLES_AFTER;
    let mut seen = 0;
    let mut whole = true;
    for l in live {
        let found: Vec<(i64, i64, i64)> = if let Some((wait, _)) = l.rule.when.deadline() {
            let sql = format!(
                "{} AND NOT EXISTS (SELECT 1 FROM reacted d WHERE d.reaction_id = ?6 AND d.cause = s.id) LIMIT ?7",
                unanswered(&l.rule.when)
            );
            let start = from.max(l.on_at.millis()) - wait;
            c.prepare_cached(&sql)?
                .query_map(
                    params![start, settled - wait, wait, l.rule.mailing.map(|id| id.0), link_of(&l.rule.when), l.id, AT_ONCE],
                    |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
                )?
                .collect::<rusqlite::Result<_>>()?
        } else if l.rule.when == Trigger::Bounced {
            c.prepare_cached(&format!(
                "SELECT s.id, coalesce(k.merged_into, k.id), s.failed_at FROM send s JOIN contact k ON k.id = s.contact_id
                 WHERE s.failed_at > ?1 AND s.failed_at <= ?2 AND (?3 IS NULL OR s.mailing_id = ?3) AND s.category IN ({}) AND s.channel = 1
                 AND NOT EXISTS (SELECT 1 FROM reacted d WHERE d.reaction_id = ?4 AND d.cause = s.id) LIMIT ?5",
                permanent()
            ))?
            .query_map(params![from.max(l.on_at.millis() - 1), now.millis(), l.rule.mailing.map(|id| id.0), l.id, AT_ONCE], |r| {
                Ok((r.get(0)?, r.get(1)?, r.get(2)?))
            })?
            .collect::<rusqlite::Result<_>>()?
        } else {
            continue;
        };
        seen += found.len();
        whole &= i64::try_from(found.len()).unwrap_or(0) < AT_ONCE;
        for (send, contact, at) in found {
            react(c, l, send, ContactId(contact), Instant::of(at), now)?;
        }
    }
    if whole && last < now.millis() {
        mark(c, "clock", now.millis())?;
    }
    Ok((seen, whole))
}

/// Does what a reaction says, once for a cause. What happened before it was switched on is none of its.
fn react(c: &Connection, l: &Live, cause: i64, contact: ContactId, at: Instant, now: Instant) -> Result<()> {
    if at < l.on_at {
        return Ok(());
    }
    if !c.prepare_cached("SELECT 1 FROM contact WHERE id = ?1 AND gone IS NULL")?.exists([contact.0])? {
        return Ok(());
    }
    let new = c.prepare_cached("INSERT INTO reacted VALUES (?1, ?2, ?3, ?4, ?5, 0, NULL) ON CONFLICT DO NOTHING")?.execute(params![
        l.id,
        cause,
        contact.0,
        at.millis(),
        now.millis()
    ])?;
    if new == 0 {
        return Ok(());
    }
    let sql = format!("SELECT ({}) FROM (SELECT ?1 AS cause) d", super::cause_name(&l.rule.when));
    let name: Option<String> = c.prepare_cached(&sql)?.query_row([cause], |r| r.get(0))?;
    let why = format!("{}: {}", name.unwrap_or_default(), l.words);
    let mut changed = 0i64;
    for (i, deed) in l.rule.then.iter().enumerate() {
        let of = Cause {
            key: format!("r{}-{cause}-{i}", l.id),
            why: why.clone(),
            reaction: Some(l.id),
            series: None,
            number: Some(cause),
            contact,
            at,
        };
        let body = serde_json::json!({
            "kind": "reaction", "reaction": l.id, "cause": cause, "mailing": l.rule.mailing, "when": l.rule.when,
        });
        changed |= i64::from(carry_out(c, deed, &of, body, now)?) << i;
    }
    c.prepare_cached("UPDATE reacted SET changed = ?3 WHERE reaction_id = ?1 AND cause = ?2")?.execute([l.id, cause, changed])?;
    Ok(())
}

/// Takes back what a reaction changed for a cause: points, tags and lists, and a task that is open still. A field's
/// earlier value isn't kept, and what was told to another system stays told.
fn take_back(c: &Connection, l: &Live, cause: i64, now: Instant) -> Result<()> {
    let Some((contact, at, changed)) = c
        .prepare_cached("SELECT contact_id, at, changed FROM reacted WHERE reaction_id = ?1 AND cause = ?2 AND taken_back_at IS NULL")?
        .query_row([l.id, cause], |r| Ok((ContactId(r.get(0)?), r.get::<_, i64>(1)?, r.get::<_, i64>(2)?)))
        .optional()?
    else {
        return Ok(());
    };
    for (_, deed) in l.rule.then.iter().enumerate().filter(|(i, _)| changed & (1 << i) != 0) {
        match deed {
            Deed::Score { score, points } => {
                let from = scores::From { reaction: Some(l.id), cause: Some(cause), why: "taken back: it came later", person: None };
                scores::add(c, *score, contact, Instant::of(at), -points, &from)?;
            }
            Deed::Tag { tag, put } => drop(place(c, Kind::Tag, *tag, contact, !put, now)?),
            Deed::List { list, put } => drop(place(c, Kind::List, list.0, contact, !put, now)?),
            Deed::Task { words } => {
                c.prepare_cached(
                    "DELETE FROM task WHERE reaction_id = ?1 AND contact_id = ?2 AND at = ?3 AND words = ?4 AND done_at IS NULL",
                )?
                .execute(params![l.id, contact.0, at, words.trim()])?;
            }
            // Anybody who was put into a series is taken out of it again; who was taken out has lost their place.
            Deed::Series { series, put: true } => {
                crate::series_entry::take_out(c, *series, contact, now, "taken back: it came later")?;
            }
            Deed::Field { .. } | Deed::Webhook { .. } | Deed::Series { .. } => {}
        }
    }
    c.prepare_cached("UPDATE reacted SET taken_back_at = ?3 WHERE reaction_id = ?1 AND cause = ?2")?.execute([
        l.id,
        cause,
        now.millis(),
    ])?;
    Ok(())
}
