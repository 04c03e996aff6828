//! The doors to the outside, through the real router in process: what a link, a button, a scanner
//! or a forged token can and can't do.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rstest::rstest;

#[tokio::test]
async fn a_get_changes_nothing_and_a_post_always_counts() {
    let s = Inside::one_message().await;
    let path = format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(1), 0));
    for method in ["GET", "HEAD"] {
        let (status, page, _) = s.door(method, &path, "").await;
        assert_eq!(status, StatusCode::OK);
        assert!(page.len() < 30_000 && !page.contains("<script") && (method == "HEAD" || page.contains("Skerry Light")));
        assert_eq!(s.count("SELECT consent FROM contact"), 2, "scanners follow links");
    }
    for _ in 0..2 {
        let (status, page, _) = s.door("POST", &path, "List-Unsubscribe=One-Click").await;
        assert!(status == StatusCode::OK && page.contains("You get no more mail"), "{page}");
    }
    assert_eq!(s.count("SELECT consent FROM contact"), 5);
    assert_eq!(s.count("SELECT count(*) FROM ledger WHERE kind = 'withdrew' AND source = 'one-click'"), 1);
}

#[rstest]
#[case(Kind::Unsubscribe, "/u/", "POST")]
#[case(Kind::Click, "/c/", "GET")]
#[case(Kind::Open, "/o/", "GET")]
#[tokio::test]
async fn forged_and_foreign_tokens_tell_nothing(#[case] kind: Kind, #[case] door: &str, #[case] method: &str) {
    let s = Inside::one_message().await;
    let forged = Signer::new(b"another key").link(kind, SendId(1), 0);
    let other_kind = s.signer.link(if kind == Kind::Open { Kind::Click } else { Kind::Open }, SendId(1), 0);
    let never_sent = s.signer.link(kind, SendId(4_000), 0);
    let mut answers = Vec::new();
    for token in [forged.as_str(), other_kind.as_str(), never_sent.as_str(), "x", "%00"] {
        answers.push(s.door(method, &format!("{door}{token}"), "stop=everything").await);
    }
    assert!(answers.windows(2).all(|w| w[0] == w[1]), "all get the same page: {answers:?}");
    assert_eq!(s.count("SELECT count(*) FROM response"), 0);
    assert_eq!(s.count("SELECT consent FROM contact"), 2);
}

#[tokio::test]
async fn clicks_lead_only_where_the_message_leads() {
    let s = Inside::one_message().await;
    let (status, _, place) = s.door("GET", &format!("/c/{}?to=https://evil.example", s.signer.link(Kind::Click, SendId(1), 0)), "").await;
    assert_eq!((status, place.as_str()), (StatusCode::FOUND, "https://skerry-light.example/boats"));
    let (status, _, place) = s.door("GET", &format!("/c/{}", s.signer.link(Kind::Click, SendId(1), 9)), "").await;
    assert_eq!((status, place.as_str()), (StatusCode::NOT_FOUND, ""));
    let (status, ..) = s.door("HEAD", &format!("/c/{}", s.signer.link(Kind::Click, SendId(1), 0)), "").await;
    assert_eq!(status, StatusCode::FOUND);
    assert_eq!(s.count("SELECT count(*) FROM response WHERE machine = 5"), 1, "a HEAD request is a machine's");
}

