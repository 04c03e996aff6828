//! `make attack`: kills in the middle of everything, a full disk, a folder that can't be written, clocks that go wrong, clients that are slow.
//! Each part says how often it tried and what it found; anything found ends it with 1.
//!
//! `--short` does a little of each; names of parts (kills, disk, clocks, slow) do those alone.

mod clock;
mod disk;
mod kills;
mod slow;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// What a part found: how often it tried, in words, and what is wrong.
#[derive(Default)]
pub(crate) struct Report {
    pub(crate) tried: Vec<String>,
    pub(crate) wrong: Vec<String>,
}

impl Report {
    pub(crate) fn tried(&mut self, words: impl Into<String>) {
        self.tried.push(words.into());
    }

    /// Notes what should hold and doesn't.
    pub(crate) fn holds(&mut self, holds: bool, words: impl Into<String>) {
        if !holds {
            self.wrong.push(words.into());
        }
    }
}

/// A number that looks random and is the same each time (SplitMix64).
pub(crate) fn mixed(seed: u64) -> u64 {
    let mut z = seed.wrapping_add(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^ (z >> 31)
}

/// The one value of a query on a folder's database.
pub(crate) fn count(data: &Path, sql: &str) -> i64 {
    let c = rusqlite::Connection::open(data.join("rinse.db")).expect("the database opens");
    let _ = c.busy_timeout(std::time::Duration::from_secs(20));
    c.query_row(sql, [], |r| r.get(0)).unwrap_or_else(|e| panic!("{sql}: {e}"))
}

fn main() -> ExitCode {
    let named: Vec<String> = std::env::args().skip(1).filter(|a| a != "--short").collect();
    let short = std::env::args().any(|a| a == "--short");
    let binary = std::env::var_os("RINSE_BIN").map_or_else(|| PathBuf::from("target/release/rinse"), PathBuf::from);
    let mut failed = false;
    let kills = if short { 20 } else { 1_000 };
    let parts: [(&str, &dyn Fn() -> Report); 4] = [
        ("kills", &|| kills::all(&binary, kills)),
        ("disk", &|| disk::all(&binary)),
        ("clocks", &|| clock::all(&binary)),
        ("slow", &|| slow::all(&binary, if short { 500 } else { 3_000 })),
    ];
    let mut out = std::io::stdout();
    for (name, part) in parts.into_iter().filter(|(name, _)| named.is_empty() || named.iter().any(|n| n == name)) {
        let began = std::time::Instant::now();
        let report = part();
        let _ = writeln!(out, "{name} ({} s)", began.elapsed().as_secs());
        for line in &report.tried {
            let _ = writeln!(out, "  {line}");
        }
        for line in &report.wrong {
            let _ = writeln!(out, "  WRONG: {line}");
        }
        failed |= !report.wrong.is_empty();
    }
    let _ = writeln!(out, "{}", if failed { "something is wrong" } else { "nothing is wrong" });
    ExitCode::from(u8::from(failed))
}
