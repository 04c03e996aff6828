//! A trial whose mail another system sends: drawn and cleared here, handed out, and read by what its log tells.

use crate::inside::Inside;
use rinse_testkit::{draft, people_csv};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::fmt::Write as _;

/// A base with a sealed trial of two arms that are handed out, and the people of each list.
async fn handed_out(people: usize, window: i64) -> (Inside, [Vec<String>; 2]) {
    let s = Inside::new().await;
    s.import(&people_csv(people)).await;
    let mut d = draft(1, &["Boats", "Low tide"]);
    d["handed_out"] = json!(true);
    // What another system sends isn't written here.
    d["html"] = json!("");
    s.ok("POST", "/api/mailings", &d).await;
    let plan = json!({
        "question": "Which subject brings people to the timetable?", "metric": "human_click", "effect": 0.1, "alpha": 0.05, "power": 0.8,
        "pilot_share": 0.75, "window_hours": window, "on_no_call": 0, "leaving_margin": 0.05, "complaint_margin": 0.05,
    });
    s.ok("PUT", "/api/mailings/1/trial", &plan).await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    let lists = [list(&s, 0, 1).await, list(&s, 1, 1).await];
    (s, lists)
}

async fn list(s: &Inside, arm: i64, phase: i64) -> Vec<String> {
    let csv = s.file(&format!("/api/mailings/1/hand-out.csv?arm={arm}&phase={phase}")).await;
    let text = String::from_utf8(csv).unwrap();
    let letter = if arm == 0 { "A" } else { "B" };
    let rows = text.lines().skip(1).map(|l| {
        let cells: Vec<&str> = l.split(',').collect();
        assert_eq!((cells[1], cells[2]), (format!("rinse-1-{letter}").as_str(), letter));
        cells[0].to_owned()
    });
    rows.collect()
}

/// The door that events come by.
async fn door(s: &Inside) -> String {
    let made = s.ok("POST", "/api/doors", &json!({ "name": "the other sender" })).await;
    format!("/in/{}", made["events_url"].as_str().unwrap().split_once("/in/").unwrap().1)
}

async fn tell(s: &Inside, door: &str, lines: &str) -> Value {
    let (status, answer, _) = s.door("POST", door, lines).await;
    assert_eq!(status, 200, "{answer}");
    serde_json::from_str(&answer).unwrap()
}

async fn now(s: &Inside) -> i64 {
    s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap()
}

