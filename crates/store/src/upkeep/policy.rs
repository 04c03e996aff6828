//! The upkeep policy in its versions, and what another one would change. A version is never changed; going back saves the older one again.

use super::status;
use crate::stored::ids_as;
use crate::{Result, StoreError};
use rinse_core::id::ContactId;
use rinse_core::upkeep::fold::standing;
use rinse_core::upkeep::permanence::{self, Known, Line, Tally};
use rinse_core::upkeep::{Cause, MailStatus, Outcome, Policy};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One version of the policy.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct PolicyVersion {
    pub id: i64,
    pub at: i64,
    pub person: Option<String>,
    pub policy: Policy,
    /// Why it was made.
    pub note: String,
}

const COLUMNS: &str = "SELECT v.id, v.at, p.name, v.policy, v.note FROM upkeep_policy v LEFT JOIN person p ON p.id = v.person_id";

fn read(r: &Row<'_>) -> Result<PolicyVersion> {
    let policy: String = r.get(3)?;
    Ok(PolicyVersion { id: r.get(0)?, at: r.get(1)?, person: r.get(2)?, policy: serde_json::from_str(&policy)?, note: r.get(4)? })
}

/// The policy in force.
///
/// # Errors
/// When the database fails.
pub fn current(c: &Connection) -> Result<PolicyVersion> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " ORDER BY v.id DESC LIMIT 1"))?;
    let mut rows = s.query([])?;
    rows.next()?.map_or(Err(StoreError::Missing("upkeep policy")), read)
}

/// All versions, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<PolicyVersion>> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " ORDER BY v.id DESC LIMIT 200"))?;
    let (mut rows, mut out) = (s.query([])?, Vec::new());
    while let Some(r) = rows.next()? {
        out.push(read(r)?);
    }
    Ok(out)
}

/// Puts a version in force, and says so in the audit trail. The statuses it changes are for a cleaning run to write.
pub(super) fn put_in_force(c: &Connection, now: Instant, person: Option<i64>, policy: &Policy, note: &str) -> Result<i64> {
    policy.check().map_err(|e| StoreError::Refused(e.to_string()))?;
    let id = c.query_row(
        "INSERT INTO upkeep_policy (at, person_id, policy, note) VALUES (?1, ?2, ?3, ?4) RETURNING id",
        params![now.millis(), person, serde_json::to_string(policy)?, note],
        |r| r.get(0),
    )?;
    crate::settings::audit(c, now, person, "upkeep policy changed", "upkeep", id, note)?;
    Ok(id)
}

/// Somebody whose status another policy would change.
#[derive(Debug, Clone)]
pub struct Changed {
    pub contact: ContactId,
    pub before: (MailStatus, Option<Instant>, Cause),
    pub after: rinse_core::upkeep::Standing,
}

/// What the base's own history says of permanent failures, and what a policy would change.
#[derive(Debug, Clone)]
pub struct Seen {
    pub changed: Vec<Changed>,
    pub people: u64,
    pub permanence: Vec<Line>,
}

/// What history said last, as it is kept.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[schema(as = UpkeepHistory)]
pub struct History {
    pub at: i64,
    /// Addresses to which a message failed.
    pub people: u64,
    pub permanence: Vec<Line>,
    pub suggested: Suggested,
}

const HISTORY: &str = "upkeep_history";

/// Keeps what history says, and lets those be worked out again whose status it says otherwise: deliveries have turned old enough to count.
///
/// # Errors
/// When the database fails.
pub fn note_history(c: &Connection, seen: &Seen, now: Instant) -> Result<()> {
    for p in &seen.changed {
        c.prepare_cached("INSERT INTO status_due VALUES (?1) ON CONFLICT DO NOTHING")?.execute([p.contact.0])?;
    }
    let history = History { at: now.millis(), people: seen.people, permanence: seen.permanence.clone(), suggested: seen.suggested() };
    crate::settings::set(c, HISTORY, &serde_json::to_string(&history)?)
}

/// What history said when it was last looked at.
///
/// # Errors
/// When the database fails.
pub fn history(c: &Connection) -> Result<Option<History>> {
    Ok(crate::settings::get(c, HISTORY)?.map(|h| serde_json::from_str(&h)).transpose()?)
}

