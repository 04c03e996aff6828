//! The base check over the whole base: its findings, each with its rows and its fix.

use crate::codes::ACTIVE;
use crate::stored::As;
use crate::tags::{self, Kind};
use crate::{Result, Store, StoreError, merges, runs, settings};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::base_check::{Finding, Frequent, Rules, findings, mailbox};
use rinse_core::bounce::Category;
use rinse_core::consent::{Consent, strictest};
use rinse_core::id::ContactId;
use rusqlite::{Connection, params};
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use utoipa::ToSchema;

/// Asks whether a domain takes mail: `None` when nobody can be asked.
pub type Hosts<'a> = &'a (dyn Fn(&str) -> Option<bool> + Send + Sync);

/// A person with a finding, and what the fix would do to them.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = BaseRow)]
pub struct Row {
    pub contact_id: ContactId,
    pub address: String,
    pub why: String,
    /// The address they would have: corrected, or of the one they would be merged into.
    pub becomes: Option<String>,
    pub merges_into: Option<i64>,
    pub consent: Consent,
    /// The consent that would hold afterwards.
    pub after: Consent,
    /// What to put aside when the finding is wrong: the domain, the mailbox, or the address.
    pub aside: String,
}

/// Findings of one kind.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = BaseFound)]
pub struct Found {
    pub finding: Finding,
    pub people: i64,
    /// Of them: how many could be mailed now and could not after the fix.
    pub losing_consent: i64,
    /// The tag the fix puts them in.
    pub tag: Option<String>,
    pub set_aside: i64,
}

/// Loads what the check knows of domains.
///
/// # Errors
/// When the database fails.
pub fn rules(c: &Connection, hosts: Hosts<'_>) -> Result<Rules> {
    let mut s = c.prepare_cached(
        "SELECT d.name, d.id, count(*) FROM contact k JOIN domain d ON d.id = k.domain_id
         WHERE k.id NOT IN (SELECT id FROM contact WHERE gone IS NOT NULL) GROUP BY k.domain_id",
    )?;
    let domains: Vec<(String, i64, u64)> =
        s.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get::<_, i64>(2)?.unsigned_abs())))?.collect::<rusqlite::Result<_>>()?;
    let frequent = Frequent::new(domains.iter().map(|(name, _, people)| (name.clone(), *people)));
    // Where somebody reads their mail, the domain is right as it stands.
    let mut answers = c.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM contact k JOIN send s ON s.contact_id = k.id
         WHERE k.domain_id = ?1 AND (s.open_at IS NOT NULL OR s.click_at IS NOT NULL OR s.reply_at IS NOT NULL))",
    )?;
    let mut near_misses = HashMap::new();
    for (name, id, people) in &domains {
        if let Some(meant) = frequent.meant_by(name, *people)
            && !answers.query_row([id], |r| r.get::<_, bool>(0))?
        {
            near_misses.insert(name.clone(), meant.to_owned());
        }
    }
    let disposable = disposable(c)?;
    let mut without_host: HashMap<String, String> = c
        .prepare_cached(formatcp!(
            "SELECT DISTINCT d.name FROM contact k JOIN send s ON s.contact_id = k.id JOIN domain d ON d.id = k.domain_id
             WHERE k.status <> {ACTIVE} AND d.delivered = 0 AND s.failed_at IS NOT NULL AND s.category = ?1"
        ))?
        .query_map([Category::NoSuchDomain as i64], |r| Ok((r.get(0)?, "a host said that there is no such domain".to_owned())))?
        .collect::<rusqlite::Result<_>>()?;
    for (name, _, _) in &domains {
        if hosts(name) == Some(false) {
            without_host.insert(name.clone(), "the DNS names no mail host for it".into());
        }
    }
    Ok(Rules { frequent, near_misses, disposable, without_host })
}

/// The list of disposable domains.
///
/// # Errors
/// When the database fails.
pub fn disposable(c: &Connection) -> Result<Vec<String>> {
    Ok(c.prepare_cached("SELECT name FROM disposable_domain ORDER BY name")?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?)
}

/// Replaces the list of disposable domains.
///
/// # Errors
/// When a line is no domain.
pub fn save_disposable(c: &Connection, names: &[String]) -> Result<()> {
    c.execute("DELETE FROM disposable_domain", [])?;
    for name in names.iter().map(|n| n.trim()).filter(|n| !n.is_empty()) {
        let domain = Address::parse(&format!("x@{name}"))
            .map_err(|_| StoreError::Refused(format!("{name:?} is no domain. Write one a line, as in throw-away.example.")))?
            .domain;
        c.execute("INSERT INTO disposable_domain VALUES (?1) ON CONFLICT DO NOTHING", [domain])?;
    }
    Ok(())
}

