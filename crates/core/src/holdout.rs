//! The global holdout: a share of people who get no marketing for a quarter, so that what mail
//! earns can be read against those who got none.

use crate::id::ContactId;
use crate::segment::share;
use crate::{Instant, zone};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

/// What share of people is kept out, redrawn each quarter.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Holdout {
    /// Between 0.001 and 0.5.
    pub share: f64,
}

/// "2026 Q2", in UTC.
#[must_use]
pub fn quarter(at: Instant) -> String {
    let d = TimeZone::UTC.to_datetime(zone::stamp(at)).date();
    format!("{} Q{}", d.year(), (d.month() - 1) / 3 + 1)
}

/// When the quarter of `at` begins, in UTC.
#[must_use]
pub fn quarter_begins(at: Instant) -> Instant {
    let d = TimeZone::UTC.to_datetime(zone::stamp(at)).date();
    jiff::civil::Date::new(d.year(), (d.month() - 1) / 3 * 3 + 1, 1).map_or(at, |d| zone::first_instant(d.at(0, 0, 0, 0), &TimeZone::UTC))
}

impl Holdout {
    /// # Errors
    /// A sentence, when the share isn't one.
    pub fn check(self) -> Result<(), String> {
        if (0.001..=0.5).contains(&self.share) { Ok(()) } else { Err("A holdout keeps out between 0.1% and 50% of people.".into()) }
    }

    /// The draw of the quarter that `at` lies in.
    #[must_use]
    pub fn drawn(self, at: Instant) -> Draw {
        Draw { salt: share::Salted::new(&format!("global holdout {}", quarter(at))), share: self.share }
    }
}

/// A quarter's draw.
#[derive(Debug, Clone)]
pub struct Draw {
    salt: share::Salted,
    share: f64,
}

impl Draw {
    /// Is this person kept out? By a keyed hash of their number: the same all quarter, unrelated to
    /// the next, and to nothing about them.
    #[must_use]
    pub fn keeps_out(&self, contact: ContactId) -> bool {
        self.salt.draw(contact) < self.share
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_share_is_drawn_anew_each_quarter() {
        let h = Holdout { share: 0.1 };
        let (a, b) = (quarter(Instant::of(1_776_364_800_000)), quarter(Instant::of(1_783_000_000_000)));
        assert_eq!((a.as_str(), b.as_str()), ("2026 Q2", "2026 Q3"));
        assert_eq!(quarter(quarter_begins(Instant::of(1_776_364_800_000)) + -1), "2026 Q1");
        let (first, second) = (h.drawn(Instant::of(1_776_364_800_000)), h.drawn(Instant::of(1_783_000_000_000)));
        let kept = (0..20_000).filter(|&i| first.keeps_out(ContactId(i))).count();
        let both = (0..20_000).filter(|&i| first.keeps_out(ContactId(i)) && second.keeps_out(ContactId(i))).count();
        // 2,000 and 200 expected; five standard deviations are 212 and 70.
        assert!((1_788..=2_212).contains(&kept) && (130..=270).contains(&both), "{kept} {both}");
        let again = h.drawn(quarter_begins(Instant::of(1_776_364_800_000)));
        assert!((0..2_000).all(|i| again.keeps_out(ContactId(i)) == first.keeps_out(ContactId(i))));
        assert!(Holdout { share: 0.6 }.check().is_err());
    }
}
