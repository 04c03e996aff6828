//! Upkeep of a million people, a tenth of whom a message failed to.

use rinse_core::upkeep::{Policy, silence};
use rinse_core::{DAY, Instant};
use rinse_post::inbound;
use rinse_store::upkeep::{applying, effects, evidence, incidents, made_of, policy, reasons, runs, silence as kept_silence};
use rinse_store::{Store, load};
use rusqlite::Connection;
use std::io::Write;
use std::path::Path;
use std::time::Instant as Stopwatch;

const NOW: i64 = 1_776_364_800_000;

fn say(what: &str, since: Stopwatch) {
    let _ = writeln!(std::io::stdout(), "{what}: {:.2} s", since.elapsed().as_secs_f64());
}

/// A million people; every tenth has twenty messages, of which some failed for good, some for now and most arrived.
fn make(folder: &Path) {
    let c = Connection::open(folder.join("rinse.db")).expect("the file opens");
    c.execute_batch(&format!(
        "PRAGMA synchronous = OFF; PRAGMA cache_size = -400000; BEGIN;
         INSERT INTO domain (id, name) SELECT value, 'post' || value || '.example' FROM json_each('[1,2,3,4,5,6,7,8,9,10]');
         INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1,'a','a','a@skerry-light.example','b','','','');
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20) INSERT INTO mailing (id, name, letterhead_id, made_at) SELECT i, 'm', 1, 0 FROM n;
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000)
            INSERT INTO contact (id, address, address_key, domain_id, added_at, consent) SELECT i, 'p' || i || '@post' || (1 + i % 10) || '.example', 'p' || i || '@post' || (1 + i % 10) || '.example', 1 + i % 10, 0, 2 FROM n;
         INSERT INTO send (mailing_id, contact_id, cause_id, state, at, give_up_at, handed_at, accepted_at, failed_at, category)
            SELECT m.id, k.id, m.id, iif(f, 5, 3), t, t, t, iif(f, NULL, t), iif(f, t, NULL), iif(f, 1 + (k.id / 10) % 5, NULL)
            FROM (SELECT m.id, {NOW} - (21 - m.id) * 7 * {DAY} AS t FROM mailing m) m JOIN (SELECT id FROM contact WHERE id % 10 = 0) k
            JOIN (SELECT 0 AS f UNION SELECT 1) ON f = ((k.id / 10 + m.id * 7) % 11 < (k.id / 10) % 4 + (m.id = 20));
         COMMIT; PRAGMA wal_checkpoint(TRUNCATE); ANALYZE;"
    ))
    .expect("the base");
}

