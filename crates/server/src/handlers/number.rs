//! Numbers as requests bring them: each within a range that its type knows, and the API's description says.

use rinse_core::Instant;
use serde::Deserialize;
use utoipa::ToSchema;

/// The first and the last instant that anything can be about: 1970 to 2200, in UTC milliseconds.
const INSTANTS: std::ops::RangeInclusive<i64> = 0..=7_258_118_400_000;

/// An instant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(try_from = "i64")]
#[schema(value_type = i64, minimum = 0, maximum = 7_258_118_400_000_i64)]
pub(crate) struct At(i64);

impl At {
    pub(crate) fn instant(self) -> Instant {
        Instant::of(self.0)
    }
}

impl TryFrom<i64> for At {
    type Error = String;
    fn try_from(ms: i64) -> Result<Self, String> {
        if INSTANTS.contains(&ms) { Ok(Self(ms)) } else { Err(format!("{ms} is no instant from 1970 to 2200, in UTC milliseconds")) }
    }
}
