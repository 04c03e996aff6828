//! Clearance over the store: what is decided for everybody is what is decided for each at handover;
//! no cap is ever exceeded; the forecast comes true; an old decision can be explained.

use crate::common::{START, base, hand_over, mailing, rows, run, start};
use proptest::prelude::*;
use rinse_core::caps::{Cap, Kind, Scope, Window};
use rinse_core::channel::Channel;
use rinse_core::clearance::{LetterheadHours, Outcome, OverCap, Reason, RuleSet};
use rinse_core::consent::Act;
use rinse_core::holdout::Holdout;
use rinse_core::hours::Hours;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SendId};
use rinse_core::phone::Phone;
use rinse_core::segment::{Field, TextTest, Tree};
use rinse_core::suppression::{Entry, hash};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::clearing::forecast::Suppressing;
use rinse_store::clearing::{self, forecast, person, record};
use rinse_store::domains::{self, NewDomainPause};
use rinse_store::ledger::{self, Origin};
use rinse_store::mailings::MailingDraft;
use rinse_store::suppression::{self, Beside, For, NewList};
use rinse_store::{Connection, letterheads, mailings, merges, numbers, responses, rules, runs, segments, sends, team, texts};

fn origin() -> Origin {
    Origin { source: "test", ..Origin::default() }
}

fn beside(expires_at: Option<Instant>) -> Beside<'static> {
    Beside { reason: "", source: "test", expires_at, person: None }
}

fn bar(c: &Connection, list: i64, text: &str) {
    suppression::add(c, list, &Entry::parse(text).unwrap(), beside(None), START).unwrap();
}

fn pause_of(domain: &str, until: Instant) -> NewDomainPause {
    NewDomainPause { domain: domain.into(), until: until.millis(), reason: "their host asks for time".into() }
}

fn cap(limit: u32, window: Window, scope: Scope) -> Cap {
    Cap { limit, window, scope, in_force: true }
}

#[derive(Debug, Clone)]
struct Plan {
    hours: i64,
    topic: Option<i64>,
    over: OverCap,
    priority: i64,
    hold_days: i64,
    channel: Channel,
}

/// Email three times of four.
fn channels() -> impl Strategy<Value = Channel> {
    prop_oneof![3 => Just(Channel::Email), 1 => Just(Channel::Text)]
}

/// A mailing of the channel that holds whom it can't reach yet.
fn on(c: &Connection, channel: Channel, topic: Option<i64>) -> i64 {
    if channel == Channel::Email {
        return mailing(c, topic, OverCap::Hold);
    }
    let draft = MailingDraft { channel, topic_id: topic, text: "Boats at 9.".into(), ..MailingDraft::under(LetterheadId(1), "m") };
    (mailings::save(c, None, &draft, START, None).unwrap()).0
}

fn plans() -> impl Strategy<Value = Vec<Plan>> {
    let over = prop_oneof![3 => Just(OverCap::Hold), 1 => Just(OverCap::Skip), 1 => Just(OverCap::Exceed)];
    let one = (0i64..240, prop::option::of(1i64..3), over, 1i64..6, 1i64..9, channels())
        .prop_map(|(hours, topic, over, priority, hold_days, channel)| Plan { hours, topic, over, priority, hold_days, channel });
    prop::collection::vec(one, 1..8)
}

fn rule_sets() -> impl Strategy<Value = RuleSet> {
    let window = prop_oneof![
        (6u32..80).prop_map(|n| Window::Hours { n }),
        (1u32..5).prop_map(|n| Window::Days { n }),
        Just(Window::CalendarDay),
        Just(Window::IsoWeek)
    ];
    let scope = prop_oneof![3 => Just(Scope::Marketing), 1 => (1i64..3).prop_map(|id| Scope::Topic { id }), 1 => Just(Scope::Letterhead { id: 1 }), 1 => (1i64..3).prop_map(|id| Scope::Channel { id }), 1 => Just(Scope::Series)];
    let caps = prop::collection::vec((1u32..4, window, scope).prop_map(|(l, w, s)| cap(l, w, s)), 1..4);
    let some_hours = || {
        let of = |(from, n)| Hours { from_minute: from, until_minute: (from + n) % 1440 };
        prop::option::of((0u16..1440, 60u16..1200).prop_map(of))
    };
    (caps, some_hours(), some_hours()).prop_map(|(mut caps, hours, quiet)| {
        let mut seen = Vec::new();
        caps.retain(|c| {
            !seen.contains(&(c.window, c.scope)) && {
                seen.push((c.window, c.scope));
                true
            }
        });
        let hours = hours.map(|hours| LetterheadHours { letterhead: LetterheadId(1), hours }).into_iter().collect();
        RuleSet { caps, hours, quiet, ..RuleSet::default() }
    })
}

