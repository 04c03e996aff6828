//! Moving people on: what has come in wakes those inside, and each who is due goes as far as
//! `rinse_core::series::walk` says. Everything can be done again: a step is left in the transaction that
//! does what it says.

use super::Kept;
use crate::codes::SERIES_RUNNING;
use crate::response_kinds;
use crate::send_state::DUE;
use crate::send_state::NEVER;
use crate::series_entry::end;
use crate::stored::As;
use crate::{Result, deeds};
use const_format::formatcp;
use rinse_core::clearance::Reason;
use rinse_core::id::{ContactId, MailingId, SegmentId, SeriesId};
use rinse_core::reaction::SETTLES_AFTER;
use rinse_core::segment::share::Salted;
use rinse_core::send::State;
use rinse_core::series::walk::{Fact, Facts, How, Move, Sent, Standing, ahead as plan_ahead, next};
use rinse_core::series::{Entry, Happening, Outline};
use rinse_core::{Instant, zone};
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::collections::HashMap;

/// Rows looked at, and people moved, in one transaction, so that an unsubscribe never waits long.
const AT_ONCE: i64 = 1_000;

/// Does a part of what is due by `now`. Returns how much was done: none means that nobody is due any more.
///
/// # Errors
/// When the database fails.
pub fn step(c: &Connection, now: Instant) -> Result<usize> {
    let running: HashMap<SeriesId, Kept> = super::running(c)?.into_iter().map(|k| (k.id, k)).collect();
    if running.is_empty() {
        return Ok(0);
    }
    let woken = responses_in(c, now)? + elsewhere(c, &running, "purchase", now)? + elsewhere(c, &running, "event", now)?;
    Ok(woken + move_on(c, &running, now)?)
}

/// When somebody inside is due next.
///
/// # Errors
/// When the database fails.
pub fn next_due(c: &Connection) -> Result<Option<Instant>> {
    let due: Option<i64> = c
        .prepare_cached(formatcp!(
            "SELECT due FROM series_entry INDEXED BY series_entry_due WHERE ended_at IS NULL AND due IS NOT NULL
             AND series_id NOT IN (SELECT id FROM series WHERE state <> {SERIES_RUNNING} OR paused_at IS NOT NULL) ORDER BY due LIMIT 1"
        ))?
        .query_row([], |r| r.get(0))
        .optional()?;
    Ok(due.map(Instant::of))
}

fn wake(c: &Connection, contact: ContactId, now: Instant) -> Result<()> {
    c.prepare_cached("UPDATE series_entry SET due = ?2 WHERE contact_id = ?1 AND ended_at IS NULL AND (due IS NULL OR due > ?2)")?
        .execute([contact.0, now.millis()])?;
    Ok(())
}

fn mark(c: &Connection, column: &str, upto: Option<i64>) -> Result<()> {
    let Some(upto) = upto else { return Ok(()) };
    c.prepare_cached(&format!("UPDATE series_mark SET {column} = ?1"))?.execute([upto])?;
    Ok(())
}

/// Responses to messages of series wake those who made them.
fn responses_in(c: &Connection, now: Instant) -> Result<usize> {
    let mut s = c.prepare_cached(
        "SELECT r.id, r.at, r.kind, s.cause, coalesce(k.merged_into, k.id) FROM response r JOIN send s ON s.id = r.send_id JOIN contact k ON k.id = s.contact_id
         WHERE r.id > (SELECT response FROM series_mark) ORDER BY r.id LIMIT ?1",
    )?;
    let mut rows = s.query([AT_ONCE])?;
    let (mut seen, mut upto) = (0, None);
    while let Some(r) = rows.next()? {
        let (at, kind): (i64, i64) = (r.get(1)?, r.get(2)?);
        // One that comes next may show this one to be a machine's.
        if now.millis() - at < SETTLES_AFTER && matches!(kind, response_kinds::OPEN | response_kinds::CLICK) {
            break;
        }
        (seen, upto) = (seen + 1, Some(r.get(0)?));
        if r.get::<_, i64>(3)? == 2 {
            wake(c, ContactId(r.get(4)?), now)?;
        }
    }
    mark(c, "response", upto)?;
    Ok(seen)
}

