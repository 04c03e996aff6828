//! Cohorts, counted once a day: only people of whom something changed since are looked at again. Rules in [`rinse_core::cohort`].

use crate::stored::{As, ids_as};
use crate::{Result, Store, settings};
use rinse_core::Instant;
use rinse_core::cohort::{self, Life, Mean, Turn, bit, month};
use rinse_core::consent::{Act, Consent};
use rinse_core::id::ContactId;
use rinse_core::report::Rate;
use rinse_core::upkeep::MailStatus;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use utoipa::{IntoParams, ToSchema};

/// People counted by one change, so that nobody waits for it.
const AT_ONCE: usize = 200;
const KEY: &str = "cohorts";

/// Until where they are counted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Upto {
    contact: ContactId,
    ledger: i64,
    response: i64,
    at: i64,
}

fn upto(c: &Connection) -> Result<Upto> {
    Ok(settings::get(c, KEY)?.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default())
}

/// How a person counts; none of somebody who was merged or came by mistake.
fn life(c: &Connection, contact: ContactId) -> Result<Option<Life>> {
    let joined: Option<i64> = c
        .prepare_cached("SELECT added_at FROM contact WHERE id = ?1 AND coalesce(gone, 1) = 1")?
        .query_row([contact.0], |r| r.get(0))
        .optional()?;
    let Some(joined) = joined else { return Ok(None) };
    let mut s =
        c.prepare_cached("SELECT at, kind, until, state FROM ledger WHERE contact_id = ?1 AND channel = 1 AND entity = '' ORDER BY id")?;
    let mut ledger = Vec::new();
    let mut rows = s.query([contact.0])?;
    while let Some(r) = rows.next()? {
        let (kind, until) = (r.get::<_, String>(1)?, r.get::<_, Option<i64>>(2)?.map(Instant::of));
        let stated = r.get::<_, Option<As<Consent>>>(3)?.map(|s| Turn::Restated(s.0, until));
        let turn = stated.or_else(|| Act::of_word(&kind, until).map(Turn::Act)).or_else(|| match kind.as_str() {
            "sunset" => Some(Turn::Sunset(true)),
            "sunset lifted" | "sunset taken back" => Some(Turn::Sunset(false)),
            "deleted" => Some(Turn::Deleted),
            other => MailStatus::ALL.into_iter().find(|s| s.words() == other).map(Turn::Status),
        });
        ledger.extend(turn.map(|t| (Instant::of(r.get_unwrap(0)), t)));
    }
    let mut s = c.prepare_cached(
        "SELECT iif(opens_unknown = 0, open_at, NULL), click_at, reply_at FROM send INDEXED BY send_contact
         WHERE contact_id = ?1 AND (open_at IS NOT NULL OR click_at IS NOT NULL OR reply_at IS NOT NULL)",
    )?;
    let answers =
        s.query_map([contact.0], |r| Ok([r.get(0)?, r.get(1)?, r.get(2)?]))?.collect::<rusqlite::Result<Vec<[Option<i64>; 3]>>>()?;
    let answers: Vec<Instant> = answers.into_iter().flatten().flatten().map(Instant::of).collect();
    let mut s = c.prepare_cached("SELECT at, currency, cents FROM purchase WHERE contact_id = ?1")?;
    let bought = s
        .query_map([contact.0], |r| Ok((Instant::of(r.get(0)?), r.get(1)?, r.get(2)?)))?
        .collect::<rusqlite::Result<Vec<(Instant, String, i64)>>>()?;
    Ok(Some(Life::new(Instant::of(joined), &ledger, &answers, &bought)))
}

fn counted(c: &Connection, contact: ContactId) -> Result<Option<Life>> {
    let text: Option<String> =
        c.prepare_cached("SELECT life FROM cohort_person WHERE contact_id = ?1")?.query_row([contact.0], |r| r.get(0)).optional()?;
    Ok(text.and_then(|t| serde_json::from_str(&t).ok()))
}

/// Puts a person into the sums, or takes them out of them.
#[allow(clippy::cast_precision_loss)]
fn put(c: &Connection, life: &Life, sign: i64) -> Result<()> {
    let mut sum = c.prepare_cached(
        "INSERT INTO cohort_sum VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT DO UPDATE SET people = people + excluded.people, turned = turned + excluded.turned, answered = answered + excluded.answered",
    )?;
    let mut cells: BTreeMap<i32, [i64; 3]> = BTreeMap::from([(0, [sign, 0, 0])]);
    for (at, can) in &life.turns {
        cells.entry(at - life.joined).or_default()[1] += if *can { sign } else { -sign };
    }
    for since in (0..i32::from(cohort::MONTHS)).filter(|s| life.answered >> s & 1 == 1) {
        cells.entry(since).or_default()[2] += sign;
    }
    for (since, [people, turned, answered]) in cells {
        sum.execute(params![life.joined, since, people, turned, answered])?;
    }
    let mut bought = c.prepare_cached(
        "INSERT INTO cohort_bought VALUES (?1, ?2, ?3, ?4, ?5, ?6)
         ON CONFLICT DO UPDATE SET people = people + excluded.people, cents = cents + excluded.cents, squares = squares + excluded.squares",
    )?;
    for (since, currency, cents) in &life.bought {
        let square = (*cents as f64) * (*cents as f64) * sign as f64;
        bought.execute(params![life.joined, since, currency, sign, sign * cents, square])?;
    }
    Ok(())
}

