//! Contacts: the list with paging, sorting and search, and one person whole.

use crate::db::{beside, readable_beside};
use crate::segments::sets::Filled;
use crate::{Result, StoreError};
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::bounce::Category;
use rinse_core::consent::Consent;
use rinse_core::response::Machine;
use rinse_core::upkeep::MailStatus;
use rusqlite::{Connection, OptionalExtension, Row, ToSql, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A row of the contact list.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ContactRow {
    pub id: i64,
    pub address: String,
    pub given_name: Option<String>,
    pub family_name: Option<String>,
    pub country: Option<String>,
    pub added_at: i64,
    pub consent: Consent,
    pub status: MailStatus,
    pub status_until: Option<i64>,
}

const COLUMNS: &str = "c.id, c.address, c.given_name, c.family_name, c.country, c.added_at, c.consent, c.status, c.status_until";

fn row(r: &Row<'_>) -> rusqlite::Result<ContactRow> {
    Ok(ContactRow {
        id: r.get(0)?,
        address: r.get(1)?,
        given_name: r.get(2)?,
        family_name: r.get(3)?,
        country: r.get(4)?,
        added_at: r.get(5)?,
        consent: Consent::from_code(r.get(6)?),
        status: MailStatus::from_code(r.get(7)?),
        status_until: r.get(8)?,
    })
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Sort {
    Address,
    FamilyName,
    AddedAt,
}

impl Sort {
    fn column(self) -> &'static str {
        match self {
            Self::Address => "c.address_key",
            Self::FamilyName => "c.family_name COLLATE NOCASE",
            Self::AddedAt => "c.added_at",
        }
    }
}

/// What the list shows.
#[derive(Debug, Clone)]
pub struct Query {
    /// Beginning of an address, a given or family name, or `@` and a domain.
    pub search: String,
    pub list: Option<i64>,
    pub tag: Option<i64>,
    pub segment: Option<i64>,
    pub status: Option<i64>,
    /// In this mail-load cell.
    pub load: Option<u8>,
    pub sort: Sort,
    pub descending: bool,
    pub page: u32,
    pub size: u32,
}

/// A page of the contact list.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Page {
    pub rows: Vec<ContactRow>,
    /// How many match; counted up to 10,000 when something is searched for.
    pub matching: i64,
    pub all: i64,
}

fn upper_bound(prefix: &str) -> String {
    format!("{prefix}\u{10FFFF}")
}

/// The condition of a query on `contact c`, with its values. A search looks at beginnings, so that it
/// stays on the indexes at a million rows.
fn filter(c: &Connection, q: &Query, now: Instant) -> Result<(String, Vec<Box<dyn ToSql>>)> {
    filter_by(c, q, now, false)
}

/// As [`filter`]; `bits`: the list and the tag are asked as sets of bits, in this order.
fn filter_by(c: &Connection, q: &Query, now: Instant, bits: bool) -> Result<(String, Vec<Box<dyn ToSql>>)> {
    // Ids alone come from a small index: a page far in never fetches the rows before it.
    let mut wheres = Vec::new();
    if !bits || q.list.is_none() && q.tag.is_none() {
        // Nobody who is gone is on a list or a tag.
        wheres.push("c.id NOT IN (SELECT id FROM contact WHERE gone IS NOT NULL)".to_owned());
    }
    let mut values: Vec<Box<dyn ToSql>> = Vec::new();
    let search = q.search.trim().to_lowercase();
    if let Some(domain) = search.strip_prefix('@') {
        values.extend([Box::new(domain.to_owned()) as Box<dyn ToSql>, Box::new(upper_bound(domain))]);
        wheres.push("c.domain_id IN (SELECT id FROM domain WHERE name >= ?1 AND name < ?2)".into());
    } else if !search.is_empty() {
        values.extend([Box::new(search.clone()) as Box<dyn ToSql>, Box::new(upper_bound(&search))]);
        wheres.push(
            "c.id IN (SELECT id FROM contact WHERE address_key >= ?1 AND address_key < ?2
            UNION SELECT id FROM contact WHERE family_name COLLATE NOCASE >= ?1 AND family_name COLLATE NOCASE < ?2
            UNION SELECT id FROM contact WHERE given_name COLLATE NOCASE >= ?1 AND given_name COLLATE NOCASE < ?2)"
                .into(),
        );
    }
    if bits {
        wheres.extend(member_sets(q, 1, 1).iter().enumerate().map(|(k, _)| format!("in_set({k}, c.id)")));
    }
    if let Some(list) = q.list.filter(|_| !bits) {
        values.push(Box::new(list));
        wheres.push(format!("c.id IN (SELECT contact_id FROM list_member WHERE list_id = ?{})", values.len()));
    }
    if let Some(tag) = q.tag.filter(|_| !bits) {
        values.push(Box::new(tag));
        wheres.push(format!("c.id IN (SELECT contact_id FROM contact_tag WHERE tag_id = ?{})", values.len()));
    }
    if let Some(status) = q.status {
        values.push(Box::new(status));
        wheres.push(format!("c.status = ?{}", values.len()));
    }
    if let Some(cell) = q.load {
        values.push(Box::new(cell));
        wheres.push(format!("c.id IN (SELECT contact_id FROM mail_load WHERE cell = ?{})", values.len()));
    }
    if let Some(segment) = q.segment {
        // Last: its bare question marks take the numbers that follow.
        let sql = crate::segments::condition(c, segment, now)?;
        values.extend(sql.values.into_iter().map(|v| Box::new(v) as Box<dyn ToSql>));
        wheres.push(sql.text);
    }
    Ok((format!("WHERE {}", wheres.join(" AND ")), values))
}

