//! The process is killed at instants nobody chose, in the middle of each kind of work, and started again: nobody gets anything twice,
//! nobody is forgotten, every seal holds, every line of the journal is read.

use crate::{Report, count, mixed};
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_testkit::{Process, draft, http, letterhead, people_csv, smtp_receiver, wait_until};
use rusqlite::Connection;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;

const PEOPLE: usize = 1_500;

pub(crate) fn all(binary: &Path, kills: usize) -> Report {
    let mut r = Report::default();
    demo(binary, kills * 6 / 10, &mut r);
    smtp(binary, kills * 14 / 100, &mut r);
    texts(binary, kills / 10, &mut r);
    tools(binary, kills * 16 / 100, &mut r);
    r
}

fn after(n: u64, most_ms: u64) {
    std::thread::sleep(Duration::from_millis(mixed(n) % most_ms));
}

/// Work of the application on the stand-ins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Work {
    Send,
    Import,
    Rollout,
    Series,
    Cleaning,
    Undo,
    Clock,
    Leaving,
}

const WORK: [Work; 8] = [Work::Send, Work::Import, Work::Rollout, Work::Series, Work::Cleaning, Work::Undo, Work::Clock, Work::Leaving];

fn ask(address: &str, method: &str, path: &str, body: &Value) -> Value {
    let text = if body.is_null() { String::new() } else { body.to_string() };
    http(address, method, path, text.as_bytes()).ok().and_then(|(_, b)| serde_json::from_slice(&b).ok()).unwrap_or(Value::Null)
}

/// Begins some work; what it asks may be cut off anywhere.
fn begin(work: Work, address: &str, n: u64) {
    match work {
        Work::Send => {
            let m = ask(address, "POST", "/api/mailings", &draft(1, &["Boats"]));
            ask(address, "POST", &format!("/api/mailings/{}/plan", m["id"]), &json!({ "at": null }));
        }
        Work::Import => {
            let csv = people_csv(4_000).replace("wren", &format!("wren{n}x"));
            let run = http(address, "POST", "/api/imports?name=more.csv", csv.as_bytes()).ok();
            let run: Value = run.and_then(|r| serde_json::from_slice(&r.1).ok()).unwrap_or(Value::Null);
            let decision = json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": false, "evidence": "" });
            ask(address, "POST", &format!("/api/imports/{}/check", run["id"]), &decision);
            ask(address, "POST", &format!("/api/imports/{}/apply", run["id"]), &Value::Null);
        }
        Work::Rollout => {
            let m = ask(address, "POST", "/api/mailings", &draft(1, &["Boats", "Gulls"]));
            let plan = json!({ "question": "Gulls?", "metric": "human_open", "effect": 0.2, "alpha": 0.05, "power": 0.8, "pilot_share": 0.4, "window_hours": 1, "by_itself": true, "on_no_call": 0, "leaving_margin": 0.02, "complaint_margin": 0.01 });
            let trial = ask(address, "PUT", &format!("/api/mailings/{}/trial", m["id"]), &plan);
            ask(address, "POST", &format!("/api/trials/{trial}/seal"), &json!({ "why_small": "an attack needs no answer" }));
            ask(address, "POST", "/api/clock/advance", &json!({ "hours": 26 }));
        }
        Work::Series => {
            ask(
                address,
                "POST",
                "/api/series/1/people",
                &json!({ "contacts": (1..=200).map(|i| (i * 7 + n as i64) % PEOPLE as i64 + 1).collect::<Vec<_>>() }),
            );
            ask(address, "POST", "/api/clock/advance", &json!({ "hours": 5 }));
        }
        Work::Cleaning => {
            ask(address, "POST", "/api/contacts/put", &json!({ "word": if n.is_multiple_of(2) { "list" } else { "tag" }, "id": 1 }));
        }
        Work::Undo => {
            let runs = ask(address, "GET", "/api/changes", &Value::Null);
            let done = runs.as_array().into_iter().flatten().find(|c| c["kind"] != "import" && c["state"] == "done");
            if let Some(run) = done {
                ask(address, "POST", &format!("/api/changes/{}/undo", run["id"]), &Value::Null);
            }
        }
        Work::Clock => {
            ask(address, "POST", "/api/clock/advance", &json!({ "hours": 30 }));
        }
        Work::Leaving => {}
    }
}

