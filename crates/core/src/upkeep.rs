//! Mail status: when an address is rested, observed, retired, and why.
//!
//! The status is worked out from the outcomes of the mailings to that address, oldest first, so it
//! can be explained and worked out again. Consent is never touched here.

use crate::bounce::{Category, FailureClass};
use crate::{DAY, HOUR, Instant};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum MailStatus {
    Active = 0,
    /// Not mailed until a date.
    Resting = 1,
    /// Mailed and watched.
    Observed = 2,
    /// Never mailed again.
    Retired = 3,
}

impl MailStatus {
    pub const ALL: [Self; 4] = [Self::Active, Self::Resting, Self::Observed, Self::Retired];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Resting => "resting",
            Self::Observed => "observed",
            Self::Retired => "retired",
        }
    }
}

crate::code::coded!(MailStatus, "mail status");

/// What became of a phone number. It doesn't rest: a network either knows it or doesn't.
#[must_use]
pub fn of_number(failed: bool) -> MailStatus {
    if failed { MailStatus::Retired } else { MailStatus::Active }
}

/// How one mailing to the address ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outcome {
    pub mailing: i64,
    pub at: Instant,
    /// `None`: the host accepted it and no failure was reported (so far).
    pub failure: Option<Category>,
}

/// Where the address stands, and the sentence that says why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Standing {
    pub status: MailStatus,
    pub until: Option<Instant>,
    pub why: String,
}

/// Accepted mail counts as delivered when no failure was reported for this long.
pub const DELIVERED_AFTER: i64 = 5 * DAY;
/// First, second and third rest for temporary failures; after the third comes retirement.
const RESTS: [i64; 3] = [7 * DAY, 21 * DAY, 63 * DAY];
const TEMPORARY_RUN: usize = 3;
const TEMPORARY_SPAN: i64 = 10 * DAY;
const OBSERVED_MAILINGS: usize = 4;
/// Different mailings that must fail for good (other than "no such address") before retirement;
/// the smallest allowed, until the base's own history says otherwise.
const PERMANENT_MAILINGS: usize = 2;
const PERMANENT_SPAN: i64 = 7 * DAY;
const NO_SUCH_ADDRESS_GAP: i64 = DAY;

#[derive(Default)]
struct Fold {
    status: Option<(MailStatus, Option<Instant>, String)>,
    delivered_before: bool,
    no_such_address: Option<(i64, Instant)>,
    permanent: Vec<(i64, Instant)>,
    temporary: Vec<(i64, Instant)>,
    rests: usize,
    watched: Vec<bool>,
}

/// Works out the standing at `now` from the outcomes, oldest first.
#[must_use]
pub fn standing(outcomes: &[Outcome], now: Instant) -> Standing {
    let mut f = Fold::default();
    for o in outcomes {
        f.rest_ends(o.at);
        match o.failure {
            None if now - o.at < DELIVERED_AFTER => {}
            None => f.delivered(),
            Some(Category::NoSuchAddress) => f.no_such_address(o),
            Some(category) => match category.class() {
                FailureClass::Permanent => f.permanent(o, category),
                FailureClass::Temporary => f.temporary(o, category),
                FailureClass::Block | FailureClass::Unknown => {}
            },
        }
        if f.is(MailStatus::Retired) {
            break;
        }
    }
    f.rest_ends(now);
    let (status, until, why) = f.status.unwrap_or((MailStatus::Active, None, "No failure on record.".to_owned()));
    Standing { status, until, why }
}

impl Fold {
    fn is(&self, status: MailStatus) -> bool {
        self.status.as_ref().is_some_and(|s| s.0 == status)
    }

    fn rest_ends(&mut self, at: Instant) {
        if let Some((MailStatus::Resting, Some(until), _)) = self.status
            && at >= until
        {
            self.watched.clear();
            self.status = Some((
                MailStatus::Observed,
                None,
                format!("Its rest ended {}; the next {OBSERVED_MAILINGS} mailings are watched.", until.words()),
            ));
        }
    }

    fn rest(&mut self, from: Instant, length: i64, why: String) {
        self.status = Some((MailStatus::Resting, Some(from + length), why));
    }

    fn retire(&mut self, why: String) {
        self.status = Some((MailStatus::Retired, None, why));
    }

    fn delivered(&mut self) {
        self.delivered_before = true;
        self.permanent.clear();
        self.temporary.clear();
        self.no_such_address = None;
        if self.is(MailStatus::Observed) {
            self.watched.push(true);
            if self.watched.len() >= OBSERVED_MAILINGS && self.watched.iter().all(|ok| *ok) {
                self.rests = 0;
                self.status = Some((
                    MailStatus::Active,
                    None,
                    format!("{OBSERVED_MAILINGS} mailings in a row arrived; earlier failures are forgotten."),
                ));
            }
        }
    }

