//! Who takes part and who gets which arm: by keyed hash, so that it can be computed again from the
//! seed and the frozen roster, on another machine, years later.

use crate::id::ContactId;
use siphasher::sip::SipHasher13;
use std::collections::BTreeMap;
use std::hash::Hasher;

/// One line of the roster.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Enrolled {
    pub contact: ContactId,
    pub stratum: u32,
    pub arm: usize,
    /// Their opens can't be known, by what was known of their domain before the seal.
    pub opens_unknown: bool,
}

/// Somebody whose mail is cleared, before the draw.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Person {
    pub contact: ContactId,
    pub domain: u32,
    /// Their cell of mail load; none while it isn't worked out.
    pub cell: Option<u8>,
    pub opens_unknown: bool,
}

/// Somebody with the stratum that they are balanced in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placed {
    pub contact: ContactId,
    pub stratum: u32,
    pub opens_unknown: bool,
}

impl From<(ContactId, u32)> for Placed {
    /// Somebody of whom everything can be known.
    fn from((contact, stratum): (ContactId, u32)) -> Self {
        Self { contact, stratum, opens_unknown: false }
    }
}

/// The small domains together, and those of them whose opens can't be known.
pub const OTHER_DOMAINS: u32 = 0;
pub const OTHER_UNKNOWN: u32 = 1 << 28;

/// What a hash is drawn for; the same person gets unrelated numbers for each.
#[derive(Clone, Copy)]
enum Draw {
    Pilot = 1,
    Arm = 2,
    Block = 3,
    Check = 4,
    Half = 5,
}

fn draw(seed: u64, what: Draw, key: u64) -> u64 {
    let mut h = SipHasher13::new_with_keys(seed, what as u64);
    h.write_u64(key);
    h.finish()
}

/// The strata that people are balanced over: their mailbox domain (those with under a twentieth of the people together, by
/// whether opens can be known of them) by how they answer their mail (the axis of their mail-load cell; unknown is one more).
#[must_use]
pub fn strata(people: &[Person]) -> Vec<Placed> {
    let mut of_domain: BTreeMap<u32, usize> = BTreeMap::new();
    for p in people {
        *of_domain.entry(p.domain).or_default() += 1;
    }
    let group = |p: &Person| match p.opens_unknown {
        _ if of_domain[&p.domain] * 20 >= people.len() => p.domain,
        true => OTHER_UNKNOWN,
        false => OTHER_DOMAINS,
    };
    let placed = |p: &Person| Placed {
        contact: p.contact,
        stratum: group(p) * 8 + p.cell.map_or(5, |c| u32::from(c % 5)),
        opens_unknown: p.opens_unknown,
    };
    people.iter().map(placed).collect()
}

/// Draws the pilot: `size` of the cleared people.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn draw_pilot(seed: u64, cleared: &[Placed], size: usize) -> Vec<Placed> {
    let mut ranked = cleared.to_vec();
    ranked.sort_unstable_by_key(|p| (draw(seed, Draw::Pilot, p.contact.0 as u64), p.contact));
    ranked.truncate(size);
    ranked
}

/// Assigns arms in permuted blocks within strata, people ranked by keyed hash; in each block an arm has its `parts`.
/// The order in which people are given makes no difference.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn assign(seed: u64, roster: &[Placed], parts: &[u32]) -> Vec<Enrolled> {
    let places: Vec<usize> = parts.iter().enumerate().flat_map(|(arm, n)| std::iter::repeat_n(arm, *n as usize)).collect();
    let mut enrolled = Vec::with_capacity(roster.len());
    for Block { stratum, number, members } in blocks(seed, roster, parts) {
        let mut order: Vec<usize> = (0..places.len()).collect();
        order.sort_unstable_by_key(|place| draw(seed, Draw::Block, (u64::from(stratum) << 40) ^ (number << 8) ^ *place as u64));
        let enrol =
            |(p, place): (&Placed, usize)| Enrolled { contact: p.contact, stratum, arm: places[place], opens_unknown: p.opens_unknown };
        enrolled.extend(members.iter().zip(order).map(enrol));
    }
    enrolled.sort_unstable_by_key(|e| e.contact);
    enrolled
}

/// People who are given their arms together: each arm has its parts of them.
#[derive(Debug, Clone)]
pub struct Block {
    pub stratum: u32,
    /// From 0, in the stratum.
    pub number: u64,
    pub members: Vec<Placed>,
}

