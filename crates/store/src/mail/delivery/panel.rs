//! The test panel: mailboxes of our own that get a copy of each mailing, and where the copies landed.

use crate::codes::MAILING_SENDING;
use crate::stored::{Worded, ids_as};
use crate::{Result, StoreError, settings};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::delivery::placement::{Place, Placed};
use rinse_core::id::MailingId;
use rinse_core::report::Rate;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// Mailboxes of a panel at most: it is a sample, and each costs a message of every mailing.
const MOST: i64 = 100;
/// Mailings whose copies are shown.
const SHOWN: u32 = 20;

/// Where one copy landed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = PanelCopy)]
pub struct Copy {
    pub mailing: MailingId,
    /// What its host replied; empty: it isn't handed over yet.
    pub reply: String,
    /// None: nobody has looked.
    pub place: Option<Place>,
}

/// A mailbox of the panel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = PanelMailbox)]
pub struct Mailbox {
    pub id: i64,
    pub address: String,
    /// Its mailbox group.
    pub group: String,
    /// Of the mailings that are shown, the newest first.
    pub copies: Vec<Copy>,
}

/// The copies of one mailing.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = PanelMailing)]
pub struct OfMailing {
    pub id: MailingId,
    pub name: String,
    pub at: i64,
    pub copies: u64,
    /// In the inbox, of those of which it is known where they landed.
    pub inbox: Rate,
    pub junk: u64,
    pub missing: u64,
}

/// The panel with its last mailings, the newest first.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = TestPanel)]
pub struct Panel {
    pub mailboxes: Vec<Mailbox>,
    pub mailings: Vec<OfMailing>,
}

/// Puts mailboxes on the panel.
///
/// # Errors
/// An address that is none, one that is on it, or too many.
pub fn add(c: &Connection, addresses: &str, now: Instant, person: Option<i64>) -> Result<usize> {
    let mut added = 0;
    for text in addresses.split([',', ';', '\n']).map(str::trim).filter(|t| !t.is_empty()) {
        let a = Address::parse(text).map_err(|e| StoreError::Refused(format!("{text:?} can’t be on the panel: {e}.")))?;
        let put = c
            .prepare_cached(
                "INSERT INTO panel_mailbox (address, address_key, domain, made_at) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT (address_key) DO UPDATE SET ended_at = NULL WHERE ended_at IS NOT NULL",
            )?
            .execute(params![a.normal, a.key, a.domain, now.millis()])?;
        if put == 0 {
            return Err(StoreError::Refused(format!("{} is on the panel already.", a.normal)));
        }
        added += put;
    }
    if added == 0 {
        return Err(StoreError::Refused("Enter one address or more, of mailboxes that you can look into.".into()));
    }
    let n: i64 = c.prepare_cached("SELECT count(*) FROM panel_mailbox WHERE ended_at IS NULL")?.query_row([], |r| r.get(0))?;
    if n > MOST {
        return Err(StoreError::Refused(format!("A panel has {MOST} mailboxes at most: each gets a message of every mailing.")));
    }
    settings::audit(c, now, person, "mailboxes put on the test panel", "delivery", 0, &added.to_string())?;
    Ok(added)
}

/// Takes a mailbox off: it gets no more copies. What it got stays.
///
/// # Errors
/// When it isn't on the panel.
pub fn remove(c: &Connection, id: i64, now: Instant, person: Option<i64>) -> Result<()> {
    let address: Option<String> = c
        .prepare_cached("UPDATE panel_mailbox SET ended_at = ?2 WHERE id = ?1 AND ended_at IS NULL RETURNING address")?
        .query_row(params![id, now.millis()], |r| r.get(0))
        .optional()?;
    let address = address.ok_or(StoreError::Missing("mailbox of the test panel"))?;
    settings::audit(c, now, person, "mailbox taken off the test panel", "delivery", id, &address)
}

/// The mailings on their way that the panel has no copy of yet: email that we send ourselves, at one time.
///
/// # Errors
/// When the database fails.
pub fn waiting(c: &Connection) -> Result<Vec<MailingId>> {
    ids_as(
        c,
        formatcp!(
            "SELECT id FROM mailing m WHERE state = {MAILING_SENDING} AND channel = 1 AND handed_out = 0 AND series_id IS NULL
                AND NOT EXISTS (SELECT 1 FROM panel_copy p WHERE p.mailing_id = m.id) AND EXISTS (SELECT 1 FROM panel_mailbox WHERE ended_at IS NULL)"
        ),
        [],
        MailingId,
    )
}

