//! The demo's hour trials: one that found something, one that didn't, one whose rounds go on as a visitor opens the demo. What is true
//! stands in the scenario file.

use super::{Director, START};
use crate::actions;
use rinse_core::DAY;
use rinse_core::id::MailingId;
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

impl Director {
    /// Seals what is to be sealed before the year's mailing `i`.
    pub(super) async fn hours(&self, i: usize) -> anyhow::Result<()> {
        for t in TRIALS.iter().filter(|t| t.0 == i) {
            let (first, now) = ((START + t.5 * DAY).0.div_euclid(DAY), self.app.now());
            let mut rounds = Vec::new();
            for ((name, subjects), n) in t.4.iter().zip(0..) {
                rounds.push(Round {
                    mailing: MailingId(self.draft(name, Some(t.2), t.3, subjects, "Read the notes").await?),
                    day: first + n * t.6,
                });
            }
            let mailings: Vec<MailingId> = rounds.iter().map(|r| r.mailing).collect();
            let plan = HourPlan { hours: vec![7, 10, 13, 16, 19, 21], rounds, usual_hour: 10, effect: t.7, ..HourPlan::usual(t.1) };
            let seed = t.8;
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
        }
        Ok(())
    }
}
