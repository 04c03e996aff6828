//! How answers come in over a trial's window, on the band of past mailings.
//!
//! While a trial runs its people are at different points of their windows. The share who had answered by a
//! point is taken over those for whom that much time has passed, so that late handovers don't press it down.

use serde::Serialize;
use utoipa::ToSchema;

/// Points at which the window is looked at.
pub const POINTS: usize = 24;

/// People who are alike, in whole steps of the window from their handover: the time that has passed, and the step
/// in which they answered (0: in the first).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Group {
    pub passed: usize,
    pub answered: Option<usize>,
    pub people: u64,
}

/// A share at each of the points; none where the time hasn't passed for anybody.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = CourseLine)]
pub struct Line {
    #[schema(value_type = Vec<Option<f64>>)]
    pub shares: Vec<Option<f64>>,
}

/// The share of people who had answered by the end of each step.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn line(groups: &[Group]) -> Line {
    let at = |step: usize| {
        let there = groups.iter().filter(|g| g.passed > step);
        let (mut people, mut answered) = (0, 0);
        for g in there {
            people += g.people;
            answered += if g.answered.is_some_and(|a| a <= step) { g.people } else { 0 };
        }
        (people > 0).then(|| answered as f64 / people as f64)
    };
    Line { shares: (0..POINTS).map(at).collect() }
}

/// A past mailing: people who answered in each step of the window, later within 30 days, and never.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastMailing {
    pub steps: [u64; POINTS],
    pub later: u64,
    pub never: u64,
}

/// What past mailings did: the middle four fifths of them.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = CourseBand)]
pub struct Band {
    pub mailings: usize,
    pub low: Vec<f64>,
    pub high: Vec<f64>,
    /// The share of their 30-day answers that they had by the window's end.
    pub maturity_low: f64,
    pub maturity_high: f64,
}

/// Fewer people than this make a mailing's share a matter of chance.
const FEWEST: u64 = 200;
/// Fewer mailings than this show no band.
const FEWEST_MAILINGS: usize = 3;

/// The band of past mailings; none when there are too few.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn band(past: &[PastMailing]) -> Option<Band> {
    let (mut by_step, mut maturity) = (vec![Vec::new(); POINTS], Vec::new());
    for m in past {
        let inside: u64 = m.steps.iter().sum();
        let all = inside + m.later + m.never;
        if all < FEWEST || inside + m.later == 0 {
            continue;
        }
        let mut so_far = 0;
        for (step, answered) in m.steps.iter().enumerate() {
            so_far += answered;
            by_step[step].push(so_far as f64 / all as f64);
        }
        maturity.push(inside as f64 / (inside + m.later) as f64);
    }
    if maturity.len() < FEWEST_MAILINGS {
        return None;
    }
    let mailings = maturity.len();
    let mut of = |mut values: Vec<f64>| {
        values.sort_by(f64::total_cmp);
        (quantile(&values, 0.1), quantile(&values, 0.9))
    };
    let (low, high) = by_step.into_iter().map(&mut of).unzip();
    let (maturity_low, maturity_high) = of(maturity);
    Some(Band { mailings, low, high, maturity_low, maturity_high })
}

/// Between the two nearest of sorted values, in proportion (Hyndman and Fan's definition 7).
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn quantile(sorted: &[f64], p: f64) -> f64 {
    let place = p * (sorted.len() - 1) as f64;
    let (below, part) = (place.floor() as usize, place.fract());
    let above = (below + 1).min(sorted.len() - 1);
    sorted[below] + part * (sorted[above] - sorted[below])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Once everybody's window has passed, the line only rises, and ends at the share who answered at all; before,
        /// it says at each point what is so of those who have come that far.
        #[test]
        fn the_line_is_of_those_who_are_that_far(people in prop::collection::vec((0usize..=POINTS, prop::option::of(0usize..POINTS)), 1..60)) {
            let groups = |passed: Option<usize>| -> Vec<Group> {
                let far = |p: usize| passed.unwrap_or(p);
                people.iter().map(|&(p, a)| Group { passed: far(p), answered: a.filter(|a| *a < far(p)), people: 2 }).collect()
            };
            let over = line(&groups(Some(POINTS))).shares;
            prop_assert!(over.windows(2).all(|w| w[0] <= w[1]));
            let answered = people.iter().filter(|p| p.1.is_some()).count();
            prop_assert_eq!(over[POINTS - 1], Some(answered as f64 / people.len() as f64));
            for (step, share) in line(&groups(None)).shares.into_iter().enumerate() {
                let there: Vec<_> = people.iter().filter(|p| p.0 > step).collect();
                let by_then = there.iter().filter(|p| p.1.is_some_and(|a| a <= step)).count();
                prop_assert_eq!(share, (!there.is_empty()).then(|| by_then as f64 / there.len() as f64));
            }
        }
    }

    #[test]
    fn the_band_is_of_the_middle_of_enough_mailings() {
        let mailing = |first: u64, later: u64| {
            let mut steps = [0; POINTS];
            steps[0] = first;
            PastMailing { steps, later, never: 1_000 - first - later }
        };
        let past: Vec<PastMailing> = (0..11).map(|i| mailing(100 + 10 * i, 100)).collect();
        let b = band(&past).unwrap();
        assert_eq!((b.mailings, b.low.len()), (11, POINTS));
        assert!((b.low[0] - 0.11).abs() < 1e-12 && (b.high[POINTS - 1] - 0.19).abs() < 1e-12);
        assert!((b.maturity_low - 110.0 / 210.0).abs() < 1e-12);
        // Small mailings, and those that nobody answered, say nothing.
        assert_eq!(band(&[mailing(100, 100), mailing(100, 100), mailing(0, 0)]), None);
        assert_eq!(band(&vec![PastMailing { steps: [1; POINTS], later: 1, never: 9 }; 5]), None);
    }
}
