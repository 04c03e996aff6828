//! Cleaning runs: proposed, and read by a person who may take single people out; [`super::applying`] applies and undoes them.
//!
//! A run decides on what is due ([`Kind::Due`]): addresses to retire, silent people to sunset, addresses to delete; or it brings a version of
//! the policy into force ([`Kind::Policy`]). What it does to each person stands in `cleaning_member` with what was before.

use super::effects::Effect;
use super::policy::{self, Changed};
use super::{silence, status};
use crate::codes::{
    ACTIVE, MEMBER_APPLIED, MEMBER_CHANGED, MEMBER_NOT_PUT_BACK, MEMBER_PUT_BACK, MEMBER_STAYED, MEMBER_TAKEN_OUT, MEMBER_UNDOING, RESTING,
    RETIRED, RUN_APPLYING, RUN_DROPPED, RUN_PROPOSED, RUN_PROPOSING, RUN_UNDOING,
};
use crate::stored::{As, Worded, ids_as};
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::code::Code;
use rinse_core::id::ContactId;
use rinse_core::upkeep::run::{Becomes, Kind, MemberState, RunState};
use rinse_core::upkeep::{Cause, MailStatus, Policy};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How long a run can be undone.
pub const UNDOABLE_FOR: i64 = 30 * DAY;
/// People put on a run in one transaction.
const PUT_AT_ONCE: usize = 2_000;

/// A cleaning run.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct CleaningRun {
    pub id: i64,
    pub kind: Kind,
    pub state: RunState,
    pub made_at: i64,
    pub person: Option<String>,
    pub note: String,
    /// The version of the policy that it brought into force.
    pub policy_id: Option<i64>,
    /// The policy that it would bring into force.
    pub policy: Option<Policy>,
    pub applied_at: Option<i64>,
    pub undone_at: Option<i64>,
    pub undoable: bool,
    pub effect: Option<Effect>,
    pub groups: Vec<Group>,
}

/// People of a run with the same cause and the same change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = CleaningGroup)]
pub struct Group {
    pub cause: Cause,
    pub words: String,
    pub before: MailStatus,
    pub after: Becomes,
    pub people: i64,
    pub taken_out: i64,
    pub applied: i64,
    pub put_back: i64,
    pub not_put_back: i64,
    pub changed: i64,
}

fn run(c: &Connection, r: &Row<'_>, now: Instant) -> Result<CleaningRun> {
    let (kind, state, applied_at) = (r.get::<_, Worded<Kind>>(1)?.0, r.get::<_, Worded<RunState>>(2)?.0, r.get::<_, Option<i64>>(8)?);
    let text = |n| r.get::<_, Option<String>>(n);
    let id = r.get(0)?;
    Ok(CleaningRun {
        id,
        kind,
        state,
        made_at: r.get(3)?,
        person: r.get(4)?,
        note: r.get(5)?,
        policy_id: r.get(6)?,
        policy: text(7)?.map(|p| serde_json::from_str(&p)).transpose()?,
        applied_at,
        undone_at: r.get(9)?,
        undoable: state == RunState::Applied && applied_at.is_some_and(|at| now.millis() - at <= UNDOABLE_FOR),
        effect: text(10)?.map(|e| serde_json::from_str(&e)).transpose()?,
        groups: match text(11)? {
            Some(counted) => serde_json::from_str(&counted)?,
            None => groups(c, id)?,
        },
    })
}

const COLUMNS: &str =
    "SELECT r.id, r.kind, r.state, r.made_at, p.name, r.note, r.policy_id, r.policy, r.applied_at, r.undone_at, r.effect, r.counted
    FROM cleaning_run r LEFT JOIN person p ON p.id = r.person_id";

/// The newest runs.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection, now: Instant) -> Result<Vec<CleaningRun>> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " ORDER BY r.id DESC LIMIT 100"))?;
    let (mut rows, mut out) = (s.query([])?, Vec::new());
    while let Some(r) = rows.next()? {
        out.push(run(c, r, now)?);
    }
    Ok(out)
}

/// # Errors
/// When there is no such run.
pub fn one(c: &Connection, id: i64, now: Instant) -> Result<CleaningRun> {
    let mut s = c.prepare_cached(const_format::concatcp!(COLUMNS, " WHERE r.id = ?1"))?;
    let mut rows = s.query([id])?;
    rows.next()?.map_or(Err(StoreError::Missing("cleaning run")), |r| run(c, r, now))
}

