//! Many tabs at once: a browser has six connections for a host, and whatever runs, no tab is kept from its pages.

use rinse_e2e::Bench;
use rinse_testkit::{letterhead, people_csv};
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

/// A door for mail: opened on the page, shown once, and gone when it is closed.
#[tokio::test(flavor = "multi_thread")]
async fn a_door_for_mail_is_opened_and_closed() {
    let b = Bench::start().await;
    b.go("/mailings/webhooks").await;
    b.shows("Doors for mail").await;
    b.fill("Who will bring mail", "Harbour relay").await;
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
