//! Suppression lists as they are kept: what they name, what they are for, until when. Rows end and
//! stay, so that an old decision can be explained.

mod caught;

pub use caught::{Catch, Caught, catches, look, note};

use crate::{Result, StoreError, segments};
use rinse_core::Instant;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SegmentId};
use rinse_core::segment::Tree;
use rinse_core::suppression::{Entry, Lists};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// What mail a list is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = SuppressionScope)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum For {
    /// Service mail too.
    All,
    Letterhead {
        id: i64,
    },
    Topic {
        id: i64,
    },
    Mailing {
        id: i64,
    },
}

impl For {
    fn columns(self) -> (&'static str, Option<i64>) {
        match self {
            Self::All => ("all", None),
            Self::Letterhead { id } => ("letterhead", Some(id)),
            Self::Topic { id } => ("topic", Some(id)),
            Self::Mailing { id } => ("mailing", Some(id)),
        }
    }

    /// Is a mailing's mail in it?
    pub(crate) fn covers(self, t: Target) -> bool {
        match self {
            Self::All => true,
            Self::Letterhead { id } => !t.service && id == t.letterhead.0,
            Self::Topic { id } => !t.service && Some(id) == t.topic,
            Self::Mailing { id } => !t.service && id == t.mailing.0,
        }
    }

    fn read(kind: &str, id: Option<i64>) -> Self {
        match (kind, id) {
            ("letterhead", Some(id)) => Self::Letterhead { id },
            ("topic", Some(id)) => Self::Topic { id },
            ("mailing", Some(id)) => Self::Mailing { id },
            _ => Self::All,
        }
    }
}

/// A list, or a live rule.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = SuppressionList)]
pub struct List {
    pub id: i64,
    pub name: String,
    pub reason: String,
    pub scope: For,
    /// The scope in words.
    pub scope_words: String,
    /// A live rule: anybody who is in this segment.
    pub segment_id: Option<SegmentId>,
    pub segment: Option<String>,
    pub lines: i64,
    pub made_at: i64,
    /// When somebody last said that it is still right.
    pub looked_at: i64,
}

/// What one is made of.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[schema(as = NewSuppressionList)]
pub struct NewList {
    pub name: String,
    #[serde(default)]
    pub reason: String,
    pub scope: For,
    #[serde(default)]
    pub segment_id: Option<SegmentId>,
}

/// A line of a list.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = SuppressionLine)]
pub struct Line {
    pub id: i64,
    pub list_id: i64,
    pub text: String,
    pub reason: String,
    pub source: String,
    pub added_at: i64,
    pub expires_at: Option<i64>,
}

/// A decision keeps a bit for each list, so there are at most so many at once.
const MOST: usize = 60;

