//! On the demo's year: the recency guide becomes a segment, its costs move it, a figure opens; a
//! person by hand, purchases from a file, a timeline by kind.

use fantoccini::Locator;
use rinse_e2e::Bench;
use serde_json::Value;

/// A head orders the rows, the greatest first and then the least; the order is in the address, so a reload keeps it; arrows go from row to row.
async fn rows_keep_their_order(b: &Bench) {
    let people = async || -> Vec<i64> {
        let read =
            "return [...document.querySelectorAll('#sheet tbody td:nth-child(2)')].map((x) => Number(x.textContent.replaceAll(',', '')))";
        serde_json::from_value(b.page.execute(read, Vec::new()).await.unwrap()).unwrap()
    };
    let ordered = async |by: &str, mark: &str| {
        b.page.wait().for_element(Locator::Css(&format!("#sheet th:nth-child(2)[aria-sort={mark}]"))).await.unwrap();
        assert_eq!(b.page.current_url().await.unwrap().query(), Some(by));
        let found = people().await;
        assert!(found.len() > 2 && found.is_sorted_by(|x, y| if mark == "descending" { x >= y } else { x <= y }), "{found:?}");
    };
    b.click_css("#sheet th:nth-child(2) button").await;
    ordered("by=-people", "descending").await;
    b.click_css("#sheet th:nth-child(2) button").await;
    ordered("by=people", "ascending").await;
    b.page.refresh().await.unwrap();
    ordered("by=people", "ascending").await;
    let at = "return [...document.querySelectorAll('#sheet tbody tr')].indexOf(document.activeElement.closest('tr'))";
    b.page.execute("document.querySelector('#sheet tbody button.figure').focus()", Vec::new()).await.unwrap();
    b.press("\u{E015}").await;
    assert_eq!(b.page.execute(at, Vec::new()).await.unwrap(), 1, "down, to the same figure of the next row");
    b.click_css("#sheet th:nth-child(2) button").await;
    b.page.wait().for_element(Locator::Css("#sheet th:nth-child(2):not([aria-sort])")).await.unwrap();
    assert_eq!(b.page.current_url().await.unwrap().query(), None, "as it came");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_base_says_of_itself_is_used() {
    let b = Bench::demo(1_500).await;
    b.go("/contacts/recency").await;
    b.shows("Net a thousand").await;
    b.fill("A complaint", "0").await;
    b.fill("A withdrawal", "0").await;
    b.fill("A bounce", "-1").await;
    b.click("Reckon with these").await;
    b.shows("between 0 and 1,000,000").await;
    b.fill("A bounce", "0").await;
    b.click("Reckon with these").await;
    rinse_testkit::wait_until("the costs are saved", || b.rinse.json("GET", "/api/recency", &Value::Null)["costs"]["complaint"] == 0.0);
    let suggestion = b.rinse.json("GET", "/api/recency", &Value::Null)["guide"]["suggestion"].as_i64().unwrap();
    assert!(suggestion >= 56, "answers that cost nothing pay far out: {suggestion}");
    let words = if suggestion == 730 { "2 years".to_owned() } else { format!("{} weeks", suggestion / 7) };
    b.shows(&format!("answered in the last {words} pays to its outermost ring")).await;
    b.click_css("#sheet button.figure").await;
    b.shows("drawn at random from those").await;
    b.accessible("net").await;
    b.click("Write it as a segment").await;
    b.shows(&format!("opened at least 1 message in the last {suggestion} days")).await;
    b.click("Save the segment").await;
    b.shows("See the people").await;

    b.go("/contacts/sources").await;
    b.shows("none brought unusually many").await;
    b.click_css("#sheet button.figure").await;
    b.shows("of those mailed").await;
    rows_keep_their_order(&b).await;

    // A person by hand: no consent without its evidence.
    b.go("/contacts/add").await;
    b.shows("on record").await;
    b.fill("Address", "nils@bücher.example").await;
    b.fill("Given name", "Nils").await;
    b.click("This person agreed").await;
    b.click("Add this person").await;
    b.shows("consent needs its evidence").await;
    b.accessible("add").await;
    b.fill("How they agreed", "letter of 2 April").await;
    b.click("Add this person").await;
    b.shows("letter of 2 April").await;
    b.shows("nils@xn--bcher-kva.example").await;
    let id: i64 = b.page.current_url().await.unwrap().path().rsplit('/').next().unwrap().parse().unwrap();

    // What they bought comes in by file; the timeline shows each kind alone.
    let till = b.folder.join("till.csv");
    std::fs::write(&till, "key,address,at,value,currency,product\nn1,nils@bücher.example,2026-04-02,89.50,GBP,Storm lantern\nn2,nobody@tern.example,2026-04-02,1,GBP,Wick\n").unwrap();
    for (new, known) in [(1, 0), (0, 1)] {
        b.go("/contacts/import").await;
        b.shows("Take purchases in").await;
        b.page.find(Locator::Css("input[aria-label=Purchases]")).await.unwrap().send_keys(till.to_str().unwrap()).await.unwrap();
        b.shows(&format!("{new} purchase{} new, {known} there already, 1 refused", if new == 1 { "" } else { "s" })).await;
        b.shows("Line 3: nobody here has the address").await;
    }
    b.go(&format!("/contacts/{id}")).await;
    b.shows("2 of 2 shown").await;
    b.click("Purchases").await;
    b.shows("1 of 2 shown").await;
    b.shows("Storm lantern: 89.50 GBP").await;
    b.click("Messages").await;
    b.shows("Nothing of that kind yet").await;
    b.sound("timeline").await;
}
