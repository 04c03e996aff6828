//! Instants as logs write them: with a zone, as a number since 1970, or as a local time whose zone somebody has to say.

use crate::zone::{TimeZone, first_instant};
use crate::{DAY, Instant};
use jiff::civil::{Date, DateTime};

/// How a column's instants are read.
#[derive(Debug, Clone, Default)]
pub struct Times {
    /// Local times are of this zone; none was said: they are refused.
    pub zone: Option<TimeZone>,
    /// In `3/4/2026` the month stands first.
    pub month_first: bool,
}

/// What a column's instants need somebody to say.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Asks {
    /// Some are local times without a zone.
    pub zone: bool,
    /// In all that are written with slashes day and month could be either.
    pub month_first: bool,
}

/// As it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Written {
    At(Instant),
    Local(DateTime),
    /// Two numbers before the year, each at most twelve: day and month, or month and day.
    Either {
        first: i8,
        second: i8,
        year: i16,
        time: jiff::civil::Time,
    },
}

/// Numbers since 1970 are seconds up to here, then milliseconds, then microseconds: in seconds, the year 2286.
const SECONDS: i64 = 10_000_000_000;
const MILLIS: i64 = 10_000_000_000_000;

fn written(text: &str) -> Option<Written> {
    let text = text.trim().trim_matches('"');
    if text.is_empty() || text.len() > 60 {
        return None;
    }
    if let Ok(t) = text.parse::<jiff::Timestamp>() {
        return Some(Written::At(Instant::of(t.as_millisecond())));
    }
    let (number, part) = text.split_once('.').unwrap_or((text, ""));
    // Eight digits alone are a date (20260416), fewer could be anything.
    if number.len() >= 9 && part.len() <= 9 && part.bytes().all(|b| b.is_ascii_digit()) && number.bytes().all(|b| b.is_ascii_digit()) {
        let n: i64 = number.parse().ok()?;
        let millis = if n < SECONDS {
            n * 1000 + format!("{part:0<3}")[..3].parse::<i64>().ok()?
        } else if n < MILLIS {
            n
        } else {
            n / 1000
        };
        return Some(Written::At(Instant::of(millis)));
    }
    // As mail writes it (RFC 5322).
    if let Ok(zoned) = jiff::fmt::rfc2822::parse(text) {
        return Some(Written::At(Instant::of(zoned.timestamp().as_millisecond())));
    }
    if let Some(bare) = text.strip_suffix(" UTC").or_else(|| text.strip_suffix(" GMT")).or_else(|| text.strip_suffix('Z')) {
        return match written(bare)? {
            Written::Local(local) => Some(Written::At(first_instant(local, &TimeZone::UTC))),
            _ => None,
        };
    }
    if let Ok(t) =
        jiff::Timestamp::strptime("%Y-%m-%d %H:%M:%S %z", text).or_else(|_| jiff::Timestamp::strptime("%Y-%m-%d %H:%M:%S%:z", text))
    {
        return Some(Written::At(Instant::of(t.as_millisecond())));
    }
    if let Ok(local) = text.parse::<DateTime>() {
        return Some(Written::Local(local));
    }
    by_parts(text)
}

/// `16.4.2026 18:40`, `16/04/2026 6:40 PM`, `4/16/2026`.
fn by_parts(text: &str) -> Option<Written> {
    let (date, time) = text.split_once([' ', 'T']).unwrap_or((text, ""));
    let mark = date.chars().find(|c| !c.is_ascii_digit()).filter(|c| matches!(c, '.' | '/' | '-'))?;
    let parts: Vec<&str> = date.split(mark).collect();
    let [first, second, third] = parts.as_slice() else { return None };
    let time = clock(time.trim())?;
    let number = |t: &str| t.parse::<i16>().ok().filter(|_| !t.is_empty() && t.len() <= 4);
    if first.len() == 4 {
        let date = Date::new(number(first)?, i8::try_from(number(second)?).ok()?, i8::try_from(number(third)?).ok()?).ok()?;
        return Some(Written::Local(date.to_datetime(time)));
    }
    if third.len() != 4 {
        return None;
    }
    let (a, b, year) = (i8::try_from(number(first)?).ok()?, i8::try_from(number(second)?).ok()?, number(third)?);
    let of = |day: i8, month: i8| Date::new(year, month, day).ok().map(|d| Written::Local(d.to_datetime(time)));
    match mark {
        // With dots and dashes the day stands first.
        '.' | '-' => of(a, b),
        _ if a > 12 => of(a, b),
        _ if b > 12 => of(b, a),
        _ => Some(Written::Either { first: a, second: b, year, time }),
    }
}

