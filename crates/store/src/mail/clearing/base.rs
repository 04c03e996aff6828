//! The columns of a clearance, read from the file.

use super::{Mailing, reserved};
use crate::audience::Audience;
use crate::ledger::Grant;
use crate::stored::As;
use crate::{Result, domains, segments, suppression};
use rinse_core::caps::{Kind, Message};
use rinse_core::channel::Channel;
use rinse_core::clearance::columns::{Base, Marks, NONE, Places};
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SegmentId};
use rinse_core::segment::Tree;
use rinse_core::send::State;
use rinse_core::upkeep::MailStatus;
use rinse_core::upkeep::of_number;
use rinse_core::{Instant, zone};
use rusqlite::{Connection, params};
use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

/// Everybody in the base, in columns, with their domains.
#[derive(Clone)]
pub(super) struct People {
    pub(super) base: Base,
    pub(super) domain: Vec<i64>,
    /// Left the base since it was loaded: selected by nothing.
    gone: Vec<bool>,
    countries: Interned,
    zones: Interned,
}

/// Words to small numbers; 0 is none. The same word usually comes again at once.
#[derive(Clone)]
struct Interned {
    known: HashMap<String, u16>,
    words: Vec<String>,
    last: u16,
    /// A word that isn't one is as good as none.
    is_one: fn(&str) -> bool,
}

impl Interned {
    fn new(is_one: fn(&str) -> bool) -> Self {
        Self { known: HashMap::new(), words: vec![String::new()], last: 0, is_one }
    }

    fn of(&mut self, word: Option<&str>) -> u16 {
        let Some(word) = word.filter(|w| !w.is_empty()) else { return 0 };
        if self.words.get(usize::from(self.last)).is_some_and(|w| w == word) {
            return self.last;
        }
        // A few dozen words are found quicker by looking than by hashing.
        let place = if let Some(place) = self.words.iter().take(40).position(|w| w == word) {
            u16::try_from(place).unwrap_or(0)
        } else if let Some(place) = self.known.get(word) {
            *place
        } else {
            let place = if (self.is_one)(word) { u16::try_from(self.words.len()).unwrap_or(0) } else { 0 };
            if place != 0 {
                self.words.push(word.to_owned());
            }
            self.known.insert(word.to_owned(), place);
            place
        };
        self.last = place;
        place
    }
}

const COLUMNS: &str =
    "id, domain_id, consent, under_pause, status, status_until, paused_until, sunset_at IS NOT NULL, country, zone, gone IS NULL";

impl People {
    /// The memory it takes, but for a few words.
    pub(super) const fn bytes(&self) -> usize {
        self.base.bytes() + self.domain.capacity() * size_of::<i64>() + self.gone.capacity()
    }

    /// Everybody who is in the base with a number in this range.
    pub(super) fn load(c: &Connection, numbers: Range<i64>) -> Result<Self> {
        let mut p = Self {
            base: Base::default(),
            domain: Vec::new(),
            gone: Vec::new(),
            countries: Interned::new(|_| true),
            zones: Interned::new(|z| zone::named(z).is_some()),
        };
        let mut s = c.prepare(&format!("SELECT {COLUMNS} FROM contact WHERE id >= ?1 AND id < ?2 AND gone IS NULL ORDER BY id"))?;
        let mut rows = s.query([numbers.start, numbers.end])?;
        while let Some(r) = rows.next()? {
            let place = p.base.contact.len();
            p.put(place, r)?;
        }
        p.name_zones();
        Ok(p)
    }

    /// Puts those behind that come after them all.
    pub(super) fn append(&mut self, other: Self) {
        let (b, o) = (&mut self.base, other.base);
        b.contact.extend(o.contact);
        b.consent.extend(o.consent);
        b.under_pause.extend(o.under_pause);
        b.status.extend(o.status);
        b.status_until.extend(o.status_until);
        b.sunset.extend(o.sunset);
        b.paused_until.extend(o.paused_until);
        let places = |of: &mut Interned, words: &[String]| -> Vec<u16> { words.iter().map(|w| of.of(Some(w))).collect() };
        let (countries, zones) = (places(&mut self.countries, &other.countries.words), places(&mut self.zones, &other.zones.words));
        b.country.extend(o.country.iter().map(|place| countries[usize::from(*place)]));
        b.zone.extend(o.zone.iter().map(|place| zones[usize::from(*place)]));
        self.domain.extend(other.domain);
        self.gone.extend(other.gone);
        self.name_zones();
    }

