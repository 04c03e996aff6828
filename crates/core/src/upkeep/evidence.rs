//! Evidence for people who have to believe that a base is kept clean: rates week by week against marks that somebody set and against the limits that
//! the base's own weeks give (Laney's p′ chart: weeks are so large that a binomial's limits would call half of them).

use crate::report::Rate;
use crate::stats::Arm;
use crate::stats::planning::p_prime_chart;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use utoipa::ToSchema;

/// A week with fewer messages isn't drawn: its limits would be as wide as the picture.
pub const LEAST: u64 = 100;
/// The weeks before the last so many are what the limits are drawn from …
pub const RECENT_WEEKS: usize = 8;
/// … where there are so many of them; else all weeks are.
pub const BASELINE_LEAST: usize = 8;

/// Levels that somebody set.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = EvidenceMarks)]
pub struct Marks {
    /// Accepted: aimed at …
    pub accepted_aim: f64,
    /// … and below this somebody acts.
    pub accepted_act: f64,
    /// Complaints of delivered messages: above this somebody acts.
    pub complaints_act: f64,
}

impl Default for Marks {
    fn default() -> Self {
        Self { accepted_aim: 0.97, accepted_act: 0.95, complaints_act: 0.001 }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum MarksError {
    #[error("A mark is a share between 0% and 100%.")]
    Share,
    #[error("The share accepted that is aimed at lies below the one at which somebody acts.")]
    Order,
}

impl Marks {
    /// # Errors
    /// When a mark is no share, or they contradict each other.
    pub fn check(&self) -> Result<(), MarksError> {
        if [self.accepted_aim, self.accepted_act, self.complaints_act].iter().any(|m| !(0.0..=1.0).contains(m)) {
            return Err(MarksError::Share);
        }
        if self.accepted_aim < self.accepted_act { Err(MarksError::Order) } else { Ok(()) }
    }
}

/// What is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Measure {
    /// Of messages handed over.
    Accepted,
    /// Of messages handed over.
    Bounced,
    /// Of delivered messages.
    Complaints,
}

impl Measure {
    pub const ALL: [Self; 3] = [Self::Accepted, Self::Bounced, Self::Complaints];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Accepted => "Accepted by hosts, of messages handed over",
            Self::Bounced => "Bounced, of messages handed over",
            Self::Complaints => "Complaints, of delivered messages",
        }
    }

    /// The levels that concern it, with their names.
    #[must_use]
    pub fn marks(self, m: &Marks) -> Vec<(&'static str, f64)> {
        match self {
            Self::Accepted => vec![("aim", m.accepted_aim), ("act below", m.accepted_act)],
            Self::Bounced => vec![],
            Self::Complaints => vec![("act above", m.complaints_act)],
        }
    }

    /// Is a rate beyond the mark at which somebody acts?
    #[must_use]
    pub fn beyond(self, rate: f64, m: &Marks) -> bool {
        match self {
            Self::Accepted => rate < m.accepted_act,
            Self::Bounced => false,
            Self::Complaints => rate > m.complaints_act,
        }
    }
}

/// A week's messages: how many, and how many of them did what is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Week {
    /// Its Monday, in days since 1970-01-01.
    pub day: i64,
    pub count: u64,
    pub of: u64,
}

/// A week in the picture.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = EvidencePoint)]
pub struct Point {
    pub day: i64,
    pub rate: Rate,
    /// The limits within which the base's own weeks lie; none while fewer than two weeks say how far they spread.
    pub low: Option<f64>,
    pub high: Option<f64>,
    pub outside: bool,
    pub beyond_mark: bool,
}

/// Week by week.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = EvidenceCourse)]
pub struct Course {
    pub measure: Measure,
    pub words: String,
    pub all: Rate,
    pub points: Vec<Point>,
    /// Weeks left out for having fewer than 100 messages.
    pub thin_weeks: usize,
    /// Weeks that the limits are drawn from.
    pub baseline: usize,
    /// How many times the binomial spread the weeks have.
    pub spread: Option<f64>,
}

