//! Whom another system must not write to: as a list, and told to a webhook as it happens.

use crate::codes::{ACTIVE, RETIRED};
use crate::{Result, StoreError, settings, webhooks};
use const_format::formatcp;
use rinse_core::clearance::Reason;
use rinse_core::consent::Consent;
use rinse_core::id::ContactId;
use rinse_core::suppression::hash;
use rinse_core::upkeep::MailStatus;
use rinse_core::{HOUR, Instant};
use rusqlite::types::Value;
use rusqlite::{Connection, params, params_from_iter};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Changes that are told in one transaction.
const AT_ONCE: i64 = 500;
const LOOKS_BACK: i64 = HOUR;
const WEBHOOK: &str = "do_not_write_webhook";
const MARKS: &str = "do_not_write_marks";

/// Somebody who must not be written to. Who agreed again isn't one any more, nor is a line that ran out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct DoNotWrite {
    /// An address; of a suppression list also a domain, or the hash of an address.
    pub address: String,
    pub since: i64,
    pub reason: Reason,
    /// None: all of our marketing mail.
    pub topic: Option<String>,
    /// The legal entity whose mail it is about; empty: the first, and everybody's where it is the address's own.
    pub entity: String,
    /// Whose it is; none: a line of a list.
    #[serde(skip)]
    pub contact: Option<ContactId>,
    /// What tells it from others.
    #[serde(skip)]
    key: String,
}

enum Of<'a> {
    Since(Instant),
    People(&'a [i64]),
    /// Those after one, up to another.
    Lines(i64, i64),
}

fn rows(c: &Connection, of: Of<'_>, now: Instant) -> Result<Vec<DoNotWrite>> {
    let by_consent = format!("consent IN ({}, {})", Consent::Complained as i64, Consent::Withdrawn as i64);
    let retired = MailStatus::Retired as i64;
    let people = |asked: &dyn Fn(&str) -> String| {
        [
            format!("SELECT k.address, k.consent_at, k.consent, NULL, '', 0, k.id, 0 FROM contact k WHERE k.{by_consent} AND k.gone IS NULL AND {}", asked("k.consent_at")),
            format!(
                "SELECT k.address, o.consent_at, o.consent, NULL, o.entity, 0, k.id, 0 FROM other_consent o JOIN contact k ON k.id = o.contact_id
                 WHERE o.channel = 1 AND o.{by_consent} AND k.gone IS NULL AND {}",
                asked("o.consent_at")
            ),
            format!(
                "SELECT k.address, coalesce(k.status_at, k.added_at), NULL, NULL, '', 1, k.id, 0 FROM contact k WHERE k.status = {retired} AND k.gone IS NULL AND {}",
                asked("coalesce(k.status_at, k.added_at)")
            ),
            format!("SELECT k.address, k.sunset_at, NULL, NULL, '', 1, k.id, 0 FROM contact k WHERE k.sunset_at IS NOT NULL AND k.gone IS NULL AND {}", asked("k.sunset_at")),
            format!(
                "SELECT k.address, t.at, NULL, topic.name, '', 2, k.id, t.topic_id FROM topic_left t JOIN contact k ON k.id = t.contact_id JOIN topic ON topic.id = t.topic_id
                 WHERE k.gone IS NULL AND {}",
                asked("t.at")
            ),
        ]
    };
    let lines = |asked: &str| {
        format!(
            "SELECT e.text, e.added_at, NULL, NULL, '', 3, e.id, 0 FROM suppression_entry e JOIN suppression_list l ON l.id = e.list_id
             WHERE e.ended_at IS NULL AND (e.expires_at IS NULL OR e.expires_at > ?2) AND l.ended_at IS NULL AND l.scope = 'all' AND {asked}"
        )
    };
    let (parts, values): (Vec<String>, Vec<Value>) = match of {
        Of::Since(at) => {
            let mut parts = people(&|at| format!("{at} >= ?1")).to_vec();
            parts.push(lines("e.added_at >= ?1"));
            (parts, vec![at.millis().into(), now.millis().into()])
        }
        Of::People(ids) => {
            let list = serde_json::to_string(ids)?;
            (people(&|_| "k.id IN (SELECT value FROM json_each(?1))".into()).to_vec(), vec![list.into()])
        }
        Of::Lines(after, upto) => (vec![lines("e.id > ?1 AND e.id <= ?3")], vec![after.into(), now.millis().into(), upto.into()]),
    };
    let mut s = c.prepare_cached(&format!("{} ORDER BY 2, 1", parts.join(" UNION ALL ")))?;
    let found = s.query_map(params_from_iter(values), |r| {
        let reason = match (r.get::<_, Option<i64>>(2)?, r.get::<_, i64>(5)?) {
            (Some(consent), _) if consent == Consent::Complained as i64 => Reason::Complained,
            (Some(_), _) => Reason::Withdrawn,
            (None, 1) => Reason::Retired,
            (None, 2) => Reason::TopicLeft,
            (None, _) => Reason::Suppressed,
        };
        let (since, entity): (i64, String) = (r.get(1)?, r.get(4)?);
        let (what, id, topic): (i64, i64, i64) = (r.get(5)?, r.get(6)?, r.get(7)?);
        // Of an entity some letters of its hash: names aren't for the heads of requests.
        let key = format!("do-not-write-{what}-{id}-{topic}-{since}-{}", &hash(&entity)[..8]);
        let contact = (reason != Reason::Suppressed).then_some(id);
        Ok(DoNotWrite { address: r.get(0)?, since, reason, topic: r.get(3)?, entity, contact: contact.map(ContactId), key })
    })?;
    Ok(found.collect::<rusqlite::Result<_>>()?)
}

