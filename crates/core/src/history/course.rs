//! How a message went, of what logs say of it: the same whatever order they say it in, and however often.

use crate::Instant;

/// A step on a message's way, as a log has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Step {
    Sent,
    /// Sent, by a log that names no acceptances: what it doesn't say to have bounced was taken.
    Taken,
    Accepted,
    Deferred,
    Bounced,
}

impl Step {
    pub const ALL: [Self; 5] = [Self::Sent, Self::Taken, Self::Accepted, Self::Deferred, Self::Bounced];

    /// The number it is stored as.
    #[must_use]
    pub fn code(self) -> i64 {
        self as i64 + 1
    }

    #[must_use]
    pub fn from_code(code: i64) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.code() == code)
    }
}

/// How a message went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Course {
    /// The first that is known of it.
    pub handed_at: Instant,
    pub accepted_at: Option<Instant>,
    pub failed_at: Option<Instant>,
    /// It was put off, and nothing is known of it since.
    pub waits: bool,
}

/// How a message went; none: nothing says that it was sent.
///
/// A host that takes a message after it had sent it back was asked again: it didn't fail. One that sends it back after it had taken it
/// reports a failure (RFC 3464), and both hold.
#[must_use]
pub fn course(steps: &[(Step, Instant)]) -> Option<Course> {
    let of = |step: Step| steps.iter().filter(move |(s, _)| *s == step).map(|(_, at)| *at);
    let handed_at = steps.iter().map(|(_, at)| *at).min()?;
    let taken = of(Step::Accepted).max();
    let failed_at = of(Step::Bounced).max().filter(|at| taken.is_none_or(|taken| taken < *at));
    let accepted_at = of(Step::Accepted).min().or_else(|| of(Step::Taken).min().filter(|_| failed_at.is_none()));
    let waits = accepted_at.is_none() && failed_at.is_none() && of(Step::Deferred).next().is_some();
    Some(Course { handed_at, accepted_at, failed_at, waits })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[], None)]
    #[case(&[(Step::Sent, 10)], Some((10, None, None)))]
    #[case(&[(Step::Taken, 10)], Some((10, Some(10), None)))]
    #[case(&[(Step::Taken, 10), (Step::Bounced, 12)], Some((10, None, Some(12))))]
    #[case(&[(Step::Sent, 10), (Step::Accepted, 11), (Step::Bounced, 99)], Some((10, Some(11), Some(99))))]
    // Sent back, tried again, taken.
    #[case(&[(Step::Sent, 10), (Step::Bounced, 11), (Step::Accepted, 20)], Some((10, Some(20), None)))]
    #[case(&[(Step::Accepted, 11)], Some((11, Some(11), None)))]
    fn a_message_went_as_its_log_says(#[case] steps: &[(Step, i64)], #[case] want: Option<(i64, Option<i64>, Option<i64>)>) {
        let steps: Vec<_> = steps.iter().map(|(s, at)| (*s, Instant::of(*at))).collect();
        let found = course(&steps).map(|c| (c.handed_at.millis(), c.accepted_at.map(|a| a.millis()), c.failed_at.map(|a| a.millis())));
        assert_eq!(found, want);
    }

    proptest! {
        /// Neither order nor repetition matters, nothing comes before it was handed over, and a message is never both waiting and settled.
        #[test]
        fn order_does_not_matter(mut steps in prop::collection::vec((prop::sample::select(Step::ALL.to_vec()), 0_i64..50), 0..8), at in 0_usize..8) {
            let as_instants = |s: &[(Step, i64)]| s.iter().map(|(s, at)| (*s, Instant::of(*at))).collect::<Vec<_>>();
            let first = course(&as_instants(&steps));
            if let Some(one) = steps.get(at).copied() {
                steps.push(one);
            }
            steps.reverse();
            prop_assert_eq!(first, course(&as_instants(&steps)));
            if let Some(c) = first {
                prop_assert!(c.accepted_at.is_none_or(|a| a >= c.handed_at) && c.failed_at.is_none_or(|a| a >= c.handed_at));
                prop_assert!(!c.waits || (c.accepted_at.is_none() && c.failed_at.is_none()));
            }
        }
    }
}
