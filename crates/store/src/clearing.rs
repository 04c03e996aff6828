//! Clearance of a whole audience: loads what the rules need as columns, decides in the core.

use crate::settings::{self, RulesVersion};
use crate::{Result, StoreError, mailings};
use rinse_core::Instant;
use rinse_core::clearance::{Class, HOLD_LIMIT, Outcome, OverCap, Person, Reason, Rules, Sluice, clear, tally};
use rinse_core::consent::Consent;
use rinse_core::suppression::{Entry, Suppressed};
use rinse_core::upkeep::MailStatus;
use rusqlite::{Connection, OptionalExtension, params};
use std::collections::HashSet;

/// The decision for one person, with what an assignment needs.
#[derive(Debug, Clone, Copy)]
pub struct Decided {
    pub contact: i64,
    pub domain: i64,
    pub outcome: Outcome,
}

/// A clearance and the rules it was made under.
pub struct Clearance {
    pub decided: Vec<Decided>,
    pub rules: RulesVersion,
}

impl Clearance {
    #[must_use]
    pub fn sluice(&self) -> Sluice {
        tally(self.decided.iter().map(|d| d.outcome))
    }

    /// The people of a step: by first reason, or all cleared when `None`.
    #[must_use]
    pub fn people(&self, step: Option<Reason>) -> Vec<i64> {
        self.decided
            .iter()
            .filter(|d| match d.outcome {
                Outcome::Cleared => step.is_none(),
                Outcome::Held(_, r) | Outcome::Barred(r) => step.is_some() && r.first() == step,
            })
            .map(|d| d.contact)
            .collect()
    }
}

/// What a mailing's rules are at an instant; loaded once for many people.
pub struct Loaded {
    rules: Rules,
    version: RulesVersion,
    topic: Option<i64>,
    list: Option<i64>,
    segment: Option<i64>,
}

/// Loads the rules for a mailing.
///
/// # Errors
/// When there is no such mailing.
pub fn load(c: &Connection, mailing: i64, at: Instant) -> Result<Loaded> {
    let (class, topic, list, over, segment): (i64, Option<i64>, Option<i64>, String, Option<i64>) = c
        .prepare_cached("SELECT class, topic_id, list_id, over_cap, segment_id FROM mailing WHERE id = ?1")?
        .query_row([mailing], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?)))
        .optional()?
        .ok_or(StoreError::Missing("mailing"))?;
    let version = settings::rules(c)?;
    let rules = Rules {
        class: if class == 2 { Class::Service } else { Class::Marketing },
        cap: version.cap(),
        over_cap: if over == "skip" { OverCap::Skip } else { OverCap::Hold },
        give_up_at: at + HOLD_LIMIT,
    };
    Ok(Loaded { rules, version, topic, list, segment })
}

fn suppressed_domains(c: &Connection) -> Result<(Suppressed, HashSet<i64>)> {
    let list: Suppressed = settings::suppression(c)?.iter().filter_map(|l| Entry::parse(&l.text).ok()).collect();
    let mut s = c.prepare_cached("SELECT id, name FROM domain")?;
    let mut domains = HashSet::new();
    let mut rows = s.query([])?;
    while let Some(r) = rows.next()? {
        if list.domain(r.get_ref(1)?.as_str().map_err(rusqlite::Error::from)?) {
            domains.insert(r.get(0)?);
        }
    }
    Ok((list, domains))
}

/// Contacts, or contacts with an instant, in the order of their ids: walked beside the audience,
/// which comes in the same order. At a million people this is twice as fast as asking hash tables.
struct Column<T> {
    rows: Vec<(i64, T)>,
    at: usize,
}

impl<T: Ord> Column<T> {
    fn new(mut rows: Vec<(i64, T)>) -> Self {
        rows.sort_unstable();
        Self { rows, at: 0 }
    }

    /// The rows of this contact; contacts have to be asked for in ascending order.
    fn of(&mut self, contact: i64) -> &[(i64, T)] {
        while self.rows.get(self.at).is_some_and(|r| r.0 < contact) {
            self.at += 1;
        }
        let rest = &self.rows[self.at..];
        &rest[..rest.iter().take_while(|r| r.0 == contact).count()]
    }

    fn has(&mut self, contact: i64) -> bool {
        !self.of(contact).is_empty()
    }
}

fn ids(c: &Connection, sql: &str, value: i64) -> Result<Column<()>> {
    Ok(Column::new(c.prepare_cached(sql)?.query_map([value], |r| Ok((r.get(0)?, ())))?.collect::<rusqlite::Result<_>>()?))
}

const COUNTED: &str = "class = 1 AND state IN (0, 1, 2, 3, 4, 7)";

