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
use std::time::{Duration, Instant};

/// Unused for so long, what is kept is let go.
const REST: Duration = Duration::from_secs(600);

/// Something that is kept, told of what the writer changes.
pub(crate) trait Watches: Any + Send + Sync {
    /// A row was written, or is gone.
    fn changed(&self, table: &str, row: i64, gone: bool);
    /// The writer's transaction is over.
    fn finished(&self, committed: bool);
    /// Lets go of what nobody has asked for lately.
    fn rest(&self);
    /// How much it holds; none: nothing worth counting.
    fn held(&self) -> Option<Held> {
        None
    }
    /// Lets go of everything. Whoever is at work with it keeps it until they are done.
    fn let_go(&self) {}
}

/// What may be held in memory between questions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = KeptInMemory)]
pub enum What {
    /// Everybody with their messages of the caps' days, in columns: clearances, forecasts and what-ifs decide on them.
    Columns,
    /// Everybody in the orders that the contact list offers.
    Orders,
}

/// Something that is held in memory between questions.
#[derive(Debug, Clone, Copy)]
pub struct Held {
    pub what: What,
    pub bytes: usize,
    /// Nobody has asked for it for so long.
    pub unused: Duration,
}

/// What is let go so that so many bytes come free: the longest unused first, and no more than is needed.
fn to_let_go(mut held: Vec<Held>, mut over: usize) -> Vec<What> {
    held.sort_by_key(|h| std::cmp::Reverse(h.unused));
    let mut go = Vec::new();
    for h in held.into_iter().filter(|h| h.bytes > 0) {
        if over == 0 {
            break;
        }
        over = over.saturating_sub(h.bytes);
        go.push(h.what);
    }
    go
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

    /// What is held.
    pub(crate) fn held(&self) -> Vec<Held> {
        self.0.iter().filter_map(|w| w.held()).collect()
    }

    /// Lets go of what has been unused for longest, so that so many bytes come free; what that was.
    pub(crate) fn let_go(&self, over: usize) -> Vec<What> {
        let go = to_let_go(self.held(), over);
        self.0.iter().filter(|w| w.held().is_some_and(|h| go.contains(&h.what))).for_each(|w| w.let_go());
        go
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
    used: impl Fn(&T) -> Instant,
) {
    let_go_when(kept, notes, |k| used(k).elapsed() > REST);
}

/// Lets go of what is kept, with its notes.
pub(crate) fn let_go<T, K: Hash + Eq + Copy, const MOST: usize>(kept: &Mutex<Option<T>>, notes: &Mutex<Notes<K, MOST>>) {
    let_go_when(kept, notes, |_| true);
}

fn let_go_when<T, K: Hash + Eq + Copy, const MOST: usize>(
    kept: &Mutex<Option<T>>,
    notes: &Mutex<Notes<K, MOST>>,
    when: impl Fn(&T) -> bool,
) {
    let mut kept = lock(kept);
    if kept.as_ref().is_some_and(when) {
        *kept = None;
        lock(notes).forget();
    }
}

/// How much of a kind is kept. Whoever loads it holds the lock for as long: nobody waits for that to tell.
pub(crate) fn held<T>(kept: &Mutex<Option<T>>, what: What, of: impl Fn(&T) -> (usize, Instant)) -> Option<Held> {
    let kept = kept.try_lock().ok()?;
    let (bytes, used) = of(kept.as_ref()?);
    Some(Held { what, bytes, unused: used.elapsed() })
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn no_more_is_let_go_than_is_needed_and_the_longest_unused_first(
            held in prop::collection::vec((0_usize..1_000, 0_u64..100), 0..3),
            over in 0_usize..2_000,
        ) {
            let all = [What::Columns, What::Orders];
            let held: Vec<Held> =
                all.into_iter().zip(held).map(|(what, (bytes, secs))| Held { what, bytes, unused: Duration::from_secs(secs) }).collect();
            let go = to_let_go(held.clone(), over);
            let (gone, stays): (Vec<&Held>, Vec<&Held>) = held.iter().partition(|h| go.contains(&h.what));
            let freed: usize = gone.iter().map(|h| h.bytes).sum();
            prop_assert!(freed >= over || stays.iter().all(|h| h.bytes == 0), "enough comes free, or nothing stays that could");
            if let Some(last) = go.last().and_then(|w| gone.iter().find(|h| h.what == *w)) {
                prop_assert!(freed - last.bytes < over, "without the last one it isn't enough");
            }
            let latest = gone.iter().map(|h| h.unused).min();
            prop_assert!(stays.iter().all(|s| s.bytes == 0 || latest.is_none_or(|l| s.unused <= l)), "what stays was asked for later");
        }
    }
}
