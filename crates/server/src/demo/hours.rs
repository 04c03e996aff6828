//! The demo's hour trials: one that found something, one that didn't, one that asks whether what was found is worth a
//! change, one whose rounds go on as a visitor opens the demo. What is true
//! stands in the scenario file.

use super::{Director, START};
use crate::actions;
use rinse_core::DAY;
use rinse_core::id::{HourTrialId, MailingId};
use rinse_core::trial::hour::plan::{HourPlan, Round};
use rinse_store::{hour_trials, settings};

/// An hour trial of the year: before which mailing it is sealed, what it asks, list, topic, subjects of its rounds, the first day and the
/// days between them, the effect wanted, its seed.
struct OfYear(usize, &'static str, usize, usize, &'static [(&'static str, &'static [&'static str])], i64, i64, f64, u64);

#[rustfmt::skip]
const TRIALS: &[OfYear] = &[
    OfYear(20, "Does the hour matter for the week's tides?", 0, 0, &[
        ("Tides of week 48", &["The week's tides: neaps"]), ("Tides of week 49", &["The week's tides, before the storm"]),
        ("Tides of week 50", &["The week's tides: springs"]), ("Tides of week 51", &["The week's tides at midwinter"]),
    ], 226, 8, 0.03, 2_001),
    OfYear(24, "Does the hour matter for the magazine's letter?", 2, 3, &[
        ("Magazine letter, January", &["Two pages from the archive"]), ("Magazine letter, February", &["The keeper who drew"]),
        ("Magazine letter, late February", &["A lens and its maker"]),
    ], 287, 9, 0.05, 2_002),
    OfYear(29, "Does the hour matter for the week's tides in summer time?", 0, 0, &[
        ("Tides of week 16", &["The week's tides at Easter"]), ("Tides of week 17", &["The week's tides: quiet water"]),
        ("Tides of week 18", &["The week's tides in May"]), ("Tides of week 19", &["The week's tides: the highest"]),
    ], 355, 10, 0.03, 2_003),
];

/// The confirming trial of what the first found: before which mailing it is sealed, what its rounds are, the first day, the days between them.
const CONFIRMING: (usize, &[(&str, &[&str])], i64, i64) = (
    26,
    &[
        ("Tides of week 10", &["The week's tides: equal days are near"]),
        ("Tides of week 11", &["The week's tides: the low of the year"]),
        ("Tides of week 12", &["The week's tides, and the clocks"]),
    ],
    315,
    8,
);
const CONFIRMING_SEED: u64 = 2_004;

impl Director {
    /// Seals what is to be sealed before the year's mailing `i`.
    pub(super) async fn hours(&self, i: usize) -> anyhow::Result<()> {
        for t in TRIALS.iter().filter(|t| t.0 == i) {
            let rounds = self.rounds(t.4, (t.2, t.3), t.5, t.6).await?;
            let plan = HourPlan { hours: vec![7, 10, 13, 16, 19, 21], rounds, usual_hour: 10, effect: t.7, ..HourPlan::usual(t.1) };
            self.sealed(plan, t.8).await?;
        }
        if i == CONFIRMING.0 {
            // In a small base the first may have found nothing to confirm.
            if let Ok(plan) = self.app.store.read(|c| hour_trials::confirming(c, HourTrialId(1))).await {
                let rounds = self.rounds(CONFIRMING.1, (0, 0), CONFIRMING.2, CONFIRMING.3).await?;
                self.sealed(HourPlan { rounds, ..plan }, CONFIRMING_SEED).await?;
            }
        }
        Ok(())
    }

    /// Drafts of a list and a topic, one a round, from a day of the year on.
    async fn rounds(
        &self,
        of: &'static [(&'static str, &'static [&'static str])],
        (list, topic): (usize, usize),
        first: i64,
        apart: i64,
    ) -> anyhow::Result<Vec<Round>> {
        let first = (START + first * DAY).millis().div_euclid(DAY);
        let mut rounds = Vec::new();
        for ((name, subjects), n) in of.iter().zip(0..) {
            let mailing = MailingId(self.draft(name, Some(list), topic, subjects, "Read the notes").await?);
            rounds.push(Round { mailing, day: first + n * apart });
        }
        Ok(rounds)
    }

    /// Seals a plan and plans its mailings.
    async fn sealed(&self, plan: HourPlan, seed: u64) -> anyhow::Result<()> {
        let now = self.app.now();
        let mailings: Vec<MailingId> = plan.rounds.iter().map(|r| r.mailing).collect();
        self.app
            .store
            .write(move |c| {
                let id = hour_trials::save(c, None, &plan, now, Some(1))?;
                settings::audit(c, now, Some(1), "hour trial planned", "hour trial", id.0, &plan.question)?;
                hour_trials::seal(c, id, seed, now, Some(1))
            })
            .await?;
        for mailing in mailings {
            actions::plan_mailing(&self.app, mailing, None, Some(2)).await?;
        }
        Ok(())
    }
}
