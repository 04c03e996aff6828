//! Whatever is asked of many people at once, the writer is free again soon: somebody who leaves waits for nothing long.

use crate::inside::Inside;
use rinse_testkit::{draft, people_csv};
use serde_json::{Value, json};
use std::time::Duration;

const PEOPLE: usize = 20_000;
/// Far above what each takes here (tens of milliseconds), far below what people who leave would notice.
const LONG: Duration = Duration::from_secs(1);

async fn until(s: &Inside, sql: &str) {
    while s.count(sql) == 0 {
        tokio::task::yield_now().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn work_on_many_people_holds_the_writer_for_moments() {
    let s = Inside::new().await;
    let after = |what: &str| {
        let held = s.app.longest_hold();
        assert!(held < LONG, "{what}: {held:?}");
    };
    s.import(&people_csv(PEOPLE)).await;
    after("an import");
    s.ok("POST", "/api/words", &json!({ "word": "list", "name": "Boats" })).await;
    s.ok("POST", "/api/words", &json!({ "word": "tag", "name": "Gulls" })).await;
    s.ok("POST", "/api/contacts/put", &json!({ "word": "list", "id": 1 })).await;
    let run = s.ok("POST", "/api/contacts/put", &json!({ "word": "tag", "id": 1 })).await;
    after("everybody on a list");
    let everybody = json!({ "kind": "list", "list": 1 });
    let segment = s.ok("POST", "/api/segments", &json!({ "name": "All of them", "tree": everybody })).await;
    let frozen = s.ok("POST", &format!("/api/segments/{segment}/freeze"), &json!({ "name": "As they were" })).await;
    assert_eq!(s.count(&format!("SELECT count(*) FROM segment_member WHERE segment_id = {frozen}")), i64::try_from(PEOPLE).unwrap());
    after("a segment frozen");
    s.ok("DELETE", &format!("/api/segments/{frozen}"), &Value::Null).await;
    assert!(!s.ok("GET", "/api/segments", &Value::Null).await.to_string().contains("As they were"), "gone at once");
    s.ok("POST", "/api/segments", &json!({ "name": "As they were", "tree": everybody })).await;
    until(&s, &format!("SELECT NOT EXISTS (SELECT 1 FROM segment_member WHERE segment_id = {frozen})")).await;
    until(&s, &format!("SELECT NOT EXISTS (SELECT 1 FROM segment WHERE id = {frozen})")).await;
    after("a frozen segment deleted");
    let list =
        s.ok("POST", "/api/suppression", &json!({ "name": "Not these", "reason": "asked by post", "scope": { "kind": "all" } })).await;
    let lines: String = (0..PEOPLE).map(|i| format!("nobody{i}@gannet.example\n")).collect();
    s.ok("POST", &format!("/api/suppression/{list}/lines"), &json!({ "lines": lines })).await;
    after("a suppression list");
    // A draft as heavy as drafts may be, looked at while others write.
    let mut heavy = draft(1, &["Boats", "Gulls"]);
    heavy["html"] = json!("<p>{{ given_name | default('you') }} at sea</p>".repeat(2_000));
    s.ok("POST", "/api/mailings", &heavy).await;
    let _ = s.api("POST", "/api/message-check", &heavy.to_string()).await;
    let _ = s.api("POST", "/api/mailings/1/plan", "{\"at\":null}").await;
    after("a heavy draft");
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Gulls"])).await;
    let plan = json!({ "question": "?", "metric": "human_open", "effect": 0.05, "alpha": 0.05, "power": 0.8, "pilot_share": 0.5,
        "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01 });
    let trial = s.ok("PUT", "/api/mailings/2/trial", &plan).await;
    s.ok("POST", &format!("/api/trials/{trial}/seal"), &json!({})).await;
    s.advance(1).await;
    after("a trial sealed and sent");
    s.ok("POST", &format!("/api/changes/{run}/undo"), &Value::Null).await;
    until(&s, "SELECT count(*) FROM change_run WHERE state = 'undone' AND kind = 'tag'").await;
    after("an undo");
    s.ok("DELETE", "/api/contacts/7", &Value::Null).await;
    after("a deletion");
}
