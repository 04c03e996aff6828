//! The guides, from what one pass over everybody's messages adds up to ([`per_person`]).

use crate::per_person::{self, Fared, Sums};
use crate::{Result, settings};
use rinse_core::recency::{Costs, Guide, guide};
use rinse_core::report::Rate;
use rinse_core::source::{Counts, Quality, WEEKS_BEFORE, quality};
use rinse_core::{DAY, Instant};
use rusqlite::Connection;
use serde::Serialize;
use utoipa::ToSchema;

/// The costs that were set, or the ones to start with.
///
/// # Errors
/// When the database fails.
pub fn costs(c: &Connection) -> Result<Costs> {
    Ok(match settings::get(c, "recency_costs")? {
        Some(text) => serde_json::from_str(&text)?,
        None => Costs::default(),
    })
}

/// # Errors
/// When the database fails.
pub fn save_costs(c: &Connection, costs: &Costs) -> Result<()> {
    settings::set(c, "recency_costs", &serde_json::to_string(costs)?)
}

/// The recency guide, and of a large base the instant that it is of.
///
/// # Errors
/// When the database fails.
pub fn recency(c: &Connection, now: Instant) -> Result<(Guide, Costs, Option<Instant>)> {
    let costs = costs(c)?;
    let (sums, as_of) = per_person::shown(c, now)?;
    Ok((guide(&sums.recency, &costs), costs, as_of))
}

/// The sources whose sign-ups of the last week jumped: the alarm alone, without the year's mail.
///
/// # Errors
/// When the database fails.
pub fn jumps(c: &Connection, now: Instant) -> Result<Vec<Quality>> {
    let week = (now + -7 * DAY).millis();
    let before = week - i64::from(WEEKS_BEFORE) * 7 * DAY;
    let mut s = c.prepare_cached(
        "SELECT nullif(trim(source), ''), sum(added_at > ?1), sum(added_at <= ?1) FROM contact WHERE added_at > ?2 AND added_at <= ?3 AND gone IS NULL GROUP BY 1",
    )?;
    let all = s.query_map([week, before, now.millis()], |r| {
        let counts =
            Counts { last_week: r.get::<_, i64>(1)?.unsigned_abs(), before: r.get::<_, i64>(2)?.unsigned_abs(), ..Counts::default() };
        Ok(quality(r.get(0)?, &counts))
    })?;
    Ok(all.collect::<rusqlite::Result<Vec<_>>>()?.into_iter().filter(|q| q.jumped).collect())
}

/// Every source with its quality, the one with most people first.
#[must_use]
pub fn sources(sums: &Sums) -> Vec<Quality> {
    let mut all: Vec<Quality> = sums.sources.iter().map(|(source, n)| quality((!source.is_empty()).then(|| source.clone()), n)).collect();
    all.sort_by_key(|q| std::cmp::Reverse(q.people));
    all
}

/// How mail fares, of people of one kind.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Faring {
    pub words: String,
    /// Accepted and not come back, of what was handed over.
    pub delivered: Rate,
    /// Answered by a human click or a reply, of what was delivered: opens aren't asked, since some can't be seen.
    pub answered: Rate,
    pub complained: Rate,
}

/// How mail fared by the recipients' consent at its handover, and by what that consent came by.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FaringByConsent {
    pub since: i64,
    pub by_state: Vec<Faring>,
    pub by_source: Vec<Faring>,
}

/// How marketing of the last half year fared, by the sums of an instant.
#[must_use]
pub fn faring(sums: &Sums, of: Instant) -> FaringByConsent {
    let faring = |words: &str, n: &Fared| Faring {
        words: words.to_owned(),
        delivered: Rate::new(n[1], n[0]),
        answered: Rate::new(n[2], n[1]),
        complained: Rate::new(n[3], n[1]),
    };
    let mut by_source: Vec<Faring> = sums.by_permission.iter().map(|(words, n)| faring(words, n)).collect();
    by_source.sort_by_key(|f| std::cmp::Reverse(f.delivered.of));
    let by_state = ["consented", "confirmed"].iter().zip(&sums.by_state).map(|(words, n)| faring(words, n)).collect();
    FaringByConsent { since: (of + -per_person::LOOK_BACK).millis(), by_state, by_source }
}
