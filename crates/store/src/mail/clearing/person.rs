//! One person: cleared again at handover, or asked about at any instant: "may they get this mailing
//! then?", with every rule's answer, from the rules and the ledger as they were at that instant.

use super::reserved::{self, Reserving, holding};
use super::{Mailing, base};
use crate::ledger::{self, Stated};
use crate::rules::{self, RulesVersion};
use crate::stored::As;
use crate::{Result, StoreError, domains, suppression, upkeep};
use rinse_core::caps::Message;
use rinse_core::channel::Channel;
use rinse_core::clearance::{Class, Outcome, OverCap, Person, Reason, Rules, clear};
use rinse_core::consent::Consent;
use rinse_core::id::{ContactId, LetterheadId, MailingId, SendId, SeriesId};
use rinse_core::send::State;
use rinse_core::upkeep::{MailStatus, of_number};
use rinse_core::{Instant, zone};
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use utoipa::ToSchema;

/// A mailing with the rules in force; loaded once for many people.
pub struct Loaded {
    pub mailing: Mailing,
    pub version: RulesVersion,
    /// What they come to for this mailing at the instant.
    rules: Rules,
    /// The suppression lists that apply, with the segments of live rules.
    asked: Vec<(i64, Option<i64>)>,
    /// The trials of others that keep their people.
    reserving: Vec<Reserving>,
}

/// # Errors
/// When there is no such mailing.
pub fn load(c: &Connection, mailing: MailingId, at: Instant) -> Result<Loaded> {
    let mailing = super::mailing(c, mailing)?;
    let asked = suppression::of_mailing(c, mailing.target, at)?;
    let version = rules::current(c)?;
    let rules = version.rules.for_mailing(&mailing.facts, at);
    let reserving = reserved::met(c, mailing.id, mailing.series, at)?;
    Ok(Loaded { mailing, version, rules, asked, reserving })
}

impl Loaded {
    /// The lists that are asked, by their bits.
    #[must_use]
    pub fn lists(&self) -> Vec<i64> {
        self.asked.iter().map(|a| a.0).collect()
    }
}

/// What a person's row says.
struct Row {
    present: bool,
    consent: Stated,
    status: MailStatus,
    status_until: Option<Instant>,
    sunset: Option<Instant>,
    country: Option<String>,
    zone: Option<zone::TimeZone>,
    phone: bool,
    /// A network said that there is no such number.
    phone_failed: Option<Instant>,
}

impl Row {
    /// Since when a network says that there is no such number, as far as it had said so by `then`.
    fn number_failed(&self, then: Option<Instant>) -> Option<Instant> {
        self.phone_failed.filter(|t| then.is_none_or(|then| *t <= then))
    }

    /// What became of that which the channel's messages go to, and until when.
    fn status(&self, channel: Channel) -> (MailStatus, Option<Instant>) {
        match channel {
            Channel::Email => (self.status, self.status_until),
            Channel::Text => (of_number(self.phone_failed.is_some()), None),
        }
    }

    /// As clearance sees them on a channel, with nothing known about the mailing yet.
    fn person<'a>(
        &'a self,
        (contact, channel): (ContactId, Channel),
        consent: Stated,
        status: (MailStatus, Option<Instant>),
        messages: &'a [Message],
    ) -> Person<'a> {
        Person {
            contact,
            // Somebody who was deleted or merged since has none any more.
            has_address: self.present && (channel == Channel::Email || self.phone),
            already_sent: false,
            status: status.0,
            resting_until: status.1,
            sunset: self.sunset.is_some(),
            consent: consent.consent,
            under_pause: consent.under_pause,
            paused_until: consent.paused_until.map(Instant::of),
            domain_paused_until: None,
            country: self.country.as_deref(),
            zone: self.zone.as_ref(),
            topic_left: false,
            series_left: false,
            lists: 0,
            reserved: false,
            load_left_out: false,
            messages,
        }
    }
}

/// Until when their mail domain is paused, and why; that holds no text message.
fn domain_pause(c: &Connection, contact: ContactId, channel: Channel, at: Instant) -> Result<Option<(Instant, String)>> {
    match channel {
        Channel::Email => domains::paused_for(c, contact, at),
        Channel::Text => Ok(None),
    }
}

fn topic_left(c: &Connection, contact: ContactId, topic: Option<i64>) -> Result<bool> {
    let mut s = c.prepare_cached("SELECT 1 FROM topic_left WHERE topic_id = ?1 AND contact_id = ?2")?;
    Ok(topic.is_some() && s.exists(params![topic, contact.0])?)
}

