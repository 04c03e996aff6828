//! Trials in the browser: one on revenue with people who get no mail ends without a call, one in a series is called, one that was
//! broken is void.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead, people_csv};
use serde_json::{Value, json};

async fn moves(b: &Bench) {
    let now = || b.rinse.json("GET", "/api/clock", &Value::Null)["now"].as_i64();
    let before = now();
    b.click("+1 day").await;
    rinse_testkit::wait_until("the clock arrives", || now() >= before.map(|n| n + 86_400_000));
    b.page.wait().for_element(Locator::Css(".clock button:enabled")).await.unwrap();
}

async fn base() -> Bench {
    let b = Bench::start().await;
    b.rinse.import(&people_csv(1_200));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    b.rinse.json("POST", "/api/mailings", &draft(1, &["Lanterns", "Lanterns by lamplight"]));
    b
}

fn open(b: &Bench) -> rusqlite::Connection {
    let db = rusqlite::Connection::open(b.folder.join("rinse.db")).unwrap();
    db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    db
}

async fn pick(b: &Bench, label: &str, option: &str) {
    let css = format!("select[aria-label='{label}']");
    b.page.wait().for_element(Locator::Css(&css)).await.unwrap().select_by_label(option).await.unwrap();
}

/// Opens a field's list and takes an option.
async fn choose(b: &Bench, label: &str, option: &str) {
    let field = format!("//div[*[contains(@class, 'InputLabel')][starts-with(normalize-space(.), '{label}')]]//*[@role='combobox']");
    let found = b.page.wait().for_element(Locator::XPath(&field)).await;
    found.unwrap_or_else(|e| panic!("no field {label}: {e}")).click().await.unwrap();
    let option = format!("//li[@role='option'][starts-with(normalize-space(.), '{option}')]");
    let found = b.page.wait().for_element(Locator::XPath(&option)).await;
    found.unwrap_or_else(|e| panic!("no option {option}: {e}")).click().await.unwrap();
}

