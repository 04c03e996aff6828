//! Reactions against their definition: whatever comes in, in whatever order and however often it is looked
//! at, each acts once for each cause, on human responses alone, and scores add up.

use crate::common::{START, base, hand_over, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::attribution::{By, Rule};
use rinse_core::clearance::OverCap;
use rinse_core::event::Event;
use rinse_core::goal::{Goal, What};
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::purchase::Purchase;
use rinse_core::reaction::{Deed, Reaction, Trigger};
use rinse_core::{DAY, HOUR, Instant, MINUTE, SECOND};
use rinse_store::reactions::{self, past, run as acting};
use rinse_store::tags::{self, Kind};
use rinse_store::{
    Connection, StoreError, attribution, erasure, events, goals, merges, purchases, responses, runs, scores, undo, webhooks,
};

const PERSON: &str = "Mozilla/5.0 (a person's)";
const PEOPLE: i64 = 4;

#[derive(Debug, Clone)]
enum Step {
    Open(i64, i64),
    Click(i64, i64, u32),
    /// Every link within two seconds, looked at in between.
    Scanned(i64, i64),
    /// By its key, so that some come twice; so many hours ago.
    Bought(i64, u8, bool, i64),
    Stayed(i64, u8, i64),
    Reply(i64, i64),
    Look,
    Wait(i64),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let (who, which) = (1..=PEOPLE, 1i64..3);
    let one = prop_oneof![
        3 => (who.clone(), which.clone()).prop_map(|(p, m)| Step::Open(p, m)),
        3 => (who.clone(), which.clone(), 0u32..3).prop_map(|(p, m, l)| Step::Click(p, m, l)),
        1 => (who.clone(), which.clone()).prop_map(|(p, m)| Step::Scanned(p, m)),
        2 => (who.clone(), 0u8..6, any::<bool>(), 0i64..60).prop_map(|(p, k, lantern, late)| Step::Bought(p, k, lantern, late)),
        1 => (who.clone(), 0u8..4, 0i64..60).prop_map(|(p, k, late)| Step::Stayed(p, k, late)),
        1 => (who, which).prop_map(|(p, m)| Step::Reply(p, m)),
        3 => Just(Step::Look),
        3 => (1i64..20).prop_map(Step::Wait),
    ];
    prop::collection::vec(one, 1..40)
}

fn points(mailing: Option<i64>, when: Trigger, n: f64) -> Reaction {
    Reaction { mailing: mailing.map(MailingId), when, then: vec![Deed::Score { score: 1, points: n }] }
}

fn send_of(c: &Connection, person: i64, mailing: i64) -> i64 {
    rows::<i64>(c, &format!("SELECT id FROM send WHERE contact_id = {person} AND mailing_id = {mailing}"))[0]
}

fn look(c: &Connection, now: Instant) {
    while acting::step(c, now).unwrap() > 0 {}
}

fn buy(c: &Connection, person: i64, key: &str, lantern: bool, cents: i64, at: Instant) {
    let address = Address::parse(&format!("p{}@tern.example", person - 1)).unwrap();
    let product = if lantern { "Storm lantern" } else { "Chart print" }.to_owned();
    let bought = Purchase { key: key.into(), address, at, cents, currency: "GBP".into(), product, category: "Shop".into() };
    purchases::take(c, &bought).unwrap();
}

fn play(c: &Connection, steps: &[Step]) {
    scores::save(c, None, "Interest", None, START, None).unwrap();
    let (a, b) = (mailing(c, None, OverCap::Hold), mailing(c, None, OverCap::Hold));
    let tag = tags::named(c, Kind::Tag, "keen", START).unwrap();
    let rules = [
        points(None, Trigger::Opened, 1.0),
        points(Some(a), Trigger::Clicked { link: Some(1) }, 10.0),
        points(None, Trigger::NotOpened { hours: 24, taken_back: true }, 100.0),
        points(None, Trigger::NotClicked { hours: 12, link: None, taken_back: false }, 1_000.0),
        points(None, Trigger::Bought { product: Some("storm lantern".into()), category: None }, 0.25),
        points(Some(b), Trigger::Bought { product: None, category: None }, 0.5),
        points(None, Trigger::Answered { name: "stayed".into() }, 0.125),
        Reaction { mailing: None, when: Trigger::Replied, then: vec![Deed::Tag { tag, put: true }] },
    ];
    for r in &rules {
        reactions::save(c, None, r, true, START, None).unwrap();
    }
    start(c, a, START);
    start(c, b, START);
    hand_over(c, START, "250 2.0.0 ok");
    let mut now = START + HOUR;
    for step in steps {
        // Far enough apart that no two steps look like one machine.
        now = now + MINUTE;
        match *step {
            Step::Open(p, m) => assert!(crate::common::hit(c, send_of(c, p, m), None, now, PERSON, false).unwrap()),
            Step::Click(p, m, l) => assert!(crate::common::hit(c, send_of(c, p, m), Some(l), now, PERSON, false).unwrap()),
            Step::Scanned(p, m) => {
                for l in 0..3 {
                    crate::common::hit(c, send_of(c, p, m), Some(l), now + i64::from(l) * SECOND, PERSON, false).unwrap();
                    look(c, now + i64::from(l) * SECOND);
                }
            }
            Step::Bought(p, key, lantern, late) => buy(c, p, &format!("k{key}"), lantern, 4_200, now + -late * HOUR),
            Step::Stayed(p, key, late) => {
                let address = Address::parse(&format!("p{}@tern.example", p - 1)).unwrap();
                let e = Event { key: format!("e{key}"), address, at: now + -late * HOUR, name: "Stayed".into(), about: String::new() };
                events::take(c, &e).unwrap();
            }
            Step::Reply(p, m) => assert!(responses::reply(c, SendId(send_of(c, p, m)), now, "Re", "Thank you").unwrap()),
            Step::Look => look(c, now),
            Step::Wait(hours) => now = now + hours * HOUR,
        }
    }
    now = now + 2 * DAY;
    look(c, now);
    look(c, now + DAY);

    let acted = |r: usize| rows::<i64>(c, &format!("SELECT cause FROM reacted WHERE reaction_id = {} ORDER BY cause", r + 1));
    let human = "r.machine = 0 AND r.send_id = s.id";
    let by = |what: &str| rows::<i64>(c, &format!("SELECT s.id FROM send s WHERE {what} ORDER BY s.id"));
    let some = |kinds: &str, and: &str| format!("EXISTS (SELECT 1 FROM response r WHERE {human} AND r.kind IN ({kinds}) {and})");
    assert_eq!(acted(0), by(&some("1", "")), "opened");
    assert_eq!(acted(1), by(&format!("s.mailing_id = {a} AND {}", some("2", "AND r.link = 1"))), "clicked that link");
    let day = 24 * HOUR;
    assert_eq!(acted(2), by(&format!("NOT {}", some("1, 2", &format!("AND r.at <= s.accepted_at + {day}")))), "silent for a day");
    let back = rows::<i64>(c, "SELECT cause FROM reacted WHERE reaction_id = 3 AND taken_back_at IS NOT NULL ORDER BY cause");
    let later = by(&format!("NOT {} AND {}", some("1, 2", &format!("AND r.at <= s.accepted_at + {day}")), some("1, 2", "")));
    assert_eq!(back, later, "what came later takes it back, once");
    assert_eq!(acted(3), by(&format!("NOT {}", some("2", &format!("AND r.at <= s.accepted_at + {}", 12 * HOUR)))), "no click in time");
    let since = format!("at >= {} ORDER BY id", START.millis());
    assert_eq!(acted(4), rows::<i64>(c, &format!("SELECT id FROM purchase WHERE product_key = 'storm lantern' AND {since}")));
    let put_down: Vec<i64> = rows::<i64>(c, &format!("SELECT id FROM purchase WHERE {since}"))
        .into_iter()
        .filter(|id| {
            let (who, at): (i64, i64) = c.query_row("SELECT contact_id, at FROM purchase WHERE id = ?1", [id], |r| Ok((r.get(0)?, r.get(1)?))).unwrap();
            let clicks: Vec<(i64, i64)> = c
                .prepare(&format!("SELECT r.at, s.mailing_id FROM send s, response r WHERE {human} AND r.kind = 2 AND s.contact_id = ?1 AND r.at <= ?2 AND r.at > ?2 - 7 * 86400000 ORDER BY r.at"))
                .unwrap()
                .query_map([who, at], |r| Ok((r.get(0)?, r.get(1)?)))
                .unwrap()
                .collect::<Result<_, _>>()
                .unwrap();
            clicks.last().is_some_and(|(_, m)| *m == b)
        })
        .collect();
    assert_eq!(acted(5), put_down, "put down to the mailing that was clicked last before it");
    assert_eq!(acted(6), rows::<i64>(c, &format!("SELECT id FROM event WHERE {since}")));
    let tagged = rows::<i64>(c, "SELECT contact_id FROM contact_tag ORDER BY 1");
    assert_eq!(tagged, rows::<i64>(c, "SELECT DISTINCT contact_id FROM send WHERE reply_at IS NOT NULL ORDER BY 1"));

    // Each score is the sum of what its person's causes are worth.
    let worth = [1.0, 10.0, 100.0, 1_000.0, 0.25, 0.5, 0.125];
    for p in 1..=PEOPLE {
        let n = |r: usize| {
            rows::<i64>(
                c,
                &format!("SELECT count(*) FROM reacted WHERE reaction_id = {} AND contact_id = {p} AND taken_back_at IS NULL", r + 1),
            )[0]
        };
        let sum: f64 = worth.iter().enumerate().map(|(i, w)| w * n(i) as f64).sum();
        let now = scores::of_contact(c, ContactId(p), now).unwrap().first().map_or(0.0, |s| s.now);
        assert!((sum - now).abs() < 1e-9, "person {p}: {sum} by the causes, {now} by the score");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn each_cause_is_acted_on_once(steps in steps()) {
        run(PEOPLE as usize, move |c| play(c, &steps));
    }
}

#[test]
fn what_was_before_it_was_switched_on_is_none_of_its() {
    run(2, |c| {
        scores::save(c, None, "Interest", Some(30.0), START, None).unwrap();
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, START);
        hand_over(c, START, "250 2.0.0 ok");
        crate::common::hit(c, send_of(c, 1, m), None, START + HOUR, PERSON, false).unwrap();
        let opened = reactions::save(c, None, &points(None, Trigger::Opened, 1.0), true, START + 2 * HOUR, None).unwrap();
        let silent = points(Some(m), Trigger::NotOpened { hours: 24, taken_back: false }, 8.0);
        let silent = reactions::save(c, None, &silent, true, START + 2 * HOUR, None).unwrap();
        look(c, START + 3 * HOUR);
        assert_eq!(reactions::one(c, opened).unwrap().done, 0);
        // The deadline comes after, though the message came before.
        look(c, START + 25 * HOUR);
        let kept = reactions::one(c, silent).unwrap();
        assert_eq!((kept.done, reactions::reacted(c, silent, true).unwrap()[0].contact.0), (1, 2));
        assert_eq!(
            scores::of_contact(c, ContactId(2), START + 24 * HOUR + 30 * DAY).unwrap()[0].now,
            4.0,
            "half is left after a half-life"
        );
        // Changed, it ends with what it did, and another begins.
        let louder = Reaction { then: vec![Deed::Task { words: "Ring them".into() }], ..kept.rule };
        let next = reactions::save(c, Some(silent), &louder, true, START + 26 * HOUR, None).unwrap();
        assert!(reactions::one(c, silent).unwrap().ended_at.is_some());
        look(c, START + 60 * HOUR);
        assert_eq!((reactions::one(c, silent).unwrap().done, reactions::one(c, next).unwrap().done), (1, 0));
    });
}

#[test]
fn people_whose_opens_cannot_be_told_are_left_alone() {
    run(3, |c| {
        scores::save(c, None, "Interest", None, START, None).unwrap();
        let m = mailing(c, None, OverCap::Hold);
        let by = |when| reactions::save(c, None, &points(None, when, 1.0), true, START, None).unwrap();
        let (silent, no_click) =
            (by(Trigger::NotOpened { hours: 24, taken_back: false }), by(Trigger::NotClicked { hours: 24, link: None, taken_back: false }));
        start(c, m, START);
        hand_over(c, START, "250 2.0.0 ok");
        c.execute("UPDATE domain SET delivered = 500, fetched = 490, opens_unknown = 1", []).unwrap();
        look(c, START + 2 * DAY);
        assert_eq!([silent, no_click].map(|r| reactions::one(c, r).unwrap().done), [0, 3]);
    });
}

#[test]
fn scores_go_with_the_person() {
    run(3, |c| {
        let s = scores::save(c, None, "Interest", Some(10.0), START, None).unwrap();
        for (p, n) in [(1, 4.0), (2, 6.0), (3, 1.0)] {
            scores::add(c, s, ContactId(p), START, n, &scores::From { why: "by hand", ..Default::default() }).unwrap();
        }
        let at = |c: &Connection, p| scores::of_contact(c, p, START).unwrap().first().map_or(0.0, |s| s.now);
        let merged = runs::begin(c, START, None, "merge", "two people", None).unwrap();
        merges::merge(c, merged, ContactId(1), ContactId(2), START, None).unwrap();
        runs::finish(c, merged, 1).unwrap();
        scores::add(c, s, ContactId(2), START, 0.5, &scores::From::default()).unwrap();
        assert_eq!((at(c, ContactId(1)), at(c, ContactId(2))), (0.0, 10.5));
        undo::begin(c, merged, START + HOUR).unwrap();
        while !undo::some(c, merged, START + HOUR, None).unwrap().1 {}
        assert_eq!((at(c, ContactId(1)), at(c, ContactId(2))), (4.0, 6.5), "parted, each has their own; what came since stays");
        erasure::erase(c, ContactId(3), START, None).unwrap();
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM score_entry WHERE contact_id = 3"), [0]);
        // A longer half-life is worked out from the entries.
        scores::save(c, Some(s), "Interest", Some(20.0), START, None).unwrap();
        while scores::some(c, 1).unwrap() {}
        assert_eq!(scores::of_contact(c, ContactId(2), START + 20 * DAY).unwrap()[0].now, 3.25);
        assert!(matches!(scores::save(c, None, "interest", None, START, None), Err(StoreError::Refused(_))), "the name is taken");
    });
}

#[test]
fn a_rule_is_tried_on_the_past_year() {
    run(40, |c| {
        let s = scores::save(c, None, "Interest", Some(200.0), START, None).unwrap();
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, START);
        hand_over(c, START, "250 2.0.0 ok");
        // The first ten click; of them, and of nobody else, eight buy a month or more before now.
        for p in 1..=10 {
            crate::common::hit(c, send_of(c, p, m), Some(0), START + HOUR, PERSON, false).unwrap();
        }
        for p in 1..=8 {
            buy(c, p, &format!("b{p}"), true, 900, START + 200 * DAY);
        }
        let now = START + 240 * DAY;
        let draft = points(None, Trigger::Clicked { link: None }, 5.0);
        assert!(past::try_score(c, s, None, now).is_err(), "there is no rule for it yet");
        let tried = past::try_score(c, s, Some(&draft), now).unwrap();
        let ranking = tried.ranking.unwrap();
        // 8 buyers of 10 with points, 30 others without: 8*30 pairs are won, 8*2 are ties.
        assert_eq!((tried.entries, ranking.buyers, ranking.others), (10, 8, 32));
        assert!((ranking.share - (240.0 + 8.0) / 256.0).abs() < 1e-12);
        assert_eq!((tried.fifths[0].people, tried.fifths[0].buyers), (10, 8));
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM score_entry"), [0], "trying changes nothing");
        // Refunds are no purchases, and what was bought before the cut isn't foretold.
        let late = past::try_score(c, s, Some(&draft), START + 300 * DAY).unwrap();
        assert_eq!(late.ranking, None);
    });
}

