//! Composing: placeholders filled, links signed, parts and headers put together.

use crate::dkim::{KeyError, KeySigner};
use mail_builder::MessageBuilder;
use mail_builder::headers::address::Address;
use mail_builder::headers::raw::Raw;
use minijinja::{Environment, Value};
use rinse_core::id::SendId;
use rinse_core::message::{Prepared, TemplateError, bounds, engine};
use rinse_core::token::{Kind, Signer};
use rinse_core::trial::letter;
use std::collections::BTreeMap;

/// Why a message could not be made.
#[derive(Debug, thiserror::Error)]
pub enum ComposeError {
    #[error("A placeholder could not be filled: {0}")]
    Placeholder(#[from] minijinja::Error),
    #[error(transparent)]
    Template(#[from] TemplateError),
    #[error("The message could not be written: {0}")]
    Io(#[from] std::io::Error),
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// What a letterhead gives to every message.
#[derive(Debug, Clone, Default)]
pub struct Sender {
    pub name: String,
    pub address: String,
    pub postal_address: String,
    /// Where replies go; empty: `reply` at the domain of the from address.
    pub reply_to: String,
    /// Names and addresses of pages elsewhere.
    pub social: Vec<(String, String)>,
    /// Where the logo is; empty: there is none.
    pub logo_url: String,
}

/// Under which name a variant comes and where its replies go, where that isn't as the letterhead has it.
#[derive(Debug, Clone, Default)]
pub struct OwnSender {
    pub name: String,
    pub reply_to: String,
}

impl Sender {
    /// As one variant has it.
    #[must_use]
    pub fn of_variant(mut self, own: Option<&OwnSender>) -> Self {
        if let Some(own) = own {
            if !own.name.is_empty() {
                self.name.clone_from(&own.name);
            }
            if !own.reply_to.is_empty() {
                self.reply_to.clone_from(&own.reply_to);
            }
        }
        self
    }

    /// The domain of the from address.
    #[must_use]
    pub fn domain(&self) -> &str {
        self.address.rsplit_once('@').map_or("", |(_, d)| d)
    }

    /// The address that a message's replies go to: its token behind a plus sign (RFC 5233).
    fn reply_to(&self, token: &str) -> String {
        match self.reply_to.rsplit_once('@') {
            Some((local, domain)) => format!("{local}+{token}@{domain}"),
            None => format!("reply+{token}@{}", self.domain()),
        }
    }

    fn social_html(&self) -> String {
        let escape = |s: &str| minijinja::HtmlEscape(s).to_string();
        let links = self.social.iter().map(|(name, url)| format!("<a href=\"{}\">{}</a>", escape(url), escape(name)));
        links.collect::<Vec<_>>().join(" · ")
    }

    fn social_text(&self) -> String {
        self.social.iter().map(|(name, url)| format!("{name}: {url}")).collect::<Vec<_>>().join("\n")
    }
}

/// The number of an unsubscribe link that leads to leaving the series alone.
pub const LEAVE_SERIES: u32 = 1;

/// A mailing ready to be composed for many people.
pub struct Composer {
    env: Environment<'static>,
    subjects: usize,
    links: usize,
    mailing: i64,
    /// Of each variant, A first.
    senders: Vec<Sender>,
    base_url: String,
    signer: Signer,
    keys: Vec<KeySigner>,
}

/// The person a message is for; an absent value takes the placeholder's default.
#[derive(Debug, Clone, Copy)]
pub struct To<'a> {
    pub address: &'a str,
    pub given_name: Option<&'a str>,
    pub family_name: Option<&'a str>,
    pub country: Option<&'a str>,
    /// Values of custom fields, by their placeholders.
    pub own: &'a [(String, String)],
}

/// What one person sees.
#[derive(Debug, Clone)]
pub struct Shown {
    pub subject: String,
    pub html: String,
    pub text: String,
    unsubscribe: String,
}

/// A composed message with its envelope.
#[derive(Debug, Clone)]
pub struct Composed {
    pub message_id: String,
    /// Signed return path: reports about this message come back to it.
    pub return_path: String,
    pub to: String,
    pub bytes: Vec<u8>,
}

impl Composer {
    /// Compiles a mailing's templates once.
    ///
    /// # Errors
    /// When a template can't be read.
    pub fn new(
        mailing: i64,
        prepared: &Prepared,
        subjects: &[String],
        sender: Sender,
        base_url: &str,
        signer: Signer,
    ) -> Result<Self, ComposeError> {
        let mut env = engine(false);
        env.add_template_owned("body.html", prepared.html.clone())?;
        // The same placeholder is markup in one part and plain lines in the other.
        env.add_template_owned("body.txt", prepared.text.replace("social_links", "social_lines"))?;
        for (i, s) in subjects.iter().enumerate() {
            bounds::template(s)?;
            env.add_template_owned(format!("subject{i}.txt"), s.clone())?;
        }
        Ok(Self {
            env,
            subjects: subjects.len().max(1),
            links: prepared.links.len(),
            mailing,
            senders: vec![sender; subjects.len().max(1)],
            base_url: base_url.trim_end_matches('/').to_owned(),
            signer,
            keys: Vec::new(),
        })
    }

    /// Variants come under names of their own, or have their replies go elsewhere.
    #[must_use]
    pub fn sent_by(mut self, own: &[OwnSender]) -> Self {
        self.senders = self.senders.into_iter().enumerate().map(|(i, s)| s.of_variant(own.get(i))).collect();
        self
    }

    /// Signs every message with these keys, too.
    #[must_use]
    pub fn signed_by(mut self, keys: Vec<KeySigner>) -> Self {
        self.keys = keys;
        self
    }

    /// What one person sees of the message: subject, HTML and text.
    ///
    /// # Errors
    /// When a placeholder fails for this person.
    pub fn shown(&self, send: i64, arm: usize, to: To<'_>) -> Result<Shown, ComposeError> {
        let url = |what: &str, kind, n| format!("{}/{what}/{}", self.base_url, self.signer.link(kind, SendId(send), n));
        let unsubscribe = url("u", Kind::Unsubscribe, 0);
        let arm = arm.min(self.subjects - 1);
        let sender = &self.senders[arm];
        let mut values: BTreeMap<String, Value> = BTreeMap::new();
        let mut put = |name: &str, value: Option<&str>| {
            if let Some(v) = value.filter(|v| !v.is_empty()) {
                values.insert(name.to_owned(), Value::from(v));
            }
        };
        put("given_name", to.given_name);
        put("family_name", to.family_name);
        put("country", to.country);
        put("email", Some(to.address));
        for (name, value) in to.own {
            put(name, Some(value));
        }
        put("logo_url", Some(&sender.logo_url));
        put("postal_address", Some(&sender.postal_address));
        put("sender_name", Some(&sender.name));
        put("variant", Some(&letter(arm).to_string()));
        // Our own links hold nothing that needs escaping, and stay readable in the source.
        let mut put_link = |name: String, link: String| values.insert(name, Value::from_safe_string(link));
        put_link("unsubscribe_url".into(), unsubscribe.clone());
        put_link("preferences_url".into(), url("p", Kind::Preferences, 0));
        put_link("leave_series_url".into(), url("u", Kind::Unsubscribe, LEAVE_SERIES));
        put_link("go_on_url".into(), url("g", Kind::GoOn, 0));
        let variant = u32::try_from(arm).unwrap_or(0);
        put_link("share_url".into(), format!("{}/s/{}", self.base_url, self.signer.link(Kind::Share, SendId(self.mailing), variant)));
        put_link("social_links".into(), sender.social_html());
        put_link("social_lines".into(), sender.social_text());
        put_link("open_url".into(), url("o", Kind::Open, 0));
        for n in 0..self.links {
            put_link(format!("link_{n}"), url("c", Kind::Click, u32::try_from(n).unwrap_or(0)));
        }
        let values = Value::from(values);
        let render = |name: &str| -> Result<String, ComposeError> { Ok(self.env.get_template(name)?.render(&values)?) };
        let subject = render(&format!("subject{}.txt", arm))?.replace(['\r', '\n'], " ");
        Ok(Shown { subject, html: render("body.html")?, text: render("body.txt")?, unsubscribe })
    }

    /// The message for one person and one send.
    ///
    /// # Errors
    /// When a placeholder fails for this person.
    pub fn compose(&self, send: i64, arm: usize, to: To<'_>, at_seconds: i64) -> Result<Composed, ComposeError> {
        let Shown { subject, html, text, unsubscribe } = self.shown(send, arm, to)?;
        let sender = &self.senders[arm.min(self.subjects - 1)];
        let domain = sender.domain();
        let message_id = format!("{}@{domain}", self.signer.message(SendId(send)));
        let return_path = format!("back+{}@{domain}", self.signer.mailbox(Kind::Return, SendId(send)));
        let reply_to = sender.reply_to(&self.signer.mailbox(Kind::Reply, SendId(send)));
        let mut bytes = MessageBuilder::new()
            .from((sender.name.as_str(), sender.address.as_str()))
            .to(Address::new_address(None::<&str>, to.address))
            .reply_to(reply_to.as_str())
            .subject(subject)
            .date(at_seconds)
            .message_id(message_id.as_str())
            .header("List-Unsubscribe", Raw::new(format!("<{unsubscribe}>")))
            .header("List-Unsubscribe-Post", Raw::new("List-Unsubscribe=One-Click"))
            .text_body(text)
            .html_body(html)
            .write_to_vec()?;
        for key in &self.keys {
            bytes = key.sign(bytes)?;
        }
        Ok(Composed { message_id, return_path, to: to.address.to_owned(), bytes })
    }
}

/// A message as anybody may see it: placeholders with their defaults, links as they were written, nothing that
/// tells who opened it. Where the recipient's own links stood, `sign_up` stands.
///
/// # Errors
/// When the template can't be read.
pub fn shared(html: &str, (subject, arm): (&str, usize), sender: &Sender, sign_up: &str, own: &str) -> Result<String, ComposeError> {
    bounds::template(subject)?;
    let mut env = engine(false);
    env.add_template("body.html", html)?;
    env.add_template("subject.txt", subject)?;
    let link = |l: &str| Value::from_safe_string(l.to_owned());
    let values = BTreeMap::from([
        ("postal_address", Value::from(sender.postal_address.as_str())),
        ("sender_name", Value::from(sender.name.as_str())),
        ("variant", Value::from(letter(arm).to_string())),
        ("social_links", link(&sender.social_html())),
        ("logo_url", Value::from(sender.logo_url.as_str())),
        ("unsubscribe_url", link(sign_up)),
        ("preferences_url", link(sign_up)),
        ("leave_series_url", link(sign_up)),
        ("go_on_url", link(sign_up)),
        ("share_url", link(own)),
    ]);
    let values = Value::from(values.into_iter().map(|(k, v)| (k.to_owned(), v)).collect::<BTreeMap<String, Value>>());
    let subject = env.get_template("subject.txt")?.render(&values)?;
    let body = env.get_template("body.html")?.render(&values)?;
    let title = format!("<title>{}</title>", minijinja::HtmlEscape(&subject));
    let lower = body.to_ascii_lowercase();
    // A message of its own keeps its head; one without gets one.
    Ok(if lower.contains("<title") {
        body
    } else if let Some(at) = lower.find("</head>") {
        format!("{}{title}{}", &body[..at], &body[at..])
    } else {
        let meta =
            "<meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\"><meta name=\"robots\" content=\"noindex\">";
        format!("<!doctype html><html lang=\"en\"><head>{meta}{title}</head>{body}</html>")
    })
}

/// A short message of our own that belongs to no mailing: an invitation to confirm, a letter to the team.
#[derive(Debug, Clone)]
pub struct Note<'a> {
    pub to: &'a str,
    pub subject: &'a str,
    pub text: &'a str,
    pub html: &'a str,
    /// Its own, before the signed part of its message number.
    pub number: &'a str,
    /// The signed part of its message number and return path.
    pub token: &'a str,
    /// The name of a PDF, and the PDF.
    pub attached: Option<(&'a str, &'a [u8])>,
}

/// Composes a note and signs it with the keys of its letterhead.
///
/// # Errors
/// When it can't be written.
pub fn note(sender: &Sender, note: &Note<'_>, keys: &[KeySigner], at_seconds: i64) -> Result<Composed, ComposeError> {
    let domain = sender.domain();
    let (message_id, return_path) = (format!("{}.{}@{domain}", note.number, note.token), format!("back+{}@{domain}", note.token));
    let mut message = MessageBuilder::new()
        .from((sender.name.as_str(), sender.address.as_str()))
        .to(Address::new_address(None::<&str>, note.to))
        .subject(note.subject.replace(['\r', '\n'], " "))
        .date(at_seconds)
        .message_id(message_id.as_str())
        // Nobody's holiday reply should answer it (RFC 3834).
        .header("Auto-Submitted", Raw::new(if note.attached.is_some() { "auto-generated" } else { "auto-replied" }))
        .text_body(note.text)
        .html_body(note.html);
    if let Some((name, pdf)) = note.attached {
        message = message.attachment("application/pdf", name, pdf);
    }
    let mut bytes = message.write_to_vec()?;
    for key in keys {
        bytes = key.sign(bytes)?;
    }
    Ok(Composed { message_id, return_path, to: note.to.to_owned(), bytes })
}

#[cfg(test)]
mod tests {
    use super::*;
    use mail_parser::{HeaderValue, MessageParser};
    use rinse_core::message::prepare;

    /// A letter to the team has its PDF, says that no person wrote it, and is signed as all mail of its letterhead.
    #[test]
    fn a_note_carries_its_pdf_and_the_letterheads_signature() {
        let sender = Sender { name: "Skerry Light".into(), address: "post@skerry-light.example".into(), ..Sender::default() };
        let (private, _) = crate::dkim::new_key(crate::dkim::Algorithm::Ed25519).unwrap();
        let key = KeySigner::new(crate::dkim::Algorithm::Ed25519, &private, "skerry-light.example", "s1").unwrap();
        let letter = Note {
            to: "ines@gull.example",
            subject: "Monday letter\r\nBcc: all@gull.example",
            text: "26.8% opened",
            html: "<p>26.8% opened</p>",
            number: "letter-7",
            token: "t",
            attached: Some(("Monday-letter.pdf", b"%PDF-1.7")),
        };
        let m = note(&sender, &letter, &[key], 1_700_000_000).unwrap();
        let parsed = MessageParser::default().parse(&m.bytes).unwrap();
        assert_eq!(parsed.subject(), Some("Monday letter  Bcc: all@gull.example"));
        let pdf = parsed.attachment(0).unwrap();
        assert_eq!((pdf.contents(), parsed.attachment_count()), (&b"%PDF-1.7"[..], 1));
        assert_eq!(parsed.header_raw("Auto-Submitted").map(str::trim), Some("auto-generated"));
        assert!(parsed.header_raw("DKIM-Signature").is_some_and(|s| s.contains("d=skerry-light.example")));
    }

    #[test]
    fn an_independent_parser_reads_back_parts_headers_and_links() {
        let signer = Signer::new(b"k");
        let html = "<body><p>Hello {{ given_name|default(\"friend\") }}</p><a href=\"https://skerry-light.example/b?x=1&amp;y=2\">Book</a> {{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Leave</a></body>";
        let prepared =
            prepare(html, "Hello {{ given_name|default(\"friend\") }}: https://skerry-light.example/b?x=1&y=2 {{ unsubscribe_url }}")
                .unwrap();
        let sender = Sender {
            name: "Skerry Light".into(),
            address: "post@skerry-light.example".into(),
            postal_address: "1 Quay & Co".into(),
            ..Sender::default()
        };
        let c = Composer::new(
            3,
            &prepared,
            &["Tide, {{ given_name|default(\"friend\") }}: é".into()],
            sender,
            "http://127.0.0.1:1",
            signer.clone(),
        )
        .unwrap();
        let to = To { address: "wren@tern.example", given_name: Some("<Wren>"), family_name: None, country: None, own: &[] };
        let m = c.compose(7, 0, to, 1_700_000_000).unwrap();
        let parsed = MessageParser::default().parse(&m.bytes).unwrap();
        assert_eq!(parsed.subject(), Some("Tide, <Wren>: é"));
        assert_eq!(parsed.message_id(), Some(m.message_id.as_str()));
        assert_eq!(parsed.header_raw("List-Unsubscribe-Post").map(str::trim), Some("List-Unsubscribe=One-Click"));
        assert!(
            matches!(parsed.header("Content-Type"), Some(HeaderValue::ContentType(t)) if t.c_subtype.as_deref() == Some("alternative"))
        );
        let (html, text) = (parsed.body_html(0).unwrap(), parsed.body_text(0).unwrap());
        assert!(html.contains("Hello &lt;Wren&gt;") && html.contains("1 Quay &amp; Co") && text.contains("Hello <Wren>"));
        let token = html.split("/c/").nth(1).unwrap().split('"').next().unwrap();
        assert_eq!(signer.read_link(Kind::Click, token), Some((7, 0)));
        assert!(html.contains("/o/") && text.contains("/u/"));
        let mailbox = m.return_path.strip_prefix("back+").unwrap().split('@').next().unwrap();
        assert_eq!(signer.read_mailbox(Kind::Return, mailbox), Some(7));
        assert_eq!(parsed.from().and_then(|f| f.first()).and_then(|f| f.name()), Some("Skerry Light"));
        let own = OwnSender { name: "Ines of Skerry Light".into(), reply_to: "boats@skerry-light.example".into() };
        let c = c.sent_by(&[own]);
        let m = c.compose(7, 0, to, 0).unwrap();
        let parsed = MessageParser::default().parse(&m.bytes).unwrap();
        let (from, reply) = (parsed.from().and_then(|a| a.first()).unwrap(), parsed.reply_to().and_then(|a| a.first()).unwrap());
        assert_eq!(from.name(), Some("Ines of Skerry Light"));
        assert_eq!(from.address(), Some("post@skerry-light.example"), "the address is the letterhead's, so it stays aligned");
        assert!(reply.address().unwrap().starts_with("boats+"));
        let nameless = c.compose(8, 0, To { given_name: None, ..to }, 0).unwrap();
        let nameless = MessageParser::default().parse(&nameless.bytes).unwrap();
        assert!(nameless.body_text(0).unwrap().contains("Hello friend"));
    }
}
