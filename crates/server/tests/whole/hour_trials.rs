//! An hour trial from plan to reading through the real engine: who gets what when, what is shown before the end, and what the record works out.

use crate::inside::trial::{files_at, printed};
use crate::inside::{Inside, opened};
use axum::http::StatusCode;
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_testkit::draft;
use serde_json::{Value, json};
use std::fmt::Write;

const PEOPLE: usize = 900;
/// Saturdays from 18 April 2026 on.
const DAYS: [i64; 3] = [20_561, 20_568, 20_575];
const DAY: i64 = 86_400_000;
const HOUR: i64 = 3_600_000;

/// In three time zones; every ninth person's is unknown.
fn people() -> String {
    let mut out = String::from("email,first name,time zone\n");
    for i in 0..PEOPLE {
        let zone = if i % 9 == 8 { "" } else { ["Europe/Paris", "Pacific/Auckland", "America/New_York"][i % 3] };
        writeln!(out, "wren{i}@{},Wren{i},{zone}", ["tern.example", "avocet.example"][i % 2]).unwrap();
    }
    out
}

fn plan() -> Value {
    let rounds: Vec<Value> = DAYS.iter().zip(1..).map(|(day, mailing)| json!({ "mailing": mailing, "day": day })).collect();
    json!({ "question": "Does the hour matter for boat days?", "metric": "human_open", "hours": [8, 12, 18], "rounds": rounds, "usual_hour": 10,
        "effect": 0.05, "alpha": 0.05, "power": 0.8, "window_days": 7, "fail_loss": 0.2 })
}

async fn planned() -> Inside {
    let s = Inside::new().await;
    s.import(&people()).await;
    for subject in ["Boats in April", "Boats in late April", "Boats in May"] {
        s.ok("POST", "/api/mailings", &draft(1, &[subject])).await;
    }
    assert_eq!(s.ok("POST", "/api/hour-trials", &plan()).await, json!(1));
    s
}

const WHY: &str = r#"{"why_small":"Read together with last year's"}"#;

async fn sealed() -> Inside {
    let s = planned().await;
    let (status, words) = s.api_as("3", "POST", "/api/hour-trials/1/seal", WHY).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{words}");
    s
}

