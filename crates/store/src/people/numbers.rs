//! Phone numbers: whose each is, and what a change of one means for the consent to text messages.
//!
//! Of people in the base a number is one person's. Consent to text messages was given for a number, so at another one it
//! begins again; a refusal was the person's, and stays.

use crate::ledger::{self, Origin, Stated};
use crate::tombstones::{Tombstones, WAS_DELETED};
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::consent::{Consent, import_may_raise};
use rinse_core::id::ContactId;
use rinse_core::phone::Phone;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};

/// A person's number as it stands, with what was agreed for it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Held {
    pub phone: Option<String>,
    failed_at: Option<i64>,
    /// By legal entity.
    consent: Vec<(String, Stated)>,
}

/// Whose number it is.
///
/// # Errors
/// When the database fails.
pub fn owner(c: &Connection, phone: &str) -> Result<Option<ContactId>> {
    let mut s = c.prepare_cached("SELECT id FROM contact WHERE phone = ?1 AND gone IS NULL")?;
    Ok(s.query_row([phone], |r| r.get(0).map(ContactId)).optional()?)
}

/// A person's number.
///
/// # Errors
/// When there is no such person.
pub fn of(c: &Connection, contact: ContactId) -> Result<Option<String>> {
    c.prepare_cached("SELECT phone FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("contact"))
}

pub(crate) fn held(c: &Connection, contact: ContactId) -> Result<Held> {
    let (phone, failed_at) = c
        .prepare_cached("SELECT phone, phone_failed_at FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let mut consent = Vec::new();
    for other in ledger::others_of(c, contact)?.into_iter().filter(|o| o.channel == Channel::Text) {
        consent.push((other.entity.clone(), ledger::stated_for(c, contact, other.grant())?));
    }
    Ok(Held { phone, failed_at, consent })
}

/// Gives a person a number, another one, or none. The same again changes nothing.
///
/// # Errors
/// When it is somebody else's, or its owner was deleted at their wish.
pub fn set(c: &Connection, contact: ContactId, phone: Option<&Phone>, now: Instant, origin: &Origin) -> Result<bool> {
    let before = of(c, contact)?;
    if before.as_deref() == phone.map(Phone::as_str) {
        return Ok(false);
    }
    if let Some(phone) = phone {
        if let Some(other) = owner(c, phone.as_str())? {
            let whose: String = c.prepare_cached("SELECT address FROM contact WHERE id = ?1")?.query_row([other.0], |r| r.get(0))?;
            return Err(StoreError::Refused(format!(
                "{phone} is the number of {whose} already. A number is one person's: take it away there, or merge the two."
            )));
        }
        if Tombstones::load(c)?.has(c, phone.as_str())? {
            return Err(StoreError::Refused(format!("{phone} can't be used: {WAS_DELETED}.")));
        }
    }
    change(c, contact, before.as_deref(), phone, now, origin)?;
    Ok(true)
}

/// Gives a person a number that is known to be nobody else's. `before`: the one they have, another than this.
pub(crate) fn change(
    c: &Connection,
    contact: ContactId,
    before: Option<&str>,
    phone: Option<&Phone>,
    now: Instant,
    origin: &Origin,
) -> Result<()> {
    write(c, contact, phone.map(Phone::as_str), None)?;
    for other in ledger::others_of(c, contact)?.into_iter().filter(|o| o.channel == Channel::Text) {
        if other.state != Consent::None && import_may_raise(other.state) {
            let evidence = format!("was {}; nobody agreed for another number", before.unwrap_or("no number"));
            let origin = Origin { evidence, channel: Channel::Text, entity: other.entity, ..origin.clone() };
            ledger::restate(c, contact, now, "number changed", Stated { at: Some(now.millis()), ..Stated::default() }, &origin)?;
        }
    }
    Ok(())
}

fn write(c: &Connection, contact: ContactId, phone: Option<&str>, failed_at: Option<i64>) -> Result<()> {
    c.prepare_cached("UPDATE contact SET phone = ?2, phone_failed_at = ?3 WHERE id = ?1")?.execute(params![contact.0, phone, failed_at])?;
    Ok(())
}

/// Takes over the number of somebody who is merged into a person without one.
pub(crate) fn take_over(c: &Connection, into: ContactId, from: &Held) -> Result<()> {
    write(c, into, from.phone.as_deref(), from.failed_at)
}

/// Takes a number away from somebody who is about to be taken back themselves.
pub(crate) fn release(c: &Connection, contact: ContactId) -> Result<()> {
    write(c, contact, None, None)
}

/// Puts back what was; a number that is somebody else's by now stays theirs.
pub(crate) fn put_back(c: &Connection, contact: ContactId, was: &Held, now: Instant, origin: &Origin) -> Result<()> {
    let phone = match was.phone.as_deref() {
        Some(phone) if owner(c, phone)?.is_some_and(|o| o != contact) => None,
        phone => phone,
    };
    write(c, contact, phone, was.failed_at.filter(|_| phone.is_some()))?;
    for other in ledger::others_of(c, contact)?.into_iter().filter(|o| o.channel == Channel::Text) {
        let to = was.consent.iter().find(|(entity, _)| *entity == other.entity).map(|(_, s)| *s).unwrap_or_default();
        if ledger::stated_for(c, contact, other.grant())? != to {
            let origin = Origin { channel: Channel::Text, entity: other.entity, ..origin.clone() };
            ledger::restate(c, contact, now, "taken back", to, &origin)?;
        }
    }
    Ok(())
}

/// A network says that there is no such number: no text message goes to it any more, until it is another one.
///
/// # Errors
/// When the database fails.
pub(crate) fn retired(c: &Connection, contact: ContactId, words: &str, now: Instant) -> Result<()> {
    let new = c
        .prepare_cached("UPDATE contact SET phone_failed_at = ?2 WHERE id = ?1 AND phone IS NOT NULL AND phone_failed_at IS NULL")?
        .execute([contact.0, now.millis()])?;
    if new > 0 {
        let origin = Origin { source: "text gateway", evidence: words.to_owned(), channel: Channel::Text, ..Origin::default() };
        ledger::note(c, contact, now, "number retired", &origin)?;
    }
    Ok(())
}

/// Somebody wrote from it: there is such a number, whatever a network said.
pub(crate) fn in_use(c: &Connection, contact: ContactId, now: Instant) -> Result<()> {
    let was_retired = c
        .prepare_cached("UPDATE contact SET phone_failed_at = NULL WHERE id = ?1 AND phone_failed_at IS NOT NULL")?
        .execute([contact.0])?;
    if was_retired > 0 {
        let evidence = "they wrote from it".to_owned();
        let origin = Origin { source: "text message", evidence, channel: Channel::Text, ..Origin::default() };
        ledger::note(c, contact, now, "number in use again", &origin)?;
    }
    Ok(())
}
