//! What came in: told apart by its structure, never by its subject line alone.

use crate::bounds::{self, Unreadable};
use crate::in_words;
use mail_auth::report::FeedbackType;
use mail_parser::{Message, MessageParser, MimeHeaders, PartType};
use rinse_core::bounce::{Reply, parse_status};

/// One recipient of a delivery report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recipient {
    pub address: String,
    /// `failed`, `delayed`, `delivered`, … (RFC 3464 section 2.3.3), in lower case.
    pub action: String,
    pub reply: Reply,
}

/// A message that came in, by kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Inbound {
    DeliveryStatus(Vec<Recipient>),
    /// RFC 5965; only of type `abuse` it is a complaint.
    Feedback {
        complaint: bool,
    },
    AutoReply,
    Reply,
    Other,
}

/// What the subject of an automatic answer begins with where no header (RFC 3834) says that it is one.
pub(crate) const AWAY: [&str; 14] = [
    "out of office",
    "out of the office",
    "autoreply",
    "auto-reply",
    "auto reply",
    "automatic reply",
    "automated reply",
    "automatic response",
    "autoresponse",
    "auto response",
    "vacation reply",
    "automatische antwort",
    "abwesenheitsnotiz",
    "réponse automatique",
];

/// Recipients of a report that are read; one that lists more is no report of ours, each of whose messages has one.
const RECIPIENTS: usize = 1_000;

/// A message that came in: what it is, what a person wrote, and whom it was delivered to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Incoming {
    pub kind: Inbound,
    pub written: Written,
    /// Its last delivery's address, else its first recipient's; may be empty.
    pub delivered_to: String,
}

/// Reads a raw message, once it is known to be small and flat enough ([`bounds`]). The parser follows nested messages, so this runs on a
/// thread with a stack of its own.
///
/// # Errors
/// When it may not be read, or isn't mail at all.
pub fn incoming(raw: &[u8]) -> Result<Incoming, Unreadable> {
    bounds::check(raw)?;
    let message = MessageParser::default().parse(raw).ok_or(Unreadable::Structure)?;
    Ok(Incoming { kind: kind(&message), written: written(&message), delivered_to: delivered_to(&message) })
}

/// Tells what a message is.
fn kind(message: &Message<'_>) -> Inbound {
    for part in &message.parts {
        let kind = part.content_type().map(|t| (t.c_type.to_lowercase(), t.c_subtype.as_deref().unwrap_or_default().to_lowercase()));
        let body = match &part.body {
            PartType::Text(t) | PartType::Html(t) => t.as_bytes(),
            PartType::Binary(b) | PartType::InlineBinary(b) => b.as_ref(),
            _ => continue,
        };
        match kind.as_ref().map(|(t, s)| (t.as_str(), s.as_str())) {
            Some(("message", "delivery-status" | "global-delivery-status")) => {
                let recipients = delivery_status(body);
                // Anybody who asks for a proof that a person wrote has the message.
                if in_words::is_challenge(message) {
                    return Inbound::Other;
                }
                // One that names nobody may say so in words.
                return Inbound::DeliveryStatus(if recipients.is_empty() {
                    in_words::report(message, true).unwrap_or_default()
                } else {
                    recipients
                });
            }
            Some(("message", "feedback-report")) => {
                // A part's last line may end with it.
                let whole = [body, b"\r\n\r\n"].concat();
                let report = mail_auth::report::Feedback::parse_arf(&whole);
                return Inbound::Feedback { complaint: report.is_some_and(|r| r.feedback_type() == FeedbackType::Abuse) };
            }
            _ => {}
        }
    }
    if let Some(recipients) = in_words::report(message, false) {
        return Inbound::DeliveryStatus(recipients);
    }
    let header = |name: &str| message.header_raw(name).map(|v| v.trim().to_lowercase());
    let answers = header("In-Reply-To").is_some() || header("References").is_some();
    let automatic = header("Auto-Submitted").is_some_and(|v| v != "no")
        // Lists and newsletters say that they are bulk, too; what answers us and says so is no person.
        || header("Precedence").is_some_and(|v| v == "auto_reply" || matches!(v.as_str(), "bulk" | "junk") && answers)
        || ["X-Auto-Response-Suppress", "X-Autoreply", "X-Autorespond", "X-Auto-Reply-From", "X-Mail-Autoreply"]
            .iter()
            .any(|name| header(name).is_some())
        || message.subject().is_some_and(|s| AWAY.iter().any(|away| s.trim().to_lowercase().starts_with(away)));
    if automatic {
        Inbound::AutoReply
    } else if answers && in_words::asks_for_proof(&written(message).text) {
        Inbound::Other
    } else if answers {
        Inbound::Reply
    } else {
        Inbound::Other
    }
}

