//! One pass over everybody's messages, person by person: what the recency guide, the cap guide, the quality of sources and *how mail fares by consent*
//! are worked out from.
//!
//! Up to [`AT_ONCE`] people it is made as it is asked for. Of a larger base it is made once a day beside the writer, a part at a time, and what is shown
//! is of that instant.

use crate::machines::opens;
use crate::send_state::{ACCEPTED, FAILED};
use crate::{Result, Store};
use const_format::formatcp;
use rinse_core::cap_guide::{self, Drawn};
use rinse_core::id::ContactId;
use rinse_core::recency::{Observation, Observed};
use rinse_core::segment::evaluate::day_of;
use rinse_core::segment::share::Salted;
use rinse_core::source::{Counts, WEEKS_BEFORE};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};
use std::ops::AddAssign;

/// People of whom it is made as it is asked for.
pub const AT_ONCE: i64 = 50_000;
/// People's numbers in a part.
const PART: i64 = 10_000;
/// Messages handed over in this time are looked at …
pub const LOOK_BACK: i64 = 180 * DAY;
/// … and by the guides only when they were left to ripen so long.
const RIPE: i64 = 7 * DAY;

/// Handed over, delivered, answered, complained.
pub type Fared = [u64; 4];

/// What the pass adds up to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sums {
    pub recency: Observed,
    pub caps: cap_guide::Counted,
    /// By source; none is the empty word.
    pub sources: BTreeMap<String, Counts>,
    /// By whether the recipient had confirmed when it was handed over.
    pub by_state: [Fared; 2],
    /// By what permission came by.
    pub by_permission: BTreeMap<String, Fared>,
}

fn fare(sums: &mut Fared, more: Fared) {
    sums.iter_mut().zip(more).for_each(|(sum, n)| *sum += n);
}

impl AddAssign for Sums {
    fn add_assign(&mut self, other: Self) {
        self.recency += other.recency;
        self.caps += other.caps;
        other.sources.into_iter().for_each(|(source, n)| *self.sources.entry(source).or_default() += n);
        self.by_state.iter_mut().zip(other.by_state).for_each(|(sum, more)| fare(sum, more));
        other.by_permission.into_iter().for_each(|(by, n)| fare(self.by_permission.entry(by).or_default(), n));
    }
}

/// One message of somebody.
struct Message {
    id: i64,
    /// Marketing by email.
    counts: bool,
    at: i64,
    handed: Option<i64>,
    accepted: Option<i64>,
    failed: bool,
    /// Its host said for good that there is no such address.
    unknown: bool,
    over: bool,
    opened: Option<i64>,
    clicked: Option<i64>,
    replied: Option<i64>,
    complained: bool,
    withdrew: bool,
    left_topic: bool,
    left: bool,
    opens_unknown: bool,
    /// Of a mailing by the first legal entity.
    ours: bool,
    /// Marketing of any channel: what caps count.
    marketing: bool,
}

impl Message {
    fn answered(&self) -> bool {
        self.opened.or(self.clicked).or(self.replied).is_some()
    }
}

/// Who gets them.
struct Person {
    id: i64,
    blind: bool,
    gone: bool,
    source: String,
    added: i64,
    bought: bool,
    /// When they first confirmed, and by what they last gave their permission.
    confirmed: Option<i64>,
    permission: Option<String>,
}

/// What is asked of each person, with what it takes.
struct Pass {
    now: Instant,
    recency: Salted,
    caps: Salted,
    blind: HashSet<i64>,
    entities: HashSet<i64>,
}

impl Pass {
    fn new(c: &Connection, now: Instant) -> Result<Self> {
        let entities = c
            .prepare_cached("SELECT m.id FROM mailing m JOIN letterhead l ON l.id = m.letterhead_id WHERE l.entity = ''")?
            .query_map([], |r| r.get(0))?
            .collect::<rusqlite::Result<_>>()?;
        let blind = opens::unknown_domains(c)?.into_iter().collect();
        Ok(Self { now, recency: Salted::new("recency"), caps: Salted::new("cap guide"), blind, entities })
    }

