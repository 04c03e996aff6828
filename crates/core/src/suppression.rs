//! Suppression lists: addresses and domains that get nothing, whatever their consent.

use crate::address::Address;
use std::collections::HashSet;

/// What a line of a suppression list names.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Entry {
    /// One address, by its compared form.
    Address(String),
    /// A domain and, by choice, everything under it.
    Domain { name: String, subdomains: bool },
}

impl Entry {
    /// Reads `someone@tern.example`, `tern.example` (that domain alone) or `*.tern.example`
    /// (that domain and its subdomains).
    ///
    /// # Errors
    /// A sentence that says what a line may be.
    pub fn parse(line: &str) -> Result<Self, String> {
        let line = line.trim();
        if line.contains('@') && !line.starts_with('@') {
            return Address::parse(line).map(|a| Self::Address(a.key)).map_err(|e| format!("{line:?}: {e}"));
        }
        let (name, subdomains) = match line.strip_prefix("*.") {
            Some(name) => (name, true),
            None => (line.strip_prefix('@').unwrap_or(line), false),
        };
        Address::parse(&format!("x@{name}"))
            .map(|a| Self::Domain { name: a.domain, subdomains })
            .map_err(|_| format!("{line:?} is neither an address nor a domain: write someone@tern.example, tern.example, or *.tern.example for its subdomains too"))
    }

    /// The form it is written and stored in.
    #[must_use]
    pub fn text(&self) -> String {
        match self {
            Self::Address(key) => key.clone(),
            Self::Domain { name, subdomains: false } => name.clone(),
            Self::Domain { name, subdomains: true } => format!("*.{name}"),
        }
    }
}

/// A list, ready to be asked many times.
#[derive(Debug, Default)]
pub struct Suppressed {
    addresses: HashSet<String>,
    domains: HashSet<String>,
    trees: HashSet<String>,
}

impl FromIterator<Entry> for Suppressed {
    fn from_iter<I: IntoIterator<Item = Entry>>(entries: I) -> Self {
        let mut s = Self::default();
        for entry in entries {
            match entry {
                Entry::Address(key) => s.addresses.insert(key),
                Entry::Domain { name, subdomains: true } => s.trees.insert(name),
                Entry::Domain { name, subdomains: false } => s.domains.insert(name),
            };
        }
        s
    }
}

impl Suppressed {
    /// Does the list name this address (in its compared form)?
    #[must_use]
    pub fn address(&self, key: &str) -> bool {
        self.addresses.contains(key)
    }

    /// Does the list name this domain, by itself or by one it lies under? Whole labels are
    /// compared, so `tern.example` never catches `bittern.example`.
    #[must_use]
    pub fn domain(&self, domain: &str) -> bool {
        if self.domains.contains(domain) {
            return true;
        }
        let mut rest = Some(domain);
        while let Some(name) = rest {
            if self.trees.contains(name) {
                return true;
            }
            rest = name.split_once('.').map(|(_, parent)| parent);
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn domains_match_by_label_never_by_substring() {
        let list: Suppressed = ["tern.example", "*.gull.example"].iter().map(|l| Entry::parse(l).unwrap()).collect();
        assert!(list.domain("tern.example") && !list.domain("bittern.example"));
        assert!(!list.domain("mail.tern.example"), "subdomains only by choice");
        assert!(list.domain("gull.example") && list.domain("a.b.gull.example") && !list.domain("seagull.example"));
        assert!(Entry::parse("no domain").is_err());
    }
}
