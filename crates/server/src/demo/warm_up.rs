//! The shop begins to write by a name of its own, which hosts don't know yet: its first letter goes out over a week.

use super::{Director, START, TOPICS, body};
use crate::actions;
use rinse_core::delivery::warm_up::Rule;
use rinse_core::id::LetterheadId;
use rinse_core::{DAY, HOUR};
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::{tags, topics, warm_up};

/// The letterhead's number.
const LETTERHEAD: i64 = 3;
const NAME: &str = "Lanterns by post";

impl Director {
    pub(super) async fn warm_up(&self) -> anyhow::Result<()> {
        self.app.engine.advance(START + 361 * DAY + 15 * HOUR).await?;
        let now = self.app.now();
        let mailing = self
            .app
            .store
            .write(move |c| {
                let shop = letterheads::one(c, LetterheadId(2))?;
                letterheads::save(
                    c,
                    &Letterhead {
                        id: LetterheadId(0),
                        name: "Lantern Shop by post".into(),
                        from_address: "letters@lantern-shop.example".into(),
                        ..shop
                    },
                    now,
                )?;
                warm_up::begin(c, "lantern-shop.example", Rule { start: 40, factor: 1.5 }, now, Some(2))?;
                let (html, text) = body(NAME, "See the lanterns");
                let draft = MailingDraft {
                    topic_id: Some(topics::named(c, TOPICS[4])?),
                    list_id: Some(tags::named(c, tags::Kind::List, super::LISTS[1], now)?),
                    html,
                    text,
                    preheader: "From the workshop on the pier".into(),
                    subjects: vec!["Lanterns come by post now".into()],
                    ..MailingDraft::under(LetterheadId(LETTERHEAD), NAME)
                };
                mailings::save(c, None, &draft, now, Some(2))
            })
            .await?;
        self.sign(LetterheadId(LETTERHEAD)).await?;
        self.app.engine.warm(now).await?;
        self.app.engine.advance(START + 362 * DAY + 9 * HOUR).await?;
        actions::plan_mailing(&self.app, mailing, None, Some(2)).await?;
        self.app.engine.tick(self.app.now()).await?;
        Ok(())
    }
}
