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
    // Nothing went out from here, and whoever is on a list counts.
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
