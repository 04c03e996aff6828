//! What people send who mean it ill, or don't mean it: heavy drafts, huge numbers, forged hosts, closed tabs, the same thing twice at once.

use crate::inside::Inside;
use axum::body::Body;
use axum::http::Request;
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_testkit::{draft, people_csv};
use rstest::rstest;
use serde_json::{Value, json};
use tower::ServiceExt;

/// Each of these once ended the process, or held it for minutes: it is answered with what is too much, by whatever looks at drafts.
#[rstest]
#[case::quotes("markdown", "> ".repeat(4_000))]
#[case::lists("markdown", format!("{}a", "- ".repeat(4_000)))]
#[case::brackets("markdown", "[".repeat(8_000))]
#[case::alternatives("html", format!("{{% if a %}}{}{{% endif %}}", "{% elif 0 %}".repeat(3_000)))]
#[case::negations("html", format!("{{{{ {}a }}}}", "not ".repeat(3_000)))]
#[case::filters("html", format!("{{{{ a{} }}}}", "|upper".repeat(3_000)))]
#[case::brackets_in_a_placeholder("html", format!("{{{{ {} }}}}", "[".repeat(8_000)))]
#[case::elements("html", "<div>".repeat(10_000))]
#[case::tables("html", "<table><tr><td>".repeat(10_000))]
#[case::never_closed("html", format!("{{{{ {}", "not ".repeat(3_000)))]
#[case::closed_in_quotes("html", format!("{{{{ \"}}}}\" {}", "(".repeat(900)))]
#[case::comments("html", format!("<!-->{}", "<div>".repeat(5_000)))]
#[case::closed_by_another("html", "<div></x>".repeat(5_000))]
#[case::growth("html", "{{ \"x\" * 1000000000 }}".to_owned())]
#[case::doubling("html", format!("{{% set a = \"x\" %}}{}", "{% set a = a ~ a %}".repeat(40)))]
#[case::loops("html", "{% for a in [1,2,3] %}{% for b in [1,2,3] %}x{% endfor %}{% endfor %}".to_owned())]
#[tokio::test(flavor = "multi_thread")]
async fn a_heavy_draft_is_refused_in_a_sentence(#[case] format: &str, #[case] body: String) {
    let s = Inside::one_message().await;
    let mut d = draft(1, &["Boats"]);
    d["format"] = json!(format);
    d["html"] = json!(body);
    d["text"] = json!("");
    let (status, words) = s.api("POST", "/api/message-preview", &json!({ "draft": d, "contact": 1 }).to_string()).await;
    assert!(status == 409 && words.contains("detail"), "{status} {words}");
    let found = s.ok("POST", "/api/message-check", &d).await;
    assert_eq!(found[0]["level"], "error", "{found}");
    assert!(found[0]["line"].is_number(), "it says where: {found}");
    // Saved it can be, since it is somebody's work; planned it can't.
    let id = s.ok("POST", "/api/mailings", &d).await["id"].clone();
    let (status, words) = s.api("POST", &format!("/api/mailings/{id}/plan"), "{\"at\":null}").await;
    assert!(status == 409, "{status} {words}");
    let (status, _) = s
        .api("POST", "/api/message-test", &json!({ "draft": d, "contact": null, "to": "team@tern.example", "mailing": null }).to_string())
        .await;
    assert_eq!(status, 409);
    for part in ["subjects", "preheader", "text"] {
        let mut d = draft(1, &["Boats"]);
        d[part] = if part == "subjects" { json!([body]) } else { json!(body) };
        let (status, words) = s.api("POST", "/api/message-preview", &json!({ "draft": d, "contact": 1 }).to_string()).await;
        assert!(matches!(status.as_u16(), 200 | 409), "{part}: {status} {words}");
    }
}

