//! Rates as they are reported: with their counts, their interval, and a word when they are thin.

use crate::stats::Arm;
use crate::stats::proportion::{Method, proportion_interval};
use serde::Serialize;

/// Below this many trials a rate is drawn hollow and called thin: its 95% interval is wider than
/// 20 points at worst.
pub const THIN_BELOW: u64 = 100;
/// The confidence level of every interval on screen.
pub const LEVEL: f64 = 0.95;

/// `count` of `of`, with Wilson's 95% interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, utoipa::ToSchema)]
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
    #[must_use]
    pub fn new(count: u64, of: u64) -> Self {
        let i = proportion_interval(Arm { successes: count.min(of), trials: of }, LEVEL, Method::Wilson).ok();
        Self { count, of, rate: i.map(|i| i.estimate), lower: i.map(|i| i.lower), upper: i.map(|i| i.upper), thin: of < THIN_BELOW }
    }
}
