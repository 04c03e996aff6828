//! Who left stays left: after a restore, after a crash, whatever came before or after the backup.

mod common;

use common::{START, rows};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::channel::Channel;
use rinse_core::consent::Act;
use rinse_core::series::Outline;
use rinse_store::contacts::{self, Profile};
use rinse_store::erasure::{self, Tombstones};
use rinse_store::ledger::{self, Origin};
use rinse_store::series::{self, entering};
use rinse_store::{Connection, Store, backup, journal, letterheads, settings};
use std::io::Write;
use std::path::Path;

fn origin() -> Origin {
    Origin { source: "test", ..Origin::default() }
}

/// What somebody does: 0 to 2 withdraw, complain, leave the topic; 3 are deleted; 4 confirm; 5 leave the series; 6 end text
/// messages, 7 begin them again.
fn acts(c: &Connection, who: i64, what: usize, at: i64) {
    let at = START + at;
    let gone: bool = c.query_row("SELECT gone IS NOT NULL FROM contact WHERE id = ?1", [who], |r| r.get(0)).unwrap();
    match what {
        _ if gone => {}
        0 => assert!(ledger::act(c, who, at, Act::Withdrew, &origin()).is_ok()),
        1 => assert!(ledger::act(c, who, at, Act::Complained, &origin()).is_ok()),
        2 => assert!(ledger::leave_topic(c, who, 1, at, &origin()).is_ok()),
        3 => erasure::erase(c, who, at, None).unwrap(),
        4 => assert!(ledger::act(c, who, at, Act::Confirmed, &origin()).is_ok()),
        6 | 7 => {
            let act = if what == 6 { Act::Withdrew } else { Act::Confirmed };
            assert!(ledger::act(c, who, at, act, &Origin { channel: Channel::Text, ..origin() }).is_ok());
        }
        _ => drop(entering::leave(c, 1, who, at).unwrap()),
    }
}

async fn filled(folder: &Path, people: i64) -> Store {
    let store = Store::open(folder, true).unwrap();
    store
        .write(move |c| {
            settings::signing_key(c, &[7; 32], START)?;
            settings::topic_named(c, "Tide notes")?;
            let under = letterheads::Letterhead {
                name: "Skerry Light".into(),
                from_name: "Skerry Light".into(),
                from_address: "l@skerry-light.example".into(),
                postal_address: "1 Quay".into(),
                ..letterheads::Letterhead::default()
            };
            let under = letterheads::save(c, &under, START)?;
            series::save(c, None, "Welcome", under, &Outline::default(), START, None)?;
            for i in 0..people {
                let id = contacts::add(c, &Address::parse(&format!("p{i}@tern.example")).unwrap(), &Profile::default(), START)?;
                ledger::act(c, id, START, Act::Agreed, &origin())?;
            }
            Ok(())
        })
        .await
        .unwrap();
    store
}

