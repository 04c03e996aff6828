//! Messages from drafts: built, checked, shown as somebody would see them, tried out.

use crate::state::App;
use crate::text;
use rinse_core::Instant;
use rinse_core::delivery::authentication::Check;
use rinse_core::message::{self, Draft, Finding, Link, Prepared, check_finished, prepare};
use rinse_core::trial::metric::Metric;
use rinse_post::compose::{Composed, Composer, OwnSender, Sender, Shown, To};
use rinse_post::dkim::{self, Algorithm, KeySigner};
use rinse_post::finished;
use rinse_post::source::{self, Built, Format, Source};
use rinse_store::delivery::names;
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::mailings::{self, Mailing, MailingDraft};
use rinse_store::{Connection, Result, StoreError, clearing, contacts, images};

pub(crate) fn refused(e: &dyn std::fmt::Display) -> StoreError {
    StoreError::Refused(e.to_string())
}

/// A draft built under its letterhead. It takes its time, so the writer never does it: everybody who leaves would wait.
pub(crate) fn built(d: &MailingDraft, l: &Letterhead) -> std::result::Result<Built, message::TemplateError> {
    if rinse_store::writer::is_this_thread() {
        tracing::error!("a message was to be built while everybody waits for the writer");
        return Err(message::TemplateError { line: None, words: "The message can’t be built here.".into() });
    }
    let format = if d.format == "markdown" { Format::Markdown } else { Format::Html };
    source::build(&Source { format, body: &d.html, text: &d.text, preheader: &d.preheader, colours: [&l.ground, &l.ink, &l.accent] })
}

/// What a letterhead gives to its messages.
pub(crate) fn sender(c: &Connection, l: &Letterhead, base_url: &str) -> Result<Sender> {
    let logo = l.logo_id.map(|id| images::key(c, id)).transpose()?.flatten();
    Ok(Sender {
        name: l.from_name.clone(),
        address: l.from_address.clone(),
        postal_address: l.postal_address.clone(),
        reply_to: l.reply_to.clone(),
        social: l.social.iter().map(|s| (s.name.clone(), s.url.clone())).collect(),
        logo_url: logo.map(|key| format!("{}/m/{key}", base_url.trim_end_matches('/'))).unwrap_or_default(),
    })
}

/// The keys that sign a letterhead's mail now.
pub(crate) fn signers(c: &Connection, l: &Letterhead) -> Result<Vec<KeySigner>> {
    letterheads::keys(c, l.id)?
        .iter()
        .filter(|k| k.ended_at.is_none() && k.domain == l.domain())
        .map(|k| {
            let algorithm =
                Algorithm::from_code(&k.algorithm).ok_or_else(|| StoreError::Refused("A signing key is of no known kind.".into()))?;
            KeySigner::new(algorithm, &k.private, &k.domain, &k.selector).map_err(|e| refused(&e))
        })
        .collect()
}

/// Links as they count, or as they were written.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Links {
    Counted,
    Plain,
}

/// The composer of a draft that was built, and the fields of one's own that it asks for.
fn composer(
    c: &Connection,
    app: (&str, &rinse_core::token::Signer),
    mailing: i64,
    (d, b): (&MailingDraft, Built),
    l: &Letterhead,
    links: Links,
) -> Result<(Composer, Vec<(String, i64)>)> {
    let (base_url, signer) = app;
    mailings::draft::check_senders(d)?;
    let own = own_used(c, d, &b)?;
    let prepared = match links {
        Links::Counted => prepare(&b.html, &b.text).map_err(|e| refused(&e))?,
        Links::Plain => Prepared { html: b.html, text: b.text, links: Vec::<Link>::new() },
    };
    let composer =
        Composer::new(mailing, &prepared, &d.subjects, sender(c, l, base_url)?, base_url, signer.clone()).map_err(|e| refused(&e))?;
    Ok((composer.sent_by(&own_senders(d)).signed_by(signers(c, l)?), own))
}

