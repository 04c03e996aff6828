//! Responses: opens, clicks, replies, leaving, complaints. Each is written once, judged human or
//! machine by the one rule set, and rolled up on its send.

use crate::Result;
use crate::ledger::{self, Origin};
use crate::machines::judging::{self, Known};
use crate::machines::opens;
use crate::response_kinds::{CLICK, COMPLAINT, REPLY, UNSUBSCRIBE};
pub use judging::Came;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, MailingId, SendId, SeriesId};
use rinse_core::response::FETCH_WITHIN;
use rusqlite::{Connection, OptionalExtension, params};

/// What no rule judges: a person did it.
fn insert(c: &Connection, at: Instant, send: SendId, kind: i64, how: &str) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO response (at, send_id, kind, agent, rules_version) VALUES (?1, ?2, ?3, ?4, (SELECT max(id) FROM machine_rules))",
    )?
    .execute(params![at.millis(), send.0, kind, how])?;
    Ok(())
}

/// Records a hit on a message's own link: an open, or a click on a link. Returns false when there is no such send.
///
/// # Errors
/// When the database fails.
pub fn hit(c: &Connection, send: SendId, came: &Came) -> Result<bool> {
    let Some(known) = judging::known(c, send)? else { return Ok(false) };
    let human = judging::record(c, send, &known, came)?;
    if came.link.is_none() && known.first && came.at - known.delivered_at <= FETCH_WITHIN {
        opens::fetched(c, &known)?;
    }
    if human {
        answered(c, &known, came.at)?;
    }
    Ok(true)
}

/// Anybody who answers isn't silent any more.
pub(crate) fn answers(c: &Connection, send: SendId, at: Instant) -> Result<()> {
    match judging::known(c, send)? {
        Some(known) => answered(c, &known, at),
        None => Ok(()),
    }
}

fn answered(c: &Connection, known: &Known, at: Instant) -> Result<()> {
    if known.silent {
        crate::upkeep::silence::ended(c, known.contact)?;
    }
    if known.sunset { ledger::lift_sunset(c, known.contact, at, "a response of their own") } else { Ok(()) }
}

/// What pressing the button of a letter that asks came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WentOn {
    Renewed,
    /// They had left, or never agreed: only a sign-up of their own brings letters.
    NoConsent,
}

/// Somebody pressed the button of a letter that asks whether to go on: a response of their own, and evidence of their consent, once a message.
/// None: there is no such message.
///
/// # Errors
/// When the database fails.
pub fn go_on(c: &Connection, send: SendId, at: Instant) -> Result<Option<WentOn>> {
    let Some((contact, _, entity)) = whose(c, send)? else { return Ok(None) };
    let origin = Origin {
        source: "button of a message",
        evidence: format!("asked by message {send} whether to go on, they pressed “go on”"),
        send: Some(send),
        entity,
        ..Origin::default()
    };
    let stated = ledger::stated_at(c, contact, origin.grant(), at)?.standing().at(at);
    if !stated.allows_marketing() && stated != rinse_core::consent::Consent::Paused {
        return Ok(Some(WentOn::NoConsent));
    }
    let pressed = c
        .prepare_cached("SELECT 1 FROM ledger WHERE contact_id = ?1 AND send_id = ?2 AND kind = 'renewed'")?
        .exists([contact.0, send.0])?;
    if !pressed {
        ledger::note(c, contact, at, "renewed", &origin)?;
        insert(c, at, send, CLICK, "button")?;
        c.prepare_cached(
            "UPDATE send SET any_click_at = min(coalesce(any_click_at, ?2), ?2), click_at = min(coalesce(click_at, ?2), ?2), trial_click_at = min(coalesce(trial_click_at, ?2), ?2) WHERE id = ?1",
        )?
        .execute(params![send.0, at.millis()])?;
        answers(c, send, at)?;
    }
    Ok(Some(WentOn::Renewed))
}

