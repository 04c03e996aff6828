//! Scores, however entries come and half-lives change: what a person stands at is always the sum of their entries, faded by one half-life, which in
//! the end is the score's.

use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::id::ContactId;
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::scores::{self, From};
use rinse_store::{Connection, Store};

const BEGAN: Instant = Instant::of(1_700_000_000_000);
const PEOPLE: i64 = 5;

#[derive(Debug, Clone)]
enum Step {
    Entry { contact: i64, points: i32, day: i64 },
    HalfLife(Option<u16>),
    Some(usize),
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        5 => (1..=PEOPLE, -20..40, 0i64..200).prop_map(|(contact, points, day)| Step::Entry { contact, points, day }),
        2 => prop::option::of(1u16..100).prop_map(Step::HalfLife),
        3 => (1usize..4).prop_map(Step::Some),
    ]
}

/// What the entries of each person come to by the half-life that is written beside their value.
fn each_is_the_sum_of_its_entries(c: &Connection, entries: &[(i64, f64, Instant)]) -> Result<(), TestCaseError> {
    let now = BEGAN + 300 * DAY;
    for contact in 1..=PEOPLE {
        let theirs: Vec<_> = entries.iter().filter(|e| e.0 == contact).collect();
        let stands = scores::standings(c, ContactId(contact)).unwrap();
        prop_assert_eq!(stands.len(), usize::from(!theirs.is_empty()));
        for (_, (standing, half)) in stands {
            let faded = |at: Instant| half.map_or(1.0, |h| 0.5_f64.powf((now - at) as f64 / DAY as f64 / h));
            let sum: f64 = theirs.iter().map(|(_, points, at)| points * faded(*at)).sum();
            prop_assert!((standing.at(now, half) - sum).abs() < 1e-4, "{} is not {sum}, by {half:?}", standing.at(now, half));
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(crate::common::histories(48))]

    #[test]
    fn a_score_is_the_sum_of_its_entries_by_one_half_life(steps in prop::collection::vec(step(), 1..50)) {
        let folder = tempfile::tempdir().unwrap();
        // Its own writer is gone at once: here every step is chosen.
        drop(Store::open(folder.path(), false).unwrap());
        let c = Connection::open(folder.path().join("rinse.db")).unwrap();
        for person in 1..=PEOPLE {
            contacts::add(&c, &Address::parse(&format!("p{person}@tern.example")).unwrap(), &Profile::default(), BEGAN).unwrap();
        }
        let score = scores::save(&c, None, "Interest", Some(30.0), BEGAN, None).unwrap();
        let mut entries = Vec::new();
        for s in steps {
            match s {
                Step::Entry { contact, points, day } => {
                    let at = BEGAN + day * DAY;
                    scores::add(&c, score, ContactId(contact), at, points.into(), &From::default()).unwrap();
                    entries.push((contact, f64::from(points), at));
                }
                Step::HalfLife(days) => {
                    scores::save(&c, Some(score), "Interest", days.map(f64::from), BEGAN, None).unwrap();
                }
                Step::Some(most) => {
                    scores::some(&c, most).unwrap();
                }
            }
            each_is_the_sum_of_its_entries(&c, &entries)?;
        }
        while scores::some(&c, 2).unwrap() {}
        each_is_the_sum_of_its_entries(&c, &entries)?;
        let of = scores::all(&c).unwrap().remove(0);
        prop_assert!(!of.behind);
        for contact in 1..=PEOPLE {
            prop_assert!(scores::standings(&c, ContactId(contact)).unwrap().iter().all(|s| s.1.1 == of.half_life_days), "by the score's half-life");
        }
    }
}
