//! Machine rules: what is stored is what judging it again gives, whatever came in which order under which rules; other rules are tried on the past
//! before they change anything, and going back brings back what was.

use crate::common::{START, hand_over, mailing, rows, run, start, sums_hold};
use proptest::prelude::*;
use rinse_core::clearance::OverCap;
use rinse_core::figure::Figure;
use rinse_core::id::{ContactId, MailingId, SendId, TrialId};
use rinse_core::response::{Machine, Rules};
use rinse_core::trial::plan::Plan;
use rinse_core::{DAY, HOUR, Instant, MINUTE, SECOND};
use rinse_store::machines::{self, Changes, judging, opens, past};
use rinse_store::responses::{self, Came};
use rinse_store::{Connection, figures, trials};
use std::net::IpAddr;

const PEOPLE: usize = 60;

#[derive(Debug, Clone)]
enum Step {
    Hit { send: i64, came: Came },
    Button { send: i64, ms: i64 },
    Rules(Rules),
}

fn rules() -> impl Strategy<Value = Rules> {
    let networks = prop::sample::subsequence(vec!["198.51.100.0/24", "2001:db8::/32"], 0..=2);
    let agents = prop::sample::subsequence(vec!["imageproxy", "scanwell"], 0..=2);
    (0u32..40, 2u32..4, 1u32..6, networks, agents).prop_map(|(too_soon_seconds, burst_links, burst_seconds, networks, agents)| Rules {
        too_soon_seconds,
        burst_links,
        burst_seconds,
        networks: networks.into_iter().map(|n| n.parse().unwrap()).collect(),
        agents: agents.into_iter().map(str::to_owned).collect(),
        ..Rules::default()
    })
}

fn step() -> impl Strategy<Value = Step> {
    let agent = prop_oneof![3 => Just("Reader/5.1"), 1 => Just("Gull-ImageProxy/2"), 1 => Just("ScanWell")];
    let from = prop::sample::select(vec![None, Some("198.51.100.7"), Some("2001:db8:7::1"), Some("192.0.2.1")]);
    let send = 1i64..5;
    let hit = (send.clone(), prop::option::of(0u32..4), 0i64..40_000, agent, from, prop::bool::weighted(0.1)).prop_map(
        |(send, link, ms, agent, from, head)| {
            let from = from.map(|ip: &str| ip.parse::<IpAddr>().unwrap());
            Step::Hit { send, came: Came { link, at: START + ms, agent: agent.into(), from, head } }
        },
    );
    let button = (send, 0i64..40_000).prop_map(|(send, ms)| Step::Button { send, ms });
    prop_oneof![20 => hit, 1 => button, 2 => rules().prop_map(Step::Rules)]
}

/// As the engine does it, in small parts.
fn judged_anew(c: &Connection) -> Changes {
    while opens::mark_some(c, 7).unwrap() {}
    while let Some((version, upto)) = judging::unfinished(c).unwrap() {
        let looked = judging::look(c, upto, 2).unwrap();
        judging::judge_these(c, version, &looked.otherwise).unwrap();
        judging::came_to(c, version, &looked, START).unwrap();
    }
    machines::current(c).unwrap().changed.unwrap_or_default()
}

/// All that is said of messages, and how their hits are judged.
fn stored(c: &Connection) -> Vec<String> {
    let of = |sql| rows::<String>(c, sql);
    let mut all = of(
        "SELECT concat_ws(' ', id, open_at, '/', click_at, '/', trial_click_at, '/', open_rule, '/', click_rule, '/', opens_unknown) FROM send ORDER BY id",
    );
    all.extend(of("SELECT id || ' ' || machine FROM response ORDER BY id"));
    all
}

