//! Keyed hashes of addresses and phone numbers: deleted people are known again by them, and anybody who left before they were brought here.

use crate::Result;
use rinse_core::Instant;
use rinse_core::token::{Signer, hex};
use rusqlite::{Connection, params};

/// What signs the hashes of addresses.
pub(crate) fn signer(c: &Connection) -> Result<Signer> {
    let key: Vec<u8> = c.prepare_cached("SELECT coalesce((SELECT key FROM signing_key WHERE id = 1), x'')")?.query_row([], |r| r.get(0))?;
    Ok(Signer::new(&key))
}

/// Takes the tombstone of an address away: its owner came back by their own act.
///
/// # Errors
/// When the database fails.
pub(crate) fn lift(c: &Connection, key: &str) -> Result<()> {
    c.prepare_cached("DELETE FROM tombstone WHERE hash = ?1")?.execute([signer(c)?.tombstone(key)])?;
    Ok(())
}

/// Writes a tombstone, the keyed hash of an address or a number in hexadecimal; true when it is new.
pub(crate) fn bury(c: &Connection, hash: &str, at: Instant) -> Result<bool> {
    Ok(c.prepare_cached("INSERT INTO tombstone VALUES (unhex(?1), ?2) ON CONFLICT DO NOTHING")?.execute(params![hash, at.millis()])? > 0)
}

/// Knows deleted addresses again.
pub struct Tombstones {
    signer: Signer,
    any: bool,
}

impl Tombstones {
    /// # Errors
    /// When the database fails.
    pub fn load(c: &Connection) -> Result<Self> {
        let any = c.query_row("SELECT EXISTS (SELECT 1 FROM tombstone)", [], |r| r.get(0))?;
        Ok(Self { signer: signer(c)?, any })
    }

    /// Was the owner of this compared address, or of this phone number, deleted?
    ///
    /// # Errors
    /// When the database fails.
    pub fn has(&self, c: &Connection, key: &str) -> Result<bool> {
        Ok(self.of(c, key)?.is_some())
    }

    /// The keyed hash of an address or a number, in hexadecimal.
    pub(crate) fn hash(&self, known: &str) -> String {
        hex(&self.signer.tombstone(known))
    }

    /// The hash by which they are known, when they were.
    pub(crate) fn of(&self, c: &Connection, key: &str) -> Result<Option<[u8; 32]>> {
        if !self.any {
            return Ok(None);
        }
        let hash = self.signer.tombstone(key);
        Ok(c.prepare_cached("SELECT 1 FROM tombstone WHERE hash = ?1")?.exists([hash])?.then_some(hash))
    }
}

/// The sentence for somebody who would come back.
pub const WAS_DELETED: &str = "this person was deleted here; only their own sign-up brings them back";
