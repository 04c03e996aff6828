//! The bench asks every question that a screen asks: what is added to the API or the web is timed, or this fails.

use crate::inside::Inside;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::path::Path;

#[path = "../../../rinse/examples/bench/questions.rs"]
mod questions;

/// These compute from what they are sent; nothing of the base is read.
const READ_NOTHING: [&str; 1] = ["/api/verdict"];
/// Those that read end so.
const READS: [&str; 11] = [
    "audience",
    "look",
    "overlap",
    "split",
    "effects",
    "outlook",
    "message-check",
    "message-preview",
    "explain/{contact}",
    "preview",
    "try",
];
/// These end so and do something.
const DO: [&str; 1] = ["/api/delivery/names/look"];

/// The posts of the web's queries: what is asked as a screen opens.
fn of_queries(folder: &Path, found: &mut BTreeSet<String>) {
    const POST: &str = "api.POST(\"";
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            of_queries(&path, found);
        } else if path.extension().is_some_and(|e| e == "ts" || e == "tsx") {
            let text = std::fs::read_to_string(&path).unwrap();
            let posts = text
                .match_indices(POST)
                .filter(|(at, _)| text[..*at].rfind("queryFn:").is_some_and(|q| !text[q..*at].contains([';', '{'])));
            found.extend(posts.filter_map(|(at, _)| text[at + POST.len()..].split('"').next()).map(str::to_owned));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_bench_asks_whatever_a_screen_asks() {
    let s = Inside::new().await;
    let db = s.db();
    let row = |sql: &str| {
        let columns = db.prepare(sql).unwrap_or_else(|e| panic!("{sql}: {e}")).column_count();
        Some(vec!["1".to_owned(); columns])
    };
    let get = |_: &str| json!([{ "id": 1, "tree": { "kind": "everybody" } }]);
    let description = rinse_server::openapi();
    let all = questions::all(&description, &questions::Base { row: &row, get: &get });
    let different: BTreeSet<String> = all.iter().map(|q| format!("{} {} {:?}", way(&q.body), q.path, q.body)).collect();
    assert_eq!(different.len(), all.len(), "nothing is asked twice");
    let asked: BTreeSet<String> = all.iter().map(|q| format!("{} {}", way(&q.body), q.of)).collect();
    let reads = |path: &str| READS.iter().any(|end| path.ends_with(&format!("/{end}")));
    let mut wanted = BTreeSet::new();
    for (path, of) in description["paths"].as_object().unwrap().iter().filter(|(p, _)| p.starts_with("/api/")) {
        if of["get"].is_object() {
            wanted.insert(format!("GET {path}"));
        }
        if of["post"].is_object() && reads(path) && !DO.contains(&path.as_str()) {
            wanted.insert(format!("POST {path}"));
        }
    }
    let mut queries = BTreeSet::new();
    of_queries(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../web/src"), &mut queries);
    assert!(queries.len() > 5, "the web's queries are found: {queries:?}");
    wanted.extend(queries.iter().filter(|p| !READ_NOTHING.contains(&p.as_str())).map(|p| format!("POST {p}")));
    assert_eq!(wanted.difference(&asked).collect::<Vec<_>>(), Vec::<&String>::new(), "say how the bench asks these: bench/questions.rs");
    assert_eq!(asked.difference(&wanted).collect::<Vec<_>>(), Vec::<&String>::new(), "nobody asks these any more");
}

fn way(body: &Option<Value>) -> &'static str {
    if body.is_some() { "POST" } else { "GET" }
}
