//! Where the people of the base live.

use crate::Result;
use crate::codes::CONSENTED;
use const_format::formatcp;
use rinse_core::table::country;
use rusqlite::Connection;
use serde::Serialize;
use utoipa::ToSchema;

/// A country of the base, with who would have to confirm there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct CountryPeople {
    /// None: unknown.
    pub country: Option<String>,
    pub people: i64,
    /// Consented, and not confirmed.
    pub single: i64,
}

/// The 60 countries with the most people.
///
/// # Errors
/// When the database fails.
pub fn countries(c: &Connection) -> Result<Vec<CountryPeople>> {
    let mut s = c.prepare_cached(formatcp!(
        "SELECT nullif(country, ''), sum(people), sum(iif(consent = {CONSENTED}, people, 0)) FROM people_standing WHERE people > 0 GROUP BY 1 ORDER BY 2 DESC LIMIT 60"
    ))?;
    let rows = s.query_map([], |r| Ok(CountryPeople { country: r.get(0)?, people: r.get(1)?, single: r.get(2)? }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Countries that an earlier version took as they were written get their codes: rules go by those.
pub(crate) fn by_code(c: &Connection) -> Result<()> {
    let written: Vec<String> = c
        .prepare("SELECT DISTINCT country FROM contact WHERE length(country) > 2")?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for name in written {
        if let Ok(code) = country::read(&name) {
            c.execute("UPDATE contact SET country = ?2 WHERE country = ?1", [name.as_str(), code])?;
        }
    }
    Ok(())
}
