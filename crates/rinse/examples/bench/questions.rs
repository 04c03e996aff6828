//! Every question that a screen asks: each GET of the API's description, with rows of the base in its path, and each POST that only reads.
//! A test of the server's (`asked`) holds them against the description and the web's calls.

use serde_json::{Value, json};

/// A question: as the description has it, as it is asked, and with what.
#[derive(Debug, Clone)]
pub(crate) struct Question {
    pub(crate) of: String,
    pub(crate) path: String,
    pub(crate) body: Option<Value>,
}

/// What tells a row's columns by SQL, and an answer by its path.
pub(crate) struct Base<'a> {
    pub(crate) row: &'a dyn Fn(&str) -> Option<Vec<String>>,
    pub(crate) get: &'a dyn Fn(&str) -> Value,
}

/// A mailing that went to many, or one to come.
const SENT: &str = "SELECT mailing_id FROM mailing_figure JOIN mailing m ON m.id = mailing_id WHERE m.class = 1 AND m.channel = 1 GROUP BY 1 ORDER BY sum(accepted) DESC LIMIT 1";
const COMING: &str = "SELECT id FROM mailing WHERE state = 'planned' ORDER BY id DESC LIMIT 1";
const ENGAGED: &str = "SELECT s.contact_id FROM response r JOIN send s ON s.id = r.send_id ORDER BY r.id DESC LIMIT 1";

/// What stands in a path: the columns of one row, in the order of the path's parameters; the heaviest of its kind.
pub(crate) const PLACED: &[(&str, &str)] = &[
    ("/api/base-check/{finding}", "SELECT 'duplicate'"),
    ("/api/changes/{id}", "SELECT max(id) FROM change_run"),
    ("/api/contacts/{id}", ENGAGED),
    ("/api/contacts/{id}/decisions", "SELECT contact_id FROM decision LIMIT 1"),
    ("/api/contacts/{id}/scores", ENGAGED),
    ("/api/contacts/{id}/series", "SELECT max(contact_id) FROM series_entry"),
    ("/api/findings/views/{id}/letters", "SELECT max(id) FROM saved_view"),
    ("/api/history/{id}", "SELECT max(id) FROM log_file"),
    ("/api/hour-trials/{id}", "SELECT 1"),
    ("/api/hour-trials/{id}/confirming", "SELECT 1"),
    ("/api/hour-trials/{id}/confirming-own", "SELECT 1"),
    ("/api/hour-trials/{id}/seal", "SELECT 1"),
    ("/api/imports/{id}", "SELECT max(id) FROM import_run"),
    ("/api/labels/{on}", "SELECT 'mailing'"),
    ("/api/letterheads/{id}/keys", "SELECT 1"),
    ("/api/letterheads/{id}/reach", "SELECT 1"),
    ("/api/mailings/{id}", SENT),
    ("/api/mailings/{id}/beside/{other}", "SELECT min(id), max(id) FROM mailing WHERE state = 'sent' AND channel = 1"),
    (
        "/api/mailings/{id}/clearance/{contact}",
        "SELECT m.id, k.id FROM mailing m, contact k WHERE m.state = 'planned' ORDER BY m.id DESC LIMIT 1",
    ),
    ("/api/mailings/{id}/did", SENT),
    ("/api/mailings/{id}/goals", SENT),
    ("/api/mailings/{id}/hand-out", SENT),
    ("/api/mailings/{id}/hand-out.csv", SENT),
    ("/api/mailings/{id}/hosts", COMING),
    ("/api/mailings/{id}/links", SENT),
    ("/api/mailings/{id}/outside", SENT),
    ("/api/mailings/{id}/replies", SENT),
    ("/api/mailings/{id}/sluice", COMING),
    ("/api/mailings/{id}/sluice/{step}", "SELECT id, 'retired' FROM mailing WHERE state = 'planned' ORDER BY id DESC LIMIT 1"),
    ("/api/mailings/{id}/trial", COMING),
    ("/api/mailings/{id}/way", SENT),
    ("/api/reactions/{id}", "SELECT reaction_id FROM reacted_day GROUP BY 1 ORDER BY count(*) DESC LIMIT 1"),
    ("/api/scores/{id}/leaders", "SELECT 1"),
    ("/api/segments/{id}", "SELECT max(id) FROM segment"),
    ("/api/series/{id}", "SELECT 1"),
    ("/api/series/{id}/people", "SELECT 1"),
    ("/api/suppression/{id}", "SELECT 1"),
    ("/api/suppression/{id}/without", "SELECT 1"),
    ("/api/trials/{id}", "SELECT trial_id FROM roster GROUP BY 1 ORDER BY count(*) DESC LIMIT 1"),
    ("/api/trials/{id}/course", "SELECT trial_id FROM roster GROUP BY 1 ORDER BY count(*) DESC LIMIT 1"),
    ("/api/trials/{id}/seal", "SELECT trial_id FROM roster GROUP BY 1 ORDER BY count(*) DESC LIMIT 1"),
    ("/api/upkeep/runs/{id}", "SELECT max(id) FROM cleaning_run"),
    ("/api/upkeep/runs/{id}/people", "SELECT run_id FROM cleaning_member GROUP BY 1 ORDER BY count(*) DESC LIMIT 1"),
    ("/api/words/{word}/{id}/used-by", "SELECT 'list', 1"),
];

