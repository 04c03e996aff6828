//! Warm-ups, once a day and when one begins: what a usual day brings each group, whether one is over, and who has to wait longer than was hoped.

use super::Engine;
use rinse_core::Instant;
use rinse_store::delivery::alerts;
use rinse_store::{Result, warm_up};

/// Messages moved in one transaction.
const MOVED_AT_ONCE: usize = 2_000;

impl Engine {
    pub(crate) async fn warm(&self, now: Instant) -> Result<()> {
        if self.store.read(|c| Ok(warm_up::open(c)?.is_empty())).await? {
            return Ok(());
        }
        let found = self.store.read_at_leisure(move |c| warm_up::look(c, &warm_up::people(c)?, &alerts::largest(c, now)?, now)).await?;
        self.store.write(move |c| warm_up::keep(c, &found, now)).await?;
        let moved = self.store.read_at_leisure(move |c| warm_up::moved(c, now)).await?;
        for part in moved.chunks(MOVED_AT_ONCE) {
            let part = part.to_vec();
            self.store.write(move |c| warm_up::put(c, &part)).await?;
        }
        Ok(())
    }
}