/// What people bought or did elsewhere wakes them, and lets them in where they enter by it.
fn elsewhere(c: &Connection, running: &HashMap<SeriesId, Kept>, table: &str, now: Instant) -> Result<usize> {
    let what = if table == "event" { "name, '', 0" } else { "product, category, cents" };
    let mut s = c.prepare_cached(&format!(
        "SELECT id, contact_id, at, {what} FROM {table} WHERE id > (SELECT {table} FROM series_mark) ORDER BY id LIMIT ?1"
    ))?;
    let mut rows = s.query([AT_ONCE])?;
    let (mut seen, mut upto) = (0, None);
    while let Some(r) = rows.next()? {
        let (id, contact, at): (i64, ContactId, i64) = (r.get(0)?, ContactId(r.get(1)?), r.get(2)?);
        let (name, category, cents): (String, String, i64) = (r.get(3)?, r.get(4)?, r.get(5)?);
        (seen, upto) = (seen + 1, Some(id));
        wake(c, contact, now)?;
        let fact = if table == "event" {
            Fact::Event(name.clone())
        } else {
            Fact::Bought { product: name.clone(), category, cents, currency: String::new() }
        };
        let facts = Facts { did: vec![(Instant::of(at), fact)], ..Facts::default() };
        for k in running.values() {
            let by = match &k.outline.entry {
                Entry::Event { name } => Happening::Event { name: name.clone() },
                Entry::Bought { product, category } => Happening::Bought { product: product.clone(), category: category.clone() },
                _ => continue,
            };
            if facts.first(&by, Instant::of(at - 1), Instant::of(at)).is_some() {
                crate::series_entry::enter(c, k, contact, Instant::of(at), &name, now)?;
            }
        }
    }
    mark(c, table, upto)?;
    Ok(seen)
}

/// Somebody inside.
struct Inside {
    entry: i64,
    series: SeriesId,
    contact: ContactId,
    standing: Standing,
}

fn move_on(c: &Connection, running: &HashMap<SeriesId, Kept>, now: Instant) -> Result<usize> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT e.id, e.series_id, e.contact_id, e.step, e.came_at, e.at FROM series_entry e INDEXED BY series_entry_due
         WHERE e.ended_at IS NULL AND e.due <= ?1 AND e.series_id IN (SELECT id FROM series WHERE state = {SERIES_RUNNING} AND paused_at IS NULL) ORDER BY e.due LIMIT ?2"),
    )?;
    let due: Vec<Inside> = s
        .query_map([now.millis(), AT_ONCE / 2], |r| {
            let standing = Standing { step: r.get(3)?, came: Instant::of(r.get(4)?), entered: Instant::of(r.get(5)?), sent: None };
            Ok(Inside { entry: r.get(0)?, series: SeriesId(r.get(1)?), contact: ContactId(r.get(2)?), standing })
        })?
        .collect::<rusqlite::Result<_>>()?;
    if due.is_empty() {
        return Ok(0);
    }
    let goals = crate::goals::known(c)?;
    for who in &due {
        let Some(k) = running.get(&who.series) else { continue };
        one(c, k, who, &goals, now)?;
    }
    Ok(due.len())
}

