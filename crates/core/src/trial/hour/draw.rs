//! Who takes part in a round, and which hour each is drawn to: by keyed hash of the trial's seed and the round, so that it can be worked out
//! again from the frozen roster.

use super::plan::HourPlan;
use crate::id::ContactId;
use crate::token::hex;
use crate::trial::assign::{Person, Placed, assign, on_entry, strata};
use crate::zone::Wall;
use crate::{HOUR, Instant};
use sha2::{Digest, Sha256};
use siphasher::sip::SipHasher13;
use std::collections::BTreeMap;
use std::hash::Hasher;

/// Somebody who may take part, before the draw.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Candidate {
    pub person: Person,
    /// Their time zone, by the number it has in this round.
    pub zone: u32,
    /// The hour of their own, where one was learned.
    pub own: Option<u8>,
}

/// Somebody of a round with the hour they were drawn to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Drawn {
    pub contact: ContactId,
    pub zone: u32,
    /// What the hours were balanced in: time zone by mailbox domain by how people answer.
    pub stratum: u32,
    pub hour: u8,
    /// Their opens can't be known, by what was known of their domain at the draw.
    pub opens_unknown: bool,
    /// The hour of their own, in a trial of own hours: whether they were drawn to it or to the best for all.
    pub own: Option<u8>,
}

/// The seed of a round.
#[must_use]
pub fn seed_of(seed: u64, round: usize) -> u64 {
    let mut h = SipHasher13::new_with_keys(seed, 6);
    h.write_u64(round as u64);
    h.finish()
}

/// When each of these hours comes on somebody's clock on that date; none where their clock changes on it: there the hours aren't as far
/// from each other as for everybody else.
#[must_use]
pub fn instants(clock: &impl Wall, day: i64, hours: &[u8]) -> Option<Vec<Instant>> {
    let (begins, ends) = (clock.first_of_day(day), clock.first_of_day(day + 1));
    if ends - begins != 24 * HOUR {
        return None;
    }
    Some(hours.iter().map(|h| begins + i64::from(*h) * HOUR).collect())
}

/// The draw may come so late and be in time still.
pub const GRACE: i64 = HOUR;

/// A round is drawn before its date begins anywhere: at UTC+14, and [`GRACE`] earlier, so that the first are ready in time.
#[must_use]
pub fn drawn_at(day: i64) -> Instant {
    Instant::of(day * crate::DAY - 14 * HOUR - GRACE)
}

/// When the last of a round's messages is due: the last hour at UTC-12.
#[must_use]
pub fn last_due(day: i64, hours: &[u8]) -> Instant {
    Instant::of(day * crate::DAY + i64::from(hours.last().copied().unwrap_or(23)) * HOUR + 12 * HOUR)
}

/// Draws everybody of a round to an hour, as the plan has it.
#[must_use]
pub fn of_round(plan: &HourPlan, seed: u64, round: usize, people: &[Candidate]) -> Vec<Drawn> {
    if plan.confirms.is_some() { kept(plan, seed, people) } else { draw(seed, round, people, &plan.hours) }
}

/// A round's draw worked out again from its roster.
#[must_use]
pub fn again(plan: &HourPlan, seed: u64, round: usize, roster: &[Drawn]) -> Vec<Drawn> {
    if plan.confirms.is_none() {
        let placed = |d: &Drawn| (Placed { contact: d.contact, stratum: d.stratum, opens_unknown: d.opens_unknown }, d.zone);
        return in_blocks(seed, round, &roster.iter().map(placed).collect::<Vec<_>>(), &plan.hours);
    }
    // Nothing but the person decides there.
    let person = |d: &Drawn| Person { contact: d.contact, domain: 0, cell: None, opens_unknown: d.opens_unknown };
    kept(plan, seed, &roster.iter().map(|d| Candidate { person: person(d), zone: d.zone, own: d.own }).collect::<Vec<_>>())
}

/// Draws everybody to an hour, in permuted blocks over the hours within time zone, mailbox domain and how people answer. The order in which
/// people are given makes no difference.
fn draw(seed: u64, round: usize, people: &[Candidate], hours: &[u8]) -> Vec<Drawn> {
    let mut people = people.to_vec();
    people.sort_unstable_by_key(|c| c.person.contact);
    let groups = strata(&people.iter().map(|c| c.person).collect::<Vec<_>>());
    let mut numbers: BTreeMap<(u32, u32), u32> = people.iter().zip(&groups).map(|(c, p)| ((c.zone, p.stratum), 0)).collect();
    numbers.values_mut().zip(0..).for_each(|(number, i)| *number = i);
    let placed: Vec<(Placed, u32)> =
        people.iter().zip(groups).map(|(c, p)| (Placed { stratum: numbers[&(c.zone, p.stratum)], ..p }, c.zone)).collect();
    in_blocks(seed, round, &placed, hours)
}

/// Draws everybody to an hour that they keep over all rounds of a confirming trial: by the plain hash, so that nobody else's coming or going
/// changes it. Of own hours it is the one for all or their own.
fn kept(plan: &HourPlan, seed: u64, people: &[Candidate]) -> Vec<Drawn> {
    let own_or = plan.of_own_hours();
    let parts = vec![1; plan.compared().len()];
    let hour = |c: &Candidate| {
        let place = on_entry(seed, c.person.contact, &parts);
        own_or.zip(c.own).map_or_else(|| plan.hours[place], |(of, own)| [of.best, own][place])
    };
    let drawn = |c: &Candidate| Drawn {
        contact: c.person.contact,
        zone: c.zone,
        stratum: c.zone,
        hour: hour(c),
        opens_unknown: c.person.opens_unknown,
        own: c.own.filter(|_| own_or.is_some()),
    };
    let mut out: Vec<Drawn> = people.iter().map(drawn).collect();
    out.sort_unstable_by_key(|d| d.contact);
    out
}