/// Everybody who must not be written to, where that began at `at` or later, by when it began.
///
/// # Errors
/// When the database fails.
pub fn since(c: &Connection, at: Instant, now: Instant) -> Result<Vec<DoNotWrite>> {
    rows(c, Of::Since(at), now)
}

/// What was told up to now: the newest entry of the ledger and line of a list, and when an address was last retired or a person's mail sunset.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Marks {
    ledger: i64,
    line: i64,
    status: i64,
    /// Lines that ran out by this instant were told; none: it was never looked.
    #[serde(default)]
    ran_out: Option<i64>,
}

fn newest(c: &Connection) -> Result<Marks> {
    let sql = formatcp!("SELECT coalesce((SELECT max(id) FROM ledger), 0), coalesce((SELECT max(id) FROM suppression_entry), 0),
        max(coalesce((SELECT max(status_at) FROM contact WHERE status = {RETIRED} AND status <> {ACTIVE}), 0), coalesce((SELECT max(sunset_at) FROM contact WHERE sunset_at IS NOT NULL), 0))");
    Ok(c.prepare_cached(sql)?.query_row([], |r| Ok(Marks { ledger: r.get(0)?, line: r.get(1)?, status: r.get(2)?, ran_out: None }))?)
}

/// The system that is told of each change, when one is.
///
/// # Errors
/// When the database fails.
pub fn webhook(c: &Connection) -> Result<Option<i64>> {
    webhooks::chosen(c, WEBHOOK)
}

/// Chooses the system that is told of each change from now on; none: nobody is.
///
/// # Errors
/// When there is no such webhook.
pub fn tell(c: &Connection, id: Option<i64>, now: Instant, person: Option<i64>) -> Result<()> {
    webhooks::choose(c, WEBHOOK, id, "system told whom not to write to chosen", now, person)?;
    // Another one knows nothing of what was told before.
    c.execute_batch("DELETE FROM do_not_write_told; DELETE FROM suppression_line_over")?;
    settings::set(c, MARKS, &serde_json::to_string(&Marks { ran_out: Some(now.millis()), ..newest(c)? })?)
}

/// Is there anything to tell?
///
/// # Errors
/// When the database fails.
pub fn due(c: &Connection, now: Instant) -> Result<bool> {
    if webhook(c)?.is_none() {
        return Ok(false);
    }
    let (told, newest) = (marks(c)?, newest(c)?);
    if told.ledger < newest.ledger || told.line < newest.line || told.status < newest.status {
        return Ok(true);
    }
    let Some(ran_out) = told.ran_out else { return Ok(true) };
    Ok(c.prepare_cached("SELECT 1 FROM suppression_line_over")?.exists([])?
        || c.prepare_cached("SELECT 1 FROM suppression_entry WHERE expires_at > ?1 AND expires_at <= ?2 AND ended_at IS NULL")?
            .exists([ran_out, now.millis()])?)
}

fn marks(c: &Connection) -> Result<Marks> {
    settings::get(c, MARKS)?.map_or_else(|| Ok(Marks::default()), |text| serde_json::from_str(&text).map_err(StoreError::from))
}

/// A reason that stands against somebody, as another system was told of it.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Stands {
    contact: ContactId,
    reason: String,
    topic: String,
    entity: String,
}