/// Counts people again; the same again changes nothing.
///
/// # Errors
/// When the database fails.
pub fn count(c: &Connection, contacts: &[ContactId]) -> Result<()> {
    for contact in contacts {
        let (before, after) = (counted(c, *contact)?, life(c, *contact)?);
        if before != after {
            before.iter().try_for_each(|l| put(c, l, -1))?;
            after.iter().try_for_each(|l| put(c, l, 1))?;
            match &after {
                Some(l) => c
                    .prepare_cached("INSERT OR REPLACE INTO cohort_person VALUES (?1, ?2)")?
                    .execute(params![contact.0, serde_json::to_string(l)?])?,
                None => c.prepare_cached("DELETE FROM cohort_person WHERE contact_id = ?1")?.execute([contact.0])?,
            };
        }
        c.prepare_cached("DELETE FROM cohort_due WHERE contact_id = ?1")?.execute([contact.0])?;
    }
    Ok(())
}

/// Of whom something changed since they were counted, and until where that was looked for.
///
/// # Errors
/// When the database fails.
pub fn changed(c: &Connection, now: Instant) -> Result<(Vec<ContactId>, Upto)> {
    let was = upto(c)?;
    let last = |table: &str| -> Result<i64> {
        Ok(c.prepare_cached(&format!("SELECT coalesce(max(id), 0) FROM {table}"))?.query_row([], |r| r.get(0))?)
    };
    let to = Upto { contact: ContactId(last("contact")?), ledger: last("ledger")?, response: last("response")?, at: now.millis() };
    let sql =
        "SELECT id FROM contact WHERE id > ?1 UNION SELECT contact_id FROM ledger WHERE id > ?2 UNION SELECT contact_id FROM cohort_due";
    let mut out: BTreeSet<ContactId> = ids_as(c, sql, [was.contact.0, was.ledger], ContactId)?;
    // Who answered in a month in which they had answered already counts as before.
    let mut s = c.prepare_cached(
        "SELECT s.contact_id, r.at, p.life FROM response r JOIN send s ON s.id = r.send_id LEFT JOIN cohort_person p ON p.contact_id = s.contact_id
         WHERE r.id > ?1 AND r.machine = 0",
    )?;
    let mut rows = s.query([was.response])?;
    while let Some(r) = rows.next()? {
        let life = r.get::<_, Option<String>>(2)?.and_then(|t| serde_json::from_str::<Life>(&t).ok());
        let new = life.is_none_or(|l| bit(l.joined, Instant::of(r.get_unwrap(1))).is_some_and(|b| l.answered & b == 0));
        if new {
            out.insert(ContactId(r.get(0)?));
        }
    }
    Ok((out.into_iter().collect(), to))
}

/// Counts all of whom something changed, a part at a time; how many they were.
///
/// # Errors
/// When the database fails.
pub async fn refresh(store: &Store, now: Instant) -> Result<usize> {
    let (people, to) = store.read_at_leisure(move |c| changed(c, now)).await?;
    let n = people.len();
    for part in people.chunks(AT_ONCE) {
        let part = part.to_vec();
        store.write(move |c| count(c, &part)).await?;
    }
    // What came in meanwhile has later numbers.
    store.write(move |c| counted_upto(c, to)).await?;
    Ok(n)
}

/// All who had changed until there are counted.
///
/// # Errors
/// When the database fails.
pub fn counted_upto(c: &Connection, to: Upto) -> Result<()> {
    settings::set(c, KEY, &serde_json::to_string(&to)?)
}

/// How many cohorts are asked for: a year's when nothing is said.
#[derive(Debug, Clone, Copy, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Months {
    /// So many cohorts, the newest ones.
    #[param(minimum = 1, maximum = 64)]
    pub months: Option<i32>,
}

impl Months {
    #[must_use]
    pub fn shown(&self) -> i32 {
        self.months.unwrap_or(12)
    }
}

/// What became of the people of one month, some months later.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = CohortCell)]
pub struct Cell {
    /// Whole months since the one of joining.
    pub since: i32,
    /// Can still be mailed at that month's end, of those who joined.
    pub mailable: Rate,
    /// Opened where it can be known, clicked or replied in that month, of those who joined.
    pub answered: Rate,
    /// What they spent in that month, by currency.
    pub spent: BTreeMap<String, Spent>,
}

