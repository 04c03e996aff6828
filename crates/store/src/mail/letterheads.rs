//! Letterheads: what messages take by reference, the keys they are signed with, and what a change reaches.

use crate::codes::{MAILING_SENDING, MAILING_SENT};
use crate::settings::{Tied, audit};
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::id::{LetterheadId, MailingId, SendId};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A page elsewhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Social {
    pub name: String,
    pub url: String,
}

/// A brand's shared block.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Letterhead {
    #[serde(default)]
    pub id: LetterheadId,
    pub name: String,
    pub from_name: String,
    pub from_address: String,
    /// Where replies go; empty: `reply` at the domain of the from address.
    #[serde(default)]
    pub reply_to: String,
    pub postal_address: String,
    #[serde(default)]
    pub social: Vec<Social>,
    /// An uploaded image.
    #[serde(default)]
    pub logo_id: Option<i64>,
    pub ground: String,
    pub ink: String,
    pub accent: String,
    /// New mailings begin under it.
    #[serde(default)]
    pub is_default: bool,
    /// IANA time zone, for people without one.
    #[serde(default = "utc")]
    pub zone: String,
    /// ISO 3166-1 code, for people without one.
    #[serde(default)]
    pub country: Option<String>,
    /// What one-click unsubscribe ends: `topic` (the mailing's; everything when it has none) or `everything`.
    #[serde(default = "topic")]
    pub one_click: String,
    /// A sign-up has to be confirmed by a link sent to the address.
    #[serde(default = "yes")]
    pub double_opt_in: bool,
    /// What people agree to when they sign up; every change is kept as a version.
    #[serde(default)]
    pub wording: String,
    /// The legal entity that writes: another one keeps separate consent. Empty: the first.
    #[serde(default)]
    pub entity: String,
    /// The number that text messages come from, and that people answer; empty: none are sent.
    #[serde(default)]
    pub text_number: String,
}

fn yes() -> bool {
    true
}

fn utc() -> String {
    "UTC".into()
}

fn topic() -> String {
    "topic".into()
}

impl Default for Letterhead {
    fn default() -> Self {
        Self {
            id: LetterheadId(0),
            name: String::new(),
            from_name: String::new(),
            from_address: String::new(),
            reply_to: String::new(),
            postal_address: String::new(),
            social: Vec::new(),
            logo_id: None,
            ground: "#ffffff".into(),
            ink: "#17212b".into(),
            accent: "#2c3a8f".into(),
            is_default: false,
            zone: utc(),
            country: None,
            one_click: topic(),
            double_opt_in: true,
            wording: String::new(),
            entity: String::new(),
            text_number: String::new(),
        }
    }
}

impl Letterhead {
    /// The domain that mail comes from, and that its keys are of.
    #[must_use]
    pub fn domain(&self) -> &str {
        self.from_address.rsplit_once('@').map_or("", |(_, d)| d)
    }
}

/// Is it a colour as letterheads have them: `#` and six hexadecimal digits?
#[must_use]
pub fn is_colour(given: &str) -> bool {
    given.len() == 7 && given.starts_with('#') && given[1..].bytes().all(|b| b.is_ascii_hexdigit())
}

fn row(r: &Row<'_>) -> rusqlite::Result<Letterhead> {
    Ok(Letterhead {
        id: LetterheadId(r.get(0)?),
        name: r.get(1)?,
        from_name: r.get(2)?,
        from_address: r.get(3)?,
        postal_address: r.get(4)?,
        ground: r.get(5)?,
        ink: r.get(6)?,
        accent: r.get(7)?,
        zone: r.get(8)?,
        country: r.get(9)?,
        one_click: r.get(10)?,
        double_opt_in: r.get(11)?,
        wording: r.get(12)?,
        entity: r.get(13)?,
        reply_to: r.get(14)?,
        social: crate::stored::document(&r.get::<_, String>(15)?, "letterhead", r.get(0)?)?,
        logo_id: r.get(16)?,
        is_default: r.get(17)?,
        text_number: r.get(18)?,
    })
}

/// The default one first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<Letterhead>> {
    let mut s =
        c.prepare_cached("SELECT id, name, from_name, from_address, postal_address, ground, ink, accent, zone, country, one_click, double_opt_in,
            coalesce((SELECT text FROM consent_wording w WHERE w.letterhead_id = letterhead.id ORDER BY version DESC LIMIT 1), ''), entity, reply_to, social, logo_id, is_default, text_number
            FROM letterhead ORDER BY is_default DESC, id")?;
    Ok(s.query_map([], row)?.collect::<rusqlite::Result<_>>()?)
}

/// The letterhead that new mailings begin under, when there is one.
///
/// # Errors
/// When the database fails.
pub fn usual(c: &Connection) -> Result<Option<Letterhead>> {
    Ok(all(c)?.into_iter().next())
}

/// The country of the usual letterhead, whose people's numbers are often written without its code.
///
/// # Errors
/// When the database fails.
pub fn home(c: &Connection) -> Result<Option<String>> {
    Ok(usual(c)?.and_then(|l| l.country))
}

