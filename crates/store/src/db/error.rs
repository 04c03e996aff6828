//! What can go wrong with the data file, in sentences.

use std::path::PathBuf;
use std::time::Duration;

/// No question takes longer: who asked has been told so by then.
pub(crate) const READ_PATIENCE: Duration = Duration::from_secs(120);

/// Why something couldn't be read or written.
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