fn demo(binary: &Path, kills: usize, r: &mut Report) {
    let folder = tempfile::tempdir().expect("a folder");
    let data = folder.path();
    let rinse = Process::demo(binary, data);
    rinse.import(&people_csv(PEOPLE));
    rinse.json("POST", "/api/letterheads", &letterhead());
    rinse.json("POST", "/api/words", &json!({ "word": "list", "name": "All" }));
    rinse.json("POST", "/api/words", &json!({ "word": "tag", "name": "Guest" }));
    let mut step = draft(1, &["Welcome"]);
    for part in ["html", "text"] {
        step[part] = json!(format!("{} {{{{ leave_series_url }}}}", step[part].as_str().unwrap_or_default()));
    }
    let step = rinse.json("POST", "/api/mailings", &step)["id"].clone();
    rinse.json("POST", "/api/series", &json!({ "name": "Welcome", "letterhead_id": 1 }));
    let steps = json!([{ "id": 1, "does": { "kind": "wait", "hours": 1, "minute": null } }, { "id": 2, "does": { "kind": "mail", "mailing": step } }]);
    let outline =
        json!({ "entry": { "kind": "by_hand" }, "again": { "kind": "always" }, "from": null, "until": null, "steps": steps, "exits": [] });
    rinse.json("PUT", "/api/series/1", &json!({ "name": "Welcome", "letterhead_id": 1, "outline": outline }));
    rinse.json("POST", "/api/series/1/start", &Value::Null);
    let key: Vec<u8> = Connection::open(data.join("rinse.db"))
        .and_then(|c| c.query_row("SELECT key FROM signing_key WHERE id = 1", [], |row| row.get(0)))
        .expect("a key");
    let signer = Signer::new(&key);
    rinse.kill();
    let mut by_work: HashMap<Work, usize> = HashMap::new();
    // Anybody who was told that they left.
    let left: Arc<Mutex<Vec<i64>>> = Arc::default();
    for n in 0..kills as u64 {
        let rinse = Process::demo(binary, data);
        let work = WORK[(n % WORK.len() as u64) as usize];
        *by_work.entry(work).or_default() += 1;
        let (address, told) = (rinse.address.clone(), Arc::clone(&left));
        let links: Vec<(i64, String)> = if work == Work::Leaving { leaving(data, &signer, n) } else { Vec::new() };
        let begun = std::thread::spawn(move || {
            begin(work, &address, n);
            for (contact, path) in links {
                if http(&address, "POST", &path, b"stop=everything").is_ok_and(|a| a.0 == 200) {
                    told.lock().expect("whole").push(contact);
                }
            }
        });
        after(n, if work == Work::Import { 900 } else { 500 });
        rinse.kill();
        let _ = begun.join();
    }
    r.tried(format!("{kills} kills on the stand-ins: {by_work:?}"));
    let rinse = Process::demo(binary, data);
    settle(&rinse);
    sound(&rinse, data, r);
    let world = Connection::open(data.join("world.db")).expect("the world");
    let (messages, distinct): (i64, i64) = world
        .query_row("SELECT count(*), count(DISTINCT message_id) FROM accepted", [], |row| Ok((row.get(0)?, row.get(1)?)))
        .expect("a count");
    let accepted = count(data, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL");
    r.tried(format!("{messages} messages handed over, {accepted} of them on record as accepted"));
    r.holds(messages == distinct && messages == accepted, format!("{messages} at the host, {distinct} different, {accepted} on record"));
    let twice = count(
        data,
        "SELECT count(*) FROM (SELECT 1 FROM send WHERE cause = 1 AND accepted_at IS NOT NULL GROUP BY mailing_id, contact_id HAVING count(*) > 1)",
    );
    r.holds(twice == 0, format!("{twice} people have a mailing twice"));
    let waiting = count(
        data,
        "SELECT count(*) FROM send s JOIN mailing m ON m.id = s.mailing_id WHERE s.state IN (1, 2, 7) AND m.state = 'sending' AND s.at < (SELECT cast(value AS INTEGER) FROM setting WHERE key = 'clock')",
    );
    r.holds(waiting == 0, format!("{waiting} people are forgotten"));
    let left = left.lock().expect("whole").clone();
    r.tried(format!("{} people were told that they left", left.len()));
    for contact in left {
        let consent = count(data, &format!("SELECT consent FROM contact WHERE id = {contact}"));
        // Who complained after that has, if anything, left for good.
        r.holds(matches!(consent, 5 | 6), format!("person {contact} was told that they left, and stands as {consent}"));
    }
    let half = count(data, "SELECT count(*) FROM import_run WHERE state = 'applied' AND done <> records");
    r.holds(half == 0, format!("{half} imports are half done"));
}

/// Links by which some people leave everything.
fn leaving(data: &Path, signer: &Signer, n: u64) -> Vec<(i64, String)> {
    let c = Connection::open(data.join("rinse.db")).expect("the database opens");
    let _ = c.busy_timeout(Duration::from_secs(20));
    let sql = "SELECT max(s.id), s.contact_id FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.handed_at IS NOT NULL AND k.consent IN (2, 3) GROUP BY s.contact_id ORDER BY (s.contact_id * 7919 + ?1) % 1009 LIMIT 12";
    let mut s = c.prepare(sql).expect("a query");
    let rows = s.query_map([i64::try_from(n).unwrap_or(0)], |r| {
        Ok((r.get::<_, i64>(1)?, format!("/u/{}", signer.link(Kind::Unsubscribe, SendId(r.get(0)?), 0))))
    });
    rows.expect("rows").filter_map(Result::ok).collect()
}

/// Waits until nothing goes on any more.
fn settle(rinse: &Process) {
    let running =
        || rinse.json("GET", "/api/progress", &Value::Null).as_array().is_some_and(|all| all.iter().any(|p| p["running"] == true));
    wait_until("nothing goes on", || !running());
    for _ in 0..3 {
        rinse.advance(48);
        wait_until("nothing goes on", || !running());
    }
}

/// Seals, journal and the database itself.
fn sound(rinse: &Process, data: &Path, r: &mut Report) {
    let seals = rinse.json("GET", "/api/consent/seals", &Value::Null);
    r.tried(format!("{} entries of the ledger, their seals held", seals["entries"]));
    r.holds(seals["broken"].as_array().is_some_and(Vec::is_empty), format!("broken seals: {}", seals["broken"]));
    let notices = count(data, "SELECT count(*) FROM notice WHERE kind = 'journal'");
    r.holds(notices == 0, format!("{notices} faults of the journal"));
    let lines = std::fs::read_to_string(data.join("withdrawals.journal")).unwrap_or_default().lines().count() as i64;
    let seen = count(data, "SELECT coalesce(max(upto), 0) FROM journal_upto");
    r.tried(format!("{lines} lines of the journal, all read"));
    r.holds(seen == lines, format!("{lines} lines in the journal, {seen} seen"));
    let c = Connection::open(data.join("rinse.db")).expect("the database opens");
    let whole: String = c.query_row("PRAGMA integrity_check", [], |row| row.get(0)).expect("a check");
    r.holds(whole == "ok", format!("the database: {whole}"));
}

fn smtp(binary: &Path, kills: usize, r: &mut Report) {
    let folder = tempfile::tempdir().expect("a folder");
    let data = folder.path();
    let (port, received) = smtp_receiver();
    let rinse = Process::serve(binary, data, port);
    rinse.import(&people_csv(600));
    rinse.json("POST", "/api/letterheads", &letterhead());
    rinse.kill();
    for n in 0..kills as u64 {
        let rinse = Process::serve(binary, data, port);
        // What may be at the host or not waits for a person, who leaves it.
        let _ = rinse.http("POST", "/api/today/doubt", b"{\"again\":false}");
        if count(data, "SELECT count(*) FROM send WHERE state IN (0, 1, 2, 4)") == 0 {
            begin(Work::Send, &rinse.address, n);
        }
        after(n, 400);
        rinse.kill();
    }
    let rinse = Process::serve(binary, data, port);
    let _ = rinse.http("POST", "/api/today/doubt", b"{\"again\":false}");
    wait_until("all is out", || count(data, "SELECT count(*) FROM send WHERE state IN (1, 2)") == 0);
    sound(&rinse, data, r);
    let mut times: HashMap<String, usize> = HashMap::new();
    received.lock().expect("whole").iter().for_each(|m| *times.entry(m.0.clone()).or_default() += 1);
    r.tried(format!("{kills} kills while sending by SMTP, {} messages at the host", times.len()));
    let twice = times.values().filter(|n| **n > 1).count();
    r.holds(twice == 0, format!("{twice} messages reached the host twice"));
}

/// A gateway for text messages, slow enough to be caught in the middle: the numbers it took, and how often.
fn gateway() -> (u16, Arc<Mutex<HashMap<String, usize>>>) {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    let taken: Arc<Mutex<HashMap<String, usize>>> = Arc::default();
    let kept = Arc::clone(&taken);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let kept = Arc::clone(&kept);
            std::thread::spawn(move || {
                let mut reader = BufReader::new(stream.try_clone().ok()?);
                let (mut id, mut length, mut line) = (String::new(), 0, String::new());
                while reader.read_line(&mut line).ok()? > 2 {
                    let lower = line.to_lowercase();
                    if let Some(v) = lower.strip_prefix("webhook-id:") {
                        id = v.trim().to_owned();
                    }
                    if let Some(v) = lower.strip_prefix("content-length:") {
                        length = v.trim().parse().ok()?;
                    }
                    line.clear();
                }
                reader.read_exact(&mut vec![0; length]).ok()?;
                std::thread::sleep(Duration::from_millis(15));
                if id.is_empty() {
                    // A connection that a kill cut off.
                    return None;
                }
                *kept.lock().ok()?.entry(id).or_default() += 1;
                let mut stream = stream;
                stream.write_all(b"HTTP/1.1 204 Taken\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").ok()
            });
        }
    });
    (port, taken)
}

