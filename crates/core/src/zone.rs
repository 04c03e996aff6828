//! Wall clocks: what an instant is in a time zone, and the other way round.

use crate::Instant;
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::AmbiguousOffset;
pub use jiff::tz::TimeZone;

/// The instant as the calendar's package has it.
#[must_use]
pub fn stamp(t: Instant) -> Timestamp {
    Timestamp::from_millisecond(t.0).unwrap_or_default()
}

/// The instant of a local time. One that a clock change leaps over means the next that exists, the
/// instant of the change; one that comes twice means the first.
#[must_use]
pub fn first_instant(local: DateTime, zone: &TimeZone) -> Instant {
    let ambiguous = zone.to_ambiguous_timestamp(local);
    let leapt_over = matches!(ambiguous.offset(), AmbiguousOffset::Gap { .. });
    let Ok(earlier) = ambiguous.earlier() else { return Instant(i64::MAX) };
    let found = if leapt_over { zone.following(earlier).next().map_or(earlier, |change| change.timestamp()) } else { earlier };
    Instant(found.as_millisecond())
}

/// The zone of an IANA name, when there is one.
#[must_use]
pub fn named(name: &str) -> Option<TimeZone> {
    TimeZone::get(name).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::ordinary("Europe/London", "2026-02-01T09:00", "2026-02-01T09:00Z")]
    #[case::leapt_over("Europe/London", "2026-03-29T01:30", "2026-03-29T01:00Z")]
    #[case::twice("Europe/London", "2026-10-25T01:30", "2026-10-25T00:30Z")]
    #[case::a_midnight_that_is_not("Africa/Cairo", "2026-04-24T00:00", "2026-04-23T22:00Z")]
    fn local_times_have_one_instant(#[case] zone: &str, #[case] local: &str, #[case] want: &str) {
        let want: Timestamp = want.parse().unwrap();
        assert_eq!(first_instant(local.parse().unwrap(), &named(zone).unwrap()), Instant(want.as_millisecond()));
    }
}
