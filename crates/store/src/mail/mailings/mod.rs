//! Mailings: what they are, and their lists. [`draft`] saves them, [`links`] counts their links, [`course`] is what happens to
//! them from planning to the end.

pub mod course;
pub mod draft;
pub mod links;
pub mod reach;

pub use course::advance;
pub use draft::{MailingDraft, VariantSender, save};
pub use links::{link_url, links, save_links};

use crate::audience;
use crate::codes::{MAILING_DRAFT, MAILING_PLANNED, MAILING_SENDING, MAILING_SENT, TRIAL_COLLECTING};
use crate::settings::Tied;
use crate::stored::As;
use crate::stored::Worded;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::Instant;
use rinse_core::channel::Channel;
use rinse_core::clearance::OverCap;
use rinse_core::id::{ContactId, HourTrialId, LetterheadId, MailingId, SegmentId, SeriesId, TrialId};
use rinse_core::message::{CONTACT_PLACEHOLDERS, own_placeholder};
use rinse_core::standing::MailingState;
use rusqlite::{Connection, OptionalExtension};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A mailing, whole.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Mailing {
    pub id: MailingId,
    #[serde(flatten)]
    pub draft: MailingDraft,
    pub list: Option<String>,
    pub segment: Option<String>,
    /// Who let it exceed the caps.
    pub exceed_by: Option<String>,
    /// Who let it go to people who complained.
    pub complainers_by: Option<String>,
    /// draft, planned, sending, sent; series: a step of a running series sends it
    pub state: MailingState,
    pub planned_at: Option<i64>,
    pub started_at: Option<i64>,
    pub finished_at: Option<i64>,
    pub paused_at: Option<i64>,
    pub archived_at: Option<i64>,
    /// The mailing that it was copied from.
    pub copied_from: Option<i64>,
    pub trial_id: Option<TrialId>,
    /// The running hour trial that it is a round of.
    pub hour_trial_id: Option<HourTrialId>,
    /// The series that it is a step of.
    pub series_id: Option<SeriesId>,
    /// The text messages that go along with it.
    pub companions: Vec<Tied>,
    pub labels: Vec<String>,
    /// How often its draft was saved: anybody who saves an older one is told who changed it.
    pub version: i64,
}

/// Subjects and senders, by variant; no senders where all are the letterhead's.
fn variants(c: &Connection, id: MailingId) -> Result<(Vec<String>, Vec<VariantSender>)> {
    let mut s = c.prepare_cached("SELECT subject, sender_name, reply_to FROM variant WHERE mailing_id = ?1 ORDER BY arm")?;
    let rows = s.query_map([id.0], |r| Ok((r.get(0)?, VariantSender { name: r.get(1)?, reply_to: r.get(2)? })))?;
    let (subjects, senders): (_, Vec<VariantSender>) = rows.collect::<rusqlite::Result<Vec<_>>>()?.into_iter().unzip();
    let all_usual = senders.iter().all(|s| *s == VariantSender::default());
    Ok((subjects, if all_usual { Vec::new() } else { senders }))
}

