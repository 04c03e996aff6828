//! What the base is made of: today, day by day, and the people who aren't mailed as usual.

use crate::Result;
use crate::codes::{ACTIVE, CONFIRMED, CONSENTED, RESTING, RETIRED};
use crate::stored::As;
use const_format::formatcp;
use rinse_core::code::Code;
use rinse_core::id::ContactId;
use rinse_core::upkeep::{Cause, MailStatus, Policy};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The base on a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct BaseDay {
    /// Days since 1970, UTC.
    pub day: i64,
    pub active: i64,
    pub resting: i64,
    pub observed: i64,
    pub retired: i64,
    /// Marketing ended for silence, and the address is usable.
    pub sunset: i64,
    /// People deleted, whose address is kept from coming back.
    pub tombstones: i64,
}

fn day_of(r: &Row<'_>) -> rusqlite::Result<BaseDay> {
    Ok(BaseDay {
        day: r.get(0)?,
        active: r.get(1)?,
        resting: r.get(2)?,
        observed: r.get(3)?,
        retired: r.get(4)?,
        sunset: r.get(5)?,
        tombstones: r.get(6)?,
    })
}

/// People by consent state and mail status, by their numbers, as triggers keep them.
pub(crate) fn by_standing(c: &Connection) -> Result<Vec<(i64, i64, i64)>> {
    let mut s = c.prepare_cached("SELECT consent, status, sum(people) FROM people_standing WHERE people > 0 GROUP BY 1, 2")?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// The base as it is.
///
/// # Errors
/// When the database fails.
pub fn now(c: &Connection, now: Instant) -> Result<BaseDay> {
    let sunset = c
        .prepare_cached(formatcp!(
            "SELECT count(*) FROM contact INDEXED BY contact_sunset WHERE sunset_at IS NOT NULL AND status = {ACTIVE} AND gone IS NULL"
        ))?
        .query_row([], |r| r.get(0))?;
    let all = by_standing(c)?;
    let of = |status: MailStatus| all.iter().filter(|s| s.1 == status.code()).map(|s| s.2).sum::<i64>();
    Ok(BaseDay {
        day: now.millis().div_euclid(DAY),
        active: of(MailStatus::Active) - sunset,
        resting: of(MailStatus::Resting),
        observed: of(MailStatus::Observed),
        retired: of(MailStatus::Retired),
        sunset,
        tombstones: c.prepare_cached("SELECT count(*) FROM contact WHERE gone = 1")?.query_row([], |r| r.get(0))?,
    })
}

/// May people with such a consent and status, by their numbers, be mailed?
fn is_mailable(consent: i64, status: i64) -> bool {
    matches!(consent, 2 | 3) && !matches!(status, 1 | 3)
}

/// People with consent and a usable address who aren't sunset.
pub(super) fn mailable(c: &Connection) -> Result<i64> {
    mailable_of(c, &by_standing(c)?)
}

/// The same of people counted already.
pub(crate) fn mailable_of(c: &Connection, all: &[(i64, i64, i64)]) -> Result<i64> {
    let sunset: i64 = c
        .prepare_cached(
            formatcp!("SELECT count(*) FROM contact INDEXED BY contact_sunset WHERE sunset_at IS NOT NULL AND status NOT IN ({RESTING}, {RETIRED}) AND consent IN ({CONSENTED}, {CONFIRMED}) AND gone IS NULL"),
        )?
        .query_row([], |r| r.get(0))?;
    Ok(all.iter().filter(|s| is_mailable(s.0, s.1)).map(|s| s.2).sum::<i64>() - sunset)
}

/// Notes what the base is made of today. Once a day.
///
/// # Errors
/// When the database fails.
pub fn note(c: &Connection, at: Instant) -> Result<()> {
    let b = now(c, at)?;
    c.prepare_cached("INSERT OR REPLACE INTO base_day VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?.execute(params![
        b.day,
        b.active,
        b.resting,
        b.observed,
        b.retired,
        b.sunset,
        b.tombstones
    ])?;
    Ok(())
}

/// The days since an instant, oldest first.
///
/// # Errors
/// When the database fails.
pub fn days(c: &Connection, since: Instant) -> Result<Vec<BaseDay>> {
    let mut s =
        c.prepare_cached("SELECT day, active, resting, observed, retired, sunset, tombstones FROM base_day WHERE day >= ?1 ORDER BY day")?;
    Ok(s.query_map([since.millis().div_euclid(DAY)], day_of)?.collect::<rusqlite::Result<_>>()?)
}

/// People who aren't active, by status and cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct ByCause {
    pub status: MailStatus,
    pub cause: Cause,
    pub words: String,
    /// A cleaning run has to decide on them.
    pub due: bool,
    pub people: i64,
}

