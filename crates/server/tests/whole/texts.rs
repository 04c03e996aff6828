//! Text messages through the real router: by a gateway of somebody's, with its signed door back; and on the stand-in's network.

use crate::inside::{Inside, by_the_machines_clock};
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, Request, StatusCode};
use axum::routing::post;
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_core::webhook::{sign, verify};
use rinse_server::{AskDns, Mode, TextGateway};
use rinse_testkit::{letterhead, wait_until};
use serde_json::{Value, json};
use std::sync::{Arc, Mutex};
use tower::ServiceExt;

const SECRET: &str = "a secret of the gateway's";
const CSV: &str = "email,first name,mobile\nwren@tern.example,Wren,+44 7700 900001\nrook@tern.example,,07700 900002\nfinch@tern.example,Finch,0044 7700 900003\nplain@tern.example,Plain,\n";

fn now() -> i64 {
    i64::try_from(std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis()).unwrap()
}

fn text(body: &str) -> Value {
    json!({ "name": "By text", "channel": "text", "topic_id": null, "letterhead_id": 1, "list_id": null, "over_cap": "hold", "subjects": [""], "html": "", "text": body })
}

const WHOLE: &str = "{{ sender_name }}: {{ given_name|default(\"Hello\") }}, boats at 9. Reply STOP to end.";

fn with_number() -> Value {
    let mut l = letterhead();
    l["text_number"] = json!("60777");
    l["country"] = json!("GB");
    l
}

/// The import with consent to mail and to text messages.
fn decision(run: &Value) -> Value {
    json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "texts": true, "evidence": "card at the desk" })
}

type Taken = Arc<Mutex<Vec<Value>>>;

