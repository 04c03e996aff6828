//! A look at the people whom a tree of conditions finds.

use super::ContactRow;
use crate::{Result, Store, segments};
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::segment::Tree;
use rinse_core::segment::words::sentence;
use rusqlite::{Connection, params_from_iter};
use serde::Serialize;
use utoipa::ToSchema;

/// How many people a tree has, and the first of them by number.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Look {
    pub people: i64,
    pub all: i64,
    pub sentence: String,
    pub sample: Vec<ContactRow>,
    /// Where the first 2,000 of them live (latitude, longitude), when the tree asks for a place.
    #[schema(value_type = Vec<Vec<f64>>)]
    pub points: Vec<(f64, f64)>,
}

/// Counts a tree's people and shows some of them.
///
/// # Errors
/// A tree that can't be meant.
pub fn look(store: &Store, tree: &Tree, now: Instant, sample: u32) -> Result<Look> {
    let people = segments::count(store, tree, now)?;
    store.read_now(|c| look_at(c, tree, now, sample, people))
}

fn look_at(c: &Connection, tree: &Tree, now: Instant, sample: u32, people: i64) -> Result<Look> {
    let sql = segments::compile(c, tree, now)?;
    let all = super::present(c)?;
    let ids: Vec<ContactId> = c
        .prepare(&format!("SELECT c.id FROM contact c WHERE c.gone IS NULL AND {} ORDER BY c.id LIMIT {sample}", sql.text))?
        .query_map(params_from_iter(&sql.values), |r| r.get(0).map(ContactId))?
        .collect::<rusqlite::Result<_>>()?;
    let mut leaves = Vec::new();
    tree.leaves(&mut leaves);
    let points = if leaves.iter().any(|l| matches!(l, Tree::Near { .. })) {
        let located = format!(
            "SELECT c.latitude, c.longitude FROM contact c WHERE c.gone IS NULL AND {} AND c.latitude IS NOT NULL AND c.longitude IS NOT NULL LIMIT 2000",
            sql.text
        );
        c.prepare(&located)?.query_map(params_from_iter(&sql.values), |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?
    } else {
        vec![]
    };
    Ok(Look { people, all, sentence: sentence(tree, &segments::names(c)?), sample: super::by_ids(c, &ids)?, points })
}
