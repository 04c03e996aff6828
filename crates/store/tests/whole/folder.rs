//! The data folder: whole at every moment of a restore, its owner's alone, and without a trace of anybody who was deleted.

use crate::common::{START, base, rows};
use rinse_core::address::Address;
use rinse_store::contacts::{self, Profile};
use rinse_store::{Store, backup, erasure, journal};
use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// All files of a folder with their bytes.
fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut out = BTreeMap::new();
    let mut waiting = vec![folder.to_owned()];
    while let Some(at) = waiting.pop() {
        for entry in fs::read_dir(at).unwrap().map(Result::unwrap) {
            if entry.file_type().unwrap().is_dir() {
                waiting.push(entry.path());
            } else {
                out.insert(entry.path().strip_prefix(folder).unwrap().display().to_string(), fs::read(entry.path()).unwrap());
            }
        }
    }
    out
}

/// A base that was let go is closed: its log is in the file, and nobody writes any more.
fn closed(folder: &Path) -> bool {
    !folder.join("rinse.db-wal").exists()
}

fn people(folder: &Path) -> i64 {
    let store = Store::open(folder, true).unwrap();
    let n = store.read_now(|c| Ok(rows(c, "SELECT count(*) FROM contact")[0])).unwrap();
    drop(store);
    assert!(closed(folder));
    n
}

/// However soon the last handle goes: also while a connection for the next question is being made beside.
#[tokio::test(flavor = "multi_thread")]
async fn the_log_goes_with_the_last_handle() {
    let (folder, store) = base(1).await;
    drop(store);
    for again in 0..40 {
        let store = Store::open(folder.path(), true).unwrap();
        let beside = store.with_own_readers(2).unwrap();
        let people = |store: &Store| store.read_now(|c| Ok(rows::<i64>(c, "SELECT count(*) FROM contact")[0])).unwrap();
        let asked = std::thread::spawn(move || people(&beside));
        assert_eq!(people(&store), 1);
        if again % 2 == 1 {
            store.write(|c| Ok(c.execute("UPDATE contact SET id = id", [])?)).await.unwrap();
        }
        drop(store);
        assert_eq!(asked.join().unwrap(), 1);
        assert!(closed(folder.path()));
    }
}

/// A restore can end at any of its steps: the next start has the old base or the new one, never none and never an empty one.
#[rstest]
#[case::only_the_copy(true, false, true, 3)]
#[case::marked(true, true, true, 2)]
#[case::marked_and_the_old_one_gone(true, true, false, 2)]
#[case::moved_and_still_marked(false, true, true, 3)]
#[tokio::test(flavor = "multi_thread")]
async fn a_restore_that_ends_anywhere_leaves_a_base(#[case] copied: bool, #[case] marked: bool, #[case] old: bool, #[case] want: i64) {
    let ((folder, store), (other, earlier)) = (base(3).await, base(2).await);
    drop((store, earlier));
    for of in [&folder, &other] {
        assert!(people(of.path()) > 1);
    }
    let copy = other.path().join("kept.db");
    backup::backup(other.path(), &copy).unwrap();
    if copied {
        fs::copy(&copy, folder.path().join("rinse.db.coming")).unwrap();
    }
    if marked {
        fs::write(folder.path().join("rinse.db.restoring"), "").unwrap();
    }
    if !old {
        fs::remove_file(folder.path().join("rinse.db")).unwrap();
    }
    assert_eq!(people(folder.path()), want);
    assert!(!folder.path().join("rinse.db.restoring").exists());
}

