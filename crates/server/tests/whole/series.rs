//! Series through the API, with the simulated world answering: what would go wrong is refused in a sentence, figures are what
//! the rows say, and a reaction and a series hand people to each other.

use crate::inside::Inside;
use axum::http::StatusCode;
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_testkit::draft;
use serde_json::{Value, json};

/// A draft with the link that a series owes.
fn message(name: &str) -> Value {
    let mut d = draft(1, &["Another year of light"]);
    d["name"] = json!(name);
    for part in ["html", "text"] {
        d[part] = json!(format!("{} {{{{ leave_series_url }}}}", d[part].as_str().unwrap()));
    }
    d
}

fn outline(steps: &Value) -> Value {
    json!({ "entry": { "kind": "by_hand" }, "again": { "kind": "never" }, "from": null, "until": null, "steps": steps, "exits": [] })
}

async fn base(people: usize) -> Inside {
    let s = Inside::new().await;
    let people: String = (0..people).map(|i| format!("p{i}@tern.example\n")).collect();
    s.import(&format!("email\n{people}")).await;
    s
}

/// The answer's status and its sentence.
async fn refused(s: &Inside, method: &str, path: &str, body: &Value) -> (StatusCode, String) {
    let (status, words) = s.api(method, path, &body.to_string()).await;
    let problem: Value = serde_json::from_str(&words).unwrap_or_default();
    (status, problem["detail"].as_str().unwrap_or_default().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_would_go_wrong_is_refused_in_a_sentence() {
    let s = base(2).await;
    let id = s.ok("POST", "/api/series", &json!({ "name": "Welcome", "letterhead_id": 1 })).await;
    let path = format!("/api/series/{id}");
    assert!(refused(&s, "POST", "/api/series", &json!({ "name": " welcome ", "letterhead_id": 1 })).await.1.contains("another name"));
    assert!(refused(&s, "POST", &format!("{path}/start"), &Value::Null).await.1.contains("Nothing happens"));
    assert!(refused(&s, "POST", &format!("{path}/people"), &json!({ "contacts": [1] })).await.1.contains("start it"));

    // A message without the link to leave the series stops the start, and is named.
    let plain = s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await["id"].clone();
    let mail = |m: &Value| json!([{ "id": 1, "does": { "kind": "mail", "mailing": m } }]);
    let with = |o: Value| json!({ "name": "Welcome", "letterhead_id": 1, "outline": o });
    s.ok("PUT", &path, &with(outline(&mail(&plain)))).await;
    let (status, words) = refused(&s, "POST", &format!("{path}/start"), &Value::Null).await;
    assert!(status == StatusCode::CONFLICT && words.contains("“Boat days”") && words.contains("leave this series"), "{words}");
    let found = s.ok("POST", &format!("/api/message-check?mailing={plain}"), &draft(1, &["Boats"])).await;
    assert!(found.as_array().unwrap().iter().any(|f| f["words"].as_str().unwrap().contains("leave this series")));

    // It is the series' own now: it is sent in no other way.
    let own = "step of a series";
    assert!(refused(&s, "POST", &format!("/api/mailings/{plain}/plan"), &json!({ "at": null })).await.1.contains(own));
    let other = s.ok("POST", "/api/series", &json!({ "name": "Other", "letterhead_id": 1 })).await;
    let taken = json!({ "name": "Other", "letterhead_id": 1, "outline": outline(&mail(&plain)) });
    assert!(refused(&s, "PUT", &format!("/api/series/{other}"), &taken).await.1.contains("another series"));
    let itself = json!([{ "id": 1, "does": { "kind": "act", "deed": { "kind": "series", "series": id, "put": true } } }]);
    assert!(refused(&s, "PUT", &path, &with(outline(&itself))).await.1.contains("into itself"));

    // Taken out of the series it is a draft of nobody's again.
    let good = s.ok("POST", "/api/mailings", &message("Good")).await["id"].clone();
    s.ok("PUT", &path, &with(outline(&mail(&good)))).await;
    s.ok("POST", &format!("/api/mailings/{plain}/plan"), &json!({ "at": null })).await;
    s.ok("POST", &format!("{path}/start"), &Value::Null).await;
    assert_eq!(refused(&s, "PUT", &format!("/api/mailings/{good}"), &message("Changed")).await.0, StatusCode::CONFLICT);
    assert!(refused(&s, "POST", &format!("/api/mailings/{good}/resume"), &Value::Null).await.1.contains("isn't paused"));
    for who in ["nobody", "here-x"] {
        assert_eq!(refused(&s, "GET", &format!("{path}/people?who={who}"), &Value::Null).await.0, StatusCode::CONFLICT);
    }
    assert_eq!(refused(&s, "DELETE", &format!("{path}/people/1"), &Value::Null).await.0, StatusCode::CONFLICT);
}

#[tokio::test(flavor = "multi_thread")]
async fn figures_are_what_the_rows_say_while_the_world_answers() {
    let s = base(120).await;
    let (first, second) = (
        s.ok("POST", "/api/mailings", &message("First")).await["id"].clone(),
        s.ok("POST", "/api/mailings", &message("Second")).await["id"].clone(),
    );
    let opened = json!({ "kind": "opened", "step": 1 });
    let steps = json!([
        { "id": 1, "does": { "kind": "mail", "mailing": first } },
        { "id": 2, "does": { "kind": "await", "what": opened, "hours": 72 } },
        { "id": 3, "does": { "kind": "fork", "on": { "kind": "happened", "what": opened }, "yes": [
            { "id": 4, "does": { "kind": "act", "deed": { "kind": "task", "words": "Say hello" } } }
        ], "no": [ { "id": 5, "does": { "kind": "mail", "mailing": second } } ] } },
    ]);
    let id = s.ok("POST", "/api/series", &json!({ "name": "Welcome", "letterhead_id": 1 })).await;
    s.ok("PUT", &format!("/api/series/{id}"), &json!({ "name": "Welcome", "letterhead_id": 1, "outline": outline(&steps) })).await;
    s.ok("POST", &format!("/api/series/{id}/start"), &Value::Null).await;
    let everyone: Vec<i64> = (1..=120).collect();
    let done = s.ok("POST", &format!("/api/series/{id}/people"), &json!({ "contacts": everyone })).await;
    assert_eq!((&done["entered"], &done["asked"]), (&json!(120), &json!(120)));
    let coming = s.ok("GET", "/api/forecast", &Value::Null).await["mailings"].clone();
    let ahead = coming.as_array().unwrap().iter().find(|m| m["series"] == true && m["id"] == second).expect("the second is foreseen");
    assert_eq!(ahead["selected"], 120, "as if nobody opened the first");
    s.advance(5 * 24).await;

    let v = s.ok("GET", &format!("/api/series/{id}"), &Value::Null).await;
    let line = |step: usize| v["lines"][step - 1].clone();
    assert_eq!((&v["entered"], &v["inside"]), (&json!(120), &json!(0)));
    let in_time = "SELECT count(*) FROM send WHERE mailing_id = 1 AND min(coalesce(open_at, 1e18), coalesce(click_at, 1e18)) <= accepted_at + 259200000";
    let readers = s.count(in_time);
    assert!(readers > 10 && readers < 110, "{readers}");
    assert_eq!(line(2)["yes"]["count"], readers);
    assert_eq!(line(3)["yes"]["count"], readers);
    assert_eq!((line(4)["came"].as_i64(), s.count("SELECT count(*) FROM task WHERE words = 'Say hello'")), (Some(readers), readers));
    assert_eq!(line(5)["came"], 120 - readers);
    let sent = s.count("SELECT count(*) FROM send WHERE mailing_id = 2 AND accepted_at IS NOT NULL");
    assert_eq!(line(5)["mail"]["accepted"], sent);
    assert_eq!(s.count("SELECT count(*) FROM send WHERE mailing_id = 2 AND contact_id IN (SELECT contact_id FROM task)"), 0);
    // Some of the simulated people withdraw, complain or can't be reached before their second message: they are out at it.
    let lost = s.count("SELECT count(*) FROM send WHERE mailing_id = 2 AND state = 6 AND reason IN (0, 2, 3, 4)");
    let unreached = "out-no%20mail%20reaches%20them%20any%20more";
    for (who, n) in [
        ("came-1", 120),
        ("yes-3", readers),
        ("no-3", 120 - readers),
        ("inside", 0),
        ("out-through", 120 - lost),
        (unreached, lost),
        ("", 120),
    ] {
        let people = s.ok("GET", &format!("/api/series/{id}/people?who={who}"), &Value::Null).await;
        assert_eq!(people.as_array().unwrap().len() as i64, n, "{who}");
        let csv = String::from_utf8(s.file(&format!("/api/series/{id}/people.csv?who={who}")).await).unwrap();
        assert_eq!(csv.lines().count() as i64, n + 1, "{who} as CSV");
    }
    // The findings know its messages as any others, and a segment who has been in it.
    let findings = s.ok("GET", "/api/findings", &Value::Null).await;
    assert!(findings["mailings"].as_array().unwrap().iter().any(|m| m["name"] == "Second" && m["figures"]["accepted"]["count"] == sent));
    let was = json!({ "kind": "series", "series": id, "part": "before" });
    let answered = json!({ "kind": "did", "did": "opened", "human": true, "times": { "at_least": 1 }, "within_days": null, "mailing": null, "link": null, "series": id });
    for (tree, n) in [(was, 120), (answered, s.count("SELECT count(DISTINCT contact_id) FROM send WHERE open_at IS NOT NULL"))] {
        let look = s.ok("POST", "/api/segments/look", &tree).await;
        assert_eq!(look["people"], n, "{look}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reaction_hands_people_over_and_the_link_leaves_this_series_alone() {
    let s = base(3).await;
    let m = s.ok("POST", "/api/mailings", &message("In the series")).await["id"].clone();
    let steps = json!([{ "id": 1, "does": { "kind": "mail", "mailing": m } }, { "id": 2, "does": { "kind": "wait", "hours": 240, "minute": null } }]);
    let id = s.ok("POST", "/api/series", &json!({ "name": "Guests", "letterhead_id": 1 })).await;
    s.ok("PUT", &format!("/api/series/{id}"), &json!({ "name": "Guests", "letterhead_id": 1, "outline": outline(&steps) })).await;
    s.ok("POST", &format!("/api/series/{id}/start"), &Value::Null).await;
    let rule = |name: &str, put: bool| json!({ "mailing": null, "when": { "kind": "answered", "name": name }, "then": [{ "kind": "series", "series": id, "put": put }] });
    for (name, put) in [("Stayed", true), ("Went home", false)] {
        s.ok("POST", "/api/reactions", &json!({ "id": null, "rule": rule(name, put), "on": true })).await;
    }
    let event = |key: &str, who: &str, name: &str| {
        format!("{{\"key\":\"{key}\",\"address\":\"{who}@tern.example\",\"at\":\"2026-04-16T19:00:00Z\",\"name\":\"{name}\"}}\n")
    };
    s.advance(1).await;
    let (status, _) =
        s.api("POST", "/api/events", &(event("1", "p0", "Stayed") + &event("2", "p1", "Stayed") + &event("1", "p0", "Stayed"))).await;
    assert!(status.is_success());
    s.advance(2).await;
    assert_eq!(s.count("SELECT count(*) FROM series_entry"), 2);
    s.api("POST", "/api/events", &event("3", "p1", "Went home")).await;
    s.advance(2).await;
    assert_eq!(s.count("SELECT count(*) FROM series_entry WHERE ended_at IS NULL"), 1);

    let send = s.count("SELECT s.id FROM send s JOIN contact c ON c.id = s.contact_id WHERE c.address = 'p0@tern.example'");
    let path = format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(send), 1));
    let (_, page, _) = s.door("GET", &path, "").await;
    assert!(page.contains("Leave the series “Guests”") && !page.contains("Stop everything") && page.len() < 30_000, "{page}");
    assert_eq!(s.count("SELECT count(*) FROM series_left"), 0, "a GET changes nothing");
    let (_, page, _) = s.door("POST", &path, "stop=series").await;
    assert!(page.contains("Other mail goes on") && page.contains("take it back"));
    assert_eq!((s.count("SELECT count(*) FROM series_left"), s.count("SELECT consent FROM contact WHERE id = 1")), (1, 2));
    assert_eq!(s.count("SELECT count(*) FROM send WHERE series_left_at = left_at"), 1);
    s.door("POST", &path, "stop=series-back").await;
    assert_eq!(s.count("SELECT count(*) FROM series_left"), 0);
    // Of a message that no series sent, the link is an unsubscribe link.
    s.ok("POST", "/api/mailings", &draft(1, &["Boats"])).await;
    s.ok("POST", "/api/mailings/2/plan", &json!({ "at": null })).await;
    let other = s.count("SELECT id FROM send WHERE mailing_id = 2 AND contact_id = 1");
    let (_, page, _) = s.door("GET", &format!("/u/{}", s.signer.link(Kind::Unsubscribe, SendId(other), 1)), "").await;
    assert!(page.contains("Stop everything") && !page.contains("Leave the series"));
    assert_eq!(s.ok("GET", "/api/contacts/1/series", &Value::Null).await.as_array().unwrap().len(), 1);
}
