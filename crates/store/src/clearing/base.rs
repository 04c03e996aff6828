//! The columns of a clearance, read from the file.

use super::Mailing;
use crate::{Result, segments, suppression};
use rinse_core::caps::{Kind, Message};
use rinse_core::clearance::columns::{Base, Marks, NONE};
use rinse_core::segment::Tree;
use rinse_core::{Instant, zone};
use rusqlite::{Connection, params};
use std::collections::{HashMap, HashSet};

/// People in columns, with their domains.
#[derive(Default)]
pub(super) struct People {
    pub(super) base: Base,
    pub(super) domain: Vec<i64>,
}

/// Words to small numbers; 0 is none. The same word usually comes again at once.
struct Interned {
    known: HashMap<String, u16>,
    words: Vec<String>,
    last: (String, u16),
}

impl Interned {
    fn new() -> Self {
        Self { known: HashMap::new(), words: vec![String::new()], last: (String::new(), 0) }
    }

    fn of(&mut self, word: Option<&str>) -> u16 {
        let Some(word) = word.filter(|w| !w.is_empty()) else { return 0 };
        if self.last.0 == word {
            return self.last.1;
        }
        let next = u16::try_from(self.words.len()).unwrap_or(0);
        let place = *self.known.entry(word.to_owned()).or_insert(next);
        if place == next && next != 0 {
            self.words.push(word.to_owned());
        }
        self.last = (word.to_owned(), place);
        place
    }
}

/// The people of a query over `contact c`, in the order of their numbers.
pub(super) fn people(c: &Connection, (from, values): (String, Vec<rusqlite::types::Value>), of_list: bool) -> Result<People> {
    // Naming the column of the index that is walked keeps SQLite from sorting.
    let order = if of_list { "m.contact_id" } else { "c.id" };
    let sql = format!(
        "SELECT c.id, c.domain_id, c.consent, c.under_pause, c.status, c.status_until, c.paused_until, c.country, c.zone FROM {from} ORDER BY {order}"
    );
    let (mut p, mut countries, mut zones) = (People::default(), Interned::new(), Interned::new());
    let mut s = c.prepare(&sql)?;
    let mut rows = s.query(rusqlite::params_from_iter(&values))?;
    while let Some(r) = rows.next()? {
        let b = &mut p.base;
        b.contact.push(r.get(0)?);
        p.domain.push(r.get(1)?);
        b.consent.push(r.get(2)?);
        b.under_pause.push(r.get(3)?);
        b.status.push(r.get(4)?);
        b.status_until.push(r.get::<_, Option<i64>>(5)?.unwrap_or(NONE));
        b.paused_until.push(r.get::<_, Option<i64>>(6)?.unwrap_or(NONE));
        b.country.push(countries.of(r.get_ref(7)?.as_str_or_null().map_err(rusqlite::Error::from)?));
        b.zone.push(zones.of(r.get_ref(8)?.as_str_or_null().map_err(rusqlite::Error::from)?));
    }
    p.base.countries = countries.words;
    // A zone that isn't one is as good as none.
    let known: Vec<_> = zones.words.iter().map(|z| zone::named(z)).collect();
    for place in &mut p.base.zone {
        if known[*place as usize].is_none() {
            *place = 0;
        }
    }
    p.base.zones = known.into_iter().map(|z| z.unwrap_or(zone::TimeZone::UTC)).collect();
    Ok(p)
}

/// What a mailing is to caps, and its priority.
pub(super) fn kinds(c: &Connection) -> Result<HashMap<i64, (Kind, u8)>> {
    let mut s = c.prepare_cached("SELECT id, channel, topic_id, letterhead_id, priority FROM mailing")?;
    let rows = s.query_map([], |r| Ok((r.get(0)?, (super::kind(r.get(1)?, r.get(2)?, r.get(3)?), r.get(4)?))))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A row of `send` as caps count it: state, when it counts, its mailing.
pub(super) fn message(state: i64, at: i64, handed_at: Option<i64>, mailing: i64, (kind, priority): (Kind, u8)) -> Option<Message> {
    match state {
        0 | 1 => Some(Message { at: Instant(at), kind, reserved: Some((priority, mailing)) }),
        2 | 3 | 7 => Some(Message { at: Instant(at), kind, reserved: None }),
        // Deferred: it counts from its handover on, and is cleared again before the next try.
        4 => Some(Message { at: Instant(handed_at.unwrap_or(at)), kind, reserved: None }),
        _ => None,
    }
}

/// The marketing messages that count or are reserved, from an instant on, with whose they are.
pub(super) fn messages(c: &Connection, since: Instant) -> Result<Vec<(i64, Message)>> {
    let kinds = kinds(c)?;
    let mut s = c.prepare_cached(
        "SELECT contact_id, state, at, handed_at, mailing_id FROM send INDEXED BY send_recent WHERE class = 1 AND at > ?1",
    )?;
    let mut rows = s.query([since.0])?;
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let mailing: i64 = r.get(4)?;
        let kind = kinds.get(&mailing).copied().unwrap_or_default();
        if let Some(m) = message(r.get(1)?, r.get(2)?, r.get(3)?, mailing, kind) {
            out.push((r.get(0)?, m));
        }
    }
    Ok(out)
}

