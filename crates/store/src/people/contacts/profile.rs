//! People added, found by their address, and their profiles changed.

use crate::stored::As;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::consent::Consent;
use rinse_core::id::ContactId;
use rinse_core::table::country;
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The id of a domain, made when new.
///
/// # Errors
/// When the database fails.
pub fn domain_id(c: &Connection, name: &str) -> Result<i64> {
    if let Some(id) = c.prepare_cached("SELECT id FROM domain WHERE name = ?1")?.query_row([name], |r| r.get(0)).optional()? {
        return Ok(id);
    }
    Ok(c.prepare_cached("INSERT INTO domain (name) VALUES (?1) RETURNING id")?.query_row([name], |r| r.get(0))?)
}

/// What a row of a file says about a person; `None` leaves the field alone.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Profile {
    pub given_name: Option<String>,
    pub family_name: Option<String>,
    pub country: Option<String>,
    pub region: Option<String>,
    pub zone: Option<String>,
    pub source: Option<String>,
    /// Latitude and longitude in degrees.
    #[schema(value_type = Option<Vec<f64>>)]
    pub position: Option<(f64, f64)>,
}

impl Profile {
    /// The same with the country by its code, which rules go by; a country may be written by its name.
    ///
    /// # Errors
    /// When the country is none that is known.
    pub fn by_code(mut self) -> Result<Self> {
        let country = self.country.take().filter(|c| !c.trim().is_empty());
        let unknown = |why| StoreError::Refused(format!("{why}."));
        self.country = country.map(|c| country::read(&c).map_err(unknown)).transpose()?.map(str::to_owned);
        Ok(self)
    }

    fn values(&self) -> [&Option<String>; 6] {
        [&self.given_name, &self.family_name, &self.country, &self.region, &self.zone, &self.source]
    }
}

/// The person an address leads to: its own, or the one it was merged into.
///
/// # Errors
/// When the database fails.
pub fn id_of(c: &Connection, key: &str) -> Result<Option<ContactId>> {
    Ok(c.prepare_cached("SELECT coalesce(merged_into, id) FROM contact WHERE address_key = ?1")?
        .query_row([key], |r| r.get(0).map(ContactId))
        .optional()?)
}

/// The id, consent and profile of the person an address leads to.
///
/// # Errors
/// When the database fails.
pub fn find(c: &Connection, key: &str) -> Result<Option<(ContactId, Consent, Profile)>> {
    let sql = format!(
        "SELECT {PROFILE}, id, consent FROM contact WHERE id = (SELECT coalesce(merged_into, id) FROM contact WHERE address_key = ?1)"
    );
    Ok(c.prepare_cached(&sql)?
        .query_row([key], |r| Ok((ContactId(r.get(8)?), r.get::<_, As<Consent>>(9)?.0, profile_in(r)?)))
        .optional()?)
}

const PROFILE: &str = "given_name, family_name, country, region, zone, source, latitude, longitude";

fn profile_in(r: &Row<'_>) -> rusqlite::Result<Profile> {
    Ok(Profile {
        given_name: r.get(0)?,
        family_name: r.get(1)?,
        country: r.get(2)?,
        region: r.get(3)?,
        zone: r.get(4)?,
        source: r.get(5)?,
        position: r.get::<_, Option<f64>>(6)?.zip(r.get(7)?),
    })
}

/// A person's profile.
///
/// # Errors
/// When there is no such person.
pub fn profile(c: &Connection, id: ContactId) -> Result<Profile> {
    let sql = format!("SELECT {PROFILE} FROM contact WHERE id = ?1");
    c.prepare_cached(&sql)?.query_row([id.0], profile_in).optional()?.ok_or(StoreError::Missing("contact"))
}

/// A person's compared address.
///
/// # Errors
/// When there is no such contact.
pub fn address_of(c: &Connection, id: ContactId) -> Result<String> {
    c.prepare_cached("SELECT address_key FROM contact WHERE id = ?1")?
        .query_row([id.0], |r| r.get(0))
        .map_err(|_| StoreError::Missing("contact"))
}

/// Would `new` change what is stored?
#[must_use]
pub fn differs(stored: &Profile, new: &Profile) -> bool {
    stored.values().iter().zip(new.values()).any(|(s, n)| n.is_some() && *s != n)
        || (new.position.is_some() && stored.position != new.position)
}

