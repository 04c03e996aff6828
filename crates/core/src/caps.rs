//! Frequency caps: at most N messages in a rolling window.

use crate::{DAY, HOUR, Instant};
use serde::{Deserialize, Serialize};

/// Why a cap can't be saved.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CapError {
    #[error("a cap of 0 would stop all marketing mail: give at least 1, or cancel the mailings instead")]
    Zero,
    #[error("a cap of {0} is above 100 messages: no window needs that many")]
    TooMany(u32),
    #[error("a window of {0} h is not between 1 hour and 365 days")]
    Window(i64),
}

/// At most `limit` marketing messages per contact in any window of `window` milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cap {
    limit: u32,
    window: i64,
}

impl Cap {
    /// A checked cap.
    ///
    /// # Errors
    /// A limit of 0 or above 100, a window under an hour or above a year.
    pub fn new(limit: u32, window_hours: i64) -> Result<Self, CapError> {
        match limit {
            0 => Err(CapError::Zero),
            101.. => Err(CapError::TooMany(limit)),
            _ if !(1..=365 * 24).contains(&window_hours) => Err(CapError::Window(window_hours)),
            _ => Ok(Self { limit, window: window_hours * HOUR }),
        }
    }

    #[must_use]
    pub fn limit(self) -> u32 {
        self.limit
    }

    #[must_use]
    pub fn window(self) -> i64 {
        self.window
    }

    /// "2 in 7 days".
    #[must_use]
    pub fn words(self) -> String {
        let (n, unit) = if self.window % DAY == 0 { (self.window / DAY, "day") } else { (self.window / HOUR, "hour") };
        format!("{} in {n} {unit}{}", self.limit, if n == 1 { "" } else { "s" })
    }

    /// The first instant, `at` or later, when one more message keeps within the cap.
    ///
    /// `counted` are the instants of the messages that count, in any order; those after `at` don't.
    /// The window at t is (t - w, t], so a message at s stops counting exactly at s + w: the
    /// release is computed, not polled.
    #[must_use]
    pub fn first_allowed(self, counted: &[Instant], at: Instant) -> Instant {
        let mut within: Vec<Instant> = counted.iter().copied().filter(|&s| s <= at && s > at + -self.window).collect();
        let limit = self.limit as usize;
        if within.len() < limit {
            return at;
        }
        within.sort_unstable();
        within[within.len() - limit] + self.window
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Held messages go at the first instant that keeps the cap, and not a millisecond sooner.
        #[test]
        fn release_is_exact(limit in 1u32..5, past in prop::collection::vec(0i64..10 * DAY, 0..12)) {
            let cap = Cap::new(limit, 72).unwrap();
            let at = Instant(10 * DAY);
            let past: Vec<_> = past.into_iter().map(Instant).collect();
            let count = |t: Instant| past.iter().filter(|&&s| s <= t && t - s < cap.window()).count();
            let release = cap.first_allowed(&past, at);
            prop_assert!(count(release) < limit as usize);
            if release > at {
                prop_assert!(count(release + -1) >= limit as usize);
            }
        }
    }

    #[test]
    fn a_cap_of_zero_is_refused_with_advice() {
        assert!(Cap::new(0, 24).unwrap_err().to_string().contains("at least 1"));
        assert_eq!(Cap::new(2, 168).unwrap().words(), "2 in 7 days");
    }
}
