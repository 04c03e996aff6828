//! Mail addresses: what is one, and when two are the same.
//!
//! A mailbox by RFC 5321 section 4.1.2 with the extensions of RFC 6531: dot-atoms or quoted local
//! parts, domain names or address literals. No comments, no folding, no display name, no DNS.

/// Why a text is not an address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    #[error("no address given")]
    Empty,
    #[error("there is no @ in it")]
    NoAt,
    #[error("nothing stands before the @")]
    NoLocalPart,
    #[error("the part before the @ is longer than 64 bytes")]
    LocalTooLong,
    #[error("{0:?} is not allowed before the @ unless in quotes")]
    LocalCharacter(char),
    #[error("a dot can't begin or end the part before the @, nor stand twice in a row")]
    LocalDots,
    #[error("the quotes before the @ don't close")]
    LocalQuotes,
    #[error("the domain is not a valid one")]
    Domain,
    #[error("the domain has no dot, so no mail can reach it from outside")]
    NoDot,
    #[error("the address is longer than 254 bytes")]
    TooLong,
}

/// A valid address in its normal form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    /// Local part as given, domain in lower case and ASCII (IDNA): the form that is mailed.
    pub normal: String,
    /// The form that is compared: the normal form in lower case.
    pub key: String,
    /// The domain in lower case ASCII.
    pub domain: String,
}

impl Address {
    /// Reads one address that mail can be sent to: a mailbox whose domain has a dot, space around
    /// it left out.
    ///
    /// # Errors
    /// Says what is wrong with it, in words fit for the reason column of a refused row.
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let address = Self::mailbox(text.trim())?;
        // Over the Internet only a domain with a dot, or a literal, is reached.
        if address.domain.contains('.') || address.domain.starts_with('[') { Ok(address) } else { Err(AddressError::NoDot) }
    }

    /// Reads a mailbox by RFC 5321, to the letter.
    ///
    /// # Errors
    /// Says what is wrong with it.
    pub fn mailbox(text: &str) -> Result<Self, AddressError> {
        if text.is_empty() {
            return Err(AddressError::Empty);
        }
        let at = text.rfind('@').ok_or(AddressError::NoAt)?;
        let (local, domain) = (&text[..at], &text[at + 1..]);
        check_local(local)?;
        let domain = normal_domain(domain).ok_or(AddressError::Domain)?;
        let normal = format!("{local}@{domain}");
        if normal.len() > 254 {
            return Err(AddressError::TooLong);
        }
        Ok(Self { key: normal.to_lowercase(), normal, domain })
    }
}

fn check_local(local: &str) -> Result<(), AddressError> {
    if local.is_empty() {
        return Err(AddressError::NoLocalPart);
    }
    if local.len() > 64 {
        return Err(AddressError::LocalTooLong);
    }
    if let Some(rest) = local.strip_prefix('"') {
        let inner = rest.strip_suffix('"').filter(|_| local.len() >= 2).ok_or(AddressError::LocalQuotes)?;
        let mut chars = inner.chars();
        while let Some(c) = chars.next() {
            match c {
                '\\' => match chars.next() {
                    Some(' '..='~') => {}
                    _ => return Err(AddressError::LocalQuotes),
                },
                '"' => return Err(AddressError::LocalQuotes),
                c if c.is_control() => return Err(AddressError::LocalCharacter(c)),
                _ => {}
            }
        }
        return Ok(());
    }
    for c in local.chars() {
        let fine = c.is_ascii_alphanumeric()
            || "!#$%&'*+-/=?^_`{|}~.".contains(c)
            || (!c.is_ascii() && !c.is_control() && !c.is_whitespace() && c != '\u{fffd}');
        if !fine {
            return Err(AddressError::LocalCharacter(c));
        }
    }
    if local.starts_with('.') || local.ends_with('.') || local.contains("..") {
        return Err(AddressError::LocalDots);
    }
    Ok(())
}

fn normal_domain(domain: &str) -> Option<String> {
    if let Some(literal) = domain.strip_prefix('[').and_then(|d| d.strip_suffix(']')) {
        let valid = match literal.get(..5) {
            Some(tag) if tag.eq_ignore_ascii_case("IPv6:") => literal[5..].parse::<std::net::Ipv6Addr>().is_ok(),
            _ => literal.parse::<std::net::Ipv4Addr>().is_ok(),
        };
        return valid.then(|| domain.to_ascii_lowercase());
    }
    let ascii = idna::domain_to_ascii(domain).ok()?;
    let labels_fine = ascii.split('.').all(|l| {
        (1..=63).contains(&l.len()) && !l.starts_with('-') && !l.ends_with('-') && l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
    });
    (labels_fine && ascii.len() <= 253).then_some(ascii)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Wren@Fulmar.Example", "Wren@fulmar.example", "wren@fulmar.example")]
    #[case(" o'neil+tide@skerry.example ", "o'neil+tide@skerry.example", "o'neil+tide@skerry.example")]
    #[case("\"a b\"@tern.example", "\"a b\"@tern.example", "\"a b\"@tern.example")]
    #[case("keeper@bücher.example", "keeper@xn--bcher-kva.example", "keeper@xn--bcher-kva.example")]
    #[case("x@[192.0.2.1]", "x@[192.0.2.1]", "x@[192.0.2.1]")]
    fn normalises(#[case] given: &str, #[case] normal: &str, #[case] key: &str) {
        let a = Address::parse(given).unwrap();
        assert_eq!((a.normal.as_str(), a.key.as_str()), (normal, key));
    }

    #[rstest]
    #[case("", AddressError::Empty)]
    #[case("nobody", AddressError::NoAt)]
    #[case("@tern.example", AddressError::NoLocalPart)]
    #[case("a b@tern.example", AddressError::LocalCharacter(' '))]
    #[case(".a@tern.example", AddressError::LocalDots)]
    #[case("a@tern", AddressError::NoDot)]
    #[case("a@-tern.example", AddressError::Domain)]
    #[case("a@tern..example", AddressError::Domain)]
    fn refuses_with_a_reason(#[case] given: &str, #[case] reason: AddressError) {
        assert_eq!(Address::parse(given).unwrap_err(), reason);
    }
}
