//! Text messages, as part of what is due.

use super::{Engine, Result};
use crate::gateway::TextMessage;
use rinse_core::Instant;
use rinse_core::bounce::Reply;
use rinse_store::StoreError;

impl Engine {
    /// Can text messages be handed over at all?
    pub(crate) fn has_text_gateway(&self) -> bool {
        self.texts.is_there()
    }

    /// What a gateway signs with, where there is one of somebody's.
    pub(crate) fn text_secret(&self) -> Option<Vec<u8>> {
        self.texts.secret().map(<[u8]>::to_vec)
    }

    /// Hands one text message over that belongs to no send.
    pub(crate) async fn hand_over_text(&self, message: TextMessage, now: Instant) -> Result<Reply> {
        let replies = self.texts.hand_over(now, &[message]).await.map_err(StoreError::Refused)?;
        replies.into_iter().next().ok_or_else(|| StoreError::Refused("The gateway gave no reply.".into()))
    }
}
