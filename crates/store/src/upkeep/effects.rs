//! What cleaning runs do to the figures: before one is applied by the base's own messages of 90 days, afterwards by what came of it.

use super::runs::CleaningRun;
use crate::Result;
use crate::codes::{
    BECOMES_DELETED, BECOMES_KEPT_BACK, BECOMES_RESTING, BECOMES_RETIRED, BECOMES_SUNSET, CONFIRMED, CONSENTED, MEMBER_APPLIED,
    MEMBER_NOT_PUT_BACK, MEMBER_PROPOSED, MEMBER_PUT_BACK, MEMBER_STAYED, MEMBER_UNDOING, RESTING, RETIRED,
};
use crate::stored::As;
use const_format::formatcp;
use rinse_core::report::Rate;
use rinse_core::upkeep::Cause;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a run would do to figures, from the base's own messages of the last 90 days: as they were, and without the people on it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = CleaningEffect)]
pub struct Effect {
    pub mailable: i64,
    pub mailable_after: i64,
    pub accepted: Rate,
    pub accepted_after: Rate,
    pub bounced: Rate,
    pub bounced_after: Rate,
    /// Human opens, of delivered messages whose opens can be known.
    pub opened: Rate,
    pub opened_after: Rate,
    /// People on it who answered or bought within these days.
    pub answered: Rate,
    /// The same by cause.
    pub answered_by: Vec<AnsweredBy>,
}

/// People of a run with a cause who answered or bought.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AnsweredBy {
    pub cause: Cause,
    pub answered: Rate,
}

