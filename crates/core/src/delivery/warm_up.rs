//! Warm-up of a new sending domain: hosts that have never had mail of a name let a little of it in, and more each day on which nothing went wrong.
//!
//! Each mailbox group has a ceiling of messages a day. It grows by a factor after a day on which the ceiling was put to use and what came back was
//! within the marks; it stays where too little went to tell, or a mark was passed; it halves where one was passed by far. Within a day's ceiling
//! those go first who answer most: what hosts see of a new name is then mail that people want.

use super::alert::{COMPLAINTS_ACT, COMPLAINTS_WARN, is_over};
use super::{ACT, WARN};
use crate::load::Answer;
use serde::{Deserialize, Serialize};
use std::collections::{BinaryHeap, HashMap};
use utoipa::ToSchema;

/// Messages that were put off, beyond a first meeting: over this share a ceiling doesn't grow …
pub const DEFERRED_WARN: f64 = 0.10;
/// … and over this one it halves.
pub const DEFERRED_ACT: f64 = 0.25;
/// A mark is passed where a group that stands right at it would come to as much with this chance at most. One complaint among 200 messages
/// isn't 0.5%: it would come of a group at 0.1% on one day in five.
const BY_CHANCE: f64 = 0.05;
/// A ceiling never falls under this: somebody has to find out that the host lets go.
const LEAST: u32 = 10;
/// No ceiling is over this.
const MOST: u32 = 100_000_000;
/// A domain is looked at for so many days ahead.
pub const HORIZON: i64 = 365;

/// How a sending domain is warmed up.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = WarmUpRule)]
pub struct Rule {
    /// Messages that each mailbox group gets on the first day.
    #[schema(minimum = 10, maximum = 100_000)]
    pub start: u32,
    /// What the ceiling is multiplied by after a good day.
    #[schema(minimum = 1.05, maximum = 3.0)]
    pub factor: f64,
}

impl Default for Rule {
    fn default() -> Self {
        Self { start: 200, factor: 1.5 }
    }
}

/// A rule that can't be kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    #[error("A warm-up begins with 10 to 100,000 messages a day at each mailbox group.")]
    Start,
    #[error("The ceiling grows by a factor from 1.05 to 3 a day: faster than that is no warm-up.")]
    Factor,
}

impl Rule {
    /// # Errors
    /// When a number of it is outside its range.
    pub fn checked(self) -> Result<Self, RuleError> {
        if !(10..=100_000).contains(&self.start) {
            return Err(RuleError::Start);
        }
        if !(1.05..=3.0).contains(&self.factor) {
            return Err(RuleError::Factor);
        }
        Ok(self)
    }

    /// The ceiling after a good day.
    #[must_use]
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    pub fn grown(&self, ceiling: u32) -> u32 {
        ((f64::from(ceiling) * self.factor).round() as u32).clamp(ceiling + 1, MOST)
    }
}

/// A day at a group under a ceiling. What was put off, blocked or failed is counted by the first answer to each message.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = WarmUpCounts)]
pub struct Counts {
    /// Messages that were handed over for the first time.
    pub handed: u32,
    pub accepted: u32,
    pub deferred: u32,
    pub blocked: u32,
    pub failed: u32,
    /// Of the accepted ones.
    pub complained: u32,
}

impl Counts {
    #[must_use]
    pub fn answered(&self) -> u32 {
        self.accepted + self.deferred + self.blocked + self.failed
    }
}

/// Why a ceiling is what it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = CeilingBecause)]
#[repr(u8)]
pub enum Because {
    /// The first day.
    First = 0,
    /// The day before was within the marks.
    Grew = 1,
    /// Less than half of the ceiling went: it says too little.
    TooLittle = 2,
    Blocked = 3,
    Deferred = 4,
    Complaints = 5,
    /// The ceiling is over what a usual day brings: it is none any more.
    Over = 6,
}

crate::code::coded!(Because, "reason of a ceiling");

impl Because {
    const ALL: [Self; 7] = [Self::First, Self::Grew, Self::TooLittle, Self::Blocked, Self::Deferred, Self::Complaints, Self::Over];
}

/// Why a day's ceiling is what it is, in words; `before`: the ceiling of the last day on which something went.
#[must_use]
pub fn words(because: Because, before: Option<u32>, ceiling: Option<u32>) -> String {
    let of_marks = match (before, ceiling) {
        (Some(before), Some(ceiling)) if ceiling < before => "halves",
        _ => "stays",
    };
    match because {
        Because::First => "the first day".into(),
        Because::Grew => "grew: the day before was within the marks".into(),
        Because::TooLittle => "stays: less than half of it went".into(),
        Because::Blocked => format!("{of_marks}: too many were blocked"),
        Because::Deferred => format!("{of_marks}: too many were put off"),
        Because::Complaints => format!("{of_marks}: too many complained"),
        Because::Over => "none: it is over what a usual day brings".into(),
    }
}

