//! Mailings that another system sends, of people who are drawn and cleared here. Whoever is due is cleared once more and put on the list of their
//! arm, counted under the caps from then on; the list goes out as a file, and the other system's log says what came of it.

use crate::{Result, StoreError};
use rusqlite::{Connection, Row};
use serde::Serialize;
use utoipa::ToSchema;

/// The list of an arm.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = HandOutList)]
pub struct List {
    /// Its place; 0 is A.
    pub arm: i64,
    /// 0 the whole mailing, 1 the pilot of a trial, 2 its rollout, 3 those who get the other arms as a check of that.
    pub phase: i64,
    /// The key under which the other system tells of it.
    pub key: String,
    /// People on it …
    pub people: i64,
    /// … of whom its log tells that they were sent it …
    pub told: i64,
    /// … and of these with the message of another arm.
    pub crossed: i64,
    /// Still to be put on it: held, or not due yet.
    pub to_come: i64,
}

fn letter(arm: i64) -> char {
    rinse_core::trial::letter(usize::try_from(arm).unwrap_or(0))
}

/// The arm that a letter names.
pub(super) fn arm_of(letter: &str) -> Option<i64> {
    match letter.as_bytes() {
        [l @ b'A'..=b'F'] => Some(i64::from(l - b'A')),
        _ => None,
    }
}

fn must_be_handed_out(c: &Connection, mailing: i64) -> Result<()> {
    let out: bool =
        c.query_row("SELECT handed_out FROM mailing WHERE id = ?1", [mailing], |r| r.get(0)).map_err(|_| StoreError::Missing("mailing"))?;
    if out { Ok(()) } else { Err(StoreError::Refused("Rinse sends this mailing itself: there is nothing to hand out.".into())) }
}

/// The lists of a mailing, arm by arm.
///
/// # Errors
/// When Rinse sends it itself.
pub fn lists(c: &Connection, mailing: i64) -> Result<Vec<List>> {
    must_be_handed_out(c, mailing)?;
    let mut s = c.prepare_cached(
        "SELECT s.phase, s.arm, sum(s.state IN (3, 5)), count(s.handed_at), count(x.send_id), sum(s.state IN (0, 1)) FROM send s LEFT JOIN log_crossed x ON x.send_id = s.id
         WHERE s.mailing_id = ?1 GROUP BY 1, 2 ORDER BY 1, 2",
    )?;
    let row = |r: &Row<'_>| {
        let arm: i64 = r.get(1)?;
        Ok(List {
            arm,
            phase: r.get(0)?,
            key: format!("rinse-{mailing}-{}", letter(arm)),
            people: r.get(2)?,
            told: r.get(3)?,
            crossed: r.get(4)?,
            to_come: r.get(5)?,
        })
    };
    Ok(s.query_map([mailing], row)?.collect::<rusqlite::Result<_>>()?)
}

/// The people of a list: address, key, arm, given and family name, country, and the fields that are asked for. With a header.
///
/// # Errors
/// When Rinse sends the mailing itself, or there is no such field.
pub fn people(c: &Connection, mailing: i64, arm: i64, phase: i64, fields: &[i64]) -> Result<Vec<Vec<String>>> {
    must_be_handed_out(c, mailing)?;
    let all = crate::fields::all(c)?;
    let names = fields.iter().map(|id| all.iter().find(|f| f.id == *id).map(|f| f.name.clone()).ok_or(StoreError::Missing("field")));
    let header = ["address", "key", "arm", "given_name", "family_name", "country"].map(str::to_owned);
    let mut out = vec![header.into_iter().map(Ok).chain(names).collect::<Result<Vec<String>>>()?];
    let own: Vec<(String, i64)> = fields.iter().map(|id| (String::new(), *id)).collect();
    let mut s = c.prepare_cached(
        "SELECT k.id, k.address, coalesce(k.given_name, ''), coalesce(k.family_name, ''), coalesce(k.country, '') FROM send s JOIN contact k ON k.id = s.contact_id
         WHERE s.mailing_id = ?1 AND s.arm = ?2 AND s.phase = ?3 AND s.state IN (3, 5) AND k.gone IS NULL ORDER BY k.id",
    )?;
    let mut rows = s.query([mailing, arm, phase])?;
    let letter = letter(arm).to_string();
    let key = format!("rinse-{mailing}-{letter}");
    while let Some(r) = rows.next()? {
        let contact: i64 = r.get(0)?;
        let mut row = vec![r.get(1)?, key.clone(), letter.clone(), r.get(2)?, r.get(3)?, r.get(4)?];
        if !own.is_empty() {
            row.extend(crate::mailings::own_values(c, contact, &own)?.into_iter().map(|(_, value)| value));
        }
        out.push(row);
    }
    Ok(out)
}
