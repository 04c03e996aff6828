//! The mail status as a fold over what became of the mailings to an address, oldest first: it can be explained, and worked out again.
//!
//! An outcome adds to the evidence; what the evidence adds up to is a [`Finding`]; [`next`] is the table of the machine, which says for each
//! state and finding what comes of it. What a cleaning run wrote ([`Set`]) holds from then on, and earlier evidence is forgotten.

use super::MailStatus;
use super::policy::{Policy, days};
use crate::bounce::{Category, FailureClass};
use crate::id::MailingId;
use crate::{DAY, HOUR, Instant};
use serde::{Deserialize, Serialize};

/// What became of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Happened {
    /// The host took it, and no failure was reported (so far).
    Accepted,
    /// A person answered it, so that it arrived.
    Answered,
    Failed(Category),
}

/// How one mailing to the address ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outcome {
    pub mailing: MailingId,
    pub at: Instant,
    pub what: Happened,
}

/// Why an address stands where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Cause {
    NothingOnRecord = 0,
    /// No such address, and nothing was ever delivered to it.
    NeverThere = 1,
    /// No such address, said once of an address that got mail before.
    GoneOnce = 2,
    /// No such address, said of two mailings.
    GoneTwice = 3,
    /// Other permanent failures.
    FailedForGood = 4,
    /// Mailings in a row that failed for now.
    FailedForNow = 5,
    /// Failed again while it was observed.
    FailedObserved = 6,
    /// Failed again after its last rest.
    RestsUsed = 7,
    RestOver = 8,
    /// Mailings in a row arrived.
    Arrived = 9,
    /// The person answered, so the address lives.
    Answered = 10,
    /// A run was undone.
    PutBack = 11,
    /// A person took it out of a run.
    Kept = 12,
    /// Of runs only: asked whether to go on, and let it pass.
    LetPass = 13,
    /// Of runs only: let it pass, and keeps getting mail, to measure what that costs.
    KeptBack = 14,
    /// Of runs only: retired for so long that it is deleted.
    RetiredLong = 15,
}

impl Cause {
    pub const ALL: [Self; 16] = [
        Self::NothingOnRecord,
        Self::NeverThere,
        Self::GoneOnce,
        Self::GoneTwice,
        Self::FailedForGood,
        Self::FailedForNow,
        Self::FailedObserved,
        Self::RestsUsed,
        Self::RestOver,
        Self::Arrived,
        Self::Answered,
        Self::PutBack,
        Self::Kept,
        Self::LetPass,
        Self::KeptBack,
        Self::RetiredLong,
    ];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::NothingOnRecord => "nothing on record",
            Self::NeverThere => "no such address, and nothing was ever delivered",
            Self::GoneOnce => "no such address, said once",
            Self::GoneTwice => "no such address, said twice",
            Self::FailedForGood => "other permanent failures",
            Self::FailedForNow => "mailings in a row failed for now",
            Self::FailedObserved => "failed again while observed",
            Self::RestsUsed => "failed again after its last rest",
            Self::RestOver => "its rest ended",
            Self::Arrived => "mailings in a row arrived",
            Self::Answered => "the person answered",
            Self::PutBack => "put back",
            Self::Kept => "kept by a person",
            Self::LetPass => "silent: asked, and let it pass",
            Self::KeptBack => "silent: kept back to measure what sunset costs",
            Self::RetiredLong => "retired for long enough to be deleted",
        }
    }
}

crate::code::coded!(Cause, "cause of a mail status");

/// What a cleaning run, or undoing it, wrote.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Set {
    pub at: Instant,
    pub status: MailStatus,
    pub until: Option<Instant>,
    pub cause: Cause,
    pub why: String,
}

/// Where the address stands, and the sentence that says why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Standing {
    pub status: MailStatus,
    /// The end of a rest. None of a rest that a cleaning run has to decide on: [`Standing::is_due`].
    pub until: Option<Instant>,
    pub cause: Cause,
    pub why: String,
}

/// What is said of an address that would be retired where only runs retire.
pub const UNTIL_A_RUN: &str = "It rests until a cleaning run decides.";

impl Standing {
    /// What speaks against the address, without what is to come.
    #[must_use]
    pub fn evidence(&self) -> &str {
        self.why.split_once(UNTIL_A_RUN).map_or(self.why.as_str(), |(evidence, _)| evidence).trim_end()
    }

