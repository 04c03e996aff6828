//! Mailings that another system sent: its log is brought in and taken back; what it tells as it happens comes in by a door.

use fantoccini::Locator;
use rinse_e2e::Bench;
use serde_json::{Value, json};
use std::fmt::Write as _;

/// A log in German, local times, a host's lines, somebody nobody knows.
fn log() -> String {
    let mut out = "Empfänger;Kampagne;Ereignis;Zeitpunkt;Grund;Programm\n".to_owned();
    for i in 0..30 {
        writeln!(out, "wren{i}@fulmar.example;K-7;versendet;16.4.2025 20:40;;").unwrap();
        if i < 3 {
            writeln!(out, "wren{i}@fulmar.example;K-7;unzustellbar;16.4.2025 20:41;550 5.1.1 no such user;").unwrap();
        } else if i < 12 {
            writeln!(out, "wren{i}@fulmar.example;K-7;geöffnet;17.4.2025 08:{i:02};;Reader/5.1").unwrap();
        }
    }
    out.push_str("nobody@fulmar.example;K-7;versendet;16.4.2025 20:40;;\n");
    out
}

async fn pick(b: &Bench, column: &str, as_what: &str) {
    let select = b.page.find(Locator::Css(&format!("select[aria-label='Column {column} is']"))).await.unwrap();
    select.select_by_label(as_what).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_of_another_system_is_brought_in_and_taken_back() {
    let b = Bench::start().await;
    b.rinse.json("POST", "/api/letterheads", &rinse_testkit::letterhead());
    for i in 0..30 {
        b.rinse.json(
            "POST",
            "/api/contacts",
            &json!({"address": format!("wren{i}@fulmar.example"), "consent": true, "evidence": "at the desk"}),
        );
    }
    let file = b.folder.join("log.csv");
    std::fs::write(&file, log()).unwrap();
    b.go("/mailings/elsewhere").await;
    b.shows("Nothing of what another system sent is known yet.").await;
    b.accessible("sent elsewhere").await;
    b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("of events. Say what the columns are").await;
    // Local times: their zone is asked for, and without it each row says so.
    b.shows("say of which time zone").await;
    pick(&b, "Programm", "the program that fetched").await;
    b.fill("Time zone of its times", "Europe/Oslo").await;
    b.click("Look what would happen").await;
    b.shows("No table told of 1 mailing").await;
    b.click("Make mailings that no table told of").await;
    b.click("Look again").await;
    b.shows("It would bring 42 of 43 rows in").await;
    b.shows("It doesn’t say what hosts accepted").await;
    b.shows("1 row: nobody in the base has this address").await;
    b.accessible("a log").await;
    b.click("Take 42 in").await;
    b.shows("42 rows were new, 0 there already, 1 refused.").await;
    b.go("/mailings").await;
    b.shows("sent elsewhere").await;
    b.click("K-7").await;
    b.shows("Its log tells of 30 messages.").await;
    b.shows("3 of 30").await;
    // The same again changes nothing.
    b.go("/mailings/elsewhere").await;
    b.shows("Choose a file").await;
    b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("of events. Say what the columns are").await;
    b.click("Look what would happen").await;
    b.shows("It would bring 0 of 43 rows in; 42 are there already").await;
    b.click("Put this file away").await;
    // What happens now comes in by a door.
    let door = b.rinse.json("POST", "/api/doors", &json!({"name": "the other sender"}));
    let path = door["events_url"].as_str().unwrap().split_once("/in/").unwrap().1.to_owned();
    let post = |body: &str| b.rinse.http("POST", &format!("/in/{path}"), body.as_bytes());
    let lines = format!(
        "{}\n{}\nnonsense\n",
        json!({"address": "wren20@fulmar.example", "mailing": "K-7", "kind": "clicked", "at": "2025-04-17T07:00:00Z", "agent": "Reader/5.1", "link": "https://skerry-light.example/tide"}),
        json!({"address": "wren21@fulmar.example", "mailing": "K-8", "kind": "accepted", "at": "2025-05-17T07:00:00Z", "subject": "When the tide comes"}),
    );
    let (status, answer) = post(&lines);
    let answer: Value = serde_json::from_slice(answer.as_ref()).unwrap();
    assert_eq!((status, &answer["new"], &answer["refused"], &answer["reasons"][0]["line"]), (200, &json!(2), &json!(1), &json!(3)));
    let again: Value = serde_json::from_slice(post(&lines).1.as_ref()).unwrap();
    assert_eq!((&again["new"], &again["known"]), (&json!(0), &json!(2)));
    assert_eq!(b.rinse.http("POST", "/in/events/ffff", lines.as_bytes()).0, 401);
    // Taken back: what the file told goes, what the door told stays.
    b.go("/mailings/elsewhere").await;
    b.shows("When the tide comes").await;
    b.go("/mailings/elsewhere/2").await;
    b.shows("Put away: nothing of it was taken in.").await;
    b.go("/mailings/elsewhere/1").await;
    b.shows("Take back").await;
    b.click("Take back").await;
    b.shows("Who left or complained by it stays as they are").await;
    b.click("Take it back").await;
    b.shows("Taken back").await;
    b.go("/mailings/elsewhere").await;
    b.shows("When the tide comes").await;
    b.sound("sent elsewhere").await;
}
