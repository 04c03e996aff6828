//! Letters of saved views to people of the team.

use super::{Engine, Result};
use crate::{composing, report};
use minijinja::HtmlEscape;
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_core::token::Kind;
use rinse_post::compose::{self, Composed, Note};
use rinse_store::findings::letters::{self, Due};
use rinse_store::{StoreError, letterheads};

impl Engine {
    /// Hands over the letters that are due. One that can't be made, or that its host refuses, says so on its record and comes again next week.
    pub(super) async fn hand_over_letters(&self, now: Instant) -> Result<()> {
        if self.store.read(letters::next_due).await?.is_none_or(|due| due > now) {
            return Ok(());
        }
        for due in self.store.write(move |c| letters::claim(c, now)).await? {
            let test = due.test;
            let made = self.letter(due, now).await.map_err(|e| e.to_string());
            self.hand_over_noted(test, made, now).await?;
        }
        Ok(())
    }

    async fn letter(&self, due: Due, now: Instant) -> Result<Composed> {
        let (signer, base_url) = (self.signer.clone(), self.base_url.clone());
        self.store
            .read_at_leisure(move |c| {
                let l = letterheads::one(c, due.letterhead)?;
                let (sentence, pdf) = report::of_path(c, &due.view, &due.path, now.millis())?;
                let link = format!("{}{}", base_url.trim_end_matches('/'), due.path);
                let why = "You get this each week since somebody of your team asked for it, in Rinse under Findings.";
                let text = format!("{sentence}\n\nThe whole of it is attached, and stands at {link}\n\n{why}\n");
                let html = format!(
                    "<p style=\"font-size:18px\">{}</p><p>The whole of it is attached, and stands <a href=\"{}\">on its page</a>.</p><p>{why}</p>",
                    HtmlEscape(&sentence),
                    HtmlEscape(&link)
                );
                let (number, token) = (format!("letter-{}", due.test), signer.mailbox(Kind::Return, SendId(-due.test)));
                let file = format!("{}.pdf", due.view.replace(|c: char| !c.is_alphanumeric(), "-"));
                let note = Note {
                    to: &due.address,
                    subject: &due.view,
                    text: &text,
                    html: &html,
                    number: &number,
                    token: &token,
                    attached: Some((&file, &pdf)),
                };
                let sender = composing::sender(c, &l, &base_url)?;
                compose::note(&sender, &note, &composing::signers(c, &l)?, now.millis() / 1000).map_err(|e| StoreError::Refused(e.to_string()))
            })
            .await
    }
}
