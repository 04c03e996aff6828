//! What is counted as messages are accepted and fail, and where it makes an incident: over a whole mailbox group first, since domains whose mail
//! the same hosts take fail together; then at the one domain, which would drown in a large group's numbers.

use super::{cover, due};
use crate::Result;
use crate::upkeep::{policy, status};
use rinse_core::bounce::Category;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::upkeep::Policy;
use rinse_core::upkeep::incident::{Counted, NORM_DAYS, NormOf, ON_A_MAILING_DAYS, is_incident, norm};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, Row, ToSql, params};

pub(super) fn day(at: Instant) -> i64 {
    at.millis().div_euclid(DAY)
}

/// Where failures are counted together.
#[derive(Debug, Clone, Copy)]
enum Place<'a> {
    /// All domains of a mailbox group that are in no incident of the mailing yet.
    Group(&'a str),
    /// One of them.
    Domain(i64),
}

impl Place<'_> {
    /// Which domains `d` it has, by the parameter `?1`.
    fn domains(self) -> &'static str {
        match self {
            Self::Group(_) => "coalesce(d.operator, d.name) = ?1",
            Self::Domain(_) => "d.id = ?1",
        }
    }

    fn bound(&self) -> &dyn ToSql {
        match self {
            Self::Group(name) => name,
            Self::Domain(id) => id,
        }
    }
}

fn add(c: &Connection, at: Instant, domain: i64, mailing: MailingId, by: Counted) -> Result<()> {
    c.prepare_cached("INSERT INTO domain_failure VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT DO UPDATE SET messages = messages + ?4, failures = failures + ?5")?
        .execute(params![day(at), domain, mailing.0, stored(by.messages), stored(by.failures)])?;
    Ok(())
}

/// A host accepted a message of a mailing to somebody at a domain.
pub(crate) fn accepted(c: &Connection, domain: i64, mailing: MailingId, at: Instant) -> Result<()> {
    add(c, at, domain, mailing, Counted { failures: 0, messages: 1 })
}