/// Where a database was, no empty one begins.
#[rstest]
#[case("withdrawals.journal")]
#[case("rinse.db.before")]
#[case("rinse.db.before-2")]
#[case("rinse.db.coming")]
#[tokio::test(flavor = "multi_thread")]
async fn an_empty_base_begins_only_in_a_new_folder(#[case] left: &str) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join(left), "x\n").unwrap();
    let refused = Store::open(folder.path(), true).err().unwrap().to_string();
    assert!(refused.contains(left) && refused.contains("rinse restore"), "{refused}");
    assert!(!folder.path().join("rinse.db").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_there_before_a_restore_is_never_overwritten() {
    let (folder, store) = base(1).await;
    drop(store);
    let outside = tempfile::tempdir().unwrap();
    let copy = outside.path().join("kept.db");
    backup::backup(folder.path(), &copy).unwrap();
    let kept: Vec<_> = (0..3).map(|_| backup::restore(&copy, folder.path()).unwrap().before.unwrap()).collect();
    assert_eq!(
        kept.iter().map(|p| p.file_name().unwrap().to_str().unwrap()).collect::<Vec<_>>(),
        ["rinse.db.before", "rinse.db.before-2", "rinse.db.before-3"]
    );
    // A database that is broken can be restored over, and is kept as it was.
    let broken = b"no database any more".to_vec();
    fs::write(folder.path().join("rinse.db"), &broken).unwrap();
    let before = backup::restore(&copy, folder.path()).unwrap().before.unwrap();
    assert_eq!((fs::read(before).unwrap(), people(folder.path())), (broken, 1));
}

/// A backup takes nothing away that it didn't make, and leaves nothing of one that was killed.
#[tokio::test(flavor = "multi_thread")]
async fn a_backup_leaves_other_files_alone_and_no_halves() {
    let (folder, store) = base(1).await;
    let outside = tempfile::tempdir().unwrap();
    fs::write(outside.path().join("kept.half"), "somebody's").unwrap();
    // What a killed one left, and what one that runs is writing.
    fs::write(outside.path().join(".rinse-part-1-older.db"), "half").unwrap();
    let running = fs::File::create(outside.path().join(".rinse-part-2-other.db")).unwrap();
    running.lock().unwrap();
    backup::backup(folder.path(), &outside.path().join("kept.db")).unwrap();
    assert_eq!(files(outside.path()).into_keys().collect::<Vec<_>>(), [".rinse-part-2-other.db", "kept.db", "kept.half"]);
    drop(store);
    let broken = tempfile::tempdir().unwrap();
    fs::write(broken.path().join("rinse.db"), "no database").unwrap();
    assert!(backup::backup(broken.path(), &outside.path().join("second.db")).is_err());
    assert!(!files(outside.path()).keys().any(|k| k.contains("second")));
}

/// Nobody but the owner reads the folder, also one that was open to all before.
#[tokio::test(flavor = "multi_thread")]
async fn the_folder_is_its_owners_alone() {
    let (folder, store) = base(1).await;
    drop(store);
    // What belongs to connections that are closing may go at any moment.
    let gone = |e: &std::io::Error| e.kind() == std::io::ErrorKind::NotFound;
    for entry in fs::read_dir(folder.path()).unwrap().map(Result::unwrap) {
        let opened = fs::set_permissions(entry.path(), fs::Permissions::from_mode(0o755));
        assert!(opened.as_ref().err().is_none_or(gone), "{opened:?}");
    }
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let _store = Store::open(folder.path(), true).unwrap();
    let mut looked_at = 0;
    for path in fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().path()).chain([folder.path().to_owned()]) {
        match fs::metadata(&path) {
            Ok(found) => assert_eq!(found.permissions().mode() & 0o077, 0, "{}", path.display()),
            Err(e) => assert!(gone(&e), "{e}"),
        }
        looked_at += 1;
    }
    assert!(looked_at >= 3, "the database, the journal and the folder at least");
}

/// After a deletion no byte of the folder is theirs: no free page, no log, no file.
#[tokio::test(flavor = "multi_thread")]
async fn no_byte_of_a_deleted_person_stays() {
    let (folder, store) = base(400).await;
    let address = Address::parse("quiet.curlew@bittern.example").unwrap();
    let key = address.key.clone();
    let id = store
        .write(move |c| {
            let named = Profile { given_name: Some("Curlewina".into()), ..Profile::default() };
            let id = contacts::add(c, &address, &named, START)?;
            // Moved within its pages and between them.
            for n in 0..50 {
                contacts::update(c, id, &Profile { family_name: Some("Quietly".repeat(n)), ..Profile::default() })?;
            }
            Ok(id)
        })
        .await
        .unwrap();
    let has = |what: &str| {
        files(folder.path()).into_iter().find(|(_, bytes)| bytes.windows(what.len()).any(|w| w == what.as_bytes())).map(|(name, _)| name)
    };
    assert!(has(&key).is_some());
    store.write(move |c| erasure::erase(c, id, START, None)).await.unwrap();
    // The log is emptied once nobody reads; the writer sees to it by itself.
    let deadline = std::time::Instant::now() + std::time::Duration::from_secs(20);
    while has(&key).is_some() && std::time::Instant::now() < deadline {
        std::thread::yield_now();
    }
    for theirs in [key.as_str(), "Curlewina", "Quietly"] {
        assert_eq!(has(theirs), None, "{theirs}");
    }
    assert!(fs::metadata(folder.path().join(journal::FILE)).unwrap().len() > 0);
}
