//! A trial of a message in a series, through the API: people are enrolled as they come, an arm is let in and another stopped on
//! the way, who comes again keeps their arm and counts once, and anybody who comes after the call gets what was called.

use crate::inside::Inside;
use crate::inside::trial::{files_of, recomputed};
use axum::http::StatusCode;
use rinse_testkit::draft;
use serde_json::{Value, json};
use std::process::Command;

fn plan() -> Value {
    json!({
        "question": "Which greeting is opened more?", "metric": "human_open", "effect": 0.25, "alpha": 0.05, "power": 0.8, "pilot_share": 1.0,
        "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.2, "complaint_margin": 0.2, "control": 0, "per_arm": 120,
        "shares": [1, 1, 0], "by_itself": true,
    })
}

/// A running series of one message with three variants, that people may enter again and again; the plan isn't sealed yet.
async fn running() -> Inside {
    let s = Inside::new().await;
    let people: String = (0..1_200).map(|i| format!("p{i}@tern.example\n")).collect();
    s.import(&format!("email\n{people}")).await;
    let mut d = draft(1, &["Welcome", "Welcome ashore", "A light is on for you"]);
    for part in ["html", "text"] {
        d[part] = json!(format!("{} {{{{ leave_series_url }}}}", d[part].as_str().unwrap()));
    }
    s.ok("POST", "/api/mailings", &d).await;
    s.ok("POST", "/api/series", &json!({ "name": "Welcome", "letterhead_id": 1 })).await;
    let steps =
        json!([{ "id": 1, "does": { "kind": "mail", "mailing": 1 } }, { "id": 2, "does": { "kind": "wait", "hours": 1, "minute": null } }]);
    let outline =
        json!({ "entry": { "kind": "by_hand" }, "again": { "kind": "always" }, "from": null, "until": null, "steps": steps, "exits": [] });
    s.ok("PUT", "/api/series/1", &json!({ "name": "Welcome", "letterhead_id": 1, "outline": outline })).await;
    assert!(refused(&s, "POST", "/api/series/1/start", &Value::Null).await.contains("several variants"), "nobody said who gets which");
    s.ok("PUT", "/api/mailings/1/trial", &plan()).await;
    assert!(refused(&s, "POST", "/api/trials/1/seal", &json!({})).await.contains("isn't running"), "its text may change still");
    s.ok("POST", "/api/series/1/start", &Value::Null).await;
    s
}

async fn refused(s: &Inside, method: &str, path: &str, body: &Value) -> String {
    let text = if body.is_null() { String::new() } else { body.to_string() };
    let (status, words) = s.api(method, path, &text).await;
    assert!(matches!(status, StatusCode::CONFLICT | StatusCode::UNPROCESSABLE_ENTITY), "{status} {words}");
    words
}

/// These people enter, and get their message.
async fn enter(s: &Inside, people: std::ops::RangeInclusive<i64>) {
    s.ok("POST", "/api/series/1/people", &json!({ "contacts": people.collect::<Vec<_>>() })).await;
    s.advance(2).await;
}

