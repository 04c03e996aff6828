//! When a mailbox group gets nothing for a while because its hosts block us: going on would cost more of our name than waiting.

use crate::HOUR;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// When a group is paused by itself, and for how long.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = PauseRule)]
pub struct Rule {
    pub on: bool,
    /// Over this share of the last hour's messages …
    #[schema(minimum = 0.01, maximum = 1.0)]
    pub share: f64,
    /// … and at least so many of them were blocked.
    #[schema(minimum = 5, maximum = 100_000)]
    pub least: u32,
    #[schema(minimum = 1, maximum = 72)]
    pub hours: u32,
}

impl Default for Rule {
    fn default() -> Self {
        Self { on: true, share: 0.10, least: 50, hours: 4 }
    }
}

/// A rule that can't be kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    #[error("The share blocked is from 1% to 100%.")]
    Share,
    #[error("Between 5 and 100,000 messages make a pause: fewer would be chance.")]
    Least,
    #[error("A pause is from 1 to 72 hours.")]
    Hours,
}

impl Rule {
    /// # Errors
    /// When a number of it is outside its range.
    pub fn checked(self) -> Result<Self, RuleError> {
        if !(0.01..=1.0).contains(&self.share) {
            return Err(RuleError::Share);
        }
        if !(5..=100_000).contains(&self.least) {
            return Err(RuleError::Least);
        }
        if !(1..=72).contains(&self.hours) {
            return Err(RuleError::Hours);
        }
        Ok(self)
    }

    /// Is a group paused that blocked so many of the messages that it answered in the last hour?
    #[must_use]
    #[allow(clippy::cast_precision_loss)]
    pub fn pauses(&self, blocked: u64, answered: u64) -> bool {
        self.on && blocked >= u64::from(self.least) && blocked as f64 > self.share * answered as f64
    }

    /// How long, in milliseconds.
    #[must_use]
    pub fn lasts(&self) -> i64 {
        i64::from(self.hours) * HOUR
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(50, 400, true)]
    #[case(49, 49, false)]
    // A tenth isn't over a tenth.
    #[case(50, 500, false)]
    #[case(51, 500, true)]
    fn it_takes_both(#[case] blocked: u64, #[case] answered: u64, #[case] paused: bool) {
        assert_eq!(Rule::default().pauses(blocked, answered), paused);
        assert!(!Rule { on: false, ..Rule::default() }.pauses(blocked, answered));
    }

    #[test]
    fn a_rule_keeps_its_ranges() {
        assert_eq!(Rule::default().checked(), Ok(Rule::default()));
        assert_eq!(Rule { share: f64::NAN, ..Rule::default() }.checked(), Err(RuleError::Share));
        assert_eq!(Rule { least: 4, ..Rule::default() }.checked(), Err(RuleError::Least));
        assert_eq!(Rule { hours: 0, ..Rule::default() }.checked(), Err(RuleError::Hours));
    }
}