/// # Errors
/// When the database fails.
pub fn by_cause(c: &Connection) -> Result<Vec<ByCause>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT status, status_cause, status = {RESTING} AND status_until IS NULL, count(*) FROM contact WHERE status <> {ACTIVE} AND gone IS NULL GROUP BY 1, 2, 3 ORDER BY 1, 4 DESC"),
    )?;
    let rows = s.query_map([], |r| {
        let cause = r.get::<_, As<Cause>>(1)?.0;
        Ok(ByCause { status: r.get::<_, As<MailStatus>>(0)?.0, cause, words: cause.words().to_owned(), due: r.get(2)?, people: r.get(3)? })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How many wait for a cleaning run.
///
/// # Errors
/// When the database fails.
pub fn due(c: &Connection) -> Result<i64> {
    Ok(c.prepare_cached(formatcp!(
        "SELECT count(*) FROM contact WHERE status = {RESTING} AND status <> {ACTIVE} AND status_until IS NULL"
    ))?
    .query_row([], |r| r.get(0))?)
}

/// How many people are sunset.
///
/// # Errors
/// When the database fails.
pub(super) fn sunset(c: &Connection) -> Result<i64> {
    Ok(c.prepare_cached("SELECT count(*) FROM contact WHERE sunset_at IS NOT NULL AND gone IS NULL")?.query_row([], |r| r.get(0))?)
}

/// How many silent people let it pass when they were asked, as of the last day that it was worked out.
///
/// # Errors
/// When the database fails.
pub fn let_pass(c: &Connection) -> Result<i64> {
    Ok(c.prepare_cached("SELECT count(*) FROM silent WHERE stage = 2")?.query_row([], |r| r.get(0))?)
}

/// How many addresses were retired so long ago that the policy has them deleted.
///
/// # Errors
/// When the database fails.
pub fn to_delete(c: &Connection, policy: &Policy, now: Instant) -> Result<i64> {
    let Some(days) = policy.delete_after_days else { return Ok(0) };
    Ok(c.prepare_cached(
        formatcp!("SELECT count(*) FROM contact INDEXED BY contact_since WHERE status = {RETIRED} AND status <> {ACTIVE} AND status_at <= ?1 AND gone IS NULL"),
    )?
    .query_row([now.millis() - i64::from(days) * DAY], |r| r.get(0))?)
}

/// An address under upkeep.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct UpkeepRow {
    pub contact_id: ContactId,
    pub address: String,
    pub status: MailStatus,
    pub cause: Cause,
    /// The cause, in words.
    pub reason: String,
    pub since: Option<i64>,
    pub until: Option<i64>,
    pub due: bool,
    pub why: String,
    #[serde(skip)]
    pub key: String,
}

/// The order of a list of addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = AddressOrder)]
pub enum Order {
    /// The latest change first.
    #[default]
    Since,
    /// The earliest change first.
    Longest,
    Address,
}

/// Which addresses, and where to go on: after the one whose status changed then (or that is called so) and who has that number.
#[derive(Debug, Clone, Default)]
pub struct Which {
    pub status: Option<MailStatus>,
    pub cause: Option<Cause>,
    /// Only addresses that begin so.
    pub begins: Option<String>,
    pub order: Order,
    pub after: Option<(String, i64)>,
}

/// Addresses under upkeep, a page at a time.
///
/// # Errors
/// When the database fails.
pub fn people(c: &Connection, which: &Which, most: u32) -> Result<Vec<UpkeepRow>> {
    let one = |given: bool, words: &'static str| if given { words } else { "" };
    let (going_on, order) = match which.order {
        Order::Since => ("AND (c.status_at, c.id) < (CAST(?3 AS INTEGER), ?4) ", "c.status_at DESC, c.id DESC"),
        Order::Longest => ("AND (c.status_at, c.id) > (CAST(?3 AS INTEGER), ?4) ", "c.status_at, c.id"),
        Order::Address => ("AND (c.address_key, c.id) > (?3, ?4) ", "c.address_key, c.id"),
    };
    let sql = format!(
        "SELECT c.id, c.address, c.status, c.status_cause, c.status_at, c.status_until, coalesce((SELECT evidence FROM ledger l
            WHERE l.contact_id = c.id AND l.kind IN ('resting', 'observed', 'retired') ORDER BY l.id DESC LIMIT 1), ''), c.address_key
         FROM contact c WHERE c.gone IS NULL AND c.status <> {ACTIVE} AND ?1 IS ?1 AND ?2 IS ?2 AND ?3 IS ?3 AND ?4 IS ?4 AND ?6 IS ?6 {}{}{}{} ORDER BY {order} LIMIT ?5",
        one(which.status.is_some(), "AND c.status = ?1 "),
        one(which.cause.is_some(), "AND c.status_cause = ?2 "),
        one(which.after.is_some(), going_on),
        // The range of what begins so: the letter after all others ends it.
        one(which.begins.is_some(), "AND c.address_key >= ?6 AND c.address_key < ?6 || char(1114111) "),
    );
    let (after, begins) = (which.after.clone(), which.begins.as_ref().map(|b| b.trim().to_lowercase()));
    let mut s = c.prepare_cached(&sql)?;
    let rows = s.query_map(
        params![
            which.status.map(Code::code),
            which.cause.map(Code::code),
            after.as_ref().map(|a| &a.0),
            after.as_ref().map(|a| a.1),
            most,
            begins
        ],
        |r| {
            let (status, cause) = (r.get::<_, As<MailStatus>>(2)?.0, r.get::<_, As<Cause>>(3)?.0);
            let until: Option<i64> = r.get(5)?;
            Ok(UpkeepRow {
                contact_id: ContactId(r.get(0)?),
                address: r.get(1)?,
                status,
                cause,
                reason: cause.words().to_owned(),
                since: r.get(4)?,
                until,
                due: status == MailStatus::Resting && until.is_none(),
                why: r.get(6)?,
                key: r.get(7)?,
            })
        },
    )?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How many addresses were retired after an instant.
///
/// # Errors
/// When the database fails.
pub fn retired_since(c: &Connection, since: Instant) -> Result<i64> {
    let sql = formatcp!(
        "SELECT count(*) FROM contact INDEXED BY contact_since WHERE status = {RETIRED} AND status <> {ACTIVE} AND status_at > ?1 AND gone IS NULL"
    );
    Ok(c.prepare_cached(sql)?.query_row([since.millis()], |r| r.get(0))?)
}
