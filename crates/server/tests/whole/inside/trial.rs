//! What tests of trials share: the record, and arms that were opened by so many.

use super::Inside;
use rinse_core::stats::Arm;
use rinse_core::stats::agreeing::{Test, compare_shares};
use serde_json::Value;
use std::collections::HashMap;
use std::io::Read;

/// The record's files, by name.
pub(crate) async fn files_of(s: &Inside, trial: i64) -> HashMap<String, String> {
    files_at(s, &format!("/api/trials/{trial}/record.zip")).await
}

/// The files of a zip, by name.
pub(crate) async fn files_at(s: &Inside, path: &str) -> HashMap<String, String> {
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(s.file(path).await)).unwrap();
    (0..zip.len())
        .map(|i| {
            let mut file = zip.by_index(i).unwrap();
            let mut text = String::new();
            file.read_to_string(&mut text).unwrap();
            (file.name().unwrap().into_owned(), text)
        })
        .collect()
}

/// What one of the record's scripts prints; none where nothing runs it.
pub(crate) fn printed(files: &HashMap<String, String>, by: &str, script: &str) -> Option<String> {
    let folder = tempfile::tempdir().unwrap();
    for (name, text) in files {
        std::fs::write(folder.path().join(name), text).unwrap();
    }
    let out = std::process::Command::new(by).arg(script).current_dir(folder.path()).output().ok()?;
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    Some(String::from_utf8_lossy(&out.stdout).into_owned())
}

/// The verdict by the record's own Python; none where there is no Python. Where there is R, its comparisons are those of the Python: what
/// both draw differs by chance alone.
pub(crate) fn recomputed(files: &HashMap<String, String>) -> Option<String> {
    let python = printed(files, "python3", "recompute.py")?;
    let numbers = |text: &str| {
        let number = |w: &str| w.trim_matches(['(', ')', ',']).parse::<f64>().ok();
        text.lines().filter(|l| l.contains(" less ")).map(|l| l.split(' ').filter_map(number).collect::<Vec<f64>>()).collect::<Vec<_>>()
    };
    if let Some(r) = printed(files, "Rscript", "recompute.R") {
        let (ours, theirs) = (numbers(&python), numbers(&r));
        for (a, b) in ours.iter().flatten().zip(theirs.iter().rev().take(ours.len()).rev().flatten()) {
            assert!((a - b).abs() <= 0.02 + 0.1 * a.abs(), "{python}{r}");
        }
    }
    python.lines().last().map(str::to_owned)
}

/// Do the record's scripts, asked with so few answers in each of two arms, compare them as the application does?
pub(crate) fn compares_few(files: &HashMap<String, String>, few: [u64; 2]) {
    let mut files = files.clone();
    let mut rows: Vec<Vec<String>> = files["arms.csv"].lines().map(|l| l.split(',').map(str::to_owned).collect()).collect();
    let at = |name: &str| rows[0].iter().position(|h| h == name).unwrap();
    let (primary, assigned, unknown) = (at("primary"), at("assigned"), at("unknown"));
    let number = |row: &[String], at: usize| row[at].parse::<u64>().unwrap();
    let arm = |row: usize| Arm { successes: few[row - 1], trials: number(&rows[row], assigned) - number(&rows[row], unknown) };
    let want = compare_shares(&[(arm(1), arm(2))], 0.95).unwrap();
    (1..3).for_each(|row| rows[row][primary] = few[row - 1].to_string());
    files.insert("arms.csv".into(), rows.iter().map(|r| r.join(",") + "\r\n").collect());
    for (by, script) in [("python3", "recompute.py"), ("Rscript", "recompute.R")] {
        let Some(out) = printed(&files, by, script) else { continue };
        let line = format!("B less A: {:+.6} ({:+.6} to {:+.6}), adjusted p ", want.difference, want.lower, want.upper);
        assert!(out.contains(&line) && want.test == Test::MidP, "{line}{} in {out}", want.p_value);
    }
}

/// Lets exactly these shares of each arm's pilot have opened, whatever the stand-in's people did, and moves
/// on past the end of the window. The world has acted by the 23rd hour; the reading is at the 24th.
pub(crate) async fn read_with<const N: usize>(s: &Inside, shares: [f64; N]) -> Value {
    s.advance(23).await;
    for (arm, share) in shares.into_iter().enumerate() {
        s.db()
            .execute(
                "UPDATE send SET open_at = CASE WHEN (SELECT count(*) FROM send o WHERE o.phase = 1 AND o.arm = ?1 AND o.id <= send.id)
                    <= ?2 * (SELECT count(*) FROM send o WHERE o.phase = 1 AND o.arm = ?1) THEN handed_at + 60000 END WHERE phase = 1 AND arm = ?1",
                rusqlite::params![i64::try_from(arm).unwrap(), share],
            )
            .unwrap();
    }
    // The stand-in's people may open until the end: one of theirs more or less changes no verdict.
    s.advance(4).await;
    s.ok("GET", "/api/trials/1", &Value::Null).await
}