/// How many people there are.
///
/// # Errors
/// When the database fails.
pub fn present(c: &Connection) -> Result<i64> {
    Ok(c.prepare_cached("SELECT (SELECT count(*) FROM contact) - (SELECT count(*) FROM contact WHERE gone IS NOT NULL)")?
        .query_row([], |r| r.get(0))?)
}

/// The list and the tag that are asked for, each by the query of its people with these numbers.
fn member_sets(q: &Query, from: i64, to: i64) -> Vec<(String, Vec<rusqlite::types::Value>)> {
    let of = |id: Option<i64>, sql: &str| id.map(|id| (format!("{sql} AND contact_id BETWEEN {from} AND {to}"), vec![id.into()]));
    let list = of(q.list, "SELECT contact_id FROM list_member WHERE list_id = ?");
    list.into_iter().chain(of(q.tag, "SELECT contact_id FROM contact_tag WHERE tag_id = ?")).collect()
}

/// Who is on the list and the tag that are asked for; of a large base, halves are read side by side.
fn members(c: &Connection, q: &Query, last: i64) -> Result<Filled> {
    let path = readable_beside(c).filter(|_| last > 200_000 && (q.list.is_some() || q.tag.is_some()));
    let Some(path) = path else { return Filled::new(c, &member_sets(q, 1, last), 1, last) };
    std::thread::scope(|scope| {
        let rest = scope.spawn(|| Filled::new(&beside(path)?, &member_sets(q, last / 2 + 1, last), 1, last));
        let mut all = Filled::new(c, &member_sets(q, 1, last / 2), 1, last)?;
        all.add(&rest.join().map_err(|_| StoreError::Stopped)??);
        Ok(all)
    })
}

/// One page.
///
/// # Errors
/// When the segment asked for is gone.
pub fn page(c: &Connection, q: &Query, now: Instant) -> Result<Page> {
    let all = present(c)?;
    let last: i64 = c.prepare_cached("SELECT coalesce(max(id), 0) FROM contact")?.query_row([], |r| r.get(0))?;
    // Walking an index and asking bits is as fast at any sort; a search is few people, found first.
    let members = members(c, q, last)?;
    let narrowed = !q.search.trim().is_empty() || q.status.is_some() || q.load.is_some() || q.segment.is_some();
    // Nobody who is gone is on anything.
    let known = match q.list.is_some() || q.tag.is_some() {
        _ if narrowed => None,
        true => Some(members.people()),
        false => Some(all),
    };
    if let Some(matching) = known.filter(|n| *n < all) {
        return Ok(Page { rows: walked(c, q, &members, matching)?, matching, all });
    }
    members.asked_by(|| page_of(c, q, now, all, known))
}

