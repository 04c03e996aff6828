//! The base in columns, kept between clearances.
//!
//! Reading a million rows takes most of a second; deciding takes a tenth of it. So the columns stay in
//! memory, and the writer notes whose rows change ([`Notes`], by SQLite's update hook): the next
//! clearance reads those anew and no others. Notes are made before a change is committed and dropped
//! only when it was committed before the reading began, so nothing is ever missed; what is read twice
//! does no harm. A clearance inside a write sees that write's own changes, and since they are noted, a
//! write that fails leaves nothing of them.
//!
//! A connection finds what is kept for its file by the file's name; one to a file that nobody keeps
//! anything for (another process's) loads everything.

use super::base::{self, People};
use crate::Result;
use crate::db::{beside, readable_beside};
use rinse_core::Instant;
use rinse_core::clearance::columns::Messages;
use rusqlite::hooks::Action;
use rusqlite::{Connection, OptionalExtension};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError, Weak};

/// Everybody, with the messages that count or are reserved.
#[derive(Clone)]
pub(super) struct Columns {
    pub(super) people: Arc<People>,
    pub(super) messages: Arc<Messages>,
}

struct Kept {
    columns: Columns,
    /// Messages are there from this instant on.
    since: Instant,
    used: std::time::Instant,
}

/// Past so many notes it is quicker to load everything again.
const MOST_NOTES: usize = 100_000;
/// Unused for so long, what is kept is let go.
const REST: std::time::Duration = std::time::Duration::from_secs(600);

/// Whose rows changed, each with the number of the transaction.
#[derive(Default)]
struct Notes {
    /// Something is kept. While nothing is, only the running transaction's notes are: columns may be read
    /// in its midst.
    on: bool,
    /// The running transaction changed more than is worth noting.
    too_many: bool,
    contacts: HashMap<i64, u64>,
    sends: HashMap<i64, u64>,
    committed: u64,
}

/// What is kept for one data file, and what changed since.
#[derive(Default)]
pub(crate) struct Warm {
    kept: Mutex<Option<Kept>>,
    notes: Mutex<Notes>,
}

static FILES: LazyLock<Mutex<HashMap<PathBuf, Weak<Warm>>>> = LazyLock::new(Mutex::default);

fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Warm {
    /// What is kept for the writer's file from now on, told of every change that it makes.
    pub(crate) fn of(writer: &Connection) -> Result<Arc<Self>> {
        let warm = Arc::new(Self::default());
        // As SQLite itself names the file: whole, however it was opened.
        let path = PathBuf::from(writer.path().unwrap_or_default());
        let mut files = lock(&FILES);
        files.retain(|_, w| w.strong_count() > 0);
        files.insert(path, Arc::downgrade(&warm));
        let told = Arc::clone(&warm);
        writer.update_hook(Some(move |action: Action, _: &str, table: &str, row: i64| match table {
            "contact" => told.note(row, action, true),
            "send" => told.note(row, action, false),
            _ => {}
        }))?;
        Ok(warm)
    }

    fn note(&self, row: i64, action: Action, contact: bool) {
        let mut n = lock(&self.notes);
        if n.too_many {
            return;
        }
        if action == Action::SQLITE_DELETE || n.contacts.len() + n.sends.len() >= MOST_NOTES {
            n.forget();
            n.too_many = true;
            return;
        }
        let now = n.committed + 1;
        if contact {
            n.contacts.insert(row, now)
        } else {
            n.sends.insert(row, now)
        };
    }

    /// The writer's transaction is over.
    pub(crate) fn finished(&self, committed: bool) {
        let mut n = lock(&self.notes);
        n.committed += u64::from(committed);
        if n.too_many || !n.on {
            n.forget();
        }
    }

    /// Lets go of what nobody has asked for lately.
    pub(crate) fn rest(&self) {
        let mut kept = lock(&self.kept);
        if kept.as_ref().is_some_and(|k| k.used.elapsed() > REST) {
            *kept = None;
            lock(&self.notes).forget();
        }
    }

    fn columns(&self, c: &Connection, since: Instant) -> Result<Columns> {
        let mut kept = lock(&self.kept);
        let (begun, good, keep) = {
            let mut n = lock(&self.notes);
            let found = (n.committed, n.on, !n.too_many);
            n.on = !n.too_many;
            found
        };
        if !good {
            *kept = None;
        }
        if !keep {
            return load(c, since);
        }
        if let Some(k) = kept.as_mut().filter(|k| k.since <= since) {
            if self.refresh(c, k)? {
                lock(&self.notes).settle(begun);
                k.used = std::time::Instant::now();
                return Ok(k.columns.clone());
            }
            *kept = None;
        }
        // Somebody's rows may change while they are read: the notes of that stay for the next time.
        let columns = load(c, since)?;
        let mut k = Kept { columns, since, used: std::time::Instant::now() };
        if !self.refresh(c, &mut k)? {
            return Ok(k.columns);
        }
        lock(&self.notes).settle(begun);
        let columns = k.columns.clone();
        *kept = Some(k);
        Ok(columns)
    }

    /// Reads anew what changed; false when everything has to be.
    fn refresh(&self, c: &Connection, k: &mut Kept) -> Result<bool> {
        let (mut contacts, sends): (Vec<i64>, Vec<i64>) = {
            let n = lock(&self.notes);
            (n.contacts.keys().copied().collect(), n.sends.keys().copied().collect())
        };
        if contacts.is_empty() && sends.is_empty() {
            return Ok(true);
        }
        if !contacts.is_empty() {
            contacts.sort_unstable();
            if !Arc::make_mut(&mut k.columns.people).refresh(c, &contacts)? {
                return Ok(false);
            }
        }
        let mut whose = c.prepare_cached("SELECT contact_id FROM send WHERE id = ?1")?;
        for send in sends {
            // A message that a running write is adding isn't there for a reader yet, and one of a write that failed
            // never will be: whose it was can't be known, so everything is read.
            let Some(contact) = whose.query_row([send], |r| r.get(0)).optional()? else { return Ok(false) };
            contacts.push(contact);
        }
        contacts.sort_unstable();
        contacts.dedup();
        let theirs = base::messages_of(c, &contacts, k.since)?;
        k.columns.messages = Arc::new(k.columns.messages.with(&k.columns.people.base.contact, &theirs, false));
        Ok(true)
    }
}

