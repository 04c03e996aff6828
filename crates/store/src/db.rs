//! Opening the file, migrations, the reader pool and the writer thread.

use crate::journal::Journal;
use crate::kept::Kept;
use r2d2::Pool;
use r2d2_sqlite::SqliteConnectionManager;
pub use rusqlite::Connection;
use rusqlite::OpenFlags;
use rusqlite_migration::{M, Migrations};
use std::path::{Path, PathBuf};
use std::sync::{Arc, mpsc};

/// What can go wrong with the data file, in sentences.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("The data folder {folder} can't be written ({why}). Give another with --data, or make it writable.")]
    Folder { folder: PathBuf, why: String },
    #[error("The data file {0} was made by a newer Rinse. Start that version, or restore a backup made by this one.")]
    Newer(PathBuf),
    #[error("{0}")]
    Refused(String),
    #[error("There is no {0} with that number.")]
    Missing(&'static str),
    #[error("The database answered: {0}")]
    Sqlite(#[from] rusqlite::Error),
    #[error("The data file can't be brought up to date: {0}")]
    Migration(#[from] rusqlite_migration::Error),
    #[error("No connection to the data file is free: {0}")]
    Pool(#[from] r2d2::Error),
    #[error("A file in the data folder can't be used: {0}")]
    Io(#[from] std::io::Error),
    #[error("The table can't be read: {0}")]
    Csv(#[from] csv::Error),
    #[error("A stored value can't be read: {0}")]
    Json(#[from] serde_json::Error),
    #[error("The store has stopped.")]
    Stopped,
}

/// Work for the writer thread: run inside a transaction, answered after it.
trait Job: Send {
    /// Runs; false when it failed.
    fn run(&mut self, c: &Connection) -> bool;
    /// May it be run again after a rollback?
    fn repeatable(&self) -> bool;
    /// Tells the one who waits.
    fn answer(self: Box<Self>, committed: bool);
}

struct Task<F, T, const REPEATABLE: bool> {
    work: Option<F>,
    result: Option<crate::Result<T>>,
    tell: tokio::sync::oneshot::Sender<crate::Result<T>>,
}

impl<F, T, const REPEATABLE: bool> Task<F, T, REPEATABLE> {
    fn tell(self, committed: bool) {
        let result = self.result.filter(|r| committed || r.is_err()).unwrap_or(Err(StoreError::Stopped));
        let _ = self.tell.send(result);
    }
}

impl<F: FnOnce(&Connection) -> crate::Result<T> + Send, T: Send> Job for Task<F, T, false> {
    fn run(&mut self, c: &Connection) -> bool {
        self.result = self.work.take().map(|f| f(c));
        matches!(self.result, Some(Ok(_)))
    }
    fn repeatable(&self) -> bool {
        false
    }
    fn answer(self: Box<Self>, committed: bool) {
        (*self).tell(committed);
    }
}

impl<F: Fn(&Connection) -> crate::Result<T> + Send, T: Send> Job for Task<F, T, true> {
    fn run(&mut self, c: &Connection) -> bool {
        self.result = self.work.as_ref().map(|f| f(c));
        matches!(self.result, Some(Ok(_)))
    }
    fn repeatable(&self) -> bool {
        true
    }
    fn answer(self: Box<Self>, committed: bool) {
        (*self).tell(committed);
    }
}

/// A handle to the data file; cheap to clone.
#[derive(Clone)]
pub struct Store {
    readers: Pool<SqliteConnectionManager>,
    writer: mpsc::Sender<Box<dyn Job>>,
    folder: Arc<PathBuf>,
    replayed: crate::journal::Replayed,
    kept: Arc<Kept>,
}

const MIGRATIONS: &[M<'_>] = &[
    M::up(include_str!("../migrations/001_base.sql")),
    M::up(include_str!("../migrations/002_people.sql")),
    M::up(include_str!("../migrations/003_changes.sql")),
    M::up(include_str!("../migrations/004_rollups.sql")),
    M::up(include_str!("../migrations/005_clearance.sql")),
    M::up(include_str!("../migrations/006_proof.sql")),
    M::up(include_str!("../migrations/007_mailings.sql")),
    M::up(include_str!("../migrations/008_reactions_and_trials.sql")),
    M::up(include_str!("../migrations/009_entities_and_trials.sql")),
    M::up(include_str!("../migrations/010_variants_and_trials.sql")),
    M::up(include_str!("../migrations/011_series.sql")).foreign_key_check(),
    M::up(include_str!("../migrations/012_figures_and_caught.sql")),
    M::up(include_str!("../migrations/013_series_trials.sql")),
    M::up(include_str!("../migrations/014_text_messages.sql")),
];
/// Jobs that may share one transaction, hence one wait for the disk.
const GROUP: usize = 1_000;
/// People whose responses are rolled up before the writer looks for jobs again: some 10 ms.
const ROLLED_AT_ONCE: usize = 200;
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
    Ok(other)
}
/// Events are small: more of them share one.
const GROUP_OF_EVENTS: usize = 4_000;

impl Store {
    /// Opens (or makes) `rinse.db` in the folder and brings it up to date.
    ///
    /// `durable`: every answered write survives a power cut. Without it only a file that can be
    /// made again should be written, as the demo's history is.
    ///
    /// # Errors
    /// When the folder can't be written, or the file is of a newer version.
    pub fn open(folder: &Path, durable: bool) -> crate::Result<Self> {
        let unwritable = |why: std::io::Error| StoreError::Folder { folder: folder.to_owned(), why: why.to_string() };
        std::fs::create_dir_all(folder.join("imports")).map_err(unwritable)?;
        let probe = folder.join(".writable");
        std::fs::write(&probe, b"").and_then(|()| std::fs::remove_file(&probe)).map_err(unwritable)?;
        let path = folder.join("rinse.db");
        let mut conn = Connection::open(&path)?;
        conn.pragma_update(None, "journal_mode", "WAL")?;
        pragmas(&conn)?;
        // What a savepoint would take back goes to a file when there is much of it, not into memory.
        conn.pragma_update(None, "temp_store", "FILE")?;
        if durable {
            conn.pragma_update(None, "synchronous", "FULL")?;
            // What is written moves on into the file in small portions, so that nobody waits long for one.
            conn.pragma_update(None, "wal_autocheckpoint", 500)?;
        } else {
            // For a file that is thrown away when it doesn't get whole.
            conn.pragma_update(None, "synchronous", "OFF")?;
            conn.pragma_update(None, "wal_autocheckpoint", 20_000)?;
            conn.pragma_update(None, "cache_size", -200_000)?;
        }
        let version: usize = conn.query_row("PRAGMA user_version", [], |r| r.get::<_, i64>(0))?.try_into().unwrap_or(usize::MAX);
        if version > MIGRATIONS.len() {
            return Err(StoreError::Newer(path));
        }
        // A table that is written anew is dropped in between, which references to it wouldn't allow; they are checked afterwards.
        conn.pragma_update(None, "foreign_keys", false)?;
        Migrations::from_slice(MIGRATIONS).to_latest(&mut conn)?;
        conn.pragma_update(None, "foreign_keys", true)?;
        crate::ledger::seal_earlier(&conn)?;
        let mut journal = Journal::open(folder, durable).map_err(unwritable)?;
        let replayed = crate::journal::replay(&conn, folder)?;
        let readers = Pool::builder().max_size(8).min_idle(Some(1)).build(SqliteConnectionManager::file(&path).with_init(|c| {
            c.pragma_update(None, "query_only", true)?;
            // Readers look at the file's pages where the system keeps them, without copying.
            c.pragma_update(None, "mmap_size", MAPPED)?;
            pragmas(c)
        }))?;
        let kept = Kept::of(&conn)?;
        let (writer, jobs) = mpsc::channel();
        let told = Arc::clone(&kept);
        std::thread::Builder::new().name("rinse-writer".into()).spawn(move || write_loop(&conn, &jobs, &mut journal, &told))?;
        Ok(Self { readers, writer, folder: Arc::new(folder.to_owned()), replayed, kept })
    }

    /// Opens the data file to look at alone, beside a Rinse that may be running on it.
    ///
    /// # Errors
    /// When there is no data file, or one of another version.
    pub fn look(folder: &Path) -> crate::Result<Connection> {
        let path = folder.join("rinse.db");
        if !path.exists() {
            return Err(StoreError::Refused(format!("There is no data file in {}. Give its folder with --data.", folder.display())));
        }
        let c = Connection::open_with_flags(&path, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        pragmas(&c)?;
        let version: usize = c.query_row("PRAGMA user_version", [], |r| r.get::<_, i64>(0))?.try_into().unwrap_or(usize::MAX);
        match version.cmp(&MIGRATIONS.len()) {
            std::cmp::Ordering::Equal => Ok(c),
            std::cmp::Ordering::Greater => Err(StoreError::Newer(path)),
            std::cmp::Ordering::Less => Err(StoreError::Refused(format!(
                "{} is of an older Rinse: start this one on it once, which brings it up to date.",
                path.display()
            ))),
        }
    }

    /// Lets go of what was kept in memory and nobody has asked for lately.
    pub fn rest(&self) {
        self.kept.rest();
    }

    /// The data folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// What the journal had to tell when the store was opened: people who left since a backup.
    #[must_use]
    pub fn replayed(&self) -> crate::journal::Replayed {
        self.replayed
    }

    /// Reads on this thread.
    ///
    /// # Errors
    /// Whatever `f` returns, or when no connection is to be had.
    pub fn read_now<T>(&self, f: impl FnOnce(&Connection) -> crate::Result<T>) -> crate::Result<T> {
        let conn = self.readers.get()?;
        f(&conn)
    }

    /// Reads on a thread for blocking work.
    ///
    /// # Errors
    /// As [`Store::read_now`].
    pub async fn read<T: Send + 'static>(&self, f: impl FnOnce(&Connection) -> crate::Result<T> + Send + 'static) -> crate::Result<T> {
        let store = self.clone();
        tokio::task::spawn_blocking(move || store.read_now(f)).await.map_err(|_| StoreError::Stopped)?
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
        let (tell, told) = tokio::sync::oneshot::channel();
        self.queue(Box::new(Task::<F, T, false> { work: Some(f), result: None, tell }))?;
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
        let (tell, told) = tokio::sync::oneshot::channel();
        self.queue(Box::new(Task::<F, T, true> { work: Some(f), result: None, tell }))?;
        told.await.map_err(|_| StoreError::Stopped)?
    }

    fn queue(&self, job: Box<dyn Job>) -> crate::Result<()> {
        self.writer.send(job).map_err(|_| StoreError::Stopped)
    }
}

fn pragmas(conn: &Connection) -> rusqlite::Result<()> {
    conn.pragma_update(None, "foreign_keys", true)?;
    conn.pragma_update(None, "cache_size", -32_000)?;
    conn.pragma_update(None, "temp_store", "MEMORY")?;
    conn.busy_timeout(std::time::Duration::from_secs(10))?;
    conn.set_prepared_statement_cache_capacity(128);
    rusqlite::vtab::array::load_module(conn)?;
    functions(conn)
}

/// The core's functions that conditions of segments are compiled to.
fn functions(conn: &Connection) -> rusqlite::Result<()> {
    use rinse_core::score;
    use rinse_core::segment::{fold, place, share};
    use rusqlite::functions::FunctionFlags;
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_INNOCUOUS;
    // Words as they are compared; missing when there are none.
    conn.create_scalar_function("fold", 1, flags, |x| Ok(x.get::<Option<String>>(0)?.map(|t| fold(&t)).filter(|t| !t.is_empty())))?;
    // Not deterministic to SQLite: its sets change from count to count.
    conn.create_scalar_function("in_set", 2, FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_INNOCUOUS, |x| {
        Ok(crate::segments::sets::has(x.get(0)?, x.get(1)?))
    })?;
    conn.create_scalar_function("distance_km", 4, flags, |x| {
        let from = x.get::<Option<f64>>(0)?.zip(x.get::<Option<f64>>(1)?);
        let to = (x.get::<f64>(2)?, x.get::<f64>(3)?);
        Ok(from.map(|from| place::distance_km(from, to)))
    })?;
    conn.create_scalar_function("score_at", 4, flags, |x| {
        let standing = score::Standing { value: x.get(0)?, as_of: rinse_core::Instant(x.get(1)?) };
        Ok(standing.at(rinse_core::Instant(x.get(3)?), x.get(2)?))
    })?;
    conn.create_scalar_function("stable_share", 2, flags, |x| Ok(share::draw(x.get_raw(0).as_str()?, x.get(1)?)))
}

/// Runs one job so that nothing of it stays when it fails.
fn in_savepoint(c: &Connection, job: &mut dyn Job) -> rusqlite::Result<()> {
    c.prepare_cached("SAVEPOINT job")?.execute([])?;
    if !job.run(c) {
        c.prepare_cached("ROLLBACK TO job")?.execute([])?;
    }
    c.prepare_cached("RELEASE job")?.execute([])?;
    Ok(())
}

/// Runs a group of repeatable jobs as they are; false when one failed after it had changed rows.
fn as_they_are(c: &Connection, jobs: &mut [Box<dyn Job>]) -> bool {
    jobs.iter_mut().all(|job| {
        let before = c.total_changes();
        job.run(c) || c.total_changes() == before
    })
}

/// One transaction; false when it could not be committed.
fn transaction(c: &Connection, jobs: &mut [Box<dyn Job>], repeatable: bool, journal: &mut Journal) -> bool {
    let done = (|| {
        c.execute_batch("BEGIN IMMEDIATE")?;
        if let [job] = jobs {
            // Alone it needs no savepoint, for which every page it touches would be copied.
            if !job.run(c) {
                return c.execute_batch("ROLLBACK");
            }
        } else if repeatable && !as_they_are(c, jobs) {
            c.execute_batch("ROLLBACK; BEGIN IMMEDIATE")?;
            jobs.iter_mut().try_for_each(|job| in_savepoint(c, job.as_mut()))?;
        } else if !repeatable {
            jobs.iter_mut().try_for_each(|job| in_savepoint(c, job.as_mut()))?;
        }
        // Who leaves is in the journal before the database says so.
        journal.flush(c)?;
        c.execute_batch("COMMIT")
    })();
    if let Err(e) = &done {
        tracing::error!("a commit failed: {e}");
        let _ = c.execute_batch("ROLLBACK");
    }
    done.is_ok()
}

/// The next job. Until one comes, responses are rolled up, a little at a time.
fn while_idle(c: &Connection, jobs: &mpsc::Receiver<Box<dyn Job>>) -> Option<Box<dyn Job>> {
    let mut left = true;
    while left {
        match jobs.try_recv() {
            Ok(job) => return Some(job),
            Err(mpsc::TryRecvError::Disconnected) => return None,
            Err(mpsc::TryRecvError::Empty) => {}
        }
        if c.execute_batch("BEGIN IMMEDIATE").is_err() {
            break;
        }
        let done = crate::rollups::some(c, ROLLED_AT_ONCE);
        left = matches!(done, Ok(true));
        if c.execute_batch(if done.is_ok() { "COMMIT" } else { "ROLLBACK" }).is_err() {
            let _ = c.execute_batch("ROLLBACK");
        }
        if let Err(e) = done {
            tracing::warn!("responses could not be rolled up, and are counted one by one: {e}");
        }
    }
    jobs.recv().ok()
}

/// Takes waiting jobs in their order, groups neighbours of the same kind, and answers after each
/// commit.
fn write_loop(c: &Connection, jobs: &mpsc::Receiver<Box<dyn Job>>, journal: &mut Journal, kept: &Kept) {
    let mut next = None;
    while let Some(first) = next.take().or_else(|| while_idle(c, jobs)) {
        let repeatable = first.repeatable();
        let mut group = vec![first];
        let most = if repeatable { GROUP_OF_EVENTS } else { GROUP };
        while group.len() < most {
            match jobs.try_recv() {
                Ok(job) if job.repeatable() == repeatable => group.push(job),
                Ok(job) => {
                    next = Some(job);
                    break;
                }
                Err(_) => break,
            }
        }
        let committed = transaction(c, &mut group, repeatable, journal);
        kept.finished(committed);
        for job in group {
            job.answer(committed);
        }
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
