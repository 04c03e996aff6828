//! When each person gets a mailing: at one instant, at a local time of their own, spread over a while, and no faster
//! than their mail host is to be written to.

use crate::zone::Wall;
use crate::{DAY, HOUR, Instant, MINUTE};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// What people get for whom the local time has passed when the mailing starts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Passed {
    /// The same hour of the next day on which it hasn't.
    #[default]
    Tomorrow,
    Now,
    /// They don't get the mailing.
    Not,
}

/// A date and a time of day on each person's own wall clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LocalTime {
    /// Days since 1970-01-01.
    #[schema(minimum = 0, maximum = 84_000)]
    pub day: i64,
    /// Minutes since midnight, 0 to 1439.
    pub minute: u16,
    #[serde(default)]
    pub passed: Passed,
}

/// How many messages an hour the addresses of one mail domain get at most.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct HourlyRate {
    /// Empty: each domain that no other rate names.
    #[serde(default)]
    pub domain: String,
    pub per_hour: u32,
}

/// When a mailing goes out. None of it: to everyone at once, at the planned instant.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Schedule {
    #[serde(default)]
    pub local: Option<LocalTime>,
    /// Each person at an instant of their own within so many minutes, the same one each time it is asked.
    #[serde(default)]
    pub spread_minutes: u16,
    #[serde(default)]
    pub rates: Vec<HourlyRate>,
    /// Anybody who is of an audience whose best hour was learned gets it then, on the same date; the others at the local time.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub best_hour: bool,
    /// Anybody whose own hour was learned gets it then; the others as at the best hour.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub own_hour: bool,
}

/// A schedule that can't be kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct ScheduleError(pub String);

/// The zones furthest from UTC: a date begins first at UTC+14 and ends last at UTC-12.
const FIRST_ZONE: i64 = 14 * HOUR;
const LAST_ZONE: i64 = 12 * HOUR;

impl Schedule {
    /// Does it go by hours that were learned?
    #[must_use]
    pub fn by_learned(&self) -> bool {
        self.best_hour || self.own_hour
    }

    /// # Errors
    /// A sentence that says what can't be kept.
    pub fn check(&self) -> Result<(), ScheduleError> {
        let refuse = |words: &str| Err(ScheduleError(words.to_owned()));
        if self.local.is_some_and(|l| l.minute >= 1440) {
            return refuse("A local time is between 00:00 and 23:59.");
        }
        if self.by_learned() && self.local.is_none() {
            return refuse("At the best hour, or each person's own, also needs a date and a time, for people of whom none was learned.");
        }
        if self.spread_minutes > 1440 {
            return refuse("A mailing is spread over 1,440 minutes (a day) at most.");
        }
        if self.rates.iter().any(|r| r.per_hour == 0) {
            return refuse("A rate is at least one message an hour. To leave a domain out, suppress it.");
        }
        let mut domains: Vec<String> = self.rates.iter().map(|r| r.domain.to_lowercase()).collect();
        domains.sort();
        if domains.windows(2).any(|w| w[0] == w[1]) {
            return refuse("A domain has two rates. Keep one of them.");
        }
        Ok(())
    }

    /// The instant at which the mailing has to start so that nobody's local time is missed: when it is that time in
    /// the first zone. `planned` where there is no local time.
    #[must_use]
    pub fn starts(&self, planned: Instant) -> Instant {
        self.local.map_or(planned, |l| Instant::of(l.day * DAY + i64::from(l.minute) * MINUTE - FIRST_ZONE))
    }

    /// From the first person's instant to the last one's, by the schedule alone, in whole hours.
    #[must_use]
    pub fn over_hours(&self) -> i64 {
        let zones = if self.local.is_some() { FIRST_ZONE + LAST_ZONE } else { 0 };
        (zones + i64::from(self.spread_minutes) * MINUTE).div_euclid(HOUR)
    }

    /// When one person gets it, from the mailing's start on; None: not at all. `share`: where in the spread they stand,
    /// from 0 to below 1, by a hash of theirs that doesn't change.
    #[must_use]
    pub fn due(&self, start: Instant, clock: &impl Wall, share: f64) -> Option<Instant> {
        let at = match self.local {
            None => start,
            Some(local) => {
                let wanted = |day: i64| {
                    let [a, b] = clock.instants(day * DAY + i64::from(local.minute) * MINUTE);
                    // A time that comes twice means the first.
                    a.into_iter().chain(b).min().unwrap_or(start)
                };
                let first = wanted(local.day);
                if first >= start {
                    first
                } else {
                    match local.passed {
                        Passed::Now => start,
                        Passed::Not => return None,
                        Passed::Tomorrow => {
                            let mut day = local.day.max(clock.day(start) - 1);
                            while wanted(day) < start {
                                day += 1;
                            }
                            wanted(day)
                        }
                    }
                }
            }
        };
        Some(at + self.spread(share))
    }

    /// How long after their turn somebody gets it who stands there in the spread.
    #[must_use]
    #[allow(clippy::cast_possible_truncation)]
    pub fn spread(&self, share: f64) -> i64 {
        (share.clamp(0.0, 1.0) * (i64::from(self.spread_minutes) * MINUTE) as f64) as i64
    }

