//! Where messages are handed over: the stand-in network in process, or an SMTP host.

use crate::engine::Gate;
use futures::StreamExt;
use lettre::transport::smtp::PoolConfig;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Tokio1Executor};
use rinse_core::Instant;
use rinse_core::bounce::Reply;
use rinse_post::compose::Composed;
use rinse_standins::network::{Handed, Network};
use std::sync::{Arc, Mutex, PoisonError};

/// An SMTP host to hand mail to, over several connections at once: most of a message's time is spent waiting for answers.
pub struct Smtp {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    connections: usize,
}

/// The most connections to one host that may be asked for.
pub const MOST_CONNECTIONS: u32 = 50;

impl Smtp {
    /// A host by name and port; `tls` asks for STARTTLS and refuses to go on without.
    ///
    /// # Errors
    /// When the name can't be used for TLS.
    pub fn new(host: &str, port: u16, tls: bool, connections: u32) -> Result<Self, String> {
        let connections = connections.clamp(1, MOST_CONNECTIONS);
        let tls = if tls { Tls::Required(TlsParameters::new(host.to_owned()).map_err(|e| e.to_string())?) } else { Tls::None };
        let transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(host)
            .port(port)
            .tls(tls)
            .pool_config(PoolConfig::new().max_size(connections))
            .build();
        Ok(Self { transport, connections: connections as usize })
    }

    async fn send(&self, m: &Composed) -> Reply {
        let (Ok(from), Ok(to)) = (m.return_path.parse(), m.to.parse()) else {
            return Reply::parse("550 5.1.3 the address can't be put in an SMTP envelope");
        };
        let Ok(envelope) = lettre::address::Envelope::new(Some(from), vec![to]) else {
            return Reply::parse("550 5.1.3 the envelope is empty");
        };
        match self.transport.send_raw(&envelope, &m.bytes).await {
            Ok(r) => Reply::parse(&format!("{} {}", r.code(), r.message().collect::<Vec<_>>().join(" "))),
            Err(e) => match e.status() {
                Some(code) => {
                    let text = std::error::Error::source(&e).map_or_else(|| e.to_string(), ToString::to_string);
                    Reply::parse(&format!("{code} {text}"))
                }
                // No reply at all: the connection failed, so it is tried again later.
                None => Reply { code: 0, enhanced: None, text: e.to_string() },
            },
        }
    }
}

/// Replies in the places of the messages that went.
pub(crate) fn spread(go: &[bool], replies: Vec<Reply>) -> Vec<Option<Reply>> {
    let mut replies = replies.into_iter();
    go.iter().map(|go| if *go { replies.next() } else { None }).collect()
}

/// The transport in use.
#[derive(Clone)]
pub enum Transport {
    StandIn(Arc<Mutex<Network>>),
    Smtp(Arc<Smtp>),
}

impl Transport {
    /// How many messages are handed over between two records of it: few where nobody can tell
    /// after a crash whether the host has them.
    pub(crate) fn batch(&self) -> usize {
        match self {
            Self::StandIn(_) => 500,
            Self::Smtp(s) => s.connections.max(10),
        }
    }

    pub(crate) fn network(&self) -> Option<&Arc<Mutex<Network>>> {
        match self {
            Self::StandIn(n) => Some(n),
            Self::Smtp(_) => None,
        }
    }

    /// Hands a batch over and returns each host's reply; none for what the gate didn't let go any more.
    pub(crate) async fn hand_over(&self, now: Instant, batch: &[Composed], gate: &Gate) -> Result<Vec<Option<Reply>>, String> {
        if batch.is_empty() {
            return Ok(Vec::new());
        }
        match self {
            Self::StandIn(n) => {
                let go = gate.lets_all(batch.len()).await;
                let handed: Vec<Handed<'_>> = batch
                    .iter()
                    .zip(&go)
                    .filter(|(_, go)| **go)
                    .map(|(m, _)| Handed { message_id: &m.message_id, return_path: &m.return_path, to: &m.to, bytes: &m.bytes })
                    .collect();
                let replies = n.lock().unwrap_or_else(PoisonError::into_inner).hand_over(now, &handed).map_err(|e| e.to_string())?;
                Ok(spread(&go, replies))
            }
            Self::Smtp(s) => {
                // In the batch's order, so that each reply is its message's.
                let sending: Vec<_> = batch
                    .iter()
                    .enumerate()
                    .map(|(i, m)| async move { if gate.lets(i).await { Some(s.send(m).await) } else { None } })
                    .collect();
                Ok(futures::stream::iter(sending).buffered(s.connections).collect().await)
            }
        }
    }

    /// Does the host have this message? `None` when nobody can tell.
    pub(crate) fn holds(&self, message_id: &str) -> Option<bool> {
        let n = self.network()?;
        n.lock().unwrap_or_else(PoisonError::into_inner).holds(message_id).ok()
    }
}
