//! Segments: stored trees, their people, who uses them.
//!
//! * [`sql`]: the compiler; [`person`]: one person loaded for the reference evaluator.

pub mod person;
pub mod sets;
pub mod sql;

use crate::{Result, StoreError, naming, sweep};
use rinse_core::Instant;
use rinse_core::id::{ContactId, SegmentId};
use rinse_core::segment::words::{Names, sentence};
use rinse_core::segment::{Field, FieldKind, Known, Tree};
use rusqlite::{Connection, OptionalExtension, params, params_from_iter};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeSet, HashMap};
use utoipa::ToSchema;

/// How a segment is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Kept {
    /// Its conditions decide again each time.
    Live,
    /// A copy of the people it had at an instant.
    Frozen,
    /// Replaced whole by each import.
    Outside,
}

/// A stored segment.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Segment {
    pub id: SegmentId,
    pub name: String,
    pub kept: Kept,
    pub tree: Tree,
    /// The tree in words; for written members, what they are.
    pub sentence: String,
    pub changed_at: i64,
    pub person: Option<String>,
}

/// The names of everything a tree can refer to.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection) -> Result<Names> {
    let of = |sql: &str| -> Result<HashMap<i64, String>> {
        Ok(c.prepare_cached(sql)?.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
    };
    Ok(Names {
        fields: of("SELECT id, name FROM field WHERE gone = 0")?,
        lists: of("SELECT id, name FROM list WHERE gone = 0")?,
        tags: of("SELECT id, name FROM tag WHERE gone = 0")?,
        topics: of("SELECT id, name FROM topic")?,
        mailings: of("SELECT id, name FROM mailing")?,
        segments: of("SELECT id, name FROM segment WHERE gone = 0")?,
        goals: of("SELECT id, name FROM goal")?,
        scores: of("SELECT id, name FROM score WHERE gone = 0")?,
        series: of("SELECT id, name FROM series")?,
        links: c
            .prepare_cached("SELECT mailing_id, position, name FROM link")?
            .query_map([], |r| Ok(((r.get(0)?, r.get(1)?), r.get(2)?)))?
            .collect::<rusqlite::Result<_>>()?,
    })
}

fn words(kept: Kept, tree: &Tree, names: &Names) -> String {
    match kept {
        Kept::Live => sentence(tree, names),
        Kept::Frozen => "the people it had when it was frozen".into(),
        Kept::Outside => "kept outside, replaced by each import".into(),
    }
}

/// Reads every stored segment, by name: its number, name, how it is kept, its tree, when it changed
/// and by whom.
fn stored<T>(c: &Connection, mut make: impl FnMut(SegmentId, String, Kept, Tree, i64, Option<String>) -> T) -> Result<Vec<T>> {
    let mut s = c.prepare_cached(
        "SELECT s.id, s.name, s.kind, s.tree, s.changed_at, p.name FROM segment s LEFT JOIN person p ON p.id = s.person_id WHERE s.gone = 0 ORDER BY s.name",
    )?;
    let rows =
        s.query_map([], |r| Ok((SegmentId(r.get(0)?), r.get(1)?, r.get::<_, String>(2)?, r.get::<_, String>(3)?, r.get(4)?, r.get(5)?)))?;
    rows.map(|row| {
        let (id, name, kind, tree, changed_at, person) = row?;
        let kept = match kind.as_str() {
            "live" => Kept::Live,
            "frozen" => Kept::Frozen,
            "outside" => Kept::Outside,
            other => return Err(StoreError::Unreadable(format!("segment {id} is kept as {other:?}"))),
        };
        Ok(make(id, name, kept, serde_json::from_str(&tree)?, changed_at, person))
    })
    .collect()
}

/// All segments, by name.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Segment>> {
    let names = names(c)?;
    stored(c, |id, name, kept, tree, changed_at, person| {
        let sentence = words(kept, &tree, &names);
        Segment { id, name, kept, tree, sentence, changed_at, person }
    })
}

/// # Errors
/// When there is no such segment.
pub fn one(c: &Connection, id: SegmentId) -> Result<Segment> {
    all(c)?.into_iter().find(|s| s.id == id).ok_or(StoreError::Missing("segment"))
}

