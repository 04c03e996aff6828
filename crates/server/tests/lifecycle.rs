//! A trial from plan to rollout through the real engine: who gets what, and in which phase.

mod inside;

use axum::http::StatusCode;
use inside::Inside;
use rinse_core::token::Kind;
use rinse_testkit::{draft, people_csv};
use rstest::rstest;
use serde_json::{Value, json};

const PEOPLE: usize = 1_600;

fn plan(on_no_call: Value) -> Value {
    json!({
        "question": "Do boats at low tide earn more readers?", "metric": "human_open", "effect": 0.05, "alpha": 0.05, "power": 0.8,
        "pilot_share": 0.5, "window_hours": 24, "on_no_call": on_no_call, "leaving_margin": 0.02, "complaint_margin": 0.01,
    })
}

/// A sealed trial of two subjects, its pilot handed over.
async fn sealed(on_no_call: Value) -> Inside {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    s.ok("PUT", "/api/mailings/1/trial", &plan(on_no_call)).await;
    s.ok("POST", "/api/trials/1/seal", &Value::Null).await;
    s
}

/// Lets exactly these shares of each arm's pilot have opened, whatever the stand-in's people did, and moves
/// on past the end of the window. The world has acted by the 23rd hour; the reading is at the 24th.
async fn read_with(s: &Inside, shares: [f64; 2]) -> Value {
    s.advance(23).await;
    for (arm, share) in shares.into_iter().enumerate() {
        s.db()
            .execute(
                "UPDATE send SET open_at = CASE WHEN (SELECT count(*) FROM send o WHERE o.phase = 1 AND o.arm = ?1 AND o.id <= send.id)
                    <= ?2 * (SELECT count(*) FROM send o WHERE o.phase = 1 AND o.arm = ?1) THEN handed_at + 60000 END WHERE phase = 1 AND arm = ?1",
                rusqlite::params![i64::try_from(arm).unwrap(), share],
            )
            .unwrap();
    }
    // The stand-in's people may open until the end: one of theirs more or less changes no verdict.
    s.advance(4).await;
    s.ok("GET", "/api/trials/1", &Value::Null).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_called_rollout_goes_to_the_rest_with_a_twentieth_as_a_check() {
    let s = sealed(json!(0)).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase = 1"), 800);
    let open = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert!(open["reading"].is_null() && open["trial"]["counts"].is_null(), "arms stay closed: {open}");
    assert_eq!(s.api("GET", "/api/trials/1/record.json", "").await.0, StatusCode::CONFLICT);

    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["reading"]["verdict"], json!({ "kind": "called", "arm": 1 }), "{v}");
    // Someone withdraws between the verdict and the rollout: cleared anew means without them.
    let gone = s.count("SELECT min(id) FROM contact WHERE consent = 2 AND status = 0 AND id NOT IN (SELECT contact_id FROM send)");
    s.door("POST", &format!("/p/{}", s.signer.link(Kind::Person, gone, 1)), "act=stop").await;
    let to_come = s.ok("GET", "/api/trials/1", &Value::Null).await["rollout"].as_i64().unwrap();

    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase > 1 AND state <> 6"), to_come);
    assert_eq!(s.count(&format!("SELECT count(*) FROM send WHERE contact_id = {gone}")), 0);
    assert_eq!(
        s.count("SELECT count(DISTINCT arm) FROM send WHERE phase = 2") * 10 + s.count("SELECT max(arm) FROM send WHERE phase = 2"),
        11
    );
    assert_eq!(s.count("SELECT max(arm) FROM send WHERE phase = 3"), 0, "the check gets what was sealed for no call");
    let check = s.count("SELECT count(*) FROM send WHERE phase = 3");
    assert!((10..=75).contains(&check), "{check} of {to_come} are about a twentieth");
    let record = s.ok("GET", "/api/trials/1/record.json", &Value::Null).await;
    assert_eq!(record["roster"]["rows"].as_array().unwrap().len(), 800);
    let again = s.api("POST", "/api/trials/1/release", "{\"at_once\":true}").await;
    assert_eq!(again.0, StatusCode::CONFLICT, "{}", again.1);
}

#[rstest]
#[case::the_control_goes_out(json!(0), 0)]
#[case::the_challenger_goes_out(json!(1), 1)]
#[tokio::test(flavor = "multi_thread")]
async fn without_a_call_what_was_sealed_goes_out_at_the_pilots_hour(#[case] on_no_call: Value, #[case] arm: i64) {
    let s = sealed(on_no_call).await;
    let v = read_with(&s, [0.4, 0.4]).await;
    assert_ne!(v["reading"]["verdict"]["kind"], "called", "{v}");
    let at = s.ok("POST", "/api/trials/1/release", &json!({ "at_once": false })).await.as_i64().unwrap();
    let sealed_at = v["trial"]["sealed_at"].as_i64().unwrap();
    assert_eq!((at - sealed_at) % 86_400_000, 0, "the pilot's hour");
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase > 1"), 0, "not before it");
    s.advance(24).await;
    assert!(s.count("SELECT count(*) FROM send WHERE phase = 2") > 600);
    assert_eq!(
        s.count(&format!("SELECT count(*) FROM send WHERE phase > 1 AND (phase = 3 OR arm <> {arm})")),
        0,
        "no check without a call"
    );
    assert_eq!(s.count("SELECT count(*) - count(DISTINCT contact_id) FROM send"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_goes_out_when_that_was_sealed() {
    let s = sealed(Value::Null).await;
    read_with(&s, [0.4, 0.4]).await;
    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase > 1"), 0);
    assert_eq!(s.count("SELECT count(*) FROM trial WHERE state = 'ended'"), 1);
}

/// Somebody who edits the roster in the file can't get a verdict out of it.
#[tokio::test(flavor = "multi_thread")]
async fn a_roster_that_was_touched_makes_the_trial_void() {
    let s = sealed(json!(0)).await;
    s.db().execute("UPDATE roster SET arm = 1 - arm WHERE contact_id IN (SELECT contact_id FROM roster LIMIT 20)", []).unwrap();
    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["reading"]["verdict"]["kind"], "void", "{v}");
}

/// What the state of things forbids, each with a sentence that says what to do.
#[rstest]
#[case("PUT", "/api/mailings/1/trial", plan(json!(1)), "sealed")]
#[case("POST", "/api/trials/1/seal", Value::Null, "sealed already")]
#[case("PUT", "/api/mailings/1", draft(1, &["Other", "Words"]), "Only a draft")]
#[case("POST", "/api/mailings/1/plan", json!({ "at": null }), "two subjects")]
#[case("POST", "/api/trials/1/release", json!({ "at_once": true }), "not read any more")]
#[tokio::test(flavor = "multi_thread")]
async fn a_sealed_trial_stays_as_it_is(#[case] method: &str, #[case] path: &str, #[case] body: Value, #[case] words: &str) {
    let s = sealed(json!(0)).await;
    let before = s.count("SELECT count(*) FROM send") + s.count("SELECT length(plan) FROM trial");
    let (status, answer) = s.api(method, path, &if body.is_null() { String::new() } else { body.to_string() }).await;
    assert!(status == StatusCode::CONFLICT && answer.contains(words), "{status} {answer}");
    assert_eq!(s.count("SELECT count(*) FROM send") + s.count("SELECT length(plan) FROM trial"), before);
}
