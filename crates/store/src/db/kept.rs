//! What is kept in memory for a data file between questions, and what changed since.
//!
//! The writer notes whose rows change ([`Notes`], by SQLite's update hook): the next question reads those
//! again and no others. Notes are made before a change is committed and dropped only when it was committed
//! before the reading began, so nothing is ever missed; what is read twice does no harm.
//!
//! A connection finds what is kept for its file by the file's name; nobody keeps anything for a file that
//! another process writes.

use crate::Result;
use rusqlite::Connection;
use rusqlite::hooks::Action;
use std::any::Any;
use std::collections::HashMap;
use std::hash::Hash;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError, Weak};

/// Unused for so long, what is kept is let go.
const REST: std::time::Duration = std::time::Duration::from_secs(600);

/// Something that is kept, told of what the writer changes.
pub(crate) trait Watches: Any + Send + Sync {
    /// A row was written, or is gone.
    fn changed(&self, table: &str, row: i64, gone: bool);
    /// The writer's transaction is over.
    fn finished(&self, committed: bool);
    /// Lets go of what nobody has asked for lately.
    fn rest(&self);
}

/// What is kept for one data file.
pub(crate) struct Kept(Vec<Arc<dyn Watches>>);

static FILES: LazyLock<Mutex<HashMap<PathBuf, Weak<Kept>>>> = LazyLock::new(Mutex::default);

pub(crate) fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Kept {
    /// What is kept for the writer's file from now on, told of every change that it makes.
    pub(crate) fn of(writer: &Connection, all: Vec<Arc<dyn Watches>>) -> Result<Arc<Self>> {
        let kept = Arc::new(Self(all));
        // As SQLite itself names the file: whole, however it was opened.
        let path = PathBuf::from(writer.path().unwrap_or_default());
        let mut files = lock(&FILES);
        files.retain(|_, w| w.strong_count() > 0);
        files.insert(path, Arc::downgrade(&kept));
        let told = Arc::clone(&kept);
        writer.update_hook(Some(move |action: Action, _: &str, table: &str, row: i64| {
            told.0.iter().for_each(|w| w.changed(table, row, action == Action::SQLITE_DELETE));
        }))?;
        Ok(kept)
    }

    /// The writer's transaction is over.
    pub(crate) fn finished(&self, committed: bool) {
        self.0.iter().for_each(|w| w.finished(committed));
    }

    /// Lets go of what nobody has asked for lately.
    pub(crate) fn rest(&self) {
        self.0.iter().for_each(|w| w.rest());
    }
}

/// What is kept of a kind for the connection's file.
pub(crate) fn found<T: Watches>(c: &Connection) -> Option<Arc<T>> {
    let path = c.path()?;
    let kept = lock(&FILES).get(Path::new(path)).and_then(Weak::upgrade)?;
    kept.0.iter().find_map(|w| (Arc::clone(w) as Arc<dyn Any + Send + Sync>).downcast().ok())
}

/// Which rows changed, each with the number of the transaction; past `MOST` of them it is quicker to load
/// everything again.
pub(crate) struct Notes<K, const MOST: usize> {
    /// Something is kept. While nothing is, only the running transaction's notes are: it may be read in its midst.
    on: bool,
    /// The running transaction changed more than is worth noting.
    too_many: bool,
    rows: HashMap<K, u64>,
    committed: u64,
}

impl<K, const MOST: usize> Default for Notes<K, MOST> {
    fn default() -> Self {
        Self { on: false, too_many: false, rows: HashMap::new(), committed: 0 }
    }
}

/// Lets go of what is kept, with its notes, when nobody has used it for long.
pub(crate) fn rest<T, K: Hash + Eq + Copy, const MOST: usize>(
    kept: &Mutex<Option<T>>,
    notes: &Mutex<Notes<K, MOST>>,
    used: impl Fn(&T) -> std::time::Instant,
) {
    let mut kept = lock(kept);
    if kept.as_ref().is_some_and(|k| used(k).elapsed() > REST) {
        *kept = None;
        lock(notes).forget();
    }
}

/// How the notes stand as a reading begins.
pub(crate) struct Begun {
    /// Notes of transactions up to here can be dropped when it succeeded.
    pub(crate) committed: u64,
    /// All that changed since the last reading is among the notes.
    pub(crate) whole: bool,
    /// What is read now can be kept.
    pub(crate) keep: bool,
}

impl<K: Hash + Eq + Copy, const MOST: usize> Notes<K, MOST> {
    pub(crate) fn note(&mut self, row: K) {
        if self.too_many {
            return;
        }
        if self.rows.len() >= MOST {
            return self.give_up();
        }
        self.rows.insert(row, self.committed + 1);
    }

    /// What happens can't be noted: all is to be read again.
    pub(crate) fn give_up(&mut self) {
        self.forget();
        self.too_many = true;
    }

    pub(crate) fn finished(&mut self, committed: bool) {
        self.committed += u64::from(committed);
        if self.too_many || !self.on {
            self.forget();
        }
    }

    pub(crate) fn begin(&mut self) -> Begun {
        let begun = Begun { committed: self.committed, whole: self.on, keep: !self.too_many };
        self.on = begun.keep;
        begun
    }

    pub(crate) fn rows(&self) -> impl Iterator<Item = K> {
        self.rows.keys().copied()
    }

    pub(crate) fn forget(&mut self) {
        *self = Self { committed: self.committed, ..Self::default() };
    }

    /// Drops the notes of what was committed by then.
    pub(crate) fn settle(&mut self, committed: u64) {
        self.rows.retain(|_, at| *at > committed);
    }
}