/// People of different zones, some resting or on a break; with numbers, but for the fifth, which one network doesn't know and
/// one person didn't agree for.
fn scatter(c: &Connection) {
    c.execute_batch(&format!(
        "UPDATE contact SET zone = CASE id % 4 WHEN 0 THEN 'Pacific/Auckland' WHEN 1 THEN 'America/Halifax' WHEN 2 THEN 'Nowhere/At all' END;
         UPDATE contact SET status = 1, status_until = {} WHERE id = 3;",
        (START + 30 * HOUR).millis()
    ))
    .unwrap();
    ledger::act(c, ContactId(4), START, Act::Paused { until: START + 50 * HOUR }, &origin()).unwrap();
    for person in rows::<i64>(c, "SELECT id FROM contact WHERE id % 5 <> 0") {
        numbers::set(c, ContactId(person), Some(&Phone::parse(&format!("+4477009000{person:02}"), None).unwrap()), START, &origin())
            .unwrap();
        if person != 1 {
            texts::agreed(c, ContactId(person), START, &origin()).unwrap();
        }
    }
    c.execute("UPDATE contact SET phone_failed_at = ?1 WHERE id = 6", [START.millis()]).unwrap();
}

fn plan(c: &Connection, p: &Plan) -> i64 {
    let m = on(c, p.channel, p.topic);
    c.execute(
        "UPDATE mailing SET over_cap = ?2, priority = ?3, hold_days = ?4, state = 'planned', planned_at = ?5 WHERE id = ?1",
        rusqlite::params![m, p.over.code(), p.priority, p.hold_days, (START + p.hours * HOUR).millis()],
    )
    .unwrap();
    m
}

/// Runs everything that is planned, as the engine does. When `crash` says so, the process dies after a
/// batch was claimed, and the host hadn't got it.
fn run_out(c: &Connection, mut crash: impl FnMut() -> bool) {
    while let Some(now) = sends::next_due(c).unwrap() {
        let due: Vec<i64> = rows(
            c,
            &format!("SELECT id FROM mailing WHERE state = 'planned' AND planned_at <= {} ORDER BY planned_at, priority, id", now.millis()),
        );
        for m in due {
            start(c, m, now);
            c.execute("UPDATE mailing SET state = 'sending', started_at = ?2 WHERE id = ?1", [m, now.millis()]).unwrap();
        }
        rinse_store::upkeep::status::end_rests(c, now).unwrap();
        if crash() {
            let (claimed, _) = sends::claim(c, now, 3).unwrap();
            let unknown: Vec<_> = claimed.iter().map(|o| (o.send, Some(false))).collect();
            sends::settle(c, &unknown, now).unwrap();
        }
        hand_over(c, now, "250 2.0.0 ok");
    }
}

struct Went {
    person: i64,
    mailing: i64,
    at: Instant,
    kind: Kind,
    over_cap: String,
}

fn went(c: &Connection) -> Vec<Went> {
    let mut s = c
        .prepare("SELECT s.contact_id, s.mailing_id, s.accepted_at, coalesce(m.topic_id, 0), m.over_cap, m.channel FROM send s JOIN mailing m ON m.id = s.mailing_id WHERE s.state = 3 ORDER BY s.accepted_at, m.priority, m.id")
        .unwrap();
    s.query_map([], |r| {
        let kind = Kind { channel: r.get(5)?, topic: r.get(3)?, letterhead: 1, series: false };
        Ok(Went { person: r.get(0)?, mailing: r.get(1)?, at: Instant::of(r.get(2)?), kind, over_cap: r.get(4)? })
    })
    .unwrap()
    .collect::<Result<_, _>>()
    .unwrap()
}

