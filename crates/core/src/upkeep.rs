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
/// How long an address rests whose host says that there is none, until another mailing decides.
const NO_SUCH_ADDRESS_REST: i64 = 30 * DAY;

#[derive(Default)]
struct Fold {
    status: Option<(MailStatus, Option<Instant>, String)>,
    /// Something was delivered, or was accepted and may prove to be.
    reached: bool,
    no_such_address: Option<(i64, Instant)>,
    /// Mailings that failed for good since the last delivery, and as what the last of them.
    permanent: Vec<(i64, Instant)>,
    permanent_as: Option<Category>,
    temporary: Vec<(i64, Instant)>,
    rests: usize,
    /// Of the mailings while it is observed, the last ones: did they arrive?
    watched: Vec<bool>,
}

/// Works out the standing at `now` from the outcomes, in whatever order they are given.
#[must_use]
pub fn standing(outcomes: &[Outcome], now: Instant) -> Standing {
    let mut outcomes = outcomes.to_vec();
    outcomes.sort_by_key(|o| (o.at, o.mailing));
    let mut f = Fold::default();
    for o in &outcomes {
        f.rest_ends(o.at);
        match o.failure {
            // Accepted a short while ago: it counts as arrived only once no report has come for long enough.
            None if now - o.at < DELIVERED_AFTER => f.reached = true,
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
    let words = f.while_active();
    let (status, until, why) = f.status.unwrap_or((MailStatus::Active, None, String::new()));
    Standing { status, until, why: if status == MailStatus::Active { words } else { why } }
}

impl Fold {
    fn is(&self, status: MailStatus) -> bool {
        self.status.as_ref().is_some_and(|s| s.0 == status)
    }

    /// What stands against an address that is mailed as usual, and what would come of more of it.
    fn while_active(&self) -> String {
        if let Some((_, first)) = self.permanent.first() {
            return format!(
                "{} failed for good ({}) since {}, with no delivery between. {PERMANENT_MAILINGS} over at least {} days retire it.",
                mailings(self.permanent.len()),
                self.permanent_as.map_or("", Category::words),
                first.words(),
                PERMANENT_SPAN / DAY
            );
        }
        if let Some((_, first)) = self.temporary.first() {
            return format!(
                "{} in a row failed for now, since {}. {TEMPORARY_RUN} over at least {} days let it rest.",
                mailings(self.temporary.len()),
                first.words(),
                TEMPORARY_SPAN / DAY
            );
        }
        match &self.status {
            Some((MailStatus::Active, _, why)) => why.clone(),
            _ => "No failure on record.".to_owned(),
        }
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

    /// A rest is never made shorter by another reason to rest.
    fn rest(&mut self, from: Instant, length: i64, why: String) {
        if let Some((MailStatus::Resting, Some(until), _)) = self.status
            && until >= from + length
        {
            return;
        }
        self.status = Some((MailStatus::Resting, Some(from + length), why));
    }

    fn retire(&mut self, why: String) {
        self.status = Some((MailStatus::Retired, None, why));
    }

    fn delivered(&mut self) {
        self.reached = true;
        self.permanent.clear();
        self.temporary.clear();
        self.no_such_address = None;
        if self.is(MailStatus::Observed) {
            self.watch(true);
            if self.watched.len() == OBSERVED_MAILINGS && self.watched.iter().all(|ok| *ok) {
                self.rests = 0;
                self.status = Some((
                    MailStatus::Active,
                    None,
                    format!("{OBSERVED_MAILINGS} mailings in a row arrived; earlier failures are forgotten."),
                ));
            }
        }
    }

    /// Notes how a mailing to an observed address ended; only the last ones count.
    fn watch(&mut self, arrived: bool) {
        self.watched.push(arrived);
        if self.watched.len() > OBSERVED_MAILINGS {
            self.watched.remove(0);
        }
    }

    fn no_such_address(&mut self, o: &Outcome) {
        match self.no_such_address {
            None if !self.reached => self
                .retire(format!("Its host said on {} that there is no such address, and nothing was ever delivered to it.", o.at.words())),
            None => {
                self.no_such_address = Some((o.mailing, o.at));
                self.rest(o.at, NO_SUCH_ADDRESS_REST, format!(
                    "Its host said on {} that there is no such address. Mail was delivered before, so it rests for {} days; the same answer to another mailing retires it.",
                    o.at.words(), NO_SUCH_ADDRESS_REST / DAY
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
            self.permanent_as = Some(category);
        }
        let span = self.permanent.first().map_or(0, |(_, first)| o.at - *first);
        if self.permanent.len() >= PERMANENT_MAILINGS && span >= PERMANENT_SPAN {
            self.retire(format!(
                "{} over {} days failed for good ({}), with no delivery between.",
                mailings(self.permanent.len()),
                span / DAY,
                category.words()
            ));
        } else if self.is(MailStatus::Observed) {
            self.failed_while_observed(o, category);
        }
    }

    fn temporary(&mut self, o: &Outcome, category: Category) {
        if self.is(MailStatus::Observed) {
            self.failed_while_observed(o, category);
            return;
        }
        if self.temporary.iter().all(|(m, _)| *m != o.mailing) {
            self.temporary.push((o.mailing, o.at));
        }
        let span = self.temporary.first().map_or(0, |(_, first)| o.at - *first);
        if self.temporary.len() >= TEMPORARY_RUN && span >= TEMPORARY_SPAN {
            let n = self.temporary.len();
            self.next_rest(o, format!("{} in a row over {} days failed ({})", mailings(n), span / DAY, category.words()));
        }
    }

    fn failed_while_observed(&mut self, o: &Outcome, category: Category) {
        self.watch(false);
        if self.watched.iter().filter(|ok| !**ok).count() >= 2 {
            self.next_rest(o, format!("Two of its last {OBSERVED_MAILINGS} mailings failed ({}) while it was observed", category.words()));
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

fn mailings(n: usize) -> String {
    if n == 1 { "1 mailing".to_owned() } else { format!("{n} mailings") }
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
        assert_eq!((s.status, s.until), (MailStatus::Resting, Some(Instant(40 * DAY))));
        assert_eq!(standing(&once, Instant(40 * DAY)).status, MailStatus::Observed);
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

    #[test]
    fn an_answer_on_its_way_does_not_retire() {
        // Accepted two days before the host says that there is no such address: it may prove to have arrived.
        let history = [o(1, 10, None), o(2, 12, NSA)];
        assert_eq!(standing(&history, Instant(13 * DAY)).status, MailStatus::Resting);
        assert_eq!(standing(&history, Instant(30 * DAY)).status, MailStatus::Resting);
    }

    #[test]
    fn no_such_address_does_not_shorten_a_long_rest() {
        let mut history = vec![o(1, 0, None)];
        // Rested for a week, for three, and for nine.
        history.extend((0..3).map(|i| o(2 + i, 6 + 6 * i, FULL)));
        history.extend([o(10, 30, FULL), o(11, 31, FULL), o(12, 60, FULL), o(13, 61, FULL)]);
        let long = standing(&history, Instant(62 * DAY)).until;
        assert_eq!(long, Some(Instant(124 * DAY)));
        history.push(o(14, 62, NSA));
        assert_eq!(standing(&history, Instant(63 * DAY)).until, long);
    }

    #[test]
    fn one_failure_while_observed_is_forgotten() {
        let mut history = vec![o(1, 0, None)];
        history.extend((1..=3).map(|i| o(i + 1, i * 6, FULL)));
        history.extend([o(10, 30, None), o(11, 31, FULL), o(12, 40, None), o(13, 41, None), o(14, 42, None)]);
        assert_eq!(standing(&history, Instant(60 * DAY)).status, MailStatus::Observed, "three in a row");
        // A second failure four mailings after the first is the only one of the last four.
        let mut again = history.clone();
        again.extend([o(15, 43, FULL)]);
        assert_eq!(standing(&again, Instant(60 * DAY)).status, MailStatus::Observed);
        history.push(o(15, 43, None));
        assert_eq!(standing(&history, Instant(60 * DAY)).status, MailStatus::Active, "four in a row");
    }

    #[test]
    fn what_stands_against_an_address_is_said() {
        const DISABLED: Option<Category> = Some(Category::MailboxDisabled);
        let five: Vec<Outcome> = (0..5).map(|i| o(i, i, DISABLED)).collect();
        let s = standing(&five, Instant(6 * DAY));
        assert!(s.status == MailStatus::Active && s.why.starts_with("5 mailings failed for good (mailbox disabled)"), "{}", s.why);
        assert!(standing(&[o(1, 0, FULL)], Instant(DAY)).why.starts_with("1 mailing in a row failed for now"));
        assert_eq!(standing(&[], Instant(0)).why, "No failure on record.");
    }

    fn any_outcome() -> impl Strategy<Value = Vec<Outcome>> {
        let failures = [None, None, None, NSA, FULL, Some(Category::MailboxDisabled), Some(Category::Deferred), Some(Category::Policy)];
        prop::collection::vec((1i64..12, 0usize..8), 0..40).prop_map(move |steps| {
            let mut day = 0;
            let each = |(i, (after, kind)): (usize, (i64, usize))| {
                day += after;
                o(i as i64, day, failures[kind])
            };
            steps.into_iter().enumerate().map(each).collect()
        })
    }

    proptest! {
        /// The order in which reports come doesn't matter; a rest that runs isn't made shorter by what comes after; nobody who is mailed and
        /// gets it is observed for ever, and only what failed retires.
        #[test]
        fn the_fold_holds_over_random_histories(history in any_outcome(), turn in 0usize..40) {
            let last = history.last().map_or(Instant(0), |o| o.at);
            let now = last + 400 * DAY;
            let mut turned = history.clone();
            if !turned.is_empty() {
                let n = turned.len();
                turned.rotate_left(turn % n);
                turned.reverse();
            }
            prop_assert_eq!(standing(&history, now), standing(&turned, now));
            for n in 1..history.len() {
                let (at, next) = (history[n - 1].at, history[n].at);
                let before = standing(&history[..n], at);
                if before.status == MailStatus::Resting && before.until > Some(next) {
                    let after = standing(&history[..=n], next);
                    // Mail that was accepted lately proves to have arrived, or not, as time goes on; the rest stands by what is known then.
                    let known = standing(&history[..n], next);
                    prop_assert!(after.status == MailStatus::Retired || known.status != MailStatus::Resting || after.until >= known.until, "{:?} {:?}", known, after);
                }
            }
            let mut well = history.clone();
            well.extend((0..4).map(|i| Outcome { mailing: 1_000 + i, at: last + (200 + i) * DAY, failure: None }));
            let s = standing(&well, now);
            prop_assert!(matches!(s.status, MailStatus::Active | MailStatus::Retired), "{:?}", s);
            if history.iter().all(|o| o.failure.is_none_or(|f| f.class() == FailureClass::Block)) {
                prop_assert_eq!(standing(&history, now).status, MailStatus::Active);
            }
        }

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
