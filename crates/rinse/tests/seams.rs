//! The binary beside a running Rinse: `clear`, `backup` and `restore`, as a script uses them.

use rinse_core::id::SendId;
use rinse_testkit::{Process, draft, letterhead};
use serde_json::{Value, json};
use std::path::Path;
use std::process::{Command, Output};

const RINSE: &str = env!("CARGO_BIN_EXE_rinse");

fn run(args: &[&str], folder: &Path) -> Output {
    Command::new(RINSE).args(args).arg("--data").arg(folder).env("RUST_LOG", "error").output().unwrap()
}

fn words(out: &Output) -> String {
    String::from_utf8_lossy(&out.stderr).into_owned()
}

#[test]
fn clear_and_backup_beside_a_running_rinse_and_restore_after_it() {
    let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let data = folder.path();
    let rinse = Process::demo(Path::new(RINSE), data);
    rinse.import("email\nwren@tern.example\ngull@tern.example\nfulmar@rock.example\n");
    rinse.json("POST", "/api/letterheads", &letterhead());
    rinse.json("POST", "/api/suppression/1/lines", &json!({ "lines": "rock.example" }));
    rinse.json("POST", "/api/mailings", &draft(1, &["Boats"]));

    let out = run(&["clear", "--mailing", "1", "--at", "2026-05-01T08:00:00Z"], data);
    let lines: Vec<Value> = String::from_utf8(out.stdout).unwrap().lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let said: Vec<(&str, &str)> = lines.iter().map(|l| (l["address"].as_str().unwrap(), l["outcome"].as_str().unwrap())).collect();
    assert_eq!(said, [("wren@tern.example", "cleared"), ("gull@tern.example", "cleared"), ("fulmar@rock.example", "barred")]);
    assert_eq!(lines[2]["reasons"], json!(["suppressed"]));
    for (args, want) in
        [(["clear", "--mailing", "9", "--at", "5"], "no mailing"), (["clear", "--mailing", "1", "--at", "tomorrow"], "is no instant")]
    {
        let out = run(&args, data);
        assert!(out.status.code() == Some(1) && words(&out).contains(want) && out.stdout.is_empty(), "{}", words(&out));
    }

    let asked = outside.path().join("asked.csv");
    std::fs::write(&asked, "email\ngull@tern.example\nfulmar@rock.example\n").unwrap();
    let reserving =
        ["clear", "--file", asked.to_str().unwrap(), "--at", "2026-05-01T08:00:00Z", "--reserve", "K-1", "--until", "2026-05-03T08:00:00Z"];
    let busy = run(&reserving, data);
    assert!(busy.status.code() == Some(1) && words(&busy).contains("reserves itself"), "{}", words(&busy));

    let copy = outside.path().join("kept.db");
    let copy = copy.to_str().unwrap();
    assert!(run(&["backup", "--to", copy], data).status.success());
    // Somebody leaves after the backup, by a form on their page.
    rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": null }));
    rinse_testkit::wait_until("the message is out", || rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    let key: Vec<u8> =
        rusqlite::Connection::open(data.join("rinse.db")).unwrap().query_row("SELECT key FROM signing_key", [], |r| r.get(0)).unwrap();
    let link = rinse_core::token::Signer::new(&key).link(rinse_core::token::Kind::Unsubscribe, SendId(1), 0);
    assert_eq!(rinse.http("POST", &format!("/u/{link}"), b"stop=everything").0, 200);
    let busy = run(&["restore", "--from", copy], data);
    assert!(busy.status.code() == Some(1) && words(&busy).contains("Stop it first"), "{}", words(&busy));
    rinse.kill();
    let done = run(&["restore", "--from", copy], data);
    assert!(done.status.success() && words(&done).contains("1 withdrawals"), "{}", words(&done));
    let out = run(&reserving, data);
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    assert!(out.status.success() && said.contains("\"cleared\"") && said.contains("\"barred\""), "{said}{}", words(&out));
    let kept = rinse_store::Store::look(data).unwrap();
    let reserved = |sql: &str| kept.query_row(sql, [], |r| r.get::<_, i64>(0)).unwrap();
    assert_eq!(reserved("SELECT count(*) FROM send WHERE handed_at IS NULL AND at = 1777622400000"), 1);
    drop(kept);
    let rinse = Process::demo(Path::new(RINSE), data);
    let person = rinse.json("GET", "/api/contacts/1", &Value::Null);
    assert_eq!(person["consent"], "withdrawn", "{person}");
    assert_eq!(rinse.json("GET", "/api/mailings/1", &Value::Null)["state"], "draft", "as it was when the backup was made");
}
