//! What was decided, kept: "why did I get this?" and "why didn't they?" a year later.
//!
//! A message that went carries its instant and the version of the rules it was cleared under. Every
//! hold and bar is a row of its own, with the caps and lists behind it in words, as they were then.

use crate::rules::RulesVersion;
use crate::{Result, suppression};
use rinse_core::Instant;
use rinse_core::clearance::{Outcome, Reason, Reasons};
use rinse_core::id::{ContactId, MailingId};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// Writes holds and bars with the words behind them.
pub struct Recorder {
    lists: Vec<String>,
    known: HashMap<(u32, u64), Option<String>>,
}

impl Recorder {
    /// `lists`: the suppression lists asked, by their bits.
    ///
    /// # Errors
    /// When the database fails.
    pub fn new(c: &Connection, lists: &[i64]) -> Result<Self> {
        let names = suppression::names(c)?;
        Ok(Self { lists: lists.iter().map(|id| names.get(id).cloned().unwrap_or_default()).collect(), known: HashMap::new() })
    }

    /// `rules`: those it was decided under, the same for all that one recorder writes.
    ///
    /// # Errors
    /// When the database fails.
    pub fn write(
        &mut self,
        c: &Connection,
        rules: &RulesVersion,
        mailing: MailingId,
        contact: ContactId,
        at: Instant,
        outcome: Outcome,
    ) -> Result<()> {
        let (code, until, why) = match outcome {
            Outcome::Cleared => return Ok(()),
            Outcome::Held(until, why) => (1, Some(until.millis()), why),
            Outcome::Barred(why) => (2, None, why),
        };
        let detail = self.known.entry((why.caps, why.lists)).or_insert_with(|| detail(rules, &self.lists, why));
        c.prepare_cached("INSERT INTO decision VALUES (?1,?2,?3,?4,?5,?6,?7,?8) ON CONFLICT DO UPDATE SET rules_version = ?4, outcome = ?5, until = ?6, reasons = ?7, detail = ?8")?
            .execute(params![contact.0, mailing.0, at.millis(), rules.id, code, until, why.code(), &*detail])?;
        Ok(())
    }
}

/// The caps and lists behind a decision, in words.
#[must_use]
pub fn detail(rules: &RulesVersion, lists: &[String], why: Reasons) -> Option<String> {
    let caps = rules.rules.caps.iter().enumerate().filter(|(i, _)| why.caps & (1 << i) != 0).map(|(_, cap)| format!("cap {}", cap.words()));
    let named = lists.iter().enumerate().filter(|(i, _)| why.lists & (1 << i) != 0).map(|(_, name)| format!("list {name}"));
    let words: Vec<String> = caps.chain(named).collect();
    (!words.is_empty()).then(|| words.join(", "))
}

/// One decision, as a person's page shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = ClearanceDecision)]
pub struct Decision {
    pub at: i64,
    pub mailing_id: MailingId,
    pub mailing: String,
    pub rules_version: i64,
    /// cleared, held or barred
    pub outcome: String,
    pub until: Option<i64>,
    pub reasons: Vec<Reason>,
    pub words: Vec<String>,
    pub detail: Option<String>,
}

/// What was decided about a person, the newest first; of one mailing, when it is given.
///
/// # Errors
/// When the database fails.
pub fn of_contact(c: &Connection, contact: ContactId, mailing: Option<MailingId>) -> Result<Vec<Decision>> {
    let mut s = c.prepare_cached(
        "SELECT at, mailing_id, m.name, rules_version, outcome, until, reasons, detail FROM decision d JOIN mailing m ON m.id = mailing_id
            WHERE d.contact_id = ?1 AND (?2 IS NULL OR mailing_id = ?2)
         UNION ALL SELECT s.handed_at, s.mailing_id, m.name, coalesce(s.rules_version, 1), 0, NULL, 0, NULL FROM send s JOIN mailing m ON m.id = s.mailing_id
            WHERE s.contact_id = ?1 AND s.handed_at IS NOT NULL AND (?2 IS NULL OR s.mailing_id = ?2) ORDER BY 1 DESC LIMIT 500",
    )?;
    let rows = s.query_map(params![contact.0, mailing.map(|id| id.0)], |r| {
        let reasons: Vec<Reason> = Reasons::from_code(r.get(6)?).iter().collect();
        Ok(Decision {
            at: r.get(0)?,
            mailing_id: MailingId(r.get(1)?),
            mailing: r.get(2)?,
            rules_version: r.get(3)?,
            outcome: ["cleared", "held", "barred"][usize::try_from(r.get::<_, i64>(4)?).unwrap_or(0).min(2)].into(),
            until: r.get(5)?,
            words: reasons.iter().map(|r| r.words().to_owned()).collect(),
            reasons,
            detail: r.get(7)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
