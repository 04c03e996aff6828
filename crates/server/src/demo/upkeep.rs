//! The year's upkeep: who decides that addresses are retired, the cleaning runs, and what hosts' breakdowns came to.

use super::Director;
use crate::handlers::upkeep::put_people;
use rinse_core::upkeep::Policy;
use rinse_core::upkeep::policy::Retires;
use rinse_store::upkeep::{incidents, policy, runs};

impl Director {
    /// Before a mailing of the year is sent.
    pub(super) async fn upkeep(&self, i: usize) -> anyhow::Result<()> {
        self.decide_incidents().await?;
        match i {
            6 => {
                let now = self.app.now();
                let before = self.app.store.read(policy::current).await?.policy;
                let in_runs = Policy { retires: Retires::InRuns { since: now }, ..before };
                self.run(Some(in_runs), "We want to read why before anybody is retired").await?;
            }
            17 => {
                self.run(None, "Before the winter").await?;
            }
            22 => {
                let run = self.run(None, "New year").await?;
                let later = self.app.now() + 2 * rinse_core::DAY;
                self.app.engine.advance(later).await?;
                self.app.store.write(move |c| runs::begin_undo(c, run, None, None, later, Some(1))).await?;
                self.app.engine.upkeep(later).await?;
            }
            _ => {}
        }
        Ok(())
    }

    async fn run(&self, policy: Option<Policy>, note: &'static str) -> anyhow::Result<i64> {
        let now = self.app.now();
        let of = policy.clone();
        let run = self.app.store.write(move |c| runs::begin(c, of.as_ref(), note, now, Some(1))).await?;
        put_people(&self.app, run, policy).await?;
        self.app.store.write(move |c| runs::begin_apply(c, run, now, Some(1))).await?;
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