    fn no_such_address(&mut self, o: &Outcome) {
        match self.no_such_address {
            None if !self.delivered_before => self
                .retire(format!("Its host said on {} that there is no such address, and nothing was ever delivered to it.", o.at.words())),
            None => {
                self.no_such_address = Some((o.mailing, o.at));
                self.rest(o.at, RESTS[0], format!(
                    "Its host said on {} that there is no such address. Mail was delivered before, so it rests for {} days; the same answer to another mailing retires it.",
                    o.at.words(), RESTS[0] / DAY
                ));
            }
            Some((mailing, first)) if mailing != o.mailing && o.at - first >= NO_SUCH_ADDRESS_GAP => self.retire(format!(
                "Its host said twice that there is no such address: {} and {}, on different mailings {} h apart.",
                first.words(),
                o.at.words(),
                (o.at - first) / HOUR
            )),
            Some(_) => {}
        }
    }

    fn permanent(&mut self, o: &Outcome, category: Category) {
        if self.permanent.iter().all(|(m, _)| *m != o.mailing) {
            self.permanent.push((o.mailing, o.at));
        }
        let span = self.permanent.first().map_or(0, |(_, first)| o.at - *first);
        if self.permanent.len() >= PERMANENT_MAILINGS && span >= PERMANENT_SPAN {
            self.retire(format!(
                "{} mailings over {} days failed for good ({}), with no delivery between.",
                self.permanent.len(),
                span / DAY,
                category.words()
            ));
        }
    }

    fn temporary(&mut self, o: &Outcome, category: Category) {
        if self.is(MailStatus::Observed) {
            self.watched.push(false);
            if self.watched.iter().filter(|ok| !**ok).count() >= 2 {
                self.next_rest(o, format!("Two more failures ({}) while it was observed", category.words()));
            }
            return;
        }
        if self.temporary.iter().all(|(m, _)| *m != o.mailing) {
            self.temporary.push((o.mailing, o.at));
        }
        let span = self.temporary.first().map_or(0, |(_, first)| o.at - *first);
        if self.temporary.len() >= TEMPORARY_RUN && span >= TEMPORARY_SPAN {
            let n = self.temporary.len();
            self.next_rest(o, format!("{n} mailings in a row over {} days failed ({})", span / DAY, category.words()));
        }
    }

    fn next_rest(&mut self, o: &Outcome, cause: String) {
        self.temporary.clear();
        match RESTS.get(self.rests) {
            Some(&length) => {
                self.rests += 1;
                self.rest(o.at, length, format!("{cause}, so it rests for {} days.", length / DAY));
            }
            None => self.retire(format!("{cause}, after {} rests.", RESTS.len())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn o(mailing: i64, day: i64, failure: Option<Category>) -> Outcome {
        Outcome { mailing, at: Instant(day * DAY), failure }
    }
    const NSA: Option<Category> = Some(Category::NoSuchAddress);
    const FULL: Option<Category> = Some(Category::MailboxFull);

    #[test]
    fn no_such_address_rests_then_retires() {
        let now = Instant(100 * DAY);
        assert_eq!(standing(&[o(1, 0, NSA)], now).status, MailStatus::Retired, "never delivered to");
        let once = [o(1, 0, None), o(2, 10, NSA)];
        let s = standing(&once, Instant(11 * DAY));
        assert_eq!((s.status, s.until), (MailStatus::Resting, Some(Instant(17 * DAY))));
        assert_eq!(standing(&once, Instant(17 * DAY)).status, MailStatus::Observed);
        let twice = [once[0], once[1], o(3, 20, NSA)];
        assert_eq!(standing(&twice, now).status, MailStatus::Retired);
        let same_mailing = [once[0], once[1], o(2, 12, NSA)];
        assert_ne!(standing(&same_mailing, now).status, MailStatus::Retired);
    }

    #[test]
    fn temporary_failures_rest_longer_each_time() {
        let mut history = vec![o(1, 0, None)];
        history.extend((1..=3).map(|i| o(i + 1, i * 6, FULL)));
        assert_eq!(standing(&history, Instant(19 * DAY)).status, MailStatus::Resting);
        history.extend([o(10, 30, FULL), o(11, 35, FULL)]);
        assert_eq!(standing(&history, Instant(36 * DAY)).until, Some(Instant(56 * DAY)), "three weeks");
        history.extend((0..4).map(|i| o(20 + i, 60 + i, None)));
        assert_eq!(standing(&history, Instant(90 * DAY)).status, MailStatus::Active);
    }

    proptest! {
        /// Blocks and unknown failures are about us: they never move an address.
        #[test]
        fn blocks_never_count(days in prop::collection::vec(0i64..200, 0..20), kind in 0usize..5) {
            let kinds = [Category::Policy, Category::Content, Category::Authentication, Category::TooLarge, Category::Unknown];
            let mut days = days;
            days.sort_unstable();
            let history: Vec<_> = days.iter().enumerate().map(|(i, d)| o(i as i64, *d, Some(kinds[kind]))).collect();
            prop_assert_eq!(standing(&history, Instant(300 * DAY)).status, MailStatus::Active);
        }
    }
}