/// # Errors
/// When there is no such mailing.
pub fn one(c: &Connection, id: MailingId) -> Result<Mailing> {
    let mut m = c
        .prepare_cached(formatcp!("SELECT m.id, m.name, topic_id, letterhead_id, list_id, l.name, over_cap, html, text, m.state, planned_at, started_at, finished_at, t.id, m.segment_id, g.name, priority, hold_days, exceed_reason, p.name, service_reason, complainers_reason, q.name, leave_out,
            preheader, format, schedule, paused_at, archived_at, template, copied_from, series_id, channel, companion_of, m.version,
            (SELECT h.id FROM hour_round r JOIN hour_trial h ON h.id = r.trial_id WHERE r.mailing_id = m.id AND r.missed IS NULL AND h.state = {TRIAL_COLLECTING}), m.handed_out
            FROM mailing m LEFT JOIN person p ON p.id = exceed_by LEFT JOIN person q ON q.id = complainers_by LEFT JOIN list l ON l.id = list_id LEFT JOIN segment g ON g.id = m.segment_id LEFT JOIN trial t ON t.mailing_id = m.id WHERE m.id = ?1"))?
        .query_row([id.0], |r| {
            Ok(Mailing {
                id: MailingId(r.get(0)?),
                draft: MailingDraft {
                    name: r.get(1)?,
                    channel: r.get::<_, As<Channel>>(32)?.0,
                    companion_of: r.get(33)?,
                    topic_id: r.get(2)?,
                    letterhead_id: LetterheadId(r.get(3)?),
                    list_id: r.get(4)?,
                    segment_id: r.get::<_, Option<i64>>(14)?.map(SegmentId),
                    also: Vec::new(),
                    without: Vec::new(),
                    over_cap: OverCap::from_code(&r.get::<_, String>(6)?),
                    priority: r.get(16)?,
                    hold_days: r.get(17)?,
                    exceed_reason: r.get(18)?,
                    service_reason: r.get(20)?,
                    complainers_reason: r.get(21)?,
                    leave_out: draft::cells(r.get(23)?),
                    preheader: r.get(24)?,
                    format: r.get(25)?,
                    html: r.get(7)?,
                    text: r.get(8)?,
                    subjects: Vec::new(),
                    senders: Vec::new(),
                    schedule: crate::stored::document(&r.get::<_, String>(26)?, "mailing", r.get(0)?)?,
                    template: r.get(29)?,
                    handed_out: r.get(36)?,
                },
                list: r.get(5)?,
                segment: r.get(15)?,
                exceed_by: r.get(19)?,
                complainers_by: r.get(22)?,
                state: r.get::<_, Worded<_>>(9)?.0,
                planned_at: r.get(10)?,
                started_at: r.get(11)?,
                finished_at: r.get(12)?,
                paused_at: r.get(27)?,
                archived_at: r.get(28)?,
                copied_from: r.get(30)?,
                trial_id: r.get::<_, Option<i64>>(13)?.map(TrialId),
                series_id: r.get::<_, Option<i64>>(31)?.map(SeriesId),
                companions: Vec::new(),
                labels: Vec::new(),
                version: r.get(34)?,
                hour_trial_id: r.get::<_, Option<i64>>(35)?.map(HourTrialId),
            })
        })
        .optional()?
        .ok_or(StoreError::Missing("mailing"))?;
    (m.draft.subjects, m.draft.senders) = variants(c, id)?;
    (m.draft.also, m.draft.without) = audience::beside(c, id)?;
    m.companions = c
        .prepare_cached("SELECT id, name FROM mailing WHERE companion_of = ?1 AND archived_at IS NULL ORDER BY id")?
        .query_map([id.0], |r| Ok(Tied { id: r.get(0)?, name: r.get(1)? }))?
        .collect::<rusqlite::Result<_>>()?;
    m.labels = crate::tags::labels_of(c, id)?;
    Ok(m)
}

/// A mailing as lists show it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct MailingRow {
    pub id: MailingId,
    pub name: String,
    pub state: MailingState,
    pub planned_at: Option<i64>,
    pub started_at: Option<i64>,
    pub list: Option<String>,
    pub trial_id: Option<TrialId>,
    pub series_id: Option<SeriesId>,
    pub labels: Vec<String>,
    pub paused: bool,
    pub template: bool,
    pub archived: bool,
    pub channel: Channel,
    pub variants: i64,
    /// Another system sent it.
    pub outside: bool,
}

/// All mailings: those to come first, then the newest sent; what was put in the archive last.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<MailingRow>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT m.id, m.name, m.state, planned_at, started_at, l.name, t.id,
            (SELECT json_group_array(name) FROM (SELECT name FROM label JOIN mailing_label x ON x.label_id = label.id WHERE x.mailing_id = m.id ORDER BY 1)),
            paused_at IS NOT NULL, template, archived_at IS NOT NULL, m.series_id, m.channel, (SELECT count(*) FROM variant v WHERE v.mailing_id = m.id),
            EXISTS (SELECT 1 FROM outside_mailing o WHERE o.mailing_id = m.id)
         FROM mailing m LEFT JOIN list l ON l.id = list_id LEFT JOIN trial t ON t.mailing_id = m.id
         ORDER BY archived_at IS NOT NULL, m.state = {MAILING_SENT}, coalesce(started_at, planned_at, m.made_at) DESC, m.id DESC LIMIT 1000"),
    )?;
    Ok(s.query_map([], |r| {
        Ok(MailingRow {
            id: MailingId(r.get(0)?),
            name: r.get(1)?,
            state: r.get::<_, Worded<_>>(2)?.0,
            planned_at: r.get(3)?,
            started_at: r.get(4)?,
            list: r.get(5)?,
            trial_id: r.get::<_, Option<i64>>(6)?.map(TrialId),
            series_id: r.get::<_, Option<i64>>(11)?.map(SeriesId),
            labels: crate::stored::document(&r.get::<_, String>(7)?, "mailing", r.get(0)?)?,
            paused: r.get(8)?,
            template: r.get(9)?,
            archived: r.get(10)?,
            channel: r.get::<_, As<Channel>>(12)?.0,
            variants: r.get(13)?,
            outside: r.get(14)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// The custom fields as placeholders: their names in messages, and their numbers.
///
/// # Errors
/// When the database fails.
pub fn own_placeholders(c: &Connection) -> Result<Vec<(String, i64)>> {
    let mut s = c.prepare_cached("SELECT id, name FROM field WHERE gone = 0 ORDER BY name")?;
    let rows = s.query_map([], |r| Ok((own_placeholder(&r.get::<_, String>(1)?), r.get(0)?)))?;
    Ok(rows
        .collect::<rusqlite::Result<Vec<_>>>()?
        .into_iter()
        .filter(|(name, _)| !name.is_empty() && !CONTACT_PLACEHOLDERS.contains(&name.as_str()))
        .collect())
}

/// A person's value in a field, as a message shows it.
const SHOWN: &str = "coalesce(v.text, CASE WHEN v.number IS NOT NULL THEN CASE WHEN v.number = round(v.number) THEN CAST(CAST(v.number AS INTEGER) AS TEXT) ELSE CAST(v.number AS TEXT) END
    WHEN v.day IS NOT NULL THEN date(v.day * 86400, 'unixepoch') WHEN v.flag IS NOT NULL THEN iif(v.flag, 'yes', 'no') END)";

/// A person's values for the placeholders of these fields.
///
/// # Errors
/// When the database fails.
pub fn own_values(c: &Connection, contact: ContactId, fields: &[(String, i64)]) -> Result<Vec<(String, String)>> {
    let mut s = c.prepare_cached(&format!("SELECT {SHOWN} FROM field_value v WHERE v.contact_id = ?1 AND v.field_id = ?2"))?;
    let mut out = Vec::new();
    for (name, field) in fields {
        if let Some(value) = s.query_row([contact.0, *field], |r| r.get::<_, Option<String>>(0)).optional()?.flatten() {
            out.push((name.clone(), value));
        }
    }
    Ok(out)
}

/// How many of these people (ascending) lack a value for each placeholder. `used`: the placeholders of a person that matter;
/// `own`: those of custom fields.
///
/// # Errors
/// When the database fails.
pub fn missing(c: &Connection, people: &[ContactId], used: &[&str], own: &[(String, i64)]) -> Result<BTreeMap<String, u64>> {
    let mut out = BTreeMap::new();
    let mut count = |name: &str, lacks: &str| -> Result<()> {
        let mut s = c.prepare(&format!("SELECT c.id FROM contact c WHERE c.gone IS NULL AND {lacks}"))?;
        let mut rows = s.query([])?;
        let mut n = 0;
        while let Some(r) = rows.next()? {
            n += u64::from(people.binary_search(&ContactId(r.get(0)?)).is_ok());
        }
        out.insert(name.to_owned(), n);
        Ok(())
    };
    // An address has everybody; nothing but these names reaches the query.
    for name in used.iter().filter(|n| ["given_name", "family_name", "country"].contains(*n)) {
        count(name, &format!("coalesce(c.{name}, '') = ''"))?;
    }
    for (name, field) in own {
        count(name, &format!("NOT EXISTS (SELECT 1 FROM field_value v WHERE v.field_id = {field} AND v.contact_id = c.id)"))?;
    }
    Ok(out)
}

/// The mailings whose hour has come, in the order in which they begin: also those that were being put on record when the process ended.
///
/// # Errors
/// When the database fails.
pub fn due(c: &Connection, now: Instant) -> Result<Vec<MailingId>> {
    let sql = formatcp!(
        "SELECT id FROM mailing WHERE paused_at IS NULL AND (state = {MAILING_PLANNED} AND planned_at <= ?1 OR state = {MAILING_SENDING} AND recording)
         ORDER BY planned_at, priority, id"
    );
    crate::stored::ids_as(c, sql, [now.millis()], MailingId)
}

/// How many have begun.
///
/// # Errors
/// When the database fails.
pub fn begun(c: &Connection) -> Result<usize> {
    let n: i64 = c.prepare_cached("SELECT count(*) FROM mailing WHERE started_at IS NOT NULL")?.query_row([], |r| r.get(0))?;
    Ok(usize::try_from(n).unwrap_or(0))
}

/// The newest drafts that nothing is planned for, no trial either: number and name.
///
/// # Errors
/// When the database fails.
pub fn unplanned(c: &Connection, most: i64) -> Result<Vec<(i64, String)>> {
    let mut s = c.prepare_cached(
        formatcp!("SELECT id, name FROM mailing WHERE state = {MAILING_DRAFT} AND series_id IS NULL AND NOT EXISTS (SELECT 1 FROM trial WHERE mailing_id = mailing.id)
         AND NOT EXISTS (SELECT 1 FROM hour_round WHERE mailing_id = mailing.id AND missed IS NULL) ORDER BY id DESC LIMIT ?1"),
    )?;
    Ok(s.query_map([most], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?)
}