/// Whose message it was (of a merged person's that stayed behind: who they are now), its topic, and the legal
/// entity it came from.
pub(crate) fn whose(c: &Connection, send: SendId) -> Result<Option<(ContactId, Option<i64>, String)>> {
    Ok(c.prepare_cached(
        "SELECT coalesce(k.merged_into, k.id), m.topic_id, l.entity FROM send s JOIN mailing m ON m.id = s.mailing_id JOIN letterhead l ON l.id = m.letterhead_id
         JOIN contact k ON k.id = s.contact_id WHERE s.id = ?1",
    )?
    .query_row([send.0], |r| Ok((ContactId(r.get(0)?), r.get(1)?, r.get(2)?)))
    .optional()?)
}

/// What an unsubscribe ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Left {
    Topic,
    Everything,
}

/// How an unsubscribe by RFC 8058 is recorded.
pub const ONE_CLICK: &str = "one-click";

/// An unsubscribe by the link of a message: ends the mailing's topic, or everything where it has
/// none or the person asks for it. Takes effect at once; the same again changes nothing.
///
/// # Errors
/// When the database fails.
pub fn unsubscribe(c: &Connection, send: SendId, everything: bool, at: Instant, how: &'static str) -> Result<Option<Left>> {
    let Some((contact, topic, entity)) = whose(c, send)? else { return Ok(None) };
    // What one click ends is the letterhead's to say.
    let everything = everything
        || (how == ONE_CLICK
            && c.prepare_cached("SELECT l.one_click = 'everything' FROM send s JOIN mailing m ON m.id = s.mailing_id JOIN letterhead l ON l.id = m.letterhead_id WHERE s.id = ?1")?
                .query_row([send.0], |r| r.get(0))?);
    let origin = Origin { source: how, evidence: format!("link of message {send}"), send: Some(send), entity, ..Origin::default() };
    let (left, new) = match topic.filter(|_| !everything) {
        Some(topic) => (Left::Topic, ledger::leave_topic(c, contact, topic, at, &origin)?),
        None => (Left::Everything, ledger::act(c, contact, at, Act::Withdrew, &origin)?),
    };
    if new {
        insert(c, at, send, UNSUBSCRIBE, how)?;
        left_by(c, send, if left == Left::Topic { Leaving::Topic } else { Leaving::Withdrew }, at)?;
    }
    Ok(Some(left))
}

/// A way of leaving by a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Leaving {
    Topic,
    Series,
    Paused,
    Withdrew,
    Complained,
}

/// Writes on a message that somebody left by it, and how; the earliest of each counts.
pub(crate) fn left_by(c: &Connection, send: SendId, how: Leaving, at: Instant) -> Result<()> {
    let column = match how {
        Leaving::Topic => "topic_left_at",
        Leaving::Series => "series_left_at",
        Leaving::Paused => "paused_at",
        Leaving::Withdrew => "withdrew_at",
        Leaving::Complained => "complained_at",
    };
    let sql = format!("UPDATE send SET {column} = min(coalesce({column}, ?2), ?2), left_at = min(coalesce(left_at, ?2), ?2) WHERE id = ?1");
    c.prepare_cached(&sql)?.execute(params![send.0, at.millis()])?;
    Ok(())
}

/// Somebody left by the preferences page that a message led them to. A pause is no response that reactions act on.
///
/// # Errors
/// When the database fails.
pub fn by_preferences(c: &Connection, send: SendId, how: Leaving, at: Instant) -> Result<()> {
    if how != Leaving::Paused {
        insert(c, at, send, UNSUBSCRIBE, "preferences page")?;
    }
    left_by(c, send, how, at)
}

/// Somebody ended text messages by answering one.
///
/// # Errors
/// When the database fails.
pub(crate) fn stopped_by_text(c: &Connection, send: SendId, at: Instant) -> Result<()> {
    insert(c, at, send, UNSUBSCRIBE, "text message")?;
    left_by(c, send, Leaving::Withdrew, at)
}

