//! How fast mail goes to a mailbox group whose hosts ask us to slow down: half as fast on each run of replies that ask for it, one step faster
//! after each clean minute (additive increase, multiplicative decrease: Chiu and Jain 1989, Computer Networks 17:1-14).
//!
//! The pace is held by spacing: one message a gap, so that no window of time sees more than its share and one. A mailing's own rate only ever
//! adds to the wait.

use crate::bounce::{Category, Reply};
use crate::{DAY, Instant, MINUTE};

/// So many replies in a row that ask for it halve the pace where it is over a message a second …
const RUN_FAST: u8 = 2;
/// … and so many below: a few in a row say little, and a block that goes on must show as one for the pause (see [`super::pause`]).
const RUN: u8 = 6;
/// It never goes under one message in ten minutes: somebody has to find out that the host lets go.
pub const FLOOR: f64 = 0.1;
/// One step up is the usual pace divided by this: back within a quarter of an hour of clean minutes.
pub const STEPS: f64 = 16.0;
/// A pace under this, in messages a minute, isn't taken for the usual one.
pub const LEAST_USUAL: f64 = 60.0;
/// A host that asked for nothing for so long is forgiven.
const FORGIVEN: i64 = DAY;
/// Anybody who waits is asked again after this, and placed by the pace that holds then; at a slower pace after one gap.
const AHEAD: i64 = 5 * MINUTE;

/// What a host's reply says of the pace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Heard {
    LetIn,
    /// A block, or a deferral that isn't a first meeting.
    Slower,
}

/// Words in which hosts speak of our pace.
const OF_PACE: [&str; 8] = ["rate", "too many", "too much", "too fast", "slow down", "throttl", "limit", "quota exceeded for sender"];

/// What a reply says of the pace, to a message that was tried so often before (0: never); none where it says nothing of it. A host that puts a
/// message off at the first meeting, without a word of our pace, tries strangers only (RFC 6647): the second try gets in.
#[must_use]
pub fn heard(reply: &Reply, tried_before: i64) -> Option<Heard> {
    if reply.accepted() {
        return Some(Heard::LetIn);
    }
    // No reply is a word of nobody.
    if reply.code == 0 {
        return None;
    }
    match reply.category() {
        Category::Policy | Category::Content | Category::Authentication => {
            let text = reply.text.to_lowercase();
            let first_meeting = reply.put_off() && tried_before == 0 && ["greylist", "graylist"].iter().any(|w| text.contains(w));
            (!first_meeting).then_some(Heard::Slower)
        }
        Category::Deferred => {
            let text = reply.text.to_lowercase();
            (tried_before > 0 || reply.code == 421 || OF_PACE.iter().any(|w| text.contains(w))).then_some(Heard::Slower)
        }
        _ => None,
    }
}

/// How a group is held back. Paces are in messages a minute.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Throttle {
    /// The pace at which it went when the trouble began.
    pub usual: f64,
    pub ceiling: f64,
    /// Replies in a row that asked for less.
    pub run: u8,
    /// The minute that is looked at began here …
    pub minute: Instant,
    /// … somebody was let in in it …
    pub good: bool,
    /// … or a reply asked for less.
    pub bad: bool,
    /// The next message goes no sooner.
    pub next: Instant,
    /// The place behind those who wait.
    pub queued: Instant,
    /// When the last reply asked for less.
    pub asked_at: Instant,
}

/// When a message may go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Turn {
    Now,
    At(Instant),
}

impl Throttle {
    /// Is the pace less than usual?
    #[must_use]
    pub fn slows(&self) -> bool {
        self.ceiling < self.usual
    }

    #[allow(clippy::cast_possible_truncation)]
    fn gap(&self) -> i64 {
        (MINUTE as f64 / self.ceiling).ceil() as i64
    }

    /// As it stands at `now`: a clean minute that is over raises it by a step; none when it is over.
    #[must_use]
    pub fn at(mut self, now: Instant) -> Option<Self> {
        if now - self.asked_at > FORGIVEN {
            return None;
        }
        if now - self.minute >= MINUTE {
            if self.good && !self.bad && self.slows() {
                self.ceiling += self.usual / STEPS;
                if !self.slows() {
                    return None;
                }
            }
            (self.minute, self.good, self.bad) = (now, false, false);
        }
        Some(self)
    }

    /// May a message go at `now`? Who may not gets a place behind those who wait.
    pub fn turn(&mut self, now: Instant) -> Turn {
        if !self.slows() {
            return Turn::Now;
        }
        if self.next <= now {
            self.next = now + self.gap();
            return Turn::Now;
        }
        let at = self.queued.max(self.next).min(self.next.max(now + AHEAD));
        self.queued = at + self.gap();
        Turn::At(at)
    }
}

