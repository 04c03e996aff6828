//! How long a text message is: in which alphabet it travels, and in how many parts.
//!
//! A message whose characters all stand in the default alphabet of 3GPP TS 23.038 (section 6.2.1) travels in units of seven
//! bits, 160 of them; those of its extension table take two. One character outside, and the whole of it travels in UCS-2: 70
//! units of sixteen bits. A longer one is cut into parts that carry their number (3GPP TS 23.040, section 9.2.3.24.1), which
//! leaves 153 and 67. A character that takes two units stays whole: where it would be cut, a part stays one short.

use serde::{Deserialize, Serialize};

/// What a message is written in on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Alphabet {
    /// The default alphabet of the networks, 7 bits a character.
    Gsm7,
    /// Any character, 16 bits each or twice that.
    Ucs2,
}

impl Alphabet {
    /// What a message of one part holds.
    #[must_use]
    pub fn alone(self) -> usize {
        match self {
            Self::Gsm7 => 160,
            Self::Ucs2 => 70,
        }
    }

    /// What each part of several holds.
    #[must_use]
    pub fn among(self) -> usize {
        match self {
            Self::Gsm7 => 153,
            Self::Ucs2 => 67,
        }
    }
}

/// The length of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = TextSize)]
pub struct Size {
    pub alphabet: Alphabet,
    /// In units of the alphabet.
    pub units: usize,
    pub parts: usize,
    /// Units that are free in the last part.
    pub free: usize,
}

const BASIC: &str =
    "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà";
const EXTENSION: &str = "\u{c}^{}\\[~]|€";

/// The units that a character takes in the default alphabet; none when it isn't in it.
fn septets(c: char) -> Option<usize> {
    if BASIC.contains(c) {
        Some(1)
    } else if EXTENSION.contains(c) {
        Some(2)
    } else {
        None
    }
}

/// How long a message is.
#[must_use]
pub fn size(text: &str) -> Size {
    let widths: Option<Vec<usize>> = text.chars().map(septets).collect();
    let (alphabet, widths) = match widths {
        Some(widths) => (Alphabet::Gsm7, widths),
        None => (Alphabet::Ucs2, text.chars().map(char::len_utf16).collect()),
    };
    let units: usize = widths.iter().sum();
    if units <= alphabet.alone() {
        return Size { alphabet, units, parts: usize::from(units > 0), free: alphabet.alone() - units };
    }
    let (mut parts, mut free) = (0, 0);
    for width in widths {
        if width > free {
            parts += 1;
            free = alphabet.among();
        }
        free -= width;
    }
    Size { alphabet, units, parts, free }
}

/// The first character outside the default alphabet, with what could stand for it.
#[must_use]
pub fn outside(text: &str) -> Option<(char, Option<&'static str>)> {
    let c = text.chars().find(|c| septets(*c).is_none())?;
    let instead = match c {
        '\u{2018}' | '\u{2019}' | '\u{201a}' | '\u{2032}' | '`' | '´' => Some("'"),
        '\u{201c}' | '\u{201d}' | '\u{201e}' | '«' | '»' => Some("\""),
        '\u{2010}'..='\u{2015}' | '\u{2212}' => Some("-"),
        '…' => Some("..."),
        '\u{a0}' | '\u{202f}' | '\u{2009}' | '\t' => Some(" "),
        '•' | '·' => Some("*"),
        '×' => Some("x"),
        _ => None,
    };
    Some((c, instead))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("", 0, 0, 160)]
    #[case(&"a".repeat(160), 160, 1, 0)]
    #[case(&"a".repeat(161), 161, 2, 145)]
    #[case(&"a".repeat(306), 306, 2, 0)]
    #[case(&"a".repeat(307), 307, 3, 152)]
    // The euro sign takes two.
    #[case(&"€".repeat(80), 160, 1, 0)]
    #[case(&"€".repeat(81), 162, 2, 143)]
    fn in_the_default_alphabet(#[case] text: &str, #[case] units: usize, #[case] parts: usize, #[case] free: usize) {
        assert_eq!(size(text), Size { alphabet: Alphabet::Gsm7, units, parts, free });
    }

    #[rstest]
    #[case(&"ł".repeat(70), 70, 1, 0)]
    #[case(&"ł".repeat(71), 71, 2, 63)]
    // A sign of two units that would be cut begins the next part: 66 and one free, then 2.
    #[case(&format!("{}🚤", "ł".repeat(69)), 71, 2, 63)]
    #[case(&format!("{}🚤{}", "ł".repeat(66), "ł".repeat(5)), 73, 2, 60)]
    fn in_any_other(#[case] text: &str, #[case] units: usize, #[case] parts: usize, #[case] free: usize) {
        assert_eq!(size(text), Size { alphabet: Alphabet::Ucs2, units, parts, free });
    }

    #[test]
    fn one_character_outside_is_named_with_what_could_stand_for_it() {
        assert_eq!(outside("Low tide – 11:00"), Some(('–', Some("-"))));
        assert_eq!(outside("Gull’s"), Some(('’', Some("'"))));
        assert_eq!(outside("Źródło"), Some(('Ź', None)));
        assert_eq!(outside("Boats at 9 & 11, £4 [€5]"), None);
    }

    /// The parts a message would be cut into, by the book: a part at a time, each as long as it may be.
    fn cut(text: &str, among: usize, width: impl Fn(char) -> usize) -> Vec<usize> {
        let (mut parts, mut rest) = (Vec::new(), text.chars().peekable());
        while rest.peek().is_some() {
            let mut units = 0;
            while let Some(c) = rest.next_if(|c| units + width(*c) <= among) {
                units += width(c);
            }
            parts.push(units);
        }
        parts
    }

    proptest! {
        /// Held against cutting it, and against what can't be otherwise.
        #[test]
        fn parts_are_as_it_is_cut(text in "([a-z €\\[\\]]|🚤|ł){0,500}|[a-z €^]{0,500}") {
            let s = size(&text);
            let gsm = outside(&text).is_none();
            prop_assert_eq!(s.alphabet == Alphabet::Gsm7, gsm);
            let width = |c: char| if gsm { if "€^[]".contains(c) { 2 } else { 1 } } else { c.len_utf16() };
            prop_assert_eq!(s.units, text.chars().map(width).sum::<usize>());
            if s.parts > 1 {
                let parts = cut(&text, s.alphabet.among(), width);
                prop_assert_eq!(parts.len(), s.parts);
                prop_assert_eq!(s.alphabet.among() - parts[parts.len() - 1], s.free);
            } else {
                prop_assert_eq!(s.free + s.units, s.alphabet.alone());
            }
        }
    }
}
