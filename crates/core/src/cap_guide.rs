//! The cap guide: how people answered and left, by how many messages they had got in 28 days.
//!
//! One message a person, drawn at random, so that people count once and the intervals hold. This is
//! no experiment: people who get more mail differ in other ways too, and the screen says so.

use crate::report::Rate;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::ops::AddAssign;

/// The days before a message in which messages are counted, that one included.
pub const DAYS: i64 = 28;
/// A band with fewer people is put together with the next.
pub const ENOUGH: u64 = 100;

/// One drawn message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Drawn {
    /// Messages the person got in the 28 days up to it.
    pub got: u32,
    /// A human open, click or reply.
    pub answered: bool,
    /// Whether they opened can't be known: then no answer isn't known to be none, and they are left out of that rate.
    pub opens_unknown: bool,
    pub withdrew: bool,
    pub left_topic: bool,
    pub complained: bool,
}

/// People who had got so many messages.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Band {
    pub from: u32,
    /// None: and more.
    pub to: Option<u32>,
    pub answered: Rate,
    pub withdrew: Rate,
    pub left_topic: Rate,
    pub complained: Rate,
}

/// What the drawn messages of people who had got as many add up to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sums {
    people: u64,
    /// Of whom it can be known whether they opened, and who of them answered.
    known: u64,
    answered: u64,
    withdrew: u64,
    left_topic: u64,
    complained: u64,
}

impl AddAssign for Sums {
    fn add_assign(&mut self, o: Self) {
        self.people += o.people;
        self.known += o.known;
        self.answered += o.answered;
        self.withdrew += o.withdrew;
        self.left_topic += o.left_topic;
        self.complained += o.complained;
    }
}

/// Everybody's drawn messages, added up by how many messages people had got.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counted(BTreeMap<u32, Sums>);

impl Counted {
    pub fn add(&mut self, d: &Drawn) {
        *self.0.entry(d.got).or_default() += Sums {
            people: 1,
            known: u64::from(!d.opens_unknown),
            answered: u64::from(d.answered && !d.opens_unknown),
            withdrew: u64::from(d.withdrew),
            left_topic: u64::from(d.left_topic),
            complained: u64::from(d.complained),
        };
    }

    #[must_use]
    pub fn people(&self) -> u64 {
        self.0.values().map(|s| s.people).sum()
    }
}

impl AddAssign for Counted {
    fn add_assign(&mut self, other: Self) {
        other.0.into_iter().for_each(|(got, sums)| *self.0.entry(got).or_default() += sums);
    }
}

/// The bands, fewest messages first: each number of messages by itself where enough people got it.
#[must_use]
pub fn bands(counted: &Counted) -> Vec<Band> {
    let most = counted.0.keys().copied().max().unwrap_or(0);
    let mut out: Vec<(u32, u32, Sums)> = Vec::new();
    let mut open: Option<(u32, Sums)> = None;
    let mut after = 1;
    for (&got, sums) in counted.0.range(1..) {
        let (from, mut people) = open.take().unwrap_or((after, Sums::default()));
        people += *sums;
        if people.people >= ENOUGH {
            out.push((from, got, people));
            after = got + 1;
        } else {
            open = Some((from, people));
        }
    }
    // What is left at the end is too few for a band of its own.
    if let Some((from, people)) = open {
        match out.last_mut() {
            Some(last) => {
                last.1 = most;
                last.2 += people;
            }
            None => out.push((from, most, people)),
        }
    }
    let last = out.len();
    out.into_iter()
        .enumerate()
        .map(|(i, (from, to, sums))| Band {
            from,
            to: (i + 1 < last || from == to).then_some(to),
            answered: Rate::new(sums.answered, sums.known),
            withdrew: Rate::new(sums.withdrew, sums.people),
            left_topic: Rate::new(sums.left_topic, sums.people),
            complained: Rate::new(sums.complained, sums.people),
        })
        .collect()
}

/// What the bands say, in a sentence: the most mailed against the least, only where the intervals part.
#[must_use]
pub fn finding(bands: &[Band]) -> String {
    let [first, .., last] = bands else {
        return "Too few people got different amounts of mail to compare.".into();
    };
    let named = |b: &Band| match b.to {
        Some(to) if to == b.from => format!("{} in {DAYS} days", b.from),
        Some(to) => format!("{} to {to} in {DAYS} days", b.from),
        None => format!("{} or more in {DAYS} days", b.from),
    };
    let apart = |a: &Rate, b: &Rate| a.upper.zip(b.lower).is_some_and(|(a, b)| a < b);
    let word = |a: &Rate, b: &Rate| {
        if apart(a, b) {
            Some("more often")
        } else if apart(b, a) {
            Some("less often")
        } else {
            None
        }
    };
    let parts: Vec<String> = [
        ("answer", word(&first.answered, &last.answered)),
        ("withdraw", word(&first.withdrew, &last.withdrew)),
        ("leave the topic", word(&first.left_topic, &last.left_topic)),
        ("complain", word(&first.complained, &last.complained)),
    ]
    .into_iter()
    .filter_map(|(what, how)| how.map(|how| format!("{what} {how}")))
    .collect();
    if parts.is_empty() {
        format!("People who got {} differ from those who got {} by no more than chance may.", named(last), named(first))
    } else {
        format!("People who got {} {}, message for message, than those who got {}.", named(last), parts.join(" and "), named(first))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn drawn() -> impl Strategy<Value = Drawn> {
        (1u32..12, any::<[bool; 5]>()).prop_map(|(got, [answered, opens_unknown, withdrew, left_topic, complained])| Drawn {
            got,
            answered,
            opens_unknown,
            withdrew,
            left_topic,
            complained,
        })
    }

    fn counted(of: &[Drawn]) -> Counted {
        let mut all = Counted::default();
        of.iter().for_each(|d| all.add(d));
        all
    }

    proptest! {
        /// Everybody is in exactly one band, bands follow one another, and each has enough people.
        #[test]
        fn bands_part_the_people(all in prop::collection::vec(drawn(), 0..900)) {
            let bands = bands(&counted(&all));
            prop_assert_eq!(bands.iter().map(|b| b.withdrew.of).sum::<u64>(), all.len() as u64);
            let known = |d: &&Drawn| !d.opens_unknown;
            prop_assert_eq!(bands.iter().map(|b| b.answered.of).sum::<u64>(), all.iter().filter(known).count() as u64);
            prop_assert_eq!(bands.iter().map(|b| b.answered.count).sum::<u64>(), all.iter().filter(known).filter(|d| d.answered).count() as u64);
            prop_assert!(bands.windows(2).all(|w| w[0].to.is_some_and(|to| to + 1 == w[1].from)));
            prop_assert!(bands.len() < 2 || bands.iter().all(|b| b.withdrew.of >= ENOUGH));
        }
    }

    #[test]
    fn nothing_is_said_that_the_intervals_do_not_bear() {
        let person = |got, withdrew| Drawn { got, answered: false, opens_unknown: false, withdrew, left_topic: false, complained: false };
        let base = |leave: usize| -> Vec<Drawn> {
            let few = (0..500).map(|_| person(1, false));
            few.chain((0..500).map(|i| person(6, i < leave))).collect()
        };
        assert!(finding(&bands(&counted(&base(50)))).contains("withdraw more often"));
        assert!(finding(&bands(&counted(&base(2)))).contains("no more than chance"));
        assert!(finding(&bands(&counted(&[]))).contains("Too few"));
    }
}
