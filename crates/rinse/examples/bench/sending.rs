//! Messages composed, signed and handed over; a mailing for a million people; events from outside while reports are read.

use crate::base::{ASKED, COMING, MAILINGS, PEOPLE, folder};
use crate::line;
use axum::body::Body;
use axum::http::Request;
use http_body_util::BodyExt;
use rinse_core::id::{MailingId, SendId};
use rinse_core::message::prepare;
use rinse_core::token::{Kind, Signer};
use rinse_core::{DAY, Instant};
use rinse_post::compose::{Composer, Sender, To};
use rinse_post::dkim::{Algorithm, KeySigner, new_key};
use rinse_server::{App, AskDns, Config, Mode, router};
use rinse_store::clearing::Clearance;
use rinse_store::sends::{self, Phase, Turn};
use rinse_store::{Store, clearing};
use rinse_testkit::{draft, letterhead, people_csv, smtp_receiver};
use rusqlite::{Connection, params};
use std::io::Write;
use std::path::Path;
use std::time::Instant as Stopwatch;
use tower::ServiceExt;

const MESSAGES: i64 = 20_000;
const TO: To<'_> = To { address: "p@tern.example", given_name: Some("Wren"), family_name: None, country: None, own: &[] };

/// A message of some 40 kB: the body with its text part, twenty links, a placeholder in every paragraph.
fn composer() -> Composer {
    let paragraph = |i: usize| {
        format!(
            "<p style=\"margin: 0 0 12px; font-family: sans-serif\">Dear {{{{ given_name|default(\"friend\") }}}}, the lamp at the outer skerry was lit again on the eve of the spring tides, and the boat goes out with the ebb while the terns are still about: {}<a href=\"https://skerry-light.example/boats/{i}\">see the boat days of week {i}</a>.</p>\n",
            "wind from the west, a slight swell, good sight as far as the second buoy; ".repeat(15)
        )
    };
    let html = format!(
        "<html><body>{}<p>{{{{ postal_address }}}} <a href=\"{{{{ unsubscribe_url }}}}\">Stop</a></p></body></html>",
        (0..20).map(paragraph).collect::<String>()
    );
    let text = html.replace("</p>", "\n").chars().take(12_000).collect::<String>() + "{{ postal_address }} {{ unsubscribe_url }}";
    let prepared = prepare(&html, &text).expect("HTML");
    let sender = Sender {
        name: "Skerry Light".into(),
        address: "l@skerry-light.example".into(),
        postal_address: "1 Harbour Steps".into(),
        ..Sender::default()
    };
    Composer::new(1, &prepared, &["Tides".into()], sender, "http://127.0.0.1", Signer::new(b"bench")).expect("a composer")
}

fn rate(n: i64, mut each: impl FnMut(i64)) -> f64 {
    let start = Stopwatch::now();
    (0..n).for_each(&mut each);
    n as f64 / start.elapsed().as_secs_f64()
}

pub(crate) fn compose() {
    let mut out = std::io::stdout();
    let plain = composer();
    let ready = plain.compose(1, 0, TO, 0).expect("a message").bytes;
    let template = String::from_utf8(ready.clone()).expect("text");
    let size = ready.len();
    let ours = rate(MESSAGES, |i| assert!(plain.compose(i, 0, TO, 0).is_ok_and(|m| m.bytes.len() > size / 2)));
    let signer = Signer::new(b"bench");
    let bare = rate(MESSAGES, |i| assert!(template.replace("Wren", &signer.link(Kind::Click, SendId(i), 0)).len() > size / 2));
    line(
        &format!("compose a message of {} kB, unsigned (bare: replacing a name in a ready text; aim: 5 thousand)", size / 1000),
        ours / 1000.0,
        bare / 1000.0,
        "thousand a second",
    );
    for (algorithm, name, n, aim) in
        [(Algorithm::Ed25519, "Ed25519", MESSAGES, "; aim: 3,000"), (Algorithm::Rsa2048, "RSA-2048", MESSAGES / 10, "")]
    {
        let (private, _) = new_key(algorithm).expect("a key");
        let key = || KeySigner::new(algorithm, &private, "skerry-light.example", "s").expect("a key");
        let signed = composer().signed_by(vec![key()]);
        let ours = rate(n, |i| assert!(signed.compose(i, 0, TO, 0).is_ok()));
        // The library alone on the same message, ready; and on next to nothing, which is the signature by itself.
        let key = key();
        let alone = rate(n, |_| assert!(key.sign(ready.clone()).is_ok()));
        let least = rate(n, |_| assert!(key.sign(b"From: l@skerry-light.example\r\n\r\n\r\n".to_vec()).is_ok()));
        let _ = writeln!(
            out,
            "compose and sign with {name}: {ours:.0} a second (its library on the ready message {alone:.0}, on an empty one {least:.0}{aim})"
        );
    }
}

