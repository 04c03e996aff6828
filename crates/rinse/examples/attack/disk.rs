//! A full disk and a folder that can't be written, on a small file system made for it.

use crate::{Report, count};
use rinse_core::id::SendId;
use rinse_core::token::{Kind, Signer};
use rinse_testkit::{Process, draft, letterhead, people_csv, wait_until};
use rusqlite::Connection;
use serde_json::{Value, json};
use std::path::Path;
use std::process::Command;

struct Mounted<'a>(&'a Path);

impl Mounted<'_> {
    fn on(at: &Path) -> Option<Mounted<'_>> {
        let made = Command::new("mount").args(["-t", "tmpfs", "-o", "size=64m", "tmpfs"]).arg(at).status().is_ok_and(|s| s.success());
        made.then_some(Mounted(at))
    }
}

impl Drop for Mounted<'_> {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(self.0).status();
    }
}

pub(crate) fn all(binary: &Path) -> Report {
    let mut r = Report::default();
    let folder = tempfile::tempdir().expect("a folder");
    let Some(_mounted) = Mounted::on(folder.path()) else {
        r.tried("no file system can be made here (it takes root): not tried");
        return r;
    };
    let data = folder.path().join("data");
    let rinse = Process::demo(binary, &data);
    rinse.import(&people_csv(2_000));
    rinse.json("POST", "/api/letterheads", &letterhead());
    rinse.json("POST", "/api/mailings", &draft(1, &["Boats"]));
    rinse.json("POST", "/api/mailings/1/plan", &json!({ "at": null }));
    wait_until("it is out", || rinse.json("GET", "/api/mailings/1", &Value::Null)["state"] == "sent");
    let key: Vec<u8> = Connection::open(data.join("rinse.db"))
        .and_then(|c| c.query_row("SELECT key FROM signing_key WHERE id = 1", [], |row| row.get(0)))
        .expect("a key");
    let signer = Signer::new(&key);
    // All but a little room is taken, then people leave while a second mailing is asked for.
    rinse.json("POST", "/api/mailings", &draft(1, &["Gulls"]));
    let room: u64 = 1_500_000;
    let ballast = folder.path().join("ballast");
    let free = free_bytes(folder.path());
    let _ = std::fs::write(&ballast, vec![0u8; usize::try_from(free.saturating_sub(room)).unwrap_or(0)]);
    let (mut told, mut refused) = (Vec::new(), 0);
    let _ = rinse.http("POST", "/api/mailings/2/plan", b"{\"at\":null}");
    for send in 1..=1_500 {
        let (status, _) = rinse.http("POST", &format!("/u/{}", signer.link(Kind::Unsubscribe, SendId(send), 0)), b"stop=everything");
        match status {
            200 => told.push(send),
            _ => refused += 1,
        }
    }
    r.tried(format!("a full disk: {} people were told that they left, {refused} that it didn't work", told.len()));
    r.holds(refused > 0, "the disk was never full");
    r.holds(rinse.http("GET", "/api/today", b"").0 == 200, "nothing is shown any more");
    let _ = std::fs::remove_file(&ballast);
    // There is room again: without a restart, and after one, all goes on.
    for _ in 0..3 {
        rinse.advance(2);
    }
    let stuck = count(&data, "SELECT count(*) FROM send WHERE state IN (2, 7)");
    r.holds(stuck == 0, format!("{stuck} messages are on their way for ever"));
    rinse.kill();
    let rinse = Process::demo(binary, &data);
    for send in told {
        let consent = count(&data, &format!("SELECT consent FROM contact WHERE id = (SELECT contact_id FROM send WHERE id = {send})"));
        r.holds(consent == 5, format!("who got message {send} was told that they left, and stands as {consent}"));
    }
    let faults = count(&data, "SELECT count(*) FROM notice WHERE kind = 'journal' AND words NOT LIKE '%has no end%'");
    r.holds(faults == 0, format!("{faults} faults of the journal"));
    let world = Connection::open(data.join("world.db")).expect("the world");
    // Closed before the file system is changed under it.
    let handed: i64 = world.query_row("SELECT count(*) FROM accepted", [], |row| row.get(0)).expect("a count");
    let accepted = count(&data, "SELECT count(*) FROM send WHERE accepted_at IS NOT NULL");
    r.holds(handed == accepted, format!("{handed} at the host, {accepted} on record"));
    drop(world);
    read_only(binary, &data, rinse, folder.path(), &mut r);
    r
}

fn free_bytes(at: &Path) -> u64 {
    let out = Command::new("df").args(["-B1", "--output=avail"]).arg(at).output().expect("df answers");
    String::from_utf8_lossy(&out.stdout).lines().last().and_then(|l| l.trim().parse().ok()).unwrap_or(0)
}

fn read_only(binary: &Path, data: &Path, rinse: Process, mounted: &Path, r: &mut Report) {
    rinse.kill();
    let remount =
        |how: &str| Command::new("mount").args(["-o", &format!("remount,{how}")]).arg(mounted).status().is_ok_and(|s| s.success());
    if !remount("ro") {
        r.tried("the file system can't be made read-only here: not tried");
        return;
    }
    let out = Command::new(binary).args(["demo", "--listen", "127.0.0.1:0", "--data"]).arg(data).output().expect("it starts");
    let words = String::from_utf8_lossy(&out.stderr).into_owned();
    r.tried("a folder that can't be written");
    r.holds(out.status.code() == Some(1) && words.contains("can't be written"), format!("it said {words}"));
    r.holds(remount("rw"), "the file system stays read-only");
    let rinse = Process::demo(binary, data);
    r.holds(rinse.http("GET", "/api/today", b"").0 == 200, "it doesn't start any more");
}
