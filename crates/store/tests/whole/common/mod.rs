//! What the tests of clearance share: a store with consenting people, mailings started and handed over.
#![allow(dead_code)]

use rinse_core::address::Address;
use rinse_core::bounce::Reply;
use rinse_core::clearance::OverCap;
use rinse_core::consent::Act;
use rinse_core::figure::Figure;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SendId};
use rinse_core::upkeep::MailStatus;
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::contacts::{self, Profile};
use rinse_store::ledger::{self, Origin};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::sends::{self, Phase};
use rinse_store::series::{entering, walk};
use rinse_store::upkeep::status;
use rinse_store::{Connection, Store, clearing, figures, letterheads, responses, topics};
use tempfile::TempDir;

pub(crate) const START: Instant = Instant::of(1_700_000_000_000);

/// A store with `people` consenting contacts and one letterhead.
pub(crate) async fn base(people: usize) -> (TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), false).unwrap();
    store
        .write(move |c| {
            for i in 0..people {
                let a = Address::parse(&format!("p{i}@tern.example")).unwrap();
                let id = contacts::add(c, &a, &Profile::default(), START)?;
                ledger::act(c, id, START, Act::Agreed, &Origin { source: "test", ..Origin::default() })?;
            }
            letterheads::save(
                c,
                &letterheads::Letterhead {
                    name: "Skerry Light".into(),
                    from_name: "Skerry Light".into(),
                    from_address: "l@skerry-light.example".into(),
                    postal_address: "1 Quay".into(),
                    ..letterheads::Letterhead::default()
                },
                START,
            )?;
            topics::named(c, "Tide notes")?;
            topics::named(c, "Boat days")
        })
        .await
        .unwrap();
    (folder, store)
}

/// A hit of which no more than this is known.
pub(crate) fn hit(c: &Connection, send: i64, link: Option<u32>, at: Instant, agent: &str, head: bool) -> rinse_store::Result<bool> {
    responses::hit(c, SendId(send), &responses::Came { link, at, agent: agent.into(), from: None, head })
}

pub(crate) fn mailing(c: &Connection, topic: Option<i64>, over_cap: OverCap) -> i64 {
    let draft = MailingDraft { topic_id: topic, over_cap, subjects: vec!["s".into()], ..MailingDraft::under(LetterheadId(1), "m") };
    (mailings::save(c, None, &draft, START, None).unwrap()).0
}

/// Clears and records everyone, as the engine does when a mailing's instant comes.
pub(crate) fn start(c: &Connection, mailing: i64, at: Instant) {
    let done = clearing::audience(c, MailingId(mailing), at).unwrap();
    sends::record(c, MailingId(mailing), &done, at, done.decided.iter().map(|d| (*d, Phase::Whole, 0))).unwrap();
}

/// Hands over all that is due at `now`, answering every message with `reply`.
pub(crate) fn hand_over(c: &Connection, now: Instant, reply: &str) -> usize {
    let mut n = 0;
    loop {
        let (batch, looked_at) = sends::claim(c, now, 50).unwrap();
        if looked_at == 0 {
            return n;
        }
        n += batch.len();
        for out in batch {
            sends::answered(c, out.send, &Reply::parse(reply), now).unwrap();
        }
    }
}

/// A mailing on a day, to which hosts answer by the person's number.
pub(crate) fn mail<S: AsRef<str>>(c: &Connection, day: i64, reply: impl Fn(i64) -> S) {
    let (m, at) = (mailing(c, None, OverCap::Hold), START + day * DAY);
    start(c, m, at);
    loop {
        let (batch, looked_at) = sends::claim(c, at, 500).unwrap();
        if looked_at == 0 {
            return;
        }
        for out in batch {
            let who = c.query_row("SELECT contact_id FROM send WHERE id = ?1", [out.send.0], |r| r.get(0)).unwrap();
            sends::answered(c, out.send, &Reply::parse(reply(who).as_ref()), at + 1).unwrap();
        }
    }
}

