//! Leaving on the public listener while a crowd asks the API for its heaviest pages.

use crate::clearing::{CLICKS, leave, quantile, with_a_mailing};
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_testkit::{Process, http};
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

const READERS: usize = 200;
const A_SECOND: u64 = 100;
const PAGES: [&str; 4] = ["/api/today", "/api/contacts?sort=address&search=9", "/api/findings", "/api/workline"];

/// Two hundred connections that ask one page after another, and a hundred people a second who leave.
pub(crate) async fn unsubscribing() {
    let binary = Path::new("target/release/rinse");
    if !binary.exists() {
        eprintln!("unsubscribing beside a crowd: build target/release/rinse first");
        return;
    }
    let folder = tempfile::tempdir().expect("a folder");
    let signer = with_a_mailing(folder.path());
    let rinse = Process::demo_with(binary, folder.path(), &["--public-listen", "127.0.0.1:0"]);
    let public = rinse.public.as_deref().and_then(|a| a.parse().ok()).expect("a public address");
    let (over, answered) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let crowd: Vec<_> = (0..READERS)
        .map(|i| {
            let (address, over, answered) = (rinse.address.clone(), Arc::clone(&over), Arc::clone(&answered));
            std::thread::spawn(move || {
                for page in PAGES.iter().cycle().skip(i) {
                    if over.load(Ordering::Relaxed) {
                        return;
                    }
                    if http(&address, "GET", page, b"").is_ok_and(|a| a.0 == 200) {
                        answered.fetch_add(1, Ordering::Relaxed);
                    }
                }
            })
        })
        .collect();
    let mut due = tokio::time::interval(Duration::from_micros(1_000_000 / A_SECOND));
    let mut under_way = Vec::new();
    for send in 1..=CLICKS / 5 {
        due.tick().await;
        under_way.push(tokio::spawn(leave(public, signer.link(Kind::Unsubscribe, SendId(send), 0))));
    }
    let mut times = Vec::new();
    for one in under_way {
        times.push(one.await.expect("a task").expect("an answer"));
    }
    over.store(true, Ordering::Relaxed);
    for reader in crowd {
        reader.join().expect("a reader");
    }
    times.sort_by(f64::total_cmp);
    let of = |share| quantile(&times, share);
    let _ = writeln!(
        std::io::stdout(),
        "one-click on the public listener beside {READERS} readers of the API ({} pages answered): median {:.2} ms, p99 {:.2} ms (aim: 50), longest {:.2} ms",
        answered.load(Ordering::Relaxed),
        of(0.5),
        of(0.99),
        of(1.0)
    );
}
