//! The forecast: the coming mailings played through, person by person.

use super::{Mailing, base, warm};
use crate::{Result, StoreError, rules};
use rinse_core::caps::{Kind, Message};
use rinse_core::clearance::columns::{Marks, Messages, clocks};
use rinse_core::clearance::forecast::{Coming, Fate, play};
use rinse_core::clearance::{Class, Person, Reason, Reasons, RuleSet, Rules};
use rinse_core::zone::{self, Local};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// A mailing to come, with whom it selects.
struct Item {
    mailing: Mailing,
    /// Everybody, with their consent to the mailing's legal entity.
    people: std::sync::Arc<base::People>,
    at: Instant,
    rules: Rules,
    /// A bit per person.
    selected: Vec<bool>,
    marks: Marks,
    /// The letterhead's.
    clock: Local,
}

/// Everything that is played.
struct Stage {
    people: std::sync::Arc<base::People>,
    /// What went before.
    sent: Messages,
    items: Vec<Item>,
    /// Of the base's zones, by their places.
    clocks: Vec<Local>,
    /// Held and ready messages: whose, of which item, until when, under which rules.
    waiting: HashMap<i64, Vec<(usize, Instant, usize)>>,
    /// The rules of started mailings, by the instant at which they give up.
    given_up: Vec<Rules>,
}

/// A mailing at another instant than it has.
#[derive(Debug, Clone, Copy)]
pub struct Moved {
    pub mailing: i64,
    pub at: Instant,
}

fn coming(c: &Connection, now: Instant, until: Instant, moved: Option<Moved>) -> Result<Vec<(i64, Instant)>> {
    let mut s = c.prepare_cached(
        "SELECT id, planned_at FROM mailing WHERE state = 'planned' AND planned_at < ?1
         UNION ALL SELECT mailing_id, rollout_at FROM trial WHERE state = 'rolling' AND rollout_at < ?1",
    )?;
    let mut found: Vec<(i64, Instant)> =
        s.query_map([until.0], |r| Ok((r.get(0)?, Instant(r.get::<_, i64>(1)?).max(now))))?.collect::<rusqlite::Result<_>>()?;
    if let Some(m) = moved {
        found.retain(|(id, _)| *id != m.mailing);
        found.push((m.mailing, m.at.max(now)));
    }
    found.sort_unstable_by_key(|(id, at)| (*at, *id));
    Ok(found)
}

/// People who would be suppressed, for the mail of a scope.
pub struct Barring {
    pub scope: crate::suppression::For,
    pub people: Vec<i64>,
}

fn stage(c: &Connection, now: Instant, found: &[(i64, Instant)], set: &RuleSet, barring: Option<&Barring>) -> Result<Stage> {
    let columns = warm::columns(c, now + -super::reach(set))?;
    let people = columns.people;
    let n = people.base.contact.len();
    // Everything that is played lies in this span, and windows that reach back from it.
    let (from, until) = (now + (-super::reach(set) - 10 * DAY), now + (FORECAST_DAYS + 120) * DAY);
    let mut items = Vec::new();
    for (id, at) in found {
        let mailing = super::mailing(c, *id)?;
        let mut selected = vec![false; n];
        for place in people.selected(c, &mailing.who, *at)? {
            selected[place as usize] = true;
        }
        let rules = set.for_mailing(&mailing.facts, *at);
        let mut marks = base::marks(c, &people, &mailing, *at)?.0;
        bar(&people, &mailing, barring, &mut marks);
        let clock = Local::between(&rules.zone, from, until);
        let of_entity = people.of_entity(c, &mailing.entity)?;
        items.push(Item { mailing, people: of_entity, at: *at, rules, selected, marks, clock });
    }
    let mut s = c.prepare_cached("SELECT contact_id, mailing_id, at, give_up_at FROM send WHERE state IN (0, 1)")?;
    let mut rows = s.query([])?;
    let (mut waiting, mut given_up): (HashMap<i64, Vec<_>>, Vec<Rules>) = (HashMap::new(), Vec::new());
    let mut known: HashMap<(i64, i64), (usize, usize)> = HashMap::new();
    while let Some(r) = rows.next()? {
        let (id, give_up): (i64, i64) = (r.get(1)?, r.get(3)?);
        let (item, rules) = match known.get(&(id, give_up)) {
            Some(found) => *found,
            None => {
                let item = match items.iter().position(|i| i.mailing.id == id) {
                    Some(item) => item,
                    None => {
                        let mailing = super::mailing(c, id)?;
                        let rules = set.for_mailing(&mailing.facts, now);
                        let mut marks = base::marks(c, &people, &mailing, now)?.0;
                        bar(&people, &mailing, barring, &mut marks);
                        let clock = Local::between(&rules.zone, from, until);
                        let of_entity = people.of_entity(c, &mailing.entity)?;
                        items.push(Item { mailing, people: of_entity, at: now, rules, selected: vec![false; n], marks, clock });
                        items.len() - 1
                    }
                };
                given_up.push(Rules { give_up_at: Instant(give_up), ..items[item].rules.clone() });
                known.insert((id, give_up), (item, given_up.len() - 1));
                (item, given_up.len() - 1)
            }
        };
        waiting.entry(r.get(0)?).or_default().push((item, Instant(r.get::<_, i64>(2)?).max(now), rules));
    }
    let clocks = clocks(&zone::TimeZone::UTC, &people.base.zones, from, until);
    Ok(Stage { people, sent: columns.messages.handed_over(), items, clocks, waiting, given_up })
}

