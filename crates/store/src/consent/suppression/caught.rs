//! Whom suppression lists catch, and since when.

use super::{LINES, named, names_of, one};
use crate::{Result, segments};
use rinse_core::Instant;
use rinse_core::id::{ContactId, SegmentId};
use rinse_core::segment::Tree;
use rinse_core::suppression::{Entry, Lists};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use utoipa::ToSchema;

/// Whom a list catches now: how many, and the last of them: by when both the line and the person were there, and for
/// a live rule by the daily look that first found them in its segment.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = SuppressionCatch)]
pub struct Catch {
    pub people: i64,
    pub last: Vec<Caught>,
}

/// Somebody on a suppression list, and since when.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Caught {
    pub id: ContactId,
    pub address: String,
    pub at: i64,
}

/// Since when people are noted as caught by a live rule.
fn noted(c: &Connection, list: i64) -> Result<HashMap<ContactId, i64>> {
    let mut s = c.prepare_cached("SELECT contact_id, at FROM suppression_caught WHERE list_id = ?1")?;
    Ok(s.query_map([list], |r| Ok((ContactId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// The people whom each live rule catches now, to be noted by [`note`]. Read apart, since a large base takes its time.
///
/// # Errors
/// When the database fails.
pub fn look(c: &Connection, now: Instant) -> Result<Vec<(i64, Vec<ContactId>)>> {
    let mut s = c.prepare("SELECT id, segment_id FROM suppression_list WHERE segment_id IS NOT NULL AND ended_at IS NULL ORDER BY id")?;
    let rules: Vec<(i64, i64)> = s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    rules.into_iter().map(|(list, segment)| Ok((list, segments::people(c, &Tree::Segment { segment: SegmentId(segment) }, now)?))).collect()
}

/// Notes who came under a live rule since the last look, and who is under it no more.
///
/// # Errors
/// When the database fails.
pub fn note(c: &Connection, found: &[(i64, Vec<ContactId>)], now: Instant) -> Result<()> {
    let mut put = c.prepare_cached("INSERT INTO suppression_caught VALUES (?1, ?2, ?3)")?;
    let mut take = c.prepare_cached("DELETE FROM suppression_caught WHERE list_id = ?1 AND contact_id = ?2")?;
    // At the first look nobody knows since when: not before the rule and the person were there.
    let mut first = c.prepare_cached(
        "INSERT INTO suppression_caught SELECT l.id, c.id, max(l.made_at, c.added_at) FROM suppression_list l, contact c WHERE l.id = ?1 AND c.id = ?2",
    )?;
    for (list, people) in found {
        let seen: Option<i64> = c.query_row("SELECT caught_at FROM suppression_list WHERE id = ?1", [list], |r| r.get(0))?;
        let before = noted(c, *list)?;
        for person in people.iter().filter(|p| !before.contains_key(p)) {
            if seen.is_some() {
                put.execute([*list, person.0, now.millis()])?
            } else {
                first.execute([list, &person.0])?
            };
        }
        let now_in: HashSet<ContactId> = people.iter().copied().collect();
        for person in before.keys().filter(|p| !now_in.contains(p)) {
            take.execute([list, &person.0])?;
        }
        c.execute("UPDATE suppression_list SET caught_at = ?2 WHERE id = ?1", params![list, now.millis()])?;
    }
    Ok(())
}

/// # Errors
/// When there is no such list.
pub fn catches(c: &Connection, id: i64, now: Instant) -> Result<Catch> {
    let list = one(c, id)?;
    // Since when each name is on the list.
    let (mut lists, mut since): (Lists, HashMap<String, i64>) = Default::default();
    let mut s = c.prepare_cached(&format!("SELECT kind, text, added_at {LINES}"))?;
    let mut rows = s.query([id, now.millis()])?;
    while let Some(r) = rows.next()? {
        let text: String = r.get(1)?;
        lists.add(0, Entry::stored(r.get(0)?, text.clone()));
        since.insert(text, r.get(2)?);
    }
    let mut caught: HashMap<ContactId, i64> = HashMap::new();
    if let Some(segment) = list.segment_id {
        let found = noted(c, id)?;
        // Who isn't noted yet came in since the last look.
        caught.extend(
            segments::people(c, &Tree::Segment { segment }, now)?.into_iter().map(|p| (p, found.get(&p).copied().unwrap_or(now.millis()))),
        );
    }
    let mut person =
        c.prepare_cached("SELECT c.address_key, d.name, c.added_at FROM contact c JOIN domain d ON d.id = c.domain_id WHERE c.id = ?1")?;
    for id in named(c, &lists)? {
        let (key, domain, added): (String, String, i64) = person.query_row([id.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
        let lines = names_of(&key, &domain).into_iter().filter_map(|n| since.get(&n).copied());
        let at = lines.min().unwrap_or(added).max(added);
        caught.entry(id).and_modify(|before| *before = (*before).min(at)).or_insert(at);
    }
    let mut last: Vec<(i64, ContactId)> = caught.iter().map(|(id, at)| (*at, *id)).collect();
    last.sort_unstable_by(|a, b| b.cmp(a));
    last.truncate(20);
    let rows = crate::contacts::by_ids(c, &last.iter().map(|l| l.1).collect::<Vec<_>>())?;
    let at: HashMap<ContactId, i64> = last.iter().map(|(at, id)| (*id, *at)).collect();
    let mut last: Vec<Caught> =
        rows.into_iter().map(|r| Caught { at: at.get(&r.id).copied().unwrap_or(0), id: r.id, address: r.address }).collect();
    last.sort_by_key(|l| (std::cmp::Reverse(l.at), l.id));
    Ok(Catch { people: i64::try_from(caught.len()).unwrap_or(0), last })
}