async fn shares(s: &Inside, parts: Value) {
    s.ok("POST", "/api/trials/1/stretches", &json!({ "parts": parts, "why": "The third greeting is ready" })).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_enrolled_as_they_come_and_only_those_who_came_together_are_compared() {
    let s = running().await;
    // Until the plan is sealed everybody gets A, and is in no trial.
    enter(&s, 1..=20).await;
    assert_eq!((s.count("SELECT count(*) FROM send WHERE arm = 0 AND phase = 0"), s.count("SELECT count(*) FROM roster")), (20, 0));
    let outlook = s.ok("POST", "/api/mailings/1/outlook", &plan()).await;
    assert!(outlook["a_day"].as_f64().unwrap() > 0.0 && outlook["days"].as_f64().unwrap() > 0.0, "{outlook}");
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;

    enter(&s, 21..=140).await;
    assert_eq!(s.count("SELECT count(*) FROM roster WHERE arm < 2 AND stratum = 0"), 120);
    assert_eq!(s.count("SELECT count(*) FROM roster WHERE arm = 2"), 0, "C isn't let in yet");
    let why = json!("It reads better");
    for (parts, why, words) in [
        (json!([0, 1, 1]), why.clone(), "stays open"),
        (json!([1, 0, 0]), why.clone(), "nothing to compare"),
        (json!([1, 1, 0]), why.clone(), "nothing would change"),
        (json!([1, 1]), why, "0 to 10 parts"),
        (json!([1, 1, 1]), json!("no"), "in a sentence why"),
    ] {
        let body = json!({ "parts": parts, "why": why });
        assert!(refused(&s, "POST", "/api/trials/1/stretches", &body).await.contains(words), "{words}");
    }
    shares(&s, json!([1, 1, 1])).await;
    enter(&s, 141..=320).await;
    shares(&s, json!([1, 0, 2])).await;
    let view = s.ok("GET", "/api/trials/1", &Value::Null).await;
    let e = &view["enrolment"];
    assert_eq!(e["stretches"].as_array().unwrap().len(), 3);
    assert!(e["days"].as_f64().unwrap() > 0.0 && view["reading"].is_null() && view["rollout"].is_null(), "{view}");
    assert_eq!(e["people"].as_array().unwrap().iter().map(|n| n.as_i64().unwrap()).sum::<i64>(), s.count("SELECT count(*) FROM roster"));

    // Anybody who comes again keeps their arm, and counts once.
    enter(&s, 21..=60).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE contact_id BETWEEN 21 AND 60"), 80);
    let other = "SELECT count(*) FROM send s JOIN roster r USING (contact_id) WHERE s.arm <> r.arm AND s.contact_id >= 21";
    assert_eq!(s.count(other), 0);

    // C is full at 120: nobody more is enrolled, anybody who comes gets A, and the reading is at the last one's end.
    enter(&s, 321..=600).await;
    let since = s.count("SELECT enrolled_at FROM trial");
    assert!(since > 0, "it is full");
    assert_eq!(s.count("SELECT min(n) FROM (SELECT count(*) AS n FROM roster WHERE arm <> 1 GROUP BY arm)"), 120);
    assert_eq!(s.count(&format!("SELECT count(*) FROM send WHERE phase = 0 AND contact_id > 140 AND arm <> 0 AND handed_at > {since}")), 0);
    assert!(
        refused(&s, "POST", "/api/trials/1/stretches", &json!({ "parts": [1, 1, 1], "why": "It reads better" })).await.contains("as it is")
    );

    // C is opened by seven in ten, the others by two: whatever the stand-in's people did.
    let opens = "UPDATE send SET open_at = CASE WHEN contact_id % 10 < iif(arm = 2, 7, 2) THEN handed_at + 60000 END WHERE phase = 1";
    s.advance(20).await;
    s.db().execute(opens, []).unwrap();
    s.advance(10).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!(v["reading"]["verdict"], json!({ "kind": "called", "arm": 2 }), "{v}");
    let pairs: Vec<(i64, i64)> =
        v["reading"]["pairs"].as_array().unwrap().iter().map(|p| (p["base"].as_i64().unwrap(), p["arm"].as_i64().unwrap())).collect();
    assert_eq!(pairs, [(0, 1), (0, 2)]);
    let notes = v["reading"]["remarks"].to_string();
    assert!(notes.contains("B was taken out") && notes.contains("3 stretches"), "{notes}");
    let files = files_of(&s, 1).await;
    assert!(files["stretches.csv"].lines().count() == 10 && files["assignments.csv"].contains(",2,C"), "{}", files["stretches.csv"]);
    assert_eq!(recomputed(&files).unwrap_or_else(|| "called C".into()), "called C");

    // It releases itself. Who comes then gets C, and a twentieth A; who took part and comes again gets C, and counts in neither.
    assert_eq!(v["trial"]["state"], "rolling");
    s.advance(24).await;
    enter(&s, 601..=1_190).await;
    let (called, check) = (
        s.count("SELECT count(*) FROM send WHERE phase = 2 AND arm = 2"),
        s.count("SELECT count(*) FROM send WHERE phase = 3 AND arm = 0"),
    );
    assert!(called + check == 590 && (10..=60).contains(&check), "{called} {check}");
    enter(&s, 21..=40).await;
    // Of the stand-in's people one or another may have left meanwhile.
    assert!(s.count("SELECT count(*) FROM send WHERE contact_id BETWEEN 21 AND 40 AND arm = 2 AND phase = 0") > 15);
    enter(&s, 601..=700).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase IN (2, 3)"), 590, "who comes again is watched once");
    let learned = s.ok("GET", "/api/trials/learned", &Value::Null).await;
    assert_eq!(learned["read"], 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_that_too_few_came_to_is_given_up() {
    let s = running().await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    enter(&s, 1..=30).await;
    s.ok("POST", "/api/trials/1/enrolment/end", &json!({ "why": "The series is over for good" })).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert!(v["trial"]["state"] == "ended" && v["trial"]["verdict"].is_null() && v["reading"].is_null(), "{v}");
    enter(&s, 31..=60).await;
    assert_eq!(
        s.count("SELECT count(*) FROM send WHERE contact_id > 30 AND arm = 0 AND phase = 0"),
        30,
        "what was sealed for no call goes on"
    );
    assert_eq!(s.api("GET", "/api/trials/1/record.zip", "").await.0, StatusCode::CONFLICT);
    assert_eq!(s.ok("GET", "/api/trials/learned", &Value::Null).await["read"], 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_arm_that_drives_people_away_is_closed_at_a_look() {
    let s = running().await;
    let mut p = plan();
    for (key, value) in [("harm_looks", json!(2)), ("leaving_margin", json!(0.02)), ("shares", json!([1, 1, 1]))] {
        p[key] = value;
    }
    s.ok("PUT", "/api/mailings/1/trial", &p).await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    assert_eq!(s.ok("GET", "/api/trials/1", &Value::Null).await["looks"].as_array().unwrap().len(), 2);
    enter(&s, 1..=180).await;
    s.db().execute("UPDATE send SET left_at = handed_at + 60000 WHERE phase = 1 AND arm = 1 AND contact_id % 2 = 0", []).unwrap();
    s.advance(12).await;
    assert_eq!(s.count("SELECT looked FROM trial"), 0, "nobody's window is over");
    s.advance(36).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!((&v["trial"]["looked"], &v["trial"]["stopped"][0]["arm"]), (&json!(1), &json!(1)), "{v}");
    let stretches = v["enrolment"]["stretches"].as_array().unwrap();
    assert!(stretches.len() == 2 && stretches[1]["parts"] == json!([1, 0, 1]), "{stretches:?}");
    assert!(stretches[1]["why"].as_str().unwrap().contains("stopped B for leaving"));
    enter(&s, 181..=300).await;
    assert_eq!(s.count("SELECT count(*) FROM roster WHERE contact_id > 180 AND arm = 1"), 0);
    assert!(s.ok("GET", "/api/trials/1/seal", &Value::Null).await["broken"].is_null());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_enrolment_can_be_ended_and_what_was_written_down_cant_be_touched() {
    let s = running().await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    let end = json!({ "why": "The season is over" });
    assert!(refused(&s, "POST", "/api/trials/1/enrolment/end", &json!({ "why": "so" })).await.contains("in a sentence why"));
    enter(&s, 1..=120).await;
    s.ok("POST", "/api/trials/1/open", &Value::Null).await;
    s.ok("POST", "/api/trials/1/enrolment/end", &end).await;
    assert!(refused(&s, "POST", "/api/trials/1/enrolment/end", &end).await.contains("as it is"));
    // Anybody can work out who got what, without Rinse's rows of sends.
    let rinse = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/debug/rinse");
    if rinse.exists() {
        let out = Command::new(rinse).args(["assign", "--trial", "1", "--data"]).arg(s.folder()).output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        assert_eq!(String::from_utf8_lossy(&out.stdout).lines().count(), 121);
    }
    let seal = s.ok("GET", "/api/trials/1/seal", &Value::Null).await;
    assert!(seal["broken"].is_null() && seal["balance"].as_array().unwrap().len() == 1, "{seal}");
    s.db().execute("UPDATE trial_stretch SET parts = '[1,2,0]'", []).unwrap();
    assert!(s.ok("GET", "/api/trials/1/seal", &Value::Null).await["broken"].as_str().unwrap().contains("shares of the arms"));
    s.advance(30).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!(v["reading"]["verdict"]["kind"], "void");
    assert!(v["reading"]["remarks"].to_string().contains("after the arms had been opened: The season is over"), "{v}");
}

/// B is opened by eight in ten of its people, A by one, whatever the stand-in's people do.
fn b_is_opened_more(s: &Inside) {
    let opens = "UPDATE send SET open_at = CASE WHEN contact_id % 10 < iif(arm = 1, 8, 1) THEN handed_at + 60000 END WHERE phase = 1";
    s.db().execute(opens, []).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_look_that_may_call_calls_and_is_read_of_those_whose_window_was_over() {
    let s = running().await;
    let mut p = plan();
    for (key, value) in [("harm_looks", json!(2)), ("looks_call", json!(true))] {
        p[key] = value;
    }
    s.ok("PUT", "/api/mailings/1/trial", &p).await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    enter(&s, 1..=140).await;
    s.advance(12).await;
    enter(&s, 141..=160).await;
    b_is_opened_more(&s);
    s.advance(12).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!(
        (&v["trial"]["called_at_look"]["look"], &v["reading"]["verdict"]),
        (&json!(1), &json!({ "kind": "called", "arm": 1 })),
        "{v}"
    );
    let counted: i64 = (0..2).map(|i| v["reading"]["arms"][i]["counts"]["assigned"].as_i64().unwrap()).sum();
    assert_eq!((counted, s.count("SELECT count(*) FROM roster")), (140, 160), "who came late isn't through the window");
    let remarks = v["reading"]["remarks"].to_string();
    assert!(remarks.contains("Read at look 1 of 2, with 33%") && remarks.contains("A look called B"), "{remarks}");
    assert_eq!(v["differs"], Value::Null);
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "called B".into()), "called B");
    // Nobody more is enrolled, and what was called goes out as planned.
    s.advance(30).await;
    enter(&s, 161..=200).await;
    assert_eq!(s.count("SELECT count(*) FROM roster"), 160);
    assert!(s.count("SELECT count(*) FROM send WHERE contact_id > 160 AND arm = 1") > 30);
}

#[tokio::test(flavor = "multi_thread")]
async fn who_stops_when_they_like_what_they_see_calls_nothing() {
    let s = running().await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    enter(&s, 1..=140).await;
    s.ok("POST", "/api/trials/1/open", &Value::Null).await;
    s.ok("POST", "/api/trials/1/enrolment/end", &json!({ "why": "B is ahead already" })).await;
    b_is_opened_more(&s);
    s.advance(30).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert!(
        v["reading"]["verdict"]["kind"] == "cant_tell" && v["reading"]["notes"].to_string().contains("after somebody had opened them"),
        "{v}"
    );
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "cant_tell".into()), "cant_tell");
}