/// Marks those who would be suppressed, as if they were on one list more.
fn bar(people: &base::People, m: &Mailing, barring: Option<&Barring>, marks: &mut Marks) {
    let Some(b) = barring.filter(|b| b.scope.covers(m.target)) else { return };
    marks.lists.resize(people.base.contact.len(), 0);
    for id in &b.people {
        if let Ok(place) = people.base.contact.binary_search(id) {
            marks.lists[place] |= 1 << 63;
        }
    }
}

impl Stage {
    /// Plays everybody through, a large base in parts side by side; `tell` gets a part's tally, the
    /// person's place and their fates with the items'.
    fn play<T: Send>(
        &self,
        until: Instant,
        tally: impl Fn() -> T + Sync,
        tell: impl Fn(&mut T, usize, &[(usize, Instant)], &[Fate]) + Sync,
    ) -> Result<Vec<T>> {
        let n = self.people.base.contact.len();
        let part = n.div_ceil(if n < 20_000 { 1 } else { super::threads() }).max(1);
        let (tally, tell) = (&tally, &tell);
        std::thread::scope(|scope| {
            let parts: Vec<_> = (0..n)
                .step_by(part)
                .map(|from| {
                    scope.spawn(move || {
                        let mut told = tally();
                        self.play_part(from..n.min(from + part), until, |place, which, fates| tell(&mut told, place, which, fates));
                        told
                    })
                })
                .collect();
            parts.into_iter().map(|p| p.join().map_err(|_| StoreError::Stopped)).collect()
        })
    }

    fn play_part(&self, places: std::ops::Range<usize>, until: Instant, mut tell: impl FnMut(usize, &[(usize, Instant)], &[Fate])) {
        let none = Vec::new();
        let base = &self.people.base;
        let (mut events, mut which): (Vec<Coming<'_>>, Vec<(usize, Instant)>) = (Vec::new(), Vec::new());
        for place in places {
            events.clear();
            which.clear();
            for (n, item) in self.items.iter().enumerate().filter(|(_, i)| i.selected[place]) {
                events.push(self.event(item, &item.rules, item.at));
                which.push((n, item.at));
            }
            let waiting = self.waiting.get(&base.contact[place]).unwrap_or(&none);
            for (n, at, rules) in waiting {
                events.push(self.event(&self.items[*n], &self.given_up[*rules], *at));
                which.push((*n, *at));
            }
            if events.is_empty() {
                continue;
            }
            let selected = events.len() - waiting.len();
            let standing = |i: usize| {
                let item = &self.items[which[i].0];
                let person = item.people.base.person(&self.sent, place, &item.marks);
                // A message that waits was recorded already: that is itself.
                Person { already_sent: i < selected && person.already_sent, ..person }
            };
            let fates = play(&events, selected, self.sent.of(place), until, standing, |i| {
                // People without a zone go by the letterhead's.
                match base.zone[place] {
                    0 => &self.items[which[i].0].clock,
                    zone => &self.clocks[zone as usize],
                }
            });
            tell(place, &which, &fates);
        }
    }

    fn event<'a>(&self, item: &Item, rules: &'a Rules, at: Instant) -> Coming<'a> {
        Coming { rules, kind: item.mailing.facts.kind, at, marketing: item.mailing.facts.class == Class::Marketing }
    }
}

