//! Mailings that another system sends, of people who are drawn and cleared here. Anybody who is due is cleared once more and put on the list of their
//! arm, counted under the caps from then on; the list goes out as a file, and the other system's log says what came of it.

use crate::hour_trials::OFF;
use crate::send_state::{ACCEPTED, FAILED, UNTRIED};
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::id::{ContactId, MailingId};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Who was cleared last, whether or not the other system's log tells of it yet.
const ON_THE_LIST: &str = formatcp!("{ACCEPTED}, {FAILED}");

/// The list of an arm.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = HandOutList)]
pub struct List {
    /// Its place; 0 is A.
    pub arm: i64,
    /// 0 the whole mailing, 1 the pilot of a trial, 2 its rollout, 3 those who get the other arms as a check of that.
    pub phase: i64,
    /// Of a round of an hour trial: the hour they were drawn to, their time zone, and when that is (milliseconds since 1970). Nothing: they weren't
    /// drawn, and go at the usual hour.
    pub hour: Option<i64>,
    pub zone: Option<String>,
    pub sends_at: Option<i64>,
    /// The key under which the other system tells of it.
    pub key: String,
    /// People on it …
    pub people: i64,
    /// … of whom its log tells that they were sent it …
    pub told: i64,
    /// … and of these with the message of another arm, or at another hour than theirs.
    pub crossed: i64,
    /// Still to be put on it: held, or not due yet.
    pub to_come: i64,
}

fn letter(arm: i64) -> char {
    rinse_core::trial::letter(usize::try_from(arm).unwrap_or(0))
}

/// The key of a list; without its arm, what the trigger `mailing_handed_out` gives the mailing.
fn key(mailing: MailingId, arm: i64) -> String {
    format!("rinse-{mailing}-{}", letter(arm))
}

/// The arm that a letter names.
pub(super) fn arm_of(letter: &str) -> Option<i64> {
    match letter.as_bytes() {
        [l @ b'A'..=b'F'] => Some(i64::from(l - b'A')),
        _ => None,
    }
}

fn must_be_handed_out(c: &Connection, mailing: MailingId) -> Result<()> {
    let out: bool = c
        .query_row("SELECT handed_out FROM mailing WHERE id = ?1", [mailing.0], |r| r.get(0))
        .map_err(|_| StoreError::Missing("mailing"))?;
    if out { Ok(()) } else { Err(StoreError::Refused("Rinse sends this mailing itself: there is nothing to hand out.".into())) }
}

/// The lists of a mailing, arm by arm, and of a round of an hour trial by hour and time zone.
///
/// # Errors
/// When Rinse sends it itself.
pub fn lists(c: &Connection, mailing: MailingId) -> Result<Vec<List>> {
    must_be_handed_out(c, mailing)?;
    let zones = zones_of(c, mailing)?;
    let mut s = c.prepare_cached(formatcp!(
        "SELECT s.phase, s.arm, h.hour, h.zone, min(h.due), sum(s.state IN ({ON_THE_LIST})), count(s.handed_at), sum(x.send_id IS NOT NULL OR {OFF}),
            sum(s.state IN ({UNTRIED}))
         FROM send s LEFT JOIN log_crossed x ON x.send_id = s.id LEFT JOIN hour_roster h ON h.mailing_id = s.mailing_id AND h.contact_id = s.contact_id
         WHERE s.mailing_id = ?1 GROUP BY 1, 2, 3, 4 ORDER BY 1, 2, 3, 4"
    ))?;
    let row = |r: &Row<'_>| {
        let arm: i64 = r.get(1)?;
        Ok(List {
            arm,
            phase: r.get(0)?,
            hour: r.get(2)?,
            zone: r.get::<_, Option<u32>>(3)?.and_then(|z| zones.get(&z).cloned()),
            sends_at: r.get(4)?,
            key: key(mailing, arm),
            people: r.get(5)?,
            told: r.get(6)?,
            crossed: r.get(7)?,
            to_come: r.get(8)?,
        })
    };
    Ok(s.query_map([mailing.0], row)?.collect::<rusqlite::Result<_>>()?)
}

