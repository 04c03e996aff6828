//! Another system that sends: it has letters, a list of addresses and a log of its own, sends through the network by itself, and knows nothing of
//! Rinse. Its log is in German, in local times, in words of its own.

use crate::network::{Event, Handed, Network, Result, What};
use rinse_core::zone::{TimeZone, named, stamp};
use rinse_core::{DAY, Instant, MINUTE};
use std::collections::{HashMap, HashSet};

/// Where its links lead and its mail comes from.
const HOST: &str = "post.harbour-circle.example";
/// A host that puts a message off is asked again after these many minutes.
const AGAIN: [i64; 4] = [15, 45, 120, 360];
/// Its times are of this zone, and its log doesn't say so.
pub const ZONE: &str = "Europe/Berlin";

/// Something that it sends to many.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letter {
    /// How its log names it; no full stop in it.
    pub key: String,
    pub subject: String,
    pub topic: String,
    pub at: Instant,
}

/// A line of its log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    pub at: Instant,
    pub address: String,
    pub letter: String,
    pub what: Told,
    /// The program that fetched, or what a host said.
    pub detail: String,
    pub page: String,
}

/// What its log tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Told {
    HandedOver,
    Delivered,
    PutOff,
    CameBack,
    Opened,
    Clicked,
    Answered,
    Complained,
    Left,
}

impl Told {
    /// As the log words it.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::HandedOver => "versendet",
            Self::Delivered => "zugestellt",
            Self::PutOff => "verzögert",
            Self::CameBack => "unzustellbar",
            Self::Opened => "geöffnet",
            Self::Clicked => "geklickt",
            Self::Answered => "beantwortet",
            Self::Complained => "Beschwerde",
            Self::Left => "abgemeldet",
        }
    }
}

/// The letters of a year before an instant, the first the oldest.
#[must_use]
pub fn year(letters: usize, until: Instant) -> Vec<Letter> {
    const SUBJECTS: [(&str, &str); 4] =
        [("Harbour notes", "Notes"), ("The keeper writes", "Notes"), ("From the boat shed", "Boats"), ("Free seats on the pier", "Boats")];
    let every = 360 * DAY / i64::try_from(letters.max(1)).unwrap_or(1);
    let letter = |i: usize| {
        let (subject, topic) = SUBJECTS[i % SUBJECTS.len()];
        Letter {
            key: format!("HC{:03}", i + 1),
            subject: format!("{subject}, {}", i + 1),
            topic: topic.to_owned(),
            at: until + -(every * i64::try_from(letters - i).unwrap_or(1)),
        }
    };
    (0..letters).map(letter).collect()
}

/// The system at work: the network that it sends through, and whose each of its messages is.
pub struct Sender {
    network: Network,
    whose: HashMap<String, String>,
}

impl Sender {
    #[must_use]
    pub fn new(network: Network) -> Self {
        Self { network, whose: HashMap::new() }
    }

