//! Sending through a real SMTP conversation, to a small receiver on loopback.

use crate::inside::by_the_machines_clock;
use rinse_server::{AskDns, Mode};
use rinse_testkit::{draft, letterhead, people_csv, smtp_receiver};
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
async fn a_mailing_goes_out_by_smtp() {
    let (port, received) = smtp_receiver();
    let mode = Mode::Real { smtp_host: "127.0.0.1".into(), smtp_port: port, tls: false, connections: 4, texts: None, dns: AskDns::Nobody };
    let (_folder, _, address) = by_the_machines_clock(mode).await;
    tokio::task::spawn_blocking(move || {
        let call = |method: &str, path: &str, body: &[u8]| {
            let (status, answer) = rinse_testkit::http(&address, method, path, body).unwrap();
            assert!(status < 300, "{path}: {}", String::from_utf8_lossy(&answer));
            serde_json::from_slice::<serde_json::Value>(&answer).unwrap_or_default()
        };
        let run = call("POST", "/api/imports?name=p.csv", people_csv(40).as_bytes());
        let id = run["id"].as_i64().unwrap();
        let decision =
            serde_json::json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "evidence": "paper form" });
        call("POST", &format!("/api/imports/{id}/check"), decision.to_string().as_bytes());
        call("POST", &format!("/api/imports/{id}/apply"), b"");
        rinse_testkit::wait_until("applied", || call("GET", &format!("/api/imports/{id}"), b"")["run"]["state"] == "applied");
        let head = call("POST", "/api/letterheads", letterhead().to_string().as_bytes()).as_i64().unwrap();
        let mailing = call("POST", "/api/mailings", draft(head, &["Boats go"]).to_string().as_bytes())["id"].as_i64().unwrap();
        call("POST", &format!("/api/mailings/{mailing}/plan"), b"{\"at\":null}");
        rinse_testkit::wait_until("sent", || call("GET", &format!("/api/mailings/{mailing}"), b"")["state"] == "sent");
        let upkeep = call("GET", "/api/upkeep/people?status=retired", b"");
        let retired = upkeep["rows"].as_array().unwrap();
        assert_eq!(retired.len(), 2, "the two the receiver doesn't know: {upkeep}");
        assert!(
            retired.iter().all(|r| r["address"].as_str().unwrap().starts_with("gone.")),
            "answers over several connections are each their message's"
        );
    })
    .await
    .unwrap();
    tokio::time::timeout(Duration::from_secs(10), async {
        while received.lock().unwrap().len() < 38 {
            tokio::task::yield_now().await
        }
    })
    .await
    .unwrap();
    let received = received.lock().unwrap();
    assert_eq!(received.len(), 38);
    for (from, to, text) in received.iter() {
        assert!(from.starts_with("back+") && from.ends_with("@skerry-light.example") && to.starts_with("wren"), "{from} {to}");
        assert!(text.contains("List-Unsubscribe-Post: List-Unsubscribe=One-Click") && text.contains("multipart/alternative"));
    }
}
