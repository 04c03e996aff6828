//! The stored mail status is what the fold over the outcomes that count gives at any instant: it is worked out again at each failure, when a
//! rest ends, daily for who is observed, and for everybody that a decision is about.

use super::policy;
use crate::Result;
use crate::codes::{ACTIVE, RESTING};
use crate::ledger::{self, Origin, Says};
use crate::stored::{As, ids_as};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::bounce::Category;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::upkeep::{Cause, Happened, MailStatus, Outcome, Policy, Set, Standing, standing};
use rusqlite::{Connection, OptionalExtension, Row, params};

/// How the mailings to a contact's present address ended. A text message says nothing of an address, and failures of an incident count only
/// once a person says so.
///
/// # Errors
/// When the database fails.
pub fn outcomes(c: &Connection, contact: ContactId) -> Result<Vec<Outcome>> {
    let mut s = c.prepare_cached(
        "SELECT s.mailing_id, s.accepted_at, s.failed_at, s.category, s.open_at, s.click_at, s.reply_at,
            s.failed_at IS NOT NULL AND EXISTS (SELECT 1 FROM contact k JOIN incident_domain x ON x.mailing_id = s.mailing_id AND x.domain_id = k.domain_id
                JOIN incident i ON i.id = x.incident_id WHERE k.id = ?1 AND i.decision IS NOT 1)
         FROM send s WHERE s.contact_id = ?1 AND s.address_of IS NULL AND s.channel = 1 AND (s.accepted_at IS NOT NULL OR s.failed_at IS NOT NULL)",
    )?;
    let (mut rows, mut out) = (s.query([contact.0])?, Vec::new());
    while let Some(r) = rows.next()? {
        let mailing = MailingId(r.get(0)?);
        let at = |n| r.get::<_, Option<i64>>(n).map(|at| at.map(Instant::of));
        match (at(2)?, at(1)?) {
            (Some(_), _) if r.get(7)? => {}
            (Some(failed), _) => {
                let category = r.get::<_, Option<i64>>(3)?.map_or(Category::Unknown, Category::from_code);
                out.push(Outcome { mailing, at: failed, what: Happened::Failed(category) });
            }
            (None, Some(accepted)) => out.push(Outcome { mailing, at: accepted, what: Happened::Accepted }),
            (None, None) => {}
        }
        for n in 4..=6 {
            out.extend(at(n)?.map(|at| Outcome { mailing, at, what: Happened::Answered }));
        }
    }
    Ok(out)
}