fn event(address: &str, key: &str, kind: &str, at: i64) -> String {
    json!({ "address": address, "mailing": key, "kind": kind, "at": at, "agent": "Reader/5.1", "link": "https://skerry-light.example/boats" }).to_string() + "\n"
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_is_handed_out_told_of_and_read() {
    let (s, [a, b]) = handed_out(1_600, 24).await;
    // Nothing went out from here, and anybody who is on a list counts.
    assert_eq!(s.count("SELECT count(*) FROM send WHERE handed_at IS NOT NULL"), 0);
    assert!((595..=605).contains(&a.len()) && (595..=605).contains(&b.len()), "{} {}", a.len(), b.len());
    let roster: HashMap<String, i64> = {
        let db = s.db();
        let mut q = db.prepare("SELECT c.address, r.arm FROM roster r JOIN contact c ON c.id = r.contact_id").unwrap();
        q.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect()
    };
    assert!(a.iter().all(|p| roster[p] == 0) && b.iter().all(|p| roster[p] == 1));
    // A window begins with what the log tells, not with the list: nobody is told of yet.
    s.advance(30).await;
    assert_eq!(s.ok("GET", "/api/trials/1", &Value::Null).await["trial"]["state"], "collecting");
    let (door, at) = (door(&s).await, now(&s).await - 3_600_000);
    let mut sent = String::new();
    for (arm, (people, each)) in [(&a, 10), (&b, 4)].into_iter().enumerate() {
        let key = ["rinse-1-A", "rinse-1-B"][arm];
        for (i, p) in people.iter().enumerate() {
            // Of each list two aren't told of: they were lost on the way.
            if i < 2 {
                continue;
            }
            sent.push_str(&event(p, key, "accepted", at));
            if i % each == 0 {
                sent.push_str(&event(p, key, "clicked", at + 600_000));
            }
        }
    }
    sent.push_str(&event("somebody@tern.example", "rinse-1-A", "accepted", at));
    let told = tell(&s, &door, &sent).await;
    assert_eq!(
        (told["refused"].as_u64(), &told["reasons"][0]["reason"]),
        (Some(1), &json!("nobody in the base has this address")),
        "{told}"
    );
    let lists = s.ok("GET", "/api/mailings/1/hand-out", &Value::Null).await;
    assert_eq!((lists[0]["told"].as_u64(), lists[1]["crossed"].as_u64()), (Some(a.len() as u64 - 2), Some(0)), "{lists}");
    // Four aren't told of: the reading waits for them until their reservation ends.
    s.advance(24).await;
    assert_eq!(s.ok("GET", "/api/trials/1", &Value::Null).await["trial"]["state"], "collecting");
    s.advance(14 * 24).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    let r = &v["reading"];
    assert_eq!(r["verdict"], json!({ "kind": "called", "arm": 1 }), "{}", r["sentence"]);
    for (i, (people, each)) in [(&a, 10), (&b, 4)].into_iter().enumerate() {
        let counts = &r["arms"][i]["counts"];
        let clicked = (2..people.len()).filter(|n| n % each == 0).count() as u64;
        assert_eq!(
            (counts["assigned"].as_u64(), counts["handed_over"].as_u64(), counts["primary"].as_u64()),
            (Some(people.len() as u64), Some(people.len() as u64 - 2), Some(clicked)),
            "{counts}"
        );
    }
    // The rollout is one more list, of the arm that was called; a few get the other, as a check of it.
    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    let (mut rest, check) = (list(&s, 1, 2).await, list(&s, 0, 3).await);
    assert!(list(&s, 0, 2).await.is_empty() && check.len() * 5 < rest.len(), "{} {}", rest.len(), check.len());
    rest.extend(check);
    rest.extend(list(&s, 1, 3).await);
    assert_eq!(rest.len(), 1_600 - a.len() - b.len());
    assert!(rest.iter().all(|p| !roster.contains_key(p)));
}

#[tokio::test(flavor = "multi_thread")]
async fn who_got_the_other_arms_message_is_found_and_too_many_make_it_void() {
    let (s, [a, b]) = handed_out(1_000, 24).await;
    let (door, at) = (door(&s).await, now(&s).await);
    let mut lines = String::new();
    let mut tell_of = |people: &[String], own: &str, other: &str, crossed: usize| {
        for (i, p) in people.iter().enumerate() {
            let _ = write!(lines, "{}", event(p, if i < crossed { other } else { own }, "accepted", at));
        }
    };
    // Three of some 375 are under one in a hundred, twelve aren't.
    tell_of(&a, "rinse-1-A", "rinse-1-B", 3);
    tell_of(&b, "rinse-1-B", "rinse-1-A", 12);
    let told = tell(&s, &door, &lines).await;
    assert_eq!(told["refused"], 0, "{told}");
    let lists = s.ok("GET", "/api/mailings/1/hand-out", &Value::Null).await;
    assert_eq!((&lists[0]["crossed"], &lists[1]["crossed"]), (&json!(3), &json!(12)));
    s.advance(26).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!(v["reading"]["verdict"]["kind"], "void", "{}", v["reading"]["sentence"]);
    assert!(v.to_string().contains("12 of ") && v.to_string().contains("arm B got the message of another arm"), "{}", v["reading"]);
}

const DAY: i64 = 86_400_000;
/// Saturdays from 18 April 2026 on.
const SATURDAYS: [i64; 2] = [20_561, 20_568];

/// A sealed hour trial of two rounds that another system sends, the first of them drawn.
async fn hours_handed_out() -> Inside {
    let s = Inside::new().await;
    let mut csv = String::from("email,first name,time zone\n");
    for i in 0..900 {
        let zone = if i % 9 == 8 { "" } else { ["Europe/Paris", "America/New_York"][i % 2] };
        let _ = writeln!(csv, "wren{i}@tern.example,Wren{i},{zone}");
    }
    s.import(&csv).await;
    for subject in ["Boats in April", "Boats in late April"] {
        let mut d = draft(1, &[subject]);
        (d["handed_out"], d["html"]) = (json!(true), json!(""));
        s.ok("POST", "/api/mailings", &d).await;
    }
    let rounds: Vec<Value> = SATURDAYS.iter().zip(1..).map(|(day, mailing)| json!({ "mailing": mailing, "day": day })).collect();
    let plan = json!({ "question": "Does the hour matter there?", "metric": "human_open", "hours": [8, 18], "rounds": rounds, "usual_hour": 10,
        "effect": 0.05, "alpha": 0.05, "power": 0.8, "window_days": 7, "fail_loss": 0.2 });
    s.ok("POST", "/api/hour-trials", &plan).await;
    let (status, words) = s.api_as("3", "POST", "/api/hour-trials/1/seal", r#"{"why_small":"Read together with last year's"}"#).await;
    assert_eq!(status, 204, "{words}");
    for mailing in 1..3 {
        s.ok("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null })).await;
    }
    s.advance(24).await;
    s
}

/// The rows of a list of an hour and time zone, without its header.
async fn hour_list(s: &Inside, mailing: i64, hour: i64, zone: &str) -> Vec<Vec<String>> {
    let csv = s.file(&format!("/api/mailings/{mailing}/hand-out.csv?arm=0&phase=0&hour={hour}&zone={zone}")).await;
    let text = String::from_utf8(csv).unwrap();
    assert_eq!(
        text.lines().next().unwrap().trim_start_matches('\u{feff}'),
        "address,key,arm,given_name,family_name,country,hour,zone,sends_at"
    );
    text.lines().skip(1).map(|l| l.split(',').map(str::to_owned).collect()).collect()
}

/// What the other system tells of a round: everybody at their hour but `early` of those of the morning, two hours before; two thirds open in the
/// morning, one third in the evening.
async fn tell_of_round(s: &Inside, door: &str, mailing: i64, early: usize) {
    let lists = s.ok("GET", &format!("/api/mailings/{mailing}/hand-out"), &Value::Null).await;
    let mut lines = String::new();
    let mut before_their_hour = early;
    for l in lists.as_array().unwrap().iter().filter(|l| !l["hour"].is_null()) {
        let (hour, zone, at) = (l["hour"].as_i64().unwrap(), l["zone"].as_str().unwrap(), l["sends_at"].as_i64().unwrap());
        let rows = hour_list(s, mailing, hour, zone).await;
        assert_eq!((rows.len() as u64, l["to_come"].as_u64()), (l["people"].as_u64().unwrap(), Some(0)), "{l}");
        for (i, row) in rows.iter().enumerate() {
            assert_eq!((row[6].as_str(), row[7].as_str()), (format!("{hour:02}:00").as_str(), zone));
            let off = if hour == 8 && before_their_hour > 0 { 7_200_000 } else { 0 };
            before_their_hour -= usize::from(off > 0);
            let sent = at + 300_000 - off;
            lines.push_str(&event(&row[0], &row[1], "accepted", sent));
            if (i % 3 == 0) != (hour == 8) {
                lines.push_str(&event(&row[0], &row[1], "opened", sent + 3_600_000));
            }
        }
    }
    let told = tell(s, door, &lines).await;
    assert_eq!(told["refused"], 0, "{told}");
}

#[rstest::rstest]
#[case(2, "matters")]
#[case(9, "void")]
#[tokio::test(flavor = "multi_thread")]
async fn an_hour_trial_is_handed_out_by_hour_and_zone(#[case] early: usize, #[case] verdict: &str) {
    let s = hours_handed_out().await;
    // All who were drawn are on the lists before their hours, and each list says when it goes.
    let drawn = s.count("SELECT count(*) FROM hour_roster WHERE mailing_id = 1");
    assert_eq!(drawn, 800);
    assert_eq!(s.count("SELECT count(*) FROM send WHERE mailing_id = 1 AND state = 3 AND handed_at IS NULL"), drawn);
    let eight = hour_list(&s, 1, 8, "Europe/Paris").await;
    assert!((195..=205).contains(&eight.len()) && eight.iter().all(|r| r[8] == "2026-04-18T06:00:00Z"), "{:?}", eight.first());
    let door = door(&s).await;
    s.advance(48).await;
    tell_of_round(&s, &door, 1, early).await;
    let lists = s.ok("GET", "/api/mailings/1/hand-out", &Value::Null).await;
    let off: i64 = lists.as_array().unwrap().iter().map(|l| l["crossed"].as_i64().unwrap()).sum();
    assert_eq!(off, early as i64, "{lists}");
    s.advance(7 * 24).await;
    let waiting = "SELECT count(*) FROM send s JOIN hour_roster h ON h.mailing_id = s.mailing_id AND h.contact_id = s.contact_id WHERE s.mailing_id = 2 AND s.state = 3";
    assert_eq!(s.count(waiting), s.count("SELECT count(*) FROM hour_roster WHERE mailing_id = 2"));
    // The second window is over before its log comes: the reading waits for it.
    s.advance(8 * 24 + 12).await;
    assert_eq!(s.ok("GET", "/api/hour-trials/1", &Value::Null).await["trial"]["state"], "collecting");
    tell_of_round(&s, &door, 2, 0).await;
    // Anybody who wasn't drawn is on a list without an hour, and nothing is told of them: they are no part of the trial.
    s.advance(24).await;
    let read = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    let r = &read["reading"];
    assert_eq!(r["verdict"], json!(verdict), "{read}");
    if verdict == "void" {
        let said = r["sentence"].as_str().unwrap();
        assert!(said.contains(" 9 of ") && said.contains("people who were drawn to 08:00 got their message before that hour"), "{said}");
    } else {
        assert_eq!(r["best_set"], json!([8]), "{r}");
    }
    assert!(SATURDAYS[1] * DAY < now(&s).await);
}
