//! Backups: a copy of the database while Rinse runs, and putting one back.
//!
//! A restore changes nothing before its marker is on the disk, and from then on it is finished, by itself or by the next start:
//! there is no moment at which the folder has no whole database to start with.

use crate::db::DATABASE;
use crate::files::{private, sync_folder};
use crate::journal::{self, Replayed};
use crate::{Result, Store, StoreError};
use rusqlite::{Connection, OpenFlags};
use std::ffi::OsStr;
use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};

/// A copy on its way into the database's place …
const COMING: &str = "rinse.db.coming";
/// … which takes it once this is there.
const MARKER: &str = "rinse.db.restoring";
/// What was there before a restore: this, and a number where there are more.
const BEFORE: &str = "rinse.db.before";
/// A backup that isn't whole yet: this, the process that makes it, and the backup's name.
const PART: &str = ".rinse-part-";

/// Holds a data folder for one Rinse at a time.
#[derive(Debug)]
pub struct Held {
    _lock: File,
}

fn unwritable(folder: &Path) -> impl Fn(io::Error) -> StoreError {
    move |why| StoreError::Folder { folder: folder.to_owned(), why: why.to_string() }
}

/// Takes the folder, or says that another Rinse has it.
///
/// # Errors
/// When another process holds it, or the folder can't be written.
pub fn hold(folder: &Path) -> Result<Held> {
    let unwritable = unwritable(folder);
    fs::create_dir_all(folder).map_err(&unwritable)?;
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(false);
    private(&mut options);
    let lock = options.open(folder.join(".running")).map_err(&unwritable)?;
    lock.try_lock().map_err(|_| {
        StoreError::Refused(format!("Another Rinse is running on {}. Stop it first, or give another folder with --data.", folder.display()))
    })?;
    Ok(Held { _lock: lock })
}

/// A backup in the making: gone again unless it became whole.
struct Part {
    path: PathBuf,
    _lock: File,
}

impl Part {
    /// Makes one beside the backup, and takes away those whose makers were killed: nobody holds them.
    fn beside(to: &Path) -> io::Result<Self> {
        let folder = match to.parent() {
            Some(p) if !p.as_os_str().is_empty() => p,
            _ => Path::new("."),
        };
        for entry in fs::read_dir(folder)? {
            let entry = entry?;
            if entry.file_name().to_string_lossy().starts_with(PART)
                && entry.file_type()?.is_file()
                && File::open(entry.path()).is_ok_and(|f| f.try_lock().is_ok())
            {
                let _ = fs::remove_file(entry.path());
            }
        }
        let name = to.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
        let path = folder.join(format!("{PART}{}-{name}", std::process::id()));
        let mut options = OpenOptions::new();
        options.read(true).write(true).create_new(true);
        private(&mut options);
        let lock = options.open(&path)?;
        lock.try_lock().map_err(io::Error::from)?;
        Ok(Self { path, _lock: lock })
    }

    /// Gives it its name, on the disk; a file of that name stays as it is.
    fn becomes(self, to: &Path) -> io::Result<()> {
        File::open(&self.path)?.sync_all()?;
        match fs::hard_link(&self.path, to) {
            // Where there are no links a name is only taken when nobody has it.
            Err(e) if e.kind() != io::ErrorKind::AlreadyExists && !to.exists() => fs::rename(&self.path, to)?,
            linked => linked?,
        }
        sync_folder(self.path.parent().unwrap_or(Path::new(".")))
    }
}

