//! What happens to a mailing between planning and the end: whose hour it is, how fast, paused, stopped; what a letterhead's
//! change reaches, and that a test touches no figure.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_core::{DAY, HOUR, MINUTE};
use rinse_testkit::draft;
use serde_json::{Value, json};

const ZONES: [(&str, &str); 4] = [("a", "Pacific/Auckland"), ("b", "Europe/London"), ("c", "America/New_York"), ("d", "")];

async fn with_people(n: usize) -> Inside {
    let s = Inside::new().await;
    let mut csv = String::from("email,time zone\n");
    for i in 0..n {
        let (name, zone) = ZONES[i % 4];
        csv.push_str(&format!("{name}{i}@{}.example,{zone}\n", ["tern", "plover"][i / 4 % 2]));
    }
    s.import(&csv).await;
    s
}

async fn planned(s: &Inside, schedule: Value) -> i64 {
    let mut d = draft(1, &["Boats"]);
    d["schedule"] = schedule;
    let id = s.ok("POST", "/api/mailings", &d).await["id"].as_i64().unwrap();
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null })).await;
    id
}

async fn now(s: &Inside) -> i64 {
    s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap()
}

async fn state(s: &Inside, id: i64) -> Value {
    s.ok("GET", &format!("/api/mailings/{id}"), &Value::Null).await["state"].clone()
}

/// Nothing that happens in the simulated world depends on keys that an installation draws for itself: who tries the demo sees what
/// its guide shows, and a test that passed passes.
#[tokio::test(flavor = "multi_thread")]
async fn the_same_steps_lead_to_the_same_world() {
    let mut worlds = Vec::new();
    for _ in 0..2 {
        let s = Inside::new().await;
        s.import(&rinse_testkit::people_csv(300)).await;
        planned(&s, json!({})).await;
        s.advance(96).await;
        let db = s.db();
        let mut all = Vec::new();
        for sql in [
            "SELECT contact_id, state, coalesce(accepted_at, 0), reply FROM send ORDER BY id",
            "SELECT send_id, kind, at, agent FROM response ORDER BY send_id, kind, at",
            "SELECT contact_id, at, id, kind FROM ledger ORDER BY id",
        ] {
            let mut rows = db.prepare(sql).unwrap();
            let rows =
                rows.query_map([], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?, r.get::<_, i64>(2)?, r.get::<_, Option<String>>(3)?)));
            all.push(rows.unwrap().collect::<Result<Vec<_>, _>>().unwrap());
        }
        assert!(all.iter().all(|rows| rows.len() > 30), "something happened");
        worlds.push(all);
    }
    assert_eq!(worlds[0], worlds[1]);
}

#[tokio::test(flavor = "multi_thread")]
async fn everyone_gets_it_at_nine_by_their_own_clock() {
    let s = with_people(40).await;
    let day = now(&s).await / DAY + 2;
    let id = planned(&s, json!({ "local": { "day": day, "minute": 540, "passed": "tomorrow" } })).await;
    assert_eq!(state(&s, id).await, "planned");
    s.advance(72).await;
    assert_eq!(state(&s, id).await, "sent");
    // 9:00 in Auckland is 21:00 UTC of the day before, in London (summer) 8:00, in New York 13:00; without a zone: the letterhead's, UTC.
    for (name, hour) in [("a", -3), ("b", 8), ("c", 13), ("d", 9)] {
        let at = day * DAY + hour * HOUR;
        let off = s.count(&format!(
            "SELECT count(*) FROM send s JOIN contact k ON k.id = s.contact_id WHERE k.address LIKE '{name}%' AND (s.handed_at IS NULL OR s.handed_at <> {at})"
        ));
        assert_eq!(off, 0, "zone {name}");
    }
    let look = s.ok("POST", "/api/audience", &json!({ "draft": draft(1, &["x"]), "at": null, "mailing": null })).await;
    assert_eq!((look["people"].as_i64(), look["without_zone"].as_i64()), (Some(40), Some(10)));
    assert_eq!(look["overlaps"][0]["people"], 40);
}

