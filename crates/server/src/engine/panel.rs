//! Copies of a mailing to the mailboxes of the test panel, as it begins.

use super::{Engine, Result};
use crate::composing;
use rinse_core::Instant;
use rinse_core::id::MailingId;
use rinse_post::compose::Composed;
use rinse_store::delivery::panel::{self, ToSend};
use rinse_store::{letterheads, mailings};

impl Engine {
    /// Hands over a copy of each mailing that has begun to each mailbox of the panel, once. What its host says of one stands on its record.
    pub(super) async fn hand_over_copies(&self, now: Instant) -> Result<()> {
        for mailing in self.store.read(panel::waiting).await? {
            let copies = self.store.write(move |c| panel::claim(c, mailing, now)).await?;
            let numbers: Vec<i64> = copies.iter().map(|copy| copy.test).collect();
            let made = match self.copies(mailing, copies, now).await {
                Ok(made) => made.into_iter().map(Ok).collect(),
                Err(e) => numbers.iter().map(|_| Err(e.to_string())).collect::<Vec<_>>(),
            };
            for (test, message) in numbers.into_iter().zip(made) {
                self.hand_over_noted(test, message, now).await?;
            }
        }
        Ok(())
    }

    /// The message as it goes out, of its first variant and with links that count nothing.
    async fn copies(&self, mailing: MailingId, copies: Vec<ToSend>, now: Instant) -> Result<Vec<Composed>> {
        let (signer, base_url) = (self.signer.clone(), self.base_url.clone());
        self.store
            .read_at_leisure(move |c| {
                let (d, l) = (mailings::one(c, mailing)?.draft, letterheads::of_mailing(c, mailing)?);
                let built = composing::built(&d, &l).map_err(|e| composing::refused(&e))?;
                let (composer, mut who) = composing::plain(c, (&base_url, &signer), (&d, built), &l, None)?;
                let made = copies.into_iter().map(|copy| {
                    who.address = copy.address;
                    composer.compose(-copy.test, 0, who.to(), now.millis() / 1000).map_err(|e| composing::refused(&e))
                });
                made.collect()
            })
            .await
    }
}
