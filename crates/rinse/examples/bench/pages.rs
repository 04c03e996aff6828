//! Every question that a screen asks, of a whole base of 100,000 and of 1,000,000 people: the first time and again, and what memory it takes.

use crate::questions::{Base, Question, all};
use crate::whole;
use rinse_testkit::Process;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use serde_json::Value;
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;
use std::time::{Duration, Instant};

/// Asked again so often, or for so long.
const AGAIN: usize = 19;
const LONG_ENOUGH: Duration = Duration::from_secs(4);

struct Asked {
    question: Question,
    status: u16,
    /// Milliseconds.
    first: f64,
    again: Vec<f64>,
}

impl Asked {
    fn at(&self, share: f64) -> f64 {
        let mut all = self.again.clone();
        all.sort_by(f64::total_cmp);
        let place = (share * all.len() as f64).ceil() as usize;
        all.get(place.saturating_sub(1)).copied().unwrap_or(self.first)
    }
}

/// Memory of a process's own, in MB; pages of the file that the system keeps are no part of it.
fn private(pid: u32) -> f64 {
    let text = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).unwrap_or_default();
    let kb = |line: &str| line.split_whitespace().nth(1).and_then(|n| n.parse::<f64>().ok()).unwrap_or(0.0);
    text.lines().filter(|l| l.starts_with("Anonymous:")).map(kb).sum::<f64>() / 1024.0
}

fn load() -> String {
    std::fs::read_to_string("/proc/loadavg").unwrap_or_default().split(' ').next().unwrap_or("?").to_owned()
}

/// One question, timed; its status.
fn ask(rinse: &Process, q: &Question) -> (u16, f64) {
    let body = q.body.as_ref().map(Value::to_string).unwrap_or_default();
    let started = Instant::now();
    let (status, _) = rinse.http(if q.body.is_some() { "POST" } else { "GET" }, &q.path, body.as_bytes());
    (status, started.elapsed().as_secs_f64() * 1000.0)
}

/// Asks everything of bases of so many people.
pub(crate) fn pages(sizes: &[i64]) {
    let binary = std::env::var("RINSE_BIN").unwrap_or_else(|_| "target/release/rinse".into());
    let binary = Path::new(&binary);
    if !binary.exists() {
        eprintln!("pages: build target/release/rinse first");
        return;
    }
    for people in sizes {
        let text = of(binary, *people);
        let _ = writeln!(std::io::stdout(), "{text}");
        note(*people, &text);
    }
}

fn of(binary: &Path, people: i64) -> String {
    let folder = whole::folder(binary, people);
    let started = Instant::now();
    let rinse = Process::demo(binary, &folder);
    let _ = rinse.http("GET", "/api/clock", b"");
    let ready = started.elapsed().as_secs_f64();
    let at_rest = private(rinse.id());
    let c = Connection::open_with_flags(folder.join("rinse.db"), OpenFlags::SQLITE_OPEN_READ_ONLY).expect("the file opens");
    let row = |sql: &str| {
        let text = |v: ValueRef<'_>| match v {
            ValueRef::Integer(n) => Some(n.to_string()),
            ValueRef::Text(t) => Some(String::from_utf8_lossy(t).into_owned()),
            _ => None,
        };
        let mut s = c.prepare(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
        let columns = s.column_count();
        let mut rows = s.query([]).expect("a row");
        rows.next().expect("a row").and_then(|r| (0..columns).map(|i| r.get_ref(i).ok().and_then(text)).collect::<Option<Vec<_>>>())
    };
    // What a large base shows of everybody is made beside; whoever opens it in the first minute may wait for that.
    let made = || row("SELECT as_of FROM per_person").is_some();
    let passed = Instant::now();
    while people > rinse_store::per_person::AT_ONCE && !made() && passed.elapsed() < Duration::from_secs(900) {
        std::thread::sleep(Duration::from_secs(1));
    }
    let _ = writeln!(std::io::stdout(), "everybody's messages passed over once: {:.0} s", passed.elapsed().as_secs_f64());
    let get = |path: &str| rinse.json("GET", path, &Value::Null);
    let questions = all(&rinse_server::openapi(), &Base { row: &row, get: &get });
    let sends: i64 = c.query_row("SELECT count(*) FROM send", [], |r| r.get(0)).unwrap_or(0);
    let routes = questions.iter().map(|q| &q.of).collect::<BTreeSet<_>>().len();
    let mut asked: Vec<Asked> = Vec::new();
    for question in questions {
        let (status, first) = ask(&rinse, &question);
        let began = Instant::now();
        let mut again = Vec::new();
        while again.len() < AGAIN && began.elapsed() < LONG_ENOUGH {
            again.push(ask(&rinse, &question).1);
        }
        asked.push(Asked { question, status, first, again });
    }
    let used = private(rinse.id());
    table(&format!("{people} people, {sends} messages, {routes} routes"), ready, (at_rest, used), asked)
}

/// Puts a table in the place of the one of the last time, in docs/benchmarks.md.
fn note(people: i64, text: &str) {
    let path = Path::new("docs/benchmarks.md");
    let Ok(all) = std::fs::read_to_string(path) else { return };
    let (begins, ends) = (format!("<!-- pages of {people} -->\n"), "<!-- end of pages -->\n");
    let table = format!("{begins}{text}{ends}");
    let noted = match all.split_once(&begins).and_then(|(before, rest)| Some((before, rest.split_once(ends)?.1))) {
        Some((before, after)) => format!("{before}{table}{after}"),
        None => format!("{all}\n{table}"),
    };
    std::fs::write(path, noted).expect("the table is noted");
}

/// The slowest first; those at which all is well as one line.
fn table(what: &str, ready: f64, (at_rest, used): (f64, f64), mut asked: Vec<Asked>) -> String {
    asked.sort_by(|a, b| b.at(0.95).total_cmp(&a.at(0.95)));
    let refused: Vec<&Asked> = asked.iter().filter(|a| a.status >= 400).collect();
    let (slow, fast): (Vec<&Asked>, Vec<&Asked>) =
        asked.iter().filter(|a| a.status < 400).partition(|a| a.at(0.95) > 100.0 || a.first > 1000.0);
    let mut out = format!(
        "### {what}\nLoad of the machine {}; ready in {ready:.1} s; private memory {at_rest:.0} MB at rest, {used:.0} MB after all of it was asked.\n\n",
        load()
    );
    let _ = writeln!(
        out,
        "{} of {} questions under 100 ms (p95) and their first under 1 s. The others:\n",
        fast.len(),
        fast.len() + slow.len()
    );
    let _ = writeln!(out, "| question | first, ms | median | p95 | longest |\n| --- | --- | --- | --- | --- |");
    for a in slow {
        let way = if a.question.body.is_some() { "POST " } else { "" };
        let _ = writeln!(out, "| {way}{} | {:.0} | {:.0} | {:.0} | {:.0} |", a.question.path, a.first, a.at(0.5), a.at(0.95), a.at(1.0));
    }
    for a in refused {
        let _ = writeln!(out, "\nNot answered, since the base has none: {} ({}).", a.question.path, a.status);
    }
    out
}
