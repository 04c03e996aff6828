//! Blocklists in DNS (RFC 5782): how a list is asked about an address or a domain, what its answer says, and whether it is a list at all.

use serde::{Deserialize, Serialize};
use std::net::{IpAddr, Ipv4Addr};
use utoipa::ToSchema;

/// What a list has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = BlocklistOf)]
pub enum Of {
    Addresses,
    Domains,
}

/// The name to ask for about an address: `192.0.2.99` at `list.example` is `99.2.0.192.list.example` (section 2.1); of IPv6 each half byte by itself
/// (section 2.4).
#[must_use]
pub fn of_address(ip: IpAddr, list: &str) -> String {
    match ip {
        IpAddr::V4(ip) => {
            let [a, b, c, d] = ip.octets();
            format!("{d}.{c}.{b}.{a}.{list}")
        }
        IpAddr::V6(ip) => {
            let halves: String = ip.octets().iter().rev().map(|o| format!("{:x}.{:x}.", o & 15, o >> 4)).collect();
            format!("{halves}{list}")
        }
    }
}

/// The name to ask for about a domain (section 3).
#[must_use]
pub fn of_domain(domain: &str, list: &str) -> String {
    format!("{domain}.{list}")
}

/// Does an answer say that something is listed? It is an address of 127/8 (section 2.1); another is no answer of a list, but of somebody who has its
/// name now.
#[must_use]
pub fn is_listed(answer: &[Ipv4Addr]) -> bool {
    answer.iter().any(|a| a.octets()[0] == 127)
}

/// What to ask a list to see that it is one, the name that it must have and the one that it mustn't (section 5).
#[must_use]
pub fn tests(of: Of, list: &str) -> (String, String) {
    match of {
        Of::Addresses => (of_address(Ipv4Addr::new(127, 0, 0, 2).into(), list), of_address(Ipv4Addr::LOCALHOST.into(), list)),
        Of::Domains => (of_domain("test", list), of_domain("invalid", list)),
    }
}

/// A list's name as it is kept.
///
/// # Errors
/// When it is no name of DNS.
pub fn zone(text: &str) -> Result<String, String> {
    let name = text.trim().trim_matches('.').to_ascii_lowercase();
    let label = |l: &str| !l.is_empty() && l.len() <= 63 && l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_');
    if name.len() > 180 || name.split('.').count() < 2 || !name.split('.').all(label) {
        return Err(format!("“{}” is no name of a list: write it as it is asked, such as bl.list.example.", text.trim()));
    }
    Ok(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The examples of RFC 5782, sections 2.1, 2.4 and 5.
    #[rstest]
    #[case("192.0.2.99", "99.2.0.192.bad.example.com")]
    #[case("2001:db8:1:2:3:4:567:89ab", "b.a.9.8.7.6.5.0.4.0.0.0.3.0.0.0.2.0.0.0.1.0.0.0.8.b.d.0.1.0.0.2.ugly.example.com")]
    fn an_address_is_asked_about_backwards(#[case] ip: &str, #[case] name: &str) {
        let list = name.split_once(".bad").or_else(|| name.split_once(".ugly")).map(|(head, _)| &name[head.len() + 1..]).unwrap();
        assert_eq!(of_address(ip.parse().unwrap(), list), name);
    }

    #[test]
    fn a_list_is_tested_before_it_is_believed() {
        assert_eq!(super::tests(Of::Addresses, "l.example"), ("2.0.0.127.l.example".into(), "1.0.0.127.l.example".into()));
        assert_eq!(super::tests(Of::Domains, "l.example"), ("test.l.example".into(), "invalid.l.example".into()));
        assert!(is_listed(&["127.0.0.2".parse().unwrap()]));
        // A name that somebody else has taken answers to everything.
        assert!(!is_listed(&["192.0.2.1".parse().unwrap()]) && !is_listed(&[]));
    }

    #[rstest]
    #[case(" BL.List.example. ", Some("bl.list.example"))]
    #[case("example", None)]
    #[case("a b.example", None)]
    #[case("a..example", None)]
    #[case("", None)]
    fn a_list_has_a_name(#[case] text: &str, #[case] name: Option<&str>) {
        assert_eq!(zone(text).ok().as_deref(), name);
    }
}
