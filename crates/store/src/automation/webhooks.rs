//! Other systems that are told what happened: where, with what secret, and every message's fate.

use crate::codes::{TOLD_DELIVERED, TOLD_GIVEN_UP, TOLD_WAITING};
use crate::stored::As;
use crate::{Result, StoreError, naming, settings};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::webhook::{Outcome, State, again_after, outcome};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A system that is told.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Webhook {
    pub id: i64,
    pub name: String,
    pub url: String,
    pub ended_at: Option<i64>,
    pub why_ended: String,
    pub waiting: i64,
    pub delivered: i64,
    pub given_up: i64,
}

/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Webhook>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT w.id, w.name, w.url, w.ended_at, w.why_ended, count(*) FILTER (WHERE d.state = {TOLD_WAITING}), count(*) FILTER (WHERE d.state = {TOLD_DELIVERED}),
            count(*) FILTER (WHERE d.state = {TOLD_GIVEN_UP}) FROM webhook w LEFT JOIN delivery d ON d.webhook_id = w.id GROUP BY w.id ORDER BY w.ended_at IS NOT NULL, w.name"),
    )?;
    Ok(s.query_map([], |r| {
        Ok(Webhook {
            id: r.get(0)?,
            name: r.get(1)?,
            url: r.get(2)?,
            ended_at: r.get(3)?,
            why_ended: r.get(4)?,
            waiting: r.get(5)?,
            delivered: r.get(6)?,
            given_up: r.get(7)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// The name of one that is in use still.
///
/// # Errors
/// When there is none, or it has ended.
pub fn name(c: &Connection, id: i64) -> Result<String> {
    c.prepare_cached("SELECT name FROM webhook WHERE id = ?1 AND ended_at IS NULL")?
        .query_row([id], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("webhook"))
}

/// The system that is told of something, as a setting keeps it.
pub(crate) fn chosen(c: &Connection, setting: &str) -> Result<Option<i64>> {
    Ok(settings::get(c, setting)?.and_then(|id| id.parse().ok()))
}

/// Chooses it; none: nobody is told. `what` is put on record.
///
/// # Errors
/// When there is no such webhook.
pub(crate) fn choose(c: &Connection, setting: &str, id: Option<i64>, what: &str, now: Instant, person: Option<i64>) -> Result<()> {
    let name = id.map(|id| name(c, id)).transpose()?;
    settings::set(c, setting, &id.map(|id| id.to_string()).unwrap_or_default())?;
    settings::audit(c, now, person, what, "webhook", id.unwrap_or(0), name.as_deref().unwrap_or("none"))
}

/// Makes one. The address was checked by the caller.
///
/// # Errors
/// A missing or taken name.
pub fn make(c: &Connection, name: &str, url: &str, secret: &[u8], now: Instant, person: Option<i64>) -> Result<i64> {
    let name = naming::good(name)?;
    if c.prepare_cached("SELECT 1 FROM webhook WHERE name = ?1 COLLATE NOCASE AND ended_at IS NULL")?.exists([name])? {
        return Err(StoreError::Refused(format!("There is a webhook called “{name}” already. Choose another name.")));
    }
    let id = c.query_row(
        "INSERT INTO webhook (name, url, secret, made_at, person_id) VALUES (?1, ?2, ?3, ?4, ?5) RETURNING id",
        params![name, url, secret, now.millis(), person],
        |r| r.get(0),
    )?;
    settings::audit(c, now, person, "webhook made", "webhook", id, &format!("{name}, {url}"))?;
    Ok(id)
}

/// Ends one: what waits for it is given up. Who calls has seen that nothing uses it.
pub(crate) fn end(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let name = name(c, id)?;
    close(c, id, "ended here", now)?;
    settings::audit(c, now, person, "webhook ended", "webhook", id, &name)
}

fn close(c: &Connection, id: i64, why: &str, now: Instant) -> Result<()> {
    c.execute("UPDATE webhook SET ended_at = ?2, why_ended = ?3 WHERE id = ?1 AND ended_at IS NULL", params![id, now.millis(), why])?;
    c.execute(
        formatcp!(
            "UPDATE delivery SET state = {TOLD_GIVEN_UP}, next_at = NULL, answer = ?2 WHERE webhook_id = ?1 AND state = {TOLD_WAITING}"
        ),
        params![id, why],
    )?;
    Ok(())
}

/// What messages to it are signed with.
///
/// # Errors
/// When there is no such webhook.
pub fn secret(c: &Connection, id: i64) -> Result<Vec<u8>> {
    c.query_row("SELECT secret FROM webhook WHERE id = ?1 AND ended_at IS NULL", [id], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("webhook"))
}

/// The secrets of all webhooks that lead to an address: what its receiver knows.
///
/// # Errors
/// When the database fails.
pub fn secrets_of(c: &Connection, url: &str) -> Result<Vec<Vec<u8>>> {
    Ok(c.prepare_cached("SELECT secret FROM webhook WHERE url = ?1 AND ended_at IS NULL")?
        .query_map([url], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?)
}

/// Puts a message in the queue, once for its key; false when it is there already or the webhook has ended.
///
/// # Errors
/// When the database fails.
pub fn queue(c: &Connection, webhook: i64, key: &str, contact: Option<ContactId>, body: &serde_json::Value, now: Instant) -> Result<bool> {
    Ok(c.prepare_cached(
        "INSERT INTO delivery (webhook_id, key, contact_id, body, made_at, next_at)
         SELECT id, ?2, ?3, ?4, ?5, ?5 FROM webhook WHERE id = ?1 AND ended_at IS NULL ON CONFLICT DO NOTHING",
    )?
    .execute(params![webhook, key, contact.map(|id| id.0), body.to_string(), now.millis()])?
        > 0)
}

/// A message that is due.
#[derive(Debug, Clone)]
pub struct Due {
    pub id: i64,
    pub key: String,
    pub url: String,
    pub secret: Vec<u8>,
    pub body: String,
}

/// Messages that are due, the oldest first.
///
/// # Errors
/// When the database fails.
pub fn due(c: &Connection, now: Instant, most: i64) -> Result<Vec<Due>> {
    let mut s = c.prepare_cached(
        "SELECT d.id, d.key, w.url, w.secret, d.body FROM delivery d JOIN webhook w ON w.id = d.webhook_id WHERE d.next_at <= ?1 ORDER BY d.next_at, d.id LIMIT ?2",
    )?;
    Ok(s.query_map(params![now.millis(), most], |r| {
        Ok(Due { id: r.get(0)?, key: r.get(1)?, url: r.get(2)?, secret: r.get(3)?, body: r.get(4)? })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// When the next message is due.
///
/// # Errors
/// When the database fails.
pub fn next_due(c: &Connection) -> Result<Option<Instant>> {
    Ok(c.prepare_cached("SELECT min(next_at) FROM delivery WHERE next_at IS NOT NULL")?
        .query_row([], |r| r.get::<_, Option<i64>>(0))?
        .map(Instant::of))
}

/// Records what became of a try: delivered, tried again later, or given up. A receiver that wants no more (410)
/// ends the webhook.
///
/// # Errors
/// When the database fails.
pub fn tried(c: &Connection, id: i64, status: Option<u16>, answer: &str, now: Instant) -> Result<()> {
    let answer: String = answer.chars().take(200).collect();
    let (webhook, tries): (i64, u32) = c
        .prepare_cached(
            "UPDATE delivery SET tries = tries + 1, status = ?2, answer = ?3, tried_at = ?4 WHERE id = ?1 RETURNING webhook_id, tries",
        )?
        .query_row(params![id, status, answer, now.millis()], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let (state, next) = match outcome(status) {
        Outcome::Delivered => (State::Delivered, None),
        Outcome::Gone => {
            close(c, webhook, "the receiver wants no more (410)", now)?;
            (State::GivenUp, None)
        }
        Outcome::Again => match again_after(tries) {
            Some(wait) => (State::Waiting, Some(now.millis() + wait)),
            None => (State::GivenUp, None),
        },
    };
    c.prepare_cached("UPDATE delivery SET state = ?2, next_at = ?3 WHERE id = ?1")?.execute(params![id, As(state), next])?;
    Ok(())
}

/// A line of the log.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Delivery {
    pub id: i64,
    pub webhook: String,
    /// Goes along as `webhook-id`.
    pub key: String,
    pub made_at: i64,
    pub tried_at: Option<i64>,
    pub next_at: Option<i64>,
    pub tries: i64,
    /// waiting, delivered, given up
    pub state: String,
    pub status: Option<i64>,
    pub answer: String,
    pub body: String,
}

/// The newest 200 messages.
///
/// # Errors
/// When the database fails.
pub fn log(c: &Connection) -> Result<Vec<Delivery>> {
    let mut s = c.prepare_cached(
        "SELECT d.id, w.name, d.key, d.made_at, d.tried_at, d.next_at, d.tries, d.state, d.status, d.answer, d.body FROM delivery d
         JOIN webhook w ON w.id = d.webhook_id ORDER BY d.id DESC LIMIT 200",
    )?;
    Ok(s.query_map([], |r| {
        Ok(Delivery {
            id: r.get(0)?,
            webhook: r.get(1)?,
            key: r.get(2)?,
            made_at: r.get(3)?,
            tried_at: r.get(4)?,
            next_at: r.get(5)?,
            tries: r.get(6)?,
            state: r.get::<_, As<State>>(7)?.0.to_string(),
            status: r.get(8)?,
            answer: r.get(9)?,
            body: r.get(10)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Tries one that was given up again, from the first wait on.
///
/// # Errors
/// When it isn't given up, its webhook has ended, or its person is gone.
pub fn again(c: &Connection, id: i64, now: Instant) -> Result<()> {
    let found: Option<bool> = c
        .query_row(formatcp!("SELECT d.state = {TOLD_GIVEN_UP} AND w.ended_at IS NULL AND d.body <> '' FROM delivery d JOIN webhook w ON w.id = d.webhook_id WHERE d.id = ?1"), [id], |r| r.get(0))
        .optional()?;
    if !found.ok_or(StoreError::Missing("message"))? {
        return Err(StoreError::Refused("Only a message that was given up, to a webhook in use, can be tried again.".into()));
    }
    c.execute(formatcp!("UPDATE delivery SET state = {TOLD_WAITING}, tries = 0, next_at = ?2 WHERE id = ?1"), params![id, now.millis()])?;
    Ok(())
}