/// All segments as references need them.
///
/// # Errors
/// When the database fails.
pub fn known(c: &Connection) -> Result<HashMap<SegmentId, Known>> {
    let all = stored(c, |id, name, kept, tree, _, _| (id, Known { name, tree: (kept == Kept::Live).then_some(tree) }))?;
    Ok(all.into_iter().collect())
}

fn refused(e: impl std::fmt::Display) -> StoreError {
    StoreError::Refused(e.to_string())
}

/// Checks a tree against what there is, puts the segments it refers to in, and compiles it.
///
/// # Errors
/// A tree that can't be meant, with the sentence that says why.
pub fn compile(c: &Connection, tree: &Tree, now: Instant) -> Result<sql::Sql> {
    let (tree, how) = prepare(c, tree, now)?;
    Ok(sql::compile(&tree, now, how))
}

/// Checks a tree, puts the segments it refers to in, and says how it is to be compiled: for picking
/// people out, unknown is as good as no.
fn prepare(c: &Connection, tree: &Tree, now: Instant) -> Result<(Tree, sql::How)> {
    tree.check().map_err(refused)?;
    let how = sql::How { rolled: crate::rollups::tell_of(c, now)?, none_due: crate::rollups::none_due(c)?, ..sql::How::default() };
    Ok((tree.resolve(&known(c)?, &crate::goals::known(c)?).map_err(refused)?, how))
}

/// The condition that a stored segment puts on `contact c`.
///
/// # Errors
/// When there is no such segment or it refers to one that is gone.
pub fn condition(c: &Connection, id: SegmentId, now: Instant) -> Result<sql::Sql> {
    compile(c, &Tree::Segment { segment: id }, now)
}

/// How many people a tree has. A large base is counted in parts at once, one on each of a few
/// processors; each part is a range of numbers.
///
/// # Errors
/// A tree that can't be meant.
pub fn count(store: &crate::Store, tree: &Tree, now: Instant) -> Result<i64> {
    let (whole, how, last) = store.read_now(|c| {
        let (whole, how) = prepare(c, tree, now)?;
        Ok((whole, how, c.prepare_cached("SELECT coalesce(max(id), 0) FROM contact")?.query_row([], |r| r.get::<_, i64>(0))?))
    })?;
    let parts = if last < 50_000 { 1 } else { std::thread::available_parallelism().map_or(1, |n| n.get().min(4)) };
    let parts = i64::try_from(parts).unwrap_or(1);
    let whole = &whole;
    let of = move |part: i64| {
        let (from, to) = (last * part / parts + 1, last * (part + 1) / parts);
        let sql = sql::compile(whole, now, sql::How { range: Some((from, to)), bits: true, ..how });
        store.read_now(|c| sets::count(c, &sql, from, to))
    };
    std::thread::scope(|s| {
        let others: Vec<_> = (1..parts).map(|part| s.spawn(move || of(part))).collect();
        let first = of(0)?;
        others.into_iter().try_fold(first, |sum, t| Ok(sum + t.join().map_err(|_| StoreError::Stopped)??))
    })
}

/// The numbers of a tree's people, ascending.
///
/// # Errors
/// A tree that can't be meant.
pub fn people(c: &Connection, tree: &Tree, now: Instant) -> Result<Vec<ContactId>> {
    let sql = compile(c, tree, now)?;
    let mut s = c.prepare(&format!("SELECT c.id FROM contact c WHERE c.gone IS NULL AND {} ORDER BY c.id", sql.text))?;
    Ok(s.query_map(params_from_iter(&sql.values), |r| r.get(0).map(ContactId))?.collect::<rusqlite::Result<_>>()?)
}

/// What a segment is saved from.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct Draft {
    pub name: String,
    pub tree: Tree,
}

