//! A running process among people who mean it ill or are in a hurry: connections held open, an end asked for in the middle of a send, a
//! withdrawal while a batch is in the host's hands, a public listener of its own.

use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_testkit::{Halt, Process, Step, draft, http, letterhead, people_csv, smtp_receiver_that_halts, wait_until};
use rusqlite::Connection;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;

fn binary() -> &'static Path {
    Path::new(env!("CARGO_BIN_EXE_rinse"))
}

fn count(data: &Path, sql: &str) -> i64 {
    let c = Connection::open(data.join("rinse.db")).unwrap();
    c.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
    c.query_row(sql, [], |r| r.get(0)).unwrap()
}

fn signer(data: &Path) -> Signer {
    let c = Connection::open(data.join("rinse.db")).unwrap();
    Signer::new(&c.query_row("SELECT key FROM signing_key WHERE id = 1", [], |r| r.get::<_, Vec<u8>>(0)).unwrap())
}

/// A mailing to forty people, standing still as its first message is begun.
fn sending(data: &Path, halt: &Halt) -> (Process, rinse_testkit::Received) {
    let (port, received) = smtp_receiver_that_halts(halt);
    let rinse = Process::serve(binary(), data, port);
    rinse.import(&people_csv(40));
    let head = rinse.json("POST", "/api/letterheads", &letterhead()).as_i64().unwrap();
    rinse.json("POST", "/api/mailings", &draft(head, &["Boats"]));
    halt.at(Step::Mail, 0);
    rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": null }));
    wait_until("the conversation stands still", || halt.halted());
    (rinse, received)
}

/// Anybody who was told that they get no more gets no more, though their message had been claimed already.
#[test]
fn a_withdrawal_holds_for_a_batch_on_its_way() {
    let (folder, halt) = (tempfile::tempdir().unwrap(), Halt::default());
    let (rinse, received) = sending(folder.path(), &halt);
    let signer = signer(folder.path());
    // The last ones of the batch that was claimed: four connections have at most the first seven in their hands.
    let claimed = count(folder.path(), "SELECT count(*) FROM send WHERE state = 2");
    assert_eq!(claimed, 10);
    let leaving: Vec<i64> = (8..=10).collect();
    for send in &leaving {
        let path = format!("/u/{}", signer.link(Kind::Unsubscribe, SendId(*send), 0));
        assert_eq!(rinse.http("POST", &path, b"List-Unsubscribe=One-Click").0, 200);
    }
    halt.release();
    wait_until("the mailing is whole", || rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    let c = Connection::open(folder.path().join("rinse.db")).unwrap();
    for send in leaving {
        let (address, state): (String, i64) = c
            .query_row("SELECT k.address, s.state FROM send s JOIN contact k ON k.id = s.contact_id WHERE s.id = ?1", [send], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })
            .unwrap();
        assert!(received.lock().unwrap().iter().all(|m| m.1 != address), "{address} was mailed after they left");
        assert_eq!(state, 6, "{address} is barred");
    }
    assert_eq!(received.lock().unwrap().len(), 35, "all others have it: two of forty have no mailbox, three left");
    assert_eq!(
        count(folder.path(), "SELECT count(*) FROM send WHERE handed_at IS NOT NULL"),
        37,
        "who wasn't mailed isn't counted as mailed"
    );
}