async fn act_as(b: &Bench, person: &str) {
    b.page.find(Locator::Css("select.acting")).await.unwrap().select_by_value(person).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_on_revenue_with_people_without_mail_ends_without_a_call() {
    let b = base().await;
    let goal = json!({ "what": { "kind": "purchase", "product": null, "category": null }, "currency": "GBP" });
    b.rinse.json("POST", "/api/goals", &json!({ "id": null, "name": "Shop", "goal": goal }));
    b.go("/mailings/1").await;
    b.shows("No errors: it may go").await;
    b.click("Plan a trial").await;
    b.shows("people per arm").await;
    b.fill("The question", "Does lamplight sell more lanterns?").await;
    choose(&b, "Metric", "revenue a person, by a goal").await;
    b.shows("Nothing was bought after past mailings").await;
    b.click("Seal").await;
    b.shows("Choose the goal that is counted").await;
    choose(&b, "Goal", "Shop: buys anything").await;
    b.click("Arms of other sizes").await;
    pick(&b, "Parts of B", "2 parts").await;
    pick(&b, "Parts without mail", "1 part gets no mail").await;
    b.shows("No mail: 120 people take part and get nothing").await;
    b.shows("240 people").await;
    b.accessible("plan on revenue").await;
    b.sound("plan on revenue").await;
    b.click("Seal").await;
    b.shows("Until then the arms stay closed").await;
    b.click("How evenly the arms were filled").await;
    b.shows("no mail").await;
    // Two buy in A, four in B, which has twice the people, and two without mail: nobody could tell them apart.
    let at = rinse_core::Instant::of(b.rinse.json("GET", "/api/clock", &Value::Null)["now"].as_i64().unwrap() + 7_200_000).iso();
    let mut csv = "key,address,at,value,currency,product\n".to_owned();
    for (arm, buyers) in [(0, 2), (1, 4), (2, 2)] {
        let db = open(&b);
        let mut s = db.prepare("SELECT c.address FROM roster r JOIN contact c ON c.id = r.contact_id WHERE r.arm = ?1 LIMIT ?2").unwrap();
        for (i, address) in s.query_map([arm, buyers], |r| r.get::<_, String>(0)).unwrap().enumerate() {
            csv.push_str(&format!("k{arm}{i},{},{at},{}.00,GBP,Storm lantern\n", address.unwrap(), 60 + 20 * i));
        }
    }
    assert_eq!(b.rinse.http("POST", "/api/purchases", csv.as_bytes()).0, 200);
    for _ in 0..2 {
        moves(&b).await;
    }
    b.shows("Can't tell: B may have from").await;
    b.shows("GBP more a person than A; A goes out, as sealed").await;
    b.shows("Against no mail").await;
    b.shows("Their window began with the seal").await;
    b.shows("Welch’s limits").await;
    b.shows("The arms drawn again 10,000 times").await;
    b.accessible("verdict on revenue").await;
    b.sound("verdict on revenue").await;
    b.click("Release it now").await;
    b.shows("The rollout went out").await;
    let sent = b.rinse.json("GET", "/api/findings", &Value::Null)["mailings"][0]["sent"].as_i64().unwrap();
    let quiet: i64 = open(&b).query_row("SELECT count(*) FROM roster WHERE arm = 2", [], |r| r.get(0)).unwrap();
    assert_eq!(sent, 1_200 - quiet, "all but those who take part without mail");
    b.go("/trials/learned").await;
    b.shows("By what was changed").await;
    b.shows("The same against itself").await;
    b.accessible("learned").await;
}

/// People enter the series, and a day goes by.
async fn come(b: &Bench, people: std::ops::RangeInclusive<i64>) {
    b.rinse.json("POST", "/api/series/1/people", &json!({ "contacts": people.collect::<Vec<_>>() }));
    moves(b).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_in_a_series_enrols_those_who_come_and_compares_those_who_came_together() {
    let b = Bench::start().await;
    b.rinse.import(&people_csv(900));
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    let mut d = draft(1, &["Welcome", "Welcome ashore", "A light is on for you"]);
    for part in ["html", "text"] {
        d[part] = json!(format!("{} {{{{ leave_series_url }}}}", d[part].as_str().unwrap()));
    }
    b.rinse.json("POST", "/api/mailings", &d);
    b.rinse.json("POST", "/api/series", &json!({ "name": "Welcome", "letterhead_id": 1 }));
    let steps = json!([{ "id": 1, "does": { "kind": "mail", "mailing": 1 } }]);
    let outline =
        json!({ "entry": { "kind": "by_hand" }, "again": { "kind": "never" }, "from": null, "until": null, "steps": steps, "exits": [] });
    b.rinse.json("PUT", "/api/series/1", &json!({ "name": "Welcome", "letterhead_id": 1, "outline": outline }));

    b.go("/mailings/1").await;
    b.shows("plan a trial: it decides who gets which").await;
    b.shows("No errors: it may go").await;
    b.click("Plan a trial").await;
    b.fill("The question", "Which greeting is opened more?").await;
    b.fill("People per arm", "60").await;
    b.fill("Smallest effect worth having", "40").await;
    choose(&b, "Compared with", "A as the control").await;
    b.click("Arms of other sizes, or that begin later").await;
    pick(&b, "Parts of C", "begins later").await;
    b.shows("120 people in all").await;
    b.accessible("plan in a series").await;
    b.sound("plan in a series").await;
    b.click("Seal, and enrol 120").await;
    b.shows("Start the series first").await;
    b.rinse.json("POST", "/api/series/1/start", &Value::Null);
    b.click("Seal, and enrol 120").await;
    b.shows("Enrolling: 0 of 60").await;

    come(&b, 1..=60).await;
    b.shows("60 people, 60 handed over").await;
    b.shows("At 60 people a day").await;
    b.click("Change the shares").await;
    pick(&b, "Parts of B", "closed").await;
    pick(&b, "Parts of C", "1 part").await;
    b.fill("Why, in a sentence", "The third greeting is ready").await;
    b.accessible("other shares").await;
    b.click("Begin the stretch").await;
    b.shows("The third greeting is ready, Ines Marek").await;
    b.accessible("enrolling").await;
    b.sound("enrolling").await;
    // Whatever the draw, 80 don't fill an arm of 60, and 120 more fill both.
    for people in [61..=140, 141..=260] {
        come(&b, people).await;
    }
    // C is opened by eight in ten, A by one: whatever the stand-in's people did.
    b.shows("Collecting until").await;
    let opens = "UPDATE send SET open_at = CASE WHEN contact_id % 10 < iif(arm = 2, 8, 1) THEN handed_at + 60000 END WHERE phase = 1";
    assert!(open(&b).execute(opens, []).unwrap() > 120, "both arms are full");
    for _ in 0..2 {
        moves(&b).await;
    }
    b.shows("Called for C").await;
    b.shows("B was taken out on the way").await;
    b.shows("Stretch by stretch").await;
    b.accessible("verdict in a series").await;
    b.sound("verdict in a series").await;
    b.click("From now on").await;
    b.shows("Everybody who comes gets what went out").await;
    come(&b, 600..=639).await;
    let went: i64 =
        open(&b).query_row("SELECT count(*) FROM send WHERE contact_id >= 600 AND phase = 2 AND arm = 2", [], |r| r.get(0)).unwrap();
    assert!((30..=40).contains(&went), "all but a twentieth get C: {went}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_that_was_touched_is_void() {
    let b = base().await;
    b.go("/mailings/1").await;
    b.shows("No errors: it may go").await;
    b.click("Plan a trial").await;
    b.shows("people per arm").await;
    b.fill("The question", "Does lamplight earn more readers?").await;
    act_as(&b, "3").await;
    b.fill("Why it may go out too small", "We read it together with the last two").await;
    b.click("Seal").await;
    b.shows("are as they were sealed").await;
    // Somebody edits the roster behind Rinse's back.
    let touch = open(&b).execute("UPDATE roster SET arm = 1 - arm WHERE contact_id = (SELECT min(contact_id) FROM roster)", []);
    assert_eq!(touch, Ok(1));
    b.go("/trials/1").await;
    b.shows("What was sealed is not what is here").await;
    for _ in 0..2 {
        moves(&b).await;
    }
    b.shows("Void: the trial was broken, so nothing is read from it; A goes out, as sealed").await;
    b.shows("The roster differs from its recomputation").await;
    b.accessible("void trial").await;
}
