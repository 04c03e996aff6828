//! What uses what: segments, lists, tags, fields, scores, goals and webhooks are named by segments, mailings, series and reactions. Nothing
//! that is used is deleted; what is merged into another is replaced by it everywhere. This stands above all of them, so that none of them has to
//! know the others.

use crate::audience::{self, Group};
use crate::tags::{self, Kind};
use crate::{Result, StoreError, fields, goals, reactions, scores, segments, series, webhooks};
use rinse_core::Instant;
use rinse_core::id::{ListId, SegmentId};
use rinse_core::reaction::Deed;
use rinse_core::segment::{Field, Tree};
use rusqlite::Connection;

/// Refuses when there are users; `then`: what can be done.
fn free(users: &[String], then: &str) -> Result<()> {
    if users.is_empty() { Ok(()) } else { Err(StoreError::Refused(format!("It is used by {}. {then}", users.join(", ")))) }
}

fn mailings(c: &Connection, sql: &str, group: Group, id: i64) -> Result<Vec<String>> {
    let mailings: Vec<String> = c.prepare_cached(sql)?.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    Ok(mailings.into_iter().chain(audience::used_by(c, group)?).map(|m| format!("mailing {m}")).collect())
}

/// What uses a segment: other segments, mailings, series and suppression lists in force, by name.
///
/// # Errors
/// When the database fails.
pub fn of_segment(c: &Connection, id: SegmentId) -> Result<Vec<String>> {
    let mut out = segments::using(c, |t| matches!(t, Tree::Segment { segment } if *segment == id))?;
    out.extend(mailings(c, "SELECT name FROM mailing WHERE segment_id = ?1 ORDER BY id", Group::Segment { id }, id.0)?);
    out.extend(series::asking_segment(c, id)?);
    let mut s = c.prepare_cached(
        "SELECT 'suppression list ' || name FROM suppression_list WHERE segment_id = ?1 AND ended_at IS NULL ORDER BY id",
    )?;
    out.extend(s.query_map([id.0], |r| r.get::<_, String>(0))?.collect::<rusqlite::Result<Vec<_>>>()?);
    Ok(out)
}

/// Deletes a segment that nothing uses.
///
/// # Errors
/// When something uses it, named; when there is no such segment.
pub fn delete_segment(c: &Connection, id: SegmentId) -> Result<()> {
    free(&of_segment(c, id)?, "Change those first.")?;
    segments::delete(c, id)
}

/// What depends on a list, a tag or a label: segments, reactions and series, and for lists mailings.
///
/// # Errors
/// When the database fails.
pub fn of_group(c: &Connection, kind: Kind, id: i64) -> Result<Vec<String>> {
    let mut out = segments::using(c, |t| match t {
        Tree::List { list } => kind == Kind::List && *list == ListId(id),
        Tree::Tag { tag } => kind == Kind::Tag && *tag == id,
        _ => false,
    })?;
    out.extend(reactions::using(c, |d| match d {
        Deed::List { list, .. } => kind == Kind::List && *list == ListId(id),
        Deed::Tag { tag, .. } => kind == Kind::Tag && *tag == id,
        _ => false,
    })?);
    if kind == Kind::List {
        out.extend(mailings(c, "SELECT name FROM mailing WHERE list_id = ?1 ORDER BY id", Group::List { id: ListId(id) }, id)?);
    }
    Ok(out)
}

/// Deletes a list, a tag or a label that nothing uses; its people stay.
///
/// # Errors
/// When something uses it, named; when it is gone.
pub fn delete_group(c: &Connection, kind: Kind, id: i64) -> Result<()> {
    free(&of_group(c, kind, id)?, "Change those first, or merge it into another.")?;
    tags::delete(c, kind, id)
}

/// Puts the people of one into another and deletes it; what used it uses the other.
///
/// # Errors
/// When either is gone, or they are the same.
pub fn merge_groups(c: &Connection, kind: Kind, from: i64, into: i64) -> Result<()> {
    tags::pour(c, kind, from, into)?;
    segments::replace_in_trees(c, &|t| match t {
        Tree::List { list } if kind == Kind::List && *list == ListId(from) => *list = ListId(into),
        Tree::Tag { tag } if kind == Kind::Tag && *tag == from => *tag = into,
        _ => {}
    })?;
    if kind == Kind::List {
        c.execute("UPDATE mailing SET list_id = ?2 WHERE list_id = ?1", [from, into])?;
        c.execute("UPDATE OR IGNORE audience_part SET ref = ?2 WHERE kind = 'list' AND ref = ?1", [from, into])?;
        c.execute("DELETE FROM audience_part WHERE kind = 'list' AND ref = ?1", [from])?;
    }
    if kind != Kind::Label {
        reactions::retag(c, kind, from, into)?;
    }
    delete_group(c, kind, from)
}

/// The segments that ask a field, the reactions that set it, and the series that people enter by it.
///
/// # Errors
/// When the database fails.
pub fn of_field(c: &Connection, id: i64) -> Result<Vec<String>> {
    let asks = |t: &Tree| match t {
        Tree::Text { field: Field::Own(f), .. } | Tree::Missing { field: Field::Own(f) } => *f == id,
        Tree::Number { field, .. } | Tree::Date { field, .. } | Tree::YesNo { field, .. } | Tree::Dated { field, .. } => *field == id,
        _ => false,
    };
    let mut out = segments::using(c, asks)?;
    out.extend(reactions::using(c, |d| matches!(d, Deed::Field { field, .. } if *field == id))?);
    out.extend(series::asking(c, None, Some(id))?);
    Ok(out)
}

/// Deletes a field and its values.
///
/// # Errors
/// When something uses it, named; when there is no such field.
pub fn delete_field(c: &Connection, id: i64) -> Result<()> {
    free(&of_field(c, id)?, "Change those first.")?;
    fields::delete(c, id)
}

/// Deletes a score that no segment and no reaction uses, with its entries.
///
/// # Errors
/// When one does, named; when there is no such score.
pub fn delete_score(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let mut users = segments::using(c, |t| matches!(t, Tree::Score { score, .. } if *score == id))?;
    users.extend(reactions::using(c, |d| matches!(d, Deed::Score { score, .. } if *score == id))?);
    free(&users, "Change those first.")?;
    scores::delete(c, id, now, person)
}

/// Deletes a goal that no segment and no series uses.
///
/// # Errors
/// When one does, named; when there is no such goal.
pub fn delete_goal(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    // A frozen copy says by which goal it was made, too.
    let asks = |s: &segments::Segment| {
        let mut leaves = Vec::new();
        s.tree.leaves(&mut leaves);
        leaves.iter().any(|l| matches!(l, Tree::Converted { goal, .. } if *goal == id))
    };
    let mut users: Vec<String> = segments::all(c)?.into_iter().filter(asks).map(|s| format!("segment {}", s.name)).collect();
    users.extend(series::asking(c, Some(id), None)?);
    free(&users, "Change those first.")?;
    goals::delete(c, id, now, person)
}

/// Ends a webhook that no reaction uses: what waits for it is given up.
///
/// # Errors
/// When one does, named; when there is none.
pub fn end_webhook(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    free(&reactions::using(c, |d| matches!(d, Deed::Webhook { webhook } if *webhook == id))?, "Change those first.")?;
    webhooks::end(c, id, now, person)
}
