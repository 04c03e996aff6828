//! Hosts that block are left in peace, and an alert stands until they let mail in again; greylisting is no block; groups are what DNS says, or a
//! person.

use crate::common::{START, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::bounce::Reply;
use rinse_core::clearance::OverCap;
use rinse_core::consent::Act;
use rinse_core::delivery::operator::Mx;
use rinse_core::delivery::pause::Rule;
use rinse_core::{DAY, HOUR, Instant, MINUTE};
use rinse_store::contacts::{self, Profile};
use rinse_store::delivery::{alerts, opened, operators};
use rinse_store::ledger::{self, Origin};
use rinse_store::{Connection, domains, flow, sends};

const BLOCKED: &str = "550 5.7.1 blocked: reputation of the sender (ticket 4711)";
const FINE: &str = "250 2.0.0 ok";

/// Everything that is due from one instant to another, at the instants at which it is due; what a host says depends on the instant.
fn go(c: &Connection, from: Instant, to: Instant, reply: impl Fn(Instant, i64) -> &'static str) -> usize {
    let (mut now, mut ticks) = (from, 0);
    loop {
        ticks += 1;
        loop {
            let (batch, looked_at) = sends::claim(c, now, 10).unwrap();
            if looked_at == 0 {
                break;
            }
            for out in batch {
                let tries = c.query_row("SELECT tries FROM send WHERE id = ?1", [out.send.0], |r| r.get(0)).unwrap();
                sends::answered(c, out.send, &Reply::parse(reply(now, tries)), now).unwrap();
            }
        }
        match sends::next_due(c).unwrap() {
            Some(next) if next <= to => now = next.max(now + 1),
            _ => return ticks,
        }
    }
}

fn mail(c: &Connection, at: Instant, to: Instant, reply: impl Fn(Instant, i64) -> &'static str) -> i64 {
    let m = mailing(c, None, OverCap::Hold);
    c.execute("UPDATE mailing SET state = 'sending', started_at = ?2 WHERE id = ?1", [m, at.millis()]).unwrap();
    start(c, m, at);
    go(c, at, to, reply);
    m
}

fn look(c: &Connection, now: Instant) {
    let found = alerts::look(c, now).unwrap();
    alerts::keep(c, &found, now).unwrap();
}

fn one(c: &Connection, sql: &str) -> i64 {
    rows::<i64>(c, sql)[0]
}

#[test]
fn a_host_that_blocks_is_left_in_peace_and_let_in_again() {
    run(900, |c| {
        let (lets_go, end) = (START + 6 * HOUR, START + 20 * HOUR);
        let reply = |now: Instant, _| if now < lets_go { BLOCKED } else { FINE };
        let m = mail(c, START, START + HOUR, reply);
        // Held back at once, then paused: fewer than a hundred of 900 were lost, and none of it counts against an address.
        let lost = one(c, "SELECT count(*) FROM send WHERE failed_at IS NOT NULL");
        assert!((50..=60).contains(&lost), "{lost}");
        let pauses: Vec<String> = rows(c, "SELECT reason FROM domain_pause WHERE by_itself AND mailing_id = 1");
        assert!(pauses.len() == 1 && pauses[0].contains("messages to tern.example were blocked"), "{pauses:?}");
        assert_eq!(one(c, "SELECT count(*) FROM contact WHERE status <> 0"), 0);
        let open = alerts::open(c).unwrap();
        assert_eq!((open.len(), open[0].mailing_id.0, open[0].grave), (1, m, true));
        let paused = &domains::paused_groups(c, START + HOUR).unwrap()["tern.example"];
        assert_eq!((paused.waiting, paused.by_itself), (900 - lost, true));
        assert!(flow::held_back(c, START + HOUR).unwrap()[0].ceiling < 1.0);

        // The pause is over while the host still blocks: a message now and then finds out, and the rest goes once it lets go.
        let ticks = go(c, START + HOUR, end, reply);
        let lost = one(c, "SELECT count(*) FROM send WHERE failed_at IS NOT NULL");
        assert!(lost <= 80, "{lost}");
        assert_eq!(one(c, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL"), 900 - lost);
        assert!(flow::held_back(c, end).unwrap().is_empty());
        assert!(ticks < 1_500, "{ticks}");
        assert_eq!(one(c, "SELECT count(*) FROM (SELECT 1 FROM send GROUP BY mailing_id, contact_id HAVING count(*) > 1)"), 0);

        // Worked out again it is the same alert, with what was counted and what the host said.
        look(c, START + DAY);
        let open = alerts::open_with_lines(c, None).unwrap();
        assert_eq!((open.len(), open[0].mailing_id.0), (1, m));
        assert!(open[0].words.starts_with(&format!("{lost} of 900 messages were blocked")), "{}", open[0].words);
        assert!(open[0].words.ends_with("on one mailing; it was paused by itself."));
        assert_eq!((open[0].lines.len(), open[0].lines[0].times), (1, lost.unsigned_abs()));
        assert!(!open[0].lines[0].line.contains("4711"));
        // Two mailings within limits end nothing; the third does.
        for n in 1..=3 {
            mail(c, START + n * 7 * DAY, START + n * 7 * DAY + HOUR, |_, _| FINE);
            look(c, START + n * 7 * DAY + HOUR);
            assert_eq!(alerts::open(c).unwrap().is_empty(), n == 3, "{n}");
        }
        assert!(alerts::all(c).unwrap()[0].person.is_none());
    });
}

#[test]
fn a_person_ends_an_alert_and_the_next_block_is_another() {
    run(300, |c| {
        let block = |_, _| BLOCKED;
        mail(c, START, START + HOUR, block);
        let id = alerts::open(c).unwrap()[0].id;
        assert!(alerts::end(c, id, "ok", START + 2 * HOUR, 1).is_err(), "a reason is asked for");
        c.execute("INSERT INTO person (id, name) SELECT 1, 'Ines Marek' WHERE NOT EXISTS (SELECT 1 FROM person WHERE id = 1)", []).unwrap();
        alerts::end(c, id, "their postmaster took us off the list", START + 2 * HOUR, 1).unwrap();
        assert!(alerts::end(c, id, "once more", START + 2 * HOUR, 1).is_err());
        look(c, START + 3 * HOUR);
        assert!(alerts::open(c).unwrap().is_empty(), "what was judged stays judged");
        domains::resume_group(c, "tern.example", START + 3 * HOUR, None).unwrap();
        assert!(domains::resume_group(c, "tern.example", START + 3 * HOUR, None).is_err());
        go(c, START + 3 * HOUR, START + DAY, |_, _| FINE);
        let second = mail(c, START + 7 * DAY, START + 7 * DAY + HOUR, block);
        look(c, START + 8 * DAY);
        let open = alerts::open(c).unwrap();
        assert_eq!(open.iter().map(|a| a.mailing_id.0).collect::<Vec<_>>(), [second]);
        assert_eq!(alerts::all(c).unwrap().len(), 2);
    });
}

/// The mailing that began an alert leaves the ninety days before its last one does: it is the same alert still.
#[test]
fn an_alert_that_is_long_over_is_not_found_again() {
    run(300, |c| {
        for (day, reply) in [(0, BLOCKED), (7, BLOCKED), (14, FINE), (21, FINE), (28, FINE)] {
            let at = START + day * DAY;
            mail(c, at, at + 2 * DAY, move |_, _| reply);
            look(c, at + 2 * DAY);
        }
        let all = alerts::all(c).unwrap();
        assert_eq!((all.len(), all[0].ended_at), (1, Some((START + 28 * DAY).millis())));
        for day in [80, 92, 95, 130] {
            look(c, START + day * DAY);
            let again = alerts::all(c).unwrap();
            assert_eq!((again.len(), again[0].since, again[0].ended_at), (1, all[0].since, all[0].ended_at), "{day}");
        }
    });
}

#[test]
fn a_first_meeting_is_no_block() {
    run(200, |c| {
        let grey = |_, tries| if tries == 1 { "451 4.7.1 greylisted, try again in 300 seconds" } else { FINE };
        mail(c, START, START + HOUR, grey);
        assert_eq!(one(c, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL"), 200);
        assert_eq!(
            one(
                c,
                "SELECT (SELECT count(*) FROM throttle) + (SELECT count(*) FROM domain_pause) + (SELECT sum(blocked) FROM delivery_slot)"
            ),
            0
        );
        assert_eq!(one(c, "SELECT sum(deferred) FROM delivery_slot"), 200);
        let day = START.millis().div_euclid(DAY);
        let of = |from: i64| flow::put_off(c, from, None).unwrap().iter().map(|(_, d, n)| (*d, *n)).collect::<Vec<_>>();
        assert_eq!((of(day), of(day + 1)), (vec![(day, 200)], vec![]), "each message once");
        // Everybody went at their second try, ten minutes later.
        assert_eq!(one(c, "SELECT max(accepted_at) FROM send"), (START + 10 * MINUTE).millis());
        flow::move_on(c, START + 3 * DAY).unwrap();
        assert_eq!(one(c, "SELECT count(*) FROM delivery_slot"), 0);
    });
}

/// Adds people of another domain.
fn people_at(c: &Connection, domain: &str, n: usize) {
    for i in 0..n {
        let a = Address::parse(&format!("q{i}@{domain}")).unwrap();
        let id = contacts::add(c, &a, &Profile::default(), START).unwrap();
        ledger::act(c, id, START, Act::Agreed, &Origin { source: "test", ..Origin::default() }).unwrap();
    }
}

#[test]
fn one_operators_domains_are_one_group() {
    run(60, |c| {
        people_at(c, "gull.example", 60);
        people_at(c, "petrel.example", 60);
        let stale = operators::stale(c, START, 10).unwrap();
        assert_eq!(stale.len(), 3);
        let mx =
            |host: &str| vec![Mx { preference: 20, host: "backup.elsewhere.example".into() }, Mx { preference: 10, host: host.into() }];
        for (id, name) in &stale {
            let host = if name == "petrel.example" { "mx.petrel.example." } else { "in7.bigpost.example." };
            operators::found(c, *id, Some(&mx(host)), START).unwrap();
        }
        assert!(operators::stale(c, START + DAY, 10).unwrap().is_empty());
        let group = |c: &Connection, name: &str| operators::all(c, 10).unwrap().into_iter().find(|d| d.name == name).unwrap();
        assert_eq!((group(c, "gull.example").group, group(c, "tern.example").group), ("bigpost.example".into(), "bigpost.example".into()));
        assert_eq!(group(c, "gull.example").mx.as_deref(), Some("in7.bigpost.example backup.elsewhere.example"));
        // All of them block: each group is paused whole, once.
        flow::set_rule(c, Rule { least: 20, ..Rule::default() }, START, None).unwrap();
        assert!(flow::set_rule(c, Rule { hours: 0, ..Rule::default() }, START, None).is_err());
        mail(c, START, START + HOUR, |_, _| BLOCKED);
        assert_eq!(one(c, "SELECT count(*) FROM domain_pause"), 3);
        assert_eq!(domains::paused_groups(c, START + HOUR).unwrap().len(), 2);
        assert_eq!(alerts::open(c).unwrap().len(), 2);
        domains::resume_group(c, "bigpost.example", START + HOUR, None).unwrap();
        assert_eq!(domains::paused_groups(c, START + HOUR).unwrap().len(), 1);
        // What a person says stays, whatever DNS says; until they take it back.
        let gull = group(c, "gull.example").id;
        operators::say(c, gull, Some(" Gull-Works.example"), START, None).unwrap();
        operators::found(c, gull, Some(&mx("mx.other.example")), START + DAY).unwrap();
        assert_eq!(group(c, "gull.example").group, "gull-works.example");
        assert!(operators::say(c, gull, Some("two words"), START, None).is_err());
        operators::say(c, gull, None, START, None).unwrap();
        assert_eq!(group(c, "gull.example").group, "other.example");
        // No answer changes nothing; no mail host leaves the domain alone.
        operators::found(c, gull, None, START + 2 * DAY).unwrap();
        assert_eq!(group(c, "gull.example").group, "other.example");
        operators::found(c, gull, Some(&[]), START + 3 * DAY).unwrap();
        assert_eq!((group(c, "gull.example").group, group(c, "gull.example").said_by), ("gull.example".into(), operators::SaidBy::Nobody));
    });
}

/// What a group's people opened stands against what is expected of them, mailing by mailing; one that is opened far less is told from the others.
#[test]
fn opens_are_held_against_what_is_expected_of_a_group() {
    run(150, |c| {
        people_at(c, "gull.example", 150);
        let week = |n: i64| START + n * 7 * DAY;
        for n in 0..11 {
            let m = mail(c, week(n), week(n) + HOUR, |_, _| FINE);
            // A third of everybody; of the last mailing hardly anybody at gull.example.
            let at_gull = if n == 10 { 30 } else { 3 };
            c.execute(
                "UPDATE send SET any_open_at = handed_at + 60000, open_at = handed_at + 60000 WHERE mailing_id = ?1 AND
                 (contact_id + ?1) % iif((SELECT address FROM contact k WHERE k.id = contact_id) LIKE '%gull%', ?2, 3) = 0",
                [m, at_gull],
            )
            .unwrap();
        }
        let now = week(10) + 3 * DAY;
        look(c, week(10) + DAY);
        let of = |from, group: &str| opened::since(c, from, None).unwrap().remove(group).unwrap_or_default();
        assert_eq!(of(START, "gull.example").len(), 2, "the last is too young");
        look(c, now);
        let (gull, tern) = (of(START, "gull.example"), of(START, "tern.example"));
        assert_eq!(gull.iter().map(|o| o.under).collect::<Vec<_>>(), [false, false, true]);
        assert!(tern.len() == 3 && gull[2].expected > 0.25 && gull[2].lower < gull[2].expected);
        assert_eq!((gull[2].opened.count, gull[2].opened.of), (5, 150));
        assert_eq!(of(week(10), "gull.example").len(), 1);
    });
}

const SLOWER: &str = "421 4.7.0 too many messages from you, slow down";
const GREY: &str = "451 4.7.1 greylisted, try again later";

proptest! {
    #![proptest_config(crate::common::histories(12))]

    /// Whatever hosts answer for a day and a half: once they let mail in, everybody has been answered for, once; each reply was counted; pauses of a
    /// domain never stand beside each other.
    #[test]
    fn whatever_hosts_answer_everybody_is_answered_for(answers in prop::collection::vec(0usize..5, 40..200), least in 5u32..60) {
        run(80, move |c| {
            flow::set_rule(c, Rule { least, ..Rule::default() }, START, None).unwrap();
            let (until, end) = (START + 36 * HOUR, START + 5 * DAY);
            let next = std::cell::Cell::new(0usize);
            let replies = std::cell::Cell::new(0i64);
            mail(c, START, end, |now, _| {
                replies.set(replies.get() + 1);
                if now >= until {
                    return FINE;
                }
                next.set(next.get() + 1);
                [FINE, BLOCKED, SLOWER, GREY, FINE][answers[next.get() % answers.len()]]
            });
            assert_eq!(one(c, "SELECT count(*) FROM send"), 80);
            assert_eq!(one(c, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL OR failed_at IS NOT NULL"), 80, "nobody waits for ever");
            assert_eq!(one(c, "SELECT sum(accepted + deferred + blocked + failed) FROM delivery_slot"), replies.get());
            assert_eq!(
                one(c, "SELECT count(*) FROM domain_pause a JOIN domain_pause b ON a.domain_id = b.domain_id AND a.id < b.id AND b.made_at < a.until_at"),
                0
            );
            assert_eq!(one(c, "SELECT count(*) FROM contact WHERE status <> 0"), 0);
            look(c, end);
            let open = alerts::open(c).unwrap();
            assert!(open.len() <= 1 && open.iter().all(|a| !a.words.is_empty()));
        });
    }
}

/// A report may name fifty thousand sources: those that matter are told, and all are counted.
#[test]
fn many_sources_are_counted_and_some_told() {
    use rinse_store::delivery::reports::{DmarcRow, Report, Says, new_sources, take, told};
    run(0, |c| {
        let report = |id: &str, at: Instant, sources: std::ops::Range<u32>| Report {
            report_id: Some(id.into()),
            org: Some("gull.example".into()),
            domain: Some("skerry-light.example".into()),
            begin: Some(at.millis()),
            says: Says::Dmarc(
                sources
                    .map(|i| DmarcRow {
                        source: format!("2001:db8::{i:x}"),
                        messages: 1 + i64::from(i % 3),
                        dkim: i % 2 == 0,
                        spf: false,
                        disposition: "none".into(),
                        header_from: "skerry-light.example".into(),
                    })
                    .collect(),
            ),
            ..Report::default()
        };
        take(c, "a", b"a", &[report("1", START, 0..700)], START, None).unwrap();
        let later = START + 40 * DAY;
        take(c, "b", b"b", &[report("2", later, 600..1_500)], later, None).unwrap();
        let t = told(c, 90, later).unwrap();
        assert_eq!((t.sources.len(), t.of_sources), (500, 1_500));
        assert_eq!(t.messages, rows::<i64>(c, "SELECT sum(messages) FROM dmarc_row")[0].unsigned_abs());
        assert_eq!(t.aligned.count, rows::<i64>(c, "SELECT sum(messages) FROM dmarc_row WHERE dkim")[0].unsigned_abs());
        assert!(t.sources.iter().all(|s| s.aligned.count == 0), "what isn't ours comes first");
        assert_eq!(new_sources(c, later).unwrap(), 800);
        assert_eq!(told(c, 7, later).unwrap().of_sources, 900);
        // Nobody is new where nothing was there before.
        assert_eq!(new_sources(c, START).unwrap(), 0);
    });
}
