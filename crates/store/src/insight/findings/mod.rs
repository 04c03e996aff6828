//! Findings: how the mailings did; the workline's figures; what needs a decision. `groups` puts messages together by what they have in common,
//! `answers` says when people answer, `views` keeps what somebody wants to look at again.

pub mod answers;
pub mod groups;
pub mod letters;
pub mod links;
pub mod revenue;
pub mod views;

use crate::codes::{
    ACTIVE, CONFIRMED, CONSENTED, MAILING_DRAFT, MAILING_PLANNED, OBSERVED, RESTING, RETIRED, SERIES_RUNNING, TRIAL_COLLECTING, TRIAL_READ,
};
use crate::stored::As;
use crate::upkeep::made_of;
use crate::{Result, figures};
use const_format::formatcp;
use rinse_core::channel::Channel;
use rinse_core::consent::Consent;
use rinse_core::figure::Figure;
use rinse_core::id::MailingId;
use rinse_core::report::Rate;
use rusqlite::Connection;
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A mailing's figures, by the catalogue.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MailingFigures {
    pub id: i64,
    pub channel: Channel,
    pub name: String,
    pub started_at: i64,
    pub sent: u64,
    /// Every figure that can be known of its channel and that is of something.
    pub figures: BTreeMap<Figure, Rate>,
    /// Delivered messages that were handed over on the last five days, by UTC: a failure may still be reported.
    pub too_new: u64,
}

