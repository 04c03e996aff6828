//! The demo's series: members are written to on the day on which they joined, and a trial of what they read first.

use super::{Director, body};
use crate::actions;
use rinse_core::id::LetterheadId;
use rinse_core::reaction::Deed;
use rinse_core::segment::FieldKind;
use rinse_core::series::{Again, Does, Entry, Exit, Happening, Outline, Question, Step};
use rinse_core::trial::metric::Metric;
use rinse_core::trial::plan::Plan;
use rinse_store::mailings::{self, MailingDraft};
use rinse_store::{fields, series, tags, topics, trials};

impl Director {
    /// Starts the series: a thank-you, and for those who didn't open it another try.
    pub(super) async fn members_day(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        let (id, trial) = self
            .app
            .store
            .write(move |c| {
                let since = fields::named(c, "member since", FieldKind::Date, now)?;
                let topic = topics::named(c, "Overnight stays")?;
                let tag = tags::named(c, tags::Kind::Tag, "Read their member's letter", now)?;
                let write = |name: &str, subjects: &[&str], offer: &str| {
                    let (html, text) = body(name, offer);
                    let html = html.replace(
                        "<a href=\"{{ share_url }}\">",
                        "<a href=\"{{ leave_series_url }}\">No more of these member's letters</a>, <a href=\"{{ share_url }}\">",
                    );
                    let draft = MailingDraft {
                        topic_id: Some(topic),
                        html,
                        text: format!("{text}No more of these member's letters: {{{{ leave_series_url }}}}\n"),
                        preheader: format!("{offer}, as a member"),
                        subjects: subjects.iter().map(ToString::to_string).collect(),
                        ..MailingDraft::under(LetterheadId(1), name)
                    };
                    mailings::save(c, None, &draft, now, Some(2))
                };
                let first = write(
                    "Member's day",
                    &["Another year of light, thanks to you", "From the keeper: another year of light"],
                    "Choose a night",
                )?;
                let second = write("Member's day, once more", &["Your free night is still there"], "Choose a free night")?;
                let step = |id, does| Step { id, does };
                let opened = Happening::Opened { step: 1 };
                let outline = Outline {
                    entry: Entry::Date { field: since, days: 0, minute: 9 * 60, yearly: true },
                    again: Again::After { days: 300 },
                    steps: vec![
                        step(1, Does::Mail { mailing: first }),
                        step(2, Does::Await { what: opened.clone(), hours: 96 }),
                        step(
                            3,
                            Does::Fork {
                                on: Question::Happened { what: opened },
                                yes: vec![step(4, Does::Act { deed: Deed::Tag { tag, put: true } })],
                                no: vec![step(5, Does::Wait { hours: 24, minute: Some(18 * 60) }), step(6, Does::Mail { mailing: second })],
                            },
                        ),
                        step(7, Does::Wait { hours: 336, minute: None }),
                    ],
                    exits: vec![Exit::Happened { what: Happening::Bought { product: None, category: None } }, Exit::TopicLeft { topic }],
                    ..Outline::default()
                };
                let id = series::save(c, None, "Member's day", LetterheadId(1), &outline, now, Some(2))?;
                // Members come one by one: an arm takes weeks to fill.
                let plan = Plan {
                    metric: Metric::HumanOpen,
                    effect: 0.08,
                    per_arm: Some(400),
                    pilot_share: 0.4,
                    harm_looks: 0,
                    ..super::plan("Does a keeper's name on their day earn more readers?", 0)
                };
                Ok((id, trials::save_plan(c, first, &plan, now, Some(1))?))
            })
            .await?;
        actions::start_series(&self.app, id, Some(2)).await.map_err(|e| anyhow::anyhow!("{e}"))?;
        let why = "We read these trials together over the year, not one by one.";
        crate::sealing::seal(&self.app, trial, 90, Some(3), why.into()).await.map_err(|e| anyhow::anyhow!("{e}"))?;
        Ok(())
    }
}
