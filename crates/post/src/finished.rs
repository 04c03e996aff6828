//! A whole message read back from its bytes, for the message check.

use mail_parser::{HeaderValue, Message, MessageParser};
use rinse_core::message::{Finished, Signature};

/// Reads a message. None when the bytes are no message at all.
#[must_use]
pub fn read(raw: &[u8]) -> Option<Finished> {
    let m = MessageParser::default().parse(raw)?;
    let from = m.from().and_then(|f| f.first()).and_then(|a| a.address()).unwrap_or_default();
    let domain = |address: &str| address.rsplit_once('@').map(|(_, d)| d.trim_end_matches('>').to_owned());
    let text = |name: &str| m.header_raw(name).map(|v| v.split_whitespace().collect::<Vec<_>>().join(" "));
    let html = m.html_part(0).filter(|p| p.is_text_html()).and_then(|_| m.body_html(0)).map(|b| b.into_owned());
    let plain = m.text_part(0).filter(|p| !p.is_text_html()).and_then(|_| m.body_text(0)).map(|b| b.into_owned());
    Some(Finished {
        subject: m.subject().unwrap_or_default().to_owned(),
        from_domain: domain(from).unwrap_or_default(),
        return_domain: text("Return-Path").as_deref().and_then(domain),
        list_unsubscribe: text("List-Unsubscribe"),
        list_unsubscribe_post: text("List-Unsubscribe-Post"),
        signatures: signatures(&m),
        has_date: m.date().is_some(),
        has_message_id: m.message_id().is_some(),
        html,
        text: plain,
        bytes: raw.len(),
    })
}

fn signatures(m: &Message<'_>) -> Vec<Signature> {
    m.headers()
        .iter()
        .filter(|h| h.name().eq_ignore_ascii_case("DKIM-Signature"))
        .filter_map(|h| {
            let raw = match h.value() {
                HeaderValue::Text(t) => t.to_string(),
                _ => String::from_utf8_lossy(m.raw_message().get(h.offset_start() as usize..h.offset_end() as usize)?).into_owned(),
            };
            let tag = |name: &str| {
                raw.split(';')
                    .find_map(|t| t.split_once('=').filter(|(n, _)| n.trim() == name))
                    .map(|(_, v)| v.split_whitespace().collect::<String>())
            };
            let covers = tag("h")?.to_lowercase().split(':').map(str::to_owned).collect();
            Some(Signature { domain: tag("d")?, covers })
        })
        .collect()
}