/// Puts a finding aside: the check doesn't bring it up again.
///
/// # Errors
/// When the database fails.
pub fn set_aside(c: &Connection, finding: Finding, text: &str, now: Instant, person: Option<i64>) -> Result<()> {
    c.execute("INSERT INTO set_aside VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING", params![finding.code(), text, now.millis(), person])?;
    Ok(())
}

/// Brings everything put aside of a kind up again.
///
/// # Errors
/// When the database fails.
pub fn bring_back(c: &Connection, finding: Finding) -> Result<()> {
    c.execute("DELETE FROM set_aside WHERE finding = ?1", [finding.code()])?;
    Ok(())
}

struct Person {
    id: i64,
    address: String,
    key: String,
    consent: Consent,
}

/// The person that stays of those with one mailbox: the plain address, else the oldest.
fn stays(people: &[Person]) -> usize {
    (0..people.len()).min_by_key(|i| (people[*i].key.contains('+'), people[*i].id)).unwrap_or(0)
}

/// Every finding with its rows, by the order of [`Finding::ALL`].
///
/// # Errors
/// When the database fails.
pub fn rows(c: &Connection, rules: &Rules) -> Result<Vec<(Found, Vec<Row>)>> {
    let mut aside: HashMap<String, HashSet<String>> = HashMap::new();
    let mut s = c.prepare_cached("SELECT finding, text FROM set_aside")?;
    for row in s.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?)))? {
        let (finding, text) = row?;
        aside.entry(finding).or_default().insert(text);
    }
    let mut tagged: HashMap<Finding, HashSet<i64>> = HashMap::new();
    for f in Finding::ALL {
        if let Some(tag) = f.tag() {
            let mut s = c.prepare_cached("SELECT contact_id FROM contact_tag m JOIN tag t ON t.id = m.tag_id WHERE t.name = ?1")?;
            tagged.insert(f, s.query_map([tag], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?);
        }
    }
    let mut out: HashMap<Finding, Vec<Row>> = HashMap::new();
    let mut put = |finding: Finding, row: Row| {
        let dealt_with = tagged.get(&finding).is_some_and(|t| t.contains(&row.contact_id.0));
        if !dealt_with && !aside.get(finding.code()).is_some_and(|a| a.contains(&row.aside)) {
            out.entry(finding).or_default().push(row);
        }
    };
    let mut mailboxes: HashMap<String, Vec<Person>> = HashMap::new();
    let mut s = c.prepare_cached(
        "SELECT k.id, k.address, k.address_key, k.consent, d.name FROM contact k JOIN domain d ON d.id = k.domain_id WHERE k.gone IS NULL ORDER BY k.id",
    )?;
    let mut people = s.query([])?;
    while let Some(r) = people.next()? {
        let key = r.get_ref(2)?.as_str().map_err(rusqlite::Error::from)?;
        let domain = r.get_ref(4)?.as_str().map_err(rusqlite::Error::from)?;
        let found = findings(key, domain, rules);
        let broken = Address::mailbox(key).err();
        let detailed = mailbox(key).len() + 1 + domain.len() < key.len();
        if found.is_empty() && broken.is_none() && !detailed {
            continue;
        }
        let p = Person { id: r.get(0)?, address: r.get(1)?, key: key.to_owned(), consent: r.get::<_, As<Consent>>(3)?.0 };
        let row = |why: String, aside: &str| Row {
            contact_id: ContactId(p.id),
            address: p.address.clone(),
            why,
            becomes: None,
            merges_into: None,
            consent: p.consent,
            after: p.consent,
            aside: aside.to_owned(),
        };
        if let Some(why) = broken {
            put(Finding::Syntax, row(why.to_string(), key));
        }
        for (finding, what) in found {
            let found = match finding {
                Finding::NearMiss => {
                    let local = p.address.rsplit_once('@').map_or("", |(l, _)| l);
                    let becomes = format!("{local}@{what}");
                    let there = crate::contacts::id_of(c, &becomes.to_lowercase())?;
                    let after = match there {
                        Some(id) => strictest(p.consent, crate::ledger::consent_of(c, id)?),
                        None if rinse_core::consent::import_may_raise(p.consent) => Consent::None,
                        None => p.consent,
                    };
                    Row {
                        becomes: Some(becomes),
                        merges_into: there.map(|id| id.0),
                        after,
                        ..row(format!("{domain} is one slip from {what}"), domain)
                    }
                }
                Finding::Role => row(format!("{what} is a function, not a person"), key),
                Finding::Disposable => row(format!("{what} is on the list of disposable domains"), domain),
                _ => row(what, domain),
            };
            put(finding, found);
        }
        if detailed {
            mailboxes.entry(format!("{}@{domain}", mailbox(key))).or_default().push(p);
        }
    }
    for (plain, mut same) in mailboxes {
        let mut s = c.prepare_cached("SELECT id, address, address_key, consent FROM contact WHERE address_key = ?1 AND gone IS NULL")?;
        same.extend(
            s.query_map([&plain], |r| {
                Ok(Person { id: r.get(0)?, address: r.get(1)?, key: r.get(2)?, consent: r.get::<_, As<Consent>>(3)?.0 })
            })?
            .collect::<rusqlite::Result<Vec<_>>>()?,
        );
        let first = stays(&same);
        let stays = same.swap_remove(first);
        let after = same.iter().fold(stays.consent, |a, p| strictest(a, p.consent));
        for p in same {
            put(
                Finding::Duplicate,
                Row {
                    contact_id: ContactId(p.id),
                    address: p.address,
                    why: format!("the same mailbox as {}", stays.address),
                    becomes: Some(stays.address.clone()),
                    merges_into: Some(stays.id),
                    consent: stays.consent,
                    after,
                    aside: plain.clone(),
                },
            );
        }
    }
    Ok(Finding::ALL
        .into_iter()
        .map(|finding| {
            let mut rows = out.remove(&finding).unwrap_or_default();
            rows.sort_by_key(|r| r.contact_id);
            let n = |n: usize| i64::try_from(n).unwrap_or(i64::MAX);
            let found = Found {
                finding,
                people: n(rows.len()),
                losing_consent: n(rows.iter().filter(|r| r.consent.allows_marketing() && !r.after.allows_marketing()).count()),
                tag: finding.tag().map(str::to_owned),
                set_aside: n(aside.get(finding.code()).map_or(0, HashSet::len)),
            };
            (found, rows)
        })
        .collect())
}