    /// Does it wait for a cleaning run to retire it?
    #[must_use]
    pub fn is_due(&self) -> bool {
        self.status == MailStatus::Resting && self.until.is_none()
    }
}

/// The states of the machine: a rest without an end waits for a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    Active,
    Resting,
    Due,
    Observed,
    Retired,
}

impl State {
    pub const ALL: [Self; 5] = [Self::Active, Self::Resting, Self::Due, Self::Observed, Self::Retired];
}

/// What the evidence adds up to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Finding {
    /// An observed address got all the mailings that it was watched for.
    AllArrived,
    /// A person answered.
    Answered,
    NeverThere,
    GoneOnce,
    GoneTwice,
    FailedForGood,
    FailedForNow,
    FailedObserved,
    RestOver,
}

impl Finding {
    pub const ALL: [Self; 9] = [
        Self::AllArrived,
        Self::Answered,
        Self::NeverThere,
        Self::GoneOnce,
        Self::GoneTwice,
        Self::FailedForGood,
        Self::FailedForNow,
        Self::FailedObserved,
        Self::RestOver,
    ];
}

/// What comes of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    Stay,
    Activate,
    Observe,
    /// Rest as one whose host said that there is no such address; never shorter than a rest that runs.
    RestOnce,
    /// The next of the policy's rests; after the last, as [`Move::Retire`].
    RestNext,
    /// Retired, or due where only runs retire.
    Retire,
}

/// The table of the machine: what comes of a finding in a state.
#[must_use]
pub fn next(state: State, finding: Finding) -> Move {
    use Finding as F;
    use State as S;
    match (state, finding) {
        // What was retired comes back by a person's decision only.
        (S::Retired, _) => Move::Stay,
        // A run has to decide; an answer shows that the address lives.
        (S::Due, F::Answered) => Move::Observe,
        (S::Due, _) => Move::Stay,
        (S::Active | S::Resting | S::Observed, F::NeverThere | F::GoneTwice | F::FailedForGood) => Move::Retire,
        (S::Active | S::Resting | S::Observed, F::GoneOnce) => Move::RestOnce,
        (S::Active | S::Resting, F::FailedForNow) | (S::Observed, F::FailedObserved) => Move::RestNext,
        // While it is observed each failure is watched by itself.
        (S::Observed, F::FailedForNow) | (S::Active | S::Resting, F::FailedObserved) => Move::Stay,
        (S::Observed, F::AllArrived) => Move::Activate,
        (S::Active | S::Resting, F::AllArrived) | (S::Active | S::Resting | S::Observed, F::Answered) => Move::Stay,
        (S::Resting, F::RestOver) => Move::Observe,
        (S::Active | S::Observed, F::RestOver) => Move::Stay,
    }
}

/// Works out the standing at `now` from the outcomes, in whatever order they are given, and from what runs wrote.
#[must_use]
pub fn standing(outcomes: &[Outcome], sets: &[Set], policy: &Policy, now: Instant) -> Standing {
    let mut outcomes = outcomes.to_vec();
    outcomes.sort_by_key(|o| (o.at, o.mailing, o.what != Happened::Accepted));
    let mut sets: Vec<&Set> = sets.iter().filter(|s| s.at <= now).collect();
    sets.sort_by_key(|s| s.at);
    let mut sets = sets.into_iter().peekable();
    let mut f = Fold::new(policy);
    for o in &outcomes {
        while let Some(set) = sets.next_if(|s| s.at < o.at) {
            f.set(set);
        }
        f.rest_ends(o.at);
        f.take(o, now);
    }
    sets.for_each(|s| f.set(s));
    f.rest_ends(now);
    f.standing()
}

struct Fold<'a> {
    policy: &'a Policy,
    state: State,
    until: Option<Instant>,
    cause: Cause,
    why: String,
    /// Something was delivered, or was accepted and may prove to be.
    reached: bool,
    no_such_address: Option<(MailingId, Instant)>,
    /// Mailings that failed for good since the last delivery, and as what the last of them.
    permanent: Vec<(MailingId, Instant)>,
    permanent_as: Option<Category>,
    temporary: Vec<(MailingId, Instant)>,
    rests: usize,
    /// Of the mailings while it is observed, the last ones: did they arrive?
    watched: Vec<bool>,
}

