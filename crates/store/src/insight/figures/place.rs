//! Where a message went: domain, country, source and mail load of its recipient, frozen when it was first handed over, so that what is summed by
//! them never moves.

use crate::Result;
use rinse_core::Instant;
use rinse_core::id::{ContactId, MailingId};
use rusqlite::{Connection, OptionalExtension, params};

/// Domains of fewer people are told together.
const PEOPLE_OF_A_DOMAIN: u32 = 20;

/// Where a message goes now: what its send says from its first handover on.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Goes {
    pub place: Option<i64>,
    /// By the recipient's clock.
    pub local_hour: i64,
    /// The cell of the recipient's mail load; none of who hasn't been looked at yet.
    pub load: Option<i64>,
}

/// Where a message to somebody goes.
///
/// # Errors
/// When the database fails.
pub(crate) fn of(c: &Connection, contact: ContactId, mailing: MailingId, now: Instant) -> Result<Goes> {
    let found = c
        .prepare_cached(
            "SELECT iif(m.channel = 1 AND (SELECT count(*) FROM (SELECT 1 FROM contact INDEXED BY contact_domain WHERE domain_id = k.domain_id LIMIT ?3)) = ?3, k.domain_id, 0),
                coalesce(k.country, ''), coalesce(trim(k.source), ''), coalesce(k.zone, l.zone), (SELECT cell FROM mail_load WHERE contact_id = k.id)
             FROM contact k, mailing m JOIN letterhead l ON l.id = m.letterhead_id WHERE k.id = ?1 AND m.id = ?2",
        )?
        .query_row(params![contact.0, mailing.0, PEOPLE_OF_A_DOMAIN], |r| {
            Ok((r.get::<_, i64>(0)?, r.get::<_, String>(1)?, r.get::<_, String>(2)?, r.get::<_, String>(3)?, r.get(4)?))
        })
        .optional()?;
    let Some((domain, country, source, zone, load)) = found else {
        return Ok(Goes { local_hour: super::local_hour("UTC", now), ..Goes::default() });
    };
    let there = "SELECT id FROM place WHERE domain_id = ?1 AND country = ?2 AND source = ?3";
    let place = match c.prepare_cached(there)?.query_row(params![domain, country, source], |r| r.get(0)).optional()? {
        Some(id) => id,
        None => c
            .prepare_cached("INSERT INTO place (domain_id, country, source) VALUES (?1, ?2, ?3) RETURNING id")?
            .query_row(params![domain, country, source], |r| r.get(0))?,
    };
    Ok(Goes { place: Some(place), local_hour: super::local_hour(&zone, now), load })
}

/// Messages that were handed over before their places were kept: as their recipients are now.
pub(super) fn of_earlier(c: &Connection) -> Result<()> {
    let earlier = c.prepare("SELECT 1 FROM send WHERE handed_at IS NOT NULL AND place_id IS NULL LIMIT 1")?.exists([])?;
    if !earlier {
        return Ok(());
    }
    c.execute_batch(&format!(
        "CREATE TEMP TABLE of_person AS SELECT k.id AS contact_id, iif(d.people >= {PEOPLE_OF_A_DOMAIN}, k.domain_id, 0) AS domain_id, coalesce(k.country, '') AS country,
            coalesce(trim(k.source), '') AS source, k.zone AS zone
         FROM contact k LEFT JOIN (SELECT domain_id, count(*) AS people FROM contact GROUP BY domain_id) d ON d.domain_id = k.domain_id;
         CREATE UNIQUE INDEX temp.of_person_id ON of_person (contact_id);
         INSERT OR IGNORE INTO place (domain_id, country, source) SELECT DISTINCT domain_id, country, source FROM of_person;
         INSERT OR IGNORE INTO place (domain_id, country, source) SELECT DISTINCT 0, country, source FROM of_person;
         UPDATE send SET place_id = (SELECT p.id FROM of_person o JOIN place p ON p.domain_id = iif(send.channel = 1, o.domain_id, 0) AND p.country = o.country AND p.source = o.source
                WHERE o.contact_id = send.contact_id),
            local_hour = local_hour(coalesce((SELECT zone FROM of_person WHERE contact_id = send.contact_id),
                (SELECT l.zone FROM mailing m JOIN letterhead l ON l.id = m.letterhead_id WHERE m.id = send.mailing_id)), handed_at)
            WHERE handed_at IS NOT NULL AND place_id IS NULL;
         DROP TABLE of_person;"
    ))?;
    Ok(())
}
