//! Which mailing a conversion is put down to, for reports. Trials don't attribute: they count what the
//! people who were assigned did, whatever they clicked.

use crate::{DAY, Instant};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which of the clicks before it counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum By {
    LastClick,
    FirstClick,
}

/// The rule in force.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = AttributionRule)]
pub struct Rule {
    pub by: By,
    /// A click counts for so many days.
    pub days: u32,
}

impl Default for Rule {
    fn default() -> Self {
        Self { by: By::LastClick, days: 7 }
    }
}

impl Rule {
    /// # Errors
    /// When the days can't be meant.
    pub fn check(self) -> Result<(), String> {
        if (1..=90).contains(&self.days) { Ok(()) } else { Err("A click counts for 1 to 90 days.".into()) }
    }

    /// The place of the click that a conversion at `at` is put down to among a person's human clicks: the last
    /// (or first) that came before it, not longer ago than the days. `None`: nothing we sent gets it.
    #[must_use]
    pub fn click(self, clicks: &[Instant], at: Instant) -> Option<usize> {
        let in_time = clicks.iter().enumerate().filter(|(_, c)| **c <= at && at - **c < i64::from(self.days) * DAY);
        match self.by {
            By::LastClick => in_time.max_by_key(|(i, c)| (**c, *i)),
            By::FirstClick => in_time.min_by_key(|(i, c)| (**c, *i)),
        }
        .map(|(i, _)| i)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_last_click_within_the_days_counts() {
        let clicks = [Instant::of(0), Instant::of(3 * DAY), Instant::of(5 * DAY)];
        let last = Rule::default();
        assert_eq!(last.click(&clicks, Instant::of(4 * DAY)), Some(1), "a later click can't have led to it");
        assert_eq!(last.click(&clicks, Instant::of(5 * DAY)), Some(2));
        assert_eq!(last.click(&clicks, Instant::of(12 * DAY)), None, "seven whole days have passed");
        assert_eq!(Rule { by: By::FirstClick, days: 7 }.click(&clicks, Instant::of(6 * DAY)), Some(0));
    }

    proptest! {
        #[test]
        fn what_comes_after_changes_nothing(clicks in prop::collection::vec(0i64..100, 0..8), at in 0i64..100, later in 1i64..50, first in any::<bool>(), days in 1u32..90) {
            let rule = Rule { by: if first { By::FirstClick } else { By::LastClick }, days };
            let mut clicks: Vec<Instant> = clicks.into_iter().map(|d| Instant::of(d * DAY)).collect();
            let found = rule.click(&clicks, Instant::of(at * DAY));
            clicks.push(Instant::of((at + later) * DAY));
            prop_assert_eq!(rule.click(&clicks, Instant::of(at * DAY)), found);
            if let Some(i) = found {
                prop_assert!(clicks[i] <= Instant::of(at * DAY));
            }
        }
    }
}
