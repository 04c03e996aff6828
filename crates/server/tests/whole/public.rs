//! The public pages through the real router: sign-up to confirmation, preferences, breaks, and what
//! they tell nobody.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rstest::rstest;
use serde_json::{Value, json};

/// A letterhead with topics and a wording.
async fn open() -> Inside {
    let s = Inside::new().await;
    s.db().execute_batch("INSERT INTO topic (name) VALUES ('Tide notes'), ('Boat <days>'), ('Magazine')").unwrap();
    let mut l = s.ok("GET", "/api/letterheads", &Value::Null).await[0].clone();
    l["wording"] = json!("I agree to letters & <notes>.");
    s.ok("POST", "/api/letterheads", &l).await;
    s
}

fn consent(s: &Inside, address: &str) -> i64 {
    s.count(&format!("SELECT coalesce((SELECT consent FROM contact WHERE address_key = '{address}'), -1)"))
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_form_to_the_confirmation() {
    let s = open().await;
    let (status, page, _) = s.door("GET", "/f/1", "").await;
    assert!(status == StatusCode::OK && page.len() < 30_000 && !page.contains("<script"));
    assert!(page.contains("Boat &lt;days&gt;") && page.contains("letters &amp; &lt;notes&gt;"), "what is written is escaped");
    assert_eq!(s.count("SELECT count(*) FROM contact"), 0);
    for (body, want) in [("address=wren", "can&#x27;t be right"), ("address=wren%40tern.example", "at least one")] {
        let (_, page, _) = s.door("POST", "/f/1", body).await;
        assert!(page.contains(want) && page.contains("value=\"wren"), "{page}");
    }
    let (_, page, _) = s.door("POST", "/f/1", "address=Wren%40tern.example&given_name=Wren&topic=1&topic=3").await;
    assert!(page.contains("look into your mailbox"));
    assert_eq!(consent(&s, "wren@tern.example"), 1, "invited, and no more");
    s.advance(1).await;
    assert_eq!(s.count("SELECT state FROM sign_up"), 3, "the invitation was handed over");
    let path = format!("/i/{}", s.signer.link(Kind::Confirm, SendId(1), 0));
    let (_, page, _) = s.door("GET", &path, "").await;
    assert!(page.contains("Tide notes, Magazine") && page.contains("I agree to letters"));
    assert_eq!(consent(&s, "wren@tern.example"), 1, "a GET changes nothing");
    for _ in 0..2 {
        let (_, page, _) = s.door("POST", &path, "").await;
        assert!(page.contains("is confirmed") && page.contains("/p/"));
    }
    assert_eq!(consent(&s, "wren@tern.example"), 3);
    assert_eq!(s.count("SELECT count(*) FROM ledger WHERE kind = 'confirmed' AND evidence LIKE '%wording version 1'"), 1);
    assert_eq!(s.count("SELECT count(*) FROM topic_left WHERE topic_id = 2"), 1, "the topic that was not chosen");
    assert_eq!(s.count("SELECT count(*) FROM topic_left"), 1);
    let view = s.ok("GET", "/api/consent", &Value::Null).await;
    assert_eq!(
        (&view["confirmation"]["count"], &view["confirmation"]["of"], view["waiting"].as_array().unwrap().len()),
        (&json!(1), &json!(1), 0)
    );
    assert_eq!(view["months"][0]["states"][3], json!({ "state": "confirmed", "people": 1 }));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sender_of_the_form_learns_nothing() {
    let s = open().await;
    s.import("email\nknown@tern.example\nangry@tern.example\ngone@tern.example\nerased@tern.example\nbarred@tern.example\n").await;
    s.db()
        .execute_batch(
            "UPDATE contact SET consent = 6 WHERE address_key LIKE 'angry%'; UPDATE contact SET status = 3 WHERE address_key LIKE 'gone%';",
        )
        .unwrap();
    s.ok("POST", "/api/suppression/1/lines", &json!({ "lines": "barred@tern.example" })).await;
    s.ok("DELETE", "/api/contacts/4", &Value::Null).await;
    let mut answers = Vec::new();
    for name in ["new", "known", "angry", "gone", "erased", "barred"] {
        answers.push(s.door("POST", "/f/1", &format!("address={name}%40tern.example&topic=1")).await);
    }
    assert!(answers.windows(2).all(|w| w[0] == w[1]));
    s.advance(1).await;
    let invited = |name: &str| s.count(&format!("SELECT state FROM sign_up WHERE address_key = '{name}@tern.example'")) == 3;
    assert!(invited("new") && invited("known") && invited("erased"));
    assert!(!invited("angry") && !invited("gone") && !invited("barred"), "these never get an invitation");
    assert_eq!((consent(&s, "known@tern.example"), consent(&s, "angry@tern.example")), (2, 6), "a form can't lower or raise");
    assert_eq!(consent(&s, "erased@tern.example"), -1, "not back before they confirm");
    let (status, ..) = s.door("POST", &format!("/i/{}", s.signer.link(Kind::Confirm, SendId(5), 0)), "").await;
    assert_eq!((status, consent(&s, "erased@tern.example")), (StatusCode::OK, 3));
    assert_eq!(s.count("SELECT count(*) FROM tombstone"), 0, "their own sign-up lifts it");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mailbox_is_not_flooded_and_an_old_invitation_is_as_good_as_none() {
    let s = open().await;
    for _ in 0..5 {
        s.door("POST", "/f/1", "address=wren%40tern.example&topic=1").await;
    }
    s.advance(1).await;
    assert_eq!(s.count("SELECT count(*) FROM sign_up WHERE state = 3"), 3);
    let waiting = s.ok("GET", "/api/consent", &Value::Null).await["waiting"].clone();
    assert!(waiting.as_array().unwrap().len() == 5 && waiting[0]["why"].as_str().unwrap().contains("three times"));
    let path = format!("/i/{}", s.signer.link(Kind::Confirm, SendId(1), 0));
    s.advance(14 * 24).await;
    let old = s.door("POST", &path, "").await;
    let forged = s.door("POST", &format!("/i/{}", Signer::new(b"x").link(Kind::Confirm, SendId(1), 0)), "").await;
    assert_eq!(old, forged, "expired and forged get the same page");
    assert_eq!((old.0, consent(&s, "wren@tern.example")), (StatusCode::NOT_FOUND, 1));
    // By the API the same limits hold, and a letterhead may do without the second step.
    let mut l = s.ok("GET", "/api/letterheads", &Value::Null).await[0].clone();
    l["double_opt_in"] = json!(false);
    s.ok("POST", "/api/letterheads", &l).await;
    s.ok("POST", "/api/sign-ups", &json!({ "letterhead_id": 1, "address": "gull@tern.example", "given_name": null, "topics": [1] })).await;
    assert_eq!(consent(&s, "gull@tern.example"), 2);
    assert_eq!(s.count("SELECT count(*) FROM topic_left"), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn preferences_change_what_they_say_and_nothing_else() {
    let s = Inside::one_message().await;
    s.db().execute_batch("INSERT INTO topic (name) VALUES ('Tide notes'), ('Boat days')").unwrap();
    let path = format!("/p/{}", s.signer.link(Kind::Preferences, SendId(1), 0));
    let left = || s.count("SELECT coalesce(sum(topic_id), 0) FROM topic_left");
    let now = || consent(&s, "wren@tern.example");
    let (status, page, _) = s.door("GET", &path, "").await;
    assert!(status == StatusCode::OK && page.len() < 30_000 && !page.contains("<script") && page.matches("checked").count() == 3);
    s.door("POST", &path, "act=save&topic=1&pause=").await;
    assert_eq!((left(), now()), (2, 2), "one topic left, the rest stays");
    let by_it = |how: &str| s.count(&format!("SELECT count(*) FROM send WHERE {how} IS NOT NULL AND left_at <= {how}"));
    assert_eq!(s.count("SELECT count(left_at) FROM send"), 0, "another topic than the message's wasn't left by it");
    s.door("POST", &path, "act=save&topic=1&topic=2&pause=30").await;
    assert_eq!((left(), now()), (0, 4));
    assert_eq!((by_it("paused_at"), by_it("withdrew_at")), (1, 0), "who pauses by a message's page leaves by the message");
    s.ok("POST", "/api/mailings", &inside_draft()).await;
    let held = s.ok("GET", "/api/mailings/2/sluice", &Value::Null).await;
    // A break of 30 days outlasts the mailing's hold limit of 7: it isn't kept for them.
    assert_eq!((&held["held"], &held["steps"][0]["reason"]), (&json!(0), &json!("held_too_long")));
    let (_, page, _) = s.door("GET", &path, "").await;
    assert!(page.contains("You asked for a break until"));
    s.door("POST", &path, "act=save&topic=1&topic=2&pause=end").await;
    assert_eq!(now(), 2, "what was before the break");
    let (_, page, _) = s.door("POST", &path, "act=stop").await;
    assert!(now() == 5 && page.contains("Get mail again"));
    assert_eq!((by_it("withdrew_at"), s.count("SELECT count(*) FROM response WHERE kind = 4")), (1, 1), "a pause is no unsubscribe");
    s.door("POST", &path, "act=back").await;
    assert_eq!(now(), 3, "by their own act");
    for (method, body) in [("POST", "act=save&pause=365"), ("POST", "act=buy"), ("POST", "")] {
        assert_eq!(s.door(method, &path, body).await.0, StatusCode::NOT_FOUND);
    }
    assert_eq!(now(), 3);
}

fn inside_draft() -> Value {
    rinse_testkit::draft(1, &["More boats"])
}

#[rstest]
#[case::topic("topic", 2, 1)]
#[case::everything("everything", 5, 0)]
#[tokio::test(flavor = "multi_thread")]
async fn one_click_ends_what_the_letterhead_says(#[case] ends: &str, #[case] want: i64, #[case] topics_left: i64) {
    let s = Inside::one_message().await;
    s.db().execute_batch("INSERT INTO topic (name) VALUES ('Tide notes'); UPDATE mailing SET topic_id = 1").unwrap();
    let mut l = s.ok("GET", "/api/letterheads", &Value::Null).await[0].clone();
    l["one_click"] = json!(ends);
    s.ok("POST", "/api/letterheads", &l).await;
    let path = format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(1), 0));
    let (_, page, _) = s.door("POST", &path, "List-Unsubscribe=One-Click").await;
    assert_eq!((consent(&s, "wren@tern.example"), s.count("SELECT count(*) FROM topic_left")), (want, topics_left));
    // The way back stands on the page.
    assert!(page.contains("take it back"));
    let back = format!("/p/{}", s.signer.link(Kind::Preferences, SendId(1), 0));
    s.door("POST", &back, if ends == "topic" { "act=back&topic=1" } else { "act=back" }).await;
    assert_eq!(s.count("SELECT count(*) FROM topic_left"), 0);
    assert!(consent(&s, "wren@tern.example") >= 2 && consent(&s, "wren@tern.example") <= 3);
}

#[rstest]
#[case(Kind::Preferences, "/p/")]
#[case(Kind::Person, "/p/")]
#[case(Kind::Confirm, "/i/")]
#[tokio::test]
async fn unknown_and_forged_links_all_get_the_same_page(#[case] kind: Kind, #[case] door: &str) {
    let s = Inside::one_message().await;
    let forged = Signer::new(b"another key").link(kind, SendId(1), 1);
    let never = s.signer.link(kind, SendId(4_000), 1);
    let other = s.signer.link(Kind::Open, SendId(1), 0);
    let mut answers = Vec::new();
    for token in [forged.as_str(), &never, &other, "x", "%00"] {
        for method in ["GET", "POST"] {
            answers.push(s.door(method, &format!("{door}{token}"), "act=stop").await);
        }
    }
    answers.push(s.door("GET", "/f/99", "").await);
    answers.push(s.door("POST", "/f/x", "address=a%40b.example").await);
    assert!(answers.windows(2).all(|w| w[0] == w[1]), "{answers:?}");
    assert_eq!(consent(&s, "wren@tern.example"), 2);
}
