//! No page and no beat of the engine walks all people or all messages: the work of each statement is told by SQLite itself.

use crate::inside::Inside;
use rinse_store::TraceEvent;
use rinse_testkit::{draft, people_csv};
use rusqlite::StatementStatus;
use serde_json::json;
use std::collections::{BTreeMap, HashMap};
use std::sync::Mutex;

const PEOPLE: usize = 3_000;
/// Steps of SQLite's machine: walking everybody takes at least four for each, which no other statement of such a small base needs.
const WALK: i64 = 4 * PEOPLE as i64;

/// What counts everybody, or all of something, when it is asked: costly answers are kept, and counted again beside (`server/keeping`); files and
/// seals are read whole.
const COUNTS: [&str; 13] = [
    "/api/base-check",
    "/api/cap-guide",
    "/api/consent",
    "/api/consent/faring",
    "/api/consent/seals",
    "/api/delivery/groups",
    "/api/do-not-write.csv",
    "/api/domains",
    "/api/growth",
    "/api/recency",
    "/api/sources",
    "/api/upkeep/evidence",
    "/api/upkeep/machine-rules/origins",
];

/// The steps that each statement had taken when it ended last; and the most that it took at once since they were asked for.
static TAKEN: Mutex<(Option<HashMap<String, i64>>, BTreeMap<String, i64>)> = Mutex::new((None, BTreeMap::new()));

fn told(e: TraceEvent<'_>) {
    let TraceEvent::Profile(s, _) = e else { return };
    let (sql, now) = (s.sql().into_owned(), i64::from(s.get_status(StatementStatus::VmStep)));
    let mut taken = TAKEN.lock().unwrap();
    // Another connection's is another statement: whatever is less than before began at nothing.
    let before = taken.0.get_or_insert_default().insert(sql.clone(), now).filter(|b| *b < now).unwrap_or(0);
    let most = taken.1.entry(sql).or_default();
    *most = (*most).max(now - before);
}

/// What walked since this was asked for last.
fn walked() -> Vec<(i64, String)> {
    let all = std::mem::take(&mut TAKEN.lock().unwrap().1);
    all.into_iter()
        .filter(|(_, steps)| *steps > WALK)
        .map(|(sql, steps)| (steps, sql.split_whitespace().collect::<Vec<_>>().join(" ")))
        .collect()
}

/// Everybody got a mailing, some answered; nothing is due, and no day begins.
async fn at_rest() -> Inside {
    let s = Inside::new().await;
    s.import(&people_csv(PEOPLE)).await;
    // They have been here for long: what is asked about newcomers asks about few.
    s.db().execute("UPDATE contact SET added_at = added_at - 400 * 86400000", []).unwrap();
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/1/plan", &json!({ "at": null })).await;
    s.advance(7 * 24).await;
    s
}

#[tokio::test(flavor = "multi_thread")]
async fn neither_pages_nor_beats_walk_everybody() {
    let s = at_rest().await;
    s.app.watch(told).await.unwrap();
    // What a statement did before it was watched is told with its first end.
    s.advance(2).await;
    walked();
    let mut found = Vec::new();
    for _ in 0..2 {
        s.advance(1).await;
        found.extend(walked().into_iter().map(|w| ("a beat".to_owned(), w)));
    }
    let description = rinse_server::openapi();
    let paths = description["paths"].as_object().unwrap();
    for path in paths.iter().filter(|(p, of)| p.starts_with("/api/") && !p.contains('{') && of["get"].is_object()).map(|(p, _)| p) {
        s.api("GET", path, "").await;
        let some = walked();
        if COUNTS.contains(&path.as_str()) {
            assert!(!some.is_empty(), "{path} walks no longer: take it off the list");
        } else {
            found.extend(some.into_iter().map(|w| (path.clone(), w)));
        }
    }
    let words: Vec<String> = found.iter().map(|(what, (steps, sql))| format!("{what}: {steps}: {sql}")).collect();
    assert!(words.is_empty(), "{}", words.join("\n"));
}
