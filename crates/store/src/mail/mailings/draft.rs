//! Drafts: what the editor saves, who let what through, copies.

use crate::audience::{Audience, Group, save_beside};
use crate::codes::MAILING_DRAFT;
use crate::{Result, StoreError};
use const_format::formatcp;
use rinse_core::address::Address;
use rinse_core::channel::Channel;
use rinse_core::clearance::{HOLD_LIMIT, OverCap};
use rinse_core::id::{LetterheadId, ListId, MailingId, SegmentId};
use rinse_core::message::bounds::LONGEST;
use rinse_core::schedule::Schedule;
use rinse_core::standing::MailingState;
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Under which name a variant comes, and where its replies go; empty: as the letterhead has it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VariantSender {
    #[serde(default)]
    pub name: String,
    #[serde(default)]
    pub reply_to: String,
}

/// What the editor saves.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MailingDraft {
    pub name: String,
    /// How it reaches people. A text message is `text` alone: it has no subject, no HTML and no preheader.
    #[serde(default)]
    pub channel: Channel,
    /// The mailing that it goes along with.
    #[serde(default)]
    pub companion_of: Option<i64>,
    pub topic_id: Option<i64>,
    pub letterhead_id: LetterheadId,
    pub list_id: Option<i64>,
    /// Only those of the list (or of everyone) who are in this segment.
    #[serde(default)]
    pub segment_id: Option<SegmentId>,
    /// People of these lists and segments too.
    #[serde(default)]
    pub also: Vec<Group>,
    /// Nobody of these lists and segments.
    #[serde(default)]
    pub without: Vec<Group>,
    pub over_cap: OverCap,
    #[serde(default = "usual_priority")]
    pub priority: u8,
    #[serde(default = "usual_hold_days")]
    #[schema(minimum = 0, maximum = 1_000)]
    pub hold_days: i64,
    /// Why it may exceed the caps; only an approver can say so.
    #[serde(default)]
    pub exceed_reason: String,
    /// Why the recipients expect it (a receipt, a booking, security): then it is a service mailing.
    #[serde(default)]
    pub service_reason: String,
    /// Why it may go to people who complained too: service mail that law requires; only an approver can say so.
    #[serde(default)]
    pub complainers_reason: String,
    /// Mail-load cells whose people it leaves out.
    #[serde(default)]
    pub leave_out: Vec<u8>,
    /// The line that inboxes show after the subject.
    #[serde(default)]
    pub preheader: String,
    /// How the body is written: `html` or `markdown`.
    #[serde(default = "html")]
    pub format: String,
    /// The body, as it is written.
    pub html: String,
    /// Empty: it is made from the body.
    pub text: String,
    pub subjects: Vec<String>,
    /// By variant, where one's sender differs from the letterhead's.
    #[serde(default)]
    pub senders: Vec<VariantSender>,
    /// When each person gets it, from its planned instant on.
    #[serde(default)]
    pub schedule: Schedule,
    /// Kept to begin others from; it never goes out itself.
    #[serde(default)]
    pub template: bool,
    /// Another system sends it: its people are drawn, cleared and handed out here, and its log says what came of it.
    #[serde(default)]
    pub handed_out: bool,
}

impl MailingDraft {
    /// Whom it is meant for.
    #[must_use]
    pub fn audience(&self) -> Audience {
        Audience { list: self.list_id.map(ListId), segment: self.segment_id, also: self.also.clone(), without: self.without.clone() }
    }

    /// An empty draft under a letterhead, with what is usual.
    #[must_use]
    pub fn under(letterhead: LetterheadId, name: &str) -> Self {
        Self {
            name: name.to_owned(),
            channel: Channel::Email,
            companion_of: None,
            topic_id: None,
            letterhead_id: letterhead,
            list_id: None,
            segment_id: None,
            over_cap: OverCap::Hold,
            priority: usual_priority(),
            hold_days: usual_hold_days(),
            exceed_reason: String::new(),
            service_reason: String::new(),
            complainers_reason: String::new(),
            leave_out: Vec::new(),
            also: Vec::new(),
            without: Vec::new(),
            preheader: String::new(),
            format: html(),
            schedule: Schedule::default(),
            template: false,
            handed_out: false,
            html: String::new(),
            text: String::new(),
            subjects: vec![String::new()],
            senders: Vec::new(),
        }
    }
}

fn html() -> String {
    "html".into()
}

fn usual_priority() -> u8 {
    3
}

fn usual_hold_days() -> i64 {
    HOLD_LIMIT / DAY
}

/// Mail-load cells as their bits, and back.
pub(crate) fn bits(cells: &[u8]) -> u32 {
    cells.iter().filter(|cell| **cell < 15).fold(0, |bits, cell| bits | 1 << cell)
}

