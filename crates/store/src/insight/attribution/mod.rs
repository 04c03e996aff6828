//! Conversions put down to mailings, by the rule in force; `kept` has what they come to, mailing by mailing.

pub mod kept;

use crate::{Result, StoreError, goals, settings};
use rinse_core::Instant;
use rinse_core::attribution::Rule;
use rinse_core::id::{ContactId, MailingId};
use rusqlite::Connection;
use serde::Serialize;
use utoipa::ToSchema;

const KEY: &str = "attribution";

/// The rule in force.
///
/// # Errors
/// When the database fails.
pub fn rule(c: &Connection) -> Result<Rule> {
    Ok(settings::get(c, KEY)?.map(|v| serde_json::from_str(&v)).transpose()?.unwrap_or_default())
}

/// # Errors
/// When the rule can't be meant.
pub fn set_rule(c: &Connection, rule: Rule, now: Instant, person: Option<i64>) -> Result<()> {
    rule.check().map_err(StoreError::Refused)?;
    let text = serde_json::to_string(&rule)?;
    settings::set(c, KEY, &text)?;
    kept::again(c)?;
    settings::audit(c, now, person, "attribution changed", "setting", 0, &text)
}

/// A person's human clicks, in time, with the mailing of each.
struct Clicks {
    at: Vec<Instant>,
    mailing: Vec<MailingId>,
}

fn clicks(c: &Connection, contact: ContactId) -> Result<Clicks> {
    let mut s = c.prepare_cached(
        "SELECT r.at, s.mailing_id FROM send s JOIN response r ON r.send_id = s.id WHERE s.contact_id = ?1 AND s.click_at IS NOT NULL
         AND r.kind = 2 AND r.machine = 0 ORDER BY r.at, r.id",
    )?;
    let rows: Vec<(i64, i64)> = s.query_map([contact.0], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    Ok(Clicks { at: rows.iter().map(|r| Instant::of(r.0)).collect(), mailing: rows.iter().map(|r| MailingId(r.1)).collect() })
}

/// The mailing that something a person did is put down to.
///
/// # Errors
/// When the database fails.
pub fn mailing_of(c: &Connection, contact: ContactId, at: Instant) -> Result<Option<MailingId>> {
    let k = clicks(c, contact)?;
    Ok(rule(c)?.click(&k.at, at).map(|i| k.mailing[i]))
}

/// What a mailing brought towards a goal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Brought {
    pub goal: i64,
    pub name: String,
    pub words: String,
    pub conversions: i64,
    /// People with at least one.
    pub people: i64,
    /// Hundredths of the currency; refunds are taken off.
    pub cents: i64,
    pub currency: String,
}

fn nothing(c: &Connection) -> Result<Vec<Brought>> {
    let row = |g: goals::Kept| Brought {
        goal: g.id,
        name: g.name,
        words: g.words,
        conversions: 0,
        people: 0,
        cents: 0,
        currency: g.goal.currency,
    };
    Ok(goals::all(c)?.into_iter().map(row).collect())
}

/// What a mailing brought towards each goal, from the sums that are kept as people buy and click. A refund goes where the person's newest earlier
/// purchase of the product went.
///
/// # Errors
/// When the database fails.
pub fn of_mailing(c: &Connection, mailing: MailingId) -> Result<Vec<Brought>> {
    let mut s = c.prepare_cached("SELECT coalesce(sum(conversions), 0), coalesce(sum(people), 0), coalesce(sum(cents), 0) FROM brought_figure WHERE goal_id = ?1 AND mailing_id = ?2")?;
    let mut out = nothing(c)?;
    for b in &mut out {
        (b.conversions, b.people, b.cents) = s.query_row([b.goal, mailing.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    }
    Ok(out)
}

/// The same counted again from the people who clicked, until an instant: what the kept sums must be once nobody is due.
///
/// # Errors
/// When the database fails.
pub fn counted_anew(c: &Connection, mailing: MailingId, until: Instant) -> Result<Vec<Brought>> {
    let (goals, rule, mut out) = (goals::all(c)?, rule(c)?, nothing(c)?);
    let people: Vec<i64> = c
        .prepare_cached("SELECT contact_id FROM send WHERE mailing_id = ?1 AND click_at IS NOT NULL")?
        .query_map([mailing.0], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for contact in people {
        let parts = kept::of_person(c, ContactId(contact), &goals, rule, until)?;
        for row in &mut out {
            let mut met = false;
            for (_, part) in parts.iter().filter(|((to, goal, _), _)| (*to, *goal) == (mailing.0, row.goal)) {
                row.conversions += part.conversions;
                row.cents += part.cents;
                met |= part.conversions > 0;
            }
            row.people += i64::from(met);
        }
    }
    Ok(out)
}
