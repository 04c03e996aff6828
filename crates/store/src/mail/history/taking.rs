//! Taking in one event of another system's log, and working out what a message's row comes to.

use super::outside::{self, To};
use crate::codes::ACTIVE;
use crate::contacts::{self, Profile};
use crate::figures::place;
use crate::ledger::{self, Origin};
use crate::machines::judging;
use crate::purchases;
use crate::response_kinds;
use crate::responses::{self, Leaving};
use crate::send_state::{ACCEPTED, FAILED};
use crate::tombstones::{Tombstones, WAS_DELETED};
use crate::upkeep::{incidents, readings};
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::bounce::Category;
use rinse_core::consent::Act;
use rinse_core::history::course::{Step, course};
use rinse_core::history::{Event, Kind};
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::purchase::Purchase;
use rinse_core::token::hex;
use rusqlite::{Connection, OptionalExtension, params};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Links of a mailing that are told apart: where each message has links of its own, they are no places.
const MOST_LINKS: i64 = 200;

/// How events are taken.
#[derive(Debug, Clone)]
pub struct Takes {
    /// The file they are of; none: they come in as they happen.
    pub log: Option<i64>,
    pub name: String,
    /// The log says what was accepted. Otherwise what it doesn't say to have bounced was.
    pub accepts: bool,
    pub newcomers: bool,
    pub unnamed: bool,
    pub now: Instant,
}

/// What became of an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Taken {
    New,
    /// It was there already.
    Known,
    Refused(String),
}

/// What goes from event to event of a batch, and what is still to be worked out.
#[derive(Default)]
pub struct Memory {
    mailings: HashMap<String, Option<To>>,
    tombstones: Option<Tombstones>,
    /// Messages of which steps came, and those of which hits came.
    stepped: BTreeSet<SendId>,
    hit: BTreeSet<SendId>,
    /// The mailings spoken of, with the first and the last of their steps.
    spoken_of: BTreeMap<MailingId, Option<(i64, i64)>>,
    /// Those with opens that came without an agent.
    without_agent: BTreeSet<MailingId>,
}

impl Memory {
    /// The mailings whose opens came without an agent: their messages are to be marked ([`mark_some`]).
    #[must_use]
    pub fn without_agent(&self) -> Vec<MailingId> {
        self.without_agent.iter().copied().collect()
    }
}

enum Whom {
    Here(ContactId),
    Nobody(String),
}

fn whom(c: &Connection, t: &Takes, m: &mut Memory, e: &Event) -> Result<Whom> {
    if let Some(id) = contacts::id_of(c, &e.address.key)? {
        return Ok(Whom::Here(id));
    }
    let tombstones = match m.tombstones.take() {
        Some(t) => t,
        None => Tombstones::load(c)?,
    };
    let deleted = tombstones.has(c, &e.address.key)?;
    m.tombstones = Some(tombstones);
    if deleted {
        return Ok(Whom::Nobody(WAS_DELETED.into()));
    }
    if !t.newcomers {
        return Ok(Whom::Nobody("nobody in the base has this address".into()));
    }
    let profile = Profile { source: Some(t.name.clone()), ..Profile::default() };
    let id = contacts::add(c, &e.address, &profile, t.now)?;
    if let Some(log) = t.log {
        c.prepare_cached("INSERT INTO log_person VALUES (?1, ?2)")?.execute([log, id.0])?;
    }
    Ok(Whom::Here(id))
}

fn mailing(c: &Connection, t: &Takes, m: &mut Memory, e: &Event) -> Result<Option<To>> {
    let found = match m.mailings.get(&e.mailing) {
        Some(found) => *found,
        None => {
            let mut found = outside::known(c, &e.mailing)?;
            if found.is_none() && t.unnamed && !e.mailing.is_empty() && e.kind <= Kind::Bounced {
                found = Some(To::of_others(outside::unnamed(c, &e.mailing, e.at, t.log)?));
            }
            if found.is_some() || !t.unnamed {
                m.mailings.insert(e.mailing.clone(), found);
            }
            found
        }
    };
    if let Some(To { mailing, .. }) = found
        && !m.spoken_of.contains_key(&mailing)
    {
        m.spoken_of.insert(mailing, None);
        if let Some(log) = t.log {
            c.prepare_cached("INSERT OR IGNORE INTO log_mailing VALUES (?1, ?2)")?.execute([mailing.0, log])?;
        }
    }
    Ok(found)
}

