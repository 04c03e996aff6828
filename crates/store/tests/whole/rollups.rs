//! Roll-ups, however the responses come (late, twice, in bursts that make earlier clicks a machine's,
//! with people merged in between), are what counting everything again gives.

use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::id::{ContactId, SendId};
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::{Connection, Store, merges, responses, rollups, runs};

const SENT: Instant = Instant::of(1_700_000_000_000);

#[derive(Debug, Clone)]
enum Step {
    Hit { send: i64, link: Option<u32>, after: i64 },
    Reply { send: i64, after: i64 },
    Complain { send: i64, after: i64 },
    Merge { from: i64, into: i64 },
    RollUp { most: usize },
}

fn step() -> impl Strategy<Value = Step> {
    let after = prop_oneof![0i64..40_000, 0i64..20 * DAY, (9 * DAY..9 * DAY + 20_000)];
    prop_oneof![
        8 => (1i64..=24, prop::option::of(0u32..4), after.clone()).prop_map(|(send, link, after)| Step::Hit { send, link, after }),
        2 => (1i64..=24, after.clone()).prop_map(|(send, after)| Step::Reply { send, after }),
        1 => (1i64..=24, after).prop_map(|(send, after)| Step::Complain { send, after }),
        1 => (1i64..=3, 1i64..=3).prop_map(|(from, into)| Step::Merge { from, into }),
        2 => (1usize..5).prop_map(|most| Step::RollUp { most }),
    ]
}

fn rolled(c: &Connection) -> Vec<String> {
    let mut s =
        c.prepare("SELECT json_array(kind, contact_id, n, t1, t2, t3, t4, t5, t6) FROM answered ORDER BY kind, contact_id").unwrap();
    s.query_map([], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
}

/// Three people, eight messages to each.
fn fill(c: &Connection) {
    c.execute_batch("INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1,'a','a','a','a','a','a','a')").unwrap();
    for person in 1..=3 {
        contacts::add(c, &Address::parse(&format!("p{person}@tern.example")).unwrap(), &Profile::default(), SENT).unwrap();
    }
    for mailing in 1..=8 {
        c.execute("INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (?1,'m',1,0)", [mailing]).unwrap();
        for person in 1..=3 {
            let values = [mailing * 3 + person - 3, mailing, person, SENT.millis() + mailing * DAY];
            c.execute(
                "INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, accepted_at) VALUES (?1,?2,?3,0,3,0,0,?4)",
                values,
            )
            .unwrap();
            c.execute("INSERT INTO rollup_due VALUES (?1) ON CONFLICT DO NOTHING", [person]).unwrap();
        }
    }
}

proptest! {
    #![proptest_config(crate::common::histories(48))]

    #[test]
    fn roll_ups_are_what_counting_gives(steps in prop::collection::vec(step(), 1..60)) {
        let folder = tempfile::tempdir().unwrap();
        // Its own writer is gone at once: here every step is chosen.
        drop(Store::open(folder.path(), false).unwrap());
        let c = Connection::open(folder.path().join("rinse.db")).unwrap();
        c.busy_timeout(std::time::Duration::from_secs(10)).unwrap();
        fill(&c);
        for s in steps {
            match s {
                Step::Hit { send, link, after } => {
                    crate::common::hit(&c, send, link, SENT + after, "Reader/5.1", false).unwrap();
                },
                Step::Reply { send, after } => {
                    responses::reply(&c, SendId(send), SENT + after, "Re", "yes").unwrap();
                },
                Step::Complain { send, after } => {
                    responses::complaint(&c, SendId(send), SENT + after).unwrap();
                },
                Step::Merge { from, into } => {
                    let run = runs::begin(&c, SENT, None, "merge", "test", None).unwrap();
                    // One who is merged already is refused.
                    let _ = merges::merge(&c, run, ContactId(from), ContactId(into), SENT, None);
                }
                Step::RollUp { most } => {
                    rollups::some(&c, most).unwrap();
                },
            }
        }
        while rollups::some(&c, 2).unwrap() {}
        let kept = rolled(&c);
        rollups::everything(&c).unwrap();
        prop_assert_eq!(kept, rolled(&c));
    }
}

/// The store's own writer rolls up whatever came in, as soon as nobody waits for it.
#[tokio::test]
async fn the_writer_rolls_up_when_it_is_idle() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), true).unwrap();
    store
        .write(|c| {
            fill(c);
            Ok(())
        })
        .await
        .unwrap();
    let hits = (1..=24).map(|send| store.record(move |c| crate::common::hit(c, send, None, SENT + 20 * DAY, "Reader/5.1", false)));
    futures::future::join_all(hits).await;
    let due = || {
        store
            .read_now(|c| {
                let left: i64 = c.query_row(
                    "SELECT (SELECT count(*) FROM rollup_due) + (SELECT max(id) FROM response) - (SELECT upto FROM rollup)",
                    [],
                    |r| r.get(0),
                )?;
                Ok((left, rolled(c).len()))
            })
            .unwrap()
    };
    let (mut left, mut people) = due();
    while left > 0 {
        tokio::task::yield_now().await;
        (left, people) = due();
    }
    assert_eq!(people, 6, "three people, opened and received");
}