/// Moves one person on as far as they go now.
fn one(c: &Connection, k: &Kept, who: &Inside, goals: &HashMap<i64, rinse_core::goal::Goal>, now: Instant) -> Result<()> {
    let row: Option<(Option<String>, String)> = c
        .prepare_cached("SELECT c.zone, l.zone FROM contact c, letterhead l WHERE c.id = ?1 AND c.gone IS NULL AND l.id = ?2")?
        .query_row([who.contact.0, k.letterhead_id.0], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?;
    let Some((theirs, usual)) = row else { return end(c, who.entry, now, "not in the base any more") };
    let clock = theirs.as_deref().and_then(zone::named).or_else(|| zone::named(&usual)).unwrap_or(zone::TimeZone::UTC);
    let mut facts = facts(c, &k.outline, &Of::Entry(who.entry), now)?.remove(&who.entry).unwrap_or_default();
    facts.goals.clone_from(goals);
    let mut s = who.standing;
    // Each step is come to once, and asks a few times at most.
    for _ in 0..8 * k.outline.placed().len() + 8 {
        s.sent = sent(c, &k.outline, who.entry, s.step)?;
        facts.share = Salted::new(&format!("series {} step {}", k.id, s.step)).draw(who.contact);
        let (to, at, how) = match next(&k.outline, &s, &facts, &clock, now) {
            Move::Stay(until) => {
                c.prepare_cached("UPDATE series_entry SET step = ?2, came_at = ?3, due = ?4 WHERE id = ?1")?.execute(params![
                    who.entry,
                    s.step,
                    s.came.millis(),
                    until.map(|u| u.millis())
                ])?;
                return Ok(());
            }
            Move::Ask(segment) => {
                facts.segments.insert(segment, in_segment(c, segment, who.contact, now)?);
                continue;
            }
            Move::Send { mailing, due } => {
                record(c, mailing, who.contact, who.entry, due)?;
                continue;
            }
            Move::Act { deed, to, at } => {
                let cause = deeds::Cause {
                    key: format!("s{}-{}", who.entry, s.step),
                    why: format!("series {}", k.name),
                    reaction: None,
                    series: Some(k.id),
                    number: None,
                    contact: who.contact,
                    at,
                };
                let body = serde_json::json!({ "kind": "series", "series": k.id, "step": s.step, "entry": who.entry });
                deeds::carry_out(c, deed, &cause, body, now)?;
                (to, at, How::Done)
            }
            Move::Go { to, at, how } => (to, at, how),
            Move::Exit { exit, at } => {
                let words = match k.outline.exits.get(exit) {
                    Some(e) => super::named(c, &k.outline)?.exit(e),
                    None => "an exit".into(),
                };
                return end(c, who.entry, at.max(s.came), &words);
            }
            Move::Unreachable { at } => return end(c, who.entry, at, "no mail reaches them any more"),
        };
        c.prepare_cached("INSERT INTO series_passage VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT DO UPDATE SET gone_at = excluded.gone_at, how = excluded.how")?
            .execute(params![who.entry, s.step, k.id.0, s.came.millis(), at.millis(), how.code()])?;
        match to {
            None => return end(c, who.entry, at, "through"),
            Some(step) => s = Standing { step, came: at, entered: s.entered, sent: None },
        }
    }
    Ok(())
}

fn in_segment(c: &Connection, segment: SegmentId, contact: ContactId, now: Instant) -> Result<bool> {
    let sql = crate::segments::condition(c, segment, now)?;
    let mut values = sql.values;
    values.push(contact.0.into());
    let inside: Option<bool> = c
        .prepare_cached(&format!("SELECT ({}) FROM contact c WHERE c.id = ?", sql.text))?
        .query_row(rusqlite::params_from_iter(values), |r| r.get(0))
        .optional()?
        .flatten();
    Ok(inside == Some(true))
}

/// Records the message of a step, ready when it is due: it is cleared as it is handed over, and held there.
fn record(c: &Connection, mailing: MailingId, contact: ContactId, entry: i64, due: Instant) -> Result<()> {
    c.prepare_cached(formatcp!(
        "INSERT INTO send (mailing_id, contact_id, cause, cause_id, class, priority, channel, state, at, give_up_at)
         SELECT ?1, ?2, 2, ?3, class, priority, channel, {DUE}, ?4, ?5 FROM mailing WHERE id = ?1 ON CONFLICT DO NOTHING"
    ))?
    .execute(params![mailing.0, contact.0, entry, due.millis(), (due + NEVER).millis()])?;
    Ok(())
}

/// What a row of `send` says of a step's message: its state, and the instants and the reason that tell it.
const SENT: &str = "s.state, s.at, s.accepted_at, s.failed_at, s.reason";

/// The same as the walk takes it; the columns of [`SENT`] begin at `from`.
fn sent_of(r: &Row<'_>, from: usize) -> rusqlite::Result<Sent> {
    let (As(state), at): (As<State>, i64) = (r.get(from)?, r.get(from + 1)?);
    let or_at = |t: Option<i64>| Instant::of(t.unwrap_or(at));
    let accepted: Option<i64> = r.get(from + 2)?;
    Ok(match state {
        State::Accepted => Sent::Accepted(or_at(accepted)),
        // It was accepted, and came back later: they had gone on by then.
        State::Failed => accepted.map_or(Sent::Failed(or_at(r.get(from + 3)?)), |t| Sent::Accepted(Instant::of(t))),
        State::NotSent => {
            let why = r.get::<_, Option<i64>>(from + 4)?.and_then(Reason::from_code);
            let for_good =
                matches!(why, Some(Reason::NoAddress | Reason::Retired | Reason::Complained | Reason::Withdrawn | Reason::SeriesLeft));
            Sent::Barred { at: Instant::of(at), for_good }
        }
        State::Held | State::Due | State::HandingOver | State::Deferred | State::InDoubt => Sent::Pending,
    })
}

/// What became of the message of a step.
fn sent(c: &Connection, o: &Outline, entry: i64, step: u32) -> Result<Option<Sent>> {
    let Some(mailing) = super::message_at(o, step) else { return Ok(None) };
    let mut s = c.prepare_cached(formatcp!("SELECT {SENT} FROM send s WHERE s.cause = 2 AND s.cause_id = ?1 AND s.mailing_id = ?2"))?;
    Ok(s.query_row([entry, mailing], |r| sent_of(r, 0)).optional()?)
}

/// Of whom it is read what they did: of one entry, or of everybody inside a series in one go, which is several times quicker.
enum Of {
    Entry(i64),
    Inside(SeriesId),
}

impl Of {
    /// Asks for columns of what stands beside their entries (`e`), from the entries to the rest; each row goes with its entry's number, the columns
    /// from 1 on.
    fn each(&self, c: &Connection, columns: &str, rest: &str, mut row: impl FnMut(i64, &Row<'_>) -> rusqlite::Result<()>) -> Result<()> {
        let (whose, number) = match self {
            Self::Entry(id) => ("e.id = ?1", *id),
            Self::Inside(series) => ("e.series_id = ?1 AND e.ended_at IS NULL", series.0),
        };
        let mut s = c.prepare_cached(&format!("SELECT e.id, {columns} FROM series_entry e CROSS JOIN {rest} WHERE {whose}"))?;
        let mut rows = s.query([number])?;
        while let Some(r) = rows.next()? {
            row(r.get(0)?, r)?;
        }
        Ok(())
    }
}

/// What they did since they entered, as far as the outline asks, by the entry's number; who did nothing isn't there.
fn facts(c: &Connection, o: &Outline, of: &Of, now: Instant) -> Result<HashMap<i64, Facts>> {
    let mut all: HashMap<i64, Facts> = HashMap::new();
    let mut did = |entry, at, fact| all.entry(entry).or_default().did.push((Instant::of(at), fact));
    let asked = o.happenings();
    let goal = asked.iter().any(|h| matches!(h, Happening::Goal { .. }));
    if asked.iter().any(|h| matches!(h, Happening::Opened { .. } | Happening::Clicked { .. } | Happening::Replied { .. })) {
        let steps: HashMap<MailingId, u32> = o.mailings().into_iter().map(|(step, m)| (m, step)).collect();
        let answers = "send s ON s.cause = 2 AND s.cause_id = e.id CROSS JOIN response r ON r.send_id = s.id AND r.machine = 0";
        of.each(c, "s.mailing_id, r.kind, r.link, r.at", answers, |entry, r| {
            let at: i64 = r.get(4)?;
            let Some(step) = steps.get(&MailingId(r.get(1)?)).copied() else { return Ok(()) };
            let settled = now.millis() - at >= SETTLES_AFTER;
            match r.get::<_, i64>(2)? {
                response_kinds::OPEN if settled => did(entry, at, Fact::Opened(step)),
                response_kinds::CLICK if settled => did(entry, at, Fact::Clicked(step, r.get::<_, Option<u32>>(3)?.unwrap_or(0))),
                response_kinds::REPLY => did(entry, at, Fact::Replied(step)),
                _ => {}
            }
            Ok(())
        })?;
    }
    if goal || asked.iter().any(|h| matches!(h, Happening::Event { .. })) {
        let events = "event v ON v.contact_id = e.contact_id AND v.at > e.at";
        of.each(c, "v.at, v.name", events, |entry, r| {
            did(entry, r.get(1)?, Fact::Event(r.get(2)?));
            Ok(())
        })?;
    }
    if goal || asked.iter().any(|h| matches!(h, Happening::Bought { .. })) {
        let purchases = "purchase p ON p.contact_id = e.contact_id AND p.at > e.at";
        of.each(c, "p.at, p.product, p.category, p.cents, p.currency", purchases, |entry, r| {
            let bought = Fact::Bought { product: r.get(2)?, category: r.get(3)?, cents: r.get(4)?, currency: r.get(5)? };
            did(entry, r.get(1)?, bought);
            Ok(())
        })?;
    }
    if o.exits.iter().any(|e| matches!(e, rinse_core::series::Exit::TopicLeft { .. })) {
        of.each(c, "t.topic_id", "topic_left t ON t.contact_id = e.contact_id", |entry, r| {
            all.entry(entry).or_default().left.push(r.get(1)?);
            Ok(())
        })?;
    }
    Ok(all)
}

/// What became of the message of the step at which each of those inside stands, by the entry's number.
fn sent_inside(c: &Connection, k: &Kept) -> Result<HashMap<i64, Sent>> {
    let mut all = HashMap::new();
    let messages = "send s ON s.cause = 2 AND s.cause_id = e.id";
    Of::Inside(k.id).each(c, formatcp!("e.step, s.mailing_id, {SENT}"), messages, |entry, r| {
        if super::message_at(&k.outline, r.get(1)?) == Some(r.get(2)?) {
            all.insert(entry, sent_of(r, 3)?);
        }
        Ok(())
    })?;
    Ok(all)
}

/// The messages that those inside will come to by an instant, if nothing more happens: whose, of which mailing, when.
pub(super) fn ahead(c: &Connection, now: Instant, until: Instant) -> Result<Vec<(ContactId, MailingId, Instant)>> {
    let (mut out, nothing) = (Vec::new(), Facts::default());
    for k in super::running(c)? {
        let (facts, sent) = (facts(c, &k.outline, &Of::Inside(k.id), now)?, sent_inside(c, &k)?);
        let mut s = c.prepare_cached(
            "SELECT e.id, e.contact_id, e.step, e.came_at, e.at, g.zone, l.zone FROM series_entry e JOIN contact g ON g.id = e.contact_id, letterhead l
             WHERE e.series_id = ?1 AND e.ended_at IS NULL AND g.gone IS NULL AND l.id = ?2",
        )?;
        let mut rows = s.query([k.id.0, k.letterhead_id.0])?;
        while let Some(r) = rows.next()? {
            let entry: i64 = r.get(0)?;
            let from = Standing {
                step: r.get(2)?,
                came: Instant::of(r.get(3)?),
                entered: Instant::of(r.get(4)?),
                sent: sent.get(&entry).copied(),
            };
            let contact = ContactId(r.get(1)?);
            let (theirs, usual): (Option<String>, String) = (r.get(5)?, r.get(6)?);
            let clock = theirs.as_deref().and_then(zone::named).or_else(|| zone::named(&usual)).unwrap_or(zone::TimeZone::UTC);
            let facts = facts.get(&entry).unwrap_or(&nothing);
            out.extend(plan_ahead(&k.outline, from, facts, &clock, now, until).into_iter().map(|(m, at)| (contact, m, at)));
        }
    }
    Ok(out)
}