/// What a person wrote back.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Written {
    /// Whose it is, by its From line; may be empty.
    pub from: String,
    pub subject: String,
    /// Without the lines they quoted; at most 2,000 characters.
    pub text: String,
    /// The messages it answers (In-Reply-To, then References, RFC 5322 section 3.6.4).
    pub answers: Vec<String>,
}

/// The address that a message from a mailbox was delivered to: its last delivery's, else its first recipient's.
fn delivered_to(message: &Message<'_>) -> String {
    let named = ["Delivered-To", "X-Original-To"].iter().find_map(|name| message.header_raw(*name)).map(|v| v.trim().to_owned());
    named.or_else(|| message.to().and_then(|t| t.first()).and_then(|t| t.address()).map(str::to_owned)).unwrap_or_default()
}

/// Reads a reply. What can't be read is empty.
fn written(message: &Message<'_>) -> Written {
    let body = message.body_text(0).unwrap_or_default();
    let own: Vec<&str> = body.lines().filter(|l| !l.starts_with('>')).collect();
    let ids = |name: &str| -> Vec<String> {
        let header = message.header_raw(name).unwrap_or_default();
        header.split(['<', '>']).map(str::trim).filter(|id| id.contains('@')).map(str::to_owned).collect()
    };
    Written {
        from: message.from().and_then(|f| f.first()).and_then(|f| f.address()).unwrap_or_default().to_owned(),
        subject: message.subject().unwrap_or_default().chars().take(200).collect(),
        text: own.join("\n").trim().chars().take(2_000).collect(),
        answers: [ids("In-Reply-To"), ids("References")].concat(),
    }
}

/// The header groups of a status part, names in lower case, folded lines joined.
fn groups(body: &[u8]) -> Vec<Vec<(String, String)>> {
    let text = String::from_utf8_lossy(body);
    let mut out: Vec<Vec<(String, String)>> = vec![Vec::new()];
    for line in text.lines() {
        if line.trim().is_empty() {
            if out.last().is_some_and(|g| !g.is_empty()) {
                out.push(Vec::new());
            }
        } else if line.starts_with([' ', '\t']) {
            if let Some((_, value)) = out.last_mut().and_then(|g| g.last_mut()) {
                value.push(' ');
                value.push_str(line.trim());
            }
        } else if let Some((name, value)) = line.split_once(':')
            && let Some(group) = out.last_mut()
        {
            group.push((name.trim().to_lowercase(), value.trim().to_owned()));
        }
    }
    out
}

