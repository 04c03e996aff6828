//! Series: who enters, how they move on, and what holds whatever happens meanwhile.

use crate::common::{START, go_series as go, rows, run};
use proptest::prelude::*;
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::RuleSet;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SendId, SeriesId};
use rinse_core::reaction::{Deed, SETTLES_AFTER};
use rinse_core::segment::person::Value;
use rinse_core::segment::{FieldKind, Tree};
use rinse_core::series::{Again, Does, Entry, Exit, Happening, Outline, Question, Step};
use rinse_core::{DAY, HOUR, MINUTE};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::series::view::{self, Who};
use rinse_store::series::{self, entering};
use rinse_store::series_entry;
use rinse_store::tags::{self, Kind};
use rinse_store::{Connection, fields, merges, responses, rules, runs, segments, uses};

fn step(id: u32, does: Does) -> Step {
    Step { id, does }
}

fn draft(c: &Connection, name: &str) -> i64 {
    (mailings::save(c, None, &MailingDraft { subjects: vec!["s".into()], ..MailingDraft::under(LetterheadId(1), name) }, START, None)
        .unwrap())
    .0
}

fn mail(c: &Connection, id: u32) -> Step {
    step(id, Does::Mail { mailing: MailingId(draft(c, &format!("message {id}"))) })
}

fn wait(id: u32, hours: u32) -> Step {
    step(id, Does::Wait { hours, minute: None })
}

fn started(c: &Connection, o: &Outline) -> i64 {
    let id = series::save(c, None, "Welcome", LetterheadId(1), o, START, None).unwrap();
    series::start(c, id, START, None).unwrap();
    id.0
}

fn n(c: &Connection, sql: &str) -> i64 {
    rows(c, sql)[0]
}

#[test]
fn people_come_through_at_the_instants_that_the_outline_says() {
    run(3, |c| {
        let opened = Happening::Opened { step: 1 };
        let tag = tags::named(c, Kind::Tag, "greeted", START).unwrap();
        let o = Outline {
            steps: vec![
                mail(c, 1),
                step(2, Does::Await { what: opened.clone(), hours: 48 }),
                step(
                    3,
                    Does::Fork {
                        on: Question::Happened { what: opened },
                        yes: vec![step(4, Does::Act { deed: Deed::Tag { tag, put: true } })],
                        no: vec![mail(c, 5)],
                    },
                ),
                wait(6, 24),
            ],
            ..Outline::default()
        };
        let id = started(c, &o);
        assert_eq!(entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START, None).unwrap(), 2);
        assert_eq!(entering::put_in(c, SeriesId(id), &[ContactId(1)], START, None).unwrap(), 0, "nobody is in it twice at a time");
        go(c, START, START + MINUTE, "250 ok");
        let send = n(c, "SELECT id FROM send WHERE contact_id = 1");
        crate::common::hit(c, send, None, START + 5 * HOUR, "Mail reader", false).unwrap();
        go(c, START + MINUTE, START + 6 * HOUR, "250 ok");
        assert_eq!(rows::<i64>(c, "SELECT contact_id FROM contact_tag"), [1], "who opened goes on at once");
        go(c, START + 6 * HOUR, START + 5 * DAY, "250 ok");
        let ends: Vec<i64> = rows(c, "SELECT ended_at FROM series_entry ORDER BY contact_id");
        // Nobody is too late before it is known whether a reader's answer was their own.
        assert_eq!(ends, [(START + 29 * HOUR).millis(), (START + 72 * HOUR + SETTLES_AFTER).millis()]);
        let second = (START + 48 * HOUR + SETTLES_AFTER).millis();
        assert_eq!(rows::<i64>(c, "SELECT at FROM send WHERE contact_id = 2 ORDER BY id"), [START.millis(), second]);
        let v = view::view(c, SeriesId(id)).unwrap();
        assert_eq!((v.entered, v.inside), (2, 0));
        let came: Vec<i64> = v.lines.iter().map(|l| l.came).collect();
        assert_eq!(came, [2, 2, 2, 1, 1, 2]);
        assert_eq!(v.lines[2].yes.map(|y| (y.count, y.of)), Some((1, 2)));
        assert_eq!(
            view::people(c, SeriesId(id), &Who::read("no-3").unwrap(), false).unwrap()[0].contact,
            ContactId(2),
            "a count opens to its people"
        );
    });
}

