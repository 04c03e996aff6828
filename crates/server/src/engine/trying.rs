//! Messages that belong to no send: tests, which somebody of the team gets with real values.

use super::{Engine, Result};
use crate::gate::Gate;
use crate::gateway::TextMessage;
use rinse_core::Instant;
use rinse_core::bounce::Reply;
use rinse_post::compose::Composed;
use rinse_store::{StoreError, settings};
use std::slice::from_ref;

pub(crate) enum TestMessage {
    Mail(Composed),
    Text(TextMessage),
}

impl Engine {
    /// Hands a test over. Nothing tries it again later as it does for sends, so a host that puts it off is asked once more.
    pub(crate) async fn hand_over_test(&self, message: &TestMessage, now: Instant) -> Result<Reply> {
        let reply = self.hand_over_once(message, now).await?;
        if reply.put_off() { self.hand_over_once(message, now).await } else { Ok(reply) }
    }

    /// Hands a test over that was made, or not; what its host says, or why there is nothing to say, stands on its record.
    pub(super) async fn hand_over_noted(&self, test: i64, made: std::result::Result<Composed, String>, now: Instant) -> Result<()> {
        let words = match made {
            Ok(message) => match self.hand_over_test(&TestMessage::Mail(message), now).await {
                Ok(reply) => reply.line(),
                Err(e) => e.to_string(),
            },
            Err(words) => words,
        };
        self.store.write(move |c| settings::test_answered(c, test, &words)).await
    }

    async fn hand_over_once(&self, message: &TestMessage, now: Instant) -> Result<Reply> {
        let replies = match message {
            TestMessage::Mail(m) => self.transport.hand_over(now, from_ref(m), &Gate::open_to_all(&self.store, &self.ending)).await,
            TestMessage::Text(m) => self.texts.hand_over(now, from_ref(m), &Gate::open_to_all(&self.store, &self.ending)).await,
        };
        let nothing = || StoreError::Refused("The host gave no reply.".into());
        replies.map_err(StoreError::Refused)?.into_iter().next().flatten().ok_or_else(nothing)
    }
}