    /// The people with numbers in a range.
    fn people(&self, c: &Connection, (from, to): (i64, i64)) -> Result<Vec<Person>> {
        let mut s = c.prepare_cached("SELECT id, domain_id, gone IS NOT NULL, coalesce(trim(source), ''), added_at FROM contact WHERE id BETWEEN ?1 AND ?2 ORDER BY id")?;
        let person = |r: &rusqlite::Row<'_>| {
            let blind = self.blind.contains(&r.get(1)?);
            Ok(Person {
                id: r.get(0)?,
                blind,
                gone: r.get(2)?,
                source: r.get(3)?,
                added: r.get(4)?,
                bought: false,
                confirmed: None,
                permission: None,
            })
        };
        let mut all: Vec<Person> = s.query_map([from, to], person)?.collect::<rusqlite::Result<_>>()?;
        let place = |all: &[Person], id: i64| all.binary_search_by_key(&id, |p| p.id).ok();
        let mut s = c.prepare_cached("SELECT DISTINCT contact_id FROM purchase WHERE contact_id BETWEEN ?1 AND ?2 AND cents > 0")?;
        let mut rows = s.query([from, to])?;
        while let Some(r) = rows.next()? {
            if let Some(at) = place(&all, r.get(0)?) {
                all[at].bought = true;
            }
        }
        let mut s = c.prepare_cached(
            "SELECT contact_id, at, kind = 'confirmed', source FROM ledger INDEXED BY ledger_contact
             WHERE contact_id BETWEEN ?1 AND ?2 AND kind IN ('agreed', 'confirmed') AND entity = '' AND channel = 1 ORDER BY contact_id, id",
        )?;
        let mut rows = s.query([from, to])?;
        while let Some(r) = rows.next()? {
            let Some(at) = place(&all, r.get(0)?) else { continue };
            if r.get(2)? {
                all[at].confirmed = all[at].confirmed.or(Some(r.get(1)?));
            }
            all[at].permission = Some(r.get(3)?);
        }
        Ok(all)
    }

    /// The sums of the people with numbers in a range; each person's observation is told, too.
    fn part(&self, c: &Connection, range: (i64, i64), observed: &mut impl FnMut(&Observation)) -> Result<Sums> {
        let people = self.people(c, range)?;
        let mut sums = Sums::default();
        let mut s = c.prepare_cached(formatcp!(
            "SELECT contact_id, id, class = 1 AND channel = 1, at, handed_at, accepted_at, failed_at IS NOT NULL, category = 1 AND failed_at IS NOT NULL, state IN ({ACCEPTED}, {FAILED}),
                open_at, click_at, reply_at, complained_at IS NOT NULL, withdrew_at IS NOT NULL, topic_left_at IS NOT NULL, left_at IS NOT NULL, opens_unknown, mailing_id, class = 1
             FROM send INDEXED BY send_contact WHERE contact_id BETWEEN ?1 AND ?2 ORDER BY contact_id, id"
        ))?;
        let mut rows = s.query([range.0, range.1])?;
        let mut of: Vec<Message> = Vec::new();
        let mut next = rows.next()?.map(|r| self.message(r)).transpose()?;
        for p in &people {
            of.clear();
            while let Some((_, m)) = next.take_if(|(who, _)| *who == p.id) {
                of.push(m);
                next = rows.next()?.map(|r| self.message(r)).transpose()?;
            }
            self.person(p, &of, &mut sums, observed);
        }
        Ok(sums)
    }

    fn message(&self, r: &rusqlite::Row<'_>) -> rusqlite::Result<(i64, Message)> {
        let flag = |i: usize| r.get::<_, Option<bool>>(i).map(Option::unwrap_or_default);
        let m = Message {
            id: r.get(1)?,
            counts: r.get(2)?,
            at: r.get(3)?,
            handed: r.get(4)?,
            accepted: r.get(5)?,
            failed: r.get(6)?,
            unknown: flag(7)?,
            over: r.get(8)?,
            opened: r.get(9)?,
            clicked: r.get(10)?,
            replied: r.get(11)?,
            complained: r.get(12)?,
            withdrew: r.get(13)?,
            left_topic: r.get(14)?,
            left: r.get(15)?,
            opens_unknown: flag(16)?,
            ours: self.entities.contains(&r.get(17)?),
            marketing: r.get(18)?,
        };
        Ok((r.get(0)?, m))
    }

    fn person(&self, p: &Person, of: &[Message], sums: &mut Sums, observed: &mut impl FnMut(&Observation)) {
        let since = (self.now + -LOOK_BACK).millis();
        let ripe = (self.now + -RIPE).millis();
        // One ripe message of each person. It is drawn by a keyed hash, not the latest: people who complain or leave get no more mail, so their
        // latest message is always the one they left by, and losses would count several times over.
        let draw = |salt: &Salted, when: &dyn Fn(&Message) -> Option<i64>| {
            let in_time = |m: &&Message| m.counts && when(m).is_some_and(|t| t > since && t <= ripe);
            let keyed = of.iter().filter(in_time).map(|m| (salt.draw(ContactId(m.id)), m));
            keyed.min_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, m)| m)
        };
        if let Some((m, handed)) = draw(&self.recency, &|m| m.handed).and_then(|m| Some((m, m.handed?))) {
            let o = observation(of, m, handed, p.blind);
            observed(&o);
            sums.recency.add(&o);
        }
        if let Some((m, accepted)) = draw(&self.caps, &|m| m.accepted).filter(|_| !p.gone).and_then(|m| Some((m, m.accepted?))) {
            let from = accepted - cap_guide::DAYS * DAY;
            let got = of.iter().filter(|x| x.marketing && x.accepted.is_some_and(|t| t > from && t <= accepted)).count();
            sums.caps.add(&Drawn {
                got: u32::try_from(got).unwrap_or(u32::MAX),
                answered: m.answered(),
                opens_unknown: m.opens_unknown,
                withdrew: m.withdrew,
                left_topic: m.left_topic,
                complained: m.complained,
            });
        }
        if !p.gone {
            let counts = self.of_source(p, of, since);
            *sums.sources.entry(p.source.clone()).or_default() += counts;
        }
        for m in of.iter().filter(|m| m.counts && m.ours && m.over && m.at > since) {
            let Some(handed) = m.handed else { continue };
            let delivered = m.accepted.is_some() && !m.failed;
            let answered = delivered && (m.clicked.is_some() || m.replied.is_some());
            let n = [true, delivered, answered, delivered && m.complained].map(u64::from);
            fare(&mut sums.by_state[usize::from(p.confirmed.is_some_and(|t| t <= handed))], n);
            if let Some(by) = &p.permission {
                fare(sums.by_permission.entry(by.clone()).or_default(), n);
            }
        }
    }

    fn of_source(&self, p: &Person, of: &[Message], since: i64) -> Counts {
        let handed = || of.iter().filter(|m| m.counts && m.handed.is_some());
        let recent = || handed().filter(|m| m.handed.is_some_and(|t| t > since));
        let could_answer = !p.blind && recent().count() >= 4;
        let week = (self.now + -7 * DAY).millis();
        Counts {
            people: 1,
            mailed: u64::from(handed().next().is_some()),
            bounced: u64::from(handed().any(|m| m.unknown)),
            complained: u64::from(handed().any(|m| m.complained)),
            silent: u64::from(could_answer && !recent().any(Message::answered)),
            could_answer: u64::from(could_answer),
            bought: u64::from(p.bought),
            last_week: u64::from(p.added > week),
            before: u64::from(p.added <= week && p.added > week - i64::from(WEEKS_BEFORE) * 7 * DAY),
        }
    }
}

