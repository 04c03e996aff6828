//! The ledger: the append-only history of a contact's consent and mail status.
//!
//! The columns on `contact` are what the ledger adds up to; both change in the same transaction. Consent
//! given for anything but email of the first legal entity stands in `other_consent`. Every entry is sealed and linked
//! to the one before ([`rinse_core::chain`]); [`seals`] holds them all against each other.

pub use crate::grant::Grant;
use crate::stored::As;
use crate::{Result, StoreError, journal};
use rinse_core::Instant;
use rinse_core::chain;
use rinse_core::channel::Channel;
use rinse_core::code::Code;
use rinse_core::consent::{Act, Consent, Standing as ConsentStanding};
use rinse_core::id::{ContactId, LetterheadId, SendId};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One entry, as a person's page shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Entry {
    pub at: i64,
    pub kind: String,
    pub topic: Option<String>,
    pub until: Option<i64>,
    pub source: String,
    pub evidence: String,
    pub person: Option<String>,
    pub channel: Channel,
    /// The legal entity it is about, when it isn't the first.
    pub entity: String,
}

/// Where an act comes from.
#[derive(Debug, Clone, Default)]
pub struct Origin {
    pub source: &'static str,
    pub evidence: String,
    pub send: Option<SendId>,
    pub import: Option<i64>,
    /// The run of changes it belongs to.
    pub run: Option<i64>,
    pub person: Option<i64>,
    /// What consent is given for or taken from: the channel …
    pub channel: Channel,
    /// … and the legal entity; empty: the first.
    pub entity: String,
}

impl Origin {
    /// What it is about.
    #[must_use]
    pub fn grant(&self) -> Grant<'_> {
        Grant { channel: self.channel, entity: &self.entity }
    }
}

/// What an entry says beside its contact and origin.
pub(crate) struct Says<'a> {
    pub(crate) at: Instant,
    pub(crate) kind: &'a str,
    pub(crate) topic: Option<i64>,
    pub(crate) until: Option<i64>,
    pub(crate) state: Option<i64>,
}

pub(crate) fn append(c: &Connection, contact: ContactId, s: &Says<'_>, o: &Origin) -> Result<()> {
    let (salt, before): (Vec<u8>, Option<Vec<u8>>) = c
        .prepare_cached("SELECT randomblob(16), (SELECT link FROM ledger ORDER BY id DESC LIMIT 1)")?
        .query_row([], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let entry = chain::Entry {
        contact,
        at: s.at.millis(),
        kind: s.kind,
        source: o.source,
        evidence: &o.evidence,
        numbers: [Some(o.channel.code()), s.topic, s.until, o.send.map(|id| id.0), o.import, o.person, s.state],
        entity: &o.entity,
    };
    let digest = chain::digest(&salt, &entry);
    let link = chain::link(before.and_then(|b| b.try_into().ok()).as_ref(), &digest);
    c.prepare_cached("INSERT INTO ledger (contact_id, at, kind, topic_id, until, source, evidence, send_id, import_id, person_id, run_id, state, entity, salt, digest, link, channel) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15,?16,?17)")?
        .execute(params![contact.0, s.at.millis(), s.kind, s.topic, s.until, o.source, o.evidence, o.send.map(|id| id.0), o.import, o.person, o.run, s.state, o.entity, salt, digest, link, o.channel.code()])?;
    Ok(())
}

pub(crate) fn says(at: Instant, kind: &str) -> Says<'_> {
    Says { at, kind, topic: None, until: None, state: None }
}

/// Writes an act of consent and the state it leads to. The same state again writes nothing.
///
/// # Errors
/// When there is no such contact.
pub fn act(c: &Connection, contact: ContactId, at: Instant, act: Act, origin: &Origin) -> Result<bool> {
    let before = stated_for(c, contact, origin.grant())?.standing();
    let after = before.after(act, at);
    if after.state == before.at(at) && (after.state != Consent::Paused || after.until == before.until) {
        return Ok(false);
    }
    let until = if let Act::Paused { until } = act { Some(until.millis()) } else { None };
    append(c, contact, &Says { until, ..says(at, act.word()) }, origin)?;
    match act {
        Act::Withdrew => journal::note(c, journal::What::Withdrew, contact, None, origin.grant(), at)?,
        Act::Complained => journal::note(c, journal::What::Complained, contact, None, origin.grant(), at)?,
        _ => {}
    }
    set(
        c,
        contact,
        origin.grant(),
        Stated { consent: after.state, at: Some(at.millis()), paused_until: after.until.map(|u| u.millis()), under_pause: after.under },
    )?;
    Ok(true)
}

