//! Wall clocks: what an instant is in a time zone, and the other way round.

use crate::{DAY, Instant, MINUTE};
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::AmbiguousOffset;
pub use jiff::tz::TimeZone;

/// The instant as the calendar's package has it.
#[must_use]
pub fn stamp(t: Instant) -> Timestamp {
    Timestamp::from_millisecond(t.millis()).unwrap_or_default()
}

/// The instant of a local time. One that a clock change leaps over means the next that exists, the
/// instant of the change; one that comes twice means the first.
#[must_use]
pub fn first_instant(local: DateTime, zone: &TimeZone) -> Instant {
    let ambiguous = zone.to_ambiguous_timestamp(local);
    let leapt_over = matches!(ambiguous.offset(), AmbiguousOffset::Gap { .. });
    let Ok(earlier) = ambiguous.earlier() else { return Instant::of(i64::MAX) };
    let found = if leapt_over { zone.following(earlier).next().map_or(earlier, |change| change.timestamp()) } else { earlier };
    Instant::of(found.as_millisecond())
}

/// The zone of an IANA name, when there is one.
#[must_use]
pub fn named(name: &str) -> Option<TimeZone> {
    TimeZone::get(name).ok()
}

/// What rules ask of a wall clock. Local times are milliseconds since 1970-01-01 00:00 by that clock.
pub trait Wall {
    /// What the clock shows at an instant.
    fn local(&self, t: Instant) -> i64;

    /// When the clock shows a time: both instants when it comes twice, the instant of the change when it is
    /// leapt over.
    fn instants(&self, local: i64) -> [Option<Instant>; 2];

    /// The clock changes after an instant, up to another.
    fn changes(&self, after: Instant, until: Instant) -> Vec<Instant>;

    /// The date it shows, in days since 1970-01-01.
    fn day(&self, t: Instant) -> i64 {
        self.local(t).div_euclid(DAY)
    }

    /// The minute of the day it shows.
    fn minute(&self, t: Instant) -> u16 {
        u16::try_from(self.local(t).rem_euclid(DAY) / MINUTE).unwrap_or(0)
    }

    /// The first instant of a date.
    fn first_of_day(&self, day: i64) -> Instant {
        let [a, b] = self.instants(day * DAY);
        a.into_iter().chain(b).min().unwrap_or(Instant::of(i64::MAX))
    }
}

impl Wall for TimeZone {
    fn local(&self, t: Instant) -> i64 {
        t.millis().saturating_add(i64::from(self.to_offset(stamp(t)).seconds()) * 1000)
    }

    fn instants(&self, local: i64) -> [Option<Instant>; 2] {
        let Ok(zoned) = Timestamp::from_millisecond(local) else { return [None, None] };
        let ambiguous = self.to_ambiguous_timestamp(TimeZone::UTC.to_datetime(zoned));
        let of = |t: Result<Timestamp, jiff::Error>| t.ok().map(|t| Instant::of(t.as_millisecond()));
        match ambiguous.offset() {
            AmbiguousOffset::Unambiguous { .. } => [of(ambiguous.earlier()), None],
            AmbiguousOffset::Fold { .. } => [of(ambiguous.earlier()), of(ambiguous.later())],
            AmbiguousOffset::Gap { .. } => [Some(first_instant(TimeZone::UTC.to_datetime(zoned), self)), None],
        }
    }

    fn changes(&self, after: Instant, until: Instant) -> Vec<Instant> {
        let all = self.following(stamp(after)).map(|x| Instant::of(x.timestamp().as_millisecond()));
        all.skip_while(|t| *t <= after).take_while(|t| *t <= until).collect()
    }
}

/// A zone's clock over a span of time, as a table of its offsets: some fifty times faster to ask, for people by
/// the million. Before and after the span the nearest offset goes on.
#[derive(Debug, Clone)]
pub struct Local {
    /// From when on, and the offset from UTC in milliseconds.
    offsets: Vec<(Instant, i64)>,
}