/// Two long drafts that share no line are compared as far as there is time.
#[tokio::test(flavor = "multi_thread")]
async fn long_drafts_are_compared() {
    let s = Inside::new().await;
    for salt in 0..2 {
        let mut d = draft(1, &["Boats"]);
        d["html"] = json!((0..40_000).map(|i| format!("{}\n", (i * 7 + salt) % 65_521)).collect::<String>());
        s.ok("POST", "/api/mailings", &d).await;
    }
    let parts = s.ok("GET", "/api/mailings/1/beside/2", &Value::Null).await;
    let lines = parts.as_array().unwrap().iter().find(|p| p["part"] == "html").unwrap()["lines"].as_array().unwrap().len();
    assert!(lines >= 40_000, "{lines}");
}

#[rstest]
#[case::counts_without_end("POST", "/api/verdict", json!({ "text": "variant,sent,opens\nA,1000000000000,500000000000\nB,1000000000000,1\n" }), 422)]
#[case::many_tables("POST", "/api/verdict", json!({ "text": "variant,sent,opens\nA,1000000000,500000000\nB,1000000000,500001000\n" }), 200)]
#[case::a_control_that_isnt("POST", "/api/mailings/1/outlook", json!({ "question": "?", "metric": "human_open", "effect": 0.05, "alpha": 0.05, "power": 0.8, "pilot_share": 0.5, "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01, "control": 7 }), 409)]
#[case::an_alpha_that_isnt("POST", "/api/mailings/1/outlook", json!({ "question": "?", "metric": "human_open", "effect": 0.05, "alpha": 5.0, "power": 0.8, "pilot_share": 0.5, "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01 }), 409)]
#[case::the_end_of_time("POST", "/api/mailings/1/plan", json!({ "at": i64::MAX }), 422)]
#[case::before_all_time("POST", "/api/mailings/1/plan", json!({ "at": i64::MIN }), 422)]
#[case::a_moved_mailing("POST", "/api/mailings/1/move", json!({ "at": i64::MAX }), 422)]
#[case::days_without_end("POST", "/api/message-check", { let mut d = draft(1, &["Boats"]); d["hold_days"] = json!(i64::MAX); d }, 422)]
#[case::a_page_without_end("GET", "/api/contacts?page=4294967295", Value::Null, 422)]
#[case::labels_off("POST", "/api/words/1/people", json!({ "word": "label", "contacts": [1], "on": false }), 409)]
#[tokio::test(flavor = "multi_thread")]
async fn numbers_that_cant_be_meant_are_refused(#[case] method: &str, #[case] path: &str, #[case] body: Value, #[case] want: u16) {
    let s = Inside::one_message().await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Gulls"])).await;
    let (status, words) = s.api(method, &path.replace("/1/", "/2/"), &body.to_string()).await;
    assert!(!status.is_server_error(), "{status} {words}");
    assert_eq!(status.as_u16(), want, "{words}");
}

/// Only somebody of the team acts.
#[rstest]
#[case("0")]
#[case("999")]
#[case("-1")]
#[case("9223372036854775808")]
#[tokio::test]
async fn nobody_acts_who_isnt_there(#[case] who: &str) {
    let s = Inside::new().await;
    let (status, words) = s.api_as(who, "POST", "/api/mailings", &draft(1, &["Boats"]).to_string()).await;
    assert_eq!(status, 400, "{words}");
}

/// Who closes the page in the middle of a change of many people has changed all of them, on record.
#[tokio::test(flavor = "multi_thread")]
async fn a_closed_tab_halves_no_change() {
    let s = Inside::new().await;
    s.import(&people_csv(5_000)).await;
    s.ok("POST", "/api/words", &json!({ "word": "list", "name": "All" })).await;
    let request = || {
        Request::builder()
            .method("POST")
            .uri("/api/contacts/put")
            .header("host", "localhost")
            .header("x-acting-person", "1")
            .header("content-type", "application/json")
            .body(Body::from(json!({ "word": "list", "id": 1 }).to_string()))
            .unwrap()
    };
    let mut asked = Box::pin(s.routes().oneshot(request()));
    // Begun, and then nobody waits for it any more.
    while s.count("SELECT count(*) FROM list_member") == 0 {
        assert!(futures::poll!(asked.as_mut()).is_pending(), "it was over before it could be left");
        tokio::task::yield_now().await;
    }
    drop(asked);
    let all = || (s.count("SELECT count(*) FROM list_member"), s.count("SELECT people FROM change_run WHERE kind = 'list'"));
    while all() != (5_000, 5_000) {
        tokio::task::yield_now().await;
    }
    assert_eq!(s.count("SELECT count(*) FROM audit WHERE what = 'people put on'"), 1);
}