/// Everyone: consent, left the topic, left the series, gone.
fn standing(store: &Store) -> Vec<String> {
    store
        .read_now(|c| Ok(rows(c, "SELECT consent || ' ' || EXISTS (SELECT 1 FROM topic_left WHERE contact_id = id) || EXISTS (SELECT 1 FROM series_left WHERE contact_id = contact.id) || coalesce((SELECT consent FROM other_consent WHERE contact_id = contact.id AND channel = 2), 0) || ' ' || coalesce(gone, 0) FROM contact ORDER BY id")))
        .unwrap()
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Some leave before the backup and some after it: after the restore all who left have left, nobody
    /// who left comes back, and whoever returned before the backup stays returned.
    #[test]
    fn a_restore_brings_nobody_back(before in prop::collection::vec((1i64..6, 0usize..8), 0..8), after in prop::collection::vec((1i64..6, prop::sample::select(vec![0usize, 1, 2, 3, 5, 6])), 0..8)) {
        let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let (want, got, journal) = runtime().block_on(async {
            let store = filled(folder.path(), 5).await;
            for (i, (who, what)) in before.into_iter().enumerate() {
                store.write(move |c| { acts(c, who, what, i as i64); Ok(()) }).await.unwrap();
            }
            let copy = outside.path().join("kept.db");
            backup::backup(folder.path(), &copy).unwrap();
            for (i, (who, what)) in after.into_iter().enumerate() {
                store.write(move |c| { acts(c, who, what, 100 + i as i64); Ok(()) }).await.unwrap();
            }
            let want = standing(&store);
            drop(store);
            backup::restore(&copy, folder.path()).unwrap();
            let again = Store::open(folder.path(), true).unwrap();
            assert!(!again.replayed().any(), "once is enough");
            (want, standing(&again), std::fs::read_to_string(folder.path().join(journal::FILE)).unwrap())
        });
        prop_assert_eq!(want, got);
        prop_assert!(!journal.contains("tern.example"), "the journal names nobody: {}", journal);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_deleted_person_stays_unknown_even_to_a_backup_that_never_had_them() {
    let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = filled(folder.path(), 1).await;
    let copy = outside.path().join("kept.db");
    backup::backup(folder.path(), &copy).unwrap();
    let key = Address::parse("late@tern.example").unwrap();
    let late = key.clone();
    store
        .write(move |c| {
            let id = contacts::add(c, &late, &Profile::default(), START)?;
            erasure::erase(c, id, START, None)
        })
        .await
        .unwrap();
    drop(store);
    assert_eq!(backup::restore(&copy, folder.path()).unwrap().deleted, 1);
    let again = Store::open(folder.path(), true).unwrap();
    assert!(again.read_now(|c| Tombstones::load(c)?.has(c, &key.key)).unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_the_crash_tore_is_dropped_and_one_the_database_missed_is_replayed() {
    let folder = tempfile::tempdir().unwrap();
    let store = filled(folder.path(), 3).await;
    store
        .write(|c| {
            acts(c, 1, 0, 1);
            Ok(())
        })
        .await
        .unwrap();
    drop(store);
    let path = folder.path().join(journal::FILE);
    // The process died after the line was on the disk and before the database committed …
    let line = std::fs::read_to_string(&path).unwrap();
    let other: String = Connection::open(folder.path().join("rinse.db"))
        .unwrap()
        .query_row("SELECT address_key FROM contact WHERE id = 2", [], |r| r.get(0))
        .unwrap();
    let hash = rinse_core::token::Signer::new(&[7; 32]).tombstone(&other).iter().map(|b| format!("{b:02x}")).collect::<String>();
    let mut next: serde_json::Value = serde_json::from_str(line.trim()).unwrap();
    next["seq"] = 2.into();
    next["who"] = hash.into();
    let mut file = std::fs::OpenOptions::new().append(true).open(&path).unwrap();
    // … and in the middle of the one after it.
    write!(file, "{next}\n{{\"seq\":3,\"at\":17").unwrap();
    let store = Store::open(folder.path(), true).unwrap();
    assert_eq!((store.replayed().withdrawn, standing(&store)), (1, vec!["5 000 0".into(), "5 000 0".into(), "2 000 0".to_owned()]));
    store
        .write(|c| {
            acts(c, 3, 1, 2);
            Ok(())
        })
        .await
        .unwrap();
    let text = std::fs::read_to_string(&path).unwrap();
    let seqs: Vec<i64> = text.lines().map(|l| serde_json::from_str::<serde_json::Value>(l).unwrap()["seq"].as_i64().unwrap()).collect();
    assert_eq!(seqs, [1, 2, 3]);
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_backups_and_busy_folders_are_refused_and_change_nothing() {
    let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = filled(folder.path(), 2).await;
    let words = |r: rinse_store::Result<()>| r.unwrap_err().to_string();
    let copy = outside.path().join("kept.db");
    backup::backup(folder.path(), &copy).unwrap();
    assert!(words(backup::backup(folder.path(), &copy).map(|_| ())).contains("never overwrites"));
    let broken = outside.path().join("broken.db");
    std::fs::write(&broken, b"not a database at all").unwrap();
    assert!(words(backup::restore(&broken, folder.path()).map(|_| ())).contains("no whole Rinse database"));
    assert!(words(backup::restore(&outside.path().join("none.db"), folder.path()).map(|_| ())).contains("no file"));
    let held = backup::hold(folder.path()).unwrap();
    assert!(words(backup::restore(&copy, folder.path()).map(|_| ())).contains("Stop it first"));
    drop(held);
    assert_eq!(standing(&store), ["2 000 0", "2 000 0"]);
}
