//! Whom a mailing is meant for, before any rule: lists and segments put together, others left out.

use crate::codes::{MAILING_PLANNED, MAILING_SENDING, MAILING_SENT};
use crate::{Result, StoreError, segments};
use const_format::formatcp;
use rinse_core::schedule::Schedule;
use rinse_core::segment::Tree;
use rinse_core::{DAY, Instant, zone};
use rusqlite::types::Value;
use rusqlite::{Connection, params, params_from_iter};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

/// A list or a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Group {
    List { id: i64 },
    Segment { id: i64 },
}

impl Group {
    fn tree(self) -> Tree {
        match self {
            Self::List { id } => Tree::List { list: id },
            Self::Segment { id } => Tree::Segment { segment: id },
        }
    }

    fn code(self) -> (&'static str, i64) {
        match self {
            Self::List { id } => ("list", id),
            Self::Segment { id } => ("segment", id),
        }
    }
}

/// The people of `list` and of all groups in `also` (everyone, when neither names anybody), of them those in `segment`, and of
/// those all but the people of the groups in `without`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Audience {
    pub list: Option<i64>,
    pub segment: Option<i64>,
    pub also: Vec<Group>,
    pub without: Vec<Group>,
}

fn any(groups: impl Iterator<Item = Tree>) -> Option<Tree> {
    let mut of: Vec<Tree> = groups.collect();
    match of.len() {
        0 => None,
        1 => of.pop(),
        _ => Some(Tree::Any { of }),
    }
}

impl Audience {
    /// The audience as the conditions of a segment; None: everyone.
    #[must_use]
    pub fn tree(&self) -> Option<Tree> {
        let who = any(self.list.map(|id| Group::List { id }).iter().chain(&self.also).map(|g| g.tree()));
        let only = self.segment.map(|segment| Tree::Segment { segment });
        let but = any(self.without.iter().map(|g| g.tree())).map(|t| Tree::Not { of: Box::new(t) });
        let mut of: Vec<Tree> = [who, only, but].into_iter().flatten().collect();
        if of.len() > 1 { Some(Tree::All { of }) } else { of.pop() }
    }

    /// May it be other people at another instant?
    pub(crate) fn asks_the_time(&self) -> bool {
        self.segment.is_some() || self.also.iter().chain(&self.without).any(|g| matches!(g, Group::Segment { .. }))
    }

    /// The condition that it puts on `contact c`.
    ///
    /// # Errors
    /// When a list or segment is gone.
    pub(crate) fn condition(&self, c: &Connection, at: Instant) -> Result<(String, Vec<Value>)> {
        let Some(tree) = self.tree() else { return Ok(("1".to_owned(), Vec::new())) };
        let sql = segments::compile(c, &tree, at)?;
        Ok((sql.text, sql.values))
    }

    /// Their numbers, ascending; None: everyone.
    ///
    /// # Errors
    /// When a list or segment is gone.
    pub fn people(&self, c: &Connection, at: Instant) -> Result<Option<Vec<i64>>> {
        match (self.tree(), self.list) {
            (None, _) => Ok(None),
            // The people of one list are asked of its own table.
            (Some(Tree::List { .. }), Some(list)) => crate::tags::on_list(c, list).map(Some),
            (Some(tree), _) => segments::people(c, &tree, at).map(Some),
        }
    }

    /// # Errors
    /// When a list or segment is gone.
    pub fn must_exist(&self, c: &Connection) -> Result<()> {
        let all = self.list.map(|id| Group::List { id }).into_iter().chain(self.segment.map(|id| Group::Segment { id }));
        for group in all.chain(self.also.iter().copied()).chain(self.without.iter().copied()) {
            let (sql, what, id) = match group {
                Group::List { id } => ("SELECT 1 FROM list WHERE id = ?1", "list", id),
                Group::Segment { id } => ("SELECT 1 FROM segment WHERE id = ?1", "segment", id),
            };
            if !c.prepare_cached(sql)?.exists([id])? {
                return Err(StoreError::Missing(what));
            }
        }
        Ok(())
    }
}

/// The groups beside a mailing's own list and segment: also, without.
///
/// # Errors
/// When the database fails.
pub fn beside(c: &Connection, mailing: i64) -> Result<(Vec<Group>, Vec<Group>)> {
    let mut s = c.prepare_cached("SELECT side = 'also', kind, ref FROM audience_part WHERE mailing_id = ?1 ORDER BY kind, ref")?;
    let rows = s.query_map([mailing], |r| {
        let id = r.get(2)?;
        Ok((r.get::<_, bool>(0)?, if r.get::<_, String>(1)? == "list" { Group::List { id } } else { Group::Segment { id } }))
    })?;
    let (mut also, mut without) = (Vec::new(), Vec::new());
    for row in rows {
        let (is_also, group) = row?;
        if is_also { &mut also } else { &mut without }.push(group);
    }
    Ok((also, without))
}

/// Writes the groups beside.
///
/// # Errors
/// When the database fails.
pub(crate) fn save_beside(c: &Connection, mailing: i64, also: &[Group], without: &[Group]) -> Result<()> {
    c.prepare_cached("DELETE FROM audience_part WHERE mailing_id = ?1")?.execute([mailing])?;
    let mut s = c.prepare_cached("INSERT INTO audience_part VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING")?;
    for (side, groups) in [("also", also), ("without", without)] {
        for group in groups {
            let (kind, id) = group.code();
            s.execute(params![mailing, side, kind, id])?;
        }
    }
    Ok(())
}

