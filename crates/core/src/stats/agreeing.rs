//! Two shares compared by a test and by limits that never contradict each other.
//!
//! The pooled score test decides (Cochran, Mantel and Haenszel's over strata), and where an arm has under 5 expected successes, or failures, the
//! conditional exact test with mid-p: there the pooled one calls too often. Limits are Newcombe's (over strata put together by their weights), taken on
//! to 0 where the test doesn't reject. Where the exact test decides they are that test turned around, and no narrower than Newcombe's but where
//! those alone would take in 0: what the test rejects the limits exclude, and the other way round.

use super::homogeneity::compare_strata;
use super::midp::midp_over;
use super::midp_limits::midp_limits;
use super::{Arm, StatsError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// By what two arms were compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = ComparedBy)]
pub enum Test {
    /// The pooled score test.
    Score,
    /// Cochran, Mantel and Haenszel's test over strata.
    Strata,
    /// The conditional exact test with mid-p.
    MidP,
    /// Lin's difference, adjusted for what people did before.
    Adjusted,
    /// The arms drawn again.
    Redrawn,
    /// Welch's test.
    Welch,
}

/// The second arm less the first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Tested {
    pub difference: f64,
    pub p_value: f64,
    pub lower: f64,
    pub upper: f64,
    pub test: Test,
}

impl Tested {
    /// Takes the limits on to 0 where the test doesn't reject at their level.
    #[must_use]
    pub fn agreed(self, level: f64) -> Self {
        if self.p_value < 1.0 - level {
            return self;
        }
        Self { lower: self.lower.min(0.0), upper: self.upper.max(0.0), ..self }
    }

    /// Takes in what else a test doesn't reject; 0 only if that test doesn't reject it either.
    fn no_narrower_than(self, (lower, upper): (f64, f64)) -> Self {
        let (low, high) = (self.lower.min(lower), self.upper.max(upper));
        Self {
            lower: if lower > 0.0 && low <= 0.0 { lower } else { low },
            upper: if upper < 0.0 && high >= 0.0 { upper } else { high },
            ..self
        }
    }

    /// Do the limits exclude 0?
    #[must_use]
    pub fn excludes_none(&self) -> bool {
        self.lower > 0.0 || self.upper < 0.0
    }
}

/// The limits where few did it, or few didn't.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum LimitsOfFew {
    /// The exact test turned around, no narrower than Newcombe's.
    #[default]
    Inverted,
    /// Newcombe's, taken on to 0 where the exact test doesn't reject (version 5 of a trial's rule).
    Extended,
}

/// With fewer expected successes, or failures, in an arm the exact test decides.
const FEW: f64 = 5.0;

/// Has an arm few expected successes, or failures, if both were alike?
#[allow(clippy::cast_precision_loss)]
pub(crate) fn few(strata: &[(Arm, Arm)]) -> bool {
    // In each arm: successes expected, failures expected.
    let mut expected = [[0.0; 2]; 2];
    for (a, b) in strata.iter().filter(|(a, b)| a.trials > 0 && b.trials > 0) {
        let (n, x) = ((a.trials + b.trials) as f64, (a.successes + b.successes) as f64);
        for (sum, arm) in expected.iter_mut().zip([a, b]) {
            sum[0] += x * arm.trials as f64 / n;
            sum[1] += (n - x) * arm.trials as f64 / n;
        }
    }
    expected.iter().flatten().any(|e| *e < FEW)
}

/// Compares two shares over strata; one stratum is a plain comparison.
///
/// # Errors
/// More successes than trials, or no stratum with both arms.
pub fn compare_shares(strata: &[(Arm, Arm)], level: f64) -> Result<Tested, StatsError> {
    compare_shares_by(strata, level, LimitsOfFew::Inverted)
}

/// [`compare_shares`] with these limits where few did it.
///
/// # Errors
/// As there.
pub fn compare_shares_by(strata: &[(Arm, Arm)], level: f64, limits: LimitsOfFew) -> Result<Tested, StatsError> {
    let usual = compare_strata(strata, level)?;
    // With more people, or more successes over many strata, than the exact test takes, the usual one is near enough.
    let exact = if few(strata) { midp_over(strata).ok() } else { None };
    let (p_value, test) = match exact {
        Some(exact) => (exact.p_value, Test::MidP),
        None => (usual.p_value, if strata.len() > 1 { Test::Strata } else { Test::Score }),
    };
    let found = Tested { difference: usual.difference, p_value, lower: usual.lower, upper: usual.upper, test };
    let exact = if test == Test::MidP && limits == LimitsOfFew::Inverted { midp_limits(strata, level).ok().flatten() } else { None };
    Ok(exact.map_or(found, |inverted| found.no_narrower_than(inverted)).agreed(level))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn arm(successes: u64, trials: u64) -> Arm {
        Arm { successes, trials }
    }

    #[rstest]
    // 0 against 4 of 1,000 is nothing yet (Fisher's p 0.125); 0 against 9 is.
    #[case((0, 1_000), (4, 1_000), Test::MidP, false)]
    #[case((0, 1_000), (9, 1_000), Test::MidP, true)]
    #[case((996, 1_000), (1_000, 1_000), Test::MidP, false)]
    #[case((200, 1_000), (260, 1_000), Test::Score, true)]
    fn few_are_compared_exactly(#[case] a: (u64, u64), #[case] b: (u64, u64), #[case] test: Test, #[case] differ: bool) {
        let t = compare_shares(&[(arm(a.0, a.1), arm(b.0, b.1))], 0.95).unwrap();
        assert_eq!((t.test, t.excludes_none()), (test, differ), "{t:?}");
    }

    proptest! {
        /// What the limits exclude the test rejects, and cutting people in strata of the same share moves the exact test little.
        #[test]
        fn limits_and_test_agree(x in 0u64..30, y in 0u64..30, n in 40u64..3_000, m in 40u64..3_000, level in 0.8f64..0.999) {
            let t = compare_shares(&[(arm(x, n), arm(y, m))], level).unwrap();
            let rejected = t.p_value < 1.0 - level;
            prop_assert!(!t.excludes_none() || rejected);
            prop_assert!(t.test != Test::MidP || t.excludes_none() == rejected || (t.p_value - 1.0 + level).abs() < 1e-9, "{:?}", t);
            prop_assert!(t.lower <= t.difference && t.difference <= t.upper);
            let halves = |k: u64| (k / 2, k - k / 2);
            let ((x1, x2), (y1, y2), (n1, n2), (m1, m2)) = (halves(x), halves(y), halves(n), halves(m));
            let cut = compare_shares(&[(arm(x1, n1), arm(y1, m1)), (arm(x2, n2), arm(y2, m2))], level).unwrap();
            prop_assert!((cut.difference - t.difference).abs() < 0.02 && (cut.p_value - t.p_value).abs() < 0.1, "{:?} {:?}", t, cut);
        }
    }
}
