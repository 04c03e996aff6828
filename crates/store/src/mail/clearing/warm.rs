//! The base in columns, kept between clearances.
//!
//! Reading a million rows takes most of a second; deciding takes a tenth of it. So the columns stay in
//! memory ([`crate::kept`]), and the next clearance reads again whose rows changed. A clearance inside a
//! write sees that write's own changes, and since they are noted, a write that fails leaves nothing of them.
//! A connection to a file that nobody keeps anything for loads everything.

use super::base::{self, People};
use crate::Result;
use crate::db::{beside, readable_beside};
use crate::kept::{self, Held, Notes, Watches, What, lock};
use rinse_core::Instant;
use rinse_core::clearance::columns::Messages;
use rinse_core::id::{ContactId, SendId};
use rusqlite::{Connection, OptionalExtension};
use std::sync::{Arc, Mutex};

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

#[derive(PartialEq, Eq, Hash, Clone, Copy)]
enum Row {
    Contact(ContactId),
    Send(SendId),
}

/// The columns that are kept for one data file, and what changed since.
#[derive(Default)]
pub(crate) struct Warm {
    kept: Mutex<Option<Kept>>,
    notes: Mutex<Notes<Row, MOST_NOTES>>,
}

impl Watches for Warm {
    fn changed(&self, table: &str, row: i64, gone: bool) {
        match table {
            "contact" => self.note(Row::Contact(ContactId(row)), gone),
            "send" => self.note(Row::Send(SendId(row)), gone),
            _ => {}
        }
    }

    fn finished(&self, committed: bool) {
        lock(&self.notes).finished(committed);
    }

    fn rest(&self) {
        kept::rest(&self.kept, &self.notes, |k| k.used);
    }

    fn held(&self) -> Option<Held> {
        kept::held(&self.kept, What::Columns, |k| (k.columns.bytes(), k.used))
    }

    fn let_go(&self) {
        kept::let_go(&self.kept, &self.notes);
    }
}

impl Columns {
    fn bytes(&self) -> usize {
        self.people.bytes() + self.messages.bytes()
    }
}

impl Warm {
    fn note(&self, row: Row, deleted: bool) {
        let mut n = lock(&self.notes);
        // Whose row it was can't be asked any more.
        if deleted { n.give_up() } else { n.note(row) }
    }

    fn columns(&self, c: &Connection, since: Instant) -> Result<Columns> {
        let mut kept = lock(&self.kept);
        let begun = lock(&self.notes).begin();
        if !begun.whole {
            *kept = None;
        }
        if !begun.keep {
            return load(c, since);
        }
        if let Some(k) = kept.as_mut().filter(|k| k.since <= since) {
            if self.refresh(c, k)? {
                lock(&self.notes).settle(begun.committed);
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
        lock(&self.notes).settle(begun.committed);
        let columns = k.columns.clone();
        *kept = Some(k);
        Ok(columns)
    }

    /// Reads again what changed; false when everything has to be.
    fn refresh(&self, c: &Connection, k: &mut Kept) -> Result<bool> {
        let (mut contacts, mut sends) = (Vec::new(), Vec::new());
        for row in lock(&self.notes).rows() {
            match row {
                Row::Contact(id) => contacts.push(id),
                Row::Send(id) => sends.push(id),
            }
        }
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
            let Some(contact) = whose.query_row([send.0], |r| r.get(0).map(ContactId)).optional()? else { return Ok(false) };
            contacts.push(contact);
        }
        contacts.sort_unstable();
        contacts.dedup();
        let theirs = base::messages_of(c, &contacts, k.since)?;
        k.columns.messages = Arc::new(k.columns.messages.with(&k.columns.people.base.contact, &theirs, false));
        Ok(true)
    }
}

/// Notes by hand that a person's messages changed: of rows that went to somebody else.
pub(crate) fn changed(c: &Connection, contact: ContactId) {
    if let Some(warm) = kept::found::<Warm>(c) {
        warm.note(Row::Contact(contact), false);
    }
}

/// The columns as they are now; messages from an instant on, or from earlier.
pub(super) fn columns(c: &Connection, since: Instant) -> Result<Columns> {
    match kept::found::<Warm>(c) {
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
