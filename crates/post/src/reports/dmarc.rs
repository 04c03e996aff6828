//! DMARC aggregate reports: values as the file writes them, nothing made up for what it leaves out.

use super::ReportError;
use quick_xml::Reader;
use quick_xml::events::Event;
use serde::Serialize;

/// Deeper ones are no reports.
const DEEPEST: usize = 40;
/// A value that is longer is cut.
const LONGEST: usize = 10_000;

/// A number where the file writes one, otherwise its words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum Number {
    Whole(i64),
    Words(String),
}

impl Number {
    fn read(text: String) -> Self {
        text.parse().map_or(Self::Words(text), Self::Whole)
    }

    /// The number; none where there are words.
    #[must_use]
    pub fn whole(&self) -> Option<i64> {
        if let Self::Whole(n) = self { Some(*n) } else { None }
    }
}

/// A report: what a host saw of mail in a domain's name within a time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Dmarc {
    pub org_name: Option<String>,
    pub email: Option<String>,
    pub report_id: Option<String>,
    /// Seconds since 1970.
    pub begin: Option<Number>,
    pub end: Option<Number>,
    pub policy: Policy,
    pub records: Vec<Record>,
}

/// The policy that the host found in the DNS.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Policy {
    pub domain: Option<String>,
    pub p: Option<String>,
    pub sp: Option<String>,
    pub adkim: Option<String>,
    pub aspf: Option<String>,
    pub pct: Option<Number>,
    pub testing: Option<String>,
}

/// Messages of one source that were judged alike.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Record {
    pub source_ip: Option<String>,
    pub count: Option<Number>,
    pub disposition: Option<String>,
    /// Did DKIM, and SPF, pass for an address of the domain (aligned)?
    pub dkim: Option<String>,
    pub spf: Option<String>,
    pub reasons: Vec<Reason>,
    pub header_from: Option<String>,
    pub envelope_from: Option<String>,
    pub envelope_to: Option<String>,
    pub auth_dkim: Vec<Auth>,
    pub auth_spf: Vec<Sender>,
}

/// Why the policy wasn't applied.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Reason {
    #[serde(rename = "type")]
    pub kind: Option<String>,
    pub comment: Option<String>,
}

/// A DKIM signature that was checked.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Auth {
    pub domain: Option<String>,
    pub selector: Option<String>,
    pub result: Option<String>,
}

/// A domain that SPF was checked for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Sender {
    pub domain: Option<String>,
    pub result: Option<String>,
}

/// The text of a file: UTF-8, UTF-16 by its mark, otherwise Latin-1, which every byte is a letter of.
fn text(bytes: &[u8]) -> String {
    let wide = |big: bool| {
        let unit = |pair: &[u8]| if big { u16::from_be_bytes([pair[0], pair[1]]) } else { u16::from_le_bytes([pair[0], pair[1]]) };
        String::from_utf16_lossy(&bytes[2..].chunks_exact(2).map(unit).collect::<Vec<_>>())
    };
    match bytes {
        [0xfe, 0xff, ..] => wide(true),
        [0xff, 0xfe, ..] => wide(false),
        _ => {
            let rest = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
            std::str::from_utf8(rest).map_or_else(|_| rest.iter().map(|b| char::from(*b)).collect(), str::to_owned)
        }
    }
}

/// The elements that are looked at; what else there is lies in `?`.
#[rustfmt::skip]
const KNOWN: [&str; 35] = [
    "feedback", "report_metadata", "org_name", "email", "report_id", "date_range", "begin", "end", "policy_published", "domain", "p", "sp", "adkim",
    "aspf", "pct", "testing", "record", "row", "source_ip", "count", "policy_evaluated", "disposition", "dkim", "spf", "reason", "type", "comment",
    "identifiers", "identities", "header_from", "envelope_from", "envelope_to", "auth_results", "selector", "result",
];

fn known(name: &str) -> &'static str {
    KNOWN.into_iter().find(|k| name.eq_ignore_ascii_case(k)).unwrap_or("?")
}

