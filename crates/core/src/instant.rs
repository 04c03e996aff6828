use serde::{Deserialize, Serialize};
use std::ops::{Add, Sub};

pub const SECOND: i64 = 1_000;
pub const MINUTE: i64 = 60 * SECOND;
pub const HOUR: i64 = 60 * MINUTE;
pub const DAY: i64 = 24 * HOUR;

/// A point in time: milliseconds since 1970-01-01 UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, utoipa::ToSchema, Deserialize, Default)]
#[serde(transparent)]
pub struct Instant(i64);

impl Instant {
    /// So many milliseconds after 1970-01-01 UTC.
    #[must_use]
    pub const fn of(millis: i64) -> Self {
        Self(millis)
    }

    /// Milliseconds since 1970-01-01 UTC.
    #[must_use]
    pub const fn millis(self) -> i64 {
        self.0
    }

    /// Reads RFC 3339 (`2026-04-17T09:00:00Z`) or milliseconds since 1970.
    #[must_use]
    pub fn read(text: &str) -> Option<Self> {
        let stamp = || text.parse::<jiff::Timestamp>().ok().map(|t| Self(t.as_millisecond()));
        text.parse().ok().map(Self).or_else(stamp)
    }

    /// As RFC 3339 writes it.
    #[must_use]
    pub fn iso(self) -> String {
        jiff::Timestamp::from_millisecond(self.0).map_or_else(|_| String::new(), |t| t.to_string())
    }

    /// The machine's clock. Only for the edges of the system: rules take their instant as an argument.
    #[must_use]
    pub fn of_machine(machine: std::time::SystemTime) -> Self {
        let since = machine.duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_millis());
        Self(i64::try_from(since).unwrap_or(i64::MAX))
    }

    /// "Thu 16 Apr 2026, 18:40" in UTC.
    #[must_use]
    pub fn words(self) -> String {
        jiff::Timestamp::from_millisecond(self.0)
            .map_or_else(|_| "at an unknown time".to_owned(), |t| t.strftime("%a %-d %b %Y, %H:%M").to_string())
    }
}

impl Add<i64> for Instant {
    type Output = Self;
    fn add(self, millis: i64) -> Self {
        Self(self.0.saturating_add(millis))
    }
}

impl Sub for Instant {
    type Output = i64;
    fn sub(self, other: Self) -> i64 {
        self.0.saturating_sub(other.0)
    }
}
