//! Opening the file, migrations, the reader pool and the writer thread.

use crate::kept::Kept;
use crate::writer::{Entrance, Lane, Task};
use r2d2::Pool;
use r2d2_sqlite::SqliteConnectionManager;
use rinse_core::Instant;
pub use rusqlite::Connection;
use rusqlite::OpenFlags;
use rusqlite::trace::{TraceEvent, TraceEventCodes};
use rusqlite_migration::{M, Migrations};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant as Moment};

/// What can go wrong with the data file, in sentences.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("The data folder {folder} can't be written ({why}). Give another with --data, or make it writable.")]
    Folder { folder: PathBuf, why: String },
    #[error("The data file {0} was made by a newer Rinse. Start that version, or restore a backup made by this one.")]
    Newer(PathBuf),
    #[error("{0}")]
    Refused(String),
    /// Somebody else changed it meanwhile.
    #[error("{0}")]
    Stale(String),
    #[error("There is no {0} with that number.")]
    Missing(&'static str),
    #[error("A stored value can't be read, and nothing is done with it: {0}. Restore a backup, or report it.")]
    Unreadable(String),
    #[error("The database answered: {0}")]
    Sqlite(rusqlite::Error),
    #[error("This asks too much: it was given up after {} s. Ask for less, a shorter time or fewer people, and try again.", READ_PATIENCE.as_secs())]
    Late,
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
    #[error("The change could not be put on the disk, which may be full. Nothing of it was kept: make room, and try again.")]
    Unkept,
    #[error("The change failed inside Rinse, and nothing of it was kept. The log says more; try again, and report it if it stays.")]
    Broke,
}

impl From<rusqlite::Error> for StoreError {
    fn from(e: rusqlite::Error) -> Self {
        use rusqlite::ffi::{ErrorCode, SQLITE_CONSTRAINT_FOREIGNKEY};
        match e.sqlite_error() {
            None if matches!(e, rusqlite::Error::FromSqlConversionFailure(..)) => Self::Unreadable(e.to_string()),
            Some(s) if s.code == ErrorCode::OperationInterrupted => Self::Late,
            // Each caller says what is missing or still used; this is for whatever none of them thought of.
            Some(s) if s.extended_code == SQLITE_CONSTRAINT_FOREIGNKEY => {
                Self::Refused("It names something that isn’t there any more, or something else still depends on it. Nothing was changed: load the page again.".into())
            }
            _ => Self::Sqlite(e),
        }
    }
}