/// What a path is asked with; more than once where the ways differ. `{now}` is the clock's instant.
pub(crate) const ASKED_WITH: &[(&str, &[&str])] = &[
    ("/api/calendar", &["from={now}&until={soon}"]),
    (
        "/api/contacts",
        &[
            "",
            "search=kerr&sort=address",
            "list=1&sort=added_at&descending=true",
            "segment=1",
            "status=3",
            "load=12",
            "sort=family_name&page=200",
        ],
    ),
    ("/api/do-not-write.csv", &["hashed=true"]),
    ("/api/findings", &["days=365"]),
    ("/api/findings/answers", &["days=365", "domain=1"]),
    (
        "/api/findings/by",
        &[
            "by=mailing&days=365",
            "by=domain&days=365",
            "by=domain&across=weekday&days=365",
            "by=country&across=source&days=365",
            "by=load&days=365",
            "by=month",
        ],
    ),
    ("/api/findings/compare", &["mailings=10,20"]),
    ("/api/findings/links", &["days=365"]),
    ("/api/findings/revenue", &["goal=1&by=mailing&days=365", "goal=1&by=topic"]),
    ("/api/forecast", &[""]),
    ("/api/growth", &["", "lists=1"]),
    ("/api/series/{id}/people", &["who=inside"]),
    ("/api/upkeep/people", &["", "status=retired", "order=longest"]),
    ("/api/upkeep/silent/people", &["", "stage=to_ask"]),
];

fn gets(description: &Value) -> Vec<String> {
    let paths = description["paths"].as_object().into_iter().flatten();
    paths.filter(|(p, of)| p.starts_with("/api/") && of["get"].is_object()).map(|(p, _)| p.clone()).collect()
}

/// A path with the columns of a row in its places.
fn placed(path: &str, row: &[String]) -> String {
    let mut row = row.iter();
    let part = |p: &str| if p.starts_with('{') { row.next().cloned().unwrap_or_default() } else { p.to_owned() };
    path.split('/').map(part).collect::<Vec<_>>().join("/")
}

