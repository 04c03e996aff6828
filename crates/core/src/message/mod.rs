//! A message before it goes: its parts, its placeholders, its links, and what must hold of it.

pub mod bounds;
mod check;
mod finished;
mod links;
pub mod subject;
pub(crate) mod words;

pub use check::check;
pub(crate) use check::placeholders_of;
pub use finished::{Finished, Signature, check_finished};
pub use links::{Link, Prepared, is_web_link, placed, prepare};

use crate::trial::metric::Metric;
use minijinja::{Environment, UndefinedBehavior};
use serde::{Deserialize, Serialize};

/// The placeholders that come from the contact; any of them may be missing for some people.
pub const CONTACT_PLACEHOLDERS: [&str; 4] = ["given_name", "family_name", "email", "country"];
/// The placeholders that the letterhead and the send fill; they are always there.
/// `variant` is the letter of the person's variant: one body says with it what differs.
pub const SEND_PLACEHOLDERS: [&str; 10] = [
    "postal_address",
    "unsubscribe_url",
    "preferences_url",
    "leave_series_url",
    "go_on_url",
    "share_url",
    "sender_name",
    "social_links",
    "logo_url",
    "variant",
];

/// The placeholder of a custom field: its name in small letters, joined by low lines.
#[must_use]
pub fn own_placeholder(field: &str) -> String {
    let mut out = String::new();
    for c in field.trim().to_lowercase().chars() {
        match c {
            c if c.is_alphanumeric() => out.push(c),
            _ if out.ends_with('_') || out.is_empty() => {}
            _ => out.push('_'),
        }
    }
    // A name of the language can't begin with a digit.
    if out.starts_with(|c: char| c.is_ascii_digit()) {
        out.insert(0, '_');
    }
    out.trim_end_matches('_').to_owned()
}

/// A draft as it was built: Markdown made HTML, styles put in their places, the text part derived where
/// none was written.
#[derive(Debug, Clone, Default)]
pub struct Draft {
    /// One subject per variant, A first.
    pub subjects: Vec<String>,
    /// By variant, the name it comes under and where its replies go; empty: the letterhead's.
    pub senders: Vec<(String, String)>,
    /// The line that inboxes show after the subject.
    pub preheader: String,
    /// As it was written: findings name its lines.
    pub source: String,
    pub html: String,
    pub text: String,
    /// The text part was made from the HTML, so that a finding about it is put right there.
    pub derived: bool,
    pub postal_address: String,
    /// Something the recipients expect: it needs no unsubscribe link.
    pub service: bool,
    /// A step of a series sends it: it needs the link to leave that.
    pub series: bool,
    /// The placeholders of custom fields.
    pub own: Vec<String>,
    /// Over how many hours it goes out, from the first to the last person.
    pub over_hours: i64,
    /// Its people are drawn to hours by a trial.
    pub hours_drawn: bool,
    /// What its trial counts.
    pub metric: Option<Metric>,
}

impl Draft {
    /// Every placeholder that there is for it.
    pub(crate) fn placeholders(&self) -> impl Iterator<Item = &str> {
        placeholders(self.own.iter().map(String::as_str))
    }
}

/// Every placeholder that there is, those of custom fields last.
pub fn placeholders<'a>(own: impl Iterator<Item = &'a str>) -> impl Iterator<Item = &'a str> {
    CONTACT_PLACEHOLDERS.into_iter().chain(SEND_PLACEHOLDERS).chain(own)
}

/// Above so many bytes, readers' inboxes cut a message off.
pub(crate) const LARGE: usize = 100_000;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Level {
    /// Stops the mailing.
    Error,
    /// Asks.
    Warning,
}

/// A change of one part that puts a finding right.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct MessageFix {
    /// What pressing it does.
    pub words: String,
    /// `subject A`, `preheader`, `html` or `text`.
    pub part: String,
    /// What is replaced, where it stands first; empty: nothing, `with` is put at the end of the part.
    pub find: String,
    pub with: String,
}

/// Something the check found, where, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Finding {
    pub level: Level,
    /// `subject A`, `preheader`, `html`, `text`, `headers` or `letterhead`.
    pub part: String,
    pub line: Option<usize>,
    pub words: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub fix: Option<MessageFix>,
}

impl Finding {
    pub(crate) fn new(level: Level, part: &str, line: Option<usize>, words: impl Into<String>) -> Self {
        Self { level, part: part.to_owned(), line, words: words.into(), fix: None }
    }

    pub(crate) fn fixed_by(mut self, words: &str, find: &str, with: &str) -> Self {
        self.fix = Some(MessageFix { words: words.to_owned(), part: self.part.clone(), find: find.to_owned(), with: with.to_owned() });
        self
    }
}

/// A template that can't be read, with its line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{words}")]
pub struct TemplateError {
    pub line: Option<usize>,
    pub words: String,
}

/// The engine that fills placeholders, the same for checking and sending. HTML is escaped, text
/// and subjects are not.
#[must_use]
pub fn engine<'a>(strict: bool) -> Environment<'a> {
    let mut env = Environment::empty();
    env.set_undefined_behavior(if strict { UndefinedBehavior::Strict } else { UndefinedBehavior::Lenient });
    env.set_auto_escape_callback(minijinja::default_auto_escape_callback);
    env.add_filter("default", minijinja::filters::default);
    env.add_filter("upper", minijinja::filters::upper);
    env.add_filter("lower", minijinja::filters::lower);
    env.add_filter("title", minijinja::filters::title);
    // A template can't run for ever: one message is a few kilobytes of plain replacements.
    env.set_fuel(Some(100_000));
    env
}

/// The line (from 1) in which `needle` stands first.
pub(crate) fn line_of(text: &str, needle: &str) -> Option<usize> {
    (!needle.is_empty()).then(|| text.find(needle)).flatten().map(|at| text[..at].matches('\n').count() + 1)
}
