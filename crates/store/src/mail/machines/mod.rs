//! The rules that tell machines' responses from people's, in their versions: a version is never changed, and going back saves the older one
//! again. `judging` goes by them, `opens` finds domains that fetch images by themselves, `past` tries other rules on what is stored.

pub mod judging;
pub mod opens;
pub mod origins;
pub mod past;

use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::response::{Machine, Rules};
use rusqlite::{Connection, Row, params};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::ToSchema;

/// One version of the rules.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = MachineRulesVersion)]
pub struct Version {
    pub id: i64,
    pub at: i64,
    pub person: Option<String>,
    pub rules: Rules,
    /// Why it was made.
    pub note: String,
    /// When all stored responses had been judged by it; none: that is still going on.
    pub done_at: Option<i64>,
    /// What that changed.
    pub changed: Option<Changes>,
}

/// Messages whose human open or click is taken out, and whose is brought back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[schema(as = TakenOutAndBack)]
pub struct Moved {
    pub out: u64,
    pub back: u64,
}

impl Moved {
    fn count(&mut self, before: bool, after: bool) {
        self.out += u64::from(before && !after);
        self.back += u64::from(!before && after);
    }

    fn all(self) -> u64 {
        self.out + self.back
    }

    fn add(&mut self, other: Self) {
        self.out += other.out;
        self.back += other.back;
    }
}

/// Opens and clicks that change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[schema(as = OpensAndClicksMoved)]
pub struct Both {
    pub opens: Moved,
    pub clicks: Moved,
}

impl Both {
    fn add(&mut self, other: Self) {
        self.opens.add(other.opens);
        self.clicks.add(other.clicks);
    }

    fn all(self) -> u64 {
        self.opens.all() + self.clicks.all()
    }
}

/// What judging stored responses again changes, counted in messages.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[schema(as = MachineChanges)]
pub struct Changes {
    /// Messages with an open or a click that were judged.
    pub judged: u64,
    /// Of messages in trials: these keep the rules that their trial was sealed with.
    pub kept: u64,
    pub all: Both,
    /// By the rule that takes out, or that took out what is brought back.
    pub rules: BTreeMap<Machine, Both>,
    /// By the recipients' domain.
    pub domains: BTreeMap<String, Both>,
}

/// Domains told one by one; what more there are is told together.
const TOLD: usize = 100;
const OTHERS: &str = "all others";

impl Changes {
    /// Adds another part's, and keeps the domains where most changes.
    pub fn add(&mut self, other: Self) {
        self.judged += other.judged;
        self.kept += other.kept;
        self.all.add(other.all);
        for (rule, both) in other.rules {
            self.rules.entry(rule).or_default().add(both);
        }
        for (domain, both) in other.domains {
            self.domains.entry(domain).or_default().add(both);
        }
        if self.domains.len() > 2 * TOLD {
            let mut by: Vec<(String, Both)> = std::mem::take(&mut self.domains).into_iter().filter(|d| d.0 != OTHERS).collect();
            by.sort_by_key(|d| std::cmp::Reverse(d.1.all()));
            let mut others = Both::default();
            by.drain(TOLD..).for_each(|d| others.add(d.1));
            self.domains = by.into_iter().collect();
            self.domains.entry(OTHERS.into()).or_default().add(others);
        }
    }
}

const COLUMNS: &str =
    "SELECT v.id, v.at, p.name, v.rules, v.note, v.done_at, v.changed FROM machine_rules v LEFT JOIN person p ON p.id = v.person_id";

fn read(r: &Row<'_>) -> Result<Version> {
    let (rules, changed): (String, Option<String>) = (r.get(3)?, r.get(6)?);
    Ok(Version {
        id: r.get(0)?,
        at: r.get(1)?,
        person: r.get(2)?,
        rules: serde_json::from_str(&rules)?,
        note: r.get(4)?,
        done_at: r.get(5)?,
        changed: changed.map(|text| serde_json::from_str(&text)).transpose()?,
    })
}

/// The version in force.
///
/// # Errors
/// When the database fails.
pub fn current(c: &Connection) -> Result<Version> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " ORDER BY v.id DESC LIMIT 1"))?;
    let mut rows = s.query([])?;
    rows.next()?.map_or(Err(StoreError::Missing("machine rules")), read)
}

/// All versions, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Version>> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " ORDER BY v.id DESC LIMIT 200"))?;
    let (mut rows, mut out) = (s.query([])?, Vec::new());
    while let Some(r) = rows.next()? {
        out.push(read(r)?);
    }
    Ok(out)
}

thread_local! {
    /// The rules that this thread read last, with their text: every hit asks for them, and reading them costs more than all the rest of it.
    static READ_LAST: RefCell<Option<(String, Arc<Rules>)>> = const { RefCell::new(None) };
}

/// The number and rules in force, or those that were at an instant.
fn in_force(c: &Connection, at: Option<i64>) -> Result<(i64, Arc<Rules>)> {
    let mut s = c.prepare_cached("SELECT id, rules FROM machine_rules WHERE ?1 IS NULL OR at <= ?1 ORDER BY id DESC LIMIT 1")?;
    let mut rows = s.query([at])?;
    let row = rows.next()?.ok_or(rusqlite::Error::QueryReturnedNoRows)?;
    let (id, text) = (row.get(0)?, row.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?);
    READ_LAST.with_borrow_mut(|last| {
        if let Some((of, rules)) = last
            && of == text
        {
            return Ok((id, Arc::clone(rules)));
        }
        let rules: Arc<Rules> = Arc::new(serde_json::from_str(text)?);
        *last = Some((text.to_owned(), Arc::clone(&rules)));
        Ok((id, rules))
    })
}

/// The rules of each version, by its number.
///
/// # Errors
/// When the database fails.
pub fn by_version(c: &Connection) -> Result<BTreeMap<i64, Rules>> {
    let mut s = c.prepare_cached("SELECT id, rules FROM machine_rules")?;
    let (mut rows, mut out) = (s.query([])?, BTreeMap::new());
    while let Some(r) = rows.next()? {
        out.insert(r.get(0)?, serde_json::from_str(&r.get::<_, String>(1)?)?);
    }
    Ok(out)
}

/// Puts a version in force. What comes in from now on is judged by it; what is stored is judged again in the background. Nothing happens when
/// these are the rules in force.
///
/// # Errors
/// Rules that can't be meant, or when the database fails.
pub fn put_in_force(c: &Connection, now: Instant, person: Option<i64>, rules: &Rules, note: &str) -> Result<i64> {
    rules.check().map_err(|e| StoreError::Refused(e.to_string()))?;
    let before = current(c)?;
    if before.rules == *rules {
        return Ok(before.id);
    }
    let id = c.query_row(
        "INSERT INTO machine_rules (at, person_id, rules, note) VALUES (?1, ?2, ?3, ?4) RETURNING id",
        params![now.millis(), person, serde_json::to_string(rules)?, note],
        |r| r.get(0),
    )?;
    // An older one that is still at work is left where it is: the newer goes over everything.
    c.execute("UPDATE machine_rules SET done_at = ?2 WHERE id < ?1 AND done_at IS NULL", params![id, now.millis()])?;
    opens::by_other_rules(c, &before.rules, rules, now)?;
    crate::settings::audit(c, now, person, "machine rules changed", "machine rules", id, note)?;
    Ok(id)
}
