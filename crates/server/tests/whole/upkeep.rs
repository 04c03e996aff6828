//! Upkeep through the real router: incidents and runs as a page drives them, what is refused, and what goes on after it was cut off.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_testkit::draft;
use rstest::rstest;
use serde_json::{Value, json};

/// Sixty people, of whom forty have no mailbox, and one mailing to them.
async fn sent() -> Inside {
    let s = Inside::new().await;
    let rows: String = (0..60).map(|i| format!("{}wren{i}@tern.example\n", if i < 40 { "gone." } else { "" })).collect();
    s.import(&format!("email\n{rows}")).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(1).await;
    s
}

async fn base(s: &Inside, part: &str) -> i64 {
    s.ok("GET", "/api/upkeep", &Value::Null).await["base"][part].as_i64().unwrap()
}

async fn until(s: &Inside, run: i64, state: &str) -> Value {
    for _ in 0..400 {
        let now = s.ok("GET", &format!("/api/upkeep/runs/{run}"), &Value::Null).await;
        if now["state"] == state {
            return now;
        }
        tokio::task::yield_now().await;
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    panic!("run {run} is never {state}");
}

/// A policy put in force as a page does it: proposed, read, applied.
async fn in_force(s: &Inside, change: &Value, note: &str) -> i64 {
    let mut policy = s.ok("GET", "/api/upkeep/policy", &Value::Null).await["current"]["policy"].clone();
    policy.as_object_mut().unwrap().extend(change.as_object().unwrap().clone());
    let run = s.ok("POST", "/api/upkeep/policy", &json!({ "policy": policy, "note": note })).await["run"].as_i64().unwrap();
    until(s, run, "proposed").await;
    s.ok("POST", &format!("/api/upkeep/runs/{run}/apply"), &Value::Null).await;
    until(s, run, "applied").await;
    run
}

#[tokio::test(flavor = "multi_thread")]
async fn an_incident_waits_on_today_and_is_decided_by_a_person() {
    let s = sent().await;
    let today = s.ok("GET", "/api/today", &Value::Null).await;
    assert!(today.to_string().contains("Failures at tern.example"), "{today}");
    let waits = &s.ok("GET", "/api/upkeep", &Value::Null).await["incidents"][0];
    assert_eq!((&waits["failures"], &waits["messages"], &waits["norm_of"]), (&json!(40), &json!(60), &json!("usual")));
    assert_eq!(base(&s, "active").await, 60);
    let nobody = s.api_as("99", "POST", "/api/upkeep/incidents/1", &json!({ "counts": true }).to_string()).await;
    assert!(nobody.0.is_client_error(), "only a person of the team decides");
    s.ok("POST", "/api/upkeep/incidents/1", &json!({ "counts": true, "reason": " closed " })).await;
    assert_eq!((base(&s, "active").await, base(&s, "retired").await), (20, 40));
    assert_eq!(s.count("SELECT count(*) FROM audit WHERE what = 'incident: the failures count' AND detail = 'closed'"), 1);
    assert!(!s.ok("GET", "/api/today", &Value::Null).await.to_string().contains("Failures at"));
    let person = s.ok("GET", "/api/contacts/1", &Value::Null).await;
    assert!(person["status_why"].as_str().unwrap().contains("nothing was ever delivered"), "{person}");
    s.ok("POST", "/api/upkeep/incidents/1", &json!({ "counts": null })).await;
    assert_eq!(base(&s, "retired").await, 0);
    assert_eq!(s.api("POST", "/api/upkeep/incidents/7", &json!({ "counts": true }).to_string()).await.0, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_page_to_their_end_and_neutralise_what_a_spreadsheet_would_run() {
    let s = sent().await;
    s.ok("POST", "/api/upkeep/incidents/1", &json!({ "counts": true })).await;
    // More than a page, all of the same instant.
    s.db().execute_batch("UPDATE contact SET status = 3, status_cause = 1, status_at = 7 WHERE id <= 40;
        WITH RECURSIVE n(i) AS (SELECT 100 UNION ALL SELECT i + 1 FROM n WHERE i < 300)
        INSERT INTO contact (id, address, address_key, domain_id, added_at, status, status_cause, status_at) SELECT i, '=p' || i || '@tern.example', '=p' || i || '@tern.example', 1, 0, 3, 4, 7 FROM n;").unwrap();
    for order in ["since", "longest", "address"] {
        let (mut seen, mut names, mut after) = (std::collections::BTreeSet::new(), Vec::new(), String::new());
        loop {
            let page = s.ok("GET", &format!("/api/upkeep/people?status=retired&order={order}{after}"), &Value::Null).await;
            for row in page["rows"].as_array().unwrap() {
                assert!(seen.insert(row["contact_id"].as_i64().unwrap()), "twice: {row}");
                names.push(row["address"].as_str().unwrap().to_owned());
            }
            let Some(next) = page["next"].as_str() else { break };
            after = format!("&after={next}");
        }
        assert_eq!(seen.len(), 241, "{order}");
        assert!(order != "address" || names.is_sorted());
    }
    let some = s.ok("GET", "/api/upkeep/people?status=retired&begins=%20GONE.wren1&order=address", &Value::Null).await;
    assert_eq!(some["rows"].as_array().unwrap().len(), 11, "1 and 10 to 19");
    let one = s.ok("GET", "/api/upkeep/people?status=retired&cause=never_there", &Value::Null).await;
    assert_eq!(one["rows"].as_array().unwrap().len(), 40);
    let csv = String::from_utf8(s.file("/api/upkeep/people.csv?status=retired&cause=failed_for_good").await).unwrap();
    assert!(csv.lines().count() == 202 && csv.contains("'=p100@tern.example"), "{}", &csv[..200]);
}

#[rstest]
#[case("GET", "/api/upkeep/people?after=x", Value::Null, 422, "page before")]
#[case("GET", "/api/upkeep/people?status=asleep", Value::Null, 400, "expected one of")]
#[case("POST", "/api/upkeep/policy", json!({ "note": "x" }), 422, "")]
#[case("POST", "/api/upkeep/policy", json!({ "note": "x", "rests_days": [] }), 409, "0 rests")]
#[case("POST", "/api/upkeep/policy", json!({ "note": "x", "observed_failures": 9 }), 409, "no more than")]
#[case("POST", "/api/upkeep/policy", json!({ "note": " ", "permanent_days": 9 }), 422, "why the policy changes")]
#[case("POST", "/api/upkeep/policy", json!({ "note": "x", "retires": { "how": "never" } }), 422, "")]
#[case("POST", "/api/upkeep/runs/9/apply", Value::Null, 404, "cleaning run")]
#[case("POST", "/api/upkeep/runs/1/undo", json!({}), 409, "dropped")]
#[case("POST", "/api/upkeep/runs/1/people/1", json!({ "out": true }), 409, "proposed")]
#[case("POST", "/api/upkeep/runs/1/drop", Value::Null, 409, "dropped")]
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_is_refused_in_a_sentence(
    #[case] method: &str,
    #[case] path: &str,
    #[case] body: Value,
    #[case] status: u16,
    #[case] says: &str,
) {
    let s = Inside::new().await;
    // A run of what is due, when nothing is, comes to nothing.
    let run = s.ok("POST", "/api/upkeep/runs", &json!({})).await["run"].as_i64().unwrap();
    until(&s, run, "dropped").await;
    let mut body = body;
    if path.ends_with("policy") && body.as_object().unwrap().len() > 1 {
        let note = body["note"].clone();
        let mut policy = s.ok("GET", "/api/upkeep/policy", &Value::Null).await["current"]["policy"].clone();
        policy.as_object_mut().unwrap().extend(body.as_object().unwrap().clone());
        policy.as_object_mut().unwrap().remove("note");
        body = json!({ "policy": policy, "note": note });
    }
    let text = if body.is_null() { String::new() } else { body.to_string() };
    let (got, problem) = s.api(method, path, &text).await;
    assert!(got.as_u16() == status && problem.contains(says), "{got} {problem}");
    assert_eq!(s.count("SELECT count(*) FROM upkeep_policy"), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_was_cut_off_goes_on() {
    let s = Inside::new().await;
    in_force(&s, &json!({ "retires": { "how": "in_runs", "since": 0 } }), "We read first").await;
    s.db().execute_batch(
        "INSERT INTO domain (name) VALUES ('oldlamp.example');
         INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (50, 'Old', 1, 0);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 450)
         INSERT INTO contact (id, address, address_key, domain_id, added_at, consent) SELECT i, 'p' || i || '@oldlamp.example', 'p' || i || '@oldlamp.example', 1, 0, 2 FROM n;",
    ).unwrap();
    let now = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap();
    s.db().execute(
        "INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, failed_at, category) SELECT 50, id, 50, 5, ?1, ?1, ?1, ?1, 1 FROM contact",
        [now + 1],
    ).unwrap();
    s.db().execute_batch("INSERT INTO status_due SELECT id FROM contact").unwrap();
    s.advance(1).await;
    assert_eq!(base(&s, "resting").await, 450);
    let run = s.ok("POST", "/api/upkeep/runs", &json!({})).await["run"].as_i64().unwrap();
    let read = until(&s, run, "proposed").await;
    assert_eq!(read["groups"][0]["people"], 450);
    // As if Rinse had ended when it had begun to apply it.
    s.db().execute("UPDATE cleaning_run SET state = 'applying', applied_at = ?2, send_mark = 0, response_mark = 0, purchase_mark = 0 WHERE id = ?1", [run, now + 1]).unwrap();
    s.advance(1).await;
    assert_eq!(base(&s, "retired").await, 450);
    assert_eq!(s.count("SELECT count(*) FROM cleaning_member WHERE state = 2"), 450);
    until(&s, run, "applied").await;
}
