//! Figures open to what they count: every step of a sluice to its people, every finding to its rows.

use crate::inside::Inside;
use rinse_testkit::{draft, people_csv};
use serde_json::{Value, json};

fn lines(csv: &str) -> usize {
    csv.lines().count() - 1
}

fn cap(in_force: bool) -> Value {
    json!({ "rules": { "caps": [{ "limit": 1, "window": { "kind": "days", "n": 2 }, "scope": { "kind": "marketing" }, "in_force": in_force }] } })
}

/// 300 people of whom some are barred or held for every reason there is.
async fn mixed() -> Inside {
    let s = Inside::new().await;
    s.import(&people_csv(300)).await;
    let now = s.ok("GET", "/api/clock", &Value::Null).await["now"].as_i64().unwrap();
    s.db()
        .execute_batch(&format!(
            "UPDATE contact SET consent = CASE id % 10 WHEN 1 THEN 0 WHEN 2 THEN 5 WHEN 3 THEN 6 WHEN 4 THEN 4 ELSE 2 END;
             UPDATE contact SET paused_until = {now} + 86400000, under_pause = 2 WHERE consent = 4;
             UPDATE contact SET status = 3 WHERE id % 11 = 0;
             UPDATE contact SET status = 1, status_until = {now} + 7200000 WHERE id % 13 = 0;
             INSERT INTO topic (name) VALUES ('Tides');
             INSERT INTO topic_left SELECT 1, id, 0 FROM contact WHERE id % 7 = 0;"
        ))
        .unwrap();
    s.ok("POST", "/api/suppression/1/lines", &json!({ "lines": "wren8@bittern.example\navocet.example", "reason": "by letter" })).await;
    s.ok("PUT", "/api/rules", &cap(true)).await;
    let mut first = draft(1, &["Boats"]);
    s.ok("POST", "/api/mailings", &first).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    first["topic_id"] = json!(1);
    s.ok("POST", "/api/mailings", &first).await;
    s
}

#[tokio::test(flavor = "multi_thread")]
async fn every_step_of_a_sluice_opens_to_its_people() {
    let s = mixed().await;
    let sluice = s.ok("GET", "/api/mailings/2/sluice", &Value::Null).await;
    let mut people: Vec<(String, i64)> = sluice["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|x| (x["reason"].as_str().unwrap().to_owned(), x["people"].as_i64().unwrap()))
        .collect();
    assert!(people.len() >= 8, "{people:?}");
    people.push(("cleared".into(), sluice["cleared"].as_i64().unwrap()));
    let mut seen = std::collections::BTreeSet::new();
    for (step, n) in &people {
        let opened = s.ok("GET", &format!("/api/mailings/2/sluice/{step}"), &Value::Null).await;
        let (_, csv) = s.api("GET", &format!("/api/mailings/2/sluice/{step}/people.csv"), "").await;
        assert_eq!((opened["people"].as_i64().unwrap(), lines(&csv) as i64), (*n, *n), "{step}");
        for person in csv.lines().skip(1) {
            assert!(seen.insert(person.to_owned()), "{person} is in two steps");
        }
    }
    assert_eq!((seen.len(), sluice["selected"].as_u64()), (300, Some(300)), "the steps add up to everyone");

    // Without a rule, those whom it alone takes off are cleared: taken off the list, one by one.
    let without = |v: &Value, reason: &str| {
        v["steps"].as_array().unwrap().iter().find(|x| x["reason"] == reason).map_or(0, |x| x["without_it"].as_i64().unwrap())
    };
    let before = sluice["cleared"].as_i64().unwrap();
    for line in s.ok("GET", "/api/suppression/1", &Value::Null).await["lines"].as_array().unwrap() {
        s.ok("DELETE", &format!("/api/suppression/lines/{}", line["id"]), &Value::Null).await;
    }
    let after = s.ok("GET", "/api/mailings/2/sluice", &Value::Null).await;
    assert_eq!(after["cleared"].as_i64().unwrap() - before, without(&sluice, "suppressed"));
    s.ok("PUT", "/api/rules", &cap(false)).await;
    let free = s.ok("GET", "/api/mailings/2/sluice", &Value::Null).await;
    assert_eq!(free["cleared"].as_i64().unwrap() - after["cleared"].as_i64().unwrap(), without(&after, "held_by_cap"));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_finding_opens_to_its_rows() {
    let s = mixed().await;
    s.advance(72).await;
    let found = s.ok("GET", "/api/findings", &Value::Null).await;
    let m = &found["mailings"][0];
    assert!(m["figures"]["accepted"]["count"].as_u64().unwrap() > 80, "{m}");
    for said in found["catalogue"].as_array().unwrap() {
        let figure = said["key"].as_str().unwrap();
        let (_, csv) = s.api("GET", &format!("/api/findings/{}/{figure}.csv", m["id"]), "").await;
        let Some(of) = said["of"].as_str() else {
            assert_eq!(lines(&csv) as u64, m["sent"].as_u64().unwrap());
            continue;
        };
        let rate = &m["figures"][figure];
        let n = rate["count"].as_u64().unwrap();
        assert_eq!(lines(&csv) as u64, n, "{figure}");
        let whole = if of == "sent" { &m["sent"] } else { &m["figures"][of]["count"] };
        assert_eq!(&rate["of"], whole, "{figure} is of what its working says");
        if n > 0 {
            let of = |key: &str| rate[key].as_f64().unwrap();
            assert!(of("lower") <= of("rate") && of("rate") <= of("upper") && (of("rate") - n as f64 / of("of")).abs() < 1e-12);
        }
    }
    let workline = s.ok("GET", "/api/workline", &Value::Null).await;
    for (file, figure) in [("contacts", "contacts"), ("mailable", "mailable"), ("planned", "planned"), ("resting", "resting")] {
        let (_, csv) = s.api("GET", &format!("/api/workline/{file}.csv"), "").await;
        assert_eq!(lines(&csv) as u64, workline[figure].as_u64().unwrap(), "{figure}");
    }
    let upkeep = s.ok("GET", "/api/upkeep", &Value::Null).await;
    let (base, resting) = (&upkeep["base"], s.ok("GET", "/api/upkeep/people?status=resting", &Value::Null).await);
    assert_eq!(resting["rows"].as_array().unwrap().len() as u64, base["resting"].as_u64().unwrap());
    let people: u64 = ["active", "resting", "observed", "retired", "sunset"].iter().map(|part| base[part].as_u64().unwrap()).sum();
    assert_eq!(people, workline["contacts"].as_u64().unwrap());
}