/// Hangs messages on their people; those of others are left out.
pub(super) fn put_messages(b: &mut Base, mut found: Vec<(i64, Message)>, more: Vec<(i64, Message)>) {
    found.extend(more);
    if found.is_empty() {
        return;
    }
    found.sort_unstable_by_key(|(contact, m)| (*contact, m.at));
    let mut next = 0;
    b.first = Vec::with_capacity(b.contact.len() + 1);
    b.messages = Vec::with_capacity(found.len());
    for contact in &b.contact {
        b.first.push(u32::try_from(b.messages.len()).unwrap_or(u32::MAX));
        while found.get(next).is_some_and(|f| f.0 < *contact) {
            next += 1;
        }
        while found.get(next).is_some_and(|f| f.0 == *contact) {
            b.messages.push(found[next].1);
            next += 1;
        }
    }
    b.first.push(u32::try_from(b.messages.len()).unwrap_or(u32::MAX));
}

fn mark(b: &Base, flags: &mut [u8], ids: impl IntoIterator<Item = rusqlite::Result<i64>>, bit: u8) -> Result<()> {
    for id in ids {
        if let Ok(place) = b.contact.binary_search(&id?) {
            flags[place] |= bit;
        }
    }
    Ok(())
}

/// What is so for one mailing, and the suppression lists asked.
pub(super) fn marks(c: &Connection, people: &People, m: &Mailing, at: Instant) -> Result<(Marks, Vec<i64>)> {
    let b = &people.base;
    let mut marks = Marks { flags: vec![0; b.contact.len()], lists: Vec::new() };
    mark(
        b,
        &mut marks.flags,
        c.prepare_cached("SELECT contact_id FROM send WHERE mailing_id = ?1")?.query_map([m.id], |r| r.get(0))?,
        Marks::ALREADY_SENT,
    )?;
    if let Some(topic) = m.target.topic {
        mark(
            b,
            &mut marks.flags,
            c.prepare_cached("SELECT contact_id FROM topic_left WHERE topic_id = ?1")?.query_map([topic], |r| r.get(0))?,
            Marks::TOPIC_LEFT,
        )?;
    }
    let a = suppression::applying(c, m.target, at)?;
    let mut lists = vec![0u64; b.contact.len()];
    let named = suppression::named_domains(c, &a.lists)?;
    if !named.is_empty() {
        for (i, domain) in people.domain.iter().enumerate() {
            lists[i] |= named.get(domain).copied().unwrap_or(0);
        }
    }
    let mut by_id = |id: i64, bits: u64| {
        if let Ok(place) = b.contact.binary_search(&id) {
            lists[place] |= bits;
        }
    };
    for (id, key) in named_addresses(c, &a.lists)? {
        by_id(id, a.lists.address(&key));
    }
    for (place, segment) in &a.rules {
        for id in segments::people(c, &Tree::Segment { segment: *segment }, at)? {
            by_id(id, 1 << place);
        }
    }
    if lists.iter().any(|l| *l != 0) {
        marks.lists = lists;
    }
    Ok((marks, a.ids))
}

/// People whose address is written on some list. Hashes need every address of the base.
fn named_addresses(c: &Connection, lists: &rinse_core::suppression::Lists) -> Result<Vec<(i64, String)>> {
    let sql = if lists.has_hashes() {
        "SELECT id, address_key FROM contact WHERE gone IS NULL"
    } else {
        "SELECT c.id, c.address_key FROM suppression_entry e JOIN contact c ON c.address_key = e.text WHERE e.kind = 1"
    };
    let mut s = c.prepare_cached(sql)?;
    let mut found = Vec::new();
    let mut seen = HashSet::new();
    let mut rows = s.query(params![])?;
    while let Some(r) = rows.next()? {
        let id: i64 = r.get(0)?;
        let key = r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?;
        if lists.address(key) != 0 && seen.insert(id) {
            found.push((id, key.to_owned()));
        }
    }
    Ok(found)
}
