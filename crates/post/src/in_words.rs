//! Reports of failed delivery that are written for people: hosts that send no RFC 3464 part say in words which addresses failed, and how.
//!
//! A message is such a report only when a mail system sent it, it says that delivery failed (or waits), and it names an address that isn't
//! its own sender or receiver. Anything less stays ordinary mail: an address that a person mentions must never be retired for it.

use crate::inbound::{AWAY, Recipient};
use mail_parser::{Address, Message, MimeHeaders, PartType};
use rinse_core::bounce::Reply;

/// Characters of its words that are read.
const READ: usize = 60_000;
/// Addresses that are taken from it.
const MOST: usize = 200;

/// What such reports say of a failure, in small letters.
const FAILED: &[&str] = &[
    "not delivered",
    "could not be delivered",
    "couldn't be delivered",
    "can not be delivered",
    "cannot be delivered",
    "can't be delivered",
    "unable to deliver",
    "unable to be delivered",
    "not able to deliver",
    "delivery failed",
    "delivery failure",
    "delivery has failed",
    "delivery error",
    "failed to deliver",
    "failed permanently",
    "failed addresses",
    "failed recipient",
    "fatal errors",
    "did not reach",
    "didn't reach",
    "was not reached",
    "returned mail",
    "returned to sender",
    "returning message",
    "returned to you",
    "message returned",
    "user unknown",
    "unknown user",
    "unknown address",
    "no such user",
    "no such address",
    "does not exist",
    "doesn't exist",
    "not a known user",
    "mailbox full",
    "over quota",
    "mailbox unavailable",
    "mailbox is full",
    "invalid recipient",
    "unknown recipient",
    "recipient unknown",
    "not found",
    "not listed in",
    "undeliver",
    "rejected",
    "message you sent",
    "was not delivered",
    "were not delivered",
    "has been disabled",
    "mailbox disabled",
    "account disabled",
    "no longer",
    "isn't known",
    "error(s)",
    "could not deliver",
    "couldn't deliver",
    "wasn't able to deliver",
    "problem delivering",
    "problems delivering",
    "delivery problem",
    "delivery status notification",
    "transcript of session",
    "failure notice",
    "nicht zugestellt",
    "unzustellbar",
    "non remis",
    "no se pudo entregar",
    "niet afgeleverd",
    "ne peut pas",
    "not local",
    "bounced",
    "delivery notification",
    "delivery report",
];

/// What they say while they go on trying.
const WAITS: &[&str] = &[
    "will keep trying",
    "will continue to try",
    "will be retried",
    "still trying",
    "still being retried",
    "has been delayed",
    "delivery delayed",
    "not yet been delivered",
    "warning message only",
    "not need to resend",
    "temporary non-fatal",
    "message delayed",
    "delayed mail",
    "delivery attempts will continue",
    "retry",
];

/// What lines begin with from which on the message stands that failed, without the marks before.
const ORIGINAL: &[&str] = &[
    "below this line is a copy of the message",
    "this is a copy of the message",
    "a copy of the message",
    "original message",
    "message header",
    "the original message was:",
    "text of your message",
    "the header of the original",
    "message follows",
    "begin original",
    "received: from",
    "return-path:",
    "undelivered message",
    "original headers",
    "unsent",
];

/// What a mail system that doesn't say that it is one begins a report with.
const BEGINS: &[&str] = &[
    "failed recipient",
    "non-delivery report",
    "could not be delivered to the following",
    "unable to deliver message to",
    "delivery of email to this address",
    "this message was created automatically by mail delivery",
    "could not deliver message to the following",
    "your message could not be delivered",
    "delivery to the following recipient",
    "was automatically rejected",
    "delivery failed",
];

/// What asks a sender to prove that a person wrote: neither a reply nor a bounce.
const CHALLENGES: &[&str] = &[
    "prove that you are",
    "verify that you are",
    "confirm that you are a",
    "confirm that you're a",
    "verify your message",
    "waiting list",
    "guest list",
    "to have your message delivered",
    "to deliver your message",
    "approved senders",
    "approved list",
    "challenge/response",
    "confirm this message",
    "click the link below to be added",
    "click here to be added",
    "click the following link to",
    "before your message can be delivered",
    "before i receive your",
    "your message is being held until",
    "one-time confirmation",
    "antispam confirmation",
    "(action required)",
];

