//! `make bench`: each figure beside a bare loop that does the same work in the same run.

mod base;
mod clearing;
mod crowd;
mod findings;
mod pages;
mod people;
mod questions;
mod sending;
mod trials;
mod upkeep;
mod whole;

use futures::StreamExt;
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_store::responses::Came;
use rinse_store::{Store, responses};
use rusqlite::{Connection, params};
use std::io::Write;
use std::path::Path;
use std::time::Instant as Stopwatch;

const EVENTS: i64 = 200_000;

fn line(what: &str, ours: f64, bare: f64, unit: &str) {
    let _ = writeln!(std::io::stdout(), "{what}: {ours:.2} {unit}, bare {bare:.2} {unit}, ratio {:.2}", ours / bare);
}

/// Contacts, a mailing and its sends, written straight into the file: only what is timed goes
/// through the store.
fn fill(folder: &Path, contacts: i64, sends: i64) {
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch("PRAGMA synchronous = OFF; BEGIN; INSERT INTO domain (id, name) VALUES (1, 'tern.example');
        INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
        INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (1, 'm', 1, 0);
        INSERT INTO mailing (id, name, letterhead_id, made_at) VALUES (2, 'n', 1, 0);
        INSERT INTO rules_version (at, rules) VALUES (0, '{\"caps\":[{\"limit\":1,\"window\":{\"kind\":\"days\",\"n\":7},\"scope\":{\"kind\":\"marketing\"},\"in_force\":true}]}');").expect("rows");
    for i in 1..=contacts {
        c.prepare_cached(
            "INSERT INTO contact (id, address, address_key, domain_id, added_at, consent, status) VALUES (?1, ?2, ?2, 1, 0, ?3, ?4)",
        )
        .and_then(|mut s| {
            s.execute(params![i, format!("p{i:08}@tern.example"), [2, 2, 2, 2, 0, 5][(i % 6) as usize], if i % 97 == 0 { 3 } else { 0 }])
        })
        .expect("a contact");
    }
    for i in 1..=sends {
        c.prepare_cached("INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at) VALUES (?1, 1, ?1, 1, 3, 0, 0, 0, 0)")
            .and_then(|mut s| s.execute([i]))
            .expect("a send");
    }
    c.execute_batch("COMMIT; PRAGMA wal_checkpoint(TRUNCATE);").expect("a commit");
}

/// An open by a mail program, from somewhere.
fn reader() -> Came {
    Came {
        link: None,
        at: Instant::of(60_000),
        agent: "Reader/5.1".into(),
        from: Some(std::net::Ipv4Addr::new(192, 0, 2, 7).into()),
        head: false,
    }
}

async fn events() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::open(folder.path(), true).expect("a store");
    fill(folder.path(), EVENTS, EVENTS);
    let start = Stopwatch::now();
    // As many events under way at once as a busy hour has: the writer never waits for the next.
    let hits = (1..=EVENTS).map(|send| store.record(move |c| responses::hit(c, SendId(send), &reader())));
    futures::stream::iter(hits).buffer_unordered(4_000).for_each(|done| async move { assert!(done.is_ok(), "an event") }).await;
    let ours = EVENTS as f64 / start.elapsed().as_secs_f64() / 1000.0;
    drop(store);
    let what = "events in, durable before answered";
    line(&format!("{what}; bare: the two writes alone"), ours, bare_events(false), "thousand a second");
    line(&format!("{what}; bare: the two writes and the sums they keep"), ours, bare_events(true), "thousand a second");
}

/// The row of an open and the columns of its message, a thousand in a transaction; with what keeps the sums of figures, or without.
fn bare_events(sums: bool) -> f64 {
    let folder = tempfile::tempdir().expect("a folder");
    drop(Store::open(folder.path(), true).expect("a store"));
    fill(folder.path(), EVENTS, EVENTS);
    let c = Connection::open(folder.path().join("rinse.db")).expect("the file opens");
    c.execute_batch("PRAGMA synchronous = FULL; PRAGMA cache_size = -32000").expect("pragmas");
    if !sums {
        let named: Vec<String> = c
            .prepare("SELECT name FROM sqlite_schema WHERE type = 'trigger' AND tbl_name IN ('send', 'response')")
            .and_then(|mut s| s.query_map([], |r| r.get(0))?.collect())
            .expect("triggers");
        named.iter().try_for_each(|t| c.execute_batch(&format!("DROP TRIGGER \"{t}\""))).expect("without");
    }
    let start = Stopwatch::now();
    for chunk in 0..EVENTS / 1000 {
        c.execute_batch("BEGIN").expect("begin");
        for i in 1..=1000 {
            let send = chunk * 1000 + i;
            c.prepare_cached(
                "INSERT INTO response (at, send_id, kind, agent, machine, rules_version) VALUES (60000, ?1, 1, 'Reader/5.1', 0, 1)",
            )
            .and_then(|mut s| s.execute([send]))
            .expect("a row");
            c.prepare_cached("UPDATE send SET open_at = 60000, any_open_at = 60000 WHERE id = ?1")
                .and_then(|mut s| s.execute([send]))
                .expect("a row");
        }
        c.execute_batch("COMMIT").expect("commit");
    }
    EVENTS as f64 / start.elapsed().as_secs_f64() / 1000.0
}

/// Everything, or only what is named: calc, rehearsal, reading, exact, hours, events, events-in, clearance, one-click, crowd, compose, hand-over, schedule, import, upkeep, classify, pages
/// (and the sizes of their bases), segments.
#[tokio::main]
async fn main() {
    let only: Vec<String> = std::env::args().skip(1).collect();
    let asked = |name: &str| only.is_empty() || only.iter().any(|o| o == name);
    if asked("findings") {
        findings::findings();
    }
    if asked("calc") {
        trials::calc();
    }
    if asked("rehearsal") {
        trials::rehearsal();
    }
    if asked("reading") {
        trials::reading();
    }
    if asked("exact") {
        trials::exact();
    }
    if asked("hours") {
        trials::hours();
    }
    if asked("events") {
        events().await;
    }
    if asked("clearance") {
        clearing::clearance();
    }
    if asked("one-click") {
        clearing::one_click().await;
    }
    if asked("crowd") {
        crowd::unsubscribing().await;
    }
    if asked("compose") {
        sending::compose();
    }
    if asked("hand-over") {
        sending::hand_over().await;
    }
    if asked("schedule") {
        sending::schedule().await;
    }
    if asked("events-in") {
        sending::events_in().await;
    }
    if asked("import") {
        people::import().await;
    }
    if asked("upkeep") {
        upkeep::upkeep().await;
    }
    if asked("classify") {
        upkeep::classify();
    }
    if asked("pages") {
        let sizes: Vec<i64> = only.iter().filter_map(|o| o.parse().ok()).collect();
        tokio::task::block_in_place(|| pages::pages(if sizes.is_empty() { &[100_000, 1_000_000] } else { &sizes }));
    }
    if asked("segments") {
        people::segments_and_pages();
    }
}