/// The hours of people whose strata are known.
fn in_blocks(seed: u64, round: usize, people: &[(Placed, u32)], hours: &[u8]) -> Vec<Drawn> {
    let zones: BTreeMap<ContactId, u32> = people.iter().map(|(p, zone)| (p.contact, *zone)).collect();
    let placed: Vec<Placed> = people.iter().map(|(p, _)| *p).collect();
    let drawn = |e: crate::trial::assign::Enrolled| Drawn {
        contact: e.contact,
        zone: zones[&e.contact],
        stratum: e.stratum,
        hour: hours[e.arm],
        opens_unknown: e.opens_unknown,
        own: None,
    };
    assign(seed_of(seed, round), &placed, &vec![1; hours.len()]).into_iter().map(drawn).collect()
}

/// The digest of a round: who was drawn to which hour, and when it comes on their clock.
#[must_use]
pub fn digest(roster: &[(Drawn, Instant)]) -> String {
    let mut roster = roster.to_vec();
    roster.sort_unstable_by_key(|(d, _)| d.contact);
    let mut h = Sha256::new();
    for (d, due) in &roster {
        let own = d.own.map_or_else(String::new, |own| format!(" {own}"));
        h.update(format!("{} {} {} {} {} {}{own}\n", d.contact, d.zone, d.stratum, d.hour, due.millis(), u8::from(d.opens_unknown)));
    }
    hex(&h.finalize())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::id::HourTrialId;
    use crate::trial::hour::confirming::Confirms;
    use crate::zone::named;
    use proptest::prelude::*;

    fn people(n: usize) -> Vec<Candidate> {
        let person = |i: usize| Person {
            contact: ContactId(i as i64),
            domain: 1 + (i % 4) as u32,
            cell: Some((i % 5) as u8),
            opens_unknown: i.is_multiple_of(9),
        };
        (0..n).map(|i| Candidate { person: person(i), zone: (i % 3) as u32, own: Some(6 + (i % 3) as u8) }).collect()
    }

    proptest! {
        /// Hours are as even as they can be in each stratum, rounds are drawn apart, and the roster gives the draw again.
        #[test]
        fn every_round_is_drawn_for_itself(seed in any::<u64>(), n in 30usize..400, k in 2usize..8) {
            let hours: Vec<u8> = (0..k as u8).map(|h| 6 + 2 * h).collect();
            let first = draw(seed, 1, &people(n), &hours);
            prop_assert_eq!(first.len(), n);
            let mut backward = people(n);
            backward.reverse();
            prop_assert_eq!(&first, &draw(seed, 1, &backward, &hours));
            let mut sizes: BTreeMap<(u32, u8), i64> = BTreeMap::new();
            first.iter().for_each(|d| *sizes.entry((d.stratum, d.hour)).or_default() += 1);
            for stratum in first.iter().map(|d| d.stratum).collect::<std::collections::BTreeSet<_>>() {
                let of: Vec<i64> = hours.iter().map(|h| sizes.get(&(stratum, *h)).copied().unwrap_or(0)).collect();
                prop_assert!(of.iter().max().unwrap() - of.iter().min().unwrap() <= 1);
            }
            let plan = HourPlan { hours: hours.clone(), ..HourPlan::usual("?") };
            prop_assert_eq!(&first, &again(&plan, seed, 1, &first));
            // A hour that is kept is the same in every round, no matter who else comes.
            for own in [false, true] {
                let plan = HourPlan { confirms: Some(Confirms { trial: HourTrialId(1), best: 6, own }), ..plan.clone() };
                let all = of_round(&plan, seed, 1, &people(n));
                prop_assert_eq!(&of_round(&plan, seed, 2, &people(n / 2))[..], &all[..n / 2]);
                prop_assert_eq!(&all, &again(&plan, seed, 1, &all));
                prop_assert!(!own || all.iter().all(|d| d.hour == 6 || Some(d.hour) == d.own));
            }
            prop_assert!(n < 60 || first != draw(seed, 2, &people(n), &hours));
        }
    }

    #[test]
    fn a_date_with_a_clock_change_is_no_round_there() {
        let day = |date: &str| {
            crate::zone::first_instant(format!("{date}T00:00").parse().unwrap(), &crate::zone::TimeZone::UTC).millis() / crate::DAY
        };
        let paris = named("Europe/Paris").unwrap();
        assert_eq!(instants(&paris, day("2026-03-29"), &[9]), None);
        assert_eq!(instants(&paris, day("2026-10-25"), &[9]), None);
        let at = instants(&paris, day("2026-03-30"), &[0, 9]).unwrap();
        assert_eq!((at[0].iso().as_str(), at[1].iso().as_str()), ("2026-03-29T22:00:00Z", "2026-03-30T07:00:00Z"));
        assert!(instants(&named("Pacific/Kiritimati").unwrap(), 20_000, &[0]).unwrap()[0] > drawn_at(20_000));
        assert!(instants(&named("Etc/GMT+12").unwrap(), 20_000, &[23]).unwrap()[0] <= last_due(20_000, &[8, 23]));
    }
}