/// What came of a message, and when its person had answered before: answers after it are no part of what was known when it went out.
fn observation(of: &[Message], m: &Message, handed: i64, open_blind: bool) -> Observation {
    let before = of.iter().take_while(|x| x.id < m.id).flat_map(|x| [x.opened, x.clicked, x.replied]).flatten();
    let answered = before.filter(|t| *t < handed).max();
    let since = answered.unwrap_or(0);
    let mailed_since = of.iter().take_while(|x| x.id <= m.id).filter(|x| x.handed.is_some_and(|t| t > since)).count();
    Observation {
        since_answer: answered.map(|a| handed - a),
        mailed_since: u32::try_from(mailed_since).unwrap_or(u32::MAX),
        opened: m.opened.is_some(),
        clicked: m.clicked.is_some(),
        complained: m.complained,
        withdrew: m.left && !m.complained,
        bounced: m.failed,
        open_blind,
    }
}

fn parts(c: &Connection) -> Result<impl Iterator<Item = (i64, i64)>> {
    let last: i64 = c.query_row("SELECT coalesce(max(id), 0) FROM contact", [], |r| r.get(0))?;
    Ok((0..=last / PART).map(|n| (n * PART + 1, (n + 1) * PART)))
}

fn whole(c: &Connection, now: Instant, mut observed: impl FnMut(&Observation)) -> Result<Sums> {
    let (pass, mut sums) = (Pass::new(c, now)?, Sums::default());
    for range in parts(c)? {
        sums += pass.part(c, range, &mut observed)?;
    }
    Ok(sums)
}

