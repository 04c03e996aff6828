//! What reactions brought: tags, points, lists, series, fields, tasks; by reaction and deed, from the sums that are kept as they act.

use super::{Which, list};
use crate::Result;
use crate::deeds;
use rinse_core::DAY;
use rinse_core::reaction::Deed;
use rusqlite::Connection;
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What came of one deed of a reaction.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Done {
    pub reaction: i64,
    /// The whole reaction, and the deed alone.
    pub reaction_words: String,
    pub deed: String,
    pub mailing: Option<String>,
    /// Has the reaction ended?
    pub ended: bool,
    /// How often it changed something (one who has a tag already isn't given it again).
    pub changed: i64,
    /// Those of them that were taken back since.
    pub taken_back: i64,
    /// Points, where the deed is a score's: what is left of them, taken back aside.
    pub points: Option<f64>,
}

/// All that reactions did on the days of a period, by UTC: the deeds that changed most first.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct DoneByReactions {
    /// How often reactions acted; one may do several things.
    pub acted: i64,
    pub taken_back: i64,
    pub deeds: Vec<Done>,
}

/// What reactions did in a period.
///
/// # Errors
/// When the database fails.
#[allow(clippy::cast_precision_loss)]
pub fn told(c: &Connection, from: Option<i64>, to: Option<i64>) -> Result<DoneByReactions> {
    let day = |at: Option<i64>, or: i64| at.map_or(or, |at| at.div_euclid(DAY));
    let mut s = c.prepare_cached(
        "SELECT reaction_id, changed, sum(done), sum(taken_back) FROM reacted_day WHERE day >= ?1 AND day < ?2 GROUP BY 1, 2 HAVING sum(done) > 0",
    )?;
    let mut by: BTreeMap<i64, Vec<(i64, i64, i64)>> = BTreeMap::new();
    let mut rows = s.query([day(from, i64::MIN), day(to, i64::MAX)])?;
    while let Some(r) = rows.next()? {
        by.entry(r.get(0)?).or_default().push((r.get(1)?, r.get(2)?, r.get(3)?));
    }
    let named = deeds::names(c)?;
    let mut out = DoneByReactions { acted: 0, taken_back: 0, deeds: Vec::new() };
    for kept in list(c, Which::All)? {
        let Some(masks) = by.get(&kept.id) else { continue };
        out.acted += masks.iter().map(|m| m.1).sum::<i64>();
        out.taken_back += masks.iter().map(|m| m.2).sum::<i64>();
        for (i, deed) in kept.rule.then.iter().enumerate() {
            let with = masks.iter().filter(|m| m.0 >> i & 1 == 1);
            let (changed, taken_back) = with.fold((0, 0), |sum, m| (sum.0 + m.1, sum.1 + m.2));
            let points = if let Deed::Score { points, .. } = deed { Some(points * (changed - taken_back) as f64) } else { None };
            out.deeds.push(Done {
                reaction: kept.id,
                reaction_words: kept.words.clone(),
                deed: deed.words(&named),
                mailing: kept.mailing.clone(),
                ended: kept.ended_at.is_some(),
                changed,
                taken_back,
                points,
            });
        }
    }
    out.deeds.sort_by_key(|d| std::cmp::Reverse(d.changed));
    Ok(out)
}
