//! One person as the reference evaluator sees them, loaded row by row: for "why is she in it?", and
//! to hold the compiler to.

use crate::response_kinds;
use crate::stored::As;
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, ListId, MailingId, SegmentId, SeriesId};
use rinse_core::segment::person::{Answer, Held, Message, Person, Purchase, Value};
use rinse_core::segment::{Did, Field};
use rinse_core::upkeep::MailStatus;
use rusqlite::{Connection, OptionalExtension};
use std::collections::HashSet;

/// Loads a person with everything a condition can ask about.
///
/// # Errors
/// When there is no such contact.
pub fn load(c: &Connection, id: ContactId) -> Result<Person> {
    let mut p = c
        .prepare_cached(&format!(
            "SELECT given_name, family_name, country, region, zone, source, latitude, longitude, consent, status, added_at, d.name,
                d.id IN ({}) FROM contact c JOIN domain d ON d.id = c.domain_id WHERE c.id = ?1",
            crate::machines::opens::UNKNOWN_DOMAINS
        ))?
        .query_row([id.0], |r| {
            let mut p = Person::unknown(id);
            let built_in = [Field::GivenName, Field::FamilyName, Field::Country, Field::Region, Field::TimeZone, Field::Source];
            for (i, field) in built_in.into_iter().enumerate() {
                if let Some(text) = r.get::<_, Option<String>>(i)? {
                    p.texts.insert(field, text);
                }
            }
            p.position = r.get::<_, Option<f64>>(6)?.zip(r.get(7)?);
            p.consent = r.get::<_, As<Consent>>(8)?.0;
            p.status = r.get::<_, As<MailStatus>>(9)?.0;
            p.added_at = Instant::of(r.get(10)?);
            p.domain = r.get(11)?;
            p.open_blind = r.get(12)?;
            Ok(p)
        })
        .optional()?
        .ok_or(StoreError::Missing("contact"))?;
    let ids = |sql: &str| -> Result<HashSet<i64>> {
        Ok(c.prepare_cached(sql)?.query_map([id.0], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
    };
    p.lists = ids("SELECT list_id FROM list_member WHERE contact_id = ?1")?.into_iter().map(ListId).collect();
    p.tags = ids("SELECT tag_id FROM contact_tag WHERE contact_id = ?1")?;
    p.topics_left = ids("SELECT topic_id FROM topic_left WHERE contact_id = ?1")?;
    p.segments = ids("SELECT segment_id FROM segment_member WHERE contact_id = ?1")?.into_iter().map(SegmentId).collect();
    p.own = c
        .prepare_cached("SELECT field_id, text, number, day, flag, dated FROM field_value WHERE contact_id = ?1")?
        .query_map([id.0], |r| {
            let value = if let Some(text) = r.get(1)? {
                Value::Text(text)
            } else if let Some(number) = r.get(2)? {
                Value::Number(number)
            } else if let Some(day) = r.get(3)? {
                Value::Date(day)
            } else {
                Value::YesNo(r.get::<_, Option<bool>>(4)?.unwrap_or(false))
            };
            Ok((r.get(0)?, Held { value, dated: r.get(5)? }))
        })?
        .collect::<rusqlite::Result<_>>()?;
    p.purchases = c
        .prepare_cached("SELECT at, cents, product, category FROM purchase WHERE contact_id = ?1 ORDER BY id")?
        .query_map([id.0], |r| Ok(Purchase { at: Instant::of(r.get(0)?), cents: r.get(1)?, product: r.get(2)?, category: r.get(3)? }))?
        .collect::<rusqlite::Result<_>>()?;
    p.events = c
        .prepare_cached("SELECT at, name FROM event WHERE contact_id = ?1 ORDER BY id")?
        .query_map([id.0], |r| Ok((Instant::of(r.get(0)?), r.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    p.load_cell = crate::load::cell_of(c, id)?;
    p.silence = crate::upkeep::silence::stage_of(c, id)?;
    p.scores = crate::scores::standings(c, id)?.into_iter().collect();
    p.series = c
        .prepare_cached("SELECT series_id, max(ended_at IS NULL) FROM series_entry WHERE contact_id = ?1 GROUP BY series_id")?
        .query_map([id.0], |r| Ok((SeriesId(r.get(0)?), r.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    p.messages = messages(c, id)?;
    Ok(p)
}

fn messages(c: &Connection, id: ContactId) -> Result<Vec<Message>> {
    let mut s = c.prepare_cached("SELECT s.id, mailing_id, accepted_at, m.series_id FROM send s JOIN mailing m ON m.id = s.mailing_id WHERE s.contact_id = ?1 ORDER BY s.id")?;
    let sends: Vec<(i64, Message)> = s
        .query_map([id.0], |r| {
            let accepted_at = r.get::<_, Option<i64>>(2)?.map(Instant::of);
            Ok((
                r.get(0)?,
                Message { mailing: MailingId(r.get(1)?), series: r.get::<_, Option<i64>>(3)?.map(SeriesId), accepted_at, answers: vec![] },
            ))
        })?
        .collect::<rusqlite::Result<_>>()?;
    let mut s = c.prepare_cached("SELECT kind, at, machine = 0, link FROM response WHERE send_id = ?1 ORDER BY id")?;
    sends
        .into_iter()
        .map(|(send, mut m)| {
            let mut rows = s.query([send])?;
            while let Some(r) = rows.next()? {
                let did = match r.get::<_, i64>(0)? {
                    response_kinds::OPEN => Did::Opened,
                    response_kinds::CLICK => Did::Clicked,
                    response_kinds::REPLY => Did::Replied,
                    response_kinds::UNSUBSCRIBE => Did::Left,
                    _ => Did::Complained,
                };
                m.answers.push(Answer { did, at: Instant::of(r.get(1)?), human: r.get(2)?, link: r.get(3)? });
            }
            Ok(m)
        })
        .collect()
}
