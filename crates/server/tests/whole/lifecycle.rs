//! A trial from plan to rollout through the real engine: who gets what, and in which phase.

use crate::inside::trial::{compares_few, files_of, read_with, recomputed};
use crate::inside::{Inside, opened};
use axum::http::StatusCode;
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_testkit::{draft, people_csv};
use rstest::rstest;
use serde_json::{Value, json};

const PEOPLE: usize = 1_600;

fn plan(on_no_call: Value) -> Value {
    json!({
        "question": "Do boats at low tide earn more readers?", "metric": "human_open", "effect": 0.05, "alpha": 0.05, "power": 0.8,
        "pilot_share": 0.5, "window_hours": 24, "on_no_call": on_no_call, "leaving_margin": 0.02, "complaint_margin": 0.01,
    })
}

/// A sealed trial of two subjects, its pilot handed over.
async fn sealed(on_no_call: Value) -> Inside {
    sealed_as(&["Boats", "Boats at low tide"], plan(on_no_call)).await
}

async fn sealed_as(subjects: &[&str], plan: Value) -> Inside {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    s.ok("POST", "/api/mailings", &draft(1, subjects)).await;
    s.ok("PUT", "/api/mailings/1/trial", &plan).await;
    // Some are under their needed size: an approver lets them go.
    let why = json!({ "why_small": "Read together with the others" }).to_string();
    let (status, words) = s.api_as("3", "POST", "/api/trials/1/seal", &why).await;
    assert!(status.is_success(), "{status} {words}");
    s
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_on_opens_is_of_those_whose_opens_can_be_known() {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    s.ok("PUT", "/api/mailings/1/trial", &plan(json!(0))).await;
    let before = s.ok("POST", "/api/mailings/1/outlook", &plan(json!(0))).await;
    s.db().execute("UPDATE domain SET opens_unknown = 1 WHERE name = 'bittern.example'", []).unwrap();
    let known = s.ok("POST", "/api/mailings/1/outlook", &plan(json!(0))).await;
    let share = known["unknown"].as_f64().unwrap();
    assert!(share > 0.1 && before["unknown"] == json!(0.0), "{known}");
    let of = |v: &Value, key: &str| v[key].as_f64().unwrap();
    assert!(of(&known, "smallest_effect") > of(&before, "smallest_effect"), "it finds what the others can show");
    let needed = of(&before, "needed_per_arm") / (1.0 - share);
    assert!((of(&known, "needed_per_arm") - needed).abs() < 2.0, "{known}");

    let why = json!({ "why_small": "Read together with the others" }).to_string();
    assert!(s.api_as("3", "POST", "/api/trials/1/seal", &why).await.0.is_success());
    let at_bittern = "SELECT count(*) FROM roster r JOIN contact k ON k.id = r.contact_id JOIN domain d ON d.id = k.domain_id WHERE d.name = 'bittern.example'";
    let unknown = s.count(at_bittern);
    assert_eq!((s.count("SELECT sum(opens_unknown) FROM roster"), s.count("SELECT count(*) FROM roster")), (unknown, 800));
    assert_eq!(s.count("SELECT sum(opens_unknown) FROM send WHERE handed_at IS NOT NULL"), unknown, "as they are handed over, too");
    // What comes to light after the seal moves nobody.
    s.db().execute("UPDATE domain SET opens_unknown = (name = 'avocet.example')", []).unwrap();
    let (send, handed): (i64, i64) = s
        .db()
        .query_row(
            "SELECT s.id, s.handed_at FROM send s JOIN contact k ON k.id = s.contact_id JOIN domain d ON d.id = k.domain_id WHERE d.name = 'avocet.example' AND s.handed_at IS NOT NULL LIMIT 1",
            [],
            |r| Ok((r.get(0)?, r.get(1)?)),
        )
        .unwrap();
    assert!(rinse_store::responses::hit(&s.db(), SendId(send), &opened(Instant::of(handed + 60_000))).unwrap());
    assert_eq!(s.count(&format!("SELECT open_at IS NOT NULL FROM send WHERE id = {send}")), 1, "it counts as it would have at the seal");
    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["reading"]["verdict"], json!({ "kind": "called", "arm": 1 }), "{v}");
    let arms = v["reading"]["arms"].as_array().unwrap();
    let sum = |key: &str| arms.iter().map(|a| a["counts"][key].as_i64().unwrap()).sum::<i64>();
    assert_eq!((sum("assigned"), sum("unknown")), (800, unknown));
    let opened = "SELECT count(*) FROM roster r JOIN send s ON s.contact_id = r.contact_id WHERE NOT r.opens_unknown AND s.open_at < s.handed_at + 86400000";
    assert_eq!(sum("primary"), s.count(opened));
    for a in arms {
        assert_eq!(a["rate"]["of"].as_i64(), Some(a["counts"]["assigned"].as_i64().unwrap() - a["counts"]["unknown"].as_i64().unwrap()));
    }
    let record = files_of(&s, 1).await;
    assert_eq!(record["assignments.csv"].lines().filter(|l| l.ends_with(",no")).count() as i64, unknown);
    assert_eq!(recomputed(&record).unwrap_or_else(|| "called B".into()), "called B");
    for few in [[0, 9], [5, 0], [1, 2], [0, 0]] {
        compares_few(&record, few);
    }

    // What was shown stays, and what doesn't come out of it any more is said.
    assert_eq!(v["differs"], Value::Null);
    s.db().execute("UPDATE trial SET counts = json_set(counts, '$[0].primary', 200)", []).unwrap();
    let touched = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!((&touched["reading"], &touched["differs"]), (&v["reading"], &json!("the verdict")));
    // By an earlier rule everybody assigned is counted, as it was then.
    s.db().execute("UPDATE trial SET state = 'collecting', seal = json_set(seal, '$.rule_version', 3), counts = NULL, reading = NULL, opened_at = 1", []).unwrap();
    let then = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!(then["reading"]["arms"][0]["counts"]["unknown"], json!(0));
    assert_eq!(then["reading"]["arms"][0]["rate"]["of"], then["reading"]["arms"][0]["counts"]["assigned"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_called_rollout_goes_to_the_rest_with_a_twentieth_as_a_check() {
    let s = sealed(json!(0)).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase = 1"), 800);
    let open = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert!(open["reading"].is_null() && open["trial"]["counts"].is_null(), "arms stay closed: {open}");
    assert_eq!(s.api("GET", "/api/trials/1/record.zip", "").await.0, StatusCode::CONFLICT);

    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["reading"]["verdict"], json!({ "kind": "called", "arm": 1 }), "{v}");
    // Someone withdraws between the verdict and the rollout: cleared again means without them.
    let gone = s.count("SELECT min(id) FROM contact WHERE consent = 2 AND status = 0 AND id NOT IN (SELECT contact_id FROM send)");
    s.door("POST", &format!("/p/{}", s.signer.link(Kind::Person, SendId(gone), 1)), "act=stop").await;
    let to_come = s.ok("GET", "/api/trials/1", &Value::Null).await["rollout"].as_i64().unwrap();

    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase > 1 AND state <> 6"), to_come);
    assert_eq!(s.count(&format!("SELECT count(*) FROM send WHERE contact_id = {gone}")), 0);
    assert_eq!(
        s.count("SELECT count(DISTINCT arm) FROM send WHERE phase = 2") * 10 + s.count("SELECT max(arm) FROM send WHERE phase = 2"),
        11
    );
    assert_eq!(s.count("SELECT max(arm) FROM send WHERE phase = 3"), 0, "the check gets what was sealed for no call");
    let check = s.count("SELECT count(*) FROM send WHERE phase = 3");
    assert!((10..=75).contains(&check), "{check} of {to_come} are about a twentieth");
    let record = files_of(&s, 1).await;
    assert_eq!(record["assignments.csv"].lines().count(), 801);
    assert_eq!(recomputed(&record).unwrap_or_else(|| "called B".into()), "called B");
    // The rollout bears its pilot out: nothing is held before its window is over.
    let learned = s.ok("GET", "/api/trials/learned", &Value::Null).await;
    assert_eq!((&learned["read"], &learned["called"]["count"], &learned["held"]), (&json!(1), &json!(1), &json!(0)));
    s.advance(23).await;
    // By rank, so that the shares don't depend on who was drawn; late, so that the stand-in's people add one or two.
    s.db()
        .execute(
            "UPDATE send SET open_at = CASE WHEN (SELECT count(*) FROM send o WHERE o.phase = send.phase AND o.id <= send.id)
                <= iif(phase = 2, 0.6, 0.2) * (SELECT count(*) FROM send o WHERE o.phase = send.phase) THEN handed_at + 60000 END
             WHERE phase > 1",
            [],
        )
        .unwrap();
    s.advance(2).await;
    let learned = s.ok("GET", "/api/trials/learned", &Value::Null).await;
    let held = &learned["trials"][0]["rollout"];
    assert_eq!((&learned["held"], &learned["agreed"], &held["check"]), (&json!(1), &json!(1), &json!(check)), "{learned}");
    assert!(held["difference"].as_f64().unwrap() > 0.2, "{held}");
    let again = s.api("POST", "/api/trials/1/release", "{\"at_once\":true}").await;
    assert_eq!(again.0, StatusCode::CONFLICT, "{}", again.1);
}

#[rstest]
#[case::the_control_goes_out(json!(0), 0)]
#[case::the_challenger_goes_out(json!(1), 1)]
#[tokio::test(flavor = "multi_thread")]
async fn without_a_call_what_was_sealed_goes_out_at_the_pilots_hour(#[case] on_no_call: Value, #[case] arm: i64) {
    let s = sealed(on_no_call).await;
    let v = read_with(&s, [0.4, 0.4]).await;
    assert_ne!(v["reading"]["verdict"]["kind"], "called", "{v}");
    let at = s.ok("POST", "/api/trials/1/release", &json!({ "at_once": false })).await.as_i64().unwrap();
    let sealed_at = v["trial"]["sealed_at"].as_i64().unwrap();
    assert_eq!((at - sealed_at) % 86_400_000, 0, "the pilot's hour");
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase > 1"), 0, "not before it");
    s.advance(24).await;
    assert!(s.count("SELECT count(*) FROM send WHERE phase = 2") > 600);
    assert_eq!(
        s.count(&format!("SELECT count(*) FROM send WHERE phase > 1 AND (phase = 3 OR arm <> {arm})")),
        0,
        "no check without a call"
    );
    assert_eq!(s.count("SELECT count(*) - count(DISTINCT contact_id) FROM send"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_goes_out_when_that_was_sealed() {
    let s = sealed(Value::Null).await;
    read_with(&s, [0.4, 0.4]).await;
    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase > 1"), 0);
    assert_eq!(s.count("SELECT count(*) FROM trial WHERE state = 'ended'"), 1);
}

/// Another plan says how many of its people are in a running trial; an analyst alone can't seal what is too small, and
/// neither can an approver who doesn't say why.
#[tokio::test(flavor = "multi_thread")]
async fn a_plan_beside_a_running_trial_and_too_small() {
    let s = sealed(json!(0)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Seals", "Seals at dawn"])).await;
    let outlook = s.ok("POST", "/api/mailings/2/outlook", &plan(json!(0))).await;
    assert!(outlook["warnings"].to_string().contains(" of the people cleared are in the trial of Boat days still"), "{outlook}");
    assert!(outlook["too_small"].as_str().unwrap().contains("Too few people"), "{outlook}");
    s.ok("PUT", "/api/mailings/2/trial", &plan(json!(0))).await;
    let seal = |who: &'static str, why: &str| {
        let body = json!({ "why_small": why }).to_string();
        let s = &s;
        async move { s.api_as(who, "POST", "/api/trials/2/seal", &body).await }
    };
    for (who, why, words) in
        [("1", "", "Or an approver lets it go"), ("3", "because", "in a sentence"), ("1", "We read them together", "Only an approver")]
    {
        let (status, answer) = seal(who, why).await;
        assert!(status == StatusCode::CONFLICT && answer.contains(words), "{status} {answer}");
    }
    assert_eq!(s.count("SELECT count(*) FROM send WHERE mailing_id = 2"), 0);
    assert!(seal("3", "We read them together").await.0.is_success());
    let v = s.ok("GET", "/api/trials/2", &Value::Null).await;
    assert_eq!((&v["trial"]["small_reason"], &v["trial"]["small_by"]), (&json!("We read them together"), &json!("Oskar Bray")));
    // How the answers come in: all arms together until the end, then arm by arm, with the links.
    s.advance(12).await;
    let open = s.ok("GET", "/api/trials/2/course", &Value::Null).await;
    let line = |v: &Value, arm: usize| v["course"]["lines"][arm]["shares"].as_array().unwrap().clone();
    assert_eq!((open["course"]["lines"].as_array().unwrap().len(), open["links"].as_array().unwrap().len()), (1, 0));
    assert!(line(&open, 0)[10].is_number() && line(&open, 0)[13].is_null(), "{open}");
    s.advance(14).await;
    let read = s.ok("GET", "/api/trials/2/course", &Value::Null).await;
    let arms = &s.ok("GET", "/api/trials/2", &Value::Null).await["reading"]["arms"];
    for arm in 0..2 {
        let counts = &arms[arm]["counts"];
        let share = counts["primary"].as_f64().unwrap() / counts["handed_over"].as_f64().unwrap();
        assert!((line(&read, arm)[23].as_f64().unwrap() - share).abs() < 1e-9, "{read} {arms}");
    }
}

/// Somebody who edits the roster in the file can't get a verdict out of it.
#[tokio::test(flavor = "multi_thread")]
async fn a_roster_that_was_touched_makes_the_trial_void() {
    let s = sealed(json!(0)).await;
    s.db().execute("UPDATE roster SET arm = 1 - arm WHERE contact_id IN (SELECT contact_id FROM roster LIMIT 20)", []).unwrap();
    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["reading"]["verdict"]["kind"], "void", "{v}");
}

/// What the state of things forbids, each with a sentence that says what to do.
#[rstest]
#[case("PUT", "/api/mailings/1/trial", plan(json!(1)), "sealed")]
#[case("POST", "/api/trials/1/seal", json!({ "why_small": "Read together" }), "sealed already")]
#[case("PUT", "/api/mailings/1", draft(1, &["Other", "Words"]), "Only a draft")]
#[case("POST", "/api/mailings/1/plan", json!({ "at": null }), "two subjects")]
#[case("POST", "/api/trials/1/release", json!({ "at_once": true }), "it can't be released now")]
#[tokio::test(flavor = "multi_thread")]
async fn a_sealed_trial_stays_as_it_is(#[case] method: &str, #[case] path: &str, #[case] body: Value, #[case] words: &str) {
    let s = sealed(json!(0)).await;
    let before = s.count("SELECT count(*) FROM send") + s.count("SELECT length(plan) FROM trial");
    let (status, answer) = s.api(method, path, &if body.is_null() { String::new() } else { body.to_string() }).await;
    assert!(status == StatusCode::CONFLICT && answer.contains(words), "{status} {answer}");
    assert_eq!(s.count("SELECT count(*) FROM send") + s.count("SELECT length(plan) FROM trial"), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn four_arms_against_a_control_go_out_by_themselves() {
    let mut p = plan(json!(0));
    for (key, value) in [("control", json!(0)), ("harm_looks", json!(2)), ("by_itself", json!(true))] {
        p[key] = value;
    }
    let subjects = ["Boats", "Boats at low tide", "Boats at dawn", "Boats by the lamp"];
    let s = sealed_as(&subjects, p.clone()).await;
    assert_eq!(s.count("SELECT count(DISTINCT arm) FROM send WHERE phase = 1"), 4);
    let open = s.ok("GET", "/api/trials/1", &Value::Null).await;
    // Each stratum is as even as it can be, and the sizes are planned.
    let seal = s.ok("GET", "/api/trials/1/seal", &Value::Null).await;
    for b in seal["balance"].as_array().unwrap() {
        let people: Vec<i64> = b["people"].as_array().unwrap().iter().map(|n| n.as_i64().unwrap()).collect();
        assert!(people.iter().max().unwrap() - people.iter().min().unwrap() <= 1, "{b}");
    }
    let outlook = s.ok("POST", "/api/mailings/1/outlook", &p).await;
    assert_eq!(outlook["comparisons"], 3);
    // Opening the arms early is recorded and calls nothing.
    assert!(open["reading"].is_null());
    s.ok("POST", "/api/trials/1/open", &Value::Null).await;
    let early = s.ok("GET", "/api/trials/1", &Value::Null).await;
    assert_eq!((early["reading"]["pairs"].as_array().unwrap().len(), &early["trial"]["opened_by"]), (3, &json!("Ines Marek")));
    assert!(early["trial"]["verdict"].is_null());

    let v = read_with(&s, [0.2, 0.22, 0.6, 0.5]).await;
    assert_eq!((&v["reading"]["verdict"], &v["reading"]["also"]), (&json!({ "kind": "called", "arm": 2 }), &json!(3)), "{v}");
    let sentence = v["reading"]["sentence"].as_str().unwrap();
    assert!(sentence.contains("than A, the control") && sentence.contains("D beat the control too"), "{sentence}");
    assert_eq!(v["trial"]["state"], "rolling", "it releases itself");
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "called C".into()), "called C");
    s.advance(24).await;
    assert!(s.count("SELECT count(*) FROM send WHERE phase = 2 AND arm = 2") > 500);
    assert_eq!(s.count("SELECT count(*) FROM send WHERE phase = 2 AND arm <> 2"), 0);
}

#[rstest]
#[case::the_roster("UPDATE roster SET arm = 1 - arm WHERE contact_id = (SELECT min(contact_id) FROM roster)")]
#[case::the_plan("UPDATE trial SET plan = json_set(plan, '$.effect', 0.001)")]
#[case::a_variant("UPDATE variant SET subject = 'Boats, now' WHERE arm = 1")]
#[tokio::test(flavor = "multi_thread")]
async fn what_was_touched_after_the_seal_is_void(#[case] touch: &str) {
    let s = sealed(json!(0)).await;
    assert!(s.ok("GET", "/api/trials/1/seal", &Value::Null).await["broken"].is_null());
    s.db().execute(touch, []).unwrap();
    assert!(s.ok("GET", "/api/trials/1/seal", &Value::Null).await["broken"].is_string());
    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["reading"]["verdict"]["kind"], "void", "{v}");
    assert!(v["reading"]["sentence"].as_str().unwrap().contains("A goes out, as sealed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_arm_that_drives_people_away_is_stopped_at_a_look() {
    let mut p = plan(json!(0));
    p["harm_looks"] = json!(2);
    let s = sealed_as(&["Boats", "Boats at low tide"], p).await;
    // A third of B's people leave within minutes.
    s.db().execute("UPDATE send SET left_at = handed_at + 60000 WHERE phase = 1 AND arm = 1 AND id % 3 = 0", []).unwrap();
    let v = read_with(&s, [0.2, 0.6]).await;
    assert_eq!(v["trial"]["looked"].as_u64(), Some(v["looks"].as_array().unwrap().len() as u64), "{v}");
    assert_eq!(v["reading"]["verdict"]["kind"], "cant_tell", "{v}");
    if v["looks"].as_array().unwrap().is_empty() {
        // A new base has no past to forecast looks from; the guardrail blocks it all the same.
        assert!(v["reading"]["notes"][0].as_str().unwrap().contains("guardrail on leaving is breached by B"));
    } else {
        assert_eq!(v["trial"]["stopped"][0]["arm"], 1);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_rehearsed_before_it_is_sealed() {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    let p = Value::Object(plan(json!(0)).as_object().unwrap().clone());
    let r = s.ok("POST", "/api/mailings/1/rehearsal", &p).await;
    assert_eq!((r["cases"].as_array().unwrap().len(), &r["per_arm"], &r["cases"][0]["runs"]), (2, &json!(400), &json!(10_000)), "{r}");
    assert!(r["cases"][0]["wrong"].as_u64().unwrap() < 580, "{r}");
    assert_eq!(r, s.ok("POST", "/api/mailings/1/rehearsal", &p).await, "the same plan, the same rehearsal");
    let (status, words) = s.api("POST", "/api/mailings/1/rehearsal", &json!({ "pilot_share": 0.011, "question": "?", "metric": "reply", "effect": 0.05, "alpha": 0.05, "power": 0.8, "window_hours": 24, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01 }).to_string()).await;
    assert!(status == StatusCode::CONFLICT && words.contains("raise the pilot share"), "{status} {words}");
}

/// What people did before is frozen at the seal and sharpens the reading: opened by who opens anyway, and a little more in one arm.
#[tokio::test(flavor = "multi_thread")]
async fn what_people_did_before_is_sealed_and_decides() {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    // Half of the people open everything, the others hardly anything.
    for id in 1..=5 {
        s.ok("POST", "/api/mailings", &draft(1, &["Tides"])).await;
        s.ok("POST", &format!("/api/mailings/{id}/plan"), &json!({})).await;
        s.advance(30).await;
    }
    let opens = "UPDATE send SET open_at = iif(contact_id % 2 = 0, handed_at + 60000, NULL) WHERE handed_at IS NOT NULL";
    s.db().execute(opens, []).unwrap();
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    let mut p = plan(json!(0));
    p["uses_before"] = json!(true);
    let o = s.ok("POST", "/api/mailings/6/outlook", &p).await;
    assert!(o["explained"].as_f64().unwrap() > 0.9, "{o}");
    s.ok("PUT", "/api/mailings/6/trial", &p).await;
    let why = json!({ "why_small": "Read together with the others" }).to_string();
    assert!(s.api_as("3", "POST", "/api/trials/1/seal", &why).await.0.is_success());
    let odd = "SELECT count(*) FROM roster_before WHERE share <> iif(contact_id % 2 = 0, 27720, 0)";
    assert_eq!((s.count("SELECT count(*) FROM roster_before"), s.count(odd)), (s.count("SELECT count(*) FROM roster"), 0));
    s.advance(23).await;
    // Those who open anyway do, and of the others one in twelve, in B.
    s.db()
        .execute(
            "UPDATE send SET open_at = iif(contact_id % 2 = 0 OR arm = 1 AND contact_id % 12 = 1, handed_at + 60000, NULL) WHERE phase = 1",
            [],
        )
        .unwrap();
    s.advance(4).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    let pair = &v["reading"]["pairs"][0];
    assert_eq!((&v["reading"]["verdict"], &pair["test"]), (&json!({ "kind": "called", "arm": 1 }), &json!("adjusted")), "{v}");
    let wide = |p: &Value| p["upper"].as_f64().unwrap() - p["lower"].as_f64().unwrap();
    assert!(wide(pair) < 0.5 * wide(&pair["primary"]), "without it nothing could be told: {pair}");
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "called B".into()), "called B");
    // What was frozen can't be touched.
    s.db().execute("UPDATE roster_before SET share = share - 1 WHERE share > 0", []).unwrap();
    assert!(s.ok("GET", "/api/trials/1/seal", &Value::Null).await["broken"].as_str().unwrap().contains("not what is here"));
}

/// A change made for other reasons: it loses less than it may, and goes out though it isn't better.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_worse_goes_out() {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    let mut p = plan(json!(0));
    for (key, value) in [("aim", json!("no_worse")), ("control", json!(0)), ("effect", json!(0.1))] {
        p[key] = value;
    }
    let rehearsed = s.ok("POST", "/api/mailings/1/rehearsal", &p).await;
    assert!(rehearsed["sentence"].as_str().unwrap().contains("when it truly loses 10.0 points"), "{rehearsed}");
    s.ok("PUT", "/api/mailings/1/trial", &p).await;
    s.ok("POST", "/api/trials/1/seal", &json!({})).await;
    let v = read_with(&s, [0.3, 0.295]).await;
    let r = &v["reading"];
    assert_eq!(r["verdict"], json!({ "kind": "no_worse", "arm": 1 }), "{v}");
    assert!(r["sentence"].as_str().unwrap().contains("B is no worse than A") && r["no_worse"]["may_lose"].as_f64().unwrap() < 0.1, "{r}");
    assert_eq!(recomputed(&files_of(&s, 1).await).unwrap_or_else(|| "no_worse B".into()), "no_worse B");
    s.ok("POST", "/api/trials/1/release", &json!({ "at_once": true })).await;
    assert!(s.count("SELECT count(*) FROM send WHERE phase = 2 AND arm = 1") > 100, "what was shown goes out");
}

/// A company's filter opens everything of one arm: its people are no longer as many answers, and the verdict goes by company.
#[tokio::test(flavor = "multi_thread")]
async fn people_of_one_company_are_not_as_many_answers() {
    let s = Inside::new().await;
    let people: String = (0..1_200).map(|i| format!("p{i}@works{}.example\n", i / 12)).collect();
    s.import(&format!("email\n{people}")).await;
    s.ok("POST", "/api/mailings", &draft(1, &["Boats", "Boats at low tide"])).await;
    s.ok("PUT", "/api/mailings/1/trial", &plan(json!(0))).await;
    let why = json!({ "why_small": "Read together with the others" }).to_string();
    assert!(s.api_as("3", "POST", "/api/trials/1/seal", &why).await.0.is_success());
    s.advance(23).await;
    // Two in ten open; of every fourth company the filter opens all of B, of another fourth it lets nobody see it.
    s.db()
        .execute(
            "UPDATE send SET open_at = iif(arm = 1 AND ((contact_id - 1) / 12) % 4 < 2, iif(((contact_id - 1) / 12) % 4 = 0, handed_at + 60000, NULL),
                iif(contact_id % 5 = 0, handed_at + 60000, NULL)) WHERE phase = 1",
            [],
        )
        .unwrap();
    s.advance(4).await;
    let v = s.ok("GET", "/api/trials/1", &Value::Null).await;
    let (r, pair) = (&v["reading"], &v["reading"]["pairs"][0]);
    assert!(r["remarks"].to_string().contains("taken by company, the variance is"), "{}", r["remarks"]);
    let wide = |p: &Value| p["upper"].as_f64().unwrap() - p["lower"].as_f64().unwrap();
    assert!(wide(pair) > 1.2 * wide(&pair["primary"]), "{pair}");
    let said = recomputed(&files_of(&s, 1).await);
    let verdict = if r["verdict"]["kind"] == "called" { "called B".to_owned() } else { r["verdict"]["kind"].as_str().unwrap().to_owned() };
    assert_eq!(said.unwrap_or_else(|| verdict.clone()), verdict);
}