fn groups(c: &Connection, id: i64) -> Result<Vec<Group>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT cause, status_before, status_after, count(*), sum(state IN ({MEMBER_TAKEN_OUT}, {MEMBER_STAYED})), sum(state IN ({MEMBER_APPLIED}, {MEMBER_NOT_PUT_BACK}, {MEMBER_UNDOING})), sum(state = {MEMBER_PUT_BACK}), sum(state = {MEMBER_NOT_PUT_BACK}), sum(state = {MEMBER_CHANGED})
         FROM cleaning_member WHERE run_id = ?1 GROUP BY 1, 2, 3 ORDER BY 4 DESC, 1"),
    )?;
    let rows = s.query_map([id], |r| {
        let cause = r.get::<_, As<Cause>>(0)?.0;
        Ok(Group {
            cause,
            words: cause.words().to_owned(),
            before: r.get::<_, As<MailStatus>>(1)?.0,
            after: r.get::<_, As<Becomes>>(2)?.0,
            people: r.get(3)?,
            taken_out: r.get(4)?,
            applied: r.get(5)?,
            put_back: r.get(6)?,
            not_put_back: r.get(7)?,
            changed: r.get(8)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

pub(super) fn state_of(c: &Connection, id: i64) -> Result<(Kind, RunState)> {
    c.prepare_cached("SELECT kind, state FROM cleaning_run WHERE id = ?1")?
        .query_row([id], |r| Ok((r.get::<_, Worded<Kind>>(0)?.0, r.get::<_, Worded<RunState>>(1)?.0)))
        .optional()?
        .ok_or(StoreError::Missing("cleaning run"))
}

pub(super) fn set_state(c: &Connection, id: i64, state: RunState) -> Result<()> {
    c.prepare_cached("UPDATE cleaning_run SET state = ?2 WHERE id = ?1")?.execute(params![id, Worded(state)])?;
    count(c, id)
}

/// Keeps how many there are by cause, until somebody's part in the run changes again.
fn count(c: &Connection, id: i64) -> Result<()> {
    let counted = serde_json::to_string(&groups(c, id)?)?;
    c.prepare_cached("UPDATE cleaning_run SET counted = ?2 WHERE id = ?1")?.execute(params![id, counted])?;
    Ok(())
}

fn any_open(c: &Connection) -> Result<Option<i64>> {
    Ok(c.prepare_cached(formatcp!(
        "SELECT id FROM cleaning_run WHERE state IN ({RUN_PROPOSING}, {RUN_PROPOSED}, {RUN_APPLYING}, {RUN_UNDOING}) LIMIT 1"
    ))?
    .query_row([], |r| r.get(0))
    .optional()?)
}

/// Is no run being proposed, read or applied?
///
/// # Errors
/// When the database fails.
pub fn is_none_open(c: &Connection) -> Result<bool> {
    Ok(any_open(c)?.is_none())
}

/// Begins a run: people are put on it next. `policy`: the one that it would bring into force.
///
/// # Errors
/// When another run is being proposed, read or applied.
pub fn begin(c: &Connection, policy: Option<&Policy>, note: &str, now: Instant, person: Option<i64>) -> Result<i64> {
    if let Some(open) = any_open(c)? {
        return Err(StoreError::Refused(format!(
            "Cleaning run {open} is open. Apply or drop it first: two runs would decide on the same people."
        )));
    }
    let kind = if policy.is_some() { Kind::Policy } else { Kind::Due };
    let policy = policy.map(serde_json::to_string).transpose()?;
    Ok(c.query_row(
        "INSERT INTO cleaning_run (kind, state, made_at, person_id, note, policy) VALUES (?1, 'proposing', ?2, ?3, ?4, ?5) RETURNING id",
        params![Worded(kind), now.millis(), person, note, policy],
        |r| r.get(0),
    )?)
}

/// Puts those on a run whose address is due, from this number on; where to go on.
///
/// # Errors
/// When the database fails.
pub fn put_due(c: &Connection, id: i64, after: i64, now: Instant) -> Result<Option<i64>> {
    let sql = formatcp!(
        "SELECT id FROM contact WHERE status = {RESTING} AND status <> {ACTIVE} AND status_until IS NULL AND id > ?1 AND gone IS NULL ORDER BY id LIMIT ?2"
    );
    let some: Vec<ContactId> = ids_as(c, sql, [after, PUT_AT_ONCE as i64], ContactId)?;
    let policy = policy::current(c)?.policy;
    for contact in &some {
        let s = status::now_under(c, *contact, now, &policy)?;
        if s.is_due() {
            put(c, id, *contact, (s.status, None, s.cause), (Becomes::Retired, None, s.cause), s.evidence())?;
        }
    }
    Ok(some.last().map(|id| id.0).filter(|_| some.len() == PUT_AT_ONCE))
}

/// Puts those on a run who let it pass when they were asked whether to go on, from this number on; where to go on.
///
/// # Errors
/// When the database fails.
pub fn put_silent(c: &Connection, id: i64, after: i64, now: Instant) -> Result<Option<i64>> {
    silence::put_on(c, id, after, now, PUT_AT_ONCE as i64 / 4)
}

/// Puts those on a run whose address was retired so long ago that the policy has it deleted, from this number on; where to go on.
///
/// # Errors
/// When the database fails.
pub fn put_to_delete(c: &Connection, id: i64, after: i64, now: Instant) -> Result<Option<i64>> {
    let Some(days) = policy::current(c)?.policy.delete_after_days else { return Ok(None) };
    let some: Vec<(ContactId, Where, i64)> = c
        .prepare_cached(formatcp!(
            "SELECT status, status_until, status_cause, id, status_at FROM contact INDEXED BY contact_since
             WHERE status = {RETIRED} AND status <> {ACTIVE} AND status_at <= ?1 AND gone IS NULL AND id > ?2 ORDER BY id LIMIT ?3"
        ))?
        .query_map(params![now.millis() - i64::from(days) * DAY, after, PUT_AT_ONCE as i64], |r| {
            Ok((ContactId(r.get(3)?), status::stored(r)?, r.get(4)?))
        })?
        .collect::<rusqlite::Result<_>>()?;
    for (contact, before, since) in &some {
        let why = format!("Retired since {}: {}.", Instant::of(*since).words(), before.2.words());
        put(c, id, *contact, *before, (Becomes::Deleted, None, Cause::RetiredLong), &why)?;
    }
    Ok(some.last().map(|s| s.0.0).filter(|_| some.len() == PUT_AT_ONCE))
}

/// Puts people on a run whom its policy would change, a part at a time.
///
/// # Errors
/// When the database fails.
pub fn put_changed(c: &Connection, id: i64, some: &[Changed]) -> Result<()> {
    for p in some {
        put(c, id, p.contact, p.before, (p.after.status.into(), p.after.until, p.after.cause), &p.after.why)?;
    }
    Ok(())
}

/// The parts in which [`put_changed`] takes people.
#[must_use]
pub fn in_parts(changed: &[Changed]) -> Vec<Vec<Changed>> {
    changed.chunks(PUT_AT_ONCE).map(<[Changed]>::to_vec).collect()
}

pub(super) type Where = (MailStatus, Option<Instant>, Cause);
pub(super) type Then = (Becomes, Option<Instant>, Cause);

pub(super) fn put(c: &Connection, id: i64, contact: ContactId, before: Where, after: Then, why: &str) -> Result<()> {
    c.prepare_cached(
        "INSERT INTO cleaning_member (run_id, contact_id, cause, status_before, until_before, cause_before, status_after, until_after, why)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9) ON CONFLICT DO NOTHING",
    )?
    .execute(params![
        id,
        contact.0,
        after.2.code(),
        before.0.code(),
        before.1.map(|u| u.millis()),
        before.2.code(),
        after.0.code(),
        after.1.map(|u| u.millis()),
        why
    ])?;
    Ok(())
}

/// Everybody is on it: it can be read. A run that nobody is on is dropped, unless it brings a policy.
///
/// # Errors
/// When the database fails.
pub fn proposed(c: &Connection, id: i64, effect: &Effect) -> Result<()> {
    let (kind, state) = state_of(c, id)?;
    if state != RunState::Proposing {
        return Ok(());
    }
    c.execute("UPDATE cleaning_run SET effect = ?2 WHERE id = ?1", params![id, serde_json::to_string(effect)?])?;
    let anybody = c.prepare_cached("SELECT 1 FROM cleaning_member WHERE run_id = ?1")?.exists([id])?;
    set_state(c, id, if anybody || kind == Kind::Policy { RunState::Proposed } else { RunState::Dropped })
}

/// Somebody on a run.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = CleaningMember)]
pub struct Member {
    pub contact_id: ContactId,
    pub address: String,
    pub state: MemberState,
    pub cause: Cause,
    pub before: MailStatus,
    pub until_before: Option<i64>,
    pub after: Becomes,
    pub until_after: Option<i64>,
    /// The evidence, in a sentence.
    pub why: String,
}

/// People of a run, of one cause when it is given, a page at a time after a person's number.
///
/// # Errors
/// When the database fails.
pub fn members(c: &Connection, id: i64, cause: Option<Cause>, after: i64, most: u32) -> Result<Vec<Member>> {
    let mut s = c.prepare_cached(
        "SELECT m.contact_id, k.address, m.state, m.cause, m.status_before, m.until_before, m.status_after, m.until_after, m.why
         FROM cleaning_member m JOIN contact k ON k.id = m.contact_id WHERE m.run_id = ?1 AND (?2 IS NULL OR m.cause = ?2) AND m.contact_id > ?3 ORDER BY m.contact_id LIMIT ?4",
    )?;
    let rows = s.query_map(params![id, cause.map(Code::code), after, most], |r| {
        Ok(Member {
            contact_id: ContactId(r.get(0)?),
            address: r.get(1)?,
            state: r.get::<_, As<MemberState>>(2)?.0,
            cause: r.get::<_, As<Cause>>(3)?.0,
            before: r.get::<_, As<MailStatus>>(4)?.0,
            until_before: r.get(5)?,
            after: r.get::<_, As<Becomes>>(6)?.0,
            until_after: r.get(7)?,
            why: r.get(8)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Takes somebody out of a proposed run, or puts them on it again.
///
/// # Errors
/// When the run isn't proposed, or they aren't on it.
pub fn take_out(c: &Connection, id: i64, contact: ContactId, out: bool) -> Result<()> {
    if state_of(c, id)?.1 != RunState::Proposed {
        return Err(StoreError::Refused("Only a run that is proposed can be changed. Undo it for them instead.".into()));
    }
    let state = if out { MemberState::TakenOut } else { MemberState::Proposed };
    let n = c.prepare_cached("UPDATE cleaning_member SET state = ?3 WHERE run_id = ?1 AND contact_id = ?2")?.execute(params![
        id,
        contact.0,
        state.code()
    ])?;
    if n == 0 { Err(StoreError::Missing("person on this run")) } else { count(c, id) }
}

/// Drops a run that isn't applied: nothing comes of it.
///
/// # Errors
/// When it was applied.
pub fn drop_run(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    match state_of(c, id)?.1 {
        RunState::Proposing | RunState::Proposed => {
            set_state(c, id, RunState::Dropped)?;
            crate::settings::audit(c, now, person, "cleaning run dropped", "upkeep", id, "")
        }
        state => Err(StoreError::Refused(format!("The run is {state}: it can’t be dropped."))),
    }
}

/// The run that waits to be read, when there is one.
///
/// # Errors
/// When the database fails.
pub fn open(c: &Connection) -> Result<Option<i64>> {
    Ok(c.prepare_cached(formatcp!("SELECT id FROM cleaning_run WHERE state = {RUN_PROPOSED} LIMIT 1"))?
        .query_row([], |r| r.get(0))
        .optional()?)
}

/// Runs that have something left to do.
///
/// # Errors
/// When the database fails.
pub fn unfinished(c: &Connection) -> Result<Vec<i64>> {
    Ok(c.prepare_cached(formatcp!("SELECT id FROM cleaning_run WHERE state IN ({RUN_APPLYING}, {RUN_UNDOING}) ORDER BY id"))?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?)
}

/// Runs whose people were being put on them when Rinse ended are dropped: they are proposed again at once.
///
/// # Errors
/// When the database fails.
pub fn drop_interrupted(c: &Connection) -> Result<usize> {
    Ok(c.execute(formatcp!("UPDATE cleaning_run SET state = {RUN_DROPPED} WHERE state = {RUN_PROPOSING}"), [])?)
}
