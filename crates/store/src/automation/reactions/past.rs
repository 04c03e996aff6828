//! A score's rules tried on the past year, before they are switched on: would it have ranked those who
//! bought above the others?

use super::run::{link_of, permanent, put_down_to, unanswered};
use crate::{Result, StoreError, scores};
use rinse_core::id::ContactId;
use rinse_core::reaction::{Deed, Reaction, Trigger};
use rinse_core::score::{Fifth, Ranking, Standing, fifths, ranking};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use utoipa::ToSchema;

/// The last days of the year: what was bought in them is what the score should have foretold.
const OUTCOME_DAYS: i64 = 90;

/// How a score would have fared.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = TriedScore)]
pub struct Tried {
    /// Scores are made of what happened from here …
    pub from: i64,
    /// … to here, and held against what was bought from here to now.
    pub cut: i64,
    pub until: i64,
    /// Entries the rules would have made.
    pub entries: usize,
    pub ranking: Option<Ranking>,
    pub fifths: Vec<Fifth>,
}

/// Everything in the time that a reaction would have acted on: whom it concerns, and when.
fn causes(c: &Connection, r: &Reaction, from: Instant, to: Instant) -> Result<Vec<(i64, i64)>> {
    if let Some((wait, taken_back)) = r.when.deadline() {
        // What a later response takes back within the time was nothing.
        let later = match (&r.when, taken_back) {
            (_, false) => String::new(),
            (Trigger::NotClicked { link: Some(_), .. }, _) => {
                " AND NOT EXISTS (SELECT 1 FROM response r WHERE r.send_id = s.id AND r.kind = 2 AND r.machine = 0 AND r.link = ?5 AND r.at <= ?6)".into()
            }
            (Trigger::NotClicked { .. }, _) => " AND coalesce(s.click_at > ?6, 1)".into(),
            _ => " AND coalesce(s.click_at > ?6, 1) AND coalesce(s.open_at > ?6, 1)".into(),
        };
        let sql = format!("{}{later}{}", unanswered(&r.when), if later.is_empty() { " AND ?6 IS NOT NULL" } else { "" });
        let mut s = c.prepare_cached(&sql)?;
        let rows = s.query_map(
            params![from.millis() - wait, to.millis() - wait, wait, r.mailing.map(|id| id.0), link_of(&r.when), to.millis()],
            |row| Ok((row.get(1)?, row.get(2)?)),
        )?;
        return Ok(rows.collect::<rusqlite::Result<_>>()?);
    }
    let sends = |column: &str, and: &str| {
        format!(
            "SELECT coalesce(k.merged_into, k.id), s.{column} FROM send s JOIN contact k ON k.id = s.contact_id
             WHERE s.{column} > ?1 AND s.{column} <= ?2 AND (?3 IS NULL OR s.mailing_id = ?3) AND ?4 IS NULL AND ?5 IS NULL{and}"
        )
    };
    let (sql, words, elsewhere) = match &r.when {
        Trigger::Opened => (sends("open_at", ""), (None, None), false),
        Trigger::Clicked { link: Some(link) } => (
            format!(
                "SELECT coalesce(k.merged_into, k.id), min(r.at) AS at FROM send s JOIN response r ON r.send_id = s.id JOIN contact k ON k.id = s.contact_id
                 WHERE s.mailing_id = ?3 AND r.kind = 2 AND r.machine = 0 AND r.link = {link} AND ?4 IS NULL AND ?5 IS NULL
                 GROUP BY s.id HAVING min(r.at) > ?1 AND min(r.at) <= ?2"
            ),
            (None, None),
            false,
        ),
        Trigger::Clicked { link: None } => (sends("click_at", ""), (None, None), false),
        Trigger::Replied => (sends("reply_at", ""), (None, None), false),
        Trigger::Left => (sends("left_at", ""), (None, None), false),
        Trigger::Bounced => (sends("failed_at", &format!(" AND s.channel = 1 AND s.category IN ({})", permanent())), (None, None), false),
        Trigger::Answered { name } => (
            "SELECT contact_id, at FROM event WHERE at > ?1 AND at <= ?2 AND name_key = ?4 AND ?3 IS NULL AND ?5 IS NULL".into(),
            (Some(name.clone()), None),
            true,
        ),
        Trigger::Bought { product, category } => (
            "SELECT contact_id, at FROM purchase WHERE at > ?1 AND at <= ?2 AND cents >= 0 AND (?4 IS NULL OR product_key = ?4)
             AND (?5 IS NULL OR category_key = ?5) AND ?3 IS NULL"
                .into(),
            (product.clone(), category.clone()),
            true,
        ),
        Trigger::NotOpened { .. } | Trigger::NotClicked { .. } => return Ok(Vec::new()),
    };
    let fold = |w: Option<String>| w.map(|w| rinse_core::words::fold(&w));
    let mailing = r.mailing.filter(|_| !elsewhere);
    let mut s = c.prepare_cached(&sql)?;
    let rows: Vec<(i64, i64)> = s
        .query_map(params![from.millis(), to.millis(), mailing.map(|id| id.0), fold(words.0), fold(words.1)], |row| {
            Ok((row.get(0)?, row.get(1)?))
        })?
        .collect::<rusqlite::Result<_>>()?;
    if !elsewhere || r.mailing.is_none() {
        return Ok(rows);
    }
    let mut kept = Vec::new();
    for (contact, at) in rows {
        if put_down_to(c, r, ContactId(contact), Instant::of(at))? {
            kept.push((contact, at));
        }
    }
    Ok(kept)
}

