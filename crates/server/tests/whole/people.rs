//! People, words, segments and purchases through the API, as scripts and the browser use it.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_testkit::draft;
use rstest::rstest;
use serde_json::{Value, json};

/// Three people: Wren in Norway, Tern in Britain, Skua with nothing known.
async fn three() -> Inside {
    let s = Inside::new().await;
    s.import("email,first name,country\nwren@tern.example,Wren,NO\ntern@tern.example,Tern,GB\nskua@tern.example,,\n").await;
    s
}

fn person(address: &str) -> Value {
    json!({ "address": address, "given_name": "Gull", "list": null, "consent": true, "evidence": "letter of 2 April" })
}

async fn people(s: &Inside, tree: Value) -> i64 {
    s.ok("POST", "/api/segments/look", &tree).await["people"].as_i64().unwrap()
}

/// Countries by their names land as codes, which rules go by; amounts in one currency as numbers of a field that says which.
#[tokio::test(flavor = "multi_thread")]
async fn countries_and_amounts_land_as_what_they_are() {
    let s = Inside::new().await;
    let rows: String = (0..20).map(|n| format!("w{n}@tern.example,Norwegen,\"1.0{n:02},50 €\"\n")).collect();
    s.import(&format!("email,Wohin,Umsatz\n{rows}")).await;
    assert_eq!(s.count("SELECT count(*) FROM contact WHERE country = 'NO'"), 20);
    let sum = "SELECT CAST(sum(number) AS INTEGER) FROM field_value v JOIN field f ON f.id = v.field_id WHERE f.name = 'Umsatz (€)'";
    assert_eq!(s.count(sum), 20 * 1_000 + 190 + 10);
    // A header that was mapped before is mapped so again.
    let (_, run) =
        s.api("POST", "/api/imports?name=q.csv", "email,Wohin,Umsatz\na@tern.example,Atlantis,1 €\nb@tern.example,Suède,3 $\n").await;
    let run: Value = serde_json::from_str(&run).unwrap();
    let id = run["id"].as_i64().unwrap();
    let decision = json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "evidence": "paper form" });
    s.ok("POST", &format!("/api/imports/{id}/check"), &decision).await;
    while s.count(&format!("SELECT count(*) FROM import_run WHERE state = 'checked' AND id = {id}")) == 0 {
        tokio::task::yield_now().await;
    }
    let refused = String::from_utf8(s.file(&format!("/api/imports/{id}/refused.csv")).await).unwrap();
    assert!(refused.contains("Atlantis\"\" is no country") && refused.contains("is in $, and the field in €"), "{refused}");
    // By hand the same.
    let one = json!({ "address": "c@tern.example", "country": "atlantis", "list": null, "consent": false, "evidence": "" });
    assert_eq!(s.api("POST", "/api/contacts", &one.to_string()).await.0, StatusCode::CONFLICT);
    let id = s
        .ok(
            "POST",
            "/api/contacts",
            &json!({ "address": "c@tern.example", "country": "Schweden", "list": null, "consent": false, "evidence": "" }),
        )
        .await;
    assert_eq!(s.ok("GET", &format!("/api/contacts/{id}"), &Value::Null).await["country"], "SE");
}

#[tokio::test]
async fn a_person_is_added_by_hand_with_the_evidence_of_their_consent() {
    let s = three().await;
    let list = s.ok("POST", "/api/words", &json!({ "word": "list", "name": "Friends" })).await;
    let mut gull = person(" Gull@Bücher.example ");
    gull["list"] = list.clone();
    let id = s.ok("POST", "/api/contacts", &gull).await;
    let p = s.ok("GET", &format!("/api/contacts/{id}"), &Value::Null).await;
    assert_eq!((p["address"].as_str(), p["consent"].as_str()), (Some("Gull@xn--bcher-kva.example"), Some("consented")));
    assert_eq!(p["lists"][0]["name"], "Friends");
    assert!(p["ledger"][0]["evidence"] == "letter of 2 April" && p["ledger"][0]["person"] == "Ines Marek", "{p}");
    let quiet =
        s.ok("POST", "/api/contacts", &json!({ "address": "q@tern.example", "list": null, "consent": false, "evidence": "" })).await;
    assert_eq!(s.ok("GET", &format!("/api/contacts/{quiet}"), &Value::Null).await["consent"], "none", "consent is never assumed");
}

