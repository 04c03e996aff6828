//! Reports from other hosts about mail in our name: DMARC aggregate reports (RFC 7489, appendix C; RFC 9990) and TLS reports (RFC 8460), as XML or
//! JSON, packed (gz, zip) or not, alone or attached to a mail.
//!
//! Nothing of it is trusted: what is unpacked has a limit, an archive with paths or with an archive in it is refused, and so is a document type, by
//! which entities could be made to grow.

mod dmarc;
mod packed;

pub use dmarc::{Auth, Dmarc, Number, Policy, Reason, Record, Sender};

use mail_parser::{MessageParser, MimeHeaders};
use serde::Serialize;
use serde_json::Value;
use thiserror::Error;

/// Files larger than this aren't looked at.
pub const LARGEST: usize = 25 << 20;

/// Why a file is no report.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ReportError {
    #[error("it is over {} MB", LARGEST >> 20)]
    TooLarge,
    #[error("it unpacks to over {} MB", packed::UNPACKED >> 20)]
    UnpacksTooLarge,
    #[error("the archive can't be read: {0}")]
    Archive(String),
    #[error("the archive holds {0}: a report is a file of its own")]
    Inside(String),
    #[error("it has a document type, which a report has no use for and an attacker has")]
    DocumentType,
    #[error("the XML can't be read: {0}")]
    Xml(String),
    #[error("the XML ends in the middle")]
    CutOff,
    #[error("the JSON can't be read: {0}")]
    Json(String),
    #[error("it is {0}, and no report")]
    Other(&'static str),
}

/// What a file holds.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "kind", content = "reports", rename_all = "snake_case")]
pub enum Reports {
    Dmarc(Vec<Dmarc>),
    /// As RFC 8460 has them.
    Tls(Vec<Value>),
}

enum One {
    Dmarc(Box<Dmarc>),
    Tls(Value),
}

/// What a document begins with, whatever it is called.
fn begins(bytes: &[u8]) -> Option<u8> {
    let rest = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    rest.iter().copied().find(|b| !b.is_ascii_whitespace())
}

fn document(bytes: &[u8]) -> Result<One, ReportError> {
    match begins(bytes) {
        Some(b'<') | Some(0xff) | Some(0xfe) => dmarc::read(bytes).map(|d| One::Dmarc(Box::new(d))),
        Some(b'{') => tls(bytes).map(One::Tls),
        None => Err(ReportError::Other("empty")),
        Some(_) => Err(ReportError::Other("neither XML nor JSON")),
    }
}

/// A TLS report: an object with the policies that it is about.
fn tls(bytes: &[u8]) -> Result<Value, ReportError> {
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let found: Value = serde_json::from_slice(bytes).map_err(|e| ReportError::Json(e.to_string()))?;
    if found.get("policies").is_some_and(Value::is_array) { Ok(found) } else { Err(ReportError::Other("JSON without policies")) }
}

/// What packed or plain bytes hold.
fn opened(bytes: &[u8]) -> Result<Vec<One>, ReportError> {
    packed::open(bytes)?.iter().map(|d| document(d)).collect()
}

/// A mail, by its headers: a report comes as its attachment, or is its body.
fn attached(bytes: &[u8]) -> Result<Vec<One>, ReportError> {
    let nothing = ReportError::Other("a mail without a report");
    let message = MessageParser::default().parse(bytes).ok_or(ReportError::Other("neither a report nor a mail"))?;
    let (mut found, mut why) = (Vec::new(), None);
    for part in &message.parts {
        let words = part.content_type().is_some_and(|t| t.ctype() == "text" && !matches!(t.subtype(), Some("xml")));
        if words || part.is_multipart() {
            continue;
        }
        match opened(part.contents()) {
            Ok(reports) => found.extend(reports),
            Err(e) => why = why.or(Some(e)),
        }
    }
    if found.is_empty() { Err(why.unwrap_or(nothing)) } else { Ok(found) }
}

/// Does a mail bring what may be a report, by the types of its parts (RFC 7489, section 7.2.1.1; RFC 8460, section 5.3)?
#[must_use]
pub fn may_bring_one(mail: &[u8]) -> bool {
    const TYPES: [&str; 8] = ["zip", "x-zip-compressed", "gzip", "x-gzip", "xml", "tlsrpt+gzip", "tlsrpt+json", "x-zip"];
    let Some(message) = MessageParser::default().parse(mail) else { return false };
    message.parts.iter().any(|part| {
        part.content_type().is_some_and(|t| {
            let sub = t.subtype().unwrap_or_default().to_ascii_lowercase();
            t.ctype().eq_ignore_ascii_case("application") && TYPES.contains(&sub.as_str())
                || t.ctype().eq_ignore_ascii_case("text") && sub == "xml"
        })
    })
}

/// Reads the reports in a file, whatever its name is.
///
/// # Errors
/// When there is none, or it can't be read; what of several can't be read takes the others along.
pub fn read(bytes: &[u8]) -> Result<Reports, ReportError> {
    if bytes.len() > LARGEST {
        return Err(ReportError::TooLarge);
    }
    let plain = packed::is_packed(bytes) || matches!(begins(bytes), Some(b'<' | b'{' | 0xff | 0xfe) | None);
    let found = if plain { opened(bytes)? } else { attached(bytes)? };
    let (mut dmarc, mut tls) = (Vec::new(), Vec::new());
    for one in found {
        match one {
            One::Dmarc(d) => dmarc.push(*d),
            One::Tls(t) => tls.push(t),
        }
    }
    match (dmarc.is_empty(), tls.is_empty()) {
        (false, true) => Ok(Reports::Dmarc(dmarc)),
        (true, false) => Ok(Reports::Tls(tls)),
        (true, true) => Err(ReportError::Other("an empty archive")),
        (false, false) => Err(ReportError::Other("a mix of DMARC and TLS reports")),
    }
}

#[cfg(test)]
mod tests;