/// In process, as a page would be asked for.
async fn ask(routes: &axum::Router, method: &str, path: &str, body: String) -> serde_json::Value {
    let request = Request::builder()
        .method(method)
        .uri(path)
        .header("host", "localhost")
        .header("x-acting-person", "1")
        .header("content-type", "application/json")
        .body(Body::from(body))
        .expect("a request");
    let answer = routes.clone().oneshot(request).await.expect("an answer");
    let status = answer.status();
    let bytes = answer.into_body().collect().await.expect("a body").to_bytes();
    assert!(status.is_success(), "{path}: {status} {}", String::from_utf8_lossy(&bytes));
    serde_json::from_slice(&bytes).unwrap_or_default()
}

async fn open(folder: &Path, smtp_port: u16) -> (App, axum::Router) {
    let mode = Mode::Real { smtp_host: "127.0.0.1".into(), smtp_port, tls: false, connections: 4, texts: None, dns: AskDns::Nobody };
    let config =
        Config { data: folder.to_owned(), base_url: "http://127.0.0.1".into(), mode, durable: true, memory: rinse_server::USUAL_BUDGET };
    let app = App::open(&config).await.expect("an application");
    (app.clone(), router(app))
}

/// Each waits some 40 ms on loopback, until the receiver's machine acknowledges the body: the client sends its end apart.
const HANDED: usize = 1_000;