    /// The least time between two messages to a mail domain, in milliseconds; None: no rate is set for it. Rounded up: so many
    /// of them never fit into less than an hour.
    #[must_use]
    pub fn gap(&self, domain: &str) -> Option<i64> {
        let per_hour = i64::from(self.per_hour(domain)?);
        Some(HOUR.div_euclid(per_hour) + i64::from(HOUR % per_hour != 0))
    }

    fn per_hour(&self, domain: &str) -> Option<u32> {
        let named = self.rates.iter().find(|r| r.domain.eq_ignore_ascii_case(domain));
        named.or_else(|| self.rates.iter().find(|r| r.domain.is_empty())).map(|r| r.per_hour)
    }
}

/// The hour of a person's own clock at which the pilot went, on the day of the rollout: with a clock change between the two it is not the
/// same hour of UTC. A time that comes twice means the first; one that is leapt over, the instant of the change.
#[must_use]
pub fn same_hour(pilot: Instant, rollout: Instant, clock: &impl Wall) -> Instant {
    let minute = clock.local(pilot).rem_euclid(DAY);
    let [a, b] = clock.instants(clock.day(rollout) * DAY + minute);
    let found = a.into_iter().chain(b).min().unwrap_or(rollout);
    // Around midnight the day can be the one before or after.
    [found, found + DAY, found + -DAY].into_iter().min_by_key(|t| (*t - rollout).abs()).unwrap_or(rollout)
}

/// The next instant after one at which a clock shows a time on a weekday (Monday 0), each week again. A time that comes twice means the first; one
/// that is leapt over, the instant of the change.
#[must_use]
pub fn next_weekly(weekday: u8, minute: u16, clock: &impl Wall, after: Instant) -> Instant {
    let today = clock.day(after);
    // 1970-01-01 was a Thursday.
    let first = today + (i64::from(weekday) - (today + 3)).rem_euclid(7);
    [first, first + 7]
        .into_iter()
        .filter_map(|day| clock.instants(day * DAY + i64::from(minute) * MINUTE).into_iter().flatten().min())
        .find(|t| *t > after)
        .unwrap_or(Instant::of(i64::MAX))
}

/// Clocks change by no more than this.
pub const CLOCK_CHANGE: i64 = 2 * HOUR;

/// Keeps each domain's rate: people who are due sooner than it allows wait for their place.
pub struct Pace<'a> {
    schedule: &'a Schedule,
    next: HashMap<i64, i64>,
}

impl<'a> Pace<'a> {
    #[must_use]
    pub fn new(schedule: &'a Schedule) -> Self {
        Self { schedule, next: HashMap::new() }
    }