/// Every question, where the base has what it asks about.
pub(crate) fn all(description: &Value, base: &Base<'_>) -> Vec<Question> {
    let now = (base.get)("/api/clock")["now"].as_i64().unwrap_or_default();
    let mut out = Vec::new();
    for of in gets(description) {
        let path = match PLACED.iter().find(|(p, _)| *p == of) {
            None => {
                assert!(!of.contains('{'), "{of}: say what stands in its path");
                of.clone()
            }
            Some((_, sql)) => match (base.row)(sql) {
                Some(row) => placed(&of, &row),
                None => continue,
            },
        };
        let asked_with = ASKED_WITH.iter().find(|(p, _)| *p == of).map_or(&[""][..], |(_, with)| *with);
        for with in asked_with {
            let with = with.replace("{now}", &now.to_string()).replace("{soon}", &(now + 28 * 86_400_000).to_string());
            let path = if with.is_empty() { path.clone() } else { format!("{path}?{with}") };
            out.push(Question { of: of.clone(), path, body: None });
        }
    }
    out.extend(posts(base));
    out
}

fn posts(base: &Base<'_>) -> Vec<Question> {
    let get = |path: &str| (base.get)(path);
    let id = |sql: &str| (base.row)(sql).and_then(|r| r.first().cloned()).unwrap_or_else(|| "1".into());
    let post = |of: &str, path: String, body: Value| Question { of: of.into(), path, body: Some(body) };
    let draft = get(&format!("/api/mailings/{}", id(COMING)));
    let segments = get("/api/segments");
    let trees: Vec<Value> = segments.as_array().into_iter().flatten().map(|s| s["tree"].clone()).collect();
    let tree = trees.last().cloned().unwrap_or_default();
    let mut out: Vec<Question> = trees.iter().map(|t| post("/api/segments/look", "/api/segments/look".into(), t.clone())).collect();
    out.push(post("/api/segments/overlap", "/api/segments/overlap".into(), json!(trees.iter().take(3).collect::<Vec<_>>())));
    out.push(post("/api/segments/split", "/api/segments/split".into(), json!({ "tree": tree, "field": "country" })));
    out.push(post("/api/segments/explain/{contact}", format!("/api/segments/explain/{}", id(ENGAGED)), tree));
    out.push(post("/api/audience", "/api/audience".into(), json!({ "draft": draft, "at": null, "mailing": null })));
    out.push(post("/api/message-check", "/api/message-check".into(), draft.clone()));
    out.push(post("/api/message-preview", "/api/message-preview".into(), json!({ "draft": draft, "contact": null, "arm": 0 })));
    let rules = get("/api/rules")["version"]["rules"].clone();
    out.push(post("/api/rules/preview", "/api/rules/preview".into(), json!({ "rules": rules, "note": "" })));
    let trial = get("/api/trials").as_array().and_then(|t| t.first().cloned()).unwrap_or_default();
    out.push(post("/api/mailings/{id}/outlook", format!("/api/mailings/{}/outlook", trial["mailing_id"]), trial["plan"].clone()));
    let hours = get("/api/hour-trials/1")["trial"]["plan"].clone();
    out.push(post("/api/hour-trials/outlook", "/api/hour-trials/outlook".into(), hours));
    out.push(post("/api/scores/{id}/try", "/api/scores/1/try".into(), json!({ "draft": null })));
    let outline = get("/api/series/1")["outline"].clone();
    out.push(post("/api/series/{id}/effects", "/api/series/1/effects".into(), outline));
    let segment: i64 = segments[0]["id"].as_i64().unwrap_or(1);
    let list = json!({ "name": "Bench", "reason": "", "scope": { "kind": "all" }, "segment_id": segment });
    out.push(post("/api/suppression/preview", "/api/suppression/preview".into(), list));
    out.push(post("/api/suppression/{id}/preview", "/api/suppression/1/preview".into(), json!({ "lines": "*.tern.example" })));
    let machines = get("/api/upkeep/machine-rules")["current"]["rules"].clone();
    out.push(post("/api/upkeep/machine-rules/try", "/api/upkeep/machine-rules/try?days=90".into(), machines));
    let line = get("/api/upkeep/reasons")["lines"][0]["line"].clone();
    out.push(post("/api/upkeep/readings/try", "/api/upkeep/readings/try".into(), json!({ "line": line, "category": "rejected" })));
    out
}