/// A page of a list or a tag: its index is walked and each number looked up among the members' bits, which is
/// several times quicker than to have the database ask for each.
fn walked(c: &Connection, q: &Query, members: &Filled, matching: i64) -> Result<Vec<ContactRow>> {
    let (size, offset) = (i64::from(q.size.clamp(1, 200)), i64::from(q.page) * i64::from(q.size));
    let limit = size.min(matching - offset);
    if limit <= 0 {
        return Ok(Vec::new());
    }
    // The second half is nearer from the end.
    let from_the_end = offset > matching / 2;
    let skip = if from_the_end { matching - offset - limit } else { offset };
    let direction = if q.descending == from_the_end { "ASC" } else { "DESC" };
    let sql = format!("SELECT c.id FROM contact c ORDER BY {} {direction}, c.id {direction}", q.sort.column());
    let mut s = c.prepare_cached(&sql)?;
    let mut rows = s.query([])?;
    let (mut left, mut ids) = (skip, Vec::new());
    while let Some(r) = rows.next()? {
        let id: i64 = r.get(0)?;
        if !members.all_have(id) {
            continue;
        }
        if left > 0 {
            left -= 1;
            continue;
        }
        ids.push(id);
        if ids.len() as i64 == limit {
            break;
        }
    }
    if from_the_end {
        ids.reverse();
    }
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM contact c WHERE c.id = ?1"))?;
    ids.iter().map(|id| Ok(s.query_row([id], row)?)).collect()
}

fn page_of(c: &Connection, q: &Query, now: Instant, all: i64, known: Option<i64>) -> Result<Page> {
    let (filter, values) = filter_by(c, q, now, true)?;
    let refs: Vec<&dyn ToSql> = values.iter().map(AsRef::as_ref).collect();
    let matching = if let Some(known) = known {
        known
    } else {
        c.prepare_cached(&format!("SELECT count(*) FROM (SELECT 1 FROM contact c {filter} LIMIT 10000)"))?
            .query_row(refs.as_slice(), |r| r.get(0))?
    };
    let (mut limit, mut offset) = (i64::from(q.size.clamp(1, 200)), i64::from(q.page) * i64::from(q.size));
    // The second half is nearer from the end.
    let total = if known.is_none() && matching == 10_000 { i64::MAX } else { matching };
    if offset >= total {
        return Ok(Page { rows: vec![], matching, all });
    }
    let from_the_end = offset > total / 2 && offset < total;
    if from_the_end {
        limit = limit.min(total - offset);
        offset = total - offset - limit;
    }
    let (there, back) = if q.descending { ("DESC", "ASC") } else { ("ASC", "DESC") };
    let direction = if from_the_end { back } else { there };
    // The page's ids come from the index alone; only then are the rows fetched.
    let sql = format!(
        "SELECT {COLUMNS} FROM (SELECT c.id FROM contact c {filter} ORDER BY {} {direction}, c.id {direction} LIMIT {limit} OFFSET {offset}) p
         JOIN contact c ON c.id = p.id ORDER BY {} {there}, c.id {there}",
        q.sort.column(), q.sort.column()
    );
    let rows = c.prepare_cached(&sql)?.query_map(refs.as_slice(), row)?.collect::<rusqlite::Result<_>>()?;
    Ok(Page { rows, matching, all })
}

/// The numbers of all people that a query shows.
///
/// # Errors
/// When the segment asked for is gone.
pub fn matching(c: &Connection, q: &Query, now: Instant) -> Result<Vec<i64>> {
    let (filter, values) = filter(c, q, now)?;
    let mut s = c.prepare(&format!("SELECT c.id FROM contact c {filter} ORDER BY c.id"))?;
    Ok(s.query_map(rusqlite::params_from_iter(values), |r| r.get(0))?.collect::<rusqlite::Result<_>>()?)
}

/// The contacts with these ids, at most 200, in the order of their addresses.
///
/// # Errors
/// When the database fails.
pub fn by_ids(c: &Connection, ids: &[i64]) -> Result<Vec<ContactRow>> {
    let list = std::rc::Rc::new(ids.iter().copied().map(rusqlite::types::Value::from).collect::<Vec<_>>());
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM contact c WHERE c.id IN rarray(?1) ORDER BY c.address_key LIMIT 200"))?;
    Ok(s.query_map([list], row)?.collect::<rusqlite::Result<_>>()?)
}

/// The columns of an export.
pub const EXPORTED: [&str; 11] =
    ["address", "given name", "family name", "country", "region", "time zone", "source", "added", "consent", "mail status", "number"];

/// The people a condition picks, as text.
///
/// # Errors
/// When the database fails.
pub fn export(c: &Connection, condition: &crate::segments::sql::Sql) -> Result<Vec<Vec<String>>> {
    export_where(c, &format!("WHERE c.gone IS NULL AND {}", condition.text), rusqlite::params_from_iter(&condition.values))
}

/// The people that a query shows, on all its pages, as text.
///
/// # Errors
/// When the segment asked for is gone.
pub fn export_query(c: &Connection, q: &Query, now: Instant) -> Result<Vec<Vec<String>>> {
    let (filter, values) = filter(c, q, now)?;
    export_where(c, &filter, rusqlite::params_from_iter(values))
}