pub(super) fn cells(bits: u32) -> Vec<u8> {
    (0..15).filter(|cell| bits & (1 << cell) != 0).collect()
}

/// What an approver has to let through.
struct LetThrough<'a> {
    asked: bool,
    reason: &'a str,
    /// The reason that stands on record, when it was let through before.
    kept: Option<String>,
    column: &'static str,
    /// "let a mailing exceed the caps. Ask one, or …"
    refusal: &'static str,
    /// "this mailing may exceed the caps"
    what: &'static str,
}

/// Refuses what only an approver can let through. Somebody else may go on with a draft that was, as long as
/// nothing of that changes.
fn approved(c: &Connection, l: &LetThrough<'_>, person: Option<i64>) -> Result<()> {
    if !l.asked || l.kept.as_deref() == Some(l.reason) {
        return Ok(());
    }
    if !crate::team::is_approver(c, person)? {
        return Err(StoreError::Refused(format!("Only an approver can {}", l.refusal)));
    }
    if l.reason.chars().count() < 10 {
        return Err(StoreError::Refused(format!("Say in a sentence why {}: the reason stays on record.", l.what)));
    }
    Ok(())
}

/// Writes who let it through, and says so in the audit trail.
fn write_approval(c: &Connection, id: MailingId, l: &LetThrough<'_>, now: Instant, person: Option<i64>) -> Result<()> {
    let column = l.column;
    if !l.asked {
        c.execute(&format!("UPDATE mailing SET {column}_reason = '', {column}_by = NULL WHERE id = ?1"), [id.0])?;
        return Ok(());
    }
    let new = c.execute(
        &format!(
            "UPDATE mailing SET {column}_reason = ?2, {column}_by = ?3 WHERE id = ?1 AND ({column}_reason <> ?2 OR {column}_by IS NULL)"
        ),
        params![id.0, l.reason, person],
    )?;
    if new > 0 {
        crate::settings::audit(c, now, person, l.what, "mailing", id.0, l.reason)?;
    }
    Ok(())
}

/// What a text message can't have.
fn check_text(c: &Connection, id: Option<MailingId>, d: &MailingDraft) -> Result<()> {
    let refuse = |words: &str| Err(StoreError::Refused(words.into()));
    if d.subjects.len() > 1 || !d.senders.is_empty() || d.subjects.iter().any(|s| !s.is_empty()) {
        return refuse("A text message has no subject and no variants.");
    }
    if !d.html.is_empty() || !d.preheader.is_empty() {
        return refuse("A text message is its text alone: leave the HTML and the preheader empty.");
    }
    if !d.schedule.rates.is_empty() {
        return refuse("A rate is of a mail domain. A text message goes to phone numbers: leave the rates out.");
    }
    if c.prepare_cached("SELECT 1 FROM trial WHERE mailing_id = ?1")?.exists([id.map(|id| id.0)])? {
        return refuse("There is a trial of this mailing's variants. Make the text message a mailing of its own.");
    }
    if let Some(other) = d.companion_of
        && (Some(other) == id.map(|id| id.0)
            || !c.prepare_cached("SELECT 1 FROM mailing WHERE id = ?1 AND channel = 1")?.exists([other])?)
    {
        return refuse("A text message goes along with an email.");
    }
    Ok(())
}

/// Can the variants come from these senders?
///
/// # Errors
/// When a name or an address can't stand in a header.
pub fn check_senders(d: &MailingDraft) -> Result<()> {
    if d.senders.len() > d.subjects.len() {
        return Err(StoreError::Refused("There are more senders than variants. Take some out.".into()));
    }
    for s in &d.senders {
        if !s.reply_to.is_empty()
            && let Err(e) = Address::parse(&s.reply_to)
        {
            return Err(StoreError::Refused(format!("Replies can't go to {:?}: {e}.", s.reply_to)));
        }
        if s.name.len() > 200 || s.name.contains(['\r', '\n']) {
            return Err(StoreError::Refused("A sender's name is one line of at most 200 characters.".into()));
        }
    }
    Ok(())
}

/// Is the draft still the version that somebody changed?
///
/// # Errors
/// [`StoreError::Stale`] with who saved it meanwhile, when, and in what it differs from `d`.
pub fn must_be_current(c: &Connection, id: MailingId, version: i64, d: &MailingDraft) -> Result<()> {
    let there = super::one(c, id)?;
    if there.version == version {
        return Ok(());
    }
    let (who, at): (Option<String>, Option<i64>) =
        c.query_row("SELECT p.name, m.changed_at FROM mailing m LEFT JOIN person p ON p.id = m.changed_by WHERE m.id = ?1", [id.0], |r| {
            Ok((r.get(0)?, r.get(1)?))
        })?;
    let (yours, theirs) = (serde_json::to_value(d)?, serde_json::to_value(&there.draft)?);
    let differs = theirs.as_object().into_iter().flatten().filter(|(k, v)| yours.get(k.as_str()) != Some(*v));
    let parts: Vec<String> = differs.map(|(k, _)| k.replace('_', " ")).collect();
    let what =
        if parts.is_empty() { "It is the same as yours".to_owned() } else { format!("It differs from yours in: {}", parts.join(", ")) };
    Err(StoreError::Stale(format!(
        "{} saved “{}” {}meanwhile. {what}. Copy what you want to keep, load the page again, and put it in.",
        who.as_deref().unwrap_or("Somebody"),
        there.draft.name,
        at.map_or_else(String::new, |at| format!("at {} UTC ", Instant::of(at).words())),
    )))
}