fn passed(count: u32, of: u32, mark: f64) -> bool {
    is_over(u64::from(count.min(of)), u64::from(of), mark, BY_CHANCE)
}

/// The ceiling of the day after one with this ceiling; none: there is none any more, since it is over what a usual day brings.
#[must_use]
pub fn next(rule: &Rule, ceiling: u32, usual: u32, day: &Counts) -> (Option<u32>, Because) {
    let answered = day.answered();
    let marks = [
        (Because::Blocked, day.blocked, answered, 1.0 - WARN, 1.0 - ACT),
        (Because::Deferred, day.deferred, answered, DEFERRED_WARN, DEFERRED_ACT),
        (Because::Complaints, day.complained, day.accepted, COMPLAINTS_WARN, COMPLAINTS_ACT),
    ];
    if let Some(m) = marks.iter().find(|m| passed(m.1, m.2, m.4)) {
        return (Some((ceiling / 2).max(LEAST.min(rule.start))), m.0);
    }
    if let Some(m) = marks.iter().find(|m| passed(m.1, m.2, m.3)) {
        return (Some(ceiling), m.0);
    }
    if answered.saturating_mul(2) < ceiling {
        return (Some(ceiling), Because::TooLittle);
    }
    let grown = rule.grown(ceiling);
    if grown >= usual { (None, Because::Over) } else { (Some(grown), Because::Grew) }
}

/// The ceiling so many days after a day with this one, if all goes well; none: it is over by then.
#[must_use]
pub fn ahead(rule: &Rule, ceiling: u32, usual: u32, days: i64) -> Option<u32> {
    let mut c = ceiling;
    for _ in 0..days.min(HORIZON) {
        c = rule.grown(c);
        if c >= usual {
            return None;
        }
    }
    Some(c)
}

/// Who goes first: those who answer, then those of whom nothing is known yet, then the rest. Lower is sooner.
#[must_use]
pub fn rank(answer: Option<Answer>) -> u8 {
    match answer {
        Some(Answer::Rising | Answer::Steady) => 0,
        Some(Answer::New) | None => 1,
        Some(Answer::Slackening | Answer::Silent) => 2,
    }
}

/// Somebody whose turn comes on a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Waiting {
    pub day: i64,
    pub rank: u8,
}

/// The day on which each of a group's people gets theirs: never sooner than their own, never more on a day than there is room for (none: as many
/// as come), and within a day those first who answer most, then those who waited longest, then in their own order.
#[must_use]
pub fn places(people: &[Waiting], mut room: impl FnMut(i64) -> Option<u32>) -> Vec<i64> {
    let mut order: Vec<usize> = (0..people.len()).collect();
    order.sort_by_key(|i| people[*i].day);
    let mut out: Vec<i64> = people.iter().map(|p| p.day).collect();
    let mut coming = order.into_iter().peekable();
    // The least of (rank, own day, place) goes first.
    let mut pool: BinaryHeap<std::cmp::Reverse<(u8, i64, usize)>> = BinaryHeap::new();
    let Some(mut day) = coming.peek().map(|i| people[*i].day) else { return out };
    let last = day + HORIZON;
    loop {
        while let Some(i) = coming.next_if(|i| people[*i].day <= day) {
            pool.push(std::cmp::Reverse((people[i].rank, people[i].day, i)));
        }
        // What doesn't go within a year goes at its end: it is far beyond what any mailing waits for.
        let places = if day >= last { None } else { room(day) };
        for _ in 0..places.unwrap_or(u32::MAX) {
            let Some(std::cmp::Reverse((_, _, i))) = pool.pop() else { break };
            out[i] = day;
        }
        day = match (pool.is_empty(), coming.peek()) {
            (true, None) => return out,
            (true, Some(i)) => people[*i].day,
            (false, _) => day + 1,
        };
    }
}

/// How many of a group's people go on each day, of so many whose turn is on the first one: for a forecast.
#[must_use]
pub fn spread(people: u32, first: i64, mut room: impl FnMut(i64) -> Option<u32>) -> Vec<(i64, u32)> {
    let (mut left, mut out) = (people, Vec::new());
    for day in first..=first + HORIZON {
        let goes = room(day).filter(|_| day < first + HORIZON).map_or(left, |r| r.min(left));
        if goes > 0 {
            out.push((day, goes));
        }
        left -= goes;
        if left == 0 {
            break;
        }
    }
    out
}

