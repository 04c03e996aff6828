//! Suppression lists: addresses, hashes of addresses and domains that get nothing, whatever their
//! consent.

use crate::address::Address;
use sha2::{Digest, Sha256};
use std::collections::HashMap;

/// What a line of a suppression list names.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Entry {
    /// One address, by its compared form.
    Address(String),
    /// A domain and, by choice, everything under it.
    Domain { name: String, subdomains: bool },
    /// One address, by the SHA-256 of its compared form in lower-case hexadecimal: a list can be
    /// handed on without telling whom it names.
    Hash(String),
}

/// The SHA-256 of a compared address, as lists write it.
#[must_use]
pub fn hash(address_key: &str) -> String {
    crate::token::hex(&Sha256::digest(address_key.as_bytes()))
}

impl Entry {
    /// Reads `someone@tern.example`, `tern.example` (that domain alone), `*.tern.example` (that domain
    /// and its subdomains), or a SHA-256 of 64 hexadecimal digits.
    ///
    /// # Errors
    /// A sentence that says what a line may be.
    pub fn parse(line: &str) -> Result<Self, String> {
        let line = line.trim();
        if line.len() == 64 && line.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Ok(Self::Hash(line.to_ascii_lowercase()));
        }
        if line.contains('@') && !line.starts_with('@') {
            return Address::parse(line).map(|a| Self::Address(a.key)).map_err(|e| format!("{line:?}: {e}"));
        }
        let (name, subdomains) = match line.strip_prefix("*.") {
            Some(name) => (name, true),
            None => (line.strip_prefix('@').unwrap_or(line), false),
        };
        Address::parse(&format!("x@{name}"))
            .map(|a| Self::Domain { name: a.domain, subdomains })
            .map_err(|_| format!("{line:?} is neither an address, a domain nor a hash: write someone@tern.example, tern.example, *.tern.example for its subdomains too, or the SHA-256 of an address."))
    }

    /// The form it is written and stored in.
    #[must_use]
    pub fn text(&self) -> String {
        match self {
            Self::Address(text) | Self::Hash(text) => text.clone(),
            Self::Domain { name, subdomains: false } => name.clone(),
            Self::Domain { name, subdomains: true } => format!("*.{name}"),
        }
    }

    /// An entry as the store has it: its number and its text, checked when it was put there.
    #[must_use]
    pub fn stored(code: i64, text: String) -> Self {
        match code {
            1 => Self::Address(text),
            3 => Self::Domain { name: text.trim_start_matches("*.").to_owned(), subdomains: true },
            4 => Self::Hash(text),
            _ => Self::Domain { name: text, subdomains: false },
        }
    }

    /// Its number in the store.
    #[must_use]
    pub fn code(&self) -> i64 {
        match self {
            Self::Address(_) => 1,
            Self::Domain { subdomains: false, .. } => 2,
            Self::Domain { subdomains: true, .. } => 3,
            Self::Hash(_) => 4,
        }
    }
}

/// Several lists, ready to be asked many times. Answers are a bit for each list.
#[derive(Debug, Default)]
pub struct Lists {
    domains: HashMap<String, u64>,
    trees: HashMap<String, u64>,
    hashes: HashMap<String, u64>,
    addresses: HashMap<String, u64>,
}

impl Lists {
    /// Puts an entry on the list of this place (0 to 63).
    pub fn add(&mut self, place: u32, entry: Entry) {
        let (map, text) = match entry {
            Entry::Address(text) => (&mut self.addresses, text),
            Entry::Domain { name, subdomains: true } => (&mut self.trees, name),
            Entry::Domain { name, subdomains: false } => (&mut self.domains, name),
            Entry::Hash(text) => (&mut self.hashes, text),
        };
        *map.entry(text).or_default() |= 1u64.checked_shl(place).unwrap_or(0);
    }

    /// Do any of them name addresses by hash? Hashing a whole base takes its time.
    #[must_use]
    pub fn has_hashes(&self) -> bool {
        !self.hashes.is_empty()
    }

    /// The lists that name this compared address or its hash.
    #[must_use]
    pub fn address(&self, key: &str) -> u64 {
        let hashed = if self.hashes.is_empty() { 0 } else { self.hashes.get(&hash(key)).copied().unwrap_or(0) };
        self.addresses.get(key).copied().unwrap_or(0) | hashed
    }

    /// The lists that name this domain, by itself or by one it lies under. Whole labels are compared,
    /// so `tern.example` never catches `bittern.example`.
    #[must_use]
    pub fn domain(&self, domain: &str) -> u64 {
        let mut found = self.domains.get(domain).copied().unwrap_or(0);
        let mut rest = Some(domain);
        while let Some(name) = rest {
            found |= self.trees.get(name).copied().unwrap_or(0);
            rest = name.split_once('.').map(|(_, parent)| parent);
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn domains_match_by_label_never_by_substring() {
        let mut list = Lists::default();
        list.add(0, Entry::parse("tern.example").unwrap());
        list.add(3, Entry::parse("*.gull.example").unwrap());
        assert_eq!((list.domain("tern.example"), list.domain("bittern.example")), (1, 0));
        assert_eq!(list.domain("mail.tern.example"), 0, "subdomains only by choice");
        assert_eq!((list.domain("gull.example"), list.domain("a.b.gull.example"), list.domain("seagull.example")), (8, 8, 0));
        assert!(Entry::parse("no domain").is_err());
    }

    #[test]
    fn a_hash_names_an_address_without_telling_it() {
        let key = Address::parse("Wren@Tern.Example").unwrap().key;
        let mut list = Lists::default();
        list.add(1, Entry::parse(&hash(&key).to_uppercase()).unwrap());
        list.add(2, Entry::parse("WREN@tern.example").unwrap());
        assert_eq!(list.address(&key), 6);
        assert_eq!(list.address("other@tern.example"), 0);
        // FIPS 180-4, the digest of "abc".
        assert_eq!(hash("abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    }
}
