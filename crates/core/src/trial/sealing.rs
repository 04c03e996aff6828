//! The seal of a trial: a digest over all that may not change once its pilot goes out. Any later difference shows.

use super::assign::Enrolled;
use super::looks::Look;
use super::rules::Rule;
use crate::token::hex;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// What was sealed beside the plan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Seal {
    pub rule_version: u32,
    /// Looks before the end, with the bounds that the sealed forecast gives them.
    #[serde(default)]
    pub looks: Vec<Look>,
    /// SHA-256 in hexadecimal over the plan, the seed, the rule version, the looks, the variants and the roster.
    pub digest: String,
}

/// The digest of a trial. `plan` is its text as it is kept; `variants` is everything that is sent, variant by variant.
#[must_use]
pub fn digest(plan: &str, seed: u64, rule_version: u32, looks: &[Look], variants: &[String], roster: &[Enrolled]) -> String {
    let mut h = Sha256::new();
    // Each part goes in with its length, so that no two different trials read the same.
    let mut put = |bytes: &[u8]| {
        h.update((bytes.len() as u64).to_be_bytes());
        h.update(bytes);
    };
    put(plan.as_bytes());
    put(&seed.to_be_bytes());
    put(&rule_version.to_be_bytes());
    for l in looks {
        put(&l.at.to_be_bytes());
        // As text: kept as JSON, a number may come back by its last bit different.
        put(format!("{:.6}", l.z_bound).as_bytes());
    }
    variants.iter().for_each(|v| put(v.as_bytes()));
    let mut roster = roster.to_vec();
    roster.sort_unstable_by_key(|e| e.contact);
    for e in &roster {
        put(&e.contact.0.to_be_bytes());
        put(&e.stratum.to_be_bytes());
        put(&(e.arm as u64).to_be_bytes());
        if Rule::of(rule_version).is_none_or(Rule::of_known_opens) {
            put(&[u8::from(e.opens_unknown)]);
        }
    }
    hex(&h.finalize())
}

/// The digest of a stretch, which depends on the seal and on what the stretch is: when it began, and with which parts.
#[must_use]
pub fn stretch_digest(seal: &str, place: i64, began_at: i64, parts: &[u32]) -> String {
    let mut h = Sha256::new();
    h.update(format!("{seal} {place} {began_at} {parts:?}"));
    hex(&h.finalize())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::id::ContactId;
    use proptest::prelude::*;

    proptest! {
        /// Whatever is touched, the digest differs; the order in which the roster is read doesn't matter.
        #[test]
        fn every_touch_shows(plan in "[a-z]{1,8}", seed in any::<u64>(), variants in prop::collection::vec("[a-z]{0,6}", 2..4), n in 1usize..30, at in 0usize..30, what in 0u8..7) {
            let roster: Vec<Enrolled> = (0..n).map(|i| Enrolled { contact: ContactId(i as i64), stratum: (i % 3) as u32, arm: i % 2, opens_unknown: i % 5 == 0 }).collect();
            let sealed = digest(&plan, seed, 4, &[], &variants, &roster);
            let mut backward = roster.clone();
            backward.reverse();
            prop_assert_eq!(&sealed, &digest(&plan, seed, 4, &[], &variants, &backward));
            let (mut p, mut s, mut v, mut r, mut version) = (plan, seed, variants, roster, 4);
            let k = at % n;
            match what {
                0 => p.push('x'),
                1 => s ^= 1,
                2 => v[0].push('x'),
                3 => r[k].arm ^= 1,
                4 => drop(r.remove(k)),
                5 => r[k].opens_unknown ^= true,
                _ => version = 3,
            }
            prop_assert_ne!(sealed, digest(&p, s, version, &[], &v, &r));
        }
    }

    proptest! {
        /// What is kept and read again is the same seal.
        #[test]
        fn keeping_it_changes_nothing(z in prop::collection::vec(1.0f64..25.0, 1..5)) {
            let looks: Vec<Look> = z.iter().map(|z| Look { at: 1, information: 0.5, z_bound: *z }).collect();
            let seal = Seal { rule_version: 2, looks: looks.clone(), digest: digest("p", 1, 2, &looks, &[], &[]) };
            let again: Seal = serde_json::from_str(&serde_json::to_string(&seal).unwrap()).unwrap();
            prop_assert_eq!(digest("p", 1, 2, &again.looks, &[], &[]), seal.digest);
        }
    }

    #[test]
    fn what_stands_in_one_part_cannot_move_to_the_next() {
        let of = |v: &[&str]| digest("p", 1, 2, &[], &v.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>(), &[]);
        assert_ne!(of(&["ab", "c"]), of(&["a", "bc"]));
    }
}