fn zone_of(person: i64) -> rinse_core::zone::TimeZone {
    rinse_core::zone::named(["Pacific/Auckland", "America/Halifax", "UTC", "UTC"][(person % 4) as usize]).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(30))]

    /// However mailings crowd, whatever is held, released or interrupted: no window of any cap is ever
    /// exceeded by a mailing that may not, nothing goes outside the hours, everybody gets a mailing at
    /// most once, and nobody stays waiting.
    #[test]
    fn no_window_is_ever_exceeded(set in rule_sets(), plans in plans(), crashes in prop::collection::vec(any::<bool>(), 40)) {
        let kept = set.clone();
        let sent = run(7, move |c| {
            rules::save(c, START, None, &set, "").unwrap();
            scatter(c);
            for p in &plans {
                plan(c, p);
            }
            let mut crashes = crashes.into_iter();
            run_out(c, || crashes.next().unwrap_or(false));
            assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send WHERE state NOT IN (3, 6)"), [0], "everyone is sent to or barred in the end");
            went(c)
        });
        for (i, w) in sent.iter().enumerate() {
            let zone = zone_of(w.person);
            prop_assert!(!sent[..i].iter().any(|s| s.person == w.person && s.mailing == w.mailing), "twice");
            prop_assert!(kept.hours_for(w.kind).iter().all(|h| h.open(w.at, &zone)));
            prop_assert!(w.kind.channel == 1 || !matches!(w.person, 1 | 5 | 6), "a text message without a number that they agreed for");
            let earlier: Vec<&Went> = sent[..=i].iter().filter(|s| s.person == w.person).collect();
            for cap in &kept.caps {
                let n = earlier.iter().filter(|s| cap.scope.covers(s.kind) && cap.in_window(s.at, w.at, &zone)).count();
                prop_assert!(w.over_cap == "exceed" || !cap.scope.covers(w.kind) || n <= cap.limit as usize, "{n} of {}", cap.words());
            }
        }
    }

    /// What the forecast says is what then happens.
    #[test]
    fn the_forecast_comes_true(set in rule_sets(), plans in plans()) {
        let (said, happened) = run(7, move |c| {
            rules::save(c, START, None, &set, "").unwrap();
            scatter(c);
            for p in &plans {
                plan(c, p);
            }
            let said = forecast::forecast(c, START, None, None).unwrap();
            run_out(c, || false);
            let happened: Vec<(i64, u64, u64)> = said.mailings.iter().map(|m| {
                let count = |what: &str| rows::<i64>(c, &format!("SELECT count(*) FROM send WHERE mailing_id = {} AND state = 3 AND accepted_at {what} {}", m.id, m.at))[0].unsigned_abs();
                (m.id, count("="), count(">"))
            }).collect();
            (said.mailings.iter().map(|m| (m.id, m.at_once, m.later)).collect::<Vec<_>>(), happened)
        });
        prop_assert_eq!(said, happened);
    }

    /// The columns' clearance of everybody, the one at handover and the explained one agree, whatever is
    /// on the lists and in the rules.
    #[test]
    fn all_ways_to_ask_agree(
        set in rule_sets(), country in prop::collection::vec(0usize..3, 8), acts in prop::collection::vec((1i64..9, 0usize..5), 0..9),
        lines in prop::collection::vec((1i64..9, 0usize..7), 0..5), topic in prop::option::of(1i64..3), hours in 0i64..60, holdout in any::<bool>(),
        channel in channels(),
    ) {
        run(8, move |c| {
            let set = RuleSet { confirm: vec!["DE".into()], holdout: holdout.then_some(Holdout { share: 0.4 }), ..set };
            rules::save(c, START, None, &set, "").unwrap();
            scatter(c);
            for (i, k) in country.iter().enumerate() {
                c.execute("UPDATE contact SET country = ?2 WHERE id = ?1", rusqlite::params![i as i64 + 1, ["DE", "NO", ""][*k]]).unwrap();
            }
            for (who, what) in &acts {
                let acts = [Act::Withdrew, Act::Complained, Act::Confirmed, Act::Paused { until: START + 40 * HOUR }];
                match acts.get(*what) {
                    Some(act) => { ledger::act(c, ContactId(*who), START + HOUR, *act, &origin()).unwrap(); }
                    None => { ledger::leave_topic(c, ContactId(*who), 1, START + HOUR, &origin()).unwrap(); }
                }
            }
            let tree = Tree::Text { field: Field::Country, is: TextTest::Is, value: "NO".into() };
            let norway = segments::save(c, None, &segments::Draft { name: "Norway".into(), tree }, START, None).unwrap();
            let list = |name: &str, scope, segment_id| suppression::make(c, &NewList { name: name.into(), reason: String::new(), scope, segment_id }, START, None).unwrap();
            let (of_topic, other, rule) = (list("b", For::Topic { id: 1 }, None), list("c", For::Letterhead { id: 1 }, None), list("d", For::Topic { id: 2 }, Some(norway)));
            for (who, kind) in &lines {
                let p = |n: i64| format!("p{n}@tern.example");
                match kind {
                    0 => bar(c, 1, &p(who - 1)),
                    1 => bar(c, other, &hash(&p(who - 1))),
                    2 => bar(c, of_topic, "*.tern.example"),
                    3 => { suppression::add(c, 1, &Entry::parse(&p(who - 1)).unwrap(), beside(Some(START + 20 * HOUR)), START).unwrap(); }
                    4 => bar(c, rule, &p(who - 1)),
                    5 => domains::pause(c, &pause_of("Tern.example", START + who * DAY), START, None).unwrap(),
                    _ => suppression::end(c, other, START + 10 * HOUR, None).unwrap_or_default(),
                }
            }
            let before = mailing(c, Some(1), OverCap::Hold);
            start(c, before, START + 2 * HOUR);
            hand_over(c, START + 2 * HOUR, "250 2.0.0 ok");
            let m = on(c, channel, topic);
            let at = START + (3 + hours) * HOUR;
            let all = clearing::audience(c, MailingId(m), at).unwrap();
            let mut loaded = person::load(c, MailingId(m), at).unwrap();
            for d in &all.decided {
                let one = person::at_handover(c, &mut loaded, d.contact, SendId(-1), at, at + 7 * DAY).unwrap();
                assert_eq!((d.outcome, &all.lists), (one, &loaded.lists()), "person {}", d.contact);
                let said = person::explain(c, MailingId(m), d.contact, at, at).unwrap();
                let first = match one { Outcome::Cleared => None, Outcome::Held(_, r) | Outcome::Barred(r) => r.first() };
                assert_eq!(said.first, first);
                assert!(said.answers.iter().all(|a| (a.says == "cleared") == match one { Outcome::Cleared => true, Outcome::Held(_, r) | Outcome::Barred(r) => !r.has(a.reason) }));
            }
        });
    }
}

