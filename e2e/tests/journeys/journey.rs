//! From a contact file to a called trial, in the browser, as a new user would go.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead, people_csv};
use serde_json::{Value, json};
use std::time::Duration;

async fn view(b: &Bench, path: &str, words: &str) {
    b.go(path).await;
    b.shows(words).await;
    b.accessible(path).await;
    b.sound(path).await;
}

async fn clock_moves(b: &Bench, label: &str) {
    let before = b.rinse.json("GET", "/api/clock", &Value::Null)["now"].clone();
    b.click(label).await;
    for _ in 0..600 {
        let busy = b.page.find(Locator::Css(".clock button:disabled")).await.is_ok();
        if !busy && b.rinse.json("GET", "/api/clock", &Value::Null)["now"] != before {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the clock never arrived");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_contact_file_becomes_a_called_trial() {
    let b = Bench::start().await;
    view(&b, "/", "Nothing bounds how often somebody is written to").await;
    view(&b, "/contacts", "Nobody is here yet").await;

    // Contacts: choose, map, preview, dry run, apply.
    let file = b.folder.join("visitors.csv");
    std::fs::write(&file, people_csv(1200).replacen('\n', "\nbroken row without an address,x,y,z\n", 1)).unwrap();
    b.click("Import a file").await;
    b.shows("Choose a CSV, TSV or NDJSON file").await;
    b.accessible("import").await;
    b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("Say what the columns are").await;
    b.shows("there is no @").await;
    b.accessible("import run").await;
    b.fill("Put them on the list", "Visitors").await;
    b.click("These people agreed").await;
    b.fill("How they agreed", "Ticked box on the visitor form, 2025").await;
    b.click("Check").await;
    b.shows("It would add 1,200").await;
    b.shows("1 refused row").await;
    b.click("Add 1,200").await;
    b.shows("1,200 people were added").await;
    b.sound("import").await;

    // Clearance: a suppression line, the cap in force.
    view(&b, "/clearance/suppression", "Never mail").await;
    view(&b, "/clearance/suppression/1", "It catches").await;
    b.fill("Addresses, domains or hashes", "wren0@tern.example").await;
    b.fill("Reason", "asked by letter").await;
    b.click("Bar them").await;
    b.shows("asked by letter").await;
    b.shows("1 person").await;
    view(&b, "/clearance/rules", "not in force").await;
    b.click("not in force").await;
    b.click("Save as the next version").await;
    b.shows("Nobody gets more than 3 in 7 days").await;

    // Mailings: a letterhead, two subjects, errors before it can go.
    view(&b, "/setup/letterheads/0", "New letterhead").await;
    b.fill("Name", "Skerry Light").await;
    b.fill("Mail comes from", "Skerry Light").await;
    b.fill("From address", "letters@skerry-light.example").await;
    b.click("Save the letterhead").await;
    b.shows("Mail comes from").await;
    rinse_testkit::wait_until("the letterhead is saved", || {
        b.rinse.json("GET", "/api/letterheads", &Value::Null)[0]["from_address"] == "letters@skerry-light.example"
    });
    b.go("/mailings/new").await;
    b.shows("The letterhead has no postal address").await;
    b.accessible("editor").await;
    b.fill("Name", "Boat days").await;
    b.fill("Subject A", "Boat days are open again").await;
    b.click("Add a second subject").await;
    b.fill("Subject B", "Free tide lamp keeper boats").await;
    b.fill("HTML", "<p>Dear {{ given_name }}, <a href=\"https://skerry-light.example/boats\">book</a></p><p>{{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Stop</a></p>").await;
    b.click("Save the draft").await;
    b.shows("it can't go yet").await;
    b.go("/setup/letterheads/1").await;
    b.fill("Postal address", "1 Harbour Steps, Port Skerry").await;
    b.click("Save the letterhead").await;
    b.shows("Saved.").await;
    b.go("/mailings/1").await;
    b.shows("No errors: it may go").await;
    b.click("Who would get it").await;
    b.shows("1,199 of 1,200 people get it").await;
    b.click_css("[data-step=suppressed]").await;
    b.shows("wren0@tern.example").await;
    b.accessible("sluice").await;

    // Trials: the plan moves with the share; seal; pooled figures; the clock; the verdict.
    b.go("/mailings/1").await;
    b.shows("No errors: it may go").await;
    b.click("Plan a trial").await;
    b.shows("people per arm").await;
    b.shows("It finds a rise of").await;
    let text = b.text().await;
    b.page.find(Locator::Css("input[type=range]")).await.unwrap().send_keys("\u{E010}").await.unwrap();
    b.shows("599 people per arm").await;
    assert_ne!(text, b.text().await, "the outlook moves as the share moves");
    b.page.find(Locator::Css("input[type=range]")).await.unwrap().send_keys("\u{E011}").await.unwrap();
    b.shows("At least 30 in each are needed").await;
    b.click("Seal").await;
    b.shows("Write the question").await;
    b.fill("The question", "Does naming the tide earn more readers?").await;
    b.click("Seal").await;
    b.shows("raise the pilot share").await;
    for _ in 0..5 {
        b.page.find(Locator::Css("input[type=range]")).await.unwrap().send_keys("\u{E00E}").await.unwrap();
    }
    b.shows("305 people per arm").await;
    b.click("Rehearse it").await;
    b.shows("Nothing between the arms").await;
    b.shows("it calls the right one in").await;
    b.accessible("plan").await;
    // Under its needed size only an approver lets it go, and says why.
    b.click("Seal").await;
    b.shows("Or an approver lets it go").await;
    b.fill("Why it may go out too small", "We read it together with the last two").await;
    b.click("Seal").await;
    b.shows("Only an approver can let it go").await;
    b.page.find(Locator::Css("select.acting")).await.unwrap().select_by_value("3").await.unwrap();
    b.click("Seal").await;
    b.shows("Until then the arms stay closed").await;
    b.shows("are as they were sealed").await;
    b.click("How evenly the arms were filled").await;
    b.shows("tern.example").await;
    b.accessible("collecting").await;
    assert!(!b.text().await.contains("Rate, 95%"), "arms are closed before the end");
    clock_moves(&b, "+1 day").await;
    b.shows("Until then the arms stay closed").await;
    clock_moves(&b, "+1 day").await;
    b.page.wait().at_most(Duration::from_secs(20)).for_element(Locator::Css("[data-testid=verdict]")).await.unwrap();
    b.shows("Rate, 95% interval").await;
    b.shows("Chance to be best").await;
    b.shows("B less A").await;
    b.shows("Oskar Bray let it go under its needed size").await;
    b.shows("How the answers came in").await;
    b.accessible("verdict").await;
    b.sound("verdict").await;
    b.click_css("#sheet button.figure").await;
    b.shows("Interval (Newcombe)").await;
    b.click("Release it now").await;
    b.shows("The rollout went out").await;
    clock_moves(&b, "+6 h").await;

    // Findings and upkeep: every figure opens; a dead address says why it was retired.
    view(&b, "/findings", "whose opens can be known").await;
    let figures = b.rinse.json("GET", "/api/findings", &Value::Null);
    assert_eq!(figures["mailings"][0]["sent"], 1199, "pilot and rollout together reach everyone cleared");
    b.click("Counts").await;
    b.shows("1 of 1 mailing shown").await;
    b.click_css("#sheet button.figure").await;
    b.shows("Rows as CSV").await;
    b.accessible("working").await;
    view(&b, "/upkeep", "60 addresses are not mailed: 60 retired").await;
    b.click("Retired").await;
    b.shows("60 addresses are retired").await;
    b.click("gone.wren").await;
    b.shows("nothing was ever delivered to it").await;
    b.accessible("person").await;
    b.sound("person").await;
    for (path, words) in [
        ("/trials", "1 trial"),
        ("/clearance/consent", "allow marketing mail"),
        ("/mailings", "Drafts"),
        ("/mailings/1", "What was sent can't change"),
    ] {
        view(&b, path, words).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failing_import_says_what_to_do() {
    let b = Bench::start().await;
    for (name, bytes, words) in [
        ("picture.csv", &b"\x89PNG\r\n\x1a\n\0\0\0\x0d"[..], "Save it as CSV"),
        ("empty.csv", b"", "The file is empty"),
        ("towns.csv", b"name,town\nWren,Port Skerry\n", "No column holds mail addresses"),
    ] {
        let file = b.folder.join(name);
        std::fs::write(&file, bytes).unwrap();
        b.go("/contacts/import").await;
        b.shows("Choose a file").await;
        b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
        b.shows(words).await;
    }
    b.accessible("refused import").await;
    assert_eq!(b.rinse.json("GET", "/api/imports", &Value::Null), json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_main_path_by_keyboard_alone() {
    let b = Bench::start().await;
    b.rinse.import(&people_csv(600));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.rinse.json("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"]));
    b.go("/").await;
    b.shows("for a decision").await;
    b.press("?").await;
    b.shows("Close the working").await;
    b.press("\u{E00C}").await;
    b.press("4").await;
    b.shows("not out yet").await;
    b.tab_to("Boat days").await;
    b.press("\u{E007}").await;
    b.shows("No errors: it may go").await;
    b.tab_to("Plan a trial").await;
    b.press("\u{E007}").await;
    b.shows("people per arm").await;
    b.tab_to("Acting person").await;
    b.press("Oskar").await;
    b.tab_to("The question").await;
    b.press("Do boats at low tide earn more readers?").await;
    b.tab_to("Why it may go out too small").await;
    b.press("We read it together with the last two").await;
    b.tab_to("Seal").await;
    b.press("\u{E007}").await;
    b.shows("Until then the arms stay closed").await;
    for _ in 0..2 {
        let before = b.rinse.json("GET", "/api/clock", &Value::Null)["now"].clone();
        b.tab_to("+1 day").await;
        b.press("\u{E007}").await;
        rinse_testkit::wait_until("the clock arrives", || {
            b.rinse.json("GET", "/api/clock", &Value::Null)["now"].as_i64() >= before.as_i64().map(|n| n + 86_400_000)
        });
        b.page.wait().at_most(Duration::from_secs(20)).for_element(Locator::Css(".clock button:enabled")).await.unwrap();
    }
    b.shows("Rate, 95% interval").await;
    b.tab_to("Release it now").await;
    b.press("\u{E007}").await;
    b.shows("The rollout went out").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_base_says_what_it_needs() {
    let b = Bench::start().await;
    b.go("/today").await;
    b.shows("5 steps to the first mailing").await;
    b.shows("Nobody is in the base yet").await;
    b.accessible("first steps").await;
    b.sound("first steps").await;
    b.click("Import a file").await;
    b.shows("Choose a file").await;
    b.rinse.import("email\nwren@tern.example\n");
    b.rinse.json("POST", "/api/letterheads", &rinse_testkit::letterhead());
    b.go("/today").await;
    b.shows("1 person in the base").await;
    b.shows("3 steps to the first mailing").await;
    let test =
        json!({ "draft": rinse_testkit::draft(1, &["Boats"]), "arm": 0, "contact": null, "to": "desk@tern.example", "mailing": null });
    b.rinse.json("POST", "/api/message-test", &test);
    b.go("/today").await;
    b.shows("2 steps to the first mailing").await;
    // Once a mailing has gone they are behind.
    let id = b.rinse.json("POST", "/api/mailings", &rinse_testkit::draft(1, &["Boats"]))["id"].as_i64().unwrap();
    b.rinse.json("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null }));
    rinse_testkit::wait_until("it went", || b.rinse.json("GET", "/api/first-steps", &serde_json::Value::Null) == json!([]));
    b.go("/today").await;
    b.shows("for a decision").await;
    assert!(!b.text().await.contains("to the first mailing"));
}
