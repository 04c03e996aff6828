//! What only DNS knows, looked up once a day: which mail domains one operator takes mail for, the records of our senders, blocklists.

use super::{Engine, Result};
use crate::authentication;
use rinse_core::delivery::operator::Mx;
use rinse_core::{DAY, Instant};
use rinse_store::delivery::{alerts, operators};
use rinse_store::settings;

/// Domains that are looked up in a day, those with most people first.
const A_DAY: u32 = 1_000;
/// Questions on their way at once.
const AT_ONCE: usize = 16;

/// The day on which DNS was asked last, days since 1970.
const LOOKED: &str = "names looked at";
/// The newest alert on which it was asked.
const LOOKED_ON: &str = "names looked at on alert";

impl Engine {
    /// By the machine's clock DNS is asked beside the sending, which waits for no name server.
    pub(super) async fn keep_looking(self) {
        let mut minutes = tokio::time::interval(std::time::Duration::from_secs(600));
        while !self.is_ending() {
            minutes.tick().await;
            if let Err(e) = self.look_daily(self.clock.now()).await {
                tracing::error!("{e}");
            }
        }
    }

    /// What is asked of DNS once a day; our own names also when a group begins to block us.
    pub(super) async fn look_daily(&self, now: Instant) -> Result<()> {
        if !self.dns.is_asked() {
            return Ok(());
        }
        let day = now.millis().div_euclid(DAY).to_string();
        let (looked, on) = self.store.read(|c| Ok((settings::get(c, LOOKED)?, settings::get(c, LOOKED_ON)?))).await?;
        let alert = self.store.read(alerts::newest_block).await?.map(|id| id.to_string());
        let (daily, at_once) = (looked.as_ref() != Some(&day), alert.is_some() && alert != on);
        if daily {
            self.look(now).await?;
        } else if at_once {
            // A group began to block us: perhaps a list has us since this morning.
            self.look_at_names(now).await?;
        }
        if daily || at_once {
            let on = alert.or(on).unwrap_or_default();
            self.store
                .write(move |c| {
                    settings::set(c, LOOKED, &day)?;
                    settings::set(c, LOOKED_ON, &on)
                })
                .await?;
        }
        Ok(())
    }

    /// Asks DNS all of it, where somebody may be asked ([`Dns::is_asked`](crate::dns::Dns::is_asked)).
    pub(crate) async fn look(&self, now: Instant) -> Result<()> {
        self.look_up_groups(now).await?;
        self.look_at_names(now).await
    }

    /// Looks what DNS says of our senders, and whether a blocklist has anything of ours.
    async fn look_at_names(&self, now: Instant) -> Result<()> {
        let asked = self.store.read(authentication::to_ask).await?;
        let told = authentication::look(&self.dns, &asked, &self.base_url).await;
        self.store.write(move |c| told.keep(c, now)).await
    }

    /// Looks for the mail hosts of domains that weren't looked for lately.
    async fn look_up_groups(&self, now: Instant) -> Result<()> {
        let stale = self.store.read(move |c| operators::stale(c, now, A_DAY)).await?;
        let dns = self.dns.once_more();
        for part in stale.chunks(AT_ONCE) {
            let asked = part.iter().map(|(_, name)| dns.mx(name)).collect::<Vec<_>>();
            let found: Vec<(i64, Option<Vec<Mx>>)> = part.iter().map(|(id, _)| *id).zip(futures::future::join_all(asked).await).collect();
            self.store.write(move |c| found.iter().try_for_each(|(id, mx)| operators::found(c, *id, mx.as_deref(), now))).await?;
        }
        Ok(())
    }
}
