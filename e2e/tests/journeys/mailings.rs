//! A mailing from nothing to sent, as somebody new would write it; and one that is paused on its way.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead, people_csv, wait_until};
use serde_json::{Value, json};

/// A base of 200 people under one letterhead, by the API.
async fn base(b: &Bench) {
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.rinse.import(&people_csv(200));
}

#[tokio::test(flavor = "multi_thread")]
async fn written_checked_tried_scheduled_and_sent() {
    let b = Bench::start().await;
    base(&b).await;
    b.go("/mailings/new").await;
    b.shows("There is no preheader").await;
    b.fill("Name", "Boat days").await;
    b.fill("Subject A", "Boat days are open again").await;
    b.fill("Preheader", "Five places are left on Saturday").await;
    b.fill("HTML", "<p>Dear {{ given_nam }}, <a href=\"skerry-light.example/boats\">book a boat</a></p>").await;
    // Each finding offers its fix; pressing them makes the message whole.
    b.shows("There is no placeholder").await;
    b.accessible("editor with findings").await;
    // The list is whole again before the next is pressed: it moves as findings go.
    for (fix, then) in [
        ("Write given_name", "3 errors: it can't go yet"),
        ("Put https:// before it", "2 errors: it can't go yet"),
        ("Put it at the end", "1 error: it can't go yet"),
        ("Put it at the end", "No errors: it may go"),
    ] {
        b.click(fix).await;
        b.shows(then).await;
    }
    b.click("narrow").await;
    b.click_css("[aria-label='Shown how'] button:last-child").await;
    b.shows("book a boat: https://skerry-light.example/boats").await;
    b.fill("Send a test to", "ines@tern.example").await;
    b.click("Send the test").await;
    b.shows("The test was handed over").await;
    // It says to how many before it goes at once; asking saves the draft, the same one that is planned below.
    b.click("Send to everyone cleared").await;
    b.shows("It goes to 200 people of 200 now").await;
    b.accessible("asked before it goes").await;
    b.click("Not yet").await;
    b.click("Audience").await;
    b.shows("It is meant for 200 people").await;
    b.accessible("audience").await;
    b.click("When").await;
    b.click("At everyone's own hour").await;
    b.shows("For whom that hour has passed").await;
    b.accessible("when").await;
    b.click("Plan it for everyone's own hour").await;
    b.shows("It goes out").await;
    let m = b.rinse.json("GET", "/api/mailings/1", &Value::Null);
    assert_eq!((&m["state"], &m["schedule"]["local"]["minute"]), (&json!("planned"), &json!(540)));
    b.go("/mailings/calendar").await;
    b.shows("1 sending").await;
    b.accessible("calendar").await;
    b.rinse.advance(72);
    wait_until("it is out", || b.rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    b.go("/mailings/1").await;
    b.shows("Links, by the place they stand in").await;
    b.click("Draw the counts on the message").await;
    b.page.wait().for_element(Locator::Css("iframe[src$='/drawn']")).await.unwrap();
    b.accessible("a mailing that is out").await;
    b.sound("mailing").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn paused_on_its_way_and_gone_on_with() {
    let b = Bench::start().await;
    base(&b).await;
    let mut d = draft(1, &["Boats"]);
    d["schedule"] = json!({ "spread_minutes": 600 });
    b.rinse.json("POST", "/api/mailings", &d);
    b.rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": null }));
    let accepted = || b.rinse.json("GET", "/api/mailings/1/way", &Value::Null)[0]["accepted"].as_i64().unwrap();
    b.rinse.advance(3);
    b.go("/mailings/1").await;
    b.shows("are to come").await;
    b.click("Pause it").await;
    b.shows("nothing more is handed over").await;
    let before = accepted();
    b.rinse.advance(12);
    assert_eq!(accepted(), before);
    b.accessible("paused").await;
    b.click("Go on with it").await;
    b.shows("are to come").await;
    b.click("Cancel the rest").await;
    b.shows("that can't be undone").await;
    b.click("Leave it as it is").await;
    b.rinse.advance(12);
    wait_until("it is whole", || b.rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reaction_is_made_tried_and_seen_to_act() {
    let b = Bench::start().await;
    base(&b).await;
    let choose = async |label: &str, option: &str| {
        let css = format!("select[aria-label='{label}']");
        b.page.wait().for_element(Locator::Css(&css)).await.unwrap().select_by_label(option).await.unwrap();
    };
    let write = async |label: &str, text: &str| {
        let css = format!("input[aria-label='{label}']");
        let field = b.page.wait().for_element(Locator::Css(&css)).await.unwrap();
        field.send_keys("\u{E009}a\u{E000}").await.unwrap();
        field.send_keys(text).await.unwrap();
    };
    // A score and another system first, so that the reaction has something to do.
    b.go("/mailings/scores").await;
    b.shows("There is no score yet").await;
    b.fill("Name", "Interest").await;
    b.click("Make the score").await;
    b.shows("half of it is left after 90 days").await;
    b.go("/setup/systems").await;
    b.fill("Name", "Records").await;
    b.fill("Address", "https://records.example/in").await;
    b.click("Tell this system").await;
    b.shows("Rinse asks no outside host. Give an address on this machine").await;
    b.fill("Address", "/standin/records").await;
    b.click("Tell this system").await;
    b.shows("1 system is told").await;
    b.click("Send a test").await;
    b.shows("What was told").await;
    b.accessible("other systems").await;

    let mailing = b.rinse.json("POST", "/api/mailings", &draft(1, &["Boats"]))["id"].as_i64().unwrap();
    b.go(&format!("/mailings/{mailing}")).await;
    b.click("Add a reaction to this mailing").await;
    choose("What happens", "hasn’t clicked in time").await;
    write("Hours", "6").await;
    choose("Add what follows", "points on the score").await;
    write("Points", "-2").await;
    choose("Add what follows", "tell the system").await;
    choose("Add what follows", "ask a person to").await;
    write("What to do", "Ring them").await;
    b.accessible("a reaction in the making").await;
    b.click("Try it on the past year").await;
    b.shows("there is nothing to rank").await;
    b.click("Switch it on").await;
    b.shows("hasn’t clicked any link 6 hours after it came: −2 on Interest, tell Records, ask a person: “Ring them”").await;

    b.rinse.json("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null }));
    b.rinse.advance(8);
    b.go("/today").await;
    b.click("Open the tasks").await;
    b.shows("Ring them").await;
    b.click("It is done").await;
    b.shows("done").await;
    b.click("When somebody hasn’t clicked").await;
    b.shows("It has acted").await;
    b.shows("Boat days").await;
    b.accessible("whom it concerned").await;
    b.click_css("tbody a").await;
    b.shows("Interest: −2.0").await;
    b.sound("a reaction").await;
}
