//! The base check: addresses that deserve a look, each for a reason that can be read off it.
//!
//! A finding is never a verdict: it names a fix, and a person decides. The rules here look at an
//! address and at the base's own domains; nothing is asked of anybody outside.

use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// What the check looks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = BaseFinding)]
pub enum Finding {
    /// No address by RFC 5321.
    Syntax,
    /// One typing slip away from a domain that many people here have.
    NearMiss,
    /// The same mailbox as another person's address.
    Duplicate,
    /// A function rather than a person (RFC 2142 and its like).
    Role,
    /// A domain that gives out addresses to be thrown away.
    Disposable,
    /// Its domain takes no mail.
    NoMailHost,
}

impl Finding {
    pub const ALL: [Self; 6] = [Self::Syntax, Self::NearMiss, Self::Duplicate, Self::Role, Self::Disposable, Self::NoMailHost];

    /// The code in addresses and files.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Syntax => "syntax",
            Self::NearMiss => "near_miss",
            Self::Duplicate => "duplicate",
            Self::Role => "role",
            Self::Disposable => "disposable",
            Self::NoMailHost => "no_mail_host",
        }
    }

    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|f| f.code() == code)
    }

    /// The tag that people with this finding can be put in.
    #[must_use]
    pub fn tag(self) -> Option<&'static str> {
        match self {
            Self::Role => Some("Role account"),
            Self::Disposable => Some("Disposable address"),
            Self::NoMailHost => Some("No mail host"),
            Self::Syntax => Some("Not an address"),
            Self::NearMiss | Self::Duplicate => None,
        }
    }
}

/// Local parts that stand for a function: RFC 2142, sections 3 to 7, and plain office words. Sorted.
const ROLES: [&str; 41] = [
    "abuse",
    "accounts",
    "admin",
    "administrator",
    "billing",
    "bookings",
    "careers",
    "contact",
    "editor",
    "enquiries",
    "ftp",
    "hello",
    "help",
    "helpdesk",
    "hostmaster",
    "hr",
    "info",
    "inquiries",
    "jobs",
    "mail",
    "marketing",
    "members",
    "news",
    "no-reply",
    "noc",
    "noreply",
    "office",
    "orders",
    "post",
    "postmaster",
    "press",
    "reception",
    "root",
    "sales",
    "security",
    "shop",
    "staff",
    "support",
    "team",
    "usenet",
    "webmaster",
];

/// Does the address stand for a function? `key` is a compared address.
#[must_use]
pub fn is_role(key: &str) -> bool {
    let local = key.rsplit_once('@').map_or(key, |(local, _)| local);
    let local = local.split_once('+').map_or(local, |(user, _)| user);
    ROLES.binary_search(&local).is_ok()
}

/// The mailbox behind a compared address: what follows a plus sign before the @ is a detail for the
/// owner's own sorting (RFC 5233). Quoted local parts are left alone.
#[must_use]
pub fn mailbox(key: &str) -> &str {
    key.rsplit_once('@').map_or(key, |(local, _)| match local.find('+') {
        Some(at) if at > 0 && !local.starts_with('"') => &key[..at],
        _ => local,
    })
}

/// Are two compared addresses one mailbox?
#[must_use]
pub fn same_mailbox(a: &str, b: &str) -> bool {
    let domain = |key: &'_ str| key.rsplit_once('@').map(|(_, d)| d.to_owned());
    mailbox(a) == mailbox(b) && domain(a) == domain(b)
}

/// A domain is frequent from so many people on …
const FREQUENT: u64 = 20;
/// … and its near-miss has at most a twentieth as many.
const RARER: u64 = 20;
/// In shorter names one letter makes another word more often than a slip.
const SHORTEST: usize = 6;

/// The base's frequent domains, to find near-misses of.
#[derive(Debug, Clone, Default)]
pub struct Frequent {
    domains: Vec<(String, u64)>,
}

impl Frequent {
    /// From every domain with its number of people.
    pub fn new(domains: impl IntoIterator<Item = (String, u64)>) -> Self {
        let mut domains: Vec<(String, u64)> =
            domains.into_iter().filter(|(name, people)| *people >= FREQUENT && name.chars().count() >= SHORTEST).collect();
        // The one with most people is the likeliest to be meant.
        domains.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        Self { domains }
    }

