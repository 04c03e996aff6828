//! Where messages are handed over: the stand-in network in process, or an SMTP host.

mod smtp;

pub use smtp::{MOST_CONNECTIONS, Smtp};
pub(crate) use smtp::{reached, within};

use crate::gate::Gate;
use futures::StreamExt;
use rinse_core::Instant;
use rinse_core::bounce::Reply;
use rinse_post::compose::Composed;
use rinse_standins::network::{Handed, Network};
use std::sync::{Arc, Mutex, PoisonError};

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
                // In the batch's order, so that each reply is its message's. Each is asked about once it has its turn, and goes at once.
                let send = |(i, m)| async move {
                    let turn = s.turn().await?;
                    if gate.lets(i).await { Some(s.send(m, turn).await) } else { None }
                };
                let sending: Vec<_> = batch.iter().enumerate().map(send).collect();
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