/// Makes or changes a live segment.
///
/// # Errors
/// A tree that can't be meant, a circle, a name that is taken.
pub fn save(c: &Connection, id: Option<SegmentId>, d: &Draft, now: Instant, person: Option<i64>) -> Result<SegmentId> {
    let name = d.name.trim();
    if name.is_empty() || name.chars().count() > 120 {
        return Err(refused("Give the segment a name of at most 120 characters."));
    }
    d.tree.check().map_err(refused)?;
    fits(c, &d.tree)?;
    let mut known = known(c)?;
    let here = id.unwrap_or(SegmentId(0));
    if let Some(id) = id
        && one(c, id)?.kept != Kept::Live
    {
        return Err(refused("The people of this segment are written down; it has no conditions to change."));
    }
    known.insert(here, Known { name: name.to_owned(), tree: Some(d.tree.clone()) });
    Tree::Segment { segment: here }.resolve(&known, &crate::goals::known(c)?).map_err(refused)?;
    naming::taken(c, "segment", name, id.map(|id| id.0))?;
    let tree = serde_json::to_string(&d.tree)?;
    Ok(match id {
        Some(id) => {
            c.execute(
                "UPDATE segment SET name = ?2, tree = ?3, changed_at = ?4, person_id = ?5 WHERE id = ?1",
                params![id.0, name, tree, now.millis(), person],
            )?;
            id
        }
        None => c.query_row(
            "INSERT INTO segment (name, kind, tree, made_at, changed_at, person_id) VALUES (?1,'live',?2,?3,?3,?4) RETURNING id",
            params![name, tree, now.millis(), person],
            |r| r.get(0).map(SegmentId),
        )?,
    })
}

/// Does every condition ask a field for what it holds, and do the things it names exist?
fn fits(c: &Connection, tree: &Tree) -> Result<()> {
    let kinds: HashMap<i64, FieldKind> = crate::fields::names(c)?.into_iter().map(|f| (f.id, f.kind)).collect();
    let names = names(c)?;
    let mut leaves = Vec::new();
    tree.leaves(&mut leaves);
    for leaf in leaves {
        let asked: Option<(i64, &[FieldKind])> = match leaf {
            Tree::Text { field: Field::Own(id), .. } => Some((*id, &[FieldKind::Text, FieldKind::Choice])),
            Tree::Number { field, .. } => Some((*field, &[FieldKind::Number])),
            Tree::Date { field, .. } => Some((*field, &[FieldKind::Date])),
            Tree::YesNo { field, .. } => Some((*field, &[FieldKind::YesNo])),
            Tree::Missing { field: Field::Own(id) } | Tree::Dated { field: id, .. } => {
                Some((*id, &[FieldKind::Text, FieldKind::Number, FieldKind::Date, FieldKind::YesNo, FieldKind::Choice]))
            }
            _ => None,
        };
        if let Some((id, allowed)) = asked {
            match kinds.get(&id) {
                None => return Err(StoreError::Missing("field")),
                Some(kind) if !allowed.contains(kind) => {
                    return Err(refused(format!("The field {} can't be asked that: it holds another kind of value.", names.fields[&id])));
                }
                Some(_) => {}
            }
        }
        let gone = match leaf {
            Tree::List { list } if !names.lists.contains_key(&list.0) => "list",
            Tree::Tag { tag } if !names.tags.contains_key(tag) => "tag",
            Tree::Topic { topic } if !names.topics.contains_key(topic) => "topic",
            Tree::Score { score, .. } if !names.scores.contains_key(score) => "score",
            Tree::Did { mailing: Some(id), .. } if !names.mailings.contains_key(&id.0) => "mailing",
            Tree::Did { series: Some(id), .. } | Tree::Series { series: id, .. } if !names.series.contains_key(&id.0) => "series",
            _ => continue,
        };
        return Err(StoreError::Missing(gone));
    }
    Ok(())
}

/// Begins a frozen copy of a segment under a name of its own. Its people of now are put in some at a time ([`add_frozen`]); nobody sees it before
/// [`end_frozen`].
///
/// # Errors
/// When there is no such segment, or the name is taken.
pub fn begin_frozen(c: &Connection, id: SegmentId, name: &str, now: Instant, person: Option<i64>) -> Result<SegmentId> {
    let from = one(c, id)?;
    naming::taken(c, "segment", name.trim(), None)?;
    if name.trim().is_empty() {
        return Err(refused("Give the frozen copy a name."));
    }
    let frozen: i64 = c.query_row(
        "INSERT INTO segment (name, kind, tree, made_at, changed_at, person_id, gone) VALUES (?1,'frozen',?2,?3,?3,?4,2) RETURNING id",
        params![name.trim(), serde_json::to_string(&from.tree)?, now.millis(), person],
        |r| r.get(0),
    )?;
    Ok(SegmentId(frozen))
}

