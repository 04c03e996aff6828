//! The record system that ships with Rinse: it takes signed messages as another company's system would,
//! refuses what isn't signed, knows a repetition, and is busy now and then. Each night it sends its own copy of people.

use crate::base::person;
use crate::scenario::Scenario;
use std::collections::{HashMap, HashSet};
use std::fmt::Write;

/// It keeps every so many of the people of the base.
const EVERY: usize = 40;

/// The last Sunday before a day (days since 1970-01-01, which was a Thursday).
#[must_use]
pub fn last_sunday(day: i64) -> i64 {
    day - (day + 4).rem_euclid(7)
}

/// Its file: everybody it keeps but those it took off.
#[must_use]
pub fn nightly(scenario: &Scenario, people: usize, off: &HashSet<String>) -> String {
    let mut out = String::from("E-mail;First name;Last name;Country\n");
    for i in (0..people).step_by(EVERY) {
        let (row, address) = person(scenario, i);
        if off.contains(&address) || !address.contains('@') {
            continue;
        }
        let cells: Vec<&str> = row.split(';').take(4).collect();
        let _ = writeln!(out, "{}", cells.join(";"));
    }
    out
}

/// A message it took.
#[derive(Debug, Clone)]
pub struct Taken {
    pub key: String,
    pub body: String,
    /// How often it came in all, the times it was busy left out.
    pub times: u32,
}

/// What it answers: an HTTP status and a few words.
pub type Answer = (u16, &'static str);

/// The system; everything it knows goes with it.
#[derive(Debug, Default)]
pub struct Records {
    taken: Vec<Taken>,
    by_key: HashMap<String, usize>,
    busy: HashSet<String>,
}

impl Records {
    /// Takes a message whose signature was looked at already.
    pub fn take(&mut self, key: &str, body: &str, signed: bool) -> Answer {
        if !signed {
            return (401, "The signature is not that of a key I know.");
        }
        if let Some(i) = self.by_key.get(key) {
            self.taken[*i].times += 1;
            return (200, "I have it already.");
        }
        // One message in five finds it busy the first time.
        if key.bytes().map(u32::from).sum::<u32>() % 5 == 0 && self.busy.insert(key.to_owned()) {
            return (503, "I am busy: try again later.");
        }
        self.by_key.insert(key.to_owned(), self.taken.len());
        self.taken.push(Taken { key: key.to_owned(), body: body.to_owned(), times: 1 });
        (201, "Taken.")
    }

    /// What it has, in the order it came.
    #[must_use]
    pub fn all(&self) -> &[Taken] {
        &self.taken
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn its_file_is_everybody_it_keeps_but_those_taken_off() {
        let scenario = Scenario::skerry_light();
        let all = nightly(&scenario, 400, &HashSet::new());
        assert_eq!(all.lines().count(), 11, "{all}");
        let one = all.lines().nth(3).and_then(|l| l.split(';').next()).unwrap().to_owned();
        let fewer = nightly(&scenario, 400, &HashSet::from([one.clone()]));
        assert!(fewer.lines().count() == 10 && !fewer.contains(&one));
        // 16 April 2026 is a Thursday, and 12 April the Sunday before.
        assert_eq!((last_sunday(20_559), last_sunday(20_555)), (20_555, 20_555));
    }

    #[test]
    fn each_message_is_kept_once_however_often_it_comes() {
        let mut r = Records::default();
        assert_eq!(r.take("a", "{}", false).0, 401);
        let mut busy = 0;
        for i in 0..200 {
            let key = format!("m{i}");
            while r.take(&key, "{}", true).0 == 503 {
                busy += 1;
            }
            assert_eq!(r.take(&key, "{}", true).0, 200);
        }
        assert_eq!(r.all().len(), 200);
        assert!((20..80).contains(&busy), "{busy} were told to come again, each once");
    }
}
