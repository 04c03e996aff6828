//! Reads the mailbox: what waits in it comes in by the same door as mail that is brought to it.

use super::{Engine, ReceivedAt, Result};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rinse_core::{DAY, Instant};
use rinse_post::inbound;
use rinse_store::StoreError;
use tower::ServiceExt;

/// Messages read before others get a turn.
const AT_ONCE: usize = 500;

/// A raw message for the door that takes mail.
pub(super) fn request(to: &str, raw: Vec<u8>) -> std::result::Result<Request<Body>, axum::http::Error> {
    Request::builder().method("POST").uri("/in/mail").header("x-envelope-to", to).body(Body::from(raw))
}

impl Engine {
    /// Takes in what waits in the mailbox. A message is marked as read when it is on record; one that comes again is known.
    pub(super) async fn read_mailbox(&self, now: Instant) -> Result<()> {
        let Some(doors) = self.doors.get() else { return Ok(()) };
        loop {
            let waiting = self.mailbox.waiting(AT_ONCE).map_err(StoreError::Io)?;
            if waiting.is_empty() {
                return Ok(());
            }
            for message in &waiting {
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
                match answer.status() {
                    // It stays, and is tried again.
                    status if status.is_server_error() => {
                        return Err(StoreError::Refused(format!("A message in the mailbox was not taken in: {status}.")));
                    }
                    StatusCode::PAYLOAD_TOO_LARGE => tracing::warn!("{} is too large; it is put aside", message.path.display()),
                    _ => {}
                }
                self.mailbox.taken(message).map_err(StoreError::Io)?;
            }
        }
    }
}
