//! The handle to an open data file: reading beside the writer, and writing through it. [`crate::open`] puts it together.

pub mod backup;
pub(crate) mod codes;
pub mod costly;
pub(crate) mod error;
pub(crate) mod files;
pub mod journal;
pub(crate) mod kept;
pub(crate) mod naming;
pub(crate) mod readers;
pub mod settings;
pub(crate) mod stored;
pub(crate) mod sweep;
pub mod writer;

use crate::error::{READ_PATIENCE, StoreError};
use crate::journal::Replayed;
use crate::kept::Kept;
pub use crate::kept::{Held, What};
use crate::readers::{Open, Readers};
use crate::writer::{Entrance, Lane, Task};
use r2d2::Pool;
pub use rusqlite::Connection;
use rusqlite::OpenFlags;
use rusqlite::config::DbConfig;
use rusqlite::trace::{TraceEvent, TraceEventCodes};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant as Moment};

/// A handle to the data file; cheap to clone. With the last one the file is closed: what reads goes first, and the writer takes the log along.
#[derive(Clone)]
pub struct Store {
    pub(crate) readers: Pool<Readers>,
    pub(crate) open: Open,
    pub(crate) writer: Arc<Entrance>,
    pub(crate) folder: Arc<PathBuf>,
    pub(crate) replayed: Arc<Replayed>,
    pub(crate) kept: Arc<Kept>,
}

/// The database's file in the data folder.
pub(crate) const DATABASE: &str = "rinse.db";
/// As much of the file as readers map into memory.
pub(crate) const MAPPED: i64 = 4 << 30;

/// The file of a connection that others can read beside it: none inside a write, whose changes nobody else sees.
pub(crate) fn readable_beside(c: &Connection) -> Option<&str> {
    c.path().filter(|path| c.is_autocommit() && !path.is_empty())
}

/// A connection of one thread's own to read with, without SQLite's locks around each value.
pub(crate) fn beside(path: &str) -> crate::Result<Connection> {
    let other = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
    other.busy_timeout(std::time::Duration::from_secs(10))?;
    other.pragma_update(None, "mmap_size", MAPPED)?;
    plan_once(&other)?;
    Ok(other)
}

/// A statement's plan doesn't go by what is bound to it: SQLite would make it again for each value that is, which takes longer than most of our
/// statements run.
pub(crate) fn plan_once(c: &Connection) -> rusqlite::Result<()> {
    c.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map(drop)
}

impl Store {
    /// From now on each statement is told as it ends, on every connection of this store: for tests that hold queries to what they may walk.
    ///
    /// # Errors
    /// When the connections can't all be had.
    pub async fn watch(&self, told: fn(TraceEvent<'_>)) -> crate::Result<()> {
        let ends = TraceEventCodes::SQLITE_TRACE_PROFILE;
        let all = (0..self.readers.max_size()).map(|_| self.readers.get()).collect::<Result<Vec<_>, _>>()?;
        all.iter().for_each(|c| c.trace_v2(ends, Some(told)));
        drop(all);
        self.write(move |c| {
            c.trace_v2(ends, Some(told));
            Ok(())
        })
        .await
    }

    /// Lets go of what was kept in memory and nobody has asked for lately.
    pub fn rest(&self) {
        self.kept.rest();
    }

    /// What is held in memory between questions.
    #[must_use]
    pub fn held(&self) -> Vec<Held> {
        self.kept.held()
    }

    /// Lets go of what has been unused for longest, so that so many bytes come free; what that was. Waits for whoever is just loading it.
    #[must_use]
    pub fn let_go(&self, over: usize) -> Vec<What> {
        self.kept.let_go(over)
    }

    /// The data folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// What the journal had to tell when the store was opened: people who left since a backup.
    #[must_use]
    pub fn replayed(&self) -> &Replayed {
        &self.replayed
    }

    /// Reads on this thread, for as long as it takes.
    ///
    /// # Errors
    /// Whatever `f` returns, or when no connection is to be had.
    pub fn read_now<T>(&self, f: impl FnOnce(&Connection) -> crate::Result<T>) -> crate::Result<T> {
        let conn = self.readers.get()?;
        f(&conn)
    }

    /// Reads on a thread for blocking work, for as long as it takes: for what nobody waits for.
    ///
    /// # Errors
    /// As [`Store::read_now`].
    pub async fn read_at_leisure<T: Send + 'static>(
        &self,
        f: impl FnOnce(&Connection) -> crate::Result<T> + Send + 'static,
    ) -> crate::Result<T> {
        let store = self.clone();
        tokio::task::spawn_blocking(move || store.read_now(f)).await.map_err(|_| StoreError::Stopped)?
    }

