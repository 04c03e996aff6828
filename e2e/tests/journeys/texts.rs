//! Text messages as somebody new would meet them: numbers from a file, a message written and measured, quiet hours, an answer of STOP.

use fantoccini::Locator;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_e2e::Bench;
use rinse_testkit::{letterhead, wait_until};
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn from_a_file_of_numbers_to_a_message_that_waits_for_the_morning() {
    let b = Bench::start().await;
    let mut l = letterhead();
    l["zone"] = json!("Europe/London");
    l["country"] = json!("GB");
    b.rinse.json("POST", "/api/letterheads", &l);
    // A file whose numbers are written as people write them; one is none.
    let rows: String = (0..9).map(|i| format!("wren{i}@tern.example,Wren{i},07700 90000{i}\n")).collect();
    let csv = format!("email,first name,mobile\n{rows}rook@tern.example,Rook,at home\n");
    let (_, body) = b.rinse.http("POST", "/api/imports?name=mobiles.csv", csv.as_bytes());
    let run: Value = serde_json::from_slice(&body).unwrap();
    b.go(&format!("/contacts/import/{}", run["id"])).await;
    b.shows("is no phone number").await;
    b.click("These people agreed to get marketing mail").await;
    b.click("They agreed to text messages to their numbers").await;
    b.fill("How they agreed", "Card at the members' evening").await;
    b.accessible("import with numbers").await;
    b.click("Check").await;
    b.shows("It would add 9").await;
    b.click("Add 9, change 0").await;
    b.shows("9 people were added").await;

    // Without a number of the letterhead's it can't go; with one it can.
    b.go("/mailings/new?by=text").await;
    b.shows("The letterhead has no number for text messages").await;
    l["id"] = json!(1);
    l["text_number"] = json!("60777");
    b.rinse.json("POST", "/api/letterheads", &l);
    b.go("/mailings/new?by=text").await;
    b.fill("Name", "Boats, by text").await;
    b.fill("Text message", "{{ sender_name }}: {{ given_name }}, boats at 9 – bring boots.").await;
    b.shows("in Unicode, 1 part").await;
    b.shows("1 error: it can't go yet").await;
    b.accessible("a text message with findings").await;
    for (fix, then) in [("Put it at the end", "No errors: it may go"), ("Write - for it", "in the default alphabet")] {
        b.click(fix).await;
        b.shows(then).await;
    }
    b.fill("Send a test to", "07700 900999").await;
    b.click("Send the test").await;
    b.shows("The test was handed over").await;
    b.click("Save the draft").await;
    b.shows("Boats, by text").await;

    // In the evening it is night: everybody waits for eight in the morning.
    let tonight = b.rinse.now() + 3 * 3_600_000;
    wait_until("it is a draft", || b.rinse.json("GET", "/api/mailings", &Value::Null)[0]["state"] == "draft");
    b.rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": tonight }));
    b.go("/clearance/1").await;
    b.click_css("[data-step=outside_hours]").await;
    b.shows("wren7@tern.example").await;
    b.click_css("[aria-label='Why wren7@tern.example']").await;
    b.shows("quiet 21:00 to 8:00").await;
    b.accessible("held by quiet hours").await;
    b.go("/clearance/rules").await;
    b.shows("No text message goes out from").await;
    b.accessible("quiet hours").await;
    b.rinse.advance(6);
    assert_eq!(b.rinse.json("GET", "/api/mailings/1/way", &Value::Null)[0]["held"], 9);
    b.rinse.advance(10);
    wait_until("it is out in the morning", || b.rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    b.go("/mailings/1").await;
    b.shows("How far it is").await;
    b.accessible("a text message that is out").await;
    b.go("/findings").await;
    b.shows("can't be seen").await;
    b.accessible("findings with a text message").await;

    // One of them stops everything by the page that their mail leads to, and the person's page says so.
    let db = rusqlite::Connection::open(b.folder.join("rinse.db")).unwrap();
    let key: Vec<u8> = db.query_row("SELECT key FROM signing_key", [], |r| r.get(0)).unwrap();
    let send: i64 = db.query_row("SELECT id FROM send WHERE contact_id = 8", [], |r| r.get(0)).unwrap();
    b.go(&format!("/p/{}", Signer::new(&key).link(Kind::Preferences, SendId(send), 0))).await;
    b.shows("the number that ends in").await;
    b.accessible("preferences with text messages").await;
    b.click("Stop text messages").await;
    b.shows("send START to 60777").await;
    b.go("/contacts/8").await;
    b.shows("+447700900007 text messages withdrawn").await;
    b.shows("text messages: withdrew").await;
    // Another number: the refusal stays.
    b.click("change").await;
    b.fill("Phone number", "+44 7700 900055").await;
    b.shows("A refusal stays").await;
    b.accessible("a number being changed").await;
    b.click("Save the number").await;
    b.shows("+447700900055 text messages withdrawn").await;
    b.go("/clearance/consent").await;
    b.shows("1 withdrawn").await;
    b.page.wait().for_element(Locator::XPath("//h2[starts-with(., 'Text messages')]")).await.unwrap();
    b.sound("consent with text messages").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_companion_goes_along_with_an_email() {
    let b = Bench::start().await;
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.rinse.import(&rinse_testkit::people_csv(4));
    b.rinse.json("POST", "/api/mailings", &rinse_testkit::draft(1, &["Boats go"]));
    b.go("/mailings/1").await;
    b.click("Add a text message to go along").await;
    b.shows("Goes along with an email").await;
    b.shows("Draft, text message").await;
    b.accessible("a companion").await;
    b.go("/mailings/1").await;
    b.click("Boat days, by text").await;
    b.shows("The message is empty").await;
    // A person's number by hand, with what they agreed to.
    b.go("/contacts/add").await;
    b.fill("Address", "finch@tern.example").await;
    b.fill("Phone", "+44 7700 900321").await;
    b.click("This person agreed to get text messages").await;
    b.fill("How they agreed", "Card at the desk, April").await;
    b.click("Add this person").await;
    b.shows("+447700900321 text messages consented").await;
    b.sound("a person with a number").await;
}
