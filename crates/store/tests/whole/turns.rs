//! Everybody's own turn: what depends on the instant is asked at theirs, and a mail domain's rate holds for those who were held, too.

use crate::common::{START, hand_over, mailing, rows, run, start};
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::{OverCap, RuleSet};
use rinse_core::schedule::{HourlyRate, Schedule};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::{Connection, rules};

/// One message to everyone at the start, and a cap of one in twelve hours; then another, with this schedule, an hour later.
fn second(c: &Connection, over: OverCap, schedule: &Schedule) -> i64 {
    let cap = Cap { limit: 1, window: Window::Hours { n: 12 }, scope: Scope::Marketing, in_force: true };
    rules::save(c, START, None, &RuleSet { caps: vec![cap], ..RuleSet::default() }, "").unwrap();
    let first = mailing(c, None, OverCap::Hold);
    start(c, first, START);
    hand_over(c, START, "250 ok");
    let m = mailing(c, None, over);
    c.execute("UPDATE mailing SET schedule = ?2 WHERE id = ?1", rusqlite::params![m, serde_json::to_string(schedule).unwrap()]).unwrap();
    start(c, m, START + HOUR);
    m
}

/// Hands over what is due, each at its instant.
fn go(c: &Connection, until: Instant) {
    loop {
        let next: Vec<Option<i64>> = rows(c, "SELECT min(at) FROM send WHERE state IN (0, 1)");
        match next[0].map(Instant::of).filter(|t| *t <= until) {
            Some(t) => drop(hand_over(c, t, "250 ok")),
            None => return,
        }
    }
}

#[test]
fn who_would_be_skipped_now_is_asked_when_it_is_their_turn() {
    run(60, |c| {
        let m = second(c, OverCap::Skip, &Schedule { spread_minutes: 24 * 60, ..Schedule::default() });
        let turns: Vec<i64> = rows(c, &format!("SELECT at FROM send WHERE mailing_id = {m} ORDER BY contact_id"));
        assert_eq!(turns.len(), 60, "nobody is left out before their turn");
        go(c, START + 3 * DAY);
        let went: Vec<i64> = rows(c, &format!("SELECT state FROM send WHERE mailing_id = {m} ORDER BY contact_id"));
        for (at, state) in turns.iter().zip(&went) {
            assert_eq!(*state, if *at >= (START + 12 * HOUR).millis() { 3 } else { 6 }, "due at {}", Instant::of(*at).iso());
        }
        assert!(went.contains(&3) && went.contains(&6));
        let barred: Vec<i64> = rows(c, &format!("SELECT count(*) FROM decision WHERE mailing_id = {m} AND outcome = 2"));
        assert_eq!(barred[0], went.iter().filter(|s| **s == 6).count() as i64, "each is decided once, at their turn");
    });
}

/// Rules that let people go sooner let those who are held go sooner, too; at their own turn where that is to come, and not
/// where another rule holds them.
#[test]
fn who_is_held_is_asked_again_when_the_rules_change() {
    run(60, |c| {
        let spread = Schedule { spread_minutes: 4 * 60, ..Schedule::default() };
        let m = second(c, OverCap::Hold, &spread);
        let held =
            |c: &Connection| rows::<i64>(c, &format!("SELECT at FROM send WHERE mailing_id = {m} AND state = 0 ORDER BY contact_id"));
        let before = held(c);
        assert!(before.len() == 60 && before.iter().all(|at| *at >= (START + 12 * HOUR).millis()));
        // A tighter cap: nobody goes sooner, and everybody is held by it.
        let (now, cap) = (START + 2 * HOUR, |n| Cap { limit: 1, window: Window::Hours { n }, scope: Scope::Marketing, in_force: true });
        let set = |caps: Vec<Cap>| RuleSet { caps, ..RuleSet::default() };
        rules::save(c, now, None, &set(vec![cap(48)]), "Members said it was too much").unwrap();
        go(c, START + 6 * HOUR);
        assert!(held(c).iter().all(|at| *at == (START + 48 * HOUR).millis()), "each is held until the new cap lets them go");
        // None at all: those whose turn has come go now, the others at theirs.
        let now = START + 6 * HOUR;
        rules::save(c, now, None, &set(Vec::new()), "The season is over").unwrap();
        go(c, now);
        let went: Vec<i64> = rows(c, &format!("SELECT handed_at FROM send WHERE mailing_id = {m} AND state = 3"));
        assert!(went.len() == 60 && went.iter().all(|at| *at == now.millis()), "their turns were over by five o'clock: {went:?}");
    });
    run(60, |c| {
        let m = second(c, OverCap::Hold, &Schedule { spread_minutes: 10 * 60, ..Schedule::default() });
        let now = START + 3 * HOUR;
        rules::save(c, now, None, &RuleSet::default(), "The season is over").unwrap();
        go(c, START + 2 * DAY);
        let went: Vec<i64> = rows(c, &format!("SELECT handed_at FROM send WHERE mailing_id = {m} AND state = 3 ORDER BY handed_at"));
        let share = went.iter().filter(|at| **at == now.millis()).count();
        // A fifth of ten hours' turns was over by then.
        assert!(
            (3..=25).contains(&share)
                && went.len() == 60
                && went[59] > (START + 9 * HOUR).millis()
                && went[59] <= (START + 11 * HOUR).millis(),
            "{share} of {went:?}"
        );
    });
}

#[test]
fn a_rate_holds_for_those_who_were_held() {
    run(45, |c| {
        let rate = HourlyRate { domain: "tern.example".into(), per_hour: 10 };
        let m = second(c, OverCap::Hold, &Schedule { rates: vec![rate], ..Schedule::default() });
        // Somebody gets another message meanwhile: they are held again when they are due, and stand behind the others then.
        c.execute("INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at) SELECT 1, id, 99, 3, ?1, 0, ?1, ?1 FROM contact WHERE id <= 20", [(START + 6 * HOUR).millis()]).unwrap();
        go(c, START + 5 * DAY);
        let went: Vec<i64> = rows(c, &format!("SELECT handed_at FROM send WHERE mailing_id = {m} AND state = 3 ORDER BY handed_at"));
        assert_eq!(went.len(), 45);
        for (i, at) in went.iter().enumerate() {
            assert!(*at >= (START + 12 * HOUR).millis());
            let in_an_hour = went[i..].iter().filter(|t| **t < at + HOUR).count();
            assert!(in_an_hour <= 10, "{in_an_hour} in the hour from {}", Instant::of(*at).iso());
        }
    });
}
