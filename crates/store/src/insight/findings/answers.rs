//! When people answer: the hour of the week of the first open, click and reply of each message that a person made.

use super::groups::{Filter, WENT_TO};
use crate::Result;
use rinse_core::findings::Clock;
use rusqlite::types::Value;
use rusqlite::{Connection, params_from_iter};
use serde::Serialize;
use utoipa::ToSchema;

/// Answers of one kind by the 168 hours of the week, Monday 00:00 first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = AnswersByHour)]
pub struct Week {
    pub hours: Vec<i64>,
    pub all: i64,
}

impl Week {
    /// The same by the 24 hours of the day.
    #[must_use]
    pub fn by_hour_of_day(&self) -> Vec<i64> {
        let mut day = vec![0; 24];
        self.hours.iter().enumerate().for_each(|(i, n)| day[i % 24] += n);
        day
    }

    /// The fewest hours of the day that hold half of it.
    #[must_use]
    pub fn half_in(&self) -> usize {
        let mut day = self.by_hour_of_day();
        day.sort_unstable_by(|a, b| b.cmp(a));
        let mut sum = 0;
        for (hours, n) in day.iter().enumerate() {
            if 2 * sum >= self.all {
                return hours;
            }
            sum += n;
        }
        day.len()
    }
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
    let (mut conditions, mut values) = filter.of_mailings();
    for (began, at) in [(" AND m.started_at >= ?", filter.from), (" AND m.started_at < ?", filter.to)] {
        if let Some(at) = at {
            conditions.push_str(began);
            values.push(Value::Integer(at));
        }
    }
    let chosen = format!("{WENT_TO} SELECT id FROM mailing m WHERE 1{conditions}");
    let mut s = c.prepare_cached(&format!(
        "SELECT kind, {hour}, sum(messages) FROM answer_cell WHERE mailing_id IN ({chosen}) GROUP BY 1, 2 HAVING sum(messages) > 0"
    ))?;
    let mut weeks = [const { Vec::new() }; 3].map(|_: Vec<i64>| Week { hours: vec![0; 168], all: 0 });
    let mut rows = s.query(params_from_iter(&values))?;
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
        .query_row(params_from_iter(&values), |r| r.get(0))?;
    let [opens, clicks, replies] = weeks;
    Ok(Answers { opens, clicks, replies, mailings })
}