/// # Errors
/// When there is no such letterhead.
pub fn one(c: &Connection, id: LetterheadId) -> Result<Letterhead> {
    all(c)?.into_iter().find(|l| l.id == id).ok_or(StoreError::Missing("letterhead"))
}

/// The letterhead of a mailing: as it was when sending began, and as it is now for one that hasn't begun.
///
/// # Errors
/// When there is no such mailing.
pub fn of_mailing(c: &Connection, mailing: MailingId) -> Result<Letterhead> {
    let (id, sent): (i64, Option<String>) = c
        .prepare_cached("SELECT letterhead_id, letterhead_as_sent FROM mailing WHERE id = ?1")?
        .query_row([mailing.0], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?
        .ok_or(StoreError::Missing("mailing"))?;
    match sent.and_then(|s| serde_json::from_str(&s).ok()) {
        Some(l) => Ok(l),
        None => one(c, LetterheadId(id)),
    }
}

/// The legal entity that somebody gives consent to: one that a letterhead writes for, or (empty) the first.
///
/// # Errors
/// When no letterhead is of it.
pub fn entity(c: &Connection, given: &str) -> Result<String> {
    let given = given.trim();
    if given.is_empty() || c.prepare_cached("SELECT 1 FROM letterhead WHERE entity = ?1")?.exists([given])? {
        return Ok(given.to_owned());
    }
    Err(StoreError::Refused(format!("No letterhead writes for “{given}”. Choose a legal entity that one of them names.")))
}

/// Keeps the letterhead with a mailing whose sending begins.
///
/// # Errors
/// When the database fails.
pub fn keep_as_sent(c: &Connection, mailing: MailingId) -> Result<()> {
    let l = of_mailing(c, mailing)?;
    let kept = serde_json::to_string(&l).map_err(|e| StoreError::Refused(e.to_string()))?;
    c.prepare_cached("UPDATE mailing SET letterhead_as_sent = coalesce(letterhead_as_sent, ?2) WHERE id = ?1")?
        .execute(params![mailing.0, kept])?;
    Ok(())
}

/// # Errors
/// When something in it can't be used.
pub fn save(c: &Connection, l: &Letterhead, now: Instant) -> Result<LetterheadId> {
    let refuse = |words: String| Err(StoreError::Refused(words));
    if rinse_core::zone::named(&l.zone).is_none() {
        return refuse(format!("{:?} is no time zone: give one as Europe/London is written.", l.zone));
    }
    if l.country.as_deref().is_some_and(|c| c.len() != 2 || !c.bytes().all(|b| b.is_ascii_uppercase())) {
        return refuse("A country is written as two capital letters, as GB is.".into());
    }
    if let Some(s) = l.social.iter().find(|s| s.name.trim().is_empty() || !rinse_core::message::is_web_link(s.url.trim())) {
        return refuse(format!("{:?} at {:?} can't be linked to: give a name, and an address that begins with https://.", s.name, s.url));
    }
    let number = match l.text_number.trim() {
        "" => String::new(),
        given => match rinse_core::phone::sender(given, l.country.as_deref()) {
            Ok(number) => number,
            Err(e) => return refuse(format!("Text messages can't come from that number: {e}. A short code of 3 to 8 digits does, too.")),
        },
    };
    if ![&l.ground, &l.ink, &l.accent].into_iter().all(|c| is_colour(c)) {
        return refuse("A colour is written as # and six hexadecimal digits.".into());
    }
    if let Some(logo) = l.logo_id
        && !c.prepare_cached("SELECT 1 FROM image WHERE id = ?1")?.exists([logo])?
    {
        return Err(StoreError::Missing("image"));
    }
    let one_click = if l.one_click == "everything" { "everything" } else { "topic" };
    let id = (l.id > LetterheadId(0)).then_some(l.id);
    let social = serde_json::to_string(&l.social).map_err(|e| StoreError::Refused(e.to_string()))?;
    let id = c.query_row(
        "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent, zone, country, one_click, double_opt_in, entity, reply_to, social, logo_id, text_number)
         VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15,?16,?17)
         ON CONFLICT (id) DO UPDATE SET name = ?2, from_name = ?3, from_address = ?4, postal_address = ?5, ground = ?6, ink = ?7, accent = ?8, zone = ?9, country = ?10, one_click = ?11,
            double_opt_in = ?12, entity = ?13, reply_to = ?14, social = ?15, logo_id = ?16, text_number = ?17
         RETURNING id",
        params![id.map(|id| id.0), l.name, l.from_name, l.from_address, l.postal_address, l.ground, l.ink, l.accent, l.zone, l.country, one_click, l.double_opt_in, l.entity.trim(), l.reply_to.trim(), social, l.logo_id, number],
        |r| r.get(0).map(LetterheadId),
    )?;
    let first = !c.prepare_cached("SELECT 1 FROM letterhead WHERE is_default")?.exists([])?;
    if l.is_default || first {
        c.execute("UPDATE letterhead SET is_default = (id = ?1)", [id.0])?;
    }
    crate::wordings::save(c, id, l.wording.trim(), now)?;
    Ok(id)
}