/// `18:40`, `18:40:05`, `6:40 PM`; nothing is midnight.
fn clock(text: &str) -> Option<jiff::civil::Time> {
    if text.is_empty() {
        return Some(jiff::civil::Time::midnight());
    }
    let upper = text.to_ascii_uppercase();
    let (digits, afternoon) = match (upper.strip_suffix("PM"), upper.strip_suffix("AM")) {
        (Some(rest), _) => (rest.trim(), Some(true)),
        (_, Some(rest)) => (rest.trim(), Some(false)),
        _ => (upper.as_str(), None),
    };
    let mut parts = digits.split(':');
    let mut next = || parts.next().map_or(Some(0), |p| p.split('.').next()?.parse::<i8>().ok());
    let (hour, minute, second) = (next()?, next()?, next()?);
    let hour = match afternoon {
        Some(_) if !(1..=12).contains(&hour) => return None,
        Some(true) => hour % 12 + 12,
        Some(false) => hour % 12,
        None => hour,
    };
    jiff::civil::Time::new(hour, minute, second, 0).ok()
}

impl Times {
    /// Reads one. A local time that a clock change leaps over is the instant of the change; one that comes twice is the first.
    ///
    /// # Errors
    /// Says what is wrong with it.
    pub fn read(&self, text: &str) -> Result<Instant, String> {
        let no = || format!("{text:?} is no instant: write it as 2026-04-16T08:00:00Z");
        let local = match written(text).ok_or_else(no)? {
            Written::At(at) => return within(at).ok_or_else(no),
            Written::Local(local) => local,
            Written::Either { first, second, year, time } => {
                let (day, month) = if self.month_first { (second, first) } else { (first, second) };
                Date::new(year, month, day).map_err(|_| no())?.to_datetime(time)
            }
        };
        let zone = self.zone.as_ref().ok_or_else(|| format!("{text:?} is a local time: say of which time zone"))?;
        within(first_instant(local, zone)).ok_or_else(no)
    }
}

/// Years 1990 to 2100: what lies outside is no instant of a mailing.
fn within(at: Instant) -> Option<Instant> {
    const YEAR: i64 = 365 * DAY;
    (at.millis() > 20 * YEAR && at.millis() < 131 * YEAR).then_some(at)
}

/// Does such a cell hold an instant, however it is written?
#[must_use]
pub fn is_instant(text: &str) -> bool {
    match written(text) {
        Some(Written::At(at)) => within(at).is_some(),
        Some(_) => true,
        None => false,
    }
}

/// What a column's cells need somebody to say.
pub fn asks<'a>(cells: impl Iterator<Item = &'a str>) -> Asks {
    let (mut asks, mut told) = (Asks::default(), false);
    for w in cells.filter_map(written) {
        asks.zone |= !matches!(w, Written::At(_));
        asks.month_first |= matches!(w, Written::Either { .. });
        told |= matches!(w, Written::Local(_));
    }
    // One that can be read in one way only tells how the others are meant; see [`month_first`].
    asks.month_first &= !told;
    asks
}

