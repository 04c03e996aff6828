//! Backups: a copy of the database while Rinse runs, and putting one back.

use crate::journal::Replayed;
use crate::{Result, Store, StoreError};
use rusqlite::{Connection, OpenFlags};
use std::fs::File;
use std::path::Path;

/// Holds a data folder for one Rinse at a time.
#[derive(Debug)]
pub struct Held {
    _lock: File,
}

/// Takes the folder, or says that another Rinse has it.
///
/// # Errors
/// When another process holds it, or the folder can't be written.
pub fn hold(folder: &Path) -> Result<Held> {
    let unwritable = |why: std::io::Error| StoreError::Folder { folder: folder.to_owned(), why: why.to_string() };
    std::fs::create_dir_all(folder).map_err(unwritable)?;
    let lock = File::create(folder.join(".running")).map_err(unwritable)?;
    lock.try_lock().map_err(|_| {
        StoreError::Refused(format!("Another Rinse is running on {}. Stop it first, or give another folder with --data.", folder.display()))
    })?;
    Ok(Held { _lock: lock })
}

/// Copies the database as it is at one moment into a new file, while it may be in use.
///
/// # Errors
/// When there is no database, or a file of that name.
pub fn backup(folder: &Path, to: &Path) -> Result<u64> {
    let from = folder.join("rinse.db");
    if !from.exists() {
        return Err(StoreError::Refused(format!("There is no data file in {}. Give its folder with --data.", folder.display())));
    }
    if to.exists() {
        return Err(StoreError::Refused(format!("{} is there already. A backup never overwrites: give another name.", to.display())));
    }
    let half = to.with_extension("half");
    let _ = std::fs::remove_file(&half);
    {
        let source = Connection::open_with_flags(&from, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        source.busy_timeout(std::time::Duration::from_secs(10))?;
        let mut target = Connection::open(&half)?;
        // All in one step: one moment of the database, whatever is written meanwhile.
        rusqlite::backup::Backup::new(&source, &mut target)?.step(-1)?;
        check(&target)?;
    }
    File::open(&half)?.sync_all()?;
    std::fs::rename(&half, to)?;
    Ok(std::fs::metadata(to)?.len())
}

fn check(c: &Connection) -> Result<()> {
    let broken = |why: &str| StoreError::Refused(format!("The backup is no whole Rinse database ({why}). Nothing was changed."));
    let found: String = c.query_row("PRAGMA quick_check(1)", [], |r| r.get(0)).map_err(|e| broken(&e.to_string()))?;
    if found != "ok" {
        return Err(broken(&found));
    }
    c.query_row("SELECT count(*) FROM rules_version", [], |r| r.get::<_, i64>(0)).map_err(|e| broken(&e.to_string()))?;
    Ok(())
}

/// Puts a backup in the place of a folder's database, and replays the journal: who left since the
/// backup was made has left. What was there before is kept beside it as `rinse.db.before`.
///
/// # Errors
/// When Rinse is running on the folder, or the file is no whole backup; then nothing is changed.
pub fn restore(from: &Path, folder: &Path) -> Result<Replayed> {
    let _held = hold(folder)?;
    if !from.exists() {
        return Err(StoreError::Refused(format!("There is no file {}.", from.display())));
    }
    check(&Connection::open_with_flags(from, OpenFlags::SQLITE_OPEN_READ_ONLY)?)?;
    let (place, coming) = (folder.join("rinse.db"), folder.join("rinse.db.coming"));
    std::fs::copy(from, &coming)?;
    File::open(&coming)?.sync_all()?;
    if place.exists() {
        // What its write-ahead log still holds belongs to the copy that is kept.
        Connection::open(&place)?.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)")?;
        std::fs::rename(&place, folder.join("rinse.db.before"))?;
    }
    for rest in ["rinse.db-wal", "rinse.db-shm"] {
        let _ = std::fs::remove_file(folder.join(rest));
    }
    std::fs::rename(&coming, &place)?;
    let store = Store::open(folder, true)?;
    Ok(store.replayed())
}