/// The names of mailings that use a group beside their own list and segment.
///
/// # Errors
/// When the database fails.
pub(crate) fn used_by(c: &Connection, group: Group) -> Result<Vec<String>> {
    let (kind, id) = group.code();
    let mut s = c.prepare_cached(
        "SELECT DISTINCT m.name FROM audience_part a JOIN mailing m ON m.id = a.mailing_id WHERE a.kind = ?1 AND a.ref = ?2 ORDER BY m.id",
    )?;
    Ok(s.query_map(params![kind, id], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

/// So many people of a domain or a zone.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Portion {
    /// Empty: all others.
    pub name: String,
    pub people: i64,
}

/// Another mailing that many of the same people get.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MailingOverlap {
    pub mailing: i64,
    pub name: String,
    pub at: i64,
    /// Of this audience, those in its audience too.
    pub people: i64,
}

/// An audience before any rule: how many, at which mail hosts, by which clocks, and what else they get.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct AudienceLook {
    pub people: i64,
    /// The largest first, then all others together.
    pub domains: Vec<Portion>,
    pub zones: Vec<Portion>,
    /// People whose zone isn't known: they are given the letterhead's.
    pub without_zone: i64,
    /// When the first and the last of them are due by the schedule.
    pub first_at: i64,
    pub last_at: i64,
    /// Mailings from a week before to a week after.
    pub overlaps: Vec<MailingOverlap>,
}

const SHOWN: usize = 8;

fn largest(mut all: Vec<Portion>) -> Vec<Portion> {
    all.sort_by(|a, b| b.people.cmp(&a.people).then_with(|| a.name.cmp(&b.name)));
    if all.len() > SHOWN + 1 {
        let rest = all.split_off(SHOWN).iter().map(|p| p.people).sum();
        all.push(Portion { name: String::new(), people: rest });
    }
    all
}

/// Looks at an audience that would get a mailing at `at`. `but`: a mailing that isn't counted as another.
///
/// # Errors
/// When a list or segment is gone.
pub fn look(c: &Connection, who: &Audience, schedule: &Schedule, usual_zone: &str, at: Instant, but: Option<i64>) -> Result<AudienceLook> {
    let (condition, values) = who.condition(c, at)?;
    let grouped = |by: &str| -> Result<Vec<Portion>> {
        let mut s = c.prepare(&format!(
            "SELECT {by}, count(*) FROM contact c JOIN domain d ON d.id = c.domain_id WHERE c.gone IS NULL AND {condition} GROUP BY 1"
        ))?;
        Ok(s.query_map(params_from_iter(&values), |r| Ok(Portion { name: r.get(0)?, people: r.get(1)? }))?
            .collect::<rusqlite::Result<_>>()?)
    };
    let mut zones = grouped("coalesce(c.zone, '')")?;
    let people = zones.iter().map(|z| z.people).sum();
    let start = schedule.starts(at).max(at);
    let usual = zone::named(usual_zone).unwrap_or(zone::TimeZone::UTC);
    let clocks = zones.iter().map(|z| zone::named(&z.name).unwrap_or_else(|| usual.clone()));
    let dues: Vec<Instant> = clocks.filter_map(|clock| schedule.due(start, &clock, 0.0)).collect();
    let unknown = zones.iter().position(|z| z.name.is_empty()).map(|i| zones.remove(i));
    let spread = i64::from(schedule.spread_minutes) * rinse_core::MINUTE;
    let (first, last) = (dues.iter().min().copied().unwrap_or(start), dues.iter().max().copied().unwrap_or(start) + spread);
    Ok(AudienceLook {
        people,
        domains: largest(grouped("d.name")?),
        zones: largest(zones),
        without_zone: unknown.map_or(0, |u| u.people),
        first_at: first.0,
        last_at: last.0,
        overlaps: overlaps(c, who, at, but)?,
    })
}

fn overlaps(c: &Connection, who: &Audience, at: Instant, but: Option<i64>) -> Result<Vec<MailingOverlap>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT id, name, coalesce(started_at, planned_at) AS at FROM mailing WHERE state IN ({MAILING_PLANNED}, {MAILING_SENDING}, {MAILING_SENT}) AND id IS NOT ?3 AND at BETWEEN ?1 AND ?2 ORDER BY at"),
    )?;
    let near: Vec<(i64, String, i64)> = s
        .query_map(params![at.0 - 7 * DAY, at.0 + 7 * DAY, but], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?
        .collect::<rusqlite::Result<_>>()?;
    if near.is_empty() {
        return Ok(Vec::new());
    }
    let ours: Option<HashSet<i64>> = who.people(c, at)?.map(|ids| ids.into_iter().collect());
    let everyone: i64 = c.query_row("SELECT count(*) FROM contact WHERE gone IS NULL", [], |r| r.get(0))?;
    let size = |n: usize| i64::try_from(n).unwrap_or(i64::MAX);
    let mut out = Vec::new();
    for (mailing, name, when) in near {
        let theirs = crate::mailings::one(c, mailing)?.draft.audience().people(c, Instant(when));
        // A segment of an old mailing may be gone by now.
        let Ok(theirs) = theirs else { continue };
        let people = match (&ours, theirs) {
            (None, None) => everyone,
            (Some(ours), None) => size(ours.len()),
            (None, Some(theirs)) => size(theirs.len()),
            (Some(ours), Some(theirs)) => size(theirs.iter().filter(|id| ours.contains(id)).count()),
        };
        out.push(MailingOverlap { mailing, name, at: when, people });
    }
    Ok(out)
}