/// Puts people into it; who left the base meanwhile stays out.
///
/// # Errors
/// When the database fails.
pub fn add_frozen(c: &Connection, frozen: SegmentId, people: &[ContactId]) -> Result<()> {
    let mut put = c.prepare_cached("INSERT INTO segment_member SELECT ?1, id FROM contact WHERE id = ?2 AND gone IS NULL")?;
    people.iter().try_for_each(|contact| put.execute([frozen.0, contact.0]).map(drop))?;
    Ok(())
}

/// It has all its people: from now on it is a segment.
///
/// # Errors
/// When the database fails.
pub fn end_frozen(c: &Connection, frozen: SegmentId) -> Result<()> {
    c.execute("UPDATE segment SET gone = 0 WHERE id = ?1", [frozen.0])?;
    Ok(())
}

/// What was being frozen when Rinse was killed comes to nothing.
pub(crate) fn unmade(c: &Connection) -> Result<()> {
    let ids: Vec<i64> = crate::stored::ids_as(c, "SELECT id FROM segment WHERE gone = 2", [], |id| id)?;
    ids.into_iter().try_for_each(|id| sweep::delete(c, &sweep::SEGMENT, id))
}

/// The live segments with a condition that `asks`, by name.
///
/// # Errors
/// When the database fails.
pub(crate) fn using(c: &Connection, asks: impl Fn(&Tree) -> bool) -> Result<Vec<String>> {
    let asks_it = |s: &Segment| {
        let mut leaves = Vec::new();
        s.tree.leaves(&mut leaves);
        s.kept == Kept::Live && leaves.into_iter().any(&asks)
    };
    Ok(all(c)?.into_iter().filter(asks_it).map(|s| format!("segment {}", s.name)).collect())
}

/// Changes conditions in every stored tree; those that stay the same are left alone.
///
/// # Errors
/// When the database fails.
pub(crate) fn replace_in_trees(c: &Connection, change: &dyn Fn(&mut Tree)) -> Result<()> {
    fn walk(tree: &mut Tree, change: &dyn Fn(&mut Tree)) {
        match tree {
            Tree::All { of } | Tree::Any { of } => of.iter_mut().for_each(|t| walk(t, change)),
            Tree::Not { of } => walk(of, change),
            leaf => change(leaf),
        }
    }
    for s in all(c)? {
        let mut tree = s.tree.clone();
        walk(&mut tree, change);
        if tree != s.tree {
            c.execute("UPDATE segment SET tree = ?2 WHERE id = ?1", params![s.id.0, serde_json::to_string(&tree)?])?;
        }
    }
    Ok(())
}

/// Deletes a segment; who calls has seen that nothing uses it.
pub(crate) fn delete(c: &Connection, id: SegmentId) -> Result<()> {
    one(c, id)?;
    // Lists that have ended stay on record, without it.
    c.execute("UPDATE suppression_list SET segment_id = NULL WHERE segment_id = ?1", [id.0])?;
    sweep::delete(c, &sweep::SEGMENT, id.0)
}

/// People of each pair of sets: the diagonal holds each one's own number.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Overlap {
    pub names: Vec<String>,
    pub people: Vec<Vec<i64>>,
}

/// How segments and lists overlap.
///
/// # Errors
/// When one is gone, or more than 12 are asked for.
pub fn overlap(c: &Connection, sets: &[Tree], now: Instant) -> Result<Overlap> {
    if sets.len() > 12 {
        return Err(refused("Choose at most 12 segments and lists."));
    }
    let names = names(c)?;
    let all: Vec<BTreeSet<ContactId>> = sets.iter().map(|t| Ok(people(c, t, now)?.into_iter().collect())).collect::<Result<_>>()?;
    let common = |a: &BTreeSet<ContactId>, b: &BTreeSet<ContactId>| i64::try_from(a.intersection(b).count()).unwrap_or(0);
    Ok(Overlap {
        names: sets.iter().map(|t| sentence(t, &names).trim_start_matches("in ").trim_start_matches("on the list ").to_owned()).collect(),
        people: all.iter().map(|a| all.iter().map(|b| common(a, b)).collect()).collect(),
    })
}

