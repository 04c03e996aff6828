//! Judging what is stored by the machine rules in force, beside everything else.

use super::{Engine, Result};
use crate::progress::Job;
use rinse_store::machines::{judging, opens};

/// Messages looked at by one reading …
const LOOKED_AT_ONCE: u32 = 2_000;
/// … judged again by one transaction …
const JUDGED_AT_ONCE: usize = 100;
/// … and people whose messages one marks.
const MARKED_AT_ONCE: u32 = 2_000;

impl Engine {
    /// Messages to domains that were found out, or let go by other rules, are marked.
    pub(super) async fn mark_opens(&self) -> Result<()> {
        while self.store.write(|c| opens::mark_some(c, MARKED_AT_ONCE)).await? {}
        Ok(())
    }

    /// Judges what is stored again, beside whatever asked for it.
    pub(crate) fn judge_beside(&self) {
        let engine = self.clone();
        tokio::spawn(async move {
            if let Err(e) = engine.judge_anew().await {
                tracing::error!("what is stored was not judged by the machine rules in force: {e}");
            }
        });
    }

    /// Judges what is stored by the rules in force, until nothing is judged otherwise; what a stop cut off goes on. One at a time does it.
    async fn judge_anew(&self) -> Result<()> {
        let Ok(_alone) = self.judging.try_lock() else { return Ok(()) };
        let progress = self.jobs.sender(Job::Machines);
        let mut begun = false;
        while let Some((version, upto)) = self.store.read(judging::unfinished).await? {
            if self.is_ending() {
                return Ok(());
            }
            if !begun {
                progress.begin(|p| p.words = "Judging what is stored".into());
                begun = true;
                self.mark_opens().await?;
            }
            let looked = self.store.read_at_leisure(move |c| judging::look(c, upto, LOOKED_AT_ONCE)).await?;
            for part in looked.otherwise.chunks(JUDGED_AT_ONCE) {
                let part = part.to_vec();
                self.store.write(move |c| judging::judge_these(c, version, &part)).await?;
            }
            progress.send_modify(|p| p.done += i64::try_from(looked.messages).unwrap_or(0));
            let now = self.clock.now();
            self.store.write(move |c| judging::came_to(c, version, &looked, now)).await?;
        }
        if begun {
            self.upkeep(self.clock.now()).await?;
            progress.send_modify(|p| p.end(None));
        }
        Ok(())
    }
}