/// Tries a score's rules on the past year: those that are kept, and one that isn't yet.
///
/// # Errors
/// When there is no such score, or no rule for it.
pub fn try_score(c: &Connection, score: i64, draft: Option<&Reaction>, now: Instant) -> Result<Tried> {
    let half = scores::half_life(c, score)?;
    if let Some(d) = draft {
        d.check().map_err(StoreError::Refused)?;
    }
    let (from, cut) = (now + -365 * DAY, now + -OUTCOME_DAYS * DAY);
    let kept = super::in_use(c)?;
    let mut standings: HashMap<i64, Standing> = HashMap::new();
    let (mut rules, mut entries) = (0, 0);
    for rule in kept.iter().chain(draft) {
        let points: f64 = rule
            .then
            .iter()
            .map(|d| {
                if let Deed::Score { score: s, points } = d
                    && *s == score
                {
                    *points
                } else {
                    0.0
                }
            })
            .sum();
        if points == 0.0 {
            continue;
        }
        rules += 1;
        for (contact, at) in causes(c, rule, from, cut)? {
            standings.entry(contact).or_insert(Standing { value: 0.0, as_of: Instant::of(at) }).add(points, Instant::of(at), half);
            entries += 1;
        }
    }
    if rules == 0 {
        return Err(StoreError::Refused("No reaction gives points on this score yet: write one, and it can be tried.".into()));
    }
    let buyers: HashSet<i64> = c
        .prepare_cached("SELECT DISTINCT contact_id FROM purchase WHERE at > ?1 AND at <= ?2 AND cents >= 0")?
        .query_map([cut.millis(), now.millis()], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    let people: Vec<(f64, bool)> = c
        .prepare_cached("SELECT id FROM contact WHERE gone IS NULL AND added_at <= ?1")?
        .query_map([cut.millis()], |r| r.get(0))?
        .map(|id| id.map(|id: i64| (standings.get(&id).map_or(0.0, |s| s.at(cut, half)), buyers.contains(&id))))
        .collect::<rusqlite::Result<_>>()?;
    Ok(Tried { from: from.millis(), cut: cut.millis(), until: now.millis(), entries, ranking: ranking(&people), fifths: fifths(&people) })
}
