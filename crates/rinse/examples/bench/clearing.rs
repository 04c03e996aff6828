//! Clearance and forecast at a million people with twenty million past messages; one-click unsubscribes under load.

use crate::base::{ASKED, COMING, MAILINGS, folder};
use rinse_core::id::{MailingId, SendId};
use rinse_core::token::{Kind, Signer};
use rinse_core::{HOUR, Instant};
use rinse_server::listen::{self, Limits, Listening};
use rinse_server::{App, AskDns, Config, Mode};
use rinse_store::clearing::{self, forecast};
use rinse_store::{Store, settings};
use rusqlite::{Connection, params};
use std::io::Write as _;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Instant as Stopwatch;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// In a process of its own, so that nothing is warm but the system's cache of the file.
pub(crate) fn clearance() {
    let mut out = std::io::stdout();
    let folder = folder();
    let start = Stopwatch::now();
    let store = Store::open(&folder, false).expect("the base");
    let clear = |mailing: i64| {
        let start = Stopwatch::now();
        let sluice =
            store.read_now(|c| Ok(clearing::audience(c, MailingId(mailing), Instant::of(ASKED + HOUR))?.sluice())).expect("a clearance");
        (start.elapsed().as_secs_f64() * 1000.0, sluice)
    };
    let (_, sluice) = clear(MAILINGS + 1);
    let first = start.elapsed().as_secs_f64() * 1000.0;
    let _ = writeln!(
        out,
        "clearance of {} people, {} reasons at work, {} cleared, first in the process, opening the file included: {first:.0} ms (aim: 1000)",
        sluice.selected,
        sluice.steps.len(),
        sluice.cleared
    );
    let mut warm: Vec<f64> = (0..9).map(|_| clear(MAILINGS + 1).0).collect();
    warm.sort_by(f64::total_cmp);
    let _ = writeln!(out, "the same again: median {:.0} ms, longest {:.0} ms (aim: 200)", warm[4], warm[8]);
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    let start = Stopwatch::now();
    let mut s = c.prepare("SELECT id, consent, status, zone FROM contact").expect("a query");
    let mut rows = s.query([]).expect("rows");
    let mut n = 0_i64;
    while let Some(r) = rows.next().expect("a row") {
        n += r.get::<_, i64>(1).unwrap_or(0) + r.get::<_, i64>(2).unwrap_or(0);
    }
    let _ = writeln!(out, "bare: reading four columns of those people {:.0} ms ({n})", start.elapsed().as_secs_f64() * 1000.0);
    let mut times: Vec<f64> = (0..3)
        .map(|_| {
            let start = Stopwatch::now();
            let f = store.read_now(|c| forecast::forecast(c, Instant::of(ASKED), None, None)).expect("a forecast");
            assert_eq!(f.mailings.len() as i64, COMING);
            start.elapsed().as_secs_f64()
        })
        .collect();
    let first = times[0];
    times.sort_by(f64::total_cmp);
    let _ = writeln!(out, "forecast of 28 days with {COMING} mailings: first {first:.2} s, median {:.2} s (aim: 3)", times[1]);
    let start = Stopwatch::now();
    let sluice = store
        .read_now(|c| {
            Ok(clearing::preview(c, MailingId(MAILINGS + COMING), Instant::of(ASKED + 400 * HOUR), Instant::of(ASKED), None)?.sluice())
        })
        .expect("a preview");
    let _ = writeln!(out, "preview after those before it: {:.2} s, {} cleared", start.elapsed().as_secs_f64(), sluice.cleared);
}

pub(crate) const CLICKS: i64 = 10_000;
const A_SECOND: u64 = 500;

/// People who all got one mailing; who signs its links.
pub(crate) fn with_a_mailing(folder: &Path) -> Signer {
    drop(Store::open(folder, true).expect("a store"));
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch(
        "BEGIN; INSERT INTO domain (id, name) VALUES (1, 'tern.example');
         INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '#fff', '#000', '#00f');
         INSERT INTO mailing (id, name, letterhead_id, made_at, state) VALUES (1, 'm', 1, 0, 'sent');",
    )
    .expect("rows");
    for i in 1..=CLICKS {
        c.execute(
            "INSERT INTO contact (id, address, address_key, domain_id, added_at, consent) VALUES (?1, ?2, ?2, 1, 0, 2)",
            params![i, format!("p{i}@tern.example")],
        )
        .expect("a contact");
        c.execute("INSERT INTO send (id, mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at) VALUES (?1, 1, ?1, 1, 3, 0, 0, 0, 0)", [i])
            .expect("a send");
    }
    c.execute_batch("COMMIT").expect("commit");
    Signer::new(&settings::signing_key(&c, &[7; 32], Instant::of(0)).expect("a key"))
}