#[rstest]
#[case(person("wren@tern.example"), StatusCode::CONFLICT, "in the base already")]
#[case(person("WREN@TERN.example"), StatusCode::CONFLICT, "in the base already")]
#[case(person("gull at tern"), StatusCode::UNPROCESSABLE_ENTITY, "no @")]
#[case(json!({ "address": "g@tern.example", "list": null, "consent": true, "evidence": " " }), StatusCode::CONFLICT, "evidence")]
#[case(json!({ "address": "g@tern.example", "list": 77, "consent": false, "evidence": "" }), StatusCode::NOT_FOUND, "no list")]
#[tokio::test]
async fn a_person_who_cant_be_added_leaves_nothing(#[case] body: Value, #[case] status: StatusCode, #[case] words: &str) {
    let s = three().await;
    let (got, answer) = s.api("POST", "/api/contacts", &body.to_string()).await;
    assert!(got == status && answer.contains(words), "{got} {answer}");
    assert_eq!(s.count("SELECT (SELECT count(*) FROM contact) * 100 + (SELECT count(*) FROM ledger)"), 303);
}

#[tokio::test]
async fn a_profile_is_replaced_whole_and_fields_are_read_by_their_kind() {
    let s = three().await;
    let field = s.ok("POST", "/api/fields", &json!({ "name": "Visits", "kind": "number" })).await.as_i64().unwrap();
    let change = |value: &str| json!({ "profile": { "given_name": "Wren", "region": "Nordland", "position": [62.4, 6.0] }, "fields": [{ "field_id": field, "value": value }] });
    s.ok("PUT", "/api/contacts/1", &change("12,5")).await;
    let p = s.ok("GET", "/api/contacts/1", &Value::Null).await;
    assert_eq!((&p["country"], &p["region"], &p["fields"][0]["value"]), (&Value::Null, &json!("Nordland"), &json!("12.5")));
    let (status, words) = s.api("PUT", "/api/contacts/1", &change("many").to_string()).await;
    assert!(status == StatusCode::CONFLICT && words.contains("is not a number"), "{words}");
    let far = json!({ "profile": { "position": [95.0, 6.0] }, "fields": [] });
    assert_eq!(s.api("PUT", "/api/contacts/1", &far.to_string()).await.0, StatusCode::CONFLICT);
    assert_eq!(s.ok("GET", "/api/contacts/1", &Value::Null).await["given_name"], "Wren", "refused changes change nothing");
    s.ok("PUT", "/api/contacts/1", &change("")).await;
    assert_eq!(people(&s, json!({ "kind": "missing", "field": { "own": field } })).await, 3);
    assert_eq!(s.api("PUT", "/api/contacts/99", &change("").to_string()).await.0, StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn words_are_named_once_merged_with_what_uses_them_and_kept_while_used() {
    let s = three().await;
    let make = |word: &'static str, name: &'static str| json!({ "word": word, "name": name });
    let (a, b) = (
        s.ok("POST", "/api/words", &make("tag", "Guest")).await.as_i64().unwrap(),
        s.ok("POST", "/api/words", &make("tag", "Visitor")).await.as_i64().unwrap(),
    );
    assert_eq!(s.api("POST", "/api/words", &make("tag", " guest ").to_string()).await.0, StatusCode::CONFLICT);
    assert_eq!(s.api("POST", "/api/words", &make("list", " ").to_string()).await.0, StatusCode::CONFLICT);
    let put = |tag: i64, contacts: &[i64], on: bool| {
        (format!("/api/words/{tag}/people"), json!({ "word": "tag", "contacts": contacts, "on": on }))
    };
    for (path, body) in [put(a, &[1, 2], true), put(b, &[2, 3], true), put(a, &[2], true)] {
        s.ok("POST", &path, &body).await;
    }
    let segment = s.ok("POST", "/api/segments", &json!({ "name": "Guests", "tree": { "kind": "tag", "tag": a } })).await;
    let (status, words) = s.api("DELETE", &format!("/api/words/tag/{a}"), "").await;
    assert!(status == StatusCode::CONFLICT && words.contains("segment Guests"), "{words}");
    s.ok("PUT", &format!("/api/words/{a}"), &json!({ "word": "tag", "into": b })).await;
    assert_eq!(people(&s, json!({ "kind": "segment", "segment": segment })).await, 3, "the segment asks the other tag now");
    let (path, body) = put(b, &[1, 9], false);
    assert_eq!(s.ok("POST", &path, &body).await, 1);
    s.ok("PUT", &format!("/api/words/{b}"), &json!({ "word": "tag", "name": "Guest" })).await;
    assert_eq!(s.ok("GET", "/api/vocabulary", &Value::Null).await["tags"], json!([{ "id": b, "name": "Guest" }]));
    assert_eq!(s.api("PUT", &format!("/api/words/{b}"), &json!({ "word": "tag", "into": b }).to_string()).await.0, StatusCode::CONFLICT);
    s.ok("DELETE", &format!("/api/segments/{segment}"), &Value::Null).await;
    s.ok("DELETE", &format!("/api/words/tag/{b}"), &Value::Null).await;
    assert_eq!(s.count("SELECT count(*) FROM contact_tag") + s.count("SELECT count(*) FROM tag"), 0);
}

#[tokio::test]
async fn a_segment_picks_a_mailings_audience_and_exports_its_people() {
    let s = three().await;
    s.ok("POST", "/api/contacts", &json!({ "address": "sum@tern.example", "given_name": "=1+1", "country": "NO", "list": null, "consent": true, "evidence": "by letter" })).await;
    let norse = json!({ "kind": "text", "field": "country", "is": "is", "value": "no" });
    let id = s.ok("POST", "/api/segments", &json!({ "name": "Norse", "tree": norse })).await;
    let mut d = draft(1, &["Boats"]);
    d["segment_id"] = id.clone();
    s.ok("POST", "/api/mailings", &d).await;
    let sluice = s.ok("GET", "/api/mailings/1/sluice", &Value::Null).await;
    assert_eq!((&sluice["selected"], &sluice["cleared"]), (&json!(2), &json!(2)));
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    assert_eq!(s.count("SELECT group_concat(contact_id) = '1,4' FROM (SELECT contact_id FROM send ORDER BY 1)"), 1);
    let (_, csv) = s.api("GET", &format!("/api/segments/{id}/people.csv"), "").await;
    assert!(csv.lines().count() == 3 && csv.contains("sum@tern.example,'=1+1"), "{csv}");
    let page = s.ok("GET", &format!("/api/contacts?segment={id}&search=wr&sort=address"), &Value::Null).await;
    assert_eq!((page["matching"].as_i64(), page["rows"][0]["address"].as_str()), (Some(1), Some("wren@tern.example")));
}

#[tokio::test]
async fn purchases_come_once_as_csv_or_ndjson_and_say_what_was_refused() {
    let s = three().await;
    let csv = "key;address;at;value;currency;product;category\nt1;wren@tern.example;2026-04-01;89,50;GBP;Storm lantern;Light\nt2;nobody@tern.example;2026-04-01;1;GBP;Wick;\nt3;tern@tern.example;soon;1;GBP;Wick;\n";
    assert_eq!(s.api("POST", "/api/purchases", "").await.0, StatusCode::CONFLICT, "an empty file");
    assert!(s.api("POST", "/api/purchases", "name,town\na,b\n").await.1.contains("The header lacks key"));
    let first: Value = serde_json::from_str(&s.api("POST", "/api/purchases", csv).await.1).unwrap();
    assert_eq!((&first["new"], &first["refused"]), (&json!(1), &json!(2)));
    assert_eq!((&first["reasons"][0]["line"], &first["reasons"][1]["line"]), (&json!(3), &json!(4)));
    let line = "{\"key\":\"t1\",\"address\":\"wren@tern.example\",\"at\":\"2026-04-01\",\"value\":89.5,\"currency\":\"GBP\",\"product\":\"Storm lantern\"}";
    let more = format!("{line}\n\n{}\nno json\n", line.replace("t1", "t4"));
    let second: Value = serde_json::from_str(&s.api("POST", "/api/purchases", &more).await.1).unwrap();
    assert_eq!((&second["new"], &second["known"], &second["reasons"][0]["line"]), (&json!(1), &json!(1), &json!(4)));
    let bought = json!({ "kind": "bought", "what": "value", "is": "equal", "value": 179.0, "product": "storm lantern", "category": null, "within_days": null });
    assert_eq!(people(&s, bought.clone()).await, 1);
    let why = s.ok("POST", "/api/segments/explain/2", &bought).await;
    assert_eq!((&why[0]["answer"], &why[0]["value"]), (&json!(false), &json!("0")));
}

#[tokio::test]
async fn a_segment_kept_outside_is_replaced_whole_by_each_file() {
    let s = three().await;
    let put = async |body: &str| -> Value { serde_json::from_str(&s.api("PUT", "/api/segments/outside/Board", body).await.1).unwrap() };
    let first = put("WREN@tern.example\r\n\ntern@tern.example\nnobody@tern.example\nno address\nwren@tern.example\n").await;
    assert_eq!((&first["people"], &first["unknown"]), (&json!(2), &json!(["nobody@tern.example", "no address"])));
    let second = put("skua@tern.example\n").await;
    assert_eq!((&second["people"], &second["segment"]), (&json!(1), &first["segment"]));
    let segment = s.ok("GET", &format!("/api/segments/{}", first["segment"]), &Value::Null).await["segment"].clone();
    assert_eq!((&segment["kept"], &segment["name"]), (&json!("outside"), &json!("Board")));
    assert_eq!(people(&s, json!({ "kind": "segment", "segment": first["segment"] })).await, 1);
    let (status, words) = s.api("PUT", "/api/segments/outside/Board", " \n").await;
    assert!(status == StatusCode::CONFLICT && words.contains("nothing was replaced"), "{words}");
    let change = json!({ "name": "Board", "tree": { "kind": "all", "of": [] } });
    let (status, words) = s.api("PUT", &format!("/api/segments/{}", first["segment"]), &change.to_string()).await;
    assert!(status == StatusCode::CONFLICT && words.contains("no conditions to change"), "{words}");
}

/// Events come by CSV and NDJSON, each once by its key; a segment asks for them; the timeline shows them.
#[tokio::test]
async fn what_people_did_elsewhere_comes_in_once_and_is_asked_for() {
    let s = three().await;
    let csv = "key;address;at;name;about\n1;wren@tern.example;2026-04-01;Came to a talk;front row\n2;WREN@tern.example;2025-04-01;came to a TALK;\n3;nobody@tern.example;2026-04-01;Came to a talk;\n4;tern@tern.example;soon;Came to a talk;\n";
    let taken: Value = serde_json::from_str(&s.api("POST", "/api/events", csv).await.1).unwrap();
    assert_eq!((&taken["new"], &taken["refused"], &taken["reasons"][0]["line"]), (&json!(2), &json!(2), &json!(4)));
    let line = r#"{"key":"1","address":"wren@tern.example","at":"2026-04-01T00:00:00Z","name":"Came to a talk"}"#;
    let again: Value = serde_json::from_str(&s.api("POST", "/api/events", line).await.1).unwrap();
    assert_eq!((&again["new"], &again["known"]), (&json!(0), &json!(1)));
    let asked = |n: u32, days: Value| json!({ "kind": "event", "name": "Came to a talk", "times": { "at_least": n }, "within_days": days });
    assert_eq!(people(&s, asked(2, Value::Null)).await, 1);
    assert_eq!(people(&s, asked(2, json!(90))).await, 0);
    assert_eq!(s.ok("GET", "/api/contacts/1", &Value::Null).await["events"].as_array().unwrap().len(), 2);
    let (status, words) = s.api("POST", "/api/events", "key,address\n1,wren@tern.example\n").await;
    assert!(status == StatusCode::CONFLICT && words.contains("lacks at, name"), "{words}");
}

/// Everybody a search shows is put on a list as one run, and taken off again by taking it back; who was
/// on it before stays.
#[tokio::test]
async fn those_who_are_shown_are_put_on_a_list_and_taken_back() {
    let s = three().await;
    let list = s.ok("POST", "/api/words", &json!({ "word": "list", "name": "Friends" })).await.as_i64().unwrap();
    s.ok("POST", &format!("/api/words/{list}/people"), &json!({ "word": "list", "contacts": [1], "on": true })).await;
    let run = s.ok("POST", "/api/contacts/put?search=@tern", &json!({ "word": "list", "id": list })).await;
    let on = || s.count("SELECT count(*) FROM list_member");
    assert_eq!(on(), 3);
    assert_eq!(s.ok("GET", &format!("/api/changes/{run}"), &Value::Null).await["people"], 2);
    assert_eq!(s.api("POST", &format!("/api/changes/{run}/undo"), "").await.0, StatusCode::ACCEPTED);
    while s.ok("GET", &format!("/api/changes/{run}"), &Value::Null).await["state"] != "undone" {
        tokio::task::yield_now().await;
    }
    assert_eq!(on(), 1);
    let (status, words) = s.api("POST", &format!("/api/changes/{run}/undo"), "").await;
    assert!(status == StatusCode::CONFLICT && words.contains("already"), "{words}");
}

/// Labels are made by use, renamed, merged and deleted; mailings keep the rest.
#[tokio::test]
async fn mailings_are_found_by_their_labels() {
    let s = three().await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Tides"])).await;
    s.ok("PUT", "/api/labels/mailing/1", &json!(["Spring", "boats"])).await;
    s.ok("PUT", "/api/labels/mailing/2", &json!(["Boats", "Summer"])).await;
    let labels = || async { s.ok("GET", "/api/vocabulary", &Value::Null).await["labels"].clone() };
    let all = labels().await;
    assert_eq!((all.as_array().unwrap().len(), &all[0]["name"], &all[0]["people"]), (3, &json!("boats"), &json!(2)), "case is no matter");
    let id = |n: usize| all[n]["id"].as_i64().unwrap();
    s.ok("PUT", &format!("/api/words/{}", id(2)), &json!({ "word": "label", "name": null, "into": id(1) })).await;
    let rows = s.ok("GET", "/api/mailings", &Value::Null).await;
    assert!(rows.as_array().unwrap().iter().all(|m| m["labels"] == json!(["boats", "Spring"])), "{rows}");
    s.ok("DELETE", &format!("/api/words/label/{}", id(0)), &Value::Null).await;
    assert_eq!(s.ok("GET", "/api/mailings/1", &Value::Null).await["labels"], json!(["Spring"]));

    // A series' label is one on each of its messages, and goes with the label.
    s.ok("POST", "/api/series", &json!({ "name": "Welcome", "letterhead_id": 1 })).await;
    let steps = json!([{ "id": 1, "does": { "kind": "mail", "mailing": 2 } }]);
    let outline =
        json!({ "entry": { "kind": "by_hand" }, "again": { "kind": "never" }, "from": null, "until": null, "steps": steps, "exits": [] });
    s.ok("PUT", "/api/series/1", &json!({ "name": "Welcome", "letterhead_id": 1, "outline": outline })).await;
    s.ok("PUT", "/api/labels/series/1", &json!(["Newcomers", "Spring"])).await;
    assert_eq!(s.ok("GET", "/api/labels/series", &Value::Null).await, json!([{ "id": 1, "labels": ["Newcomers", "Spring"] }]));
    let all = labels().await;
    assert_eq!((&all[0]["name"], &all[0]["people"], &all[1]["people"]), (&json!("Newcomers"), &json!(1), &json!(2)), "{all}");
    s.ok("DELETE", &format!("/api/words/label/{}", all[0]["id"]), &Value::Null).await;
    assert_eq!(s.ok("GET", "/api/labels/series", &Value::Null).await, json!([{ "id": 1, "labels": ["Spring"] }]));
    assert_eq!(s.api("PUT", "/api/labels/hour_trial/9", "[]").await.0, axum::http::StatusCode::NOT_FOUND);
}

/// When sign-ups from one source jump, Today says so; a usual week says nothing.
#[rstest]
#[case(3, false)]
#[case(40, true)]
#[tokio::test]
async fn a_source_that_jumps_is_on_today(#[case] sign_ups: usize, #[case] alarm: bool) {
    let s = three().await;
    for i in 0..sign_ups {
        let body = json!({ "address": format!("n{i}@tern.example"), "source": "web form", "list": null, "consent": false, "evidence": "" });
        s.ok("POST", "/api/contacts", &body).await;
    }
    let today = s.ok("GET", "/api/today", &Value::Null).await;
    let said = today.as_array().unwrap().iter().any(|d| d["kind"] == "source" && d["title"].as_str().unwrap().contains("web form"));
    assert_eq!(said, alarm, "{today}");
}

/// A base check fix through the API: what it says it does, no more, and by whom.
#[tokio::test]
async fn a_finding_is_fixed_for_those_who_are_named() {
    let s = three().await;
    for a in ["office@tern.example", "info@tern.example"] {
        s.ok("POST", "/api/contacts", &json!({ "address": a, "list": null, "consent": false, "evidence": "" })).await;
    }
    let rows = s.ok("GET", "/api/base-check/role", &Value::Null).await;
    assert_eq!(rows["people"], 2);
    let first = rows["rows"][0]["contact_id"].clone();
    let run = s.ok("POST", "/api/base-check/fix", &json!({ "finding": "role", "only": [first] })).await;
    let change = s.ok("GET", &format!("/api/changes/{run}"), &Value::Null).await;
    assert_eq!((&change["people"], &change["person"]), (&json!(1), &json!("Ines Marek")));
    assert_eq!(s.ok("GET", "/api/base-check/role", &Value::Null).await["people"], 1);
    let csv = s.api("GET", "/api/base-check/role/people.csv", "").await.1;
    assert!(csv.contains("info@tern.example") && !csv.contains("office@"), "{csv}");
}
