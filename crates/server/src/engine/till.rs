//! What the lantern shop of the demo sold: taken in each night, as a shop's own file would be.

use super::{Engine, Result};
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::purchase::Purchase;
use rinse_store::purchases;
use std::sync::PoisonError;

/// Purchases taken in by one change.
const BATCH: usize = 500;

impl Engine {
    /// Takes in what was sold until now; the same again changes nothing.
    pub(super) async fn take_sales(&self, now: Instant) -> Result<()> {
        let Some(network) = self.transport.network() else { return Ok(()) };
        let sold = network.lock().unwrap_or_else(PoisonError::into_inner).sold(now)?;
        if sold.is_empty() {
            return Ok(());
        }
        let bought: Vec<Purchase> = sold
            .into_iter()
            .filter_map(|s| {
                let address = Address::parse(&s.address).ok()?;
                let (currency, product, category) = ("GBP".to_owned(), s.product, s.category);
                Some(Purchase { key: s.key, address, at: s.at, cents: s.cents, currency, product, category })
            })
            .collect();
        for part in bought.chunks(BATCH) {
            let part = part.to_vec();
            self.store.write(move |c| part.iter().try_for_each(|p| purchases::take(c, p).map(drop))).await?;
        }
        network.lock().unwrap_or_else(PoisonError::into_inner).booked(now)?;
        Ok(())
    }
}