fn export_where(c: &Connection, filter: &str, values: impl rusqlite::Params) -> Result<Vec<Vec<String>>> {
    let mut s = c.prepare(&format!(
        "SELECT c.address, c.given_name, c.family_name, c.country, c.region, c.zone, c.source, c.added_at, c.consent, c.status, c.id
         FROM contact c {filter} ORDER BY c.id"
    ))?;
    let rows = s.query_map(values, |r| {
        let mut row: Vec<String> =
            (0..7).map(|i| Ok(r.get::<_, Option<String>>(i)?.unwrap_or_default())).collect::<rusqlite::Result<_>>()?;
        row.push(rinse_core::segment::evaluate::date_words(rinse_core::segment::evaluate::day_of(Instant(r.get(7)?))));
        row.push(Consent::from_code(r.get(8)?).words().to_owned());
        row.push(MailStatus::from_code(r.get(9)?).words().to_owned());
        row.push(r.get::<_, i64>(10)?.to_string());
        Ok(row)
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// A message to a person.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Message {
    pub send_id: i64,
    pub mailing_id: i64,
    pub mailing: String,
    pub subject: String,
    pub arm: i64,
    pub state: String,
    pub at: i64,
    pub accepted_at: Option<i64>,
    pub failed_at: Option<i64>,
    pub category: Option<String>,
    pub reply: Option<String>,
}

/// A response of a person, told apart as human or machine.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Response {
    pub at: i64,
    pub kind: String,
    pub mailing: String,
    pub link: Option<String>,
    pub agent: String,
    pub judged: String,
    pub human: bool,
    /// What they wrote back.
    pub words: Option<String>,
}

/// Something a person bought, or gave back.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Purchase {
    pub at: i64,
    pub cents: i64,
    pub currency: String,
    pub product: String,
    pub category: String,
}

/// A person, whole.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Contact {
    #[serde(flatten)]
    pub row: ContactRow,
    pub region: Option<String>,
    pub zone: Option<String>,
    pub source: Option<String>,
    #[schema(value_type = Option<Vec<f64>>)]
    pub position: Option<(f64, f64)>,
    pub fields: Vec<crate::fields::FieldValue>,
    pub lists: Vec<crate::settings::Tied>,
    pub tags: Vec<crate::settings::Tied>,
    pub purchases: Vec<Purchase>,
    pub topics_left: Vec<String>,
    pub ledger: Vec<crate::ledger::Entry>,
    pub messages: Vec<Message>,
    pub responses: Vec<Response>,
    pub events: Vec<Event>,
    /// Every value that outside scores had, the newest first.
    pub scores: Vec<crate::fields::Score>,
    /// The sentence behind the mail status.
    pub status_why: String,
    /// Why there is nobody here any more: deleted, taken back, merged.
    pub gone: Option<String>,
    /// No marketing, for silence, since then.
    pub sunset_at: Option<i64>,
    /// Their consent to other legal entities than the first.
    pub entities: Vec<EntityState>,
    /// How much mail they get and how they answer it, once that was worked out.
    pub load: Option<crate::load::OwnLoad>,
    pub merged_into: Option<i64>,
    /// Addresses of people who were merged into this one.
    pub once: Vec<String>,
}

/// Consent to a legal entity.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct EntityState {
    pub entity: String,
    pub state: Consent,
}

/// Something a person did elsewhere.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Event {
    pub at: i64,
    pub name: String,
    pub about: String,
}

/// The words for a send's state.
#[must_use]
pub fn send_state(code: i64) -> &'static str {
    ["held", "ready", "handing over", "accepted", "deferred", "failed", "barred", "in doubt"]
        .get(usize::try_from(code).unwrap_or(usize::MAX))
        .copied()
        .unwrap_or("unknown")
}

