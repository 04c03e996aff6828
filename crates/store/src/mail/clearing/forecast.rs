//! The forecast: the coming mailings played through, person by person.

use super::{Mailing, base, warm};
use crate::codes::{MAILING_PLANNED, TRIAL_ROLLING};
use crate::send_state::{DEFERRED, WAITING};
use crate::{Result, StoreError, costly, rules};
use const_format::formatcp;
use rinse_core::caps::{Kind, Message};
use rinse_core::clearance::columns::{Marks, Messages, Ready};
use rinse_core::clearance::forecast::{Coming, Fate, Player};
use rinse_core::clearance::{Class, Reason, Reasons, RuleSet, Rules};
use rinse_core::id::{ContactId, MailingId};
use rinse_core::schedule::Schedule;
use rinse_core::segment::share::Salted;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension};
use serde::Serialize;
use std::collections::HashMap;
use std::sync::Arc;
use utoipa::ToSchema;

/// A mailing to come, with whom it selects.
struct Item {
    mailing: Mailing,
    /// Everybody, with their consent to the mailing's legal entity.
    people: Arc<base::People>,
    at: Instant,
    rules: Rules,
    /// Whom it selects, by their places; empty of one that is under way: nobody.
    selected: Arc<Vec<bool>>,
    marks: Marks,
    /// Of a series: what those inside will come to.
    series: bool,
    schedule: Schedule,
    spread: Salted,
}

/// Messages on record of a mailing that is under way, with one end to their holding.
struct OnRecord {
    item: usize,
    rules: Rules,
}

/// Everything that is played.
struct Stage {
    people: Arc<base::People>,
    now: Instant,
    /// What went before.
    sent: Messages,
    items: Vec<Item>,
    /// Held and ready messages: whose, which of `on_record`, until when.
    waiting: HashMap<ContactId, Vec<(usize, Instant)>>,
    on_record: Vec<OnRecord>,
    /// What those inside series will come to: whose, of which of `items`, when.
    ahead: HashMap<ContactId, Vec<(usize, Instant)>>,
}

/// A mailing at another instant than it has.
#[derive(Debug, Clone, Copy)]
pub struct Moved {
    pub mailing: MailingId,
    pub at: Instant,
}

fn coming(c: &Connection, now: Instant, until: Instant, moved: Option<Moved>) -> Result<Vec<(i64, Instant)>> {
    let mut s = c.prepare_cached(formatcp!(
        "SELECT id, planned_at FROM mailing WHERE state = {MAILING_PLANNED} AND planned_at < ?1
         UNION ALL SELECT mailing_id, rollout_at FROM trial WHERE state = {TRIAL_ROLLING} AND rollout_at < ?1"
    ))?;
    let mut found: Vec<(i64, Instant)> =
        s.query_map([until.millis()], |r| Ok((r.get(0)?, Instant::of(r.get::<_, i64>(1)?).max(now))))?.collect::<rusqlite::Result<_>>()?;
    if let Some(m) = moved {
        found.retain(|(id, _)| *id != m.mailing.0);
        found.push((m.mailing.0, m.at.max(now)));
    }
    found.sort_unstable_by_key(|(id, at)| (*at, *id));
    Ok(found)
}

/// Another suppression than there is.
pub enum Suppressing {
    /// These people would be barred, too, from the mail of a scope.
    Also { scope: crate::suppression::For, people: Vec<ContactId> },
    /// This list, or live rule, would be ended.
    Without { list: i64 },
}