/// Room that is left on days to come, under a ceiling of a day and with what is taken already.
pub struct Room {
    pub rule: Rule,
    /// The ceiling of `day`; none: over.
    pub ceiling: Option<u32>,
    pub usual: u32,
    pub day: i64,
    /// Of that day's ceiling so many have gone.
    pub handed: u32,
    /// Others that wait for their turn on a day.
    pub taken: HashMap<i64, u32>,
}

impl Room {
    #[must_use]
    pub fn on(&self, day: i64) -> Option<u32> {
        let ceiling = ahead(&self.rule, self.ceiling?, self.usual, day - self.day)?;
        let gone = if day <= self.day { self.handed } else { 0 };
        Some(ceiling.saturating_sub(gone).saturating_sub(self.taken.get(&day).copied().unwrap_or(0)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::{Rng, SeedableRng};
    use rstest::rstest;

    fn counts(accepted: u32, deferred: u32, blocked: u32, complained: u32) -> Counts {
        Counts { handed: accepted + deferred + blocked, accepted, deferred, blocked, failed: 0, complained }
    }

    #[rstest]
    #[case::a_good_day(counts(200, 0, 0, 0), Some(300), Because::Grew)]
    // One complaint of 200 comes by chance; three don't.
    #[case::one_complaint(counts(200, 0, 0, 1), Some(300), Because::Grew)]
    #[case::complaints(counts(200, 0, 0, 2), Some(200), Because::Complaints)]
    #[case::many_complaints(counts(200, 0, 0, 4), Some(100), Because::Complaints)]
    #[case::some_blocks(counts(188, 0, 12, 0), Some(200), Because::Blocked)]
    #[case::blocks(counts(150, 0, 50, 0), Some(100), Because::Blocked)]
    #[case::put_off(counts(160, 40, 0, 0), Some(200), Because::Deferred)]
    #[case::mostly_put_off(counts(100, 100, 0, 0), Some(100), Because::Deferred)]
    #[case::a_quiet_day(counts(99, 0, 0, 0), Some(200), Because::TooLittle)]
    #[case::half_of_it(counts(100, 0, 0, 0), Some(300), Because::Grew)]
    // A quiet day that went badly still halves.
    #[case::quiet_and_bad(counts(10, 0, 20, 0), Some(100), Because::Blocked)]
    fn the_day_after(#[case] day: Counts, #[case] ceiling: Option<u32>, #[case] because: Because) {
        assert_eq!(next(&Rule::default(), 200, 10_000, &day), (ceiling, because));
    }

    #[test]
    fn it_ends_over_the_usual_day() {
        assert_eq!(next(&Rule::default(), 200, 300, &counts(200, 0, 0, 0)), (None, Because::Over));
        assert_eq!(ahead(&Rule::default(), 200, 10_000, 2), Some(450));
        assert_eq!(ahead(&Rule::default(), 200, 10_000, 10), None);
        // 11 good days take 200 to over 10,000.
        assert_eq!((0..20).find(|d| ahead(&Rule::default(), 200, 10_000, *d).is_none()), Some(10));
    }

    #[test]
    fn it_is_told_why() {
        let told = |day: Counts| {
            let (ceiling, because) = next(&Rule::default(), 200, 10_000, &day);
            words(because, Some(200), ceiling)
        };
        assert_eq!(told(counts(200, 0, 0, 0)), "grew: the day before was within the marks");
        assert_eq!(told(counts(188, 0, 12, 0)), "stays: too many were blocked");
        assert_eq!(told(counts(150, 0, 50, 0)), "halves: too many were blocked");
        assert_eq!(told(counts(200, 0, 0, 4)), "halves: too many complained");
    }

    #[test]
    fn a_rule_keeps_its_ranges() {
        assert_eq!(Rule::default().checked(), Ok(Rule::default()));
        assert_eq!(Rule { start: 9, factor: 1.5 }.checked(), Err(RuleError::Start));
        assert_eq!(Rule { start: 200, factor: f64::NAN }.checked(), Err(RuleError::Factor));
        assert_eq!(Rule { start: 200, factor: 1.0 }.checked(), Err(RuleError::Factor));
    }

    /// A day right at a mark passes it in at most one in twenty, one at twice the second mark for blocks is seen mostly.
    #[test]
    fn marks_are_passed_by_chance_one_day_in_twenty() {
        let mut r = chacha20::ChaCha12Rng::seed_from_u64(11);
        let mut shares = |p: f64, mark: f64| {
            let days = (0..2_000).filter(|_| passed((0..400).filter(|_| r.random_bool(p)).count() as u32, 400, mark)).count();
            days as f64 / 2_000.0
        };
        assert!(shares(1.0 - WARN, 1.0 - WARN) <= 0.05 + 3.0 * (0.05f64 * 0.95 / 2_000.0).sqrt());
        assert!(shares(COMPLAINTS_WARN, COMPLAINTS_WARN) <= 0.065);
        assert!(shares(0.10, 1.0 - ACT) > 0.95);
    }

    /// Hosts of every kind: some block over a rate of their own, some all of it for days, some complain.
    fn host(r: &mut impl Rng, day: i64, sent: u32, kind: u8, limit: u32) -> Counts {
        let blocked = match kind {
            0 => 0,
            1 => sent.saturating_sub(limit),
            2 if (5..12).contains(&day) => sent,
            2 => 0,
            _ => (0..sent).filter(|_| r.random_bool(0.02)).count() as u32,
        };
        let accepted = sent - blocked;
        let complained = if kind == 4 { (0..accepted).filter(|_| r.random_bool(0.008)).count() as u32 } else { 0 };
        Counts { handed: sent, accepted, deferred: 0, blocked, failed: 0, complained }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// Over random hosts: a ceiling grows by no more than its factor a day, is never under its floor, is reached from any state once the host
        /// lets all in, and a host with a limit of its own is blocked by no more than the factor over it, every second day at most.
        #[test]
        fn a_ceiling_behaves(seed: u64, kind in 0u8..5, start in 10u32..500, factor in 1.05f64..3.0, limit in 100u32..3_000) {
            let mut r = chacha20::ChaCha12Rng::seed_from_u64(seed);
            let rule = Rule { start, factor };
            let usual = 5_000;
            let mut ceiling = start;
            for day in 0..60 {
                let counts = host(&mut r, day, ceiling, kind, limit);
                let (after, why) = next(&rule, ceiling, usual, &counts);
                let Some(after) = after else {
                    prop_assert!(rule.grown(ceiling) >= usual && why == Because::Over);
                    break;
                };
                prop_assert!(after <= rule.grown(ceiling) && after >= 10.min(start) && after < usual);
                prop_assert!(after > ceiling || why != Because::Grew);
                if kind == 1 && counts.blocked * 5 > counts.handed && counts.handed > 50 {
                    prop_assert!(after < ceiling || ceiling <= 10, "{counts:?}");
                }
                ceiling = after;
            }
            // All is let in now: it ends within the days that growth alone takes from the floor.
            let mut days = 0;
            while let (Some(after), _) = next(&rule, ceiling, usual, &counts_of(ceiling)) {
                prop_assert!(after > ceiling);
                (ceiling, days) = (after, days + 1);
                prop_assert!(days < 200);
            }
        }

        /// Nobody goes before their day, no day gets more than its room, nobody waits while there is room, and of two whose day has come the one who
        /// answers more never goes later. Everybody goes: small groups aren't starved.
        #[test]
        fn places_keep_the_ceiling(people in prop::collection::vec((0i64..6, 0u8..3), 0..300), start in 1u32..40) {
            let people: Vec<Waiting> = people.into_iter().map(|(day, rank)| Waiting { day, rank }).collect();
            let room = |day: i64| Some(start + 5 * u32::try_from(day).unwrap_or(0));
            let placed = places(&people, room);
            let on = |d: i64| placed.iter().filter(|x| **x == d).count() as u32;
            for (p, day) in people.iter().zip(&placed) {
                prop_assert!(*day >= p.day);
                for d in p.day..*day {
                    prop_assert_eq!(Some(on(d)), room(d));
                }
            }
            for d in 0..50 {
                prop_assert!(on(d) <= room(d).unwrap());
            }
            for (a, at) in people.iter().zip(&placed) {
                for (b, bt) in people.iter().zip(&placed) {
                    prop_assert!(!(a.rank < b.rank && a.day <= *bt && *bt < *at), "{a:?} {at} {b:?} {bt}");
                }
            }
        }

        /// The forecast by numbers is what placing them one by one comes to.
        #[test]
        fn a_forecast_is_what_happens(n in 0u32..2_000, ceiling in 10u32..300, handed in 0u32..300, usual in 300u32..5_000) {
            let room = Room { rule: Rule::default(), ceiling: Some(ceiling), usual, day: 3, handed, taken: HashMap::from([(4, 50)]) };
            let people = vec![Waiting { day: 3, rank: 1 }; n as usize];
            let placed = places(&people, |d| room.on(d));
            let mut by: HashMap<i64, u32> = HashMap::new();
            placed.iter().for_each(|d| *by.entry(*d).or_default() += 1);
            let mut by: Vec<_> = by.into_iter().collect();
            by.sort_unstable();
            prop_assert_eq!(by, spread(n, 3, |d| room.on(d)));
        }
    }

    fn counts_of(n: u32) -> Counts {
        counts(n, 0, 0, 0)
    }
}