/// The same file three times, checked before any was applied: each says what it did, not what it foresaw.
#[tokio::test(flavor = "multi_thread")]
async fn files_applied_at_once_say_what_they_did() {
    let s = Inside::new().await;
    for id in 1..=3 {
        let (_, run) = s.api("POST", "/api/imports?name=p.csv", &people_csv(1_000)).await;
        let run: Value = serde_json::from_str(&run).unwrap();
        let decision = json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "evidence": "paper form" });
        let checked = s.ok("POST", &format!("/api/imports/{id}/check"), &decision).await;
        assert_eq!(checked["new"], 1_000);
    }
    let apply = |id: i64| {
        let s = &s;
        async move { s.ok("POST", &format!("/api/imports/{id}/apply"), &Value::Null).await }
    };
    futures::join!(apply(1), apply(2), apply(3), apply(1));
    while s.count("SELECT count(*) FROM import_run WHERE state = 'applied'") < 3 {
        tokio::task::yield_now().await;
    }
    assert_eq!(s.count("SELECT sum(new) FROM import_run"), 1_000);
    assert_eq!(s.count("SELECT sum(unchanged) FROM import_run"), 2_000);
    assert_eq!(s.count("SELECT count(*) FROM contact"), 1_000);
}

/// Of two who changed the same version of a draft the second is told, and nothing is overwritten.
#[tokio::test(flavor = "multi_thread")]
async fn an_older_version_overwrites_nothing() {
    let s = Inside::new().await;
    let made = s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    let save = |version: &str, subject: &str| {
        let request = Request::builder()
            .method("PUT")
            .uri("/api/mailings/1")
            .header("host", "localhost")
            .header("x-acting-person", "2")
            .header("if-match", version)
            .header("content-type", "application/json");
        s.ask(request.body(Body::from(draft(1, &[subject]).to_string())).unwrap())
    };
    let version = format!("\"{}\"", made["version"]);
    assert_eq!(save(&version, "Low tide").await.0, 200);
    let (status, words, _) = save(&version, "High tide").await;
    assert!(status == 412 && words.contains("saved “Boat days”") && words.contains("subjects"), "{status} {words}");
    assert_eq!(save("\"2\"", "High tide").await.0, 200);
    assert_eq!(save("*", "Spring tide").await.0, 200);
    assert_eq!(save("two", "Neap tide").await.0, 422);
    assert_eq!(s.ok("GET", "/api/mailings/1", &Value::Null).await["version"], 4);
}

/// A link that is broken over two lines leads where it was meant to.
#[tokio::test(flavor = "multi_thread")]
async fn a_link_with_a_line_break_leads_somewhere() {
    let s = Inside::new().await;
    s.import("email\nwren@tern.example\n").await;
    let mut d = draft(1, &["Boats"]);
    d["html"] = json!(
        "<p><a href=\"https://skerry-light.example/\n  boats/Sj\u{f3}\">book</a></p><p>{{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Stop</a></p>"
    );
    d["text"] = json!("");
    s.ok("POST", "/api/mailings", &d).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    let (status, _, place) = s.door("GET", &format!("/c/{}", s.signer.link(Kind::Click, SendId(1), 0)), "").await;
    assert_eq!((status.as_u16(), place.as_str()), (302, "https://skerry-light.example/%20%20boats/Sj%C3%B3"));
}