/// The mailings that a change of a letterhead reaches: drafts, templates and what is planned; and how many were sent
/// under it, which stay as they are.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Reach {
    pub drafts: Vec<Tied>,
    pub planned: Vec<Tied>,
    pub sent: i64,
}

/// # Errors
/// When the database fails.
pub fn reach(c: &Connection, letterhead: LetterheadId) -> Result<Reach> {
    let named = |state: &str| -> Result<Vec<Tied>> {
        let sql = "SELECT id, name FROM mailing WHERE letterhead_id = ?1 AND letterhead_as_sent IS NULL AND archived_at IS NULL AND state = ?2 ORDER BY name, id";
        let mut s = c.prepare_cached(sql)?;
        Ok(s.query_map(params![letterhead.0, state], |r| Ok(Tied { id: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?)
    };
    Ok(Reach {
        drafts: named("draft")?,
        planned: named("planned")?,
        sent: c.query_row(
            formatcp!("SELECT count(*) FROM mailing WHERE letterhead_id = ?1 AND state IN ({MAILING_SENDING}, {MAILING_SENT})"),
            [letterhead.0],
            |r| r.get(0),
        )?,
    })
}

/// A key that signs a letterhead's mail. Its private part never leaves the store but for signing.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct SigningKey {
    pub id: i64,
    pub domain: String,
    pub selector: String,
    /// `rsa` or `ed25519`.
    pub algorithm: String,
    pub public: String,
    pub made_at: i64,
    pub ended_at: Option<i64>,
    #[serde(skip)]
    pub private: Vec<u8>,
}

/// The keys of a letterhead, those that sign first.
///
/// # Errors
/// When the database fails.
pub fn keys(c: &Connection, letterhead: LetterheadId) -> Result<Vec<SigningKey>> {
    let mut s = c.prepare_cached(
        "SELECT id, domain, selector, algorithm, public, made_at, ended_at, private FROM dkim_key WHERE letterhead_id = ?1 ORDER BY ended_at IS NOT NULL, id DESC",
    )?;
    Ok(s.query_map([letterhead.0], |r| {
        Ok(SigningKey {
            id: r.get(0)?,
            domain: r.get(1)?,
            selector: r.get(2)?,
            algorithm: r.get(3)?,
            public: r.get(4)?,
            made_at: r.get(5)?,
            ended_at: r.get(6)?,
            private: r.get(7)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// Keeps a new key under a selector of its own; returns the key's number.
///
/// # Errors
/// When there is no such letterhead.
pub fn add_key(
    c: &Connection,
    letterhead: LetterheadId,
    algorithm: &str,
    private: &[u8],
    public: &str,
    now: Instant,
    person: Option<i64>,
) -> Result<i64> {
    let l = one(c, letterhead)?;
    // Selectors are never used again: what an old key signed is still checked against its own.
    let n: i64 = c.query_row("SELECT count(*) FROM dkim_key WHERE domain = ?1", [l.domain()], |r| r.get(0))?;
    let selector = format!("rinse{}", n + 1);
    let id = c.query_row(
        "INSERT INTO dkim_key (letterhead_id, domain, selector, algorithm, private, public, made_at, person_id) VALUES (?1,?2,?3,?4,?5,?6,?7,?8) RETURNING id",
        params![letterhead.0, l.domain(), selector, algorithm, private, public, now.millis(), person],
        |r| r.get(0),
    )?;
    audit(c, now, person, "signing key made", "letterhead", letterhead.0, &format!("{selector} of {}", l.domain()))?;
    Ok(id)
}

/// Ends a key: nothing is signed with it any more. Its DNS record should stay for a week, for mail under way.
///
/// # Errors
/// When there is no such key in use.
pub fn end_key(c: &Connection, letterhead: LetterheadId, key: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let n = c.execute(
        "UPDATE dkim_key SET ended_at = ?3 WHERE id = ?2 AND letterhead_id = ?1 AND ended_at IS NULL",
        params![letterhead.0, key, now.millis()],
    )?;
    if n == 0 {
        return Err(StoreError::Missing("signing key"));
    }
    audit(c, now, person, "signing key ended", "letterhead", letterhead.0, &format!("key {key}"))
}

/// The number of the letterhead of a message's mailing; none: there is no such message.
///
/// # Errors
/// When the database fails.
pub fn number_of_send(c: &Connection, send: SendId) -> Result<Option<LetterheadId>> {
    let mut s = c.prepare_cached("SELECT m.letterhead_id FROM send s JOIN mailing m ON m.id = s.mailing_id WHERE s.id = ?1")?;
    Ok(s.query_row([send.0], |r| r.get(0).map(LetterheadId)).optional()?)
}

/// The letterhead of a message's mailing, as it is now.
///
/// # Errors
/// When there is no such message.
pub fn of_send(c: &Connection, send: SendId) -> Result<Letterhead> {
    one(c, number_of_send(c, send)?.ok_or(StoreError::Missing("message"))?)
}