#[test]
fn a_year_later_the_decision_can_be_explained() {
    run(2, |c| {
        let set = |limit| RuleSet { caps: vec![cap(limit, Window::Days { n: 7 }, Scope::Marketing)], ..RuleSet::default() };
        rules::save(c, START, None, &set(1), "first").unwrap();
        bar(c, 1, "p1@tern.example");
        let first = mailing(c, Some(1), OverCap::Hold);
        start(c, first, START + HOUR);
        hand_over(c, START + HOUR, "250 2.0.0 ok");
        let second = mailing(c, None, OverCap::Skip);
        start(c, second, START + DAY);
        // Since then everything changed.
        rules::save(c, START + 2 * DAY, None, &RuleSet::default(), "no caps any more").unwrap();
        suppression::take_off(c, 1, START + 2 * DAY, None).unwrap();
        ledger::act(c, ContactId(1), START + 2 * DAY, Act::Withdrew, &origin()).unwrap();
        ledger::leave_topic(c, ContactId(1), 1, START + 2 * DAY, &origin()).unwrap();
        let year = START + 365 * DAY;
        let then = |m, who, at: Instant| {
            let e = person::explain(c, m, who, at, year).unwrap();
            (e.outcome, e.first, e.rules_version)
        };
        assert_eq!(then(MailingId(first), ContactId(1), START + HOUR), ("cleared".into(), None, 2));
        assert_eq!(then(MailingId(first), ContactId(2), START + HOUR), ("barred".into(), Some(Reason::Suppressed), 2));
        assert_eq!(then(MailingId(second), ContactId(1), START + DAY), ("barred".into(), Some(Reason::OverCap), 2));
        assert_eq!(then(MailingId(second), ContactId(1), START + 3 * DAY), ("barred".into(), Some(Reason::Withdrawn), 3));
        // And it stands on record what was decided, in the words of then.
        let kept = record::of_contact(c, ContactId(1), Some(MailingId(second))).unwrap();
        assert_eq!((kept[0].outcome.as_str(), kept[0].rules_version), ("barred", 2));
        assert_eq!(kept[0].detail.as_deref(), Some("cap 1 in 7 days"));
        assert_eq!(record::of_contact(c, ContactId(2), Some(MailingId(first))).unwrap()[0].detail.as_deref(), Some("list Never mail"));
        assert_eq!(record::of_contact(c, ContactId(1), Some(MailingId(first))).unwrap()[0].outcome, "cleared");
    });
}

