//! Saved views mailed to the team: each week once, by the letterhead's clock, outside all figures.

use crate::inside::Inside;
use axum::http::StatusCode;
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn a_saved_view_is_mailed_each_week_and_counts_nowhere() {
    let s = Inside::one_message().await;
    s.advance(30).await;
    let before = s.ok("GET", "/api/findings/by", &Value::Null).await;
    let view = s
        .ok("POST", "/api/findings/views", &json!({ "name": "Monday letter", "path": "/findings?days=90&columns=accepted,replies" }))
        .await;
    let path = format!("/api/findings/views/{}/letters", view["id"]);
    let letters = json!({ "people": [1, 2], "letterhead_id": 1, "weekday": 0, "minute": 480 });
    // Nobody has an address yet.
    assert_eq!(s.api("PUT", &path, &letters.to_string()).await.0, StatusCode::CONFLICT);
    for (id, name, role) in [(1, "Ines Marek", "analyst"), (2, "Tove Lind", "marketer")] {
        s.ok("PUT", &format!("/api/people/{id}"), &json!({ "name": name, "role": role, "address": format!("p{id}@gull.example") })).await;
    }
    s.ok("PUT", &path, &letters).await;
    let set = s.ok("GET", &path, &Value::Null).await;
    assert_eq!(set["people"], json!([1, 2]));
    s.advance(7 * 24).await;
    assert_eq!(s.count("SELECT count(*) FROM test_send WHERE reply LIKE '250%'"), 2, "{}", s.ok("GET", &path, &Value::Null).await);
    s.advance(14 * 24).await;
    assert_eq!(s.count("SELECT count(*) FROM test_send"), 6, "each week once");
    assert_eq!(
        s.count(
            "SELECT count(*) FROM (SELECT DISTINCT at / 3600000 % 24, (at / 86400000 + 3) % 7 FROM test_send WHERE at % 3600000 < 60000)"
        ),
        1
    );
    let after = s.ok("GET", "/api/findings/by", &Value::Null).await;
    assert_eq!(after["total"]["sent"], before["total"]["sent"]);

    // To nobody, and with the view itself, they end.
    s.ok("PUT", &path, &json!({ "people": [], "letterhead_id": 1, "weekday": 0, "minute": 480 })).await;
    assert_eq!(s.ok("GET", &path, &Value::Null).await, Value::Null);
    s.ok("PUT", &path, &letters).await;
    s.ok("DELETE", &format!("/api/findings/views/{}", view["id"]), &Value::Null).await;
    s.advance(8 * 24).await;
    assert_eq!(s.count("SELECT count(*) FROM test_send"), 6);
    // What can't be put on paper can't be mailed.
    let answers = s.ok("POST", "/api/findings/views", &json!({ "name": "Hours", "path": "/findings/drawn" })).await;
    let (status, why) = s.api("PUT", &format!("/api/findings/views/{}/letters", answers["id"]), &letters.to_string()).await;
    assert_eq!(status, StatusCode::CONFLICT, "{why}");
}

/// People of the team: each name once, and somebody who may let exceptions through.
#[tokio::test(flavor = "multi_thread")]
async fn the_team_keeps_an_approver_and_names_apart() {
    let s = Inside::new().await;
    let person = |name: &str, role: &str, address: Value| json!({ "name": name, "role": role, "address": address });
    let id = s.ok("POST", "/api/people", &person("Signe Holm", "approver", json!(null))).await;
    for bad in [
        person("Signe Holm", "analyst", json!(null)),
        person("  ", "analyst", json!(null)),
        person("Ragna", "captain", json!(null)),
        person("Ragna", "analyst", json!("no address")),
    ] {
        assert_eq!(s.api("POST", "/api/people", &bad.to_string()).await.0, StatusCode::CONFLICT, "{bad}");
    }
    s.ok("PUT", "/api/people/3", &person("Oskar Bray", "analyst", json!("oskar@gull.example"))).await;
    let (status, why) = s.api("PUT", &format!("/api/people/{id}"), &person("Signe Holm", "analyst", json!(null)).to_string()).await;
    assert!(status == StatusCode::CONFLICT && why.contains("last approver"), "{why}");
    let people = s.ok("GET", "/api/people", &Value::Null).await;
    assert_eq!(people[2]["address"], json!("oskar@gull.example"));
    assert_eq!(s.count("SELECT count(*) FROM audit WHERE what = 'person of the team saved'"), 2);
}
