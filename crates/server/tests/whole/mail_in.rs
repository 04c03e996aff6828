//! Replies that come by the mailbox or by another address: matched, told apart, taken in once. And whom a message comes from.

use crate::inside::Inside;
use rinse_core::id::SendId;
use rinse_testkit::draft;
use rstest::rstest;
use serde_json::{Value, json};

/// Puts a file into the mailbox, as any mail program on the machine would.
fn put(s: &Inside, name: &str, raw: &str) {
    std::fs::write(s.folder().join("mailbox/new").join(name), raw).unwrap();
}

fn left(s: &Inside) -> usize {
    std::fs::read_dir(s.folder().join("mailbox/new")).unwrap().count()
}

#[rstest]
#[case::by_number_and_sender(
    "From: Wren <wren@tern.example>\r\nTo: boats@skerry-light.example\r\nIn-Reply-To: <NUMBER>\r\n\r\nTwo of us, please.\r\n",
    1,
    1
)]
#[case::by_number_alone("From: merlin@tern.example\r\nIn-Reply-To: <NUMBER>\r\n\r\nTwo of us, please.\r\n", 0, 1)]
#[case::by_sender_and_subject(
    "From: Wren <wren@tern.example>\r\nTo: boats@skerry-light.example\r\nSubject: AW: Re: BOATS\r\n\r\nTwo of us, please.\r\n",
    0,
    1
)]
#[case::a_forged_number("From: wren@tern.example\r\nIn-Reply-To: <1.abcdefghij@skerry-light.example>\r\n\r\nHello\r\n", 0, 0)]
#[case::about_something_else("From: wren@tern.example\r\nSubject: Re: Lanterns\r\n\r\nHello\r\n", 0, 0)]
#[case::from_somebody_else("From: merlin@tern.example\r\nSubject: Re: Boats\r\n\r\nHello\r\n", 0, 0)]
#[case::by_a_program("From: wren@tern.example\r\nSubject: Re: Boats\r\nAuto-Submitted: auto-replied\r\n\r\nAway\r\n", 0, 0)]
#[case::passed_on("From: wren@tern.example\r\nSubject: Fwd: Boats\r\n\r\nLook\r\n", 0, 0)]
#[case::no_mail_at_all("\u{1}\u{2} not mail", 0, 0)]
#[tokio::test(flavor = "multi_thread")]
async fn what_waits_in_the_mailbox_is_read(#[case] raw: &str, #[case] replies: i64, #[case] shown: usize) {
    let s = Inside::one_message().await;
    let raw = raw.replace("NUMBER", &format!("{}@skerry-light.example", s.signer.message(SendId(1))));
    put(&s, "1776364800.a", &raw);
    put(&s, "1776364800.b", &raw);
    s.advance(1).await;
    assert_eq!(left(&s), 0, "the same twice is one");
    assert_eq!(
        s.count("SELECT count(*) FROM send WHERE reply_at IS NOT NULL"),
        replies,
        "what anybody could have written counts for nothing"
    );
    assert_eq!(s.count("SELECT count(*) FROM response WHERE kind = 3"), replies);
    let page = s.ok("GET", "/api/mailings/1/replies", &Value::Null).await;
    assert_eq!(page.as_array().unwrap().len(), shown, "{page}");
    if shown > 0 {
        assert_eq!((&page[0]["text"], &page[0]["address"]), (&json!("Two of us, please."), &json!("wren@tern.example")), "{page}");
        assert_eq!(page[0]["probable"], json!(replies == 0));
    }
    if replies > 0 {
        assert_eq!(s.count("SELECT reply_at FROM send"), 1_776_364_800_000, "when it was delivered");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mailbox_that_cannot_be_read_stops_no_mail() {
    let s = Inside::new().await;
    s.import("email\nwren@tern.example\n").await;
    put(&s, "1776364800.large", &"x".repeat(5_000_001));
    // 1.2 MB that a parser would follow until its stack is gone.
    put(&s, "1776364801.nested", &"Content-Type:message/rfc822\n\n".repeat(40_000));
    s.advance(1).await;
    assert_eq!(left(&s), 0, "what can't be read is put aside");
    let today = s.ok("GET", "/api/today", &Value::Null).await;
    let said: Vec<&Value> = today.as_array().unwrap().iter().filter(|d| d["kind"] == "notice").collect();
    assert_eq!(said.len(), 2, "{today}");
    assert_eq!(std::fs::read_dir(s.folder().join("mailbox/aside")).unwrap().count(), 2);
    for n in said {
        s.ok("POST", &format!("/api/today/notices/{}/settle", n["notice"]), &Value::Null).await;
    }
    assert!(!s.ok("GET", "/api/today", &Value::Null).await.to_string().contains("notice\":1"));
    // The same from outside: only by a door, and set aside.
    let bomb = "Content-Type:message/rfc822\n\n".repeat(40_000);
    assert_eq!(s.door("POST", "/in/mail", &bomb).await.0, 404);
    assert_eq!(s.door("POST", "/in/mail/0123456789abcdef", &bomb).await.0, 401);
    assert_eq!(s.mail("letters@skerry-light.example", &bomb).await, 202);
    std::fs::remove_dir(s.folder().join("mailbox/new")).unwrap();
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE state = 3"), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reply_token_is_enough_and_a_return_path_takes_no_reply() {
    use rinse_core::token::Kind;
    let s = Inside::one_message().await;
    let plain = "From: w@elsewhere.example\r\nSubject: Yes\r\n\r\nYes.\r\n";
    s.mail(&format!("back+{}@skerry-light.example", s.signer.mailbox(Kind::Return, SendId(1))), plain).await;
    assert_eq!(s.count("SELECT count(*) FROM reply"), 0);
    s.mail(&format!("reply+{}@skerry-light.example", s.signer.mailbox(Kind::Reply, SendId(1))), &plain.replace("Yes.", "Yes, both.")).await;
    assert_eq!(s.count("SELECT count(*) FROM reply"), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn variants_come_under_names_of_their_own_and_a_seal_knows_them() {
    let s = Inside::new().await;
    let mut d = draft(1, &["Boats", "Boats"]);
    d["senders"] = json!([{ "name": "Ines of Skerry Light", "reply_to": "" }, { "name": "", "reply_to": "boats@skerry-light.example" }]);
    let (status, words) = s
        .api(
            "POST",
            "/api/mailings",
            &{
                let mut bad = d.clone();
                bad["senders"][1]["reply_to"] = json!("nobody");
                bad
            }
            .to_string(),
        )
        .await;
    assert!(status == 409 && words.contains("Replies can't go to"), "{status} {words}");
    let m = s.ok("POST", "/api/mailings", &d).await;
    assert_eq!(s.ok("GET", &format!("/api/mailings/{}", m["id"]), &Value::Null).await["senders"], d["senders"]);
    let eml = |arm: u8| json!({ "draft": d, "contact": null, "arm": arm }).to_string();
    let (_, a) = s.api("POST", "/api/message.eml", &eml(0)).await;
    let (_, b) = s.api("POST", "/api/message.eml", &eml(1)).await;
    assert!(a.contains("Ines of Skerry Light") && a.contains("<letters@skerry-light.example>"), "{a}");
    assert!(!b.contains("Ines of") && b.contains("boats+"), "{b}");
    let found = s.ok("POST", "/api/message-check", &d).await.to_string();
    assert!(found.contains("differ in sender name and reply-to") && !found.contains("nothing else differs"), "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_check_counts_those_who_would_get_it() {
    let s = Inside::new().await;
    s.import("email,first name\nwren@tern.example,Wren\nmerlin@tern.example,\nfinch@tern.example,\n").await;
    let mut d = draft(1, &["Boats"]);
    d["html"] = json!("<p>Dear {{ given_name }}, {{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Stop</a></p>");
    d["text"] = json!("");
    let words = |found: &Value| found[0]["words"].as_str().unwrap_or_default().to_owned();
    assert!(words(&s.ok("POST", "/api/message-check", &d).await).starts_with("2 of 3 people (66.7%) have no given_name"));
    // Somebody who never agreed gets nothing, so what they lack is no matter.
    let owl = json!({ "address": "owl@tern.example", "list": null, "consent": false, "evidence": "" });
    s.ok("POST", "/api/contacts", &owl).await;
    assert!(words(&s.ok("POST", "/api/message-check", &d).await).starts_with("2 of 3 people (66.7%)"));
}