    /// When somebody of this domain goes who is due at `due`. Ask in the order of the due instants. No 60 minutes then
    /// hold more of the domain's messages than its rate.
    pub fn place(&mut self, domain: i64, name: &str, due: Instant) -> Instant {
        let Some(gap) = self.schedule.gap(name) else { return due };
        let next = self.next.entry(domain).or_insert(i64::MIN);
        let at = due.millis().max(*next);
        *next = at + gap;
        Instant::of(at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::named;
    use proptest::prelude::*;

    const DAY_0: i64 = 20_000;

    /// In hours of UTC from the first of a month: the pilot, the rollout's day at the same hour of UTC, and when it should go.
    #[rstest::rstest]
    #[case::nothing_changes("Europe/Paris", "2026-06-01", 10, 34, 34)]
    #[case::back_in_autumn("Europe/Paris", "2026-10-23", 10, 82, 83)]
    #[case::forward_in_spring("Europe/Paris", "2026-03-28", 10, 34, 33)]
    #[case::no_clock_changes("UTC", "2026-03-28", 10, 34, 34)]
    #[case::the_other_half_of_the_world("Australia/Sydney", "2026-04-03", 2, 74, 75)]
    fn a_rollout_goes_at_the_pilots_hour_by_each_clock(
        #[case] zone: &str,
        #[case] from: &str,
        #[case] pilot: i64,
        #[case] rollout: i64,
        #[case] want: i64,
    ) {
        let first = crate::zone::first_instant(format!("{from}T00:00").parse().unwrap(), &crate::zone::TimeZone::UTC);
        let clock = named(zone).unwrap();
        assert_eq!(same_hour(first + pilot * HOUR, first + rollout * HOUR, &clock), first + want * HOUR);
    }

    proptest! {
        /// Each week once, at the time the clock shows, but where the clock leaps over it.
        #[test]
        fn each_week_has_its_turn(weekday in 0u8..7, minute in 0u16..1_440, from in 1_700_000_000_000i64..1_800_000_000_000, zone in 0usize..4) {
            let clock = named(["UTC", "Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe"][zone]).unwrap();
            let mut at = Instant::of(from);
            for _ in 0..60 {
                let next = next_weekly(weekday, minute, &clock, at);
                prop_assert!(next > at && next - at <= 7 * DAY + CLOCK_CHANGE);
                prop_assert_eq!((clock.day(next) + 3).rem_euclid(7), i64::from(weekday));
                let shows = i64::from(clock.minute(next)) - i64::from(minute);
                prop_assert!((0..=120).contains(&shows), "{} minutes late", shows);
                at = next;
            }
        }
    }

    fn local(minute: u16, passed: Passed) -> Schedule {
        Schedule { local: Some(LocalTime { day: DAY_0, minute, passed }), ..Schedule::default() }
    }

    proptest! {
        #[test]
        fn a_rollouts_hour_is_never_far(zone in prop::sample::select(vec![
            "UTC", "Europe/London", "America/New_York", "Pacific/Kiritimati", "Australia/Lord_Howe", "Antarctica/Troll",
        ]), hour in 400_000i64..540_000, days in 1i64..40) {
            let clock = named(zone).unwrap();
            let (pilot, rollout) = (Instant::of(hour * HOUR + 17 * MINUTE), Instant::of((hour + 24 * days) * HOUR + 17 * MINUTE));
            let at = same_hour(pilot, rollout, &clock);
            prop_assert!((at - rollout).abs() <= CLOCK_CHANGE, "{} hours off", (at - rollout) / HOUR);
            let leapt = clock.instants(clock.local(at))[0] != Some(at) && clock.instants(clock.local(at))[1] != Some(at);
            prop_assert!(leapt || clock.minute(at) == clock.minute(pilot) || !clock.changes(at + -DAY, at + DAY).is_empty());
        }

        /// Whatever the zone, also one that changes its clock that day: everyone's clock shows the time they were
        /// promised, on the first day that can be kept, and never before the start.
        #[test]
        fn everyone_gets_it_at_their_own_hour(minute in 0u16..1440, zone in prop::sample::select(vec![
            "UTC", "Europe/London", "America/New_York", "Pacific/Kiritimati", "Pacific/Pago_Pago", "Australia/Lord_Howe", "America/Sao_Paulo",
        ]), day in 19_000i64..21_000, late in -20i64..60) {
            let clock = named(zone).unwrap();
            let s = Schedule { local: Some(LocalTime { day, minute, passed: Passed::Tomorrow }), ..Schedule::default() };
            let start = s.starts(Instant::of(0));
            prop_assert!(s.due(start, &clock, 0.0).unwrap() >= start, "nobody's hour has passed at the start");
            prop_assert_eq!(clock.day(s.due(start, &clock, 0.0).unwrap()), day);
            let start = Instant::of(start.millis() + late * HOUR);
            let at = s.due(start, &clock, 0.0).unwrap();
            prop_assert!(at >= start);
            if late > 0 {
                prop_assert!(at.millis() - start.millis() < 25 * HOUR, "the next time that it can be");
            }
            // Only a time that is leapt over is shown as another one: that of the change.
            let shown = clock.minute(at);
            let leapt = clock.changes(Instant::of(at.millis() - 1), at).len() == 1;
            prop_assert!(shown == minute || leapt, "{} shows {} for {}", zone, shown, minute);
        }

        /// No hour holds more than the rate, nobody goes before they are due, nobody waits without need.
        #[test]
        fn a_domain_gets_no_more_than_its_rate(per_hour in 1u32..500, dues in prop::collection::vec(0i64..6 * HOUR, 1..300)) {
            let s = Schedule { rates: vec![HourlyRate { domain: String::new(), per_hour }], ..Schedule::default() };
            let mut dues = dues;
            dues.sort_unstable();
            let mut pace = Pace::new(&s);
            let placed: Vec<i64> = dues.iter().map(|d| pace.place(1, "tern.example", Instant::of(*d)).millis()).collect();
            prop_assert!(placed.iter().zip(&dues).all(|(at, due)| at >= due));
            for (i, at) in placed.iter().enumerate() {
                let within = placed[i..].iter().take_while(|x| **x < at + HOUR).count();
                prop_assert!(within <= per_hour as usize, "{} in an hour", within);
            }
            prop_assert_eq!(placed[0], dues[0]);
        }

        #[test]
        fn a_spread_stays_within_its_time(minutes in 0u16..=1440, share in 0.0f64..1.0) {
            let s = Schedule { spread_minutes: minutes, ..Schedule::default() };
            let at = s.due(Instant::of(0), &named("UTC").unwrap(), share).unwrap();
            prop_assert!(at.millis() >= 0 && at.millis() <= i64::from(minutes) * MINUTE);
        }
    }

    #[test]
    fn for_those_whose_hour_has_passed_it_does_what_was_chosen() {
        let clock = named("UTC").unwrap();
        let late = Instant::of(DAY_0 * DAY + 12 * HOUR);
        assert_eq!(local(540, Passed::Tomorrow).due(late, &clock, 0.0), Some(Instant::of((DAY_0 + 1) * DAY + 9 * HOUR)));
        assert_eq!(local(540, Passed::Now).due(late, &clock, 0.0), Some(late));
        assert_eq!(local(540, Passed::Not).due(late, &clock, 0.0), None);
        assert_eq!(local(840, Passed::Not).due(late, &clock, 0.0), Some(Instant::of(DAY_0 * DAY + 14 * HOUR)));
    }
}