#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct Spent {
    /// Hundredths of the month, refunds taken off.
    pub cents: i64,
    pub buyers: i64,
    /// Hundredths for each person who joined …
    pub each: f64,
    /// … with its limits; none where people are few.
    pub mean: Option<Mean>,
}

#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Cohort {
    /// As in "Apr 2026".
    pub name: String,
    pub people: u64,
    pub cells: Vec<Cell>,
}

#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Cohorts {
    pub cohorts: Vec<Cohort>,
    /// All of them together, of each month since those cohorts that it is over for.
    pub together: Vec<Cell>,
    pub currencies: Vec<String>,
    /// When they were counted; none: not yet.
    pub counted_at: Option<i64>,
}

/// What people of one month, or of several, add up to some months later.
#[derive(Debug, Clone, Default)]
struct Sums {
    people: u64,
    mailable: i64,
    answered: i64,
    bought: BTreeMap<String, (i64, i64, f64)>,
}

impl Sums {
    fn add(&mut self, other: &Self) {
        self.people += other.people;
        self.mailable += other.mailable;
        self.answered += other.answered;
        for (currency, (buyers, cents, squares)) in &other.bought {
            let sum = self.bought.entry(currency.clone()).or_default();
            *sum = (sum.0 + buyers, sum.1 + cents, sum.2 + squares);
        }
    }

    #[allow(clippy::cast_precision_loss)]
    fn cell(&self, since: i32) -> Cell {
        let spent = |(currency, &(buyers, cents, squares)): (&String, &(i64, i64, f64))| {
            let spent = Spent {
                cents,
                buyers,
                each: cents as f64 / self.people.max(1) as f64,
                mean: cohort::mean(self.people, cents as f64, squares),
            };
            (currency.clone(), spent)
        };
        Cell {
            since,
            mailable: Rate::new(self.mailable.unsigned_abs(), self.people),
            answered: Rate::new(self.answered.unsigned_abs(), self.people),
            spent: self.bought.iter().map(spent).collect(),
        }
    }
}

/// The last `months` cohorts as they were counted, the oldest first; the current month isn't over, and stands last of each.
///
/// # Errors
/// When the database fails.
pub fn told(c: &Connection, months: i32) -> Result<Cohorts> {
    let at = upto(c)?.at;
    let this = month(Instant::of(at));
    let first = this - months.clamp(1, i32::from(cohort::MONTHS)) + 1;
    let mut sums: BTreeMap<i32, BTreeMap<i32, [i64; 3]>> = BTreeMap::new();
    let mut s = c.prepare_cached("SELECT joined, since, people, turned, answered FROM cohort_sum WHERE joined BETWEEN ?1 AND ?2")?;
    let mut rows = s.query([first, this])?;
    while let Some(r) = rows.next()? {
        sums.entry(r.get(0)?).or_default().insert(r.get(1)?, [r.get(2)?, r.get(3)?, r.get(4)?]);
    }
    let mut bought: BTreeMap<(i32, i32), BTreeMap<String, (i64, i64, f64)>> = BTreeMap::new();
    let mut currencies = BTreeSet::new();
    let mut s = c.prepare_cached(
        "SELECT joined, since, currency, people, cents, squares FROM cohort_bought WHERE joined BETWEEN ?1 AND ?2 AND people > 0",
    )?;
    let mut rows = s.query([first, this])?;
    while let Some(r) = rows.next()? {
        let currency: String = r.get(2)?;
        currencies.insert(currency.clone());
        bought.entry((r.get(0)?, r.get(1)?)).or_default().insert(currency, (r.get(3)?, r.get(4)?, r.get(5)?));
    }
    let (mut cohorts, mut together) = (Vec::new(), BTreeMap::<i32, Sums>::new());
    for (joined, cells) in sums {
        let people = cells.get(&0).map_or(0, |c| c[0]).unsigned_abs();
        if people == 0 {
            continue;
        }
        let (mut mailable, mut told) = (0, Vec::new());
        for since in 0..=this - joined {
            let [_, turned, answered] = cells.get(&since).copied().unwrap_or_default();
            mailable += turned;
            let sums = Sums { people, mailable, answered, bought: bought.remove(&(joined, since)).unwrap_or_default() };
            if joined + since < this {
                together.entry(since).or_default().add(&sums);
            }
            told.push(sums.cell(since));
        }
        cohorts.push(Cohort { name: cohort::words(joined), people, cells: told });
    }
    Ok(Cohorts {
        cohorts,
        together: together.into_iter().map(|(since, sums)| sums.cell(since)).collect(),
        currencies: currencies.into_iter().collect(),
        counted_at: (at > 0).then_some(at),
    })
}