fn stage(
    c: &Connection,
    now: Instant,
    until: Instant,
    found: &[(i64, Instant)],
    set: &RuleSet,
    other: Option<&Suppressing>,
) -> Result<Stage> {
    let columns = warm::columns(c, now + -super::reach(set))?;
    let people = columns.people;
    let n = people.base.contact.len();
    let mut memo = base::Memo::default();
    let mut item = |at: Instant, selected: Arc<Vec<bool>>, mailing: Mailing| -> Result<Item> {
        let rules = set.for_mailing(&mailing.facts, at);
        let (mut marks, lists) = base::marks(c, &people, &mailing, at, &mut memo)?;
        if let Some(other) = other {
            other.mark(&people, &mailing, &lists, &mut marks);
        }
        let schedule: String = c.prepare_cached("SELECT schedule FROM mailing WHERE id = ?1")?.query_row([mailing.id.0], |r| r.get(0))?;
        let schedule = crate::stored::document(&schedule, "mailing", mailing.id.0)?;
        let spread = crate::send_state::spread_of(mailing.id);
        let people = people.under(c, mailing.grant(), &mut memo)?;
        Ok(Item { people, mailing, at, rules, selected, marks, series: false, schedule, spread })
    };
    let mut items: Vec<Item> = Vec::new();
    for (id, at) in found {
        let mailing = super::mailing(c, MailingId(*id))?;
        // Lists are the same at any instant: mailings to the same ones share what they select.
        let same = items.iter().find(|i| i.mailing.who == mailing.who && (i.at == *at || !mailing.who.asks_the_time()));
        let selected = match same {
            Some(other) => Arc::clone(&other.selected),
            None => {
                let mut selected = vec![false; n];
                for place in people.selected(c, &mailing.who, *at)? {
                    selected[place as usize] = true;
                }
                Arc::new(selected)
            }
        };
        items.push(item(*at, selected, mailing)?);
    }
    // As the index has it: SQLite doesn't see that fewer states lie in it, too.
    let mut s = c.prepare_cached(formatcp!(
        "SELECT contact_id, mailing_id, at, give_up_at FROM send INDEXED BY send_due WHERE state IN ({WAITING}) AND state <> {DEFERRED}"
    ))?;
    let mut rows = s.query([])?;
    let (mut waiting, mut on_record): (HashMap<ContactId, Vec<_>>, Vec<OnRecord>) = (HashMap::new(), Vec::new());
    let mut known: HashMap<(MailingId, i64), usize> = HashMap::new();
    while let Some(r) = rows.next()? {
        let (id, give_up): (MailingId, i64) = (MailingId(r.get(1)?), r.get(3)?);
        let place = match known.get(&(id, give_up)) {
            Some(found) => *found,
            None => {
                let place = match items.iter().position(|i| i.mailing.id == id) {
                    Some(place) => place,
                    None => {
                        items.push(item(now, Arc::default(), super::mailing(c, id)?)?);
                        items.len() - 1
                    }
                };
                on_record.push(OnRecord { item: place, rules: Rules { give_up_at: Instant::of(give_up), ..items[place].rules.clone() } });
                known.insert((id, give_up), on_record.len() - 1);
                on_record.len() - 1
            }
        };
        waiting.entry(ContactId(r.get(0)?)).or_default().push((place, Instant::of(r.get::<_, i64>(2)?).max(now)));
    }
    let mut ahead: HashMap<ContactId, Vec<(usize, Instant)>> = HashMap::new();
    let mut steps: HashMap<MailingId, usize> = HashMap::new();
    for (contact, mailing, at) in crate::series::view::ahead(c, now, until)? {
        let place = match steps.get(&mailing) {
            Some(found) => *found,
            None => {
                items.push(Item { series: true, ..item(now, Arc::default(), super::mailing(c, mailing)?)? });
                steps.insert(mailing, items.len() - 1);
                items.len() - 1
            }
        };
        ahead.entry(contact).or_default().push((place, at));
    }
    Ok(Stage { people, now, sent: columns.messages.handed_over(), items, waiting, on_record, ahead })
}