impl Stands {
    fn of(d: &DoNotWrite) -> Result<Option<Self>> {
        let Some(contact) = d.contact else { return Ok(None) };
        let reason = serde_json::to_value(d.reason)?.as_str().unwrap_or_default().to_owned();
        Ok(Some(Self { contact, reason, topic: d.topic.clone().unwrap_or_default(), entity: d.entity.clone() }))
    }
}

/// Tells what was told of some people and stands no longer. Another reason may still stand.
fn tell_of_ends(c: &Connection, webhook: i64, people: &[i64], found: &[DoNotWrite], now: Instant) -> Result<()> {
    let stand: BTreeSet<Stands> = found.iter().map(Stands::of).filter_map(Result::transpose).collect::<Result<_>>()?;
    let mut told = c.prepare_cached(
        "SELECT t.reason, t.topic, t.entity, k.address FROM do_not_write_told t JOIN contact k ON k.id = t.contact_id WHERE t.contact_id = ?1 AND k.gone IS NULL",
    )?;
    for &contact in people.iter().collect::<BTreeSet<_>>() {
        let were = told.query_map([contact], |r| {
            Ok((Stands { contact: ContactId(contact), reason: r.get(0)?, topic: r.get(1)?, entity: r.get(2)? }, r.get(3)?))
        })?;
        for was in were.collect::<rusqlite::Result<Vec<(Stands, String)>>>()? {
            let (Stands { reason, topic, entity, .. }, address) = &was;
            if stand.contains(&was.0) {
                continue;
            }
            c.prepare_cached("DELETE FROM do_not_write_told WHERE contact_id = ?1 AND reason = ?2 AND topic = ?3 AND entity = ?4")?
                .execute(params![contact, reason, topic, entity])?;
            let body = serde_json::json!({ "what": "do_not_write_ended", "address": address, "since": now.iso(), "reason": reason,
                "topic": (!topic.is_empty()).then_some(topic), "legal_entity": entity });
            let key = format!("do-not-write-ended-{reason}-{contact}-{}-{}", now.millis(), &hash(&format!("{topic}\n{entity}"))[..8]);
            webhooks::queue(c, webhook, &key, Some(ContactId(contact)), &body, now)?;
        }
    }
    Ok(())
}

