//! Trials on money and goals, with people who get no mail, uneven arms, subgroups, two changes at once; the same against itself.

use crate::inside::Inside;
use crate::inside::trial::{files_of, read_with, recomputed};
use rinse_core::Instant;
use rinse_testkit::{draft, people_csv};
use serde_json::{Value, json};
use std::fmt::Write;

fn plan(change: Value) -> Value {
    let mut plan = json!({
        "question": "Does the offer sell more lanterns?", "metric": "revenue", "effect": 0.5, "alpha": 0.05, "power": 0.8, "pilot_share": 0.75,
        "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.05, "complaint_margin": 0.05,
    });
    plan.as_object_mut().unwrap().extend(change.as_object().unwrap().clone());
    plan
}

#[tokio::test(flavor = "multi_thread")]
async fn revenue_is_everything_the_assigned_brought_in_their_window_with_mail_or_without() {
    let s = Inside::new().await;
    s.import(&people_csv(1_600)).await;
    let goal = json!({ "what": { "kind": "purchase", "product": null, "category": null }, "currency": "GBP" });
    s.ok("POST", "/api/goals", &json!({ "id": null, "name": "Shop", "goal": goal })).await;
    let half = json!({ "kind": "share", "percent": 50.0, "salt": "members" });
    let segment = s.ok("POST", "/api/segments", &json!({ "name": "Members", "tree": half })).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Lanterns", "Lanterns, a tenth off"])).await;
    let p = plan(
        json!({ "goal": { "name": "Shop", "goal": goal }, "shares": [1, 2], "no_mail": 1, "change": "offer", "bounce_margin": 0.1, "harm_looks": 2,
        "subgroups": [{ "name": "Members", "segment": segment }] }),
    );
    let outlook = s.ok("POST", "/api/mailings/1/outlook", &p).await;
    assert_eq!((&outlook["sizes"], &outlook["per_arm"]), (&json!([300, 600, 300]), &json!(300)), "{outlook}");
    assert!(outlook["warnings"].to_string().contains("Nothing was bought after past mailings"), "{outlook}");
    s.ok("PUT", "/api/mailings/1/trial", &p).await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    assert_eq!(s.count("SELECT count(*) FROM roster"), 1_200);
    // The last block of a stratum may not be whole, so an arm has one more or less than planned.
    let size = |arm: i64| s.count(&format!("SELECT count(*) FROM roster WHERE arm = {arm}"));
    assert!((290..=310).contains(&size(0)) && (590..=610).contains(&size(1)) && (290..=310).contains(&size(2)));
    assert_eq!(s.count("SELECT count(*) FROM send"), 1_200 - size(2), "those without mail get none");

    let sealed = s.count("SELECT sealed_at FROM trial");
    let people: Vec<(i64, i64, String)> = {
        let db = s.db();
        let mut q =
            db.prepare("SELECT r.contact_id, r.arm, c.address FROM roster r JOIN contact c ON c.id = r.contact_id ORDER BY 1").unwrap();
        q.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?))).unwrap().map(Result::unwrap).collect()
    };
    let (mut csv, mut want) = ("key,address,at,value,currency,product\n".to_owned(), [(0_u64, 0.0_f64, 0.0_f64); 3]);
    let mut line = |key: String, address: &str, hours: i64, value: f64, currency: &str| {
        let _ = writeln!(csv, "{key},{address},{},{value:.2},{currency},Storm lantern", Instant::of(sealed + hours * 3_600_000).iso());
    };
    for (contact, arm, address) in &people {
        // Of A a tenth buys, of B a fifth and dearer, without mail a twentieth.
        let (each, value) = [(10, 20.0), (5, 30.0), (20, 20.0)][*arm as usize];
        let arm = &mut want[*arm as usize];
        if contact % each == 0 {
            line(format!("a{contact}"), address, 2, value, "GBP");
            // Some send a part of it back; what comes after the window, or in another currency, doesn't count.
            let back = if contact % 40 == 0 { 5.0 } else { 0.0 };
            if back > 0.0 {
                line(format!("b{contact}"), address, 5, -back, "GBP");
            }
            line(format!("c{contact}"), address, 30, 500.0, "GBP");
            line(format!("d{contact}"), address, 3, 700.0, "EUR");
            *arm = (arm.0 + 1, arm.1 + value - back, arm.2 + (value - back).powi(2));
        }
    }
    assert_eq!(s.api("POST", "/api/purchases", &csv).await.0, 200);
    let running = s.ok("GET", "/api/trials/1/course", &Value::Null).await;
    assert!(running["course"]["pooled"].as_bool().unwrap() && running["course"]["band"].is_null());
    s.advance(27).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    let r = &v["reading"];
    for (arm, (buyers, sum, squares)) in want.iter().enumerate() {
        let counts = if arm == 2 { &r["no_mail"]["counts"] } else { &r["arms"][arm]["counts"] };
        assert_eq!(
            (counts["primary"].as_u64(), counts["sum"].as_f64(), counts["squares"].as_f64()),
            (Some(*buyers), Some(*sum), Some(*squares))
        );
    }
    assert_eq!(
        (&r["verdict"], &r["arms"][1]["counts"]["assigned"]),
        (&json!({ "kind": "called", "arm": 1 }), &json!(size(1))),
        "{}",
        r["sentence"]
    );
    assert!(r["sentence"].as_str().unwrap().contains("GBP more a person"), "{r}");
    let members = &r["subgroups"][0];
    assert_eq!(
        members["people"],
        s.count("SELECT count(*) FROM roster_group g JOIN roster r USING (contact_id) WHERE r.arm < 2"),
        "{members}"
    );
    // Of those without mail nobody leaves, and no look holds that against the others.
    assert_eq!(v["trial"]["stopped"], json!([]));
    assert!(r["lift"][1]["lower"].as_f64().unwrap() > 0.0 && r["pairs"][0]["welch"]["lower"].as_f64().unwrap() > 0.0);
    assert_eq!(r["pairs"][0]["guardrails"].as_array().unwrap().len(), 3, "bounces are one, too");
    let files = files_of(&s, 1).await;
    assert_eq!(recomputed(&files).unwrap_or_else(|| "called B".into()), "called B");
    assert!(files["arms.csv"].lines().last().unwrap().starts_with(&format!("C,no mail,{},0,", size(2))), "{}", files["arms.csv"]);
    // The rollout is of those who took no part; who was to get nothing gets nothing.
    assert_eq!(v["rollout"], 400);
    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase IN (2, 3)"), 400);
    assert_eq!(s.count("SELECT count(*) FROM send s JOIN roster r ON r.contact_id = s.contact_id WHERE r.arm = 2"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_changes_at_once_are_each_read_on_everybody() {
    let s = Inside::new().await;
    s.import(&people_csv(1_600)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats, a tenth off", "Low tide", "Low tide, a tenth off"])).await;
    let p = plan(json!({ "metric": "human_open", "effect": 0.08, "crossed": ["Subject", "Offer"] }));
    s.ok("PUT", "/api/mailings/1/trial", &p).await;
    let outlook = s.ok("POST", "/api/mailings/1/outlook", &p).await;
    assert_eq!(outlook["comparisons"], 2);
    let why = json!({ "why_small": "Read together with the others" }).to_string();
    assert!(s.api_as("3", "POST", "/api/trials/1/seal", &why).await.0.is_success());
    let v = read_with(&s, [0.2, 0.21, 0.45, 0.46]).await;
    let r = &v["reading"];
    assert_eq!(r["verdict"], json!({ "kind": "called", "arm": 2 }), "{r}");
    assert_eq!(
        (&r["margins"][0]["called"], &r["margins"][1]["called"], r["pairs"].as_array().unwrap().len()),
        (&json!(true), &Value::Null, 0)
    );
    let sentence = r["sentence"].as_str().unwrap();
    assert!(sentence.contains("with “Subject”") && sentence.contains("“Offer” isn't shown to matter"), "{sentence}");
    assert!(r["interaction_p"].as_f64().unwrap() > 0.5);
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "called C".into()), "called C");
}

/// Each change does good alone, and both together undo it: their margins are nothing, and the arms decide.
#[tokio::test(flavor = "multi_thread")]
async fn two_changes_that_do_not_add_up_are_decided_arm_by_arm() {
    let s = Inside::new().await;
    s.import(&people_csv(1_600)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats, a tenth off", "Low tide", "Low tide, a tenth off"])).await;
    s.ok("PUT", "/api/mailings/1/trial", &plan(json!({ "metric": "human_open", "effect": 0.08, "crossed": ["Subject", "Offer"] }))).await;
    let why = json!({ "why_small": "Read together with the others" }).to_string();
    assert!(s.api_as("3", "POST", "/api/trials/1/seal", &why).await.0.is_success());
    let v = read_with(&s, [0.2, 0.36, 0.45, 0.2]).await;
    let r = &v["reading"];
    assert_eq!((&r["verdict"], &r["also"]), (&json!({ "kind": "called", "arm": 2 }), &json!(1)), "{r}");
    assert!(r["notes"].to_string().contains("depends on the other") && r["pairs"].as_array().unwrap().len() == 3, "{r}");
    assert!(r["sentence"].as_str().unwrap().contains("than A, which goes out on no call"), "{}", r["sentence"]);
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "called C".into()), "called C");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_plain_mailing_is_held_against_itself() {
    let s = Inside::new().await;
    s.import(&people_csv(1_600)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(70).await;
    assert_eq!(s.ok("GET", "/api/trials/learned", &Value::Null).await["self_checks"], json!([]), "its window isn't over");
    s.advance(10).await;
    let checks = s.ok("GET", "/api/trials/learned", &Value::Null).await["self_checks"].clone();
    assert_eq!((&checks[0]["metric"], &checks[0]["called"]["of"]), (&json!("human_open"), &json!(1)), "{checks}");
    // Both halves together are everybody who was handed a message.
    let found: String = s.db().query_row("SELECT found FROM self_check", [], |r| r.get(0)).unwrap();
    let found: Value = serde_json::from_str(&found).unwrap();
    let halves: Vec<i64> = (0..2).map(|i| found[0]["halves"][i]["trials"].as_i64().unwrap()).collect();
    assert_eq!(halves.iter().sum::<i64>(), 1_600);
    // Binomial(1,600, 1/2) has sd 20; six of them is one in a billion.
    assert!((680..=920).contains(&halves[0]), "{halves:?}");
}
