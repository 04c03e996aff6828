//! The machine's clock is set back and forward between starts: nothing goes twice, nothing goes early, nothing is lost.

use crate::{Report, count};
use rinse_testkit::{Process, draft, letterhead, people_csv, smtp_receiver, wait_until};
use serde_json::{Value, json};
use std::collections::HashSet;
use std::path::Path;
use std::process::Command;

pub(crate) fn all(binary: &Path) -> Report {
    let mut r = Report::default();
    let library = std::fs::read_dir("/usr/lib").ok().into_iter().flatten().flatten().map(|e| e.path().join("faketime/libfaketimeMT.so.1"));
    let Some(library) = library.into_iter().find(|l| l.exists()) else {
        r.tried("faketime isn't here (make attack installs it): not tried");
        return r;
    };
    let folder = tempfile::tempdir().expect("a folder");
    let (data, (port, received)) = (folder.path(), smtp_receiver());
    let wrapper = folder.path().join("as-of");
    let rinse = Process::serve(binary, data, port);
    rinse.import(&people_csv(100));
    rinse.json("POST", "/api/letterheads", &letterhead());
    rinse.kill();
    let mut mailings = 0;
    for offset in ["+0d", "+3d", "-2d", "-400d", "+40d", "+0d"] {
        let own = std::fs::canonicalize(binary).expect("a binary");
        let script = format!("#!/bin/sh\nLD_PRELOAD={} FAKETIME='{offset}' exec {} \"$@\"\n", library.display(), own.display());
        std::fs::write(&wrapper, script).expect("a script");
        let _ = Command::new("chmod").arg("+x").arg(&wrapper).status();
        let rinse = Process::serve(&wrapper, data, port);
        let m = rinse.json("POST", "/api/mailings", &draft(1, &["Boats"]))["id"].clone();
        rinse.json("POST", &format!("/api/mailings/{m}/plan"), &json!({ "at": null }));
        mailings += 1;
        wait_until("it is out", || rinse.json("GET", &format!("/api/mailings/{m}"), &Value::Null)["state"] == "sent");
        rinse.terminate();
        let _ = rinse.ended();
    }
    let all = received.lock().expect("whole");
    let different: HashSet<&String> = all.iter().map(|m| &m.0).collect();
    r.tried(format!("{mailings} starts with the clock set back and forward, {} messages", all.len()));
    r.holds(different.len() == all.len(), "something went twice");
    r.holds(
        all.len() as i64 == count(data, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL"),
        "the host has others than the record",
    );
    r
}