/// A part of a split.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Part {
    /// Null: the value is missing.
    pub value: Option<String>,
    pub people: i64,
}

/// Splits a tree's people by a field into parts that add up: every value, the rest, and missing.
///
/// # Errors
/// A tree that can't be meant, or a field that is gone.
pub fn split(c: &Connection, tree: &Tree, field: Field, now: Instant) -> Result<Vec<Part>> {
    let sql = compile(c, tree, now)?;
    let value = match field {
        Field::GivenName => "nullif(trim(c.given_name), '')".to_owned(),
        Field::FamilyName => "nullif(trim(c.family_name), '')".to_owned(),
        Field::Country => "nullif(trim(c.country), '')".to_owned(),
        Field::Region => "nullif(trim(c.region), '')".to_owned(),
        Field::TimeZone => "nullif(trim(c.zone), '')".to_owned(),
        Field::Source => "nullif(trim(c.source), '')".to_owned(),
        Field::Position => "CASE WHEN c.latitude IS NOT NULL AND c.longitude IS NOT NULL THEN 'known' END".to_owned(),
        Field::Own(id) => {
            let kind = crate::fields::one(c, id)?.kind;
            let shown = match kind {
                FieldKind::Text | FieldKind::Choice => "v.text",
                FieldKind::Number => "CAST(v.number AS TEXT)",
                FieldKind::Date => "date(v.day * 86400, 'unixepoch')",
                FieldKind::YesNo => "CASE v.flag WHEN 1 THEN 'yes' ELSE 'no' END",
            };
            format!("(SELECT {shown} FROM field_value v WHERE v.field_id = {id} AND v.contact_id = c.id)")
        }
    };
    let mut s = c.prepare(&format!(
        "SELECT {value} AS part, count(*) FROM contact c WHERE c.gone IS NULL AND {} GROUP BY part ORDER BY 2 DESC, 1",
        sql.text
    ))?;
    Ok(s.query_map(params_from_iter(&sql.values), |r| Ok(Part { value: r.get(0)?, people: r.get(1)? }))?
        .collect::<rusqlite::Result<_>>()?)
}

/// Replaces the people of a segment kept outside; made when there is none of that name.
///
/// # Errors
/// When the name belongs to a segment that is kept here.
pub fn replace_outside(c: &Connection, name: &str, contacts: &[ContactId], now: Instant, person: Option<i64>) -> Result<SegmentId> {
    let name = name.trim();
    let there: Option<(i64, String)> =
        c.query_row("SELECT id, kind FROM segment WHERE name = ?1 COLLATE NOCASE", [name], |r| Ok((r.get(0)?, r.get(1)?))).optional()?;
    let id = match there {
        Some((id, kind)) if kind == "outside" => {
            c.execute("UPDATE segment SET changed_at = ?2, person_id = ?3 WHERE id = ?1", params![id, now.millis(), person])?;
            c.execute("DELETE FROM segment_member WHERE segment_id = ?1", [id])?;
            id
        }
        Some(_) => return Err(refused(format!("“{name}” is a segment that is kept here. Choose another name."))),
        None => c.query_row(
            "INSERT INTO segment (name, kind, tree, made_at, changed_at, person_id) VALUES (?1,'outside',?2,?3,?3,?4) RETURNING id",
            params![name, serde_json::to_string(&Tree::Any { of: vec![] })?, now.millis(), person],
            |r| r.get(0),
        )?,
    };
    let mut s = c.prepare_cached("INSERT INTO segment_member VALUES (?1, ?2) ON CONFLICT DO NOTHING")?;
    for contact in contacts {
        s.execute([id, contact.0])?;
    }
    Ok(SegmentId(id))
}
