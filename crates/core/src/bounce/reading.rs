//! Reply lines that a person reads otherwise than the rules do.
//!
//! Hosts word the same thing in a thousand ways, and some say the wrong thing: a line that means "closed for the winter" may come with the code of an
//! address that never was. A person who knows better says so once, of the line with its addresses and numbers masked, for every host that gives it.

use super::{Category, Reply, masked};
use std::collections::BTreeMap;

/// The lines that are read otherwise, masked, each with what it is read as.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Readings(BTreeMap<String, Category>);

impl Readings {
    /// What a failure with a line means: as a person said of lines like it, else as the rules read it.
    #[must_use]
    pub fn of(&self, line: &str) -> Category {
        let by_person = if self.0.is_empty() { None } else { self.0.get(&masked(line)).copied() };
        by_person.unwrap_or_else(|| by_rules(line))
    }
}

impl FromIterator<(String, Category)> for Readings {
    fn from_iter<I: IntoIterator<Item = (String, Category)>>(lines: I) -> Self {
        Self(lines.into_iter().collect())
    }
}

/// What the rules say of a line as it is stored.
#[must_use]
pub fn by_rules(line: &str) -> Category {
    Reply::parse(line).category()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_person_is_asked_before_the_rules_and_for_lines_like_it_only() {
        let closed = "550 5.1.1 …@fulmar.example closed until spring";
        let readings: Readings = [(closed.to_owned(), Category::Deferred)].into_iter().collect();
        assert_eq!(readings.of("550 5.1.1 <lorne@fulmar.example> closed until spring"), Category::Deferred);
        assert_eq!(readings.of("550 5.1.1 <lorne@fulmar.example> no such user"), Category::NoSuchAddress);
        assert_eq!(Readings::default().of("550 5.1.1 <lorne@fulmar.example> closed until spring"), Category::NoSuchAddress);
    }

    proptest! {
        /// A line that is shown can be given back: it is the mask of itself, so that what was said of it holds for what it was made from.
        #[test]
        fn a_mask_is_its_own_mask(code in prop_oneof![Just(0_u16), 400..600_u16], enhanced in "(5\\.[0-9]\\.[0-9]{1,2} )?", text in "[a-z0-9@.<>():# -]{0,60}") {
            let stored = Reply::parse(&format!("{code} {enhanced}{text}")).line();
            let once = masked(&stored);
            prop_assert_eq!(masked(&once), once.clone());
            prop_assert_eq!(by_rules(&stored), Reply::parse(&stored).category());
        }
    }
}
