//! The demo's test panel: three mailboxes of each domain, and somebody who looks into them. Where mail lands is as the scenario has it.

use super::Director;
use rinse_core::Instant;
use rinse_core::delivery::placement::{Place, Placed};
use rinse_standins::scenario::Scenario;
use rinse_store::delivery::panel;

/// Of a hundred copies that a host lets into no junk folder by rule, so many land there all the same …
const JUNK: i64 = 4;
/// … and so many are found nowhere.
const MISSING: i64 = 2;

impl Director {
    /// Puts the mailboxes on the panel.
    pub(super) async fn panel(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        let domains = Scenario::skerry_light().domain;
        let boxes: Vec<String> = domains
            .iter()
            .filter(|d| d.gone < 0.4)
            .flat_map(|d| ["lamp", "buoy", "bell"].map(|who| format!("panel.{who}@{}", d.name)))
            .collect();
        self.app.store.write(move |c| panel::add(c, &boxes.join("\n"), now, Some(1))).await?;
        Ok(())
    }

    /// Somebody looks into the mailboxes, and tells where the copies of which nothing is told yet landed.
    pub(super) async fn look_into_panel(&self) -> anyhow::Result<()> {
        let now = self.app.now();
        self.app
            .store
            .write(move |c| {
                let (scenario, found) = (Scenario::skerry_light(), panel::all(c)?);
                for b in &found.mailboxes {
                    for copy in b.copies.iter().filter(|copy| copy.place.is_none() && copy.reply.starts_with("250")) {
                        let at = found.mailings.iter().find(|m| m.id == copy.mailing).map_or(now, |m| Instant::of(m.at));
                        let chance = (copy.mailing.0 * 31 + b.id * 17) % 100;
                        let by_rule = scenario.junk.iter().any(|j| b.address.ends_with(&j.domain) && j.at(at));
                        let place = match chance {
                            n if n < MISSING => Place::Missing,
                            n if by_rule && n < 90 || n < MISSING + JUNK => Place::Junk,
                            _ => Place::Inbox,
                        };
                        panel::keep(c, &Placed { address: b.address.clone(), mailing: copy.mailing, place }, now)?;
                    }
                }
                Ok(())
            })
            .await?;
        Ok(())
    }
}
