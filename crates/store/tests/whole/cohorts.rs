//! Cohorts counted day by day against a plain recount, over random lives: people come, agree, pause, leave, bounce, answer, buy, are merged and deleted.

use crate::common::{START, hand_over, hit, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::bounce::Category;
use rinse_core::clearance::OverCap;
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, SendId};
use rinse_core::{DAY, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::ledger::{self, Origin};
use rinse_store::{Connection, cohorts, erasure, merges, responses, runs, sends};

const PEOPLE: i64 = 12;

#[derive(Debug, Clone)]
enum Then {
    Joins,
    Agrees(i64),
    Pauses(i64, i64),
    Withdraws(i64),
    Mailing,
    Fails(i64),
    Opens(i64),
    Clicks(i64),
    Buys(i64, i64),
    Refunded,
    Sunset(i64),
    Merged(i64, i64),
    Deleted(i64),
    Counted,
}

fn then() -> impl Strategy<Value = (i64, Then)> {
    let who = 1i64..=PEOPLE + 3;
    let what = prop_oneof![
        2 => Just(Then::Joins),
        3 => who.clone().prop_map(Then::Agrees),
        2 => (who.clone(), 1i64..90).prop_map(|(w, d)| Then::Pauses(w, d)),
        2 => who.clone().prop_map(Then::Withdraws),
        4 => Just(Then::Mailing),
        2 => (1i64..60).prop_map(Then::Fails),
        6 => (1i64..60).prop_map(Then::Opens),
        4 => (1i64..60).prop_map(Then::Clicks),
        4 => (who.clone(), -2_000i64..9_000).prop_map(|(w, c)| Then::Buys(w, c)),
        1 => Just(Then::Refunded),
        1 => who.clone().prop_map(Then::Sunset),
        1 => (who.clone(), who.clone()).prop_map(|(a, b)| Then::Merged(a, b)),
        1 => who.prop_map(Then::Deleted),
        3 => Just(Then::Counted),
    ];
    (0i64..25, what)
}

fn counted(c: &Connection, now: Instant) {
    let (people, to) = cohorts::changed(c, now).unwrap();
    cohorts::count(c, &people).unwrap();
    cohorts::counted_upto(c, to).unwrap();
}

fn happens(c: &Connection, n: usize, then: &Then, now: Instant) {
    let origin = Origin { source: "test", ..Origin::default() };
    let there = |id: i64| !rows::<i64>(c, &format!("SELECT id FROM contact WHERE id = {id} AND gone IS NULL")).is_empty();
    let act = |id: i64, act: Act| there(id).then(|| ledger::act(c, ContactId(id), now, act, &origin).unwrap());
    let sent = |send: i64| !rows::<i64>(c, &format!("SELECT id FROM send WHERE id = {send} AND accepted_at IS NOT NULL")).is_empty();
    match *then {
        Then::Joins => drop(contacts::add(c, &Address::parse(&format!("n{n}@tern.example")).unwrap(), &Profile::default(), now).unwrap()),
        Then::Agrees(id) => drop(act(id, Act::Confirmed)),
        Then::Pauses(id, days) => drop(act(id, Act::Paused { until: now + days * DAY })),
        Then::Withdraws(id) => drop(act(id, Act::Withdrew)),
        Then::Mailing => {
            start(c, mailing(c, None, OverCap::Hold), now);
            hand_over(c, now, "250 2.0.0 ok");
        }
        Then::Fails(send) if sent(send) => sends::failed(c, SendId(send), Category::NoSuchAddress, "550 5.1.1 no", now).unwrap(),
        Then::Opens(send) if sent(send) => drop(hit(c, send, None, now, "Reader/5.1", false).unwrap()),
        Then::Clicks(send) if sent(send) => drop(responses::reply(c, SendId(send), now, "Re", "yes").unwrap()),
        Then::Buys(id, cents) if there(id) => {
            c.execute(
                "INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key) VALUES (?1, ?2, ?3, ?4, iif(?4 % 2, 'EUR', 'GBP'), 'p', 'p')",
                (n.to_string(), id, now.millis(), cents),
            )
            .unwrap();
        }
        Then::Refunded => drop(c.execute("DELETE FROM purchase WHERE id = (SELECT min(id) FROM purchase)", []).unwrap()),
        Then::Sunset(id) if there(id) => drop(ledger::put_sunset(c, ContactId(id), now, now, &origin).unwrap()),
        Then::Merged(a, b) if a != b && there(a) && there(b) => {
            let run = runs::begin(c, now, None, "merge", "test", None).unwrap();
            drop(merges::merge(c, run, ContactId(a), ContactId(b), now, None));
        }
        Then::Deleted(id) if there(id) => drop(erasure::erase(c, ContactId(id), now, None)),
        Then::Counted => counted(c, now),
        _ => {}
    }
}

const MONTH: &str =
    "((CAST(strftime('%Y', {} / 1000, 'unixepoch') AS INTEGER) - 1970) * 12 + CAST(strftime('%m', {} / 1000, 'unixepoch') AS INTEGER) - 1)";

fn month(of: &str) -> String {
    MONTH.replace("{}", of)
}

proptest! {
    #![proptest_config(crate::common::histories(40))]

    #[test]
    fn what_is_counted_day_by_day_is_a_plain_recount(then in prop::collection::vec(then(), 0..70)) {
        run(PEOPLE as usize, move |c| {
            let mut now = START;
            for (n, (days, what)) in then.iter().enumerate() {
                now = now + days * DAY + 3_600_000;
                happens(c, n, what, now);
            }
            counted(c, now);
            let (k, s, p) = (month("k.added_at"), month("t.at"), month("p.at"));
            let people = "contact k WHERE coalesce(k.gone, 1) = 1";
            assert_eq!(
                rows::<String>(c, "SELECT joined || ' ' || sum(people) FROM cohort_sum GROUP BY joined HAVING sum(people) > 0 ORDER BY 1"),
                rows::<String>(c, &format!("SELECT {k} || ' ' || count(*) FROM {people} GROUP BY {k} ORDER BY 1"))
            );
            // Who can be mailed at the end of this month, as far as is known: those who can now, and whose pause ends in it.
            let told = cohorts::told(c, 64).unwrap();
            let last: Vec<String> = told.cohorts.iter().map(|g| format!("{} {}", g.name, g.cells.last().unwrap().mailable.count)).collect();
            let ends = rinse_core::cohort::begins(rinse_core::cohort::month(now) + 1);
            let plain: Vec<String> = rows(
                c,
                &format!(
                    "SELECT {k} || ' ' || sum(gone IS NULL AND sunset_at IS NULL AND status NOT IN (1, 3)
                        AND (consent IN (2, 3) OR (consent = 4 AND under_pause IN (2, 3) AND paused_until < {}))) FROM {people} GROUP BY {k} ORDER BY {k}",
                    ends.millis()
                ),
            );
            let named = |row: &String| {
                let (month, n) = row.split_once(' ').unwrap();
                format!("{} {n}", rinse_core::cohort::words(month.parse().unwrap()))
            };
            assert_eq!(last, plain.iter().map(named).collect::<Vec<_>>());
            let answers = ["iif(opens_unknown = 0, open_at, NULL)", "click_at", "reply_at"]
                .map(|at| format!("SELECT contact_id, {at} AS at FROM send WHERE {at} IS NOT NULL"))
                .join(" UNION ALL ");
            assert_eq!(
                rows::<String>(c, "SELECT joined || ' ' || since || ' ' || answered FROM cohort_sum WHERE answered > 0 ORDER BY 1"),
                rows::<String>(c, &format!("SELECT {k} || ' ' || max(0, {s} - ({k})) || ' ' || count(DISTINCT t.contact_id) FROM ({answers}) t
                    JOIN contact k ON k.id = t.contact_id WHERE coalesce(k.gone, 1) = 1 GROUP BY {k}, max(0, {s} - ({k})) ORDER BY 1"))
            );
            assert_eq!(
                rows::<String>(c, "SELECT joined || ' ' || since || ' ' || currency || ' ' || people || ' ' || cents FROM cohort_bought WHERE people > 0 ORDER BY 1"),
                rows::<String>(c, &format!("SELECT {k} || ' ' || max(0, {p} - ({k})) || ' ' || p.currency || ' ' || count(DISTINCT p.contact_id) || ' ' || sum(p.cents) FROM purchase p
                    JOIN contact k ON k.id = p.contact_id WHERE coalesce(k.gone, 1) = 1 GROUP BY {k}, max(0, {p} - ({k})), p.currency ORDER BY 1"))
            );
        });
    }
}
