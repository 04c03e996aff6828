//! Many tabs at once: a browser has six connections for a host, and whatever runs, no tab is kept from its pages; what two tabs
//! do to one draft isn't lost.

use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead, people_csv, wait_until};
use serde_json::json;

/// Ten tabs open, all follow the clock by the one stream of the browser, and go on doing so when the tab that held it is closed.
#[tokio::test(flavor = "multi_thread")]
async fn ten_tabs_follow_the_same_clock() {
    let b = Bench::start().await;
    b.rinse.import(&people_csv(200));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    let mut tabs = vec![b.page.window().await.unwrap()];
    for (i, path) in [
        "/today",
        "/contacts",
        "/clearance",
        "/mailings",
        "/trials",
        "/series",
        "/findings",
        "/upkeep",
        "/contacts/import/1",
        "/contacts/1",
    ]
    .into_iter()
    .enumerate()
    {
        if i > 0 {
            tabs.push(b.page.new_window(true).await.unwrap().handle);
            b.page.switch_to_window(tabs[i].clone()).await.unwrap();
        }
        b.go(path).await;
        b.shows("demo clock").await;
        b.shows("16 Apr 2026").await;
    }
    b.click("+1 day").await;
    for tab in &tabs {
        b.page.switch_to_window(tab.clone()).await.unwrap();
        b.shows("17 Apr 2026").await;
    }
    // The first tab held the stream.
    b.page.switch_to_window(tabs[0].clone()).await.unwrap();
    b.page.close_window().await.unwrap();
    b.page.switch_to_window(tabs[9].clone()).await.unwrap();
    b.click("+1 day").await;
    for tab in tabs.iter().skip(1).rev() {
        b.page.switch_to_window(tab.clone()).await.unwrap();
        b.shows("18 Apr 2026").await;
        b.page.refresh().await.unwrap();
        b.shows("18 Apr 2026").await;
    }
    assert_eq!(
        b.page
            .execute("return performance.getEntriesByType('resource').filter(e => e.name.includes('/stream')).length <= 1", vec![])
            .await
            .unwrap(),
        json!(true)
    );
}

/// The second of two who changed the same draft is told who saved it before, and what differs; nothing of either is lost.
#[tokio::test(flavor = "multi_thread")]
async fn who_saves_an_older_draft_is_told() {
    let b = Bench::start().await;
    let head = b.rinse.json("POST", "/api/letterheads", &letterhead()).as_i64().unwrap();
    b.rinse.json("POST", "/api/mailings", &draft(head, &["Boats"]));
    b.go("/mailings/1").await;
    b.shows("Boat days").await;
    let first = b.page.window().await.unwrap();
    let second = b.page.new_window(true).await.unwrap().handle;
    b.page.switch_to_window(second).await.unwrap();
    b.go("/mailings/1").await;
    b.fill("Subject A", "Boats at low tide").await;
    b.click("Save the draft").await;
    wait_until("the first is saved", || b.rinse.json("GET", "/api/mailings/1", &serde_json::Value::Null)["version"] == 2);
    b.page.switch_to_window(first).await.unwrap();
    b.fill("Subject A", "Boats at high tide").await;
    b.click("Save the draft").await;
    b.shows("It differs from yours in: subjects").await;
    assert_eq!(b.rinse.json("GET", "/api/mailings/1", &serde_json::Value::Null)["subjects"], json!(["Boats at low tide"]));
    b.accessible("a draft that somebody else saved").await;
}

/// A door for mail: opened on the page, shown once, and gone when it is closed.
#[tokio::test(flavor = "multi_thread")]
async fn a_door_for_mail_is_opened_and_closed() {
    let b = Bench::start().await;
    b.go("/setup/systems").await;
    b.shows("Doors for mail and events").await;
    b.fill("Who will bring mail or events", "Harbour relay").await;
    b.click("Open a door").await;
    b.shows("/in/mail/").await;
    let text = b.text().await;
    let path = text.lines().find_map(|l| l.split_once("/in/mail/")).expect("the address is shown").1.trim().to_owned();
    let knock = || b.rinse.http("POST", &format!("/in/mail/{path}"), b"Subject: x\r\n\r\nhello").0;
    assert_eq!(knock(), 204);
    b.accessible("doors").await;
    b.page.refresh().await.unwrap();
    b.shows("Harbour relay").await;
    assert!(!b.text().await.contains("/in/mail/"), "it is shown once");
    b.click("Close").await;
    b.shows("No other system is told anything.").await;
    for _ in 0..100 {
        if knock() == 401 {
            return;
        }
    }
    panic!("the door is open still");
}