/// Does a message ask its sender to prove that a person wrote?
pub(crate) fn is_challenge(message: &Message<'_>) -> bool {
    let small = format!("{}\n{}", message.subject().unwrap_or_default(), words(message)).to_lowercase();
    // Without a link or an answer to give there is nothing that one could do.
    CHALLENGES.iter().any(|c| small.contains(c)) && ["http", "reply"].iter().any(|way| small.contains(way))
}

/// What no person writes who answers a letter, together with a link.
const PROOF: &[&str] = &[
    "prove that you are",
    "verify that you are",
    "confirm that you are a",
    "confirm that you're a",
    "verify your message",
    "challenge/response",
    "before your message can be delivered",
    "to have your message delivered",
    "your message is being held until",
    "antispam confirmation",
];

/// Does what somebody answers ask for a proof that a person wrote? `own`: without the lines that it quotes, which are ours.
pub(crate) fn asks_for_proof(own: &str) -> bool {
    let small = own.to_lowercase();
    small.contains("http") && PROOF.iter().any(|p| small.contains(p))
}

/// Reads a report in words: the addresses that it names, with what it says of each. None: it is no report. `surely`: its structure says
/// that it is one.
pub(crate) fn report(message: &Message<'_>, surely: bool) -> Option<Vec<Recipient>> {
    let header = |name: &str| message.header_raw(name).map(str::trim).unwrap_or_default().to_owned();
    let by_header = addresses(&[header("X-Failed-Recipients"), header("X-Failed-Recipient")].join(" "));
    let system = is_system(message);
    let subject = message.subject().unwrap_or_default().to_lowercase();
    let by_subject = FAILED.iter().chain(WAITS).any(|p| subject.contains(p));
    let sent_on =
        ["re:", "fw:", "fwd:", "aw:", "wg:"].iter().any(|p| subject.starts_with(p)) || message.header_raw("In-Reply-To").is_some();
    let sure = surely || system || !by_header.is_empty();
    // What has no way back is a system's, too, but people's automatic answers have none either (RFC 3834 section 3.1.1).
    let away = AWAY.iter().any(|a| subject.trim().starts_with(a));
    if !sure && (sent_on || away || !by_subject) {
        return None;
    }
    let words = words(message);
    let small = words.to_lowercase();
    if !sure && !no_way_back(message) && !BEGINS.iter().any(|p| small.contains(p)) {
        return None;
    }
    let names_alone = small.lines().any(|l| l.starts_with('<') && l.trim_end().ends_with(">:"));
    if !surely && by_header.is_empty() && !by_subject && !names_alone && !FAILED.iter().chain(WAITS).any(|p| small.contains(p)) {
        return None;
    }
    let said = format!("{subject}\n{small}");
    let for_good = ["failed permanently", "permanent fatal", "giving up", "permanent error"].iter().any(|p| said.contains(p));
    let waits = !for_good && WAITS.iter().any(|p| said.contains(p));
    let own = [first(message.from()), first(message.to())].map(|a| a.unwrap_or_default().to_lowercase());
    let mut found = told(&words, &own);
    for address in by_header {
        if !found.iter().any(|(a, _)| a.eq_ignore_ascii_case(&address)) {
            found.push((address, String::new()));
        }
    }
    if found.is_empty() && system {
        found = bare_names(&words, own[0].split_once('@').map_or("", |(_, domain)| domain));
    }
    found.truncate(MOST);
    let each = found.into_iter().map(|(address, said)| Recipient {
        address,
        action: if waits { "delayed" } else { "failed" }.to_owned(),
        reply: reply(&said).unwrap_or_else(|| reply_or_words(&words, &said)),
    });
    Some(each.collect::<Vec<_>>()).filter(|r| !r.is_empty())
}

