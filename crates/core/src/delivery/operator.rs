//! Mailbox groups: mail domains whose mail the same operator takes, by the registered domain of their mail hosts' names. What one operator's hosts
//! think of us, they think of us at all its domains.

use psl::Psl;

/// A mail host of a domain, as its MX record has it: the lower preference comes first (RFC 5321, section 5.1).
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Mx {
    pub preference: u16,
    pub host: String,
}

/// The longest name that is looked at (RFC 1035, section 2.3.4).
const LONGEST: usize = 253;

/// The registered domain of a host's name: `mx3.in.gull.example` is of `gull.example`.
#[must_use]
pub fn registered(host: &str) -> Option<String> {
    let host = host.trim().trim_end_matches('.').to_ascii_lowercase();
    if host.is_empty() || host.len() > LONGEST || host.split('.').any(str::is_empty) {
        return None;
    }
    // A bare address is nobody's name.
    if host.parse::<std::net::IpAddr>().is_ok() {
        return None;
    }
    let found = psl::List.domain(host.as_bytes())?;
    std::str::from_utf8(found.as_bytes()).ok().map(str::to_owned)
}

/// Who takes a domain's mail: by its best mail host, the first of equals by name; none where it has no host, or says that it takes no mail
/// (RFC 7505).
#[must_use]
pub fn of(mx: &[Mx]) -> Option<String> {
    registered(&mx.iter().min()?.host)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn mx(all: &[(u16, &str)]) -> Vec<Mx> {
        all.iter().map(|(preference, host)| Mx { preference: *preference, host: (*host).to_owned() }).collect()
    }

    #[rstest]
    #[case(&[(10, "mx1.in.gull.example."), (5, "MX0.gull.example")], Some("gull.example"))]
    #[case(&[(20, "backup.slowpost.example"), (10, "in.petrel.example")], Some("petrel.example"))]
    // Under a suffix of two labels the name has three.
    #[case(&[(10, "mail.oldlamp.co.uk")], Some("oldlamp.co.uk"))]
    // Null MX.
    #[case(&[(0, ".")], None)]
    #[case(&[], None)]
    #[case(&[(10, "192.0.2.7")], None)]
    #[case(&[(10, "co.uk")], None)]
    #[case(&[(10, "a..example")], None)]
    fn the_best_host_names_the_operator(#[case] all: &[(u16, &str)], #[case] operator: Option<&str>) {
        assert_eq!(of(&mx(all)).as_deref(), operator);
    }

    #[test]
    fn the_order_of_records_is_none() {
        let mut all = mx(&[(10, "b.tern.example"), (10, "a.gull.example"), (30, "c.petrel.example")]);
        let said = of(&all);
        all.reverse();
        assert_eq!(of(&all), said);
    }
}