/// Who the variants of a draft come from, where that isn't as the letterhead has it.
pub(crate) fn own_senders(d: &MailingDraft) -> Vec<OwnSender> {
    d.senders.iter().map(|s| OwnSender { name: s.name.trim().to_owned(), reply_to: s.reply_to.trim().to_owned() }).collect()
}

/// The fields of one's own whose placeholders stand in a draft.
fn own_used(c: &Connection, d: &MailingDraft, b: &Built) -> Result<Vec<(String, i64)>> {
    let all = format!("{}\n{}\n{}", d.subjects.join("\n"), b.html, b.text);
    Ok(mailings::own_placeholders(c)?.into_iter().filter(|(name, _)| all.contains(name.as_str())).collect())
}

/// Somebody of the base, as a message addresses them.
pub(crate) struct Somebody {
    address: String,
    given_name: Option<String>,
    family_name: Option<String>,
    country: Option<String>,
    own: Vec<(String, String)>,
}

impl Somebody {
    /// None: nobody in particular, so that every default shows.
    pub(crate) fn read(c: &Connection, contact: Option<i64>, own: &[(String, i64)]) -> Result<Self> {
        let Some(id) = contact else {
            return Ok(Self {
                address: "somebody@tern.example".into(),
                given_name: None,
                family_name: None,
                country: None,
                own: Vec::new(),
            });
        };
        let (address, p) = contacts::addressed(c, id)?;
        let own = mailings::own_values(c, id, own)?;
        Ok(Self { address, given_name: p.given_name, family_name: p.family_name, country: p.country, own })
    }

    pub(crate) fn to(&self) -> To<'_> {
        To {
            address: &self.address,
            given_name: self.given_name.as_deref(),
            family_name: self.family_name.as_deref(),
            country: self.country.as_deref(),
            own: &self.own,
        }
    }
}

/// A draft as one person would see it; its links are as they were written.
pub(crate) fn shown(c: &Connection, app: &App, d: &MailingDraft, arm: usize, contact: Option<i64>) -> Result<Shown> {
    let l = letterheads::one(c, d.letterhead_id)?;
    let b = built(d, &l).map_err(|e| refused(&e))?;
    let (composer, own) = composer(c, (app.base_url(), &app.signer), 0, (d, b), &l, Links::Plain)?;
    let who = Somebody::read(c, contact, &own)?;
    composer.shown(0, arm, who.to()).map_err(|e| refused(&e))
}

/// A draft as a whole message for one person, addressed to `to` when it is given. It belongs to no send: no figure counts
/// what is done with it.
pub(crate) fn tried(
    c: &Connection,
    app: &App,
    d: &MailingDraft,
    arm: usize,
    contact: Option<i64>,
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
    contact: Option<i64>,
    to: Option<(&str, i64)>,
) -> Result<Composed> {
    let mut d = d.clone();
    if to.is_some() {
        for s in &mut d.subjects {
            *s = format!("[Test] {s}");
        }
    }
    let (composer, own) = composer(c, (app.base_url(), &app.signer), 0, (&d, b), l, Links::Plain)?;
    let mut who = Somebody::read(c, contact, &own)?;
    if let Some((to, _)) = to {
        to.clone_into(&mut who.address);
    }
    // No send has such a number; each test its own, since hosts take a message with a known number for the same.
    let send = to.map_or(0, |(_, test)| -test);
    composer.compose(send, arm, who.to(), app.now().0 / 1000).map_err(|e| refused(&e))
}

/// What is known of a draft that is checked.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Asked {
    /// Its number, when it has one.
    pub(crate) mailing: Option<i64>,
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

/// The composer of a mailing that is on its way.
pub(crate) fn composer_of(
    c: &Connection,
    base_url: &str,
    signer: &rinse_core::token::Signer,
    m: &Mailing,
) -> Result<(Composer, Vec<(String, i64)>)> {
    let l = letterheads::of_mailing(c, m.id)?;
    let b = built(&m.draft, &l).map_err(|e| refused(&e))?;
    composer(c, (base_url, signer), m.id, (&m.draft, b), &l, Links::Counted)
}
