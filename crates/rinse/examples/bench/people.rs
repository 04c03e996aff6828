//! Segments, pages and imports at a million people and twenty million responses.

use crate::base::{ASKED as NOW, COUNTRIES, FAMILY, GIVEN, MAILINGS, PEOPLE, SOURCES, folder};
use crate::line;
use rinse_core::Instant;
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, ListId, MailingId};
use rinse_core::segment::{Bought, Compare, DateTest, Did, Field, TextTest, Times, Tree};
use rinse_core::table;
use rinse_core::upkeep::MailStatus;
use rinse_store::contacts::{self, Query, Sort};
use rinse_store::imports::{self, Decision, Fixes};
use rinse_store::{Store, ledger, segments};
use rusqlite::{Connection, params};
use std::fmt::Write as _;
use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant as Stopwatch;

fn typical() -> Vec<(&'static str, Tree)> {
    let text = |field, value: &str| Tree::Text { field, is: TextTest::Is, value: value.into() };
    let did = |did, n, within_days, mailing| Tree::Did {
        did,
        human: true,
        times: Times::AtLeast(n),
        within_days,
        mailing,
        link: None,
        series: None,
    };
    let all = |of: Vec<Tree>| Tree::All { of };
    let not = |t: Tree| Tree::Not { of: Box::new(t) };
    let near = |km| Tree::Near { latitude: 57.5, longitude: -4.2, km, place: "Port Skerry".into(), miles: false };
    let bought = |product: &str, days| Tree::Bought {
        what: Bought::Count,
        is: Compare::AtLeast,
        value: 1.0,
        product: Some(product.into()),
        category: None,
        within_days: days,
    };
    let mailable = || Tree::Consent { states: vec![Consent::Consented, Consent::Confirmed] };
    vec![
        ("country", text(Field::Country, "NO")),
        ("tier", text(Field::Own(1), "patron")),
        ("tier and visits", all(vec![text(Field::Own(1), "keeper"), Tree::Number { field: 2, is: Compare::Over, value: 12.0 }])),
        ("member since", Tree::Date { field: 3, is: DateTest::Before(18_500) }),
        ("list and not tag", all(vec![Tree::List { list: ListId(1) }, not(Tree::Tag { tag: 1 })])),
        ("two lists", Tree::Any { of: vec![Tree::List { list: ListId(2) }, Tree::List { list: ListId(3) }] }),
        ("may be mailed", all(vec![mailable(), Tree::Status { states: vec![MailStatus::Active] }])),
        ("opened in 30 days", did(Did::Opened, 1, Some(30), None)),
        ("opened 3 in 90 days", did(Did::Opened, 3, Some(90), None)),
        ("opened 5, ever", did(Did::Opened, 5, None, None)),
        ("clicked in 90 days", did(Did::Clicked, 1, Some(90), None)),
        (
            "no open in 180 days",
            Tree::Did {
                did: Did::Opened,
                human: true,
                times: Times::AtMost(0),
                within_days: Some(180),
                mailing: None,
                link: None,
                series: None,
            },
        ),
        ("clicked in a mailing", did(Did::Clicked, 1, None, Some(MailingId(MAILINGS)))),
        ("replied, ever", did(Did::Replied, 1, None, None)),
        ("received 2 in 45 days", Tree::Received { times: Times::AtLeast(2), within_days: Some(45) }),
        ("lantern and no print", all(vec![bought("Storm lantern", None), not(bought("Chart print", None))])),
        ("bought in 90 days", bought("Boat day", Some(90))),
        ("near a place", near(60.0)),
        ("engaged members", all(vec![Tree::List { list: ListId(3) }, did(Did::Clicked, 1, Some(180), None), mailable()])),
        ("a tenth of new ones", all(vec![Tree::Added { within_days: 90 }, Tree::Share { percent: 10.0, salt: "tide".into() }])),
    ]
}