/// Makes or changes a draft. Only drafts change: what was planned or sent stays as it was.
///
/// # Errors
/// When the mailing is no draft any more.
pub fn save(c: &Connection, id: Option<MailingId>, d: &MailingDraft, now: Instant, person: Option<i64>) -> Result<MailingId> {
    if d.subjects.is_empty() || d.subjects.len() > 6 {
        return Err(StoreError::Refused("A mailing has one to six variants.".into()));
    }
    check_senders(d)?;
    if d.handed_out && d.channel == Channel::Text {
        return Err(StoreError::Refused("Text messages go out from here. Only email is handed out to another sender.".into()));
    }
    if d.channel == Channel::Text {
        check_text(c, id, d)?;
    }
    crate::letterheads::one(c, d.letterhead_id)?;
    d.audience().must_exist(c)?;
    d.schedule.check().map_err(|e| StoreError::Refused(e.to_string()))?;
    if let Some(topic) = d.topic_id
        && !c.prepare_cached("SELECT 1 FROM topic WHERE id = ?1")?.exists([topic])?
    {
        return Err(StoreError::Missing("topic"));
    }
    if !matches!(d.format.as_str(), "html" | "markdown") {
        return Err(StoreError::Refused("A message is written in html or markdown.".into()));
    }
    if d.html.len() > LONGEST || d.text.len() > LONGEST {
        return Err(StoreError::Refused("A part of a message has at most 500 kB; readers cut it off long before.".into()));
    }
    let over = d.over_cap.code();
    if !(1..=5).contains(&d.priority) {
        return Err(StoreError::Refused("A priority is 1 (goes first) to 5.".into()));
    }
    if !(1..=28).contains(&d.hold_days) {
        return Err(StoreError::Refused("People are held for 1 to 28 days.".into()));
    }
    let service = d.service_reason.trim();
    if !service.is_empty() && service.chars().count() < 10 {
        return Err(StoreError::Refused(
            "Say in a sentence why the recipients expect this mailing, as they do a receipt or a booking: the reason stays on record."
                .into(),
        ));
    }
    if service.is_empty() && !d.complainers_reason.trim().is_empty() {
        return Err(StoreError::Refused("Marketing never goes to people who complained. Only service mail that law requires can.".into()));
    }
    let kept = |column: &str| -> Result<Option<String>> {
        let sql = format!("SELECT {column}_reason FROM mailing WHERE id = ?1 AND {column}_by IS NOT NULL");
        Ok(c.query_row(&sql, [id.map(|id| id.0)], |r| r.get(0)).optional()?)
    };
    let exceed = LetThrough {
        asked: d.over_cap == OverCap::Exceed,
        reason: d.exceed_reason.trim(),
        kept: kept("exceed")?,
        column: "exceed",
        refusal: "let a mailing exceed the caps. Ask one, or let it hold or skip people.",
        what: "this mailing may exceed the caps",
    };
    let complainers = LetThrough {
        asked: !d.complainers_reason.trim().is_empty(),
        reason: d.complainers_reason.trim(),
        kept: kept("complainers")?,
        column: "complainers",
        refusal: "let service mail go to people who complained. Ask one, or leave those people out.",
        what: "this mailing may go to people who complained",
    };
    approved(c, &exceed, person)?;
    approved(c, &complainers, person)?;
    let service_before: String =
        c.query_row("SELECT service_reason FROM mailing WHERE id = ?1", [id.map(|id| id.0)], |r| r.get(0)).optional()?.unwrap_or_default();
    let class = if service.is_empty() { 1 } else { 2 };
    let companion = d.companion_of.filter(|_| d.channel == Channel::Text);
    let schedule = serde_json::to_string(&d.schedule).map_err(|e| StoreError::Refused(e.to_string()))?;
    let id = match id {
        Some(id) => {
            let n = c.execute(
                formatcp!("UPDATE mailing SET name=?2, topic_id=?3, letterhead_id=?4, list_id=?5, over_cap=?6, html=?7, text=?8, segment_id=?9, priority=?10, hold_days=?11, class=?12, service_reason=?13, leave_out=?14, preheader=?15, format=?16, schedule=?17, template=?18, channel=?19, companion_of=?20, version=version+1, changed_at=?21, changed_by=?22, handed_out=?23 WHERE id = ?1 AND state = {MAILING_DRAFT}"),
                params![id.0, d.name, d.topic_id, d.letterhead_id.0, d.list_id, over, d.html, d.text, d.segment_id.map(|id| id.0), d.priority, d.hold_days, class, service, bits(&d.leave_out), d.preheader, d.format, schedule, d.template, d.channel.code(), companion, now.millis(), person, d.handed_out],
            )?;
            if n == 0 {
                return Err(StoreError::Refused("Only a draft can be changed. Make a new mailing instead.".into()));
            }
            id
        }
        None => c.query_row(
            "INSERT INTO mailing (name, topic_id, letterhead_id, list_id, over_cap, html, text, made_at, person_id, segment_id, priority, hold_days, class, service_reason, leave_out, preheader, format, schedule, template, channel, companion_of, handed_out) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12,?13,?14,?15,?16,?17,?18,?19,?20,?21,?22) RETURNING id",
            params![d.name, d.topic_id, d.letterhead_id.0, d.list_id, over, d.html, d.text, now.millis(), person, d.segment_id.map(|id| id.0), d.priority, d.hold_days, class, service, bits(&d.leave_out), d.preheader, d.format, schedule, d.template, d.channel.code(), companion, d.handed_out],
            |r| r.get(0).map(MailingId),
        )?,
    };
    write_approval(c, id, &exceed, now, person)?;
    write_approval(c, id, &complainers, now, person)?;
    if service != service_before {
        let what = if service.is_empty() { "marketing mailing again" } else { "service mailing" };
        crate::settings::audit(c, now, person, what, "mailing", id.0, service)?;
    }
    save_beside(c, id, &d.also, &d.without)?;
    c.execute("DELETE FROM variant WHERE mailing_id = ?1", [id.0])?;
    for (arm, subject) in d.subjects.iter().enumerate() {
        let sender = d.senders.get(arm).cloned().unwrap_or_default();
        c.execute(
            "INSERT INTO variant (mailing_id, arm, subject, sender_name, reply_to) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![id.0, i64::try_from(arm).unwrap_or(0), subject, sender.name.trim(), sender.reply_to.trim()],
        )?;
    }
    Ok(id)
}