    /// Reads these people again. False when somebody would have to come in between: then all have to be
    /// loaded. Who is gone stays in their place, and is selected by nothing.
    pub(super) fn refresh(&mut self, c: &Connection, ids: &[ContactId]) -> Result<bool> {
        let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM contact WHERE id = ?1"))?;
        for id in ids {
            let mut rows = s.query([id.0])?;
            let Some(r) = rows.next()? else { continue };
            let present: bool = r.get(10)?;
            let place = match self.base.contact.binary_search(id) {
                Ok(place) => place,
                Err(_) if !present => continue,
                Err(place) if place == self.base.contact.len() => place,
                Err(_) => return Ok(false),
            };
            self.put(place, r)?;
        }
        self.name_zones();
        Ok(true)
    }

    /// Writes a row at a place, which may be the one after the last.
    fn put(&mut self, place: usize, r: &rusqlite::Row<'_>) -> Result<()> {
        fn set<T>(column: &mut Vec<T>, place: usize, value: T) {
            if place == column.len() { column.push(value) } else { column[place] = value }
        }
        let b = &mut self.base;
        set(&mut b.contact, place, ContactId(r.get(0)?));
        set(&mut self.domain, place, r.get(1)?);
        set(&mut b.consent, place, r.get::<_, As<Consent>>(2)?.0 as u8);
        set(&mut b.under_pause, place, r.get::<_, As<Consent>>(3)?.0 as u8);
        set(&mut b.status, place, r.get::<_, As<MailStatus>>(4)?.0 as u8);
        set(&mut b.status_until, place, r.get::<_, Option<i64>>(5)?.unwrap_or(NONE));
        set(&mut b.paused_until, place, r.get::<_, Option<i64>>(6)?.unwrap_or(NONE));
        set(&mut b.sunset, place, r.get(7)?);
        set(&mut b.country, place, self.countries.of(r.get_ref(8)?.as_str_or_null().map_err(rusqlite::Error::from)?));
        set(&mut b.zone, place, self.zones.of(r.get_ref(9)?.as_str_or_null().map_err(rusqlite::Error::from)?));
        set(&mut self.gone, place, !r.get::<_, bool>(10)?);
        Ok(())
    }

    fn name_zones(&mut self) {
        let b = &mut self.base;
        b.countries.clone_from(&self.countries.words);
        if b.zones.len() != self.zones.words.len() {
            b.zones = self.zones.words.iter().map(|z| zone::named(z).unwrap_or(zone::TimeZone::UTC)).collect();
        }
    }

    /// The same people as a mailing sees them that asks for consent to something else than email of the first legal entity;
    /// for text messages with what became of their numbers, whatever their addresses are.
    pub(super) fn under(self: &Arc<Self>, c: &Connection, grant: Grant<'_>, memo: &mut Memo) -> Result<Arc<Self>> {
        if grant.is_first() {
            return Ok(Arc::clone(self));
        }
        let key = (grant.channel, grant.entity.to_owned());
        if let Some(known) = memo.under.get(&key) {
            return Ok(Arc::clone(known));
        }
        let theirs = Arc::new(self.as_of(c, grant)?);
        memo.under.insert(key, Arc::clone(&theirs));
        Ok(theirs)
    }

    fn as_of(&self, c: &Connection, grant: Grant<'_>) -> Result<Self> {
        let mut theirs = self.clone();
        let b = &mut theirs.base;
        b.consent.fill(0);
        b.under_pause.fill(0);
        b.paused_until.fill(NONE);
        let mut found = Places::new(&b.contact);
        let mut s = c.prepare_cached(
            "SELECT contact_id, consent, under_pause, paused_until FROM other_consent WHERE channel = ?1 AND entity = ?2 ORDER BY contact_id",
        )?;
        let mut rows = s.query(params![grant.channel.code(), grant.entity])?;
        while let Some(r) = rows.next()? {
            let Some(place) = found.of(ContactId(r.get(0)?)) else { continue };
            let place = place as usize;
            b.consent[place] = r.get::<_, As<Consent>>(1)?.0 as u8;
            b.under_pause[place] = r.get::<_, As<Consent>>(2)?.0 as u8;
            b.paused_until[place] = r.get::<_, Option<i64>>(3)?.unwrap_or(NONE);
        }
        if grant.channel == Channel::Text {
            b.status.fill(of_number(false) as u8);
            b.status_until.fill(NONE);
            let mut s = c.prepare_cached("SELECT id FROM contact WHERE phone_failed_at IS NOT NULL ORDER BY id")?;
            for place in places(&b.contact, s.query_map([], |r| r.get(0))?)? {
                b.status[place as usize] = of_number(true) as u8;
            }
        }
        Ok(theirs)
    }

