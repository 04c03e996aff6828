//! A series from an outline to begin with: put into shape in the browser, started, walked through, and left by a reader.

use fantoccini::Locator;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_e2e::Bench;
use rinse_testkit::{letterhead, people_csv};

async fn pick(b: &Bench, label: &str, option: &str) {
    let css = format!("select[aria-label='{label}']");
    let select = b.page.wait().for_element(Locator::Css(&css)).await.unwrap();
    select.select_by_label(option).await.unwrap();
}

/// Writes into the field that is called so, in place of what stood there.
async fn write(b: &Bench, label: &str, text: &str) {
    let css = format!("input[aria-label='{label}']");
    let input = b.page.wait().for_element(Locator::Css(&css)).await.unwrap();
    input.click().await.unwrap();
    input.send_keys(&format!("\u{E009}a\u{E000}{text}")).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn outlined_started_walked_through_and_left() {
    let b = Bench::start().await;
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.rinse.import(&people_csv(20));
    b.go("/series").await;
    b.shows("No series runs").await;
    b.accessible("no series").await;
    b.click("Welcome").await;
    b.shows("A draft: nobody enters before it is started").await;
    b.shows("Everybody who joins New people").await;

    // Another entry, a shorter wait, a task for a person, an exit.
    b.click("Change the outline").await;
    pick(&b, "Who enters", "only who is put in, by a person or a reaction").await;
    pick(&b, "Wait: hours or days", "hours").await;
    write(&b, "Wait", "5").await;
    pick(&b, "Add a step: Steps", "do something").await;
    write(&b, "What to do", "Ring them up").await;
    b.click("Add an exit").await;
    b.accessible("outline editor").await;
    b.click("Save the outline").await;
    b.shows("Ask a person: “Ring them up”").await;
    b.shows("Buys anything").await;
    b.click("Start the series").await;
    b.shows("Running: nobody has entered yet").await;

    write(&b, "Addresses", "wren1@bittern.example, wren2@avocet.example nobody@tern.example").await;
    b.click("Put them in").await;
    b.shows("2 people of 2 entered").await;
    b.shows("Not in the base: nobody@tern.example").await;
    b.shows("2 entered, 2 are inside").await;
    b.accessible("a running series").await;
    b.sound("series").await;

    // One of them leaves it by the link of its first message, and nothing else.
    let db = rusqlite::Connection::open(b.folder.join("rinse.db")).unwrap();
    let key: Vec<u8> = db.query_row("SELECT key FROM signing_key", [], |r| r.get(0)).unwrap();
    let send: i64 = db.query_row("SELECT min(id) FROM send WHERE cause = 2 AND state = 3", [], |r| r.get(0)).unwrap();
    b.go(&format!("/u/{}", Signer::new(&key).link(Kind::Unsubscribe, SendId(send), 1))).await;
    b.shows("Leave this series?").await;
    b.accessible("leaving a series").await;
    b.click("Leave the series “Welcome”").await;
    b.shows("You have left “Welcome”. Other mail goes on.").await;

    b.rinse.advance(60 * 24);
    b.go("/series/1").await;
    b.shows("2 entered, 0 are inside, 1 came through, 1 left before the end").await;
    b.shows("left it by their own choice").await;
    b.click_css("a[href*=out-left]").await;
    b.shows("1 entry").await;
    b.accessible("people of a series").await;
    let sends: i64 =
        db.query_row("SELECT count(DISTINCT contact_id) FROM send WHERE cause = 2 AND mailing_id > 1", [], |r| r.get(0)).unwrap();
    assert_eq!(sends, 1, "who left got nothing more of it");
    b.go("/mailings/reactions").await;
    b.shows("Ring them up").await;

    // A change of the running one says first what it does.
    b.go("/series/1").await;
    b.click("Change the outline").await;
    b.click_css("ol[aria-label='Steps'] > li:nth-child(2) button:last-child").await;
    b.click("What it does to those inside").await;
    b.shows("Everybody inside stays where they are").await;
    b.click("Put it in force").await;
    b.shows("Running: 2 entered").await;
}
