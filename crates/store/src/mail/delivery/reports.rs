//! Reports of other hosts: kept row by row, told by source and by receiving host.

use crate::{Result, settings};
use rinse_core::report::Rate;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A report as it comes in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Report {
    pub org: Option<String>,
    pub report_id: Option<String>,
    pub domain: Option<String>,
    /// Its time, in milliseconds.
    pub begin: Option<i64>,
    pub end: Option<i64>,
    pub says: Says,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Says {
    Dmarc(Vec<DmarcRow>),
    Tls(Vec<TlsRow>),
    /// It couldn't be read; why.
    Unreadable(String),
}

impl Default for Says {
    fn default() -> Self {
        Self::Unreadable(String::new())
    }
}

/// Messages of one source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DmarcRow {
    pub source: String,
    pub messages: i64,
    pub dkim: bool,
    pub spf: bool,
    pub disposition: String,
    pub header_from: String,
}

/// Connections under one policy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TlsRow {
    pub domain: String,
    pub policy: String,
    pub good: i64,
    pub failed: i64,
    /// Results of failures, by how many.
    pub reasons: String,
}

/// What became of a file of reports.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = ReportsTaken)]
pub struct Taken {
    pub new: usize,
    /// They were there already.
    pub known: usize,
    pub unreadable: usize,
}