/// Over SMTP on loopback, each message on record before and after; bare: the same client and receiver in a loop.
pub(crate) async fn hand_over() {
    use lettre::{AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
    let (port, received) = smtp_receiver();
    let base = tempfile::tempdir().expect("a folder");
    let (app, routes) = open(base.path(), port).await;
    let run = ask(&routes, "POST", "/api/imports?name=p.csv", people_csv(HANDED)).await;
    let decision =
        serde_json::json!({ "mapping": run["mapping"], "header": true, "list": null, "consent": true, "evidence": "paper form" });
    ask(&routes, "POST", "/api/imports/1/check", decision.to_string()).await;
    ask(&routes, "POST", "/api/imports/1/apply", String::new()).await;
    while ask(&routes, "GET", "/api/imports/1", String::new()).await["run"]["state"] != "applied" {
        tokio::task::yield_now().await;
    }
    ask(&routes, "POST", "/api/letterheads", letterhead().to_string()).await;
    ask(&routes, "POST", "/api/mailings", draft(1, &["Boats"]).to_string()).await;
    app.start();
    ask(&routes, "POST", "/api/mailings/1/plan", "{\"at\":null}".into()).await;
    // From the first message on, so that clearing and recording aren't in it.
    let count = || received.lock().expect("messages").len();
    while count() == 0 {
        tokio::time::sleep(std::time::Duration::from_millis(1)).await;
    }
    let (start, first, whole) = (Stopwatch::now(), count(), HANDED - HANDED / 20);
    while count() < whole {
        tokio::time::sleep(std::time::Duration::from_millis(1)).await;
    }
    let ours = (whole - first) as f64 / start.elapsed().as_secs_f64();
    let message = received.lock().expect("messages")[0].2.clone();
    let transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous("127.0.0.1").port(port).build();
    let envelope =
        lettre::address::Envelope::new("a@skerry-light.example".parse().ok(), vec!["p@tern.example".parse().expect("an address")])
            .expect("an envelope");
    let start = Stopwatch::now();
    for _ in 0..HANDED {
        transport.send_raw(&envelope, message.as_bytes()).await.expect("accepted");
    }
    line("hand over by SMTP on loopback (aim: ratio 0.5)", ours, HANDED as f64 / start.elapsed().as_secs_f64(), "a second");
}

/// A mailing for a million people, everybody at their own ten o'clock within an hour: planned as a person does it, with the check of the
/// message and the clearance; then put on record as the engine does it when it begins, while somebody leaves every 50 ms.
pub(crate) async fn schedule() {
    let store = Store::open(&folder(), false).expect("the base");
    // The one of those to come that is for everybody.
    let mailing = MAILINGS + COMING - 4;
    let at = Instant::of(ASKED);
    let ten =
        serde_json::json!({ "local": { "day": ASKED / DAY + 1, "minute": 600, "passed": "tomorrow" }, "spread_minutes": 60 }).to_string();
    store
        .write(move |c| Ok(c.execute("UPDATE mailing SET schedule = ?2, list_id = NULL WHERE id = ?1", params![mailing, ten])?))
        .await
        .expect("a schedule");
    for run in ["from a fresh start", "warm"] {
        let start = Stopwatch::now();
        let done = store.read(move |c| clearing::audience(c, MailingId(mailing), at)).await.expect("a clearance");
        let cleared = start.elapsed().as_secs_f64();
        let turns = store
            .read(move |c| {
                let turns = sends::turns(
                    c,
                    MailingId(mailing),
                    at,
                    sends::Hour::AsScheduled,
                    &done,
                    done.decided.iter().map(|d| (*d, Phase::Whole, 0)),
                )?;
                Ok((std::sync::Arc::new(done), std::sync::Arc::new(turns)))
            })
            .await
            .expect("turns");
        let _ = writeln!(
            std::io::stdout(),
            "a mailing scheduled for {} people, {run}: cleared {cleared:.2} s, everybody's turn {:.2} s (aim: 3)",
            turns.1.len(),
            start.elapsed().as_secs_f64() - cleared
        );
        if run == "warm" {
            put_on_record(&store, mailing, at, &turns.0, &turns.1).await;
        }
    }
    drop(store);
    // As a person does it: the message checked for everybody who would get it, and the plan on the disk when it is answered.
    let (_app, routes) = open(&folder(), 1).await;
    let head = ask(&routes, "POST", "/api/letterheads", letterhead().to_string()).await.as_i64().expect("a letterhead");
    let id = ask(&routes, "POST", "/api/mailings", draft(head, &["Boats"]).to_string()).await["id"].as_i64().expect("a draft");
    let tomorrow = ask(&routes, "GET", "/api/clock", String::new()).await["now"].as_i64().expect("an instant") + DAY;
    for run in ["in a fresh process", "again"] {
        let start = Stopwatch::now();
        ask(&routes, "POST", &format!("/api/mailings/{id}/plan"), format!("{{\"at\":{tomorrow}}}")).await;
        let _ = writeln!(
            std::io::stdout(),
            "a mailing for {PEOPLE} people planned by the API, {run}: {:.2} s (aim: 3)",
            start.elapsed().as_secs_f64()
        );
        ask(&routes, "POST", &format!("/api/mailings/{id}/cancel"), String::new()).await;
    }
}

/// In parts as the engine does it; taken off again, so that the other figures find the base as it was.
async fn put_on_record(store: &Store, mailing: i64, at: Instant, done: &std::sync::Arc<Clearance>, turns: &std::sync::Arc<Vec<Turn>>) {
    let (over, other) = (std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false)), store.clone());
    let stop = over.clone();
    let leaving = tokio::spawn(async move {
        let (mut waits, mut who) = (Vec::new(), 0_i64);
        while !stop.load(std::sync::atomic::Ordering::Relaxed) {
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            who += 1;
            let start = Stopwatch::now();
            let note = move |c: &Connection| Ok(c.execute("UPDATE contact SET country = country WHERE id = ?1", [who])?);
            other.write(note).await.expect("a change");
            waits.push(start.elapsed().as_secs_f64() * 1000.0);
        }
        waits.sort_by(f64::total_cmp);
        waits
    });
    let (start, mut n) = (Stopwatch::now(), 0);
    for from in (0..turns.len()).step_by(1_000) {
        let (done, turns) = (done.clone(), turns.clone());
        n += store
            .write(move |c| sends::record_some(c, MailingId(mailing), &done, at, &turns[from..turns.len().min(from + 1_000)]))
            .await
            .expect("recorded");
    }
    let whole = start.elapsed().as_secs_f64();
    over.store(true, std::sync::atomic::Ordering::Relaxed);
    let waits = leaving.await.expect("the leaving");
    let _ = writeln!(
        std::io::stdout(),
        "  as it begins {n} are put on record in parts: {whole:.1} s; another change meanwhile: median {:.0} ms, p95 {:.0} ms, longest {:.0} ms of {}",
        waits[waits.len() / 2],
        waits[waits.len() * 95 / 100],
        waits[waits.len() - 1],
        waits.len()
    );
    let (mut from, last) = (0, turns.len() as i64 + 1);
    while from < last {
        store
            .write(move |c| {
                c.execute("DELETE FROM send WHERE mailing_id = ?1 AND contact_id BETWEEN ?2 AND ?2 + 9999", [mailing, from])?;
                Ok(c.execute("DELETE FROM decision WHERE mailing_id = ?1 AND contact_id BETWEEN ?2 AND ?2 + 9999", [mailing, from])?)
            })
            .await
            .expect("taken off");
        from += 10_000;
    }
}

