//! Clients that hold connections open: begun heads, begun bodies, answers that nobody takes.

use crate::Report;
use rinse_testkit::{Process, http};
use std::io::Write;
use std::net::TcpStream;
use std::path::Path;

pub(crate) fn all(binary: &Path, connections: usize) -> Report {
    let mut r = Report::default();
    let folder = tempfile::tempdir().expect("a folder");
    let rinse = Process::demo(binary, folder.path());
    let mut held = Vec::new();
    let mut longest = std::time::Duration::ZERO;
    for i in 0..connections {
        if let Ok(mut s) = TcpStream::connect(&rinse.address) {
            let begun: &[u8] = match i % 4 {
                0 => b"",
                1 => b"GET /today HTTP/1.1\r\nHost: loc",
                2 => b"POST /u/x HTTP/1.1\r\nHost: localhost\r\nContent-Length: 100000\r\n\r\nstop",
                _ => b"GET /assets/index.js HTTP/1.1\r\nHost: localhost\r\n\r\n",
            };
            let _ = s.write_all(begun);
            held.push(s);
        }
        // The oldest are let go, since this side has its own limit of descriptors.
        if held.len() > 700 {
            held.drain(..200);
        }
        if i % 100 == 99 {
            let began = std::time::Instant::now();
            let answered = http(&rinse.address, "GET", "/api/clock", b"").is_ok_and(|a| a.0 == 200);
            longest = longest.max(began.elapsed());
            r.holds(answered, format!("nobody was answered after {i} connections"));
        }
    }
    r.tried(format!("{connections} connections held open; an answer took {} ms at most", longest.as_millis()));
    r
}