#[test]
fn priority_goes_first_at_the_same_instant_and_takes_the_place() {
    run(1, |c| {
        rules::save(c, START, None, &RuleSet { caps: vec![cap(1, Window::Hours { n: 10 }, Scope::Marketing)], ..RuleSet::default() }, "")
            .unwrap();
        let usual = Plan { hours: 5, topic: None, over: OverCap::Hold, priority: 3, hold_days: 7, channel: Channel::Email };
        let low = plan(c, &usual);
        let high = plan(c, &Plan { priority: 1, ..usual.clone() });
        let tie = plan(c, &usual);
        let f = forecast::forecast(c, START, None, None).unwrap();
        assert_eq!(f.competing.iter().map(|p| (p.first, p.second)).filter(|p| p.0 == high).count(), 2);
        run_out(c, || false);
        let order: Vec<(i64, i64)> = went(c).iter().map(|w| (w.mailing, (w.at - START) / HOUR)).collect();
        assert_eq!(order, [(high, 5), (low, 15), (tie, 25)]);
    });
}

#[test]
fn moving_a_mailing_shows_its_effect_before_it_is_saved() {
    run(3, |c| {
        rules::save(c, START, None, &RuleSet { caps: vec![cap(1, Window::Days { n: 2 }, Scope::Marketing)], ..RuleSet::default() }, "")
            .unwrap();
        let usual = Plan { hours: 10, topic: None, over: OverCap::Skip, priority: 3, hold_days: 7, channel: Channel::Email };
        let (first, second) = (plan(c, &usual), plan(c, &Plan { hours: 20, ..usual }));
        let lost = |f: &forecast::Forecast, id| f.mailings.iter().find(|m| m.id == id).unwrap().lost_to_caps;
        let now = forecast::forecast(c, START, None, None).unwrap();
        assert_eq!((lost(&now, first), lost(&now, second)), (0, 3));
        assert_eq!((now.days[0].goes + now.days[1].goes, now.days.iter().map(|d| d.skipped).sum::<u64>()), (3, 3));
        let moved =
            forecast::forecast(c, START, Some(forecast::Moved { mailing: MailingId(second), at: START + 60 * HOUR }), None).unwrap();
        assert_eq!(lost(&moved, second), 0);
        assert!(moved.competing.is_empty());
        assert_eq!(mailings::one(c, MailingId(second)).unwrap().planned_at, Some((START + 20 * HOUR).millis()), "nothing is saved");
        // A preview counts what is planned before it as reserved.
        assert_eq!(clearing::preview(c, MailingId(second), START + 20 * HOUR, START, None).unwrap().sluice().cleared, 0);
        assert_eq!(
            clearing::preview(c, MailingId(second), START + 20 * HOUR, START, Some(&RuleSet::default())).unwrap().sluice().cleared,
            3
        );
    });
}

/// Barring more people, by lines or a live rule, and ending a list do to the coming mailings what is said beforehand.
#[test]
fn another_suppression_does_what_its_preview_says() {
    run(6, |c| {
        rules::save(c, START, None, &RuleSet { caps: vec![cap(1, Window::Days { n: 2 }, Scope::Marketing)], ..RuleSet::default() }, "")
            .unwrap();
        let p = |n: i64| format!("p{n}@tern.example");
        let usual = Plan { hours: 10, topic: Some(1), over: OverCap::Skip, priority: 3, hold_days: 7, channel: Channel::Email };
        plan(c, &usual);
        plan(c, &Plan { hours: 20, topic: Some(2), ..usual });
        let said = |other: Option<&Suppressing>| serde_json::to_value(forecast::forecast_if(c, START, None, None, other).unwrap()).unwrap();
        c.execute("UPDATE contact SET country = 'NO' WHERE id = 3", []).unwrap();
        let without = said(None);
        for (name, scope, segment) in [("Lines", For::Topic { id: 1 }, false), ("Rule", For::All, true)] {
            let tree = Tree::Text { field: Field::Country, is: TextTest::Is, value: "NO".into() };
            let segment = segment.then(|| segments::save(c, None, &segments::Draft { name: name.into(), tree }, START, None).unwrap());
            let people = match segment {
                Some(segment) => segments::people(c, &Tree::Segment { segment }, START).unwrap(),
                None => suppression::would_name(c, &[Entry::parse(&p(0)).unwrap(), Entry::parse(&p(3)).unwrap()]).unwrap(),
            };
            assert!(!people.is_empty());
            let expected = said(Some(&Suppressing::Also { scope, people }));
            assert_ne!(expected, without);
            let list = suppression::make(c, &NewList { name: name.into(), reason: String::new(), scope, segment_id: segment }, START, None)
                .unwrap();
            if segment.is_none() {
                bar(c, list, &p(0));
                bar(c, list, &p(3));
                let caught: Vec<String> = suppression::catches(c, list, START).unwrap().last.into_iter().map(|l| l.address).collect();
                assert_eq!(caught, [p(0), p(3)]);
            }
            assert_eq!(said(None), expected);
            assert_eq!(said(Some(&Suppressing::Without { list })), without);
            suppression::end(c, list, START, None).unwrap();
            assert_eq!(said(None), without);
        }
    });
}

