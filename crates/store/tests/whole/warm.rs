//! The columns that are kept between clearances and the orders of the contact list: whatever happened since, they
//! say what the rows say, in a read and inside a write; and the ledger's seals hold through all of it.

use crate::common::{START, base, hand_over, mailing, rows, start, sums_hold};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::caps::{Cap, Scope, Window};
use rinse_core::clearance::{Outcome, OverCap, RuleSet};
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, LetterheadId, MailingId};
use rinse_core::{DAY, HOUR, Instant};
use rinse_store::contacts::{self, Profile, Query, Sort};
use rinse_store::ledger::{self, Origin};
use rinse_store::{Connection, Store, StoreError, clearing, erasure, letterheads, merges, rules, runs, undo};

#[derive(Debug, Clone)]
enum Step {
    Act(i64, Act),
    /// Changes that fail in the end, so that nothing of them stays.
    Fails(i64),
    Add,
    Erase(i64),
    Merge(i64, i64),
    Part,
    Sunset(i64, bool),
    Zone(i64),
    Name(i64, &'static str),
    Send(&'static str),
    Entity(i64),
    Forget,
}

fn origin() -> Origin {
    Origin { source: "test", ..Origin::default() }
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let who = 1i64..7;
    let act = prop_oneof![
        Just(Act::Agreed),
        Just(Act::Confirmed),
        Just(Act::Withdrew),
        Just(Act::Complained),
        Just(Act::Paused { until: START + 30 * DAY })
    ];
    let one = prop_oneof![
        4 => (who.clone(), act).prop_map(|(w, a)| Step::Act(w, a)),
        1 => who.clone().prop_map(Step::Fails),
        2 => Just(Step::Add),
        1 => who.clone().prop_map(Step::Erase),
        1 => (who.clone(), who.clone()).prop_map(|(a, b)| Step::Merge(a, b)),
        1 => Just(Step::Part),
        1 => (who.clone(), any::<bool>()).prop_map(|(w, s)| Step::Sunset(w, s)),
        1 => who.clone().prop_map(Step::Zone),
        3 => (who.clone(), prop::sample::select(vec!["", "wren", "Wren", "Ålesund", "zz"])).prop_map(|(w, n)| Step::Name(w, n)),
        3 => prop::sample::select(vec!["250 2.0.0 ok", "550 5.1.1 no such user", "450 4.2.0 later"]).prop_map(Step::Send),
        1 => who.prop_map(Step::Entity),
        1 => Just(Step::Forget),
    ];
    prop::collection::vec(one, 1..14)
}

fn present(c: &Connection, id: i64) -> bool {
    rows::<bool>(c, &format!("SELECT gone IS NULL FROM contact WHERE id = {id}")).first() == Some(&true)
}

/// Everybody who is here is decided, each as their own rows say.
fn agrees(c: &Connection, mailings: &[i64], at: Instant) {
    for m in mailings {
        let all = clearing::audience(c, MailingId(*m), at).unwrap();
        assert_eq!(
            all.decided.iter().map(|d| d.contact.0).collect::<Vec<_>>(),
            rows::<i64>(c, "SELECT id FROM contact WHERE gone IS NULL ORDER BY id")
        );
        for d in &all.decided {
            let said = clearing::person::explain(c, MailingId(*m), d.contact, at, at).unwrap();
            let (word, until, first) = match d.outcome {
                Outcome::Cleared => ("cleared", None, None),
                Outcome::Held(u, r) => ("held", Some(u.millis()), r.first()),
                Outcome::Barred(r) => ("barred", None, r.first()),
            };
            assert_eq!((said.outcome.as_str(), said.until, said.first), (word, until, first), "mailing {m}, person {}", d.contact);
        }
    }
}

/// The list in each of its orders, as the database sorts it.
fn in_order(c: &Connection) {
    for (sort, by) in Sort::ALL.into_iter().zip(["address_key", "family_name COLLATE NOCASE", "added_at"]) {
        let q = Query {
            search: String::new(),
            list: None,
            tag: None,
            segment: None,
            status: None,
            load: None,
            sort,
            descending: false,
            page: 0,
            size: 200,
        };
        let shown: Vec<i64> = contacts::page(c, &q, START).unwrap().rows.iter().map(|r| r.id.0).collect();
        assert_eq!(shown, rows::<i64>(c, &format!("SELECT id FROM contact WHERE gone IS NULL ORDER BY {by}, id")), "by {by}");
    }
}

fn carry_out(c: &Connection, step: &Step, at: Instant) -> Result<(), StoreError> {
    match step {
        Step::Act(who, act) if present(c, *who) => drop(ledger::act(c, ContactId(*who), at, *act, &origin())?),
        Step::Entity(who) if present(c, *who) => {
            ledger::act(c, ContactId(*who), at, Act::Agreed, &Origin { entity: "Lantern Shop Ltd".into(), ..origin() })?;
        }
        Step::Fails(who) => {
            c.execute("UPDATE contact SET consent = 5, status = 3 WHERE id = ?1", [who])?;
            c.execute("UPDATE send SET at = at + 1000 WHERE contact_id = ?1", [who])?;
            let (mailings, now) = (rows::<i64>(c, "SELECT id FROM mailing WHERE state = 'draft'"), at);
            agrees(c, &mailings[..1], now);
            return Err(StoreError::Missing("contact"));
        }
        Step::Add => {
            let n = rows::<i64>(c, "SELECT count(*) FROM contact")[0];
            let id = contacts::add(c, &Address::parse(&format!("new{n}@tern.example")).unwrap(), &Profile::default(), at)?;
            ledger::act(c, id, at, Act::Agreed, &origin())?;
        }
        Step::Erase(who) if present(c, *who) => erasure::erase(c, ContactId(*who), at, None)?,
        Step::Merge(a, b) if a != b && present(c, *a) && present(c, *b) => {
            let run = runs::begin(c, at, None, "merge", "two people", None)?;
            merges::merge(c, run, ContactId(*a), ContactId(*b), at, None)?;
            runs::finish(c, run, 1)?;
        }
        Step::Part => {
            if let Some(run) = rows::<i64>(c, "SELECT id FROM change_run WHERE state = 'done' ORDER BY id DESC LIMIT 1").first() {
                undo::begin(c, *run, at)?;
                while !undo::some(c, *run, at, None)?.1 {}
            }
        }
        Step::Sunset(who, set) if present(c, *who) => {
            c.execute("UPDATE contact SET sunset_at = ?2 WHERE id = ?1", rusqlite::params![who, set.then_some(at.millis())])?;
        }
        Step::Zone(who) if present(c, *who) => {
            c.execute("UPDATE contact SET zone = 'Pacific/Auckland', country = 'NZ' WHERE id = ?1", [who])?;
        }
        Step::Name(who, name) if present(c, *who) => {
            let named =
                Profile { family_name: Some((*name).to_owned()).filter(|n| !n.is_empty()), ..contacts::profile(c, ContactId(*who))? };
            contacts::replace_profile(c, ContactId(*who), &named)?;
        }
        Step::Send(reply) => {
            let m = mailing(c, None, OverCap::Hold);
            start(c, m, at);
            c.execute("UPDATE mailing SET state = 'sending', started_at = ?2 WHERE id = ?1", [m, at.millis()])?;
            hand_over(c, at, reply);
        }
        Step::Forget => {
            // More changes than are worth noting.
            for _ in 0..3 {
                c.execute("UPDATE contact SET country = country", [])?;
            }
        }
        _ => {}
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn kept_columns_say_what_the_rows_say(steps in steps(), warm_first in any::<bool>()) {
        let rt = tokio::runtime::Builder::new_current_thread().build().unwrap();
        rt.block_on(async {
            let (_folder, store): (_, Store) = base(4).await;
            let mailings = store.write(|c| {
                let shop = letterheads::Letterhead { id: LetterheadId(0), entity: "Lantern Shop Ltd".into(), ..letterheads::one(c, LetterheadId(1))? };
                let shop = letterheads::save(c, &shop, START)?;
                let cap = |limit, window| Cap { limit, window, scope: Scope::Marketing, in_force: true };
                rules::save(c, START, None, &RuleSet { caps: vec![cap(1, Window::CalendarDay), cap(2, Window::Days { n: 5 })], ..RuleSet::default() }, "")?;
                let (a, b) = (mailing(c, Some(1), OverCap::Hold), mailing(c, None, OverCap::Skip));
                c.execute("UPDATE mailing SET letterhead_id = ?2 WHERE id = ?1", [b, shop.0])?;
                Ok(vec![a, b])
            }).await.unwrap();
            for (n, step) in steps.into_iter().enumerate() {
                let at = START + (1 + n as i64) * 7 * HOUR;
                if warm_first || n > 2 {
                    store.read_now(|c| { agrees(c, &mailings, at); Ok(()) }).unwrap();
                }
                if n == usize::from(!warm_first) {
                    store.read_now(contacts::keep_orders).unwrap();
                }
                let (inside, fails) = (mailings.clone(), matches!(step, Step::Fails(_)));
                let done = store.write(move |c| {
                    carry_out(c, &step, at)?;
                    agrees(c, &inside, at);
                    in_order(c);
                    Ok(())
                }).await;
                assert_eq!(done.is_err(), fails, "{done:?}");
                store.read_now(|c| {
                    agrees(c, &mailings, at);
                    in_order(c);
                    sums_hold(c);
                    let seals = ledger::seals(c, None)?;
                    assert!(seals.broken.is_empty(), "{seals:?}");
                    Ok(())
                }).unwrap();
            }
        });
    }
}

/// A million small changes are cheaper to read again at once; what is kept then is thrown away, and right.
#[tokio::test]
async fn many_changes_and_other_hands() {
    let (folder, store) = base(3).await;
    let m = store.write(|c| Ok(mailing(c, None, OverCap::Hold))).await.unwrap();
    let cleared = |store: &Store| store.read_now(|c| Ok(clearing::audience(c, MailingId(m), START)?.people(None))).unwrap();
    assert_eq!(cleared(&store), [1, 2, 3].map(ContactId));
    store
        .write(|c| {
            c.execute_batch("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 120000) INSERT INTO contact (id, address, address_key, domain_id, added_at) SELECT 100 + i, 'x' || i, 'x' || i, 1, 0 FROM n; UPDATE contact SET consent = 5 WHERE id = 2;")?;
            Ok(())
        })
        .await
        .unwrap();
    assert_eq!(cleared(&store), [1, 3].map(ContactId));
    store.write(|c| Ok(c.execute("DELETE FROM contact WHERE id > 100", [])?)).await.unwrap();
    assert_eq!(cleared(&store), [1, 3].map(ContactId));
    // A file that is opened again keeps nothing of what was.
    drop(store);
    let c = rusqlite::Connection::open(folder.path().join("rinse.db")).unwrap();
    c.execute("UPDATE contact SET consent = 5 WHERE id = 3", []).unwrap();
    assert_eq!(cleared(&Store::open(folder.path(), false).unwrap()), [ContactId(1)]);
}

/// Anybody who changes, removes or adds an entry shows; a link that was noted is found again; a file from before
/// entries were sealed is sealed once.
#[tokio::test]
async fn a_touched_ledger_shows() {
    let (folder, store) = base(5).await;
    store.write(|c| erasure::erase(c, ContactId(2), START, None)).await.unwrap();
    let seals = |noted: Option<&str>| store.read_now(|c| ledger::seals(c, noted)).unwrap();
    let whole = seals(None);
    assert!(whole.broken.is_empty() && whole.entries == 6 && whole.erased == 1, "{whole:?}");
    store.write(|c| ledger::act(c, ContactId(1), START, Act::Withdrew, &origin())).await.unwrap();
    assert_eq!(seals(Some(&whole.link)).found, Some(6));
    let c = rusqlite::Connection::open(folder.path().join("rinse.db")).unwrap();
    for (touch, entry, words) in [
        ("UPDATE ledger SET kind = 'confirmed' WHERE id = 4", 4, "something else"),
        ("DELETE FROM ledger WHERE id = 4", 5, "taken away"),
        ("UPDATE ledger SET evidence = '', salt = NULL WHERE id = 4", 4, "no seal"),
        ("INSERT INTO ledger (id, contact_id, at, kind, source) VALUES (99, 3, 0, 'agreed', 'import')", 99, "no seal"),
    ] {
        c.execute_batch("SAVEPOINT touched").unwrap();
        c.execute(touch, []).unwrap();
        let broken = ledger::seals(&c, None).unwrap().broken;
        assert!(broken.len() == 1 && broken[0].entry == entry && broken[0].words.contains(words), "{touch}: {broken:?}");
        c.execute_batch("ROLLBACK TO touched; RELEASE touched").unwrap();
    }
    c.execute("UPDATE ledger SET salt = NULL, digest = NULL, link = NULL", []).unwrap();
    drop((store, c));
    let store = Store::open(folder.path(), false).unwrap();
    let again = store.read_now(|c| ledger::seals(c, None)).unwrap();
    assert!(again.broken.is_empty() && again.entries == 7, "{again:?}");
}

/// Messages that are being added: a reader beside the write is answered without them, the write itself with them; and of a
/// write that fails in the end nothing is left.
#[tokio::test]
async fn a_clearance_beside_a_write_that_adds_messages() {
    let (_folder, store) = base(6).await;
    let capped = RuleSet {
        caps: vec![Cap { limit: 1, window: Window::Days { n: 7 }, scope: Scope::Marketing, in_force: true }],
        ..RuleSet::default()
    };
    store
        .write(move |c| {
            rules::save(c, START, None, &capped, "one a week")?;
            mailing(c, None, OverCap::Hold);
            mailing(c, None, OverCap::Hold);
            Ok(())
        })
        .await
        .unwrap();
    let cleared = |c: &Connection| clearing::audience(c, MailingId(2), START + HOUR).map(|a| a.sluice().cleared);
    assert_eq!(store.read_now(cleared).unwrap(), 6, "kept from here on");
    let beside = store.clone();
    let failed: Result<(), StoreError> = store
        .write(move |c| {
            start(c, 1, START);
            assert_eq!(beside.read_now(cleared).unwrap(), 6, "a reader sees what is committed");
            assert_eq!(cleared(c).unwrap(), 0, "the write sees its own: everybody has their one");
            assert_eq!(beside.read_now(cleared).unwrap(), 6);
            Err(StoreError::Missing("contact"))
        })
        .await;
    assert!(failed.is_err());
    assert_eq!(store.read_now(cleared).unwrap(), 6, "nothing was sent after all");
    store
        .write(|c| {
            start(c, 1, START);
            Ok(())
        })
        .await
        .unwrap();
    assert_eq!(store.read_now(cleared).unwrap(), 0);
}