#[tokio::test(flavor = "multi_thread")]
async fn no_hour_sees_more_than_a_domains_rate() {
    let s = with_people(80).await;
    let begun = now(&s).await;
    planned(&s, json!({ "rates": [{ "domain": "tern.example", "per_hour": 12 }] })).await;
    s.advance(6).await;
    let at = |domain: &str| -> Vec<i64> {
        let db = s.db();
        let mut q =
            db.prepare("SELECT s.handed_at FROM send s JOIN contact k ON k.id = s.contact_id WHERE k.address LIKE ?1 ORDER BY 1").unwrap();
        q.query_map([format!("%@{domain}")], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
    };
    let tern = at("tern.example");
    assert_eq!(tern.len(), 40);
    for first in &tern {
        assert!(tern.iter().filter(|t| **t >= *first && **t < first + HOUR).count() <= 12);
    }
    assert!(at("plover.example").iter().all(|t| *t == begun), "only the domain that is named waits");
}

#[tokio::test(flavor = "multi_thread")]
async fn paused_nothing_goes_and_resumed_it_goes_on_where_it_was() {
    let s = with_people(40).await;
    let id = planned(&s, json!({ "spread_minutes": 240 })).await;
    s.advance(1).await;
    let before = s.count("SELECT count(*) FROM send WHERE state = 3");
    assert!(before > 0 && before < 40, "{before} of 40 in the first of four hours");
    s.ok("POST", &format!("/api/mailings/{id}/pause"), &Value::Null).await;
    assert_eq!(s.api("POST", &format!("/api/mailings/{id}/pause"), "").await.0, StatusCode::CONFLICT, "it is paused already");
    s.advance(10).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE state = 3"), before, "nothing goes while it is paused");
    s.ok("POST", &format!("/api/mailings/{id}/resume"), &Value::Null).await;
    let resumed = now(&s).await;
    s.advance(2).await;
    let soon = s.count("SELECT count(*) FROM send WHERE state = 3");
    assert!(soon < 40, "it keeps its distances: {soon}");
    s.advance(2).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE state = 3"), 40);
    assert_eq!(s.count(&format!("SELECT count(*) FROM send WHERE handed_at > {}", resumed + 3 * HOUR + MINUTE)), 0);
    assert_eq!(state(&s, id).await, "sent");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_rest_can_be_cancelled_and_a_planned_mailing_taken_back() {
    let s = with_people(40).await;
    let later = now(&s).await + DAY;
    let id = s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await["id"].as_i64().unwrap();
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": later })).await;
    s.ok("POST", &format!("/api/mailings/{id}/cancel"), &Value::Null).await;
    assert_eq!(state(&s, id).await, "draft");
    s.advance(48).await;
    assert_eq!(s.count("SELECT count(*) FROM send"), 0);
    let id = planned(&s, json!({ "spread_minutes": 240 })).await;
    s.advance(1).await;
    let had = s.count("SELECT count(*) FROM send WHERE state = 3");
    let rest = s.ok("POST", &format!("/api/mailings/{id}/cancel"), &Value::Null).await;
    assert_eq!(rest, 40 - had);
    s.advance(24).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE state = 3"), had);
    assert_eq!(state(&s, id).await, "sent");
    let way = s.ok("GET", &format!("/api/mailings/{id}/way"), &Value::Null).await;
    assert_eq!((way[0]["people"].as_i64(), way[0]["stopped"].as_i64()), (Some(40), rest.as_i64()));
}

/// As a process leaves it that ends while a mailing is being put on record, a part of its people at a time: the next one
/// puts the rest on record, behind those who wait already, and nobody twice; or nobody, when it was cancelled.
#[rstest::rstest]
#[case::goes_on(false)]
#[case::cancelled(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_mailing_half_put_on_record_goes_on(#[case] cancelled: bool) {
    let s = with_people(40).await;
    let start = now(&s).await + DAY;
    let mut d = draft(1, &["Boats"]);
    d["schedule"] = json!({ "rates": [{ "domain": "", "per_hour": 4 }] });
    let id = s.ok("POST", "/api/mailings", &d).await["id"].as_i64().unwrap();
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": start })).await;
    let quarter = HOUR / 4;
    s.db()
        .execute_batch(&format!(
            "UPDATE mailing SET state = 'sending', recording = 1, started_at = {start} WHERE id = {id};
             INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, rules_version)
             SELECT {id}, id, {id}, 1, {start} + {quarter} * (row_number() OVER (PARTITION BY domain_id ORDER BY id) - 1), {start} + {DAY} * 9, 1 FROM contact WHERE id <= 16;"
        ))
        .unwrap();
    if cancelled {
        assert_eq!(s.ok("POST", &format!("/api/mailings/{id}/cancel"), &Value::Null).await, 16);
    }
    s.advance(48).await;
    assert_eq!(state(&s, id).await, "sent");
    let expected = if cancelled { (16, 0) } else { (40, 40) };
    assert_eq!((s.count("SELECT count(DISTINCT contact_id) FROM send"), s.count("SELECT count(*) FROM send WHERE state = 3")), expected);
    assert_eq!(s.count("SELECT count(*) FROM send"), expected.0);
    let crowded = "SELECT count(*) FROM send a JOIN contact k ON k.id = a.contact_id WHERE a.handed_at IS NOT NULL AND 4 < (SELECT count(*) FROM send b
        JOIN contact l ON l.id = b.contact_id WHERE l.domain_id = k.domain_id AND b.handed_at >= a.handed_at AND b.handed_at < a.handed_at + 3600000)";
    assert_eq!(s.count(crowded), 0, "the rate holds across the parts");
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_are_put_together_and_others_left_out() {
    let s = with_people(40).await;
    for (id, name) in [(1, "Tides"), (2, "Boats"), (3, "Press")] {
        s.db().execute("INSERT INTO list (id, name, made_at) VALUES (?1, ?2, 0)", rusqlite::params![id, name]).unwrap();
    }
    s.db().execute_batch("INSERT INTO list_member SELECT 1, id, 0 FROM contact WHERE id <= 10; INSERT INTO list_member SELECT 2, id, 0 FROM contact WHERE id BETWEEN 6 AND 20;
        INSERT INTO list_member SELECT 3, id, 0 FROM contact WHERE id IN (3, 30)").unwrap();
    let mut d = draft(1, &["Boats"]);
    d["list_id"] = json!(1);
    d["also"] = json!([{ "kind": "list", "id": 2 }]);
    d["without"] = json!([{ "kind": "list", "id": 3 }]);
    let id = s.ok("POST", "/api/mailings", &d).await["id"].as_i64().unwrap();
    let look = s.ok("POST", "/api/audience", &json!({ "draft": d, "at": null, "mailing": id })).await;
    assert_eq!(look["people"], 19);
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null })).await;
    assert_eq!(s.count("SELECT count(*) FROM send"), 19);
    assert_eq!(s.count("SELECT count(*) FROM send WHERE contact_id = 3"), 0);
    let (status, words) = s.api("DELETE", "/api/words/list/3", "").await;
    assert!(status.is_client_error() || words.contains("Boat days"), "{status} {words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_letterheads_change_reaches_drafts_and_nothing_on_its_way() {
    let s = with_people(40).await;
    let id = planned(&s, json!({ "spread_minutes": 240 })).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Later"])).await;
    s.advance(1).await;
    let reach = s.ok("GET", "/api/letterheads/1/reach", &Value::Null).await;
    assert_eq!((reach["drafts"].as_array().unwrap().len(), reach["sent"].as_i64()), (1, Some(1)));
    let mut l = s.ok("GET", "/api/letterheads", &Value::Null).await[0].clone();
    l["postal_address"] = json!("2 Far Quay");
    s.ok("POST", "/api/letterheads", &l).await;
    let preview = |d: Value| json!({ "draft": d, "contact": null, "arm": 0 });
    let shown = s.ok("POST", "/api/message-preview", &preview(draft(1, &["Later"]))).await;
    assert!(shown["html"].as_str().unwrap().contains("2 Far Quay"));
    let kept = s.ok("GET", &format!("/api/mailings/{id}"), &Value::Null).await;
    assert!(s.count(&format!("SELECT instr(letterhead_as_sent, 'Far Quay') FROM mailing WHERE id = {id}")) == 0, "{kept}");
    s.advance(6).await;
    assert_eq!(state(&s, id).await, "sent");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_is_a_real_message_that_no_figure_counts() {
    let s = with_people(4).await;
    let figures = |s: &Inside| {
        (s.count("SELECT count(*) FROM send"), s.count("SELECT count(*) FROM response"), s.count("SELECT count(*) FROM ledger"))
    };
    let before = figures(&s);
    let body = json!({ "draft": draft(1, &["Boats"]), "contact": 1, "arm": 0, "to": "ines@tern.example", "mailing": null });
    let first = s.ok("POST", "/api/message-test", &body).await;
    assert_eq!(first["accepted"], true, "{first}");
    s.ok("POST", "/api/message-test", &body).await;
    let world = rusqlite::Connection::open(s.folder().join("world.db")).unwrap();
    let reached: i64 = world.query_row("SELECT count(*) FROM accepted WHERE address = 'ines@tern.example'", [], |r| r.get(0)).unwrap();
    assert_eq!(reached, 2, "each test is a message of its own");
    s.advance(48).await;
    assert_eq!(figures(&s), before, "whatever its reader did");
    assert_eq!(s.count("SELECT count(*) FROM test_send WHERE reply LIKE '250%'"), 2);
    let (status, words) = s
        .api(
            "POST",
            "/api/message-test",
            &json!({ "draft": draft(1, &["x"]), "contact": null, "to": "nobody", "mailing": null }).to_string(),
        )
        .await;
    assert!(status == StatusCode::CONFLICT && words.contains("can't go to"), "{status} {words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_must_stand_in_dns_before_anything_is_planned_with_it() {
    let s = with_people(4).await;
    s.ok("POST", "/api/letterheads/1/keys", &json!({ "algorithm": "ed25519" })).await;
    let id = s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await["id"].as_i64().unwrap();
    let (status, words) = s.api("POST", &format!("/api/mailings/{id}/plan"), "{\"at\":null}").await;
    assert!(status == StatusCode::CONFLICT && words.contains("DNS record"), "{words}");
    s.ok("POST", "/api/letterheads/1/keys/1/publish", &Value::Null).await;
    let key = s.ok("GET", "/api/letterheads/1/keys", &Value::Null).await[0].clone();
    assert_eq!((key["found"].as_bool(), key.get("private")), (Some(true), None), "the private part never leaves");
    let (status, eml) = s.api("POST", "/api/message.eml", &json!({ "draft": draft(1, &["Boats"]), "contact": 1 }).to_string()).await;
    assert_eq!(status, StatusCode::OK);
    let head = eml.split("\r\n\r\n").next().unwrap();
    assert!(head.starts_with("DKIM-Signature:") && head.contains("d=skerry-light.example") && head.contains("s=rinse1"), "{head}");
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE state IN (3, 4)"), 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn images_are_told_by_their_bytes_and_served_by_a_key() {
    let s = Inside::new().await;
    let (status, words) = s.api("POST", "/api/images?name=x.png", "<svg onload=alert(1)>").await;
    assert!(status == StatusCode::CONFLICT && words.contains("no PNG"), "{words}");
    let (status, made) = s.api("POST", "/api/images?name=lamp.gif", "GIF89a and so on").await;
    assert_eq!(status, StatusCode::OK);
    let key = serde_json::from_str::<Value>(&made).unwrap()["key"].as_str().unwrap().to_owned();
    assert_eq!(s.door("GET", &format!("/m/{key}"), "").await.1, "GIF89a and so on");
    for wrong in ["0", "..%2Frinse.db", &key.replace(&key[..1], "g")] {
        assert_ne!(s.door("GET", &format!("/m/{wrong}"), "").await.0, StatusCode::OK);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_calendar_is_icalendar_and_copies_are_drafts() {
    let s = with_people(4).await;
    let later = now(&s).await + DAY;
    let id = s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await["id"].as_i64().unwrap();
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": later })).await;
    let (_, ics) = s.api("GET", "/api/calendar.ics", "").await;
    assert!(
        ics.starts_with("BEGIN:VCALENDAR\r\n") && ics.contains("SUMMARY:Boat days: goes out") && ics.contains("DTSTART:20260417T184000Z"),
        "{ics}"
    );
    let copy =
        s.ok("POST", &format!("/api/mailings/{id}/copy"), &json!({ "name": "Boat days, again", "template": true })).await.as_i64().unwrap();
    let (status, words) = s.api("POST", &format!("/api/mailings/{copy}/plan"), "{\"at\":null}").await;
    assert!(status == StatusCode::CONFLICT && words.contains("template"), "{words}");
    let beside = s.ok("GET", &format!("/api/mailings/{id}/beside/{copy}"), &Value::Null).await;
    assert!(beside.as_array().unwrap().iter().all(|p| p["lines"].as_array().unwrap().iter().all(|l| l["same"] == true)));
    assert_eq!(s.api("PUT", &format!("/api/mailings/{id}/archive"), "{\"away\":true}").await.0, StatusCode::CONFLICT, "it is planned");
    s.ok("PUT", &format!("/api/mailings/{copy}/archive"), &json!({ "away": true })).await;
}
