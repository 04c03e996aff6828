//! What mailings brought, kept: of each person what their purchases and events are put down to, and the sums of it. Anybody who buys, does something or
//! clicks is due, and is put down again by the writer when nobody waits for it; another rule or goal puts everybody down again.

use super::{clicks, rule};
use crate::{Result, goals, settings};
use rinse_core::attribution::Rule;
use rinse_core::goal::Happened;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::words::fold;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use std::collections::{BTreeMap, HashMap};

/// How far everybody is put down by the rule and the goals in force: the last person who is. None: all are.
const AGAIN: &str = "brought_again";

/// What a person did towards a goal on a day, put down to a mailing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Part {
    pub(super) conversions: i64,
    pub(super) cents: i64,
}

/// By mailing, goal and day.
pub(super) type Parts = BTreeMap<(i64, i64, i64), Part>;

/// A person's conversions until an instant, by mailing, goal and day (UTC).
pub(super) fn of_person(c: &Connection, contact: ContactId, goals: &[goals::Kept], rule: Rule, until: Instant) -> Result<Parts> {
    let mut parts = Parts::new();
    let k = clicks(c, contact)?;
    if k.at.is_empty() {
        return Ok(parts);
    }
    let put_down = |at: Instant| rule.click(&k.at, at).map(|i| k.mailing[i]);
    let mut count = |mailing: MailingId, at: i64, what: Happened<'_>| {
        for goal in goals {
            let worth = goal.goal.worth(what);
            if worth.conversions != 0 || worth.cents != 0 {
                let part = parts.entry((mailing.0, goal.id, at.div_euclid(DAY))).or_default();
                part.conversions += worth.conversions;
                part.cents += worth.cents;
            }
        }
    };
    let mut bought =
        c.prepare_cached("SELECT at, product, category, cents, currency FROM purchase WHERE contact_id = ?1 AND at <= ?2 ORDER BY at, id")?;
    let mut rows = bought.query(params![contact.0, until.millis()])?;
    // A refund goes where the newest earlier purchase of the product went.
    let mut newest: HashMap<String, Option<i64>> = HashMap::new();
    while let Some(r) = rows.next()? {
        let (at, product, category, cents, currency): (i64, String, String, i64, String) =
            (r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?);
        let mailing = if cents < 0 {
            newest.get(&fold(&product)).copied().flatten()
        } else {
            let mailing = put_down(Instant::of(at));
            newest.insert(fold(&product), mailing.map(|id| id.0));
            mailing.map(|id| id.0)
        };
        if let Some(mailing) = mailing {
            count(MailingId(mailing), at, Happened::Purchase { product: &product, category: &category, cents, currency: &currency });
        }
    }
    let mut did = c.prepare_cached("SELECT at, name FROM event WHERE contact_id = ?1 AND at <= ?2 ORDER BY at, id")?;
    let mut rows = did.query(params![contact.0, until.millis()])?;
    while let Some(r) = rows.next()? {
        let (at, name): (i64, String) = (r.get(0)?, r.get(1)?);
        if let Some(mailing) = put_down(Instant::of(at)) {
            count(mailing, at, Happened::Event { name: &name });
        }
    }
    Ok(parts)
}

/// Adds a person's parts to the sums, or takes them off. A person counts on the first day on which they met a goal by a mailing.
fn sum(c: &Connection, parts: &Parts, times: i64) -> Result<()> {
    let mut met: Option<(i64, i64)> = None;
    for ((mailing, goal, day), part) in parts {
        let first = part.conversions > 0 && met != Some((*mailing, *goal));
        if first {
            met = Some((*mailing, *goal));
        }
        c.prepare_cached(
            "INSERT INTO brought_figure (mailing_id, goal_id, day, people, conversions, cents) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
             ON CONFLICT DO UPDATE SET people = people + excluded.people, conversions = conversions + excluded.conversions, cents = cents + excluded.cents",
        )?
        .execute(params![mailing, goal, day, times * i64::from(first), times * part.conversions, times * part.cents])?;
    }
    Ok(())
}

fn again_for(c: &Connection, contact: ContactId, goals: &[goals::Kept], rule: Rule) -> Result<()> {
    let mut s = c.prepare_cached("SELECT mailing_id, goal_id, day, conversions, cents FROM brought WHERE contact_id = ?1")?;
    let before: Parts = s
        .query_map([contact.0], |r| Ok(((r.get(0)?, r.get(1)?, r.get(2)?), Part { conversions: r.get(3)?, cents: r.get(4)? })))?
        .collect::<rusqlite::Result<_>>()?;
    let after = of_person(c, contact, goals, rule, Instant::of(i64::MAX))?;
    if before != after {
        sum(c, &before, -1)?;
        c.prepare_cached("DELETE FROM brought WHERE contact_id = ?1")?.execute([contact.0])?;
        for ((mailing, goal, day), p) in &after {
            c.prepare_cached("INSERT INTO brought VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?.execute(params![
                contact.0,
                mailing,
                goal,
                day,
                p.conversions,
                p.cents
            ])?;
        }
        sum(c, &after, 1)?;
    }
    c.prepare_cached("DELETE FROM brought_due WHERE contact_id = ?1")?.execute([contact.0])?;
    Ok(())
}

/// Puts some of those who are due down; true when something is left.
///
/// # Errors
/// When the database fails.
pub fn some(c: &Connection, most: usize) -> Result<bool> {
    let most_rows = i64::try_from(most).unwrap_or(i64::MAX);
    let mut people: Vec<i64> = c
        .prepare_cached("SELECT contact_id FROM brought_due LIMIT ?1")?
        .query_map([most_rows], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    let everybody = settings::get(c, AGAIN)?.and_then(|t| t.parse::<i64>().ok());
    let left = people.len() == most || everybody.is_some();
    if people.is_empty()
        && let Some(after) = everybody
    {
        let mut s = c.prepare_cached(
            "SELECT DISTINCT contact_id FROM (SELECT contact_id FROM purchase WHERE contact_id > ?1 UNION ALL SELECT contact_id FROM event WHERE contact_id > ?1
                UNION ALL SELECT contact_id FROM brought WHERE contact_id > ?1) ORDER BY contact_id LIMIT ?2",
        )?;
        people = s.query_map(params![after, most_rows], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
        match people.last() {
            Some(last) => settings::set(c, AGAIN, &last.to_string())?,
            None => settings::remove(c, AGAIN)?,
        }
    }
    if people.is_empty() {
        return Ok(left);
    }
    let (goals, rule) = (goals::all(c)?, rule(c)?);
    for contact in people {
        again_for(c, ContactId(contact), &goals, rule)?;
    }
    Ok(left)
}

/// Everybody is to be put down again: the rule or a goal has changed.
pub(crate) fn again(c: &Connection) -> Result<()> {
    settings::set(c, AGAIN, "0")
}

/// Is there anybody whose conversions aren't put down yet?
///
/// # Errors
/// When the database fails.
pub fn is_behind(c: &Connection) -> Result<bool> {
    Ok(settings::get(c, AGAIN)?.is_some() || c.prepare_cached("SELECT 1 FROM brought_due LIMIT 1")?.exists([])?)
}