#[rstest]
#[case::complaint(
    Kind::Return,
    "back+",
    "Content-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/feedback-report\r\n\r\nFeedback-Type: abuse\r\n--b--\r\n",
    "SELECT count(*) FROM contact WHERE consent = 6"
)]
#[case::not_spam(
    Kind::Return,
    "back+",
    "Content-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/feedback-report\r\n\r\nFeedback-Type: not-spam\r\n--b--\r\n",
    "SELECT count(*) FROM contact WHERE consent = 2"
)]
#[case::report(
    Kind::Return,
    "back+",
    "Content-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; a.example\r\n\r\nFinal-Recipient: rfc822; wren@tern.example\r\nAction: failed\r\nStatus: 5.1.1\r\n--b--\r\n",
    "SELECT count(*) FROM send WHERE state = 5 AND category = 1"
)]
#[case::delayed(
    Kind::Return,
    "back+",
    "Content-Type: multipart/report; boundary=b\r\n\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; a.example\r\n\r\nFinal-Recipient: rfc822; wren@tern.example\r\nAction: delayed\r\nStatus: 4.4.1\r\n--b--\r\n",
    "SELECT count(*) FROM send WHERE state = 3"
)]
#[case::reply(
    Kind::Reply,
    "reply+",
    "In-Reply-To: <x@y>\r\nSubject: Re\r\n\r\nyes\r\n",
    "SELECT count(*) FROM send WHERE reply_at IS NOT NULL"
)]
#[case::away(
    Kind::Reply,
    "reply+",
    "In-Reply-To: <x@y>\r\nAuto-Submitted: auto-replied\r\n\r\naway\r\n",
    "SELECT count(*) FROM send WHERE reply_at IS NULL"
)]
#[tokio::test]
async fn raw_mail_is_matched_by_its_signed_address_and_counts_once(
    #[case] kind: Kind,
    #[case] prefix: &str,
    #[case] raw: &str,
    #[case] holds: &str,
) {
    let s = Inside::one_message().await;
    let before = s.count("SELECT count(*) FROM ledger");
    for stranger in ["back+forged@skerry-light.example", "info@skerry-light.example", ""] {
        assert_eq!(s.mail(stranger, &format!("X: {stranger}\r\n{raw}")).await, StatusCode::NO_CONTENT);
    }
    assert_eq!(
        (s.count("SELECT count(*) FROM ledger"), s.count("SELECT count(*) FROM response")),
        (before, 0),
        "an unmatched report changes nothing"
    );
    let to = format!("{prefix}{}@skerry-light.example", s.signer.mailbox(kind, SendId(1)));
    assert_eq!(s.mail(&to, raw).await, StatusCode::NO_CONTENT);
    assert_eq!(s.count(holds), 1);
    let (ledger, responses) = (s.count("SELECT count(*) FROM ledger"), s.count("SELECT count(*) FROM response"));
    s.mail(&to, raw).await;
    assert_eq!((s.count("SELECT count(*) FROM ledger"), s.count("SELECT count(*) FROM response")), (ledger, responses));
}

#[tokio::test]
async fn a_reply_is_known_by_the_message_it_answers_and_what_it_says_is_kept_until_its_writer_goes() {
    let s = Inside::one_message().await;
    let id = format!("1.{}@skerry-light.example", s.signer.mailbox(Kind::Return, SendId(1)));
    for (answers, known) in [("1.forged@skerry-light.example", 0), (id.as_str(), 1)] {
        s.mail(
            "letters@skerry-light.example",
            &format!("From: wren@tern.example\r\nIn-Reply-To: <{answers}>\r\nSubject: Re: Boats\r\n\r\nYes, two of us.\r\n> Boats?\r\n"),
        )
        .await;
        assert_eq!(s.count("SELECT count(*) FROM send WHERE reply_at IS NOT NULL"), known);
    }
    let replies = s.ok("GET", "/api/mailings/1/replies", &serde_json::Value::Null).await;
    assert_eq!(
        (&replies[0]["text"], &replies[0]["address"]),
        (&serde_json::json!("Yes, two of us."), &serde_json::json!("wren@tern.example"))
    );
    let person = s.ok("GET", "/api/contacts/1", &serde_json::Value::Null).await;
    assert_eq!(person["responses"][0]["words"], "Yes, two of us.");
    s.ok("DELETE", "/api/contacts/1", &serde_json::Value::Null).await;
    assert_eq!(s.count("SELECT count(*) FROM reply"), 0);
}
