//! Upkeep of a million people, a tenth of whom a message failed to.

use rinse_core::upkeep::Policy;
use rinse_core::{DAY, Instant};
use rinse_store::Store;
use rinse_store::upkeep::{applying, effects, incidents, made_of, policy, runs};
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
    let now = Instant(NOW);
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
}
