//! Judging hits: one as it comes in, and all of a message again. What is stored is always what judging it again gives.

use super::{Both, Changes, in_force};
use crate::response_kinds::{CLICK, OPEN};
use crate::stored::ids_as;
use crate::{Result, rollups};
use ipnet::IpNet;
use rinse_core::Instant;
use rinse_core::id::{ContactId, SendId};
use rinse_core::response::{Hit, Machine, Message, On, Rules, Standing, network, standing};
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::collections::HashMap;
use std::net::IpAddr;

/// What is known of a message as it is judged.
pub(crate) struct Known {
    pub(crate) contact: ContactId,
    pub(crate) delivered_at: Instant,
    pub(crate) domain: i64,
    /// Its messages of the last days, and those of them that were fetched within minutes.
    pub(crate) of_domain: (i64, i64),
    /// Of a message in a trial: whether its opens can be known was frozen with the roster, and so were the rules. Found out on the way, it
    /// would take opens out of what came late.
    frozen: Option<bool>,
    sealed_at: Option<i64>,
    /// On the message itself …
    unknown: bool,
    /// … and on its domain.
    pub(crate) domain_unknown: bool,
    pub(crate) first: bool,
    /// Said to be silent, or out of the mail for it, until they answer.
    pub(crate) silent: bool,
    pub(crate) sunset: bool,
}

impl Known {
    fn message(&self) -> Message {
        let fetching_domain = self.frozen.unwrap_or(self.unknown || self.domain_unknown);
        Message { delivered_at: self.delivered_at, fetching_domain }
    }
}

/// What is known of a message; none: there is no such message.
pub(crate) fn known(c: &Connection, send: SendId) -> Result<Option<Known>> {
    let mut s = c.prepare_cached(
        "SELECT s.contact_id, coalesce(s.accepted_at, s.handed_at, s.at), d.id,
            coalesce((SELECT r.opens_unknown FROM roster r WHERE r.trial_id = t.id AND r.contact_id = s.contact_id), h.opens_unknown),
            coalesce(t.sealed_at, iif(h.contact_id IS NULL, NULL, (SELECT x.sealed_at FROM hour_round o JOIN hour_trial x ON x.id = o.trial_id
                WHERE o.mailing_id = s.mailing_id AND o.missed IS NULL))),
            s.opens_unknown, d.opens_unknown, s.any_open_at IS NULL, d.delivered, d.fetched,
            EXISTS (SELECT 1 FROM silent x WHERE x.contact_id = s.contact_id), c.sunset_at IS NOT NULL
         FROM send s JOIN contact c ON c.id = s.contact_id JOIN domain d ON d.id = c.domain_id
         LEFT JOIN trial t ON s.phase = 1 AND t.mailing_id = s.mailing_id
         LEFT JOIN hour_roster h ON h.mailing_id = s.mailing_id AND h.contact_id = s.contact_id WHERE s.id = ?1",
    )?;
    let row = |r: &Row<'_>| {
        Ok(Known {
            contact: ContactId(r.get(0)?),
            delivered_at: Instant::of(r.get(1)?),
            domain: r.get(2)?,
            frozen: r.get(3)?,
            sealed_at: r.get(4)?,
            unknown: r.get(5)?,
            domain_unknown: r.get(6)?,
            first: r.get(7)?,
            of_domain: (r.get(8)?, r.get(9)?),
            silent: r.get(10)?,
            sunset: r.get(11)?,
        })
    };
    Ok(s.query_row([send.0], row).optional()?)
}

/// A hit as it came in.
#[derive(Debug, Clone)]
pub struct Came {
    /// The link's place; none: an open.
    pub link: Option<u32>,
    pub at: Instant,
    pub agent: String,
    pub from: Option<IpAddr>,
    pub head: bool,
}

/// How long a name by which a program calls itself can be; what is longer is cut before it is judged, so that judging it again gives the same.
pub(crate) const LONGEST_AGENT: usize = 120;

fn network_number(c: &Connection, of: IpNet) -> Result<i64> {
    let text = of.to_string();
    let there = c.prepare_cached("SELECT id FROM network WHERE network = ?1")?.query_row([&text], |r| r.get(0)).optional()?;
    there.map_or_else(
        || Ok(c.prepare_cached("INSERT INTO network (network) VALUES (?1) RETURNING id")?.query_row([&text], |r| r.get(0))?),
        Ok,
    )
}

