//! Consent that proves itself and what else clearance asks, through the real router: seals, legal entities,
//! invitations that come back, shared messages, service mail, sunset, near-misses, the holdout's readout, mail load.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_testkit::draft;
use serde_json::{Value, json};

const MINUTE: i64 = 60_000;

/// Moves a message of the past so that a hit on it isn't within seconds of its delivery.
fn age(s: &Inside) {
    s.db().execute_batch(&format!("UPDATE send SET accepted_at = accepted_at - {MINUTE}, handed_at = handed_at - {MINUTE}")).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shared_message_carries_nothing_of_the_recipient() {
    let s = Inside::one_message().await;
    let path = format!("/s/{}", s.signer.link(Kind::Share, SendId(1), 0));
    s.db()
        .execute_batch(
            "UPDATE mailing SET html = '<p>Dear {{ given_name|default(\"friend\") }}</p><script>x()</script><a href=\"https://skerry-light.example/boats\">Boats</a> <a href=\"{{ unsubscribe_url }}\">Stop</a> <a href=\"{{ share_url }}\">Share</a>'; UPDATE contact SET given_name = 'Wren'",
        )
        .unwrap();
    let (status, page, _) = s.door("GET", &path, "").await;
    assert_eq!(status, StatusCode::OK);
    assert!(
        page.contains("Dear friend")
            && page.contains("https://skerry-light.example/boats")
            && page.contains("/f/1")
            && page.contains(&path),
        "{page}"
    );
    assert!(!page.contains("Wren") && !page.contains("/u/") && !page.contains("/o/") && !page.contains("/c/") && !page.contains("/p/"));
    assert_eq!(s.count("SELECT count(*) FROM response"), 0, "anybody who opens it is nobody");
    assert!(s.header(&path, "content-security-policy").await.contains("sandbox"), "a script in it may not run");
    s.ok("POST", "/api/mailings", &draft(1, &["A draft"])).await;
    let draft = s.door("GET", &format!("/s/{}", s.signer.link(Kind::Share, SendId(2), 0)), "").await;
    let forged = s.door("GET", &format!("/s/{}", Signer::new(b"x").link(Kind::Share, SendId(1), 0)), "").await;
    assert_eq!((draft.0, &draft), (StatusCode::NOT_FOUND, &forged), "a draft is nobody's to see");
}

#[tokio::test(flavor = "multi_thread")]
async fn silence_ends_marketing_and_any_answer_of_their_own_lifts_it() {
    let s = Inside::one_message().await;
    age(&s);
    let sunset = || s.count("SELECT count(*) FROM contact WHERE sunset_at IS NOT NULL");
    let run = s.ok("POST", "/api/contacts/put", &json!({ "word": "sunset" })).await;
    assert_eq!(sunset(), 1);
    s.ok("POST", "/api/mailings", &draft(1, &["More boats"])).await;
    let sluice = s.ok("GET", "/api/mailings/2/sluice", &Value::Null).await;
    assert_eq!((&sluice["cleared"], &sluice["steps"][0]["reason"]), (&json!(0), &json!("retired")));
    let mut body = draft(1, &["Your booking"]);
    body["service_reason"] = json!("The booking of Saturday is changed");
    s.ok("PUT", "/api/mailings/2", &body).await;
    assert_eq!(s.ok("GET", "/api/mailings/2/sluice", &Value::Null).await["cleared"], 1, "service mail goes on");
    // A machine's fetch saves nobody.
    let open = format!("/o/{}", s.signer.link(Kind::Open, SendId(1), 0));
    let head = axum::http::Request::builder().method("HEAD").uri(&open).body(axum::body::Body::empty()).unwrap();
    s.ask(head).await;
    assert_eq!(sunset(), 1);
    s.door("GET", &open, "").await;
    assert_eq!(sunset(), 0);
    assert_eq!(s.count("SELECT count(*) FROM ledger WHERE kind = 'sunset lifted'"), 1);
    s.ok("POST", "/api/contacts/put", &json!({ "word": "sunset" })).await;
    // Taken back as a run; the first one has nothing left to take back.
    for (run, undone) in [(run.as_i64().unwrap() + 1, 0), (run.as_i64().unwrap(), 0)] {
        s.ok("POST", &format!("/api/changes/{run}/undo"), &Value::Null).await;
        while s.count(&format!("SELECT count(*) FROM change_run WHERE state = 'undone' AND id = {run}")) == 0 {
            tokio::task::yield_now().await;
        }
        assert_eq!(sunset(), undone);
    }
    assert!(s.ok("GET", "/api/consent/seals", &Value::Null).await["broken"].as_array().unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_that_comes_back_or_is_complained_about_is_over() {
    let s = Inside::new().await;
    s.db().execute_batch("INSERT INTO topic (name) VALUES ('Tide notes')").unwrap();
    for name in ["wren", "gull"] {
        s.door("POST", "/f/1", &format!("address={name}%40tern.example&topic=1")).await;
    }
    s.advance(1).await;
    assert_eq!(s.count("SELECT count(*) FROM sign_up WHERE state = 3"), 2);
    let back = |n: i64| format!("back+{}@skerry-light.example", s.signer.mailbox(Kind::Confirm, SendId(n)));
    let report = |kind: &str, field: &str| {
        format!("Content-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/{kind}\r\n\r\n{field}\r\n--b--\r\n")
    };
    let bounce = report(
        "delivery-status",
        "Reporting-MTA: dns; x.example\r\n\r\nFinal-Recipient: rfc822; wren@tern.example\r\nAction: failed\r\nStatus: 5.1.1",
    );
    s.mail(&back(1), &bounce).await;
    s.mail(&back(2), &report("feedback-report", "Feedback-Type: abuse")).await;
    let forged = format!("back+{}@skerry-light.example", Signer::new(b"x").mailbox(Kind::Confirm, SendId(2)));
    s.mail(&forged, &bounce.replace("5.1.1", "5.1.2")).await;
    assert_eq!(s.count("SELECT count(*) FROM sign_up WHERE id = 1 AND state = 5 AND why LIKE 'it came back%'"), 1);
    assert_eq!(s.count("SELECT consent FROM contact WHERE address_key LIKE 'gull%'"), 6);
    s.door("POST", "/f/1", "address=gull%40tern.example&topic=1").await;
    s.advance(1).await;
    assert_eq!(s.count("SELECT count(*) FROM sign_up WHERE state = 3"), 1, "they never get another");
}

#[tokio::test(flavor = "multi_thread")]
async fn near_misses_are_decided_once_and_suppressing_is_seen_before() {
    let s = Inside::new().await;
    s.import("email\na@press-desks.example\nb@harbour.example\nc@press-desk.example\nd@press-desk-west.example\n").await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    let tomorrow = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() + 86_400_000;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": tomorrow })).await;
    let seen = s.ok("POST", "/api/suppression/1/preview", &json!({ "lines": "press-desk.example\nnobody@else.example" })).await;
    assert_eq!((&seen["people"], &seen["effects"][0]["before"], &seen["effects"][0]["after"]), (&json!(1), &json!(4), &json!(3)));
    assert!(s.ok("GET", "/api/suppression/near-misses", &Value::Null).await.as_array().unwrap().is_empty(), "nothing is barred yet");
    s.ok("POST", "/api/suppression/1/lines", &json!({ "lines": "press-desk.example" })).await;
    let near = s.ok("GET", "/api/suppression/near-misses", &Value::Null).await;
    let subjects: Vec<&str> = near.as_array().unwrap().iter().map(|n| n["subject"].as_str().unwrap()).collect();
    assert_eq!(subjects, ["domain press-desk-west.example", "domain press-desks.example"]);
    s.ok("POST", "/api/suppression/near-misses", &json!({ "subject": subjects[0], "list_id": null })).await;
    s.ok("POST", "/api/suppression/near-misses", &json!({ "subject": subjects[1], "list_id": 1 })).await;
    let (status, words) = s.api("POST", "/api/suppression/near-misses", &json!({ "subject": subjects[1], "list_id": 1 }).to_string()).await;
    assert!(status == StatusCode::CONFLICT || status.is_client_error(), "{status} {words}");
    assert!(s.ok("GET", "/api/suppression/near-misses", &Value::Null).await.as_array().unwrap().is_empty(), "choices are remembered");
    let without = s.ok("GET", "/api/suppression/1/without", &Value::Null).await;
    assert_eq!((&without["people"], &without["effects"][0]["before"], &without["effects"][0]["after"]), (&json!(2), &json!(2), &json!(4)));
    // A domain on pause gets nothing until its end, or until somebody ends it.
    let until = tomorrow + 3 * 86_400_000;
    s.ok("POST", "/api/domains/pauses", &json!({ "domain": "harbour.example", "until": until, "reason": "their host is full" })).await;
    s.advance(25).await;
    let got = s.count("SELECT count(*) FROM send WHERE state <> 6");
    assert_eq!(got, 2, "harbour and press-desk-west; never barred by guess");
    let domains = s.ok("GET", "/api/domains", &Value::Null).await;
    assert_eq!((&domains[0]["name"], &domains[0]["pause"]["held"]), (&json!("harbour.example"), &json!(1)));
    assert_eq!(s.count("SELECT count(*) FROM send WHERE handed_at IS NOT NULL"), 1);
    s.ok("DELETE", &format!("/api/domains/{}/pause", domains[0]["id"]), &Value::Null).await;
    s.advance(1).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE handed_at IS NOT NULL"), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_holdouts_readout_counts_everybody_who_was_drawn() {
    let s = Inside::new().await;
    let csv: String = std::iter::once("email\n".to_owned()).chain((0..400).map(|i| format!("p{i}@tern.example\n"))).collect();
    s.import(&csv).await;
    assert_eq!(s.ok("GET", "/api/holdout", &Value::Null).await, Value::Null);
    s.advance(1).await;
    s.ok("PUT", "/api/rules", &json!({ "rules": { "holdout": { "share": 0.25 } }, "note": "to see" })).await;
    let before = s.ok("GET", "/api/holdout", &Value::Null).await;
    let (out, rest) = (before["held_out"]["converted"]["of"].as_i64().unwrap(), before["rest"]["converted"]["of"].as_i64().unwrap());
    assert!(out + rest == 400 && (60..140).contains(&out), "{before}");
    s.advance(2).await;
    // Every fourth person buys for 8.00 and takes a half of it back; one bought before it began.
    let now = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap();
    let db = s.db();
    for i in (1..=400).filter(|i| i % 4 == 0 || *i == 1) {
        let at = if i == 1 { now - 10 * 3_600_000 } else { now - 60_000 };
        for (key, cents) in [(format!("a{i}"), 800), (format!("b{i}"), -400)] {
            db.execute(
                "INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key) VALUES (?1, ?2, ?3, ?4, 'GBP', 'Storm lantern', 'storm lantern')",
                rusqlite::params![key, i, at, cents],
            )
            .unwrap();
        }
    }
    let r = s.ok("GET", "/api/holdout", &Value::Null).await;
    let converted = |side: &str| r[side]["converted"]["count"].as_i64().unwrap();
    assert_eq!(converted("held_out") + converted("rest"), 100, "what came before doesn't count");
    let per_person = |side: &str, of: i64| (r[side]["revenue"].as_f64().unwrap() - 4.0 * converted(side) as f64 / of as f64).abs() < 1e-9;
    assert!(per_person("held_out", out) && per_person("rest", rest) && r["currency"] == "GBP", "{r}");
    assert!(r["difference"]["lower"].as_f64() <= r["difference"]["upper"].as_f64() && r["revenue_difference"]["estimate"].is_f64());
    let goal = json!({ "id": null, "name": "Prints", "goal": { "what": { "kind": "purchase", "product": "Chart print", "category": null }, "currency": "GBP" } });
    let id = s.ok("POST", "/api/goals", &goal).await;
    assert_eq!(s.ok("GET", &format!("/api/holdout?goal={id}"), &Value::Null).await["rest"]["converted"]["count"], 0);
    let tree = json!({ "kind": "converted", "goal": id, "times": { "at_least": 1 }, "within_days": null });
    s.ok("POST", "/api/segments", &json!({ "name": "Print buyers", "tree": tree })).await;
    let (status, words) = s.api("DELETE", &format!("/api/goals/{id}"), "").await;
    assert!(status.is_client_error() && words.contains("Print buyers"), "{words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn mail_load_is_worked_out_each_day_and_a_mailing_can_leave_cells_out() {
    let s = Inside::new().await;
    s.import("email\nreader@tern.example\nsilent@tern.example\nnew@tern.example\n").await;
    let now = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap();
    let db = s.db();
    // A year of weekly letters: one reads them all, one none, one has got two.
    db.execute_batch("UPDATE contact SET added_at = added_at - 365 * 86400000").unwrap();
    for week in 0..52 {
        let at = now - (week * 7 + 3) * 86_400_000;
        db.execute("INSERT INTO mailing (id, name, letterhead_id, made_at, state) VALUES (?1, 'w' || ?1, 1, 0, 'sent')", [100 + week])
            .unwrap();
        for person in (1..=3).filter(|p| *p < 3 || week < 2) {
            db.execute(
                "INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, open_at, any_open_at) VALUES (?1, ?2, 1, 3, ?3, 0, ?3, ?3, ?4, ?4)",
                rusqlite::params![100 + week, person, at, (person == 1).then_some(at + 3_600_000)],
            )
            .unwrap();
        }
    }
    drop(db);
    s.advance(24).await;
    while s.count("SELECT count(*) FROM setting WHERE key = 'mail_load'") == 0 {
        tokio::task::yield_now().await;
    }
    let view = s.ok("GET", "/api/load", &Value::Null).await;
    let people = |answer: &str| {
        view["cells"].as_array().unwrap().iter().filter(|c| c["answer"] == answer).map(|c| c["people"].as_i64().unwrap()).sum::<i64>()
    };
    assert_eq!((people("steady"), people("silent"), people("new")), (1, 1, 1), "{view}");
    let silent = s.ok("GET", "/api/contacts/2", &Value::Null).await["load"].clone();
    assert!((silent["per_28_days"].as_f64().unwrap() - 4.0).abs() < 0.4, "{silent}");
    let cell = silent["cell"].as_i64().unwrap();
    let shown = s.ok("GET", &format!("/api/contacts?load={cell}"), &Value::Null).await;
    assert_eq!((&shown["matching"], &shown["rows"][0]["address"]), (&json!(1), &json!("silent@tern.example")));
    let mut body = draft(1, &["Boats"]);
    body["leave_out"] = json!([cell]);
    let m = s.ok("POST", "/api/mailings", &body).await["id"].as_i64().unwrap();
    let sluice = s.ok("GET", &format!("/api/mailings/{m}/sluice"), &Value::Null).await;
    assert_eq!((&sluice["cleared"], &sluice["steps"][0]["reason"]), (&json!(2), &json!("load_left_out")));
    let why = s.ok("GET", &format!("/api/mailings/{m}/clearance/2"), &Value::Null).await;
    assert_eq!(why["explained"]["first"], "load_left_out");
    s.ok("POST", &format!("/api/mailings/{m}/plan"), &json!({ "at": null })).await;
    assert_eq!(s.count(&format!("SELECT count(*) FROM send WHERE mailing_id = {m}")), 2);
}