/// A live rule notes by its daily look since when it catches somebody, forgets those it catches no more, and counts from again
/// who comes back.
#[test]
fn a_live_rule_notes_since_when() {
    run(4, |c| {
        let tree = Tree::Text { field: Field::Country, is: TextTest::Is, value: "NO".into() };
        let segment = segments::save(c, None, &segments::Draft { name: "n".into(), tree }, START, None).unwrap();
        let moves =
            |who: i64, country: &str| c.execute("UPDATE contact SET country = ?2 WHERE id = ?1", rusqlite::params![who, country]).unwrap();
        c.execute("UPDATE contact SET country = NULL", []).unwrap();
        moves(1, "NO");
        let rule = NewList { name: "r".into(), reason: String::new(), scope: For::All, segment_id: Some(segment) };
        let rule = suppression::make(c, &rule, START, None).unwrap();
        let last = |at| {
            suppression::catches(c, rule, at).unwrap().last.iter().map(|l| (l.id.0, (l.at - START.millis()) / DAY)).collect::<Vec<_>>()
        };
        let look = |at| suppression::note(c, &suppression::look(c, at).unwrap(), at).unwrap();
        assert_eq!(last(START + 2 * DAY), [(1, 0)]);
        moves(2, "NO");
        assert_eq!(last(START + 2 * DAY), [(2, 2), (1, 0)], "came since the last look");
        look(START + 3 * DAY);
        moves(1, "IS");
        moves(3, "NO");
        look(START + 4 * DAY);
        assert_eq!(last(START + 9 * DAY), [(3, 4), (2, 3)]);
        moves(1, "NO");
        look(START + 5 * DAY);
        assert_eq!(last(START + 9 * DAY), [(1, 5), (3, 4), (2, 3)]);
    });
}

/// A paused domain gets nothing, service mail neither; its end, or being ended before, lets what waited go, once.
#[test]
fn a_paused_domain_waits() {
    run(3, |c| {
        c.execute_batch(
            "INSERT INTO domain (name) VALUES ('auk.example'); UPDATE contact SET domain_id = (SELECT max(id) FROM domain) WHERE id = 3",
        )
        .unwrap();
        let refused = |d: &str, until: Instant| domains::pause(c, &pause_of(d, until), START, None).unwrap_err().to_string();
        assert!(refused("nobody.example", START + DAY).contains("Nobody in the base"));
        assert!(refused("tern.example", START).contains("to come"));
        domains::pause(c, &pause_of("@TERN.example", START + 2 * DAY), START, None).unwrap();
        let (news, receipt) = (mailing(c, None, OverCap::Hold), mailing(c, None, OverCap::Hold));
        c.execute("UPDATE mailing SET class = 2 WHERE id = ?1", [receipt]).unwrap();
        for m in [news, receipt] {
            start(c, m, START + HOUR);
        }
        let gone = |at: Instant| {
            hand_over(c, at, "250 2.0.0 ok");
            rows::<i64>(c, "SELECT count(*) FROM send WHERE state = 3")[0]
        };
        assert_eq!(gone(START + HOUR), 2, "the other domain's");
        let later = mailing(c, None, OverCap::Hold);
        let said = person::explain(c, MailingId(later), ContactId(1), START + HOUR, START + HOUR).unwrap();
        assert_eq!((said.first, said.until), (Some(Reason::DomainPaused), Some((START + 2 * DAY).millis())));
        assert!(said.answers.iter().any(|a| a.reason == Reason::DomainPaused && a.saw.contains("asks for time")));
        let all = domains::all(c, START + HOUR).unwrap();
        assert_eq!((all[0].name.as_str(), all[0].pause.as_ref().map(|p| p.held), all[1].handed), ("tern.example", Some(4), 2));
        assert_eq!(gone(START + DAY), 2);
        // A longer one takes its place; ended before its time, everything goes.
        domains::pause(c, &pause_of("tern.example", START + 5 * DAY), START + DAY, None).unwrap();
        assert_eq!(gone(START + 3 * DAY), 2);
        domains::resume(c, all[0].id, START + 3 * DAY, Some(1)).unwrap();
        assert!(domains::resume(c, all[0].id, START + 3 * DAY, Some(1)).is_err());
        assert_eq!(gone(START + 3 * DAY), 6);
        assert_eq!(
            person::explain(c, MailingId(later), ContactId(1), START + HOUR, START + 9 * DAY).unwrap().first,
            Some(Reason::DomainPaused),
            "as it was then"
        );
    });
}

