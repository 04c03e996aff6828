//! Findings over three years: 150 mailings, 20,000,000 messages to a million people of 12 domains, 8 countries and 6 sources; the same questions of
//! a plain GROUP BY over the messages.

use rinse_core::findings::{By, Clock};
use rinse_core::{DAY, HOUR};
use rinse_store::findings::{answers, groups};
use rinse_store::{Store, figures};
use rusqlite::Connection;
use std::io::Write;
use std::path::Path;
use std::time::Instant as Stopwatch;

const NOW: i64 = 1_776_364_800_000;
const TIMES: usize = 9;

fn make(folder: &Path) {
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch(&format!(
        "PRAGMA synchronous = OFF; PRAGMA journal_mode = OFF; PRAGMA cache_size = -400000; PRAGMA foreign_keys = OFF; BEGIN;
         INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1,'a','a','a@skerry-light.example','b','','','');
         INSERT INTO topic (id, name) SELECT value, 'topic ' || value FROM json_each('[1,2,3,4,5,6]');
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 12) INSERT INTO domain (id, name) SELECT i, 'post' || i || '.example' FROM n;
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 150)
            INSERT INTO mailing (id, name, letterhead_id, topic_id, made_at, started_at, state) SELECT i, 'm' || i, 1, 1 + i % 6, 0, {NOW} - (151 - i) * 7 * {DAY}, 'sent' FROM n;
         WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 575)
            INSERT INTO place (id, domain_id, country, source) SELECT i + 1, 1 + i % 12, 'C' || (i / 12 % 8), 'source ' || (i / 96) FROM n;
         INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, failed_at, category, any_open_at, open_at, any_click_at, click_at,
                place_id, local_hour)
            SELECT m, k, m, 3, t, t, t, t, iif((k + m) % 97 = 0, t, NULL), iif((k + m) % 97 = 0, 3, NULL), iif(h < 40, t + h * {HOUR}, NULL), iif(h < 26, t + h * {HOUR}, NULL),
                iif(h < 4, t + h * {HOUR}, NULL), iif(h < 4, t + h * {HOUR}, NULL), 1 + (k * 2654435761 >> 16) % 576, t / {HOUR} + (k * 2654435761 >> 16) % 576 / 12 % 8 % 3
            FROM (SELECT id AS m, started_at + {HOUR} * (value % 3) AS t, 1 + value * 15 + (id * 7) % 15 AS k, (value * 31 + id * 17) % 100 AS h
                FROM mailing, (WITH RECURSIVE n(value) AS (SELECT 0 UNION ALL SELECT value + 1 FROM n WHERE value < 133332) SELECT value FROM n));
         COMMIT;"
    ))
    .expect("the base");
    figures::count_again(&c).expect("the sums");
    c.execute_batch("ANALYZE;").expect("the statistics");
}

fn middle(mut all: Vec<f64>) -> (f64, f64) {
    all.sort_by(f64::total_cmp);
    (all[all.len() / 2], all[all.len() - 1])
}

pub(crate) fn findings() {
    let folder = tempfile::tempdir().expect("a folder");
    drop(tokio::task::block_in_place(|| Store::open(folder.path(), false)).expect("a store"));
    let start = Stopwatch::now();
    make(folder.path());
    let mut out = std::io::stdout();
    let _ = writeln!(out, "20,000,000 messages made and summed: {:.0} s", start.elapsed().as_secs_f64());
    let store = Store::open(folder.path(), false).expect("a store");
    let ask = |what: &str, by: By, across: Option<By>, days: i64| {
        let filter = groups::Filter { days: Some(days), ..groups::Filter::default() }.at(NOW);
        let mut times = Vec::new();
        let mut pieces = 0;
        for _ in 0..TIMES {
            let start = Stopwatch::now();
            pieces = store.read_now(|c| groups::pieces(c, by, across, Clock::Recipients, &filter)).expect("groups").len();
            times.push(start.elapsed().as_secs_f64() * 1e3);
        }
        let (half, worst) = middle(times);
        let _ = writeln!(std::io::stdout(), "findings {what}: {half:.0} ms (worst of {TIMES}: {worst:.0}), {pieces} parts");
    };
    ask("by mailing, a year", By::Mailing, None, 365);
    ask("by mailing, all", By::Mailing, None, 36_500);
    ask("by weekday, all", By::Weekday, None, 36_500);
    ask("by topic, all", By::Topic, None, 36_500);
    ask("by domain, a year", By::Domain, None, 365);
    ask("by domain, all", By::Domain, None, 36_500);
    ask("by domain and weekday, all", By::Domain, Some(By::Weekday), 36_500);
    ask("by country and source, all", By::Country, Some(By::Source), 36_500);
    let start = Stopwatch::now();
    store.read_now(|c| answers::told(c, Clock::Recipients, &groups::Filter::default())).expect("answers");
    let _ = writeln!(out, "when people answer, all: {:.0} ms", start.elapsed().as_secs_f64() * 1e3);
    let start = Stopwatch::now();
    let plain = "SELECT p.domain_id, count(*), count(s.open_at) FROM send s JOIN place p ON p.id = s.place_id WHERE s.handed_at IS NOT NULL GROUP BY 1";
    let n = store.read_now(|c| Ok(c.prepare(plain)?.query_map([], |r| r.get::<_, i64>(1))?.count())).expect("a recount");
    let _ = writeln!(
        out,
        "the bare tool: opens by domain over the messages themselves: {:.0} ms, {n} groups",
        start.elapsed().as_secs_f64() * 1e3
    );
}
