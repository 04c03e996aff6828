//! Findings in the browser: mailings put together, crossed, narrowed and held side by side, when people answer, and a view that is saved.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead};
use serde_json::{Value, json};

/// Chooses one of a list by its label.
async fn choose(b: &Bench, label: &str, value: &str) {
    // What can be chosen may come after the list.
    let option = format!("select[aria-label='{label}'] option[value='{value}']");
    b.page.wait().for_element(Locator::Css(&option)).await.unwrap();
    let list = b.page.find(Locator::Css(&format!("select[aria-label='{label}']"))).await.unwrap();
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

    for page in [
        "/findings?by=domain",
        "/findings/links",
        "/findings/cohorts",
        "/findings/reactions",
        "/findings/compare?mailings=1",
        "/findings/answers?kind=opens",
    ] {
        let (status, pdf) = b.rinse.http("GET", &format!("/api/findings/page.pdf?path={}", page.replace('?', "%3F")), b"");
        assert!(status == 200 && pdf.starts_with(b"%PDF-"), "{page}");
    }

    // Other figures as columns; the view is mailed each week, to whom has an address, and counts nowhere.
    b.go("/findings?columns=accepted").await;
    b.shows("1 figure as columns").await;
    b.click("1 figure as columns").await;
    b.click_css("[role='menuitemcheckbox'][aria-checked='false']").await;
    b.shows("2 figures as columns").await;
    b.press("\u{E00C}").await;
    b.go("/setup/people").await;
    b.click("Change Ines Marek").await;
    b.fill("Email address", "ines@petrel.example").await;
    b.click("Save them").await;
    b.shows("ines@petrel.example").await;
    b.accessible("people of the team").await;
    b.go("/findings?figure=replies").await;
    b.click("Save this view").await;
    b.fill("Name of the view", "Replies").await;
    b.click("Save").await;
    b.click("Mail it each week").await;
    b.click("Ines Marek").await;
    b.accessible("letters of a view").await;
    b.click("Mail it to 1 person each week").await;
    b.shows("The next letter goes").await;
    b.rinse.advance(8 * 24);
    b.page.refresh().await.unwrap();
    b.click("Mail it each week").await;
    b.shows("Ines Marek, ").await;
    b.shows(": 250").await;
    assert_eq!(b.rinse.json("GET", "/api/findings/by", &Value::Null)["total"]["sent"], json!(240), "letters count in no figure");

    // How one of them did stands on its own page; a draft of two subjects can be its trial.
    b.go("/mailings/1").await;
    b.shows("How it did").await;
    b.shows("too few mailings of its kind to have a norm").await;
    b.shows("Answers by mailbox domain").await;
    b.accessible("how a mailing did").await;
    b.sound("how a mailing did").await;
    let mut mailing = draft(1, &["Boats stay", "Boats rest"]);
    mailing["name"] = json!("Boats in winter");
    b.rinse.json("POST", "/api/mailings", &mailing);

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
    choose(&b, "Find out by a trial of", "3").await;
    b.shows("Boats in winter").await;
    b.shows("The question, in a sentence").await;
    let question = "return document.querySelector('input, textarea') && [...document.querySelectorAll('input, textarea')].map(e => e.value).join('\\n')";
    let asked = b.page.execute(question, vec![]).await.unwrap();
    assert!(asked.as_str().unwrap().contains("Which variant earns more"), "{asked}");
}