#[test]
fn only_an_approver_lets_a_mailing_exceed_and_the_reason_is_kept() {
    run(1, |c| {
        let m = mailing(c, None, OverCap::Hold);
        let mut draft = mailings::one(c, MailingId(m))
            .map(|m| mailings::MailingDraft {
                over_cap: OverCap::Exceed,
                exceed_reason: "The boats are cancelled on Saturday".into(),
                subjects: m.draft.subjects,
                ..mailings::MailingDraft::under(m.draft.letterhead_id, &m.draft.name)
            })
            .unwrap();
        let save =
            |d: &mailings::MailingDraft, person| mailings::save(c, Some(MailingId(m)), d, START, Some(person)).map_err(|e| e.to_string());
        assert!(save(&draft, 1).unwrap_err().contains("approver"));
        save(&draft, 3).unwrap();
        draft.name = "Boats".into();
        save(&draft, 1).unwrap();
        assert_eq!(mailings::one(c, MailingId(m)).unwrap().exceed_by.as_deref(), Some("Oskar Bray"));
        draft.exceed_reason = "because".into();
        assert!(save(&draft, 3).unwrap_err().contains("sentence"));
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM audit WHERE what = 'this mailing may exceed the caps'"), [1]);
        assert!(team::people(c).unwrap().iter().any(|p| p.role == "approver"));
    });
}

/// Service mail goes where marketing may not, never to the protected; to people who complained only by an
/// approver's word, with the reason on record.
#[test]
fn service_mail_asks_for_its_reason_and_an_approver_for_complainers() {
    run(4, |c| {
        for (who, act) in [(1, Act::Withdrew), (2, Act::Complained)] {
            ledger::act(c, ContactId(who), START, act, &origin()).unwrap();
        }
        c.execute("UPDATE contact SET sunset_at = 0 WHERE id = 3", []).unwrap();
        c.execute("UPDATE contact SET status = 3 WHERE id = 4", []).unwrap();
        let m = mailing(c, Some(1), OverCap::Hold);
        let first = |who: usize| match clearing::audience(c, MailingId(m), START).unwrap().decided[who - 1].outcome {
            Outcome::Cleared => None,
            Outcome::Held(_, r) | Outcome::Barred(r) => r.first(),
        };
        assert_eq!([first(1), first(2), first(3)], [Some(Reason::Withdrawn), Some(Reason::Complained), Some(Reason::Retired)]);
        let mut draft =
            mailings::MailingDraft { subjects: vec!["s".into()], topic_id: Some(1), ..mailings::MailingDraft::under(LetterheadId(1), "m") };
        let save =
            |d: &mailings::MailingDraft, person| mailings::save(c, Some(MailingId(m)), d, START, Some(person)).map_err(|e| e.to_string());
        draft.complainers_reason = "The landing stage is unsafe: the law asks us to say so".into();
        assert!(save(&draft, 3).unwrap_err().contains("never goes to people who complained"));
        draft.service_reason = "safety".into();
        assert!(save(&draft, 3).unwrap_err().contains("in a sentence"));
        draft.service_reason = "Everybody booked for Saturday must know".into();
        assert!(save(&draft, 1).unwrap_err().contains("Only an approver"));
        let complainers = std::mem::take(&mut draft.complainers_reason);
        save(&draft, 1).unwrap();
        assert_eq!([first(1), first(2), first(3), first(4)], [None, Some(Reason::Complained), None, Some(Reason::Retired)]);
        draft.complainers_reason = complainers;
        save(&draft, 3).unwrap();
        assert_eq!(first(2), None);
        assert_eq!(mailings::one(c, MailingId(m)).unwrap().complainers_by.as_deref(), Some("Oskar Bray"));
        assert_eq!(
            rows::<i64>(c, "SELECT count(*) FROM audit WHERE what IN ('service mailing', 'this mailing may go to people who complained')"),
            [2]
        );
    });
}