impl<'a> Fold<'a> {
    fn new(policy: &'a Policy) -> Self {
        Self {
            policy,
            state: State::Active,
            until: None,
            cause: Cause::NothingOnRecord,
            why: "No failure on record.".to_owned(),
            reached: false,
            no_such_address: None,
            permanent: Vec::new(),
            permanent_as: None,
            temporary: Vec::new(),
            rests: 0,
            watched: Vec::new(),
        }
    }

    fn take(&mut self, o: &Outcome, now: Instant) {
        match o.what {
            // Accepted a short while ago: it counts as arrived only once no report has come for long enough.
            Happened::Accepted if now - o.at < self.policy.delivered_after() => self.reached = true,
            Happened::Accepted => self.delivered(o.at),
            Happened::Answered => {
                self.proved_alive();
                self.find(Finding::Answered, o.at, Cause::Answered, || {
                    format!("The person answered a message on {}; the next mailings are watched.", o.at.words())
                });
            }
            Happened::Failed(Category::NoSuchAddress) => self.no_such_address(o),
            Happened::Failed(category) => match category.class() {
                FailureClass::Permanent => self.permanent(o, category),
                FailureClass::Temporary => self.temporary(o, category),
                FailureClass::Block | FailureClass::Unknown => {}
            },
        }
    }

    /// Moves as the table says.
    fn find(&mut self, finding: Finding, at: Instant, cause: Cause, why: impl Fn() -> String) {
        match next(self.state, finding) {
            Move::Stay => {}
            Move::Activate => self.go(State::Active, None, cause, why()),
            Move::Observe => {
                self.watched.clear();
                self.go(State::Observed, None, cause, why());
            }
            Move::RestOnce => {
                let n = self.policy.no_such_address_rest_days;
                self.rest(
                    at + days(n),
                    cause,
                    format!("{}, so it rests for {n} days; the same answer to another mailing retires it.", why()),
                );
            }
            Move::RestNext => {
                self.temporary.clear();
                let rests = &self.policy.rests_days;
                if let Some(&n) = rests.get(self.rests) {
                    self.rests += 1;
                    self.rest(at + days(n), cause, format!("{}, so it rests for {n} days.", why()));
                } else {
                    self.retire(at, Cause::RestsUsed, format!("{}, after {} rests.", why(), rests.len()));
                }
            }
            Move::Retire => self.retire(at, cause, why()),
        }
    }

    fn go(&mut self, state: State, until: Option<Instant>, cause: Cause, why: String) {
        (self.state, self.until, self.cause, self.why) = (state, until, cause, why);
    }

    /// A rest is never made shorter by another reason to rest.
    fn rest(&mut self, until: Instant, cause: Cause, why: String) {
        if self.state != State::Resting || self.until.is_none_or(|runs| runs < until) {
            self.go(State::Resting, Some(until), cause, why);
        }
    }

    fn retire(&mut self, at: Instant, cause: Cause, why: String) {
        if self.policy.retires_at(at) {
            self.go(State::Retired, None, cause, why);
        } else {
            self.go(State::Due, None, cause, format!("{why} {UNTIL_A_RUN}"));
        }
    }

    /// What a run wrote: earlier evidence was before the eyes of those who decided, and is used up.
    fn set(&mut self, s: &Set) {
        self.rest_ends(s.at);
        self.forget();
        self.watched.clear();
        let state = match (s.status, s.until) {
            (MailStatus::Active, _) => State::Active,
            (MailStatus::Resting, Some(_)) => State::Resting,
            (MailStatus::Resting, None) => State::Due,
            (MailStatus::Observed, _) => State::Observed,
            (MailStatus::Retired, _) => State::Retired,
        };
        self.go(state, s.until, s.cause, s.why.clone());
    }

    fn forget(&mut self) {
        self.permanent.clear();
        self.temporary.clear();
        self.no_such_address = None;
    }

    fn rest_ends(&mut self, at: Instant) {
        if let Some(until) = self.until.filter(|until| self.state == State::Resting && at >= *until) {
            let n = self.policy.observed_mailings;
            self.find(Finding::RestOver, at, Cause::RestOver, || {
                format!("Its rest ended {}; the next {n} mailings are watched.", until.words())
            });
        }
    }