/// Was it a mail system that sent it?
fn is_system(message: &Message<'_>) -> bool {
    let name = |s: &str| s.to_lowercase().replace(['_', '-', '.', ' '], "");
    let from = first(message.from()).unwrap_or_default();
    let local = name(from.rsplit_once('@').map_or(from, |(local, _)| local));
    let shown = name(message.from().and_then(|f| f.first()).and_then(|a| a.name()).unwrap_or_default());
    let systems = [
        "mailerdaemon",
        "postmaster",
        "maildaemon",
        "mdaemon",
        "postoffice",
        "maildelivery",
        "mailservice",
        "systemadministrator",
        "deliverysubsystem",
    ];
    systems.iter().any(|s| local.contains(s) || shown.contains(s)) || local == "daemon"
}

/// Does it say that nothing may come back to it (RFC 5321 section 4.5.5)?
fn no_way_back(message: &Message<'_>) -> bool {
    message.header_raw("Return-Path").map(|v| v.trim().to_lowercase()).is_some_and(|b| b == "<>" || b.contains("mailer-daemon"))
}

/// Names without a domain that a system lists of its own mailboxes.
fn bare_names(words: &str, domain: &str) -> Vec<(String, String)> {
    let from = words.lines().position(|l| l.to_lowercase().contains("following recipient"));
    let names = from.into_iter().flat_map(|at| words.lines().skip(at + 1)).filter(|l| !l.trim().is_empty()).map(str::trim);
    let is_name = |n: &&str| n.len() <= 64 && n.chars().all(|c| c.is_ascii_alphanumeric() || "._-+".contains(c)) && !domain.is_empty();
    names.take_while(is_name).map(|n| (format!("{n}@{domain}"), words.to_owned())).collect()
}

fn first<'a>(list: Option<&'a Address<'a>>) -> Option<&'a str> {
    list.and_then(|l| l.first()).and_then(|a| a.address())
}

/// The words of a message, up to where the message stands that failed.
fn words(message: &Message<'_>) -> String {
    let mut out = String::new();
    for (i, part) in message.parts.iter().enumerate() {
        // What is attached as a message is the one that failed.
        let text = match &part.body {
            PartType::Text(t) => t.as_ref().to_owned(),
            PartType::Html(_) => {
                message.html_body.iter().position(|n| *n as usize == i).and_then(|n| message.body_text(n)).unwrap_or_default().into_owned()
            }
            _ => continue,
        };
        let headers = part.content_type().is_some_and(|t| t.c_type == "text" && t.c_subtype.as_deref() == Some("rfc822-headers"));
        if headers || out.len() > READ {
            continue;
        }
        for line in text.lines() {
            let small = line.trim_start_matches(['>', ' ', '-', '*', '|']).to_lowercase();
            if ORIGINAL.iter().any(|o| small.starts_with(o)) && !out.trim().is_empty() {
                break;
            }
            out.extend(line.chars().take(1_000));
            out.push('\n');
        }
    }
    out.truncate(out.char_indices().nth(READ).map_or(out.len(), |(i, _)| i));
    out
}

/// Each address that the words name, with what stands from it to the next one.
fn told(words: &str, own: &[String]) -> Vec<(String, String)> {
    let mut out: Vec<(String, String)> = Vec::new();
    let mut open: Vec<usize> = Vec::new();
    let mut apart = true;
    let mut before = String::new();
    for line in words.lines() {
        let sender = before.ends_with("sent by") || before.ends_with("message from");
        before = if line.trim().is_empty() { before } else { line.trim().to_lowercase() };
        let here: Vec<String> = addresses(if sender { "" } else { line }).into_iter().filter(|a| is_recipient(a, line, own)).collect();
        if !here.is_empty() {
            if apart {
                open.clear();
            }
            for address in here {
                let at = out.iter().position(|(a, _)| a.eq_ignore_ascii_case(&address)).unwrap_or_else(|| {
                    out.push((address, String::new()));
                    out.len() - 1
                });
                open.push(at);
            }
        }
        // Addresses on lines of their own share what is said after them.
        apart = !(line.trim().is_empty() || addresses(line).len() == 1 && line.split_whitespace().count() == 1);
        for at in &open {
            out[*at].1.push_str(line);
            out[*at].1.push('\n');
        }
    }
    out
}