fn set(c: &Connection, contact: ContactId, grant: Grant<'_>, to: Stated) -> Result<()> {
    if !grant.is_first() {
        c.prepare_cached("INSERT INTO other_consent VALUES (?7,?1,?2,?3,?4,?5,?6) ON CONFLICT DO UPDATE SET consent = ?3, consent_at = ?4, paused_until = ?5, under_pause = ?6")?
            .execute(params![grant.entity, contact.0, to.consent as i64, to.at, to.paused_until, to.under_pause as i64, grant.channel.code()])?;
        return Ok(());
    }
    c.prepare_cached("UPDATE contact SET consent = ?2, consent_at = ?3, paused_until = ?4, under_pause = ?5 WHERE id = ?1")?
        .execute(params![contact.0, to.consent as i64, to.at, to.paused_until, to.under_pause as i64])?;
    Ok(())
}

/// Writes the first entry of a contact who was added in the state it leads to.
///
/// # Errors
/// When the database fails.
pub(crate) fn first(c: &Connection, contact: ContactId, at: Instant, act: Act, origin: &Origin) -> Result<()> {
    append(c, contact, &says(at, act.word()), origin)
}

/// Writes an entry that states the consent outright: what holds after a merge, for a changed address,
/// or again after a change was taken back. Nobody's act, so it never raises a refusal of their own.
///
/// # Errors
/// When the database fails.
pub(crate) fn restate(c: &Connection, contact: ContactId, at: Instant, kind: &str, to: Stated, origin: &Origin) -> Result<()> {
    append(c, contact, &Says { until: to.paused_until, state: Some(to.consent as i64), ..says(at, kind) }, origin)?;
    set(c, contact, origin.grant(), to)
}

/// A contact's consent as it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Stated {
    pub consent: Consent,
    pub at: Option<i64>,
    pub paused_until: Option<i64>,
    #[serde(default)]
    pub under_pause: Consent,
}

impl Stated {
    pub(crate) fn standing(self) -> ConsentStanding {
        ConsentStanding { state: self.consent, under: self.under_pause, until: self.paused_until.map(Instant::of) }
    }
}

fn read_stated(r: &rusqlite::Row<'_>) -> rusqlite::Result<Stated> {
    Ok(Stated {
        consent: r.get::<_, As<Consent>>(0)?.0,
        at: r.get(1)?,
        paused_until: r.get(2)?,
        under_pause: r.get::<_, As<Consent>>(3)?.0,
    })
}

/// # Errors
/// When there is no such contact.
pub(crate) fn stated(c: &Connection, contact: ContactId) -> Result<Stated> {
    c.prepare_cached("SELECT consent, consent_at, paused_until, under_pause FROM contact WHERE id = ?1")?
        .query_row([contact.0], read_stated)
        .map_err(|_| StoreError::Missing("contact"))
}

/// A contact's consent to something as it stands.
///
/// # Errors
/// When there is no such contact.
pub(crate) fn stated_for(c: &Connection, contact: ContactId, grant: Grant<'_>) -> Result<Stated> {
    if grant.is_first() {
        return stated(c, contact);
    }
    let row = c
        .prepare_cached(
            "SELECT consent, consent_at, paused_until, under_pause FROM other_consent WHERE channel = ?1 AND entity = ?2 AND contact_id = ?3",
        )?
        .query_row(params![grant.channel.code(), grant.entity, contact.0], read_stated)
        .optional()?;
    Ok(row.unwrap_or_default())
}

/// A contact's consent to something beside email of the first legal entity.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = OtherConsent)]
pub struct Other {
    pub channel: Channel,
    /// Empty: the first.
    pub entity: String,
    pub state: Consent,
}

impl Other {
    #[must_use]
    pub fn grant(&self) -> Grant<'_> {
        Grant { channel: self.channel, entity: &self.entity }
    }
}

