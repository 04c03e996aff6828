//! Messages from drafts: built, checked, shown as somebody would see them, tried out.

use crate::composing::{built, own_used, plain, refused};
use crate::state::App;
use crate::text;
use rinse_core::Instant;
use rinse_core::delivery::authentication::Check;
use rinse_core::id::{ContactId, MailingId};
use rinse_core::message::{self, Draft, Finding, check_finished};
use rinse_core::trial::metric::Metric;
use rinse_post::compose::{Composed, Shown};
use rinse_post::dkim::{self, Algorithm};
use rinse_post::finished;
use rinse_post::source::Built;
use rinse_store::delivery::names;
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::{Connection, Result, clearing};

/// A draft as one person would see it; its links are as they were written.
pub(crate) fn shown(c: &Connection, app: &App, d: &MailingDraft, arm: usize, contact: Option<ContactId>) -> Result<Shown> {
    let l = letterheads::one(c, d.letterhead_id)?;
    let b = built(d, &l).map_err(|e| refused(&e))?;
    let (composer, who) = plain(c, (app.base_url(), &app.signer), (d, b), &l, contact)?;
    composer.shown(0, arm, who.to()).map_err(|e| refused(&e))
}

/// A draft as a whole message for one person, addressed to `to` when it is given. It belongs to no send: no figure counts
/// what is done with it.
pub(crate) fn tried(
    c: &Connection,
    app: &App,
    d: &MailingDraft,
    arm: usize,
    contact: Option<ContactId>,
    to: Option<(&str, i64)>,
) -> Result<Composed> {
    let l = letterheads::one(c, d.letterhead_id)?;
    let b = built(d, &l).map_err(|e| refused(&e))?;
    made(c, app, (d, b), &l, arm, contact, to)
}

/// As [`tried`], of a draft that was built.
fn made(
    c: &Connection,
    app: &App,
    (d, b): (&MailingDraft, Built),
    l: &Letterhead,
    arm: usize,
    contact: Option<ContactId>,
    to: Option<(&str, i64)>,
) -> Result<Composed> {
    let mut d = d.clone();
    if to.is_some() {
        for s in &mut d.subjects {
            *s = format!("[Test] {s}");
        }
    }
    let (composer, mut who) = plain(c, (app.base_url(), &app.signer), (&d, b), l, contact)?;
    if let Some((to, _)) = to {
        to.clone_into(&mut who.address);
    }
    // No send has such a number; each test its own, since hosts take a message with a known number for the same.
    let send = to.map_or(0, |(_, test)| -test);
    composer.compose(send, arm, who.to(), app.now().millis() / 1000).map_err(|e| refused(&e))
}

/// What is known of a draft that is checked.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Asked {
    /// Its number, when it has one.
    pub(crate) mailing: Option<MailingId>,
    /// What its trial counts.
    pub(crate) metric: Option<Metric>,
    /// It is to be a step of a series, and isn't yet.
    pub(crate) in_series: bool,
}

