//! Bad requests: each gets a problem document with a sentence that says what to do, and changes
//! nothing.

use crate::inside::Inside;
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rinse_testkit::{draft, letterhead};
use rstest::rstest;
use serde_json::{Value, json};

fn with(mut base: Value, key: &str, value: Value) -> Value {
    base[key] = value;
    base
}

fn plan() -> Value {
    json!({
        "question": "Which?", "metric": "human_open", "effect": 0.05, "alpha": 0.05, "power": 0.8, "pilot_share": 0.5,
        "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01,
    })
}

fn machine_rules(networks: Value, percent: u32) -> Value {
    let of =
        json!({ "too_soon_seconds": 10, "agents": [], "networks": networks, "fetch_messages": 50, "burst_links": 3, "burst_seconds": 3 });
    with(of, "fetch_percent", percent.into())
}

fn caps(caps: Value) -> Value {
    json!({ "rules": { "caps": caps } })
}

fn cap(limit: u32, hours: u32) -> Value {
    json!({ "limit": limit, "window": { "kind": "hours", "n": hours }, "scope": { "kind": "marketing" }, "in_force": true })
}

#[rstest]
#[case::cap_of_zero("PUT", "/api/rules", caps(json!([cap(0, 24)])), 422, "at least 1")]
#[case::no_window("PUT", "/api/rules", caps(json!([cap(1, 0)])), 422, "between 1 hour and 365 days")]
#[case::too_narrow("POST", "/api/upkeep/machine-rules/try", machine_rules(json!(["192.0.2.7/32"]), 80), 409, "too narrow")]
#[case::no_network("POST", "/api/upkeep/machine-rules/try", machine_rules(json!(["harbour"]), 80), 422, "networks")]
#[case::a_tenth("POST", "/api/upkeep/machine-rules", json!({ "rules": machine_rules(json!([]), 10), "note": "x" }), 409, "50 to 100")]
#[case::without_a_why("POST", "/api/upkeep/machine-rules", json!({ "rules": machine_rules(json!([]), 90), "note": " " }), 422, "Say why")]
#[case::nameless_topic("POST", "/api/topics", json!({ "name": " " }), 409, "a name")]
#[case::no_sign_up_address("POST", "/api/sign-ups", json!({ "letterhead_id": 1, "address": "harbour", "given_name": null }), 422, "is no address")]
#[case::no_sign_up_letterhead("POST", "/api/sign-ups", json!({ "letterhead_id": 9, "address": "a@tern.example", "given_name": null }), 404, "no letterhead")]
#[case::same_cap_twice("PUT", "/api/rules", caps(json!([cap(1, 24), cap(2, 24)])), 422, "twice")]
#[case::no_country("PUT", "/api/rules", json!({ "rules": { "confirm": ["Germany"] } }), 422, "two letters")]
#[case::hours_of_nobody("PUT", "/api/rules", json!({ "rules": { "hours": [{ "letterhead": 9, "hours": { "from_minute": 480, "until_minute": 1200 } }] } }), 404, "no letterhead")]
#[case::no_hours("POST", "/api/rules/preview", json!({ "rules": { "hours": [{ "letterhead": 1, "hours": { "from_minute": 480, "until_minute": 480 } }] } }), 422, "no time to send")]
#[case::all_held_out("PUT", "/api/rules", json!({ "rules": { "holdout": { "share": 0.9 } } }), 422, "50%")]
#[case::twice_named("POST", "/api/suppression", json!({ "name": "never MAIL", "scope": { "kind": "all" } }), 409, "already")]
#[case::for_no_topic("POST", "/api/suppression", json!({ "name": "x", "scope": { "kind": "topic", "id": 9 } }), 404, "no topic")]
#[case::the_first_stays("DELETE", "/api/suppression/1", Value::Null, 409, "can't be ended")]
#[case::ended_before_it_began("POST", "/api/suppression/1/lines", json!({ "lines": "tern.example", "expires_at": 5 }), 409, "a date to come")]
#[case::a_rule_of_nobody("POST", "/api/suppression/preview", json!({ "name": "x", "scope": { "kind": "all" } }), 409, "Choose the segment")]
#[case::without_no_list("GET", "/api/suppression/9/without", Value::Null, 404, "no suppression list")]
#[case::pause_of_nobody("POST", "/api/domains/pauses", json!({ "domain": "tern.example", "until": 9_999, "reason": "asked for" }), 409, "Nobody in the base")]
#[case::not_paused("DELETE", "/api/domains/1/pause", Value::Null, 404, "no pause of a domain")]
#[case::half_a_move("GET", "/api/forecast?mailing=1", Value::Null, 422, "both the mailing")]
#[case::moved_to_the_past("POST", "/api/mailings/1/move", json!({ "at": 5 }), 409, "has passed")]
#[case::exceeding_alone("POST", "/api/mailings", with(draft(1, &["S"]), "over_cap", json!("exceed")), 409, "approver")]
#[case::no_such_version_of_a_person("GET", "/api/mailings/1/clearance/99", Value::Null, 404, "no contact")]
#[case::no_domain("POST", "/api/suppression/1/lines", json!({ "lines": "tern.example\nnot a thing", "reason": "" }), 409, "not a thing")]
#[case::no_lines("POST", "/api/suppression/1/lines", json!({ "lines": " \n", "reason": "" }), 409, "at least one")]
#[case::not_on_it("DELETE", "/api/suppression/lines/9", Value::Null, 404, "no line on a suppression list")]
#[case::from_nobody("POST", "/api/letterheads", with(letterhead(), "from_address", json!("harbour")), 409, "no @")]
#[case::nameless("POST", "/api/letterheads", with(letterhead(), "name", json!(" ")), 409, "a name")]
#[case::nameless_mailing("POST", "/api/mailings", with(draft(1, &["S"]), "name", json!("")), 409, "a name")]
#[case::no_such_letterhead("POST", "/api/mailings", draft(9, &["S"]), 404, "letterhead")]
#[case::no_such_topic("POST", "/api/mailings", with(draft(1, &["S"]), "topic_id", json!(9)), 404, "topic")]
#[case::no_such_mailing("GET", "/api/mailings/99", Value::Null, 404, "no mailing")]
#[case::no_such_person("GET", "/api/contacts/99", Value::Null, 404, "no contact")]
#[case::no_such_trial("POST", "/api/trials/99/seal", json!({}), 404, "no trial")]
#[case::no_such_import("GET", "/api/imports/99", Value::Null, 404, "no import")]
#[case::no_such_figure("GET", "/api/findings/1/best.csv", Value::Null, 404, "no figure")]
#[case::no_such_step("GET", "/api/mailings/1/sluice/luck", Value::Null, 404, "no step")]
#[case::no_question("PUT", "/api/mailings/1/trial", with(plan(), "question", json!(" ")), 422, "in a sentence")]
#[case::one_arm("PUT", "/api/mailings/2/trial", plan(), 422, "second subject")]
#[case::no_window_at_all("PUT", "/api/mailings/1/trial", with(plan(), "window_hours", json!(0)), 422, "between 1 and 720")]
#[case::all_of_alpha("PUT", "/api/mailings/1/trial", with(plan(), "alpha", json!(1.0)), 422, "alpha")]
#[case::effect_of_nothing("PUT", "/api/mailings/1/trial", with(plan(), "effect", json!(0)), 422, "0.1 and 50 points")]
#[case::no_such_arm("PUT", "/api/mailings/1/trial", with(plan(), "on_no_call", json!(5)), 422, "no such variant")]
#[case::backwards("POST", "/api/clock/advance", json!({ "hours": -1 }), 422, "1 hour to 60 days")]
#[case::no_json("POST", "/api/clock/advance", json!("tomorrow"), 422, "can't be read")]
#[case::no_such_finding("GET", "/api/base-check/ugly", Value::Null, 404, "no finding")]
#[case::nothing_to_fix("POST", "/api/base-check/fix", json!({ "finding": "role", "only": null }), 409, "Look again")]
#[case::no_domain_at_all("PUT", "/api/base-check/disposable", json!(["not a domain"]), 409, "is no domain")]
#[case::no_such_change("POST", "/api/changes/9/undo", Value::Null, 404, "no run of changes")]
#[case::no_other_person("POST", "/api/contacts/99/merge", json!({ "into": 98 }), 404, "no contact")]
#[case::nobody_to_delete("DELETE", "/api/contacts/99", Value::Null, 404, "no contact")]
#[case::no_such_list("POST", "/api/contacts/put", json!({ "word": "list", "id": 9 }), 404, "no list")]
#[case::no_mailing_to_label("PUT", "/api/labels/mailing/99", json!(["Spring"]), 404, "no mailing")]
#[case::nameless_label("PUT", "/api/labels/mailing/1", json!([" "]), 409, "a name")]
#[case::no_such_shape("POST", "/api/imports/1/shape", json!({ "encoding": "utf8", "delimiter": "x" }), 422, "a comma, a semicolon")]
#[case::no_event("POST", "/api/segments", json!({ "name": "x", "tree": { "kind": "event", "name": " ", "times": { "at_least": 1 }, "within_days": null } }), 409, "Choose an event")]
#[case::foreign_work("GET", "/api/progress/../../etc", Value::Null, 404, "")]
#[tokio::test]
async fn are_answered_with_what_to_do(
    #[case] method: &str,
    #[case] path: &str,
    #[case] body: Value,
    #[case] status: u16,
    #[case] words: &str,
) {
    let s = Inside::new().await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    let before = s.count("SELECT count(*) FROM audit");
    let (got, answer) = s.api(method, path, &if body.is_null() { String::new() } else { body.to_string() }).await;
    assert_eq!(got.as_u16(), status, "{answer}");
    if !words.is_empty() {
        let problem: Value = serde_json::from_str(&answer).unwrap_or_else(|_| panic!("not a problem document: {answer}"));
        assert_eq!(problem["status"], status);
        assert!(problem["detail"].as_str().unwrap().contains(words), "{answer}");
    }
    assert_eq!(s.count("SELECT count(*) FROM audit"), before, "nothing was done");
}