#[test]
fn conversions_go_to_the_last_click_and_refunds_where_the_purchase_went() {
    run(2, |c| {
        goals::save(c, None, "Shop", &Goal { what: What::Purchase { product: None, category: None }, currency: "GBP".into() }, START, None)
            .unwrap();
        let (a, b) = (mailing(c, None, OverCap::Hold), mailing(c, None, OverCap::Hold));
        for m in [a, b] {
            start(c, m, START);
        }
        hand_over(c, START, "250 2.0.0 ok");
        let click = |m, hours| assert!(crate::common::hit(c, send_of(c, 1, m), Some(0), START + hours * HOUR, PERSON, false).unwrap());
        click(a, 1);
        buy(c, 1, "one", true, 1_000, START + 2 * HOUR);
        click(b, 3);
        buy(c, 1, "two", false, 500, START + 4 * HOUR);
        buy(c, 1, "three", true, -1_000, START + 5 * HOUR);
        buy(c, 1, "four", true, 700, START + 12 * DAY);
        let of = |c: &Connection, m| {
            let b = attribution::counted_anew(c, m, START + 20 * DAY).unwrap().remove(0);
            (b.conversions, b.people, b.cents)
        };
        assert_eq!(
            (of(c, MailingId(a)), of(c, MailingId(b))),
            ((1, 1, 0), (1, 1, 500)),
            "the lantern came back; twelve days later nothing is put down to a click"
        );
        attribution::set_rule(c, Rule { by: By::FirstClick, days: 90 }, START, None).unwrap();
        assert_eq!((of(c, MailingId(a)), of(c, MailingId(b))), ((3, 1, 1_200), (0, 0, 0)));
        assert!(attribution::set_rule(c, Rule { by: By::LastClick, days: 0 }, START, None).is_err());
    });
}