/// What is kept of links is what their clicks come to.
fn links_hold(c: &Connection) {
    let counted = "SELECT s.mailing_id, r.link, s.arm, count(DISTINCT iif(r.machine = 0, r.send_id, NULL)), count(iif(r.machine = 0, 1, NULL)), count(DISTINCT r.send_id),
        count(iif(r.machine <> 0, 1, NULL)) FROM response r JOIN send s ON s.id = r.send_id WHERE r.kind = 2 AND r.link IS NOT NULL GROUP BY 1, 2, 3";
    for (a, b) in [("SELECT * FROM link_cell", counted), (counted, "SELECT * FROM link_cell")] {
        assert_eq!(rows::<i64>(c, &format!("SELECT count(*) FROM ({a} EXCEPT {b})")), [0]);
    }
}

fn mailed(c: &Connection, at: Instant) -> i64 {
    let m = mailing(c, None, OverCap::Hold);
    start(c, m, at);
    hand_over(c, at, "250 2.0.0 ok");
    m
}

proptest! {
    #![proptest_config(crate::common::histories(40))]

    #[test]
    fn what_is_stored_is_what_judging_it_anew_gives(steps in prop::collection::vec(step(), 1..40)) {
        run(4, move |c| {
            mailed(c, START);
            for step in &steps {
                match step {
                    Step::Hit { send, came } => assert!(responses::hit(c, SendId(*send), came).unwrap()),
                    Step::Button { send, ms } => drop(responses::go_on(c, SendId(*send), START + *ms).unwrap()),
                    Step::Rules(rules) => {
                        let before = stored(c);
                        let tried = past::try_on(c, rules, 1, START + DAY, |_, _| Ok(())).unwrap();
                        assert_eq!(stored(c), before, "trying changes nothing");
                        // The rules in force once more make no version, which would have changes of its own.
                        let again = machines::current(c).unwrap().rules == *rules;
                        machines::put_in_force(c, START, None, rules, "a try").unwrap();
                        let changes = if again { Changes::default() } else { judged_anew(c) };
                        assert_eq!((changes.all, changes.rules, changes.domains), (tried.changes.all, tried.changes.rules, tried.changes.domains));
                    }
                }
                sums_hold(c);
                links_hold(c);
            }
            // What came in one by one is what all of it comes to.
            let there = stored(c);
            c.execute_batch("UPDATE machine_rules SET done_at = NULL, upto = 0 WHERE id = (SELECT max(id) FROM machine_rules)").unwrap();
            judged_anew(c);
            assert_eq!(stored(c), there);
            // And back again.
            let before = machines::current(c).unwrap().rules;
            machines::put_in_force(c, START, None, &Rules { too_soon_seconds: 600, ..before.clone() }, "stricter").unwrap();
            judged_anew(c);
            assert!(rows::<i64>(c, "SELECT count(*) FROM response WHERE machine = 0 AND agent <> 'button' AND kind IN (1, 2)") == [0]);
            machines::put_in_force(c, START, None, &before, "back").unwrap();
            judged_anew(c);
            assert_eq!(stored(c), there);
            sums_hold(c);
        });
    }
}

/// Opens of this many half a minute after delivery.
fn opened(c: &Connection, mailing: i64, at: Instant, people: usize) {
    for send in rows::<i64>(c, &format!("SELECT id FROM send WHERE mailing_id = {mailing} ORDER BY id")).into_iter().take(people) {
        crate::common::hit(c, send, None, at + MINUTE / 2, "Reader/5.1", false).unwrap();
    }
}

fn told(c: &Connection, mailing: i64) -> [u64; 3] {
    let sums = figures::of_mailings(c, &[MailingId(mailing)]).unwrap().remove(&MailingId(mailing)).unwrap();
    [Figure::OpensKnown, Figure::HumanOpens, Figure::OpensOfUnknown].map(|f| sums.of(f))
}

