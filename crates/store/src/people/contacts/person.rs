//! One person, whole: profile, consent, messages, purchases.

use super::list::{COLUMNS, ContactRow, row};
use crate::response_kinds;
use crate::stored::As;
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::bounce::Category;
use rinse_core::channel::Channel;
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::response::Machine;
use rinse_core::send::State;
use rusqlite::{Connection, OptionalExtension};
use serde::Serialize;
use utoipa::ToSchema;

/// A message to a person.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Message {
    pub send_id: SendId,
    pub mailing_id: MailingId,
    pub mailing: String,
    pub channel: Channel,
    pub subject: String,
    pub arm: i64,
    pub state: String,
    pub at: i64,
    pub accepted_at: Option<i64>,
    pub failed_at: Option<i64>,
    pub category: Option<String>,
    pub reply: Option<String>,
}

/// A response of a person, told apart as human or machine.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Response {
    pub at: i64,
    pub kind: String,
    pub mailing: String,
    pub link: Option<String>,
    pub agent: String,
    pub judged: String,
    pub human: bool,
    /// What they wrote back.
    pub words: Option<String>,
}

/// Something a person bought, or gave back.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Purchase {
    pub at: i64,
    pub cents: i64,
    pub currency: String,
    pub product: String,
    pub category: String,
}

/// A person, whole.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Contact {
    #[serde(flatten)]
    pub row: ContactRow,
    pub region: Option<String>,
    pub zone: Option<String>,
    pub source: Option<String>,
    #[schema(value_type = Option<Vec<f64>>)]
    pub position: Option<(f64, f64)>,
    pub fields: Vec<crate::fields::FieldValue>,
    pub lists: Vec<crate::settings::Tied>,
    pub tags: Vec<crate::settings::Tied>,
    pub purchases: Vec<Purchase>,
    pub topics_left: Vec<String>,
    pub ledger: Vec<crate::ledger::Entry>,
    pub messages: Vec<Message>,
    pub responses: Vec<Response>,
    pub events: Vec<Event>,
    /// Every value that outside scores had, the newest first.
    pub scores: Vec<crate::fields::Score>,
    /// The sentence behind the mail status.
    pub status_why: String,
    /// Why there is nobody here any more: deleted, taken back, merged.
    pub gone: Option<String>,
    /// No marketing, for silence, since then.
    pub sunset_at: Option<i64>,
    /// Their consent to anything but email of the first legal entity.
    pub others: Vec<crate::ledger::Other>,
    /// The number that text messages go to, and since when a network says that there is none such.
    pub phone: Option<String>,
    pub phone_failed_at: Option<i64>,
    /// How much mail they get and how they answer it, once that was worked out.
    pub load: Option<crate::load::OwnLoad>,
    pub merged_into: Option<i64>,
    /// Addresses of people who were merged into this one.
    pub once: Vec<String>,
}

/// Something a person did elsewhere.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Event {
    pub at: i64,
    pub name: String,
    pub about: String,
}

