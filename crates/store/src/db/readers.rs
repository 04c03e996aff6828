//! Connections to read with. As long as one is open, the writer knows: it closes last, and takes the write-ahead log along. Two that close
//! in the same moment would each leave the log to the other, and with it what a deletion left there.

use r2d2::ManageConnection;
use r2d2_sqlite::SqliteConnectionManager;
use rusqlite::Connection;
use std::ops::Deref;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

/// Nobody reads so long when all handles to the store are gone.
const PATIENCE: Duration = Duration::from_secs(10);

/// Held by everything that reads the file.
#[derive(Clone)]
pub(crate) struct Open {
    _held: Sender<()>,
}

/// Knows when nobody reads the file any more.
pub(crate) struct Closed(Receiver<()>);

impl Open {
    pub(crate) fn told() -> (Self, Closed) {
        let (held, closed) = channel();
        (Self { _held: held }, Closed(closed))
    }
}

impl Closed {
    /// Waits until every [`Open`] is gone.
    pub(crate) fn wait(&self) {
        let _ = self.0.recv_timeout(PATIENCE);
    }
}

/// Opens connections of a pool.
pub(crate) struct Readers {
    pub(crate) files: SqliteConnectionManager,
    pub(crate) open: Open,
}

/// A connection of a pool. It is closed before it says so.
pub(crate) struct Reader {
    c: Connection,
    _open: Open,
}

impl Deref for Reader {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        &self.c
    }
}

impl ManageConnection for Readers {
    type Connection = Reader;
    type Error = rusqlite::Error;

    fn connect(&self) -> rusqlite::Result<Reader> {
        let open = self.open.clone();
        Ok(Reader { c: self.files.connect()?, _open: open })
    }

    fn is_valid(&self, reader: &mut Reader) -> rusqlite::Result<()> {
        self.files.is_valid(&mut reader.c)
    }

    fn has_broken(&self, reader: &mut Reader) -> bool {
        self.files.has_broken(&mut reader.c)
    }
}