/// Where a value belongs, by the elements it lies in below the report.
fn put(d: &mut Dmarc, path: &[&str], value: &str) {
    let value = value.trim();
    if value.is_empty() {
        return;
    }
    let value = || value.chars().take(LONGEST).collect::<String>();
    // What stands twice is what stands first.
    let set = |at: &mut Option<String>| {
        at.get_or_insert_with(value);
    };
    let number = |at: &mut Option<Number>| {
        at.get_or_insert_with(|| Number::read(value()));
    };
    match path {
        ["report_metadata", "org_name"] => set(&mut d.org_name),
        ["report_metadata", "email"] => set(&mut d.email),
        ["report_metadata", "report_id"] => set(&mut d.report_id),
        ["report_metadata", "date_range", "begin"] => number(&mut d.begin),
        ["report_metadata", "date_range", "end"] => number(&mut d.end),
        ["policy_published", field] => match *field {
            "domain" => set(&mut d.policy.domain),
            "p" => set(&mut d.policy.p),
            "sp" => set(&mut d.policy.sp),
            "adkim" => set(&mut d.policy.adkim),
            "aspf" => set(&mut d.policy.aspf),
            "pct" => number(&mut d.policy.pct),
            "testing" => set(&mut d.policy.testing),
            _ => {}
        },
        ["record", rest @ ..] => {
            let Some(r) = d.records.last_mut() else { return };
            match rest {
                ["row", "source_ip"] => set(&mut r.source_ip),
                ["row", "count"] => number(&mut r.count),
                ["row", "policy_evaluated", "disposition"] => set(&mut r.disposition),
                ["row", "policy_evaluated", "dkim"] => set(&mut r.dkim),
                ["row", "policy_evaluated", "spf"] => set(&mut r.spf),
                ["row", "policy_evaluated", "reason", field] => {
                    let Some(reason) = r.reasons.last_mut() else { return };
                    match *field {
                        "type" => set(&mut reason.kind),
                        "comment" => set(&mut reason.comment),
                        _ => {}
                    }
                }
                // Early writers called them "identities".
                ["identifiers" | "identities", field] => match *field {
                    "header_from" => set(&mut r.header_from),
                    "envelope_from" => set(&mut r.envelope_from),
                    "envelope_to" => set(&mut r.envelope_to),
                    _ => {}
                },
                ["auth_results", "dkim", field] => {
                    let Some(auth) = r.auth_dkim.last_mut() else { return };
                    match *field {
                        "domain" => set(&mut auth.domain),
                        "selector" => set(&mut auth.selector),
                        "result" => set(&mut auth.result),
                        _ => {}
                    }
                }
                ["auth_results", "spf", field] => {
                    let Some(auth) = r.auth_spf.last_mut() else { return };
                    match *field {
                        "domain" => set(&mut auth.domain),
                        "result" => set(&mut auth.result),
                        _ => {}
                    }
                }
                _ => {}
            }
        }
        _ => {}
    }
}

/// An element that begins something of which there may be several.
fn begin(d: &mut Dmarc, path: &[&str]) {
    match path {
        ["record"] => d.records.push(Record::default()),
        ["record", "row", "policy_evaluated", "reason"] => d.records.last_mut().into_iter().for_each(|r| r.reasons.push(Reason::default())),
        ["record", "auth_results", "dkim"] => d.records.last_mut().into_iter().for_each(|r| r.auth_dkim.push(Auth::default())),
        ["record", "auth_results", "spf"] => d.records.last_mut().into_iter().for_each(|r| r.auth_spf.push(Sender::default())),
        _ => {}
    }
}

/// Reads a report.
pub(super) fn read(bytes: &[u8]) -> Result<Dmarc, ReportError> {
    let text = text(bytes);
    let mut reader = Reader::from_str(&text);
    let broken = |e: &dyn std::fmt::Display| ReportError::Xml(e.to_string());
    let (mut d, mut path, mut value): (Dmarc, Vec<&'static str>, String) = (Dmarc::default(), Vec::new(), String::new());
    let mut seen = false;
    loop {
        match reader.read_event().map_err(|e| broken(&e))? {
            Event::DocType(_) => return Err(ReportError::DocumentType),
            Event::Start(e) => {
                let name = known(e.local_name().as_ref());
                if path.is_empty() {
                    if name != "feedback" || seen {
                        return Err(ReportError::Other("XML of another kind"));
                    }
                    seen = true;
                }
                if path.len() == DEEPEST {
                    return Err(ReportError::Xml("its elements lie in each other too deep".into()));
                }
                path.push(name);
                value.clear();
                begin(&mut d, &path[1..]);
            }
            Event::End(_) => {
                put(&mut d, path.get(1..).unwrap_or_default(), &value);
                path.pop();
                value.clear();
            }
            Event::Text(t) => push(&mut value, &t),
            Event::CData(t) => push(&mut value, &t),
            Event::GeneralRef(r) => {
                if let Some(c) = r.resolve_char_ref().map_err(|e| broken(&e))? {
                    value.push(c);
                } else {
                    let known = quick_xml::escape::resolve_predefined_entity(&r);
                    push(&mut value, known.ok_or_else(|| ReportError::Xml(format!("it names an entity &{}; that there isn't", &*r)))?);
                }
            }
            Event::Eof => break,
            _ => {}
        }
    }
    match (seen, path.is_empty()) {
        (true, true) => Ok(d),
        (true, false) => Err(ReportError::CutOff),
        (false, _) => Err(ReportError::Other("XML without a report")),
    }
}

fn push(value: &mut String, more: &str) {
    if value.len() < 4 * LONGEST {
        value.push_str(more);
    }
}