/// The step of a message's way that an event is; none: it is an answer.
fn step(kind: Kind, accepts: bool) -> Option<Step> {
    match kind {
        Kind::Sent if accepts => Some(Step::Sent),
        Kind::Sent => Some(Step::Taken),
        Kind::Accepted => Some(Step::Accepted),
        Kind::Deferred => Some(Step::Deferred),
        Kind::Bounced => Some(Step::Bounced),
        _ => None,
    }
}

/// Is an event a step of a message's way? Those are taken before answers.
#[must_use]
pub fn is_step(kind: Kind) -> bool {
    step(kind, true).is_some()
}

/// Takes an event in; [`settle`] then works out what it comes to. The same one twice changes nothing.
///
/// # Errors
/// When the database fails.
pub fn take(c: &Connection, t: &Takes, m: &mut Memory, e: &Event) -> Result<Taken> {
    if e.at > t.now {
        return Ok(Taken::Refused("it lies in the future".into()));
    }
    let contact = match whom(c, t, m, e)? {
        Whom::Here(id) => id,
        Whom::Nobody(why) => return Ok(Taken::Refused(why)),
    };
    if e.kind == Kind::Bought {
        return bought(c, t, e);
    }
    let Some(To { mailing, handed_out, arm }) = mailing(c, t, m, e)? else {
        return Ok(Taken::Refused(format!("no mailing sent elsewhere has the key or name {:?}", e.mailing)));
    };
    let there: Option<(i64, bool)> = c
        .prepare_cached(
            "SELECT id, EXISTS (SELECT 1 FROM log_step l WHERE l.send_id = send.id) FROM send WHERE mailing_id = ?1 AND contact_id = ?2",
        )?
        .query_row([mailing.0, contact.0], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?;
    if let Some(step) = step(e.kind, t.accepts) {
        let send = match there {
            Some((id, _)) => id,
            None if handed_out => return Ok(Taken::Refused("this address isn’t on the lists that were handed out".into())),
            None => {
                c.prepare_cached(formatcp!(
                    "INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at) VALUES (?1, ?2, ?1, {ACCEPTED}, ?3, ?3)"
                ))?
                .execute(params![mailing.0, contact.0, e.at.millis()])?;
                c.last_insert_rowid()
            }
        };
        let reply = (!e.reply.is_empty()).then_some(&e.reply);
        let n = c
            .prepare_cached("INSERT INTO log_step (send_id, step, at, log_id, reply) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO NOTHING")?
            .execute(params![send, step.code(), e.at.millis(), t.log, reply])?;
        if n == 0 {
            return Ok(Taken::Known);
        }
        m.stepped.insert(SendId(send));
        if let Some(arm) = arm {
            c.prepare_cached("INSERT OR IGNORE INTO log_crossed SELECT id, ?2, ?3 FROM send WHERE id = ?1 AND arm <> ?2")?
                .execute(params![send, arm, t.log])?;
        }
        if let Some(span) = m.spoken_of.get_mut(&mailing) {
            *span = Some(span.map_or((e.at.millis(), e.at.millis()), |(a, b)| (a.min(e.at.millis()), b.max(e.at.millis()))));
        }
        return Ok(Taken::New);
    }
    match there {
        Some((send, true)) => answer(c, t, m, contact, mailing, SendId(send), e),
        _ => Ok(Taken::Refused("no log says that this mailing was sent to this address; bring the one that does first".into())),
    }
}

fn bought(c: &Connection, t: &Takes, e: &Event) -> Result<Taken> {
    // Without a key of its own a purchase is known by what it is.
    let key = if e.key.is_empty() {
        let mut digest = Sha256::new();
        for part in [e.address.key.as_str(), &e.at.millis().to_string(), &e.cents.to_string(), &e.currency] {
            digest.update(part);
            digest.update([0]);
        }
        format!("log {}", &hex(&digest.finalize())[..32])
    } else {
        e.key.clone()
    };
    let purchase = Purchase {
        key: key.clone(),
        address: e.address.clone(),
        at: e.at,
        cents: e.cents,
        currency: e.currency.clone(),
        product: String::new(),
        category: String::new(),
    };
    match purchases::take(c, &purchase)? {
        purchases::Taken::New => {
            c.prepare_cached("UPDATE purchase SET log_id = ?2 WHERE key = ?1")?.execute(params![key, t.log])?;
            Ok(Taken::New)
        }
        purchases::Taken::Known => Ok(Taken::Known),
        purchases::Taken::Nobody => Ok(Taken::Refused("nobody in the base has this address".into())),
    }
}

/// The place of a link in a mailing; it gets one where there are few. The others, and those that a log doesn't name, have one together: a click
/// without any would be the press of a button, which only a person does.
fn link(c: &Connection, mailing: MailingId, url: &str) -> Result<i64> {
    let there: Option<i64> = c
        .prepare_cached("SELECT position FROM link WHERE mailing_id = ?1 AND url = ?2 ORDER BY position LIMIT 1")?
        .query_row(params![mailing.0, url], |r| r.get(0))
        .optional()?;
    if let Some(there) = there {
        return Ok(there);
    }
    let next: i64 =
        c.prepare_cached("SELECT coalesce(max(position) + 1, 0) FROM link WHERE mailing_id = ?1")?.query_row([mailing.0], |r| r.get(0))?;
    if next >= MOST_LINKS && !url.is_empty() {
        return link(c, mailing, "");
    }
    let name = if url.is_empty() { "other links" } else { url };
    c.prepare_cached("INSERT INTO link (mailing_id, position, url, name) VALUES (?1, ?2, ?3, ?4)")?
        .execute(params![mailing.0, next, url, name])?;
    Ok(next)
}

fn answer(c: &Connection, t: &Takes, m: &mut Memory, contact: ContactId, mailing: MailingId, send: SendId, e: &Event) -> Result<Taken> {
    let (kind, place) = match e.kind {
        Kind::Opened => (response_kinds::OPEN, None),
        Kind::Clicked => (response_kinds::CLICK, Some(link(c, mailing, &e.link)?)),
        Kind::Replied => (response_kinds::REPLY, None),
        Kind::Left => (response_kinds::UNSUBSCRIBE, None),
        _ => (response_kinds::COMPLAINT, None),
    };
    let known = c.prepare_cached("SELECT 1 FROM response WHERE send_id = ?1 AND kind = ?2 AND at = ?3 AND link IS ?4")?.exists(params![
        send.0,
        kind,
        e.at.millis(),
        place
    ])?;
    if known {
        return Ok(Taken::Known);
    }
    let agent: String = e.agent.chars().take(judging::LONGEST_AGENT).collect();
    c.prepare_cached(
        "INSERT INTO response (at, send_id, kind, link, agent, rules_version, log_id) VALUES (?1, ?2, ?3, ?4, ?5, (SELECT max(id) FROM machine_rules), ?6)",
    )?
    .execute(params![e.at.millis(), send.0, kind, place, if kind <= response_kinds::CLICK { agent.as_str() } else { "log" }, t.log])?;
    match e.kind {
        Kind::Opened => {
            m.hit.insert(send);
            if agent.is_empty() {
                m.without_agent.insert(mailing);
                c.prepare_cached("UPDATE outside_mailing SET opens_unknown = 1 WHERE mailing_id = ?1 AND opens_unknown = 0")?
                    .execute([mailing.0])?;
            }
        }
        Kind::Clicked => drop(m.hit.insert(send)),
        Kind::Replied => {
            m.hit.insert(send);
            c.prepare_cached("UPDATE send SET reply_at = min(coalesce(reply_at, ?2), ?2) WHERE id = ?1")?
                .execute(params![send.0, e.at.millis()])?;
        }
        Kind::Left => ended(c, t, contact, send, e.at, Leaving::Withdrew)?,
        _ => ended(c, t, contact, send, e.at, Leaving::Complained)?,
    }
    Ok(Taken::New)
}

/// Somebody left or complained there: that holds here, too, unless they agreed again by themselves since.
fn ended(c: &Connection, t: &Takes, contact: ContactId, send: SendId, at: Instant, how: Leaving) -> Result<()> {
    responses::left_by(c, send, how, at)?;
    // A file of people that came in later says nothing of what they wanted then.
    let again = c
        .prepare_cached(
            "SELECT 1 FROM ledger WHERE contact_id = ?1 AND at > ?2 AND kind IN ('agreed', 'confirmed', 'renewed', 'resumed') AND import_id IS NULL AND person_id IS NULL AND run_id IS NULL",
        )?
        .exists(params![contact.0, at.millis()])?;
    if again && how != Leaving::Complained {
        return Ok(());
    }
    let entity = responses::whose(c, send)?.map(|(_, _, entity)| entity).unwrap_or_default();
    let act = if how == Leaving::Complained { Act::Complained } else { Act::Withdrew };
    let origin =
        Origin { source: "another sender", evidence: format!("by its log, {}", t.name), send: Some(send), entity, ..Origin::default() };
    ledger::act(c, contact, at, act, &origin)?;
    Ok(())
}

/// Works out the rows of the messages that a batch of a file spoke of. What is about whole mailings comes when the file is in.
///
/// # Errors
/// When the database fails.
pub fn settle(c: &Connection, m: &mut Memory) -> Result<()> {
    for send in std::mem::take(&mut m.stepped) {
        if work_out(c, send)? {
            m.hit.insert(send);
        }
    }
    for send in std::mem::take(&mut m.hit) {
        judging::judge_whole(c, send)?;
    }
    m.spoken_of.clear();
    Ok(())
}

/// The same of events that come in as they happen: mailings last as long as their steps, failures count at once, and who answers isn't silent.
///
/// # Errors
/// When the database fails.
pub fn settle_live(c: &Connection, m: &mut Memory, now: Instant) -> Result<()> {
    let (stepped, hit, spoken_of) = (m.stepped.clone(), m.hit.clone(), std::mem::take(&mut m.spoken_of));
    settle(c, m)?;
    for (mailing, span) in spoken_of.iter().filter_map(|(m, span)| span.map(|s| (m, s))) {
        c.prepare_cached("UPDATE mailing SET started_at = min(started_at, ?2), finished_at = max(finished_at, ?3) WHERE id = ?1")?
            .execute(params![mailing.0, span.0, span.1])?;
        incidents::look_back(c, *mailing)?;
    }
    for send in stepped {
        c.prepare_cached(
            "INSERT INTO status_due SELECT contact_id FROM send WHERE id = ?1 AND failed_at IS NOT NULL ON CONFLICT DO NOTHING",
        )?
        .execute([send.0])?;
    }
    for send in hit {
        let answered: Option<i64> =
            c.prepare_cached("SELECT coalesce(reply_at, click_at, open_at) FROM send WHERE id = ?1")?.query_row([send.0], |r| r.get(0))?;
        if answered.is_some() {
            responses::answers(c, send, now)?;
        }
    }
    Ok(())
}

struct Was {
    contact: ContactId,
    mailing: MailingId,
    handed_at: Option<i64>,
    accepted_at: Option<i64>,
    failed_at: Option<i64>,
    category: Option<i64>,
    has_hits: bool,
    opens_unknown: bool,
}

impl Was {
    /// As one of a mailing's messages to a domain, and as one of its failures.
    fn counts(&self) -> (i64, i64) {
        let failed = self.failed_at.is_some() && self.category.is_some_and(|c| Category::from_code(c).class().counts_against_address());
        (i64::from(self.accepted_at.is_some() || self.failed_at.is_some()), i64::from(failed))
    }
}

/// Works out the row of a message from its steps; true when hits on it are to be judged again. One without any step is as if it had never
/// been handed over.
pub(super) fn work_out(c: &Connection, send: SendId) -> Result<bool> {
    let was = c
        .prepare_cached(
            "SELECT s.contact_id, s.mailing_id, s.handed_at, s.accepted_at, s.failed_at, s.category, s.any_open_at IS NOT NULL OR s.any_click_at IS NOT NULL,
                coalesce(o.opens_unknown, 0) OR d.opens_unknown
             FROM send s JOIN contact k ON k.id = s.contact_id JOIN domain d ON d.id = k.domain_id LEFT JOIN outside_mailing o ON o.mailing_id = s.mailing_id WHERE s.id = ?1",
        )?
        .query_row([send.0], |r| {
            Ok(Was {
                contact: ContactId(r.get(0)?),
                mailing: MailingId(r.get(1)?),
                handed_at: r.get(2)?,
                accepted_at: r.get(3)?,
                failed_at: r.get(4)?,
                category: r.get(5)?,
                has_hits: r.get(6)?,
                opens_unknown: r.get(7)?,
            })
        })?;
    let mut s = c.prepare_cached("SELECT step, at, reply FROM log_step WHERE send_id = ?1")?;
    let stored: Vec<(i64, i64, Option<String>)> =
        s.query_map([send.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?;
    let steps: Vec<(Step, Instant)> = stored
        .iter()
        .map(|(code, at, _)| Ok((Step::from_code(*code).ok_or_else(|| StoreError::Unreadable(format!("step {code}")))?, Instant::of(*at))))
        .collect::<Result<_>>()?;
    let Some(now) = course(&steps) else {
        c.prepare_cached(
            "UPDATE send SET handed_at = NULL, accepted_at = NULL, failed_at = NULL, category = NULL, reply = NULL WHERE id = ?1",
        )?
        .execute([send.0])?;
        if let Some(at) = was.handed_at {
            let (messages, failures) = was.counts();
            incidents::known_otherwise(c, was.contact, was.mailing, Instant::of(at), -messages, -failures)?;
        }
        crate::rollups::due(c, was.contact)?;
        return Ok(false);
    };
    let line = stored
        .iter()
        .find(|(code, at, _)| Some(Instant::of(*at)) == now.failed_at && *code == Step::Bounced.code())
        .map(|(_, _, line)| line.clone().unwrap_or_default());
    let category = line.as_deref().map(|line| readings::of(c, line, Category::of_line(line))).transpose()?.map(|c| c as i64);
    let (accepted, failed) = (now.accepted_at.map(|a| a.millis()), now.failed_at.map(|a| a.millis()));
    // Where it went depends on when it was handed over, and on nothing that a later step tells.
    let goes =
        if was.handed_at == Some(now.handed_at.millis()) { None } else { Some(place::of(c, was.contact, was.mailing, now.handed_at)?) };
    c.prepare_cached(formatcp!(
        "UPDATE send SET at = ?2, give_up_at = ?2, handed_at = ?2, accepted_at = ?3, failed_at = ?4, category = ?5, reply = ?6, state = iif(?4 IS NULL, {ACCEPTED}, {FAILED}),
            opens_unknown = ?7, place_id = coalesce(place_id, ?8), local_hour = coalesce(?9, local_hour) WHERE id = ?1"
    ))?
    .execute(params![send.0, now.handed_at.millis(), accepted, failed, category, line, was.opens_unknown, goes.and_then(|g| g.place), goes.map(|g| g.local_hour)])?;
    let is = Was { handed_at: Some(now.handed_at.millis()), accepted_at: accepted, failed_at: failed, category, ..was };
    let ((messages, failures), (had, had_failed)) = (is.counts(), was.counts());
    match was.handed_at {
        Some(then) if then != now.handed_at.millis() => {
            incidents::known_otherwise(c, was.contact, was.mailing, Instant::of(then), -had, -had_failed)?;
            incidents::known_otherwise(c, was.contact, was.mailing, now.handed_at, messages, failures)?;
        }
        _ => incidents::known_otherwise(c, was.contact, was.mailing, now.handed_at, messages - had, failures - had_failed)?,
    }
    crate::rollups::due(c, was.contact)?;
    // Whose address isn't simply active may stand otherwise by it; what failed is looked at as a whole ([`finish_mailing`]).
    c.prepare_cached(formatcp!(
        "INSERT INTO status_due SELECT id FROM contact WHERE id = ?1 AND status <> {ACTIVE} ON CONFLICT DO NOTHING"
    ))?
    .execute([was.contact.0])?;
    Ok(was.has_hits && (was.accepted_at, was.handed_at) != (is.accepted_at, is.handed_at))
}

/// After the last batch: when a mailing began and ended, what of its failures waits for a person, and whose mail status is to be worked out
/// again.
pub(super) fn finish_mailing(c: &Connection, mailing: MailingId) -> Result<()> {
    outside::span(c, mailing)?;
    incidents::look_back(c, mailing)?;
    c.prepare_cached(
        "INSERT INTO status_due SELECT s.contact_id FROM send s INDEXED BY send_failure JOIN contact k ON k.id = s.contact_id
         WHERE s.mailing_id = ?1 AND s.failed_at IS NOT NULL AND k.gone IS NULL ON CONFLICT DO NOTHING",
    )?
    .execute([mailing.0])?;
    Ok(())
}

/// Messages marked at once by [`mark_some`].
const MARKED_AT_ONCE: u32 = 1_000;

/// Of mailings whose log has no agents no message says whether a person opened it: marks the next of one, behind a person; the last of them,
/// none when there is none left.
pub(super) fn mark_some(c: &Connection, mailing: MailingId, after: i64) -> Result<Option<i64>> {
    let mut s = c.prepare_cached(
        "SELECT s.id, s.contact_id FROM send s JOIN outside_mailing o ON o.mailing_id = s.mailing_id
         WHERE s.mailing_id = ?1 AND s.contact_id > ?2 AND o.opens_unknown = 1 AND s.opens_unknown = 0 ORDER BY s.contact_id LIMIT ?3",
    )?;
    let some: Vec<(SendId, i64)> =
        s.query_map(params![mailing.0, after, MARKED_AT_ONCE], |r| Ok((SendId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    for (send, _) in &some {
        c.prepare_cached("UPDATE send SET opens_unknown = 1 WHERE id = ?1")?.execute([send.0])?;
        judging::judge(c, *send)?;
    }
    Ok(some.last().map(|(_, contact)| *contact).filter(|_| some.len() == MARKED_AT_ONCE as usize))
}
