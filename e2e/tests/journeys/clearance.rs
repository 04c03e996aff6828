//! Caps switched on: who is held, and when they get it. A recipient who leaves one topic by the link of
//! a real message gets the rest. Rules that show what they would do, and can be gone back on.

use fantoccini::Locator;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_e2e::Bench;
use serde_json::{Value, json};

/// Sixty people, a letterhead, two topics; the first boats are sent to everyone.
async fn bench() -> Bench {
    let b = Bench::start().await;
    let rows: String = (0..60).map(|i| format!("wren{i}@tern.example\n")).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &rinse_testkit::letterhead());
    b.go("/clearance/consent").await;
    for topic in ["Boat days", "Tide notes"] {
        b.fill("A new topic", topic).await;
        b.click("Make it").await;
        b.shows(topic).await;
    }
    mailing(&b, "First boats", 1, &Value::Null);
    rinse_testkit::wait_until("everyone has the first boats", || {
        b.rinse.json("GET", "/api/findings", &Value::Null).to_string().contains("\"sent\":60")
            || b.rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent"
    });
    b
}

fn mailing(b: &Bench, name: &str, topic: i64, at: &Value) -> i64 {
    let mut draft = rinse_testkit::draft(1, &["Boats"]);
    draft["name"] = json!(name);
    draft["topic_id"] = json!(topic);
    let made = b.rinse.json("POST", "/api/mailings", &draft);
    let id = made["id"].as_i64().unwrap();
    b.rinse.json("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": at }));
    id
}

#[tokio::test(flavor = "multi_thread")]
async fn caps_switched_on_hold_people_and_say_when_they_get_it() {
    let b = bench().await;
    let second = mailing(&b, "Second boats", 1, &json!(b.rinse.now() + 3 * 3_600_000));
    b.go("/clearance/rules").await;
    b.shows("not in force").await;
    // One in two days, from the one that is written down; what it would do shows before it is saved.
    for (field, value) in [("Messages at most", "1"), ("How many", "2")] {
        let input = b.page.wait().for_element(Locator::Css(&format!("input[aria-label='{field}']"))).await.unwrap();
        input.click().await.unwrap();
        input.send_keys(&format!("\u{E009}a\u{E000}{value}")).await.unwrap();
    }
    b.click("not in force").await;
    b.fill("Why", "Too many letters").await;
    b.click("What it would do").await;
    b.shows("60 people later than planned").await;
    b.accessible("rules with their effect").await;
    b.click("Save as the next version").await;
    b.shows("Nobody gets more than 1 in 2 days").await;

    b.go(&format!("/clearance/{second}")).await;
    b.shows("Caps in force: 1 in 2 days").await;
    b.shows("60 more get it by").await;
    b.click_css("[data-step=held_by_cap]").await;
    b.shows("wren7@tern.example").await;
    b.click_css("[aria-label='Why wren7@tern.example']").await;
    b.shows("held until").await;
    b.shows("1 of 1 in 2 days").await;
    b.sound("why").await;
    b.go("/clearance/forecast").await;
    b.shows("60 of them later than planned").await;
    b.sound("forecast").await;

    // They get it, and not before.
    b.rinse.advance(40);
    let accepted = || b.rinse.json("GET", "/api/contacts/8/decisions", &Value::Null);
    let held_until = accepted().as_array().unwrap().iter().find(|d| d["outcome"] == "held").map(|d| d["until"].as_i64().unwrap());
    assert!(held_until.is_none() || held_until.unwrap() > b.rinse.now(), "still held");
    b.rinse.advance(12);
    rinse_testkit::wait_until("the held ones have it", || {
        accepted().as_array().unwrap().iter().any(|d| d["mailing_id"] == second && d["outcome"] == "cleared")
    });

    // Back to the first version: its rules are shown, and saved as the next.
    b.go("/clearance/rules").await;
    b.shows("Too many letters").await;
    b.click("Look at it").await;
    b.shows("These are the rules of version 1").await;
    b.click("Save as the next version").await;
    b.shows("Rules version 3").await;
    b.shows("hold nobody").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn leaving_one_topic_from_a_message_leaves_the_rest() {
    let b = bench().await;
    let db = rusqlite::Connection::open(b.folder.join("rinse.db")).unwrap();
    let key: Vec<u8> = db.query_row("SELECT key FROM signing_key", [], |r| r.get(0)).unwrap();
    let send: i64 = db.query_row("SELECT id FROM send WHERE contact_id = 8", [], |r| r.get(0)).unwrap();
    let link = Signer::new(&key).link(Kind::Unsubscribe, SendId(send), 0);
    b.page.set_window_size(420, 760).await.unwrap();
    b.go(&format!("/u/{link}")).await;
    b.shows("Stop getting mail?").await;
    b.accessible("unsubscribe").await;
    b.click("Choose what you get instead").await;
    b.shows("What you get from us").await;
    b.accessible("preferences").await;
    b.sound("preferences on a phone").await;
    b.click("Boat days").await;
    b.click("Save").await;
    b.shows("It holds from this moment").await;
    let tides = mailing(&b, "Tides", 2, &Value::Null);
    let boats = mailing(&b, "More boats", 1, &Value::Null);
    let got = |m: i64| {
        db.query_row("SELECT count(*) FROM send WHERE contact_id = 8 AND mailing_id = ?1 AND state = 3", [m], |r| r.get::<_, i64>(0))
            .unwrap()
    };
    rinse_testkit::wait_until("both are sent", || {
        [tides, boats].iter().all(|m| b.rinse.json("GET", &format!("/api/mailings/{m}"), &Value::Null)["state"] == "sent")
    });
    assert_eq!((got(tides), got(boats)), (1, 0));
    // A break, and stopping everything with its way back, on the same page.
    b.click("30 days").await;
    b.click("Save").await;
    b.shows("You asked for a break until").await;
    b.click("Stop everything").await;
    b.shows("You get no mail from us").await;
    b.click("Get mail again").await;
    // The page's words were there before: what it did is waited for.
    rinse_testkit::wait_until("they get mail again, by their own act", || {
        db.query_row("SELECT consent FROM contact WHERE id = 8", [], |r| r.get::<_, i64>(0)).unwrap() == 3
    });
}

#[tokio::test(flavor = "multi_thread")]
async fn another_sender_is_told_who_may_be_written_to() {
    let b = bench().await;
    b.rinse.json("POST", "/api/suppression/1/lines", &json!({ "lines": "wren0@tern.example", "reason": "asked at the desk" }));
    let file = b.folder.join("their-list.csv");
    std::fs::write(&file, "Nr;Kontakt\n1;wren0@tern.example\n2;wren1@tern.example\n3;nobody@gull.example\n4;no address\n").unwrap();
    b.go("/clearance/elsewhere").await;
    b.shows("Choose a file").await;
    b.page.find(Locator::Css("input[aria-label='File of addresses']")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("1 of 4 addresses may be written to now, 2 mustn’t be, 1 is no address").await;
    b.shows("not in the base: no consent is on record").await;
    b.accessible("sent by another system").await;
    b.sound("sent by another system").await;
    let (status, list) = b.rinse.http("GET", "/api/do-not-write.csv", b"");
    let list = String::from_utf8(list).unwrap();
    assert!(status == 200 && list.contains("wren0@tern.example,Suppressed"), "{list}");
}