#[test]
fn another_share_finds_a_domain_and_lets_it_go() {
    run(PEOPLE, |c| {
        let m = mailed(c, START);
        opened(c, m, START, 40);
        assert_eq!(told(c, m), [60, 40, 0], "two thirds are fetched: under 80%");
        let stricter = Rules { fetch_percent: 60, ..Rules::default() };
        let tried = past::try_on(c, &stricter, 90, START + DAY, |_, _| Ok(())).unwrap();
        let found = tried.domains.iter().map(|d| (d.domain.as_str(), d.messages, d.fetched, d.unknown)).collect::<Vec<_>>();
        assert_eq!(found, [("tern.example", 60, 40, true)]);
        assert_eq!(tried.changes.rules[&Machine::FetchingDomain].opens.out, 40);
        assert_eq!(told(c, m), [60, 40, 0]);
        machines::put_in_force(c, START + DAY, None, &stricter, "two thirds are no people").unwrap();
        judged_anew(c);
        assert_eq!(told(c, m), [0, 0, 40]);
        let lax = Rules { fetch_percent: 70, ..Rules::default() };
        assert!(!past::try_on(c, &lax, 90, START + 2 * DAY, |_, _| Ok(())).unwrap().domains[0].unknown);
        machines::put_in_force(c, START + 2 * DAY, None, &lax, "they are people").unwrap();
        judged_anew(c);
        assert_eq!(told(c, m), [60, 40, 0]);
        sums_hold(c);
    });
}

#[test]
fn a_sealed_trial_keeps_the_rules_of_its_seal() {
    run(PEOPLE, |c| {
        let m = mailing(c, None, OverCap::Hold);
        let plan = Plan { pilot_share: 1.0, window_hours: 24, ..Plan::usual("?") };
        trials::save_plan(c, MailingId(m), &plan, START, None).unwrap();
        let people: Vec<i64> = rows(c, "SELECT id FROM contact ORDER BY id");
        let roster = rinse_core::trial::assign::assign(7, &people.iter().map(|i| (ContactId(*i), 1).into()).collect::<Vec<_>>(), &[1, 1]);
        trials::seal(c, TrialId(m), 7, &roster, Vec::new(), START).unwrap();
        let done = rinse_store::clearing::audience(c, MailingId(m), START).unwrap();
        let cleared = done
            .decided
            .iter()
            .map(|d| (*d, rinse_store::sends::Phase::Pilot, roster.iter().find(|e| e.contact == d.contact).unwrap().arm));
        rinse_store::sends::record(c, MailingId(m), &done, START, cleared.collect::<Vec<_>>()).unwrap();
        hand_over(c, START, "250 2.0.0 ok");
        opened(c, m, START, 30);
        let there = stored(c);
        let other = Rules { too_soon_seconds: 60, ..Rules::default() };
        let tried = past::try_on(c, &other, 90, START + DAY, |_, _| Ok(())).unwrap();
        assert_eq!((tried.changes.kept, tried.changes.all), (30, machines::Both::default()));
        machines::put_in_force(c, START + HOUR, None, &other, "a minute").unwrap();
        judged_anew(c);
        assert_eq!(stored(c), there);
        // What comes in after is judged by the same rules, too.
        opened(c, m, START, PEOPLE);
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send WHERE open_at IS NOT NULL"), [60]);
        assert_eq!(rows::<i64>(c, "SELECT DISTINCT rules_version FROM response"), [1]);
    });
}

#[test]
fn a_link_followed_right_after_the_button_is_taken_in() {
    run(1, |c| {
        mailed(c, START);
        responses::go_on(c, SendId(1), START + HOUR).unwrap();
        for link in 0..3 {
            assert!(crate::common::hit(c, 1, Some(link), START + HOUR + i64::from(link) * SECOND, "Reader/5.1", false).unwrap());
        }
        assert_eq!(rows::<i64>(c, "SELECT machine FROM response ORDER BY id"), [0, 4, 4, 4], "the button is a person’s, whatever follows");
        assert_eq!(rows::<Option<i64>>(c, "SELECT click_at FROM send"), [Some((START + HOUR).millis())]);
    });
}
