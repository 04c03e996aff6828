//! Reads the mailbox: what waits in it comes in by the same door as mail that is brought to it.

use super::{Engine, ReceivedAt, Result};
use axum::body::Body;
use axum::http::Request;
use rinse_core::{DAY, Instant};
use rinse_post::inbound;
use rinse_store::StoreError;
use tower::ServiceExt;

/// Messages read before others get a turn.
const AT_ONCE: usize = 500;
/// As much as the door takes.
const LARGEST: u64 = 5_000_000;

/// A raw message for the door that takes mail.
pub(super) fn request(to: &str, raw: Vec<u8>) -> std::result::Result<Request<Body>, axum::http::Error> {
    Request::builder().method("POST").uri("/in/mail").header("x-envelope-to", to).body(Body::from(raw))
}

impl Engine {
    /// Takes in what waits in the mailbox. What goes wrong with it is said in the log, and stops nothing else.
    pub(super) async fn read_mailbox(&self, now: Instant) {
        if let Err(e) = self.take_what_waits(now).await {
            tracing::error!("the mailbox could not be read to its end: {e}");
        }
    }

    /// A message is marked as read when it is on record; one that comes again is known.
    async fn take_what_waits(&self, now: Instant) -> Result<()> {
        let Some(doors) = self.doors.get() else { return Ok(()) };
        loop {
            let waiting = self.mailbox.waiting(AT_ONCE).map_err(StoreError::Io)?;
            if waiting.is_empty() {
                return Ok(());
            }
            for message in &waiting {
                // One that no door takes isn't read into memory either.
                if tokio::fs::metadata(&message.path).await.map_err(StoreError::Io)?.len() > LARGEST {
                    tracing::warn!("{} is too large; it is put aside", message.path.display());
                    self.mailbox.taken(message).map_err(StoreError::Io)?;
                    continue;
                }
                let raw = tokio::fs::read(&message.path).await.map_err(StoreError::Io)?;
                // When it was put in, unless the name says something that can't be.
                let at = message.delivered_at.map(Instant).filter(|at| *at <= now && now - *at < 30 * DAY).unwrap_or(now);
                let to = inbound::delivered_to(&raw);
                let Ok(mut request) = request(&to.replace(|c: char| c.is_control(), ""), raw) else {
                    tracing::warn!("{} can't be read as mail; it is put aside", message.path.display());
                    self.mailbox.taken(message).map_err(StoreError::Io)?;
                    continue;
                };
                request.extensions_mut().insert(ReceivedAt(at));
                let Ok(answer) = doors.clone().oneshot(request).await;
                if answer.status().is_server_error() {
                    // It stays, and is tried again.
                    return Err(StoreError::Refused(format!("A message was not taken in: {}.", answer.status())));
                }
                self.mailbox.taken(message).map_err(StoreError::Io)?;
            }
        }
    }
}
