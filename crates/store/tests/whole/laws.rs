//! What must hold whatever the order of events: caps, withdrawals, retries, one message each.

use crate::common::{START, base, hand_over, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::bounce::Reply;
use rinse_core::clearance::OverCap;
use rinse_core::code::Code;
use rinse_core::consent::{Act, Consent, fold};
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::ledger::{self, Origin};
use rinse_store::responses::{self, Left};
use rinse_store::upkeep::{policy, status};
use rinse_store::{Connection, StoreError, contacts, mailings, sends, settings};
use rstest::rstest;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// The consent column is what the ledger adds up to.
    #[test]
    fn the_ledger_adds_up(acts in prop::collection::vec(prop_oneof![Just(Act::Agreed), Just(Act::Confirmed), Just(Act::Withdrew), Just(Act::Complained), Just(Act::Resumed), (0i64..12).prop_map(|t| Act::Paused { until: START + t })], 0..10)) {
        let stored = {
            let acts = acts.clone();
            run(1, move |c| {
                for (i, act) in acts.into_iter().enumerate() {
                    ledger::act(c, ContactId(1), START + 1 + i as i64, act, &Origin { source: "test", ..Origin::default() }).unwrap();
                }
                // A pause ends by itself; the column keeps it until the next act.
                let (state, under, until): (i64, i64, Option<i64>) =
                    c.query_row("SELECT consent, under_pause, paused_until FROM contact", [], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?))).unwrap();
                let over = state == 4 && until.is_some_and(|u| u <= (START + 50).millis());
                Consent::of_code(if over { under } else { state }).unwrap()
            })
        };
        let acts = acts.into_iter().enumerate().map(|(i, act)| (START + 1 + i as i64, act));
        prop_assert_eq!(stored, fold([(START, Act::Agreed)].into_iter().chain(acts)).at(START + 50));
    }
}

#[rstest]
#[case(None, Left::Everything, 0)]
#[case(Some(1), Left::Topic, 1)]
fn leaving_ends_what_it_says_and_nothing_else(#[case] topic: Option<i64>, #[case] want: Left, #[case] other_mailings_reach: usize) {
    run(1, move |c| {
        let first = mailing(c, topic, OverCap::Hold);
        start(c, first, START);
        hand_over(c, START, "250 2.0.0 ok");
        assert_eq!(responses::unsubscribe(c, SendId(1), false, START + 1, "one-click").unwrap(), Some(want));
        let entries = ledger::of_contact(c, ContactId(1)).unwrap().len();
        assert_eq!(responses::unsubscribe(c, SendId(1), false, START + 2, "one-click").unwrap(), Some(want));
        assert_eq!(ledger::of_contact(c, ContactId(1)).unwrap().len(), entries, "the same again changes nothing");
        for (t, reach) in [(topic, 0), (Some(2), other_mailings_reach)] {
            let m = mailing(c, t, OverCap::Hold);
            start(c, m, START + DAY);
            assert_eq!(hand_over(c, START + DAY, "250 2.0.0 ok"), reach);
        }
        assert_eq!(responses::unsubscribe(c, SendId(99), true, START, "one-click").unwrap(), None, "a message we never sent");
    });
}

#[rstest]
#[case::withdrew(Act::Withdrew)]
#[case::complained(Act::Complained)]
fn a_withdrawal_before_handover_wins(#[case] act: Act) {
    run(3, move |c| {
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, START);
        ledger::act(c, ContactId(2), START, act, &Origin { source: "test", ..Origin::default() }).unwrap();
        assert_eq!(hand_over(c, START, "250 2.0.0 ok"), 2);
        assert_eq!(rows::<i64>(c, "SELECT contact_id FROM send WHERE state = 6"), [2]);
    });
}

#[test]
fn a_deferred_message_is_tried_ever_less_often_and_then_given_up() {
    run(1, |c| {
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, START);
        let mut at = Vec::new();
        while let Some(due) = sends::next_due(c).unwrap() {
            hand_over(c, due, "451 4.7.1 greylisted, try again later");
            at.push((due - START) / 60_000);
        }
        assert_eq!(at, [0, 10, 40, 160, 520, 1240, 2680], "minutes after the start");
        assert_eq!(rows::<i64>(c, "SELECT state FROM send"), [5]);
        let person = contacts::one(c, ContactId(1), START + DAY).unwrap();
        assert_eq!(person.row.consent, Consent::Consented, "a failure never touches consent");
    });
}

#[test]
fn three_quick_clicks_take_the_earlier_two_back() {
    run(1, |c| {
        let m = mailing(c, None, OverCap::Hold);
        mailings::save_links(c, MailingId(m), &[]).unwrap();
        start(c, m, START);
        hand_over(c, START, "250 2.0.0 ok");
        let human = |c: &Connection| rows::<Option<i64>>(c, "SELECT click_at FROM send")[0];
        for (i, link) in [0u32, 1, 2].into_iter().enumerate() {
            crate::common::hit(c, 1, Some(link), START + 60_000 + i as i64 * 900, "Reader/5.1", false).unwrap();
            assert_eq!(human(c).is_some(), i < 2);
        }
        crate::common::hit(c, 1, Some(0), START + HOUR, "Reader/5.1", false).unwrap();
        assert_eq!(human(c), Some((START + HOUR).millis()));
        assert!(!crate::common::hit(c, 77, None, START, "Reader/5.1", false).unwrap());
    });
}

