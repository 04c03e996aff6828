//! Drafts made ready for many people: letters and text messages, with what their letterhead gives to them. It needs no running application.

use crate::gateway::TextMessage;
use rinse_core::id::{ContactId, MailingId, SendId};
use rinse_core::message::{self, Link, Prepared, prepare};
use rinse_core::text::Template;
use rinse_core::token::{Kind, Signer};
use rinse_post::compose::{Composer, OwnSender, Sender, To};
use rinse_post::dkim::{Algorithm, KeySigner};
use rinse_post::source::{self, Built, Format, Source};
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::mailings::{self, Mailing, MailingDraft};
use rinse_store::{Connection, Result, StoreError, contacts, images};

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

/// The composer of a draft that was built, and the custom fields that it asks for.
pub(crate) fn composer(
    c: &Connection,
    app: (&str, &Signer),
    mailing: MailingId,
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
        Composer::new(mailing.0, &prepared, &d.subjects, sender(c, l, base_url)?, base_url, signer.clone()).map_err(|e| refused(&e))?;
    Ok((composer.sent_by(&own_senders(d)).signed_by(signers(c, l)?), own))
}

/// The composer of a draft's message that belongs to no send, whose links count nothing, and somebody to address it to.
pub(crate) fn plain(
    c: &Connection,
    app: (&str, &Signer),
    draft: (&MailingDraft, Built),
    l: &Letterhead,
    contact: Option<ContactId>,
) -> Result<(Composer, Somebody)> {
    let (composer, own) = composer(c, app, MailingId(0), draft, l, Links::Plain)?;
    Ok((composer, Somebody::read(c, contact, &own)?))
}

/// Who the variants of a draft come from, where that isn't as the letterhead has it.
pub(crate) fn own_senders(d: &MailingDraft) -> Vec<OwnSender> {
    d.senders.iter().map(|s| OwnSender { name: s.name.trim().to_owned(), reply_to: s.reply_to.trim().to_owned() }).collect()
}

/// The custom fields whose placeholders stand in a draft.
pub(crate) fn own_used(c: &Connection, d: &MailingDraft, b: &Built) -> Result<Vec<(String, i64)>> {
    let all = format!("{}\n{}\n{}", d.subjects.join("\n"), b.html, b.text);
    Ok(mailings::own_placeholders(c)?.into_iter().filter(|(name, _)| all.contains(name.as_str())).collect())
}

/// Somebody of the base, as a message addresses them.
pub(crate) struct Somebody {
    pub(crate) address: String,
    given_name: Option<String>,
    family_name: Option<String>,
    country: Option<String>,
    own: Vec<(String, String)>,
}

impl Somebody {
    /// None: nobody in particular, so that every default shows.
    pub(crate) fn read(c: &Connection, contact: Option<ContactId>, own: &[(String, i64)]) -> Result<Self> {
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

/// The composer of a mailing that is on its way.
pub(crate) fn composer_of(c: &Connection, base_url: &str, signer: &Signer, m: &Mailing) -> Result<(Composer, Vec<(String, i64)>)> {
    let l = letterheads::of_mailing(c, m.id)?;
    let b = built(&m.draft, &l).map_err(|e| refused(&e))?;
    composer(c, (base_url, signer), m.id, (&m.draft, b), &l, Links::Counted)
}

/// A text message ready for many people.
pub(crate) struct TextComposer {
    template: Template,
    sender: String,
    number: String,
    base_url: String,
    signer: Signer,
    /// The custom fields that it shows.
    pub(crate) own: Vec<(String, i64)>,
}

impl TextComposer {
    pub(crate) fn new(c: &Connection, (base_url, signer): (&str, &Signer), d: &MailingDraft, l: &Letterhead) -> Result<Self> {
        let own = mailings::own_placeholders(c)?.into_iter().filter(|(name, _)| d.text.contains(name.as_str())).collect();
        Ok(Self {
            template: Template::new(&d.text).map_err(|e| refused(&e))?,
            sender: l.from_name.clone(),
            number: l.text_number.clone(),
            base_url: base_url.trim_end_matches('/').to_owned(),
            signer: signer.clone(),
            own,
        })
    }

    /// Of a mailing that is on its way.
    pub(crate) fn of(c: &Connection, base_url: &str, signer: &Signer, m: &Mailing) -> Result<Self> {
        Self::new(c, (base_url, signer), &m.draft, &letterheads::of_mailing(c, m.id)?)
    }

    pub(crate) fn fill(&self, send: SendId, to: To<'_>) -> std::result::Result<String, message::TemplateError> {
        let preferences = format!("{}/p/{}", self.base_url, self.signer.link(Kind::Preferences, send, 0));
        let fixed = [
            ("given_name", to.given_name.unwrap_or_default()),
            ("family_name", to.family_name.unwrap_or_default()),
            ("country", to.country.unwrap_or_default()),
            ("email", to.address),
            ("sender_name", &self.sender),
            ("preferences_url", &preferences),
        ];
        self.template.fill(to.own.iter().map(|(name, value)| (name.as_str(), value.as_str())).chain(fixed))
    }

    /// The message for one person and one send.
    pub(crate) fn compose(&self, send: SendId, phone: &str, to: To<'_>) -> std::result::Result<TextMessage, message::TemplateError> {
        Ok(TextMessage { id: self.signer.message(send), from: self.number.clone(), to: phone.to_owned(), text: self.fill(send, to)? })
    }
}
