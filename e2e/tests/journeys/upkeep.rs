//! Upkeep in the browser: a host that fails and what a person makes of it, a policy that leaves retiring to runs, a run that is read, applied
//! and undone.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead};
use serde_json::{Value, json};

/// Sends a mailing to everybody, and waits until it is out.
fn send(b: &Bench, name: &str) {
    let mut mailing = draft(1, &[name]);
    mailing["name"] = json!(name);
    let id = b.rinse.json("POST", "/api/mailings", &mailing)["id"].as_i64().unwrap();
    b.rinse.json("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null }));
    rinse_testkit::wait_until("it is sent", || b.rinse.json("GET", &format!("/api/mailings/{id}"), &Value::Null)["state"] == "sent");
}

fn base(b: &Bench, part: &str) -> i64 {
    b.rinse.json("GET", "/api/upkeep", &Value::Null)["base"][part].as_i64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_incident_is_decided_and_a_run_is_read_applied_and_undone() {
    let b = Bench::start().await;
    let rows: String = (0..100).map(|i| format!("{}wren{i}@tern.example\n", if i < 40 { "gone." } else { "" })).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    send(&b, "First boats");

    // Far more failed than usual: Today says it first, and nothing counts yet.
    b.go("/today").await;
    b.shows("Failures at tern.example").await;
    b.click("Look and decide").await;
    b.shows("40 of 100 messages to tern.example failed").await;
    b.shows("no such user here").await;
    b.accessible("incident").await;
    b.sound("incident").await;
    assert_eq!((base(&b, "active"), base(&b, "retired")), (100, 0));
    b.click("Count them").await;
    b.shows("40 addresses are not mailed: 40 retired").await;
    b.go("/upkeep/incidents").await;
    b.shows("Counted.").await;
    b.click("Take the decision back").await;
    b.shows("An incident waits for you").await;
    assert_eq!(base(&b, "retired"), 0, "it is as it was");
    b.fill("Why", "a relay was broken").await;
    b.click("They don’t count").await;
    b.shows("Not counted.").await;
    b.shows("a relay was broken").await;

    // From now on runs retire, and a person reads them.
    b.go("/upkeep/policy").await;
    b.shows("As Rinse comes").await;
    b.accessible("policy").await;
    let who = b.page.find(Locator::Css("#sheet select")).await.unwrap();
    who.select_by_value("in_runs").await.unwrap();
    b.fill("Why it changes", "We want to read first").await;
    b.click("See whom it changes").await;
    b.shows("status would change by it").await;
    b.click("Bring it into force").await;
    b.shows("Undo the run").await;
    b.go("/upkeep/policy").await;
    b.shows("We want to read first").await;
    b.shows("version 2").await;

    // The same addresses fail again, and this time it is them.
    send(&b, "Second boats");
    b.go("/upkeep").await;
    b.shows("An incident waits for you").await;
    b.click("Count them").await;
    b.shows("40 addresses are due for cleaning").await;
    b.click("Propose a run of 40").await;
    b.shows("40 addresses would be retired").await;
    b.shows("nothing was ever delivered to it").await;
    b.accessible("proposed run").await;
    b.sound("proposed run").await;
    b.click("Take out").await;
    b.shows("Put on again").await;
    // Opened again, it is as it was left.
    b.page.refresh().await.unwrap();
    b.shows("Put on again").await;
    b.click("Apply to 39").await;
    b.shows("39 addresses were retired").await;
    assert_eq!((base(&b, "retired"), base(&b, "observed"), base(&b, "resting")), (39, 1, 0));
    // One of them, then all of them.
    b.click("Undo for gone.wren1@").await;
    b.shows("put back").await;
    rinse_testkit::wait_until("one is put back", || base(&b, "retired") == 38);
    b.click("Undo the run").await;
    b.shows("the run was undone").await;
    assert_eq!((base(&b, "retired"), base(&b, "resting")), (0, 39));
    b.go("/upkeep/runs").await;
    b.shows("undone").await;
    b.go("/upkeep/addresses?status=resting").await;
    b.shows("39 addresses are resting").await;
    b.shows("a run decides").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_follows_links_is_found_tried_on_the_past_and_listed() {
    let b = Bench::start().await;
    // Some companies there have gateways that follow a link of each message from one network, a minute later.
    let rows: String = (0..500).map(|i| format!("wren{i}@petrel.example\n")).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    send(&b, "First boats");
    b.rinse.advance(24);
    let clicks = || {
        let page = b.rinse.json("GET", "/api/upkeep/machine-rules", &Value::Null);
        page["figures"]["human_clicks"]["count"].as_i64().unwrap()
    };
    let before = clicks();

    b.go("/upkeep/machines").await;
    b.shows("As Rinse comes").await;
    b.shows("198.51.100.0/24").await;
    b.accessible("machine rules").await;
    b.sound("machine rules").await;
    b.click("List it, 198.51.100.0/24").await;
    b.shows("listed above").await;
    b.click("Try them on the past").await;
    b.shows("more clicks").await;
    b.shows("a proxy’s or scanner’s network").await;
    b.sound("rules tried").await;
    assert_eq!(clicks(), before, "trying changes nothing");
    b.fill("Why they change", "A gateway at petrel").await;
    b.click("Put them in force").await;
    b.shows("version 2").await;
    b.shows("A gateway at petrel").await;
    rinse_testkit::wait_until("what is stored is judged again", || clicks() < before);
    b.shows("clicks out").await;
    // Going back brings them back.
    b.click("Take it up, version 1").await;
    b.click("Try them on the past").await;
    b.shows("and bring back").await;
    b.fill("Why they change", "It was nobody’s").await;
    b.click("Put them in force").await;
    b.shows("version 3").await;
    rinse_testkit::wait_until("it is as it was", || clicks() == before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_is_read_otherwise_tried_first_and_taken_back() {
    let b = Bench::start().await;
    let rows: String = (0..60).map(|i| format!("{}wren{i}@tern.example\n", if i < 10 { "gone." } else { "" })).collect();
    b.rinse.import(&format!("email\n{rows}"));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    send(&b, "First boats");
    rinse_testkit::wait_until("they are retired", || base(&b, "retired") == 10);

    b.go("/upkeep/reasons").await;
    b.shows("10 messages failed").await;
    b.click("read it otherwise").await;
    let pick = b.page.wait().for_element(Locator::Css("[aria-label='Read it as']")).await.unwrap();
    pick.select_by_value("policy").await.unwrap();
    b.shows("10 messages to 10 people failed with it").await;
    b.shows("10 would go from retired to active").await;
    assert_eq!(base(&b, "retired"), 10, "a try changes nothing");
    b.fill("Why", "their host says it of everybody in winter").await;
    b.accessible("a line read otherwise").await;
    b.click("Read it so, and what failed before").await;
    b.shows("Read otherwise by a person").await;
    b.shows("none for the address or its host, 10 because of us").await;
    assert_eq!((base(&b, "retired"), base(&b, "active")), (0, 60));
    b.page.refresh().await.unwrap();
    b.click("by the rules again").await;
    b.shows("10 for the address or its host, none because of us").await;
    assert_eq!(base(&b, "retired"), 10);
    b.sound("a line read by the rules again").await;
}