/// The message check of a draft against those of its audience who would get it now: what was written, and the whole
/// message that comes of it.
pub(crate) fn check_draft(c: &Connection, app: &App, d: &MailingDraft, asked: Asked, now: Instant) -> Result<Vec<Finding>> {
    let Asked { mailing, metric, in_series } = asked;
    let round = mailing.map(|id| rinse_store::hour_trials::round_of(c, id)).transpose()?.flatten();
    let metric = metric.or(round.as_ref().map(|(_, plan)| plan.metric));
    if text::is_one(d) {
        return text::check_draft(c, app, d, mailing, now);
    }
    let l = letterheads::one(c, d.letterhead_id)?;
    let own = mailings::own_placeholders(c)?;
    let b = match built(d, &l) {
        Ok(b) => b,
        Err(e) => return Ok(vec![Finding { level: message::Level::Error, part: "html".into(), line: e.line, words: e.words, fix: None }]),
    };
    let used = own_used(c, d, &b)?;
    // Those barred get nothing, so what they lack is no matter; those held get it later.
    let getting = clearing::draft(c, d, mailing, now)?.getting();
    let all = format!("{}\n{}\n{}\n{}", d.subjects.join("\n"), d.preheader, b.html, b.text);
    let asked: Vec<&str> = message::CONTACT_PLACEHOLDERS.into_iter().filter(|name| all.contains(name)).collect();
    let missing = mailings::missing(c, &getting, &asked, &used)?;
    let service = !d.service_reason.trim().is_empty();
    let series = in_series
        || match mailing {
            Some(id) => mailings::one(c, id)?.series_id.is_some(),
            None => false,
        };
    let draft = Draft {
        series,
        subjects: d.subjects.clone(),
        senders: d.senders.iter().map(|s| (s.name.clone(), s.reply_to.clone())).collect(),
        preheader: d.preheader.clone(),
        source: d.html.clone(),
        html: b.html.clone(),
        text: b.text.clone(),
        derived: b.derived,
        postal_address: l.postal_address.clone(),
        service,
        own: own.into_iter().map(|(name, _)| name).collect(),
        over_hours: d.schedule.over_hours(),
        hours_drawn: round.is_some(),
        metric,
    };
    let mut found = message::check(&draft, &missing, getting.len() as u64);
    // A message can only be made of a draft whose placeholders can be read; of that, what isn't known yet is about its headers.
    if let Ok(m) = made(c, app, (d, b), &l, 0, None, None)
        && let Some(finished) = finished::read(&m.bytes)
    {
        let finished = message::Finished { return_domain: m.return_path.rsplit_once('@').map(|(_, d)| d.to_owned()), ..finished };
        found.extend(check_finished(&finished, service).into_iter().filter(|f| f.part == "headers" && !f.words.contains("subject")));
    }
    found.extend(unpublished(c, app, &l)?);
    // What hosts wouldn't find of us, as DNS was looked at last.
    let told = [Check::Spf, Check::Dmarc, Check::ReverseName, Check::Replies];
    for line in names::wrong_with(c, l.id)?.into_iter().filter(|w| told.contains(&w.check)) {
        let words = format!("{}: {} See Authentication in Delivery.", line.check.words(), line.words);
        found.push(Finding { level: message::Level::Warning, part: "letterhead".into(), line: None, words, fix: None });
    }
    found.sort_by_key(|f| f.level != message::Level::Error);
    Ok(found)
}

/// A key whose record isn't in DNS, or is another: hosts would take the signature for a forged one.
fn unpublished(c: &Connection, app: &App, l: &Letterhead) -> Result<Option<Finding>> {
    for key in letterheads::keys(c, l.id)?.iter().filter(|k| k.ended_at.is_none()) {
        if key_found(app, key) == Some(false) {
            let words = format!(
                "The DNS record of the signing key {} isn't there, or is another: hosts would take the signature for a forged one. Publish it as the letterhead says.",
                key.selector
            );
            return Ok(Some(Finding { level: message::Level::Error, part: "letterhead".into(), line: None, words, fix: None }));
        }
    }
    Ok(None)
}

/// Is a key's record in DNS, as it should be? None: nobody can be asked.
pub(crate) fn key_found(app: &App, key: &letterheads::SigningKey) -> Option<bool> {
    let algorithm = Algorithm::from_code(&key.algorithm)?;
    let found = app.txt(&dkim::record_name(&key.selector, &key.domain))?;
    Some(found.iter().any(|r| dkim::record_fits(r, algorithm, &key.public)))
}

/// What a placeholder is, for completing one as it is typed.
pub(crate) fn placeholders(c: &Connection) -> Result<Vec<String>> {
    let own = mailings::own_placeholders(c)?;
    Ok(message::placeholders(own.iter().map(|(name, _)| name.as_str())).map(str::to_owned).collect())
}