/// Is an address on a line one that failed, and not that of a system, of ours or of who may help?
fn is_recipient(address: &str, line: &str, own: &[String]) -> bool {
    let (small, line) = (address.to_lowercase(), line.to_lowercase());
    let local = small.split('@').next().unwrap_or_default();
    let helps = [
        "contact",
        "please send",
        "questions",
        "mailto:",
        "message-id",
        "assistance",
        "forward",
        "administrator",
        "report this",
        "e-mail us",
        "message from <",
        "mail from:",
        "from:",
        "sender:",
        " try ",
        "e.g.",
        "copy of this",
    ];
    let heads = ["to:", "cc:", "from:", "date:", "subject:", "reply-to:"];
    let written_by = line.find(&small).is_some_and(|at| {
        ["from ", "from <", "by ", "by <", "sender "].iter().any(|w| line[..at].ends_with(w))
            && !line[..at].contains("generated from")
            && !line[..at].contains("expanded from")
    });
    !own.contains(&small)
        && !["mailer-daemon", "postmaster"].iter().any(|s| local.starts_with(s))
        && !written_by
        && !helps.iter().any(|h| line.contains(h))
        && !heads.iter().any(|h| line.trim_start().starts_with(h) && !line.contains("smtp"))
}

/// The addresses in some words.
fn addresses(words: &str) -> Vec<String> {
    let part = |c: char| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c);
    let mut out: Vec<String> = Vec::new();
    for (at, _) in words.match_indices('@') {
        let local: String = words[..at].chars().rev().take_while(|c| part(*c)).collect::<Vec<_>>().into_iter().rev().collect();
        let domain: String = words[at + 1..].chars().take_while(|c| c.is_alphanumeric() || matches!(c, '-' | '.')).collect();
        let domain = domain.split("..").next().unwrap_or_default().trim_matches(['.', '-']);
        let local = local.trim_start_matches(['=', '\'', '`', '.', '*', '-', '{', '|']);
        // As an X.400 address carries it.
        let local = local.find("SMTP=").map_or(local, |at| &local[at + 5..]);
        if local.is_empty() || domain.is_empty() || !domain.contains('.') || local.len() > 64 || domain.len() > 255 {
            continue;
        }
        let address = format!("{local}@{domain}");
        if !out.iter().any(|a| a.eq_ignore_ascii_case(&address)) {
            out.push(address);
        }
    }
    out
}

/// The line of an SMTP reply in what is said: the last that says why, with its enhanced code where there is one.
fn reply(said: &str) -> Option<Reply> {
    let mut best: Option<Reply> = None;
    for line in said.lines() {
        if let Some(found) = within(line) {
            // One with an enhanced code says more than one without.
            if best.as_ref().is_none_or(|b| b.enhanced.is_none() || found.enhanced.is_some() && b.code == 0) {
                best = Some(found);
            }
        }
    }
    best
}

/// The SMTP reply within a line: "host mx.example said: 550 5.1.1 no such user", "no such user (#5.1.1)".
pub(crate) fn within(line: &str) -> Option<Reply> {
    for (i, _) in line.char_indices().filter(|(i, c)| matches!(c, '4' | '5') && starts_word(line, *i)) {
        let rest = &line[i..];
        let code = rest.as_bytes();
        let is_code =
            code.len() > 3 && code[1].is_ascii_digit() && code[2].is_ascii_digit() && matches!(code[3], b' ' | b'-' | b'#' | b':');
        let status = rest.split([' ', ')', ';', ',', ':', '\'', '"', ']']).next().unwrap_or_default();
        if rinse_core::bounce::parse_status(status).is_some() {
            // What it says may stand before the code.
            let after = rest[status.len()..].trim_matches([')', ';', ',', ':', ' ', '\'', '"', ']']);
            let text = if after.is_empty() { line[..i].trim_matches(['(', '#', ' ']) } else { after };
            return Some(Reply::parse(&format!("{status} {text}")));
        }
        if is_code {
            let mut found = Reply::parse(&rest.replacen(['#', ':'], " ", 1));
            // An enhanced code further on tells more: "553 sorry, no mailbox here by that name. (#5.1.1)".
            if found.enhanced.is_none()
                && let Some(inner) = rest.get(4..).and_then(within)
            {
                found.enhanced = inner.enhanced;
            }
            return Some(found);
        }
    }
    None
}