/// One person.
///
/// # Errors
/// When there is no such contact.
pub fn one(c: &Connection, id: ContactId, now: Instant) -> Result<Contact> {
    let (row, region, zone, source, position, gone, merged_into, sunset_at, phone, phone_failed_at) = c
        .prepare_cached(&format!(
            "SELECT {COLUMNS}, c.region, c.zone, c.source, c.latitude, c.longitude, c.gone, c.merged_into, c.sunset_at, c.phone, c.phone_failed_at FROM contact c WHERE c.id = ?1"
        ))?
        .query_row([id.0], |r| {
            let position = r.get::<_, Option<f64>>(12)?.zip(r.get(13)?);
            Ok((row(r)?, r.get(9)?, r.get(10)?, r.get(11)?, position, r.get::<_, Option<i64>>(14)?, r.get(15)?, r.get(16)?, r.get(17)?, r.get(18)?))
        })
        .optional()?
        .ok_or(StoreError::Missing("contact"))?;
    let gone = gone.map(|g| {
        ["", "deleted", "taken back with an import", "merged into another person"][usize::try_from(g).unwrap_or(0).min(3)].to_owned()
    });
    let events = c
        .prepare_cached("SELECT at, name, about FROM event WHERE contact_id = ?1 ORDER BY at DESC LIMIT 500")?
        .query_map([id.0], |r| Ok(Event { at: r.get(0)?, name: r.get(1)?, about: r.get(2)? }))?
        .collect::<rusqlite::Result<_>>()?;
    let tied = |sql: &str| -> Result<Vec<crate::settings::Tied>> {
        let mut s = c.prepare_cached(sql)?;
        Ok(s.query_map([id.0], |r| Ok(crate::settings::Tied { id: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?)
    };
    let purchases = c
        .prepare_cached("SELECT at, cents, currency, product, category FROM purchase WHERE contact_id = ?1 ORDER BY at DESC LIMIT 500")?
        .query_map([id.0], |r| {
            Ok(Purchase { at: r.get(0)?, cents: r.get(1)?, currency: r.get(2)?, product: r.get(3)?, category: r.get(4)? })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let names = |sql: &str| -> Result<Vec<String>> {
        Ok(c.prepare_cached(sql)?.query_map([id.0], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
    };
    let mut messages = c.prepare_cached(
        "SELECT s.id, m.id, m.name, coalesce(v.subject, ''), s.arm, s.state, coalesce(s.handed_at, s.at), s.accepted_at, s.failed_at, s.category, s.reply, s.channel
         FROM send s JOIN mailing m ON m.id = s.mailing_id LEFT JOIN variant v ON v.mailing_id = m.id AND v.arm = s.arm
         WHERE s.contact_id = ?1 ORDER BY s.id DESC LIMIT 500",
    )?;
    let messages = messages
        .query_map([id.0], |r| {
            Ok(Message {
                send_id: SendId(r.get(0)?),
                mailing_id: MailingId(r.get(1)?),
                mailing: r.get(2)?,
                channel: r.get::<_, As<Channel>>(11)?.0,
                subject: r.get(3)?,
                arm: r.get(4)?,
                state: r.get::<_, As<State>>(5)?.0.to_string(),
                at: r.get(6)?,
                accepted_at: r.get(7)?,
                failed_at: r.get(8)?,
                category: r.get::<_, Option<i64>>(9)?.map(|k| Category::from_code(k).words().into()),
                reply: r.get(10)?,
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let versions = crate::machines::by_version(c)?;
    let mut responses = c.prepare_cached(
        "SELECT r.at, r.kind, m.name, l.name, r.agent, r.machine, r.rules_version,
            iif(r.kind = 3, (SELECT x.text FROM reply x WHERE x.send_id = s.id AND x.at = r.at), NULL) FROM send s JOIN response r ON r.send_id = s.id JOIN mailing m ON m.id = s.mailing_id
         LEFT JOIN link l ON l.mailing_id = s.mailing_id AND l.position = r.link WHERE s.contact_id = ?1 ORDER BY r.at DESC LIMIT 500",
    )?;
    let responses = responses
        .query_map([id.0], |r| {
            let (kind, machine): (i64, Option<Machine>) = (r.get(1)?, Machine::of_code(r.get(5)?));
            let rules = versions.get(&r.get::<_, i64>(6)?);
            Ok(Response {
                at: r.get(0)?,
                kind: response_kinds::kind_words(kind).into(),
                mailing: r.get(2)?,
                link: r.get(3)?,
                agent: r.get(4)?,
                judged: machine.zip(rules).map_or_else(|| "human".into(), |(m, rules)| format!("machine: {}", rules.words(m))),
                human: machine.is_none(),
                words: r.get(7)?,
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    Ok(Contact {
        row,
        region,
        zone,
        source,
        position,
        fields: crate::fields::of_contact(c, id)?,
        lists: tied(
            "SELECT l.id, l.name FROM list l JOIN list_member m ON m.list_id = l.id WHERE m.contact_id = ?1 AND l.gone = 0 ORDER BY 2",
        )?,
        tags: tied(
            "SELECT t.id, t.name FROM tag t JOIN contact_tag m ON m.tag_id = t.id WHERE m.contact_id = ?1 AND t.gone = 0 ORDER BY 2",
        )?,
        purchases,
        topics_left: names("SELECT t.name FROM topic t JOIN topic_left l ON l.topic_id = t.id WHERE l.contact_id = ?1 ORDER BY 1")?,
        ledger: crate::ledger::of_contact(c, id)?,
        messages,
        responses,
        events,
        scores: crate::fields::scores_of(c, id)?,
        gone,
        sunset_at,
        others: crate::ledger::others_of(c, id)?,
        phone,
        phone_failed_at,
        load: crate::load::of_contact(c, id)?,
        merged_into,
        once: names("SELECT address FROM contact WHERE merged_into = ?1 ORDER BY id")?,
        status_why: crate::upkeep::status::now(c, id, now)?.why,
    })
}
