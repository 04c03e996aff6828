//! Mailings of a log that names none: what went under one subject at about one time.

use super::{Event, Kind};
use crate::{HOUR, Instant};
use std::collections::{BTreeMap, HashMap};

/// Messages of one subject that went further apart than this are of two mailings: one that is held back, or goes at everybody's own hour, takes a
/// day, and nobody sends the same twice within it.
pub const APART: i64 = 24 * HOUR;
/// Subjects and hours that are told apart in one file: more of them are no mailings.
pub const MOST: usize = 20_000;

/// A mailing as it is proposed.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
#[schema(as = ProposedMailing)]
pub struct Proposal {
    pub key: String,
    pub subject: String,
    /// The hour of its first message, and that of its last (milliseconds since 1970).
    pub from: i64,
    pub until: i64,
    /// Rows that say that a message went.
    pub rows: u64,
}

/// The rows of a log that say that messages went, by subject and hour.
#[derive(Debug, Clone, Default)]
pub struct Gathering {
    subjects: BTreeMap<String, BTreeMap<i64, u64>>,
    hours: usize,
}

impl Gathering {
    /// Sees an event. One that has a key, or no subject, is of no mailing that is proposed.
    pub fn see(&mut self, e: &Event) {
        let goes = matches!(e.kind, Kind::Sent | Kind::Accepted | Kind::Deferred | Kind::Bounced);
        if !goes || !e.mailing.is_empty() || e.subject.is_empty() || self.is_full() {
            return;
        }
        let hour = e.at.millis().div_euclid(HOUR);
        let seen = self.subjects.entry(e.subject.clone()).or_default().entry(hour).or_default();
        self.hours += usize::from(*seen == 0);
        *seen += 1;
    }

    /// Were there more subjects and hours than mailings have?
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.hours >= MOST
    }

    /// The mailings that it comes to, subject by subject.
    #[must_use]
    pub fn proposals(&self) -> Vec<Proposal> {
        let mut out: Vec<Proposal> = Vec::new();
        for (subject, hours) in &self.subjects {
            let mut last: Option<Proposal> = None;
            for (hour, rows) in hours {
                let at = hour * HOUR;
                match &mut last {
                    Some(p) if at - p.until <= APART => (p.until, p.rows) = (at, p.rows + rows),
                    _ => out.extend(last.replace(Proposal {
                        key: key(subject, at),
                        subject: subject.clone(),
                        from: at,
                        until: at,
                        rows: *rows,
                    })),
                }
            }
            out.extend(last);
        }
        out
    }
}

/// The key of a mailing that has none of its own: its subject and its first hour, in UTC.
fn key(subject: &str, at: i64) -> String {
    let short: String = subject.chars().take(40).collect();
    format!("{short}, {}", Instant::of(at).words())
}

/// Whose event it is, by the mailings that were proposed.
#[derive(Debug, Clone, Default)]
pub struct Proposed {
    /// By subject: when each begins, ascending, and its key.
    of: HashMap<String, Vec<(i64, String)>>,
}

impl Proposed {
    #[must_use]
    pub fn new(proposals: &[Proposal]) -> Self {
        let mut of: HashMap<String, Vec<(i64, String)>> = HashMap::new();
        for p in proposals {
            of.entry(p.subject.clone()).or_default().push((p.from, p.key.clone()));
        }
        of.values_mut().for_each(|all| all.sort_unstable());
        Self { of }
    }

    /// The mailing of an event that names none: the last of its subject that had begun by then.
    #[must_use]
    pub fn key_of(&self, subject: &str, at: Instant) -> Option<&str> {
        let all = self.of.get(subject)?;
        let begun = all.partition_point(|(from, _)| *from <= at.millis());
        Some(all.get(begun.checked_sub(1)?)?.1.as_str())
    }

    /// Gives an event without a key that of its mailing.
    pub fn name(&self, e: &mut Event) {
        if e.mailing.is_empty()
            && let Some(key) = self.key_of(&e.subject, e.at)
        {
            e.mailing = key.to_owned();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::Address;
    use proptest::prelude::*;

    fn event(subject: &str, kind: Kind, at: i64) -> Event {
        Event {
            address: Address::parse("wren@tern.example").unwrap(),
            mailing: String::new(),
            subject: subject.into(),
            kind,
            at: Instant::of(at),
            key: String::new(),
            agent: String::new(),
            link: String::new(),
            reply: String::new(),
            cents: 0,
            currency: String::new(),
        }
    }

    proptest! {
        /// Whatever the order of rows: each message is of one mailing of its subject, which begins in its hour or before and ends in it or after;
        /// mailings of a subject are further apart than their messages; an answer is of the last that had begun.
        #[test]
        fn every_message_is_of_one_mailing(mut sent in prop::collection::vec((0usize..3, 0i64..400), 1..60), later in 0i64..600) {
            let subjects = ["Tide notes", "Boat days", "Ünder the lamp"];
            let gather = |sent: &[(usize, i64)]| {
                let mut g = Gathering::default();
                sent.iter().for_each(|(s, hour)| g.see(&event(subjects[*s], Kind::Accepted, hour * HOUR + 7)));
                g.proposals()
            };
            let found = gather(&sent);
            let proposed = Proposed::new(&found);
            prop_assert_eq!(found.iter().map(|p| p.rows).sum::<u64>(), sent.len() as u64);
            for (s, hour) in &sent {
                let key = proposed.key_of(subjects[*s], Instant::of(hour * HOUR + 7)).unwrap();
                let p = found.iter().find(|p| p.key == key).unwrap();
                prop_assert!(p.subject == subjects[*s] && p.from <= hour * HOUR && hour * HOUR <= p.until);
            }
            for (a, b) in found.iter().zip(&found[1..]).filter(|(a, b)| a.subject == b.subject) {
                prop_assert!(b.from - a.until > APART && a.key != b.key);
            }
            let at = later * HOUR;
            let want = found.iter().filter(|p| p.subject == subjects[0] && p.from <= at).map(|p| p.key.as_str()).next_back();
            prop_assert_eq!(proposed.key_of(subjects[0], Instant::of(at)), want);
            sent.reverse();
            prop_assert_eq!(gather(&sent), found);
        }
    }

    #[test]
    fn what_has_a_key_or_is_an_answer_proposes_nothing() {
        let mut g = Gathering::default();
        g.see(&event("Tide notes", Kind::Opened, 0));
        g.see(&event("", Kind::Sent, 0));
        g.see(&Event { mailing: "K-7".into(), ..event("Tide notes", Kind::Sent, 0) });
        assert_eq!(g.proposals(), []);
        assert_eq!(Proposed::default().key_of("Tide notes", Instant::of(0)), None);
        (0..2 * MOST as i64).for_each(|i| g.see(&event("Tide notes", Kind::Sent, i * 30 * HOUR)));
        assert!(g.is_full() && g.proposals().len() == MOST);
    }
}