/// Writes a hit down as it is judged; whether a person made it.
pub(crate) fn record(c: &Connection, send: SendId, known: &Known, came: &Came) -> Result<bool> {
    let (version, rules) = in_force(c, known.sealed_at)?;
    let agent: String = came.agent.chars().take(LONGEST_AGENT).collect();
    let from = came.from.map(network);
    let on = came.link.map_or(On::Picture, |l| On::Link(l.into()));
    let judged = rules.judge(&Hit { at: came.at, on, agent: &agent, network: from, head: came.head }, &known.message());
    let code = judged.map(|m| m as i64);
    c.prepare_cached(
        "INSERT INTO response (at, send_id, kind, link, agent, machine, rules_version, network_id) VALUES (?1,?2,?3,?4,?5,?6,?7,?8)",
    )?
    .execute(params![
        came.at.millis(),
        send.0,
        if came.link.is_some() { CLICK } else { OPEN },
        came.link,
        agent,
        code.unwrap_or(0),
        version,
        from.map(|n| network_number(c, n)).transpose()?
    ])?;
    if came.link.is_some() {
        c.prepare_cached(
            "UPDATE send SET any_click_at = min(coalesce(any_click_at, ?2), ?2), click_at = CASE WHEN ?3 IS NULL THEN min(coalesce(click_at, ?2), ?2) ELSE click_at END,
             trial_click_at = CASE WHEN ?3 IS NULL THEN min(coalesce(trial_click_at, ?2), ?2) ELSE trial_click_at END, click_rule = coalesce(click_rule, ?3) WHERE id = ?1",
        )?
        .execute(params![send.0, came.at.millis(), code])?;
        if is_near_burst(c, send, came.at, &rules)? {
            judge(c, send)?;
        }
    } else {
        c.prepare_cached(
            "UPDATE send SET any_open_at = min(coalesce(any_open_at, ?2), ?2), open_at = CASE WHEN ?3 IS NULL THEN min(coalesce(open_at, ?2), ?2) ELSE open_at END,
             open_rule = coalesce(open_rule, ?3) WHERE id = ?1",
        )?
        .execute(params![send.0, came.at.millis(), code])?;
        if known.frozen.is_none() && known.domain_unknown && !known.unknown {
            // Its domain was found out after it had gone: from now on the message says so.
            opens_unknown(c, send)?;
        }
    }
    Ok(judged.is_none())
}

fn opens_unknown(c: &Connection, send: SendId) -> Result<()> {
    c.prepare_cached("UPDATE send SET opens_unknown = 1 WHERE id = ?1")?.execute([send.0])?;
    judge(c, send).map(drop)
}

/// Are there links enough around an instant that earlier clicks may turn out to be a scanner's?
fn is_near_burst(c: &Connection, send: SendId, at: Instant, rules: &Rules) -> Result<bool> {
    let near = rules.burst_within();
    let links: i64 = c
        .prepare_cached("SELECT count(DISTINCT link) FROM response WHERE send_id = ?1 AND kind = 2 AND at BETWEEN ?2 AND ?3")?
        .query_row(params![send.0, at.millis() - 2 * near, at.millis() + 2 * near], |r| r.get(0))?;
    Ok(links >= rules.burst_links.into())
}

/// A stored hit with how it is judged.
struct Stored {
    id: i64,
    at: Instant,
    on: On,
    agent: String,
    network: Option<IpNet>,
    machine: i64,
}

fn stored(c: &Connection, send: SendId) -> Result<Vec<Stored>> {
    let mut s = c.prepare_cached(
        "SELECT r.id, r.at, r.kind, r.link, r.agent, n.network, r.machine FROM response r LEFT JOIN network n ON n.id = r.network_id
         WHERE r.send_id = ?1 AND r.kind IN (1, 2) ORDER BY r.id",
    )?;
    let row = |r: &Row<'_>| {
        let (kind, link): (i64, Option<i64>) = (r.get(2)?, r.get(3)?);
        let on = if kind == OPEN { On::Picture } else { link.map_or(On::Button, On::Link) };
        let network = r.get::<_, Option<String>>(5)?.and_then(|n| n.parse().ok());
        Ok(Stored { id: r.get(0)?, at: Instant::of(r.get(1)?), on, agent: r.get(4)?, network, machine: r.get(6)? })
    };
    Ok(s.query_map([send.0], row)?.collect::<rusqlite::Result<_>>()?)
}

/// What judging a message again gives.
pub(super) struct Anew {
    pub(super) contact: ContactId,
    pub(super) before: Standing,
    pub(super) after: Standing,
    /// Stored hits that are judged otherwise, with their new code.
    otherwise: Vec<(i64, i64)>,
    version: i64,
}

/// Rules to try on what is stored, and what they make of domains.
pub(super) struct Other<'a> {
    pub(super) rules: &'a Rules,
    /// Whether a domain's opens can be known, where that changes for messages delivered since …
    pub(super) domains: &'a HashMap<i64, bool>,
    /// … then.
    pub(super) since: Instant,
}

