//! Where a copy of a mailing landed in a mailbox of our own. A few mailboxes are a sample: it stands in no figure, and is told with its limits.

use crate::id::MailingId;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a copy was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = PlaceInMailbox)]
pub enum Place {
    Inbox,
    Junk,
    /// Accepted by its host, and in no folder.
    Missing,
}

crate::code::worded!(Place, "place in a mailbox", Inbox => "inbox", Junk => "junk", Missing => "missing");

/// What somebody who looked tells of one copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placed {
    pub address: String,
    pub mailing: MailingId,
    pub place: Place,
}

/// A mailing's number, as a number or as text.
#[derive(Deserialize)]
#[serde(untagged)]
enum Number {
    Number(i64),
    Text(String),
}

#[derive(Deserialize)]
struct Line {
    kind: String,
    #[serde(default)]
    address: String,
    mailing: Option<Number>,
    #[serde(default)]
    placement: String,
}

/// No line is longer (bytes).
const LONGEST: usize = 4_000;

/// What a line of the events door tells of a copy; none: it tells of something else. `{"kind": "placement", "address": …, "mailing": 51,
/// "placement": "inbox"}`.
///
/// # Errors
/// With what is missing in it.
pub fn placed(line: &str) -> Option<Result<Placed, String>> {
    if line.len() > LONGEST || !line.contains("placement") {
        return None;
    }
    let line: Line = serde_json::from_str(line).ok().filter(|l: &Line| l.kind == "placement")?;
    let mailing = match line.mailing {
        Some(Number::Number(n)) => Some(n),
        Some(Number::Text(text)) => text.trim().parse().ok(),
        None => None,
    };
    let place = <Place as crate::code::Word>::of_word(line.placement.trim());
    Some(match (mailing, place) {
        (None, _) => Err("A placement names its mailing by the number that it has in Rinse.".into()),
        (_, None) => Err(format!("{:?} is no placement: it is inbox, junk or missing.", line.placement)),
        (Some(mailing), Some(place)) => Ok(Placed { address: line.address, mailing: MailingId(mailing), place }),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"kind":"placement","address":"a@tern.example","mailing":51,"placement":"junk"}"#, Some(Ok(Place::Junk)))]
    #[case(r#"{"kind":"placement","address":"a@tern.example","mailing":"51","placement":"inbox"}"#, Some(Ok(Place::Inbox)))]
    #[case(r#"{"kind":"placement","address":"a@tern.example","mailing":51,"placement":"spam"}"#, Some(Err("inbox, junk or missing")))]
    #[case(r#"{"kind":"placement","address":"a@tern.example","placement":"junk"}"#, Some(Err("names its mailing")))]
    #[case(r#"{"kind":"opened","address":"placement@tern.example","mailing":"51"}"#, None)]
    #[case("placement", None)]
    fn a_placement_is_told_from_other_events(#[case] line: &str, #[case] expected: Option<Result<Place, &str>>) {
        match (placed(line), expected) {
            (Some(Ok(p)), Some(Ok(place))) => {
                assert_eq!((p.place, p.mailing, p.address.as_str()), (place, MailingId(51), "a@tern.example"))
            }
            (Some(Err(said)), Some(Err(words))) => assert!(said.contains(words), "{said}"),
            (found, expected) => assert!(found.is_none() && expected.is_none(), "{found:?} {expected:?}"),
        }
    }
}
