//! What comes back by text message: answers, and reports of what became of one.

use crate::ledger::{self, Grant, Origin};
use crate::{Result, numbers, responses, sends};
use rinse_core::bounce::Reply;
use rinse_core::channel::Channel;
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, SendId};
use rinse_core::phone::Phone;
use rinse_core::text::{Said, said};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};

/// A message is answered within this, or the answer is no answer to it.
const ANSWERED_WITHIN: i64 = 60 * DAY;
/// As much of an answer as is kept.
const KEPT: usize = 2_000;

/// What came of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Came {
    /// They get no more text messages.
    Stopped,
    /// They get text messages again.
    Started,
    /// It is a reply to a message that they got.
    Replied,
    /// It was as it is already, or it answers nothing.
    Nothing,
    /// Nobody here has the number that it came from.
    Nobody,
}

/// Takes in an answer from a number to one of ours. A word that ends text messages ends those of the legal entity whose number
/// it was sent to, at once, those scheduled too; where none has that number (any more), all of them.
///
/// # Errors
/// When the database fails.
pub fn answer(c: &Connection, from: &Phone, to: &str, body: &str, at: Instant) -> Result<Came> {
    let Some(contact) = numbers::owner(c, from.as_str())? else { return Ok(Came::Nobody) };
    numbers::in_use(c, contact, at)?;
    let answered = last(c, contact, to, at)?;
    let what = said(body);
    if what == Said::Other {
        let Some(send) = answered else { return Ok(Came::Nothing) };
        let body: String = body.trim().chars().take(KEPT).collect();
        responses::reply(c, send, at, "", &body)?;
        return Ok(Came::Replied);
    }
    let mut entities: Vec<String> = c
        .prepare_cached("SELECT DISTINCT entity FROM letterhead WHERE text_number = ?1 ORDER BY 1")?
        .query_map([to], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    if entities.is_empty() && what == Said::Stop {
        let known = ledger::others_of(c, contact)?.into_iter().filter(|o| o.channel == Channel::Text).map(|o| o.entity);
        entities = known.chain([String::new()]).collect();
        entities.sort();
        entities.dedup();
    }
    let mut new = false;
    for entity in entities {
        let evidence = format!("“{}” to {to}", body.trim().chars().take(60).collect::<String>());
        let origin = Origin { source: "text message", evidence, send: answered, channel: Channel::Text, entity, ..Origin::default() };
        // They write from the number itself: nobody else could confirm it better.
        let act = if what == Said::Stop { Act::Withdrew } else { Act::Confirmed };
        new |= ledger::act(c, contact, at, act, &origin)?;
    }
    if !new {
        return Ok(Came::Nothing);
    }
    if what == Said::Start {
        return Ok(Came::Started);
    }
    if let Some(send) = answered {
        responses::stopped_by_text(c, send, at)?;
    }
    Ok(Came::Stopped)
}

/// The message that somebody answers: the last one they got from that number of ours, else from any.
fn last(c: &Connection, contact: ContactId, to: &str, at: Instant) -> Result<Option<SendId>> {
    let mut s = c.prepare_cached(
        "SELECT s.id FROM send s JOIN mailing m ON m.id = s.mailing_id JOIN letterhead l ON l.id = m.letterhead_id
         WHERE s.contact_id = ?1 AND s.channel = 2 AND s.handed_at > ?2 AND s.handed_at <= ?3 ORDER BY l.text_number = ?4 DESC, s.handed_at DESC, s.id DESC LIMIT 1",
    )?;
    Ok(s.query_row(params![contact.0, at.millis() - ANSWERED_WITHIN, at.millis(), to], |r| r.get(0).map(SendId)).optional()?)
}

/// A gateway's report that a message it had accepted did not arrive after all.
///
/// # Errors
/// When the database fails.
pub fn came_back(c: &Connection, send: SendId, reply: &Reply, at: Instant) -> Result<()> {
    let text: bool = c.prepare_cached("SELECT 1 FROM send WHERE id = ?1 AND channel = 2")?.exists([send.0])?;
    if text { sends::failed(c, send, reply.category(), &reply.line(), at) } else { Ok(()) }
}

/// Ends text messages of a legal entity by a page that a person was led to by their mail. True when it is new.
///
/// # Errors
/// When the database fails.
pub fn stop(c: &Connection, contact: ContactId, at: Instant, origin: &Origin) -> Result<bool> {
    let origin = Origin { channel: Channel::Text, ..origin.clone() };
    let known = ledger::stated_for(c, contact, origin.grant())?;
    // Who never agreed to any has nothing to end, unless they have a number that somebody could write to.
    if known == ledger::Stated::default() && numbers::of(c, contact)?.is_none() {
        return Ok(false);
    }
    ledger::act(c, contact, at, Act::Withdrew, &origin)
}

/// How somebody's text messages of a legal entity stand, with the number they go to; none when they have no number.
///
/// # Errors
/// When there is no such contact.
pub fn standing(c: &Connection, contact: ContactId, entity: &str) -> Result<Option<(Phone, rinse_core::consent::Standing)>> {
    let Some(phone) = numbers::of(c, contact)?.and_then(|p| Phone::parse(&p, None).ok()) else { return Ok(None) };
    Ok(Some((phone, ledger::stated_now(c, contact, Grant::texts(entity))?)))
}

/// Writes how by-hand evidence was given for text messages.
///
/// # Errors
/// When they have no number, or refused before: only they can take that back.
pub fn agreed(c: &Connection, contact: ContactId, at: Instant, origin: &Origin) -> Result<()> {
    let refuse = |words: &str| Err(crate::StoreError::Refused(words.into()));
    if numbers::of(c, contact)?.is_none() {
        return refuse("This person has no phone number. Give the number that they agreed for.");
    }
    let origin = Origin { channel: Channel::Text, ..origin.clone() };
    if !rinse_core::consent::import_may_raise(ledger::stated_for(c, contact, origin.grant())?.consent) {
        return refuse("This person ended text messages themselves. Only they can begin them again, by answering START from their phone.");
    }
    ledger::act(c, contact, at, Act::Agreed, &origin)?;
    Ok(())
}