/// The topic of a message's mailing.
///
/// # Errors
/// When the database fails.
pub fn topic_of(c: &Connection, send: SendId) -> Result<Option<i64>> {
    Ok(whose(c, send)?.and_then(|w| w.1))
}

/// The series whose step sent a message, when one did.
///
/// # Errors
/// When the database fails.
pub fn series_of(c: &Connection, send: SendId) -> Result<Option<(SeriesId, String)>> {
    let mut s = c.prepare_cached(
        "SELECT x.id, x.name FROM send s JOIN mailing m ON m.id = s.mailing_id JOIN series x ON x.id = m.series_id WHERE s.id = ?1",
    )?;
    Ok(s.query_row([send.0], |r| Ok((SeriesId(r.get(0)?), r.get(1)?))).optional()?)
}

/// Leaves the series that a message came from, and nothing else. Takes effect at once; the same again changes nothing.
/// `None`: no series sent it.
///
/// # Errors
/// When the database fails.
pub fn leave_series(c: &Connection, send: SendId, at: Instant) -> Result<Option<String>> {
    let (Some((contact, _, _)), Some((series, name))) = (whose(c, send)?, series_of(c, send)?) else { return Ok(None) };
    if crate::series_entry::leave(c, series, contact, at)? {
        insert(c, at, send, UNSUBSCRIBE, "left the series")?;
        left_by(c, send, Leaving::Series, at)?;
    }
    Ok(Some(name))
}

/// Takes back that somebody left the series that a message came from.
///
/// # Errors
/// When the database fails.
pub fn rejoin_series(c: &Connection, send: SendId) -> Result<()> {
    if let (Some((contact, _, _)), Some((series, _))) = (whose(c, send)?, series_of(c, send)?) {
        crate::series_entry::rejoin(c, series, contact)?;
    }
    Ok(())
}

/// A complaint by feedback report.
///
/// # Errors
/// When the database fails.
pub fn complaint(c: &Connection, send: SendId, at: Instant) -> Result<bool> {
    let Some((contact, _, entity)) = whose(c, send)? else { return Ok(false) };
    let origin =
        Origin { source: "feedback report", evidence: format!("about message {send}"), send: Some(send), entity, ..Origin::default() };
    ledger::act(c, contact, at, Act::Complained, &origin)?;
    insert(c, at, send, COMPLAINT, "")?;
    crate::warm_up::complained(c, send)?;
    left_by(c, send, Leaving::Complained, at)?;
    Ok(true)
}

/// A reply to a message, with what it says.
///
/// # Errors
/// When the database fails.
pub fn reply(c: &Connection, send: SendId, at: Instant, subject: &str, text: &str) -> Result<bool> {
    if whose(c, send)?.is_none() {
        return Ok(false);
    }
    if !text.is_empty() {
        c.prepare_cached("INSERT INTO reply (send_id, at, subject, text) VALUES (?1, ?2, ?3, ?4)")?.execute(params![
            send.0,
            at.millis(),
            subject,
            text
        ])?;
    }
    insert(c, at, send, REPLY, "")?;
    answers(c, send, at)?;
    c.prepare_cached("UPDATE send SET reply_at = min(coalesce(reply_at, ?2), ?2) WHERE id = ?1")?.execute(params![send.0, at.millis()])?;
    Ok(true)
}

/// What may be a reply, known by its sender and subject alone, which anybody can write: it is kept to be read, and nothing comes of it.
///
/// # Errors
/// When the database fails.
pub fn probably_reply(c: &Connection, send: SendId, at: Instant, subject: &str, text: &str) -> Result<()> {
    if whose(c, send)?.is_some() && !text.is_empty() {
        c.prepare_cached("INSERT INTO reply (send_id, at, subject, text, probable) VALUES (?1, ?2, ?3, ?4, 1)")?.execute(params![
            send.0,
            at.millis(),
            subject,
            text
        ])?;
    }
    Ok(())
}