impl Drop for Part {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// Copies the database as it is at one moment into a new file, while it may be in use.
///
/// # Errors
/// When there is no database, or a file of that name.
pub fn backup(folder: &Path, to: &Path) -> Result<u64> {
    let from = folder.join(DATABASE);
    if !from.exists() {
        return Err(StoreError::Refused(format!("There is no data file in {}. Give its folder with --data.", folder.display())));
    }
    let there = || StoreError::Refused(format!("{} is there already. A backup never overwrites: give another name.", to.display()));
    if to.exists() {
        return Err(there());
    }
    let unmade = |e: io::Error| {
        if e.kind() == io::ErrorKind::AlreadyExists {
            return there();
        }
        StoreError::Refused(format!("The backup {} can't be written ({e}). Nothing of it was left; give a place with room.", to.display()))
    };
    let part = Part::beside(to).map_err(unmade)?;
    {
        let source = Connection::open_with_flags(&from, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        source.busy_timeout(std::time::Duration::from_secs(10))?;
        let mut target = Connection::open(&part.path)?;
        // All in one step: one moment of the database, whatever is written meanwhile.
        rusqlite::backup::Backup::new(&source, &mut target)?.step(-1)?;
        check(&target)?;
    }
    part.becomes(to).map_err(unmade)?;
    Ok(fs::metadata(to)?.len())
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

/// A name that nobody has yet.
fn free_name(folder: &Path) -> PathBuf {
    let taken = |name: &str| ["", "-wal"].iter().any(|rest| folder.join(format!("{name}{rest}")).exists());
    let mut names = std::iter::once(BEFORE.to_owned()).chain((2..).map(|n| format!("{BEFORE}-{n}")));
    folder.join(names.find(|n| !taken(n)).unwrap_or_else(|| BEFORE.to_owned()))
}

/// Another name for a file, or a copy where there are no links.
fn keep(from: &Path, to: &Path) -> io::Result<()> {
    match fs::hard_link(from, to) {
        Ok(()) => Ok(()),
        Err(_) => fs::copy(from, to).and_then(|_| File::open(to)?.sync_all()),
    }
}

/// What a restore did.
#[derive(Debug)]
pub struct Restored {
    pub replayed: Replayed,
    /// Where what was there before is kept; none: there was nothing.
    pub before: Option<PathBuf>,
}

/// Puts a backup in the place of a folder's database, and replays the journal: who left since the
/// backup was made has left. What was there before is kept beside it, under a name of its own.
///
/// # Errors
/// When Rinse is running on the folder, or the file is no whole backup; then nothing is changed.
pub fn restore(from: &Path, folder: &Path) -> Result<Restored> {
    let _held = hold(folder)?;
    finish(folder)?;
    if !from.exists() {
        return Err(StoreError::Refused(format!("There is no file {}.", from.display())));
    }
    check(&Connection::open_with_flags(from, OpenFlags::SQLITE_OPEN_READ_ONLY)?)?;
    let (place, coming, marker) = (folder.join(DATABASE), folder.join(COMING), folder.join(MARKER));
    let copied = (|| {
        let mut options = OpenOptions::new();
        options.write(true).create(true).truncate(true);
        private(&mut options);
        let mut to = options.open(&coming)?;
        io::copy(&mut File::open(from)?, &mut to)?;
        to.sync_all()
    })();
    if let Err(e) = copied {
        let _ = fs::remove_file(&coming);
        return Err(StoreError::Refused(format!("The backup can't be copied into {} ({e}). Nothing was changed.", folder.display())));
    }
    let before = place.exists().then(|| free_name(folder));
    if let Some(before) = &before {
        // What its write-ahead log still holds belongs to the copy that is kept. A broken database keeps its log beside it.
        let _ = Connection::open(&place).and_then(|c| c.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)"));
        keep(&place, before)?;
        let log = folder.join(format!("{DATABASE}-wal"));
        if fs::metadata(&log).is_ok_and(|m| m.len() > 0) {
            keep(&log, &with(before, "-wal"))?;
        }
    }
    File::create(&marker)?.sync_all()?;
    sync_folder(folder)?;
    finish(folder)?;
    let store = Store::open(folder, true)?;
    Ok(Restored { replayed: store.replayed().clone(), before })
}

fn with(path: &Path, rest: &str) -> PathBuf {
    let mut name = path.file_name().unwrap_or(OsStr::new(BEFORE)).to_owned();
    name.push(rest);
    path.with_file_name(name)
}

/// Finishes a restore whose marker is on the disk: the copy takes the database's place, whose log goes before it.
///
/// # Errors
/// When a file can't be moved; then it can be asked again.
pub(crate) fn finish(folder: &Path) -> Result<()> {
    let marker = folder.join(MARKER);
    if !marker.exists() {
        return Ok(());
    }
    for rest in ["-wal", "-shm"] {
        gone(fs::remove_file(folder.join(format!("{DATABASE}{rest}"))))?;
    }
    gone(fs::rename(folder.join(COMING), folder.join(DATABASE)))?;
    sync_folder(folder)?;
    fs::remove_file(marker)?;
    sync_folder(folder)?;
    Ok(())
}

/// What isn't there has been moved already.
fn gone(done: io::Result<()>) -> io::Result<()> {
    match done {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        done => done,
    }
}

/// A folder without a database must be a new one: where a journal or the rest of a restore lies, an empty database would forget everybody.
///
/// # Errors
/// When something lies there that a database belonged to.
pub(crate) fn may_begin(folder: &Path) -> Result<()> {
    let place = folder.join(DATABASE);
    if fs::metadata(&place).is_ok_and(|m| m.len() > 0) {
        return Ok(());
    }
    let mut left = Vec::new();
    for entry in fs::read_dir(folder)? {
        let name = entry?.file_name().to_string_lossy().into_owned();
        let begun = name == journal::FILE && fs::metadata(folder.join(&name)).is_ok_and(|m| m.len() > 0);
        // An empty log is a database's that was being made.
        let log = name == format!("{DATABASE}-wal") && fs::metadata(folder.join(&name)).is_ok_and(|m| m.len() > 0);
        if begun || log || name == COMING || name.starts_with(BEFORE) {
            left.push(name);
        }
    }
    if left.is_empty() {
        return Ok(());
    }
    left.sort();
    Err(StoreError::Refused(format!(
        "There is no database in {}, but {} {} there, so there was one. Put a backup back with rinse restore --from FILE --data {}; to begin again give an empty folder.",
        folder.display(),
        left.join(", "),
        if left.len() == 1 { "is" } else { "are" },
        folder.display()
    )))
}