/// Who answers in the last second of a wait is in time, though it shows a little later that it was them; who answers a second
/// after it isn't.
#[test]
fn the_last_second_of_a_wait_counts() {
    run(2, |c| {
        let what = Happening::Opened { step: 1 };
        let o = Outline { steps: vec![mail(c, 1), step(2, Does::Await { what, hours: 48 }), wait(3, 1)], ..Outline::default() };
        let id = started(c, &o);
        entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START, None).unwrap();
        go(c, START, START + MINUTE, "250 ok");
        let limit = START + 48 * HOUR;
        for (contact, at) in [(1, limit + -1_000), (2, limit + 1_000)] {
            let send = n(c, &format!("SELECT id FROM send WHERE contact_id = {contact}"));
            crate::common::hit(c, send, None, at, "Mail reader", false).unwrap();
        }
        go(c, START + MINUTE, START + 60 * HOUR, "250 ok");
        assert_eq!(rows::<String>(c, "SELECT how FROM series_passage WHERE step = 2 ORDER BY entry_id"), ["happened", "too late"]);
        assert_eq!(
            rows::<i64>(c, "SELECT gone_at FROM series_passage WHERE step = 2 ORDER BY entry_id"),
            [limit.millis() - 1_000, limit.millis()]
        );
    });
}

#[test]
fn a_cap_holds_somebody_at_their_step_and_they_never_lose_it() {
    run(1, |c| {
        let o = Outline { steps: vec![mail(c, 1), mail(c, 2), mail(c, 3)], ..Outline::default() };
        let id = started(c, &o);
        let cap = Cap { limit: 1, window: Window::Days { n: 10 }, scope: Scope::Series, in_force: true };
        rules::save(c, START, None, &RuleSet { caps: vec![cap], ..RuleSet::default() }, "one at a time").unwrap();
        entering::put_in(c, SeriesId(id), &[ContactId(1)], START, None).unwrap();
        go(c, START, START + 2 * DAY, "250 ok");
        // The second waits for its cap, longer than a mailing would hold it, and the third isn't there yet.
        assert_eq!(rows::<i64>(c, "SELECT state FROM send ORDER BY id"), [3, 0]);
        assert_eq!(view::view(c, SeriesId(id)).unwrap().lines[1].here, 1);
        go(c, START + 2 * DAY, START + 30 * DAY, "250 ok");
        let went: Vec<i64> = rows(c, "SELECT (handed_at - 1700000000000) / 86400000 FROM send ORDER BY id");
        assert_eq!(went, [0, 10, 20]);
        assert_eq!(rows::<String>(c, "SELECT ended FROM series_entry"), ["through"]);
    });
}

#[test]
fn those_who_leave_the_series_get_nothing_more_of_it_and_keep_the_rest() {
    run(2, |c| {
        let o = Outline { again: Again::Always, steps: vec![mail(c, 1), wait(2, 24), mail(c, 3)], ..Outline::default() };
        let id = started(c, &o);
        entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START, None).unwrap();
        go(c, START, START + HOUR, "250 ok");
        let send = n(c, "SELECT id FROM send WHERE contact_id = 1");
        assert_eq!(responses::leave_series(c, SendId(send), START + 2 * HOUR).unwrap().as_deref(), Some("Welcome"));
        responses::leave_series(c, SendId(send), START + 3 * HOUR).unwrap();
        assert_eq!(n(c, "SELECT count(*) FROM response WHERE kind = 4"), 1, "the same again changes nothing");
        go(c, START + HOUR, START + 9 * DAY, "250 ok");
        assert_eq!(rows::<i64>(c, "SELECT contact_id FROM send ORDER BY id"), [1, 2, 2]);
        assert_eq!(n(c, "SELECT count(*) FROM topic_left"), 0);
        assert_eq!(n(c, "SELECT consent FROM contact WHERE id = 1"), n(c, "SELECT consent FROM contact WHERE id = 2"));
        assert_eq!(
            entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START + 10 * DAY, None).unwrap(),
            1,
            "they don't enter it again"
        );
        go(c, START + 10 * DAY, START + 20 * DAY, "250 ok");
        assert_eq!(n(c, "SELECT count(*) FROM send WHERE contact_id = 2"), 4, "who enters again gets its messages again");
    });
}