    /// Sends a letter to these addresses, and says what became of that up to an instant, and of its earlier letters meanwhile.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn send(&mut self, letter: &Letter, people: &[String], until: Instant) -> Result<Vec<Row>> {
        self.whose.extend(people.iter().enumerate().map(|(i, a)| (number(letter, i), a.clone())));
        let mut rows = self.hand_over(letter, people)?;
        loop {
            let some = self.network.due(until, 5_000)?;
            if some.is_empty() {
                break;
            }
            rows.extend(some.iter().filter_map(|e| self.heard(e)));
            self.network.done(&some)?;
        }
        rows.sort_by(|a, b| (a.at, &a.address).cmp(&(b.at, &b.address)));
        Ok(rows)
    }

    /// Each message until its host has said yes or no, or has put it off for too long.
    fn hand_over(&self, letter: &Letter, people: &[String]) -> Result<Vec<Row>> {
        let mut rows = Vec::new();
        let mut waiting: Vec<usize> = (0..people.len()).collect();
        let mut at = letter.at;
        for wait in AGAIN.into_iter().map(Some).chain([None]) {
            let made: Vec<(String, String, Vec<u8>)> = waiting.iter().map(|&i| message(letter, i, &people[i])).collect();
            let batch: Vec<Handed<'_>> = waiting
                .iter()
                .zip(&made)
                .map(|(&i, (id, back, bytes))| Handed { message_id: id, return_path: back, to: &people[i], bytes })
                .collect();
            let replies = self.network.hand_over(at, &batch)?;
            for (i, reply) in std::mem::take(&mut waiting).into_iter().zip(&replies) {
                let row = |at: Instant, what: Told, detail: String| Row {
                    at,
                    address: people[i].clone(),
                    letter: letter.key.clone(),
                    what,
                    detail,
                    page: String::new(),
                };
                rows.push(row(at, Told::HandedOver, String::new()));
                let again = reply.try_again() && wait.is_some();
                let (what, said) = match reply.accepted() {
                    true => (Told::Delivered, String::new()),
                    false if again => (Told::PutOff, reply.line()),
                    false => (Told::CameBack, reply.line()),
                };
                rows.push(row(at + MINUTE, what, said));
                waiting.extend(again.then_some(i));
            }
            let Some(wait) = wait.filter(|_| !waiting.is_empty()) else { break };
            at = at + wait * MINUTE;
        }
        Ok(rows)
    }

    /// What an event from outside is to it; none: it doesn't know whose it is, or it is no answer.
    fn heard(&self, e: &Event) -> Option<Row> {
        let row = |n: &str, what: Told, detail: &str, page: &str| {
            let letter = n.rsplit_once('-')?.0.to_owned();
            Some(Row { at: e.at, address: self.whose.get(n)?.clone(), letter, what, detail: detail.to_owned(), page: page.to_owned() })
        };
        match &e.what {
            What::Http { url, agent, .. } => {
                let mut path = url.strip_prefix("https://")?.split('/').skip(1);
                match (path.next()?, path.next()?, path.next()) {
                    ("o", n, _) => row(n, Told::Opened, agent, ""),
                    ("c", n, Some(page)) => row(n, Told::Clicked, agent, &format!("https://harbour-circle.example/{page}")),
                    ("l", n, _) => row(n, Told::Left, "", ""),
                    _ => None,
                }
            }
            What::Mail { to, raw } => {
                let text = String::from_utf8_lossy(raw);
                let local = to.split('@').next()?;
                match local.split_once('+') {
                    Some(("re", n)) if !text.contains("Auto-Submitted:") && !text.contains("From: Gatekeeper") => {
                        row(n, Told::Answered, "", "")
                    }
                    Some(_) => None,
                    None if text.contains("report-type=feedback-report") => row(local.strip_prefix("back-")?, Told::Complained, "", ""),
                    None => {
                        let said = text.split("Diagnostic-Code: smtp; ").nth(1)?.lines().next()?;
                        row(local.strip_prefix("back-")?, Told::CameBack, said, "")
                    }
                }
            }
        }
    }
}

/// Whom it doesn't write to any more, by its own log: who left, complained, or has no mailbox there.
#[must_use]
pub fn gone(rows: &[Row]) -> HashSet<String> {
    let ends = |r: &&Row| match r.what {
        Told::Complained | Told::Left => true,
        Told::CameBack => r.detail.contains(" 5.1."),
        _ => false,
    };
    rows.iter().filter(ends).map(|r| r.address.clone()).collect()
}

/// The number of a message: the letter's key and whose it is.
fn number(letter: &Letter, i: usize) -> String {
    format!("{}-{i}", letter.key)
}

