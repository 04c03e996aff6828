//! Source quality: what became of people by where they came from, and when a source's sign-ups jump.

use crate::report::Rate;
use serde::{Deserialize, Serialize};
use std::ops::AddAssign;
use utoipa::ToSchema;

/// What is counted of the people of one source.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counts {
    pub people: u64,
    /// Got at least one message.
    pub mailed: u64,
    /// Their address's host said for good that it doesn't exist.
    pub bounced: u64,
    pub complained: u64,
    /// Got four messages or more in half a year and answered none; open-blind people left out.
    pub silent: u64,
    /// Those among whom silence can be told: four messages or more, not open-blind.
    pub could_answer: u64,
    pub bought: u64,
    pub last_week: u64,
    /// In the eight weeks before the last.
    pub before: u64,
}

impl AddAssign for Counts {
    fn add_assign(&mut self, o: Self) {
        self.people += o.people;
        self.mailed += o.mailed;
        self.bounced += o.bounced;
        self.complained += o.complained;
        self.silent += o.silent;
        self.could_answer += o.could_answer;
        self.bought += o.bought;
        self.last_week += o.last_week;
        self.before += o.before;
    }
}

/// Weeks that a week is held against.
pub const WEEKS_BEFORE: u32 = 8;
/// Fewer sign-ups than this in a week raise no alarm.
const LEAST: u64 = 20;
/// The chance of an alarm by chance alone, for one source in one week.
const ALPHA: f64 = 0.001;

/// One source's quality.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Quality {
    /// Null: no source on record.
    pub source: Option<String>,
    pub people: u64,
    pub bounces: Rate,
    pub complaints: Rate,
    pub silence: Rate,
    pub conversions: Rate,
    pub last_week: u64,
    /// Sign-ups in a usual week, from the eight before.
    pub usual_week: f64,
    pub jumped: bool,
}

/// Judges one source.
#[must_use]
pub fn quality(source: Option<String>, c: &Counts) -> Quality {
    #[allow(clippy::cast_precision_loss)]
    let usual_week = c.before as f64 / f64::from(WEEKS_BEFORE);
    Quality {
        source,
        people: c.people,
        bounces: Rate::new(c.bounced, c.mailed),
        complaints: Rate::new(c.complained, c.mailed),
        silence: Rate::new(c.silent, c.could_answer),
        conversions: Rate::new(c.bought, c.people),
        last_week: c.last_week,
        usual_week,
        jumped: c.last_week >= LEAST && jump_p(c.last_week, c.before, WEEKS_BEFORE) < ALPHA,
    }
}

/// The chance of so many sign-ups in the last week or more, given the weeks before, when nothing
/// changed: conditional on their sum, the last week's share is binomial with 1 in (weeks + 1) (the
/// exact test of two Poisson rates; Przyborowski and Wilenski 1940).
#[must_use]
pub fn jump_p(last: u64, before: u64, weeks: u32) -> f64 {
    let n = last + before;
    if last == 0 {
        return 1.0;
    }
    let p = 1.0 / f64::from(weeks + 1);
    // P(X >= last), summed from the largest term outward in logarithms: no cancellation.
    #[allow(clippy::cast_precision_loss)]
    let log_term = |k: u64| {
        libm::lgamma(n as f64 + 1.0) - libm::lgamma(k as f64 + 1.0) - libm::lgamma((n - k) as f64 + 1.0)
            + k as f64 * libm::log(p)
            + (n - k) as f64 * libm::log1p(-p)
    };
    let first = log_term(last);
    let mut sum = 0.0;
    for k in last..=n {
        let term = libm::exp(log_term(k) - first);
        sum += term;
        if term < sum * 1e-17 {
            break;
        }
    }
    (libm::exp(first) * sum).min(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Against the plain sum of the binomial's terms.
        #[test]
        fn the_tail_is_the_binomials(last in 0u64..30, before in 0u64..60, weeks in 1u32..10) {
            let (n, p) = (last + before, 1.0 / f64::from(weeks + 1));
            let (mut term, mut below) = ((1.0 - p).powi(n as i32), 0.0);
            for k in 0..last {
                below += term;
                term *= (n - k) as f64 / (k + 1) as f64 * p / (1.0 - p);
            }
            prop_assert!((jump_p(last, before, weeks) - (1.0 - below)).abs() < 1e-10);
        }

        #[test]
        fn more_in_the_last_week_is_rarer(last in 1u64..3_000, before in 0u64..30_000) {
            prop_assert!(jump_p(last + 1, before, 8) <= jump_p(last, before, 8) * (1.0 + 1e-9));
        }
    }

    #[test]
    fn a_jump_is_told_from_a_good_week() {
        let with = |last_week, before| quality(None, &Counts { last_week, before, ..Counts::default() }).jumped;
        assert!(with(60, 8 * 20), "three times the usual");
        assert!(!with(26, 8 * 20), "a good week");
        assert!(!with(19, 0), "too few to say");
        assert!(with(25, 0), "out of nothing");
        assert!(jump_p(100_000, 100_000, 8).is_finite());
    }
}