#[rstest]
#[case::half_a_document("{\"hours\":", 400)]
#[case::another_kind("{\"hours\":\"six\"}", 422)]
#[tokio::test]
async fn unreadable_bodies_are_problems_too(#[case] body: &str, #[case] status: u16) {
    let s = Inside::new().await;
    let (got, answer) = s.api("POST", "/api/clock/advance", body).await;
    let problem: Value = serde_json::from_str(&answer).unwrap_or_else(|_| panic!("not a problem document: {answer}"));
    assert_eq!((got.as_u16(), problem["status"].as_u64()), (status, Some(u64::from(status))));
}

/// A file of five gigabytes is refused before a byte of it is taken.
#[tokio::test]
async fn a_file_that_is_too_large_is_not_taken() {
    let s = Inside::new().await;
    let request = Request::builder().method("POST").uri("/api/imports?name=all.csv").header("host", "localhost:7400");
    let request = request.header("x-acting-person", "1").header("content-length", "5368709120").body(Body::from("a@tern.example")).unwrap();
    let (status, words, _) = s.ask(request).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert!(words.contains("over 1 GB"), "{words}");
    assert_eq!(s.count("SELECT count(*) FROM import_run"), 0);
}

/// A foreign page can't act: another host's name, or no acting person, is refused.
#[rstest]
#[case("rinse.example", Some("1"), StatusCode::FORBIDDEN)]
#[case("localhost:7400", None, StatusCode::BAD_REQUEST)]
#[case("localhost:7400", Some("someone"), StatusCode::BAD_REQUEST)]
#[case("127.0.0.1:7400", Some("1"), StatusCode::OK)]
#[tokio::test]
async fn changes_come_from_this_machine_and_from_somebody(#[case] host: &str, #[case] who: Option<&str>, #[case] want: StatusCode) {
    let s = Inside::new().await;
    let mut request =
        Request::builder().method("POST").uri("/api/letterheads").header("host", host).header("content-type", "application/json");
    if let Some(who) = who {
        request = request.header("x-acting-person", who);
    }
    let (status, words, _) = s.ask(request.body(Body::from(letterhead().to_string())).unwrap()).await;
    assert_eq!(status, want, "{words}");
}