/// A copy that is to be handed over, on record before it is: a crash may lose it, and doubles none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToSend {
    /// The number of its test message.
    pub test: i64,
    pub address: String,
}

/// Puts the copies of a mailing on record.
///
/// # Errors
/// When the database fails.
pub fn claim(c: &Connection, mailing: MailingId, now: Instant) -> Result<Vec<ToSend>> {
    let mut s = c.prepare_cached("SELECT id, address FROM panel_mailbox WHERE ended_at IS NULL ORDER BY id")?;
    let mailboxes = s.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<Vec<(i64, String)>>>()?;
    let mut put = c.prepare_cached("INSERT INTO panel_copy (test_id, mailing_id, mailbox_id) VALUES (?1, ?2, ?3)")?;
    let mut out = Vec::new();
    for (mailbox, address) in mailboxes {
        let test = settings::test_send(c, Some(mailing), &address, now, None)?;
        put.execute(params![test, mailing.0, mailbox])?;
        out.push(ToSend { test, address });
    }
    Ok(out)
}

/// Keeps where a copy landed; told again it is as it was told last.
///
/// # Errors
/// A mailbox that isn't on the panel, or of a mailing that it got no copy of.
pub fn keep(c: &Connection, told: &Placed, now: Instant) -> Result<bool> {
    let key = Address::parse(&told.address).map_err(|e| StoreError::Refused(format!("{:?} is no address: {e}.", told.address)))?.key;
    let was: Option<Option<Worded<Place>>> = c
        .prepare_cached(
            "SELECT p.place FROM panel_copy p JOIN panel_mailbox b ON b.id = p.mailbox_id WHERE b.address_key = ?1 AND p.mailing_id = ?2",
        )?
        .query_row(params![key, told.mailing.0], |r| r.get(0))
        .optional()?;
    let was = was.ok_or_else(|| StoreError::Refused(format!("{} got no copy of mailing {}.", told.address, told.mailing)))?;
    if was == Some(Worded(told.place)) {
        return Ok(false);
    }
    c.prepare_cached(
        "UPDATE panel_copy SET place = ?3, told_at = ?4 WHERE mailing_id = ?2 AND mailbox_id = (SELECT id FROM panel_mailbox WHERE address_key = ?1)",
    )?
    .execute(params![key, told.mailing.0, Worded(told.place), now.millis()])?;
    Ok(true)
}

/// The panel as it stands.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Panel> {
    let mut s = c.prepare_cached(
        "SELECT m.id, m.name, min(t.at), count(*), sum(p.place IS NOT NULL), coalesce(sum(p.place = 'inbox'), 0), coalesce(sum(p.place = 'junk'), 0),
            coalesce(sum(p.place = 'missing'), 0)
         FROM panel_copy p JOIN mailing m ON m.id = p.mailing_id JOIN test_send t ON t.id = p.test_id GROUP BY m.id ORDER BY min(p.test_id) DESC LIMIT ?1",
    )?;
    let mailings: Vec<OfMailing> = s
        .query_map([SHOWN], |r| {
            let n = |i: usize| r.get::<_, u32>(i).map(u64::from);
            Ok(OfMailing {
                id: MailingId(r.get(0)?),
                name: r.get(1)?,
                at: r.get(2)?,
                copies: n(3)?,
                inbox: Rate::new(n(5)?, n(4)?),
                junk: n(6)?,
                missing: n(7)?,
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let mut boxes = c.prepare_cached(
        "SELECT b.id, b.address, coalesce(d.operator, b.domain) FROM panel_mailbox b LEFT JOIN domain d ON d.name = b.domain
         WHERE b.ended_at IS NULL ORDER BY 3, 2",
    )?;
    let mut copies = c.prepare_cached(
        "SELECT p.mailing_id, t.reply, p.place FROM panel_copy p JOIN test_send t ON t.id = p.test_id WHERE p.mailing_id = ?1 AND p.mailbox_id = ?2",
    )?;
    let mut mailboxes: Vec<Mailbox> = boxes
        .query_map([], |r| Ok(Mailbox { id: r.get(0)?, address: r.get(1)?, group: r.get(2)?, copies: Vec::new() }))?
        .collect::<rusqlite::Result<_>>()?;
    for b in &mut mailboxes {
        for m in &mailings {
            let copy = copies
                .query_row([m.id.0, b.id], |r| {
                    let place = r.get::<_, Option<Worded<Place>>>(2)?.map(|w| w.0);
                    Ok(Copy { mailing: MailingId(r.get(0)?), reply: r.get(1)?, place })
                })
                .optional()?;
            b.copies.extend(copy);
        }
    }
    Ok(Panel { mailboxes, mailings })
}