    /// The places of an audience's people.
    pub(super) fn selected(&self, c: &Connection, who: &Audience, at: Instant) -> Result<Vec<u32>> {
        Ok(match who.people(c, at)? {
            None => (0u32..).zip(&self.gone).filter(|(_, gone)| !**gone).map(|(place, _)| place).collect(),
            Some(ids) => {
                let mut places = Places::new(&self.base.contact);
                ids.into_iter().filter_map(|id| places.of(id)).collect()
            }
        })
    }
}

/// What a mailing is to caps, and its priority.
pub(super) fn kinds(c: &Connection) -> Result<HashMap<MailingId, (Kind, u8)>> {
    let mut s = c.prepare_cached("SELECT id, channel, topic_id, letterhead_id, priority, series_id IS NOT NULL FROM mailing")?;
    let rows = s.query_map([], |r| {
        Ok((MailingId(r.get(0)?), (super::kind(r.get(1)?, r.get(2)?, LetterheadId(r.get(3)?), r.get(5)?), r.get(4)?)))
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A row of `send` as caps count it: state, when it counts, its mailing.
pub(super) fn message(state: State, at: i64, handed_at: Option<i64>, mailing: MailingId, (kind, priority): (Kind, u8)) -> Option<Message> {
    match state {
        State::Held | State::Due => Some(Message { at: Instant::of(at), kind, reserved: Some((priority, mailing.0)) }),
        State::HandingOver | State::Accepted | State::InDoubt => Some(Message { at: Instant::of(at), kind, reserved: None }),
        // It counts from its handover on, and is cleared again before the next try.
        State::Deferred => Some(Message { at: Instant::of(handed_at.unwrap_or(at)), kind, reserved: None }),
        State::Failed | State::NotSent => None,
    }
}

const MESSAGES: &str = "SELECT contact_id, state, at, handed_at, mailing_id FROM send";

fn read_messages(c: &Connection, mut rows: rusqlite::Rows<'_>) -> Result<Vec<(ContactId, Message)>> {
    let kinds = kinds(c)?;
    let mut out = Vec::new();
    let mut last = (MailingId(0), (Kind::default(), 3));
    while let Some(r) = rows.next()? {
        let mailing = MailingId(r.get(4)?);
        if last.0 != mailing {
            last = (mailing, kinds.get(&mailing).copied().unwrap_or_default());
        }
        if let Some(m) = message(r.get::<_, As<State>>(1)?.0, r.get(2)?, r.get(3)?, mailing, last.1) {
            out.push((ContactId(r.get(0)?), m));
        }
    }
    Ok(out)
}

/// The marketing messages that count or are reserved, from an instant on, with whose they are.
pub(super) fn messages(c: &Connection, since: Instant) -> Result<Vec<(ContactId, Message)>> {
    let mut s = c.prepare_cached(&format!("{MESSAGES} INDEXED BY send_recent WHERE class = 1 AND at > ?1"))?;
    read_messages(c, s.query([since.millis()])?)
}

/// Those of some people, in the order of their numbers: everybody asked for, also those who have none.
pub(super) fn messages_of(c: &Connection, contacts: &[ContactId], since: Instant) -> Result<Vec<(ContactId, Vec<Message>)>> {
    let mut s = c.prepare_cached(&format!("{MESSAGES} WHERE contact_id = ?1 AND class = 1 AND at > ?2"))?;
    contacts
        .iter()
        .map(|contact| Ok((*contact, read_messages(c, s.query([contact.0, since.millis()])?)?.into_iter().map(|(_, m)| m).collect())))
        .collect()
}

/// What several mailings can ask of the same people, read once.
#[derive(Default)]
pub(super) struct Memo {
    /// The places of those who left a topic.
    left: HashMap<i64, Vec<u32>>,
    /// Which of some suppression lists name whom.
    listed: HashMap<Asked, Arc<Vec<u64>>>,
    /// The people by whose consent is asked for.
    under: HashMap<(Channel, String), Arc<People>>,
}

/// Suppression lists with the segments of live rules; an instant, when what they say depends on it.
type Asked = (Vec<(i64, Option<i64>)>, Option<Instant>);

fn places(contacts: &[ContactId], ids: impl IntoIterator<Item = rusqlite::Result<i64>>) -> Result<Vec<u32>> {
    let mut places = Places::new(contacts);
    let mut found = Vec::new();
    for id in ids {
        found.extend(places.of(ContactId(id?)));
    }
    Ok(found)
}

/// What is so for one mailing, and the suppression lists asked.
pub(super) fn marks(c: &Connection, people: &People, m: &Mailing, at: Instant, memo: &mut Memo) -> Result<(Marks, Vec<i64>)> {
    let b = &people.base;
    let mut marks = Marks { flags: vec![0; b.contact.len()], ..Marks::default() };
    let by_text = m.grant().channel == Channel::Text;
    if by_text {
        marks.flags.fill(Marks::NO_ADDRESS);
        let mut s = c.prepare_cached("SELECT id FROM contact WHERE phone IS NOT NULL AND gone IS NULL ORDER BY id")?;
        places(&b.contact, s.query_map([], |r| r.get(0))?)?.iter().for_each(|place| marks.flags[*place as usize] = 0);
    }
    let paused = domains::paused(c, at)?;
    // A mail domain's pause holds no text message.
    if !paused.is_empty() && !by_text {
        marks.domain_until = people.domain.iter().map(|domain| paused.get(domain).copied().unwrap_or(NONE)).collect();
    }
    let mut mark = |places: &[u32], bit: u8| places.iter().for_each(|place| marks.flags[*place as usize] |= bit);
    let mut s = c.prepare_cached("SELECT contact_id FROM send WHERE mailing_id = ?1")?;
    mark(&places(&b.contact, s.query_map([m.id.0], |r| r.get(0))?)?, Marks::ALREADY_SENT);
    if let Some(topic) = m.target.topic {
        let left = match memo.left.entry(topic) {
            Entry::Occupied(e) => e.into_mut(),
            Entry::Vacant(e) => {
                let mut s = c.prepare_cached("SELECT contact_id FROM topic_left WHERE topic_id = ?1")?;
                e.insert(places(&b.contact, s.query_map([topic], |r| r.get(0))?)?)
            }
        };
        mark(left, Marks::TOPIC_LEFT);
    }
    if let Some(series) = m.series {
        let mut s = c.prepare_cached("SELECT contact_id FROM series_left WHERE series_id = ?1")?;
        mark(&places(&b.contact, s.query_map([series.0], |r| r.get(0))?)?, Marks::SERIES_LEFT);
    }
    for trial in reserved::met(c, m.id, m.series, at)? {
        let mut s = c.prepare_cached("SELECT contact_id FROM roster WHERE trial_id = ?1")?;
        mark(&places(&b.contact, s.query_map([trial.trial.0], |r| r.get(0))?)?, Marks::RESERVED);
    }
    if m.leave_out != 0 {
        let mut s = c.prepare_cached("SELECT contact_id FROM mail_load WHERE (?1 >> cell) & 1 ORDER BY contact_id")?;
        mark(&places(&b.contact, s.query_map([m.leave_out], |r| r.get(0))?)?, Marks::LOAD_LEFT_OUT);
    }
    let asked = suppression::of_mailing(c, m.target, at)?;
    let ids = asked.iter().map(|a| a.0).collect();
    let changes = suppression::changes_by_itself(c, &asked)?;
    let key = (asked, changes.then_some(at));
    marks.lists = match memo.listed.get(&key) {
        Some(known) => Arc::clone(known),
        None => {
            let found = Arc::new(listed(c, people, &suppression::applying(c, &key.0, at)?, at)?);
            memo.listed.insert(key, Arc::clone(&found));
            found
        }
    };
    Ok((marks, ids))
}

/// Per person, the lists that name them; empty when none names anybody.
fn listed(c: &Connection, people: &People, a: &suppression::Applying, at: Instant) -> Result<Vec<u64>> {
    let b = &people.base;
    let named = suppression::named_domains(c, &a.lists)?;
    let mut listed: Vec<u64> = Vec::new();
    if !named.is_empty() {
        listed = people.domain.iter().map(|domain| named.get(domain).copied().unwrap_or(0)).collect();
    }
    let mut by_id = |id: i64, bits: u64| {
        if let Ok(place) = b.contact.binary_search(&ContactId(id)) {
            listed.resize(b.contact.len(), 0);
            listed[place] |= bits;
        }
    };
    for (id, key) in named_addresses(c, &a.lists)? {
        by_id(id, a.lists.address(&key));
    }
    for (place, segment) in &a.rules {
        for id in segments::people(c, &Tree::Segment { segment: SegmentId(*segment) }, at)? {
            by_id(id.0, 1 << place);
        }
    }
    Ok(listed)
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
