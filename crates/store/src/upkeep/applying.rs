//! Applying cleaning runs, and undoing them within 30 days by entries of their own, a part at a time, for everyone to whom nothing happened
//! since. A deletion can't be undone.

use super::runs::{self, Then, Where, set_state, state_of};
use super::{policy, return_lines, silence, status};
use crate::codes::{BECOMES_DELETED, MEMBER_APPLIED, MEMBER_UNDOING, RUN_APPLYING, RUN_UNDOING};
use crate::ledger::{self, Origin};
use crate::stored::As;
use crate::{Result, StoreError, erasure};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::code::Code;
use rinse_core::id::ContactId;
use rinse_core::upkeep::fold::UNTIL_A_RUN;
use rinse_core::upkeep::run::{Becomes, Kind, MemberState, RunState};
use rinse_core::upkeep::{Cause, MailStatus, Policy};
use rusqlite::{Connection, OptionalExtension, params};

/// People changed in one transaction.
const AT_ONCE: i64 = 100;

/// Begins to apply a run: [`go_on`] does the rest, a part at a time.
///
/// # Errors
/// When it isn't proposed.
pub fn begin_apply(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let (kind, state) = state_of(c, id)?;
    if state != RunState::Proposed {
        return Err(StoreError::Refused(format!("The run is {state}: only a proposed one can be applied.")));
    }
    if kind == Kind::Policy {
        let run = runs::one(c, id, now)?;
        let policy = run.policy.ok_or(StoreError::Missing("policy of this run"))?;
        let version = policy::put_in_force(c, now, person, &policy, &run.note)?;
        c.execute("UPDATE cleaning_run SET policy_id = ?2 WHERE id = ?1", params![id, version])?;
    }
    c.execute(
        formatcp!("UPDATE cleaning_run SET state = {RUN_APPLYING}, counted = NULL, applied_at = ?2, send_mark = (SELECT coalesce(max(id), 0) FROM send),
            response_mark = (SELECT coalesce(max(id), 0) FROM response), purchase_mark = (SELECT coalesce(max(id), 0) FROM purchase) WHERE id = ?1"),
        params![id, now.millis()],
    )?;
    crate::settings::audit(c, now, person, "cleaning run applied", "upkeep", id, "")
}

/// Begins to undo a run, for one cause or one person where they are named: [`go_on`] does the rest.
///
/// # Errors
/// When it isn't applied, or was applied more than 30 days ago.
pub fn begin_undo(
    c: &Connection,
    id: i64,
    cause: Option<Cause>,
    contact: Option<ContactId>,
    now: Instant,
    person: Option<i64>,
) -> Result<()> {
    let run = runs::one(c, id, now)?;
    if run.state != RunState::Applied {
        return Err(StoreError::Refused(format!("The run is {}: only an applied one can be undone.", run.state)));
    }
    if !run.undoable {
        return Err(StoreError::Refused("The run was applied more than 30 days ago and can’t be undone any more.".into()));
    }
    let n = c
        .prepare_cached(
            formatcp!("UPDATE cleaning_member SET state = {MEMBER_UNDOING} WHERE run_id = ?1 AND state = {MEMBER_APPLIED} AND status_after <> {BECOMES_DELETED} AND (?2 IS NULL OR cause = ?2) AND (?3 IS NULL OR contact_id = ?3)"),
        )?
        .execute(params![id, cause.map(Code::code), contact.map(|id| id.0)])?;
    if n == 0 {
        return Err(StoreError::Refused("There is nobody left to put back.".into()));
    }
    c.execute(
        formatcp!("UPDATE cleaning_run SET state = {RUN_UNDOING}, counted = NULL, undone_at = ?2 WHERE id = ?1"),
        params![id, now.millis()],
    )?;
    crate::settings::audit(c, now, person, "cleaning run undone", "upkeep", id, &format!("for {n} people"))
}

/// Where what a run does comes from.
const BY_RUN: &str = "cleaning run";

/// The run at hand, and the policy in force while it acts.
struct Run {
    id: i64,
    kind: Kind,
    policy: Policy,
    silence: silence::Judge,
}

struct Affected {
    contact: ContactId,
    state: MemberState,
    before: Where,
    after: Then,
    why: String,
}

fn some(c: &Connection, id: i64, states: &str) -> Result<Vec<Affected>> {
    let sql = format!(
        "SELECT contact_id, state, status_before, until_before, cause_before, status_after, until_after, cause, why FROM cleaning_member
         WHERE run_id = ?1 AND state IN ({states}) LIMIT {AT_ONCE}"
    );
    let mut s = c.prepare_cached(&sql)?;
    let rows = s.query_map([id], |r| {
        let at = |n| r.get::<_, Option<i64>>(n).map(|u| u.map(Instant::of));
        Ok(Affected {
            contact: ContactId(r.get(0)?),
            state: r.get::<_, As<MemberState>>(1)?.0,
            before: (r.get::<_, As<MailStatus>>(2)?.0, at(3)?, r.get::<_, As<Cause>>(4)?.0),
            after: (r.get::<_, As<Becomes>>(5)?.0, at(6)?, r.get::<_, As<Cause>>(7)?.0),
            why: r.get(8)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

fn write_set(c: &Connection, id: i64, contact: ContactId, to: (MailStatus, Option<Instant>, Cause, &str), now: Instant) -> Result<()> {
    c.prepare_cached("INSERT INTO status_set (contact_id, at, status, until, cause, why, run_id) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?
        .execute(params![contact.0, now.millis(), to.0.code(), to.1.map(|u| u.millis()), to.2.code(), to.3, id])?;
    Ok(())
}

/// Does the next part of what a run began; true when there is more.
///
/// # Errors
/// When the database fails.
pub fn go_on(c: &Connection, id: i64, now: Instant) -> Result<bool> {
    let (kind, state) = state_of(c, id)?;
    let person: Option<i64> = c.prepare_cached("SELECT person_id FROM cleaning_run WHERE id = ?1")?.query_row([id], |r| r.get(0))?;
    let origin = Origin { source: BY_RUN, person, ..Origin::default() };
    let applies = match state {
        RunState::Applying => true,
        RunState::Undoing => false,
        _ => return Ok(false),
    };
    // What holds for all of the part.
    let run = Run { id, kind, policy: policy::current(c)?.policy, silence: silence::Judge::new(c, now)? };
    let people = some(c, id, if applies { "0, 1" } else { "7" })?;
    for p in &people {
        let to = if applies { apply(c, &run, p, now, &origin)? } else { undo(c, &run, p, now, &origin)? };
        mark(c, id, p.contact, to)?;
    }
    if people.len() == AT_ONCE as usize {
        return Ok(true);
    }
    if applies {
        set_state(c, id, RunState::Applied)?;
        // Who failed between the proposal and now was judged by the older policy.
        c.execute(
            "INSERT INTO status_due SELECT DISTINCT contact_id FROM send INDEXED BY send_failed
             WHERE failed_at >= (SELECT made_at FROM cleaning_run WHERE id = ?1) AND failed_at IS NOT NULL ON CONFLICT DO NOTHING",
            [id],
        )?;
    } else {
        let left = c
            .prepare_cached(formatcp!(
                "SELECT 1 FROM cleaning_member WHERE run_id = ?1 AND state = {MEMBER_APPLIED} AND status_after <> {BECOMES_DELETED}"
            ))?
            .exists([id])?;
        set_state(c, id, if left { RunState::Applied } else { RunState::Undone })?;
    }
    Ok(false)
}

fn mark(c: &Connection, id: i64, contact: ContactId, to: MemberState) -> Result<()> {
    c.prepare_cached(
        "UPDATE cleaning_member SET state = ?3, ledger_mark = coalesce(ledger_mark, (SELECT max(id) FROM ledger WHERE contact_id = ?2), 0) WHERE run_id = ?1 AND contact_id = ?2",
    )?
    .execute(params![id, contact.0, to.code()])?;
    Ok(())
}

fn apply(c: &Connection, run: &Run, p: &Affected, now: Instant, origin: &Origin) -> Result<MemberState> {
    let (id, kind) = (run.id, run.kind);
    let stored: Option<Where> = c
        .prepare_cached("SELECT status, status_until, status_cause FROM contact WHERE id = ?1 AND gone IS NULL")?
        .query_row([p.contact.0], status::stored)
        .optional()?;
    // What changed since it was proposed was not before anybody's eyes.
    if stored.is_none_or(|s| (s.0, s.1) != (p.before.0, p.before.1)) {
        return Ok(MemberState::Changed);
    }
    if p.state == MemberState::TakenOut {
        return stay(c, run, p, now, origin);
    }
    let origin = &Origin { evidence: p.why.clone(), ..origin.clone() };
    match p.after.0 {
        Becomes::Sunset | Becomes::KeptBack if !run.silence.still(c, p.contact)? => return Ok(MemberState::Changed),
        Becomes::Sunset => silence::sunset(c, p.contact, now, origin)?,
        Becomes::KeptBack => {
            silence::ended(c, p.contact)?;
            ledger::note(c, p.contact, now, "kept back", origin)?;
        }
        Becomes::Deleted => {
            return_lines::write(c, p.contact, id, &p.why, now)?;
            erasure::erase_by(c, p.contact, now, origin)?;
            return Ok(MemberState::Applied);
        }
        Becomes::Active | Becomes::Resting | Becomes::Observed | Becomes::Retired => {
            // The policy in force says it, where the run brought one.
            if let (Kind::Due, Some(status)) = (kind, p.after.0.status()) {
                write_set(c, id, p.contact, (status, p.after.1, p.after.2, &p.why), now)?;
            }
            status::refresh_by(c, p.contact, now, &run.policy, origin)?;
        }
    }
    Ok(MemberState::Applied)
}

/// A person took them out of the run: they stay as they are, and are watched where they were due.
fn stay(c: &Connection, run: &Run, p: &Affected, now: Instant, origin: &Origin) -> Result<MemberState> {
    let id = run.id;
    match (run.kind, p.after.0.status()) {
        (Kind::Due, Some(_)) => {
            let why = format!("A person kept it when cleaning run {id} was applied; the next mailings are watched.");
            write_set(c, id, p.contact, (MailStatus::Observed, None, Cause::Kept, &why), now)?;
        }
        (Kind::Policy, _) => {
            let why = format!("A person kept it as it was when cleaning run {id} brought the policy into force.");
            write_set(c, id, p.contact, (p.before.0, p.before.1, Cause::Kept, &why), now)?;
        }
        // Silent people are left alone for a while; a deletion is proposed again.
        (Kind::Due, None) => return Ok(MemberState::Stayed),
    }
    status::refresh_by(c, p.contact, now, &run.policy, origin)?;
    Ok(MemberState::Stayed)
}

/// Has anything happened to somebody since a run was applied to them?
fn since(c: &Connection, id: i64, contact: ContactId) -> Result<bool> {
    Ok(c.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM ledger WHERE contact_id = ?2 AND id > (SELECT ledger_mark FROM cleaning_member WHERE run_id = ?1 AND contact_id = ?2))
            OR EXISTS (SELECT 1 FROM send WHERE contact_id = ?2 AND id > r.send_mark)
            OR EXISTS (SELECT 1 FROM send s JOIN response x ON x.send_id = s.id WHERE s.contact_id = ?2 AND x.id > r.response_mark)
            OR EXISTS (SELECT 1 FROM purchase WHERE contact_id = ?2 AND id > r.purchase_mark)
            OR EXISTS (SELECT 1 FROM contact WHERE id = ?2 AND gone IS NOT NULL)
         FROM cleaning_run r WHERE r.id = ?1",
    )?
    .query_row(params![id, contact.0], |r| r.get(0))?)
}

fn undo(c: &Connection, run: &Run, p: &Affected, now: Instant, origin: &Origin) -> Result<MemberState> {
    let id = run.id;
    if since(c, id, p.contact)? {
        return Ok(MemberState::NotPutBack);
    }
    match p.after.0 {
        Becomes::Sunset => {
            let origin = Origin { evidence: format!("Cleaning run {id} was undone."), ..origin.clone() };
            ledger::take_sunset_back(c, p.contact, None, now, &origin)?;
            return Ok(MemberState::PutBack);
        }
        Becomes::KeptBack => return Ok(MemberState::PutBack),
        Becomes::Deleted => return Ok(MemberState::NotPutBack),
        Becomes::Active | Becomes::Resting | Becomes::Observed | Becomes::Retired => {}
    }
    // Who is due again is judged again by the same evidence.
    let due = p.before.0 == MailStatus::Resting && p.before.1.is_none();
    let (cause, why) = if due {
        (p.before.2, format!("{} {UNTIL_A_RUN} Run {id}, which had retired it, was undone.", p.why))
    } else {
        (Cause::PutBack, format!("Cleaning run {id} was undone: it is {} again.", p.before.0.words()))
    };
    write_set(c, id, p.contact, (p.before.0, p.before.1, cause, &why), now)?;
    status::refresh_by(c, p.contact, now, &run.policy, origin)?;
    Ok(MemberState::PutBack)
}