#[tokio::test]
async fn a_message_is_tried_for_a_day_then_given_up() {
    let (_folder, store) = base(0).await;
    store
        .write(|c| {
            let w = webhooks::make(c, "Records", "/standin/records", b"secret", START, None)?;
            assert!(webhooks::queue(c, w, "k", None, &serde_json::json!({ "n": 1 }), START)?);
            assert!(!webhooks::queue(c, w, "k", None, &serde_json::json!({ "n": 2 }), START)?, "once for its key");
            let mut now = START;
            let mut tries = 0;
            while let Some(next) = webhooks::next_due(c)? {
                now = next;
                let due = webhooks::due(c, now, 10)?;
                webhooks::tried(c, due[0].id, Some(503), "busy", now)?;
                tries += 1;
            }
            assert_eq!((tries, webhooks::log(c)?[0].state.as_str()), (8, "given up"));
            assert!(now - START > 20 * HOUR && now - START < 24 * HOUR);
            webhooks::again(c, webhooks::log(c)?[0].id, now)?;
            webhooks::queue(c, w, "l", None, &serde_json::json!({}), now)?;
            let due = webhooks::due(c, now, 10)?;
            webhooks::tried(c, due[0].id, Some(204), "", now)?;
            assert_eq!(webhooks::all(c)?[0].delivered, 1);
            webhooks::tried(c, due[1].id, Some(410), "no more", now)?;
            assert!(webhooks::name(c, w).is_err() && webhooks::next_due(c)?.is_none(), "the receiver wants no more");
            assert!(!webhooks::queue(c, w, "m", None, &serde_json::json!({}), now)?);
            Ok(())
        })
        .await
        .unwrap();
}
