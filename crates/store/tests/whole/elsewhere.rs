//! Another system asks who may be written to, and is told who mustn't.

use crate::common::{START, hand_over, mailing, rows, run, start};
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::{Outcome, OverCap, Reason, RuleSet};
use rinse_core::consent::Act;
use rinse_core::history::told;
use rinse_core::id::ContactId;
use rinse_core::suppression::Entry;
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::clearing::addresses::{Says, Sending, clear};
use rinse_store::history::reserving::{self, Reserve};
use rinse_store::history::taking::{self, Memory, Taken, Takes};
use rinse_store::ledger::{self, Origin};
use rinse_store::suppression::Beside;
use rinse_store::{Connection, do_not_write, rules, suppression, tables, topics, webhooks};

fn origin() -> Origin {
    Origin { source: "test", ..Origin::default() }
}

fn person(c: &Connection, n: i64) -> i64 {
    rows::<i64>(c, &format!("SELECT id FROM contact WHERE address_key = 'p{n}@tern.example'"))[0]
}

fn suppress(c: &Connection, entry: &str) {
    let b = Beside { reason: "asked by letter", source: "by hand", expires_at: None, person: None };
    suppression::add(c, 1, &Entry::parse(entry).unwrap(), b, START).unwrap();
}

/// Some of everything that bars: the people's numbers say what.
fn some(c: &Connection) {
    ledger::act(c, ContactId(person(c, 1)), START + HOUR, Act::Withdrew, &origin()).unwrap();
    ledger::act(c, ContactId(person(c, 2)), START + 2 * HOUR, Act::Complained, &origin()).unwrap();
    ledger::leave_topic(c, ContactId(person(c, 3)), topics::named(c, "Tide notes").unwrap(), START + 3 * HOUR, &origin()).unwrap();
    suppress(c, "p4@tern.example");
    suppress(c, "gull.example");
    c.execute("UPDATE contact SET status = 3, status_at = ?2 WHERE id = ?1", [person(c, 5), START.millis() + 4]).unwrap();
    let cap = Cap { limit: 1, window: Window::Days { n: 7 }, scope: Scope::Marketing, in_force: true };
    rules::save(c, START, None, &RuleSet { caps: vec![cap], ..RuleSet::default() }, "test").unwrap();
}

#[test]
fn each_address_is_answered_for() {
    run(8, |c| {
        some(c);
        // Who got a letter yesterday has to wait for the cap, no matter who sends the next one.
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, START + 5 * HOUR);
        hand_over(c, START + 5 * HOUR, "250 2.0.0 ok");
        let now = START + DAY;
        let mut asked: Vec<String> = (1..=6).map(|n| format!(" P{n}@Tern.example ")).collect();
        asked.extend(["new@tern.example", "someone@gull.example", "nobody at all"].map(str::to_owned));
        let of = |sending: &Sending| clear(c, sending, now, &asked).unwrap().told;
        let told = of(&Sending { topic: Some("tide notes".into()), ..Sending::default() });
        let first = |i: usize| (told[i].says, told[i].reasons.first().copied());
        assert_eq!(first(0), (Says::Barred, Some(Reason::Withdrawn)));
        assert_eq!(first(1), (Says::Barred, Some(Reason::Complained)));
        assert_eq!(first(2), (Says::Barred, Some(Reason::TopicLeft)));
        assert_eq!(first(3), (Says::Barred, Some(Reason::Suppressed)));
        assert_eq!(first(4), (Says::Barred, Some(Reason::Retired)));
        assert_eq!(first(5), (Says::Held, Some(Reason::HeldByCap)));
        assert_eq!(told[5].until, Some((START + 5 * HOUR + 7 * DAY).millis()));
        assert_eq!(first(6), (Says::Barred, Some(Reason::NoConsent)));
        assert_eq!(first(7), (Says::Barred, Some(Reason::Suppressed)));
        assert_eq!(first(8), (Says::Unreadable, Some(Reason::NoAddress)));
        assert_eq!(told[0].address, " P1@Tern.example ");
        // A receipt goes to anybody who withdrew, and at once; not to a dead address.
        let told = of(&Sending { service_reason: "a receipt".into(), ..Sending::default() });
        assert_eq!((told[0].says, told[5].says, told[4].says), (Says::Cleared, Says::Cleared, Says::Barred));
        assert!(
            clear(c, &Sending { topic: Some("Seals".into()), ..Sending::default() }, now, &asked)
                .is_err_and(|e| e.to_string().contains("Tide notes"))
        );
        // Asking leaves nothing behind.
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send"), rows::<i64>(c, "SELECT count(*) FROM send WHERE mailing_id = 1"));
    });
}

