//! What people did elsewhere (came to a talk, booked a stay), as files and scripts bring it.

use crate::Instant;
use crate::address::Address;
use crate::purchase::instant;
use serde::Deserialize;

/// One thing somebody did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// The other system's own key: the same event twice is one.
    pub key: String,
    pub address: Address,
    pub at: Instant,
    /// What it was, in a few words that are the same each time.
    pub name: String,
    /// What else is worth knowing.
    pub about: String,
}

#[derive(Deserialize)]
struct Line {
    key: String,
    address: String,
    at: String,
    name: String,
    #[serde(default)]
    about: String,
}

/// The columns that a CSV of events needs.
pub const COLUMNS: [&str; 4] = ["key", "address", "at", "name"];

/// Reads an event from its parts, in the order of [`COLUMNS`], then what else is worth knowing.
///
/// # Errors
/// Says what is wrong with it.
pub fn read([key, address, at, name, about]: [&str; 5]) -> Result<Event, String> {
    let key = key.trim();
    if key.is_empty() || key.len() > 200 {
        return Err("the key is empty or over 200 bytes: give each event one of its own".into());
    }
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err("the name is empty or over 80 characters".into());
    }
    Ok(Event {
        key: key.to_owned(),
        address: Address::parse(address).map_err(|e| e.to_string())?,
        at: instant(at).ok_or_else(|| format!("{at:?} is not an instant: write it as 2026-04-16T08:00:00Z, or a date"))?,
        name: name.to_owned(),
        about: about.trim().chars().take(500).collect(),
    })
}

/// Reads a line of NDJSON.
///
/// # Errors
/// Says what is wrong with it.
pub fn from_json(line: &str) -> Result<Event, String> {
    let l: Line = serde_json::from_str(line).map_err(|e| format!("the line is no event: {e}"))?;
    read([&l.key, &l.address, &l.at, &l.name, &l.about])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn csv_and_ndjson_say_the_same() {
        let a = read(["e-1", "Wren@Tern.example", "2026-04-16T09:30:00+01:00", "Came to a talk", " front row "]).unwrap();
        let b = from_json(
            r#"{"key":"e-1","address":"Wren@tern.example","at":"2026-04-16T08:30:00Z","name":"Came to a talk","about":"front row"}"#,
        );
        assert_eq!(Ok(a), b);
    }

    #[rstest]
    #[case(["", "w@tern.example", "2026-04-16", "x", ""], "the key is empty")]
    #[case(["k", "w", "2026-04-16", "x", ""], "no @")]
    #[case(["k", "w@tern.example", "soon", "x", ""], "not an instant")]
    #[case(["k", "w@tern.example", "2026-04-16", " ", ""], "the name is empty")]
    fn refuses_with_a_reason(#[case] parts: [&str; 5], #[case] words: &str) {
        assert!(read(parts).unwrap_err().contains(words));
    }
}
