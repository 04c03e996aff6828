//! Rates as they are reported: with their counts, their interval, and a word when they are thin.

use crate::stats::Arm;
use crate::stats::proportion::{Method, proportion_interval};
use serde::{Deserialize, Serialize};

/// Below this many trials a rate is drawn hollow and called thin: its 95% interval is wider than
/// 20 points at worst.
pub const THIN_BELOW: u64 = 100;
/// The confidence level of every interval on screen.
pub const LEVEL: f64 = 0.95;

/// `count` of `of`, with Wilson's 95% interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Rate {
    pub count: u64,
    pub of: u64,
    /// Null when there are no trials.
    pub rate: Option<f64>,
    pub lower: Option<f64>,
    pub upper: Option<f64>,
    pub thin: bool,
}

impl Rate {
    /// Who is counted is part of whom it is of; where that isn't so something is wrong, and no rate is said.
    #[must_use]
    pub fn new(count: u64, of: u64) -> Self {
        debug_assert!(count <= of, "{count} of {of}");
        let i = proportion_interval(Arm { successes: count, trials: of }, LEVEL, Method::Wilson).ok();
        Self { count, of, rate: i.map(|i| i.estimate), lower: i.map(|i| i.lower), upper: i.map(|i| i.upper), thin: of < THIN_BELOW }
    }
}