/// What cleaning runs wrote of somebody.
///
/// # Errors
/// When the database fails.
pub fn sets(c: &Connection, contact: ContactId) -> Result<Vec<Set>> {
    let mut s = c.prepare_cached("SELECT at, status, until, cause, why FROM status_set WHERE contact_id = ?1 ORDER BY at, id")?;
    let rows = s.query_map([contact.0], |r| {
        Ok(Set {
            at: Instant::of(r.get(0)?),
            status: r.get::<_, As<MailStatus>>(1)?.0,
            until: r.get::<_, Option<i64>>(2)?.map(Instant::of),
            cause: r.get::<_, As<Cause>>(3)?.0,
            why: r.get(4)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Reads `status, status_until, status_cause`.
pub(super) fn stored(r: &Row<'_>) -> rusqlite::Result<(MailStatus, Option<Instant>, Cause)> {
    Ok((r.get::<_, As<MailStatus>>(0)?.0, r.get::<_, Option<i64>>(1)?.map(Instant::of), r.get::<_, As<Cause>>(2)?.0))
}

/// Where somebody's address stands, worked out from its history under the policy in force.
///
/// # Errors
/// When the database fails.
pub fn now(c: &Connection, contact: ContactId, at: Instant) -> Result<Standing> {
    now_under(c, contact, at, &policy::current(c)?.policy)
}

/// As [`now`], under a policy that was read before.
pub(super) fn now_under(c: &Connection, contact: ContactId, at: Instant, policy: &Policy) -> Result<Standing> {
    Ok(standing(&outcomes(c, contact)?, &sets(c, contact)?, policy, at))
}

/// Where somebody's address stood at an instant, by the ledger.
///
/// # Errors
/// When the database fails.
pub fn then(c: &Connection, contact: ContactId, at: Instant) -> Result<(MailStatus, Option<Instant>, String)> {
    let found: Option<(String, Option<i64>, String)> = c
        .prepare_cached(
            "SELECT kind, until, evidence FROM ledger WHERE contact_id = ?1 AND at <= ?2 AND kind IN ('active', 'resting', 'observed', 'retired') ORDER BY id DESC LIMIT 1",
        )?
        .query_row(params![contact.0, at.millis()], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))
        .optional()?;
    let Some((kind, until, why)) = found else { return Ok((MailStatus::Active, None, String::new())) };
    let status = MailStatus::ALL.into_iter().find(|s| s.words() == kind).unwrap_or(MailStatus::Active);
    Ok((status, until.map(Instant::of), why))
}

/// Where what the rules do by themselves comes from.
pub const RULES: &str = "bounce rules";

/// Works the mail status out again and records a change with its cause.
///
/// # Errors
/// When the database fails.
pub fn refresh(c: &Connection, contact: ContactId, at: Instant) -> Result<Standing> {
    refresh_by(c, contact, at, &policy::current(c)?.policy, &by_rules())
}

fn by_rules() -> Origin {
    Origin { source: RULES, ..Origin::default() }
}

/// As [`refresh`], under a policy that was read before, and where something else than the rules may have made it change.
pub(super) fn refresh_by(c: &Connection, contact: ContactId, at: Instant, policy: &Policy, by: &Origin) -> Result<Standing> {
    let (status, until, cause) =
        c.prepare_cached("SELECT status, status_until, status_cause FROM contact WHERE id = ?1")?.query_row([contact.0], stored)?;
    let s = now_under(c, contact, at, policy)?;
    let moved = (s.status, s.until) != (status, until);
    if moved {
        let origin = Origin { evidence: s.why.clone(), ..by.clone() };
        ledger::append(c, contact, &Says { until: s.until.map(|u| u.millis()), ..ledger::says(at, s.status.words()) }, &origin)?;
    }
    if moved || (s.cause != cause && s.status != MailStatus::Active) {
        c.prepare_cached(
            "UPDATE contact SET status = ?2, status_until = ?3, status_cause = ?4, status_at = iif(?6, ?5, status_at) WHERE id = ?1",
        )?
        .execute(params![contact.0, s.status as i64, s.until.map(|u| u.millis()), s.cause as i64, at.millis(), moved])?;
    }
    Ok(s)
}

/// Works out many, under the policy in force.
fn refresh_all(c: &Connection, contacts: &[ContactId], at: Instant) -> Result<()> {
    if contacts.is_empty() {
        return Ok(());
    }
    let (policy, by) = (policy::current(c)?.policy, by_rules());
    contacts.iter().try_for_each(|id| refresh_by(c, *id, at, &policy, &by).map(drop))
}

/// Contacts whose rest is over by `now`.
///
/// # Errors
/// When the database fails.
pub fn end_rests(c: &Connection, now: Instant) -> Result<usize> {
    let sql = formatcp!("SELECT id FROM contact WHERE status = {RESTING} AND status <> {ACTIVE} AND status_until <= ?1");
    let due: Vec<ContactId> = ids_as(c, sql, [now.millis()], ContactId)?;
    refresh_all(c, &due, now)?;
    Ok(due.len())
}

/// People worked out again by one change.
const SETTLED_AT_ONCE: u32 = 100;

/// Works some of those out again that a decision was about; true when there are more.
///
/// # Errors
/// When the database fails.
pub fn settle_due(c: &Connection, now: Instant) -> Result<bool> {
    let sql = "SELECT contact_id FROM status_due ORDER BY contact_id LIMIT ?1";
    let some: Vec<ContactId> = ids_as(c, sql, [SETTLED_AT_ONCE], ContactId)?;
    refresh_all(c, &some, now)?;
    for &id in &some {
        c.prepare_cached("DELETE FROM status_due WHERE contact_id = ?1")?.execute([id.0])?;
    }
    Ok(some.len() == SETTLED_AT_ONCE as usize)
}

/// Is anybody to be worked out again?
///
/// # Errors
/// When the database fails.
pub fn anybody_due(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM status_due LIMIT 1")?.exists([])?)
}