/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<List>> {
    let mut s = c.prepare_cached(
        "SELECT l.id, l.name, l.reason, l.scope, l.scope_id, l.segment_id, g.name, l.made_at, l.looked_at,
            (SELECT count(*) FROM suppression_entry e WHERE e.list_id = l.id AND e.ended_at IS NULL),
            coalesce((SELECT name FROM letterhead WHERE l.scope = 'letterhead' AND id = l.scope_id), (SELECT name FROM topic WHERE l.scope = 'topic' AND id = l.scope_id),
                (SELECT name FROM mailing WHERE l.scope = 'mailing' AND id = l.scope_id), '')
         FROM suppression_list l LEFT JOIN segment g ON g.id = l.segment_id WHERE l.ended_at IS NULL ORDER BY l.id",
    )?;
    let rows = s.query_map([], |r| {
        let scope = For::read(&r.get::<_, String>(3)?, r.get(4)?);
        let named: String = r.get(10)?;
        Ok(List {
            id: r.get(0)?,
            name: r.get(1)?,
            reason: r.get(2)?,
            scope_words: match scope {
                For::All => "all mail".into(),
                For::Letterhead { .. } => format!("letterhead {named}"),
                For::Topic { .. } => format!("topic {named}"),
                For::Mailing { .. } => format!("mailing {named}"),
            },
            scope,
            segment_id: r.get::<_, Option<i64>>(5)?.map(SegmentId),
            segment: r.get(6)?,
            made_at: r.get(7)?,
            looked_at: r.get(8)?,
            lines: r.get(9)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The names of all lists there are and were.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection) -> Result<HashMap<i64, String>> {
    let mut s = c.prepare_cached("SELECT id, name FROM suppression_list")?;
    Ok(s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When there is no such list.
pub fn one(c: &Connection, id: i64) -> Result<List> {
    all(c)?.into_iter().find(|l| l.id == id).ok_or(StoreError::Missing("suppression list"))
}

/// # Errors
/// A name that is taken, too many lists, or a scope or segment that isn't there.
pub fn make(c: &Connection, n: &NewList, now: Instant, person: Option<i64>) -> Result<i64> {
    let name = n.name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(StoreError::Refused("A suppression list needs a name of at most 80 characters.".into()));
    }
    let there = all(c)?;
    if there.iter().any(|l| l.name.to_lowercase() == name.to_lowercase()) {
        return Err(StoreError::Refused(format!("There is a suppression list named {name} already: give another name.")));
    }
    if there.len() >= MOST {
        return Err(StoreError::Refused(format!("There are {MOST} suppression lists, the most there can be. End one first.")));
    }
    if let Some(segment) = n.segment_id {
        segments::one(c, segment)?;
    }
    let (kind, id) = n.scope.columns();
    let sql = match n.scope {
        For::All => None,
        For::Letterhead { .. } => Some(("SELECT 1 FROM letterhead WHERE id = ?1", "letterhead")),
        For::Topic { .. } => Some(("SELECT 1 FROM topic WHERE id = ?1", "topic")),
        For::Mailing { .. } => Some(("SELECT 1 FROM mailing WHERE id = ?1", "mailing")),
    };
    if let Some((sql, what)) = sql
        && !c.prepare_cached(sql)?.exists([id])?
    {
        return Err(StoreError::Missing(what));
    }
    let list = c.query_row(
        "INSERT INTO suppression_list (name, reason, scope, scope_id, segment_id, made_at, person_id, looked_at) VALUES (?1,?2,?3,?4,?5,?6,?7,?6) RETURNING id",
        params![name, n.reason.trim(), kind, id, n.segment_id.map(|id| id.0), now.millis(), person],
        |r| r.get(0),
    )?;
    if let Some(segment) = n.segment_id {
        note(c, &[(list, segments::people(c, &Tree::Segment { segment }, now)?)], now)?;
    }
    crate::settings::audit(c, now, person, "suppression list made", "suppression", list, name)?;
    Ok(list)
}

/// Ends a list with all its lines. The first one, for those who are never mailed, stays.
///
/// # Errors
/// When there is no such list.
pub fn end(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let list = one(c, id)?;
    if id == 1 {
        return Err(StoreError::Refused("This list can't be ended. Take lines off it one by one.".into()));
    }
    c.execute("UPDATE suppression_list SET ended_at = ?2 WHERE id = ?1", [id, now.millis()])?;
    c.execute("UPDATE suppression_entry SET ended_at = ?2 WHERE list_id = ?1 AND ended_at IS NULL", [id, now.millis()])?;
    crate::settings::audit(c, now, person, "suppression list ended", "suppression", id, &list.name)
}

/// Somebody looked it over, and it is still right.
///
/// # Errors
/// When there is no such list.
pub fn looked_over(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let list = one(c, id)?;
    c.execute("UPDATE suppression_list SET looked_at = ?2 WHERE id = ?1", [id, now.millis()])?;
    crate::settings::audit(c, now, person, "suppression list looked over", "suppression", id, &list.name)
}

/// What is written beside new lines.
#[derive(Debug, Clone, Copy)]
pub struct Beside<'a> {
    pub reason: &'a str,
    pub source: &'a str,
    pub expires_at: Option<Instant>,
    pub person: Option<i64>,
}

/// Puts a line on a list; one that is there already stays as it is. True when it is new.
///
/// # Errors
/// When there is no such list.
pub fn add(c: &Connection, list: i64, entry: &Entry, b: Beside<'_>, now: Instant) -> Result<bool> {
    Ok(c.prepare_cached(
        "INSERT INTO suppression_entry (list_id, kind, text, reason, source, added_at, expires_at, person_id) VALUES (?1,?2,?3,?4,?5,?6,?7,?8)
         ON CONFLICT (text, list_id) WHERE ended_at IS NULL DO NOTHING",
    )?
    .execute(params![list, entry.code(), entry.text(), b.reason, b.source, now.millis(), b.expires_at.map(|t| t.millis()), b.person])?
        > 0)
}

/// Takes a line off its list.
///
/// # Errors
/// When there is no such line.
pub fn take_off(c: &Connection, line: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let text: Option<String> = c
        .query_row(
            "UPDATE suppression_entry SET ended_at = ?2 WHERE id = ?1 AND ended_at IS NULL RETURNING text",
            [line, now.millis()],
            |r| r.get(0),
        )
        .optional()?;
    let text = text.ok_or(StoreError::Missing("line on a suppression list"))?;
    crate::settings::audit(c, now, person, "no longer suppressed", "suppression", line, &text)
}

/// The lines of a list, the newest first, at most `most`.
///
/// # Errors
/// When the database fails.
pub fn lines(c: &Connection, list: i64, most: i64) -> Result<Vec<Line>> {
    let mut s = c.prepare_cached(
        "SELECT id, list_id, text, reason, source, added_at, expires_at FROM suppression_entry WHERE list_id = ?1 AND ended_at IS NULL ORDER BY id DESC LIMIT ?2",
    )?;
    let rows = s.query_map([list, most], |r| {
        Ok(Line {
            id: r.get(0)?,
            list_id: r.get(1)?,
            text: r.get(2)?,
            reason: r.get(3)?,
            source: r.get(4)?,
            added_at: r.get(5)?,
            expires_at: r.get(6)?,
        })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The mailing, as scopes ask for it.
#[derive(Debug, Clone, Copy)]
pub struct Target {
    pub mailing: MailingId,
    pub topic: Option<i64>,
    pub letterhead: LetterheadId,
    pub service: bool,
}

/// What lists say that apply to a mailing at an instant, by their places.
pub(crate) struct Applying {
    pub(crate) lists: Lists,
    /// Live rules: their place and their segment.
    pub(crate) rules: Vec<(u32, i64)>,
}

pub(crate) fn of_mailing(c: &Connection, target: Target, at: Instant) -> Result<Vec<(i64, Option<i64>)>> {
    let mut s = c.prepare_cached(
        "SELECT id, segment_id FROM suppression_list WHERE made_at <= ?1 AND (ended_at IS NULL OR ended_at > ?1) AND
            (scope = 'all' OR NOT ?5 AND (scope = 'letterhead' AND scope_id = ?2 OR scope = 'topic' AND scope_id = ?3 OR scope = 'mailing' AND scope_id = ?4)) ORDER BY id LIMIT 60",
    )?;
    Ok(s.query_map(params![at.millis(), target.letterhead.0, target.topic, target.mailing.0, target.service], |r| {
        Ok((r.get(0)?, r.get(1)?))
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Can what these lists say be another thing at an instant to come: by a live rule, or by lines that end?
pub(crate) fn changes_by_itself(c: &Connection, asked: &[(i64, Option<i64>)]) -> Result<bool> {
    let mut ends =
        c.prepare_cached("SELECT 1 FROM suppression_entry WHERE list_id = ?1 AND expires_at IS NOT NULL AND ended_at IS NULL")?;
    for (list, segment) in asked {
        if segment.is_some() || ends.exists([list])? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// What the lists of [`of_mailing`] say at an instant.
pub(crate) fn applying(c: &Connection, asked: &[(i64, Option<i64>)], at: Instant) -> Result<Applying> {
    let mut a = Applying { lists: Lists::default(), rules: Vec::new() };
    for (place, (id, segment)) in (0u32..).zip(asked) {
        if let Some(segment) = segment {
            a.rules.push((place, *segment));
        }
        fill(c, &mut a.lists, place, *id, at)?;
    }
    Ok(a)
}

/// The lines of a list that hold at an instant.
const LINES: &str = "FROM suppression_entry WHERE list_id = ?1 AND added_at <= ?2 AND (ended_at IS NULL OR ended_at > ?2) AND (expires_at IS NULL OR expires_at > ?2)";

/// Puts the lines that a list has at an instant in a place.
fn fill(c: &Connection, lists: &mut Lists, place: u32, list: i64, at: Instant) -> Result<()> {
    let mut s = c.prepare_cached(&format!("SELECT kind, text {LINES}"))?;
    let mut rows = s.query([list, at.millis()])?;
    while let Some(r) = rows.next()? {
        lists.add(place, Entry::stored(r.get(0)?, r.get(1)?));
    }
    Ok(())
}

/// The domains that some list names, with the lists' bits.
pub(crate) fn named_domains(c: &Connection, lists: &Lists) -> Result<HashMap<i64, u64>> {
    let mut s = c.prepare_cached("SELECT id, name FROM domain")?;
    let mut rows = s.query([])?;
    let mut named = HashMap::new();
    while let Some(r) = rows.next()? {
        let bits = lists.domain(r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?);
        if bits != 0 {
            named.insert(r.get(0)?, bits);
        }
    }
    Ok(named)
}

/// The lists of a mailing that name one person, by their bits: as [`applying`], asked for one.
///
/// # Errors
/// When the database fails.
pub fn naming(c: &Connection, target: Target, contact: ContactId, at: Instant) -> Result<(Vec<i64>, u64)> {
    let asked = of_mailing(c, target, at)?;
    Ok((asked.iter().map(|a| a.0).collect(), naming_on(c, &asked, contact, at)?))
}

/// The lists on which an address, its hash or its domain is written.
fn written_on(c: &Connection, key: &str, domain: &str, at: Instant) -> Result<Vec<i64>> {
    let names = std::rc::Rc::new(names_of(key, domain).into_iter().map(rusqlite::types::Value::from).collect::<Vec<_>>());
    Ok(c.prepare_cached("SELECT list_id FROM suppression_entry WHERE text IN rarray(?1) AND added_at <= ?2 AND (ended_at IS NULL OR ended_at > ?2) AND (expires_at IS NULL OR expires_at > ?2)")?
        .query_map(params![names, at.millis()], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?)
}

/// Do the lists of a mailing name this address, whether somebody here has it or not?
pub(crate) fn names_address(c: &Connection, target: Target, key: &str, at: Instant) -> Result<bool> {
    let on = written_on(c, key, key.rsplit_once('@').map_or("", |(_, domain)| domain), at)?;
    Ok(of_mailing(c, target, at)?.iter().any(|(list, _)| on.contains(list)))
}

/// Which of these lists name one person, a bit each.
pub(crate) fn naming_on(c: &Connection, asked: &[(i64, Option<i64>)], contact: ContactId, at: Instant) -> Result<u64> {
    let (key, domain): (String, String) = c
        .prepare_cached("SELECT c.address_key, d.name FROM contact c JOIN domain d ON d.id = c.domain_id WHERE c.id = ?1")?
        .query_row([contact.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let on = written_on(c, &key, &domain, at)?;
    let mut bits = 0;
    for (place, (id, segment)) in (0u32..).zip(asked) {
        let named = on.contains(id)
            || match segment {
                Some(segment) => {
                    let condition = segments::condition(c, SegmentId(*segment), at)?;
                    let sql = format!("SELECT 1 FROM contact c WHERE c.id = ? AND {}", condition.text);
                    let values = std::iter::once(contact.0.into()).chain(condition.values);
                    c.prepare_cached(&sql)?.exists(rusqlite::params_from_iter(values))?
                }
                None => false,
            };
        bits |= u64::from(named) << place;
    }
    Ok(bits)
}

/// The people whom lists name.
fn named(c: &Connection, lists: &Lists) -> Result<Vec<ContactId>> {
    let domains = named_domains(c, lists)?;
    let mut s = c.prepare_cached("SELECT id, domain_id, address_key FROM contact WHERE gone IS NULL")?;
    let mut rows = s.query([])?;
    let mut found = Vec::new();
    while let Some(r) = rows.next()? {
        if domains.contains_key(&r.get(1)?) || lists.address(r.get_ref(2)?.as_str().map_err(rusqlite::Error::from)?) != 0 {
            found.push(ContactId(r.get(0)?));
        }
    }
    Ok(found)
}

/// The people whom some entries would name.
///
/// # Errors
/// When the database fails.
pub fn would_name(c: &Connection, entries: &[Entry]) -> Result<Vec<ContactId>> {
    let mut lists = Lists::default();
    for e in entries {
        lists.add(0, e.clone());
    }
    named(c, &lists)
}

/// Everything that names a person on a list: their address, its hash, its domain, and those that it is in.
fn names_of(key: &str, domain: &str) -> Vec<String> {
    let mut names = vec![key.to_owned(), rinse_core::suppression::hash(key), domain.to_owned()];
    let mut rest = Some(domain);
    while let Some(name) = rest {
        names.push(format!("*.{name}"));
        rest = name.split_once('.').map(|(_, parent)| parent);
    }
    names
}
