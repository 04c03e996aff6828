//! The contact list: pages of any filter and sort, and all of their people as text.

use super::order;
use crate::codes::ACTIVE;
use crate::db::{beside, readable_beside};
use crate::segments::sets::Filled;
use crate::stored::As;
use crate::{Result, StoreError, letterheads};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, ListId, SegmentId};
use rinse_core::phone::Phone;
use rinse_core::upkeep::MailStatus;
use rusqlite::{Connection, OptionalExtension, Row, ToSql};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A row of the contact list.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ContactRow {
    pub id: ContactId,
    pub address: String,
    pub given_name: Option<String>,
    pub family_name: Option<String>,
    pub country: Option<String>,
    pub added_at: i64,
    pub consent: Consent,
    pub status: MailStatus,
    pub status_until: Option<i64>,
}

pub(super) const COLUMNS: &str = "c.id, c.address, c.given_name, c.family_name, c.country, c.added_at, c.consent, c.status, c.status_until";

pub(super) fn row(r: &Row<'_>) -> rusqlite::Result<ContactRow> {
    Ok(ContactRow {
        id: ContactId(r.get(0)?),
        address: r.get(1)?,
        given_name: r.get(2)?,
        family_name: r.get(3)?,
        country: r.get(4)?,
        added_at: r.get(5)?,
        consent: r.get::<_, As<Consent>>(6)?.0,
        status: r.get::<_, As<MailStatus>>(7)?.0,
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
    pub const ALL: [Self; 3] = [Self::Address, Self::FamilyName, Self::AddedAt];

    pub(super) fn column(self) -> &'static str {
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
    /// Beginning of an address, a given or family name, a phone number, or `@` and a domain.
    pub search: String,
    pub list: Option<ListId>,
    pub tag: Option<i64>,
    pub segment: Option<SegmentId>,
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
    /// They match, and more.
    pub or_more: bool,
    pub all: i64,
}

fn upper_bound(prefix: &str) -> String {
    format!("{prefix}\u{10FFFF}")
}

/// The beginning of a phone number, as numbers are kept, when that is what is looked for: with its country's code any beginning
/// will do; without it is read as a whole number of the usual letterhead's country.
fn number_sought(c: &Connection, search: &str) -> Result<Option<String>> {
    let digits: String = search.chars().filter(char::is_ascii_digit).collect();
    if digits.len() < 3 || !search.chars().all(|c| c.is_ascii_digit() || " +-./()".contains(c)) {
        return Ok(None);
    }
    if search.starts_with('+') {
        return Ok(Some(format!("+{digits}")));
    }
    if let Some(rest) = digits.strip_prefix("00") {
        return Ok(Some(format!("+{rest}")));
    }
    Ok(Phone::of(search, None, letterheads::home(c)?.as_deref()).ok().map(|phone| phone.as_str().to_owned()))
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
    } else if let Some(number) = number_sought(c, &search)? {
        values.extend([Box::new(number.clone()) as Box<dyn ToSql>, Box::new(upper_bound(&number))]);
        wheres.push("c.id IN (SELECT id FROM contact WHERE phone >= ?1 AND phone < ?2 AND gone IS NULL)".into());
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
        values.push(Box::new(list.0));
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

type Sets = Vec<(String, Vec<rusqlite::types::Value>)>;

/// The list and the tag that are asked for, each by the query of its people with these numbers.
fn member_sets(q: &Query, from: i64, to: i64) -> Sets {
    let of = |id: Option<i64>, sql: &str| id.map(|id| (format!("{sql} AND contact_id BETWEEN {from} AND {to}"), vec![id.into()]));
    let list = of(q.list.map(|id| id.0), "SELECT contact_id FROM list_member WHERE list_id = ?");
    list.into_iter().chain(of(q.tag, "SELECT contact_id FROM contact_tag WHERE tag_id = ?")).collect()
}

/// The mail status and the cell that are asked for, likewise. Who is active isn't in an index: they are all but the
/// others, see [`not_active`].
fn standing_sets(q: &Query) -> Sets {
    let status = q.status.filter(|s| *s != MailStatus::Active as i64);
    let status = status.map(|s| (formatcp!("SELECT id FROM contact WHERE status = ? AND status <> {ACTIVE}").to_owned(), vec![s.into()]));
    let cell = q.load.map(|cell| ("SELECT contact_id FROM mail_load WHERE cell = ?".to_owned(), vec![i64::from(cell).into()]));
    status.into_iter().chain(cell).collect()
}

fn not_active() -> Sets {
    vec![(formatcp!("SELECT id FROM contact WHERE status <> {ACTIVE}").to_owned(), vec![])]
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

/// With fewer people than this their index is walked before the orders were loaded.
const LARGE: i64 = 50_000;
/// A search counts no further.
const MOST_COUNTED: i64 = 10_000;

/// One page.
///
/// # Errors
/// When the segment asked for is gone.
pub fn page(c: &Connection, q: &Query, now: Instant) -> Result<Page> {
    let last: i64 = c.prepare_cached("SELECT coalesce(max(id), 0) FROM contact")?.query_row([], |r| r.get(0))?;
    // A search is few people, and a segment may ask anything: the database finds them.
    if q.search.trim().is_empty() && q.segment.is_none() {
        if let Some(order) = order::found(c, q.sort)? {
            return in_order(c, q, order.people(), last);
        }
        if last > LARGE {
            order::load_beside(c);
        }
    }
    let all = present(c)?;
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
        return Ok(Page { rows: walked(c, q, &members, matching)?, matching, or_more: false, all });
    }
    members.asked_by(|| page_of(c, q, now, all, known))
}

/// A page out of everybody in order.
fn in_order(c: &Connection, q: &Query, order: &[ContactId], last: i64) -> Result<Page> {
    let all = i64::try_from(order.len()).unwrap_or(i64::MAX);
    let members = members(c, q, last)?;
    let standing = Filled::new(c, &standing_sets(q), 1, last)?;
    let left_out = match q.status == Some(MailStatus::Active as i64) {
        true => Some(Filled::new(c, &not_active(), 1, last)?),
        false => None,
    };
    let shown =
        |id: &ContactId| members.all_have(id.0) && standing.all_have(id.0) && !left_out.as_ref().is_some_and(|set| set.all_have(id.0));
    let matching = order.iter().filter(|id| shown(id)).count();
    let people: Box<dyn Iterator<Item = &ContactId>> = if q.descending { Box::new(order.iter().rev()) } else { Box::new(order.iter()) };
    let (skip, size) = (q.page as usize * q.size as usize, q.size.clamp(1, 200) as usize);
    let page: Vec<ContactId> = people.filter(|id| shown(id)).skip(skip).take(size).copied().collect();
    Ok(Page { rows: rows_of(c, &page)?, matching: i64::try_from(matching).unwrap_or(i64::MAX), or_more: false, all })
}

/// These people's rows, in this order.
fn rows_of(c: &Connection, ids: &[ContactId]) -> Result<Vec<ContactRow>> {
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM contact c WHERE c.id = ?1"))?;
    let found = ids.iter().filter_map(|id| s.query_row([id.0], row).optional().transpose());
    Ok(found.collect::<rusqlite::Result<_>>()?)
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
        let id = ContactId(r.get(0)?);
        if !members.all_have(id.0) {
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
    rows_of(c, &ids)
}

fn page_of(c: &Connection, q: &Query, now: Instant, all: i64, known: Option<i64>) -> Result<Page> {
    let (filter, values) = filter_by(c, q, now, true)?;
    let refs: Vec<&dyn ToSql> = values.iter().map(AsRef::as_ref).collect();
    let matching = if let Some(known) = known {
        known
    } else {
        c.prepare_cached(&format!("SELECT count(*) FROM (SELECT 1 FROM contact c {filter} LIMIT {})", MOST_COUNTED + 1))?
            .query_row(refs.as_slice(), |r| r.get(0))?
    };
    let or_more = known.is_none() && matching > MOST_COUNTED;
    let (mut limit, mut offset) = (i64::from(q.size.clamp(1, 200)), i64::from(q.page) * i64::from(q.size));
    // The second half is nearer from the end.
    let total = if or_more { i64::MAX } else { matching };
    let matching = if or_more { MOST_COUNTED } else { matching };
    if offset >= total {
        return Ok(Page { rows: vec![], matching, or_more, all });
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
    Ok(Page { rows, matching, or_more, all })
}

/// The numbers of all people that a query shows.
///
/// # Errors
/// When the segment asked for is gone.
pub fn matching(c: &Connection, q: &Query, now: Instant) -> Result<Vec<ContactId>> {
    let (filter, values) = filter(c, q, now)?;
    let mut s = c.prepare(&format!("SELECT c.id FROM contact c {filter} ORDER BY c.id"))?;
    Ok(s.query_map(rusqlite::params_from_iter(values), |r| r.get(0).map(ContactId))?.collect::<rusqlite::Result<_>>()?)
}

/// The contacts with these ids, at most 200, in the order of their addresses.
///
/// # Errors
/// When the database fails.
pub fn by_ids(c: &Connection, ids: &[ContactId]) -> Result<Vec<ContactRow>> {
    let list = std::rc::Rc::new(ids.iter().map(|id| rusqlite::types::Value::from(id.0)).collect::<Vec<_>>());
    let mut s = c.prepare_cached(&format!("SELECT {COLUMNS} FROM contact c WHERE c.id IN rarray(?1) ORDER BY c.address_key LIMIT 200"))?;
    Ok(s.query_map([list], row)?.collect::<rusqlite::Result<_>>()?)
}

/// The columns of an export.
pub const EXPORTED: [&str; 12] = [
    "address",
    "given name",
    "family name",
    "phone",
    "country",
    "region",
    "time zone",
    "source",
    "added",
    "consent",
    "mail status",
    "number",
];

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
        "SELECT c.address, c.given_name, c.family_name, c.phone, c.country, c.region, c.zone, c.source, c.added_at, c.consent, c.status, c.id
         FROM contact c {filter} ORDER BY c.id"
    ))?;
    let rows = s.query_map(values, |r| {
        let mut row: Vec<String> =
            (0..8).map(|i| Ok(r.get::<_, Option<String>>(i)?.unwrap_or_default())).collect::<rusqlite::Result<_>>()?;
        row.push(rinse_core::segment::evaluate::date_words(rinse_core::segment::evaluate::day_of(Instant::of(r.get(8)?))));
        row.push(r.get::<_, As<Consent>>(9)?.0.words().to_owned());
        row.push(r.get::<_, As<MailStatus>>(10)?.0.words().to_owned());
        row.push(r.get::<_, i64>(11)?.to_string());
        Ok(row)
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