/// What else a contact's consent is known for than email of the first legal entity.
///
/// # Errors
/// When the database fails.
pub fn others_of(c: &Connection, contact: ContactId) -> Result<Vec<Other>> {
    let mut s = c.prepare_cached("SELECT channel, entity, consent FROM other_consent WHERE contact_id = ?1 ORDER BY channel, entity")?;
    let rows = s.query_map([contact.0], |r| {
        Ok(Other { channel: r.get::<_, As<Channel>>(0)?.0, entity: r.get(1)?, state: r.get::<_, As<Consent>>(2)?.0 })
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The legal entity that a letterhead is of; empty: the first.
///
/// # Errors
/// When there is no such letterhead.
pub fn entity_of(c: &Connection, letterhead: LetterheadId) -> Result<String> {
    c.prepare_cached("SELECT entity FROM letterhead WHERE id = ?1")?
        .query_row([letterhead.0], |r| r.get(0))
        .optional()?
        .ok_or(StoreError::Missing("letterhead"))
}

/// A contact's consent as it stands, with what a pause hides.
///
/// # Errors
/// When there is no such contact.
pub fn stated_now(c: &Connection, contact: ContactId, grant: Grant<'_>) -> Result<ConsentStanding> {
    Ok(stated_for(c, contact, grant)?.standing())
}

/// Writes an entry that changes no state.
///
/// # Errors
/// When the database fails.
pub(crate) fn note(c: &Connection, contact: ContactId, at: Instant, kind: &str, origin: &Origin) -> Result<()> {
    append(c, contact, &says(at, kind), origin)
}

/// # Errors
/// When there is no such contact.
pub fn consent_of(c: &Connection, contact: ContactId) -> Result<Consent> {
    c.prepare_cached("SELECT consent FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| Ok(r.get::<_, As<Consent>>(0)?.0))
        .optional()?
        .ok_or(StoreError::Missing("contact"))
}

/// Records that a contact left a topic; the rest stays.
///
/// # Errors
/// When the database fails.
pub fn leave_topic(c: &Connection, contact: ContactId, topic: i64, at: Instant, origin: &Origin) -> Result<bool> {
    let new = c.prepare_cached("INSERT INTO topic_left VALUES (?1,?2,?3) ON CONFLICT DO NOTHING")?.execute(params![
        topic,
        contact.0,
        at.millis()
    ])? > 0;
    if new {
        append(c, contact, &Says { topic: Some(topic), ..says(at, "left topic") }, origin)?;
        journal::note(c, journal::What::LeftTopic, contact, Some(topic), Grant::default(), at)?;
    }
    Ok(new)
}

/// Records that a contact came back to a topic they had left.
///
/// # Errors
/// When the database fails.
pub fn rejoin_topic(c: &Connection, contact: ContactId, topic: i64, at: Instant, origin: &Origin) -> Result<bool> {
    let gone = c.prepare_cached("DELETE FROM topic_left WHERE topic_id = ?1 AND contact_id = ?2")?.execute([topic, contact.0])? > 0;
    if gone {
        append(c, contact, &Says { topic: Some(topic), ..says(at, "came back to topic") }, origin)?;
    }
    Ok(gone)
}

/// What an entry makes of a standing: one that states the consent outright sets it, an act is taken; none
/// when the entry is about something else.
pub(crate) fn step(
    before: ConsentStanding,
    at: Instant,
    kind: &str,
    until: Option<Instant>,
    state: Option<i64>,
) -> Option<ConsentStanding> {
    match state {
        // One that can't be read allows nothing.
        Some(state) => Some(ConsentStanding { state: Consent::of_code(state).unwrap_or(Consent::Withdrawn), under: before.under, until }),
        None => Act::of_word(kind, until).map(|act| before.after(act, at)),
    }
}

/// A contact's consent as it stood at an instant: what the ledger added up to then.
///
/// # Errors
/// When the database fails.
pub(crate) fn stated_at(c: &Connection, contact: ContactId, grant: Grant<'_>, at: Instant) -> Result<Stated> {
    let mut s = c.prepare_cached(
        "SELECT at, kind, until, state FROM ledger WHERE contact_id = ?1 AND at <= ?2 AND entity = ?3 AND channel = ?4 ORDER BY id",
    )?;
    let mut rows = s.query(params![contact.0, at.millis(), grant.entity, grant.channel.code()])?;
    let (mut now, mut changed) = (ConsentStanding::default(), None);
    while let Some(r) = rows.next()? {
        let when = Instant::of(r.get(0)?);
        let until = r.get::<_, Option<i64>>(2)?.map(Instant::of);
        let Some(after) = step(now, when, r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?, until, r.get(3)?) else { continue };
        now = after;
        changed = Some(when.millis());
    }
    Ok(Stated { consent: now.state, at: changed, paused_until: now.until.map(|u| u.millis()), under_pause: now.under })
}

/// Had a contact left a topic at an instant?
///
/// # Errors
/// When the database fails.
pub(crate) fn topic_left_at(c: &Connection, contact: ContactId, topic: i64, at: Instant) -> Result<bool> {
    let mut s = c.prepare_cached(
        "SELECT kind = 'left topic' FROM ledger WHERE contact_id = ?1 AND topic_id = ?2 AND at <= ?3 ORDER BY id DESC LIMIT 1",
    )?;
    let mut rows = s.query([contact.0, topic, at.millis()])?;
    Ok(rows.next()?.is_some_and(|r| r.get(0).unwrap_or(false)))
}

/// A contact's ledger, oldest first.
///
/// # Errors
/// When the database fails.
pub fn of_contact(c: &Connection, contact: ContactId) -> Result<Vec<Entry>> {
    let mut s = c.prepare_cached(
        "SELECT l.at, l.kind, t.name, l.until, l.source, l.evidence, p.name, l.entity, l.channel FROM ledger l
         LEFT JOIN topic t ON t.id = l.topic_id LEFT JOIN person p ON p.id = l.person_id WHERE l.contact_id = ?1 ORDER BY l.id",
    )?;
    Ok(s.query_map([contact.0], |r| {
        Ok(Entry {
            at: r.get(0)?,
            kind: r.get(1)?,
            topic: r.get(2)?,
            until: r.get(3)?,
            source: r.get(4)?,
            evidence: r.get(5)?,
            person: r.get(6)?,
            entity: r.get(7)?,
            channel: r.get::<_, As<Channel>>(8)?.0,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Ends marketing to somebody for their silence, as of `since`; true when that is new.
///
/// # Errors
/// When the database fails.
pub fn put_sunset(c: &Connection, contact: ContactId, since: Instant, at: Instant, origin: &Origin) -> Result<bool> {
    let new = c
        .prepare_cached("UPDATE contact SET sunset_at = ?2 WHERE id = ?1 AND sunset_at IS NULL AND gone IS NULL")?
        .execute([contact.0, since.millis()])?
        > 0;
    if new {
        note(c, contact, at, "sunset", origin)?;
    }
    Ok(new)
}

/// Ends a sunset: they answered or signed up. The same again changes nothing.
///
/// # Errors
/// When the database fails.
pub fn lift_sunset(c: &Connection, contact: ContactId, at: Instant, why: &str) -> Result<()> {
    end_sunset(c, contact, None, "sunset lifted", at, &Origin { source: "status rules", evidence: why.to_owned(), ..Origin::default() })?;
    Ok(())
}

/// Takes a sunset back that a run made, of `since` where it is known: one that was lifted and set again isn't the run's. True when there was one.
///
/// # Errors
/// When the database fails.
pub(crate) fn take_sunset_back(c: &Connection, contact: ContactId, since: Option<i64>, at: Instant, origin: &Origin) -> Result<bool> {
    end_sunset(c, contact, since, "sunset taken back", at, origin)
}

fn end_sunset(c: &Connection, contact: ContactId, since: Option<i64>, kind: &str, at: Instant, origin: &Origin) -> Result<bool> {
    let was = c
        .prepare_cached("UPDATE contact SET sunset_at = NULL WHERE id = ?1 AND sunset_at IS NOT NULL AND (?2 IS NULL OR sunset_at = ?2)")?
        .execute(params![contact.0, since])?
        > 0;
    if was {
        note(c, contact, at, kind, origin)?;
    }
    Ok(was)
}

/// What holding the whole ledger against its seals found.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Seals {
    pub entries: i64,
    /// Of people who were deleted: what they say is gone, their seals hold.
    pub erased: i64,
    /// The newest link: noted elsewhere, it can be held against the chain later.
    pub link: String,
    /// The first entries that are broken, with what is wrong, at most ten.
    pub broken: Vec<BrokenSeal>,
    /// The entry whose link was asked for, when it is in the chain.
    pub found: Option<i64>,
}

/// An entry that isn't as it was written.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct BrokenSeal {
    pub entry: i64,
    pub contact_id: ContactId,
    pub at: i64,
    pub words: String,
}

/// Holds every entry of the ledger against its seal and the link before it. `noted`: a link from earlier to look for.
///
/// # Errors
/// When the database fails.
pub fn seals(c: &Connection, noted: Option<&str>) -> Result<Seals> {
    let mut out = Seals { entries: 0, erased: 0, link: String::new(), broken: Vec::new(), found: None };
    let (mut before, mut last): (Option<chain::Link>, Option<chain::Link>) = (None, None);
    let mut s = c.prepare(
        "SELECT l.id, l.contact_id, l.at, l.kind, l.source, l.evidence, l.channel, l.topic_id, l.until, l.send_id, l.import_id, l.person_id, l.state, l.entity,
            l.salt, l.digest, l.link, k.gone IS 1 FROM ledger l JOIN contact k ON k.id = l.contact_id ORDER BY l.id",
    )?;
    let mut rows = s.query([])?;
    while let Some(r) = rows.next()? {
        let text = |n| r.get_ref(n).and_then(|v| v.as_str().map_err(rusqlite::Error::from));
        let bytes = |n| r.get_ref(n).and_then(|v| v.as_blob_or_null().map_err(rusqlite::Error::from));
        let sealed = chain::Sealed {
            entry: chain::Entry {
                contact: ContactId(r.get(1)?),
                at: r.get(2)?,
                kind: text(3)?,
                source: text(4)?,
                evidence: text(5)?,
                numbers: [r.get(6)?, r.get(7)?, r.get(8)?, r.get(9)?, r.get(10)?, r.get(11)?, r.get(12)?],
                entity: text(13)?,
            },
            salt: bytes(14)?,
            digest: bytes(15)?,
            link: bytes(16)?,
            erased: r.get(17)?,
        };
        let entry: i64 = r.get(0)?;
        out.entries += 1;
        out.erased += i64::from(sealed.salt.is_none());
        match chain::verify(before.as_ref(), &sealed) {
            Ok(_) => {}
            Err(broken) if out.broken.len() < 10 => {
                out.broken.push(BrokenSeal { entry, contact_id: sealed.entry.contact, at: sealed.entry.at, words: broken.words().into() })
            }
            Err(_) => {}
        }
        // What follows is held against what stands here, so that one break is told once.
        before = sealed.link.and_then(|l| l.try_into().ok());
        if let (Some(noted), Some(link)) = (noted, &before)
            && noted.trim().eq_ignore_ascii_case(&rinse_core::token::hex(link))
        {
            out.found = Some(entry);
        }
        last = before.or(last);
    }
    out.link = last.map(|link| rinse_core::token::hex(&link)).unwrap_or_default();
    Ok(out)
}

/// Seals the entries of a file that was made before entries were sealed.
///
/// # Errors
/// When the database fails.
pub(crate) fn seal_earlier(c: &Connection) -> Result<()> {
    let old: Option<bool> = c.query_row("SELECT link IS NULL FROM ledger ORDER BY id LIMIT 1", [], |r| r.get(0)).optional()?;
    if old != Some(true) {
        return Ok(());
    }
    c.execute_batch("BEGIN IMMEDIATE")?;
    let done = (|| {
        let mut before: Option<chain::Link> = None;
        let mut s = c.prepare(
            "SELECT id, contact_id, at, kind, source, evidence, channel, topic_id, until, send_id, import_id, person_id, state, entity, randomblob(16) FROM ledger ORDER BY id",
        )?;
        let mut put = c.prepare("UPDATE ledger SET salt = ?2, digest = ?3, link = ?4 WHERE id = ?1")?;
        let mut rows = s.query([])?;
        while let Some(r) = rows.next()? {
            let text = |n| r.get::<_, String>(n);
            let (kind, source, evidence, entity) = (text(3)?, text(4)?, text(5)?, text(13)?);
            let salt: Vec<u8> = r.get(14)?;
            let entry = chain::Entry {
                contact: ContactId(r.get(1)?),
                at: r.get(2)?,
                kind: &kind,
                source: &source,
                evidence: &evidence,
                numbers: [r.get(6)?, r.get(7)?, r.get(8)?, r.get(9)?, r.get(10)?, r.get(11)?, r.get(12)?],
                entity: &entity,
            };
            let digest = chain::digest(&salt, &entry);
            let link = chain::link(before.as_ref(), &digest);
            put.execute(params![r.get::<_, i64>(0)?, salt, digest, link])?;
            before = Some(link);
        }
        Ok(())
    })();
    c.execute_batch(if done.is_ok() { "COMMIT" } else { "ROLLBACK" })?;
    done
}