pub(crate) async fn upkeep() {
    let folder = tempfile::tempdir().expect("a folder");
    drop(Store::open(folder.path(), false).expect("a store"));
    make(folder.path());
    let store = Store::open(folder.path(), false).expect("a store");
    let now = Instant::of(NOW);
    let start = Stopwatch::now();
    let seen = store.read_now(|c| policy::see(c, &Policy::default(), now, |_, _| Ok(()))).expect("the fold");
    say(&format!("fold of everybody ({} of 1,000,000 had a failure), or preview of a policy", seen.people), start);
    let changed = seen.changed;
    let run = store.write(move |c| runs::begin(c, Some(&Policy::default()), "bench", now, None)).await.expect("a run");
    let start = Stopwatch::now();
    let people = changed.len();
    for part in runs::in_parts(&changed) {
        store.write(move |c| runs::put_changed(c, run, &part)).await.expect("a part");
    }
    let effect = store.read_now(|c| effects::effect(c, run, now)).expect("the effect");
    store.write(move |c| runs::proposed(c, run, &effect)).await.expect("proposed");
    say(&format!("a run of {people} put together"), start);
    store.write(move |c| applying::begin_apply(c, run, now, None)).await.expect("begun");
    let (start, mut longest) = (Stopwatch::now(), 0.0f64);
    loop {
        let part = Stopwatch::now();
        let more = store.write(move |c| applying::go_on(c, run, now)).await.expect("a part");
        longest = longest.max(part.elapsed().as_secs_f64());
        if !more {
            break;
        }
    }
    say(&format!("applied in parts, the longest {:.0} ms", 1_000.0 * longest), start);
    let start = Stopwatch::now();
    store
        .read_now(|c| {
            made_of::now(c, now)?;
            made_of::days(c, now)?;
            made_of::by_cause(c)?;
            made_of::due(c)?;
            incidents::undecided(c)?;
            runs::all(c, now)?;
            policy::current(c)?;
            Ok(())
        })
        .expect("the front page");
    say("Upkeep's first page", start);
    let start = Stopwatch::now();
    let people = load::refresh(&store, now).await.expect("mail load");
    say(&format!("mail load of {people} people, which comes first"), start);
    let numbers = silence::Numbers { window_days: Some(90), ..silence::Numbers::default() };
    let set = Policy { silence: numbers, ..Policy::default() };
    store.write(move |c| Ok(c.execute("UPDATE upkeep_policy SET policy = ?1", [serde_json::to_string(&set)?])?)).await.expect("a window");
    let start = Stopwatch::now();
    kept_silence::refresh(&store, now).await.expect("silence");
    let view = store.read_now(|c| kept_silence::view(c, now)).expect("silent people");
    let silent: i64 = view.stages.iter().map(|s| s.people).sum();
    say(&format!("silent people told, {silent} of them"), start);
    let start = Stopwatch::now();
    store.read_now(|c| kept_silence::view(c, now)).expect("silent people");
    say("the page of silent people", start);
    let start = Stopwatch::now();
    let said = store.read_now(|c| reasons::said(c, now)).expect("reasons");
    say(&format!("what hosts said in {} failures", said.messages), start);
    let start = Stopwatch::now();
    store.read_now(|c| evidence::evidence(c, now)).expect("evidence");
    say("evidence of 52 weeks", start);
}

/// Messages that came in, told apart; bare: only parsed.
pub(crate) fn classify() {
    const MESSAGES: usize = 30_000;
    let report = "From: Mail Delivery <postmaster@tern.example>\r\nTo: back@skerry-light.example\r\nSubject: Undelivered mail\r\nMIME-Version: 1.0\r\n\
        Content-Type: multipart/report; report-type=delivery-status; boundary=\"part\"\r\n\r\n--part\r\nContent-Type: text/plain\r\n\r\nIt could not be delivered.\r\n\
        --part\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mx.tern.example\r\n\r\nFinal-Recipient: rfc822; wren@tern.example\r\nAction: failed\r\n\
        Status: 5.1.1\r\nDiagnostic-Code: smtp; 550 5.1.1 no such user here\r\n--part--\r\n";
    let words = format!(
        "From: MAILER-DAEMON@tern.example\r\nTo: back@skerry-light.example\r\nSubject: failure notice\r\n\r\nYour message could not be delivered:\r\n\r\n\
         <wren@tern.example>:\r\nSorry, no mailbox here by that name. (#5.1.1)\r\n\r\n--- Below this line is a copy of the message.\r\n\r\n{}\r\n",
        "the boats leave at nine ".repeat(200)
    );
    let reply = format!(
        "From: wren@tern.example\r\nTo: hello@skerry-light.example\r\nSubject: Re: boats\r\nIn-Reply-To: <x@y>\r\n\r\nThank you, we shall come. {}\r\n",
        "at nine ".repeat(300)
    );
    let all = [report, words.as_str(), reply.as_str()];
    let rate = |each: &dyn Fn(&[u8])| {
        let start = Stopwatch::now();
        for i in 0..MESSAGES {
            each(all[i % 3].as_bytes());
        }
        MESSAGES as f64 / start.elapsed().as_secs_f64() / 1_000.0
    };
    let ours = rate(&|raw| assert!(inbound::incoming(raw).is_ok()));
    let bare = rate(&|raw| assert!(mail_parser::MessageParser::default().parse(raw).is_some()));
    super::line("messages told apart", ours, bare, "thousand a second");
}
