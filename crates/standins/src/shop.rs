//! The lantern shop: what people bought in a year, as the CSV that its till would write.

use crate::base::person;
use crate::people::Draws;
use crate::scenario::Scenario;
use rinse_core::{DAY, HOUR, Instant};
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

#[cfg(test)]
mod tests {
    use super::*;
    use rinse_core::purchase;

    /// What the till writes is what the door reads, refunds included.
    #[test]
    fn every_line_is_a_purchase() {
        let csv = purchases_csv(&Scenario::skerry_light(), 400, Instant(0), 300);
        let mut lines = csv.lines();
        let columns = purchase::columns(&lines.next().unwrap().split(',').collect::<Vec<_>>(), &purchase::COLUMNS, "category").unwrap();
        let read: Vec<_> = lines.map(|l| purchase::from_record(&l.split(',').collect::<Vec<_>>(), &columns)).collect();
        let bad = read.iter().filter(|r| r.is_err()).count();
        assert!(read.len() > 60 && bad <= 2, "{bad} of {} (a few people have a broken address)", read.len());
        assert!(read.iter().flatten().any(|p| p.cents < 0) && read.iter().flatten().any(|p| p.cents == 8_950));
    }
}
