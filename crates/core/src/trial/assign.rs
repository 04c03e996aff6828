//! Who takes part and who gets which arm: by keyed hash, so that it can be computed again from the
//! seed and the frozen roster, on another machine, years later.

use siphasher::sip::SipHasher13;
use std::collections::BTreeMap;
use std::hash::Hasher;

/// One line of the roster.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Enrolled {
    pub contact: i64,
    pub stratum: u32,
    pub arm: usize,
}

/// What a hash is drawn for; the same person gets unrelated numbers for each.
#[derive(Clone, Copy)]
enum Draw {
    Pilot = 1,
    Arm = 2,
    Block = 3,
    Check = 4,
}

fn draw(seed: u64, what: Draw, key: u64) -> u64 {
    let mut h = SipHasher13::new_with_keys(seed, what as u64);
    h.write_u64(key);
    h.finish()
}

/// The strata that people are balanced over: their mailbox domain (those with under a twentieth of the people together)
/// by how they answer their mail (the axis of their mail-load cell; unknown is one more).
#[must_use]
pub fn strata(people: &[(i64, u32, Option<u8>)]) -> Vec<(i64, u32)> {
    let mut of_domain: BTreeMap<u32, usize> = BTreeMap::new();
    for (_, domain, _) in people {
        *of_domain.entry(*domain).or_default() += 1;
    }
    let group = |domain: &u32| if of_domain[domain] * 20 >= people.len() { *domain } else { 0 };
    people.iter().map(|(contact, domain, cell)| (*contact, group(domain) * 8 + cell.map_or(5, |c| u32::from(c % 5)))).collect()
}

/// Draws the pilot: `size` of the cleared people, given as `(contact, stratum)`.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn draw_pilot(seed: u64, cleared: &[(i64, u32)], size: usize) -> Vec<(i64, u32)> {
    let mut ranked = cleared.to_vec();
    ranked.sort_unstable_by_key(|(c, _)| (draw(seed, Draw::Pilot, *c as u64), *c));
    ranked.truncate(size);
    ranked
}

/// Assigns arms in permuted blocks within strata, people ranked by keyed hash. The order in which
/// people are given makes no difference.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn assign(seed: u64, roster: &[(i64, u32)], arms: usize) -> Vec<Enrolled> {
    let mut strata: BTreeMap<u32, Vec<i64>> = BTreeMap::new();
    for (contact, stratum) in roster {
        strata.entry(*stratum).or_default().push(*contact);
    }
    let mut enrolled = Vec::with_capacity(roster.len());
    for (stratum, mut people) in strata {
        people.sort_unstable_by_key(|c| (draw(seed, Draw::Arm, *c as u64), *c));
        for (block, members) in people.chunks(arms.max(1)).enumerate() {
            let mut order: Vec<usize> = (0..arms).collect();
            order.sort_unstable_by_key(|arm| draw(seed, Draw::Block, (u64::from(stratum) << 40) ^ ((block as u64) << 8) ^ *arm as u64));
            enrolled.extend(members.iter().zip(order).map(|(&contact, arm)| Enrolled { contact, stratum, arm }));
        }
    }
    enrolled.sort_unstable_by_key(|e| e.contact);
    enrolled
}

/// Is this person of the rollout in the 5% that get the no-call choice, so that the rollout can be
/// held against the pilot's estimate?
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn in_rollout_check(seed: u64, contact: i64) -> bool {
    draw(seed, Draw::Check, contact as u64).is_multiple_of(20)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Arms differ by at most one person per stratum, whatever the order people come in.
        #[test]
        fn balanced_and_order_free(seed in any::<u64>(), n in 0usize..400, strata in 1u32..6, arms in 2usize..5) {
            let roster: Vec<_> = (0..n).map(|i| (i as i64 * 7, i as u32 % strata)).collect();
            let forward = assign(seed, &roster, arms);
            let mut backward: Vec<_> = roster.clone();
            backward.reverse();
            prop_assert_eq!(&forward, &assign(seed, &backward, arms));
            for s in 0..strata {
                let counts: Vec<_> = (0..arms).map(|a| forward.iter().filter(|e| e.stratum == s && e.arm == a).count()).collect();
                prop_assert!(counts.iter().max().unwrap() - counts.iter().min().unwrap() <= 1);
            }
        }
    }

    #[test]
    fn the_first_person_of_a_block_gets_each_arm_equally_often() {
        let first_in_a = (0..4000u64).filter(|s| assign(*s, &[(1, 0)], 2)[0].arm == 0).count();
        // Binomial(4000, 1/2) has sd 32; six of them is one in a billion.
        assert!((1810..=2190).contains(&first_in_a), "{first_in_a}");
    }
}