    fn proved_alive(&mut self) {
        self.reached = true;
        self.forget();
    }

    fn delivered(&mut self, at: Instant) {
        self.proved_alive();
        if self.state == State::Observed {
            self.watch(true);
            let n = self.policy.observed_mailings as usize;
            if self.watched.len() == n && self.watched.iter().all(|ok| *ok) {
                self.rests = 0;
                self.find(Finding::AllArrived, at, Cause::Arrived, || {
                    format!("{} in a row arrived; earlier failures are forgotten.", mailings(n))
                });
            }
        }
    }

    /// Notes how a mailing to an observed address ended; only the last ones count.
    fn watch(&mut self, arrived: bool) {
        self.watched.push(arrived);
        if self.watched.len() > self.policy.observed_mailings as usize {
            self.watched.remove(0);
        }
    }

    fn no_such_address(&mut self, o: &Outcome) {
        match self.no_such_address {
            None if !self.reached => self.find(Finding::NeverThere, o.at, Cause::NeverThere, || {
                format!("Its host said on {} that there is no such address, and nothing was ever delivered to it.", o.at.words())
            }),
            None => {
                self.no_such_address = Some((o.mailing, o.at));
                self.find(Finding::GoneOnce, o.at, Cause::GoneOnce, || {
                    format!("Its host said on {} that there is no such address. Mail was delivered before", o.at.words())
                });
            }
            Some((mailing, first)) if mailing != o.mailing && o.at - first >= self.policy.no_such_address_apart() => {
                self.find(Finding::GoneTwice, o.at, Cause::GoneTwice, || {
                    format!(
                        "Its host said twice that there is no such address: {} and {}, on different mailings {} apart.",
                        first.words(),
                        o.at.words(),
                        apart(o.at - first)
                    )
                });
            }
            Some(_) => {}
        }
    }

    fn permanent(&mut self, o: &Outcome, category: Category) {
        if self.permanent.iter().all(|(m, _)| *m != o.mailing) {
            self.permanent.push((o.mailing, o.at));
            self.permanent_as = Some(category);
        }
        let (n, span) = (self.permanent.len(), self.permanent.first().map_or(0, |(_, first)| o.at - *first));
        if n >= self.policy.permanent_mailings as usize && span >= days(self.policy.permanent_days) {
            self.find(Finding::FailedForGood, o.at, Cause::FailedForGood, || {
                format!("{} over {} days failed for good ({}), with no delivery between.", mailings(n), span / DAY, category.words())
            });
        } else if self.state == State::Observed {
            self.failed_while_observed(o, category);
        }
    }

    fn temporary(&mut self, o: &Outcome, category: Category) {
        if self.state == State::Observed {
            self.failed_while_observed(o, category);
            return;
        }
        if self.temporary.iter().all(|(m, _)| *m != o.mailing) {
            self.temporary.push((o.mailing, o.at));
        }
        let (n, span) = (self.temporary.len(), self.temporary.first().map_or(0, |(_, first)| o.at - *first));
        if n >= self.policy.temporary_mailings as usize && span >= days(self.policy.temporary_days) {
            self.find(Finding::FailedForNow, o.at, Cause::FailedForNow, || {
                format!("{} in a row over {} days failed ({})", mailings(n), span / DAY, category.words())
            });
        }
    }

    fn failed_while_observed(&mut self, o: &Outcome, category: Category) {
        self.watch(false);
        let (failed, of) = (self.watched.iter().filter(|ok| !**ok).count(), self.policy.observed_mailings);
        if failed >= self.policy.observed_failures as usize {
            self.find(Finding::FailedObserved, o.at, Cause::FailedObserved, || {
                format!("{failed} of its last {of} mailings failed ({}) while it was observed", category.words())
            });
        }
    }