/// A message's number, where what comes back of it goes, and itself.
fn message(letter: &Letter, i: usize, to: &str) -> (String, String, Vec<u8>) {
    let n = number(letter, i);
    let text = format!(
        "From: Harbour Circle <letters@{HOST}>\r\nTo: {to}\r\nReply-To: re+{n}@{HOST}\r\nSubject: {}\r\nMessage-ID: <{n}@{HOST}>\r\n\
         List-Unsubscribe: <https://{HOST}/l/{n}>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\nMIME-Version: 1.0\r\n\
         Content-Type: text/html; charset=utf-8\r\n\r\n<p>Dear friend of the harbour, <a href=\"https://{HOST}/c/{n}/boats\">the boats</a> and \
         <a href=\"https://{HOST}/c/{n}/tides\">the tides</a> are on our pages.</p><img src=\"https://{HOST}/o/{n}\">\r\n",
        letter.subject
    );
    let back = format!("back-{n}@{HOST}");
    (n, back, text.into_bytes())
}

/// An instant as its log writes it: local, and without its zone.
fn local(at: Instant) -> String {
    let zone = named(ZONE).unwrap_or(TimeZone::UTC);
    zone.to_datetime(stamp(at)).strftime("%d.%m.%Y %H:%M:%S").to_string()
}

/// A row of its log as cells, under [`HEADER`].
#[must_use]
pub fn cells(r: &Row) -> [String; 7] {
    let (agent, said) = match r.what {
        Told::Opened | Told::Clicked => (r.detail.clone(), String::new()),
        _ => (String::new(), r.detail.clone()),
    };
    [r.address.clone(), r.letter.clone(), r.what.words().to_owned(), local(r.at), agent, r.page.clone(), said]
}

/// The names of the log's columns.
pub const HEADER: [&str; 7] = ["Empfänger", "Aussendung", "Ereignis", "Zeitpunkt", "Programm", "Seite", "Antwort"];
/// The names of the columns of its table of letters.
pub const LETTERS: [&str; 5] = ["Aussendung", "Betreff", "Thema", "Versendet am", "Empfängerzahl"];

/// A letter as cells, under [`LETTERS`].
#[must_use]
pub fn letter_cells(l: &Letter, people: usize) -> [String; 5] {
    [l.key.clone(), l.subject.clone(), l.topic.clone(), local(l.at), people.to_string()]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scenario::{BEGINS, Scenario};

    /// Each message is told of from its handover on, anybody who answers was written to, and who is gone isn't written to again.
    #[test]
    fn its_log_tells_of_what_it_sent() {
        let folder = tempfile::tempdir().unwrap();
        let start = BEGINS;
        let network = Network::open(folder.path(), Scenario::skerry_light(), start, false).unwrap();
        let domains = ["tern.example", "slowpost.example", "oldlamp.example", "harbour-office.example"];
        let people: Vec<String> =
            (0..800).map(|i| format!("{}wren{i}@{}", if i % 20 == 19 { "gone." } else { "" }, domains[i % domains.len()])).collect();
        let letter = &year(4, start + 360 * DAY)[1];
        let rows = Sender::new(network).send(letter, &people, letter.at + 21 * DAY).unwrap();
        let of = |what: Told| rows.iter().filter(|r| r.what == what).map(|r| r.address.as_str()).collect::<HashSet<_>>();
        assert_eq!(of(Told::HandedOver).len(), people.len());
        assert!(of(Told::PutOff).iter().all(|a| a.ends_with("slowpost.example")) && of(Told::PutOff).len() == 200);
        assert!(of(Told::Opened).len() > 100 && of(Told::Clicked).len() > 20 && of(Told::Opened).is_subset(&of(Told::Delivered)));
        let no_more = gone(&rows);
        assert!(people.iter().filter(|a| a.starts_with("gone.")).all(|a| no_more.contains(a)), "{}", no_more.len());
        assert!(rows.iter().all(|r| r.at >= letter.at && r.at < letter.at + 21 * DAY && r.letter == letter.key));
        let kinds = rows.iter().map(|r| rinse_core::history::Kind::read(r.what.words())).collect::<HashSet<_>>();
        assert!(!kinds.contains(&None) && kinds.len() >= 7, "{kinds:?}");
    }
}
