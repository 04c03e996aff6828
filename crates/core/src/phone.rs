//! Phone numbers, as text messages go to them: in the international form of E.164, whatever they were written like.

use phonenumber::{Mode, country};
use serde::{Deserialize, Serialize};
use std::fmt;

/// Why a text is no number that can be written to.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PhoneError {
    #[error("the phone number is empty")]
    Empty,
    #[error("{0:?} has no country code, and the country isn't known: write it as +44 7700 900123")]
    NoCountry(String),
    #[error("{0:?} is no phone number")]
    Malformed(String),
    #[error("{0:?} has an extension: no text message reaches that")]
    Extension(String),
}

/// A number in the form of E.164: a plus sign, the country code, the rest, at most 15 digits, nothing between them. Two ways
/// to write one number are the same.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Phone(String);

impl Phone {
    /// Reads a number of somebody's: one without a country code is of their own country, else of `home`.
    ///
    /// # Errors
    /// As [`Self::parse`].
    pub fn of(text: &str, theirs: Option<&str>, home: Option<&str>) -> Result<Self, PhoneError> {
        // What is no code of a country says nothing of the number.
        Self::parse(text, theirs.filter(|c| c.len() == 2).or(home))
    }

    /// Reads a number as somebody wrote it. `country` (ISO 3166-1) says what a number without a country code means.
    ///
    /// # Errors
    /// Whatever is no number, or could be several countries'.
    pub fn parse(text: &str, country: Option<&str>) -> Result<Self, PhoneError> {
        let text = text.trim();
        if text.is_empty() {
            return Err(PhoneError::Empty);
        }
        let shown = || text.chars().take(40).collect::<String>();
        // The usual way out of most countries, where no plus sign was at hand.
        let whole = text.strip_prefix("00").map(|rest| format!("+{rest}"));
        let text = whole.as_deref().unwrap_or(text);
        // "+44 (0) 7700": the nought is for those who ring from home.
        let without = text.strip_prefix('+').filter(|t| t.contains("(0)")).map(|t| format!("+{}", t.replacen("(0)", "", 1)));
        let text = without.as_deref().unwrap_or(text);
        let home: Option<country::Id> = country.and_then(|c| c.parse().ok());
        if !text.starts_with('+') && home.is_none() {
            return Err(PhoneError::NoCountry(shown()));
        }
        // What isn't written as a number is one by accident only ("12 Quay Road").
        let written = |c: char| c.is_ascii_digit() || c.is_whitespace() || "+-./()\u{2010}\u{2011}\u{2013}".contains(c);
        if !text.chars().all(written) && !text.to_ascii_lowercase().contains("ext") {
            return Err(PhoneError::Malformed(shown()));
        }
        let number = phonenumber::parse(home, text).map_err(|_| PhoneError::Malformed(shown()))?;
        if number.extension().is_some() {
            return Err(PhoneError::Extension(shown()));
        }
        let whole = number.format().mode(Mode::E164).to_string();
        let digits = whole.len().saturating_sub(1);
        if !(8..=15).contains(&digits) || !whole.strip_prefix('+').is_some_and(|d| d.bytes().all(|b| b.is_ascii_digit())) {
            return Err(PhoneError::Malformed(shown()));
        }
        Ok(Self(whole))
    }

    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Its end alone, for a page that others may see: "… 123".
    #[must_use]
    pub fn masked(&self) -> String {
        format!("… {}", &self.0[self.0.len().saturating_sub(3)..])
    }
}

impl fmt::Display for Phone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The number that text messages come from: a whole number, or a short code of 3 to 8 digits. Letters would do as a name, but
/// nobody can answer them, and an answer is how people end it.
///
/// # Errors
/// Anything else.
pub fn sender(text: &str, country: Option<&str>) -> Result<String, PhoneError> {
    let text = text.trim();
    if (3..=8).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit()) && !text.starts_with('0') {
        return Ok(text.to_owned());
    }
    Phone::parse(text, country).map(|p| p.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("+44 7700 900123", None, "+447700900123")]
    #[case("07700 900123", Some("GB"), "+447700900123")]
    #[case("(07700) 900-123", Some("GB"), "+447700900123")]
    #[case("0044 7700 900 123", Some("DE"), "+447700900123")]
    #[case("+44 (0) 7700 900123", None, "+447700900123")]
    // Another country's number, written in full, stays that country's.
    #[case("+47 412 34 567", Some("GB"), "+4741234567")]
    // In Italy the nought before a number is a part of it.
    #[case("06 1234 5678", Some("IT"), "+390612345678")]
    fn a_number_is_the_same_however_it_is_written(#[case] text: &str, #[case] country: Option<&str>, #[case] whole: &str) {
        assert_eq!(Phone::parse(text, country).unwrap().as_str(), whole);
    }

    #[rstest]
    #[case("", Some("GB"), "empty")]
    #[case("07700 900123", None, "+44 7700 900123")]
    #[case("07700 900123", Some("Wales"), "+44 7700 900123")]
    #[case("12 Quay Road", Some("GB"), "no phone number")]
    #[case("n/a", Some("GB"), "no phone number")]
    #[case("+44", None, "no phone number")]
    #[case("+999 12345678", None, "no phone number")]
    #[case("+44 7700 900123 ext 4", None, "extension")]
    #[case("+44 7700 900123 900123 900123", None, "no phone number")]
    fn what_is_none_is_refused_with_advice(#[case] text: &str, #[case] country: Option<&str>, #[case] says: &str) {
        let words = Phone::parse(text, country).unwrap_err().to_string();
        assert!(words.contains(says), "{words}");
    }

    #[test]
    fn texts_come_from_a_number_that_can_be_answered() {
        assert_eq!(sender("60777", Some("GB")).unwrap(), "60777");
        assert_eq!(sender(" 07700 900000 ", Some("GB")).unwrap(), "+447700900000");
        assert!(sender("SKERRY", Some("GB")).is_err() && sender("12", Some("GB")).is_err());
        assert_eq!(Phone::parse("+447700900123", None).unwrap().masked(), "… 123");
    }

    proptest! {
        /// Nothing that comes in panics, and what was read is read again as itself.
        #[test]
        fn what_was_read_stays(text in "[+0-9 ()./-]{0,20}|.{0,12}", country in prop::option::of("GB|DE|NO|IT|XX")) {
            if let Ok(p) = Phone::parse(&text, country.as_deref()) {
                prop_assert_eq!(Phone::parse(p.as_str(), None), Ok(p.clone()));
                prop_assert!(p.as_str().len() <= 16);
            }
        }
    }
}
