//! Events as another sender tells them when they happen: an object a line.

use super::columns::EventColumn;
use super::times::Times;
use super::{Event, event};
use serde::Deserialize;

/// No line is longer (bytes).
const LONGEST: usize = 64_000;

/// An event, with what is said of its mailing, should that be new.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told {
    pub event: Event,
    pub name: String,
    pub subject: String,
    pub topic: String,
}

/// A value that may come as text or as a number.
#[derive(Deserialize, Default)]
#[serde(untagged)]
enum Value {
    #[default]
    Nothing,
    Text(String),
    Number(serde_json::Number),
}

impl Value {
    fn text(self) -> String {
        match self {
            Self::Nothing => String::new(),
            Self::Text(text) => text,
            Self::Number(n) => n.to_string(),
        }
    }
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Line {
    address: String,
    mailing: Value,
    kind: String,
    at: Value,
    key: Value,
    agent: Option<String>,
    link: Option<String>,
    reply: Option<String>,
    amount: Value,
    currency: Option<String>,
    name: Option<String>,
    subject: Option<String>,
    topic: Option<String>,
}

const COLUMNS: [Option<EventColumn>; 10] = [
    Some(EventColumn::Address),
    Some(EventColumn::Mailing),
    Some(EventColumn::Kind),
    Some(EventColumn::At),
    Some(EventColumn::Agent),
    Some(EventColumn::Link),
    Some(EventColumn::Reply),
    Some(EventColumn::Amount),
    Some(EventColumn::Currency),
    Some(EventColumn::Key),
];

/// Reads a line. Instants have their zone; an amount that is a JSON number has two digits after its point at most.
///
/// # Errors
/// Says what is wrong with it.
pub fn told(line: &str) -> Result<Told, String> {
    if line.len() > LONGEST {
        return Err("the line is over 64 kB".into());
    }
    if !line.trim_start().starts_with('{') {
        return Err("it is no object with the fields of an event".into());
    }
    let l: Line = serde_json::from_str(line).map_err(|e| format!("it is no object with the fields of an event ({e})"))?;
    // A number's digits mean what they are; text may be written in either way.
    let amount = match l.amount {
        Value::Number(n) => n.as_f64().filter(|a| a.abs() < 1e10).map_or_else(|| n.to_string(), |a| format!("{a:.2}")),
        other => other.text(),
    };
    let or_nothing = Option::unwrap_or_default;
    let (agent, link, reply, currency): (String, String, String, String) =
        (or_nothing(l.agent), or_nothing(l.link), or_nothing(l.reply), or_nothing(l.currency));
    let (mailing, at, key) = (l.mailing.text(), l.at.text(), l.key.text());
    let event = event(&[&l.address, &mailing, &l.kind, &at, &agent, &link, &reply, &amount, &currency, &key], &COLUMNS, &Times::default())?;
    let short = |text: Option<String>| text.unwrap_or_default().chars().filter(|c| !c.is_control()).take(200).collect();
    Ok(Told { event, name: short(l.name), subject: short(l.subject), topic: short(l.topic) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::history::Kind;
    use proptest::prelude::*;

    #[test]
    fn a_line_is_read() {
        let t = told(r#"{"address": "jorun.brand@tern.example", "mailing": 17, "kind": "bounced", "at": "2026-04-16T18:40:00Z", "reply": "550 5.1.1 unknown", "subject": "Tide", "more": [1]}"#).unwrap();
        assert_eq!(
            (t.event.kind, t.event.mailing.as_str(), t.event.reply.as_str(), t.subject.as_str()),
            (Kind::Bounced, "17", "550 5.1.1 unknown", "Tide")
        );
        let t = told(r#"{"address": "jorun.brand@tern.example", "kind": "bought", "at": 1776364800, "amount": 1234.5, "currency": "gbp"}"#)
            .unwrap();
        assert_eq!((t.event.cents, t.event.currency.as_str(), t.event.at.millis()), (123_450, "GBP", 1_776_364_800_000));
        for (line, why) in [
            ("[]", "no object"),
            ("{", "no object"),
            (r#"{"address": "jorun.brand@tern.example", "kind": "waved", "at": 1776364800}"#, "is none of"),
            (r#"{"address": "jorun.brand@tern.example", "kind": "sent", "at": "2026-04-16 18:40"}"#, "time zone"),
            (r#"{"address": "nobody", "kind": "sent", "at": 1776364800}"#, ""),
        ] {
            let said = told(line).unwrap_err();
            assert!(said.contains(why), "{line}: {said}");
        }
    }

    proptest! {
        #[test]
        fn nothing_falls_over(line in ".{0,200}", key in "[a-z]{2,8}", value in ".{0,20}") {
            let _ = told(&line);
            let _ = told(&serde_json::json!({ key: value }).to_string());
        }
    }
}
