//! Frequency caps: at most N messages per person in a window.
//!
//! Any number of caps hold together. A rolling window of length w at instant t is (t - w, t], so a
//! message at s stops counting exactly at s + w; a calendar day or ISO week is the person's own, by
//! their time zone's wall clock. The instant of release is computed, never polled.

use crate::zone::Wall;
use crate::{DAY, HOUR, Instant};
use serde::{Deserialize, Serialize};

/// Why a cap can't be saved.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CapError {
    #[error("A cap of 0 would stop all marketing mail: give at least 1, or cancel the mailings instead.")]
    Zero,
    #[error("A cap of {0} is above 100 messages: no window needs that many.")]
    TooMany(u32),
    #[error("A window of {0} h is not between 1 hour and 365 days.")]
    Window(i64),
}

/// The time in which messages are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Window {
    /// The last `n` hours, at any instant.
    Hours { n: u32 },
    /// The last `n` times 24 hours, at any instant.
    Days { n: u32 },
    /// A calendar day of the person's time zone.
    CalendarDay,
    /// An ISO 8601 week (Monday to Sunday) of the person's time zone.
    IsoWeek,
}

impl Window {
    /// The length of a rolling window in milliseconds.
    #[must_use]
    pub fn rolling(self) -> Option<i64> {
        match self {
            Self::Hours { n } => Some(i64::from(n) * HOUR),
            Self::Days { n } => Some(i64::from(n) * DAY),
            Self::CalendarDay | Self::IsoWeek => None,
        }
    }

    /// How far back a message can still count, clock changes included.
    #[must_use]
    pub fn reach(self) -> i64 {
        match self {
            Self::CalendarDay => 2 * DAY,
            Self::IsoWeek => 9 * DAY,
            Self::Hours { .. } | Self::Days { .. } => self.rolling().unwrap_or(0),
        }
    }
}

/// Which messages a cap counts, and holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Scope {
    /// All marketing messages, whatever their channel.
    Marketing,
    /// One channel: 1 email, 2 text message.
    Channel {
        id: i64,
    },
    Topic {
        id: i64,
    },
    Letterhead {
        id: i64,
    },
    /// The messages of all series together.
    Series,
}

/// What a message is, as far as scopes ask.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Kind {
    pub channel: u8,
    /// 0: none.
    pub topic: u32,
    pub letterhead: u32,
    /// A step of a series sends it.
    pub series: bool,
}

impl Scope {
    #[must_use]
    pub fn covers(self, kind: Kind) -> bool {
        match self {
            Self::Marketing => true,
            Self::Channel { id } => id == i64::from(kind.channel),
            Self::Topic { id } => id == i64::from(kind.topic),
            Self::Letterhead { id } => id == i64::from(kind.letterhead),
            Self::Series => kind.series,
        }
    }
}

/// At most `limit` messages of its scope per person in any of its windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Cap {
    pub limit: u32,
    pub window: Window,
    pub scope: Scope,
    /// A cap that isn't in force is written down and holds nobody.
    pub in_force: bool,
}

/// Who goes first at the same instant: the priority (1 first), then the lower mailing number.
pub type Rank = (u8, i64);

/// A message that counts, or will.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Message {
    /// When it was handed over; when it is reserved for, if it wasn't yet.
    pub at: Instant,
    pub kind: Kind,
    /// None: accepted, or pending after handover.
    pub reserved: Option<Rank>,
}

impl Message {
    /// Does it come before a message of rank `me` at `t`? A reservation does when its instant is
    /// earlier, or the same and its rank comes first.
    #[must_use]
    pub fn precedes(&self, t: Instant, me: Rank) -> bool {
        match self.reserved {
            None => self.at <= t,
            Some(rank) => self.at < t || (self.at == t && rank < me),
        }
    }
}

/// The Monday of a day's week; 1970-01-01 was a Thursday.
fn monday(day: i64) -> i64 {
    day - (day + 3).rem_euclid(7)
}

/// The `n`-th latest of some instants, when there are so many. `n` is small nearly always.
fn nth_latest(of: impl Iterator<Item = Instant>, n: usize) -> Option<Instant> {
    const FEW: usize = 8;
    if n > FEW {
        let mut all: Vec<Instant> = of.collect();
        all.sort_unstable();
        return all.len().checked_sub(n).and_then(|i| all.get(i).copied());
    }
    // The latest ones, in order.
    let mut latest = [Instant::of(i64::MIN); FEW];
    let mut found = 0;
    for t in of {
        let place = latest[..found].iter().position(|l| *l < t).unwrap_or(found);
        if place < n {
            found = n.min(found + 1);
            latest.copy_within(place..found - 1, place + 1);
            latest[place] = t;
        }
    }
    (found == n && n > 0).then(|| latest[n - 1])
}

impl Cap {
    /// # Errors
    /// A limit of 0 or above 100, a window under an hour or above a year.
    pub fn check(&self) -> Result<(), CapError> {
        match (self.limit, self.window.rolling()) {
            (0, _) => Err(CapError::Zero),
            (101.., _) => Err(CapError::TooMany(self.limit)),
            (_, Some(w)) if !(HOUR..=365 * DAY).contains(&w) => Err(CapError::Window(w / HOUR)),
            _ => Ok(()),
        }
    }

    /// "2 in 7 days", "1 a calendar day".
    #[must_use]
    pub fn words(&self) -> String {
        let unit = |n: u32, word: &str| format!("{} in {n} {word}{}", self.limit, if n == 1 { "" } else { "s" });
        match self.window {
            Window::Hours { n } => unit(n, "hour"),
            Window::Days { n } => unit(n, "day"),
            Window::CalendarDay => format!("{} a calendar day", self.limit),
            Window::IsoWeek => format!("{} a calendar week", self.limit),
        }
    }

