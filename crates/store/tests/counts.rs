//! Figures on screen against a plain count of the raw rows, over random responses.

mod common;

use common::sums_hold;
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::bounce::Reply;
use rinse_core::trial::assign::{Enrolled, assign};
use rinse_core::trial::plan::Plan;
use rinse_core::{HOUR, Instant, MINUTE};
use rinse_store::clearing::{self, Decided};
use rinse_store::contacts::{self, Profile};
use rinse_store::sends::{self, Phase};
use rinse_store::{Connection, Store, findings, responses, trials};

const START: Instant = Instant(1_700_000_000_000);
const PEOPLE: i64 = 24;
const WINDOW: i64 = 24;

#[derive(Debug, Clone)]
struct Happening {
    send: i64,
    minutes: i64,
    kind: i64,
    agent: &'static str,
}

fn happening() -> impl Strategy<Value = Happening> {
    (1..=PEOPLE, 0i64..48 * 60, 1i64..6, prop_oneof![Just("Reader/5.1"), Just("GullPost-ImageProxy/2")])
        .prop_map(|(send, minutes, kind, agent)| Happening { send, minutes, kind, agent })
}

fn plan() -> Plan {
    Plan { pilot_share: 1.0, window_hours: WINDOW, leaving_margin: 0.01, complaint_margin: 0.01, ..Plan::usual("?") }
}

/// One mailing, one trial of everyone; every sixth message bounces.
fn setup(c: &Connection) -> Vec<Enrolled> {
    c.execute_batch(
        "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
         INSERT INTO mailing (id, name, letterhead_id, made_at, state, started_at) VALUES (1, 'm', 1, 0, 'sending', 1);",
    )
    .unwrap();
    for i in 1..=PEOPLE {
        contacts::add(c, &Address::parse(&format!("p{i}@tern.example")).unwrap(), &Profile::default(), START).unwrap();
    }
    c.execute_batch("UPDATE contact SET consent = 2").unwrap();
    trials::save_plan(c, 1, &plan(), START, None).unwrap();
    let roster = assign(7, &(1..=PEOPLE).map(|i| (i, 1)).collect::<Vec<_>>(), &[1, 1]);
    trials::seal(c, 1, 7, &roster, Vec::new(), START).unwrap();
    let cleared = |contact| Decided { contact, domain: 1, zone: 0, outcome: rinse_core::clearance::Outcome::Cleared };
    let done = clearing::audience(c, 1, START).unwrap();
    sends::record(c, 1, &done, START, roster.iter().map(|e| (cleared(e.contact), Phase::Pilot, e.arm))).unwrap();
    let (batch, _) = sends::claim(c, START, 1000).unwrap();
    for out in batch {
        let words = if out.send % 6 == 0 { "550 5.7.1 blocked by policy" } else { "250 2.0.0 ok" };
        sends::answered(c, out.send, &Reply::parse(words), START).unwrap();
    }
    trials::set_reading_due(c).unwrap();
    roster
}

fn happen(c: &Connection, h: &Happening) {
    let at = START + h.minutes * MINUTE;
    match h.kind {
        1 => drop(responses::hit(c, h.send, None, at, h.agent, false).unwrap()),
        2 => drop(responses::hit(c, h.send, Some(0), at, h.agent, false).unwrap()),
        3 => drop(responses::reply(c, h.send, at, "Re", "yes").unwrap()),
        4 => drop(responses::unsubscribe(c, h.send, true, at, "one-click").unwrap()),
        _ => drop(responses::complaint(c, h.send, at).unwrap()),
    }
}

/// Distinct sends with a raw response of this kind, human only when asked, before `until`.
fn reference(c: &Connection, kind: i64, human: bool, until: i64, arm: Option<usize>) -> u64 {
    let arm = arm.map_or(-1, |a| a as i64);
    c.query_row(
        "SELECT count(DISTINCT r.send_id) FROM response r JOIN send s ON s.id = r.send_id
         WHERE r.kind = ?1 AND (NOT ?2 OR r.machine = 0) AND r.at < ?3 AND (?4 < 0 OR s.arm = ?4)",
        rusqlite::params![kind, human, until, arm],
        |r| r.get::<_, i64>(0),
    )
    .unwrap()
    .unsigned_abs()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn figures_equal_a_plain_count(what in prop::collection::vec(happening(), 0..120)) {
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(async {
            let folder = tempfile::tempdir().unwrap();
            let store = Store::open(folder.path(), false).unwrap();
            store.write(move |c| {
                setup(c);
                what.iter().for_each(|h| happen(c, h));
                let trial = trials::one(c, 1)?;
                assert_eq!(trial.reading_due, Some((START + WINDOW * HOUR).0));
                let end = (START + WINDOW * HOUR).0;
                let counts = trials::counts(c, &trial)?;
                for (arm, n) in counts.iter().enumerate() {
                    assert_eq!((n.assigned, n.handed_over), (12, 12));
                    assert_eq!(n.accepted + n.bounced, 12);
                    assert_eq!(n.primary, reference(c, 1, true, end, Some(arm)), "human opens of arm {arm}");
                    assert_eq!(n.reported, reference(c, 1, false, end, Some(arm)), "reported opens of arm {arm}");
                    assert_eq!(n.clicked, reference(c, 2, true, end, Some(arm)));
                    assert_eq!(n.complained, reference(c, 5, true, end, Some(arm)));
                }
                let f = &findings::mailings(c, 0)?[0];
                let all = i64::MAX;
                assert_eq!((f.sent, f.bounced.count, f.accepted.count), (24, 4, 20));
                assert_eq!((f.opens.count, f.reported_opens.count), (reference(c, 1, true, all, None), reference(c, 1, false, all, None)));
                assert_eq!((f.clicks.count, f.reported_clicks.count), (reference(c, 2, true, all, None), reference(c, 2, false, all, None)));
                assert_eq!(f.complaints.count, reference(c, 5, true, all, None));
                for (figure, n) in [("opens", f.opens.count), ("withdrawals", f.withdrawals.count), ("bounced", 4), ("complaints", f.complaints.count)] {
                    assert_eq!(findings::rows(c, 1, figure)?.len() as u64, n, "{figure} open to their rows");
                }
                sums_hold(c);
                // Retries on another day, another class: the sums follow, the mailing's stay.
                c.execute("UPDATE send SET at = at + 86400000 * (id % 3), class = 1 + id % 2", [])?;
                sums_hold(c);
                assert_eq!(findings::mailings(c, 0)?[0].opens.count, f.opens.count);
                Ok(())
            }).await.unwrap();
        });
    }
}
