//! The journal read again as the store is opened: a restored backup doesn't know who left since it was made. What is said of people whom the
//! database doesn't have is kept ([`crate::departed`]).

use crate::grant::Grant;
use crate::journal::{self, Journal, Line, Replayed, What, Whole};
use crate::ledger::Origin;
use crate::{Result, departed, tombstones};
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::token::hex;
use rusqlite::Connection;
use std::collections::HashMap;
use std::path::Path;

/// Opens the journal beside a database and brings that up to what it says: lines it hasn't got are applied, in one transaction.
///
/// # Errors
/// When a file can't be read or written.
pub(crate) fn open(c: &Connection, folder: &Path, durable: bool) -> Result<(Journal, Replayed)> {
    let (journal, whole) = journal::open(c, folder, durable)?;
    let mut replayed = if whole.unseen.is_empty() { Replayed::default() } else { replay(c, &whole)? };
    replayed.faults = whole.faults;
    Ok((journal, replayed))
}

fn replay(c: &Connection, whole: &Whole) -> Result<Replayed> {
    c.execute_batch("BEGIN IMMEDIATE")?;
    let applied = (|| {
        let mut done = Replayed::default();
        let signer = tombstones::signer(c)?;
        let mut people: HashMap<String, i64> = HashMap::new();
        let mut s = c.prepare("SELECT id, address_key FROM contact WHERE gone IS NULL")?;
        let mut rows = s.query([])?;
        while let Some(r) = rows.next()? {
            people.insert(hex(&signer.tombstone(r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?)), r.get(0)?);
        }
        drop(rows);
        for line in &whole.unseen {
            apply(c, line, people.get(&line.who).copied().map(ContactId), &mut done)?;
        }
        c.execute_batch("DELETE FROM journal_due")?;
        for (journal, end) in &whole.ends {
            journal::mark(c, journal, end)?;
        }
        Ok(done)
    })();
    c.execute_batch(if applied.is_ok() { "COMMIT" } else { "ROLLBACK" })?;
    applied
}

fn apply(c: &Connection, line: &Line, contact: Option<ContactId>, done: &mut Replayed) -> Result<()> {
    let at = Instant::of(line.at);
    let name = line.topic.as_deref().unwrap_or_default();
    let grant = Grant { channel: line.channel, entity: &line.entity };
    let evidence = "replayed after a restore".to_owned();
    let origin = Origin { source: "journal", evidence, channel: line.channel, entity: line.entity.clone(), ..Origin::default() };
    let changed = match contact {
        Some(contact) => departed::apply(c, contact, line.what, name, at, &origin)?,
        None if line.what == What::Deleted => Some(usize::from(tombstones::bury(c, &line.who, at)?)),
        None => None,
    };
    match changed {
        Some(n) => *done.of(line.what) += n,
        // What can't be said of anybody here holds for anybody who brings them.
        None => done.kept += usize::from(departed::keep(c, &line.who, line.what, name, grant, at)?),
    }
    Ok(())
}