#[tokio::test(flavor = "multi_thread")]
async fn rounds_go_out_as_drawn_and_are_read_once() {
    let s = sealed().await;
    let drawn_at = DAYS[0] * DAY - 15 * HOUR;
    for mailing in 1..3 {
        s.ok("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null })).await;
    }
    assert_eq!(s.count("SELECT planned_at FROM mailing WHERE id = 1"), drawn_at, "a round is planned for its draw, whenever is asked for");

    s.advance(24).await;
    let known = PEOPLE as i64 * 8 / 9;
    assert_eq!(s.count("SELECT count(*) FROM hour_roster WHERE mailing_id = 1"), known, "all whose time zone is known");
    assert!(s.count("SELECT max(apart) FROM (SELECT max(n) - min(n) apart FROM (SELECT zone, stratum, count(*) n FROM hour_roster GROUP BY zone, stratum, hour) GROUP BY stratum)") <= 1, "even in each stratum");
    // Eight in the morning on the first Saturday in Auckland is the evening before in UTC.
    let auckland =
        "SELECT min(r.due) FROM hour_roster r JOIN contact k ON k.id = r.contact_id WHERE k.zone = 'Pacific/Auckland' AND r.hour = 8";
    assert_eq!(s.count(auckland), DAYS[0] * DAY - 4 * HOUR);
    assert_eq!(s.ok("GET", "/api/hour-trials/1/seal", &Value::Null).await["broken"], Value::Null);

    s.advance(48).await;
    let off = "SELECT count(*) FROM hour_roster r JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id WHERE s.handed_at IS NOT r.due";
    assert_eq!(s.count(off), 0, "each at the hour they were drawn to");
    let others = "SELECT count(*) FROM send s WHERE s.mailing_id = 1 AND s.handed_at IS NOT NULL AND NOT EXISTS (SELECT 1 FROM hour_roster r WHERE r.contact_id = s.contact_id)";
    assert_eq!(s.count(others), PEOPLE as i64 - known, "the others at the usual hour");
    let running = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    assert_eq!(
        (&running["reading"], &running["pooled"]["people"], &running["pooled"]["hours"][0]["lost"]),
        (&Value::Null, &json!(known), &json!(0))
    );
    assert_eq!(running["pooled"]["hours"][0].get("did"), None, "nothing by hour before the end");
    // What comes to light of a domain after the draw moves nobody of the round, and nobody of it is merged away.
    let db = s.db();
    db.execute("UPDATE domain SET opens_unknown = 1 WHERE name = 'tern.example'", []).unwrap();
    let at_tern = "SELECT s.id, s.handed_at FROM hour_roster r JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id JOIN contact k ON k.id = r.contact_id
        JOIN domain d ON d.id = k.domain_id WHERE d.name = 'tern.example' AND s.open_at IS NULL AND s.accepted_at IS NOT NULL LIMIT 1";
    let (send, handed): (i64, i64) = db.query_row(at_tern, [], |r| Ok((r.get(0)?, r.get(1)?))).unwrap();
    assert!(rinse_store::responses::hit(&db, SendId(send), &opened(Instant::of(handed + HOUR))).unwrap());
    assert_eq!(s.count(&format!("SELECT open_at IS NOT NULL FROM send WHERE id = {send}")), 1, "it counts as it would have at the draw");
    db.execute("UPDATE domain SET opens_unknown = 0", []).unwrap();
    let merged = s.api("POST", "/api/contacts/1/merge", r#"{"into":2}"#).await;
    assert!(merged.1.contains("in a trial that is still collecting"), "{merged:?}");

    // The third message isn't planned: its round is missed, and the mailing is as any other again.
    s.advance(19 * 24).await;
    let rounds = s.ok("GET", "/api/hour-trials/1", &Value::Null).await["rounds"].clone();
    assert!(rounds[1]["people"].as_i64().unwrap() > known * 9 / 10, "those who left since aren't drawn again: {rounds}");
    assert_eq!(rounds[2]["missed"], json!("its message wasn't planned in time"));

    // Whatever the stand-in's people did: at eight two thirds open, else a third.
    let opened = "UPDATE send SET opens_unknown = 0, any_open_at = handed_at + 60000, open_at = CASE WHEN (contact_id * 7 + mailing_id * 3) % 12
        < (SELECT iif(r.hour = 8, 8, 4) FROM hour_roster r WHERE r.mailing_id = send.mailing_id AND r.contact_id = send.contact_id) THEN handed_at + 60000 END";
    s.db().execute_batch(&format!("{opened}; UPDATE send SET any_open_at = open_at;")).unwrap();
    s.advance(24 * 9).await;
    let read = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    let r = &read["reading"];
    assert_eq!((&r["verdict"], &r["best_set"], &read["trial"]["state"]), (&json!("matters"), &json!([8]), &json!("read")), "{r}");
    assert!(r["sentence"].as_str().unwrap().contains("08:00 is the best"), "{r}");
    assert!(r["rounds"][2]["left_out"].as_str().unwrap().contains("nobody was drawn"), "{r}");
    let files = files_at(&s, "/api/hour-trials/1/record.zip").await;
    for (by, script) in [("python3", "recompute.py"), ("Rscript", "recompute.R")] {
        let Some(out) = printed(&files, by, script) else { continue };
        assert_eq!(out.lines().last(), Some("matters"), "{out}");
        assert!(out.contains(&format!("statistic {:.6},", r["statistic"].as_f64().unwrap())), "{out} {r}");
        assert!(
            out.contains(&format!("08:00 less the mean of the hours: {:+.6}", r["hours"][0]["estimate"].as_f64().unwrap())),
            "{out} {r}"
        );
    }

    // What was learned is used, for a year, by those for whom it was learned.
    let learned = s.ok("GET", "/api/hours/learned", &Value::Null).await;
    assert_eq!(
        (&learned[0]["hour"], &learned[0]["audience"], &learned[0]["gain"]),
        (&json!(8), &json!("everyone"), &Value::Null),
        "{learned}"
    );
    let day = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() / DAY + 3;
    let mut best = draft(1, &["Boats at their hour"]);
    best["schedule"] = json!({ "local": { "day": day, "minute": 600, "passed": "tomorrow" }, "best_hour": true });
    let id = s.ok("POST", "/api/mailings", &best).await["id"].as_i64().unwrap();
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null })).await;
    s.advance(24 * 5).await;
    let at = |zone: &str, utc: i64| {
        s.count(&format!(
            "SELECT count(*) FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.mailing_id = {id} AND {zone} AND s.at = {}",
            day * DAY + utc * HOUR
        ))
    };
    let all = s.count(&format!("SELECT count(*) FROM send WHERE mailing_id = {id}"));
    let of = [
        at("k.zone = 'Europe/Paris'", 6),
        at("k.zone = 'Pacific/Auckland'", -4),
        at("k.zone = 'America/New_York'", 12),
        at("k.zone IS NULL", 10),
    ];
    assert!(of.iter().all(|n| *n > 50) && of.iter().sum::<i64>() > all * 95 / 100, "{of:?} of {all}");
    assert_eq!(s.count(&format!("SELECT count(*) FROM audit WHERE what = 'best hours used' AND subject_id = {id}")), 1);

    // A roster that was touched is seen.
    s.db().execute("UPDATE hour_roster SET hour = 12 WHERE mailing_id = 1 AND contact_id = (SELECT min(contact_id) FROM hour_roster WHERE mailing_id = 1 AND hour <> 12)", []).unwrap();
    let seal = s.ok("GET", "/api/hour-trials/1/seal", &Value::Null).await;
    assert!(seal["broken"].as_str().unwrap().contains("roster of round 1"), "{seal}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draw_that_was_cut_off_is_made_again() {
    let s = sealed().await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    // A crash after some had been put on the roster, before the round was in force.
    s.db().execute("INSERT INTO hour_roster SELECT 1, id, 0, 0, 12, 0, 0, NULL FROM contact WHERE id <= 40", []).unwrap();
    s.advance(16).await;
    assert_eq!(s.count("SELECT count(*) FROM hour_roster WHERE due = 0"), 0);
    assert_eq!(s.ok("GET", "/api/hour-trials/1/seal", &Value::Null).await["broken"], Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_would_break_it_is_refused_in_a_sentence() {
    let s = planned().await;
    let outlook = s.ok("POST", "/api/hour-trials/outlook", &plan()).await;
    assert_eq!((&outlook["refused"], &outlook["people"]), (&Value::Null, &json!(PEOPLE * 8 / 9)), "{outlook}");
    assert!(!outlook["outlook"]["enough"].as_bool().unwrap() && outlook["warnings"] == json!([]), "{outlook}");
    // With a cap in force, another mailing between a draw and the last hour takes people off the late hours.
    let cap = json!({ "rules": { "caps": [{ "limit": 3, "window": { "kind": "days", "n": 7 }, "scope": { "kind": "marketing" }, "in_force": true }] }, "note": "A try" });
    let (status, said) = s.api("PUT", "/api/rules", &cap.to_string()).await;
    assert!(status.is_success(), "{said}");
    let other = s.ok("POST", "/api/mailings", &draft(1, &["Places are left"])).await["id"].clone();
    s.ok("POST", &format!("/api/mailings/{other}/plan"), &json!({ "at": DAYS[1] * DAY })).await;
    let warned = s.ok("POST", "/api/hour-trials/outlook", &plan()).await["warnings"].clone();
    assert!(warned.as_array().is_some_and(|w| w.len() == 1) && warned[0].as_str().unwrap().contains("draw of round 2"), "{warned}");
    s.ok("POST", &format!("/api/mailings/{other}/cancel"), &Value::Null).await;
    let refused = async |body: &str, path: &str, words: &str| {
        let (status, said) = s.api("POST", path, body).await;
        assert!(status == StatusCode::CONFLICT && said.contains(words), "{path} {status}: {said}");
    };
    refused("{}", "/api/hour-trials/1/seal", "an approver lets it go").await;
    let mut late = plan();
    late["rounds"][0]["day"] = json!(20_560);
    s.ok("PUT", "/api/hour-trials/1", &late).await;
    refused(WHY, "/api/hour-trials/1/seal", "Choose a later date").await;
    let mut twice = plan();
    twice["rounds"][1]["mailing"] = json!(1);
    s.ok("PUT", "/api/hour-trials/1", &twice).await;
    refused(WHY, "/api/hour-trials/1/seal", "mailing of its own").await;
    let mut nonsense = plan();
    nonsense["hours"] = json!([8, 8]);
    assert!(s.api("PUT", "/api/hour-trials/1", &nonsense.to_string()).await.0.is_client_error());
    s.ok("PUT", "/api/hour-trials/1", &plan()).await;
    assert!(s.api_as("3", "POST", "/api/hour-trials/1/seal", WHY).await.0.is_success());

    // Its mailings belong to it now.
    s.ok("POST", "/api/hour-trials", &plan()).await;
    refused(WHY, "/api/hour-trials/2/seal", "is a round of another hour trial").await;
    assert!(s.api("PUT", "/api/hour-trials/1", &plan().to_string()).await.1.contains("is sealed"), "a sealed plan stays");
    // A message tied to an hour isn't drawn to hours.
    let mut tied = draft(1, &["Boats in April"]);
    tied["html"] = json!(tied["html"].as_str().unwrap().replace("book a boat", "book a boat tonight"));
    let version = s.count("SELECT version FROM mailing WHERE id = 1");
    let (status, said) = s.api("PUT", &format!("/api/mailings/1?version={version}"), &tied.to_string()).await;
    assert!(status.is_success(), "{said}");
    refused(r#"{"at":null}"#, "/api/mailings/1/plan", "an hour trial draws who gets it when").await;

    // Another subject than was sealed is another trial.
    s.db().execute_batch("UPDATE mailing SET html = replace(html, ' tonight', '') WHERE id = 1; UPDATE variant SET subject = 'Other boats' WHERE mailing_id = 1").unwrap();
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.ok("POST", "/api/mailings/2/plan", &json!({ "at": null })).await;
    s.advance(48).await;
    let view = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    assert_eq!(view["rounds"][0]["missed"], json!("its subject was changed after the seal"), "{view}");
    assert_eq!(
        s.count("SELECT count(*) FROM send WHERE mailing_id = 1 AND handed_at IS NOT NULL"),
        PEOPLE as i64,
        "it goes out as any other"
    );
    // Once a round is drawn, stopping it would lose late hours.
    s.advance(24 * 7 - 26).await;
    refused("", "/api/mailings/2/cancel", "End the trial first").await;
    s.ok("POST", "/api/hour-trials/1/end", &Value::Null).await;
    s.ok("POST", "/api/mailings/2/cancel", &Value::Null).await;
    assert_eq!(s.ok("GET", "/api/hour-trials/1", &Value::Null).await["trial"]["state"], json!("ended"));
}

/// The record's scripts find the gain that was read, and that it is one.
async fn scripts_agree(s: &Inside, trial: i64, gain: &Value) {
    let files = files_at(s, &format!("/api/hour-trials/{trial}/record.zip")).await;
    for (by, script) in [("python3", "recompute.py"), ("Rscript", "recompute.R")] {
        let Some(out) = printed(&files, by, script) else { continue };
        assert_eq!(out.lines().last(), Some("matters"), "{out}");
        assert!(out.contains(&format!("a mean a person: {:+.6}", gain["difference"].as_f64().unwrap())), "{out} {gain}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_confirming_trial_keeps_everybody_at_one_hour_and_says_the_gain() {
    let s = planned().await;
    assert!(s.api("GET", "/api/hour-trials/1/confirming", "").await.1.contains("nothing to confirm"));
    let mut p = plan();
    (p["hours"], p["confirms"]) = (json!([8, 10]), json!({ "trial": 1, "best": 8 }));
    s.ok("PUT", "/api/hour-trials/1", &p).await;
    let outlook = s.ok("POST", "/api/hour-trials/outlook", &p).await;
    assert!(outlook["outlook"]["sentence"].as_str().unwrap().contains("between the best and the usual hour"), "{outlook}");
    let rehearsed = s.ok("POST", "/api/hour-trials/rehearsal", &p).await;
    assert!(rehearsed["none"]["matters"].as_i64() < rehearsed["wanted"]["matters"].as_i64(), "{rehearsed}");
    assert!(s.api_as("3", "POST", "/api/hour-trials/1/seal", WHY).await.0.is_success());
    for mailing in 1..4 {
        s.ok("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null })).await;
    }
    s.advance(24 * 18).await;
    let moved = "SELECT count(*) FROM (SELECT contact_id FROM hour_roster GROUP BY contact_id HAVING count(DISTINCT hour) > 1)";
    assert_eq!(s.count(moved), 0, "everybody keeps their hour");
    let opened = "UPDATE send SET opens_unknown = 0, open_at = CASE WHEN (contact_id * 7 + mailing_id * 3) % 12
        < (SELECT iif(r.hour = 8, 6, 4) FROM hour_roster r WHERE r.mailing_id = send.mailing_id AND r.contact_id = send.contact_id) THEN handed_at + 60000 END";
    s.db().execute_batch(&format!("{opened}; UPDATE send SET any_open_at = open_at;")).unwrap();
    s.advance(24 * 8).await;
    let read = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    let (r, g) = (&read["reading"], &read["reading"]["gain"]);
    assert_eq!((&r["verdict"], &r["best_set"]), (&json!("matters"), &json!([8])), "{r}");
    assert!(r["sentence"].as_str().unwrap().starts_with("Confirmed: at 08:00"), "{r}");
    scripts_agree(&s, 1, g).await;
    assert_eq!(s.ok("GET", "/api/hour-trials/1/seal", &Value::Null).await["broken"], Value::Null);
    assert!(s.api("GET", "/api/hour-trials/1/confirming", "").await.1.contains("nothing to confirm"), "a gain isn't confirmed again");
}

/// A conversion belongs to no message: it counts in the window from each person's own handover, whatever they followed, and in no other's.
#[tokio::test(flavor = "multi_thread")]
async fn conversions_count_within_each_window_whatever_was_followed() {
    let s = planned().await;
    let mut p = plan();
    p["metric"] = json!("conversion");
    let refused = async |p: &Value, words: &str| {
        let (status, said) = s.api("PUT", "/api/hour-trials/1", &p.to_string()).await;
        assert!(status == StatusCode::CONFLICT && said.contains(words), "{status} {said}");
    };
    refused(&p, "Choose the goal").await;
    p["goal"] = json!({ "name": "Lanterns", "goal": { "what": { "kind": "purchase", "product": "Storm lantern", "category": null }, "currency": "" } });
    s.ok("PUT", "/api/hour-trials/1", &p).await;
    let outlook = s.ok("POST", "/api/hour-trials/outlook", &p).await;
    assert!(outlook["refused"].as_str().unwrap().contains("a day more than the window"), "{outlook}");
    p["rounds"] = json!([{ "mailing": 1, "day": DAYS[0] }, { "mailing": 2, "day": DAYS[2] }]);
    s.ok("PUT", "/api/hour-trials/1", &p).await;
    assert!(s.api_as("3", "POST", "/api/hour-trials/1/seal", WHY).await.0.is_success());
    for mailing in 1..3 {
        s.ok("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null })).await;
    }
    s.advance(24 * 3).await;
    let bought = |who: &str, at: &str, product: &str| {
        let sql = format!(
            "INSERT INTO purchase (key, contact_id, at, cents, currency, product, product_key)
             SELECT '{product}' || r.contact_id || '{at}', r.contact_id, {at}, 1000, 'GBP', '{product}', lower('{product}') FROM hour_roster r
             JOIN send s ON s.mailing_id = r.mailing_id AND s.contact_id = r.contact_id WHERE r.mailing_id = 1 AND {who}"
        );
        s.db().execute(&sql, []).unwrap()
    };
    let eight = bought("r.hour = 8", "s.handed_at + 60000", "Storm lantern");
    bought("r.hour = 8", "s.handed_at + 120000", "Storm lantern");
    bought("r.hour = 12", "s.handed_at - 60000", "Storm lantern");
    bought("r.hour = 18", "s.handed_at + 60000", "Net float");
    bought("r.hour = 18", &format!("s.handed_at + {}", 7 * DAY), "Storm lantern");
    let running = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    assert_eq!((&running["pooled"]["did"], &running["pooled"]["people"]), (&json!(eight), &json!(PEOPLE * 8 / 9)), "{running}");
    s.advance(24 * 24).await;
    let r = s.ok("GET", "/api/hour-trials/1", &Value::Null).await["reading"].clone();
    let did: Vec<i64> = r["hours"].as_array().unwrap().iter().map(|h| h["did"].as_i64().unwrap()).collect();
    assert_eq!((did, &r["verdict"]), (vec![eight as i64, 0, 0], &json!("matters")), "{r}");
}

/// People whose own hour is one in three of the hours.
async fn read_where_people_differ() -> Inside {
    let s = sealed().await;
    for mailing in 1..4 {
        s.ok("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null })).await;
    }
    s.advance(24 * 18).await;
    let opened = "UPDATE send SET opens_unknown = 0, open_at = CASE WHEN (contact_id * 7 + mailing_id * 5) % 12
        < (SELECT iif(r.hour = CASE contact_id / 3 % 3 WHEN 0 THEN 8 WHEN 1 THEN 12 ELSE 18 END, 9, 2) FROM hour_roster r
            WHERE r.mailing_id = send.mailing_id AND r.contact_id = send.contact_id) THEN handed_at + 60000 END";
    s.db().execute_batch(&format!("{opened}; UPDATE send SET any_open_at = open_at;")).unwrap();
    s.advance(24 * 8).await;
    s
}

#[tokio::test(flavor = "multi_thread")]
async fn own_hours_are_learned_used_and_confirmed() {
    let s = read_where_people_differ().await;
    let read = s.ok("GET", "/api/hour-trials/1", &Value::Null).await;
    let each = &read["reading"]["own"]["each"];
    let (people, differ, common) = (each["people"].as_i64().unwrap(), each["differ"].as_i64().unwrap(), each["common"].as_i64().unwrap());
    assert!(read["confirms_own"] == json!(true) && differ > people / 2 && differ < people * 4 / 5, "{}", read["reading"]["own"]);
    assert!(each["at_own"].as_f64() > each["at_common"].as_f64().map(|r| r + 0.05), "{each}");
    assert_eq!(s.count("SELECT count(*) FROM own_hour WHERE trial_id = 1"), people);
    assert_eq!(s.count(&format!("SELECT count(*) FROM own_hour WHERE hour <> {common}")), differ);
    let right = "SELECT count(*) FROM own_hour WHERE hour = CASE contact_id / 3 % 3 WHEN 0 THEN 8 WHEN 1 THEN 12 ELSE 18 END";
    assert!(s.count(right) > people * 6 / 10, "{} of {people}", s.count(right));

    // A mailing at each person's own hour; who has none gets it at its own time.
    let day = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap() / DAY + 3;
    let mut own = draft(1, &["Boats at your hour"]);
    own["schedule"] = json!({ "local": { "day": day, "minute": 600, "passed": "tomorrow" }, "own_hour": true });
    let id = s.ok("POST", "/api/mailings", &own).await["id"].as_i64().unwrap();
    s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({ "at": null })).await;
    s.advance(24 * 5).await;
    let zone = "CASE k.zone WHEN 'Europe/Paris' THEN 2 WHEN 'Pacific/Auckland' THEN 12 ELSE -4 END";
    let off = s.count(&format!(
        "SELECT count(*) FROM send s JOIN contact k ON k.id = s.contact_id JOIN own_hour o ON o.contact_id = k.id
         WHERE s.mailing_id = {id} AND s.at <> {} + (o.hour - {zone}) * {HOUR}",
        day * DAY
    ));
    let all = s.count(&format!("SELECT count(*) FROM send WHERE mailing_id = {id}"));
    assert!(all > 800 && off == 0, "{off} of {all}");
    let said = format!(
        "SELECT count(*) FROM audit WHERE what = 'best hours used' AND subject_id = {id} AND detail LIKE '%at an hour of their own%'"
    );
    assert_eq!(s.count(&said), 1);

    // Are they worth it? Of those alone who have another hour than the common one, each at one of the two for good.
    let mut confirming = s.ok("GET", "/api/hour-trials/1/confirming-own", &Value::Null).await;
    let mut rounds = Vec::new();
    for (subject, n) in [("Boats in June", 5), ("Boats in late June", 12)] {
        let made = s.ok("POST", "/api/mailings", &draft(1, &[subject])).await["id"].clone();
        rounds.push(json!({ "mailing": made, "day": day + n }));
    }
    confirming["rounds"] = json!(rounds);
    let outlook = s.ok("POST", "/api/hour-trials/outlook", &confirming).await;
    assert!(outlook["people"].as_i64().is_some_and(|n| n > 0 && n <= differ), "{outlook}");
    let rehearsed = s.ok("POST", "/api/hour-trials/rehearsal", &confirming).await;
    assert!(rehearsed["none"]["matters"].as_i64() < rehearsed["wanted"]["matters"].as_i64(), "{rehearsed}");
    assert_eq!(s.ok("POST", "/api/hour-trials", &confirming).await, json!(2));
    let (status, words) = s.api_as("3", "POST", "/api/hour-trials/2/seal", WHY).await;
    assert!(status.is_success(), "{words}");
    for round in &rounds {
        s.ok("POST", &format!("/api/mailings/{}/plan", round["mailing"]), &json!({ "at": null })).await;
    }
    s.advance(24 * 14).await;
    let drawn = "FROM hour_roster r JOIN hour_round d ON d.mailing_id = r.mailing_id AND d.trial_id = 2";
    let of = s.count(&format!("SELECT count(*) {drawn}"));
    assert!(of > 0 && of <= 2 * differ, "{of}");
    let wrong = format!("SELECT count(*) {drawn} WHERE r.own IS NULL OR r.own = {common} OR r.hour NOT IN ({common}, r.own)");
    assert_eq!(s.count(&wrong), 0, "those alone who differ, at their own hour or the one for all");
    let opened = "UPDATE send SET opens_unknown = 0, open_at = CASE WHEN (contact_id * 7 + mailing_id * 3) % 12
        < (SELECT iif(r.hour = r.own, 7, 3) FROM hour_roster r WHERE r.mailing_id = send.mailing_id AND r.contact_id = send.contact_id) THEN handed_at + 60000 END
        WHERE mailing_id IN (SELECT mailing_id FROM hour_round WHERE trial_id = 2)";
    s.db().execute_batch(&format!("{opened}; UPDATE send SET any_open_at = open_at;")).unwrap();
    s.advance(24 * 9).await;
    let read = s.ok("GET", "/api/hour-trials/2", &Value::Null).await;
    let (r, g) = (&read["reading"], &read["reading"]["gain"]);
    assert_eq!((&r["verdict"], &g["own"], &g["usual"]), (&json!("matters"), &json!(true), &json!(common)), "{r}");
    assert!(r["sentence"].as_str().unwrap().starts_with("Confirmed: at each person's own hour"), "{r}");
    scripts_agree(&s, 2, g).await;
    assert_eq!(s.ok("GET", "/api/hour-trials/2/seal", &Value::Null).await["broken"], Value::Null);
    assert_eq!(s.ok("GET", "/api/hours/own", &Value::Null).await[0]["gain"]["own"], json!(true));
}