fn delivery_status(body: &[u8]) -> Vec<Recipient> {
    let mut recipients = Vec::new();
    for group in groups(body) {
        let get = |name: &str| group.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str());
        // "rfc822; wren@tern.example", "smtp; 550 5.1.1 …"
        let after_type = |v: &str| v.split_once(';').map_or(v, |(_, rest)| rest).trim().to_owned();
        if recipients.len() == RECIPIENTS {
            break;
        }
        // The address that we sent to, where the host names it: it may have sent it on to another one.
        let named = |name: &str| get(name).map(|v| after_type(v).trim_matches(['<', '>', '"', ' ']).to_owned());
        let mailbox = |a: &String| a.contains('@') && !a.starts_with('/');
        let Some(address) = named("original-recipient").filter(mailbox).or_else(|| named("final-recipient")) else { continue };
        let mut reply = get("diagnostic-code").map(after_type).map_or_else(|| Reply::parse(""), |d| Reply::parse(&d));
        // Hosts that pass another one's reply on say where it came from first, and qmail's put the code at the end.
        let vague = reply.enhanced.is_none_or(|(_, subject, detail)| subject == 0 && detail == 0);
        if vague && let Some(inner) = in_words::within(&reply.text) {
            reply = Reply {
                code: if reply.code == 0 { inner.code } else { reply.code },
                enhanced: inner.enhanced.or(reply.enhanced),
                text: reply.text,
            };
        }
        if reply.enhanced.is_none() {
            reply.enhanced = get("status").and_then(|s| parse_status(s.split_whitespace().next().unwrap_or_default()));
        }
        recipients.push(Recipient { address, action: get("action").unwrap_or_default().to_lowercase(), reply });
    }
    recipients
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rinse_core::bounce::Category;

    const REPORT: &str = "From: MAILER-DAEMON@fulmar.example\r\nTo: back@skerry-light.example\r\nSubject: Undelivered\r\nMIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nSorry.\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mx.fulmar.example\r\n\r\nFinal-Recipient: rfc822; wren@fulmar.example\r\nAction: failed\r\nStatus: 5.0.0\r\nDiagnostic-Code: smtp; 550 5.1.1 no such\r\n user here\r\n--b--\r\n";

    fn read(raw: &[u8]) -> Inbound {
        incoming(raw).unwrap().kind
    }

    #[test]
    fn reads_reports() {
        let Inbound::DeliveryStatus(r) = read(REPORT.as_bytes()) else { panic!("not a report") };
        assert_eq!((r[0].address.as_str(), r[0].action.as_str()), ("wren@fulmar.example", "failed"));
        assert_eq!(r[0].reply.category(), Category::NoSuchAddress);
        let feedback =
            REPORT.replace("delivery-status", "feedback-report").replace("Reporting-MTA: dns; mx.fulmar.example", "Feedback-Type: abuse");
        assert_eq!(read(feedback.as_bytes()), Inbound::Feedback { complaint: true });
        for other in ["Feedback-Type: not-spam", "Feedback-Type: fraud", "User-Agent: Fulmar/1"] {
            let report = feedback.replace("Feedback-Type: abuse", other);
            assert_eq!(read(report.as_bytes()), Inbound::Feedback { complaint: false }, "{other}");
        }
        assert_eq!(read(b"In-Reply-To: <a@b>\r\nSubject: Re: x\r\n\r\nhi"), Inbound::Reply);
        assert_eq!(read(b"In-Reply-To: <a@b>\r\nAuto-Submitted: auto-replied\r\n\r\naway"), Inbound::AutoReply);
        let w = incoming(b"In-Reply-To: <a@b>\r\nReferences: <c@d> <a@b>\r\nSubject: Re: x\r\n\r\nYes, two of us.\r\n> Which boats?\r\n")
            .unwrap()
            .written;
        assert_eq!(
            (w.subject.as_str(), w.text.as_str(), w.answers.as_slice()),
            ("Re: x", "Yes, two of us.", &["a@b", "c@d", "a@b"].map(str::to_owned)[..])
        );
        assert_eq!(read(b"Subject: Undelivered mail\r\n\r\nbuy"), Inbound::Other);
    }

    proptest! {
        #[test]
        fn never_panics(cut in 0usize..600, noise in prop::collection::vec(any::<u8>(), 0..40)) {
            let mut raw = REPORT.as_bytes()[..cut.min(REPORT.len())].to_vec();
            raw.extend(noise);
            let _ = incoming(&raw);
        }

        /// However deep a message is nested and by whatever names, it is refused before a parser follows it, or read on the stack of a
        /// thread as small as a runtime's.
        #[test]
        fn nested_messages_end_nothing(
            header in prop::sample::select(vec![
                "Content-Type:message/rfc822\n\n", "content-TYPE:\n message/rfc822\n\n", "Content-Type: (x) message/global\r\n\r\n",
                "Content-Type: multipart/mixed; boundary=b\n\n--b\n", "Content-Type: multipart/digest; boundary=b\n\n--b\n\n",
                "Content-Type: message/rfc822\nContent-Transfer-Encoding: base64\n\n", "--b\n\n", "Subject: =?utf-8?B?", "X: (((((((", ">", "To: <<<<,,,,;;;;:",
            ]),
            times in prop_oneof![1usize..400, 20_000usize..60_000],
        ) {
            let raw = header.repeat(times).into_bytes();
            let read = std::thread::Builder::new().stack_size(2 << 20).spawn(move || incoming(&raw).is_ok()).unwrap().join();
            prop_assert!(read.is_ok(), "{header} {times} times");
        }
    }
}