pub(crate) fn rows<T: rusqlite::types::FromSql>(c: &Connection, sql: &str) -> Vec<T> {
    c.prepare(sql).unwrap().query_map([], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
}

/// The stored status of everybody is what their history gives.
pub(crate) fn stored_is_folded(c: &Connection, now: Instant) {
    for (id, stored) in statuses(c).into_iter().enumerate() {
        let id = i64::try_from(id).unwrap() + 1;
        let folded = status::now(c, ContactId(id), now).unwrap();
        assert_eq!(stored, folded.status as i64, "{id}: {folded:?}");
    }
}

pub(crate) fn statuses(c: &Connection) -> Vec<i64> {
    rows(c, "SELECT status FROM contact ORDER BY id")
}

pub(crate) fn how_many(c: &Connection, status: MailStatus) -> usize {
    statuses(c).into_iter().filter(|s| *s == status as i64).count()
}

pub(crate) fn run<T: Send + 'static>(people: usize, f: impl FnOnce(&Connection) -> T + Send + 'static) -> T {
    let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
    rt.block_on(async {
        let (_folder, store) = base(people).await;
        store.write(|c| Ok(f(c))).await.unwrap()
    })
}

/// So many random histories of what is kept as things happen; as many as `HISTORIES` says, for `make proof`.
pub(crate) fn histories(n: u32) -> proptest::prelude::ProptestConfig {
    let asked = std::env::var("HISTORIES").ok().and_then(|n| n.parse().ok());
    proptest::prelude::ProptestConfig::with_cases(asked.unwrap_or(n))
}

/// The sums that triggers keep are what counting their rows says.
pub(crate) fn sums_hold(c: &Connection) {
    let standing = "SELECT country, consent, status, people FROM people_standing WHERE people <> 0";
    let counted = "SELECT coalesce(country, ''), consent, status, count(*) FROM contact WHERE gone IS NULL GROUP BY 1, 2, 3";
    for (a, b) in [(standing, counted), (counted, standing)] {
        assert_eq!(rows::<i64>(c, &format!("SELECT count(*) FROM ({a} EXCEPT {b})")), [0], "people by country, consent and status");
    }
    let columns: Vec<&str> = Figure::ALL.iter().map(|f| f.key()).collect();
    for (table, counted) in figures::counted_again() {
        let some = if table == "answer_cell" { "messages > 0" } else { "sent > 0" };
        let kept = format!("SELECT * FROM {table} WHERE {some}");
        for (a, b) in [(&kept, &counted), (&counted, &kept)] {
            assert_eq!(rows::<i64>(c, &format!("SELECT count(*) FROM ({a} EXCEPT {b})")), [0], "{a} is {b}");
        }
        // Nothing is left where a send was.
        if table != "answer_cell" {
            let rest: Vec<String> = columns.iter().map(|c| format!("{c} <> 0")).collect();
            assert_eq!(rows::<i64>(c, &format!("SELECT count(*) FROM {table} WHERE sent = 0 AND ({})", rest.join(" OR "))), [0]);
        }
    }
}

/// Everything that is due until `now`, at the instants at which it is due, as the engine does.
pub(crate) fn go_series(c: &Connection, from: Instant, to: Instant, reply: &str) {
    let mut t = from;
    loop {
        for id in entering::to_look(c, t, HOUR).unwrap() {
            for part in entering::look(c, id, t).unwrap().parts() {
                part.write(c, t).unwrap();
            }
            entering::looked(c, id, t).unwrap();
        }
        loop {
            while walk::step(c, t).unwrap() > 0 {}
            if hand_over(c, t, reply) == 0 && walk::step(c, t).unwrap() == 0 {
                break;
            }
        }
        let sends: Vec<i64> = rows(
            c,
            "SELECT at FROM send WHERE state IN (0, 1, 4) AND mailing_id NOT IN (SELECT id FROM mailing WHERE paused_at IS NOT NULL)",
        );
        let next = walk::next_due(c).unwrap().into_iter().chain(sends.into_iter().map(Instant::of)).filter(|n| *n > t).min();
        match next.unwrap_or(to).min(t + HOUR) {
            _ if t >= to => return,
            n => t = n.min(to),
        }
    }
}