/// What judging a message again gives, by the rules that hold for it or by `other` ones; none of a message in a trial that is asked about
/// other rules, or of one that isn't there.
pub(super) fn anew(c: &Connection, send: SendId, other: Option<&Other<'_>>) -> Result<Option<Anew>> {
    let Some(known) = known(c, send)? else { return Ok(None) };
    if other.is_some() && known.sealed_at.is_some() {
        return Ok(None);
    }
    let stored_rules;
    let (version, rules) = if let Some(o) = other {
        (0, o.rules)
    } else {
        stored_rules = in_force(c, known.sealed_at)?;
        (stored_rules.0, &*stored_rules.1)
    };
    // Of a domain that was found out the message says so itself; until it does, its day hasn't come.
    let mut message = Message { fetching_domain: known.frozen.unwrap_or(known.unknown), ..known.message() };
    if let Some(o) = other
        && known.delivered_at >= o.since
    {
        message.fetching_domain = o.domains.get(&known.domain).copied().unwrap_or(message.fetching_domain);
    }
    let stored = stored(c, send)?;
    // HEAD is no version's to change: that it was one is known by its code alone.
    let head = |s: &Stored| s.machine == Machine::HeadRequest as i64;
    let hits: Vec<Hit<'_>> =
        stored.iter().map(|s| Hit { at: s.at, on: s.on, agent: &s.agent, network: s.network, head: head(s) }).collect();
    let was: Vec<(Hit<'_>, Option<Machine>)> = hits.iter().zip(&stored).map(|(h, s)| (*h, Machine::of_code(s.machine))).collect();
    let mut judged = rules.judge_all(&hits, &message);
    // Of a deleted person it isn't kept where a hit came from: what it was judged by stays.
    for (j, s) in judged.iter_mut().zip(&stored).filter(|(_, s)| s.agent.is_empty() && s.network.is_none()) {
        let by_origin = Machine::of_code(s.machine).filter(|m| matches!(m, Machine::ProxyAgent | Machine::ProxyNetwork));
        j.1 = j.1.or(by_origin);
    }
    let otherwise = judged
        .iter()
        .zip(&stored)
        .map(|(j, s)| (s.id, j.1.map_or(0, |m| m as i64), s.machine))
        .filter(|(_, new, old)| new != old)
        .map(|(id, new, _)| (id, new))
        .collect();
    Ok(Some(Anew { contact: known.contact, before: standing(&was), after: standing(&judged), otherwise, version }))
}

/// Judges all hits on a message again; whether that changed anything.
pub(crate) fn judge(c: &Connection, send: SendId) -> Result<bool> {
    let Some(a) = anew(c, send, None)? else { return Ok(false) };
    if a.otherwise.is_empty() {
        return Ok(false);
    }
    write(c, send, &a)?;
    Ok(true)
}

/// Judges all hits on a message again, whether or not one comes out otherwise: hits may have come or gone since.
pub(crate) fn judge_whole(c: &Connection, send: SendId) -> Result<()> {
    c.prepare_cached(
        "UPDATE send SET any_open_at = (SELECT min(at) FROM response WHERE send_id = ?1 AND kind = 1), any_click_at = (SELECT min(at) FROM response WHERE send_id = ?1 AND kind = 2) WHERE id = ?1",
    )?
    .execute([send.0])?;
    match anew(c, send, None)? {
        Some(a) => write(c, send, &a),
        None => Ok(()),
    }
}

fn write(c: &Connection, send: SendId, a: &Anew) -> Result<()> {
    for (id, code) in &a.otherwise {
        c.prepare_cached("UPDATE response SET machine = ?2, rules_version = ?3 WHERE id = ?1")?.execute(params![id, code, a.version])?;
    }
    let (s, at) = (&a.after, |i: Option<Instant>| i.map(|i| i.millis()));
    let code = |m: Option<Machine>| m.map(|m| m as i64);
    c.prepare_cached("UPDATE send SET open_at = ?2, click_at = ?3, trial_click_at = ?4, open_rule = ?5, click_rule = ?6 WHERE id = ?1")?
        .execute(params![send.0, at(s.open_at), at(s.click_at), at(s.trial_click_at), code(s.open_rule), code(s.click_rule)])?;
    rollups::due(c, a.contact)?;
    // An answer is a sign of life: what a mailbox's failures come to goes by it.
    c.prepare_cached("INSERT INTO status_due VALUES (?1) ON CONFLICT DO NOTHING")?.execute([a.contact.0])?;
    Ok(())
}

/// Counts what changes of a message.
pub(super) fn tally(changes: &mut Changes, a: &Anew, domain: &str) {
    let mut both = Both::default();
    both.opens.count(a.before.open_at.is_some(), a.after.open_at.is_some());
    both.clicks.count(a.before.click_at.is_some(), a.after.click_at.is_some());
    if both == Both::default() {
        return;
    }
    changes.all.add(both);
    changes.domains.entry(domain.to_owned()).or_default().add(both);
    let (opens, clicks) = (both.opens, both.clicks);
    let by = |moved: super::Moved, before: Option<Machine>, after: Option<Machine>| if moved.out > 0 { after } else { before };
    if opens.all() > 0
        && let Some(rule) = by(opens, a.before.open_rule, a.after.open_rule)
    {
        changes.rules.entry(rule).or_default().opens.add(opens);
    }
    if clicks.all() > 0
        && let Some(rule) = by(clicks, a.before.click_rule, a.after.click_rule)
    {
        changes.rules.entry(rule).or_default().clicks.add(clicks);
    }
}

/// The name of a message's recipient's domain.
pub(super) fn domain_of(c: &Connection, contact: ContactId) -> Result<String> {
    Ok(c.prepare_cached("SELECT d.name FROM contact k JOIN domain d ON d.id = k.domain_id WHERE k.id = ?1")?
        .query_row([contact.0], |r| r.get(0))
        .optional()?
        .unwrap_or_default())
}

/// A part of what is stored, looked at: how far it goes, how many messages that were, and which of them are judged otherwise by now.
#[derive(Debug, Default)]
pub struct Looked {
    /// The last message looked at; none: there is none left.
    pub upto: Option<i64>,
    pub messages: u64,
    pub otherwise: Vec<SendId>,
}

/// The version by which what is stored is still to be judged, and the last message that was.
///
/// # Errors
/// When the database fails.
pub fn unfinished(c: &Connection) -> Result<Option<(i64, i64)>> {
    Ok(c.prepare_cached("SELECT id, upto FROM machine_rules WHERE done_at IS NULL ORDER BY id DESC LIMIT 1")?
        .query_row([], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?)
}

/// Looks at the next messages with hits. It only reads: what the writer then has to write is little.
///
/// # Errors
/// When the database fails.
pub fn look(c: &Connection, after: i64, most: u32) -> Result<Looked> {
    let sql = "SELECT send_id FROM response INDEXED BY response_send WHERE send_id > ?1 AND kind IN (1, 2) GROUP BY send_id ORDER BY send_id LIMIT ?2";
    let sends: Vec<SendId> = ids_as(c, sql, params![after, most], SendId)?;
    let mut looked = Looked { upto: sends.last().map(|id| id.0), messages: sends.len() as u64, otherwise: Vec::new() };
    for send in sends {
        if anew(c, send, None)?.is_some_and(|a| !a.otherwise.is_empty()) {
            looked.otherwise.push(send);
        }
    }
    Ok(looked)
}

/// Judges messages again that were found to be judged otherwise, and counts what that changes.
///
/// # Errors
/// When the database fails.
pub fn judge_these(c: &Connection, version: i64, sends: &[SendId]) -> Result<()> {
    let mut changes = Changes::default();
    for send in sends {
        let Some(a) = anew(c, *send, None)?.filter(|a| !a.otherwise.is_empty()) else { continue };
        tally(&mut changes, &a, &domain_of(c, a.contact)?);
        write(c, *send, &a)?;
    }
    note(c, version, changes)
}

fn note(c: &Connection, version: i64, part: Changes) -> Result<()> {
    let text: Option<String> = c.prepare_cached("SELECT changed FROM machine_rules WHERE id = ?1")?.query_row([version], |r| r.get(0))?;
    let mut changes: Changes = text.map(|t| serde_json::from_str(&t)).transpose()?.unwrap_or_default();
    changes.add(part);
    c.prepare_cached("UPDATE machine_rules SET changed = ?2 WHERE id = ?1")?.execute(params![version, serde_json::to_string(&changes)?])?;
    Ok(())
}

/// Notes how far judging by a version has come; at the end, when that was.
///
/// # Errors
/// When the database fails.
pub fn came_to(c: &Connection, version: i64, looked: &Looked, now: Instant) -> Result<()> {
    note(c, version, Changes { judged: looked.messages, ..Changes::default() })?;
    c.prepare_cached("UPDATE machine_rules SET upto = coalesce(?2, upto), done_at = iif(?2 IS NULL, ?3, done_at) WHERE id = ?1")?
        .execute(params![version, looked.upto, now.millis()])?;
    Ok(())
}
