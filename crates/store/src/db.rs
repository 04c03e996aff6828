//! Opening the file, migrations, the reader pool and the writer thread.

use r2d2::Pool;
use r2d2_sqlite::SqliteConnectionManager;
pub use rusqlite::Connection;
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

type Job = Box<dyn FnOnce(&Connection) -> Box<dyn FnOnce(bool) + Send> + Send>;

/// A handle to the data file; cheap to clone.
#[derive(Clone)]
pub struct Store {
    readers: Pool<SqliteConnectionManager>,
    writer: mpsc::Sender<Job>,
    folder: Arc<PathBuf>,
}

const MIGRATIONS: &[M<'_>] = &[M::up(include_str!("../migrations/001_base.sql"))];
/// Jobs that may share one transaction, hence one wait for the disk.
const GROUP: usize = 1_000;

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
        if durable {
            conn.pragma_update(None, "synchronous", "FULL")?;
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
        Migrations::from_slice(MIGRATIONS).to_latest(&mut conn)?;
        let readers = Pool::builder().max_size(8).min_idle(Some(1)).build(SqliteConnectionManager::file(&path).with_init(|c| {
            c.pragma_update(None, "query_only", true)?;
            pragmas(c)
        }))?;
        let (writer, jobs) = mpsc::channel();
        std::thread::Builder::new().name("rinse-writer".into()).spawn(move || write_loop(&conn, &jobs))?;
        Ok(Self { readers, writer, folder: Arc::new(folder.to_owned()) })
    }

    /// The data folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
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
    pub async fn write<T: Send + 'static>(&self, f: impl FnOnce(&Connection) -> crate::Result<T> + Send + 'static) -> crate::Result<T> {
        let (tell, told) = tokio::sync::oneshot::channel();
        let job: Job = Box::new(move |conn| {
            let result = savepoint(conn, f);
            Box::new(move |committed| {
                let _ = tell.send(if committed { result } else { Err(StoreError::Stopped) });
            })
        });
        self.writer.send(job).map_err(|_| StoreError::Stopped)?;
        told.await.map_err(|_| StoreError::Stopped)?
    }
}

fn pragmas(conn: &Connection) -> rusqlite::Result<()> {
    conn.pragma_update(None, "foreign_keys", true)?;
    conn.pragma_update(None, "cache_size", -32_000)?;
    conn.pragma_update(None, "temp_store", "MEMORY")?;
    conn.busy_timeout(std::time::Duration::from_secs(10))?;
    conn.set_prepared_statement_cache_capacity(128);
    rusqlite::vtab::array::load_module(conn)
}

fn savepoint<T>(conn: &Connection, f: impl FnOnce(&Connection) -> crate::Result<T>) -> crate::Result<T> {
    conn.prepare_cached("SAVEPOINT job")?.execute([])?;
    let result = f(conn);
    if result.is_err() {
        conn.prepare_cached("ROLLBACK TO job")?.execute([])?;
    }
    conn.prepare_cached("RELEASE job")?.execute([])?;
    result
}

fn write_loop(conn: &Connection, jobs: &mpsc::Receiver<Job>) {
    while let Ok(first) = jobs.recv() {
        let begun = conn.execute_batch("BEGIN IMMEDIATE").is_ok();
        let mut answers = vec![first(conn)];
        while answers.len() < GROUP {
            match jobs.try_recv() {
                Ok(job) => answers.push(job(conn)),
                Err(_) => break,
            }
        }
        let committed = begun && conn.execute_batch("COMMIT").map_err(|e| tracing::error!("a commit failed: {e}")).is_ok();
        if !committed {
            let _ = conn.execute_batch("ROLLBACK");
        }
        for answer in answers {
            answer(committed);
        }
    }
}