/// What a run would do to the figures.
///
/// # Errors
/// When the database fails.
pub fn effect(c: &Connection, id: i64, now: Instant) -> Result<Effect> {
    let since = now.millis() - 90 * DAY;
    // Messages of 90 days: handed over, accepted, bounced, opens known, opened; of the base and of those who will not be mailed.
    let told = |of: &str| -> Result<[u64; 5]> {
        let sql = format!(
            "SELECT count(*), coalesce(sum(s.accepted_at IS NOT NULL), 0), coalesce(sum({bounced}), 0), coalesce(sum({known}), 0), coalesce(sum({opened}), 0)
             FROM {of} WHERE s.class = 1 AND s.channel = 1 AND s.at >= ?1 AND s.handed_at IS NOT NULL AND ?2 = ?2",
            bounced = crate::figures::counted(rinse_core::figure::Figure::Bounced, "s"),
            known = crate::figures::counted(rinse_core::figure::Figure::OpensKnown, "s"),
            opened = crate::figures::counted(rinse_core::figure::Figure::HumanOpens, "s"),
        );
        Ok(c.prepare_cached(&sql)?.query_row(params![since, id], |r| {
            let n = |i| r.get::<_, i64>(i).map(i64::unsigned_abs);
            Ok([n(0)?, n(1)?, n(2)?, n(3)?, n(4)?])
        })?)
    };
    let base = told("send s INDEXED BY send_recent")?;
    let out = told(formatcp!(
        "cleaning_member m JOIN send s INDEXED BY send_contact ON m.run_id = ?2 AND m.state = {MEMBER_PROPOSED} AND m.status_after IN ({BECOMES_RESTING}, {BECOMES_RETIRED}, {BECOMES_SUNSET}, {BECOMES_DELETED}) AND s.contact_id = m.contact_id"
    ))?;
    let left: Vec<u64> = base.iter().zip(out).map(|(all, out)| all.saturating_sub(out)).collect();
    let rate = |of: &[u64]| (Rate::new(of[1].min(of[0]), of[0]), Rate::new(of[2].min(of[0]), of[0]), Rate::new(of[4].min(of[3]), of[3]));
    let ((accepted, bounced, opened), (accepted_after, bounced_after, opened_after)) = (rate(&base), rate(&left));
    let mailable = super::made_of::mailable(c)?;
    let by: i64 = c
        .prepare_cached(
            formatcp!("SELECT coalesce(sum((m.status_after NOT IN ({BECOMES_RESTING}, {BECOMES_RETIRED}, {BECOMES_SUNSET}, {BECOMES_DELETED})) - (m.status_before NOT IN ({RESTING}, {RETIRED}))), 0) FROM cleaning_member m JOIN contact k ON k.id = m.contact_id
             WHERE m.run_id = ?1 AND m.state = {MEMBER_PROPOSED} AND k.consent IN ({CONSENTED}, {CONFIRMED}) AND k.gone IS NULL"),
        )?
        .query_row([id], |r| r.get(0))?;
    let answered_by = who(c, id, formatcp!("m.state = {MEMBER_PROPOSED}"), ANSWERED, since)?;
    Ok(Effect {
        mailable,
        mailable_after: mailable + by,
        accepted,
        accepted_after,
        bounced,
        bounced_after,
        opened,
        opened_after,
        answered: added_up(&answered_by),
        answered_by,
    })
}

/// Answered a message or bought since `?2`, and complained since then.
const ANSWERED: &str = "EXISTS (SELECT 1 FROM send s INDEXED BY send_contact WHERE s.contact_id = m.contact_id AND (s.open_at >= ?2 OR s.click_at >= ?2 OR s.reply_at >= ?2))
            OR EXISTS (SELECT 1 FROM purchase p WHERE p.contact_id = m.contact_id AND p.at >= ?2)";
const COMPLAINED: &str =
    "EXISTS (SELECT 1 FROM send s INDEXED BY send_contact WHERE s.contact_id = m.contact_id AND s.complained_at >= ?2)";

/// People of a run in a state who did something since an instant, by cause.
fn who(c: &Connection, id: i64, which: &str, did: &str, since: i64) -> Result<Vec<AnsweredBy>> {
    let sql = format!(
        "SELECT m.cause, count(*), coalesce(sum({did}), 0) FROM cleaning_member m WHERE m.run_id = ?1 AND {which} GROUP BY 1 ORDER BY 1"
    );
    let mut s = c.prepare_cached(&sql)?;
    let rows = s.query_map(params![id, since], |r| {
        let n = |i| r.get::<_, i64>(i).map(i64::unsigned_abs);
        Ok(AnsweredBy { cause: r.get::<_, As<Cause>>(0)?.0, answered: Rate::new(n(2)?, n(1)?) })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The same of all causes.
fn added_up(by: &[AnsweredBy]) -> Rate {
    let sum = |pick: fn(&Rate) -> u64| by.iter().map(|b| pick(&b.answered)).sum();
    Rate::new(sum(|r| r.count), sum(|r| r.of))
}

/// What came of a run since it was applied: who of those it took out answered or bought all the same, who complained; and who of those put back
/// or left in.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct Came {
    pub taken_out: Rate,
    pub taken_out_complained: Rate,
    pub still_in: Rate,
    pub still_in_complained: Rate,
}

/// # Errors
/// When the database fails.
pub fn came(c: &Connection, run: &CleaningRun) -> Result<Option<Came>> {
    let Some(at) = run.applied_at else { return Ok(None) };
    let of = |which, did| Ok::<_, crate::StoreError>(added_up(&who(c, run.id, which, did, at)?));
    let (out, within) = (
        formatcp!(
            "m.state IN ({MEMBER_APPLIED}, {MEMBER_NOT_PUT_BACK}, {MEMBER_UNDOING}) AND m.status_after IN ({BECOMES_RESTING}, {BECOMES_RETIRED}, {BECOMES_SUNSET})"
        ),
        formatcp!(
            "(m.state IN ({MEMBER_PUT_BACK}, {MEMBER_STAYED}) OR m.state = {MEMBER_APPLIED} AND m.status_after = {BECOMES_KEPT_BACK})"
        ),
    );
    Ok(Some(Came {
        taken_out: of(out, ANSWERED)?,
        taken_out_complained: of(out, COMPLAINED)?,
        still_in: of(within, ANSWERED)?,
        still_in_complained: of(within, COMPLAINED)?,
    }))
}