/// A copy of a mailing as a new draft: its message, audience and schedule; what an approver let through is asked for again.
///
/// # Errors
/// When there is no such mailing.
pub fn copy(c: &Connection, id: MailingId, name: &str, template: bool, now: Instant, person: Option<i64>) -> Result<MailingId> {
    let mut d = super::one(c, id)?.draft;
    d.name = name.to_owned();
    d.template = template;
    d.complainers_reason.clear();
    if d.over_cap == OverCap::Exceed {
        (d.over_cap, d.exceed_reason) = (OverCap::Hold, String::new());
    }
    d.companion_of = None;
    // A day of its own has passed, or is the other mailing's.
    d.schedule.local = None;
    let made = save(c, None, &d, now, person)?;
    c.execute("UPDATE mailing SET copied_from = ?2 WHERE id = ?1", [made.0, id.0])?;
    Ok(made)
}

/// A text message to go along with an email: a new draft under the same letterhead, topic and audience, which can be
/// changed by itself.
///
/// # Errors
/// When there is no such mailing, or it is a text message itself.
pub fn companion(c: &Connection, id: MailingId, now: Instant, person: Option<i64>) -> Result<MailingId> {
    let d = super::one(c, id)?.draft;
    if d.channel == Channel::Text {
        return Err(StoreError::Refused("This is a text message already.".into()));
    }
    let text = MailingDraft {
        channel: Channel::Text,
        companion_of: Some(id.0),
        topic_id: d.topic_id,
        list_id: d.list_id,
        segment_id: d.segment_id,
        also: d.also,
        without: d.without,
        priority: d.priority,
        leave_out: d.leave_out,
        ..MailingDraft::under(d.letterhead_id, &format!("{}, by text", d.name))
    };
    save(c, None, &text, now, person)
}

/// Puts a mailing in the archive or takes it out: it leaves the lists, and nothing else changes.
///
/// # Errors
/// When it is on its way.
pub fn archive(c: &Connection, id: MailingId, away: bool, now: Instant) -> Result<()> {
    if away && matches!(super::course::state(c, id)?, MailingState::Planned | MailingState::Sending) {
        return Err(StoreError::Refused("This mailing is on its way. Cancel it, or wait until it is out.".into()));
    }
    c.execute("UPDATE mailing SET archived_at = iif(?2, ?3, NULL) WHERE id = ?1", params![id.0, away, now.millis()])?;
    Ok(())
}