/// Have they left the series that the mailing is a step of?
fn series_left(c: &Connection, contact: ContactId, series: Option<SeriesId>) -> Result<bool> {
    let mut s = c.prepare_cached("SELECT 1 FROM series_left WHERE series_id = ?1 AND contact_id = ?2")?;
    Ok(series.is_some() && s.exists(params![series.map(|id| id.0), contact.0])?)
}

/// Are they in a mail-load cell that the mailing leaves out?
fn load_left_out(c: &Connection, contact: ContactId, leave_out: u32) -> Result<bool> {
    let mut s = c.prepare_cached("SELECT 1 FROM mail_load WHERE contact_id = ?1 AND (?2 >> cell) & 1")?;
    Ok(leave_out != 0 && s.exists(params![contact.0, leave_out])?)
}

fn row(c: &Connection, contact: ContactId) -> Result<Row> {
    c.prepare_cached("SELECT consent, consent_at, paused_until, under_pause, status, status_until, country, zone, gone IS NULL, sunset_at, phone IS NOT NULL, phone_failed_at FROM contact WHERE id = ?1")?
        .query_row([contact.0], |r| {
            Ok(Row {
                consent: Stated {
                    consent: r.get::<_, As<Consent>>(0)?.0,
                    at: r.get(1)?,
                    paused_until: r.get(2)?,
                    under_pause: r.get::<_, As<Consent>>(3)?.0,
                },
                status: r.get::<_, As<MailStatus>>(4)?.0,
                status_until: r.get::<_, Option<i64>>(5)?.map(Instant::of),
                country: r.get(6)?,
                zone: r.get::<_, Option<String>>(7)?.and_then(|z| zone::named(&z)),
                present: r.get(8)?,
                sunset: r.get::<_, Option<i64>>(9)?.map(Instant::of),
                phone: r.get(10)?,
                phone_failed: r.get::<_, Option<i64>>(11)?.map(Instant::of),
            })
        })
        .optional()?
        .ok_or(StoreError::Missing("contact"))
}

/// The messages of one person that count or are reserved, as they stood at `known`. Not `but`, the
/// message that is being cleared: it doesn't count against itself.
fn messages(c: &Connection, contact: ContactId, but: Option<i64>, since: Instant, known: Option<Instant>) -> Result<Vec<Message>> {
    let mut s = c.prepare_cached(
        "SELECT s.state, s.at, s.handed_at, s.mailing_id, m.channel, m.topic_id, m.letterhead_id, m.priority, s.accepted_at, m.series_id IS NOT NULL FROM send s JOIN mailing m ON m.id = s.mailing_id
         WHERE s.contact_id = ?1 AND s.class = 1 AND s.at > ?2 AND s.id IS NOT ?3",
    )?;
    let mut rows = s.query(params![contact.0, since.millis(), but])?;
    let mut out = Vec::new();
    while let Some(r) = rows.next()? {
        let kind = (super::kind(r.get(4)?, r.get(5)?, LetterheadId(r.get(6)?), r.get(9)?), r.get(7)?);
        let found = base::message(r.get::<_, As<State>>(0)?.0, r.get(1)?, r.get(2)?, MailingId(r.get(3)?), kind);
        // Of the past only what had been handed over by then can still be seen.
        let then = known.is_none_or(|k| r.get::<_, Option<i64>>(2).ok().flatten().is_some_and(|h| h <= k.millis()));
        out.extend(found.filter(|_| then));
    }
    Ok(out)
}

/// Clears one person again at the moment of sending: the last clearance rules. `send` is the
/// message being cleared, which doesn't count against itself.
///
/// # Errors
/// When there is no such contact.
pub fn at_handover(c: &Connection, l: &mut Loaded, contact: ContactId, send: SendId, at: Instant, give_up_at: Instant) -> Result<Outcome> {
    l.rules.give_up_at = give_up_at;
    let rules = &l.rules;
    let row = row(c, contact)?;
    let channel = l.mailing.channel();
    let consent = if l.mailing.grant().is_first() { row.consent } else { ledger::stated_for(c, contact, l.mailing.grant())? };
    let counted = if rules.caps.is_empty() { Vec::new() } else { messages(c, contact, Some(send.0), at + -rules.reach(), None)? };
    let lists = suppression::naming_on(c, &l.asked, contact, at)?;
    let person = Person {
        topic_left: topic_left(c, contact, l.mailing.target.topic)?,
        series_left: series_left(c, contact, l.mailing.series)?,
        load_left_out: load_left_out(c, contact, l.mailing.leave_out)?,
        lists,
        reserved: holding(c, &l.reserving, contact)?.is_some(),
        domain_paused_until: domain_pause(c, contact, channel, at)?.map(|p| p.0),
        ..row.person((contact, channel), consent, row.status(channel), &counted)
    };
    Ok(clear(&person, rules, at))
}