impl Local {
    /// The clock of a zone from one instant to another.
    #[must_use]
    pub fn between(zone: &TimeZone, from: Instant, until: Instant) -> Self {
        let offset = |t: Instant| zone.local(t) - t.millis();
        let changes = zone.changes(from, until).into_iter().map(|t| (t, offset(t)));
        Self { offsets: std::iter::once((Instant::of(i64::MIN), offset(from))).chain(changes).collect() }
    }
}

impl Wall for Local {
    #[inline]
    fn local(&self, t: Instant) -> i64 {
        t.millis().saturating_add(self.offsets.iter().rev().find(|(from, _)| *from <= t).map_or(0, |(_, offset)| *offset))
    }

    fn instants(&self, local: i64) -> [Option<Instant>; 2] {
        let mut found = [None, None];
        let mut next = 0;
        for (i, (from, offset)) in self.offsets.iter().enumerate() {
            let t = Instant::of(local.saturating_sub(*offset));
            let until = self.offsets.get(i + 1).map_or(Instant::of(i64::MAX), |n| n.0);
            if t >= *from && t < until && next < 2 {
                found[next] = Some(t);
                next += 1;
            } else if t < *from && next == 0 && i > 0 && Instant::of(local - self.offsets[i - 1].1) >= *from {
                // Leapt over: neither before the change nor after it.
                found[0] = Some(*from);
                next = 1;
            }
        }
        found
    }

    fn changes(&self, after: Instant, until: Instant) -> Vec<Instant> {
        self.offsets.iter().skip(1).map(|o| o.0).filter(|t| *t > after && *t <= until).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        /// The table says what the calendar's package says, over two years of clock changes.
        #[test]
        fn a_table_is_the_zone(zone in 0usize..7, hours in 0i64..2 * 365 * 24, odd in 0i64..3_600_000, near in any::<bool>()) {
            let zone = named(["Europe/London", "America/Halifax", "Australia/Lord_Howe", "America/Havana", "Africa/Cairo", "Asia/Kolkata", "Africa/Casablanca"][zone]).unwrap();
            let began = Instant::of(1_767_225_600_000);
            let table = Local::between(&zone, began, began + 730 * DAY);
            let mut t = began + hours * 3_600_000 + odd;
            if near {
                // Where it is hard: within hours of a change.
                t = zone.changes(t + -200 * DAY, t + 200 * DAY).first().map_or(t, |c| *c + (odd - 1_800_000));
            }
            prop_assume!(t > began + DAY && t < began + 728 * DAY);
            prop_assert_eq!((table.local(t), table.day(t), table.minute(t)), (zone.local(t), zone.day(t), zone.minute(t)));
            let local = zone.local(t) + odd - 1_800_000;
            prop_assert_eq!(table.instants(local), zone.instants(local), "{}", local);
            prop_assert!(zone.instants(zone.local(t)).contains(&Some(t)));
            prop_assert_eq!(table.first_of_day(zone.day(t)), zone.first_of_day(zone.day(t)));
            prop_assert_eq!(table.changes(t, t + 300 * DAY), zone.changes(t, (t + 300 * DAY).min(began + 730 * DAY)));
        }
    }

    #[rstest]
    #[case::ordinary("Europe/London", "2026-02-01T09:00", "2026-02-01T09:00Z")]
    #[case::leapt_over("Europe/London", "2026-03-29T01:30", "2026-03-29T01:00Z")]
    #[case::twice("Europe/London", "2026-10-25T01:30", "2026-10-25T00:30Z")]
    #[case::a_midnight_that_is_not("Africa/Cairo", "2026-04-24T00:00", "2026-04-23T22:00Z")]
    fn local_times_have_one_instant(#[case] zone: &str, #[case] local: &str, #[case] want: &str) {
        let want: Timestamp = want.parse().unwrap();
        assert_eq!(first_instant(local.parse().unwrap(), &named(zone).unwrap()), Instant::of(want.as_millisecond()));
    }
}
