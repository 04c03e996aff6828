//! The check of a text message before it may be planned. Errors stop, warnings ask.

use super::parts::{Alphabet, outside, size};
use super::template::{SEND_PLACEHOLDERS, Template, placeholders};
use super::words::{Said, said};
use crate::message::{Finding, Level, TemplateError, placeholders_of, words};
use std::collections::BTreeMap;

/// A message in more parts than this is a letter, and networks drop it.
pub const MOST_PARTS: usize = 10;
/// What goes at the end where the way out is missing.
const WAY_OUT: &str = "\nReply STOP to end.";

/// A text message as it is written.
#[derive(Debug, Clone, Default)]
pub struct TextDraft {
    pub body: String,
    /// The letterhead's name, and the number that it writes from; empty: it has none.
    pub sender_name: String,
    pub number: String,
    /// Something the recipients expect: it needs no way out.
    pub service: bool,
    /// The placeholders of custom fields.
    pub own: Vec<String>,
    /// Over how many hours it goes out, from the first to the last person.
    pub over_hours: i64,
    /// In how many parts people get it, of those it was filled for: place 0 is one part.
    pub parts: Vec<u64>,
}

/// Checks a text message. `missing` says for each placeholder that may lack a value how many of the audience have none.
#[must_use]
pub fn check(d: &TextDraft, missing: &BTreeMap<String, u64>, audience: u64) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut add = |level, part: &str, words: String| {
        found.push(Finding::new(level, part, None, words));
        found.len() - 1
    };
    if d.number.is_empty() {
        let words = "The letterhead has no number for text messages. Add it to the letterhead: people answer it to end them.";
        add(Level::Error, "letterhead", words.into());
    }
    if d.body.trim().is_empty() {
        add(Level::Error, "text", "The message is empty. Write it.".into());
        return found;
    }
    if !says_something(d) {
        add(Level::Warning, "text", "The message says nothing but who it is from and how to end it. Write what it is about.".into());
    }
    if !d.service && !names_way_out(&d.body) {
        let words = "The message doesn't say how to end text messages. Put “Reply STOP to end.” where it is read.".into();
        let at = add(Level::Error, "text", words);
        found[at] = found[at].clone().fixed_by("Put it at the end", "", WAY_OUT);
    }
    let named = d.body.contains("sender_name") || d.sender_name.is_empty() || d.body.to_lowercase().contains(&d.sender_name.to_lowercase());
    if !named {
        let words = format!("The message doesn't say who it is from: a number says nothing. Name {} in it.", d.sender_name);
        found.push(Finding::new(Level::Warning, "text", None, words).fixed_by("Put the name at the end", "", "\n{{ sender_name }}"));
    }
    check_length(d, &mut found);
    if let Some(word) = words::marketing(&d.body).filter(|_| d.service) {
        let words = format!("This is a service message, and it says {word:?}. Send offers as marketing, which asks for consent.");
        found.push(Finding::new(Level::Warning, "text", None, words));
    }
    if let Some(word) = words::hourly(&d.body).filter(|_| d.over_hours > 3) {
        let words = format!("It says {word:?} and goes out over {} hours: for some readers that is wrong. Name the day.", d.over_hours);
        found.push(Finding::new(Level::Warning, "text", None, words));
    }
    let known: Vec<&str> = placeholders(d.own.iter().map(String::as_str)).collect();
    placeholders_of(&known, "text", (&d.body, &d.body), (missing, audience), &mut found);
    found.sort_by_key(|f| f.level != Level::Error);
    found
}

/// Does a line of it tell a word that ends text messages?
fn names_way_out(body: &str) -> bool {
    body.split(|c: char| !c.is_alphanumeric()).any(|word| said(word) == Said::Stop && word.chars().all(char::is_uppercase))
}

/// Is there anything in it beside the sender's name and the way out? What a placeholder of the person's stands for is something.
fn says_something(d: &TextDraft) -> bool {
    let own = d.own.iter().map(String::as_str);
    let stands_for = |name| (name, if SEND_PLACEHOLDERS.contains(&name) { " " } else { "x" });
    // What can't be read is found elsewhere.
    let Ok(body) = Template::new(&d.body).and_then(|t| t.fill(placeholders(own).map(stands_for))) else { return true };
    let body = body.replace(&d.sender_name, " ");
    body.split(['.', ',', ':', ';', '!', '?', '–', '\n']).any(|part| part.chars().any(char::is_alphanumeric) && !names_way_out(part))
}