fn starts_word(line: &str, at: usize) -> bool {
    line[..at].chars().next_back().is_none_or(|c| !c.is_alphanumeric() && c != '.' && c != '-' && c != '@' && c != '/')
}

/// Where no reply stands beside an address: one that stands anywhere, else the words themselves.
fn reply_or_words(words: &str, said: &str) -> Reply {
    let text = |t: &str| t.split_whitespace().take(60).collect::<Vec<_>>().join(" ");
    reply(words).unwrap_or_else(|| Reply { code: 0, enhanced: None, text: text(if said.trim().is_empty() { words } else { said }) })
}

#[cfg(test)]
mod tests {
    use crate::inbound::{Inbound, incoming};
    use proptest::prelude::*;
    use rinse_core::bounce::Category;
    use rstest::rstest;

    const SYSTEM: &str = "From: MAILER-DAEMON@fulmar.example\nTo: back@skerry-light.example\n";

    fn read(head: &str, subject: &str, words: &str) -> Inbound {
        incoming(format!("{head}Subject: {subject}\n\n{words}").as_bytes()).unwrap().kind
    }

    #[rstest]
    #[case::one_address_and_its_reply("failure notice", "Hi. This is the mail system at fulmar.example.\nI'm afraid I wasn't able to deliver your message.\n\n<wren@fulmar.example>:\nSorry, no mailbox here by that name. (#5.1.1)\n\n--- Below this line is a copy of the message.\n\nTo: <other@fulmar.example>\n", &[("wren@fulmar.example", Category::NoSuchAddress)])]
    #[case::said_by_another_host("Mail delivery failed: returning message to sender", "A message that you sent could not be delivered to one or more of its recipients.\n\n  wren@fulmar.example\n    host mx.fulmar.example said: 552 5.2.2 mailbox full\n  tern@fulmar.example\n    550 blocked by our policy\n", &[("wren@fulmar.example", Category::MailboxFull), ("tern@fulmar.example", Category::Policy)])]
    #[case::in_words_alone("Undeliverable: Tide notes", "Your message\n\n  To: back@skerry-light.example\n  Subject: Tide notes\n\ndid not reach the following recipient(s):\n\nwren@petrel.example on Thu, 2 Apr 2026 09:00\n    The recipient name is not recognized\n", &[("wren@petrel.example", Category::NoSuchAddress)])]
    #[case::names_of_its_own_mailboxes("Mail Delivery Problem", "Your mail to the following recipients could not be delivered:\n\twren\n\ttern\n", &[("wren@fulmar.example", Category::Unknown), ("tern@fulmar.example", Category::Unknown)])]
    #[case::who_helps_is_nobody("Returned mail", "The following address failed:\nwren@fulmar.example: user unknown\nFor assistance contact help@fulmar.example, or postmaster@fulmar.example.\n", &[("wren@fulmar.example", Category::NoSuchAddress)])]
    fn reads_what_systems_write(#[case] subject: &str, #[case] words: &str, #[case] want: &[(&str, Category)]) {
        let Inbound::DeliveryStatus(found) = read(SYSTEM, subject, words) else { panic!("no report: {words}") };
        let found: Vec<_> = found.iter().map(|r| (r.address.as_str(), r.reply.category())).collect();
        assert_eq!(found, want);
    }

    #[test]
    fn goes_on_trying() {
        let Inbound::DeliveryStatus(found) = read(
            SYSTEM,
            "Warning: could not send message for past 4 hours",
            "<wren@fulmar.example>: connection timed out\nWe will keep trying; you do not need to resend it.\n",
        ) else {
            panic!("no report")
        };
        assert_eq!((found.len(), found[0].action.as_str()), (1, "delayed"));
    }

