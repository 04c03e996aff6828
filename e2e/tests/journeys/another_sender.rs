//! Somebody keeps the system that sends their mail: its year comes in, its next letter is drawn here and handed out, and the verdict is held
//! against what is true in the world that the other system sent into.

use fantoccini::Locator;
use rinse_core::Instant;
use rinse_e2e::{Bench, binary};
use rinse_standins::network::Network;
use rinse_standins::scenario::{BEGINS, Scenario};
use serde_json::{Value, json};
use std::collections::HashSet;
use std::path::Path;
use std::process::Command;

/// Runs the other system's program.
fn other_sender(home: &Path, args: &[&str]) {
    let program = binary().with_file_name("other-sender");
    let done = Command::new(&program).arg("--home").arg(home).args(args).status().unwrap_or_else(|e| panic!("{}: {e}", program.display()));
    assert!(done.success(), "{args:?}");
}

/// Brings a file of its in by the page, as somebody would; how many rows were new.
async fn bring(b: &Bench, file: &Path, zone: Option<&str>) -> u64 {
    b.go("/mailings/elsewhere").await;
    b.shows("Choose a file").await;
    b.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    b.shows("Say what the columns are").await;
    if let Some(zone) = zone {
        b.fill("Time zone of its times", zone).await;
    }
    b.click("Look what would happen").await;
    b.shows("It would bring").await;
    let newest = &b.rinse.json("GET", "/api/history", &Value::Null)[0];
    let new = newest["found"]["new"].as_u64().unwrap();
    let take = "//button[starts-with(normalize-space(.), 'Take ') and not(@disabled)]";
    b.page.wait().for_element(Locator::XPath(take)).await.unwrap().click().await.unwrap();
    b.shows("new, ").await;
    b.shows("Take back").await;
    new
}

/// The addresses of a list that was handed out.
fn listed(csv: &[u8]) -> Vec<String> {
    String::from_utf8_lossy(csv).lines().skip(1).map(|l| l.split(',').next().unwrap().to_owned()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn its_year_comes_in_its_trial_is_drawn_here_and_the_verdict_is_true() {
    let b = Bench::start().await;
    b.rinse.json("POST", "/api/letterheads", &rinse_testkit::letterhead());
    let people = rinse_testkit::people_csv(1_800);
    b.rinse.import(&people);
    let home = b.folder.join("other");
    let list = b.folder.join("people.csv");
    std::fs::write(&list, &people).unwrap();
    let until = b.rinse.now();
    other_sender(&home, &["year", "--people", list.to_str().unwrap(), "--letters", "4", "--until", &until.to_string()]);
    // Its year: the table of letters, then what became of them.
    assert_eq!(bring(&b, &home.join("letters.csv"), Some("Europe/Berlin")).await, 4);
    let rows = bring(&b, &home.join("log.csv"), Some("Europe/Berlin")).await;
    assert!(rows > 4 * 2 * 1_700, "{rows}");
    b.go("/mailings/elsewhere").await;
    b.shows("From the boat shed, 3").await;
    // Hosts had no mailbox for one in twenty; who left there gets nothing from here.
    let figures = b.rinse.json("GET", "/api/findings", &Value::Null);
    let first = figures["mailings"].as_array().unwrap().last().unwrap();
    let bounced = &first["figures"]["bounced"];
    assert_eq!((&bounced["count"], &bounced["of"]), (&json!(90), &json!(1_800)), "{first}");
    // Its next letter is drawn here.
    let mut d = rinse_testkit::draft(1, &["A tide table for the kitchen", "The new spring number"]);
    (d["handed_out"], d["html"]) = (json!(true), json!(""));
    let mailing = b.rinse.json("POST", "/api/mailings", &d)["id"].as_i64().unwrap();
    let plan = json!({
        "question": "Which subject is read?", "metric": "human_open", "effect": 0.1, "alpha": 0.05, "power": 0.8, "pilot_share": 0.75,
        "window_hours": 168, "on_no_call": 0, "leaving_margin": 0.05, "complaint_margin": 0.05,
    });
    let trial = b.rinse.json("PUT", &format!("/api/mailings/{mailing}/trial"), &plan).as_i64().unwrap();
    b.rinse.json("POST", &format!("/api/trials/{trial}/seal"), &json!({}));
    b.go(&format!("/mailings/{mailing}")).await;
    b.shows("are on the lists; the other system’s log tells of 0.").await;
    b.accessible("lists that are handed out").await;
    let at = b.rinse.now() + 3_600_000;
    let mut arms = Vec::new();
    for (arm, subject) in ["A tide table for the kitchen", "The new spring number"].into_iter().enumerate() {
        let (status, csv) = b.rinse.http("GET", &format!("/api/mailings/{mailing}/hand-out.csv?arm={arm}&phase=1"), b"");
        assert_eq!(status, 200);
        let file = b.folder.join(format!("list-{arm}.csv"));
        std::fs::write(&file, &csv).unwrap();
        other_sender(&home, &["list", "--list", file.to_str().unwrap(), "--subject", subject, "--at", &at.to_string()]);
        arms.push(listed(&csv));
    }
    let (a, other): (HashSet<&String>, HashSet<&String>) = (arms[0].iter().collect(), arms[1].iter().collect());
    assert!(a.is_disjoint(&other) && a.len() > 500 && other.len() > 500, "{} {}", a.len(), other.len());
    b.rinse.advance(9 * 24);
    for letter in ["A", "B"] {
        bring(&b, &home.join(format!("log-rinse-{mailing}-{letter}.csv")), None).await;
    }
    // More of its log may come: a trial is read a day after its last file.
    b.rinse.advance(1);
    assert_eq!(b.rinse.json("GET", &format!("/api/trials/{trial}"), &Value::Null)["trial"]["state"], "collecting");
    b.rinse.advance(24);
    b.go(&format!("/trials/{trial}")).await;
    b.shows("called for A").await;
    b.accessible("the verdict of a trial of another sender").await;
    // What is true there: the chance of each person on the lists who has a mailbox.
    let folder = tempfile::tempdir().unwrap();
    let world = Network::open(folder.path(), Scenario::skerry_light(), BEGINS, false).unwrap();
    let truth = |people: &[String], subject: &str| {
        let there = people.iter().filter(|a| !a.starts_with("gone."));
        let chances: Vec<f64> = there.map(|a| world.chance_to_open(a, subject, Instant::of(at))).collect();
        chances.iter().sum::<f64>() / chances.len() as f64
    };
    let reading = b.rinse.json("GET", &format!("/api/trials/{trial}"), &Value::Null)["reading"].clone();
    assert_eq!(reading["verdict"], json!({ "kind": "called", "arm": 0 }), "{}", reading["sentence"]);
    for (i, subject) in ["A tide table for the kitchen", "The new spring number"].into_iter().enumerate() {
        let counts = &reading["arms"][i]["counts"];
        let (opened, of) = (counts["primary"].as_f64().unwrap(), counts["accepted"].as_f64().unwrap());
        let (rate, p) = (opened / of, truth(&arms[i], subject));
        // Four standard errors: a true world is found outside once in some 16,000 runs.
        assert!((rate - p).abs() < 4.0 * (p * (1.0 - p) / of).sqrt(), "{subject}: {rate} of {of}, true {p}");
    }
    b.sound("another sender").await;
}
