//! Cohorts: people by the month they joined in against the months since. Months are whole ones by UTC, counted since January 1970.

use crate::consent::{Act, Consent, Standing};
use crate::report::LEVEL;
use crate::stats::special::normal_upper_quantile;
use crate::upkeep::MailStatus;
use crate::{Instant, zone};
use jiff::civil::Date;
use jiff::tz::Offset;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// Answers are kept for so many months from the one of joining on.
pub const MONTHS: u8 = 64;

/// The month of an instant.
#[must_use]
pub fn month(at: Instant) -> i32 {
    let date = Offset::UTC.to_datetime(zone::stamp(at));
    (i32::from(date.year()) - 1970) * 12 + i32::from(date.month()) - 1
}

/// The instant at which a month has begun.
#[must_use]
pub fn begins(month: i32) -> Instant {
    let year = i16::try_from(1970 + month.div_euclid(12)).unwrap_or(i16::MAX);
    let first = Date::new(year, i8::try_from(month.rem_euclid(12) + 1).unwrap_or(1), 1);
    first
        .ok()
        .and_then(|d| Offset::UTC.to_timestamp(d.at(0, 0, 0, 0)).ok())
        .map_or(Instant::of(i64::MAX), |t| Instant::of(t.as_millisecond()))
}

/// As in "Apr 2026".
#[must_use]
pub fn words(month: i32) -> String {
    zone::stamp(begins(month)).strftime("%b %Y").to_string()
}

/// What a person's ledger says of whether they can be mailed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Turn {
    Act(Act),
    /// Consent stated outright, with the end of a pause.
    Restated(Consent, Option<Instant>),
    Status(MailStatus),
    Sunset(bool),
    Deleted,
}

/// Can somebody be mailed at an instant, by what their ledger says until then? The ledger's order decides, not the clock's.
#[must_use]
pub fn mailable(ledger: &[(Instant, Turn)], at: Instant) -> bool {
    let (mut consent, mut status, mut sunset, mut deleted) = (Standing::default(), MailStatus::Active, false, false);
    for (when, turn) in ledger.iter().filter(|e| e.0 <= at) {
        match *turn {
            Turn::Act(act) => consent = consent.after(act, *when),
            Turn::Restated(state, until) => {
                let under = if consent.state == Consent::Paused { consent.under } else { consent.state };
                consent = Standing { state, under, until };
            }
            Turn::Status(s) => status = s,
            Turn::Sunset(s) => sunset = s,
            Turn::Deleted => deleted = true,
        }
    }
    consent.at(at).allows_marketing() && !matches!(status, MailStatus::Resting | MailStatus::Retired) && !sunset && !deleted
}

/// The months at whose end somebody can be mailed who couldn't at the end of the one before, or the other way round; before they joined they couldn't.
#[must_use]
pub fn turns(ledger: &[(Instant, Turn)], joined: i32) -> Vec<(i32, bool)> {
    let until = ledger.iter().filter_map(|e| match e.1 {
        Turn::Act(Act::Paused { until }) => Some(until),
        Turn::Restated(_, until) => until,
        _ => None,
    });
    let months: BTreeSet<i32> = ledger.iter().map(|e| e.0).chain(until).map(|at| month(at).max(joined)).collect();
    let (mut out, mut before) = (Vec::new(), false);
    for m in months {
        let can = mailable(ledger, begins(m + 1) + -1);
        if can != before {
            out.push((m, can));
            before = can;
        }
    }
    out
}

/// A person as cohorts count them. Months of `answered` and `bought` are counted from the one of joining: 0 is that month.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Life {
    pub joined: i32,
    pub turns: Vec<(i32, bool)>,
    /// A bit a month in which they opened where it can be known, clicked or replied.
    pub answered: u64,
    /// Months, currencies, and hundredths of them, refunds taken off.
    pub bought: Vec<(i32, String, i64)>,
}

impl Life {
    #[must_use]
    pub fn new(joined: Instant, ledger: &[(Instant, Turn)], answers: &[Instant], bought: &[(Instant, String, i64)]) -> Self {
        let joined = month(joined);
        let mut sums: BTreeMap<(i32, &str), i64> = BTreeMap::new();
        for (at, currency, cents) in bought {
            *sums.entry(((month(*at) - joined).max(0), currency)).or_default() += cents;
        }
        Self {
            joined,
            turns: turns(ledger, joined),
            answered: answers.iter().filter_map(|at| bit(joined, *at)).fold(0, |all, bit| all | bit),
            bought: sums.into_iter().map(|((m, currency), cents)| (m, currency.to_owned(), cents)).collect(),
        }
    }
}