/// What becomes of a group's throttle by a reply. `going`: at how many messages a minute mail goes there now; asked when the trouble begins.
#[must_use]
pub fn after(was: Option<Throttle>, heard: Heard, now: Instant, going: impl FnOnce() -> f64) -> Option<Throttle> {
    match (was.and_then(|t| t.at(now)), heard) {
        (None, Heard::LetIn) => None,
        (None, Heard::Slower) => {
            let usual = going().max(LEAST_USUAL);
            let (run, good, bad) = (1, false, true);
            Some(Throttle { usual, ceiling: usual, run, minute: now, good, bad, next: now, queued: now, asked_at: now })
        }
        // A run that came to nothing.
        (Some(t), Heard::LetIn) if !t.slows() => None,
        (Some(t), Heard::LetIn) => Some(Throttle { run: 0, good: true, ..t }),
        (Some(mut t), Heard::Slower) => {
            (t.run, t.bad, t.asked_at) = (t.run + 1, true, now);
            if t.run >= if t.ceiling > LEAST_USUAL { RUN_FAST } else { RUN } {
                t.run = 0;
                t.ceiling = (t.ceiling / 2.0).max(FLOOR);
                t.next = t.next.max(now + t.gap());
            }
            Some(t)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::HOUR;
    use crate::delivery::pause::Rule;
    use proptest::prelude::*;
    use rstest::rstest;
    use std::collections::{BTreeSet, VecDeque};

    #[rstest]
    #[case("250 2.0.0 queued", 0, Some(Heard::LetIn))]
    #[case("550 5.7.1 blocked: reputation of the sender", 0, Some(Heard::Slower))]
    #[case("451 4.7.1 greylisted, try again later", 0, None)]
    #[case("451 4.7.1 greylisted, try again later", 1, Some(Heard::Slower))]
    #[case("451 4.3.0 try again later", 0, None)]
    #[case("421 4.7.0 too many messages from you", 0, Some(Heard::Slower))]
    #[case("450 4.2.1 you send at a rate that we don't take", 0, Some(Heard::Slower))]
    #[case("550 5.1.1 no such user", 0, None)]
    #[case("552 5.2.2 mailbox full", 3, None)]
    #[case("552 5.3.4 message too big", 0, None)]
    fn a_reply_speaks_of_the_pace_or_not(#[case] line: &str, #[case] tried: i64, #[case] said: Option<Heard>) {
        assert_eq!(heard(&Reply::parse(line), tried), said);
    }

    #[test]
    fn no_answer_is_nobodys_word() {
        assert_eq!(heard(&Reply { code: 0, enhanced: None, text: "no connection: rate".into() }, 4), None);
    }

    /// A mailing of `people` to a host that takes `usual` a minute and blocks between two instants, with the rule of the pause: what went when, and
    /// how much of it was blocked.
    fn sent(people: usize, usual: i64, blocks: (i64, i64)) -> (Vec<i64>, usize) {
        let rule = Rule::default();
        let (mut throttle, mut went, mut blocked): (Option<Throttle>, Vec<i64>, usize) = (None, Vec::new(), 0);
        let (mut hour, mut paused): (VecDeque<(i64, bool)>, i64) = (VecDeque::new(), 0);
        let mut waits: BTreeSet<(i64, usize)> = (0..people).map(|i| (i as i64 * MINUTE / usual, i)).collect();
        while let Some((at, i)) = waits.pop_first() {
            if at < paused {
                waits.insert((paused, i));
                continue;
            }
            let now = Instant::of(at);
            throttle = throttle.and_then(|t| t.at(now));
            match throttle.as_mut().map_or(Turn::Now, |t| t.turn(now)) {
                Turn::At(later) => {
                    assert!(later > now, "who waits is asked later");
                    waits.insert((later.millis(), i));
                }
                Turn::Now => {
                    went.push(at);
                    let refused = (blocks.0..blocks.1).contains(&at);
                    blocked += usize::from(refused);
                    throttle = after(throttle, if refused { Heard::Slower } else { Heard::LetIn }, now, || usual as f64);
                    hour.push_back((at, refused));
                    while hour.front().is_some_and(|(t, _)| at - t > HOUR) {
                        hour.pop_front();
                    }
                    if rule.pauses(hour.iter().filter(|h| h.1).count() as u64, hour.len() as u64) {
                        paused = at + rule.lasts();
                        hour.clear();
                    }
                }
            }
        }
        (went, blocked)
    }

    /// Of 10,000 messages a block of six hours takes less than one in a hundred, and an hour after it all goes as before.
    #[rstest]
    #[case(60)]
    #[case(500)]
    #[case(3_000)]
    fn a_block_of_six_hours_costs_few_and_is_over_soon(#[case] usual: i64) {
        let blocks = (3 * MINUTE, 3 * MINUTE + 6 * HOUR);
        let (went, blocked) = sent(10_000, usual, blocks);
        assert_eq!(went.len(), 10_000);
        assert!(blocked <= 100, "{blocked}");
        // The pause ends two hours after the host let go at the latest, and an hour later the pace is the usual one again.
        let back = blocks.1 + 3 * HOUR;
        let left = went.iter().filter(|t| **t >= back).count() as i64;
        let minute = went.iter().filter(|t| (back..back + MINUTE).contains(*t)).count() as i64;
        assert!(left < 2 * usual || 2 * minute >= usual, "{minute} a minute of {usual}, {left} left");
    }

    /// Without the pause it is back within the hour.
    #[test]
    fn it_is_back_within_the_hour() {
        let mut t = None;
        for i in 0..400 {
            t = after(t, Heard::Slower, Instant::of(i * 1_000), || 3_000.0);
        }
        assert_eq!(t.map(|t| t.ceiling), Some(FLOOR));
        let (mut now, from) = (Instant::of(400_000), Instant::of(400_000));
        while let Some(mut held) = t {
            match held.turn(now) {
                Turn::Now => t = after(Some(held), Heard::LetIn, now, || 0.0),
                Turn::At(_) => {
                    now = held.next;
                    t = held.at(now);
                }
            }
            assert!(now - from < HOUR);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// No window holds more than the pace and one; a clean host gets the pace back within the hour; a throttle ends by itself.
        #[test]
        fn never_over_the_ceiling_and_never_for_ever(replies in prop::collection::vec((any::<bool>(), 0i64..20_000), 1..400), usual in 60.0f64..5_000.0) {
            let mut t = None;
            let mut now = Instant::of(0);
            for (good, wait) in replies {
                now = now + wait;
                t = after(t, if good { Heard::LetIn } else { Heard::Slower }, now, || usual);
                if let Some(t) = t {
                    prop_assert!((FLOOR..=t.usual).contains(&t.ceiling));
                }
            }
            // Turns at the pace that stands: each a gap behind the one before.
            if let Some(mut held) = t.filter(Throttle::slows) {
                let mut last: Option<Instant> = None;
                let mut at = now;
                for _ in 0..200 {
                    match held.turn(at) {
                        Turn::Now => {
                            if let Some(last) = last {
                                prop_assert!((at - last) as f64 + 1.0 >= 60_000.0 / held.ceiling);
                            }
                            last = Some(at);
                            at = at + 1;
                        }
                        Turn::At(later) => {
                            prop_assert!(later > at);
                            at = held.next;
                        }
                    }
                }
            }
            // The host lets all in from here on.
            let (mut t, end) = (t, now + HOUR);
            while now < end {
                let turn = match t.and_then(|t| t.at(now)) {
                    None => { t = None; break }
                    Some(mut held) => { let turn = held.turn(now); t = Some(held); turn }
                };
                match turn {
                    Turn::Now => { t = after(t, Heard::LetIn, now, || usual); now = now + 1; }
                    Turn::At(at) => now = at.max(now + 1),
                }
            }
            prop_assert!(t.is_none_or(|t| !t.slows()), "{t:?}");
            // Nothing goes there, and nobody asks for less: it is forgiven.
            prop_assert!(t.is_none_or(|t| t.at(now + 2 * DAY).is_none()));
        }

        /// A group that is held back takes nobody's place in another: who waits is never placed before its own turn, nor after it by more than
        /// five minutes or a gap.
        #[test]
        fn who_waits_is_asked_again_soon(ceiling in 0.1f64..59.0, n in 1usize..300) {
            let now = Instant::of(0);
            let mut t = Throttle { usual: 60.0, ceiling, run: 0, minute: now, good: false, bad: false, next: now, queued: now, asked_at: now };
            prop_assert_eq!(t.turn(now), Turn::Now);
            for _ in 0..n {
                let Turn::At(at) = t.turn(now) else { return Err(TestCaseError::fail("over the ceiling")) };
                prop_assert!(at - now <= AHEAD.max(t.gap()) && at >= t.next);
            }
        }
    }
}
