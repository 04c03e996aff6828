//! The process is really killed in the middle of its work and started again: nobody gets a mailing
//! twice and nobody is forgotten; an import goes on where it stood.

use rinse_testkit::{Process, draft, http, letterhead, people_csv, wait_until};
use rusqlite::Connection;
use serde_json::{Value, json};
use std::path::Path;

fn accepted(data: &Path) -> (i64, i64) {
    let Ok(world) = Connection::open(data.join("world.db")) else { return (0, 0) };
    world.query_row("SELECT count(*), count(DISTINCT address) FROM accepted", [], |r| Ok((r.get(0)?, r.get(1)?))).unwrap_or((0, 0))
}

#[test]
fn killed_in_the_middle_of_a_send() {
    let (folder, binary) = (tempfile::tempdir().unwrap(), Path::new(env!("CARGO_BIN_EXE_rinse")));
    let data = folder.path();
    let people = 8_000;
    let mut rinse = Process::demo(binary, data);
    rinse.import(&people_csv(people));
    let head = rinse.json("POST", "/api/letterheads", &letterhead()).as_i64().unwrap();
    let mailing = rinse.json("POST", "/api/mailings", &draft(head, &["Boats"]))["id"].as_i64().unwrap();
    let address = rinse.address.clone();
    let sender = std::thread::spawn(move || http(&address, "POST", &format!("/api/mailings/{mailing}/plan"), b"{\"at\":null}"));
    for more in [900, 3_000] {
        wait_until("some messages are out", || accepted(data).0 > more);
        rinse.kill();
        let (n, _) = accepted(data);
        assert!(n < 7_600, "the kill came too late to prove anything: {n} were out");
        rinse = Process::demo(binary, data);
    }
    let _ = sender.join();
    wait_until("the mailing is whole", || rinse.json("GET", &format!("/api/mailings/{mailing}"), &Value::Null)["state"] == "sent");
    let figures = rinse.json("GET", "/api/findings", &Value::Null);
    let gone = people as i64 / 20;
    let (messages, addresses) = accepted(data);
    assert_eq!((messages, addresses), (people as i64 - gone, people as i64 - gone), "each known address got it once");
    let figures = &figures["mailings"][0];
    assert_eq!((figures["sent"].as_i64(), figures["figures"]["bounced"]["count"].as_i64()), (Some(people as i64), Some(gone)));
}

#[test]
fn killed_in_the_middle_of_an_import() {
    let (folder, binary) = (tempfile::tempdir().unwrap(), Path::new(env!("CARGO_BIN_EXE_rinse")));
    let data = folder.path();
    let people = 30_000;
    let mut rinse = Process::demo(binary, data);
    let (_, body) = rinse.http("POST", "/api/imports?name=people.csv", people_csv(people).as_bytes());
    let run: Value = serde_json::from_slice(&body).unwrap();
    let decision =
        json!({ "mapping": run["mapping"], "header": true, "list": "All", "tag": "Guest", "consent": true, "evidence": "paper form" });
    rinse.json("POST", "/api/imports/1/check", &decision);
    rinse.json("POST", "/api/imports/1/apply", &Value::Null);
    let count = |sql: &str| Connection::open(data.join("rinse.db")).unwrap().query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap_or(0);
    for more in [1_000, 9_000] {
        wait_until("some people are in", || count("SELECT count(*) FROM contact") > more);
        rinse.kill();
        let (there, done) = (count("SELECT count(*) FROM contact"), count("SELECT done FROM import_run"));
        assert!(there < people as i64, "the kill came too late to prove anything");
        assert_eq!(there, done, "what is in and what is said to be done are one transaction");
        rinse = Process::demo(binary, data);
    }
    wait_until("the import is whole", || rinse.json("GET", "/api/imports/1", &Value::Null)["run"]["state"] == "applied");
    for (what, sql) in [
        ("people", "SELECT count(*) FROM contact"),
        ("ledger entries", "SELECT count(*) FROM ledger WHERE kind = 'agreed'"),
        ("on the list", "SELECT count(*) FROM list_member"),
        ("with the tag", "SELECT count(*) FROM contact_tag"),
    ] {
        assert_eq!(count(sql), people as i64, "{what}, each once");
    }
}

