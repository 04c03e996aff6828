//! The process is killed at each step of a send, with the conversation standing still exactly there. Anybody whom the host may have
//! is in doubt and waits for a person; nobody else gets it twice, and nobody is forgotten.

use rinse_testkit::{Halt, Process, Step, draft, letterhead, people_csv, smtp_receiver_that_halts, wait_until};
use rstest::rstest;
use rusqlite::Connection;
use serde_json::{Value, json};
use std::collections::{HashMap, HashSet};
use std::path::Path;

/// The addresses of messages in doubt.
fn in_doubt(data: &Path) -> HashSet<String> {
    let c = Connection::open(data.join("rinse.db")).unwrap();
    let mut s = c.prepare("SELECT c.address FROM send s JOIN contact c ON c.id = s.contact_id WHERE s.state = 7").unwrap();
    s.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
}

#[rstest]
// Nothing is there yet; the first conversation; the first message of all, one inside a batch, the first of the next batch.
#[case(Step::Connect, 0, false)]
#[case(Step::Mail, 0, false)]
#[case(Step::Rcpt, 4, true)]
#[case(Step::Data, 7, false)]
#[case(Step::Body, 0, true)]
#[case(Step::Body, 4, false)]
#[case(Step::Mail, 10, true)]
fn killed_at_each_step_of_a_send(#[case] step: Step, #[case] message: usize, #[case] again: bool) {
    let (folder, binary, halt) = (tempfile::tempdir().unwrap(), Path::new(env!("CARGO_BIN_EXE_rinse")), Halt::default());
    let data = folder.path();
    let (port, received) = smtp_receiver_that_halts(&halt);
    let mut rinse = Process::serve(binary, data, port);
    // Nineteen whom the host knows and one whom it doesn't, twice.
    rinse.import(&people_csv(40));
    let head = rinse.json("POST", "/api/letterheads", &letterhead()).as_i64().unwrap();
    let mailing = rinse.json("POST", "/api/mailings", &draft(head, &["Boats"]))["id"].as_i64().unwrap();
    halt.at(step, message);
    rinse.json("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null }));
    wait_until("the conversation stands still", || halt.halted());
    rinse.kill();
    halt.release();
    rinse = Process::serve(binary, data, port);
    let all_else_is_out = || {
        let c = Connection::open(data.join("rinse.db")).unwrap();
        c.query_row("SELECT count(*) FROM send WHERE state IN (0, 1, 2, 4)", [], |r| r.get::<_, i64>(0)).unwrap() == 0
    };
    wait_until("all others are out", all_else_is_out);
    let doubt = in_doubt(data);
    assert_eq!(doubt.len(), 10, "the batch that was under way");
    // Nobody in doubt was sent to again: whom of them the host knows, it had before. Asked for only now, since what was in its
    // hands as the process ended may have been read a moment later.
    let before: HashSet<String> = received.lock().unwrap().iter().map(|m| m.1.clone()).collect();
    let times = || {
        let mut times: HashMap<String, usize> = HashMap::new();
        received.lock().unwrap().iter().for_each(|m| *times.entry(m.1.clone()).or_default() += 1);
        times
    };
    assert!(times().values().all(|n| *n == 1), "nobody gets it twice by itself: {:?}", times());
    assert_eq!(times().len() + doubt.iter().filter(|a| !before.contains(*a) && !a.starts_with("gone.")).count(), 38, "nobody is forgotten");
    rinse.json("POST", "/api/today/doubt", &json!({ "again": again }));
    wait_until("the mailing is whole", || rinse.json("GET", &format!("/api/mailings/{mailing}"), &Value::Null)["state"] == "sent");
    let twice: HashSet<String> = times().into_iter().filter(|(_, n)| *n > 1).map(|(a, _)| a).collect();
    let had: HashSet<String> = before.intersection(&doubt).cloned().collect();
    assert_eq!(twice, if again { had } else { HashSet::new() }, "only those in doubt that the host had, and only when a person says so");
    if again {
        assert_eq!(times().len(), 38, "everybody whom the host knows has it");
    }
}

/// Killed between being told to send and sending: the plan is on record when it is answered.
#[test]
fn killed_as_soon_as_it_is_planned() {
    let (folder, binary, halt) = (tempfile::tempdir().unwrap(), Path::new(env!("CARGO_BIN_EXE_rinse")), Halt::default());
    let (port, received) = smtp_receiver_that_halts(&halt);
    let mut rinse = Process::serve(binary, folder.path(), port);
    rinse.import(&people_csv(40));
    let head = rinse.json("POST", "/api/letterheads", &letterhead()).as_i64().unwrap();
    let mailing = rinse.json("POST", "/api/mailings", &draft(head, &["Boats"]))["id"].as_i64().unwrap();
    // It never gets as far as a greeting.
    halt.at(Step::Connect, 0);
    rinse.json("POST", &format!("/api/mailings/{mailing}/plan"), &json!({ "at": null }));
    rinse.kill();
    halt.release();
    rinse = Process::serve(binary, folder.path(), port);
    let state =
        |rinse: &Process| rinse.json("GET", &format!("/api/mailings/{mailing}"), &Value::Null)["state"].as_str().unwrap().to_owned();
    let doubtful = || in_doubt(folder.path()).len();
    wait_until("all is out or in doubt", || state(&rinse) == "sent" || doubtful() > 0 && received.lock().unwrap().len() >= 28);
    rinse.json("POST", "/api/today/doubt", &json!({ "again": true }));
    wait_until("the mailing is whole", || state(&rinse) == "sent");
    let addresses: HashSet<String> = received.lock().unwrap().iter().map(|m| m.1.clone()).collect();
    assert_eq!((addresses.len(), received.lock().unwrap().len()), (38, 38), "each once: nothing had reached the host");
}
