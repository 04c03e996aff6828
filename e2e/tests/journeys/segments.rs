//! Segments in the browser: three written by keyboard alone, one used by a mailing, and a person's
//! answers; lists, tags and fields as an analyst keeps them.

use fantoccini::Locator;
use rinse_e2e::Bench;
use rinse_testkit::{draft, letterhead};
use serde_json::{Value, json};

const ENTER: &str = "\u{E007}";

/// Forty people with a tier, visits, a home and an odd row or two.
fn people() -> String {
    let mut out = String::from("E-mail,First name,Country,Tier,Visits a year,Member since,Latitude,Longitude\n");
    for i in 0..40 {
        let (tier, visits) = (["gold", "oil", ""][i % 3], if i % 4 == 0 { String::new() } else { (i % 12).to_string() });
        let place = if i % 2 == 0 { format!("{:.2},{:.2}", 58.4 + i as f64 / 20.0, -4.7) } else { ",".into() };
        out.push_str(&format!("wren{i}@tern.example,Wrén {i},{},{tier},{visits},{}-05-01,{place}\n", ["NO", "GB"][i % 2], 1990 + i));
    }
    out.push_str("tern@tern.example,Odd,NO,gold,\"1,200\",2001-05-01,,\n");
    out
}

async fn condition(b: &Bench, menu: &str) {
    b.tab_to("Add a condition").await;
    b.press(ENTER).await;
    // The new row stands before the button; from the page's top the last "Condition" is its own.
    let rows = b.page.find_all(Locator::Css("select[aria-label='Condition']")).await.unwrap().len();
    b.page.execute("document.querySelector('h1').tabIndex = -1; document.querySelector('h1').focus()", vec![]).await.unwrap();
    for _ in 0..rows {
        b.tab_to("Condition").await;
    }
    b.press(menu).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn three_segments_by_keyboard_and_what_they_are_for() {
    let b = Bench::start().await;

    // Import with fields made on the way: the kinds are found out, a number that could be two is refused.
    let file = b.folder.join("visitors.csv");
    std::fs::write(&file, people()).unwrap();
    b.go("/contacts/import").await;
    b.shows("Choose a file").await;
    b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("Say what the columns are").await;
    for (column, kind) in [("Tier", "choice"), ("Visits a year", "number"), ("Member since", "date")] {
        let select = b.page.find(Locator::Css(&format!("select[aria-label='Column {column} is']"))).await.unwrap();
        let options = select.html(true).await.unwrap();
        let first = options.split("new field").nth(1).unwrap_or_default();
        assert!(first.starts_with(&format!(" “{}”, {kind}", column.to_lowercase())), "the kind is found out: {options}");
        select.select_by_label(&format!("new field “{}”, {kind}", column.to_lowercase())).await.unwrap();
    }
    b.fill("Tag them", "Visitor").await;
    b.click("Check").await;
    b.shows("It would add").await;
    b.shows("refuse 1").await;
    b.click("Add 40").await;
    b.shows("40 people were added").await;
    let (_, refused) = b.rinse.http("GET", "/api/imports/1/refused.csv", b"");
    let refused = String::from_utf8(refused).unwrap();
    assert!(refused.lines().nth(1).unwrap().contains("could be two numbers") && refused.trim_end().ends_with(",42"), "{refused}");

    // Three segments, without a mouse.
    b.go("/contacts/segments").await;
    b.shows("No segment picks people out yet").await;
    b.tab_to("Write a segment").await;
    b.press(ENTER).await;
    b.shows("40 of 40 people: everyone").await;
    condition(&b, "country").await;
    b.tab_to("Words").await;
    b.press("no").await;
    b.shows("20 of 40 people: country is “no”").await;
    condition(&b, "visits").await;
    b.tab_to("Number").await;
    b.press("\u{E009}a\u{E000}").await;
    b.press("5").await;
    b.shows("and visits a year is more than 5").await;
    b.tab_to("Name").await;
    b.press("Norse visitors").await;
    b.tab_to("Save the segment").await;
    b.press(ENTER).await;
    b.shows("See the people").await;
    b.accessible("segment").await;

    b.go("/contacts/segments/new").await;
    b.shows("everyone").await;
    condition(&b, "lives").await;
    b.shows("a dot is a person").await;
    b.tab_to("Name").await;
    b.press("By the port").await;
    b.tab_to("Save the segment").await;
    b.press(ENTER).await;
    b.shows("See the people").await;

    b.go("/contacts/segments/new").await;
    b.shows("everyone").await;
    condition(&b, "in the seg").await;
    b.shows("in By the port").await;
    b.page.execute("document.querySelector('h1').tabIndex = -1; document.querySelector('h1').focus()", vec![]).await.unwrap();
    b.tab_to("Is or is not").await;
    b.press("not").await;
    b.shows("not in By the port").await;
    b.tab_to("Name").await;
    b.press("Elsewhere").await;
    b.tab_to("Save the segment").await;
    b.press(ENTER).await;
    b.shows("See the people").await;

    // Missing values are in neither; parts add up; why someone isn't in it.
    let look =
        |id: i64| b.rinse.json("POST", "/api/segments/look", &json!({ "kind": "segment", "segment": id }))["people"].as_i64().unwrap();
    assert!(look(2) > 0 && look(2) + look(3) == 20, "half have no home place, and are in neither");
    b.go("/contacts/segments/1").await;
    b.shows("Split by").await;
    b.page.find(Locator::Css("h2 select")).await.unwrap().select_by_label("tier").await.unwrap();
    b.shows("Together").await;
    b.shows("missing").await;
    b.page.find(Locator::Css("input[aria-label='Whose answers']")).await.unwrap().send_keys("wren4@").await.unwrap();
    b.click("Ask").await;
    b.shows("Not in it.").await;
    b.shows("unknown").await;
    b.accessible("answers").await;

    // A mailing for the list's people in a segment; the segment can't go while it is used.
    b.rinse.json("POST", "/api/letterheads", &letterhead());
    let mut d = draft(1, &["Boats"]);
    d["segment_id"] = json!(1);
    b.rinse.json("POST", "/api/mailings", &d);
    b.go("/mailings/1").await;
    b.click("Who would get it").await;
    let sluice = b.rinse.json("GET", "/api/mailings/1/sluice", &Value::Null);
    assert_eq!(sluice["selected"].as_i64().unwrap(), look(1));
    b.go("/contacts/segments/1").await;
    b.click("Delete").await;
    b.shows("It is used by mailing Boat days").await;

    // Overlap of two, frozen copy, and the words page.
    b.click("Freeze its").await;
    b.shows("Norse visitors, frozen").await;
    b.go("/contacts/segments").await;
    b.click_css("input[aria-label='Compare Norse visitors']").await;
    b.click_css("input[aria-label='Compare Elsewhere']").await;
    b.shows("People in both").await;
    b.accessible("overlap").await;
    b.go("/setup/words").await;
    b.shows("3 fields of your own").await;
    b.go("/contacts/words").await;
    b.shows("People are on").await;
    b.page.find(Locator::Css("input[aria-label='Name of a new tag']")).await.unwrap().send_keys(&format!("Guest{ENTER}")).await.unwrap();
    b.shows("carry 2 tags").await;
    b.page.find(Locator::Css("select[aria-label='Merge Visitor into']")).await.unwrap().select_by_label("Guest").await.unwrap();
    b.shows("This can't be undone").await;
    b.click("Merge them").await;
    b.shows("carry 1 tag").await;
    b.sound("words").await;

    // A person: changed by hand, taken out as JSON, with the tag they carry now.
    b.go("/contacts/1").await;
    b.shows("Guest").await;
    b.click("Change the profile").await;
    b.fill("visits a year", "twelve").await;
    b.click("Save the profile").await;
    b.shows("is not a number").await;
    b.fill("visits a year", "12").await;
    b.click("Save the profile").await;
    b.shows("Change the profile").await;
    let record = b.rinse.json("GET", "/api/contacts/1/record.json", &Value::Null);
    assert!(record["fields"].to_string().contains("\"value\":\"12\""), "{record}");
    b.accessible("person").await;
}