/// Does the month stand first in a column whose dates are written with slashes? None: nothing tells.
pub fn month_first<'a>(cells: impl Iterator<Item = &'a str>) -> Option<bool> {
    for text in cells {
        let date = text.trim().split([' ', 'T']).next().unwrap_or_default();
        let mut parts = date.split('/').map(|p| p.parse::<i16>().ok());
        if let (Some(Some(a)), Some(Some(b))) = (parts.next(), parts.next()) {
            if (13..=31).contains(&a) {
                return Some(false);
            }
            if (13..=31).contains(&b) {
                return Some(true);
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::named;
    use proptest::prelude::*;
    use rstest::rstest;

    fn in_oslo() -> Times {
        Times { zone: named("Europe/Oslo"), month_first: false }
    }

    #[rstest]
    #[case("2026-04-16T18:40:00Z", "2026-04-16T18:40:00Z")]
    #[case("2026-04-16T20:40:00+02:00", "2026-04-16T18:40:00Z")]
    #[case("2026-04-16 18:40:00 +0000", "2026-04-16T18:40:00Z")]
    #[case("2026-04-16 18:40:00 UTC", "2026-04-16T18:40:00Z")]
    #[case("Thu, 16 Apr 2026 18:40:00 +0000", "2026-04-16T18:40:00Z")]
    #[case("1776364800", "2026-04-16T18:40:00Z")]
    #[case("1776364800.250", "2026-04-16T18:40:00.25Z")]
    #[case("1776364800000", "2026-04-16T18:40:00Z")]
    #[case("1776364800000000", "2026-04-16T18:40:00Z")]
    #[case("2026-04-16 20:40", "2026-04-16T18:40:00Z")]
    #[case("2026-04-16T20:40:00", "2026-04-16T18:40:00Z")]
    #[case("16.4.2026 20:40", "2026-04-16T18:40:00Z")]
    #[case("16/04/2026 8:40 PM", "2026-04-16T18:40:00Z")]
    #[case("4/16/2026 20:40:00", "2026-04-16T18:40:00Z")]
    #[case("3/4/2026 12:00", "2026-04-03T10:00:00Z")]
    #[case("2026-04-16", "2026-04-15T22:00:00Z")]
    // Leapt over, and there twice.
    #[case("2026-03-29 02:30", "2026-03-29T01:00:00Z")]
    #[case("2026-10-25 02:30", "2026-10-25T00:30:00Z")]
    fn instants_are_read_as_logs_write_them(#[case] text: &str, #[case] want: &str) {
        assert_eq!(in_oslo().read(text).map(Instant::iso), Ok(want.to_owned()));
        assert!(is_instant(text));
    }

    #[rstest]
    #[case("2026-04-16 20:40", "say of which time zone")]
    #[case("yesterday", "is no instant")]
    #[case("17", "is no instant")]
    #[case("31.2.2026", "is no instant")]
    #[case("25:00", "is no instant")]
    #[case("1823-04-16T18:40:00Z", "is no instant")]
    #[case("", "is no instant")]
    fn what_cannot_be_told_is_refused(#[case] text: &str, #[case] why: &str) {
        let said = Times::default().read(text).unwrap_err();
        assert!(said.contains(why), "{said}");
    }

    #[test]
    fn a_column_says_what_it_needs() {
        let of = |cells: &[&str]| asks(cells.iter().copied());
        assert_eq!(of(&["2026-04-16T18:40:00Z"]), Asks::default());
        assert_eq!(of(&["2026-04-16 18:40", ""]), Asks { zone: true, month_first: false });
        assert_eq!(of(&["3/4/2026", "5/6/2026"]), Asks { zone: true, month_first: true });
        assert_eq!(of(&["3/4/2026", "5/16/2026"]), Asks { zone: true, month_first: false });
        assert_eq!(month_first(["3/4/2026", "5/16/2026"].into_iter()), Some(true));
        assert_eq!(month_first(["3/4/2026", "16/5/2026"].into_iter()), Some(false));
        assert_eq!(month_first(["3/4/2026"].into_iter()), None);
    }

    proptest! {
        /// Whatever stands there, nothing falls over; what is written with its zone comes back.
        #[test]
        fn instants_come_back(secs in 800_000_000_i64..4_000_000_000, any in ".{0,40}") {
            let _ = in_oslo().read(&any);
            let at = Instant::of(secs * 1000);
            prop_assert_eq!(Times::default().read(&at.iso()), Ok(at));
            if secs >= 100_000_000 {
                prop_assert_eq!(Times::default().read(&secs.to_string()), Ok(at));
                prop_assert_eq!(Times::default().read(&at.millis().to_string()), Ok(at));
            }
        }
    }
}