pub(crate) fn segments_and_pages() {
    let store = Store::open(&folder(), false).expect("the base");
    let mut times: Vec<(f64, &str, i64)> = typical()
        .iter()
        .map(|(name, tree)| {
            // The best of three: the first warms the file's pages up.
            let (mut best, mut people) = (f64::MAX, 0);
            for _ in 0..3 {
                let start = Stopwatch::now();
                people = segments::count(&store, tree, Instant::of(NOW)).expect("a count");
                best = best.min(start.elapsed().as_secs_f64() * 1000.0);
            }
            eprintln!("{name}: {best:.0} ms");
            (best, *name, people)
        })
        .collect();
    times.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut out = std::io::stdout();
    for (ms, name, people) in &times {
        let _ = writeln!(out, "segment, {name}: {ms:.0} ms for {people} people");
    }
    let _ = writeln!(out, "segments: p95 of {} is {:.0} ms (aim: 300)", times.len(), times[times.len() * 95 / 100 - 1].0);
    let bare = Stopwatch::now();
    let n: i64 = store
        .read_now(|c| {
            Ok(c.query_row(
                "SELECT count(*) FROM response WHERE kind = 1 AND machine = 0 AND at > ?1",
                [NOW - 90 * rinse_core::DAY],
                |r| r.get(0),
            )?)
        })
        .expect("a count");
    let _ = writeln!(out, "bare count over all responses: {:.1} s for {n}", bare.elapsed().as_secs_f64());

    let start = Stopwatch::now();
    store.read_now(contacts::keep_orders).expect("the orders");
    let _ = writeln!(out, "the contact list's orders, read beside the first page: {:.0} ms", start.elapsed().as_secs_f64() * 1000.0);
    let mut worst = (0.0_f64, String::new());
    for (sort, name) in [(Sort::Address, "address"), (Sort::FamilyName, "name"), (Sort::AddedAt, "added")] {
        for (list, tag, status) in
            [(None, None, None), (Some(1), None, None), (None, Some(1), None), (None, None, Some(0)), (None, None, Some(3))]
        {
            for (page, descending) in [(0, false), (5_000, true), (1_500, false), (19_000, false)] {
                let q = Query {
                    search: String::new(),
                    list: list.map(ListId),
                    tag,
                    segment: None,
                    status,
                    load: None,
                    sort,
                    descending,
                    page,
                    size: 50,
                };
                let mut best = f64::MAX;
                for _ in 0..2 {
                    let start = Stopwatch::now();
                    store.read_now(|c| contacts::page(c, &q, Instant::of(NOW))).expect("a page");
                    best = best.min(start.elapsed().as_secs_f64() * 1000.0);
                }
                if best > worst.0 {
                    worst = (best, format!("by {name}, list {list:?}, tag {tag:?}, status {status:?}, page {page}"));
                }
            }
        }
    }
    let _ = writeln!(out, "contact list at {PEOPLE} people: the slowest of 60 pages {:.0} ms, {} (aim: 100)", worst.0, worst.1);
}

const ROWS: usize = 1_000_000;

fn csv_file() -> String {
    let mut csv = String::from("E-mail,First name,Last name,Country,Joined via\n");
    for i in 0..ROWS {
        let (g, f) = (GIVEN[i % 12], FAMILY[i / 12 % 12]);
        let _ = writeln!(
            csv,
            "{}.{}{:07}@post{}.example,{g},{f},{},{}",
            g.to_lowercase(),
            f.to_lowercase(),
            i * 7919 % ROWS,
            i % 40,
            COUNTRIES[i % 6],
            SOURCES[i % 5]
        );
    }
    csv
}

/// Resident memory of this process, in megabytes.
fn resident() -> f64 {
    let pages = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    pages.split(' ').nth(1).and_then(|p| p.parse::<f64>().ok()).map_or(0.0, |p| p * 4096.0 / 1e6)
}

