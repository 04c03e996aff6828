//! Reports of other hosts, and how mail is let in, through the API.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_standins::reports::{dmarc, tls};
use rinse_standins::scenario::Scenario;
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn reports_say_who_sends_in_our_name() {
    let s = Inside::new().await;
    let today = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() / 86_400_000;
    let scenario = Scenario::skerry_light();
    let take = async |name: &str, file: String| -> Value {
        let (status, answer) = s.api("POST", &format!("/api/delivery/reports?name={name}"), &file).await;
        assert_eq!(status, StatusCode::OK, "{answer}");
        serde_json::from_str(&answer).unwrap()
    };
    for ago in 1..30 {
        let file = dmarc(&scenario, "gull.example", today - ago, ago);
        assert_eq!(take("a.xml", file.clone()).await["new"], json!(1));
        // The same again, and the same with other white space, are the same report.
        assert_eq!(take("b.xml", file.clone()).await["known"], json!(1));
        assert_eq!(take("c.xml", file.replace("<record>", "\n<record>")).await["known"], json!(1));
    }
    assert_eq!(take("t.json", tls(&scenario, "fulmar.example", today - 1)).await["new"], json!(1));
    assert_eq!(take("x.xml", "<feedback><record>".into()).await["unreadable"], json!(1));
    let told = s.ok("GET", "/api/delivery/reports", &Value::Null).await;
    let sources = told["sources"].as_array().unwrap();
    let of = |source: &str| sources.iter().find(|x| x["source"] == source).unwrap();
    let stranger = of("203.0.113.77");
    assert_eq!((&stranger["new"], &stranger["aligned"]["count"]), (&json!(true), &json!(0)));
    assert_eq!(stranger["stopped"], stranger["messages"]);
    assert_eq!(sources[0], *stranger, "what isn't ours comes first");
    let ours = of("192.0.2.25");
    assert_eq!((&ours["new"], &ours["aligned"]["rate"], &ours["seen_by"]), (&json!(false), &json!(1.0), &json!(["gull.example"])));
    let messages: u64 = sources.iter().map(|x| x["messages"].as_u64().unwrap()).sum();
    assert_eq!(told["messages"], json!(messages));
    assert_eq!(s.count("SELECT sum(messages) FROM dmarc_row"), messages as i64);
    assert!(
        told["came"]
            .as_array()
            .unwrap()
            .iter()
            .any(|c| c["kind"] == "unreadable" && c["error"].as_str().unwrap().contains("ends in the middle"))
    );
    assert_eq!(told["tls"][0]["domain"], json!("skerry-light.example"));
    // A shorter look back leaves out what is older.
    let week = s.ok("GET", "/api/delivery/reports?days=7", &Value::Null).await;
    assert!(week["messages"].as_u64() < told["messages"].as_u64());
    assert_eq!(s.api("POST", "/api/delivery/reports?name=empty", "").await.0, StatusCode::UNPROCESSABLE_ENTITY);
}

/// The front page adds up to what the mailing's own figures say.
#[tokio::test(flavor = "multi_thread")]
async fn the_front_page_adds_up() {
    let s = Inside::one_message().await;
    s.advance(30).await;
    let v = s.ok("GET", "/api/delivery", &Value::Null).await;
    let groups = v["groups"].as_array().unwrap();
    let sum = |of: &dyn Fn(&Value) -> i64| groups.iter().map(of).sum::<i64>();
    let sent = s.count("SELECT count(*) FROM send WHERE handed_at IS NOT NULL AND channel = 1");
    assert!(sent > 0);
    assert_eq!((sum(&|g| g["accepted"]["of"].as_i64().unwrap()), v["accepted"]["of"].as_i64().unwrap()), (sent, sent));
    assert_eq!(sum(&|g| g["days"].as_array().unwrap().iter().map(|d| d["of"].as_i64().unwrap()).sum()), sent);
    assert_eq!(
        v["accepted"]["count"].as_i64().unwrap(),
        s.count("SELECT count(*) FROM send WHERE accepted_at IS NOT NULL AND channel = 1")
    );
    assert!(groups.iter().all(|g| g["let_in"] == "few" && g["about"] == "addresses"), "so few tell nothing: {v}");
}