impl Suppressing {
    /// Changes what the lists of a mailing say of people.
    fn mark(&self, people: &base::People, m: &Mailing, lists: &[i64], marks: &mut Marks) {
        match self {
            Self::Also { scope, people: theirs } if scope.covers(m.target) => {
                let lists = Arc::make_mut(&mut marks.lists);
                lists.resize(people.base.contact.len(), 0);
                for place in theirs.iter().filter_map(|id| people.base.contact.binary_search(id).ok()) {
                    // The bit of no list: there are fewer.
                    lists[place] |= 1 << 63;
                }
            }
            Self::Also { .. } => {}
            Self::Without { list } => {
                if let Some(bit) = lists.iter().position(|l| l == list) {
                    Arc::make_mut(&mut marks.lists).iter_mut().for_each(|l| *l &= !(1 << bit));
                }
            }
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
        let planned: Vec<Ready<'_>> = self.items.iter().map(|i| Ready::new(&i.people.base, &i.marks, &i.rules, i.at)).collect();
        // What waits is looked at again from now on.
        let again = |r| {
            let OnRecord { item, rules }: &OnRecord = r;
            let i = &self.items[*item];
            Ready::new(&i.people.base, &i.marks, rules, self.now)
        };
        let on_record: Vec<Ready<'_>> = self.on_record.iter().map(again).collect();
        let ready = (planned.as_slice(), on_record.as_slice());
        let (tally, tell) = (&tally, &tell);
        std::thread::scope(|scope| {
            let parts: Vec<_> = (0..n)
                .step_by(part)
                .map(|from| {
                    scope.spawn(move || {
                        let mut told = tally();
                        self.play_part(from..n.min(from + part), until, ready, |place, which, fates| tell(&mut told, place, which, fates));
                        told
                    })
                })
                .collect();
            parts.into_iter().map(|p| p.join().map_err(|_| StoreError::Stopped)).collect()
        })
    }

    fn play_part(
        &self,
        places: std::ops::Range<usize>,
        until: Instant,
        (planned, on_record): (&[Ready<'_>], &[Ready<'_>]),
        mut tell: impl FnMut(usize, &[(usize, Instant)], &[Fate]),
    ) {
        let none = Vec::new();
        let mut player = Player::default();
        let (mut events, mut which, mut ready) = (Vec::new(), Vec::new(), Vec::new());
        for place in places {
            events.clear();
            which.clear();
            ready.clear();
            for (n, item) in self.items.iter().enumerate().filter(|(_, i)| i.selected.get(place) == Some(&true)) {
                let Some(at) = item.due(place) else { continue };
                events.push(item.coming(&item.rules, at, planned[n].bars(place)));
                which.push((n, at));
                ready.push(&planned[n]);
            }
            if !self.ahead.is_empty() {
                for (n, at) in self.ahead.get(&self.people.base.contact[place]).unwrap_or(&none) {
                    // Anybody who entered before may have had it: each entry has messages of its own.
                    let bars = planned[*n].bars(place).without(Reason::AlreadySent);
                    events.push(self.items[*n].coming(&self.items[*n].rules, *at, bars));
                    which.push((*n, *at));
                    ready.push(&planned[*n]);
                }
            }
            let selected = events.len();
            if !self.waiting.is_empty() {
                for (n, at) in self.waiting.get(&self.people.base.contact[place]).unwrap_or(&none) {
                    let record = &self.on_record[*n];
                    // A message that waits was recorded already: that is itself.
                    let bars = on_record[*n].bars(place).without(Reason::AlreadySent);
                    events.push(self.items[record.item].coming(&record.rules, *at, bars));
                    which.push((record.item, *at));
                    ready.push(&on_record[*n]);
                }
            }
            if events.is_empty() {
                continue;
            }
            let fates = player
                .play(&events, selected, self.sent.of(place), until, |i, t, messages| ready[i].decide(place, t, messages, events[i].bars));
            tell(place, &which, fates);
        }
    }
}

impl Item {
    /// When somebody's turn is by the mailing's schedule; rates of mail domains left out. None: their hour has passed.
    fn due(&self, place: usize) -> Option<Instant> {
        if self.schedule.local.is_none() && self.schedule.spread_minutes == 0 {
            return Some(self.at);
        }
        let base = &self.people.base;
        self.schedule.due(self.at, base.zone_of(place).unwrap_or(&self.rules.zone), self.spread.draw(base.contact[place]))
    }