impl Notes {
    fn forget(&mut self) {
        *self = Self { committed: self.committed, ..Self::default() };
    }

    /// Drops the notes of what was committed by then.
    fn settle(&mut self, committed: u64) {
        self.contacts.retain(|_, at| *at > committed);
        self.sends.retain(|_, at| *at > committed);
    }
}

/// Notes by hand that a person's messages changed: of rows that went to somebody else.
pub(crate) fn changed(c: &Connection, contact: i64) {
    if let Some(warm) = found(c) {
        warm.note(contact, Action::SQLITE_UPDATE, true);
    }
}

fn found(c: &Connection) -> Option<Arc<Warm>> {
    let path = c.path()?;
    lock(&FILES).get(Path::new(path)).and_then(Weak::upgrade)
}

/// The columns as they are now; messages from an instant on, or from earlier.
pub(super) fn columns(c: &Connection, since: Instant) -> Result<Columns> {
    match found(c) {
        Some(warm) => warm.columns(c, since),
        None => load(c, since),
    }
}

/// Reads everything: halves of the people and their messages side by side, unless inside a write, whose changes
/// nobody else sees.
fn load(c: &Connection, since: Instant) -> Result<Columns> {
    let Some(path) = readable_beside(c) else {
        let people = People::load(c, 0..i64::MAX)?;
        let messages = Messages::hang(&people.base.contact, &base::messages(c, since)?);
        return Ok(Columns { people: Arc::new(people), messages: Arc::new(messages) });
    };
    let half = c.query_row("SELECT coalesce(max(id), 0) / 2 FROM contact", [], |r| r.get(0))?;
    let (people, found) = std::thread::scope(|scope| -> Result<_> {
        let messages = scope.spawn(|| -> Result<_> { base::messages(&beside(path)?, since) });
        let rest = scope.spawn(|| -> Result<_> { People::load(&beside(path)?, half..i64::MAX) });
        let mut people = People::load(c, 0..half)?;
        people.append(rest.join().map_err(|_| crate::StoreError::Stopped)??);
        Ok((people, messages.join().map_err(|_| crate::StoreError::Stopped)??))
    })?;
    let messages = Messages::hang(&people.base.contact, &found);
    Ok(Columns { people: Arc::new(people), messages: Arc::new(messages) })
}
