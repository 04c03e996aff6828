//! Core decides and computes, and nothing else: what it is made of holds no runtime, no file system, no socket and no randomness of
//! the machine, and its code asks for none of them. What comes in comes as an argument, so the same always leads to the same.

use std::path::Path;
use std::process::Command;

const NEVER: [&str; 16] = [
    "tokio",
    "mio",
    "socket2",
    "polling",
    "smol",
    "async-io",
    "hyper",
    "reqwest",
    "rusqlite",
    "libsqlite3-sys",
    "getrandom",
    "tempfile",
    "walkdir",
    "notify",
    "memmap2",
    "rustls",
];
const NO_FEATURES: [&str; 5] = ["tz-system", "tzdb-zoneinfo", "tzdb-concatenated", "thread_rng", "sys_rng"];
const NO_WORDS: [&str; 10] = [
    "std::fs",
    "TcpStream",
    "TcpListener",
    "UdpSocket",
    "std::process",
    "std::env",
    "std::thread",
    "SystemTime::now",
    "Timestamp::now",
    "Instant::now",
];

#[test]
fn core_depends_on_nothing_that_reaches_out() {
    let out = Command::new(env!("CARGO"))
        .args(["tree", "-p", "rinse-core", "-e", "normal", "--prefix", "none", "--locked", "--offline", "-f", "{p} {f}"])
        .current_dir(env!("CARGO_MANIFEST_DIR"))
        .output()
        .unwrap();
    let tree = String::from_utf8_lossy(&out.stdout);
    assert!(out.status.success() && tree.contains("jiff"), "{}", String::from_utf8_lossy(&out.stderr));
    for line in tree.lines() {
        let name = line.split(' ').next().unwrap();
        assert!(!NEVER.contains(&name), "core depends on {line}");
        let features = line.trim_end_matches(" (*)").rsplit(' ').next().unwrap();
        assert!(features.split(',').all(|f| !NO_FEATURES.contains(&f)), "core depends on {line}");
    }
}

fn sources(folder: &Path, each: &mut impl FnMut(&Path, &str)) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, each);
        } else if path.extension().is_some_and(|e| e == "rs") {
            each(&path, &std::fs::read_to_string(&path).unwrap());
        }
    }
}

#[test]
fn core_asks_for_nothing() {
    let mut read = 0;
    sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut |path, text| {
        read += 1;
        let code = text.split("#[cfg(test)]").next().unwrap();
        for line in code.lines().filter(|l| !l.trim_start().starts_with("//")) {
            assert!(NO_WORDS.iter().all(|w| !line.contains(w)), "{}: {line}", path.display());
        }
    });
    assert!(read > 50, "{read}");
}