    fn coming(&self, rules: &Rules, at: Instant, bars: Reasons) -> Coming {
        let facts = &self.mailing.facts;
        Coming { at, rank: facts.rank, kind: facts.kind, marketing: facts.class == Class::Marketing, bars, reach: rules.reach() }
    }
}

/// What planned mailings will have sent or reserved before `m` at `at`, as messages.
pub(super) fn reserved_before(c: &Connection, m: &Mailing, at: Instant, now: Instant, set: &RuleSet) -> Result<Vec<(ContactId, Message)>> {
    let mut found = coming(c, now, at + 1, None)?;
    found.retain(|(id, _)| *id != m.id.0);
    if found.is_empty() && !crate::series::active(c)? {
        return Ok(Vec::new());
    }
    let stage = stage(c, now, at, &found, set, None)?;
    let parts = stage.play(at, Vec::new, |out, place, which, fates| {
        for ((n, _), fate) in which.iter().zip(fates) {
            let item = &stage.items[*n];
            // Held rows are on record, and count as they stand there.
            if let Some(goes) = fate.goes.filter(|_| (item.series || !item.mailing.started) && item.mailing.facts.class == Class::Marketing)
            {
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
    /// A step of a series: what those inside will come to. Who enters later isn't known.
    pub series: bool,
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

/// The coming weeks as they are planned. Of a large base it is one for all who ask, until somebody of the team changes something, or for as long as
/// [`costly`] keeps it.
///
/// # Errors
/// When the database fails.
pub fn as_planned(c: &Connection, now: Instant) -> Result<Forecast> {
    costly::until_changed(c, now, "forecast", || forecast(c, now, None, None))
}

/// As [`forecast`], under another suppression than there is.
///
/// # Errors
/// When there is no such mailing.
pub fn forecast_if(
    c: &Connection,
    now: Instant,
    moved: Option<Moved>,
    set: Option<&RuleSet>,
    other: Option<&Suppressing>,
) -> Result<Forecast> {
    let until = now + FORECAST_DAYS * DAY;
    let current = rules::current(c)?.rules;
    let set = set.unwrap_or(&current);
    let stage = stage(c, now, until, &coming(c, now, until, moved)?, set, other)?;
    let mut sums = Sums::of(c, &stage, now)?;
    let parts = stage.play(until + HOLD, || sums.clone(), |sums, _, which, fates| sums.add(now, which, fates))?;
    for part in parts {
        sums.merge(part);
    }
    let Sums { rows, days, pairs, .. } = sums;
    let n = rows.len();
    let some = pairs.into_iter().enumerate().filter(|(_, people)| *people > 0);
    let mut competing: Vec<Competing> =
        some.map(|(at, people)| Competing { first: rows[at / n].id, second: rows[at % n].id, people }).collect();
    competing.sort_unstable_by_key(|p| (std::cmp::Reverse(p.people), p.first, p.second));
    competing.truncate(20);
    Ok(Forecast {
        from: now.millis(),
        until: until.millis(),
        mailings: rows,
        days,
        competing,
        cap_in_force: set.caps.iter().any(|cap| cap.in_force),
    })
}

/// What the forecast adds up.
#[derive(Clone)]
struct Sums {
    midnight: i64,
    rows: Vec<MailingForecast>,
    days: Vec<ForecastDay>,
    /// For whom the mailing of a line was in the way of that of a column.
    pairs: Vec<u64>,
}

impl Sums {
    /// Nothing yet, for each mailing of the stage.
    fn of(c: &Connection, stage: &Stage, now: Instant) -> Result<Self> {
        let midnight = now.millis() - now.millis().rem_euclid(DAY);
        let days = (0..=FORECAST_DAYS).map(|d| ForecastDay { begins: midnight + d * DAY, goes: 0, held: 0, skipped: 0 }).collect();
        let mut rows = Vec::new();
        for item in &stage.items {
            let name: Option<String> =
                c.query_row("SELECT name FROM mailing WHERE id = ?1", [item.mailing.id.0], |r| r.get(0)).optional()?;
            rows.push(MailingForecast {
                id: item.mailing.id.0,
                name: name.unwrap_or_default(),
                at: item.at.millis(),
                started: item.mailing.started && !item.series,
                series: item.series,
                selected: 0,
                at_once: 0,
                later: 0,
                last_release: None,
                lost_to_caps: 0,
                barred: 0,
            });
        }
        let pairs = vec![0; rows.len() * rows.len()];
        Ok(Self { midnight, rows, days, pairs })
    }

    /// One person's messages and what becomes of them.
    fn add(&mut self, now: Instant, which: &[(usize, Instant)], fates: &[Fate]) {
        let Self { midnight, rows, days, pairs } = self;
        for ((n, at), fate) in which.iter().zip(fates) {
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
                        row.last_release = row.last_release.max(Some(goes.millis()));
                        on(at.millis(), |d| d.held += 1);
                    } else {
                        row.at_once += 1;
                    }
                    on(goes.millis(), |d| d.goes += 1);
                }
                (None, Some(why)) if lost_to_caps(why) => {
                    row.lost_to_caps += 1;
                    on(at.millis(), |d| d.skipped += 1);
                }
                _ => row.barred += 1,
            }
            let (mut after, mailings) = (fate.after, rows.len());
            while after != 0 {
                pairs[which[after.trailing_zeros() as usize].0 * mailings + *n] += 1;
                after &= after - 1;
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
        for (pair, people) in self.pairs.iter_mut().zip(part.pairs) {
            *pair += people;
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