/// A gateway that knows no number ending in 2, and is busy at its first message to the one ending in 3.
async fn gateway() -> (String, Taken) {
    async fn take(State(taken): State<Taken>, headers: HeaderMap, body: Bytes) -> (StatusCode, &'static str) {
        let header = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
        let text = String::from_utf8(body.to_vec()).unwrap();
        let second = header("webhook-timestamp").parse().unwrap();
        let m: Value = serde_json::from_str(&text).unwrap();
        let own = verify(SECRET.as_bytes(), &header("webhook-id"), second, &text, &header("webhook-signature"), Instant::of(now()));
        assert!(own && m["id"] == header("webhook-id"), "{text}");
        let mut taken = taken.lock().unwrap();
        let to = m["to"].as_str().unwrap().to_owned();
        let tried = taken.iter().filter(|t| t["to"] == m["to"]).count();
        taken.push(m);
        match to.chars().last() {
            Some('2') => (StatusCode::NOT_FOUND, "unknown subscriber"),
            Some('3') if tried == 0 => (StatusCode::SERVICE_UNAVAILABLE, "busy"),
            _ => (StatusCode::ACCEPTED, ""),
        }
    }
    let taken = Taken::default();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}/send", listener.local_addr().unwrap());
    let routes = Router::new().route("/send", post(take)).with_state(Arc::clone(&taken));
    tokio::spawn(async move { axum::serve(listener, routes).await });
    (url, taken)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_takes_them_and_brings_back_what_is_signed() {
    let (url, taken) = gateway().await;
    let texts = Some(TextGateway::new(&url, SECRET).unwrap());
    let mode = Mode::Real { smtp_host: "127.0.0.1".into(), smtp_port: 1, tls: false, connections: 1, texts, dns: AskDns::Nobody };
    let (folder, routes, address) = by_the_machines_clock(mode).await;
    let db = rusqlite::Connection::open(folder.path().join("rinse.db")).unwrap();
    db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    let count = |sql: &str| db.query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap();
    let call = |method: &str, path: &str, body: &str| {
        let (status, answer) = rinse_testkit::http(&address, method, path, body.as_bytes()).unwrap();
        assert!(status < 300, "{path}: {}", String::from_utf8_lossy(&answer));
        serde_json::from_slice::<Value>(&answer).unwrap_or_default()
    };
    tokio::task::block_in_place(|| {
        call("POST", "/api/letterheads", &with_number().to_string());
        let run = call("POST", "/api/imports?name=p.csv", CSV);
        let id = run["id"].as_i64().unwrap();
        assert_eq!(run["mapping"][2], "phone");
        call("POST", &format!("/api/imports/{id}/check"), &decision(&run).to_string());
        call("POST", &format!("/api/imports/{id}/apply"), "");
        wait_until("applied", || call("GET", &format!("/api/imports/{id}"), "")["run"]["state"] == "applied");
        // Whatever the hour is here.
        call("PUT", "/api/rules", &json!({ "rules": { "quiet": null }, "note": "a test" }).to_string());
        assert!(!call("POST", "/api/message-check", &text(WHOLE).to_string()).to_string().contains("\"error\""));
        let m = call("POST", "/api/mailings", &text(WHOLE).to_string());
        call("POST", &format!("/api/mailings/{}/plan", m["id"]), "{\"at\":null}");
        wait_until("each was tried", || {
            taken.lock().unwrap().len() == 3 && count("SELECT count(*) FROM send WHERE state IN (3, 4, 5)") == 3
        });
    });
    let told = |k: i64| taken.lock().unwrap().iter().find(|t| t["to"] == format!("+44770090000{k}")).unwrap().clone();
    assert_eq!((&told(1)["text"], &told(1)["from"]), (&json!("Skerry Light: Wren, boats at 9. Reply STOP to end."), &json!("60777")));
    assert_eq!(told(2)["text"], "Skerry Light: Hello, boats at 9. Reply STOP to end.");
    let state =
        |k: i64| count(&format!("SELECT s.state FROM send s JOIN contact c ON c.id = s.contact_id WHERE c.phone = '+44770090000{k}'"));
    assert_eq!((state(1), state(2), state(3)), (3, 5, 4), "taken, no such number, to be tried again");
    assert_eq!(count("SELECT count(*) FROM contact WHERE phone_failed_at IS NOT NULL AND status = 0"), 1);

    let knock = async |door: &str, body: &Value, secret: &str, second: i64| {
        let text = body.to_string();
        let request = Request::builder()
            .method("POST")
            .uri(format!("/in/{door}"))
            .header("webhook-id", "7")
            .header("webhook-timestamp", second.to_string())
            .header("webhook-signature", sign(secret.as_bytes(), "7", second, &text));
        routes.clone().oneshot(request.body(Body::from(text)).unwrap()).await.unwrap().status()
    };
    let second = now() / 1000;
    let stop = json!({ "id": "a1", "from": "+447700900001", "to": "60777", "text": "STOP" });
    assert_eq!(knock("text", &stop, "another secret", second).await, StatusCode::UNAUTHORIZED);
    assert_eq!(knock("text", &stop, SECRET, second - 3_600).await, StatusCode::UNAUTHORIZED, "an old one passed off as new");
    assert_eq!(count("SELECT count(*) FROM ledger WHERE kind = 'withdrew'"), 0);
    for _ in 0..2 {
        assert_eq!(knock("text", &stop, SECRET, second).await, StatusCode::NO_CONTENT);
    }
    assert_eq!(knock("text", &json!({ "from": "x" }), SECRET, second).await, StatusCode::BAD_REQUEST);
    assert_eq!(count("SELECT count(*) FROM ledger WHERE kind = 'withdrew' AND channel = 2 AND source = 'text message'"), 1);
    assert_eq!(count("SELECT consent FROM contact WHERE phone = '+447700900001'"), 2, "mail is another matter");
    // A report about somebody's message is known by a number that only we could make.
    let report = |id: &str| json!({ "message": id, "status": 404, "words": "ported away" });
    assert_eq!(knock("text-report", &report("1.AAAA"), SECRET, second).await, StatusCode::NO_CONTENT);
    assert_eq!(count("SELECT count(*) FROM contact WHERE phone_failed_at IS NOT NULL"), 1);
    assert_eq!(knock("text-report", &report(told(1)["id"].as_str().unwrap()), SECRET, second).await, StatusCode::NO_CONTENT);
    assert_eq!(count("SELECT count(*) FROM contact WHERE phone_failed_at IS NOT NULL"), 2);
    assert_eq!(state(1), 5);
}