/// Clears everyone the mailing selects, at the instant `at`.
///
/// # Errors
/// When there is no such mailing.
pub fn audience(c: &Connection, mailing: i64, at: Instant) -> Result<Clearance> {
    let l = load(c, mailing, at)?;
    let (_, domains) = suppressed_domains(c)?;
    let mut addresses = ids(c, "SELECT c.id FROM suppression s JOIN contact c ON c.address_key = s.text WHERE ?1 = ?1", 0)?;
    let mut left = match l.topic {
        Some(t) => ids(c, "SELECT contact_id FROM topic_left WHERE topic_id = ?1", t)?,
        None => Column::new(vec![]),
    };
    let mut already = ids(c, "SELECT contact_id FROM send WHERE mailing_id = ?1", mailing)?;
    let mut counted = Column::new(match l.rules.cap {
        Some(cap) => c
            .prepare_cached(&format!("SELECT contact_id, at FROM send WHERE at > ?1 AND at <= ?2 AND {COUNTED}"))?
            .query_map(params![(at + -cap.window()).0, at.0], |r| Ok((r.get(0)?, Instant(r.get(1)?))))?
            .collect::<rusqlite::Result<_>>()?,
        None => vec![],
    });
    let (from, values) = mailings::audience(c, l.list, l.segment, at)?;
    // Both walk in the order of contacts' numbers; naming the column of the index keeps SQLite from sorting.
    let order = if l.list.is_some() { "m.contact_id" } else { "c.id" };
    let sql = format!("SELECT c.id, c.domain_id, c.consent, c.paused_until, c.status, c.status_until FROM {from} ORDER BY {order}");
    let mut s = c.prepare(&sql)?;
    let mut rows = s.query(rusqlite::params_from_iter(&values))?;
    let (mut decided, mut instants) = (Vec::new(), Vec::new());
    while let Some(r) = rows.next()? {
        let (contact, domain): (i64, i64) = (r.get(0)?, r.get(1)?);
        instants.clear();
        instants.extend(counted.of(contact).iter().map(|(_, at)| *at));
        let person = Person {
            has_address: true,
            already_sent: already.has(contact),
            status: MailStatus::from_code(r.get(4)?),
            resting_until: r.get::<_, Option<i64>>(5)?.map(Instant),
            consent: Consent::from_code(r.get(2)?),
            paused_until: r.get::<_, Option<i64>>(3)?.map(Instant),
            topic_left: left.has(contact),
            suppressed: addresses.has(contact) || domains.contains(&domain),
            trial_holdout: false,
            counted: &instants,
        };
        decided.push(Decided { contact, domain, outcome: clear(&person, &l.rules, at) });
    }
    Ok(Clearance { decided, rules: l.version })
}

/// Clears one person again at the moment of sending: the last clearance rules. `send` is the
/// message being cleared, which doesn't count against itself.
///
/// # Errors
/// When there is no such mailing or contact.
pub fn at_handover(c: &Connection, l: &Loaded, contact: i64, send: i64, at: Instant, give_up_at: Instant) -> Result<Outcome> {
    let rules = Rules { give_up_at, ..l.rules };
    let (consent, paused, status, until, key, domain, present): (i64, Option<i64>, i64, Option<i64>, String, String, bool) = c
        .prepare_cached("SELECT consent, paused_until, status, status_until, address_key, d.name, gone IS NULL FROM contact c JOIN domain d ON d.id = c.domain_id WHERE c.id = ?1")?
        .query_row([contact], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?)))?;
    let topic_left = match l.topic {
        Some(t) => c
            .prepare_cached("SELECT EXISTS (SELECT 1 FROM topic_left WHERE topic_id = ?1 AND contact_id = ?2)")?
            .query_row([t, contact], |r| r.get(0))?,
        None => false,
    };
    let counted: Vec<Instant> = match rules.cap {
        Some(cap) => c
            .prepare_cached(&format!("SELECT at FROM send WHERE contact_id = ?1 AND id <> ?2 AND at > ?3 AND at <= ?4 AND {COUNTED}"))?
            .query_map(params![contact, send, (at + -cap.window()).0, at.0], |r| r.get(0).map(Instant))?
            .collect::<rusqlite::Result<_>>()?,
        None => vec![],
    };
    let suppressed = is_suppressed(c, &key, &domain)?;
    let person = Person {
        // Somebody who was deleted or merged since has none any more.
        has_address: present,
        already_sent: false,
        status: MailStatus::from_code(status),
        resting_until: until.map(Instant),
        consent: Consent::from_code(consent),
        paused_until: paused.map(Instant),
        topic_left,
        suppressed,
        trial_holdout: false,
        counted: &counted,
    };
    Ok(clear(&person, &rules, at))
}

/// Asks the list for one address: its key, its domain, and every domain that one lies under.
fn is_suppressed(c: &Connection, key: &str, domain: &str) -> Result<bool> {
    let mut names = vec![key.to_owned(), domain.to_owned()];
    let mut rest = Some(domain);
    while let Some(name) = rest {
        names.push(format!("*.{name}"));
        rest = name.split_once('.').map(|(_, parent)| parent);
    }
    let marks = vec!["?"; names.len()].join(",");
    let sql = format!("SELECT EXISTS (SELECT 1 FROM suppression WHERE text IN ({marks}))");
    Ok(c.prepare_cached(&sql)?.query_row(rusqlite::params_from_iter(names), |r| r.get(0))?)
}

/// Whom the mailing selects, for its check.
///
/// # Errors
/// When there is no such mailing.
pub fn sluice(c: &Connection, mailing: i64, at: Instant) -> Result<(Sluice, RulesVersion)> {
    mailings::one(c, mailing)?;
    let done = audience(c, mailing, at)?;
    Ok((done.sluice(), done.rules))
}
