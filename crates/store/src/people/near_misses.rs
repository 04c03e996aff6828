//! The shortlist of near-misses: domains and people close to what is barred, for a person to bar or dismiss.

use crate::suppression::{self, Beside};
use crate::{Result, StoreError, fields, settings};
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::near_miss::{barred_companies, company_key, is_near, web_host};
use rinse_core::suppression::{Entry, Lists};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};
use utoipa::ToSchema;

/// Domains with this many people are mailbox providers: their people are looked at one by one.
const PROVIDER: i64 = 50;
const MOST: usize = 200;

/// Something close to what is barred.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct NearMiss {
    /// `domain tern.example` or `person 17`: what a choice names.
    pub subject: String,
    /// The domain, or the person's address.
    pub text: String,
    pub contact_id: Option<ContactId>,
    pub people: i64,
    pub first_seen: i64,
    /// The list and the line it comes close to.
    pub list_id: i64,
    pub list: String,
    pub barred: String,
    pub why: String,
}

/// A decision about one.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct NearMissChoice {
    pub subject: String,
    /// The list it goes on; none: dismissed.
    pub list_id: Option<i64>,
}

/// Which own fields hold a company's name and a web address: as set, or as they are usually named.
fn asked(c: &Connection) -> Result<(Option<i64>, Option<i64>)> {
    let all = fields::names(c)?;
    let named = |key: &str, names: &[&str]| -> Result<Option<i64>> {
        if let Some(id) = settings::get(c, key)?.and_then(|v| v.parse::<i64>().ok()) {
            return Ok(all.iter().map(|f| f.id).find(|f| *f == id));
        }
        Ok(all.iter().find(|f| names.contains(&rinse_core::words::fold(&f.name).as_str())).map(|f| f.id))
    };
    Ok((
        named("near_miss_company", &["company", "organisation", "organization", "employer"])?,
        named("near_miss_web", &["web", "website", "web site", "homepage"])?,
    ))
}