/// What planned mailings will have sent or reserved before `m` at `at`, as messages.
pub(super) fn reserved_before(c: &Connection, m: &Mailing, at: Instant, now: Instant, set: &RuleSet) -> Result<Vec<(i64, Message)>> {
    let mut found = coming(c, now, at + 1, None)?;
    found.retain(|(id, _)| *id != m.id);
    if found.is_empty() {
        return Ok(Vec::new());
    }
    let stage = stage(c, now, &found, set, None)?;
    let parts = stage.play(at, Vec::new, |out, place, which, fates| {
        for ((n, _), fate) in which.iter().zip(fates) {
            let item = &stage.items[*n];
            // Held rows are on record, and count as they stand there.
            if let Some(goes) = fate.goes.filter(|_| !item.mailing.started && item.mailing.facts.class == Class::Marketing) {
                let kind: Kind = item.mailing.facts.kind;
                out.push((stage.people.base.contact[place], Message { at: goes, kind, reserved: Some(item.mailing.facts.rank) }));
            }
        }
    })?;
    Ok(parts.into_iter().flatten().collect())
}

/// How a coming mailing will go.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MailingForecast {
    pub id: i64,
    pub name: String,
    /// Its instant; of one that is under way, now.
    pub at: i64,
    pub started: bool,
    pub selected: u64,
    /// Gets it at its instant.
    pub at_once: u64,
    /// Gets it later, held for a while.
    pub later: u64,
    pub last_release: Option<i64>,
    /// Doesn't get it: over a cap and the mailing skips, or held too long.
    pub lost_to_caps: u64,
    /// Doesn't get it for another reason.
    pub barred: u64,
}

/// A day (UTC) of the forecast.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ForecastDay {
    pub begins: i64,
    /// Messages that go that day.
    pub goes: u64,
    /// Messages whose instant was that day and that go on a later one, or later that day.
    pub held: u64,
    /// Messages of mailings of that day that never go, for caps.
    pub skipped: u64,
}

/// People for whom one mailing is in the other's way.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Competing {
    /// Goes first.
    pub first: i64,
    /// Has to wait, or is lost.
    pub second: i64,
    pub people: u64,
}

/// The next weeks.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Forecast {
    pub from: i64,
    pub until: i64,
    pub mailings: Vec<MailingForecast>,
    pub days: Vec<ForecastDay>,
    pub competing: Vec<Competing>,
    pub cap_in_force: bool,
}

/// How far the forecast looks.
pub const FORECAST_DAYS: i64 = 28;

/// Plays the coming four weeks through: as planned, or with one mailing moved, or under other rules.
///
/// # Errors
/// When there is no such mailing.
pub fn forecast(c: &Connection, now: Instant, moved: Option<Moved>, set: Option<&RuleSet>) -> Result<Forecast> {
    forecast_if(c, now, moved, set, None)
}

/// As [`forecast`], as if some people were suppressed.
///
/// # Errors
/// When there is no such mailing.
pub fn forecast_if(
    c: &Connection,
    now: Instant,
    moved: Option<Moved>,
    set: Option<&RuleSet>,
    barring: Option<&Barring>,
) -> Result<Forecast> {
    let until = now + FORECAST_DAYS * DAY;
    let current = rules::current(c)?.rules;
    let set = set.unwrap_or(&current);
    let stage = stage(c, now, &coming(c, now, until, moved)?, set, barring)?;
    let mut sums = Sums::of(c, &stage, now)?;
    let parts = stage.play(until + HOLD, || sums.clone(), |sums, _, which, fates| sums.add(now, which, fates))?;
    for part in parts {
        sums.merge(part);
    }
    let Sums { rows, days, pairs, .. } = sums;
    let mut competing: Vec<Competing> =
        pairs.into_iter().map(|((a, b), people)| Competing { first: rows[a].id, second: rows[b].id, people }).collect();
    competing.sort_unstable_by_key(|p| (std::cmp::Reverse(p.people), p.first, p.second));
    competing.truncate(20);
    Ok(Forecast { from: now.0, until: until.0, mailings: rows, days, competing, cap_in_force: set.caps.iter().any(|cap| cap.in_force) })
}