#[test]
fn joining_a_segment_lets_in_and_leaving_it_takes_out() {
    run(6, |c| {
        let tag = tags::named(c, Kind::Tag, "guest", START).unwrap();
        let segment = segments::save(c, None, &segments::Draft { name: "Guests".into(), tree: Tree::Tag { tag } }, START, None).unwrap();
        tags::add(c, Kind::Tag, tag, &[ContactId(1)], START).unwrap();
        let o = Outline {
            entry: Entry::Segment { segment, those_in_it: false },
            steps: vec![wait(1, 48), mail(c, 2)],
            exits: vec![Exit::SegmentLeft { segment }],
            ..Outline::default()
        };
        let id = started(c, &o);
        assert!(uses::delete_segment(c, segment).unwrap_err().to_string().contains("series “Welcome”"));
        go(c, START, START + HOUR, "250 ok");
        assert_eq!(n(c, "SELECT count(*) FROM series_entry"), 0, "who was in it before doesn't join");
        tags::add(c, Kind::Tag, tag, &[ContactId(2), ContactId(3)], START).unwrap();
        // A look that is written twice, since the process stopped before it was noted, lets nobody in twice.
        let found = || entering::look(c, SeriesId(id), START + HOUR).unwrap().parts();
        for part in found().iter().chain(&found()) {
            part.write(c, START + HOUR).unwrap();
        }
        assert_eq!(n(c, "SELECT count(*) FROM series_entry"), 2);
        go(c, START + HOUR, START + 5 * HOUR, "250 ok");
        tags::take_off(c, Kind::Tag, tag, &[ContactId(3)]).unwrap();
        go(c, START + 5 * HOUR, START + 4 * DAY, "250 ok");
        assert_eq!(rows::<String>(c, "SELECT ended FROM series_entry ORDER BY contact_id"), ["through", "Is no longer in Guests"]);
        assert_eq!(rows::<i64>(c, "SELECT contact_id FROM send"), [2]);
        assert_eq!(view::of_person(c, ContactId(3)).unwrap()[0].series, SeriesId(id));
    });
}

#[test]
fn a_change_says_what_it_does_to_those_inside_and_withdraws_what_waits() {
    run(2, |c| {
        let (first, second) = (mail(c, 2), mail(c, 3));
        let o = Outline { steps: vec![wait(1, 24), first.clone(), second.clone()], ..Outline::default() };
        let id = started(c, &o);
        entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START, None).unwrap();
        go(c, START, START + HOUR, "250 ok");
        let shorter = Outline { steps: vec![first.clone(), wait(4, 1), second], ..o.clone() };
        let moves = series::effects(c, SeriesId(id), &shorter).unwrap();
        assert_eq!((moves.len(), moves[0].people), (1, 2));
        assert_eq!((moves[0].from.as_str(), moves[0].to.as_deref()), ("Wait 24 hours", Some("Send “message 2”")));
        series::change(c, SeriesId(id), "Welcome", &shorter, START + HOUR, None).unwrap();
        // Deferred once, it waits; then its step goes.
        go(c, START + HOUR, START + HOUR + 1, "451 4.3.0 later");
        assert_eq!(rows::<i64>(c, "SELECT state FROM send"), [4, 4]);
        let without = Outline { steps: vec![wait(4, 1)], ..o };
        assert!(
            series::change(c, SeriesId(id), "Welcome", &without, START + 2 * HOUR, None)
                .unwrap_err()
                .to_string()
                .contains("Nothing happens")
        );
        let other = Outline { steps: vec![wait(4, 1), mail(c, 5)], ..without };
        series::change(c, SeriesId(id), "Welcome", &other, START + 2 * HOUR, None).unwrap();
        assert_eq!(rows::<i64>(c, "SELECT state FROM send"), [6, 6], "a message whose step went isn't sent");
        go(c, START + 2 * HOUR, START + 9 * HOUR, "250 ok");
        assert_eq!(n(c, "SELECT count(*) FROM series_entry WHERE ended = 'through'"), 2);
        assert_eq!(n(c, "SELECT count(*) FROM send WHERE state = 3"), 2);
        assert_eq!(rows::<String>(c, "SELECT state FROM mailing ORDER BY id"), ["sent", "sent", "series"]);
    });
}