/// The number of permanent failures that history suggests, and how well it is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Suggested {
    pub failures: u32,
    pub known: Known,
}

impl Seen {
    /// What history suggests.
    #[must_use]
    pub fn suggested(&self) -> Suggested {
        let (failures, known) = permanence::smallest(&self.permanence);
        Suggested { failures, known }
    }
}

/// Works out everybody's status under a policy: of everybody to whom a message failed, or on whom a run decided. `step` is told how many are
/// behind it, of how many, and stops the work by its error.
///
/// # Errors
/// When the database fails, or the work is stopped.
pub fn see(c: &Connection, policy: &Policy, now: Instant, mut step: impl FnMut(u64, u64) -> Result<()>) -> Result<Seen> {
    // Somebody to whom no message ever failed is active under any policy.
    let sql = "SELECT contact_id FROM send INDEXED BY send_failure WHERE failed_at IS NOT NULL UNION SELECT contact_id FROM status_set";
    let people: Vec<ContactId> = ids_as(c, sql, [], ContactId)?;
    let mut stored = c.prepare_cached("SELECT status, status_until, status_cause FROM contact WHERE id = ?1 AND gone IS NULL")?;
    let (mut tally, mut changed) = (Tally::default(), Vec::new());
    for (i, contact) in people.iter().enumerate() {
        if i % 1_000 == 0 {
            step(i as u64, people.len() as u64)?;
        }
        let Some(before) = stored.query_row([contact.0], status::stored).optional()? else { continue };
        let mut outcomes: Vec<Outcome> = status::outcomes(c, *contact)?;
        outcomes.sort_by_key(|o| o.at);
        tally.add(&outcomes, policy, now);
        let after = standing(&outcomes, &status::sets(c, *contact)?, policy, now);
        if (after.status, after.until) != (before.0, before.1) {
            changed.push(Changed { contact: *contact, before, after });
        }
    }
    Ok(Seen { changed, people: people.len() as u64, permanence: tally.lines() })
}

/// How often a letterhead's mail reaches somebody who gets it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Cadence {
    pub letterhead: String,
    /// The median of the days between one of its marketing messages and the next to the same person.
    pub days: f64,
    /// Gaps that it was taken from.
    pub gaps: usize,
}

/// People that the cadence is taken from.
const SAMPLE: i64 = 2_000;
/// Messages of the last so many days.
const CADENCE_DAYS: i64 = 180;

/// The base's own cadence by letterhead, from up to 2,000 people evenly spread over the base.
///
/// # Errors
/// When the database fails.
pub fn cadence(c: &Connection, now: Instant) -> Result<Vec<Cadence>> {
    let last: i64 = c.prepare_cached("SELECT coalesce(max(id), 0) FROM contact")?.query_row([], |r| r.get(0))?;
    let stride = (last / SAMPLE).max(1);
    let mut s = c.prepare_cached(
        "SELECT m.letterhead_id, s.accepted_at FROM send s INDEXED BY send_contact JOIN mailing m ON m.id = s.mailing_id
         WHERE s.contact_id = ?1 AND s.accepted_at >= ?2 AND s.class = 1 AND s.channel = 1 ORDER BY 1, 2",
    )?;
    let mut gaps: std::collections::BTreeMap<i64, Vec<i64>> = std::collections::BTreeMap::new();
    for i in 0..=last / stride {
        let mut rows = s.query([i * stride + 1, now.millis() - CADENCE_DAYS * DAY])?;
        let mut before: Option<(i64, i64)> = None;
        while let Some(r) = rows.next()? {
            let (letterhead, at): (i64, i64) = (r.get(0)?, r.get(1)?);
            if let Some((_, earlier)) = before.filter(|b| b.0 == letterhead) {
                gaps.entry(letterhead).or_default().push(at - earlier);
            }
            before = Some((letterhead, at));
        }
    }
    let mut out = Vec::new();
    for (letterhead, mut of) in gaps {
        of.sort_unstable();
        let name = c.prepare_cached("SELECT name FROM letterhead WHERE id = ?1")?.query_row([letterhead], |r| r.get(0))?;
        out.push(Cadence { letterhead: name, days: of[of.len() / 2] as f64 / DAY as f64, gaps: of.len() });
    }
    Ok(out)
}