    /// Where it stands now; of an active address what stands against it, and what would come of more.
    fn standing(self) -> Standing {
        let (status, p) = (self.status(), self.policy);
        let why = match (self.state, self.permanent.first(), self.temporary.first()) {
            (State::Active, Some((_, first)), _) => format!(
                "{} failed for good ({}) since {}, with no delivery between. {} over at least {} days retire it.",
                mailings(self.permanent.len()),
                self.permanent_as.map_or("", Category::words),
                first.words(),
                p.permanent_mailings,
                p.permanent_days
            ),
            (State::Active, None, Some((_, first))) => format!(
                "{} in a row failed for now, since {}. {} over at least {} days let it rest.",
                mailings(self.temporary.len()),
                first.words(),
                p.temporary_mailings,
                p.temporary_days
            ),
            _ => self.why,
        };
        Standing { status, until: self.until, cause: self.cause, why }
    }

    fn status(&self) -> MailStatus {
        match self.state {
            State::Active => MailStatus::Active,
            State::Resting | State::Due => MailStatus::Resting,
            State::Observed => MailStatus::Observed,
            State::Retired => MailStatus::Retired,
        }
    }
}

/// Hours up to two days, else days.
fn apart(millis: i64) -> String {
    if millis < 2 * DAY { format!("{} h", millis / HOUR) } else { format!("{} days", millis / DAY) }
}