/// The figures of all mailings that started at `since` or later, the newest first: kept by triggers as sends change.
///
/// # Errors
/// When the database fails.
pub fn mailings(c: &Connection, since: i64, now: i64) -> Result<Vec<MailingFigures>> {
    let mut s = c.prepare_cached(&format!(
        "SELECT m.id, m.name, m.started_at, m.channel, coalesce(sum(iif(f.day > ?2, f.delivered, 0)), 0), {sums}
         FROM (SELECT id, name, started_at, channel FROM mailing WHERE started_at >= ?1 AND EXISTS (SELECT 1 FROM send WHERE mailing_id = mailing.id)
            ORDER BY started_at DESC LIMIT 500) m
         LEFT JOIN mailing_figure f ON f.mailing_id = m.id GROUP BY m.id ORDER BY m.started_at DESC",
        sums = figures::added_up()
    ))?;
    let new_since = now.div_euclid(rinse_core::DAY) - figures::TOO_NEW_DAYS;
    let rows = s.query_map([since, new_since], |r| {
        let (channel, sums) = (r.get::<_, As<Channel>>(3)?.0, figures::sums(r, 5)?);
        let told = Figure::ALL.into_iter().filter(|f| f.of().is_some() && f.can_be_known(channel));
        Ok(MailingFigures {
            id: r.get(0)?,
            channel,
            name: r.get(1)?,
            started_at: r.get(2)?,
            sent: sums.of(Figure::Sent),
            figures: told.map(|f| (f, sums.rate(f))).collect(),
            too_new: r.get::<_, i64>(4)?.unsigned_abs(),
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Delivered messages of a mailing that were handed over on the last five days, by UTC.
///
/// # Errors
/// When the database fails.
pub fn too_new(c: &Connection, mailing: MailingId, now: i64) -> Result<u64> {
    let since = now.div_euclid(rinse_core::DAY) - figures::TOO_NEW_DAYS;
    let mut s = c.prepare_cached("SELECT coalesce(sum(delivered), 0) FROM mailing_figure WHERE mailing_id = ?1 AND day > ?2")?;
    Ok(s.query_row([mailing.0, since], |r| r.get::<_, i64>(0))?.unsigned_abs())
}

/// What the email of the last `days` adds up to, whole days by UTC.
///
/// # Errors
/// When the database fails.
pub fn of_days(c: &Connection, days: i64, now: i64) -> Result<figures::Sums> {
    email_since(c, now.div_euclid(rinse_core::DAY) - days, false)
}

/// What email adds up to since a day; of marketing mail alone, or all of it.
fn email_since(c: &Connection, day: i64, marketing: bool) -> Result<figures::Sums> {
    Ok(c.prepare_cached(&format!(
        "SELECT {} FROM mailing_figure WHERE (class = 1 OR NOT ?2) AND day >= ?1 AND mailing_id NOT IN (SELECT id FROM mailing WHERE channel = 2)",
        figures::added_up()
    ))?
    .query_row(rusqlite::params![day, marketing], |r| figures::sums(r, 0))?)
}

/// The workline's share of opens looks back this far, to the beginning of that day by UTC: sums are kept by day.
const WORKLINE_DAYS: i64 = 30;

fn workline_since(now: i64) -> i64 {
    now.div_euclid(rinse_core::DAY) - WORKLINE_DAYS
}

/// The workline's live figures: people at each point.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Workline {
    pub contacts: i64,
    /// With consent and a usable address, and not sunset.
    pub mailable: i64,
    pub planned: i64,
    pub collecting: i64,
    pub to_read: i64,
    /// Human opens of the marketing messages whose turn came since the beginning of the day 30 days ago, by UTC: of those delivered to
    /// people whose opens can be known.
    pub opened: Rate,
    /// Those of these messages whose opens can't be known.
    pub opens_unknown: u64,
    pub accepted: Rate,
    pub resting: i64,
    pub retired: i64,
    /// Addresses that a cleaning run has to decide on.
    pub due: i64,
    pub cap_in_force: bool,
    pub cap: String,
    /// Series that run, and the people inside them.
    pub series: i64,
    pub in_series: i64,
}

/// # Errors
/// When the database fails.
pub fn workline(c: &Connection, now: i64) -> Result<Workline> {
    let one = |sql: &str| -> Result<i64> { Ok(c.prepare_cached(sql)?.query_row([], |r| r.get(0))?) };
    let rules = crate::rules::current(c)?;
    let lately = email_since(c, workline_since(now), true)?;
    let standing = made_of::by_standing(c)?;
    let people = |which: &dyn Fn(i64, i64) -> bool| standing.iter().filter(|s| which(s.0, s.1)).map(|s| s.2).sum();
    Ok(Workline {
        series: one(formatcp!("SELECT count(*) FROM series WHERE state = {SERIES_RUNNING}"))?,
        in_series: crate::series::view::inside(c)?,
        contacts: people(&|_, _| true),
        mailable: made_of::mailable_of(c, &standing)?,
        planned: one(formatcp!("SELECT count(*) FROM mailing WHERE state IN ({MAILING_DRAFT}, {MAILING_PLANNED})"))?,
        collecting: one(formatcp!(
            "SELECT (SELECT count(*) FROM trial WHERE state = {TRIAL_COLLECTING}) + (SELECT count(*) FROM hour_trial WHERE state = {TRIAL_COLLECTING})"
        ))?,
        to_read: one(formatcp!("SELECT count(*) FROM trial WHERE state = {TRIAL_READ}"))?,
        opened: lately.rate(Figure::HumanOpens),
        opens_unknown: lately.of(Figure::Delivered) - lately.of(Figure::OpensKnown),
        accepted: lately.rate(Figure::Accepted),
        resting: people(&|_, status| matches!(status, 1 | 2)),
        retired: people(&|_, status| status == 3),
        due: made_of::due(c)?,
        cap_in_force: rules.rules.caps.iter().any(|cap| cap.in_force),
        cap: rules.rules.caps.iter().map(rinse_core::caps::Cap::words).collect::<Vec<_>>().join(", "),
    })
}

/// The rows behind a figure of the workline: the header's words, then the rows as text.
///
/// # Errors
/// An unknown figure, or when the database fails.
pub fn workline_rows(c: &Connection, figure: &str, now: i64) -> Result<(&'static [&'static str], Vec<Vec<String>>)> {
    let opened = format!(
        "SELECT c.address, m.name, iif({}, 'yes', 'no') FROM send s JOIN contact c ON c.id = s.contact_id JOIN mailing m ON m.id = s.mailing_id
         WHERE s.class = 1 AND s.channel = 1 AND {} AND s.at >= ?1 ORDER BY s.id",
        figures::counted(Figure::HumanOpens, "s"),
        figures::counted(Figure::OpensKnown, "s")
    );
    let accepted = format!(
        "SELECT c.address, m.name, iif({}, 'yes', 'no') FROM send s JOIN contact c ON c.id = s.contact_id JOIN mailing m ON m.id = s.mailing_id
         WHERE s.class = 1 AND s.channel = 1 AND {} AND s.at >= ?1 ORDER BY s.id",
        figures::counted(Figure::Accepted, "s"),
        figures::counted(Figure::Sent, "s")
    );
    let (header, sql): (&'static [&'static str], &str) = match figure {
        "contacts" => (&["address"], "SELECT address FROM contact WHERE gone IS NULL AND ?1 = ?1 ORDER BY id"),
        "mailable" => (
            &["address"],
            formatcp!("SELECT address FROM contact WHERE gone IS NULL AND consent IN ({CONSENTED}, {CONFIRMED}) AND status NOT IN ({RESTING}, {RETIRED}) AND sunset_at IS NULL AND ?1 = ?1 ORDER BY id"),
        ),
        "planned" => (&["mailing", "state"], formatcp!("SELECT name, state FROM mailing WHERE state IN ({MAILING_DRAFT}, {MAILING_PLANNED}) AND ?1 = ?1 ORDER BY id")),
        "trials" => (
            &["mailing or question", "state"],
            formatcp!("SELECT name, state FROM (SELECT 0 AS hours, t.id, m.name, t.state FROM trial t JOIN mailing m ON m.id = t.mailing_id WHERE t.state IN ({TRIAL_COLLECTING}, {TRIAL_READ})
                UNION ALL SELECT 1, id, json_extract(plan, '$.question'), state FROM hour_trial WHERE state = {TRIAL_COLLECTING}) WHERE ?1 = ?1 ORDER BY hours, id"),
        ),
        "accepted" => (&["address", "mailing", "accepted"], &accepted),
        "opened" => (&["address", "mailing", "human open"], &opened),
        "resting" => (
            &["address", "status"],
            formatcp!("SELECT address, CASE status WHEN {RESTING} THEN 'resting' ELSE 'observed' END FROM contact WHERE gone IS NULL AND status IN ({RESTING}, {OBSERVED}) AND status <> {ACTIVE} AND ?1 = ?1 ORDER BY id"),
        ),
        _ => return Err(crate::StoreError::Missing("figure")),
    };
    let mut s = c.prepare_cached(sql)?;
    let rows = s
        .query_map([workline_since(now) * rinse_core::DAY], |r| (0..header.len()).map(|i| r.get(i)).collect())?
        .collect::<rusqlite::Result<_>>()?;
    Ok((header, rows))
}

/// How many people there are in each consent state.
///
/// # Errors
/// When the database fails.
pub fn by_consent(c: &Connection) -> Result<Vec<(Consent, i64)>> {
    let mut s = c.prepare_cached("SELECT consent, sum(people) FROM people_standing WHERE people > 0 GROUP BY 1 ORDER BY 1")?;
    Ok(s.query_map([], |r| Ok((r.get::<_, As<Consent>>(0)?.0, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}