/// A handle to the data file; cheap to clone.
#[derive(Clone)]
pub struct Store {
    readers: Pool<SqliteConnectionManager>,
    writer: Arc<Entrance>,
    folder: Arc<PathBuf>,
    replayed: Arc<crate::journal::Replayed>,
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
    M::up(include_str!("../migrations/015_nothing_lost.sql")),
    M::up(include_str!("../migrations/016_figures.sql")),
    M::up(include_str!("../migrations/017_sharper_trials.sql")),
    M::up(include_str!("../migrations/018_hour_trials.sql")),
    M::up(include_str!("../migrations/019_upkeep.sql")),
    M::up(include_str!("../migrations/020_silence.sql")),
    M::up(include_str!("../migrations/021_record_system.sql")),
    M::up(include_str!("../migrations/022_evidence.sql")),
    M::up(include_str!("../migrations/023_machine_rules.sql")),
    M::up(include_str!("../migrations/024_places.sql")),
    M::up(include_str!("../migrations/025_brought.sql")),
    M::up(include_str!("../migrations/026_links.sql")),
    M::up(include_str!("../migrations/027_load.sql")),
    M::up(include_str!("../migrations/028_cohorts.sql")),
    M::up(include_str!("../migrations/029_letters.sql")),
    M::up(include_str!("../migrations/030_done.sql")),
    M::up(include_str!("../migrations/031_labels.sql")),
    M::up(include_str!("../migrations/032_kept_answers.sql")),
    M::up(include_str!("../migrations/033_reports_in.sql")),
    M::up(include_str!("../migrations/034_flow.sql")),
    M::up(include_str!("../migrations/035_names.sql")),
    M::up(include_str!("../migrations/036_warm_up.sql")),
    M::up(include_str!("../migrations/037_do_not_write.sql")),
    M::up(include_str!("../migrations/038_put_off.sql")),
    M::up(include_str!("../migrations/039_readings.sql")),
    M::up(include_str!("../migrations/040_told.sql")),
    M::up(include_str!("../migrations/041_history.sql")),
    M::up(include_str!("../migrations/042_standing.sql")),
];
/// The first version of the file in which what is deleted is overwritten.
const OVERWRITES: usize = 15;
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
        crate::backup::finish(folder)?;
        crate::backup::may_begin(folder)?;
        crate::files::close(folder).map_err(unwritable)?;
        let path = folder.join(crate::backup::DATABASE);
        // SQLite gives its other files the rights of this one.
        let mut options = std::fs::OpenOptions::new();
        options.write(true).create(true).truncate(false);
        crate::files::private(&mut options);
        options.open(&path).map_err(unwritable)?;
        let mut conn = Connection::open(&path)?;
        conn.pragma_update(None, "journal_mode", "WAL")?;
        // What is deleted is overwritten: a deleted person's address stays in no free page.
        conn.pragma_update(None, "secure_delete", true)?;
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
        // A table that is written again is dropped in between, which references to it wouldn't allow; they are checked afterwards.
        conn.pragma_update(None, "foreign_keys", false)?;
        Migrations::from_slice(MIGRATIONS).to_latest(&mut conn)?;
        conn.pragma_update(None, "foreign_keys", true)?;
        if (1..OVERWRITES).contains(&version) {
            // Earlier versions left what was deleted in free pages.
            tracing::info!("the data file is written once more, so that nothing deleted stays in it");
            if let Err(e) = conn.execute_batch("VACUUM; PRAGMA wal_checkpoint(TRUNCATE)") {
                tracing::warn!(
                    "The data file could not be written once more ({e}): traces of people deleted by an earlier version stay in its free pages. Make room and run VACUUM on it."
                );
            }
        }
        crate::figures::kept::keep(&conn)?;
        crate::ledger::seal_earlier(&conn)?;
        let (journal, replayed) = crate::journal::open(&conn, folder, durable)?;
        let readers = readers_of(&path, READERS)?;
        let kept = Kept::of(&conn)?;
        let writer = Arc::new(crate::writer::start(conn, journal, Arc::clone(&kept))?);
        Ok(Self { readers, writer, folder: Arc::new(folder.to_owned()), replayed: Arc::new(replayed), kept })
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

    /// The same store, read by connections of its own.
    ///
    /// # Errors
    /// When no connection is to be had.
    pub fn with_own_readers(&self, readers: u32) -> crate::Result<Self> {
        Ok(Self { readers: readers_of(&self.folder.join(crate::backup::DATABASE), readers)?, ..self.clone() })
    }

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

    /// The data folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// What the journal had to tell when the store was opened: people who left since a backup.
    #[must_use]
    pub fn replayed(&self) -> &crate::journal::Replayed {
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

    /// The longest that the writer held the file for one transaction since it was opened.
    #[must_use]
    pub fn longest_hold(&self) -> Duration {
        self.writer.longest_hold()
    }
}

/// No question takes longer: who asked has been told so by then.
const READ_PATIENCE: Duration = Duration::from_secs(120);
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

/// Questions that are answered at the same time.
const READERS: u32 = 8;

fn readers_of(path: &Path, most: u32) -> crate::Result<Pool<SqliteConnectionManager>> {
    Ok(Pool::builder().max_size(most).min_idle(Some(1)).build(SqliteConnectionManager::file(path).with_init(|c| {
        c.pragma_update(None, "query_only", true)?;
        // Readers look at the file's pages where the system keeps them, without copying.
        c.pragma_update(None, "mmap_size", MAPPED)?;
        pragmas(c)
    }))?)
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
    use rinse_core::segment::{place, share};
    use rinse_core::words::fold;
    use rusqlite::functions::FunctionFlags;
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_INNOCUOUS;
    // Words as they are compared; missing when there are none.
    conn.create_scalar_function("fold", 1, flags, |x| Ok(x.get::<Option<String>>(0)?.map(|t| fold(&t)).filter(|t| !t.is_empty())))?;
    conn.create_scalar_function("local_hour", 2, flags, |x| {
        Ok(crate::figures::local_hour(&x.get::<Option<String>>(0)?.unwrap_or_default(), Instant(x.get(1)?)))
    })?;
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

#[cfg(test)]
mod tests {
    use super::*;

    fn add(c: &Connection, name: &str) -> crate::Result<()> {
        c.execute("INSERT INTO topic (name) VALUES (?1)", [name])?;
        Ok(())
    }

    #[test]
    fn migrations_are_sound() {
        Migrations::from_slice(MIGRATIONS).validate().unwrap();
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
