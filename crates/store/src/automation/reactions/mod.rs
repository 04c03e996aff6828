//! Reactions: the rules that are kept, what they did and to whom.
//!
//! * [`run`]: acting on what has come in; [`past`]: what a rule would have done in the past year.

pub mod done;
pub mod past;
pub mod run;

use crate::stored::As;
use crate::tags::Kind;
use crate::{Result, StoreError, deeds, settings};
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::id::{ContactId, ListId, MailingId};
use rinse_core::reaction::{Deed, Reaction, Trigger};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A reaction as it is kept.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = KeptReaction)]
pub struct Kept {
    pub id: i64,
    pub rule: Reaction,
    pub words: String,
    /// The mailing it belongs to, by name.
    pub mailing: Option<String>,
    /// Since when it acts; none: it is off.
    pub on_at: Option<i64>,
    pub ended_at: Option<i64>,
    /// How often it acted: asked for a mailing, on that one's messages.
    pub done: i64,
    pub taken_back: i64,
}

/// Which reactions are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    All,
    /// A mailing's own, and those that act everywhere.
    Of(MailingId),
    One(i64),
}

/// A reaction's row, without what it did.
struct Stored {
    id: i64,
    rule: Reaction,
    mailing: Option<String>,
    on_at: Option<i64>,
    ended_at: Option<i64>,
}

fn stored(c: &Connection, which: Which) -> Result<Vec<Stored>> {
    let (filter, value) = match which {
        Which::All => ("?1 IS NULL", None),
        Which::Of(m) => ("(r.mailing_id = ?1 OR r.mailing_id IS NULL AND r.ended_at IS NULL)", Some(m.0)),
        Which::One(id) => ("r.id = ?1", Some(id)),
    };
    let mut s = c.prepare_cached(&format!(
        "SELECT r.id, r.rule, m.name, r.on_at, r.ended_at FROM reaction r LEFT JOIN mailing m ON m.id = r.mailing_id WHERE {filter}
         ORDER BY r.ended_at IS NOT NULL, r.id"
    ))?;
    let rows = s.query_map([value], |r| Ok((r.get(0)?, r.get::<_, String>(1)?, r.get(2)?, r.get(3)?, r.get(4)?)))?;
    rows.map(|row| {
        let (id, rule, mailing, on_at, ended_at) = row?;
        Ok(Stored { id, rule: serde_json::from_str(&rule)?, mailing, on_at, ended_at })
    })
    .collect()
}

/// The rules that haven't ended, switched on or not.
fn in_use(c: &Connection) -> Result<Vec<Reaction>> {
    Ok(stored(c, Which::All)?.into_iter().filter(|s| s.ended_at.is_none()).map(|s| s.rule).collect())
}

/// Reactions, those that have ended last.
///
/// # Errors
/// When the database fails.
pub fn list(c: &Connection, which: Which) -> Result<Vec<Kept>> {
    let names = deeds::names(c)?;
    let mut of_all = c.prepare_cached("SELECT count(*), count(taken_back_at) FROM reacted WHERE reaction_id = ?1 AND ?2 IS NULL")?;
    let mut of_mailing = c.prepare_cached(
        "SELECT count(*), count(d.taken_back_at) FROM reacted d JOIN send s ON s.id = d.cause WHERE d.reaction_id = ?1 AND s.mailing_id = ?2",
    )?;
    let channel = if let Which::Of(m) = which { kind(c, m)?.1 } else { Channel::Email };
    let mut out = Vec::new();
    for s in stored(c, which)? {
        // Of those that act everywhere a mailing shows what they did about its own messages; what was bought or done
        // elsewhere belongs to none.
        let only = match which {
            Which::Of(m) if s.rule.mailing.is_none() => Some(m.0),
            _ => None,
        };
        if only.is_some() && !(s.rule.when.of_message() && s.rule.when.seen_on(channel)) {
            continue;
        }
        let count = if only.is_some() { &mut of_mailing } else { &mut of_all };
        let (done, taken_back) = count.query_row(params![s.id, only], |r| Ok((r.get(0)?, r.get(1)?)))?;
        let words = s.rule.words(&names);
        out.push(Kept { id: s.id, words, rule: s.rule, mailing: s.mailing, on_at: s.on_at, ended_at: s.ended_at, done, taken_back });
    }
    Ok(out)
}

/// # Errors
/// When there is no such reaction.
pub fn one(c: &Connection, id: i64) -> Result<Kept> {
    list(c, Which::One(id))?.pop().ok_or(StoreError::Missing("reaction"))
}