    /// What people write is theirs, whatever addresses and failures they write about.
    #[rstest]
    #[case(
        "From: Wren <wren@tern.example>\n",
        "Re: Undelivered?",
        "Mail to tern@fulmar.example could not be delivered, user unknown. Do you have another address?\n"
    )]
    #[case("From: Wren <wren@tern.example>\n", "Fwd: failure notice", "Look:\n<tern@fulmar.example>:\n550 5.1.1 no such user\n")]
    #[case("From: Wren <wren@tern.example>\nIn-Reply-To: <a@b.example>\n", "Delivery failed", "failed recipient: tern@fulmar.example\n")]
    #[case("From: Wren <wren@tern.example>\n", "My parcel was not delivered", "The storm lantern did not reach tern@fulmar.example.\n")]
    #[case(
        "Return-Path: <>\nFrom: Wren <wren@tern.example>\nAuto-Submitted: auto-replied\n",
        "Thank you",
        "I no longer work here.\nPlease write to tern@fulmar.example.\n"
    )]
    #[case(
        "Return-Path: <>\nFrom: Wren <wren@tern.example>\n",
        "Out of office: delivery failed?",
        "Mail that is not delivered goes to tern@fulmar.example.\n"
    )]
    #[case(
        "Return-Path: <>\nFrom: Wren <wren@tern.example>\nIn-Reply-To: <a@b.example>\n",
        "Undelivered",
        "Not found at tern@fulmar.example.\n"
    )]
    #[case("From: postmaster@tern.example\n", "Maintenance", "Write to wren@tern.example with questions.\n")]
    fn ordinary_mail_is_no_report(#[case] head: &str, #[case] subject: &str, #[case] words: &str) {
        assert!(!matches!(read(head, subject, words), Inbound::DeliveryStatus(_)), "{subject}");
    }

    #[test]
    fn a_challenge_is_neither_reply_nor_bounce() {
        let words = "Please verify that you are a person: https://gate.example/c/1 . Until then your message was not delivered to wren@fulmar.example.\n";
        assert_eq!(read("From: gate@fulmar.example\n", "Your message waits", words), Inbound::Other);
        let report = format!(
            "{SYSTEM}MIME-Version: 1.0\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n--b\nContent-Type: text/plain\n\n{words}--b\nContent-Type: message/delivery-status\n\nFinal-Recipient: rfc822; wren@fulmar.example\nAction: failed\nStatus: 5.7.1\n--b--\n"
        );
        assert_eq!(incoming(report.as_bytes()).unwrap().kind, Inbound::Other);
    }

    /// One that names the message it answers is no reply either; somebody who quotes one, or speaks of a waiting list, writes a reply.
    #[test]
    fn a_challenge_that_answers_us_is_no_reply() {
        let ask = "Before your message can be delivered, please verify that you are a person: https://gate.example/c/1\n";
        let answers = "From: gate@fulmar.example\nIn-Reply-To: <x@skerry-light.example>\n";
        assert_eq!(read(answers, "Your message waits", ask), Inbound::Other);
        assert_eq!(read(answers, "Re: boats", "Please put us on the waiting list, see https://fulmar.example/us\n"), Inbound::Reply);
        let quoted: String = ask.lines().map(|l| format!("> {l}\n")).collect();
        assert_eq!(read(answers, "Re: boats", &format!("What is this?\n{quoted}")), Inbound::Reply);
    }

    proptest! {
        /// No bytes end it, and an address that it names stands in the message, or is a mailbox of the system's own.
        #[test]
        fn reads_whatever_comes(pieces in prop::collection::vec(prop::sample::select(vec![
            "<wren@fulmar.example>:", "550 5.1.1 no", "(#5.1.1)", "following recipients failed:", "\n", "\n\n", " ", "@", "..", "SMTP=a@b.example", "wren", "said: 4", "é", "…", "<", ">", "=", "will keep trying", "sent by", "--b",
        ]), 0..60)) {
            let words = pieces.concat();
            if let Inbound::DeliveryStatus(found) = read(SYSTEM, "failure notice", &words) {
                for r in found {
                    let bare = r.address.trim_end_matches("@fulmar.example");
                    prop_assert!(words.contains(&r.address) || words.contains(bare), "{} of {:?}", r.address, words);
                }
            }
        }
    }
}
