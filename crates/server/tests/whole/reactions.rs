//! Reactions from the outside: switched on by the API, acted on as the demo clock moves, told to the record
//! system that ships with Rinse.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_testkit::draft;
use serde_json::{Value, json};
use std::collections::HashSet;

#[tokio::test(flavor = "multi_thread")]
async fn silence_becomes_points_a_task_and_a_message_to_the_record_system() {
    let s = Inside::new().await;
    let people: String = (0..60).map(|i| format!("p{i}@tern.example\n")).collect();
    s.import(&format!("email\n{people}")).await;
    let score = s.ok("POST", "/api/scores", &json!({ "id": null, "name": "Interest", "half_life_days": 60 })).await;
    let records = s.ok("POST", "/api/webhooks", &json!({ "name": "Record system", "url": "/standin/records" })).await;
    let mailing = s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await["id"].clone();
    let then = json!([
        { "kind": "score", "score": score, "points": -2 }, { "kind": "webhook", "webhook": records }, { "kind": "task", "words": "Ask whether the address is right" }
    ]);
    let rule = json!({ "mailing": mailing, "when": { "kind": "not_opened", "hours": 48, "taken_back": true }, "then": then });
    let reaction = s.ok("POST", "/api/reactions", &json!({ "id": null, "rule": rule, "on": true })).await;
    s.ok("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null })).await;
    s.advance(47).await;
    let done = |v: Value| v["reaction"]["done"].as_i64().unwrap();
    assert_eq!(done(s.ok("GET", &format!("/api/reactions/{reaction}"), &Value::Null).await), 0, "its time isn't up");
    s.advance(60).await;
    let page = s.ok("GET", &format!("/api/reactions/{reaction}"), &Value::Null).await;
    let (acted, back) = (page["reaction"]["done"].as_i64().unwrap(), page["reaction"]["taken_back"].as_i64().unwrap());
    assert!(acted > 5 && acted < 60, "{acted} of 60 were silent for two days");
    let silent = s.count(
        "SELECT count(*) FROM send WHERE failed_at IS NULL AND coalesce(open_at > accepted_at + 172800000, 1) AND coalesce(click_at > accepted_at + 172800000, 1)",
    );
    assert_eq!(acted, silent);
    assert_eq!(s.count("SELECT count(*) FROM score_entry WHERE points = -2"), acted);
    assert_eq!(s.count("SELECT count(*) FROM score_entry WHERE points = 2"), back, "who opened later is as before");
    assert_eq!(s.count("SELECT count(*) FROM task"), acted - back);
    let brought = s.ok("GET", "/api/findings/reactions", &Value::Null).await;
    assert_eq!((&brought["acted"], &brought["taken_back"]), (&json!(acted), &json!(back)));
    let points = brought["deeds"].as_array().unwrap().iter().find(|d| d["points"] != Value::Null).unwrap().clone();
    assert_eq!((points["changed"].as_i64(), points["points"].as_f64()), (Some(acted), Some(-2.0 * (acted - back) as f64)));
    assert_eq!(s.ok("GET", "/api/findings/reactions?to=0", &Value::Null).await["acted"], json!(0));
    let today = s.ok("GET", "/api/today", &Value::Null).await;
    assert!(today.as_array().unwrap().iter().any(|d| d["kind"] == "task"));
    let task = s.ok("GET", "/api/tasks", &Value::Null).await[0]["id"].clone();
    s.ok("POST", &format!("/api/tasks/{task}"), &json!({ "done": true })).await;
    assert_eq!(s.count("SELECT count(*) FROM task WHERE done_at IS NULL"), acted - back - 1);

    // Every message arrived once, though some found the system busy at first.
    s.ok("POST", &format!("/api/webhooks/{records}/test"), &Value::Null).await;
    s.advance(1).await;
    let taken = s.ok("GET", "/standin/records", &Value::Null).await;
    let keys: HashSet<&str> = taken.as_array().unwrap().iter().map(|t| t["key"].as_str().unwrap()).collect();
    assert_eq!((keys.len() as i64, taken.as_array().unwrap().len() as i64), (acted + 1, acted + 1));
    let log = s.ok("GET", "/api/deliveries", &Value::Null).await;
    assert!(log.as_array().unwrap().iter().all(|d| d["state"] == "delivered"));
    assert!(log.as_array().unwrap().iter().any(|d| d["tries"].as_i64() > Some(1)), "one in five is put off once");
    // Nobody else's word is taken for ours: the stand-in has no door to the outside.
    assert_eq!(s.api("POST", "/standin/records", "{}").await.0, StatusCode::METHOD_NOT_ALLOWED);

    // What is in use stays; a person who is deleted takes their messages along.
    assert_eq!(s.api("DELETE", &format!("/api/scores/{score}"), "").await.0, StatusCode::CONFLICT);
    assert_eq!(s.api("DELETE", &format!("/api/webhooks/{records}"), "").await.0, StatusCode::CONFLICT);
    let who = page["people"][0]["contact"].clone();
    s.ok("DELETE", &format!("/api/contacts/{who}"), &Value::Null).await;
    assert_eq!(s.count("SELECT count(*) FROM delivery WHERE body = ''"), 1);
    let (status, csv) = s.api("GET", &format!("/api/reactions/{reaction}/people.csv"), "").await;
    assert_eq!((status, csv.lines().count() as i64), (StatusCode::OK, acted + 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn no_outside_host_is_told_anything() {
    let s = Inside::new().await;
    for url in [
        "https://records.example/hook",
        "http://10.0.0.7/hook",
        "http://localhost.example/x",
        "file:///etc/passwd",
        "http://me@127.0.0.1/",
        "/api/contacts",
        "http://[::2]/",
    ] {
        let (status, words) = s.api("POST", "/api/webhooks", &json!({ "name": "x", "url": url }).to_string()).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{url}: {words}");
    }
    for url in ["http://127.0.0.1:9000/a", "http://localhost/a", "http://[::1]:80/"] {
        s.ok("POST", "/api/webhooks", &json!({ "name": url, "url": url })).await;
    }
    let rule = json!({ "mailing": null, "when": { "kind": "clicked", "link": 3 }, "then": [{ "kind": "task", "words": "x" }] });
    let (status, words) = s.api("POST", "/api/reactions", &json!({ "id": null, "rule": rule, "on": true }).to_string()).await;
    assert!(status == StatusCode::CONFLICT && words.contains("A link belongs to a mailing"), "{status} {words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn points_are_given_by_hand_with_a_reason() {
    let s = Inside::one_message().await;
    let score = s.ok("POST", "/api/scores", &json!({ "id": null, "name": "Interest", "half_life_days": null })).await;
    let give = |points: f64, why: &str| json!({ "contact": 1, "points": points, "why": why });
    s.ok("POST", &format!("/api/scores/{score}/points"), &give(3.0, "Asked at the desk")).await;
    s.ok("POST", &format!("/api/scores/{score}/points"), &give(-1.0, "Asked twice")).await;
    let own = s.ok("GET", "/api/contacts/1/scores", &Value::Null).await;
    assert_eq!((&own[0]["now"], &own[0]["entries"][0]["why"]), (&json!(2.0), &json!("Asked twice")), "{own}");
    for (points, why) in [(0.0, "x"), (1_001.0, "x"), (1.0, " ")] {
        let (status, _) = s.api("POST", &format!("/api/scores/{score}/points"), &give(points, why).to_string()).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{points} {why:?}");
    }
    assert_eq!(s.count("SELECT count(*) FROM score_entry"), 2);
}
