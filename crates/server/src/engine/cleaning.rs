//! Cleaning runs as the engine drives them: people are put on one, its parts are applied, and one is proposed by the schedule.

use super::{Engine, Result};
use crate::progress::Job;
use rinse_core::upkeep::Policy;
use rinse_core::{DAY, Instant};
use rinse_store::upkeep::effects::{self, Effect};
use rinse_store::upkeep::{applying, made_of, policy, readings, runs, schedule, status};

/// Failures read again by one transaction.
const READ_AGAIN_AT_ONCE: usize = 100;

impl Engine {
    /// Everybody whom a decision was about is worked out again; cleaning runs that were cut off go on, and so does reading the past again.
    pub(crate) async fn upkeep(&self, now: Instant) -> Result<()> {
        while let Some((id, mark)) = self.store.read(readings::unfinished).await? {
            // What is left goes on at the next start.
            if self.is_ending() {
                return Ok(());
            }
            let looked = self.store.read_at_leisure(move |c| readings::look(c, id, mark)).await?;
            for part in looked.again.chunks(READ_AGAIN_AT_ONCE) {
                let part = part.to_vec();
                self.store.write(move |c| readings::read_again(c, &part)).await?;
            }
            self.store.write(move |c| readings::came_to(c, id, mark, &looked)).await?;
        }
        for id in self.store.read(runs::unfinished).await? {
            while self.store.write(move |c| applying::go_on(c, id, now)).await? {}
        }
        if self.store.read(status::anybody_due).await? {
            while self.store.write(move |c| status::settle_due(c, now)).await? {}
        }
        Ok(())
    }

    /// Puts everybody on a run whom it concerns, and works out what it would do.
    pub(crate) async fn put_people(&self, run: i64, policy: Option<Policy>, now: Instant) -> Result<()> {
        if let Some(policy) = policy {
            let progress = self.jobs.sender(Job::Cleaning(run));
            let step = move |done: u64, total: u64| {
                progress.send_modify(|p| (p.done, p.total) = (i64::try_from(done).unwrap_or(0), i64::try_from(total).unwrap_or(0)));
                Ok(())
            };
            let seen = self.store.read_at_leisure(move |c| policy::see(c, &policy, now, step)).await?;
            for part in runs::in_parts(&seen.changed) {
                self.store.write(move |c| runs::put_changed(c, run, &part)).await?;
            }
        } else {
            for put in [runs::put_due, runs::put_silent, runs::put_to_delete] {
                let mut after = Some(0);
                while let Some(from) = after {
                    after = self.store.write(move |c| put(c, run, from, now)).await?;
                }
            }
        }
        let effect: Effect = self.store.read_at_leisure(move |c| effects::effect(c, run, now)).await?;
        self.store.write(move |c| runs::proposed(c, run, &effect)).await
    }

    /// Proposes a run on the days of the schedule, when something is due and none is open; a person reads it.
    pub(super) async fn scheduled_run(&self, now: Instant) -> Result<()> {
        let due = self
            .store
            .read(move |c| {
                if !schedule::is_due(c, now.millis().div_euclid(DAY))? || !runs::is_none_open(c)? {
                    return Ok(false);
                }
                let p = policy::current(c)?.policy;
                Ok(made_of::due(c)? + made_of::let_pass(c)? + made_of::to_delete(c, &p, now)? > 0)
            })
            .await?;
        if due {
            let run = self
                .store
                .write(move |c| {
                    schedule::proposed(c, now.millis().div_euclid(DAY))?;
                    runs::begin(c, None, "By the schedule", now, None)
                })
                .await?;
            self.put_people(run, None, now).await?;
        }
        Ok(())
    }
}
