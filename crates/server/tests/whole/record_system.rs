//! Whom a cleaning run deletes is told to the system of record, and its files bring nobody back; silent people answer by one button.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_testkit::draft;
use serde_json::{Value, json};

async fn until(s: &Inside, run: i64, state: &str) {
    for _ in 0..400 {
        if s.ok("GET", &format!("/api/upkeep/runs/{run}"), &Value::Null).await["state"] == state {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    panic!("run {run} is never {state}");
}

async fn apply(s: &Inside, run: &Value) {
    let run = run["run"].as_i64().unwrap();
    until(s, run, "proposed").await;
    s.ok("POST", &format!("/api/upkeep/runs/{run}/apply"), &Value::Null).await;
    until(s, run, "applied").await;
}

/// Three people, two of them retired a hundred days ago under a policy that deletes after ninety.
async fn retired() -> Inside {
    let s = Inside::new().await;
    s.import("email\ngone.wren@tern.example\ngone.gull@tern.example\nruff@tern.example\n").await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(1).await;
    let mut policy = s.ok("GET", "/api/upkeep/policy", &Value::Null).await["current"]["policy"].clone();
    policy["delete_after_days"] = json!(90);
    apply(&s, &s.ok("POST", "/api/upkeep/policy", &json!({ "policy": policy, "note": "Nobody needs them" })).await).await;
    s.advance(50 * 24).await;
    s.advance(50 * 24).await;
    s
}

async fn record_system(s: &Inside) -> Value {
    s.ok("GET", "/api/upkeep/record-system", &Value::Null).await
}

fn drop_file(s: &Inside, name: &str, text: &str) {
    std::fs::write(s.folder().join("records").join(name), text).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn files_bring_nobody_back_who_was_deleted() {
    let s = retired().await;
    let front = s.ok("GET", "/api/upkeep", &Value::Null).await;
    assert_eq!((&front["base"]["retired"], &front["to_delete"]), (&json!(2), &json!(2)));
    apply(&s, &s.ok("POST", "/api/upkeep/runs", &json!({})).await).await;
    let front = s.ok("GET", "/api/upkeep", &Value::Null).await;
    assert_eq!((&front["base"]["retired"], &front["base"]["tombstones"]), (&json!(0), &json!(2)));
    let r = record_system(&s).await;
    assert_eq!((&r["lines"], &r["waiting"]), (&json!(2), &json!(2)));
    let csv = String::from_utf8(s.file("/api/upkeep/record-system/lines.csv").await).unwrap();
    assert!(csv.contains("gone.wren@tern.example") && csv.contains("nothing was ever delivered"), "{csv}");
    s.ok("POST", "/api/upkeep/record-system/handed", &json!({ "upto": r["rows"][0]["id"] })).await;
    assert_eq!(record_system(&s).await["waiting"], 0);
    assert_eq!(s.count("SELECT count(*) FROM do_not_return WHERE address IS NOT NULL"), 0);

    drop_file(&s, "b.csv", "E-mail,First name\ngone.wren@tern.example,Wren\nruff@tern.example,Ruff\nknot@tern.example,Knot\n");
    drop_file(&s, "c.csv", "E-mail,First name\nGone.Wren@TERN.example,Wren\nknot@tern.example,Knot\n");
    // One that is still being written, one that is no table of people, and one that was cut off.
    drop_file(&s, "a.csv.part", "E-mail\n");
    drop_file(&s, "d.csv", "tide,height\n2.1,3\n");
    drop_file(&s, "e.csv", "E-mail,First name\nruff@tern.example,Ruff\nno address,x\nnor this,y\n");
    s.advance(25).await;
    // The day's look at everything goes on after the clock has moved.
    while s.count("SELECT count(*) FROM import_run WHERE file_name = 'e.csv' AND state = 'checked'") == 0 {
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    while s.folder().join("records/e.csv").exists() || s.count("SELECT count(*) FROM notice") < 2 {
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    let r = record_system(&s).await;
    let of = |name: &str| r["files"].as_array().unwrap().iter().find(|f| f["file_name"] == name).cloned().unwrap_or_default();
    let b = of("b.csv");
    assert_eq!(
        (&b["state"], &b["new"], &b["changed"], &b["came_back"], &b["refused_otherwise"]),
        (&json!("applied"), &json!(1), &json!(1), &json!(1), &json!(0))
    );
    assert_eq!((&r["came_back"], &r["came_back_times"]), (&json!(1), &json!(2)), "{r}");
    assert_eq!(of("e.csv")["state"], "checked", "a person looks at it");
    assert_eq!(s.count("SELECT consent FROM contact WHERE address = 'knot@tern.example'"), 0, "a file brings no consent");
    assert_eq!(s.count("SELECT count(*) FROM contact WHERE address LIKE 'gone%'"), 0);
    let today = s.ok("GET", "/api/today", &Value::Null).await.to_string();
    assert!(today.contains("d.csv") && today.contains("2 of its 3 rows would be refused"), "{today}");
    assert!(s.folder().join("records/aside/d.csv").exists() && s.folder().join("records/a.csv.part").exists());
    let imports = s.ok("GET", "/api/imports", &Value::Null).await;
    let names: Vec<&str> = imports.as_array().unwrap().iter().map(|i| i["file_name"].as_str().unwrap()).collect();
    assert_eq!(names, ["e.csv", "p.csv"], "only what waits for a person stands among the imports");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_system_that_is_told_has_the_address_and_nobody_else() {
    let s = retired().await;
    let told = s.ok("POST", "/api/webhooks", &json!({ "name": "Record system", "url": "/standin/records" })).await;
    assert_eq!(s.api("POST", "/api/upkeep/record-system/webhook", &json!({ "webhook": 99 }).to_string()).await.0, StatusCode::NOT_FOUND);
    s.ok("POST", "/api/upkeep/record-system/webhook", &json!({ "webhook": told })).await;
    apply(&s, &s.ok("POST", "/api/upkeep/runs", &json!({})).await).await;
    s.advance(48).await;
    let r = record_system(&s).await;
    assert_eq!((&r["lines"], &r["waiting"]), (&json!(2), &json!(0)), "{r}");
    assert!(r["rows"][0]["handed_at"].is_i64() && r["rows"][0]["hash"].as_str().unwrap().len() == 64);
    assert_eq!(s.count("SELECT count(*) FROM delivery WHERE state = 1 AND body LIKE '%do_not_return%'"), 2);
    assert_eq!(s.count("SELECT count(*) FROM delivery WHERE body LIKE '%gone.%'"), 0, "what was told isn't kept");
    let world = rusqlite::Connection::open(s.folder().join("world.db")).unwrap();
    assert_eq!(world.query_row("SELECT count(*) FROM record_line", [], |r| r.get::<_, i64>(0)).unwrap(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_evidence_pack_says_what_was_done_and_names_nobody() {
    let s = retired().await;
    for bad in [
        json!({ "accepted_aim": 0.9, "accepted_act": 0.95, "complaints_act": 0.001 }),
        json!({ "accepted_aim": 2, "accepted_act": 1, "complaints_act": 0 }),
    ] {
        assert!(s.api("POST", "/api/upkeep/evidence/marks", &bad.to_string()).await.0.is_client_error());
    }
    s.ok("POST", "/api/upkeep/evidence/marks", &json!({ "accepted_aim": 0.98, "accepted_act": 0.96, "complaints_act": 0.002 })).await;
    assert!(s.api("POST", "/api/upkeep/evidence/notes", &json!({ "text": "  " }).to_string()).await.0.is_client_error());
    s.ok("POST", "/api/upkeep/evidence/notes", &json!({ "text": "A relay was broken in April; mended since." })).await;
    let e = s.ok("GET", "/api/upkeep/evidence", &Value::Null).await;
    assert_eq!((&e["marks"]["accepted_act"], &e["notes"][0]["person"]), (&json!(0.96), &json!("Ines Marek")));
    // Three messages, of which two failed for good: too few for a picture, and told as so many.
    let accepted = &e["courses"][0];
    assert_eq!((&accepted["all"]["count"], &accepted["all"]["of"], &accepted["thin_weeks"]), (&json!(1), &json!(3), &json!(1)));
    let month = &e["months"][0];
    assert_eq!((&month["sent"], &month["bounced_permanently"], &month["retired"]), (&json!(3), &json!(2), &json!(2)));
    let pack = s.file("/api/upkeep/evidence.zip").await;
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(pack)).unwrap();
    let names: Vec<String> = (0..zip.len()).map(|i| zip.by_index(i).unwrap().name().unwrap().into_owned()).collect();
    assert_eq!(
        names,
        [
            "README.txt",
            "summary.pdf",
            "weeks.csv",
            "months.csv",
            "blocklists.csv",
            "removed.csv",
            "runs.csv",
            "incidents.csv",
            "notes.csv",
            "evidence.json"
        ]
    );
    for i in 0..zip.len() {
        let (mut bytes, mut file) = (Vec::new(), zip.by_index(i).unwrap());
        std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
        let (text, name) = (String::from_utf8_lossy(&bytes), file.name().unwrap().into_owned());
        assert!(!text.contains("gone.wren") && !text.contains("ruff@"), "{name}: {text}");
        match name.as_str() {
            "summary.pdf" => assert!(bytes.starts_with(b"%PDF-")),
            "removed.csv" => assert!(text.contains("g…@tern.example") && text.contains("nothing was ever delivered"), "{text}"),
            "notes.csv" => assert!(text.contains("A relay was broken"), "{text}"),
            _ => {}
        }
    }
    assert!(s.file("/api/upkeep/evidence.pdf").await.starts_with(b"%PDF-"));
    s.ok("DELETE", "/api/upkeep/evidence/notes/1", &Value::Null).await;
    assert_eq!(s.api("DELETE", "/api/upkeep/evidence/notes/1", "").await.0, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_proposed_by_the_schedule_and_only_then() {
    let s = retired().await;
    let runs = || s.count("SELECT count(*) FROM cleaning_run WHERE kind = 'due' AND state = 'proposed' AND note = 'By the schedule'");
    s.advance(15 * 24).await;
    let thursday = json!({ "every": { "every": "week", "weekday": 3 } });
    for bad in [json!({ "every": { "every": "week", "weekday": 7 } }), json!({ "every": { "every": "year" } })] {
        assert!(s.api("PUT", "/api/upkeep/schedule", &bad.to_string()).await.0.is_client_error());
    }
    assert_eq!(s.ok("GET", "/api/upkeep/schedule", &Value::Null).await["every"], Value::Null);
    s.ok("PUT", "/api/upkeep/schedule", &thursday).await;
    assert_eq!((s.ok("GET", "/api/upkeep/schedule", &Value::Null).await, runs()), (thursday, 0));
    s.advance(7 * 24).await;
    while runs() == 0 {
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    // It is open: the next week proposes none beside it.
    s.advance(7 * 24).await;
    while s
        .count("SELECT count(*) FROM base_day WHERE day = (SELECT max(CAST(value AS INTEGER)) / 86400000 FROM setting WHERE key = 'clock')")
        == 0
    {
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    assert_eq!(runs(), 1);
    assert!(s.ok("GET", "/api/today", &Value::Null).await.to_string().contains("Cleaning run"));
    // What hosts said, by reason and by line.
    let said = s.ok("GET", "/api/upkeep/reasons", &Value::Null).await;
    assert_eq!(said["messages"], 0, "{said}");
    s.db()
        .execute(
            "UPDATE send SET failed_at = (SELECT CAST(value AS INTEGER) FROM setting WHERE key = 'clock') WHERE failed_at IS NOT NULL",
            [],
        )
        .unwrap();
    let said = s.ok("GET", "/api/upkeep/reasons", &Value::Null).await;
    let line = &said["lines"][0];
    assert_eq!((&line["messages"], &line["at"][0]["domain"], &line["counts"]), (&json!(2), &json!("tern.example"), &json!(true)), "{said}");
    assert_eq!((&said["reasons"][0]["reason"], &said["reasons"][0]["class"]), (&json!("no such address"), &json!("permanent")));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_button_of_a_letter_is_an_answer_once_and_a_look_is_none() {
    let s = Inside::one_message().await;
    s.ok("POST", "/api/contacts/put", &json!({ "word": "sunset" })).await;
    let path = format!("/g/{}", s.signer.link(Kind::GoOn, SendId(1), 0));
    let (status, page, _) = s.door("GET", &path, "").await;
    assert!(status == StatusCode::OK && page.contains("Yes, go on writing to me") && !page.contains("<script"), "{page}");
    let renewed = || s.count("SELECT count(*) FROM ledger WHERE kind = 'renewed'");
    assert_eq!((renewed(), s.count("SELECT count(*) FROM response")), (0, 0), "scanners follow links");
    for _ in 0..2 {
        let (status, page, _) = s.door("POST", &path, "go=on").await;
        assert!(status == StatusCode::OK && page.contains("we go on writing to you"), "{page}");
    }
    assert_eq!((renewed(), s.count("SELECT count(*) FROM response WHERE kind = 2 AND machine = 0")), (1, 1));
    assert_eq!(s.count("SELECT count(*) FROM contact WHERE sunset_at IS NOT NULL"), 0);
    // Who withdrew isn't brought back by it; a forged link is nobody's.
    s.door("POST", &format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(1), 0)), "stop=everything").await;
    let (_, page, _) = s.door("POST", &path, "go=on").await;
    assert!(page.contains("Sign up again"), "{page}");
    assert_eq!((renewed(), s.count("SELECT consent FROM contact")), (1, 5));
    assert_eq!(s.door("POST", &format!("/g/{}", Signer::new(b"x").link(Kind::GoOn, SendId(1), 0)), "go=on").await.0, StatusCode::NOT_FOUND);
    assert!(s.ok("GET", "/api/consent/seals", &Value::Null).await["broken"].as_array().unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_series_that_asks_is_made_in_one_step() {
    let s = Inside::one_message().await;
    let view = s.ok("GET", "/api/upkeep/silent", &Value::Null).await;
    assert!(view["series"].is_null() && view["readout"]["answered"]["of"] == 0, "{view}");
    let made = s.ok("POST", "/api/upkeep/silent/series", &json!({ "letterhead": 1 })).await["series"].as_i64().unwrap();
    s.ok("POST", &format!("/api/series/{made}/start"), &Value::Null).await;
    let view = s.ok("GET", "/api/upkeep/silent", &Value::Null).await;
    assert_eq!((&view["series"]["id"], &view["series"]["state"]), (&json!(made), &json!("running")));
    assert_eq!(s.api("POST", "/api/upkeep/silent/series", &json!({ "series": 99 }).to_string()).await.0, StatusCode::NOT_FOUND);
    assert_eq!(s.api("GET", "/api/upkeep/silent/people?after=x", "").await.0, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(s.ok("GET", "/api/upkeep/silent/people?stage=to_ask", &Value::Null).await["rows"].as_array().unwrap().is_empty());
    assert!(String::from_utf8(s.file("/api/upkeep/silent/people.csv").await).unwrap().starts_with("address,stage"));
}
