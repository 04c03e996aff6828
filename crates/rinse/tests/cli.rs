//! The binary as a new user meets it: bad folders, taken ports, newer files, the calculator.

use rinse_testkit::Process;
use rstest::rstest;
use rusqlite::Connection;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

fn fails(args: &[&str]) -> String {
    let out = Command::new(env!("CARGO_BIN_EXE_rinse")).args(args).output().unwrap();
    assert_eq!(out.status.code(), Some(1));
    String::from_utf8_lossy(&out.stderr).into_owned()
}

#[test]
fn trouble_at_the_start_is_said_with_what_to_do() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("a-file");
    std::fs::write(&file, "x").unwrap();
    let words = fails(&["demo", "--listen", "127.0.0.1:0", "--data", file.to_str().unwrap()]);
    assert!(words.contains("can't be written") && words.contains("--data"), "{words}");

    let running = Process::demo(Path::new(env!("CARGO_BIN_EXE_rinse")), &folder.path().join("one"));
    let other = folder.path().join("two");
    let words = fails(&["demo", "--listen", &running.address, "--data", other.to_str().unwrap()]);
    assert!(words.contains("can't be listened on") && words.contains("--listen"), "{words}");

    let newer = folder.path().join("newer");
    std::fs::create_dir(&newer).unwrap();
    Connection::open(newer.join("rinse.db")).unwrap().pragma_update(None, "user_version", 99).unwrap();
    let words = fails(&["demo", "--listen", "127.0.0.1:0", "--data", newer.to_str().unwrap()]);
    assert!(words.contains("newer Rinse"), "{words}");
    let version: i64 = Connection::open(newer.join("rinse.db")).unwrap().query_row("PRAGMA user_version", [], |r| r.get(0)).unwrap();
    assert_eq!(version, 99, "the newer file is left as it was");
}

#[rstest]
#[case(
    "{\"id\":1,\"fn\":\"proportion_interval\",\"args\":{\"successes\":0,\"trials\":20,\"level\":0.95,\"method\":\"wilson\"}}",
    "\"lower\":0.0"
)]
#[case("{\"id\":1,\"fn\":\"no_such\",\"args\":{}}", "\"error\"")]
#[case("not json", "\"error\"")]
fn calc_answers_every_line(#[case] line: &str, #[case] want: &str) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_rinse")).arg("calc").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    writeln!(child.stdin.take().unwrap(), "{line}").unwrap();
    let out = child.wait_with_output().unwrap();
    assert!(out.status.success() && String::from_utf8_lossy(&out.stdout).contains(want));
}

#[test]
fn the_api_refuses_foreign_hosts_and_nameless_changes() {
    let folder = tempfile::tempdir().unwrap();
    let rinse = Process::demo(Path::new(env!("CARGO_BIN_EXE_rinse")), folder.path());
    let ask = |request: String| {
        use std::io::Read;
        let mut s = std::net::TcpStream::connect(&rinse.address).unwrap();
        s.write_all(request.as_bytes()).unwrap();
        let mut answer = String::new();
        s.read_to_string(&mut answer).unwrap();
        answer
    };
    let foreign = ask("GET /api/workline HTTP/1.1\r\nHost: evil.example\r\nConnection: close\r\n\r\n".into());
    assert!(foreign.starts_with("HTTP/1.1 403"), "{foreign}");
    let nameless =
        ask(format!("POST /api/clock/advance HTTP/1.1\r\nHost: {}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", rinse.address));
    assert!(nameless.starts_with("HTTP/1.1 400") && nameless.contains("application/problem+json"), "{nameless}");
    let page = ask(format!("GET /contacts HTTP/1.1\r\nHost: {}\r\nConnection: close\r\n\r\n", rinse.address));
    assert!(page.contains("default-src 'self'"), "every page carries the policy");
}

#[rstest]
#[case(
    "PUT",
    "/api/rules",
    r#"{"rules":{"caps":[{"limit":0,"window":{"kind":"days","n":1},"scope":{"kind":"marketing"},"in_force":true}]}}"#,
    "at least 1"
)]
#[case("POST", "/api/suppression/1/lines", "{\"lines\":\"no domain at all\",\"reason\":\"\"}", "neither an address, a domain nor a hash")]
#[case("GET", "/api/contacts/999", "", "no contact")]
#[case("POST", "/api/imports/999/apply", "", "no import")]
#[case("GET", "/u/forged", "", "not one of ours")]
fn bad_requests_get_a_sentence(#[case] method: &str, #[case] path: &str, #[case] body: &str, #[case] want: &str) {
    let folder = tempfile::tempdir().unwrap();
    let rinse = Process::demo(Path::new(env!("CARGO_BIN_EXE_rinse")), folder.path());
    let (status, answer) = rinse.http(method, path, body.as_bytes());
    let answer = String::from_utf8_lossy(&answer).into_owned();
    assert!((400..500).contains(&status) && answer.contains(want), "{status} {answer}");
}