/// Tells of lines that ended or ran out, of those that were told before; true when there are more. Another line, or another reason, may still stand.
fn tell_of_lines_over(c: &Connection, webhook: i64, told: &Marks, now: Instant) -> Result<bool> {
    let ran_out = told.ran_out.unwrap_or(now.millis());
    c.prepare_cached(
        "INSERT OR IGNORE INTO suppression_line_over
         SELECT id FROM suppression_entry WHERE expires_at > ?1 AND expires_at <= ?2 AND ended_at IS NULL",
    )?
    .execute([ran_out, now.millis()])?;
    let mut s = c.prepare_cached(
        "SELECT e.id, e.text, coalesce(e.ended_at, e.expires_at), l.scope = 'all' AND e.id <= ?1
         FROM suppression_line_over o JOIN suppression_entry e ON e.id = o.entry_id JOIN suppression_list l ON l.id = e.list_id ORDER BY o.entry_id LIMIT ?2",
    )?;
    let over: Vec<(i64, String, i64, bool)> =
        s.query_map([told.line, AT_ONCE], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?.collect::<rusqlite::Result<_>>()?;
    for (id, text, at, known) in &over {
        c.prepare_cached("DELETE FROM suppression_line_over WHERE entry_id = ?1")?.execute([id])?;
        if *known {
            let body = serde_json::json!({ "what": "do_not_write_ended", "address": text, "since": Instant::of(*at).iso(), "reason": Reason::Suppressed,
                "topic": null, "legal_entity": "" });
            webhooks::queue(c, webhook, &format!("do-not-write-ended-line-{id}"), None, &body, now)?;
        }
    }
    Ok(over.len() as i64 == AT_ONCE)
}

/// Tells of the next changes; false when there are no more. Each is told once, by a key of its own: who it is, since when and why. What was told of
/// somebody and stands no longer is told, too.
///
/// # Errors
/// When the database fails.
pub fn go_on(c: &Connection, now: Instant) -> Result<bool> {
    let Some(webhook) = webhook(c)? else { return Ok(false) };
    let (told, newest) = (marks(c)?, newest(c)?);
    let upto = newest.ledger.min(told.ledger + AT_ONCE);
    // What was put on record with an instant a little before the last one is looked at once more.
    let (from, retired) = (told.status - LOOKS_BACK, MailStatus::Retired as i64);
    let changed = [
        ("SELECT DISTINCT contact_id FROM ledger WHERE id > ?1 AND id <= ?2".to_owned(), told.ledger, upto),
        (format!("SELECT id FROM contact WHERE status = {retired} AND status_at > ?1 AND status_at <= ?2"), from, newest.status),
        ("SELECT id FROM contact WHERE sunset_at IS NOT NULL AND sunset_at > ?1 AND sunset_at <= ?2".to_owned(), from, newest.status),
    ];
    let mut people: Vec<i64> = Vec::new();
    for (sql, after, upto) in changed {
        let mut s = c.prepare_cached(&sql)?;
        for id in s.query_map([after, upto], |r| r.get(0))? {
            people.push(id?);
        }
    }
    let mut found = if people.is_empty() { Vec::new() } else { rows(c, Of::People(&people), now)? };
    tell_of_ends(c, webhook, &people, &found, now)?;
    let line = newest.line.min(told.line + AT_ONCE);
    if told.line < line {
        found.extend(rows(c, Of::Lines(told.line, line), now)?);
    }
    let more_over = tell_of_lines_over(c, webhook, &told, now)?;
    for d in found {
        let body = serde_json::json!({ "what": "do_not_write", "address": d.address, "since": Instant::of(d.since).iso(), "reason": d.reason,
            "topic": d.topic, "legal_entity": d.entity });
        webhooks::queue(c, webhook, &d.key, d.contact, &body, now)?;
        if let Some(s) = Stands::of(&d)? {
            c.prepare_cached("INSERT INTO do_not_write_told VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING")?.execute(params![
                s.contact.0,
                s.reason,
                s.topic,
                s.entity
            ])?;
        }
    }
    settings::set(c, MARKS, &serde_json::to_string(&Marks { ledger: upto, line, ran_out: Some(now.millis()), ..newest })?)?;
    Ok(upto < newest.ledger || line < newest.line || more_over)
}