    /// Is a message at `s` in the window of `t`?
    #[must_use]
    pub fn in_window(&self, s: Instant, t: Instant, clock: &impl Wall) -> bool {
        // Far apart needs no calendar.
        if (t - s).abs() > self.window.reach() {
            return false;
        }
        match self.window {
            Window::CalendarDay => clock.day(s) == clock.day(t),
            Window::IsoWeek => monday(clock.day(s)) == monday(clock.day(t)),
            Window::Hours { .. } | Window::Days { .. } => s > t + -self.window.reach(),
        }
    }

    /// The first instant, `at` or later, at which one more message of rank `me` keeps this cap.
    ///
    /// `messages` may come in any order and of any scope; those that don't precede it don't count.
    #[must_use]
    pub fn first_allowed(&self, messages: &[Message], at: Instant, me: Rank, clock: &impl Wall) -> Instant {
        // Most people have fewer messages than the cap allows, whatever the window.
        if messages.len() < self.limit as usize {
            return at;
        }
        let mut t = at;
        loop {
            let there = messages.iter().filter(|m| self.scope.covers(m.kind) && m.precedes(t, me)).map(|m| m.at);
            let limit = self.limit as usize;
            let next = match self.window.rolling() {
                // The one that has to leave the window first.
                Some(w) => match nth_latest(there.filter(|s| *s > t + -w), limit) {
                    None => return t,
                    Some(leaves) => leaves + w,
                },
                None => {
                    if there.filter(|s| self.in_window(*s, t, clock)).take(limit).count() < limit {
                        return t;
                    }
                    let today = clock.day(t);
                    clock.first_of_day(if self.window == Window::IsoWeek { monday(today) + 7 } else { today + 1 })
                }
            };
            // A reservation later on may fill the window again; a window that never opens is a fault
            // of the calendar, not of the person.
            if next <= t || next.millis() == i64::MAX {
                return Instant::of(i64::MAX);
            }
            t = next;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn at(zone: &TimeZone, text: &str) -> Instant {
        zone::first_instant(text.parse().unwrap(), zone)
    }

    fn gone(at: Instant) -> Message {
        Message { at, kind: Kind::default(), reserved: None }
    }

    fn cap(limit: u32, window: Window) -> Cap {
        Cap { limit, window, scope: Scope::Marketing, in_force: true }
    }

    proptest! {
        /// Held messages go at the first instant that keeps the cap, and not a millisecond sooner:
        /// held against counting every millisecond's neighbourhood of every window's edge.
        #[test]
        fn release_is_exact(
            limit in 1u32..4, kind in 0usize..4, zone in 0usize..4, me in (1u8..6, 1i64..5),
            past in prop::collection::vec((0i64..12 * DAY, prop::option::of((1u8..6, 1i64..5))), 0..12),
        ) {
            let zone = TimeZone::get(["Europe/London", "Pacific/Auckland", "America/Halifax", "Africa/Cairo"][zone]).unwrap();
            // Around the clock change of March 2025 in London; the others have theirs nearby or none.
            let began = Instant::of(1_742_688_000_000);
            let cap = cap(limit, [Window::Hours { n: 30 }, Window::Days { n: 3 }, Window::CalendarDay, Window::IsoWeek][kind]);
            let now = began + 8 * DAY;
            let past: Vec<Message> = past
                .into_iter()
                .map(|(t, reserved)| Message { at: began + t, kind: Kind::default(), reserved })
                .filter(|m| m.reserved.is_some() == (m.at > now))
                .collect();
            let count = |t: Instant| past.iter().filter(|m| m.precedes(t, me) && cap.in_window(m.at, t, &zone)).count();
            let release = cap.first_allowed(&past, now, me, &zone);
            prop_assert!(count(release) < limit as usize);
            let mut t = now;
            while t < release {
                prop_assert!(count(t) >= limit as usize, "free at {} already", t.words());
                t = t + HOUR / 2;
            }
            if release > now {
                prop_assert!(count(release + -1) >= limit as usize);
            }
        }
    }

    #[test]
    fn a_calendar_day_is_the_persons_own() {
        let halifax = TimeZone::get("America/Halifax").unwrap();
        let c = cap(1, Window::CalendarDay);
        let sent = at(&halifax, "2026-04-16T22:30:00");
        // The clock there has passed midnight in Greenwich, and not at home.
        assert_eq!(c.first_allowed(&[gone(sent)], sent + HOUR, (3, 1), &halifax), at(&halifax, "2026-04-17T00:00:00"));
        assert_eq!(c.first_allowed(&[gone(sent)], sent + HOUR, (3, 1), &TimeZone::UTC).words(), "Sat 18 Apr 2026, 00:00");
        let w = cap(1, Window::IsoWeek);
        assert_eq!(w.first_allowed(&[gone(sent)], sent, (3, 1), &halifax), at(&halifax, "2026-04-20T00:00:00"));
    }

    #[test]
    fn reservations_yield_to_rank_at_the_same_instant() {
        let t = Instant::of(10 * DAY);
        let reserved = Message { at: t, kind: Kind::default(), reserved: Some((3, 7)) };
        assert!(reserved.precedes(t, (3, 8)) && !reserved.precedes(t, (3, 7)) && !reserved.precedes(t, (2, 9)));
        assert!(reserved.precedes(t + 1, (1, 1)));
    }

    #[test]
    fn a_cap_of_zero_is_refused_with_advice() {
        assert!(cap(0, Window::CalendarDay).check().unwrap_err().to_string().contains("at least 1"));
        assert!(cap(1, Window::Days { n: 366 }).check().is_err() && cap(1, Window::Days { n: 365 }).check().is_ok());
        assert_eq!(cap(2, Window::Days { n: 7 }).words(), "2 in 7 days");
    }
}
