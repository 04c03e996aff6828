//! Whom a mailing is meant for, before any rule: lists and segments put together, others left out.

use crate::{Result, StoreError, segments};
use rinse_core::Instant;
use rinse_core::id::{ContactId, ListId, MailingId, SegmentId};
use rinse_core::segment::Tree;
use rusqlite::types::Value;
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A list or a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Group {
    List { id: ListId },
    Segment { id: SegmentId },
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
            Self::List { id } => ("list", id.0),
            Self::Segment { id } => ("segment", id.0),
        }
    }
}

/// The people of `list` and of all groups in `also` (everyone, when neither names anybody), of them those in `segment`, and of
/// those all but the people of the groups in `without`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Audience {
    pub list: Option<ListId>,
    pub segment: Option<SegmentId>,
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
    pub fn people(&self, c: &Connection, at: Instant) -> Result<Option<Vec<ContactId>>> {
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
                Group::List { id } => ("SELECT 1 FROM list WHERE id = ?1 AND gone = 0", "list", id.0),
                Group::Segment { id } => ("SELECT 1 FROM segment WHERE id = ?1 AND gone = 0", "segment", id.0),
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
pub fn beside(c: &Connection, mailing: MailingId) -> Result<(Vec<Group>, Vec<Group>)> {
    let mut s = c.prepare_cached("SELECT side = 'also', kind, ref FROM audience_part WHERE mailing_id = ?1 ORDER BY kind, ref")?;
    let rows = s.query_map([mailing.0], |r| {
        let id = r.get(2)?;
        Ok((
            r.get::<_, bool>(0)?,
            if r.get::<_, String>(1)? == "list" { Group::List { id: ListId(id) } } else { Group::Segment { id: SegmentId(id) } },
        ))
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
pub(crate) fn save_beside(c: &Connection, mailing: MailingId, also: &[Group], without: &[Group]) -> Result<()> {
    c.prepare_cached("DELETE FROM audience_part WHERE mailing_id = ?1")?.execute([mailing.0])?;
    let mut s = c.prepare_cached("INSERT INTO audience_part VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING")?;
    for (side, groups) in [("also", also), ("without", without)] {
        for group in groups {
            let (kind, id) = group.code();
            s.execute(params![mailing.0, side, kind, id])?;
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