/// People fixed in one transaction: few enough that an unsubscribe in between never waits long.
const BATCH: usize = 100;

/// Applies the fix of a finding to those of its rows, as one run that can be taken back. Returns the run.
///
/// # Errors
/// When none of the rows has the finding any more.
pub async fn fix(store: &Store, finding: Finding, rows: Vec<Row>, now: Instant, person: Option<i64>) -> Result<i64> {
    if rows.is_empty() {
        return Err(StoreError::Refused("None of these has the finding any more. Look again.".into()));
    }
    let n = rows.len();
    let people = rinse_core::words::people(n as u64);
    let (kind, words) = match finding {
        Finding::Duplicate => ("merge", format!("merged duplicates: {people}")),
        Finding::NearMiss => ("address", format!("corrected mistyped domains: {people}")),
        other => ("tag", format!("put in the tag {}: {people}", other.tag().unwrap_or_default())),
    };
    let run = store.write(move |c| runs::begin(c, now, person, kind, &words, None)).await?;
    let mut done = 0;
    for part in rows.chunks(BATCH) {
        let part = part.to_vec();
        done += store
            .write(move |c| {
                let mut n = 0;
                for row in &part {
                    n += match (finding, &row.becomes, row.merges_into) {
                        (Finding::Duplicate, _, Some(into)) => {
                            usize::from(skip_busy(merges::merge(c, run, row.contact_id, ContactId(into), now, person))?)
                        }
                        (Finding::NearMiss, Some(becomes), _) => {
                            let to = Address::parse(becomes).map_err(|e| StoreError::Refused(format!("{becomes}: {e}.")))?;
                            usize::from(skip_busy(merges::correct(c, run, row.contact_id, &to, now, person))?)
                        }
                        _ => {
                            let tag = tags::named(c, Kind::Tag, finding.tag().unwrap_or("Checked"), now)?;
                            merges::put_on(c, run, Kind::Tag, tag, &[row.contact_id], now)?
                        }
                    };
                }
                Ok(n)
            })
            .await?;
        store.write(move |c| runs::finish(c, run, done)).await?;
    }
    store
        .write(move |c| {
            let words = runs::one(c, run, now)?.words;
            settings::audit(c, now, person, "base check fixed", "change", run, &words)
        })
        .await?;
    Ok(run)
}

/// Somebody in a running trial, or gone meanwhile, is left as they are; the next check finds them again.
fn skip_busy<T>(done: Result<T>) -> Result<bool> {
    match done {
        Ok(_) => Ok(true),
        Err(StoreError::Refused(_) | StoreError::Missing(_)) => Ok(false),
        Err(e) => Err(e),
    }
}