/// Takes reports in; the same ones again change nothing, packed otherwise or not. `digest`: of the file, and of each its place in it.
///
/// # Errors
/// When the database fails.
pub fn take(c: &Connection, name: &str, digest: &[u8], reports: &[Report], now: Instant, person: Option<i64>) -> Result<Taken> {
    let mut out = Taken::default();
    for (place, r) in reports.iter().enumerate() {
        let (kind, error) = match &r.says {
            Says::Dmarc(_) => ("dmarc", None),
            Says::Tls(_) => ("tls", None),
            Says::Unreadable(why) => ("unreadable", Some(why.as_str())),
        };
        let own: Vec<u8> = digest.iter().copied().chain(u32::try_from(place).unwrap_or(0).to_be_bytes()).collect();
        let id: Option<i64> = c
            .prepare_cached(
                "INSERT INTO report_in (digest, came_at, person_id, name, kind, error, org, report_id, domain, begin_at, end_at)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11) ON CONFLICT DO NOTHING RETURNING id",
            )?
            .query_row(params![own, now.millis(), person, name, kind, error, r.org, r.report_id, r.domain, r.begin, r.end], |row| {
                row.get(0)
            })
            .optional()?;
        let Some(id) = id else {
            out.known += 1;
            continue;
        };
        let day = r.begin.unwrap_or(now.millis()).div_euclid(DAY);
        match &r.says {
            Says::Dmarc(rows) => {
                let mut s = c.prepare_cached("INSERT INTO dmarc_row VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
                let mut seen = c.prepare_cached(
                    "INSERT INTO dmarc_source VALUES (?1, ?2) ON CONFLICT DO UPDATE SET first_day = ?2 WHERE first_day > ?2",
                )?;
                let of_us = |d: &&DmarcRow| d.dkim || d.spf;
                let messages = |rows: &mut dyn Iterator<Item = &DmarcRow>| rows.fold(0i64, |n, d| n.saturating_add(d.messages));
                c.prepare_cached(
                    "INSERT INTO dmarc_day VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET messages = messages + ?2, aligned = aligned + ?3",
                )?
                .execute(params![day, messages(&mut rows.iter()), messages(&mut rows.iter().filter(of_us))])?;
                for d in rows {
                    seen.execute(params![d.source, day])?;
                    s.execute(params![id, day, d.source, d.messages, d.dkim, d.spf, d.disposition, d.header_from])?;
                }
                out.new += 1;
            }
            Says::Tls(rows) => {
                let mut s = c.prepare_cached("INSERT INTO tls_row VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?;
                for t in rows {
                    s.execute(params![id, day, t.domain, t.policy, t.good, t.failed, t.reasons])?;
                }
                out.new += 1;
            }
            Says::Unreadable(_) => out.unreadable += 1,
        }
    }
    settings::audit(c, now, person, "reports taken in", "report", 0, name)?;
    Ok(out)
}

/// Who sends in our name, by the address that other hosts saw.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = SendingSource)]
pub struct Source {
    pub source: String,
    pub messages: u64,
    /// Passed DMARC: DKIM or SPF for an address of the domain.
    pub aligned: Rate,
    pub dkim: Rate,
    pub spf: Rate,
    /// Put aside or refused by who got them.
    pub stopped: u64,
    /// The domains that they were sent in the name of.
    pub domains: Vec<String>,
    /// Hosts that saw it.
    pub seen_by: Vec<String>,
    /// Days since 1970.
    pub first_day: i64,
    pub last_day: i64,
    /// It wasn't seen before these two weeks, though others were.
    pub new: bool,
}

/// Connections to us, or by us, as hosts report them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = TlsSeen)]
pub struct Tls {
    pub org: String,
    pub domain: String,
    pub policy: String,
    pub good: i64,
    pub failed: i64,
    pub reasons: Vec<String>,
}

/// A file that came in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = ReportIn)]
pub struct Came {
    pub id: i64,
    pub came_at: i64,
    pub name: String,
    pub kind: String,
    pub error: Option<String>,
    pub org: Option<String>,
    pub domain: Option<String>,
    pub begin_at: Option<i64>,
    pub end_at: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct ReportsIn {
    /// Those with most that wasn't ours first, at most 500 …
    pub sources: Vec<Source>,
    /// … of so many.
    pub of_sources: usize,
    pub messages: u64,
    pub aligned: Rate,
    pub tls: Vec<Tls>,
    /// The newest fifty.
    pub came: Vec<Came>,
    pub reports: i64,
}

/// Sources that are told; the others sent less that isn't ours.
const SOURCES: i64 = 500;
/// A source is called new for so long.
const NEW_DAYS: i64 = 14;
const SHOWN: i64 = 50;

/// What was reported of the last `days`.
///
/// # Errors
/// When the database fails.
pub fn told(c: &Connection, days: i64, now: Instant) -> Result<ReportsIn> {
    let (sources, of_sources) = sources(c, days, now)?;
    let (messages, aligned) = together(c, days, now)?;
    let reports = c.prepare_cached("SELECT count(*) FROM report_in")?.query_row([], |r| r.get(0))?;
    Ok(ReportsIn { sources, of_sources, messages, aligned, tls: tls(c, now.millis().div_euclid(DAY) - days)?, came: came(c)?, reports })
}

/// All that was reported of the last `days`: how many messages, and how many of them passed.
///
/// # Errors
/// When the database fails.
pub fn together(c: &Connection, days: i64, now: Instant) -> Result<(u64, Rate)> {
    let (messages, aligned): (i64, i64) = c
        .prepare_cached("SELECT coalesce(sum(messages), 0), coalesce(sum(aligned), 0) FROM dmarc_day WHERE day >= ?1")?
        .query_row([now.millis().div_euclid(DAY) - days], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let messages = messages.max(0).unsigned_abs();
    Ok((messages, Rate::new(aligned.max(0).unsigned_abs().min(messages), messages)))
}

/// Sources that weren't seen before the last two weeks, where others were.
///
/// # Errors
/// When the database fails.
pub fn new_sources(c: &Connection, now: Instant) -> Result<usize> {
    let since = now.millis().div_euclid(DAY) - NEW_DAYS;
    if first_ever(c)?.is_none_or(|first| first > since) {
        return Ok(0);
    }
    let n: i64 = c.prepare_cached("SELECT count(*) FROM dmarc_source WHERE first_day > ?1")?.query_row([since], |r| r.get(0))?;
    Ok(usize::try_from(n).unwrap_or(0))
}

fn first_ever(c: &Connection) -> Result<Option<i64>> {
    Ok(c.prepare_cached("SELECT min(first_day) FROM dmarc_source")?.query_row([], |r| r.get(0))?)
}

/// Each word once, none of them empty.
fn words(mut all: Vec<String>) -> Vec<String> {
    all.retain(|w| !w.is_empty());
    all.sort();
    all.dedup();
    all
}

/// Who sent in our name in the last `days`, those with most that wasn't aligned first, and how many there are in all.
///
/// # Errors
/// When the database fails.
pub fn sources(c: &Connection, days: i64, now: Instant) -> Result<(Vec<Source>, usize)> {
    let today = now.millis().div_euclid(DAY);
    let whole = |n: i64| n.max(0).unsigned_abs();
    let first_ever = first_ever(c)?;
    let mut s = c.prepare_cached(
        "WITH most AS MATERIALIZED (
            SELECT source, sum(messages) AS messages, sum(messages * (dkim OR spf)) AS aligned, sum(messages * dkim) AS dkim, sum(messages * spf) AS spf,
                sum(messages * (disposition IN ('quarantine', 'reject'))) AS stopped, max(day) AS last, count(*) OVER () AS sources
            FROM dmarc_row WHERE day >= ?1 GROUP BY source ORDER BY sum(messages * NOT (dkim OR spf)) DESC, 2 DESC LIMIT ?2)
         SELECT m.source, m.messages, m.aligned, m.dkim, m.spf, m.stopped,
            (SELECT json_group_array(DISTINCT d.header_from) FROM dmarc_row d WHERE d.source = m.source AND d.day >= ?1),
            (SELECT json_group_array(DISTINCT coalesce(r.org, '')) FROM dmarc_row d JOIN report_in r ON r.id = d.report_id WHERE d.source = m.source AND d.day >= ?1),
            m.last, (SELECT first_day FROM dmarc_source f WHERE f.source = m.source), m.sources
         FROM most m",
    )?;
    let mut of_sources = 0;
    let told = s.query_map(params![today - days, SOURCES], |r| {
        of_sources = r.get::<_, i64>(10)?.max(0).unsigned_abs();
        let messages = whole(r.get(1)?);
        let rate = |n: i64| Rate::new(whole(n), messages);
        let listed = |text: String| Ok::<_, rusqlite::Error>(words(crate::stored::document(&text, "report row", 0)?));
        let first_day: i64 = r.get(9)?;
        Ok(Source {
            source: r.get(0)?,
            messages,
            aligned: rate(r.get(2)?),
            dkim: rate(r.get(3)?),
            spf: rate(r.get(4)?),
            stopped: whole(r.get(5)?),
            domains: listed(r.get(6)?)?,
            seen_by: listed(r.get(7)?)?,
            first_day,
            last_day: r.get(8)?,
            new: first_day > today - NEW_DAYS && first_ever.is_some_and(|f| f <= today - NEW_DAYS),
        })
    })?;
    let told = told.collect::<rusqlite::Result<_>>()?;
    Ok((told, usize::try_from(of_sources).unwrap_or(usize::MAX)))
}

/// How connections were secured since a day, those with most failures first.
fn tls(c: &Connection, since: i64) -> Result<Vec<Tls>> {
    let mut s = c.prepare_cached(
        "SELECT coalesce(r.org, ''), t.domain, t.policy, t.good, t.failed, t.reasons FROM tls_row t JOIN report_in r ON r.id = t.report_id WHERE t.day >= ?1 ORDER BY t.rowid",
    )?;
    let mut by: BTreeMap<(String, String, String), Tls> = BTreeMap::new();
    let mut rows = s.query([since])?;
    while let Some(r) = rows.next()? {
        let key: (String, String, String) = (r.get(0)?, r.get(1)?, r.get(2)?);
        let t = by.entry(key.clone()).or_insert_with(|| Tls {
            org: key.0,
            domain: key.1,
            policy: key.2,
            good: 0,
            failed: 0,
            reasons: Vec::new(),
        });
        (t.good, t.failed) = (t.good + r.get::<_, i64>(3)?, t.failed + r.get::<_, i64>(4)?);
        t.reasons.extend(r.get::<_, String>(5)?.split('\n').map(str::to_owned));
    }
    let mut tls: Vec<Tls> = by.into_values().map(|t| Tls { reasons: words(t.reasons), ..t }).collect();
    tls.sort_by_key(|t| std::cmp::Reverse(t.failed));
    Ok(tls)
}

/// The newest files.
fn came(c: &Connection) -> Result<Vec<Came>> {
    let mut s = c.prepare_cached(
        "SELECT id, came_at, name, kind, error, org, domain, begin_at, end_at FROM report_in ORDER BY came_at DESC, id DESC LIMIT ?1",
    )?;
    s.query_map([SHOWN], |r| {
        Ok(Came {
            id: r.get(0)?,
            came_at: r.get(1)?,
            name: r.get(2)?,
            kind: r.get(3)?,
            error: r.get(4)?,
            org: r.get(5)?,
            domain: r.get(6)?,
            begin_at: r.get(7)?,
            end_at: r.get(8)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()
    .map_err(Into::into)
}
