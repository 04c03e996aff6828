//! Reports of other hosts, and how mail is let in, through the API.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_standins::reports::{dmarc, tls};
use rinse_standins::scenario::Scenario;
use rinse_testkit::draft;
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

/// Who sends can be asked for, and complaints are of mail to domains that report them: silence of the others says nothing.
#[tokio::test(flavor = "multi_thread")]
async fn the_front_page_is_of_one_sender_where_that_is_asked_for() {
    let s = Inside::new().await;
    let people = |domain: &str| (0..25).map(|n| format!("p{n}@{domain}\n")).collect::<String>();
    s.import(&format!("email\n{}{}", people("tern.example"), people("gull.example"))).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(30).await;
    s.db().execute_batch("UPDATE send SET complained_at = accepted_at + 60000 WHERE contact_id = 1 AND accepted_at IS NOT NULL").unwrap();
    let all = s.ok("GET", "/api/delivery", &Value::Null).await;
    let of = |name: &str| all["groups"].as_array().unwrap().iter().find(|g| g["name"] == name).unwrap()["complaints"].clone();
    let delivered = s.count("SELECT count(*) FROM send WHERE contact_id <= 25 AND accepted_at IS NOT NULL AND failed_at IS NULL");
    assert_eq!((&of("tern.example")["count"], &of("tern.example")["of"]), (&json!(1), &json!(delivered)));
    assert_eq!(of("gull.example")["of"], json!(0));
    let ours = s.ok("GET", "/api/delivery?letterhead=1", &Value::Null).await;
    assert_eq!(ours["groups"], all["groups"]);
    let nobodys = s.ok("GET", "/api/delivery?letterhead=7", &Value::Null).await;
    assert!(nobodys["groups"].as_array().unwrap().is_empty() && all["groups"].as_array().unwrap().len() == 2);
}

/// The lines of a sender, by what was looked at.
fn line<'a>(names: &'a Value, check: &str) -> &'a Value {
    names["senders"][0]["lines"].as_array().unwrap().iter().find(|l| l["check"] == check).unwrap_or(&Value::Null)
}