/// One rule's answer about a person.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = RuleAnswer)]
pub struct Answer {
    pub reason: Reason,
    pub words: String,
    /// cleared, held or barred: what this rule alone says.
    pub says: String,
    /// What it saw.
    pub saw: String,
}

/// "May this person get the mailing at the instant?"
#[derive(Debug, Clone, Serialize, ToSchema)]
#[schema(as = ClearanceExplained)]
pub struct Explained {
    pub at: i64,
    pub outcome: String,
    pub until: Option<i64>,
    pub first: Option<Reason>,
    pub rules_version: i64,
    /// The caps and lists behind it, in words.
    pub detail: Option<String>,
    pub answers: Vec<Answer>,
    /// What can't be known any more, for an instant that is past.
    pub remarks: Vec<String>,
}

/// Asks every rule about a person and a mailing at an instant. Of the past, what is on record counts:
/// the ledger, the lists and the version of the rules as they were then.
///
/// # Errors
/// When there is no such mailing or contact.
#[allow(clippy::too_many_lines)]
pub fn explain(c: &Connection, mailing: MailingId, contact: ContactId, at: Instant, now: Instant) -> Result<Explained> {
    let m = super::mailing(c, mailing)?;
    let past = at < now;
    let version = if past { rules::at(c, at)? } else { rules::current(c)? };
    let rules = version.rules.for_mailing(&m.facts, at);
    let row = row(c, contact)?;
    let mut remarks = Vec::new();
    let channel = m.channel();
    let by_text = channel == Channel::Text;
    let consent = if past { ledger::stated_at(c, contact, m.grant(), at)? } else { ledger::stated_for(c, contact, m.grant())? };
    let (status, until, status_why) = if by_text {
        let failed = row.number_failed(past.then_some(at));
        let why = failed.map(|t| format!("the network knows no such number, since {}", t.words())).unwrap_or_default();
        (of_number(failed.is_some()), None, why)
    } else if past {
        upkeep::status::then(c, contact, at)?
    } else {
        let why = if row.status == MailStatus::Active { String::new() } else { upkeep::status::now(c, contact, at)?.why };
        (row.status, row.status_until, why)
    };
    let topic_left = match m.target.topic {
        Some(t) if past => ledger::topic_left_at(c, contact, t, at)?,
        topic => topic_left(c, contact, topic)?,
    };
    let left_series = series_left(c, contact, m.series)?;
    let (asked, lists) = suppression::naming(c, m.target, contact, at)?;
    let names: std::collections::HashMap<i64, String> = suppression::names(c)?;
    let names: Vec<String> = asked.iter().map(|id| names.get(id).cloned().unwrap_or_default()).collect();
    let own: Option<(i64, Option<i64>)> = c
        .prepare_cached("SELECT id, handed_at FROM send WHERE mailing_id = ?1 AND contact_id = ?2 ORDER BY id DESC LIMIT 1")?
        .query_row([mailing.0, contact.0], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?;
    let already = own.is_some_and(|(_, handed)| if past { handed.is_some_and(|h| h < at.millis()) } else { true });
    let counted = messages(c, contact, own.map(|o| o.0), at + -rules.reach(), past.then_some(at))?;
    if past {
        remarks.push("Profile, segments, mail load, sunset and live suppression rules are as they are today; consent, mail status, topics, lists, messages and rules are as they were.".into());
    }
    let load_left_out = load_left_out(c, contact, m.leave_out)?;
    let domain = domain_pause(c, contact, channel, at)?;
    let met = reserved::met(c, m.id, m.series, at)?;
    let reserved = holding(c, &met, contact)?;
    let person = Person {
        already_sent: already,
        topic_left,
        series_left: left_series,
        load_left_out,
        lists,
        reserved: reserved.is_some(),
        domain_paused_until: domain.as_ref().map(|d| d.0),
        ..row.person((contact, channel), consent, (status, until), &counted)
    };
    let outcome = clear(&person, &rules, at);
    let why = match outcome {
        Outcome::Cleared => None,
        Outcome::Held(_, r) | Outcome::Barred(r) => Some(r),
    };
    let marketing = m.facts.class == Class::Marketing;
    let place = row.zone.as_ref().unwrap_or(&rules.zone);
    let over: Vec<String> = rules
        .caps
        .iter()
        .map(|(_, cap)| {
            let n =
                counted.iter().filter(|x| cap.scope.covers(x.kind) && x.precedes(at, rules.rank) && cap.in_window(x.at, at, place)).count();
            format!("{n} of {}", cap.words())
        })
        .collect();
    let answers = Reason::ALL
        .into_iter()
        .map(|reason| {
            let hit = why.is_some_and(|w| w.has(reason));
            let applies = marketing
                || matches!(
                    reason,
                    Reason::NoAddress
                        | Reason::AlreadySent
                        | Reason::Retired
                        | Reason::Complained
                        | Reason::Suppressed
                        | Reason::Resting
                        | Reason::DomainPaused
                );
            let saw = match reason {
                _ if !applies => "doesn't apply to service mail".into(),
                Reason::NoAddress => match (row.present, by_text) {
                    (false, _) => "not in the base any more",
                    (_, false) => "an address",
                    (_, true) if row.phone => "a phone number",
                    (_, true) => "no phone number",
                }
                .into(),
                Reason::AlreadySent => if already { "there is a message" } else { "no message of this mailing" }.into(),
                Reason::Retired if row.sunset.is_some() && status != MailStatus::Retired => {
                    format!("sunset since {}", row.sunset.map(Instant::words).unwrap_or_default())
                }
                Reason::Retired | Reason::Resting if status_why.is_empty() => status.words().into(),
                Reason::Retired | Reason::Resting => format!("{}: {status_why}", status.words()),
                Reason::Complained if rules.complainers_too => "an approver lets it go to people who complained".into(),
                Reason::Complained | Reason::Withdrawn | Reason::NoConsent => consent.consent.words().into(),
                Reason::NotConfirmed => {
                    format!(
                        "{}, {}",
                        row.country.as_deref().unwrap_or("country unknown"),
                        if rules.must_confirm(row.country.as_deref()) { "where people must confirm" } else { "where consent is enough" }
                    )
                }
                Reason::TopicLeft => if m.target.topic.is_none() {
                    "the mailing has no topic"
                } else if topic_left {
                    "left"
                } else {
                    "not left"
                }
                .into(),
                Reason::SeriesLeft => match (m.series, left_series) {
                    (None, _) => "no step of a series",
                    (Some(_), true) => "left it",
                    (Some(_), false) => "not left",
                }
                .into(),
                Reason::Suppressed => {
                    match names.iter().enumerate().filter(|(i, _)| lists & (1 << i) != 0).map(|(_, n)| n.as_str()).collect::<Vec<_>>() {
                        on if on.is_empty() => format!("on none of {} lists", names.len()),
                        on => on.join(", "),
                    }
                }
                Reason::GlobalHoldout => if rules.holdout.is_none() {
                    "no holdout"
                } else if hit {
                    "drawn for this quarter"
                } else {
                    "not drawn"
                }
                .into(),
                Reason::Reserved => reserved.map_or_else(|| "by no trial".into(), Reserving::words),
                Reason::LoadLeftOut => if m.leave_out == 0 {
                    "the mailing leaves no cell out"
                } else if hit {
                    "in one that it leaves out"
                } else {
                    "in none that it leaves out"
                }
                .into(),
                Reason::OverCap | Reason::HeldByCap => match (rules.over_cap, reason) {
                    _ if rules.caps.is_empty() => "no cap in force covers this mailing".into(),
                    (OverCap::Exceed, _) => "an approver lets it exceed the caps".into(),
                    (OverCap::Hold, Reason::OverCap) => "the mailing holds".into(),
                    (OverCap::Skip, Reason::HeldByCap) => "the mailing skips".into(),
                    _ => over.join("; "),
                },
                Reason::HeldTooLong => format!("until {} at most", rules.give_up_at.words()),
                Reason::Paused => consent
                    .paused_until
                    .filter(|_| consent.consent == Consent::Paused)
                    .map_or_else(|| "no pause".into(), |u| format!("until {}", Instant::of(u).words())),
                Reason::OutsideHours if rules.hours.is_empty() => "no sending hours set".into(),
                Reason::OutsideHours => version.rules.hours_words(m.facts.kind),
                Reason::DomainPaused if by_text => "holds no text message".into(),
                Reason::DomainPaused => {
                    domain.as_ref().map_or_else(|| "not paused".into(), |(until, why)| format!("until {}: {why}", until.words()))
                }
            };
            let says = if !hit {
                "cleared"
            } else if reason.holds() {
                "held"
            } else {
                "barred"
            };
            Answer { reason, words: reason.words().to_owned(), says: says.into(), saw }
        })
        .collect();
    Ok(Explained {
        at: at.millis(),
        outcome: match outcome {
            Outcome::Cleared => "cleared",
            Outcome::Held(..) => "held",
            Outcome::Barred(_) => "barred",
        }
        .into(),
        until: if let Outcome::Held(until, _) = outcome { Some(until.millis()) } else { None },
        first: why.and_then(rinse_core::clearance::Reasons::first),
        rules_version: version.id,
        detail: why.and_then(|w| super::record::detail(&version, &names, w)),
        answers,
        remarks,
    })
}