/// One person leaves with one click; the milliseconds until they are told so.
pub(crate) async fn leave(address: SocketAddr, token: String) -> std::io::Result<f64> {
    let start = Stopwatch::now();
    let body = "List-Unsubscribe=One-Click";
    let request = format!(
        "POST /u/{token} HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
        body.len()
    );
    let mut stream = tokio::net::TcpStream::connect(address).await?;
    stream.write_all(request.as_bytes()).await?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).await?;
    assert!(answer.starts_with(b"HTTP/1.1 200"), "an unsubscribe");
    Ok(start.elapsed().as_secs_f64() * 1000.0)
}

/// Of times in order, the one that so many take no longer than.
pub(crate) fn quantile(times: &[f64], share: f64) -> f64 {
    times[((times.len() as f64 * share) as usize).min(times.len() - 1)]
}

/// Five hundred one-click POSTs a second on loopback, each a person's own, answered once it is on the disk.
pub(crate) async fn one_click() {
    let folder = tempfile::tempdir().expect("a folder");
    let config = Config {
        data: folder.path().to_owned(),
        base_url: "http://127.0.0.1".into(),
        mode: Mode::Real { smtp_host: "127.0.0.1".into(), smtp_port: 1, tls: false, connections: 4, texts: None, dns: AskDns::Nobody },
        durable: true,
        memory: rinse_server::USUAL_BUDGET,
    };
    let signer = with_a_mailing(folder.path());
    let app = App::open(&config).await.expect("an application");
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address");
    let how = Listening { limits: Limits::default(), proxy: None, closing: app.closing() };
    let serving = tokio::spawn(listen::serve(listener, rinse_server::public_router(app), how));
    let mut due = tokio::time::interval(std::time::Duration::from_micros(1_000_000 / A_SECOND));
    due.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Burst);
    let mut under_way = Vec::new();
    let began = Stopwatch::now();
    for send in 1..=CLICKS {
        due.tick().await;
        let token = signer.link(Kind::Unsubscribe, SendId(send), 0);
        under_way.push(tokio::spawn(leave(address, token)));
    }
    let mut times = Vec::new();
    for one in under_way {
        times.push(one.await.expect("a task").expect("an answer"));
    }
    let seconds = began.elapsed().as_secs_f64();
    serving.abort();
    times.sort_by(f64::total_cmp);
    let of = |share| quantile(&times, share);
    let c = Connection::open(folder.path().join("rinse.db")).expect("the file opens");
    let left: i64 = c.query_row("SELECT count(*) FROM contact WHERE consent = 5", [], |r| r.get(0)).expect("a count");
    assert_eq!(left, CLICKS);
    // Bare: the same two rows a transaction, flushed to the same disk, one after the other.
    let bare = Connection::open(folder.path().join("bare.db")).expect("a file");
    bare.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; CREATE TABLE a (id INTEGER PRIMARY KEY, text TEXT); CREATE TABLE b (id INTEGER PRIMARY KEY, n INTEGER)")
        .expect("tables");
    let mut alone: Vec<f64> = (0..500)
        .map(|i| {
            let start = Stopwatch::now();
            bare.execute_batch(&format!("BEGIN; INSERT INTO a VALUES ({i}, 'withdrew'); INSERT INTO b VALUES ({i}, 5); COMMIT"))
                .expect("rows");
            start.elapsed().as_secs_f64() * 1000.0
        })
        .collect();
    alone.sort_by(f64::total_cmp);
    let _ = writeln!(
        std::io::stdout(),
        "one-click to durable withdrawal, {CLICKS} at {:.0} a second: median {:.2} ms, p99 {:.2} ms (aim: 10), longest {:.2} ms; bare commit of two rows: median {:.2} ms, p99 {:.2} ms",
        CLICKS as f64 / seconds,
        of(0.5),
        of(0.99),
        of(1.0),
        alone[250],
        alone[495]
    );
}