    /// Reads on a thread for blocking work: no longer than [`READ_PATIENCE`], and no longer than somebody waits for it.
    ///
    /// # Errors
    /// As [`Store::read_now`]; [`StoreError::Late`] when it took too long.
    pub async fn read<T: Send + 'static>(&self, f: impl FnOnce(&Connection) -> crate::Result<T> + Send + 'static) -> crate::Result<T> {
        // Dropped with the one who waits.
        let waits = Arc::new(());
        let asked = Arc::downgrade(&waits);
        self.read_at_leisure(move |c| {
            let _watched = Watched::new(c, asked)?;
            f(c)
        })
        .await
    }

    /// Writes: `f` runs in a savepoint of its own inside a transaction that waiting writes share;
    /// the answer comes after the commit. When `f` fails, nothing of it stays.
    ///
    /// # Errors
    /// Whatever `f` returns, or [`StoreError::Stopped`] when the commit failed.
    pub async fn write<T, F>(&self, f: F) -> crate::Result<T>
    where
        T: Send + 'static,
        F: FnOnce(&Connection) -> crate::Result<T> + Send + 'static,
    {
        self.write_in(Lane::Usual, f).await
    }

    /// As [`Store::write`], before everything that waits there: for people who leave, whom no heavy work may keep waiting.
    ///
    /// # Errors
    /// As [`Store::write`].
    pub async fn write_first<T, F>(&self, f: F) -> crate::Result<T>
    where
        T: Send + 'static,
        F: FnOnce(&Connection) -> crate::Result<T> + Send + 'static,
    {
        self.write_in(Lane::First, f).await
    }

    async fn write_in<T, F>(&self, lane: Lane, f: F) -> crate::Result<T>
    where
        T: Send + 'static,
        F: FnOnce(&Connection) -> crate::Result<T> + Send + 'static,
    {
        let (task, told) = Task::<F, T, false>::new(f);
        self.writer.queue(lane, Box::new(task))?;
        told.await.map_err(|_| StoreError::Stopped)?
    }

    /// Writes something small that may be run twice: events. As [`Store::write`], but without a
    /// savepoint of its own, which costs more than an event does: when one of a group fails half
    /// done, the group is rolled back and its events are run again one by one.
    ///
    /// # Errors
    /// As [`Store::write`].
    pub async fn record<T, F>(&self, f: F) -> crate::Result<T>
    where
        T: Send + 'static,
        F: Fn(&Connection) -> crate::Result<T> + Send + 'static,
    {
        let (task, told) = Task::<F, T, true>::new(f);
        self.writer.queue(Lane::Usual, Box::new(task))?;
        told.await.map_err(|_| StoreError::Stopped)?
    }

    /// The longest that the writer worked at one transaction since it was opened, by its thread's own time: what a busy machine or a slow disk adds is
    /// no part of it.
    #[must_use]
    pub fn longest_hold(&self) -> Duration {
        self.writer.longest_hold()
    }
}

/// Steps of SQLite's machine between two looks at the clock: some 0.1 ms.
const STEPS: std::ffi::c_int = 10_000;

/// A connection on which whatever runs is given up when it is late, or when nobody waits for it any more.
struct Watched<'a>(&'a Connection);

impl<'a> Watched<'a> {
    fn new(c: &'a Connection, asked: Weak<()>) -> rusqlite::Result<Self> {
        let late = Moment::now() + READ_PATIENCE;
        c.progress_handler(STEPS, Some(move || asked.strong_count() == 0 || Moment::now() > late))?;
        Ok(Self(c))
    }
}

impl Drop for Watched<'_> {
    fn drop(&mut self) {
        let _ = self.0.progress_handler(0, None::<fn() -> bool>);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn add(c: &Connection, name: &str) -> crate::Result<()> {
        c.execute("INSERT INTO topic (name) VALUES (?1)", [name])?;
        Ok(())
    }

    /// Events that fail half done leave nothing, and take nobody else's event with them.
    #[tokio::test]
    async fn a_failing_event_undoes_itself_alone() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), true).unwrap();
        let done = futures::future::join_all((0..200).map(|i| {
            let store = store.clone();
            async move {
                store
                    .record(move |c| {
                        add(c, &format!("event {i}"))?;
                        if i % 7 == 0 { Err(StoreError::Missing("topic")) } else { Ok(()) }
                    })
                    .await
            }
        }))
        .await;
        assert_eq!(done.iter().filter(|d| d.is_err()).count(), 29);
        let left: i64 = store.read_now(|c| Ok(c.query_row("SELECT count(*) FROM topic", [], |r| r.get(0))?)).unwrap();
        assert_eq!(left, 171);
    }

    /// A question that nobody waits for any more ends, and its connection answers the next.
    #[tokio::test]
    async fn a_question_that_nobody_waits_for_is_given_up() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), true).unwrap().with_own_readers(1).unwrap();
        let endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n";
        let (tell, told) = tokio::sync::oneshot::channel();
        let asked = store.read(move |c| {
            let found = c.query_row(endless, [], |r| r.get::<_, i64>(0)).map_err(StoreError::from);
            let _ = tell.send(matches!(found, Err(StoreError::Late)));
            found
        });
        assert!(tokio::time::timeout(Duration::from_millis(20), asked).await.is_err());
        assert!(told.await.unwrap(), "it was given up");
        assert_eq!(store.read(|c| Ok(c.query_row("SELECT 7", [], |r| r.get::<_, i64>(0))?)).await.unwrap(), 7);
    }

    /// Whatever is answered is in the file, in the order in which it was asked for.
    #[tokio::test]
    async fn writes_and_events_keep_their_order() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), true).unwrap();
        let event = store.record(|c| add(c, "first"));
        let write = store.write(|c| add(c, "second"));
        let again = store.record(|c| add(c, "third"));
        let refused = store.write(|c| {
            add(c, "never")?;
            add(c, "never")
        });
        let (a, b, d, e) = futures::join!(event, write, again, refused);
        assert!(a.is_ok() && b.is_ok() && d.is_ok() && e.is_err());
        let names: Vec<String> = store
            .read_now(|c| {
                Ok(c.prepare("SELECT name FROM topic ORDER BY id")?.query_map([], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
            })
            .unwrap();
        assert_eq!(names, ["first", "second", "third"]);
    }
}