fn texts(binary: &Path, kills: usize, r: &mut Report) {
    let folder = tempfile::tempdir().expect("a folder");
    let data = folder.path();
    let (port, taken) = gateway();
    let url = format!("http://127.0.0.1:{port}/send");
    let start = || Process::serve_texts(binary, data, &url, "shared with the gateway");
    let rinse = start();
    let mut csv = String::from("email,mobile\n");
    for i in 0..400 {
        csv.push_str(&format!("wren{i}@tern.example,+447700900{i:03}\n"));
    }
    rinse.import(&csv);
    let mut l = letterhead();
    l["text_number"] = json!("60777");
    rinse.json("POST", "/api/letterheads", &l);
    rinse.json("PUT", "/api/rules", &json!({ "rules": { "quiet": null }, "note": "an attack" }));
    rinse.kill();
    let mut batches = 0;
    for n in 0..kills as u64 {
        let rinse = start();
        if count(data, "SELECT count(*) FROM send WHERE state IN (0, 1, 2, 4)") == 0 {
            let text = json!({ "name": "By text", "channel": "text", "topic_id": null, "letterhead_id": 1, "list_id": null, "over_cap": "hold",
                "subjects": [""], "html": "", "text": "{{ sender_name }}: boats at 9. Reply STOP to end." });
            let m = rinse.json("POST", "/api/mailings", &text);
            rinse.json("POST", &format!("/api/mailings/{}/plan", m["id"]), &json!({ "at": null }));
        }
        batches += 1;
        after(n, 300);
        rinse.kill();
    }
    let rinse = start();
    wait_until("all is out", || count(data, "SELECT count(*) FROM send WHERE state IN (1, 2)") == 0);
    sound(&rinse, data, r);
    let (sends, taken) = (count(data, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL"), taken.lock().expect("whole"));
    r.tried(format!("{kills} kills while texting, {} messages at the gateway", taken.len()));
    r.holds(taken.len() as i64 == sends, format!("{} messages at the gateway, {sends} on record", taken.len()));
    // A gateway knows a number again; it may be asked once more for what was under way at a kill.
    let again: usize = taken.values().map(|n| n - 1).sum();
    r.holds(again <= batches * 20, format!("{again} messages were handed over again"));
}

/// Backups and restores are killed.
fn tools(binary: &Path, kills: usize, r: &mut Report) {
    let (folder, outside) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let data = folder.path();
    let rinse = Process::demo(binary, data);
    rinse.import(&people_csv(20_000));
    rinse.terminate();
    let _ = rinse.ended();
    let run = |args: &[&str], ms: Option<u64>| {
        let mut child = Command::new(binary).args(args).env("RUST_LOG", "error").stderr(Stdio::null()).spawn().expect("it starts");
        if let Some(ms) = ms {
            std::thread::sleep(Duration::from_millis(ms));
            let _ = child.kill();
        }
        child.wait().expect("it ends").success()
    };
    let (at, kept) = (data.display().to_string(), outside.path().join("kept.db").display().to_string());
    r.holds(run(&["backup", "--data", &at, "--to", &kept], None), "a backup can't be made");
    for n in 0..kills as u64 {
        if n.is_multiple_of(2) {
            let to = outside.path().join(format!("b{n}.db"));
            run(&["backup", "--data", &at, "--to", &to.display().to_string()], Some(mixed(n) % 120));
            if to.exists() {
                let whole: rusqlite::Result<String> =
                    Connection::open(&to).and_then(|c| c.query_row("PRAGMA quick_check", [], |row| row.get(0)));
                r.holds(whole.as_deref() == Ok("ok"), format!("the backup {n} isn't whole"));
                let _ = std::fs::remove_file(to);
            }
        } else {
            run(&["restore", "--from", &kept, "--data", &at], Some(mixed(n) % 200));
            // Whatever was left, a start finds a base, whole.
            let rinse = Process::demo(binary, data);
            let people = rinse.json("GET", "/api/workline", &Value::Null)["contacts"].clone();
            r.holds(people == 20_000, format!("after restore {n} the base has {people} people"));
            rinse.kill();
            for old in std::fs::read_dir(data)
                .expect("a folder")
                .flatten()
                .filter(|e| e.file_name().to_string_lossy().starts_with("rinse.db.before"))
            {
                let _ = std::fs::remove_file(old.path());
            }
        }
    }
    r.holds(
        run(&["backup", "--data", &at, "--to", &outside.path().join("last.db").display().to_string()], None),
        "no backup can be made any more",
    );
    let halves =
        std::fs::read_dir(outside.path()).expect("a folder").flatten().filter(|e| e.file_name().to_string_lossy().starts_with('.')).count();
    r.holds(halves == 0, format!("{halves} halves of backups are left"));
    r.tried(format!("{kills} kills of backups and restores"));
}