#[test]
fn a_file_says_which_column_it_is() {
    let csv = "Nummer;Kontaktweg;Ort\n1;wren@tern.example;Port Skerry\n2;ole@tern.example;\n3;;Quay\n";
    assert_eq!(tables::addresses(csv.as_bytes(), 10).unwrap(), ["wren@tern.example", "ole@tern.example", ""]);
    assert_eq!(tables::addresses(csv.as_bytes(), 1).unwrap().len(), 1);
    assert_eq!(tables::addresses(b"wren@tern.example\nole@tern.example\n", 10).unwrap().len(), 2);
    assert!(tables::addresses(b"name\nwren\n", 10).unwrap_err().to_string().contains("No column"));
    assert!(tables::addresses(b"", 10).is_err());
}

#[test]
fn whom_not_to_write_to_is_told_once_each() {
    run(8, |c| {
        let webhook = webhooks::make(c, "The other sender", "https://sender.example/stop", b"secret", START, None).unwrap();
        do_not_write::tell(c, Some(webhook), START, None).unwrap();
        assert!(!do_not_write::due(c, START + DAY).unwrap(), "what was before is in the file");
        some(c);
        let told = |since| do_not_write::since(c, since, START + DAY).unwrap();
        let names = |since| told(since).iter().map(|d| (d.address.clone(), d.reason)).collect::<Vec<_>>();
        assert_eq!(told(START).len(), 6);
        assert_eq!(
            names(START + HOUR),
            [
                ("p1@tern.example".into(), Reason::Withdrawn),
                ("p2@tern.example".into(), Reason::Complained),
                ("p3@tern.example".into(), Reason::TopicLeft)
            ]
        );
        assert_eq!(told(START + 3 * HOUR)[0].topic.as_deref(), Some("Tide notes"));
        assert!(told(START).iter().any(|d| d.address == "gull.example" && d.contact.is_none()));
        while do_not_write::go_on(c, START + DAY).unwrap() {}
        let sent: Vec<String> = rows(c, "SELECT body FROM delivery ORDER BY id");
        assert_eq!(sent.len(), 6, "{sent:?}");
        assert!(sent.iter().any(|b| b.contains("p1@tern.example") && b.contains("\"withdrawn\"")));
        assert_eq!(
            rows::<i64>(c, "SELECT count(*) FROM delivery WHERE contact_id IS NULL"),
            [2],
            "what is about somebody goes when they are deleted"
        );
        // The same again is no news; who agrees again is no longer on the list, and that is told once, too.
        while do_not_write::go_on(c, START + DAY).unwrap() {}
        assert!(!do_not_write::due(c, START + DAY).unwrap());
        ledger::act(c, ContactId(person(c, 1)), START + DAY, Act::Confirmed, &origin()).unwrap();
        for _ in 0..2 {
            while do_not_write::go_on(c, START + DAY).unwrap() {}
        }
        let last = || rows::<String>(c, "SELECT body FROM delivery ORDER BY id DESC LIMIT 1").remove(0);
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM delivery"), [7]);
        assert!(
            last().contains("do_not_write_ended") && last().contains("p1@tern.example") && last().contains("\"withdrawn\""),
            "{}",
            last()
        );
        assert_eq!(told(START).len(), 5);
        // Leaving once more is news again; of who is deleted nothing is said any more.
        ledger::act(c, ContactId(person(c, 1)), START + 2 * DAY, Act::Withdrew, &origin()).unwrap();
        while do_not_write::go_on(c, START + 2 * DAY).unwrap() {}
        assert!(last().contains("\"do_not_write\"") && last().contains("p1@tern.example"), "{}", last());
        rinse_store::erasure::erase(c, ContactId(person(c, 1)), START + 3 * DAY, None).unwrap();
        while do_not_write::go_on(c, START + 3 * DAY).unwrap() {}
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM delivery"), [8]);
    });
}

