//! The year's upkeep: who decides that addresses are retired, the cleaning runs, and what hosts' breakdowns came to.

use super::Director;
use crate::actions;
use crate::engine::RECORDS;
use rinse_core::id::LetterheadId;
use rinse_core::series::starters::ASKING;
use rinse_core::upkeep::policy::Retires;
use rinse_core::upkeep::{Policy, silence};
use rinse_store::upkeep::{applying, incidents, policy, return_lines, runs, silence as kept_silence};
use rinse_store::{series, webhooks};

impl Director {
    /// Before a mailing of the year is sent.
    pub(super) async fn upkeep(&self, i: usize) -> anyhow::Result<()> {
        self.decide_incidents().await?;
        match i {
            6 => {
                let now = self.app.now();
                let before = self.app.store.read(policy::current).await?.policy;
                let silence = silence::Numbers { window_days: Some(180), ..before.silence };
                let in_runs = Policy { retires: Retires::InRuns { since: now }, silence, ..before };
                self.run(Some(in_runs), "We want to read why before anybody is retired").await?;
            }
            15 => self.ask_silent().await?,
            18 => {
                let run = self.run(None, "Before the winter").await?;
                let later = self.app.now() + 2 * rinse_core::DAY;
                self.app.engine.advance(later).await?;
                self.app.store.write(move |c| applying::begin_undo(c, run, None, None, later, Some(1))).await?;
                self.app.engine.upkeep(later).await?;
            }
            20 => self.delete_retired().await?,
            23 => {
                self.run(None, "After the holidays").await?;
            }
            _ => {}
        }
        Ok(())
    }

    /// Silent people are asked whether to go on; Skerry Light's record system keeps a copy of some people.
    async fn ask_silent(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        let id = self
            .app
            .store
            .write(move |c| {
                let id = series::from_starter(c, ASKING, LetterheadId(1), now, Some(2))?;
                kept_silence::choose_series(c, id.0, now, Some(2))?;
                Ok(id)
            })
            .await?;
        actions::start_series(&self.app, id, Some(2)).await.map_err(|e| anyhow::anyhow!("{e}"))?;
        let people = self.people * 4 / 5;
        self.app.engine.network(|n| n.keep_records(people)).transpose()?;
        Ok(())
    }

    /// Addresses that were retired half a year ago are deleted by runs, and the record system is told.
    async fn delete_retired(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        let secret: [u8; 32] = rand::random();
        self.app
            .store
            .write(move |c| {
                let records = webhooks::make(c, "Record system, do-not-return lines", RECORDS, &secret, now, Some(1))?;
                return_lines::tell(c, Some(records), now, Some(1))
            })
            .await?;
        let before = self.app.store.read(policy::current).await?.policy;
        self.run(Some(Policy { delete_after_days: Some(180), ..before }), "Nobody needs addresses that are gone").await?;
        Ok(())
    }

    async fn run(&self, policy: Option<Policy>, note: &'static str) -> anyhow::Result<i64> {
        let now = self.app.now();
        let of = policy.clone();
        let run = self.app.store.write(move |c| runs::begin(c, of.as_ref(), note, now, Some(1))).await?;
        self.app.engine.put_people(run, policy, now).await?;
        self.app.store.write(move |c| applying::begin_apply(c, run, now, Some(1))).await?;
        self.app.engine.upkeep(now).await?;
        Ok(run)
    }

    /// What has waited since the last mailing: domains that were given up.
    async fn decide_incidents(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        self.app
            .store
            .write(move |c| {
                for found in incidents::undecided(c)? {
                    incidents::decide(c, found.id, Some(true), "Given up: its addresses are gone", now, Some(1))?;
                }
                Ok(())
            })
            .await?;
        Ok(self.app.engine.upkeep(now).await?)
    }
}