#[test]
fn another_entry_begins_with_the_change() {
    run(3, |c| {
        let day = |d: i64| (START.millis() / DAY + d) * DAY;
        let field = fields::named(c, "member since", FieldKind::Date, START).unwrap();
        for (contact, d) in [(1, 2), (2, 9)] {
            fields::set(c, ContactId(contact), field, &Value::Date(day(d) / DAY - 365 * 3), None, None).unwrap();
        }
        let (first, second) = (mail(c, 2), mail(c, 3));
        let o = Outline { steps: vec![wait(1, 1), first.clone()], ..Outline::default() };
        let id = started(c, &o);
        go(c, START, START + 5 * DAY, "250 ok");
        let dated =
            Outline { entry: Entry::Date { field, days: 0, minute: 600, yearly: true }, steps: vec![wait(1, 1), second], ..o.clone() };
        series::change(c, SeriesId(id), " Welcome ", &dated, START + 5 * DAY, None).unwrap();
        go(c, START + 5 * DAY, START + 12 * DAY, "250 ok");
        assert_eq!(rows::<i64>(c, "SELECT contact_id FROM series_entry"), [2], "whose day had passed before doesn't enter for it");
        assert_eq!(n(c, "SELECT at FROM series_entry"), day(9) + 10 * HOUR, "at that minute of their day");
        // A message that stood in it before may stand in it again.
        let back = Outline { steps: vec![first, wait(1, 1)], ..dated.clone() };
        series::change(c, SeriesId(id), "Welcome", &back, START + 12 * DAY, None).unwrap();
        assert_eq!(rows::<String>(c, "SELECT state FROM mailing ORDER BY id"), ["series", "sent"]);
        series::save(c, None, "Other", LetterheadId(1), &Outline::default(), START, None).unwrap();
        let refused = series::change(c, SeriesId(id), "other", &back, START + 12 * DAY, None).unwrap_err().to_string();
        assert!(refused.contains("another name"), "{refused}");
    });
}

#[test]
fn a_paused_series_stands_still_and_an_ended_one_lets_go() {
    run(2, |c| {
        let o = Outline { steps: vec![mail(c, 1), wait(2, 5), mail(c, 3)], ..Outline::default() };
        let id = started(c, &o);
        entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START, None).unwrap();
        series::pause(c, SeriesId(id), true, START, None).unwrap();
        go(c, START, START + DAY, "250 ok");
        assert_eq!(n(c, "SELECT count(*) FROM send"), 0);
        series::pause(c, SeriesId(id), false, START + DAY, None).unwrap();
        go(c, START + DAY, START + DAY + HOUR, "250 ok");
        assert_eq!(series::end(c, SeriesId(id), START + DAY + 2 * HOUR, None).unwrap(), 2);
        go(c, START + DAY + 2 * HOUR, START + 9 * DAY, "250 ok");
        assert_eq!(n(c, "SELECT count(*) FROM send"), 2);
        assert!(entering::put_in(c, SeriesId(id), &[ContactId(1)], START + 9 * DAY, None).is_err());
    });
}

#[test]
fn two_who_are_one_go_on_once() {
    run(3, |c| {
        let o = Outline { steps: vec![wait(1, 5), mail(c, 2)], ..Outline::default() };
        let id = started(c, &o);
        entering::put_in(c, SeriesId(id), &[ContactId(1), ContactId(2)], START, None).unwrap();
        let run = runs::begin(c, START + HOUR, None, "merge", "one person", None).unwrap();
        merges::merge(c, run, ContactId(2), ContactId(1), START + HOUR, None).unwrap();
        go(c, START + HOUR, START + DAY, "250 ok");
        assert_eq!(rows::<i64>(c, "SELECT contact_id FROM send"), [1]);
        assert_eq!(n(c, "SELECT count(*) FROM series_entry WHERE ended_at IS NULL"), 0);
    });
}

