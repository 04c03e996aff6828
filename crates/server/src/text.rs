//! Text messages from drafts: checked, shown as somebody would get them, made for each person.

use crate::composing::{Somebody, TextComposer, refused};
use crate::gateway::TextMessage;
use crate::state::App;
use rinse_core::Instant;
use rinse_core::caps::Kind as Counted;
use rinse_core::channel::Channel;
use rinse_core::hours::first_all_open;
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::message::{CONTACT_PLACEHOLDERS, Finding, Level};
use rinse_core::text::{Size, Template, TextDraft, check, size, unreadable};
use rinse_core::zone;
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::{Connection, Result, clearing, letterheads, rules};

/// People that a draft is filled for, to see how long it gets.
const FILLED: usize = 500;

/// A draft as one person would get it, and how long that is.
pub(crate) fn shown(c: &Connection, app: &App, d: &MailingDraft, contact: Option<ContactId>) -> Result<(String, Size)> {
    let l = letterheads::one(c, d.letterhead_id)?;
    let composer = TextComposer::new(c, (app.base_url(), &app.signer), d, &l)?;
    let who = Somebody::read(c, contact, &composer.own)?;
    let text = composer.fill(SendId(0), who.to()).map_err(|e| refused(&e))?;
    Ok((text.clone(), size(&text)))
}

/// A draft for a phone of the team, filled with somebody's values. It belongs to no send.
pub(crate) fn tried(
    c: &Connection,
    app: &App,
    d: &MailingDraft,
    contact: Option<ContactId>,
    (to, test): (&str, i64),
) -> Result<TextMessage> {
    let l = letterheads::one(c, d.letterhead_id)?;
    if l.text_number.is_empty() {
        return Err(refused(&"The letterhead has no number for text messages. Add it to the letterhead first."));
    }
    let (text, _) = shown(c, app, d, contact)?;
    // No send has such a number; each test its own, since gateways take a known number for the same message.
    Ok(TextMessage { id: app.signer.message(SendId(-test)), from: l.text_number, to: to.to_owned(), text })
}

/// The check of a text message against those of its audience who would get it now.
pub(crate) fn check_draft(c: &Connection, app: &App, d: &MailingDraft, mailing: Option<MailingId>, now: Instant) -> Result<Vec<Finding>> {
    let l = letterheads::one(c, d.letterhead_id)?;
    let own = mailings::own_placeholders(c)?;
    let getting = clearing::draft(c, d, mailing, now)?.getting();
    let used: Vec<(String, i64)> = own.iter().filter(|(name, _)| d.text.contains(name.as_str())).cloned().collect();
    let asked: Vec<&str> = CONTACT_PLACEHOLDERS.into_iter().filter(|name| d.text.contains(name)).collect();
    let missing = mailings::missing(c, &getting, &asked, &used)?;
    let mut draft = TextDraft {
        body: d.text.clone(),
        sender_name: l.from_name.clone(),
        number: l.text_number.clone(),
        service: !d.service_reason.trim().is_empty(),
        own: own.into_iter().map(|(name, _)| name).collect(),
        over_hours: d.schedule.over_hours(),
        parts: Vec::new(),
    };
    let mut found = Vec::new();
    match TextComposer::new(c, (app.base_url(), &app.signer), d, &l) {
        Ok(composer) => draft.parts = parts(c, &composer, &getting)?,
        Err(_) => {
            if let Err(e) = Template::new(&d.text) {
                return Ok(vec![unreadable(&e)]);
            }
        }
    }
    found.extend(check(&draft, &missing, getting.len() as u64));
    if !app.engine.has_text_gateway() {
        let words = "No text gateway is set up, so nothing can be handed over. Start Rinse with --text-gateway, as the guide says.";
        found.push(Finding { level: Level::Error, part: "letterhead".into(), line: None, words: words.into(), fix: None });
    }
    let kind = Counted { channel: 2, letterhead: u32::try_from(l.id.0).unwrap_or(0), ..Counted::default() };
    let hours = rules::current(c)?.rules.hours_for(kind);
    let zone = zone::named(&l.zone).unwrap_or(zone::TimeZone::UTC);
    if !draft.service && first_all_open(&hours, now, &zone).millis() == i64::MAX {
        let words = "The letterhead's sending hours lie within the quiet hours of text messages: nobody would ever get it. Change one of them in the rules.";
        found.push(Finding { level: Level::Error, part: "letterhead".into(), line: None, words: words.into(), fix: None });
    }
    found.sort_by_key(|f| f.level != Level::Error);
    Ok(found)
}

/// In how many parts people would get it, of some drawn evenly from those who get it.
fn parts(c: &Connection, composer: &TextComposer, getting: &[ContactId]) -> Result<Vec<u64>> {
    let mut counts = Vec::new();
    for contact in getting.iter().step_by(getting.len().div_ceil(FILLED).max(1)) {
        let who = Somebody::read(c, Some(*contact), &composer.own)?;
        // Who lacks what has no default is found by the placeholders' own check.
        let Ok(text) = composer.fill(SendId(0), who.to()) else { continue };
        let parts = size(&text).parts.max(1);
        if counts.len() < parts {
            counts.resize(parts, 0);
        }
        counts[parts - 1] += 1;
    }
    Ok(counts)
}

/// Is a draft a text message?
pub(crate) fn is_one(d: &MailingDraft) -> bool {
    d.channel == Channel::Text
}