/// What the forecast adds up.
#[derive(Clone)]
struct Sums {
    midnight: i64,
    rows: Vec<MailingForecast>,
    days: Vec<ForecastDay>,
    pairs: HashMap<(usize, usize), u64>,
}

impl Sums {
    /// Nothing yet, for each mailing of the stage.
    fn of(c: &Connection, stage: &Stage, now: Instant) -> Result<Self> {
        let midnight = now.0 - now.0.rem_euclid(DAY);
        let days = (0..=FORECAST_DAYS).map(|d| ForecastDay { begins: midnight + d * DAY, goes: 0, held: 0, skipped: 0 }).collect();
        let mut rows = Vec::new();
        for item in &stage.items {
            let name: Option<String> = c.query_row("SELECT name FROM mailing WHERE id = ?1", [item.mailing.id], |r| r.get(0)).optional()?;
            rows.push(MailingForecast {
                id: item.mailing.id,
                name: name.unwrap_or_default(),
                at: item.at.0,
                started: item.mailing.started,
                selected: 0,
                at_once: 0,
                later: 0,
                last_release: None,
                lost_to_caps: 0,
                barred: 0,
            });
        }
        Ok(Self { midnight, rows, days, pairs: HashMap::new() })
    }

    /// One person's messages and what becomes of them.
    fn add(&mut self, now: Instant, which: &[(usize, Instant)], fates: &[Fate]) {
        let Self { midnight, rows, days, pairs } = self;
        for (i, ((n, at), fate)) in which.iter().zip(fates).enumerate() {
            let row = &mut rows[*n];
            row.selected += 1;
            // Releases after the last day are no day's.
            let mut on = |t: i64, add: fn(&mut ForecastDay)| {
                if let Some(day) = usize::try_from((t - *midnight) / DAY).ok().and_then(|d| days.get_mut(d)) {
                    add(day);
                }
            };
            match (fate.goes, fate.barred) {
                (Some(goes), _) => {
                    if fate.waited.is_some() || (row.started && goes > now) {
                        row.later += 1;
                        row.last_release = row.last_release.max(Some(goes.0));
                        on(at.0, |d| d.held += 1);
                    } else {
                        row.at_once += 1;
                    }
                    on(goes.0, |d| d.goes += 1);
                }
                (None, Some(why)) if lost_to_caps(why) => {
                    row.lost_to_caps += 1;
                    on(at.0, |d| d.skipped += 1);
                }
                _ => row.barred += 1,
            }
            for (other, _) in which.iter().enumerate().filter(|(o, _)| *o < 64 && fate.after & (1 << o) != 0 && *o != i) {
                *pairs.entry((which[other].0, *n)).or_default() += 1;
            }
        }
    }

    fn merge(&mut self, part: Self) {
        for (row, other) in self.rows.iter_mut().zip(part.rows) {
            row.selected += other.selected;
            row.at_once += other.at_once;
            row.later += other.later;
            row.last_release = row.last_release.max(other.last_release);
            row.lost_to_caps += other.lost_to_caps;
            row.barred += other.barred;
        }
        for (day, other) in self.days.iter_mut().zip(part.days) {
            day.goes += other.goes;
            day.held += other.held;
            day.skipped += other.skipped;
        }
        for (pair, people) in part.pairs {
            *self.pairs.entry(pair).or_default() += people;
        }
    }
}

/// Releases are looked for this long after the last day.
const HOLD: i64 = 30 * DAY;

/// Over a cap and the mailing skips, or held by one for too long.
fn lost_to_caps(why: Reasons) -> bool {
    match why.first() {
        Some(Reason::OverCap) => true,
        Some(Reason::HeldTooLong) => why.caps != 0,
        _ => false,
    }
}
