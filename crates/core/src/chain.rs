//! The chain of the ledger: so that an entry that was changed or taken away shows.
//!
//! An entry's *digest* is SHA-256 over a random salt and what the entry says; its *link* is SHA-256 over the
//! link before and the digest. Changing an entry breaks its digest, removing or inserting one breaks the
//! links after it. To erase what a deleted person's entry says, its salt goes too: the digest that stays
//! can't be tried out against guesses, and the links hold. (The construction is a hash chain over
//! commitments, as in Haber & Stornetta 1991, J. Cryptology 3:99-111.)
//!
//! What it doesn't show: entries taken off the very end. For that [`Link`]s that were noted elsewhere can be
//! held against the chain.

use crate::id::ContactId;
use sha2::{Digest, Sha256};

/// A digest or a link.
pub type Link = [u8; 32];

/// What an entry says, as its digest takes it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry<'a> {
    pub contact: ContactId,
    pub at: i64,
    pub kind: &'a str,
    pub source: &'a str,
    pub evidence: &'a str,
    /// Channel, topic, until, message, import, person, stated consent: none is told apart from any number.
    pub numbers: [Option<i64>; 7],
    /// The legal entity it is about; empty: the first.
    pub entity: &'a str,
}

/// The digest of an entry. Every part is written with its length, so that no two entries look the same.
#[must_use]
pub fn digest(salt: &[u8], e: &Entry<'_>) -> Link {
    let mut h = Sha256::new();
    let mut part = |bytes: &[u8]| {
        h.update((bytes.len() as u64).to_be_bytes());
        h.update(bytes);
    };
    part(salt);
    part(&e.contact.0.to_be_bytes());
    part(&e.at.to_be_bytes());
    for text in [e.kind, e.source, e.evidence, e.entity] {
        part(text.as_bytes());
    }
    for n in e.numbers {
        match n {
            Some(n) => part(&n.to_be_bytes()),
            None => part(&[]),
        }
    }
    h.finalize().into()
}

/// The link of an entry to the one before; of the first, to nothing.
#[must_use]
pub fn link(before: Option<&Link>, digest: &Link) -> Link {
    let mut h = Sha256::new();
    h.update(before.unwrap_or(&[0; 32]));
    h.update(digest);
    h.finalize().into()
}

/// What is wrong with an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Broken {
    /// It says something else than when it was written.
    Changed,
    /// An entry before it was taken away or put in.
    Unlinked,
    /// It carries no digest, or none of its salt though nobody was deleted.
    Unsealed,
}

impl Broken {
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Changed => "says something else than when it was written",
            Self::Unlinked => "doesn't follow from the entry before it: one was taken away or put in",
            Self::Unsealed => "carries no seal",
        }
    }
}

/// An entry with its seal, as it is stored.
#[derive(Debug, Clone, Copy)]
pub struct Sealed<'a> {
    pub entry: Entry<'a>,
    /// None once what it said was erased.
    pub salt: Option<&'a [u8]>,
    pub digest: Option<&'a [u8]>,
    pub link: Option<&'a [u8]>,
    /// The person was deleted at their wish.
    pub erased: bool,
}

/// Holds an entry against the link before it; its own link when all is well.
///
/// # Errors
/// What is broken.
pub fn verify(before: Option<&Link>, s: &Sealed<'_>) -> Result<Link, Broken> {
    let whole = |b: Option<&[u8]>| b.and_then(|b| Link::try_from(b).ok()).ok_or(Broken::Unsealed);
    let (kept, linked) = (whole(s.digest)?, whole(s.link)?);
    match s.salt {
        Some(salt) if digest(salt, &s.entry) != kept => return Err(Broken::Changed),
        None if !s.erased => return Err(Broken::Unsealed),
        _ => {}
    }
    if link(before, &kept) == linked { Ok(linked) } else { Err(Broken::Unlinked) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[derive(Debug, Clone)]
    struct Row {
        contact: ContactId,
        evidence: String,
        salt: Option<Vec<u8>>,
        digest: Link,
        link: Link,
    }

    fn entry(contact: ContactId, evidence: &str) -> Entry<'_> {
        Entry {
            contact,
            at: 7,
            kind: "agreed",
            source: "form",
            evidence,
            numbers: [Some(1), None, None, None, None, None, None],
            entity: "",
        }
    }

    fn chain(rows: &[(i64, String)]) -> Vec<Row> {
        let mut before = None;
        (0u8..)
            .zip(rows)
            .map(|(n, (contact, evidence))| {
                let salt = vec![n; 16];
                let digest = digest(&salt, &entry(ContactId(*contact), evidence));
                let link = link(before.as_ref(), &digest);
                before = Some(link);
                Row { contact: ContactId(*contact), evidence: evidence.clone(), salt: Some(salt), digest, link }
            })
            .collect()
    }

    /// The place of the first broken entry.
    fn first_broken(rows: &[Row], erased: &[i64]) -> Option<usize> {
        let mut before = None;
        rows.iter().position(|r| {
            let sealed = Sealed {
                entry: entry(r.contact, &r.evidence),
                salt: r.salt.as_deref(),
                digest: Some(&r.digest),
                link: Some(&r.link),
                erased: erased.contains(&r.contact.0),
            };
            match verify(before.as_ref(), &sealed) {
                Ok(link) => {
                    before = Some(link);
                    false
                }
                Err(_) => true,
            }
        })
    }

    proptest! {
        /// An untouched chain holds, also with a person erased from it; whatever is changed, removed or
        /// swapped shows at its place.
        #[test]
        fn every_touch_shows(rows in prop::collection::vec((1i64..5, "[a-z ]{0,9}"), 2..20), at in any::<prop::sample::Index>(), gone in 1i64..5) {
            let whole = chain(&rows);
            prop_assert_eq!(first_broken(&whole, &[]), None);
            let mut erased = whole.clone();
            for r in erased.iter_mut().filter(|r| r.contact == ContactId(gone)) {
                r.evidence.clear();
                r.salt = None;
            }
            prop_assert_eq!(first_broken(&erased, &[gone]), None);
            // Pretending that somebody was erased shows.
            prop_assert_eq!(first_broken(&erased, &[]), whole.iter().position(|r| r.contact == ContactId(gone)));

            let i = at.index(whole.len());
            let mut changed = whole.clone();
            changed[i].evidence.push('!');
            prop_assert_eq!(first_broken(&changed, &[]), Some(i));
            let mut sealed_anew = changed.clone();
            sealed_anew[i].digest = digest(sealed_anew[i].salt.as_deref().unwrap(), &entry(sealed_anew[i].contact, &sealed_anew[i].evidence));
            prop_assert_eq!(first_broken(&sealed_anew, &[]), Some(i));
            if i + 1 < whole.len() {
                let mut removed = whole.clone();
                removed.remove(i);
                prop_assert_eq!(first_broken(&removed, &[]), Some(i));
                let mut swapped = whole.clone();
                swapped.swap(i, i + 1);
                prop_assert_eq!(first_broken(&swapped, &[]), Some(i));
            }
        }
    }

    #[test]
    fn parts_are_kept_apart() {
        let a = Entry { kind: "ab", source: "c", ..entry(ContactId(1), "") };
        let b = Entry { kind: "a", source: "bc", ..entry(ContactId(1), "") };
        assert_ne!(digest(b"s", &a), digest(b"s", &b));
        let numbered = Entry { numbers: [None, Some(1), None, None, None, None, None], ..entry(ContactId(1), "") };
        assert_ne!(digest(b"s", &entry(ContactId(1), "")), digest(b"s", &numbered));
    }
}