fn check_length(d: &TextDraft, found: &mut Vec<Finding>) {
    let drawn: u64 = d.parts.iter().sum();
    let most = d.parts.len();
    if most > MOST_PARTS {
        let words = format!("For some it takes {most} parts; more than {MOST_PARTS} don't arrive. Shorten it, or send an email.");
        found.push(Finding::new(Level::Error, "text", None, words));
    } else if most > 1 {
        let each = d.parts.iter().enumerate().filter(|(_, n)| **n > 0);
        let each: Vec<String> =
            each.map(|(i, n)| format!("{n} in {}", if i == 0 { "one".into() } else { format!("{} parts", i + 1) })).collect();
        let words = format!("Of {drawn} people it was filled for: {}. Each part is paid for as a message.", each.join(", "));
        found.push(Finding::new(Level::Warning, "text", None, words));
    }
    if size(&d.body).alphabet == Alphabet::Ucs2
        && let Some((c, instead)) = outside(&d.body)
    {
        let words = format!("The character {c:?} is not in the networks' default alphabet: with it a part holds 70 characters, not 160.");
        let finding = Finding::new(Level::Warning, "text", None, words);
        found.push(match instead {
            Some(" ") => finding.fixed_by("Write a plain space for it", &c.to_string(), " "),
            Some(instead) => finding.fixed_by(&format!("Write {instead} for it"), &c.to_string(), instead),
            None => finding,
        });
    }
}

/// A body that can't be read, as a finding.
#[must_use]
pub fn unreadable(e: &TemplateError) -> Finding {
    Finding::new(Level::Error, "text", e.line, e.words.clone())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn draft(body: &str) -> TextDraft {
        TextDraft { body: body.into(), sender_name: "Skerry Light".into(), number: "60777".into(), parts: vec![10], ..TextDraft::default() }
    }

    fn says(d: &TextDraft, missing: u64) -> Vec<String> {
        check(d, &BTreeMap::from([("given_name".to_owned(), missing)]), 10).into_iter().map(|f| f.words).collect()
    }

    const WHOLE: &str = "Skerry Light: the boat of Friday is full, Saturday at 9 has five places. Reply STOP to end.";

    #[test]
    fn a_whole_message_passes() {
        assert_eq!(says(&draft(WHOLE), 3), Vec::<String>::new());
        assert_eq!(says(&draft("Skerry Light: {{ given_name|default(\"Hello\") }}, boats at 9, STOP ends it"), 0), Vec::<String>::new());
        let service = TextDraft { service: true, ..draft("Skerry Light: your boat leaves at 9.") };
        assert_eq!(says(&service, 0), Vec::<String>::new());
    }

    #[rstest]
    #[case("", "is empty")]
    #[case("Skerry Light: boats at 9.", "how to end")]
    #[case("{{ sender_name }}: \nReply STOP to end.", "says nothing but")]
    #[case("Skerry Light! STOP ends it: {{ preferences_url }}", "says nothing but")]
    // A word that isn't told as one is no way out.
    #[case("Skerry Light: boats stop at 9.", "how to end")]
    #[case("Boats at 9. Reply STOP to end.", "who it is from")]
    #[case("Skerry Light – boats at 9. Reply STOP to end.", "'–' is not in")]
    #[case("Skerry Light: {{ given_name }}, boats at 9. STOP ends it.", "3 of 10 people (30.0%) have no given_name")]
    #[case("Skerry Light: {{ given_nam }}, boats at 9. STOP ends it.", "no placeholder \"given_nam\"")]
    #[case("Skerry Light: {{ unsubscribe_url }} STOP ends it.", "no placeholder \"unsubscribe_url\"")]
    #[case("Skerry Light: {{ given_name, STOP", "can't be read")]
    fn each_gap_is_named(#[case] body: &str, #[case] word: &str) {
        let found = says(&draft(body), 3);
        assert!(found.iter().any(|w| w.contains(word)), "{found:?}");
    }

    #[test]
    fn fixes_put_it_right() {
        for body in ["Skerry Light: boats at 9.", "Boats at 9. Reply STOP to end.", "Skerry Light – boats at 9. Reply STOP to end."] {
            let mut d = draft(body);
            let fix = check(&d, &BTreeMap::new(), 10)[0].fix.clone().unwrap();
            d.body = if !fix.find.is_empty() { d.body.replacen(&fix.find, &fix.with, 1) } else { format!("{}{}", d.body, fix.with) };
            assert!(check(&d, &BTreeMap::new(), 10).len() < 2, "{}", d.body);
        }
    }

    #[test]
    fn parts_are_told_and_too_many_stop_it() {
        let d = TextDraft { parts: vec![4, 6], ..draft(WHOLE) };
        assert_eq!(says(&d, 0), ["Of 10 people it was filled for: 4 in one, 6 in 2 parts. Each part is paid for as a message."]);
        let d = TextDraft { parts: vec![0; 11], number: String::new(), ..draft(WHOLE) };
        let errors = check(&d, &BTreeMap::new(), 10).iter().filter(|f| f.level == Level::Error).count();
        assert_eq!(errors, 2);
    }
}
