//! Who left stays left: after a restore, after a crash, whatever came before or after the backup.

use crate::common::{START, rows};
use proptest::prelude::*;
use rinse_core::address::Address;
use rinse_core::channel::Channel;
use rinse_core::consent::Act;
use rinse_core::id::{ContactId, SeriesId};
use rinse_core::series::Outline;
use rinse_store::contacts::{self, Profile};
use rinse_store::erasure;
use rinse_store::ledger::{self, Origin};
use rinse_store::series;
use rinse_store::series_entry;
use rinse_store::tombstones::Tombstones;
use rinse_store::{Connection, Store, backup, journal, letterheads, settings, topics};
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
        0 => assert!(ledger::act(c, ContactId(who), at, Act::Withdrew, &origin()).is_ok()),
        1 => assert!(ledger::act(c, ContactId(who), at, Act::Complained, &origin()).is_ok()),
        2 => assert!(ledger::leave_topic(c, ContactId(who), 1, at, &origin()).is_ok()),
        3 => erasure::erase(c, ContactId(who), at, None).unwrap(),
        4 => assert!(ledger::act(c, ContactId(who), at, Act::Confirmed, &origin()).is_ok()),
        6 | 7 => {
            let act = if what == 6 { Act::Withdrew } else { Act::Confirmed };
            assert!(ledger::act(c, ContactId(who), at, act, &Origin { channel: Channel::Text, ..origin() }).is_ok());
        }
        _ => drop(series_entry::leave(c, SeriesId(1), ContactId(who), at).unwrap()),
    }
}

async fn filled(folder: &Path, people: i64) -> Store {
    let store = Store::open(folder, true).unwrap();
    store
        .write(move |c| {
            settings::signing_key(c, &[7; 32], START)?;
            topics::named(c, "Tide notes")?;
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
    /// who left comes back, and anybody who returned before the backup stays returned.
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
    assert_eq!(backup::restore(&copy, folder.path()).unwrap().replayed.deleted, 1);
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

/// A base as `filled`, backed up before somebody came, agreed and did something; then put back.
async fn left_unknown(what: usize) -> (tempfile::TempDir, Store, rinse_store::journal::Replayed) {
    let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = filled(folder.path(), 1).await;
    let copy = outside.path().join("kept.db");
    backup::backup(folder.path(), &copy).unwrap();
    store
        .write(move |c| {
            let id = contacts::add(c, &Address::parse("late@tern.example").unwrap(), &Profile::default(), START)?;
            ledger::act(c, id, START, Act::Agreed, &origin())?;
            acts(c, id.0, what, 5);
            Ok(())
        })
        .await
        .unwrap();
    drop(store);
    let done = backup::restore(&copy, folder.path()).unwrap();
    let store = Store::open(folder.path(), true).unwrap();
    (folder, store, done.replayed)
}

/// Who left and isn't in the backup comes back as they left, no matter who brings them: by hand, under a corrected address, after another restart.
#[rstest::rstest]
#[case::withdrew(0, "5 000 0")]
#[case::complained(1, "6 000 0")]
#[case::left_a_topic(2, "2 100 0")]
#[case::left_a_series(5, "2 010 0")]
#[case::ended_texts(6, "2 005 0")]
#[tokio::test(flavor = "multi_thread")]
async fn who_left_unknown_to_the_backup_is_brought_as_they_left(#[case] what: usize, #[case] stands: &str) {
    let (folder, store, replayed) = left_unknown(what).await;
    assert_eq!((replayed.kept, replayed.faults.as_slice()), (1, &[][..]));
    drop(store);
    let store = Store::open(folder.path(), true).unwrap();
    assert!(!store.replayed().any(), "once is enough");
    store
        .write(|c| {
            let late = Address::parse("late@tern.example").unwrap();
            let id = contacts::add(c, &late, &Profile::default(), START)?;
            ledger::act(c, id, START + 9, Act::Agreed, &origin())?;
            Ok(())
        })
        .await
        .unwrap();
    assert_eq!(standing(&store)[1], stands);
}

/// A topic that the backup doesn't know: who left it has left it as soon as there is one of that name.
#[tokio::test(flavor = "multi_thread")]
async fn a_topic_that_comes_later_is_left_already() {
    let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = filled(folder.path(), 2).await;
    let copy = outside.path().join("kept.db");
    backup::backup(folder.path(), &copy).unwrap();
    store
        .write(|c| {
            let topic = topics::named(c, "Boat days")?;
            ledger::leave_topic(c, ContactId(2), topic, START, &origin())
        })
        .await
        .unwrap();
    drop(store);
    assert_eq!(backup::restore(&copy, folder.path()).unwrap().replayed.kept, 1);
    let store = Store::open(folder.path(), true).unwrap();
    store.write(|c| topics::named(c, "Boat days")).await.unwrap();
    assert_eq!(standing(&store), ["2 000 0", "2 100 0"]);
}

/// The journal is lost and a new one begun: its numbers go on, so a backup from before the loss still learns what the new one says, and the
/// loss is said each time.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_journal_goes_on_and_is_missed() {
    let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let store = filled(folder.path(), 4).await;
    let act = |store: &Store, who: i64| {
        let store = store.clone();
        async move {
            store
                .write(move |c| {
                    acts(c, who, 0, who);
                    Ok(())
                })
                .await
                .unwrap()
        }
    };
    act(&store, 1).await;
    act(&store, 2).await;
    let copy = outside.path().join("kept.db");
    backup::backup(folder.path(), &copy).unwrap();
    drop(store);
    std::fs::remove_file(folder.path().join(journal::FILE)).unwrap();
    let store = Store::open(folder.path(), true).unwrap();
    assert!(store.replayed().faults[0].contains("It is gone"), "{:?}", store.replayed());
    act(&store, 3).await;
    drop(store);
    let text = std::fs::read_to_string(folder.path().join(journal::FILE)).unwrap();
    assert!(text.starts_with("{\"seq\":3,"), "{text}");
    let done = backup::restore(&copy, folder.path()).unwrap();
    assert_eq!(done.replayed.withdrawn, 1);
    assert!(done.replayed.faults[0].contains("another one"), "{:?}", done.replayed);
    // Whole and the file's own again: nothing to say.
    let store = Store::open(folder.path(), true).unwrap();
    act(&store, 4).await;
    drop(store);
    let again = Store::open(folder.path(), true).unwrap();
    assert_eq!((again.replayed().any(), again.replayed().faults.len()), (false, 0));
}