/// A line that is taken off, or that runs out, is told as ended: once, and only where it was told before.
#[test]
fn a_line_that_is_over_is_told_once() {
    run(1, |c| {
        let webhook = webhooks::make(c, "The other sender", "https://sender.example/stop", b"secret", START, None).unwrap();
        let put = |text: &str, expires_at, now| {
            let beside = Beside { reason: "", source: "a test", expires_at, person: None };
            assert!(suppression::add(c, 1, &Entry::parse(text).unwrap(), beside, now).unwrap());
        };
        let go_on = |now| {
            while do_not_write::go_on(c, now).unwrap() {}
            assert!(!do_not_write::due(c, now).unwrap());
            rows::<String>(c, "SELECT body FROM delivery ORDER BY id")
        };
        put("before.example", Some(START + HOUR), START);
        do_not_write::tell(c, Some(webhook), START + 2 * HOUR, None).unwrap();
        assert!(go_on(START + 2 * HOUR).is_empty(), "what was over before is no news");
        put("gull.example", None, START + 2 * HOUR);
        put("tern.example", Some(START + DAY), START + 2 * HOUR);
        put("gone.example", None, START + 2 * HOUR);
        let of = |text: &str| rows::<i64>(c, &format!("SELECT id FROM suppression_entry WHERE text = '{text}'"))[0];
        suppression::take_off(c, of("gone.example"), START + 2 * HOUR, None).unwrap();
        assert_eq!(go_on(START + 3 * HOUR).len(), 2, "one came and went unseen");
        suppression::take_off(c, of("gull.example"), START + 4 * HOUR, None).unwrap();
        assert!(do_not_write::due(c, START + 4 * HOUR).unwrap());
        let last = |all: Vec<String>| all.last().unwrap().clone();
        let said = last(go_on(START + 4 * HOUR));
        assert!(said.contains("do_not_write_ended") && said.contains("gull.example") && said.contains("suppressed"), "{said}");
        assert!(!do_not_write::due(c, START + 23 * HOUR).unwrap() && do_not_write::due(c, START + DAY).unwrap());
        let listed = |now| do_not_write::since(c, Instant::of(0), now).unwrap().iter().any(|d| d.address == "tern.example");
        assert_eq!((listed(START + 23 * HOUR), listed(START + DAY)), (true, false));
        let said = last(go_on(START + DAY));
        assert!(said.contains("do_not_write_ended") && said.contains("tern.example"), "{said}");
        suppression::take_off(c, of("tern.example"), START + 2 * DAY, None).unwrap();
        assert_eq!(go_on(START + 2 * DAY).len(), 4, "it was told as over");
        // Nobody is told: nothing is kept for them.
        do_not_write::tell(c, None, START + 2 * DAY, None).unwrap();
        put("later.example", None, START + 2 * DAY);
        suppression::take_off(c, of("later.example"), START + 3 * DAY, None).unwrap();
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM suppression_line_over"), [0]);
    });
}

/// Two senders and one cap: who is reserved for one isn't cleared for the other, until it is over or the mail has gone.
#[test]
fn caps_hold_across_two_senders() {
    run(8, |c| {
        let cap = Cap { limit: 1, window: Window::Days { n: 7 }, scope: Scope::Marketing, in_force: true };
        rules::save(c, START, None, &RuleSet { caps: vec![cap], ..RuleSet::default() }, "test").unwrap();
        let people: Vec<String> = (0..8).map(|n| format!("p{n}@tern.example")).collect();
        let (now, until) = (START + DAY, (START + 3 * DAY).millis());
        let sending = Sending::default();
        let reserve = |key: &str, people: &[String], at| {
            let of = Reserve { mailing: key.into(), name: String::new(), until };
            let mailing = reserving::begin(c, &of, &sending, at).unwrap();
            reserving::some(c, mailing, people, at, until).unwrap()
        };
        let cleared = |o: &[Option<Outcome>]| o.iter().filter(|o| **o == Some(Outcome::Cleared)).count();
        // The same twice reserves once.
        assert_eq!(cleared(&reserve("K-1", &people[..5], now)), 5);
        assert_eq!(cleared(&reserve("K-1", &people[..5], now)), 5);
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send"), [5]);
        // Another mailing of theirs gets the three others; anybody who asks is told the same.
        assert_eq!(cleared(&reserve("K-2", &people, now + HOUR)), 3);
        assert!(clear(c, &sending, now + 2 * HOUR, &people).unwrap().told.iter().all(|t| t.says != Says::Cleared));
        // Our own mailing waits for them, too.
        let m = mailing(c, None, OverCap::Hold);
        start(c, m, now + 2 * HOUR);
        assert_eq!(hand_over(c, now + 2 * HOUR, "250 2.0.0 ok"), 0);
        c.execute("DELETE FROM send WHERE mailing_id = ?1", [m]).unwrap();
        // One message has gone; what was never confirmed ends, and counts no longer.
        let takes = Takes { log: None, name: "k".into(), accepts: true, newcomers: false, unnamed: false, now: now + 3 * HOUR };
        let went =
            told(&format!(r#"{{"address": "p0@tern.example", "mailing": "K-1", "kind": "accepted", "at": "{}"}}"#, (now + HOUR).iso()))
                .unwrap();
        let mut memory = Memory::default();
        assert_eq!(taking::take(c, &takes, &mut memory, &went.event).unwrap(), Taken::New);
        taking::settle_live(c, &mut memory, takes.now).unwrap();
        assert!(!reserving::end_some(c, START + 3 * DAY).unwrap());
        assert_eq!(rows::<i64>(c, "SELECT count(*) FROM send"), [1]);
        let says: Vec<Says> = clear(c, &sending, START + 3 * DAY, &people).unwrap().told.iter().map(|t| t.says).collect();
        assert!(says[0] == Says::Held && says[1..].iter().all(|s| *s == Says::Cleared), "{says:?}");
        // Nothing can be reserved for what counts under no cap, or without end.
        let of = Reserve { mailing: "K-3".into(), name: String::new(), until };
        let service = Sending { service_reason: "a receipt".into(), ..Sending::default() };
        assert!(reserving::begin(c, &of, &service, now).is_err_and(|e| e.to_string().contains("no cap")));
        assert!(reserving::begin(c, &Reserve { until: until + 40 * DAY, ..of }, &sending, now).is_err());
    });
}
