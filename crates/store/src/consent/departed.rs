//! People whom this database doesn't have and who are known to have left: the journal says so by the keyed hash of their
//! address. A backup may be older than the person; anybody who brings them later, by a file or by hand, brings them as they left.

use crate::journal::What;
use crate::ledger::{self, Grant, Origin};
use crate::stored::As;
use crate::{Result, erasure, tombstones};
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::consent::{Act, Consent};
use rinse_core::id::ContactId;
use rinse_core::token::Signer;
use rusqlite::{Connection, OptionalExtension, params};

/// Keeps what somebody did whom nobody here has; true when it is new. `topic`: the name of what they left.
pub(crate) fn keep(c: &Connection, who: &str, what: What, topic: &str, grant: Grant<'_>, at: Instant) -> Result<bool> {
    let n = c
        .prepare_cached(
            "INSERT INTO departed (who, what, topic, channel, entity, at) VALUES (unhex(?1), ?2, ?3, ?4, ?5, ?6) ON CONFLICT DO NOTHING",
        )?
        .execute(params![who, what.code(), topic, grant.channel.code(), grant.entity, at.millis()])?;
    Ok(n > 0)
}

/// Is anybody known so?
fn any(c: &Connection) -> Result<bool> {
    Ok(c.prepare_cached("SELECT EXISTS (SELECT 1 FROM departed)")?.query_row([], |r| r.get(0))?)
}

struct Kept {
    what: What,
    topic: String,
    channel: Channel,
    entity: String,
    at: Instant,
}

fn of(c: &Connection, who: &[u8]) -> Result<Vec<Kept>> {
    let mut s = c.prepare_cached("SELECT what, topic, channel, entity, at FROM departed WHERE who = ?1 ORDER BY at")?;
    let mut rows = s.query([who])?;
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let Some(what) = What::from_code(r.get_ref(0)?.as_str().map_err(rusqlite::Error::from)?) else { continue };
        out.push(Kept { what, topic: r.get(1)?, channel: r.get::<_, As<Channel>>(2)?.0, entity: r.get(3)?, at: Instant::of(r.get(4)?) });
    }
    Ok(out)
}

/// Applies what is known of an address to the person who has it now. What can't be said of them yet (a topic that there isn't) is
/// kept for the day that it can.
///
/// # Errors
/// When the database fails.
pub(crate) fn settle(c: &Connection, contact: ContactId, key: &str) -> Result<()> {
    if !any(c)? {
        return Ok(());
    }
    let who = tombstones::signer(c)?.tombstone(key);
    for k in of(c, &who)? {
        let evidence = "left before they were brought here, as the journal says".to_owned();
        let origin = Origin { source: "journal", evidence, channel: k.channel, entity: k.entity.clone(), ..Origin::default() };
        if apply(c, contact, k.what, &k.topic, k.at, &origin)?.is_some() {
            c.prepare_cached("DELETE FROM departed WHERE who = ?1 AND what = ?2 AND topic = ?3 AND channel = ?4 AND entity = ?5")?
                .execute(params![who, k.what.code(), k.topic, k.channel.code(), k.entity])?;
        }
    }
    Ok(())
}

/// Records what somebody did; how many things it changed. None: there is no topic or series of that name (`topic`) yet.
///
/// # Errors
/// When the database fails.
pub(crate) fn apply(c: &Connection, contact: ContactId, what: What, topic: &str, at: Instant, origin: &Origin) -> Result<Option<usize>> {
    let changed = |changed: bool| Some(usize::from(changed));
    Ok(match what {
        What::Withdrew => changed(ledger::act(c, contact, at, Act::Withdrew, origin)?),
        What::Complained => changed(ledger::act(c, contact, at, Act::Complained, origin)?),
        What::LeftTopic => {
            let id: Option<i64> = c.prepare_cached("SELECT id FROM topic WHERE name = ?1")?.query_row([topic], |r| r.get(0)).optional()?;
            match id {
                Some(id) => changed(ledger::leave_topic(c, contact, id, at, origin)?),
                None => None,
            }
        }
        What::LeftSeries => crate::series_entry::leave_named(c, contact, topic, at)?,
        What::Deleted => {
            erasure::erase(c, contact, at, None)?;
            Some(1)
        }
    })
}

/// A topic or a series of this name was made: anybody who left it before has left it.
///
/// # Errors
/// When the database fails.
pub(crate) fn named(c: &Connection, name: &str) -> Result<()> {
    let waits = c.prepare_cached("SELECT 1 FROM departed WHERE topic = ?1 COLLATE NOCASE")?.exists([name])?;
    if !waits {
        return Ok(());
    }
    let signer = tombstones::signer(c)?;
    let mut s = c.prepare("SELECT id, address_key FROM contact WHERE gone IS NULL")?;
    let people = s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<Vec<(i64, String)>>>()?;
    for (contact, key) in people {
        if c.prepare_cached("SELECT 1 FROM departed WHERE who = ?1")?.exists([signer.tombstone(&key)])? {
            settle(c, ContactId(contact), &key)?;
        }
    }
    Ok(())
}

/// Knows who left before they were brought here.
pub struct Departed {
    signer: Signer,
    any: bool,
}

impl Departed {
    /// # Errors
    /// When the database fails.
    pub fn load(c: &Connection) -> Result<Self> {
        Ok(Self { signer: tombstones::signer(c)?, any: any(c)? })
    }

    /// What the owner of a compared address did to a consent, where nobody here has the address: *withdrawn* or *complained*, else none.
    ///
    /// # Errors
    /// When the database fails.
    pub fn ended(&self, c: &Connection, key: &str, grant: Grant<'_>) -> Result<Option<Consent>> {
        if !self.any {
            return Ok(None);
        }
        let mut found = None;
        for k in of(c, &self.signer.tombstone(key))?.into_iter().filter(|k| k.channel == grant.channel && k.entity == grant.entity) {
            found = match k.what {
                What::Complained => Some(Consent::Complained),
                What::Withdrew => found.or(Some(Consent::Withdrawn)),
                _ => found,
            };
        }
        Ok(found)
    }
}