fn values(c: &Connection, field: Option<i64>) -> Result<Vec<(ContactId, String)>> {
    let Some(field) = field else { return Ok(Vec::new()) };
    let mut s = c.prepare_cached("SELECT contact_id, text FROM field_value WHERE field_id = ?1 AND text <> ''")?;
    Ok(s.query_map([field], |r| Ok((ContactId(r.get(0)?), r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}

/// A domain of the base.
struct Domain {
    name: String,
    people: i64,
    first_seen: i64,
    barred: bool,
}

/// What is close to a barred domain or company and was not decided yet, the newest first.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<NearMiss>> {
    let mut lists = Lists::default();
    // name, list, the line's text
    let mut lines: Vec<(String, i64, String)> = Vec::new();
    let names = suppression::names(c)?;
    {
        let mut s = c.prepare_cached("SELECT kind, text, list_id FROM suppression_entry WHERE ended_at IS NULL AND kind IN (2, 3)")?;
        let mut rows = s.query([])?;
        while let Some(r) = rows.next()? {
            let entry = Entry::stored(r.get(0)?, r.get(1)?);
            if let Entry::Domain { name, .. } = &entry {
                lines.push((name.clone(), r.get(2)?, entry.text()));
            }
            lists.add(0, entry);
        }
    }
    if lines.is_empty() {
        return Ok(Vec::new());
    }
    let domains: HashMap<i64, Domain> = c
        .prepare_cached("SELECT d.id, d.name, count(*), min(k.added_at) FROM domain d JOIN contact k ON k.domain_id = d.id WHERE k.gone IS NULL GROUP BY d.id")?
        .query_map([], |r| Ok((r.get(0)?, r.get::<_, String>(1)?, r.get(2)?, r.get(3)?)))?
        .map(|row| {
            row.map(|(id, name, people, first_seen)| {
                let barred = lists.domain(&name) != 0;
                (id, Domain { name, people, first_seen, barred })
            })
        })
        .collect::<rusqlite::Result<_>>()?;
    let decided: HashSet<String> =
        c.prepare_cached("SELECT subject FROM near_miss")?.query_map([], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
    let line_of = |domain: &str| {
        lines.iter().find(|(name, ..)| domain == name || domain.ends_with(&format!(".{name}"))).map(|(_, list, text)| (*list, text.clone()))
    };
    let mut found: BTreeMap<String, NearMiss> = BTreeMap::new();
    let mut put = |subject: String,
                   text: &str,
                   contact: Option<ContactId>,
                   (people, first_seen): (i64, i64),
                   (list, barred): (i64, String),
                   why: String| {
        if !decided.contains(&subject) {
            let list_name = names.get(&list).cloned().unwrap_or_default();
            found.entry(subject.clone()).or_insert(NearMiss {
                subject,
                text: text.to_owned(),
                contact_id: contact,
                people,
                first_seen,
                list_id: list,
                list: list_name,
                barred,
                why,
            });
        }
    };
    for d in domains.values().filter(|d| !d.barred) {
        if let Some((_, list, text)) = lines.iter().find(|(name, ..)| is_near(&d.name, name)) {
            put(
                format!("domain {}", d.name),
                &d.name,
                None,
                (d.people, d.first_seen),
                (*list, text.clone()),
                format!("written almost as {text}"),
            );
        }
    }
    let (company, web) = asked(c)?;
    let companies = values(c, company)?;
    let mut person = c.prepare_cached("SELECT address, domain_id, added_at FROM contact WHERE id = ?1 AND gone IS NULL")?;
    let mut look = |contact: ContactId| -> Result<Option<(String, i64, i64)>> {
        let mut rows = person.query([contact.0])?;
        Ok(rows.next()?.map(|r| Ok::<_, rusqlite::Error>((r.get(0)?, r.get(1)?, r.get(2)?))).transpose()?)
    };
    let mut of_barred: Vec<(String, String)> = Vec::new();
    let mut others: Vec<(ContactId, String, i64, i64, String)> = Vec::new();
    for (contact, name) in companies {
        let Some((address, domain, added)) = look(contact)? else { continue };
        match domains.get(&domain) {
            Some(d) if d.barred => of_barred.push((name, d.name.clone())),
            Some(_) => others.push((contact, address, domain, added, name)),
            None => {}
        }
    }
    let known = barred_companies(of_barred.iter().map(|(company, domain)| (company.as_str(), domain.as_str())));
    for (contact, address, domain, added, name) in others {
        let (Some(at), Some(d)) = (known.get(&company_key(&name)), domains.get(&domain)) else { continue };
        let Some(line) = line_of(at) else { continue };
        let why = format!("the company {name} is at {at}, which is barred");
        if d.people >= PROVIDER {
            put(format!("person {contact}"), &address, Some(contact), (1, added), line, why);
        } else {
            put(format!("domain {}", d.name), &d.name, None, (d.people, d.first_seen), line, why);
        }
    }
    for (contact, field) in values(c, web)? {
        let Some((list, text)) = web_host(&field).as_deref().and_then(line_of) else { continue };
        if let Some((address, domain, added)) = look(contact)?
            && domains.get(&domain).is_some_and(|d| !d.barred)
        {
            put(format!("person {contact}"), &address, Some(contact), (1, added), (list, text), format!("their web address is {field}"));
        }
    }
    let mut found: Vec<NearMiss> = found.into_values().collect();
    found.sort_by_key(|n| (std::cmp::Reverse(n.first_seen), n.subject.clone()));
    found.truncate(MOST);
    Ok(found)
}

/// Bars or dismisses one; the choice is remembered. Returns the new line's text, when it was barred.
///
/// # Errors
/// When it is on the shortlist no more.
pub fn decide(c: &Connection, choice: &NearMissChoice, now: Instant, person: Option<i64>) -> Result<Option<String>> {
    let n = all(c)?
        .into_iter()
        .find(|n| n.subject == choice.subject)
        .ok_or_else(|| StoreError::Refused("This isn't on the shortlist any more: somebody decided it already.".into()))?;
    let word = if choice.list_id.is_some() { "barred" } else { "dismissed" };
    c.execute("INSERT INTO near_miss VALUES (?1, ?2, ?3, ?4)", params![n.subject, word, now.millis(), person])?;
    let Some(list) = choice.list_id else {
        settings::audit(c, now, person, "near-miss dismissed", "suppression", n.list_id, &n.text)?;
        return Ok(None);
    };
    suppression::one(c, list)?;
    let entry = match n.contact_id {
        Some(_) => Entry::parse(&n.text),
        None => Entry::parse(&format!("*.{}", n.text)),
    }
    .map_err(StoreError::Refused)?;
    let b = Beside { reason: &n.why, source: "shortlist", expires_at: None, person };
    suppression::add(c, list, &entry, b, now)?;
    settings::audit(c, now, person, "suppressed", "suppression", list, &entry.text())?;
    Ok(Some(entry.text()))
}