/// A message failed; `after`: its host had accepted it before. Opens an incident where the failures pass the norm.
pub(crate) fn failed(c: &Connection, contact: ContactId, mailing: MailingId, category: Category, after: bool, now: Instant) -> Result<()> {
    let (domain, group): (i64, String) = c
        .prepare_cached("SELECT d.id, coalesce(d.operator, d.name) FROM contact k JOIN domain d ON d.id = k.domain_id WHERE k.id = ?1")?
        .query_row([contact.0], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let counts = category.class().counts_against_address();
    add(c, now, domain, mailing, Counted { failures: u64::from(counts), messages: u64::from(!after) })?;
    if !counts {
        return Ok(());
    }
    let in_group = failed_in_group(c, &group, mailing, now)?;
    let found = c.prepare_cached("SELECT 1 FROM incident_domain WHERE mailing_id = ?1 AND domain_id = ?2")?.exists([mailing.0, domain])?;
    if found {
        return Ok(());
    }
    let of_group: Option<i64> = c
        .prepare_cached("SELECT id FROM incident WHERE mailing_id = ?1 AND name = ?2 AND whole")?
        .query_row(params![mailing.0, group], |r| r.get(0))
        .optional()?;
    if let Some(incident) = of_group {
        // It came to the group since.
        cover(c, incident, mailing, domain)?;
        return Ok(());
    }
    let policy = policy::current(c)?.policy;
    if in_group <= u64::from(policy.incident_addresses) {
        return Ok(());
    }
    let opened = look(c, Place::Group(&group), &group, in_group, mailing, &policy, now)?
        || look(c, Place::Domain(domain), &group, on_mailing(c, Place::Domain(domain), mailing, now)?.failures, mailing, &policy, now)?;
    if opened {
        // The first of them were judged by themselves.
        status::settle_due(c, now)?;
    }
    Ok(())
}

/// Counts a mailing's failure at a group: so many of the last days.
fn failed_in_group(c: &Connection, group: &str, mailing: MailingId, now: Instant) -> Result<u64> {
    let today = day(now);
    c.prepare_cached("INSERT INTO group_failure VALUES (?1, ?2, ?3, 1) ON CONFLICT DO UPDATE SET failures = failures + 1")?
        .execute(params![mailing.0, group, today])?;
    Ok(c.prepare_cached("SELECT sum(failures) FROM group_failure WHERE mailing_id = ?1 AND name = ?2 AND day BETWEEN ?3 AND ?4")?
        .query_row(params![mailing.0, group, today - ON_A_MAILING_DAYS, today], |r| r.get::<_, i64>(0))?
        .unsigned_abs())
}

/// Opens an incident at a place whose failures are so many, where they make one. All its messages are counted at the first failure over the limit, and
/// now and then from there on.
fn look(c: &Connection, place: Place<'_>, group: &str, failures: u64, mailing: MailingId, policy: &Policy, now: Instant) -> Result<bool> {
    let limit = u64::from(policy.incident_addresses);
    let step = (failures.next_power_of_two() / 8).max(1);
    if failures <= limit || failures != limit + 1 && !failures.is_multiple_of(step) {
        return Ok(false);
    }
    let on = on_mailing(c, place, mailing, now)?;
    let (norm_of, usual) = norm_of(c, place, mailing, now)?;
    // Addresses that fail may come first: what is still to be handed over belongs to the mailing, too.
    let whole = || -> Result<Counted> { Ok(Counted { messages: on.messages.max(of_mailing(c, place, mailing, now)?), ..on }) };
    let is = is_incident(on, usual, policy) && is_incident(whole()?, usual, policy);
    if is {
        open(c, place, group, mailing, (norm_of, usual), now)?;
    }
    Ok(is)
}

/// Opens an incident; where the group has one of the mailing already, its other domains join it.
fn open(c: &Connection, place: Place<'_>, group: &str, mailing: MailingId, (of, usual): (NormOf, Counted), at: Instant) -> Result<()> {
    let name: String = match place {
        Place::Group(_) => group.to_owned(),
        Place::Domain(id) => c.prepare_cached("SELECT name FROM domain WHERE id = ?1")?.query_row([id], |r| r.get(0))?,
    };
    let of = serde_json::to_value(of)?;
    let incident: i64 = c
        .prepare_cached("INSERT INTO incident (mailing_id, name, whole, opened_at, norm_of, norm_failures, norm_messages) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
             ON CONFLICT (mailing_id, name, whole) DO UPDATE SET whole = whole RETURNING id")?
        .query_row(
            params![mailing.0, name, matches!(place, Place::Group(_)), at.millis(), of.as_str(), stored(usual.failures), stored(usual.messages)],
            |r| r.get(0),
        )?;
    c.prepare_cached(&format!(
        "INSERT INTO incident_domain SELECT ?2, d.id, ?3 FROM domain d WHERE {} ON CONFLICT DO NOTHING",
        place.domains()
    ))?
    .execute(params![place.bound(), mailing.0, incident])?;
    due(c, incident)
}

/// A message of another system went otherwise than was known: so many messages and failures come or go.
pub(crate) fn known_otherwise(
    c: &Connection,
    contact: ContactId,
    mailing: MailingId,
    at: Instant,
    messages: i64,
    failures: i64,
) -> Result<()> {
    if messages < 0 || failures < 0 {
        // What was forgotten meanwhile needs no taking away.
        c.prepare_cached(
            "UPDATE domain_failure SET messages = max(messages + ?4, 0), failures = max(failures + ?5, 0) WHERE day = ?1 AND domain_id = (SELECT domain_id FROM contact WHERE id = ?2) AND mailing_id = ?3",
        )?
        .execute(params![day(at), contact.0, mailing.0, messages, failures])?;
    } else if messages > 0 || failures > 0 {
        c.prepare_cached("INSERT INTO domain_failure VALUES (?1, (SELECT domain_id FROM contact WHERE id = ?2), ?3, ?4, ?5) ON CONFLICT DO UPDATE SET messages = messages + ?4, failures = failures + ?5")?
            .execute(params![day(at), contact.0, mailing.0, messages, failures])?;
    }
    Ok(())
}

/// Looks back at a mailing of another system: where its failures passed the norm of the days before, they wait for a person, too.
pub(crate) fn look_back(c: &Connection, mailing: MailingId) -> Result<()> {
    let policy = policy::current(c)?.policy;
    let failing = |by: &str| {
        format!(
            "SELECT coalesce(d.operator, d.name), d.id, sum(f.failures), sum(f.messages), max(f.day) FROM domain_failure f JOIN domain d ON d.id = f.domain_id
             WHERE f.mailing_id = ?1 AND NOT EXISTS (SELECT 1 FROM incident_domain x WHERE x.mailing_id = ?1 AND x.domain_id = f.domain_id)
             GROUP BY {by} HAVING sum(f.failures) > ?2"
        )
    };
    for (by, whole) in [("1", true), ("2", false)] {
        let found: Vec<(String, i64, Counted, i64)> = c
            .prepare_cached(&failing(by))?
            .query_map(params![mailing.0, policy.incident_addresses], |r| {
                let n = |i| r.get::<_, i64>(i).map(i64::unsigned_abs);
                Ok((r.get(0)?, r.get(1)?, Counted { failures: n(2)?, messages: n(3)? }, r.get(4)?))
            })?
            .collect::<rusqlite::Result<_>>()?;
        for (group, domain, on, last) in found {
            let place = if whole { Place::Group(&group) } else { Place::Domain(domain) };
            let then = Instant::of(last * DAY);
            let (of, usual) = norm_of(c, place, mailing, then)?;
            if is_incident(on, usual, &policy) {
                open(c, place, &group, mailing, (of, usual), then)?;
            }
        }
    }
    Ok(())
}

/// A count as SQLite keeps it.
fn stored(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

fn counted(r: &Row<'_>) -> rusqlite::Result<Counted> {
    let n = |i| r.get::<_, i64>(i).map(|n| n.unsigned_abs());
    Ok(Counted { failures: n(0)?, messages: n(1)? })
}

/// What counts of a mailing at a place: of domains that are in an incident of it, nothing.
const UNCOVERED: &str = "NOT EXISTS (SELECT 1 FROM incident_domain x WHERE x.mailing_id = ?2 AND x.domain_id = d.id)";

/// A mailing's failures and messages at a place, of the last days.
fn on_mailing(c: &Connection, place: Place<'_>, mailing: MailingId, now: Instant) -> Result<Counted> {
    let sql = format!(
        "SELECT coalesce(sum(f.failures), 0), coalesce(sum(f.messages), 0) FROM domain d CROSS JOIN domain_failure f INDEXED BY domain_failure_domain
            ON f.domain_id = d.id AND f.mailing_id = ?2 AND f.day BETWEEN ?3 AND ?4 WHERE {} AND {UNCOVERED}",
        place.domains()
    );
    Ok(c.prepare_cached(&sql)?.query_row(params![place.bound(), mailing.0, day(now) - ON_A_MAILING_DAYS, day(now)], counted)?)
}

/// A mailing's messages to a place, those that are still to be handed over as well.
fn of_mailing(c: &Connection, place: Place<'_>, mailing: MailingId, now: Instant) -> Result<u64> {
    let sql = format!(
        "SELECT count(*) FROM domain d CROSS JOIN contact k INDEXED BY contact_domain ON k.domain_id = d.id CROSS JOIN send s ON s.contact_id = k.id
         WHERE {} AND {UNCOVERED} AND s.mailing_id = ?2 AND (s.handed_at IS NULL OR s.handed_at >= ?3)",
        place.domains()
    );
    Ok(c.prepare_cached(&sql)?
        .query_row(params![place.bound(), mailing.0, (day(now) - ON_A_MAILING_DAYS) * DAY], |r| r.get::<_, i64>(0))?
        .unsigned_abs())
}

/// What was usual before: there, or in the base where too little mail went there, without this mailing and without what didn't count either.
fn norm_of(c: &Connection, place: Place<'_>, mailing: MailingId, now: Instant) -> Result<(NormOf, Counted)> {
    const COUNTED: &str = "f.mailing_id <> ?2 AND f.day BETWEEN ?3 AND ?4 AND NOT EXISTS (SELECT 1 FROM incident_domain x JOIN incident i ON i.id = x.incident_id
        WHERE x.mailing_id = f.mailing_id AND x.domain_id = f.domain_id AND i.decision IS NOT 1)";
    const SUMS: &str = "SELECT coalesce(sum(f.failures), 0), coalesce(sum(f.messages), 0)";
    let (from, to) = (day(now) - NORM_DAYS, day(now));
    let there = format!(
        "{SUMS} FROM domain d CROSS JOIN domain_failure f INDEXED BY domain_failure_domain ON f.domain_id = d.id WHERE {} AND {COUNTED}",
        place.domains()
    );
    let there = c.prepare_cached(&there)?.query_row(params![place.bound(), mailing.0, from, to], counted)?;
    let (found, usual) = norm(there, there);
    if found == NormOf::Group {
        return Ok((found, usual));
    }
    let base = format!("{SUMS} FROM domain_failure f WHERE ?1 IS NULL AND {COUNTED}");
    let base = c.prepare_cached(&base)?.query_row(params![rusqlite::types::Null, mailing.0, from, to], counted)?;
    Ok(norm(there, base))
}

/// Days that are behind the norm are forgotten. Once a day.
///
/// # Errors
/// When the database fails.
pub fn move_on(c: &Connection, now: Instant) -> Result<()> {
    let behind = day(now) - NORM_DAYS - ON_A_MAILING_DAYS;
    c.prepare_cached("DELETE FROM domain_failure WHERE day < ?1")?.execute([behind])?;
    c.prepare_cached("DELETE FROM group_failure WHERE day < ?1")?.execute([behind])?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Store;

    /// Another system's events come in bit by bit: what fails later at another domain of the group belongs to the same incident, and to what was decided
    /// of it.
    #[test]
    fn what_is_looked_back_at_again_joins_the_groups_incident() {
        let folder = tempfile::tempdir().unwrap();
        drop(Store::open(folder.path(), false).unwrap());
        let c = Connection::open(folder.path().join("rinse.db")).unwrap();
        c.execute_batch(
            "INSERT INTO letterhead (id, name, from_name, from_address, postal_address, ground, ink, accent) VALUES (1, 'a', 'a', 'a@skerry-light.example', 'b', '', '', '');
             INSERT INTO mailing (id, name, letterhead_id, made_at, state) VALUES (1, 'm', 1, 0, 'sent');
             INSERT INTO domain (id, name, operator) VALUES (1, 'tern.example', 'bigpost.example'), (2, 'gull.example', 'bigpost.example');
             INSERT INTO domain_failure VALUES (100, 1, 1, 40, 30)",
        )
        .unwrap();
        let mailing = MailingId(1);
        let found = || -> Vec<(i64, i64)> {
            let mut s = c.prepare("SELECT incident_id, domain_id FROM incident_domain ORDER BY domain_id").unwrap();
            s.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().collect::<rusqlite::Result<_>>().unwrap()
        };
        look_back(&c, mailing).unwrap();
        assert_eq!(found(), [(1, 1), (1, 2)], "all of the group, whether anything failed there or not");
        c.execute_batch("INSERT INTO domain (id, name, operator) VALUES (3, 'skua.example', 'bigpost.example'); INSERT INTO domain_failure VALUES (101, 3, 1, 30, 25)")
            .unwrap();
        look_back(&c, mailing).unwrap();
        look_back(&c, mailing).unwrap();
        assert_eq!(found(), [(1, 1), (1, 2), (1, 3)]);
        assert_eq!(c.query_row("SELECT count(*) FROM incident", [], |r| r.get::<_, i64>(0)).unwrap(), 1);
    }
}