/// What may happen to somebody in a series, hour by hour.
#[derive(Debug, Clone, Copy)]
enum Event {
    Enter,
    Buy,
    LeaveTopic,
    LeaveSeries,
    Pause,
    Resume,
    Defer,
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Whatever happens, in whatever order: nobody is in it twice at a time, never waits for two messages at once, gets a message
    /// once an entry, and nothing goes out after they are out; the counts of the steps add up.
    #[test]
    fn invariants_hold(events in prop::collection::vec((0u8..40, 1i64..4, prop::sample::select(vec![
        Event::Enter, Event::Enter, Event::Enter, Event::Buy, Event::LeaveTopic, Event::LeaveSeries, Event::Pause, Event::Resume, Event::Defer,
    ])), 0..14), cap in any::<bool>()) {
        run(3, move |c| {
            let topic = n(c, "SELECT id FROM topic LIMIT 1");
            let o = Outline {
                again: Again::Always,
                steps: vec![
                    mail(c, 1),
                    wait(2, 3),
                    step(3, Does::Fork { on: Question::Share { percent: 50.0 }, yes: vec![mail(c, 4)], no: vec![wait(5, 2)] }),
                    mail(c, 6),
                ],
                exits: vec![Exit::Happened { what: Happening::Bought { product: None, category: None } }, Exit::TopicLeft { topic }],
                ..Outline::default()
            };
            let id = started(c, &o);
            if cap {
                let cap = Cap { limit: 1, window: Window::Hours { n: 5 }, scope: Scope::Marketing, in_force: true };
                rules::save(c, START, None, &RuleSet { caps: vec![cap], ..RuleSet::default() }, "").unwrap();
            }
            let mut events = events.clone();
            events.sort_by_key(|e| e.0);
            let (mut t, mut reply) = (START, "250 ok");
            for (i, (hour, who, what)) in events.into_iter().enumerate() {
                let at = START + i64::from(hour) * HOUR + i as i64;
                go(c, t, at, reply);
                t = at;
                reply = "250 ok";
                match what {
                    Event::Enter => drop(entering::put_in(c, SeriesId(id), &[ContactId(who)], t, None)),
                    Event::Buy => {
                        c.execute("INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key) VALUES (?1, ?2, ?3, 100, 'GBP', 'x', 'x')",
                            rusqlite::params![format!("{i}"), who, t.millis()]).unwrap();
                    }
                    Event::LeaveTopic => drop(c.execute("INSERT INTO topic_left VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING", [topic, who, t.millis()]).unwrap()),
                    Event::LeaveSeries => series_entry::leave(c, SeriesId(id), ContactId(who), t).map(drop).unwrap(),
                    Event::Pause => drop(series::pause(c, SeriesId(id), true, t, None)),
                    Event::Resume => drop(series::pause(c, SeriesId(id), false, t, None)),
                    Event::Defer => reply = "451 4.3.0 later",
                }
                let at_once = "SELECT coalesce(max(n), 0) FROM (SELECT count(*) AS n FROM send WHERE state IN (0, 1, 2, 4) GROUP BY contact_id)";
                assert!(n(c, at_once) <= 1, "two messages wait for one person");
            }
            drop(series::pause(c, SeriesId(id), false, t, None));
            go(c, t, t + 10 * DAY, "250 ok");
            assert_eq!(n(c, "SELECT count(*) FROM series_entry WHERE ended_at IS NULL"), 0, "everybody is out in the end");
            assert_eq!(n(c, "SELECT count(*) FROM send WHERE state IN (0, 1, 2, 4)"), 0);
            assert_eq!(n(c, "SELECT count(*) FROM send s JOIN series_entry e ON e.id = s.cause_id WHERE s.handed_at > e.ended_at AND e.ended <> 'through'"), 0);
            assert_eq!(n(c, "SELECT count(*) FROM (SELECT 1 FROM series_entry a JOIN series_entry b ON a.contact_id = b.contact_id AND a.id < b.id AND b.at < a.ended_at)"), 0);
            let v = view::view(c, SeriesId(id)).unwrap();
            assert_eq!(v.lines[0].came, v.entered);
            assert_eq!(v.out.iter().map(|o| o.people.count).sum::<u64>(), v.entered.unsigned_abs());
            for l in &v.lines {
                assert!(l.on <= l.came && l.here == 0);
                if let Some(m) = &l.mail {
                    assert!(i64::try_from(m.accepted).unwrap() + m.barred + m.failed <= l.came, "{l:?}");
                }
            }
        });
    }
}