    /// The frequent domain that `name`, which has so many people, is one typing slip away from: a
    /// letter left out, doubled, replaced, or two neighbours swapped (a distance of one by
    /// Damerau and Levenshtein, restricted). None for a frequent one.
    #[must_use]
    pub fn meant_by(&self, name: &str, people: u64) -> Option<&str> {
        if self.domains.iter().any(|(d, _)| d == name) {
            return None;
        }
        let length = name.len();
        self.domains
            .iter()
            .filter(|(d, n)| d.len().abs_diff(length) <= 4 && people * RARER <= *n)
            .find(|(d, _)| strsim::osa_distance(d, name) == 1)
            .map(|(d, _)| d.as_str())
    }
}

/// What the rules say of one address in a file or in the base; duplicates are asked of the base.
#[must_use]
pub fn findings(key: &str, domain: &str, rules: &Rules) -> Vec<(Finding, String)> {
    let mut out = Vec::new();
    if let Some(meant) = rules.near_misses.get(domain) {
        out.push((Finding::NearMiss, meant.clone()));
    }
    if is_role(key) {
        out.push((Finding::Role, key.rsplit_once('@').map_or(key, |(local, _)| local).to_owned()));
    }
    if rules.disposable.iter().any(|d| d == domain) {
        out.push((Finding::Disposable, domain.to_owned()));
    }
    if let Some(why) = rules.without_host.get(domain) {
        out.push((Finding::NoMailHost, why.clone()));
    }
    out
}

/// What the check knows of domains.
#[derive(Debug, Clone, Default)]
pub struct Rules {
    pub frequent: Frequent,
    /// Rare domains, with the one that is meant.
    pub near_misses: HashMap<String, String>,
    pub disposable: Vec<String>,
    /// Domains that take no mail, with how that is known.
    pub without_host: HashMap<String, String>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("info@tern.example", true)]
    #[case("info+boats@tern.example", true)]
    #[case("informant@tern.example", false)]
    #[case("greta.sales@tern.example", false)]
    #[case("postmaster@tern.example", true)]
    fn functions_are_told_from_people(#[case] key: &str, #[case] role: bool) {
        assert_eq!(is_role(key), role);
    }

    #[test]
    fn role_words_are_sorted_for_the_search() {
        assert!(ROLES.is_sorted());
    }

    #[rstest]
    #[case("wren+notes@tern.example", "wren@tern.example", true)]
    #[case("wren+a@tern.example", "wren+b@tern.example", true)]
    #[case("wren@tern.example", "wren@fulmar.example", false)]
    #[case("+wren@tern.example", "@tern.example", false)]
    #[case("\"wren+a\"@tern.example", "\"wren@tern.example", false)]
    #[case("wren.a@tern.example", "wrena@tern.example", false)]
    fn a_detail_after_the_plus_is_the_same_mailbox(#[case] a: &str, #[case] b: &str, #[case] same: bool) {
        assert_eq!(same_mailbox(a, b), same);
    }

    fn frequent() -> Frequent {
        Frequent::new([("fulmar.example".into(), 900), ("tern.example".into(), 400), ("gulls.example".into(), 12)])
    }

    #[rstest]
    #[case("fulmar.exmaple", 3, Some("fulmar.example"))]
    #[case("fulmer.example", 45, Some("fulmar.example"))]
    // Too many people for a slip.
    #[case("fulmer.example", 46, None)]
    // Two slips, a part, a subdomain, a rare domain's neighbour: none of them.
    #[case("fulmer.exmaple", 1, None)]
    #[case("bittern.example", 1, None)]
    #[case("mail.tern.example", 1, None)]
    #[case("gull.example", 1, None)]
    #[case("tern.example", 1, None)]
    fn near_misses(#[case] name: &str, #[case] people: u64, #[case] meant: Option<&str>) {
        assert_eq!(frequent().meant_by(name, people), meant);
    }

    proptest! {
        /// Any single slip in a frequent domain is found again.
        #[test]
        fn one_slip_is_found(at in 0usize..14, slip in 0u8..4, letter in "[b-z]") {
            let right: Vec<char> = "fulmar.example".chars().collect();
            let mut wrong = right.clone();
            match slip {
                0 => { wrong.remove(at); }
                1 => wrong.insert(at, letter.chars().next().unwrap()),
                2 => wrong[at] = letter.chars().next().unwrap(),
                _ => wrong.swap(at, (at + 1).min(13)),
            }
            let wrong: String = wrong.into_iter().collect();
            let meant = frequent().meant_by(&wrong, 1).map(str::to_owned);
            prop_assert_eq!(meant.is_some(), wrong != "fulmar.example", "{}", wrong);
        }
    }
}
