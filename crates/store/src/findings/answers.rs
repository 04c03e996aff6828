//! When people answer: the hour of the week of the first open, click and reply of each message that a person made.

use super::groups::Filter;
use crate::Result;
use rinse_core::findings::Clock;
use rusqlite::{Connection, params};
use serde::Serialize;
use utoipa::ToSchema;

/// Answers of one kind by the 168 hours of the week, Monday 00:00 first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = AnswersByHour)]
pub struct Week {
    pub hours: Vec<i64>,
    pub all: i64,
}

/// Opens (where they can be known), clicks and replies by hour of the week.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = WhenAnswered)]
pub struct Answers {
    pub opens: Week,
    pub clicks: Week,
    pub replies: Week,
    /// Mailings that were answered.
    pub mailings: i64,
}

/// When the messages of mailings that began in the filter's period, with its topic, letterhead and so on, were answered. What a filter says of
/// recipients can't be told here, and is left aside.
///
/// # Errors
/// When the database fails.
pub fn told(c: &Connection, clock: Clock, filter: &Filter) -> Result<Answers> {
    let hour = if clock == Clock::Utc { "utc" } else { "local" };
    let chosen = "SELECT id FROM mailing m WHERE (?1 IS NULL OR m.started_at >= ?1) AND (?2 IS NULL OR m.started_at < ?2) AND (?3 IS NULL OR m.id = ?3)
        AND (?4 IS NULL OR coalesce(m.topic_id, 0) = ?4) AND (?5 IS NULL OR m.letterhead_id = ?5) AND (?6 IS NULL OR m.class = ?6) AND (?7 IS NULL OR m.channel = ?7)
        AND (?8 IS NULL OR coalesce(m.series_id, 0) = ?8) AND (?9 IS NULL OR m.id IN (SELECT mailing_id FROM mailing_label WHERE label_id = ?9))";
    let values = params![
        filter.from,
        filter.to,
        filter.mailing,
        filter.topic,
        filter.letterhead,
        filter.class,
        filter.channel,
        filter.series,
        filter.label
    ];
    let mut s = c.prepare_cached(&format!(
        "SELECT kind, {hour}, sum(messages) FROM answer_cell WHERE mailing_id IN ({chosen}) GROUP BY 1, 2 HAVING sum(messages) > 0"
    ))?;
    let mut weeks = [const { Vec::new() }; 3].map(|_: Vec<i64>| Week { hours: vec![0; 168], all: 0 });
    let mut rows = s.query(values)?;
    while let Some(r) = rows.next()? {
        let (kind, hour, n): (i64, i64, i64) = (r.get(0)?, r.get(1)?, r.get(2)?);
        let week = usize::try_from(kind - 1).ok().and_then(|k| weeks.get_mut(k));
        if let Some((week, at)) = week.zip(usize::try_from(hour).ok().filter(|h| *h < 168)) {
            week.hours[at] += n;
            week.all += n;
        }
    }
    let mailings = c
        .prepare_cached(&format!("SELECT count(DISTINCT mailing_id) FROM answer_cell WHERE messages > 0 AND mailing_id IN ({chosen})"))?
        .query_row(values, |r| r.get(0))?;
    let [opens, clicks, replies] = weeks;
    Ok(Answers { opens, clicks, replies, mailings })
}
