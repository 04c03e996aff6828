//! Delivery in the browser: a host that blocks is noticed, paused by itself, explained and let go on; a domain is said to be of another group;
//! what DNS says of the sender, and what to publish.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead};
use serde_json::{Value, json};

fn plan(b: &Bench, name: &str) -> i64 {
    let mut mailing = draft(1, &[name]);
    mailing["name"] = json!(name);
    let id = b.rinse.json("POST", "/api/mailings", &mailing)["id"].as_i64().unwrap();
    b.rinse.json("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null }));
    id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_block_is_noticed_paused_explained_and_let_go_on() {
    let b = Bench::start().await;
    let rows: String = (0..140).map(|i| format!("{}wren{i}@tern.example\n", if i < 70 { "blocked." } else { "" })).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    let first = plan(&b, "First boats");
    rinse_testkit::wait_until("it is sent", || b.rinse.json("GET", &format!("/api/mailings/{first}"), &Value::Null)["state"] == "sent");
    // Nobody lost their place by it.
    assert_eq!(b.rinse.json("GET", "/api/upkeep", &Value::Null)["base"]["active"], 140);
    // The next one waits.
    let second = plan(&b, "Second boats");
    rinse_testkit::wait_until("it is on its way", || {
        b.rinse.json("GET", "/api/delivery", &Value::Null)["groups"][0]["pause"]["waiting"].as_i64().is_some_and(|n| n > 0)
    });

    b.go("/today").await;
    b.shows("tern.example: less is let in").await;
    b.click("Look at it").await;
    b.shows("everywhere but at").await;
    b.shows("it paused itself until").await;
    b.shows("blocked: reputation of the sender").await;
    b.shows("140 messages wait").await;
    b.accessible("delivery").await;
    b.sound("delivery").await;
    b.click("Let it go on now").await;
    rinse_testkit::wait_until("what waited goes", || {
        b.rinse.json("GET", &format!("/api/mailings/{second}"), &Value::Null)["state"] != "planned"
            && b.rinse.json("GET", "/api/delivery", &Value::Null)["groups"][0]["pause"] == Value::Null
    });
    b.shows("held back to").await;
    b.fill("Why it is over", "their postmaster let us in again").await;
    b.click("End it").await;
    rinse_testkit::wait_until("it is over", || b.rinse.json("GET", "/api/delivery", &Value::Null)["alerts"] == json!([]));

    b.go("/delivery/alerts").await;
    b.shows("by Ines Marek: their postmaster let us in again").await;
    b.accessible("alerts").await;
    b.sound("alerts").await;
    let hours = b.page.find(Locator::Css("[aria-label='Hours of pause']")).await.unwrap();
    hours.clear().await.unwrap();
    hours.send_keys("12").await.unwrap();
    b.click("Keep").await;
    b.shows("Kept.").await;
    assert_eq!(b.rinse.json("GET", "/api/delivery/pause-rule", &Value::Null)["hours"], 12);

    b.go("/delivery/groups").await;
    b.shows("is taken by").await;
    b.click("change").await;
    b.fill("Group of tern.example", "bigpost.example").await;
    b.click("Keep").await;
    b.shows("by a person").await;
    b.accessible("groups").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sender_is_looked_at_in_dns() {
    let b = Bench::start().await;
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.go("/delivery/authentication").await;
    b.shows("DNS wasn’t looked at yet").await;
    b.fill("Addresses our mail goes out from", "192.0.2.99").await;
    b.click("Keep").await;
    b.shows("Kept.").await;
    b.click("Look again").await;
    b.shows("no signing key").await;
    b.shows("doesn’t let 192.0.2.99 send").await;
    b.shows("v=spf1 ip4:192.0.2.99 -all").await;
    b.accessible("authentication").await;
    b.sound("authentication").await;

    b.go("/delivery/blocklists").await;
    b.shows("No list is asked").await;
    b.fill("A list, as it is asked", "lists.lanternwatch.example").await;
    b.click("Ask it").await;
    b.shows("not asked yet").await;
    b.click("Look again").await;
    b.shows("answers as a list does").await;
    b.accessible("blocklists").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_name_is_warmed_up() {
    let b = Bench::start().await;
    let rows: String = (0..60).map(|i| format!("wren{i}@tern.example\n")).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.go("/delivery/warm-up").await;
    b.shows("No name is being warmed up").await;
    b.shows("none yet").await;
    let first = b.page.find(Locator::Css("[aria-label='Messages on the first day']")).await.unwrap();
    first.clear().await.unwrap();
    first.send_keys("20").await.unwrap();
    b.click("Begin").await;
    b.shows("today 1 group gets 20 messages at most, 0 have gone; nobody waits.").await;
    b.accessible("warm-up").await;
    b.sound("warm-up").await;

    // The mailing says before it goes that it takes days; 20 go, and the others wait for theirs.
    let id = b.rinse.json("POST", "/api/mailings", &draft(1, &["Boats"]))["id"].as_i64().unwrap();
    let hosts = b.rinse.json("GET", &format!("/api/mailings/{id}/hosts"), &Value::Null);
    assert_eq!(hosts["groups"][0]["warm_up"]["at_once"], 20);
    b.rinse.json("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null }));
    let gone = || b.rinse.json("GET", "/api/delivery/warm-ups", &Value::Null)["warm_ups"][0]["groups"][0]["today"]["accepted"].clone();
    rinse_testkit::wait_until("the first went", || gone() == 20);
    b.go("/delivery/warm-up").await;
    b.shows("20 have gone; 40 people wait").await;

    b.fill("End it now, because", "hosts know this name by now").await;
    b.click("End the warm-up").await;
    b.shows("hosts know this name by now").await;
    b.shows("No name is being warmed up").await;
}
