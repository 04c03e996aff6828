//! The demo's text messages: members who gave their number, one that went out, and one to come in the evening.

use super::{Director, OPENS, TOPICS};
use crate::actions;
use rinse_core::channel::Channel;
use rinse_core::id::{LetterheadId, MailingId};
use rinse_core::table::Field;
use rinse_core::{HOUR, MINUTE};
use rinse_standins::base::mobiles_csv;
use rinse_standins::scenario::Scenario;
use rinse_store::imports::{self, Decision};
use rinse_store::mailings::{self, MailingDraft, draft};
use rinse_store::topics;

/// The number that Skerry Light's text messages come from.
pub(super) const NUMBER: &str = "60777";

impl Director {
    /// A file of the numbers that members gave at their evening, with what they agreed to.
    pub(super) async fn numbers(&self) -> anyhow::Result<()> {
        let store = &self.app.store;
        let raw = store.folder().join("imports").join("upload-mobiles.csv");
        std::fs::write(&raw, mobiles_csv(&Scenario::skerry_light(), self.people * 800 / 1000))?;
        let now = self.app.now();
        let id = imports::stage(store, raw, "members-evening-mobiles.csv".into(), now, Some(1)).await?;
        let d = Decision {
            mapping: vec![Some(Field::Address), Some(Field::Phone)],
            header: true,
            list: None,
            tag: None,
            consent: false,
            texts: true,
            entity: String::new(),
            evidence: "Card at the members' evening: news of boats and tides by text".into(),
            fixes: imports::Fixes::default(),
        };
        imports::decide(store, id, d, now).await?;
        imports::check(store, id, self.app.hosts(), |_| {}).await?;
        imports::apply(store, id, now, Some(1), |_| true).await?;
        Ok(())
    }

    /// One that went out in the year.
    pub(super) async fn text(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        let id = self
            .app
            .store
            .write(move |c| {
                let text = "{{ sender_name }}: tomorrow's low tide is the lowest of the year. The walk to the old light begins at 10, from the harbour steps. Reply STOP to end.";
                let draft = MailingDraft {
                    channel: Channel::Text,
                    topic_id: Some(topics::named(c, TOPICS[2])?),
                    text: text.into(),
                    ..MailingDraft::under(LetterheadId(1), "Lowest tide of the year")
                };
                mailings::save(c, None, &draft, now, Some(2))
            })
            .await?;
        actions::plan_mailing(&self.app, id, None, Some(2)).await?;
        self.app.engine.tick(now).await?;
        Ok(())
    }

    /// One to come, along with an email: in the evening, when it is night already for some.
    pub(super) async fn text_to_come(&self, letter: i64) -> anyhow::Result<()> {
        let now = self.app.now();
        let id = self
            .app
            .store
            .write(move |c| {
                let id = draft::companion(c, MailingId(letter), now, Some(2))?;
                let text = "{{ given_name|default(\"Hello\") }}, Saturday's boats leave at 9:40, low tide is at 11. Bring boots.\n{{ sender_name }}. Reply STOP to end.";
                let d = MailingDraft { text: text.into(), ..mailings::one(c, id)?.draft };
                mailings::save(c, Some(id), &d, now, Some(2))
            })
            .await?;
        actions::plan_mailing(&self.app, id, Some(OPENS + 24 * HOUR + 35 * MINUTE), Some(2)).await?;
        Ok(())
    }
}