/// Another legal entity keeps its own consent: agreeing to one, leaving one and complaining about one say
/// nothing of the other, also a year later and after a merge.
#[test]
fn legal_entities_keep_separate_consent() {
    run(3, |c| {
        let shop = letterheads::Letterhead {
            id: LetterheadId(0),
            entity: "Lantern Shop Ltd".into(),
            ..letterheads::one(c, LetterheadId(1)).unwrap()
        };
        let shop = letterheads::save(c, &shop, START).unwrap();
        let (ours, theirs) = (mailing(c, None, OverCap::Hold), mailing(c, None, OverCap::Hold));
        c.execute("UPDATE mailing SET letterhead_id = ?2 WHERE id = ?1", [theirs, shop.0]).unwrap();
        let cleared = |m, at| clearing::audience(c, m, at).unwrap().people(None);
        assert_eq!(
            (cleared(MailingId(ours), START), cleared(MailingId(theirs), START)),
            (vec![ContactId(1), ContactId(2), ContactId(3)], vec![])
        );
        // The forecast asks each mailing's own entity, too.
        for m in [ours, theirs] {
            c.execute("UPDATE mailing SET state = 'planned', planned_at = ?2 WHERE id = ?1", [m, (START + HOUR).millis()]).unwrap();
        }
        let forecast = forecast::forecast(c, START, None, None).unwrap();
        let gets = |m| forecast.mailings.iter().find(|f| f.id == m).map(|f| (f.at_once, f.barred));
        assert_eq!((gets(ours), gets(theirs)), (Some((3, 0)), Some((0, 3))));
        c.execute("UPDATE mailing SET state = 'draft', planned_at = NULL", []).unwrap();
        let to_shop = || Origin { entity: "Lantern Shop Ltd".into(), ..origin() };
        for who in [1, 2] {
            ledger::act(c, ContactId(who), START, Act::Agreed, &to_shop()).unwrap();
        }
        start(c, theirs, START + HOUR);
        hand_over(c, START + HOUR, "250 2.0.0 ok");
        let send: i64 = rows(c, &format!("SELECT id FROM send WHERE mailing_id = {theirs} AND contact_id = 1"))[0];
        responses::unsubscribe(c, SendId(send), true, START + 2 * HOUR, "unsubscribe page").unwrap();
        let second = mailing(c, None, OverCap::Hold);
        c.execute("UPDATE mailing SET letterhead_id = ?2 WHERE id = ?1", [second, shop.0]).unwrap();
        let later = START + 3 * HOUR;
        assert_eq!(
            (cleared(MailingId(ours), later), cleared(MailingId(second), later)),
            (vec![ContactId(1), ContactId(2), ContactId(3)], vec![ContactId(2)])
        );
        for (m, who) in [(ours, 1), (second, 1), (second, 2), (second, 3)] {
            let said = person::explain(c, MailingId(m), ContactId(who), later, later).unwrap();
            assert_eq!(said.outcome == "cleared", cleared(MailingId(m), later).contains(&ContactId(who)), "{m} to {who}");
        }
        assert_eq!(person::explain(c, MailingId(second), ContactId(1), START + HOUR, later).unwrap().outcome, "cleared", "as it was then");
        let run = runs::begin(c, later, None, "merge", "two people", None).unwrap();
        merges::merge(c, run, ContactId(1), ContactId(2), later, None).unwrap();
        assert_eq!(
            (cleared(MailingId(ours), later), cleared(MailingId(second), later)),
            (vec![ContactId(2), ContactId(3)], vec![]),
            "the strictest holds, entity by entity"
        );
        assert!(ledger::seals(c, None).unwrap().broken.is_empty());
    });
}

/// A withdrawal and a handover at the same moment, many times: anybody who comes first in the file decides,
/// and nobody who had withdrawn is ever handed over.
#[tokio::test(flavor = "multi_thread")]
async fn a_withdrawal_that_races_the_handover_wins_or_comes_after() {
    let (_folder, store) = base(200).await;
    store
        .write(|c| {
            let m = mailing(c, None, OverCap::Hold);
            start(c, m, START);
            Ok(())
        })
        .await
        .unwrap();
    let mut won = 0;
    for who in 1..=200i64 {
        let (a, b) = (store.clone(), store.clone());
        let leaves = tokio::spawn(async move {
            a.write(move |c| {
                ledger::act(c, ContactId(who), START, Act::Withdrew, &origin())?;
                Ok(rows::<i64>(c, &format!("SELECT state FROM send WHERE contact_id = {who}"))[0] >= 2)
            })
            .await
            .unwrap()
        });
        let goes = tokio::spawn(async move { b.write(|c| sends::claim(c, START, 1)).await.unwrap().0.first().map(|o| o.contact) });
        let (handed_before, went) = (leaves.await.unwrap(), goes.await.unwrap());
        assert_eq!(handed_before, went == Some(ContactId(who)), "handed over only when it came before the withdrawal");
        won += u32::from(!handed_before);
    }
    assert!(won > 0, "the withdrawal never came first: this test raced nothing");
}