/// A new sending domain, from nothing to what hosts look for; asked of a name server over UDP by the resolver that asks any other.
#[tokio::test(flavor = "multi_thread")]
async fn what_dns_says_of_a_sender_is_told_with_what_to_publish() {
    let s = Inside::new().await;
    let names = s.ok("GET", "/api/delivery/names", &Value::Null).await;
    assert_eq!((&names["dns"], &names["senders"][0]["looked_at"]), (&json!(true), &Value::Null));
    s.ok("POST", "/api/delivery/names/look", &Value::Null).await;
    let names = s.ok("GET", "/api/delivery/names", &Value::Null).await;
    assert_eq!(line(&names, "dkim")["state"], "wrong", "there is no key: {names}");
    assert_eq!(line(&names, "spf")["state"], "cant_tell", "nobody said which addresses are ours");
    assert_eq!(line(&names, "reverse_name"), &Value::Null);

    let key = s.ok("POST", "/api/letterheads/1/keys", &json!({ "algorithm": "ed25519" })).await;
    s.ok("PUT", "/api/delivery/names/addresses", &json!({ "addresses": ["192.0.2.25", " 192.0.2.25 "] })).await;
    s.ok("POST", "/api/delivery/names/look", &Value::Null).await;
    let names = s.ok("GET", "/api/delivery/names", &Value::Null).await;
    let dkim = line(&names, "dkim");
    assert_eq!((&dkim["state"], &dkim["publish"]["kind"]), (&json!("wrong"), &json!("TXT")));
    assert!(dkim["publish"]["value"].as_str().unwrap().starts_with("v=DKIM1;"));
    // What is published as it says is found.
    s.ok("POST", &format!("/api/letterheads/1/keys/{key}/publish"), &Value::Null).await;
    s.ok("POST", "/api/delivery/names/look", &Value::Null).await;
    let names = s.ok("GET", "/api/delivery/names", &Value::Null).await;
    for check in ["spf", "dkim", "dmarc", "reverse_name", "replies"] {
        assert_eq!((&line(&names, check)["state"], &line(&names, check)["publish"]), (&json!("right"), &Value::Null), "{check}: {names}");
    }
    assert_eq!(line(&names, "one_click")["state"], "wrong", "its links lead to http");
    // An address that the record doesn't let send is named, in the record and by itself.
    s.ok("PUT", "/api/delivery/names/addresses", &json!({ "addresses": ["192.0.2.25", "2001:db8::25"] })).await;
    s.ok("POST", "/api/delivery/names/look", &Value::Null).await;
    let names = s.ok("GET", "/api/delivery/names", &Value::Null).await;
    assert_eq!(line(&names, "spf")["publish"]["value"], "v=spf1 ip4:192.0.2.25 ip6:2001:db8::25 -all");
    let (status, said) = s.api("PUT", "/api/delivery/names/addresses", &json!({ "addresses": ["192.0.2"] }).to_string()).await;
    assert_eq!(status, StatusCode::CONFLICT, "{said}");
    assert!(said.contains("is no IP address"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_blocklist_is_believed_once_it_has_shown_that_it_is_one() {
    let s = Inside::new().await;
    // Every list has this address, so that it can be tested.
    s.ok("PUT", "/api/delivery/names/addresses", &json!({ "addresses": ["127.0.0.2", "192.0.2.25"] })).await;
    let list = s.ok("POST", "/api/delivery/blocklists", &json!({ "zone": "Lists.LanternWatch.example", "of": "addresses" })).await;
    s.ok("POST", "/api/delivery/blocklists", &json!({ "zone": "skerry-light.example", "of": "domains" })).await;
    for (zone, of) in [("lists.lanternwatch.example.", "addresses"), ("no list", "domains"), ("", "domains")] {
        let (status, _) = s.api("POST", "/api/delivery/blocklists", &json!({ "zone": zone, "of": of }).to_string()).await;
        assert_eq!(status, StatusCode::CONFLICT, "{zone}");
    }
    s.ok("POST", "/api/delivery/names/look", &Value::Null).await;
    let lists = s.ok("GET", "/api/delivery/names", &Value::Null).await["blocklists"].clone();
    assert_eq!((&lists[0]["list"]["zone"], &lists[0]["answers"]), (&json!("lists.lanternwatch.example"), &json!("as_a_list")));
    assert_eq!((&lists[1]["answers"], &lists[1]["listings"]), (&json!("not_as_a_list"), &json!([])));
    let listed = lists[0]["listings"].as_array().unwrap();
    assert_eq!((listed.len(), &listed[0]["subject"], &listed[0]["off_at"]), (1, &json!("127.0.0.2"), &Value::Null));
    let today = s.ok("GET", "/api/today", &Value::Null).await;
    assert!(
        today
            .as_array()
            .unwrap()
            .iter()
            .any(|d| d["kind"] == "listed" && d["words"].as_str().unwrap().contains("lists.lanternwatch.example"))
    );
    s.ok("DELETE", &format!("/api/delivery/blocklists/{list}"), &Value::Null).await;
    assert_eq!(s.count("SELECT count(*) FROM listing"), 0);
    let (status, _) = s.api("DELETE", &format!("/api/delivery/blocklists/{list}"), "").await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}

/// Hosts send their reports by mail, packed and attached; whatever else comes to an address of ours stays what it is.
#[tokio::test(flavor = "multi_thread")]
async fn reports_come_by_mail() {
    let s = Inside::new().await;
    let today = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() / 86_400_000;
    let xml = dmarc(&Scenario::skerry_light(), "gull.example", today - 1, 1);
    let mail = |kind: &str, body: &str| {
        format!(
            "From: noreply@gull.example\r\nTo: letters@skerry-light.example\r\nSubject: Report Domain: skerry-light.example\r\nAuto-Submitted: auto-generated\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nThis is a report.\r\n--b\r\nContent-Type: {kind}\r\nContent-Disposition: attachment; filename=r.xml\r\n\r\n{body}\r\n--b--\r\n"
        )
    };
    let reports = "SELECT count(*) FROM report_in";
    assert_eq!(s.mail("letters@skerry-light.example", &mail("text/xml", &xml)).await, StatusCode::NO_CONTENT);
    assert_eq!(s.count(reports), 1);
    assert_eq!(s.count("SELECT sum(messages) > 0 FROM dmarc_row"), 1);
    // The same again changes nothing; neither does what only looks like one, but where reports are asked for it is kept as broken.
    s.mail("reports@skerry-light.example", &mail("application/xml", &xml)).await;
    s.mail("letters@skerry-light.example", &mail("application/zip", "no archive")).await;
    s.mail("letters@skerry-light.example", &mail("text/plain", &xml)).await;
    assert_eq!(s.count(reports), 1);
    s.mail("reports@skerry-light.example", &mail("application/zip", "no archive")).await;
    assert_eq!(s.count("SELECT count(*) FROM report_in WHERE kind = 'unreadable'"), 1);
}

/// A mailing's copy goes to each mailbox of the panel once; where it landed is told by the events door, and stands in no figure.
#[tokio::test(flavor = "multi_thread")]
async fn copies_go_to_the_test_panel_and_where_they_landed_is_told() {
    let s = Inside::new().await;
    s.import("email,first name\nwren1@tern.example,Wren\n").await;
    let add = json!({ "addresses": "lamp@tern.example, buoy@tern.example\nlamp@avocet.example" });
    s.ok("POST", "/api/delivery/panel", &add).await;
    let (status, said) = s.api("POST", "/api/delivery/panel", &json!({ "addresses": "LAMP@tern.example" }).to_string()).await;
    assert!(status == StatusCode::CONFLICT && said.contains("on the panel already"), "{status} {said}");
    let (status, said) = s.api("POST", "/api/delivery/panel", &json!({ "addresses": "no address" }).to_string()).await;
    assert!(status == StatusCode::CONFLICT && said.contains("can’t be on the panel"), "{status} {said}");

    s.ok("POST", "/api/mailings", &draft(1, &["Boats on Saturday"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(3).await;
    assert_eq!(s.count("SELECT count(*) FROM panel_copy WHERE mailing_id = 1"), 3);
    assert_eq!(s.count("SELECT count(*) FROM send"), 1, "copies are no sends");
    let panel = s.ok("GET", "/api/delivery/panel", &Value::Null).await;
    assert_eq!((&panel["mailings"][0]["copies"], &panel["mailings"][0]["inbox"]["of"]), (&json!(3), &json!(0)), "{panel}");
    assert!(
        panel["mailboxes"].as_array().unwrap().iter().all(|b| b["copies"][0]["reply"].as_str().is_some_and(|r| r.len() > 3)),
        "{panel}"
    );

    let door = s.ok("POST", "/api/doors", &json!({ "name": "Who looks" })).await;
    let path = door["events_url"].as_str().unwrap();
    let path = &path[path.find("/in/").unwrap()..];
    let lines = r#"{"kind":"placement","address":"lamp@tern.example","mailing":1,"placement":"inbox"}
{"kind":"placement","address":"Buoy@tern.example","mailing":"1","placement":"junk"}
{"kind":"placement","address":"wren1@tern.example","mailing":1,"placement":"inbox"}
{"kind":"placement","address":"lamp@avocet.example","mailing":1,"placement":"lost"}"#;
    for expected in [[2, 0, 2], [0, 2, 2]] {
        let (_, told, _) = s.door("POST", path, lines).await;
        let told: Value = serde_json::from_str(&told).unwrap();
        assert_eq!(["new", "known", "refused"].map(|k| told[k].as_i64().unwrap()), expected, "{told}");
        assert!(
            told["reasons"][0]["reason"].as_str().unwrap().contains("got no copy")
                && told["reasons"][1]["reason"].as_str().unwrap().contains("inbox, junk or missing"),
            "{told}"
        );
    }
    let of = &s.ok("GET", "/api/delivery/panel", &Value::Null).await["mailings"][0];
    assert_eq!((&of["inbox"]["count"], &of["inbox"]["of"], &of["junk"]), (&json!(1), &json!(2), &json!(1)), "{of}");

    // Off the panel it gets no more; what it got stays.
    let id = s.count("SELECT id FROM panel_mailbox WHERE address = 'buoy@tern.example'");
    assert!(s.api("DELETE", &format!("/api/delivery/panel/{id}"), "").await.0.is_success());
    s.ok("POST", "/api/mailings", &draft(1, &["Boats on Sunday"])).await;
    s.ok("POST", "/api/mailings/2/plan", &json!({ "at": null })).await;
    s.advance(24).await;
    assert_eq!(s.count("SELECT count(*) FROM panel_copy WHERE mailing_id = 2"), 2);
    assert_eq!(s.count("SELECT count(*) FROM panel_copy WHERE mailing_id = 1"), 3);
}