/// One person.
///
/// # Errors
/// When there is no such contact.
pub fn one(c: &Connection, id: i64, now: Instant) -> Result<Contact> {
    let (row, region, zone, source, position, gone, merged_into, sunset_at) = c
        .prepare_cached(&format!(
            "SELECT {COLUMNS}, c.region, c.zone, c.source, c.latitude, c.longitude, c.gone, c.merged_into, c.sunset_at FROM contact c WHERE c.id = ?1"
        ))?
        .query_row([id], |r| {
            let position = r.get::<_, Option<f64>>(12)?.zip(r.get(13)?);
            Ok((row(r)?, r.get(9)?, r.get(10)?, r.get(11)?, position, r.get::<_, Option<i64>>(14)?, r.get(15)?, r.get(16)?))
        })
        .optional()?
        .ok_or(StoreError::Missing("contact"))?;
    let gone = gone.map(|g| {
        ["", "deleted", "taken back with an import", "merged into another person"][usize::try_from(g).unwrap_or(0).min(3)].to_owned()
    });
    let events = c
        .prepare_cached("SELECT at, name, about FROM event WHERE contact_id = ?1 ORDER BY at DESC LIMIT 500")?
        .query_map([id], |r| Ok(Event { at: r.get(0)?, name: r.get(1)?, about: r.get(2)? }))?
        .collect::<rusqlite::Result<_>>()?;
    let tied = |sql: &str| -> Result<Vec<crate::settings::Tied>> {
        let mut s = c.prepare_cached(sql)?;
        Ok(s.query_map([id], |r| Ok(crate::settings::Tied { id: r.get(0)?, name: r.get(1)? }))?.collect::<rusqlite::Result<_>>()?)
    };
    let purchases = c
        .prepare_cached("SELECT at, cents, currency, product, category FROM purchase WHERE contact_id = ?1 ORDER BY at DESC LIMIT 500")?
        .query_map([id], |r| {
            Ok(Purchase { at: r.get(0)?, cents: r.get(1)?, currency: r.get(2)?, product: r.get(3)?, category: r.get(4)? })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let names =
        |sql: &str| -> Result<Vec<String>> { Ok(c.prepare_cached(sql)?.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?) };
    let mut messages = c.prepare_cached(
        "SELECT s.id, m.id, m.name, coalesce(v.subject, ''), s.arm, s.state, coalesce(s.handed_at, s.at), s.accepted_at, s.failed_at, s.category, s.reply
         FROM send s JOIN mailing m ON m.id = s.mailing_id LEFT JOIN variant v ON v.mailing_id = m.id AND v.arm = s.arm
         WHERE s.contact_id = ?1 ORDER BY s.id DESC LIMIT 500",
    )?;
    let messages = messages
        .query_map([id], |r| {
            Ok(Message {
                send_id: r.get(0)?,
                mailing_id: r.get(1)?,
                mailing: r.get(2)?,
                subject: r.get(3)?,
                arm: r.get(4)?,
                state: send_state(r.get(5)?).into(),
                at: r.get(6)?,
                accepted_at: r.get(7)?,
                failed_at: r.get(8)?,
                category: r.get::<_, Option<i64>>(9)?.map(|k| Category::from_code(k).words().into()),
                reply: r.get(10)?,
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let mut responses = c.prepare_cached(
        "SELECT r.at, r.kind, m.name, l.name, r.agent, r.machine,
            iif(r.kind = 3, (SELECT x.text FROM reply x WHERE x.send_id = s.id AND x.at = r.at), NULL) FROM send s JOIN response r ON r.send_id = s.id JOIN mailing m ON m.id = s.mailing_id
         LEFT JOIN link l ON l.mailing_id = s.mailing_id AND l.position = r.link WHERE s.contact_id = ?1 ORDER BY r.at DESC LIMIT 500",
    )?;
    let responses = responses
        .query_map([id], |r| {
            let (kind, machine): (i64, i64) = (r.get(1)?, r.get(5)?);
            Ok(Response {
                at: r.get(0)?,
                kind: crate::responses::kind_words(kind).into(),
                mailing: r.get(2)?,
                link: r.get(3)?,
                agent: r.get(4)?,
                judged: Machine::words(machine).into(),
                human: machine == 0,
                words: r.get(6)?,
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    Ok(Contact {
        row,
        region,
        zone,
        source,
        position,
        fields: crate::fields::of_contact(c, id)?,
        lists: tied("SELECT l.id, l.name FROM list l JOIN list_member m ON m.list_id = l.id WHERE m.contact_id = ?1 ORDER BY 2")?,
        tags: tied("SELECT t.id, t.name FROM tag t JOIN contact_tag m ON m.tag_id = t.id WHERE m.contact_id = ?1 ORDER BY 2")?,
        purchases,
        topics_left: names("SELECT t.name FROM topic t JOIN topic_left l ON l.topic_id = t.id WHERE l.contact_id = ?1 ORDER BY 1")?,
        ledger: crate::ledger::of_contact(c, id)?,
        messages,
        responses,
        events,
        scores: crate::fields::scores_of(c, id)?,
        gone,
        sunset_at,
        entities: crate::ledger::entities_of(c, id)?.into_iter().map(|(entity, state)| EntityState { entity, state }).collect(),
        load: crate::load::of_contact(c, id)?,
        merged_into,
        once: names("SELECT address FROM contact WHERE merged_into = ?1 ORDER BY id")?,
        status_why: rinse_core::upkeep::standing(&crate::ledger::outcomes(c, id)?, now).why,
    })
}

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
    fn values(&self) -> [&Option<String>; 6] {
        [&self.given_name, &self.family_name, &self.country, &self.region, &self.zone, &self.source]
    }
}

/// The person an address leads to: its own, or the one it was merged into.
///
/// # Errors
/// When the database fails.
pub fn id_of(c: &Connection, key: &str) -> Result<Option<i64>> {
    Ok(c.prepare_cached("SELECT coalesce(merged_into, id) FROM contact WHERE address_key = ?1")?
        .query_row([key], |r| r.get(0))
        .optional()?)
}

/// The id, consent and profile of the person an address leads to.
///
/// # Errors
/// When the database fails.
pub fn find(c: &Connection, key: &str) -> Result<Option<(i64, Consent, Profile)>> {
    let sql = format!(
        "SELECT {PROFILE}, id, consent FROM contact WHERE id = (SELECT coalesce(merged_into, id) FROM contact WHERE address_key = ?1)"
    );
    Ok(c.prepare_cached(&sql)?.query_row([key], |r| Ok((r.get(8)?, Consent::from_code(r.get(9)?), profile_in(r)?))).optional()?)
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
pub fn profile(c: &Connection, id: i64) -> Result<Profile> {
    let sql = format!("SELECT {PROFILE} FROM contact WHERE id = ?1");
    c.prepare_cached(&sql)?.query_row([id], profile_in).optional()?.ok_or(StoreError::Missing("contact"))
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
pub fn add(c: &Connection, a: &Address, p: &Profile, now: Instant) -> Result<i64> {
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
) -> Result<i64> {
    let (latitude, longitude) = p.position.unzip();
    let consent_at = (consent != Consent::None).then_some(now.0);
    c.prepare_cached(
        "INSERT INTO contact (address, address_key, domain_id, given_name, family_name, country, region, zone, source, latitude, longitude, added_at, import_id, run_id, consent, consent_at)
         VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15,?16)",
    )?
    .execute(params![
        a.normal, a.key, domain, p.given_name, p.family_name, p.country, p.region, p.zone, p.source, latitude, longitude, now.0, import, run,
        consent as i64, consent_at
    ])?;
    Ok(c.last_insert_rowid())
}

/// Updates the fields that are given.
///
/// # Errors
/// When the database fails.
pub fn update(c: &Connection, id: i64, p: &Profile) -> Result<()> {
    let (latitude, longitude) = p.position.unzip();
    c.prepare_cached(
        "UPDATE contact SET given_name = coalesce(?2, given_name), family_name = coalesce(?3, family_name), country = coalesce(?4, country), region = coalesce(?5, region),
            zone = coalesce(?6, zone), source = coalesce(?7, source), latitude = coalesce(?8, latitude), longitude = coalesce(?9, longitude) WHERE id = ?1",
    )?
    .execute(params![id, p.given_name, p.family_name, p.country, p.region, p.zone, p.source, latitude, longitude])?;
    Ok(())
}

/// Replaces a person's whole profile: what is `None` is missing afterwards.
///
/// # Errors
/// When there is no such contact, or the profile can't be meant.
pub fn replace_profile(c: &Connection, id: i64, p: &Profile) -> Result<()> {
    let fits = |(latitude, longitude): (f64, f64)| (-90.0..=90.0).contains(&latitude) && (-180.0..=180.0).contains(&longitude);
    if !p.position.is_none_or(fits) || p.values().into_iter().flatten().any(|v| v.chars().count() > 200) {
        return Err(StoreError::Refused("A text has at most 200 characters, a place lies within 90 and 180 degrees.".into()));
    }
    let (latitude, longitude) = p.position.unzip();
    let n = c.execute(
        "UPDATE contact SET given_name = ?2, family_name = ?3, country = ?4, region = ?5, zone = ?6, source = ?7, latitude = ?8, longitude = ?9 WHERE id = ?1 AND gone IS NULL",
        params![id, p.given_name, p.family_name, p.country, p.region, p.zone, p.source, latitude, longitude],
    )?;
    if n == 0 { Err(StoreError::Missing("contact")) } else { Ok(()) }
}
