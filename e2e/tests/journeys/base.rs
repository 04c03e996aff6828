//! A messy file brought in with fixes, the base check, two people merged, one deleted, many put on a
//! list, and every way back.

use fantoccini::Locator;
use rinse_e2e::Bench;
use serde_json::Value;

/// Forty people at one domain, and what real files bring: slips, functions, doubles, broken rows.
fn messy() -> Vec<u8> {
    let mut out = "Mail;Vorname;Ort\n".to_owned();
    (0..40).for_each(|i| out.push_str(&format!("wren{i}@fulmar.example;Wrén;Skär {i}\n")));
    for row in [
        "bran@fulmar.exmaple;Bran;",
        "info@quay.example;;",
        "wren3+boats@fulmar.example;Wrén;",
        "no at all;;",
        "a@b.example;one;two;many",
        "x@throw-away.example;;",
    ] {
        out.push_str(row);
        out.push('\n');
    }
    // As an old spreadsheet saves it: not UTF-8.
    out.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect()
}

async fn drawer(b: &Bench, button: &str) {
    b.click(button).await;
}

fn people(b: &Bench) -> i64 {
    b.rinse.json("GET", "/api/workline", &Value::Null)["contacts"].as_i64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_messy_file_is_landed_fixed_and_everything_has_a_way_back() {
    let b = Bench::start().await;
    let file = b.folder.join("desk.csv");
    std::fs::write(&file, messy()).unwrap();
    b.go("/contacts/import").await;
    b.shows("Choose a file").await;
    b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("Say what the columns are").await;
    // What was found out can be changed, and changed back.
    for (delimiter, column) in [("comma", "Mail;Vorname;Ort"), ("semicolon", "Vorname")] {
        let select = b.page.find(Locator::Css("select[aria-label='Between fields stands a']")).await.unwrap();
        select.select_by_label(delimiter).await.unwrap();
        b.page.wait().for_element(Locator::Css(&format!("select[aria-label='Column {column} is']"))).await.unwrap();
    }
    b.page.find(Locator::Css("select[aria-label='Column Vorname is']")).await.unwrap().select_by_label("given name").await.unwrap();
    b.fill("Put them on the list", "Desk").await;
    b.click("These people agreed to get marketing mail").await;
    b.fill("How they agreed to get mail", "Paper form at the desk, spring 2026").await;
    b.click("Check").await;
    b.shows("The base check of this file").await;
    for words in [
        "refuse 2",
        "Mistyped domain: 1 row",
        "fulmar.exmaple for fulmar.example",
        "Duplicate: 1 row",
        "Role account: 1 row",
        "Disposable: 1 row",
    ] {
        b.shows(words).await;
    }
    b.click("Correct mistyped domains").await;
    b.click("Put the others in the tag").await;
    b.click("Check again").await;
    b.shows("Add 44").await;
    b.sound("import with fixes").await;
    b.click("Add 44").await;
    b.shows("44 people were added").await;
    let corrected = b.rinse.json("GET", "/api/contacts?search=bran@fulmar.example", &Value::Null);
    assert_eq!(corrected["rows"][0]["consent"], "none", "nobody agreed for the corrected address");

    // What was not fixed on the way is found on demand: the duplicate is merged, and parted again.
    b.go("/contacts/check?finding=duplicate").await;
    b.shows("the same mailbox as wren3@fulmar.example").await;
    b.sound("base check").await;
    b.click("Merge all of them").await;
    drawer(&b, "Merge them").await;
    b.shows("merged duplicates: 1 person").await;
    assert_eq!(people(&b), 43);
    b.click("Take back merged duplicates").await;
    drawer(&b, "Take it back").await;
    b.shows("1 as before").await;
    assert_eq!(people(&b), 44);
    b.shows("wren3+boats@fulmar.example").await;
    b.click("It is right: wren3@fulmar.example").await;
    b.shows("Bring back 1 put aside").await;

    // Those who are shown are put on a list, in one go.
    b.rinse.json("POST", "/api/words", &serde_json::json!({"word": "list", "name": "Helpers"}));
    b.go("/contacts?search=wren1").await;
    b.shows("of 44 people are shown").await;
    let put = b.page.wait().for_element(Locator::Css("select[aria-label='Put these people on']")).await.unwrap();
    put.select_by_label("Helpers").await.unwrap();
    drawer(&b, "Put them on it").await;
    b.go("/contacts/check").await;
    b.shows("put 11 people on Helpers").await;

    // Two are merged by hand; one is deleted and can't be brought back by a file.
    b.go("/contacts?search=bran").await;
    b.click_css("tbody a").await;
    b.shows("Timeline").await;
    b.click("Merge with another").await;
    b.shows("the same person as").await;
    let find = b.page.find(Locator::Css("input[aria-label='Find the other person']")).await.unwrap();
    find.send_keys("wren5@").await.unwrap();
    b.click("Merge into wren5@fulmar.example").await;
    b.shows("also bran@fulmar.example").await;
    b.shows("the strictest holds").await;
    b.click("Delete at their wish").await;
    b.shows("This can’t be taken back").await;
    let sure = b.page.find(Locator::Css("input[aria-label='Type the address to delete it']")).await.unwrap();
    sure.send_keys("wren5@fulmar.example").await.unwrap();
    b.click("Delete this person").await;
    b.shows("people are in the base").await;
    assert_eq!(people(&b), 42);
    let (status, answer) = b.rinse.http("POST", "/api/contacts", br#"{"address":"WREN5@fulmar.example","consent":false,"evidence":""}"#);
    assert_eq!((status, String::from_utf8_lossy(&answer).contains("deleted here")), (409, true));

    // The whole import is taken back: all but the two to whom something happened since.
    b.go("/contacts/import/1").await;
    b.shows("Take back").await;
    b.click("Take back import of desk.csv").await;
    drawer(&b, "Take it back").await;
    b.shows("Taken back.").await;
    b.shows("42 as before").await;
    assert_eq!(people(&b), 0);
    b.sound("import taken back").await;
}