#[test]
fn sends_in_doubt_are_settled_by_what_the_host_knows() {
    run(3, |c| {
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, START);
        let (batch, _) = sends::claim(c, START, 10).unwrap();
        assert_eq!(sends::in_doubt(c).unwrap(), batch.iter().map(|o| o.send).collect::<Vec<_>>());
        sends::settle(c, &[(SendId(1), Some(true)), (SendId(2), Some(false)), (SendId(3), None)], START).unwrap();
        assert_eq!(rows::<i64>(c, "SELECT state FROM send ORDER BY id"), [3, 1, 7]);
        assert_eq!(hand_over(c, START, "250 2.0.0 ok"), 1, "only the one the host has not");
        assert_eq!(sends::decide_doubt(c, true, START).unwrap(), 1);
        assert_eq!(hand_over(c, START, "250 2.0.0 ok"), 1);
    });
}

/// A mailing on a day that the only person's host accepts; the number of its message.
fn deliver(c: &Connection, day: i64) -> i64 {
    let m = mailing(c, None, OverCap::Hold);
    start(c, m, START + day * DAY);
    hand_over(c, START + day * DAY, "250 2.0.0 ok");
    rows::<i64>(c, "SELECT max(id) FROM send")[0]
}

/// The only person's mail status.
fn stands(c: &Connection) -> i64 {
    rows::<i64>(c, "SELECT status FROM contact")[0]
}

#[test]
fn no_such_address_rests_then_retires_and_a_late_report_counts_once() {
    run(1, |c| {
        let fail = |c: &Connection, send: i64, day: i64| {
            let r = Reply::parse("550 5.1.1 no such user");
            sends::failed(c, SendId(send), r.category(), &r.line(), START + day * DAY + HOUR).unwrap();
        };
        deliver(c, 0);
        let second = deliver(c, 10);
        fail(c, second, 10);
        fail(c, second, 11);
        assert_eq!(stands(c), 1, "rests, and the same report twice changes nothing");
        assert_eq!(status::end_rests(c, START + 39 * DAY).unwrap(), 0, "thirty days");
        assert_eq!(status::end_rests(c, START + 41 * DAY).unwrap(), 1);
        assert_eq!(stands(c), 2, "observed after its rest");
        let third = deliver(c, 45);
        fail(c, third, 45);
        assert_eq!(stands(c), 3);
        let last = ledger::of_contact(c, ContactId(1)).unwrap().pop().unwrap();
        assert!(last.kind == "retired" && last.evidence.contains("twice"), "{last:?}");
    });
}

/// What happens once a day.
fn settle(c: &Connection, now: Instant) {
    let seen = policy::see(c, &policy::current(c).unwrap().policy, now, |_, _| Ok(())).unwrap();
    policy::note_history(c, &seen, now).unwrap();
    while status::settle_due(c, now).unwrap() {}
}

#[test]
fn observed_ends_without_another_failure() {
    run(1, |c| {
        deliver(c, 0);
        let second = deliver(c, 10);
        let r = Reply::parse("550 5.1.1 no such user");
        sends::failed(c, SendId(second), r.category(), &r.line(), START + 10 * DAY + HOUR).unwrap();
        status::end_rests(c, START + 41 * DAY).unwrap();
        for i in 0..4 {
            deliver(c, 45 + 2 * i);
        }
        settle(c, START + 54 * DAY);
        assert_eq!(stands(c), 2, "the last may still come back");
        settle(c, START + 57 * DAY);
        assert_eq!(stands(c), 0);
        let last = ledger::of_contact(c, ContactId(1)).unwrap().pop().unwrap();
        assert!(last.kind == "active" && last.evidence.contains("4 mailings in a row arrived"), "{last:?}");
    });
}

#[tokio::test]
async fn a_failing_write_leaves_nothing_and_its_neighbours_stay() {
    let (_folder, store) = base(1).await;
    let good = store.write(|c| settings::set(c, "a", "1"));
    let bad = store.write(|c| {
        settings::set(c, "b", "2")?;
        Err::<(), _>(StoreError::Refused("no".into()))
    });
    let (good, bad) = tokio::join!(good, bad);
    assert!(good.is_ok() && bad.is_err());
    let kept = store.read(|c| Ok((settings::get(c, "a")?, settings::get(c, "b")?))).await.unwrap();
    assert_eq!(kept, (Some("1".into()), None));
}

#[tokio::test(flavor = "multi_thread")]
async fn readers_do_not_wait_for_the_writer() {
    let (_folder, store) = base(1).await;
    let (begun, told) = std::sync::mpsc::channel();
    let (go_on, wait) = std::sync::mpsc::channel::<()>();
    let writing = tokio::spawn({
        let store = store.clone();
        async move {
            store
                .write(move |c| {
                    settings::set(c, "k", "new")?;
                    begun.send(()).unwrap();
                    wait.recv().unwrap();
                    Ok(())
                })
                .await
        }
    });
    tokio::task::spawn_blocking(move || told.recv().unwrap()).await.unwrap();
    assert_eq!(store.read(|c| settings::get(c, "k")).await.unwrap(), None, "the last committed state, at once");
    go_on.send(()).unwrap();
    writing.await.unwrap().unwrap();
    assert_eq!(store.read(|c| settings::get(c, "k")).await.unwrap(), Some("new".into()));
}