/// Adds a contact; consent is written with its entry by [`crate::ledger::act`].
///
/// # Errors
/// When the address is there already.
pub fn add(c: &Connection, a: &Address, p: &Profile, now: Instant) -> Result<ContactId> {
    let domain = domain_id(c, &a.domain)?;
    insert(c, a, domain, p, now, (None, None), Consent::None)
}

/// Adds a contact in the state that its first entry of the ledger leads to.
pub(crate) fn insert(
    c: &Connection,
    a: &Address,
    domain: i64,
    p: &Profile,
    now: Instant,
    (import, run): (Option<i64>, Option<i64>),
    consent: Consent,
) -> Result<ContactId> {
    let (latitude, longitude) = p.position.unzip();
    let consent_at = (consent != Consent::None).then_some(now.millis());
    c.prepare_cached(
        "INSERT INTO contact (address, address_key, domain_id, given_name, family_name, country, region, zone, source, latitude, longitude, added_at, import_id, run_id, consent, consent_at)
         VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15,?16)",
    )?
    .execute(params![
        a.normal, a.key, domain, p.given_name, p.family_name, p.country, p.region, p.zone, p.source, latitude, longitude, now.millis(), import, run,
        consent as i64, consent_at
    ])?;
    let contact = ContactId(c.last_insert_rowid());
    crate::departed::settle(c, contact, &a.key)?;
    Ok(contact)
}

/// Updates the fields that are given.
///
/// # Errors
/// When the database fails.
pub fn update(c: &Connection, id: ContactId, p: &Profile) -> Result<()> {
    let (latitude, longitude) = p.position.unzip();
    c.prepare_cached(
        "UPDATE contact SET given_name = coalesce(?2, given_name), family_name = coalesce(?3, family_name), country = coalesce(?4, country), region = coalesce(?5, region),
            zone = coalesce(?6, zone), source = coalesce(?7, source), latitude = coalesce(?8, latitude), longitude = coalesce(?9, longitude) WHERE id = ?1",
    )?
    .execute(params![id.0, p.given_name, p.family_name, p.country, p.region, p.zone, p.source, latitude, longitude])?;
    Ok(())
}

/// Replaces a person's whole profile: what is `None` is missing afterwards.
///
/// # Errors
/// When there is no such contact, or the profile can't be meant.
pub fn replace_profile(c: &Connection, id: ContactId, p: &Profile) -> Result<()> {
    let fits = |(latitude, longitude): (f64, f64)| (-90.0..=90.0).contains(&latitude) && (-180.0..=180.0).contains(&longitude);
    if !p.position.is_none_or(fits) || p.values().into_iter().flatten().any(|v| v.chars().count() > 200) {
        return Err(StoreError::Refused("A text has at most 200 characters, a place lies within 90 and 180 degrees.".into()));
    }
    let (latitude, longitude) = p.position.unzip();
    let n = c.execute(
        "UPDATE contact SET given_name = ?2, family_name = ?3, country = ?4, region = ?5, zone = ?6, source = ?7, latitude = ?8, longitude = ?9 WHERE id = ?1 AND gone IS NULL",
        params![id.0, p.given_name, p.family_name, p.country, p.region, p.zone, p.source, latitude, longitude],
    )?;
    if n == 0 { Err(StoreError::Missing("contact")) } else { Ok(()) }
}

/// Who somebody is now: themselves, or the person they were merged into. None: they were deleted, or there is no such person.
///
/// # Errors
/// When the database fails.
pub fn now(c: &Connection, contact: ContactId) -> Result<Option<i64>> {
    let sql = "SELECT id FROM contact WHERE id = (SELECT coalesce(merged_into, id) FROM contact WHERE id = ?1) AND gone IS NULL";
    Ok(c.prepare_cached(sql)?.query_row([contact.0], |r| r.get(0)).optional()?)
}

/// The address and the profile of a person who is here.
///
/// # Errors
/// When there is no such person.
pub fn addressed(c: &Connection, contact: ContactId) -> Result<(String, Profile)> {
    c.prepare_cached(formatcp!("SELECT {PROFILE}, address FROM contact WHERE id = ?1 AND gone IS NULL"))?
        .query_row([contact.0], |r| Ok((r.get(8)?, profile_in(r)?)))
        .optional()?
        .ok_or(StoreError::Missing("contact"))
}