/// An HTTP receiver on loopback, which may refuse every third message the first time and take its time over each: the keys it
/// took, each with its times, and how many signatures were wrong.
fn receiver(
    secret: std::sync::Arc<std::sync::Mutex<Vec<u8>>>,
    refuses: bool,
    takes: std::time::Duration,
) -> (u16, std::sync::Arc<std::sync::Mutex<(std::collections::HashMap<String, u32>, u32)>>) {
    use std::io::{BufRead, BufReader, Read, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let taken: std::sync::Arc<std::sync::Mutex<(std::collections::HashMap<String, u32>, u32)>> = std::sync::Arc::default();
    let kept = taken.clone();
    let refused = std::sync::Arc::<std::sync::Mutex<std::collections::HashSet<String>>>::default();
    std::thread::spawn(move || {
        for (n, stream) in listener.incoming().enumerate() {
            let (secret, kept, refused) = (secret.clone(), kept.clone(), refused.clone());
            std::thread::spawn(move || {
                let mut stream = stream.ok()?;
                let mut reader = BufReader::new(stream.try_clone().ok()?);
                let (mut head, mut line) = (std::collections::HashMap::new(), String::new());
                while reader.read_line(&mut line).ok()? > 2 {
                    if let Some((name, value)) = line.split_once(':') {
                        head.insert(name.to_lowercase(), value.trim().to_owned());
                    }
                    line.clear();
                }
                let mut body = vec![0; head.get("content-length")?.parse().ok()?];
                reader.read_exact(&mut body).ok()?;
                let (key, second) = (&head["webhook-id"], head["webhook-timestamp"].parse::<i64>().ok()?);
                let now = rinse_core::Instant::of(second * 1_000);
                let good = rinse_core::webhook::verify(
                    &secret.lock().unwrap(),
                    key,
                    second,
                    &String::from_utf8(body).ok()?,
                    &head["webhook-signature"],
                    now,
                );
                let first = refused.lock().unwrap().insert(key.clone());
                std::thread::sleep(takes);
                let status = if refuses && first && n % 3 == 0 { "500 Later" } else { "204 Taken" };
                let mut kept = kept.lock().unwrap();
                kept.1 += u32::from(!good);
                if status.starts_with('2') {
                    *kept.0.entry(key.clone()).or_default() += 1;
                }
                drop(kept);
                stream.write_all(format!("HTTP/1.1 {status}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").as_bytes()).ok()
            });
        }
    });
    (port, taken)
}

#[test]
fn killed_in_the_middle_of_reacting() {
    let (folder, binary) = (tempfile::tempdir().unwrap(), Path::new(env!("CARGO_BIN_EXE_rinse")));
    let data = folder.path();
    let mut rinse = Process::demo(binary, data);
    rinse.import(&people_csv(2_000));
    let head = rinse.json("POST", "/api/letterheads", &letterhead()).as_i64().unwrap();
    let secret = std::sync::Arc::<std::sync::Mutex<Vec<u8>>>::default();
    let (port, taken) = receiver(secret.clone(), true, std::time::Duration::ZERO);
    let system = rinse.json("POST", "/api/webhooks", &json!({ "name": "Receiver", "url": format!("http://127.0.0.1:{port}/in") }));
    let hex = rinse.json("POST", &format!("/api/webhooks/{system}/secret"), &Value::Null)["secret"].as_str().unwrap().to_owned();
    *secret.lock().unwrap() = (0..hex.len()).step_by(2).map(|i| u8::from_str_radix(&hex[i..i + 2], 16).unwrap()).collect();
    let score = rinse.json("POST", "/api/scores", &json!({ "id": null, "name": "Interest", "half_life_days": null }));
    let rule = json!({ "mailing": null, "when": { "kind": "not_clicked", "hours": 1, "link": null, "taken_back": false },
        "then": [{ "kind": "score", "score": score, "points": 1 }, { "kind": "webhook", "webhook": system }] });
    rinse.json("POST", "/api/reactions", &json!({ "id": null, "rule": rule, "on": true }));
    let mailing = rinse.json("POST", "/api/mailings", &draft(head, &["Boats"]))["id"].as_i64().unwrap();
    rinse.json("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null }));
    let move_on = |rinse: &Process, hours: i64| {
        wait_until("the clock stands", || rinse.http("POST", "/api/clock/advance", format!("{{\"hours\":{hours}}}").as_bytes()).0 == 202);
    };
    move_on(&rinse, 3);
    for more in [50, 400] {
        wait_until("some messages have arrived", || taken.lock().unwrap().0.len() > more);
        rinse.kill();
        rinse = Process::demo(binary, data);
    }
    let count = |sql: &str| Connection::open(data.join("rinse.db")).unwrap().query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap_or(-1);
    let quiet = || {
        count("SELECT count(*) FROM delivery WHERE state = 0") == 0
            && count("SELECT (SELECT value FROM setting WHERE key = 'clock') = (SELECT value FROM setting WHERE key = 'clock_target')") == 1
    };
    for _ in 0..6 {
        // What failed waits for its next try, by the demo clock.
        move_on(&rinse, 1);
    }
    wait_until("every message has gone", quiet);
    let silent = count(
        "SELECT count(*) FROM send WHERE failed_at IS NULL AND accepted_at IS NOT NULL AND coalesce(click_at > accepted_at + 3600000, 1)",
    );
    assert!(silent > 1_000, "{silent}");
    assert_eq!(count("SELECT count(*) FROM reacted"), silent);
    assert_eq!(count("SELECT count(*) FROM score_entry"), silent, "nobody gets the points twice");
    let kept = taken.lock().unwrap();
    assert_eq!((kept.0.len() as i64, kept.1), (silent, 0), "each message arrived, and each was signed");
}

/// A gateway knows a message again by its number: what it was handed before a kill it may be handed once more under the same
/// one, so that it sends it once.
#[test]
fn killed_in_the_middle_of_text_messages() {
    let (folder, binary) = (tempfile::tempdir().unwrap(), Path::new(env!("CARGO_BIN_EXE_rinse")));
    let data = folder.path();
    let people = 900;
    let secret = "shared with the gateway";
    let (port, taken) =
        receiver(std::sync::Arc::new(std::sync::Mutex::new(secret.as_bytes().to_vec())), false, std::time::Duration::from_millis(80));
    let url = format!("http://127.0.0.1:{port}/send");
    let mut rinse = Process::serve_texts(binary, data, &url, secret);
    let mut csv = String::from("email,mobile\n");
    for i in 0..people {
        csv.push_str(&format!("wren{i}@tern.example,+447700900{i:03}\n"));
    }
    rinse.import(&csv);
    let mut l = letterhead();
    l["text_number"] = json!("60777");
    let head = rinse.json("POST", "/api/letterheads", &l);
    // Whatever the hour is here.
    rinse.json("PUT", "/api/rules", &json!({ "rules": { "quiet": null }, "note": "a test" }));
    let text = json!({ "name": "By text", "channel": "text", "topic_id": null, "letterhead_id": head, "list_id": null, "over_cap": "hold",
        "subjects": [""], "html": "", "text": "{{ sender_name }}: boats at 9. Reply STOP to end." });
    rinse.json("POST", "/api/mailings", &text);
    rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": null }));
    let count = |sql: &str| Connection::open(data.join("rinse.db")).unwrap().query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap_or(-1);
    for more in [100, 400] {
        wait_until("some were taken", || taken.lock().unwrap().0.len() > more);
        rinse.kill();
        assert!(taken.lock().unwrap().0.len() < people, "the kill came too late to prove anything");
        rinse = Process::serve_texts(binary, data, &url, secret);
    }
    wait_until("it is whole", || rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    assert_eq!(count("SELECT count(*) FROM send WHERE state = 3"), people as i64, "nobody is forgotten, and nobody is in doubt");
    let kept = taken.lock().unwrap();
    assert_eq!((kept.0.len(), kept.1), (people, 0), "each message under one number, and each was signed");
    let again: u32 = kept.0.values().map(|times| times - 1).sum();
    assert!(again <= 20, "only the batch that was under way at each kill is handed over once more: {again}");
}