fn mailings(n: usize) -> String {
    if n == 1 { "1 mailing".to_owned() } else { format!("{n} mailings") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::upkeep::policy::Retires;
    use proptest::prelude::*;

    fn o(mailing: MailingId, day: i64, failure: Option<Category>) -> Outcome {
        Outcome { mailing, at: Instant::of(day * DAY), what: failure.map_or(Happened::Accepted, Happened::Failed) }
    }
    fn standing(outcomes: &[Outcome], now: Instant) -> Standing {
        super::standing(outcomes, &[], &Policy::default(), now)
    }
    const NSA: Option<Category> = Some(Category::NoSuchAddress);
    const FULL: Option<Category> = Some(Category::MailboxFull);

    #[test]
    fn no_such_address_rests_then_retires() {
        let now = Instant::of(100 * DAY);
        assert_eq!(standing(&[o(MailingId(1), 0, NSA)], now).status, MailStatus::Retired, "never delivered to");
        let once = [o(MailingId(1), 0, None), o(MailingId(2), 10, NSA)];
        let s = standing(&once, Instant::of(11 * DAY));
        assert_eq!((s.status, s.until), (MailStatus::Resting, Some(Instant::of(40 * DAY))));
        assert_eq!(standing(&once, Instant::of(40 * DAY)).status, MailStatus::Observed);
        let twice = [once[0], once[1], o(MailingId(3), 20, NSA)];
        assert_eq!(standing(&twice, now).status, MailStatus::Retired);
        let same_mailing = [once[0], once[1], o(MailingId(2), 12, NSA)];
        assert_ne!(standing(&same_mailing, now).status, MailStatus::Retired);
    }

    #[test]
    fn temporary_failures_rest_longer_each_time() {
        let mut history = vec![o(MailingId(1), 0, None)];
        history.extend((1..=3).map(|i| o(MailingId(i + 1), i * 6, FULL)));
        assert_eq!(standing(&history, Instant::of(19 * DAY)).status, MailStatus::Resting);
        history.extend([o(MailingId(10), 30, FULL), o(MailingId(11), 35, FULL)]);
        assert_eq!(standing(&history, Instant::of(36 * DAY)).until, Some(Instant::of(56 * DAY)), "three weeks");
        history.extend((0..4).map(|i| o(MailingId(20 + i), 60 + i, None)));
        assert_eq!(standing(&history, Instant::of(90 * DAY)).status, MailStatus::Active);
    }

    #[test]
    fn an_answer_on_its_way_does_not_retire() {
        // Accepted two days before the host says that there is no such address: it may prove to have arrived.
        let history = [o(MailingId(1), 10, None), o(MailingId(2), 12, NSA)];
        assert_eq!(standing(&history, Instant::of(13 * DAY)).status, MailStatus::Resting);
        assert_eq!(standing(&history, Instant::of(30 * DAY)).status, MailStatus::Resting);
    }

    #[test]
    fn no_such_address_does_not_shorten_a_long_rest() {
        let mut history = vec![o(MailingId(1), 0, None)];
        // Rested for a week, for three, and for nine.
        history.extend((0..3).map(|i| o(MailingId(2 + i), 6 + 6 * i, FULL)));
        history.extend([o(MailingId(10), 30, FULL), o(MailingId(11), 31, FULL), o(MailingId(12), 60, FULL), o(MailingId(13), 61, FULL)]);
        let long = standing(&history, Instant::of(62 * DAY)).until;
        assert_eq!(long, Some(Instant::of(124 * DAY)));
        history.push(o(MailingId(14), 62, NSA));
        assert_eq!(standing(&history, Instant::of(63 * DAY)).until, long);
    }

    #[test]
    fn one_failure_while_observed_is_forgotten() {
        let mut history = vec![o(MailingId(1), 0, None)];
        history.extend((1..=3).map(|i| o(MailingId(i + 1), i * 6, FULL)));
        history.extend([
            o(MailingId(10), 30, None),
            o(MailingId(11), 31, FULL),
            o(MailingId(12), 40, None),
            o(MailingId(13), 41, None),
            o(MailingId(14), 42, None),
        ]);
        assert_eq!(standing(&history, Instant::of(60 * DAY)).status, MailStatus::Observed, "three in a row");
        // A second failure four mailings after the first is the only one of the last four.
        let mut again = history.clone();
        again.extend([o(MailingId(15), 43, FULL)]);
        assert_eq!(standing(&again, Instant::of(60 * DAY)).status, MailStatus::Observed);
        history.push(o(MailingId(15), 43, None));
        assert_eq!(standing(&history, Instant::of(60 * DAY)).status, MailStatus::Active, "four in a row");
    }

    #[test]
    fn what_stands_against_an_address_is_said() {
        const DISABLED: Option<Category> = Some(Category::MailboxDisabled);
        let five: Vec<Outcome> = (0..5).map(|i| o(MailingId(i), i, DISABLED)).collect();
        let s = standing(&five, Instant::of(6 * DAY));
        assert!(s.status == MailStatus::Active && s.why.starts_with("5 mailings failed for good (mailbox disabled)"), "{}", s.why);
        assert!(standing(&[o(MailingId(1), 0, FULL)], Instant::of(DAY)).why.starts_with("1 mailing in a row failed for now"));
        assert_eq!(standing(&[], Instant::of(0)).why, "No failure on record.");
    }

    /// From every state each finding leads to where the machine can go on.
    #[test]
    fn the_table_holds() {
        for state in State::ALL {
            let moves: Vec<Move> = Finding::ALL.into_iter().map(|f| next(state, f)).collect();
            let all_stay = moves.iter().all(|m| *m == Move::Stay);
            assert_eq!(all_stay, state == State::Retired, "{state:?}: only what is retired stays whatever happens");
            assert_eq!(moves.contains(&Move::Retire), !matches!(state, State::Due | State::Retired), "{state:?}");
            assert_ne!(next(state, Finding::AllArrived), Move::Retire);
            assert!(!matches!(next(state, Finding::Answered), Move::Retire | Move::RestNext | Move::RestOnce), "an answer never harms");
        }
    }

    #[test]
    fn where_only_runs_retire_it_rests_until_one_decides() {
        let policy = Policy { retires: Retires::InRuns { since: Instant::of(5 * DAY) }, ..Policy::default() };
        let at = |history: &[Outcome], sets: &[Set], day: i64| super::standing(history, sets, &policy, Instant::of(day * DAY));
        assert_eq!(at(&[o(MailingId(1), 1, NSA)], &[], 9).status, MailStatus::Retired, "from before");
        let gone = [o(MailingId(1), 6, NSA)];
        let due = at(&gone, &[], 400);
        assert!(due.is_due() && due.cause == Cause::NeverThere, "{due:?}");
        let set = |day: i64, status, until| Set { at: Instant::of(day * DAY), status, until, cause: Cause::PutBack, why: String::new() };
        let retired = set(30, MailStatus::Retired, None);
        assert_eq!(at(&gone, std::slice::from_ref(&retired), 40).status, MailStatus::Retired);
        assert_eq!(at(&gone, std::slice::from_ref(&retired), 29).status, MailStatus::Resting, "not before it was decided");
        let undone = [retired, set(35, MailStatus::Resting, None)];
        assert!(at(&gone, &undone, 36).is_due(), "back to where it was");
        let answered = [gone[0], Outcome { mailing: MailingId(1), at: Instant::of(8 * DAY), what: Happened::Answered }];
        assert_eq!(at(&answered, &[], 20).status, MailStatus::Observed);
    }

    #[test]
    fn an_answer_between_two_failures_forgets_the_first() {
        const DISABLED: Option<Category> = Some(Category::MailboxDisabled);
        let answer = Outcome { mailing: MailingId(1), at: Instant::of(8 * DAY), what: Happened::Answered };
        let failures = [o(MailingId(1), 0, None), o(MailingId(2), 6, DISABLED), o(MailingId(3), 14, DISABLED)];
        assert_eq!(standing(&failures, Instant::of(15 * DAY)).status, MailStatus::Retired);
        let [a, b, c] = failures;
        assert_eq!(standing(&[a, b, answer, c], Instant::of(15 * DAY)).status, MailStatus::Active);
    }

    fn any_outcome() -> impl Strategy<Value = Vec<Outcome>> {
        let failures = [None, None, None, NSA, FULL, Some(Category::MailboxDisabled), Some(Category::Deferred), Some(Category::Policy)];
        prop::collection::vec((1i64..12, 0usize..8), 0..40).prop_map(move |steps| {
            let mut day = 0;
            let each = |(i, (after, kind)): (usize, (i64, usize))| {
                day += after;
                o(MailingId(i as i64), day, failures[kind])
            };
            steps.into_iter().enumerate().map(each).collect()
        })
    }

    proptest! {
        /// The order in which reports come doesn't matter; a rest that runs isn't made shorter by what comes after; nobody who is mailed and
        /// gets it is observed for ever, and only what failed retires.
        #[test]
        fn the_fold_holds_over_random_histories(history in any_outcome(), turn in 0usize..40) {
            let last = history.last().map_or(Instant::of(0), |o| o.at);
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
            well.extend((0..4).map(|i| Outcome { mailing: MailingId(1_000 + i), at: last + (200 + i) * DAY, what: Happened::Accepted }));
            let s = standing(&well, now);
            prop_assert!(matches!(s.status, MailStatus::Active | MailStatus::Retired), "{:?}", s);
            if history.iter().all(|o| !matches!(o.what, Happened::Failed(f) if f.class() != FailureClass::Block)) {
                prop_assert_eq!(standing(&history, now).status, MailStatus::Active);
            }
        }

        /// Whatever stood at an instant stands again when it is put back there, however it was changed meanwhile.
        #[test]
        fn putting_back_puts_back_what_was(history in any_outcome(), after in 0i64..60, in_runs in any::<bool>()) {
            let retires = if in_runs { Retires::InRuns { since: Instant::of(10 * DAY) } } else { Retires::AtOnce };
            let policy = Policy { retires, ..Policy::default() };
            let now = history.last().map_or(Instant::of(0), |o| o.at) + after * DAY;
            let before = super::standing(&history, &[], &policy, now);
            let set = |at, s: &Standing| Set { at, status: s.status, until: s.until, cause: Cause::PutBack, why: String::new() };
            let taken_out = Set { status: MailStatus::Retired, until: None, ..set(now, &before) };
            let undone = set(now + 1, &before);
            prop_assert_eq!(super::standing(&history, std::slice::from_ref(&taken_out), &policy, now + 1).status, MailStatus::Retired);
            let back = super::standing(&history, &[taken_out, undone], &policy, now + 1);
            if before.until.is_none_or(|until| until > now + 1) {
                prop_assert_eq!((back.status, back.until), (before.status, before.until));
            }
            let later = now + 100 * DAY;
            let s = super::standing(&history, &[set(now, &before)], &policy, later);
            prop_assert!(before.status == MailStatus::Retired || s.status != MailStatus::Retired, "time alone retires nobody");
        }

        /// Blocks and unknown failures are about us: they never move an address.
        #[test]
        fn blocks_never_count(days in prop::collection::vec(0i64..200, 0..20), kind in 0usize..5) {
            let kinds = [Category::Policy, Category::Content, Category::Authentication, Category::TooLarge, Category::Unknown];
            let mut days = days;
            days.sort_unstable();
            let history: Vec<_> = days.iter().enumerate().map(|(i, d)| o(MailingId(i as i64), *d, Some(kinds[kind]))).collect();
            prop_assert_eq!(standing(&history, Instant::of(300 * DAY)).status, MailStatus::Active);
        }
    }
}
