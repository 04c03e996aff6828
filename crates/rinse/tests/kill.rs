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
    assert_eq!((figures["sent"].as_i64(), figures["bounced"]["count"].as_i64()), (Some(people as i64), Some(gone)));
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