/// Asked to end, Rinse ends by itself, and leaves nothing in doubt but what the host has in its hands.
#[test]
fn asked_to_end_in_the_middle_of_a_send() {
    let (folder, halt) = (tempfile::tempdir().unwrap(), Halt::default());
    let (rinse, received) = sending(folder.path(), &halt);
    // A page follows the progress, and another holds its connection open.
    let mut follows = TcpStream::connect(&rinse.address).unwrap();
    write!(follows, "GET /api/progress/stream HTTP/1.1\r\nHost: {}\r\n\r\n", rinse.address).unwrap();
    // It follows once the head has come: anybody who asks in the moment of the end may get nothing.
    let mut head = vec![0; 12];
    follows.read_exact(&mut head).unwrap();
    let _idle = TcpStream::connect(&rinse.address).unwrap();
    rinse.terminate();
    halt.release();
    assert!(rinse.ended().success(), "it ends by itself, in order");
    let mut rest = String::new();
    follows.read_to_string(&mut rest).unwrap();
    assert!(head == b"HTTP/1.1 200" && rest.contains("text/event-stream"), "the stream was ended: {rest}");
    assert_eq!(count(folder.path(), "SELECT count(*) FROM send WHERE state IN (2, 7)"), 0, "nothing is in doubt");
    let port = smtp_receiver_that_halts(&Halt::default());
    let rinse = Process::serve(binary(), folder.path(), port.0);
    wait_until("the mailing is whole", || rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    let mut all: Vec<String> = received.lock().unwrap().iter().chain(port.1.lock().unwrap().iter()).map(|m| m.1.clone()).collect();
    all.sort();
    let n = all.len();
    all.dedup();
    assert_eq!((n, all.len()), (38, 38), "each once, and nobody forgotten");
}

/// More half requests than there are descriptors keep nobody out.
#[test]
fn connections_held_open_keep_nobody_out() {
    let folder = tempfile::tempdir().unwrap();
    let rinse = Process::demo(binary(), folder.path());
    let mut held = Vec::new();
    for i in 0..900 {
        let Ok(mut s) = TcpStream::connect(&rinse.address) else { continue };
        let begun: &[u8] = if i % 2 == 0 { b"GET /u/x HTTP/1.1\r\nHost: 127.0.0.1\r\n" } else { b"" };
        let _ = s.write_all(begun);
        held.push(s);
        if i % 100 == 99 {
            assert_eq!(http(&rinse.address, "GET", "/api/clock", b"").unwrap().0, 200, "after {i}");
        }
    }
    assert!(held.len() > 800);
}

/// With a listener of their own the public pages are there alone, and the API isn't.
#[test]
fn public_pages_have_a_listener_of_their_own() {
    let folder = tempfile::tempdir().unwrap();
    let rinse = Process::demo_with(binary(), folder.path(), &["--public-listen", "127.0.0.1:0", "--proxy", "127.0.0.1"]);
    let public = rinse.public.clone().expect("it says where");
    let ask = |at: &str, path: &str| http(at, "GET", path, b"").unwrap().0;
    assert_eq!((ask(&rinse.address, "/api/clock"), ask(&rinse.address, "/o/forged")), (200, 200));
    // The one is the front end's page for any path, the other the pixel.
    for path in ["/api/clock", "/api/contacts", "/", "/standin/records", "/api/progress/stream"] {
        assert_eq!(ask(&public, path), 404, "{path}");
    }
    let (_, pixel) = http(&public, "GET", "/o/forged", b"").unwrap();
    assert!(pixel.starts_with(b"GIF89a"));
    // Anybody who asks the API by way of a proxy isn't on this machine, whatever host it names.
    let mut s = TcpStream::connect(&rinse.address).unwrap();
    write!(s, "GET /api/contacts HTTP/1.1\r\nHost: localhost\r\nX-Forwarded-For: 192.0.2.7\r\nConnection: close\r\n\r\n").unwrap();
    let mut answer = String::new();
    s.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with("HTTP/1.1 403"), "{answer}");
    // Visitors behind the named proxy are told apart: each has sign-ups of their own.
    rinse.json("POST", "/api/letterheads", &letterhead());
    let sign_up = |from: &str, i: usize| {
        let body = format!("address=wren{i}%40tern.example");
        let mut s = TcpStream::connect(&public).unwrap();
        write!(
            s,
            "POST /f/1 HTTP/1.1\r\nHost: letters.example\r\nX-Forwarded-For: {from}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            body.len()
        )
        .unwrap();
        s.read_to_string(&mut String::new()).unwrap();
    };
    for i in 0..25 {
        sign_up("192.0.2.1", i);
    }
    for i in 100..105 {
        sign_up("192.0.2.2", i);
    }
    let taken = count(folder.path(), "SELECT count(*) FROM sign_up WHERE state <> 0");
    assert_eq!(taken, 25, "twenty an hour from one, five from another");
}
