//! Findings in the browser: mailings put together, crossed, narrowed and held side by side, when people answer, and a view that is saved.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead};
use serde_json::{Value, json};

/// Chooses one of a list by its label.
async fn choose(b: &Bench, label: &str, value: &str) {
    let list = b.page.wait().for_element(Locator::Css(&format!("select[aria-label='{label}']"))).await.unwrap();
    list.select_by_value(value).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_mailings_have_in_common_is_asked_and_kept() {
    let b = Bench::start().await;
    let rows: String = (0..120).map(|i| format!("tern{i}@{}.example\n", if i % 3 == 0 { "petrel" } else { "fulmar" })).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    for name in ["Boats go", "Boats come back"] {
        let mut mailing = draft(1, &[name]);
        mailing["name"] = json!(name);
        let id = b.rinse.json("POST", "/api/mailings", &mailing)["id"].as_i64().unwrap();
        b.rinse.json("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null }));
        rinse_testkit::wait_until("it is sent", || b.rinse.json("GET", &format!("/api/mailings/{id}"), &Value::Null)["state"] == "sent");
        b.rinse.advance(48);
    }
    b.go("/findings").await;
    b.shows("2 of 2 mailings shown").await;
    b.shows("Of 240 delivered").await;
    b.accessible("findings").await;

    // By domain, of one letterhead, crossed with the hour: what is chosen stands in the address and comes back.
    choose(&b, "By", "domain").await;
    b.shows("petrel.example").await;
    b.shows("too few mailings or days").await;
    choose(&b, "Add a filter", "letterhead").await;
    choose(&b, "Which letterhead", "1").await;
    b.shows("letterhead Skerry Light ×").await;
    choose(&b, "Crossed with", "hour").await;
    b.shows("Point at a field").await;
    b.click("Save this view").await;
    b.fill("Name of the view", "By host and hour").await;
    b.click("Save").await;
    b.shows("Forget this view").await;
    b.accessible("findings crossed").await;
    b.sound("findings crossed").await;
    let there = b.page.current_url().await.unwrap();
    b.go("/today").await;
    b.go("/findings").await;
    b.click("By host and hour").await;
    b.shows("letterhead Skerry Light ×").await;
    b.shows("Point at a field").await;
    assert_eq!(b.page.current_url().await.unwrap(), there);
    let (_, csv) = b.rinse.http("GET", "/api/findings/by.csv?by=domain&across=letterhead", b"");
    let csv = String::from_utf8(csv).unwrap();
    assert_eq!(csv.lines().count(), 3, "{csv}");

    b.go("/findings/answers?kind=clicks").await;
    b.shows("of the day").await;
    b.accessible("when people answer").await;

    b.go("/findings/compare").await;
    choose(&b, "Add a mailing", "1").await;
    b.shows("Boats go went to 120 people").await;
    choose(&b, "Add a mailing", "2").await;
    b.shows("Boats come back differs from Boats go in").await;
    b.accessible("mailings side by side").await;
    b.sound("mailings side by side").await;
}
