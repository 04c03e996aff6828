//! What hosts said over the last 90 days, addresses and numbers masked so that lines of the same kind fall together.

use crate::Result;
use rinse_core::bounce::{Category, FailureClass, masked};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};
use utoipa::ToSchema;

/// It looks back so far …
const DAYS: i64 = 90;
/// … at so many failures at most, the newest.
const MOST: i64 = 200_000;
/// Lines that are shown; more of them would be rare ones.
const LINES: usize = 500;
/// Domains that are named of a line.
const NAMED: usize = 3;

/// A domain and how many messages to it failed with a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = SaidAt)]
pub struct At {
    pub domain: String,
    pub messages: u64,
}

/// A line, as hosts gave it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = SaidLine)]
pub struct Line {
    pub line: String,
    pub category: Category,
    pub reason: String,
    pub class: &'static str,
    /// Does it count against the address?
    pub counts: bool,
    pub messages: u64,
    /// Domains that said it, and those that did most.
    pub domains: u64,
    pub at: Vec<At>,
    pub last_at: i64,
}

/// Failures by reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = SaidReason)]
pub struct Reason {
    pub reason: String,
    pub class: &'static str,
    pub counts: bool,
    pub messages: u64,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Said {
    pub since: i64,
    pub messages: u64,
    /// There were more failures than were looked at.
    pub cut: bool,
    pub reasons: Vec<Reason>,
    pub lines: Vec<Line>,
}

fn class_words(class: FailureClass) -> &'static str {
    match class {
        FailureClass::Permanent => "permanent",
        FailureClass::Temporary => "temporary",
        FailureClass::Block => "block, about us",
        FailureClass::Unknown => "unknown",
    }
}

#[derive(Default)]
struct Sum {
    messages: u64,
    last: i64,
    at: HashMap<i64, u64>,
}

/// Reads what hosts said.
///
/// # Errors
/// When the database fails.
pub fn said(c: &Connection, now: Instant) -> Result<Said> {
    let since = now.millis() - DAYS * DAY;
    let mut s = c.prepare_cached(
        "SELECT coalesce(s.reply, ''), s.category, s.failed_at, k.domain_id FROM send s INDEXED BY send_failed JOIN contact k ON k.id = s.contact_id
         WHERE s.failed_at >= ?1 AND s.failed_at IS NOT NULL AND s.channel = 1 ORDER BY s.failed_at DESC LIMIT ?2",
    )?;
    let mut rows = s.query(params![since, MOST])?;
    let (mut sums, mut messages): (HashMap<(i64, String), Sum>, u64) = (HashMap::new(), 0);
    while let Some(r) = rows.next()? {
        messages += 1;
        let category = r.get::<_, Option<i64>>(1)?.map_or(Category::Unknown, Category::from_code);
        let line = masked(r.get_ref(0)?.as_str().map_err(rusqlite::Error::from)?);
        let sum = sums.entry((category as i64, line)).or_default();
        sum.messages += 1;
        sum.last = sum.last.max(r.get(2)?);
        *sum.at.entry(r.get(3)?).or_default() += 1;
    }
    let mut reasons: BTreeMap<i64, u64> = BTreeMap::new();
    for ((category, _), sum) in &sums {
        *reasons.entry(*category).or_default() += sum.messages;
    }
    let mut reasons: Vec<Reason> = reasons
        .into_iter()
        .map(|(code, messages)| {
            let category = Category::from_code(code);
            let class = category.class();
            Reason { reason: category.words().to_owned(), class: class_words(class), counts: class.counts_against_address(), messages }
        })
        .collect();
    reasons.sort_by_key(|r| std::cmp::Reverse(r.messages));
    let mut all: Vec<((i64, String), Sum)> = sums.into_iter().collect();
    all.sort_by(|a, b| b.1.messages.cmp(&a.1.messages).then_with(|| a.0.cmp(&b.0)));
    all.truncate(LINES);
    let mut name = c.prepare_cached("SELECT name FROM domain WHERE id = ?1")?;
    let mut lines = Vec::new();
    for ((code, line), sum) in all {
        let mut at: Vec<(i64, u64)> = sum.at.iter().map(|(d, n)| (*d, *n)).collect();
        at.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        let at = at
            .into_iter()
            .take(NAMED)
            .map(|(id, messages)| Ok(At { domain: name.query_row([id], |r| r.get(0))?, messages }))
            .collect::<Result<_>>()?;
        let category = Category::from_code(code);
        lines.push(Line {
            line,
            category,
            reason: category.words().to_owned(),
            class: class_words(category.class()),
            counts: category.class().counts_against_address(),
            messages: sum.messages,
            domains: sum.at.len() as u64,
            at,
            last_at: sum.last,
        });
    }
    Ok(Said { since, messages, cut: messages == MOST.unsigned_abs(), reasons, lines })
}
