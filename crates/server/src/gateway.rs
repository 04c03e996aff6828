//! Where text messages are handed over: the stand-in network in process, or a gateway by HTTP.
//!
//! A gateway is sent one signed message after the other, as JSON: `id`, `from`, `to`, `text`. It answers 2xx when it has taken
//! it, 404 or 410 when there is no such number, 429 or 5xx when it should be tried again, and any other 4xx when it refuses it.
//! A number that it has seen before is the same message again: it takes that, and sends nothing. What comes back is signed
//! with the same secret (see `public::text`). The signature is that of webhooks (`rinse_core::webhook`).

use crate::gate::Gate;
use crate::signed::{Message, in_time};
use crate::transport::spread;
use futures::StreamExt;
use rinse_core::Instant;
use rinse_core::bounce::Reply;
use rinse_standins::network::Network;
use rinse_standins::phones::HandedText;
use serde::Serialize;
use std::sync::{Arc, Mutex, PoisonError};

/// Messages handed to a gateway at the same time.
const AT_ONCE: usize = 16;
/// As much of a gateway's words as is kept.
const WORDS: usize = 200;

/// A text message with its envelope.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct TextMessage {
    pub(crate) id: String,
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) text: String,
}

/// A gateway of somebody's, and the secret that is shared with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextGateway {
    /// `http://…`
    pub url: String,
    pub secret: Vec<u8>,
}

impl TextGateway {
    /// # Errors
    /// An address or a secret that can't be used.
    pub fn new(url: &str, secret: &str) -> Result<Self, String> {
        let parsed = url::Url::parse(url).map_err(|e| format!("{url:?} is no web address: {e}"))?;
        if parsed.scheme() != "http" || parsed.host_str().is_none() {
            return Err(format!(
                "The text gateway is reached by http://, and {url:?} isn't so. Put a proxy beside Rinse that speaks TLS to it."
            ));
        }
        if secret.len() < 16 {
            return Err("The secret of the text gateway has fewer than 16 characters. Set RINSE_TEXT_SECRET to a longer one.".into());
        }
        Ok(Self { url: url.to_owned(), secret: secret.as_bytes().to_vec() })
    }
}

/// The gateway in use.
#[derive(Clone)]
pub(crate) enum Texts {
    StandIn(Arc<Mutex<Network>>),
    Http(Arc<TextGateway>),
    /// None was named: no text message can be planned.
    None,
}

impl Texts {
    pub(crate) fn http(gateway: TextGateway) -> Self {
        Self::Http(Arc::new(gateway))
    }

    pub(crate) fn is_there(&self) -> bool {
        !matches!(self, Self::None)
    }

    /// What comes in has to be signed with.
    pub(crate) fn secret(&self) -> Option<&[u8]> {
        match self {
            Self::Http(g) => Some(&g.secret),
            Self::StandIn(_) | Self::None => None,
        }
    }

    /// Hands a batch over and returns the replies, in its order; none for what the gate didn't let go any more.
    pub(crate) async fn hand_over(&self, now: Instant, batch: &[TextMessage], gate: &Gate) -> Result<Vec<Option<Reply>>, String> {
        if batch.is_empty() {
            return Ok(Vec::new());
        }
        match self {
            Self::StandIn(n) => {
                let go = gate.lets_all(batch.len()).await;
                let goes = batch.iter().zip(&go).filter(|(_, go)| **go);
                let handed: Vec<HandedText<'_>> =
                    goes.map(|(m, _)| HandedText { id: &m.id, from: &m.from, to: &m.to, text: &m.text }).collect();
                let replies = n.lock().unwrap_or_else(PoisonError::into_inner).hand_over_texts(now, &handed).map_err(|e| e.to_string())?;
                Ok(spread(&go, replies))
            }
            Self::Http(gateway) => {
                let sending: Vec<_> = batch
                    .iter()
                    .enumerate()
                    .map(|(i, m)| async move { if gate.lets(i).await { Some(send(gateway, m, now).await) } else { None } })
                    .collect();
                Ok(futures::stream::iter(sending).buffered(AT_ONCE).collect().await)
            }
            // It is kept for the day that there is one.
            Self::None => {
                Ok(batch.iter().map(|_| Some(Reply { code: 0, enhanced: None, text: "there is no text gateway".into() })).collect())
            }
        }
    }

    /// Does the gateway have this message? One that knows numbers it has seen can be handed it again.
    pub(crate) fn holds(&self, id: &str) -> Option<bool> {
        match self {
            Self::StandIn(n) => n.lock().unwrap_or_else(PoisonError::into_inner).holds(id).ok(),
            Self::Http(..) | Self::None => Some(false),
        }
    }
}

async fn send(gateway: &TextGateway, m: &TextMessage, now: Instant) -> Reply {
    let body = match serde_json::to_string(m) {
        Ok(body) => body,
        Err(e) => return Reply::parse(&format!("554 5.6.0 {e}")),
    };
    let message = Message { url: &gateway.url, secret: &gateway.secret, id: &m.id, body: &body };
    match in_time(message.post(now)).await {
        Ok((status, words)) => reply(status, &words.chars().take(WORDS).collect::<String>()),
        Err(text) => Reply { code: 0, enhanced: None, text },
    }
}

/// What a gateway's status means, in the terms that failures are told apart by.
pub(crate) fn reply(status: u16, words: &str) -> Reply {
    let line = match status {
        200..=299 => "250 2.0.0 taken",
        404 | 410 => "550 5.1.1 no such number",
        429 | 500..=599 => "451 4.3.0 to be tried again",
        _ => "554 5.7.1 refused by the gateway",
    };
    let line = if words.is_empty() { line.to_owned() } else { format!("{line}: {}", words.replace(['\r', '\n'], " ")) };
    Reply::parse(&line)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rinse_core::bounce::Category;

    #[test]
    fn a_gateways_status_says_what_becomes_of_the_message() {
        assert!(reply(202, "").accepted());
        assert_eq!(reply(404, "unknown subscriber").category(), Category::NoSuchAddress);
        assert!(reply(503, "busy").try_again() && reply(429, "").try_again());
        // About us, not about the number.
        let refused = reply(403, "sender blocked");
        assert!(!refused.try_again() && refused.category() != Category::NoSuchAddress, "{refused:?}");
        assert!(TextGateway::new("https://gateway.example", "0123456789abcdef").unwrap_err().contains("http://"));
        assert!(TextGateway::new("http://127.0.0.1:9/", "short").unwrap_err().contains("16"));
    }
}
