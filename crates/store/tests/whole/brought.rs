//! What mailings brought, kept as people buy, do things, click and are merged, in any order and under changing rules and goals, is what counting it
//! again says.

use crate::common::{START, hand_over, hit, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::attribution::{By, Rule};
use rinse_core::clearance::OverCap;
use rinse_core::event::Event;
use rinse_core::findings;
use rinse_core::goal::{Goal, What};
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::purchase::Purchase;
use rinse_core::response::Rules;
use rinse_core::{DAY, HOUR};
use rinse_store::attribution::{self, kept};
use rinse_store::findings::groups::Filter;
use rinse_store::findings::revenue::{self, Towards};
use rinse_store::{Connection, events, goals, machines, merges, purchases, runs, uses};

const PEOPLE: i64 = 4;

#[derive(Debug, Clone)]
enum Step {
    Click { person: i64, mailing: i64, hours: i64 },
    Buys { person: i64, key: u8, lantern: bool, cents: i64, hours: i64 },
    Does { person: i64, key: u8, hours: i64 },
    Rule { first: bool, days: u32 },
    Goal { event: bool },
    NoGoal,
    Stricter,
    Merge,
    Settle,
}

fn step() -> impl Strategy<Value = Step> {
    let (person, hours) = (1..=PEOPLE, 1i64..600);
    prop_oneof![
        6 => (person.clone(), 1i64..4, hours.clone()).prop_map(|(person, mailing, hours)| Step::Click { person, mailing, hours }),
        6 => (person.clone(), any::<u8>(), any::<bool>(), prop_oneof![2 => 100i64..900, 1 => -900i64..-100], hours.clone())
            .prop_map(|(person, key, lantern, cents, hours)| Step::Buys { person, key, lantern, cents, hours }),
        2 => (person, any::<u8>(), hours).prop_map(|(person, key, hours)| Step::Does { person, key, hours }),
        1 => (any::<bool>(), 1u32..30).prop_map(|(first, days)| Step::Rule { first, days }),
        1 => any::<bool>().prop_map(|event| Step::Goal { event }),
        1 => Just(Step::NoGoal),
        1 => Just(Step::Stricter),
        1 => Just(Step::Merge),
        3 => Just(Step::Settle),
    ]
}

fn address(person: i64) -> Address {
    Address::parse(&format!("p{}@tern.example", person - 1)).unwrap()
}

fn happen(c: &Connection, step: &Step) {
    let at = |hours: i64| START + hours * HOUR;
    let gone = |person: i64| rows::<bool>(c, &format!("SELECT gone IS NOT NULL FROM contact WHERE id = {person}"))[0];
    match step {
        Step::Click { person, mailing, hours } => {
            let send = rows::<i64>(c, &format!("SELECT id FROM send WHERE mailing_id = {mailing} AND contact_id = {person}"));
            send.first().map(|s| hit(c, *s, Some(0), at(*hours), "Reader/5.1", false).unwrap()).unwrap_or_default();
        }
        Step::Buys { person, key, lantern, cents, hours } if !gone(*person) => {
            let product = if *lantern { "Lantern" } else { "Boat trip" };
            let p = Purchase {
                key: format!("b{key}"),
                address: address(*person),
                at: at(*hours),
                cents: *cents,
                currency: "GBP".into(),
                product: product.into(),
                category: "shop".into(),
            };
            purchases::take(c, &p).unwrap();
        }
        Step::Does { person, key, hours } if !gone(*person) => {
            let e =
                Event { key: format!("e{key}"), address: address(*person), at: at(*hours), name: "Booked".into(), about: String::new() };
            events::take(c, &e).unwrap();
        }
        Step::Rule { first, days } => {
            let by = if *first { By::FirstClick } else { By::LastClick };
            attribution::set_rule(c, Rule { by, days: *days }, START, None).unwrap();
        }
        Step::Goal { event } => {
            let what = if *event {
                What::Event { name: "booked".into(), cents: 250 }
            } else {
                What::Purchase { product: Some("lantern".into()), category: None }
            };
            drop(goals::save(c, None, if *event { "Bookings" } else { "Lanterns" }, &Goal { what, currency: "GBP".into() }, START, None));
        }
        Step::NoGoal => {
            for k in goals::all(c).unwrap().into_iter().skip(1).take(1) {
                uses::delete_goal(c, k.id, START, None).unwrap();
            }
        }
        Step::Stricter => {
            let rules = Rules { too_soon_seconds: 600, ..Rules::default() };
            machines::put_in_force(c, START, None, &rules, "stricter").unwrap();
            for send in rows::<i64>(c, "SELECT DISTINCT send_id FROM response ORDER BY 1") {
                machines::judging::judge_these(c, machines::current(c).unwrap().id, &[SendId(send)]).unwrap();
            }
        }
        Step::Merge if !gone(1) && !gone(2) => {
            let run = runs::begin(c, START, None, "merge", "two people", None).unwrap();
            merges::merge(c, run, ContactId(1), ContactId(2), START, None).unwrap();
            runs::finish(c, run, 1).unwrap();
        }
        Step::Settle => while kept::some(c, 2).unwrap() {},
        _ => {}
    }
}

fn holds(c: &Connection) {
    while kept::some(c, 2).unwrap() {}
    assert!(!kept::is_behind(c).unwrap());
    for mailing in rows::<i64>(c, "SELECT id FROM mailing ORDER BY id") {
        for b in attribution::counted_anew(c, MailingId(mailing), START + 400 * DAY).unwrap() {
            assert!(attribution::of_mailing(c, MailingId(mailing)).unwrap().contains(&b));
            let filter = Filter { mailing: Some(MailingId(mailing)), ..Filter::default() };
            let kept = revenue::by(c, b.goal, findings::By::Mailing, &filter).unwrap().total;
            let told = (kept.conversions, i64::try_from(kept.people).unwrap(), kept.cents);
            assert_eq!(told, (b.conversions, b.people, b.cents), "{} of mailing {mailing}", b.name);
            let by_day = revenue::by(c, b.goal, findings::By::Day, &filter).unwrap().total;
            assert_eq!((by_day.conversions, by_day.cents), (b.conversions, b.cents), "by day");
            let towards = Towards { goal: b.goal, by: Some(findings::By::Topic), across: Some(findings::By::Month) };
            let cells = revenue::told(c, towards, &filter).unwrap().cells.unwrap();
            let sums = cells.iter().fold((0, 0), |n, x| (n.0 + x.conversions, n.1 + x.cents));
            assert_eq!(sums, (b.conversions, b.cents), "by topic, crossed with months");
        }
    }
}

proptest! {
    #![proptest_config(crate::common::histories(40))]

    #[test]
    fn what_is_kept_is_what_counting_anew_says(steps in prop::collection::vec(step(), 1..60)) {
        run(usize::try_from(PEOPLE).unwrap(), move |c| {
            goals::save(c, None, "Shop", &Goal { what: What::Purchase { product: None, category: None }, currency: "GBP".into() }, START, None).unwrap();
            for _ in 0..3 {
                let m = mailing(c, None, OverCap::Hold);
                start(c, m, START);
                hand_over(c, START, "250 2.0.0 ok");
            }
            for step in &steps {
                happen(c, step);
            }
            holds(c);
        });
    }
}