/// The blocks of a roster: people ranked by keyed hash within their stratum.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn blocks(seed: u64, roster: &[Placed], parts: &[u32]) -> Vec<Block> {
    let size = parts.iter().map(|p| *p as usize).sum::<usize>().max(1);
    let mut strata: BTreeMap<u32, Vec<Placed>> = BTreeMap::new();
    for p in roster {
        strata.entry(p.stratum).or_default().push(*p);
    }
    let mut out = Vec::new();
    for (stratum, mut people) in strata {
        people.sort_unstable_by_key(|p| (draw(seed, Draw::Arm, p.contact.0 as u64), p.contact));
        out.extend(people.chunks(size).zip(0..).map(|(members, number)| Block { stratum, number, members: members.to_vec() }));
    }
    out
}

/// The arm of somebody who comes on their own, by the plain hash: nobody else's coming changes it. Each arm is as likely as
/// its `parts` say; one with none is given to nobody.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn on_entry(seed: u64, contact: ContactId, parts: &[u32]) -> usize {
    let all: u64 = parts.iter().map(|p| u64::from(*p)).sum();
    let place = (u128::from(draw(seed, Draw::Arm, contact.0 as u64)) * u128::from(all)) >> 64;
    let mut upto = 0;
    parts
        .iter()
        .position(|p| {
            upto += u128::from(*p);
            place < upto
        })
        .unwrap_or(0)
}

/// Is this person of the rollout in the 5% that get the no-call choice, so that the rollout can be
/// held against the pilot's estimate?
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn in_rollout_check(seed: u64, contact: ContactId) -> bool {
    draw(seed, Draw::Check, contact.0 as u64).is_multiple_of(20)
}

/// The half of a plain mailing's people that somebody is in, when the same is held against itself.
#[must_use]
#[allow(clippy::cast_sign_loss)]
pub fn in_second_half(seed: u64, contact: ContactId) -> bool {
    draw(seed, Draw::Half, contact.0 as u64) & 1 == 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Each stratum's arms are as large as their parts say, but for the last block, whatever the order people come in.
        #[test]
        fn balanced_and_order_free(seed in any::<u64>(), n in 0usize..400, strata in 1u32..6, parts in prop::collection::vec(1u32..4, 2..5)) {
            let roster: Vec<_> = (0..n).map(|i| Placed::from((ContactId(i as i64 * 7), i as u32 % strata))).collect();
            let block: usize = parts.iter().map(|p| *p as usize).sum();
            let forward = assign(seed, &roster, &parts);
            let mut backward: Vec<_> = roster.clone();
            backward.reverse();
            prop_assert_eq!(&forward, &assign(seed, &backward, &parts));
            for s in 0..strata {
                let blocks = roster.iter().filter(|r| r.stratum == s).count() / block;
                for (arm, part) in parts.iter().enumerate() {
                    let (people, part) = (forward.iter().filter(|e| e.stratum == s && e.arm == arm).count(), *part as usize);
                    prop_assert!((blocks * part..=(blocks + 1) * part).contains(&people));
                }
            }
        }
    }

    #[rstest::rstest]
    #[case(&[1, 1])]
    #[case(&[1, 0, 4])]
    #[case(&[3, 2, 0, 1, 4])]
    fn those_who_come_get_each_arm_as_often_as_its_parts_say(#[case] parts: &[u32]) {
        let (n, all): (i64, u32) = (40_000, parts.iter().sum());
        let mut got = vec![0u64; parts.len()];
        (0..n).for_each(|contact| got[on_entry(77, ContactId(contact), parts)] += 1);
        let open: Vec<(u64, f64)> = got.iter().zip(parts).filter(|(_, p)| **p > 0).map(|(n, p)| (*n, f64::from(*p))).collect();
        assert_eq!(open.iter().map(|o| o.0).sum::<u64>(), n as u64, "nobody gets a closed arm: {got:?} of {all}");
        let (seen, shares): (Vec<u64>, Vec<f64>) = open.into_iter().unzip();
        assert!(crate::stats::goodness_of_fit::sample_ratio_mismatch(&seen, &shares).unwrap().p_value > 1e-6, "{got:?}");
    }

    #[test]
    fn the_first_person_of_a_block_gets_each_arm_equally_often() {
        let first_in_a = (0..4000u64).filter(|s| assign(*s, &[(ContactId(1), 0).into()], &[1, 1])[0].arm == 0).count();
        // Binomial(4000, 1/2) has sd 32; six of them is one in a billion.
        assert!((1810..=2190).contains(&first_in_a), "{first_in_a}");
    }
}