/// Is the mailing a template, and which channel is it on?
fn kind(c: &Connection, mailing: MailingId) -> Result<(bool, Channel)> {
    c.prepare_cached("SELECT template, channel FROM mailing WHERE id = ?1")?
        .query_row([mailing.0], |r| Ok((r.get(0)?, r.get::<_, As<Channel>>(1)?.0)))
        .optional()?
        .ok_or(StoreError::Missing("mailing"))
}

/// Does everything a rule refers to exist, and can its fields hold what it sets?
fn fits(c: &Connection, r: &Reaction) -> Result<()> {
    r.check().map_err(StoreError::Refused)?;
    if let Some(m) = r.mailing {
        let (template, channel) = kind(c, m)?;
        if template {
            return Err(StoreError::Refused("A template goes to nobody: choose a mailing.".into()));
        }
        if !r.when.seen_on(channel) {
            return Err(StoreError::Refused(
                "Nobody can tell of a text message whether it was opened or clicked. Wait for a reply, or for somebody leaving.".into(),
            ));
        }
    }
    r.then.iter().try_for_each(|deed| deeds::fits(c, deed))
}

/// Keeps a reaction, and switches it on when asked. A changed one that acted before ends, and another begins,
/// so that what was done stays with the rule that did it.
///
/// # Errors
/// A rule that can't be meant, or that refers to what is gone.
pub fn save(c: &Connection, id: Option<i64>, rule: &Reaction, on: bool, now: Instant, person: Option<i64>) -> Result<i64> {
    fits(c, rule)?;
    if let Some(id) = id {
        end(c, id, now, None)?;
    }
    let text = serde_json::to_string(rule)?;
    let saved: i64 = c.query_row(
        "INSERT INTO reaction (mailing_id, rule, made_at, person_id) VALUES (?1, ?2, ?3, ?4) RETURNING id",
        params![rule.mailing.map(|id| id.0), text, now.millis(), person],
        |r| r.get(0),
    )?;
    settings::audit(
        c,
        now,
        person,
        if id.is_none() { "reaction made" } else { "reaction changed" },
        "reaction",
        saved,
        &rule.words(&deeds::names(c)?),
    )?;
    if on {
        switch(c, saved, true, now, person)?;
    }
    Ok(saved)
}

/// Switches a reaction on or off. It acts on what happens from then on.
///
/// # Errors
/// When it has ended.
pub fn switch(c: &Connection, id: i64, on: bool, now: Instant, person: Option<i64>) -> Result<()> {
    if one(c, id)?.ended_at.is_some() {
        return Err(StoreError::Refused("This reaction has ended: make it again.".into()));
    }
    if on && !run::active(c)? {
        // Nobody looked meanwhile, and nothing from before concerns it.
        c.execute(
            "UPDATE reaction_mark SET response = coalesce((SELECT max(id) FROM response), 0), purchase = coalesce((SELECT max(id) FROM purchase), 0),
                event = coalesce((SELECT max(id) FROM event), 0), clock = ?1",
            [now.millis()],
        )?;
    }
    c.execute(
        "UPDATE reaction SET on_at = ?2 WHERE id = ?1 AND (on_at IS NULL) = (?2 IS NOT NULL)",
        params![id, on.then_some(now.millis())],
    )?;
    settings::audit(c, now, person, if on { "reaction switched on" } else { "reaction switched off" }, "reaction", id, "")
}

/// Ends a reaction; one that never acted goes altogether.
///
/// # Errors
/// When there is no such reaction.
pub fn end(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let kept = one(c, id)?;
    if kept.done == 0 {
        c.execute("DELETE FROM reaction WHERE id = ?1", [id])?;
    } else {
        c.execute("UPDATE reaction SET on_at = NULL, ended_at = coalesce(ended_at, ?2) WHERE id = ?1", params![id, now.millis()])?;
    }
    if person.is_some() {
        settings::audit(c, now, person, "reaction ended", "reaction", id, &kept.words)?;
    }
    Ok(())
}

/// The reactions and series that do such a thing, in words.
pub(crate) fn using(c: &Connection, does: impl Fn(&Deed) -> bool) -> Result<Vec<String>> {
    let doing: Vec<Reaction> = in_use(c)?.into_iter().filter(|r| r.then.iter().any(&does)).collect();
    let mut out = crate::series::doing(c, does)?;
    if !doing.is_empty() {
        let names = deeds::names(c)?;
        out.extend(doing.iter().map(|r| format!("reaction “{}”", r.words(&names))));
    }
    Ok(out)
}