pub(crate) async fn import() {
    let csv = csv_file();
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::open(folder.path(), true).expect("a store");
    let raw = folder.path().join("imports/upload-bench");
    std::fs::write(&raw, &csv).expect("the file");
    let id = imports::stage(&store, raw, "bench.csv".into(), Instant::of(NOW), None).await.expect("staged");
    let mapping = store.read_now(|c| Ok(imports::run(c, id)?.mapping)).expect("a mapping");
    let d = Decision {
        texts: false,
        mapping,
        header: true,
        list: None,
        tag: None,
        consent: true,
        entity: String::new(),
        evidence: "paper form".into(),
        fixes: Fixes::default(),
    };
    imports::decide(&store, id, d, Instant::of(NOW)).await.expect("decided");
    let start = Stopwatch::now();
    imports::check(&store, id, |_| None, |_| {}).await.expect("checked");
    let _ = writeln!(std::io::stdout(), "import of {ROWS} rows: dry run {:.1} s", start.elapsed().as_secs_f64());
    // Somebody leaves every 50 ms meanwhile, and memory is looked at.
    let (over, other) = (Arc::new(AtomicBool::new(false)), store.clone());
    let stop = Arc::clone(&over);
    let leaving = tokio::spawn(async move {
        let (mut waits, mut most, mut who) = (Vec::new(), 0.0_f64, 0_i64);
        while !stop.load(Ordering::Relaxed) {
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            who += 1;
            let start = Stopwatch::now();
            let left = other
                .write(move |c| {
                    ledger::act(c, ContactId(who), Instant::of(NOW), rinse_core::consent::Act::Withdrew, &ledger::Origin::default())
                })
                .await;
            if left.is_ok() {
                waits.push(start.elapsed().as_secs_f64() * 1000.0);
            }
            most = most.max(resident());
        }
        waits.sort_by(f64::total_cmp);
        (waits, most)
    });
    let start = Stopwatch::now();
    imports::apply(&store, id, Instant::of(NOW), None, |_| true).await.expect("applied");
    let ours = start.elapsed().as_secs_f64();
    over.store(true, Ordering::Relaxed);
    let (waits, most) = leaving.await.expect("the leaving");
    drop(store);
    // Bare: the same rows parsed and inserted, with their indexes, in the same size of transactions.
    let bare_folder = tempfile::tempdir().expect("a folder");
    drop(Store::open(bare_folder.path(), true).expect("a store"));
    let c = Connection::open(bare_folder.path().join("rinse.db")).expect("the file opens");
    c.execute_batch("PRAGMA synchronous = FULL; PRAGMA cache_size = -32000; INSERT INTO domain (id, name) VALUES (1, 'post.example')")
        .expect("pragmas");
    let start = Stopwatch::now();
    let mut rows = csv::ReaderBuilder::new().delimiter(table::detect_delimiter(&csv[..4_000])).from_reader(csv.as_bytes());
    for (i, row) in (1_i64..).zip(rows.records()) {
        let row = row.expect("a row");
        if i % 2_000 == 1 {
            c.execute_batch("BEGIN").expect("begin");
        }
        c.prepare_cached("INSERT INTO contact (address, address_key, domain_id, given_name, family_name, country, source, added_at, import_id, consent, consent_at) VALUES (?1,?2,1,?3,?4,?5,?6,?7,NULL,2,?7)")
            .and_then(|mut s| s.execute(params![&row[0], row[0].to_lowercase(), &row[1], &row[2], &row[3], &row[4], NOW]))
            .expect("a contact");
        c.prepare_cached("INSERT INTO ledger (contact_id, at, kind, source, evidence) VALUES (?1, ?2, 'agreed', 'import', 'paper form')")
            .and_then(|mut s| s.execute([i, NOW]))
            .expect("an entry");
        if i % 2_000 == 0 {
            c.execute_batch("COMMIT").expect("commit");
        }
    }
    line(&format!("import of {ROWS} rows with consent, applied"), ours, start.elapsed().as_secs_f64(), "s");
    let _ = writeln!(
        std::io::stdout(),
        "an unsubscribe meanwhile: median {:.0} ms, p95 {:.0} ms, p99 {:.0} ms, longest {:.0} ms of {} (aim: 50); resident memory at most {most:.0} MB (aim: 500)",
        waits[waits.len() / 2],
        waits[waits.len() * 95 / 100],
        waits[waits.len() * 99 / 100],
        waits[waits.len() - 1],
        waits.len()
    );
}