/// Is an address the one that a message went to?
///
/// # Errors
/// When the database fails.
pub fn went_to(c: &Connection, send: SendId, address: &str) -> Result<bool> {
    let Ok(address) = Address::parse(address) else { return Ok(false) };
    let sql = "SELECT 1 FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.id = ?1 AND k.address_key = ?2 AND k.gone IS NULL";
    Ok(c.prepare_cached(sql)?.exists(params![send.0, address.key])?)
}

/// A message that somebody got.
#[derive(Debug, Clone, Copy)]
pub struct LatelySent {
    pub send: SendId,
    pub mailing: MailingId,
    pub contact: ContactId,
    pub arm: usize,
}

/// The ten latest messages to an address within the sixty days before `at`, the latest first: what a reply may answer.
///
/// # Errors
/// When the database fails.
pub fn lately_sent(c: &Connection, address: &str, at: Instant) -> Result<Vec<LatelySent>> {
    let Ok(address) = Address::parse(address) else { return Ok(Vec::new()) };
    let mut s = c.prepare_cached(
        "SELECT s.id, s.mailing_id, s.contact_id, s.arm FROM contact k JOIN send s ON s.contact_id = k.id
         WHERE k.address_key = ?1 AND k.gone IS NULL AND s.channel = 1 AND s.handed_at > ?2 AND s.handed_at <= ?3 ORDER BY s.handed_at DESC, s.id DESC LIMIT 10",
    )?;
    Ok(s.query_map(params![address.key, at.millis() - 60 * rinse_core::DAY, at.millis()], |r| {
        Ok(LatelySent {
            send: SendId(r.get(0)?),
            mailing: MailingId(r.get(1)?),
            contact: ContactId(r.get(2)?),
            arm: usize::try_from(r.get::<_, i64>(3)?).unwrap_or(0),
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// What somebody wrote back to a mailing.
#[derive(Debug, Clone, serde::Serialize, utoipa::ToSchema)]
pub struct Reply {
    pub at: i64,
    pub contact: ContactId,
    pub address: String,
    pub subject: String,
    pub text: String,
    /// Known by its sender and subject alone: it counts for nothing.
    pub probable: bool,
}

/// The replies to a mailing, the newest 200.
///
/// # Errors
/// When the database fails.
pub fn replies(c: &Connection, mailing: MailingId) -> Result<Vec<Reply>> {
    let mut s = c.prepare_cached(
        "SELECT r.at, k.id, k.address, r.subject, r.text, r.probable FROM (
            SELECT id, contact_id FROM send WHERE mailing_id = ?1 AND reply_at IS NOT NULL
            UNION SELECT s.id, s.contact_id FROM reply r JOIN send s ON s.id = r.send_id WHERE r.probable AND s.mailing_id = ?1
         ) s JOIN reply r ON r.send_id = s.id JOIN contact k ON k.id = s.contact_id ORDER BY r.at DESC LIMIT 200",
    )?;
    Ok(s.query_map([mailing.0], |r| {
        Ok(Reply {
            at: r.get(0)?,
            contact: ContactId(r.get(1)?),
            address: r.get(2)?,
            subject: r.get(3)?,
            text: r.get(4)?,
            probable: r.get(5)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Remembers a raw message by its digest; false when it was taken in before.
///
/// # Errors
/// When the database fails.
pub fn first_time(c: &Connection, digest: &[u8], at: Instant, kind: &str, send: Option<SendId>) -> Result<bool> {
    Ok(c.prepare_cached("INSERT INTO inbound VALUES (?1,?2,?3,?4) ON CONFLICT DO NOTHING")?.execute(params![
        digest,
        at.millis(),
        kind,
        send.map(|id| id.0)
    ])? > 0)
}

/// Whose message it is.
///
/// # Errors
/// When the database fails.
pub fn person_of(c: &Connection, send: SendId) -> Result<Option<ContactId>> {
    Ok(whose(c, send)?.map(|w| w.0))
}