/// Puts one tag or list in another's place, in every reaction.
pub(crate) fn retag(c: &Connection, kind: Kind, from: i64, into: i64) -> Result<()> {
    crate::series::retag(c, kind, from, into)?;
    for mut k in stored(c, Which::All)? {
        let before = k.rule.clone();
        for deed in &mut k.rule.then {
            match deed {
                Deed::Tag { tag: id, .. } if kind == Kind::Tag && *id == from => *id = into,
                Deed::List { list: id, .. } if kind == Kind::List && *id == ListId(from) => *id = ListId(into),
                _ => {}
            }
        }
        if k.rule != before {
            c.execute("UPDATE reaction SET rule = ?2 WHERE id = ?1", params![k.id, serde_json::to_string(&k.rule)?])?;
        }
    }
    Ok(())
}

/// The query for what a cause is called, by its number in `d.cause`.
fn cause_name(when: &Trigger) -> &'static str {
    match when {
        Trigger::Bought { .. } => "SELECT product FROM purchase WHERE id = d.cause",
        Trigger::Answered { .. } => "SELECT name FROM event WHERE id = d.cause",
        _ => "SELECT m.name FROM send s JOIN mailing m ON m.id = s.mailing_id WHERE s.id = d.cause",
    }
}

/// Somebody whom a reaction concerned.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Reacted {
    pub contact: ContactId,
    pub address: String,
    /// When it happened.
    pub at: i64,
    /// When it was acted upon.
    pub done_at: i64,
    pub taken_back_at: Option<i64>,
    /// What caused it: the mailing, the product, the event.
    pub cause: String,
}

/// Whom a reaction concerned, the newest 200 (or all, for a file).
///
/// # Errors
/// When there is no such reaction.
pub fn reacted(c: &Connection, id: i64, everyone: bool) -> Result<Vec<Reacted>> {
    let cause = cause_name(&one(c, id)?.rule.when);
    let mut s = c.prepare_cached(&format!(
        "SELECT k.id, k.address, d.at, d.done_at, d.taken_back_at, coalesce(({cause}), '') FROM reacted d JOIN contact g ON g.id = d.contact_id
         JOIN contact k ON k.id = coalesce(g.merged_into, g.id) WHERE d.reaction_id = ?1 ORDER BY d.at DESC, d.cause DESC LIMIT ?2"
    ))?;
    Ok(s.query_map(params![id, if everyone { -1 } else { 200 }], |r| {
        Ok(Reacted {
            contact: ContactId(r.get(0)?),
            address: r.get(1)?,
            at: r.get(2)?,
            done_at: r.get(3)?,
            taken_back_at: r.get(4)?,
            cause: r.get(5)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Something a reaction asks a person to do.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Task {
    pub id: i64,
    pub at: i64,
    pub words: String,
    pub contact: ContactId,
    pub address: String,
    pub done_at: Option<i64>,
    pub person: Option<String>,
}

/// Open tasks, the oldest first, then the newest done ones.
///
/// # Errors
/// When the database fails.
pub fn tasks(c: &Connection) -> Result<Vec<Task>> {
    let mut s = c.prepare_cached(
        "SELECT t.id, t.at, t.words, k.id, k.address, t.done_at, p.name FROM task t JOIN contact g ON g.id = t.contact_id
         JOIN contact k ON k.id = coalesce(g.merged_into, g.id) LEFT JOIN person p ON p.id = t.person_id
         ORDER BY t.done_at IS NOT NULL, CASE WHEN t.done_at IS NULL THEN t.at ELSE -t.done_at END, t.id LIMIT 200",
    )?;
    Ok(s.query_map([], |r| {
        Ok(Task {
            id: r.get(0)?,
            at: r.get(1)?,
            words: r.get(2)?,
            contact: ContactId(r.get(3)?),
            address: r.get(4)?,
            done_at: r.get(5)?,
            person: r.get(6)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// How many tasks wait.
///
/// # Errors
/// When the database fails.
pub fn open_tasks(c: &Connection) -> Result<i64> {
    Ok(c.prepare_cached("SELECT count(*) FROM task WHERE done_at IS NULL")?.query_row([], |r| r.get(0))?)
}

/// Marks a task as done, or as open again.
///
/// # Errors
/// When there is no such task.
pub fn settle(c: &Connection, id: i64, done: bool, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute("UPDATE task SET done_at = ?2, person_id = ?3 WHERE id = ?1", params![id, done.then_some(now.millis()), person])?;
    if n == 0 { Err(StoreError::Missing("task")) } else { Ok(()) }
}
