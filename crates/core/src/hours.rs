//! Sending hours: the part of the day, by a person's own wall clock, in which mail may go out.

use crate::zone::Wall;
use crate::{DAY, Instant, MINUTE};
use serde::{Deserialize, Serialize};

/// From a minute of the day until before another; over midnight when the second is the smaller.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Hours {
    pub from_minute: u16,
    pub until_minute: u16,
}

const MINUTES: u16 = 24 * 60;

/// When no text message goes out unless somebody says otherwise: from 21:00 to 8:00.
pub const USUAL_QUIET: Hours = Hours { from_minute: 21 * 60, until_minute: 8 * 60 };

/// Do all of some hours let a message go out at this instant?
#[must_use]
pub fn all_open(hours: &[Hours], t: Instant, clock: &impl Wall) -> bool {
    hours.iter().all(|h| h.open(t, clock))
}

/// The first instant, `t` or later, at which all of them do; the end of time, when they never do at once.
#[must_use]
pub fn first_all_open(hours: &[Hours], t: Instant, clock: &impl Wall) -> Instant {
    let mut next = t;
    loop {
        let before = next;
        for h in hours {
            next = h.first_open(next, clock);
        }
        if next == before {
            return next;
        }
        // Each opens once a day: what two days with a clock change between them don't bring doesn't come.
        if next.millis() == i64::MAX || next - t > 4 * DAY {
            return Instant::of(i64::MAX);
        }
    }
}

impl Hours {
    /// # Errors
    /// A sentence, when they aren't minutes of a day or leave no time at all.
    pub fn check(self) -> Result<(), String> {
        if self.from_minute >= MINUTES || self.until_minute >= MINUTES {
            return Err("Sending hours lie between 0:00 and 23:59.".into());
        }
        if self.from_minute == self.until_minute {
            return Err("Sending hours that end where they begin leave no time to send: give two different hours, or none.".into());
        }
        Ok(())
    }

    /// The rest of the day: the hours in which messages may go out, of those in which none may.
    #[must_use]
    pub fn others(self) -> Self {
        Self { from_minute: self.until_minute, until_minute: self.from_minute }
    }

    /// "8:00 to 20:00".
    #[must_use]
    pub fn words(self) -> String {
        let clock = |m: u16| format!("{}:{:02}", m / 60, m % 60);
        format!("{} to {}", clock(self.from_minute), clock(self.until_minute))
    }

    /// May mail go out at this minute of the day?
    #[must_use]
    pub fn allows(self, minute: u16) -> bool {
        if self.from_minute < self.until_minute {
            (self.from_minute..self.until_minute).contains(&minute)
        } else {
            minute >= self.from_minute || minute < self.until_minute
        }
    }

    /// May mail go out at this instant?
    #[must_use]
    pub fn open(self, t: Instant, clock: &impl Wall) -> bool {
        self.allows(clock.minute(t))
    }

    /// The first instant, `t` or later, at which mail may go out. An opening hour that a clock change
    /// leaps over is the instant of the change; a change that goes back into the hours opens them again.
    #[must_use]
    pub fn first_open(self, t: Instant, clock: &impl Wall) -> Instant {
        // At the end of time nothing opens any more.
        if t.millis() > i64::MAX / 2 || self.open(t, clock) {
            return t;
        }
        let changes = clock.changes(t, t + 3 * DAY);
        if changes.is_empty() {
            // No change near: the clock goes on as it goes.
            let local = clock.local(t);
            let mut opens = local.div_euclid(DAY) * DAY + i64::from(self.from_minute) * MINUTE;
            if opens <= local {
                opens += DAY;
            }
            return t + (opens - local);
        }
        let today = clock.day(t);
        let mut next = Instant::of(i64::MAX);
        let mut candidate = |c: Instant| {
            if c > t && c < next && self.open(c, clock) {
                next = c;
            }
        };
        for day in today..today + 4 {
            for opens in clock.instants(day * DAY + i64::from(self.from_minute) * MINUTE).into_iter().flatten() {
                candidate(opens);
            }
        }
        for change in changes {
            candidate(change);
        }
        next
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::HOUR;
    use crate::zone::stamp;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    proptest! {
        /// Held against looking at every minute, over the clock changes of a year.
        #[test]
        fn opens_at_the_first_minute_and_no_sooner(
            from in 0u16..MINUTES, length in 1u16..MINUTES, zone in 0usize..6, change in 0usize..2, before in 0i64..40 * 60,
        ) {
            let zone = TimeZone::get(["Europe/London", "America/Halifax", "Australia/Lord_Howe", "America/Havana", "Africa/Cairo", "Asia/Kolkata"][zone]).unwrap();
            let year = stamp(Instant::of(1_767_225_600_000));
            let change = zone.following(year).nth(change).map_or(year, |x| x.timestamp());
            let t = Instant::of(change.as_millisecond()) + (10 * 60 - before) * MINUTE;
            let hours = Hours { from_minute: from, until_minute: (from + length) % MINUTES };
            prop_assert!(hours.check().is_ok());
            let mut want = t;
            while !hours.open(want, &zone) {
                want = want + MINUTE;
            }
            prop_assert_eq!(hours.first_open(t, &zone), want);
            if want > t {
                prop_assert!(!hours.open(want + -1, &zone));
            }
        }
    }

    proptest! {
        /// Of several the first instant of all, and none sooner; what never comes is the end of time.
        #[test]
        fn several_open_at_their_first_common_minute(
            a in (0u16..MINUTES, 1u16..MINUTES), b in (0u16..MINUTES, 1u16..MINUTES), zone in 0usize..3, before in 0i64..40 * 60,
        ) {
            let zone = TimeZone::get(["Europe/London", "Australia/Lord_Howe", "America/Havana"][zone]).unwrap();
            // The days around London's change of 29 March 2026.
            let t = Instant::of(1_774_742_400_000) + (10 * 60 - before) * MINUTE;
            let hours = [a, b].map(|(from, n)| Hours { from_minute: from, until_minute: (from + n) % MINUTES });
            let want = (0..=4 * 24 * 60).map(|m| t + m * MINUTE).find(|m| all_open(&hours, *m, &zone));
            prop_assert_eq!(first_all_open(&hours, t, &zone), want.unwrap_or(Instant::of(i64::MAX)));
            prop_assert_eq!(hours[0].others().open(t, &zone), !hours[0].open(t, &zone));
        }
    }

    #[test]
    fn an_hour_that_does_not_exist_is_the_instant_of_the_change() {
        let london = TimeZone::get("Europe/London").unwrap();
        let hours = Hours { from_minute: 90, until_minute: 600 };
        // 29 March 2026: the clock leaps from 1:00 to 2:00, so half past one never comes.
        let midnight = Instant::of(1_774_742_400_000);
        assert_eq!(hours.first_open(midnight, &london), midnight + HOUR);
        assert_eq!(hours.words(), "1:30 to 10:00");
        assert!(Hours { from_minute: 60, until_minute: 60 }.check().is_err());
    }
}
