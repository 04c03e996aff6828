//! What is held in memory stays within what may be held.

use crate::inside::Inside;
use serde_json::Value;

async fn kept(s: &Inside) -> Vec<Value> {
    s.ok("GET", "/api/memory", &Value::Null).await["kept"].as_array().unwrap().clone()
}

#[tokio::test]
async fn what_is_kept_is_let_go_over_the_budget_and_read_again_when_it_is_asked_for() {
    // Every process holds more than one megabyte.
    let s = Inside::holding(1).await;
    s.import("email\nwren@tern.example\npuffin@tern.example\n").await;
    let said = s.ok("GET", "/api/forecast", &Value::Null).await;
    let held = kept(&s).await;
    assert_eq!(held.len(), 1, "{held:?}");
    assert!(held[0]["what"] == "columns" && held[0]["bytes"].as_u64().unwrap() > 0, "{held:?}");

    s.app.start();
    while !kept(&s).await.is_empty() {
        tokio::task::yield_now().await;
    }
    assert!(s.ok("GET", "/api/memory", &Value::Null).await["let_go"].as_u64().unwrap() > 0, "it is said how often");
    assert_eq!(s.ok("GET", "/api/forecast", &Value::Null).await, said, "the same answer, read again");
}