/// The bit of an answer; an answer from before they joined (their address was somebody's already) counts in the month of joining.
#[must_use]
pub fn bit(joined: i32, at: Instant) -> Option<u64> {
    let since = (month(at) - joined).max(0);
    u32::try_from(since).ok().filter(|s| *s < u32::from(MONTHS)).map(|s| 1 << s)
}

/// With the purchases of fewer people nothing is said of a mean's limits.
const FEW_BUYERS: f64 = 10.0;

/// A mean over people with its 95% limits.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = MeanOverPeople)]
pub struct Mean {
    pub mean: f64,
    pub lower: f64,
    pub upper: f64,
}

/// What people spent on average, from the sum and the sum of squares over all of them, those who spent nothing included; the limits by the normal
/// law: none of fewer than a hundred people, or where fewer than ten equal purchases would carry as much (Kish's effective number: the square of the
/// sum by the sum of squares). One buyer of a thousand, or none, has no limits by that law.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn mean(people: u64, sum: f64, squares: f64) -> Option<Mean> {
    if people < crate::report::THIN_BELOW || sum * sum < FEW_BUYERS * squares || sum == 0.0 {
        return None;
    }
    let n = people as f64;
    let mean = sum / n;
    let variance = ((squares - n * mean * mean) / (n - 1.0)).max(0.0);
    let half = normal_upper_quantile((1.0 - LEVEL) / 2.0) * (variance / n).sqrt();
    Some(Mean { mean, lower: mean - half, upper: mean + half })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn months_are_whole_ones() {
        for (text, m) in [("1970-01-01T00:00:00Z", 0), ("2026-03-31T23:59:59Z", 56 * 12 + 2), ("2026-04-01T00:00:00Z", 56 * 12 + 3)] {
            let at = Instant::of(text.parse::<jiff::Timestamp>().unwrap().as_millisecond());
            assert_eq!(month(at), m);
            assert!(begins(m) <= at && at < begins(m + 1));
        }
        assert_eq!(words(56 * 12 + 3), "Apr 2026");
    }

    fn turn() -> impl Strategy<Value = Turn> {
        prop_oneof![
            Just(Turn::Act(Act::Agreed)),
            Just(Turn::Act(Act::Confirmed)),
            Just(Turn::Act(Act::Withdrew)),
            (0i64..2_000).prop_map(|d| Turn::Act(Act::Paused { until: Instant::of(d * crate::DAY) })),
            prop::sample::select(&MailStatus::ALL[..]).prop_map(Turn::Status),
            any::<bool>().prop_map(Turn::Sunset),
        ]
    }

    proptest! {
        /// At every month's end the turns so far say what the ledger says.
        #[test]
        fn turns_add_up_to_the_ledger(mut ledger in prop::collection::vec((0i64..1_500, turn()), 0..14), joined in 0i32..6) {
            ledger.sort_by_key(|e| e.0);
            let ledger: Vec<(Instant, Turn)> = ledger.into_iter().map(|(d, t)| (Instant::of(d * crate::DAY), t)).collect();
            let turns = turns(&ledger, joined);
            for m in joined..70 {
                let can = turns.iter().take_while(|t| t.0 <= m).last().is_some_and(|t| t.1);
                prop_assert_eq!(can, mailable(&ledger, begins(m + 1) + -1), "month {}", m);
            }
            // They alternate, from not mailable on.
            prop_assert!(turns.iter().enumerate().all(|(i, t)| t.1 == (i % 2 == 0)));
        }
    }

    #[test]
    fn what_people_spent_is_a_mean_over_all_of_them() {
        // 400 people, 40 of whom spent 25.00: mean 2.50, variance of a Bernoulli times 25², n − 1.
        let m = mean(400, 40.0 * 25.0, 40.0 * 625.0).unwrap();
        let sd = (0.1f64 * 0.9 * 625.0 * 400.0 / 399.0).sqrt();
        assert!((m.mean - 2.5).abs() < 1e-12 && (m.upper - m.mean - 1.959_964 * sd / 20.0).abs() < 1e-6);
        assert_eq!(mean(99, 40.0, 40.0), None);
        assert_eq!(mean(1_000, 0.0, 0.0), None, "nobody bought: the limits aren't 0 to 0");
        assert_eq!(mean(1_000, 9.0 * 25.0, 9.0 * 625.0), None);
        assert_eq!(mean(1_000, 10.0 + 900.0, 10.0 + 900.0 * 900.0), None, "ten bought, and one of them nearly all of it");
    }
}
