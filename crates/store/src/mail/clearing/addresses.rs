//! Clearance for mail that another system sends: which of some addresses may be written to at an instant, by the consent, lists and caps of here.

use super::draft;
use crate::ledger::Grant;
use crate::letterheads::{self, Letterhead};
use crate::mailings::MailingDraft;
use crate::suppression::{self, Target};
use crate::{Result, StoreError, departed, topics};
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::clearance::{Outcome, Reason};
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, LetterheadId, MailingId};
use rusqlite::{Connection, OptionalExtension};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// What is about to be sent.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[schema(as = SentElsewhere)]
pub struct Sending {
    /// The topic by its name; none: people who left a topic aren't asked about.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub topic: Option<String>,
    /// Whose mail it is; none: the letterhead that new mailings begin under.
    #[serde(default)]
    pub letterhead: Option<LetterheadId>,
    /// Why people expect it (a receipt, a booking): then it is service mail, which caps and consent to marketing don't bar.
    #[serde(default)]
    #[schema(max_length = 300)]
    pub service_reason: String,
    /// It may wait for so many days for anybody who has to wait.
    #[serde(default = "usual_days")]
    #[schema(minimum = 0, maximum = 1_000)]
    pub hold_days: i64,
}

impl Default for Sending {
    fn default() -> Self {
        Self { topic: None, letterhead: None, service_reason: String::new(), hold_days: usual_days() }
    }
}

fn usual_days() -> i64 {
    7
}

/// What is said of an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = AddressSays)]
pub enum Says {
    /// Now.
    Cleared,
    /// At another instant.
    Held,
    Barred,
    /// It is no address.
    Unreadable,
}

/// An address, and whether it may be written to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = AddressCleared)]
pub struct Told {
    /// As it was given.
    pub address: String,
    pub says: Says,
    /// From when on, when it is held.
    pub until: Option<i64>,
    /// Why not, the first reason first.
    pub reasons: Vec<Reason>,
    pub words: String,
}

impl Told {
    /// What is said of it by a later look; none: it was written to already.
    pub fn is_now(&mut self, outcome: Option<Outcome>) {
        let words = |first: Option<Reason>| first.map(Reason::words).unwrap_or_default().to_owned();
        match outcome {
            Some(Outcome::Cleared) => {}
            Some(Outcome::Held(until, why)) => {
                (self.says, self.until) = (Says::Held, Some(until.millis()));
                (self.reasons, self.words) = (why.iter().collect(), words(why.first()));
            }
            Some(Outcome::Barred(why)) => {
                self.says = Says::Barred;
                (self.reasons, self.words) = (why.iter().collect(), words(why.first()));
            }
            None => (self.says, self.reasons, self.words) = (Says::Barred, vec![Reason::AlreadySent], words(Some(Reason::AlreadySent))),
        }
    }
}

/// Addresses with what is said of each, in their order.
pub struct Answers {
    pub rules_version: i64,
    pub told: Vec<Told>,
}

/// What it is, as a mailing here would be, and whose.
fn as_draft(c: &Connection, sending: &Sending) -> Result<(MailingDraft, Letterhead)> {
    let letterhead = match sending.letterhead {
        Some(id) => letterheads::one(c, id)?,
        None => letterheads::usual(c)?.ok_or_else(|| {
            StoreError::Refused("Make a letterhead first: its legal entity is whose consent counts, and its time zone whose hours.".into())
        })?,
    };
    let topic_id = match sending.topic.as_deref().map(str::trim).filter(|t| !t.is_empty()) {
        Some(name) => {
            let all = topics::names(c)?;
            let found = all.iter().find(|t| t.name.eq_ignore_ascii_case(name)).map(|t| t.id);
            Some(found.ok_or_else(|| {
                let names: Vec<&str> = all.iter().map(|t| t.name.as_str()).collect();
                StoreError::Refused(format!("There is no topic called “{name}”. There are: {}.", names.join(", ")))
            })?)
        }
        None => None,
    };
    let d = MailingDraft {
        topic_id,
        service_reason: sending.service_reason.clone(),
        hold_days: sending.hold_days,
        ..MailingDraft::under(letterhead.id, "sent elsewhere")
    };
    Ok((d, letterhead))
}

/// Why nobody of the base may be written to at an address: who it was left before they came, or that nothing is known of them.
fn unknown(
    c: &Connection,
    key: &str,
    target: Target,
    entity: &str,
    before: &departed::Departed,
    at: Instant,
) -> Result<(Reason, &'static str)> {
    Ok(match before.ended(c, key, Grant::email(entity))? {
        Some(Consent::Complained) => (Reason::Complained, "complained; not in the base"),
        Some(_) => (Reason::Withdrawn, "withdrew; not in the base"),
        None if suppression::names_address(c, target, key, at)? => (Reason::Suppressed, "suppressed; not in the base"),
        None => (Reason::NoConsent, "not in the base: no consent is on record"),
    })
}

/// Which of some addresses may be written to at an instant.
///
/// # Errors
/// When there is no such topic or letterhead.
pub fn clear(c: &Connection, sending: &Sending, at: Instant, addresses: &[String]) -> Result<Answers> {
    let (d, Letterhead { entity, .. }) = as_draft(c, sending)?;
    let target =
        Target { mailing: MailingId(0), topic: d.topic_id, letterhead: d.letterhead_id, service: !d.service_reason.trim().is_empty() };
    let done = draft(c, &d, None, at)?;
    let of: HashMap<ContactId, Outcome> = done.decided.iter().map(|d| (d.contact, d.outcome)).collect();
    let before = departed::Departed::load(c)?;
    let mut person = c.prepare_cached("SELECT id FROM contact WHERE address_key = ?1 AND gone IS NULL")?;
    let mut told = Vec::with_capacity(addresses.len());
    for given in addresses {
        let say = |says, until: Option<Instant>, reasons: Vec<Reason>, words: String| Told {
            address: given.clone(),
            says,
            until: until.map(|u| u.millis()),
            reasons,
            words,
        };
        let address = match Address::parse(given.trim()) {
            Ok(address) => address,
            Err(e) => {
                told.push(say(Says::Unreadable, None, vec![Reason::NoAddress], e.to_string()));
                continue;
            }
        };
        let contact: Option<ContactId> = person.query_row([&address.key], |r| r.get(0).map(ContactId)).optional()?;
        let words = |first: Option<Reason>| first.map(Reason::words).unwrap_or_default().to_owned();
        told.push(match contact.and_then(|id| of.get(&id)) {
            Some(Outcome::Cleared) => say(Says::Cleared, None, Vec::new(), String::new()),
            Some(Outcome::Held(until, why)) => say(Says::Held, Some(*until), why.iter().collect(), words(why.first())),
            Some(Outcome::Barred(why)) => say(Says::Barred, None, why.iter().collect(), words(why.first())),
            None => {
                let (reason, words) = unknown(c, &address.key, target, &entity, &before, at)?;
                say(Says::Barred, None, vec![reason], words.to_owned())
            }
        });
    }
    Ok(Answers { rules_version: done.rules.id, told })
}