/// The names of a round's time zones; none of a mailing that is no round.
fn zones_of(c: &Connection, mailing: MailingId) -> Result<BTreeMap<u32, String>> {
    let text: Option<String> = c
        .prepare_cached("SELECT zones FROM hour_round WHERE mailing_id = ?1 AND missed IS NULL")?
        .query_row([mailing.0], |r| r.get(0))
        .optional()?;
    text.map_or(Ok(BTreeMap::new()), |text| Ok(crate::stored::document(&text, "mailing", mailing.0)?))
}

/// Which list of a mailing.
#[derive(Debug, Clone, Default)]
pub struct Which {
    pub arm: i64,
    pub phase: i64,
    /// Of a round: those of one hour, and of one time zone; none: all of them.
    pub hour: Option<i64>,
    pub zone: Option<String>,
}

/// The people of a list: address, key, arm, given and family name, country, of a round the hour they were drawn to, its time zone and when that is,
/// and the fields that are asked for. With a header.
///
/// # Errors
/// When Rinse sends the mailing itself, or there is no such field.
pub fn people(c: &Connection, mailing: MailingId, which: &Which, fields: &[i64]) -> Result<Vec<Vec<String>>> {
    must_be_handed_out(c, mailing)?;
    let all = crate::fields::names(c)?;
    let names = fields.iter().map(|id| all.iter().find(|f| f.id == *id).map(|f| f.name.clone()).ok_or(StoreError::Missing("field")));
    let (zones, letter, key) = (zones_of(c, mailing)?, letter(which.arm).to_string(), key(mailing, which.arm));
    let mut header = vec!["address", "key", "arm", "given_name", "family_name", "country"];
    if !zones.is_empty() {
        header.extend(["hour", "zone", "sends_at"]);
    }
    let mut out = vec![header.into_iter().map(|h| Ok(h.to_owned())).chain(names).collect::<Result<Vec<String>>>()?];
    let own: Vec<(String, i64)> = fields.iter().map(|id| (String::new(), *id)).collect();
    let mut s = c.prepare_cached(formatcp!(
        "SELECT k.id, k.address, coalesce(k.given_name, ''), coalesce(k.family_name, ''), coalesce(k.country, ''), h.hour, h.zone, h.due
         FROM send s JOIN contact k ON k.id = s.contact_id LEFT JOIN hour_roster h ON h.mailing_id = s.mailing_id AND h.contact_id = s.contact_id
         WHERE s.mailing_id = ?1 AND s.arm = ?2 AND s.phase = ?3 AND s.state IN ({ON_THE_LIST}) AND k.gone IS NULL AND (?4 IS NULL OR h.hour = ?4)
            AND (?5 IS NULL OR h.zone = ?5) ORDER BY k.id"
    ))?;
    let zone = match &which.zone {
        Some(name) => Some(zones.iter().find(|(_, z)| *z == name).map(|(number, _)| *number).ok_or(StoreError::Missing("list"))?),
        None => None,
    };
    let mut rows = s.query(params![mailing.0, which.arm, which.phase, which.hour, zone])?;
    while let Some(r) = rows.next()? {
        let contact = ContactId(r.get(0)?);
        let mut row = vec![r.get(1)?, key.clone(), letter.clone(), r.get(2)?, r.get(3)?, r.get(4)?];
        if !zones.is_empty() {
            let (hour, zone, due): (Option<i64>, Option<u32>, Option<i64>) = (r.get(5)?, r.get(6)?, r.get(7)?);
            row.push(hour.map_or_else(String::new, |h| format!("{h:02}:00")));
            row.push(zone.and_then(|z| zones.get(&z).cloned()).unwrap_or_default());
            row.push(due.map_or_else(String::new, |due| Instant::of(due).iso()));
        }
        if !own.is_empty() {
            row.extend(crate::mailings::own_values(c, contact, &own)?.into_iter().map(|(_, value)| value));
        }
        out.push(row);
    }
    Ok(out)
}