/// Judges weeks, oldest first.
#[must_use]
pub fn course(measure: Measure, weeks: &[Week], marks: &Marks) -> Course {
    let (count, of) = weeks.iter().fold((0, 0), |(x, n), w| (x + w.count, n + w.of));
    let full: Vec<&Week> = weeks.iter().filter(|w| w.of >= LEAST).collect();
    let arms: Vec<Arm> = full.iter().map(|w| Arm { successes: w.count.min(w.of), trials: w.of }).collect();
    let before = arms.len().saturating_sub(RECENT_WEEKS);
    let baseline = if before >= BASELINE_LEAST { before } else { arms.len() };
    let chart = p_prime_chart(&arms, baseline).ok();
    let points = full
        .iter()
        .enumerate()
        .map(|(i, w)| {
            let rate = Rate::new(w.count.min(w.of), w.of);
            let limits = chart.as_ref().map(|c| (c.chart.lower[i], c.chart.upper[i]));
            Point {
                day: w.day,
                rate,
                low: limits.map(|l| l.0),
                high: limits.map(|l| l.1),
                outside: chart.as_ref().is_some_and(|c| c.chart.signals.contains(&i)),
                beyond_mark: rate.rate.is_some_and(|r| measure.beyond(r, marks)),
            }
        })
        .collect();
    Course {
        measure,
        words: measure.words().to_owned(),
        all: Rate::new(count.min(of), of),
        points,
        thin_weeks: weeks.iter().filter(|w| w.of > 0 && w.of < LEAST).count(),
        baseline: if chart.is_some() { baseline } else { 0 },
        spread: chart.and_then(|c| c.sigma_z),
    }
}

/// An address as outsiders may see it: its first letter and its domain.
#[must_use]
pub fn masked(address: &str) -> String {
    match address.rsplit_once('@') {
        Some((local, domain)) => format!("{}…@{domain}", local.chars().next().map(String::from).unwrap_or_default()),
        None => "…".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn weeks(counts: &[(u64, u64)]) -> Vec<Week> {
        counts.iter().zip(0..).map(|(&(count, of), i)| Week { day: 7 * i, count, of }).collect()
    }

    /// Twenty weeks that spread as they do, and one on which a host turned us away: that one alone lies outside.
    #[test]
    fn the_week_that_fell_out_is_told() {
        let mut counts: Vec<(u64, u64)> = (0..20).map(|i| (9_800 + 30 * (i % 3), 10_000)).collect();
        counts[17] = (9_100, 10_000);
        let c = course(Measure::Accepted, &weeks(&counts), &Marks::default());
        let outside: Vec<i64> = c.points.iter().filter(|p| p.outside).map(|p| p.day / 7).collect();
        assert_eq!((outside, c.baseline), (vec![17], 12));
        assert!(c.points[17].beyond_mark && !c.points[16].beyond_mark);
        assert!(c.spread.is_some_and(|s| s > 1.0), "weeks spread more than chance: {:?}", c.spread);
    }

    #[test]
    fn thin_weeks_are_counted_and_not_drawn() {
        let c = course(Measure::Complaints, &weeks(&[(0, 5_000), (1, 99), (9, 6_000), (0, 0)]), &Marks::default());
        assert_eq!((c.points.len(), c.thin_weeks, c.all.count, c.all.of), (2, 1, 10, 11_099));
        assert!(c.points[1].beyond_mark && c.points[1].rate.rate == Some(0.0015));
        let one = course(Measure::Bounced, &weeks(&[(3, 500)]), &Marks::default());
        assert!(one.points[0].low.is_none() && one.baseline == 0, "one week says nothing of how far weeks spread");
        assert!(course(Measure::Bounced, &[], &Marks::default()).all.rate.is_none());
    }

    #[test]
    fn addresses_are_masked() {
        for (address, want) in [("wren@tern.example", "w…@tern.example"), ("\"a@b\"@tern.example", "\"…@tern.example"), ("x", "…")] {
            assert_eq!(masked(address), want);
        }
        assert!(Marks { accepted_aim: 0.9, ..Marks::default() }.check() == Err(MarksError::Order));
        assert!(Marks { complaints_act: f64::NAN, ..Marks::default() }.check() == Err(MarksError::Share));
    }

    proptest! {
        /// Whatever the counts, each drawn week lies within its limits or is told as outside them.
        #[test]
        fn inside_or_told(counts in prop::collection::vec((0u64..2_000, 0u64..2_000), 0..40)) {
            let counts: Vec<(u64, u64)> = counts.into_iter().map(|(x, n)| (x.min(n), n)).collect();
            for measure in Measure::ALL {
                let c = course(measure, &weeks(&counts), &Marks::default());
                for p in &c.points {
                    let (Some(rate), Some(low), Some(high)) = (p.rate.rate, p.low, p.high) else { continue };
                    prop_assert_eq!(p.outside, rate < low || rate > high);
                    prop_assert!((0.0..=1.0).contains(&low) && low <= high && high <= 1.0);
                }
            }
        }
    }
}
