//! The lantern shop: what people bought in a year, as the CSV that its till would write, and what messages sold.

use crate::base::person;
use crate::network::{Handed, Network, Result};
use crate::people::Draws;
use crate::scenario::Scenario;
use rinse_core::{DAY, HOUR, Instant, MINUTE};
use rusqlite::params;
use std::fmt::Write;

const GOODS: &[(&str, &str, &str)] = &[
    ("Storm lantern", "Light", "89.50"),
    ("Lamp oil", "Light", "12.00"),
    ("Chart print", "Paper", "24.00"),
    ("Tide tables", "Paper", "6.50"),
    ("Keeper's mug", "Kitchen", "9.50"),
];

/// The purchases of the first `people` of the base in the `days` from `start`: always the same for
/// the same scenario. One in twenty is given back.
#[must_use]
pub fn purchases_csv(scenario: &Scenario, people: usize, start: Instant, days: usize) -> String {
    let mut out = String::from("key,address,at,value,currency,product,category\n");
    for i in 0..people {
        let mut d = Draws::new(scenario.seed, &format!("shop {i}"));
        if !d.chance(0.14) {
            continue;
        }
        let (_, address) = person(scenario, i);
        for n in 0..=d.below(3) {
            let (product, category, price) = GOODS[d.below(GOODS.len())];
            let day = i64::try_from(d.below(days)).unwrap_or(0);
            let at = start + day * DAY + i64::try_from(8 + d.below(12)).unwrap_or(8) * HOUR;
            let when = |at: Instant| rinse_core::segment::evaluate::date_words(rinse_core::segment::evaluate::day_of(at));
            let _ = writeln!(out, "till-{i}-{n},{address},{},{price},GBP,{product},{category}", when(at));
            if d.chance(0.05) {
                let _ = writeln!(out, "till-{i}-{n}-back,{address},{},-{price},GBP,{product},{category}", when(at + 6 * DAY));
            }
        }
    }
    out
}

/// Something that a message sold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sold {
    pub key: String,
    pub at: Instant,
    pub address: String,
    pub product: String,
    pub category: String,
    /// Hundredths of a pound.
    pub cents: i64,
}

impl Network {
    /// Somebody followed a link of a message: some of them buy what it offers within three days. Drawn apart, so that the rest of the world stays
    /// as it is.
    pub(crate) fn sell(&self, clicked: Instant, m: &Handed<'_>, subject: &str) -> Result<()> {
        let Some(offer) = self.scenario.sells(subject) else { return Ok(()) };
        let mut d = Draws::of_message(self.scenario.seed, m.message_id, &format!("{}#buys", m.to));
        if !d.chance(offer.of_clicks) {
            return Ok(());
        }
        // Most buy at once, some think it over.
        #[allow(clippy::cast_possible_truncation)]
        let after = (10.0 * MINUTE as f64 * (2.0 * d.normal()).exp()).clamp(MINUTE as f64, (3 * DAY) as f64) as i64;
        self.db.prepare_cached("INSERT OR IGNORE INTO sold VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?.execute(params![
            format!("web-{}", m.message_id),
            (clicked + after).millis(),
            m.to,
            offer.product,
            offer.category,
            offer.price
        ])?;
        Ok(())
    }

    /// What was sold before an instant and hasn't been taken in yet.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn sold(&self, until: Instant) -> Result<Vec<Sold>> {
        let mut s = self.db.prepare_cached("SELECT key, at, address, product, category, cents FROM sold WHERE at < ?1 ORDER BY at, key")?;
        let sold = |r: &rusqlite::Row<'_>| {
            Ok(Sold {
                key: r.get(0)?,
                at: Instant::of(r.get(1)?),
                address: r.get(2)?,
                product: r.get(3)?,
                category: r.get(4)?,
                cents: r.get(5)?,
            })
        };
        s.query_map([until.millis()], sold)?.collect()
    }

    /// What was sold before an instant has been taken in.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn booked(&self, until: Instant) -> Result<()> {
        self.db.prepare_cached("DELETE FROM sold WHERE at < ?1")?.execute([until.millis()])?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rinse_core::purchase;

    /// What the till writes is what the door reads, refunds included.
    #[test]
    fn every_line_is_a_purchase() {
        let csv = purchases_csv(&Scenario::skerry_light(), 400, Instant::of(0), 300);
        let mut lines = csv.lines();
        let columns = purchase::columns(&lines.next().unwrap().split(',').collect::<Vec<_>>(), &purchase::COLUMNS, "category").unwrap();
        let read: Vec<_> = lines.map(|l| purchase::from_record(&l.split(',').collect::<Vec<_>>(), &columns)).collect();
        let bad = read.iter().filter(|r| r.is_err()).count();
        assert!(read.len() > 60 && bad <= 2, "{bad} of {} (a few people have a broken address)", read.len());
        assert!(read.iter().flatten().any(|p| p.cents < 0) && read.iter().flatten().any(|p| p.cents == 8_950));
    }
}
