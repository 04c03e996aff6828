//! An hour trial in the browser: planned over three mailings, its rounds drawn and one missed, read at its end, and used.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead};
use serde_json::{Value, json};
use std::fmt::Write;

fn people() -> String {
    let mut out = String::from("email,first name,time zone\n");
    for i in 0..720 {
        writeln!(out, "wren{i}@tern.example,Wren{i},{}", ["Europe/Paris", "America/New_York"][i % 2]).unwrap();
    }
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn an_hour_trial_from_plan_to_reading() {
    let b = Bench::start().await;
    b.rinse.import(&people());
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    let mut mailing = draft(1, &["Boats this week"]);
    mailing["name"] = json!("Boat days");
    b.rinse.json("POST", "/api/mailings", &mailing);
    b.go("/trials").await;
    b.shows("Does the hour matter here, and which?").await;
    b.click("Plan an hour trial").await;
    b.shows("Choose the mailings it rides on").await;
    b.fill("The question", "Does the hour matter for boat days?").await;
    // The mailing that comes each week is written once, and each further round is a copy of it.
    b.click("Add a round").await;
    b.shows("No further mailing is a draft or planned").await;
    b.fill("More rounds", "2").await;
    b.click("Repeat “Boat days”").await;
    b.shows("Boat days, round 3").await;
    // Three hours are enough for so few.
    for hour in ["11:00", "17:00"] {
        b.page.find(Locator::Css(&format!("button[aria-label='{hour}']"))).await.unwrap().click().await.unwrap();
    }
    b.fill("Smallest difference", "12").await;
    b.shows("3 rounds of 720 people find a difference").await;
    b.accessible("plan of an hour trial").await;
    b.sound("plan of an hour trial").await;
    b.click("Rehearse it").await;
    b.shows("No hour is better").await;
    b.click("Seal 3 rounds at 3 hours").await;
    b.shows("nothing by hour is shown before").await;
    b.shows("plan it before").await;
    let sealed = b.rinse.json("GET", "/api/hour-trials/1", &Value::Null);
    assert_eq!(sealed["trial"]["state"], json!("collecting"), "{sealed}");

    b.click("Boat days").await;
    b.shows("It is a round of an").await;
    b.shows("No errors: it may go").await;
    b.click("Plan it as the round").await;
    b.shows("Its hour trial").await;
    b.rinse.json("POST", "/api/mailings/2/plan", &json!({ "at": null }));
    // The third is left a draft: Today says so before its draw.
    b.rinse.advance(14 * 24);
    b.go("/today").await;
    b.shows("plan it before, or the round is missed").await;
    b.rinse.advance(2 * 24);
    b.go("/trials/hours/1").await;
    b.shows("720 of 720 handed over").await;
    b.shows("missed: its message wasn't planned in time").await;
    b.accessible("running hour trial").await;

    let db = rusqlite::Connection::open(b.folder.join("rinse.db")).unwrap();
    db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    db.execute_batch(
        "UPDATE send SET open_at = CASE WHEN (contact_id * 7 + mailing_id * 3) % 12 < (SELECT iif(r.hour = 8, 8, 3) FROM hour_roster r
            WHERE r.mailing_id = send.mailing_id AND r.contact_id = send.contact_id) THEN handed_at + 60000 END;
         UPDATE send SET any_open_at = open_at;",
    )
    .unwrap();
    b.rinse.advance(14 * 24);
    b.go("/trials/hours/1").await;
    b.shows("The hour matters").await;
    b.shows("08:00 is the best").await;
    b.shows("not read: nobody was drawn").await;
    b.shows("every roster is what the draw makes of it again").await;
    b.click("How it was worked out").await;
    b.shows("Strata (round × time zone)").await;
    b.accessible("reading of an hour trial").await;
    b.sound("reading of an hour trial").await;

    // What it found is used by the next mailing.
    b.go("/mailings/new").await;
    b.click("When").await;
    b.click("At the best hour").await;
    b.shows("what it gains isn’t confirmed").await;
    b.shows("Plan it for the best hour").await;
    b.accessible("a mailing at the best hour").await;
}