/// RFC 8058 lets a client send its form in parts: it ends what one click ends.
#[rstest]
#[case("application/x-www-form-urlencoded", "List-Unsubscribe=One-Click")]
#[case("multipart/form-data; boundary=x", "--x\r\nContent-Disposition: form-data; name=\"List-Unsubscribe\"\r\n\r\nOne-Click\r\n--x--\r\n")]
#[tokio::test(flavor = "multi_thread")]
async fn one_click_ends_everything_in_any_form(#[case] kind: &str, #[case] body: &str) {
    let s = Inside::new().await;
    let mut l = s.ok("GET", "/api/letterheads", &Value::Null).await[0].clone();
    l["one_click"] = json!("everything");
    s.ok("POST", "/api/letterheads", &l).await;
    s.ok("POST", "/api/topics", &json!({ "name": "Tide notes" })).await;
    s.import("email\nwren@tern.example\n").await;
    let mut d = draft(1, &["Boats"]);
    d["topic_id"] = json!(1);
    s.ok("POST", "/api/mailings", &d).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    let path = format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(1), 0));
    let request = Request::builder().method("POST").uri(path).header("content-type", kind).body(Body::from(body.to_owned())).unwrap();
    assert_eq!(s.ask(request).await.0, 200);
    assert_eq!(s.count("SELECT consent FROM contact"), 5, "all email is ended");
}

/// A header that begins another, two hosts, a proxy's word, somebody's data in a cache: none of it.
#[tokio::test(flavor = "multi_thread")]
async fn headers_say_nothing_they_shouldnt() {
    let s = Inside::one_message().await;
    let mut d = draft(1, &["Boats"]);
    d["senders"] = json!([{ "name": "Ines", "reply_to": "a@tern.example\r\nBcc: all@tern.example" }]);
    for path in ["/api/message.eml", "/api/message-preview"] {
        let (status, words) = s.api("POST", path, &json!({ "draft": d, "contact": null, "arm": 0 }).to_string()).await;
        assert!(status == 409 && words.contains("Replies can't go to"), "{path}: {status} {words}");
    }
    let ask = |headers: &[(&str, &str)]| {
        let mut request = Request::builder().uri("/api/contacts");
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        s.ask(request.body(Body::empty()).unwrap())
    };
    assert_eq!(ask(&[("host", "localhost"), ("host", "rinse.example")]).await.0, 422);
    assert_eq!(ask(&[("host", "localhost"), ("x-forwarded-for", "192.0.2.1")]).await.0, 403);
    assert_eq!(ask(&[("host", "localhost"), ("via", "1.1 proxy")]).await.0, 403);
    assert_eq!(ask(&[("host", "localhost")]).await.0, 200);
    let foreign = Request::builder().uri("/standin/records").header("host", "rinse.example").body(Body::empty()).unwrap();
    assert_eq!(s.ask(foreign).await.0, 403);
    for path in
        [format!("/p/{}", s.signer.link(Kind::Preferences, SendId(1), 0)), format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(1), 0))]
    {
        assert_eq!(s.header(&path, "cache-control").await, "no-store", "{path}");
    }
}

/// What something still depends on is named, and stays; who isn't there is put on nothing.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_used_stays_and_nobody_is_nobody() {
    let s = Inside::one_message().await;
    s.ok("POST", "/api/words", &json!({ "word": "list", "name": "Boats" })).await;
    assert_eq!(s.ok("POST", "/api/words/1/people", &json!({ "word": "list", "contacts": [0, 1, 99], "on": true })).await, 1);
    let all = json!({ "name": "All of them", "tree": { "kind": "list", "list": 1 } });
    let segment = s.ok("POST", "/api/segments", &all).await;
    let rule = json!({ "name": "Not these", "reason": "asked by post", "scope": { "kind": "all" }, "segment_id": segment });
    let list = s.ok("POST", "/api/suppression", &rule).await;
    let (status, words) = s.api("DELETE", &format!("/api/segments/{segment}"), "").await;
    assert!(status == 409 && words.contains("suppression list Not these"), "{status} {words}");
    s.ok("DELETE", &format!("/api/suppression/{list}"), &Value::Null).await;
    s.ok("DELETE", &format!("/api/segments/{segment}"), &Value::Null).await;
}
