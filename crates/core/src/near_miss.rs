//! Near-misses of what is barred: domains and people that somebody should look at. Nothing is ever barred by
//! guess; these are for a person to decide.

use crate::words::fold;
use std::collections::HashMap;

/// Is a domain written almost as a barred one? One slip apart, or the same name under another ending, or with
/// a word joined on by a hyphen.
#[must_use]
pub fn is_near(domain: &str, barred: &str) -> bool {
    if domain == barred {
        return false;
    }
    let name = |d: &str| d.split('.').next().unwrap_or_default().to_owned();
    let (a, b) = (name(domain), name(barred));
    // Short names are alike by chance.
    if b.chars().count() < 4 {
        return false;
    }
    let joined = |long: &str, short: &str| {
        long.strip_prefix(short).is_some_and(|r| r.starts_with('-')) || long.strip_suffix(short).is_some_and(|r| r.ends_with('-'))
    };
    strsim::osa_distance(domain, barred) == 1 || a == b || joined(&a, &b) || joined(&b, &a)
}

/// A company's name as it is compared: without case, dots, and the form of the company.
#[must_use]
pub fn company_key(name: &str) -> String {
    const FORMS: [&str; 9] = ["ltd", "limited", "plc", "inc", "llc", "gmbh", "as", "sa", "co"];
    let words: String = fold(name).chars().map(|c| if c.is_alphanumeric() { c } else { ' ' }).collect();
    let words: Vec<&str> = words.split_whitespace().collect();
    let kept: Vec<&str> = words.iter().copied().filter(|w| !FORMS.contains(w)).collect();
    if kept.is_empty() { words.join(" ") } else { kept.join(" ") }
}

/// The host of a web field, in lower case and without `www`.
#[must_use]
pub fn web_host(field: &str) -> Option<String> {
    let text = fold(field);
    let text = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://")).unwrap_or(&text);
    let host = text.split(['/', '?', '#', ':']).next().unwrap_or_default();
    let host = host.strip_prefix("www.").unwrap_or(host);
    (host.contains('.') && !host.contains([' ', '@'])).then(|| host.to_owned())
}

/// The companies of people at barred domains, and the domain each is known from. A name that stands at
/// mailbox providers as well says nothing by itself, so those aren't asked.
#[must_use]
pub fn barred_companies<'a>(people: impl IntoIterator<Item = (&'a str, &'a str)>) -> HashMap<String, String> {
    let mut known = HashMap::new();
    for (company, domain) in people {
        let key = company_key(company);
        if key.chars().count() >= 3 {
            known.entry(key).or_insert_with(|| domain.to_owned());
        }
    }
    known
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("county-hal.example", "county-hall.example", true)]
    #[case("county-hall.test.example", "county-hall.example", true)]
    #[case("press-desk-north.example", "press-desk.example", true)]
    #[case("my-press-desk.example", "press-desk.example", true)]
    #[case("county-hall.example", "county-hall.example", false)]
    #[case("bittern.example", "tern.example", false)]
    #[case("tarn.example", "tern.example", true)]
    #[case("ox.example", "fox.example", false)]
    #[case("harbour.example", "county-hall.example", false)]
    fn near_domains(#[case] domain: &str, #[case] barred: &str, #[case] near: bool) {
        assert_eq!(is_near(domain, barred), near);
    }

    #[rstest]
    #[case("County Hall Ltd.", "county hall")]
    #[case("COUNTY-HALL", "county hall")]
    #[case("Ltd", "ltd")]
    fn companies(#[case] name: &str, #[case] key: &str) {
        assert_eq!(company_key(name), key);
    }

    #[rstest]
    #[case("https://www.County-Hall.example/about", Some("county-hall.example"))]
    #[case("county-hall.example:8080", Some("county-hall.example"))]
    #[case("none", None)]
    #[case("wren@tern.example", None)]
    fn hosts(#[case] field: &str, #[case] host: Option<&str>) {
        assert_eq!(web_host(field).as_deref(), host);
    }
}