/// Each person's observation, for what holds them against the messages.
///
/// # Errors
/// When the database fails.
pub fn observations(c: &Connection, now: Instant) -> Result<Vec<Observation>> {
    let mut out = Vec::new();
    whole(c, now, |o| out.push(*o))?;
    Ok(out)
}

/// The sums of everybody, made now.
///
/// # Errors
/// When the database fails.
pub fn now(c: &Connection, now: Instant) -> Result<Sums> {
    whole(c, now, |_| ())
}

/// Are there so many people that the pass is made once a day?
///
/// # Errors
/// When the database fails.
pub fn is_large(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached("SELECT coalesce(sum(people), 0) > ?1 FROM people_standing")?.query_row([AT_ONCE], |r| r.get(0))?)
}

/// The sums to show, and of a large base the instant that they are of. Before the first day's pass they are made now.
///
/// # Errors
/// When the database fails.
pub fn shown(c: &Connection, at: Instant) -> Result<(Sums, Option<Instant>)> {
    if is_large(c)?
        && let Some((as_of, text)) = c
            .prepare_cached("SELECT as_of, sums FROM per_person")?
            .query_row([], |r| Ok((Instant::of(r.get(0)?), r.get::<_, String>(1)?)))
            .optional()?
        // What another version wrote and this one can't read is made again.
        && let Ok(sums) = serde_json::from_str(&text)
    {
        return Ok((sums, Some(as_of)));
    }
    Ok((now(c, at)?, None))
}

/// The sums made a part at a time, each a short look: nothing that is written waits for it.
///
/// # Errors
/// When the database fails.
pub async fn beside(store: &Store, now: Instant) -> Result<Sums> {
    let mut sums = Sums::default();
    for range in store.read_at_leisure(|c| Ok(parts(c)?.collect::<Vec<_>>())).await? {
        sums += store.read_at_leisure(move |c| Pass::new(c, now)?.part(c, range, &mut |_| ())).await?;
    }
    Ok(sums)
}

/// Is it a large base whose pass of the day isn't made?
///
/// # Errors
/// When the database fails.
pub fn is_due(c: &Connection, now: Instant) -> Result<bool> {
    let as_of: Option<i64> = c.prepare_cached("SELECT as_of FROM per_person")?.query_row([], |r| r.get(0)).optional()?;
    Ok(as_of.is_none_or(|at| day_of(Instant::of(at)) != day_of(now)) && is_large(c)?)
}

/// The day's pass of a large base.
///
/// # Errors
/// When the database fails; the day before's stays until the next try.
pub async fn refresh(store: &Store, now: Instant) -> Result<()> {
    let text = serde_json::to_string(&beside(store, now).await?)?;
    store
        .write(move |c| {
            c.execute(
                "INSERT INTO per_person VALUES (1, ?1, ?2) ON CONFLICT DO UPDATE SET as_of = ?1, sums = ?2",
                params![now.millis(), text],
            )?;
            Ok(())
        })
        .await
}