const THERE: i64 = 5_000_000;
const COMING_IN: i64 = 400_000;
const WHO: i64 = 200_000;

/// Keys as another system makes them: they come in no order.
fn key(i: i64) -> String {
    let mut z = i.cast_unsigned().wrapping_mul(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    format!("{:016x}-{:08x}", z ^ (z >> 27), i)
}

/// Events as NDJSON through the API, each batch on the disk before it is answered, while pages are asked for.
pub(crate) async fn events_in() {
    let base = tempfile::tempdir().expect("a folder");
    drop(Store::open(base.path(), true).expect("a store"));
    crate::fill(base.path(), WHO, WHO);
    let c = Connection::open(base.path().join("rinse.db")).expect("the file opens");
    c.execute_batch("PRAGMA synchronous = OFF; PRAGMA cache_size = -2000000; BEGIN").expect("begin");
    {
        let mut s = c
            .prepare("INSERT INTO event (key, contact_id, at, name, name_key) VALUES (?1, ?2, ?3, 'Came to a talk', 'came to a talk')")
            .expect("a row");
        for i in 0..THERE {
            s.execute(params![key(i), i % WHO + 1, i]).expect("a row");
        }
    }
    c.execute_batch("UPDATE mailing SET state = 'sent', started_at = 0; COMMIT; PRAGMA wal_checkpoint(TRUNCATE)").expect("commit");
    let (app, routes) = open(base.path(), 1).await;
    let batches: Vec<String> = (0..COMING_IN / 1_000)
        .map(|b| {
            (0..1_000)
                .map(|i| {
                    let n = THERE + b * 1_000 + i;
                    format!("{{\"key\":\"{}\",\"address\":\"p{:08}@tern.example\",\"at\":\"2026-04-16T08:00:00Z\",\"name\":\"Came to a talk\"}}\n", key(n), n % WHO + 1)
                })
                .collect()
        })
        .collect();
    let over = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let (stop, asked) = (over.clone(), routes.clone());
    let reports = tokio::spawn(async move {
        let pages = ["/api/findings", "/api/workline", "/api/mailings/1/goals"];
        let mut waits: Vec<Vec<f64>> = vec![Vec::new(); pages.len()];
        while !stop.load(std::sync::atomic::Ordering::Relaxed) {
            for (page, waits) in pages.iter().zip(&mut waits) {
                let start = Stopwatch::now();
                ask(&asked, "GET", page, String::new()).await;
                waits.push(start.elapsed().as_secs_f64() * 1000.0);
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        waits.iter_mut().for_each(|w| w.sort_by(f64::total_cmp));
        pages.into_iter().zip(waits).collect::<Vec<_>>()
    });
    let start = Stopwatch::now();
    for batch in batches {
        ask(&routes, "POST", "/api/events", batch).await;
    }
    let ours = COMING_IN as f64 / start.elapsed().as_secs_f64() / 1000.0;
    over.store(true, std::sync::atomic::Ordering::Relaxed);
    let waits = reports.await.expect("reports");
    drop((app, routes));
    // Bare: the rows alone, in the same transactions.
    c.execute_batch("PRAGMA synchronous = FULL; PRAGMA cache_size = -32000").expect("pragmas");
    let start = Stopwatch::now();
    for b in 0..COMING_IN / 500 {
        c.execute_batch("BEGIN").expect("begin");
        let mut s = c
            .prepare_cached(
                "INSERT INTO event (key, contact_id, at, name, name_key) VALUES (?1, ?2, 0, 'Came to a talk', 'came to a talk')",
            )
            .expect("a row");
        for i in 0..500 {
            let n = 2 * THERE + b * 500 + i;
            s.execute(params![key(n), n % WHO + 1]).expect("a row");
        }
        drop(s);
        c.execute_batch("COMMIT").expect("commit");
    }
    let bare = COMING_IN as f64 / start.elapsed().as_secs_f64() / 1000.0;
    line(&format!("events in by NDJSON, {THERE} there, random keys (aim: 20)"), ours, bare, "thousand a second");
    for (page, waits) in waits {
        let _ = writeln!(
            std::io::stdout(),
            "{page} meanwhile, {WHO} messages: median {:.0} ms, p95 {:.0} ms, longest {:.0} ms of {} (aim: p95 100)",
            waits[waits.len() / 2],
            waits[waits.len() * 95 / 100],
            waits[waits.len() - 1],
            waits.len()
        );
    }
}
