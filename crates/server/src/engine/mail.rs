//! Reads the mailbox: what waits in it comes in by the same door as mail that is brought to it.

use super::{Engine, ReceivedAt, Result};
use axum::body::Body;
use axum::http::{Request, StatusCode};
use rinse_core::{DAY, Instant};
use rinse_post::bounds::LARGEST;
use rinse_store::{StoreError, notices};
use tower::ServiceExt;

/// Messages read before others get a turn.
const AT_ONCE: usize = 500;

impl Engine {
    /// A raw message for the door that takes mail. `to`: where it was delivered, unless it says so itself.
    pub(super) fn request(&self, to: Option<&str>, raw: Vec<u8>) -> std::result::Result<Request<Body>, axum::http::Error> {
        let mut request = Request::builder().method("POST").uri(format!("/in/mail/{}", self.own_door));
        if let Some(to) = to {
            request = request.header("x-envelope-to", to);
        }
        request.body(Body::from(raw))
    }

    /// Does a secret open the door for what the engine itself brings: the mailbox's mail, and the stand-ins'?
    pub(crate) fn opens_own_door(&self, secret: &str) -> bool {
        *self.own_door == *secret
    }

    /// Takes in what waits in the mailbox. What goes wrong with it is said in the log, and stops nothing else.
    pub(super) async fn read_mailbox(&self, now: Instant) {
        if let Err(e) = self.take_what_waits(now).await {
            tracing::error!("the mailbox could not be read to its end: {e}");
        }
    }

    /// Messages that were being read when Rinse ended are tried once more; whatever ends it twice is named to a person.
    pub(super) async fn recover_mailbox(&self, now: Instant) -> Result<()> {
        for name in self.mailbox.recover().map_err(StoreError::Io)? {
            let words = format!(
                "Rinse ended twice while it read the message {name}. It is kept in the mailbox’s folder “aside”, and isn’t read again."
            );
            tracing::warn!("{words}");
            self.store.write(move |c| notices::raise(c, notices::MAIL, &name, &words, now)).await?;
        }
        Ok(())
    }

    /// A message is marked as read when it is on record; one that comes again is known.
    async fn take_what_waits(&self, now: Instant) -> Result<()> {
        let Some(doors) = self.doors.get() else { return Ok(()) };
        loop {
            let mailbox = self.mailbox.clone();
            let waiting = tokio::task::spawn_blocking(move || mailbox.waiting(AT_ONCE)).await.map_err(|_| StoreError::Stopped)??;
            if waiting.is_empty() {
                return Ok(());
            }
            for message in &waiting {
                let message = self.mailbox.take_up(message).map_err(StoreError::Io)?;
                // One that no door takes isn't read into memory either.
                if tokio::fs::metadata(&message.path).await.map_err(StoreError::Io)?.len() > LARGEST as u64 {
                    self.mailbox.leave_aside(&message).map_err(StoreError::Io)?;
                    let name = message.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                    let words = format!(
                        "The message {name} in the mailbox is larger than 5 MB: it wasn’t read, and is kept in the mailbox’s folder “aside”."
                    );
                    tracing::warn!("{words}");
                    self.store.write(move |c| notices::raise(c, notices::MAIL, &name, &words, now)).await?;
                    continue;
                }
                let raw = tokio::fs::read(&message.path).await.map_err(StoreError::Io)?;
                // When it was put in, unless the name says something that can't be.
                let at = message.delivered_at.map(Instant::of).filter(|at| *at <= now && now - *at < 30 * DAY).unwrap_or(now);
                let mut request = self.request(None, raw).map_err(|e| StoreError::Refused(e.to_string()))?;
                request.extensions_mut().insert(ReceivedAt(at));
                let Ok(answer) = doors.clone().oneshot(request).await;
                match answer.status() {
                    // The door keeps it aside, under its digest.
                    StatusCode::ACCEPTED => tokio::fs::remove_file(&message.path).await.map_err(StoreError::Io)?,
                    status if status.is_server_error() => {
                        // It is tried again.
                        self.mailbox.put_back(&message).map_err(StoreError::Io)?;
                        return Err(StoreError::Refused(format!("A message was not taken in: {status}.")));
                    }
                    _ => self.mailbox.taken(&message).map_err(StoreError::Io)?,
                }
            }
        }
    }

    pub(crate) fn mailbox(&self) -> &crate::mailbox::Maildir {
        &self.mailbox
    }
}