/// The stand-in's network, with people who have numbers.
async fn bench() -> Inside {
    let s = Inside::new().await;
    let mut l = with_number();
    l["id"] = json!(1);
    s.ok("POST", "/api/letterheads", &l).await;
    let (_, run) = s.api("POST", "/api/imports?name=p.csv", CSV).await;
    let run: Value = serde_json::from_str(&run).unwrap();
    s.ok("POST", &format!("/api/imports/{}/check", run["id"]), &decision(&run)).await;
    s.ok("POST", &format!("/api/imports/{}/apply", run["id"]), &Value::Null).await;
    while s.count("SELECT count(*) FROM import_run WHERE state = 'applied'") == 0 {
        tokio::task::yield_now().await;
    }
    s
}

#[tokio::test(flavor = "multi_thread")]
async fn the_check_and_the_preview_say_what_it_will_be() {
    let s = bench().await;
    let words = async |body: &str| {
        let found = s.ok("POST", "/api/message-check", &text(body)).await;
        found.as_array().unwrap().iter().map(|f| f["words"].as_str().unwrap().to_owned()).collect::<Vec<_>>().join("\n")
    };
    assert!(words("Boats at 9").await.contains("how to end text messages"));
    assert!(words("Skerry Light: {{ given_name }}, boats. STOP ends it.").await.contains("1 of 3 people (33.3%) have no given_name"));
    let long = format!("{} {{{{ given_name|default(\"\") }}}} Skerry Light. Reply STOP to end.", "Boats at nine. ".repeat(8) + "Oh.");
    assert!(words(&long).await.contains("Of 3 people it was filled for: 1 in one, 2 in 2 parts"), "{}", words(&long).await);
    // Those without a number, or without consent for it, are in the sluice by their reasons.
    let m = s.ok("POST", "/api/mailings", &text(WHOLE)).await;
    s.db().execute("UPDATE other_consent SET consent = 0 WHERE contact_id = 2", []).unwrap();
    let sluice = s.ok("GET", &format!("/api/mailings/{}/sluice", m["id"]), &Value::Null).await;
    let steps: Vec<_> = sluice["steps"].as_array().unwrap().iter().filter(|x| x["people"] != 0).map(|x| x["reason"].clone()).collect();
    assert_eq!((steps, &sluice["cleared"]), (vec![json!("no_address"), json!("no_consent")], &json!(2)));
    let seen =
        s.ok("POST", "/api/message-preview", &json!({ "draft": text("Źródło {{ given_name|default(\"Ahoy\") }}"), "contact": 1 })).await;
    assert_eq!((&seen["text"], &seen["size"]["alphabet"], &seen["size"]["units"]), (&json!("Źródło Wren"), &json!("ucs2"), &json!(11)));
    let tried = s
        .ok("POST", "/api/message-test", &json!({ "draft": text(WHOLE), "to": "07700 900999", "arm": 0, "contact": null, "mailing": null }))
        .await;
    // Whom a network that is busy puts off is asked about once more.
    assert_eq!((&tried["accepted"], &tried["put_off"]), (&json!(true), &json!(false)), "{tried}");
    let (status, why) = s
        .api(
            "POST",
            "/api/message-test",
            &json!({ "draft": text(WHOLE), "to": "the desk", "arm": 0, "contact": null, "mailing": null }).to_string(),
        )
        .await;
    assert!(status == StatusCode::CONFLICT && why.contains("no phone number"), "{status} {why}");
    // Reactions everywhere hold for it, as far as it can be known.
    let reaction = |mailing: &Value, kind: &str| json!({ "id": null, "on": true, "rule": { "mailing": mailing, "when": { "kind": kind }, "then": [{ "kind": "task", "words": "Ring them" }] } });
    for kind in ["opened", "bounced", "replied"] {
        s.ok("POST", "/api/reactions", &reaction(&Value::Null, kind)).await;
    }
    let (status, why) = s.api("POST", "/api/reactions", &reaction(&m["id"], "opened").to_string()).await;
    assert!(status == StatusCode::CONFLICT && why.contains("Wait for a reply"), "{status} {why}");
    s.ok("POST", "/api/reactions", &reaction(&m["id"], "left")).await;
    let all = s.ok("GET", &format!("/api/reactions?mailing={}", m["id"]), &Value::Null).await;
    let kinds: Vec<&Value> = all.as_array().unwrap().iter().map(|r| &r["rule"]["when"]["kind"]).collect();
    assert!(kinds.len() == 2 && kinds.contains(&&json!("replied")) && kinds.contains(&&json!("left")), "{kinds:?}");
    // What is signed by nobody comes from nobody, on the demo's clock too.
    let (status, ..) = s.door("POST", "/in/text", "{\"id\":\"1\",\"from\":\"+447700900001\",\"to\":\"60777\",\"text\":\"STOP\"}").await;
    assert_eq!((status, s.count("SELECT count(*) FROM ledger WHERE kind = 'withdrew'")), (StatusCode::UNAUTHORIZED, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_preferences_page_ends_them_and_says_how_to_begin_again() {
    let s = bench().await;
    s.ok("POST", "/api/mailings", &text(WHOLE)).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(1).await;
    let send = s.count("SELECT id FROM send WHERE contact_id = 1");
    let page = format!("/p/{}", s.signer.link(Kind::Preferences, SendId(send), 0));
    let (_, html, _) = s.door("GET", &page, "").await;
    assert!(html.contains("the number that ends in … 001") && !html.contains("7700900"), "{html}");
    let (_, html, _) = s.door("POST", &page, "act=stop-texts").await;
    assert!(html.contains("no more text messages") && html.contains("send START to 60777"), "{html}");
    let state = |sql: &str| s.count(&format!("SELECT coalesce(({sql}), -1)"));
    assert_eq!(state("SELECT consent FROM other_consent WHERE contact_id = 1 AND channel = 2"), 5);
    assert_eq!(state("SELECT consent FROM contact WHERE id = 1"), 2);
    // Everything is everything.
    let page = format!("/p/{}", s.signer.link(Kind::Preferences, SendId(s.count("SELECT id FROM send WHERE contact_id = 3")), 0));
    let (_, html, _) = s.door("POST", &page, "act=stop").await;
    assert!(html.contains("no more mail and no more text messages"), "{html}");
    assert_eq!(state("SELECT consent FROM other_consent WHERE contact_id = 3 AND channel = 2"), 5);
    // By hand: a number of somebody else's, one that is none, and evidence that is no sentence.
    let refused = async |id: i64, body: Value| s.api("PUT", &format!("/api/contacts/{id}/phone"), &body.to_string()).await.1;
    assert!(refused(4, json!({ "phone": "+447700900001" })).await.contains("wren@tern.example already"));
    assert!(refused(4, json!({ "phone": "12 Quay" })).await.contains("no phone number"));
    assert!(refused(4, json!({ "phone": "07700 900004", "agreed": "yes" })).await.contains("needs its evidence"));
    assert!(
        refused(1, json!({ "phone": "07700 900001", "agreed": "said so at the desk" })).await.contains("Only they can begin them again")
    );
    s.ok("PUT", "/api/contacts/4/phone", &json!({ "phone": "07700 900004", "agreed": "card at the desk" })).await;
    let person = s.ok("GET", "/api/contacts/4", &Value::Null).await;
    assert_eq!((&person["phone"], &person["others"][0]["state"]), (&json!("+447700900004"), &json!("consented")));
}
