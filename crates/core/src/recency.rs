//! The recency guide: how far back may a last answer lie for mail to be worth sending?
//!
//! People are put in rings by the time since their last human response, as it was when a message went
//! out; one message a person, drawn at random, so that each ring's rates are plain proportions. The
//! suggestion is the widest window whose outermost ring still pays.

use crate::DAY;
use crate::report::Rate;
use serde::{Deserialize, Serialize};
use std::ops::AddAssign;
use utoipa::ToSchema;

/// The ladder: each window's length in days, doubling from one week to two years.
pub const LADDER: [i64; 8] = [7, 14, 28, 56, 112, 224, 448, 730];

/// One message of a person and what came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Observation {
    /// From the last human response before the message to the message; `None`: never one.
    pub since_answer: Option<i64>,
    /// Messages since that response, this one included.
    pub mailed_since: u32,
    /// Their opens can't be told from a machine's.
    pub open_blind: bool,
    pub opened: bool,
    pub clicked: bool,
    pub complained: bool,
    pub withdrew: bool,
    pub bounced: bool,
}

/// What an answer is worth and what a loss costs, in one currency, for one message.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Costs {
    pub open: f64,
    pub click: f64,
    pub complaint: f64,
    pub withdrawal: f64,
    pub bounce: f64,
    /// The whole window's human open rate must not fall below this.
    pub floor_overall: Option<f64>,
    /// Nor may the outermost ring's own.
    pub floor_ring: Option<f64>,
}

impl Default for Costs {
    fn default() -> Self {
        Self { open: 0.02, click: 0.2, complaint: 10.0, withdrawal: 1.0, bounce: 0.5, floor_overall: None, floor_ring: None }
    }
}

impl Costs {
    /// # Errors
    /// When a value is negative, not a number, or a floor is no share.
    pub fn check(&self) -> Result<(), &'static str> {
        let money = [self.open, self.click, self.complaint, self.withdrawal, self.bounce];
        if !money.iter().all(|m| m.is_finite() && (0.0..=1e6).contains(m)) {
            return Err("A value or cost is between 0 and 1,000,000.");
        }
        if [self.floor_overall, self.floor_ring].into_iter().flatten().any(|f| !(0.0..=1.0).contains(&f)) {
            return Err("A floor is a share between 0% and 100%.");
        }
        Ok(())
    }
}

/// The people between two windows.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Ring {
    /// Last answer more than this many days ago.
    pub from_days: i64,
    /// And at most this many.
    pub to_days: i64,
    pub people: u64,
    pub opens: Rate,
    pub clicks: Rate,
    pub complaints: Rate,
    pub withdrawals: Rate,
    pub bounces: Rate,
    /// What its answers are worth less what its losses cost, a thousand messages.
    pub net_per_thousand: f64,
    pub pays: bool,
    /// Messages since the last answer, on average.
    pub mailed_since: f64,
    /// The human open rate of everyone up to and including this ring.
    pub window_opens: Rate,
}

#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Guide {
    pub rings: Vec<Ring>,
    /// Never answered, or longer ago than the ladder reaches.
    pub beyond: Ring,
    /// People whose opens can't be told; they are in no ring.
    pub open_blind: u64,
    pub open_blind_clicks: Rate,
    /// The widest window whose outermost ring pays, in days; null when none does.
    pub suggestion: Option<i64>,
}

/// What messages of people alike add up to, one a person.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sums {
    people: u64,
    opened: u64,
    clicked: u64,
    complained: u64,
    withdrew: u64,
    bounced: u64,
    mailed_since: u64,
}

impl Sums {
    fn add(&mut self, o: &Observation) {
        self.people += 1;
        self.opened += u64::from(o.opened);
        self.clicked += u64::from(o.clicked);
        self.complained += u64::from(o.complained);
        self.withdrew += u64::from(o.withdrew);
        self.bounced += u64::from(o.bounced);
        self.mailed_since += u64::from(o.mailed_since);
    }
}

impl AddAssign for Sums {
    fn add_assign(&mut self, o: Self) {
        self.people += o.people;
        self.opened += o.opened;
        self.clicked += o.clicked;
        self.complained += o.complained;
        self.withdrew += o.withdrew;
        self.bounced += o.bounced;
        self.mailed_since += o.mailed_since;
    }
}

/// Everybody's observations, added up: all that the guide asks, whatever answers are worth.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Observed {
    rings: [Sums; LADDER.len()],
    /// Never answered, or longer ago than the ladder reaches.
    beyond: Sums,
    open_blind: Sums,
}

impl Observed {
    /// Counts a person in the one place where they belong; the edge of a window belongs to it.
    pub fn add(&mut self, o: &Observation) {
        let ring = o.since_answer.and_then(|since| LADDER.iter().position(|to| since <= to * DAY));
        match ring {
            _ if o.open_blind => self.open_blind.add(o),
            Some(place) => self.rings[place].add(o),
            None => self.beyond.add(o),
        }
    }
}

impl AddAssign for Observed {
    fn add_assign(&mut self, other: Self) {
        self.rings.iter_mut().zip(other.rings).for_each(|(sum, more)| *sum += more);
        self.beyond += other.beyond;
        self.open_blind += other.open_blind;
    }
}

fn ring((from_days, to_days): (i64, i64), of: &Sums, window: &Sums, costs: &Costs) -> Ring {
    let n = of.people;
    #[allow(clippy::cast_precision_loss)]
    let money = |k: u64, each: f64| k as f64 * each;
    let worth = money(of.opened, costs.open) + money(of.clicked, costs.click);
    let cost = money(of.complained, costs.complaint) + money(of.withdrew, costs.withdrawal) + money(of.bounced, costs.bounce);
    let opens = Rate::new(of.opened, n);
    let window_opens = Rate::new(window.opened, window.people);
    let above = |rate: Rate, floor: Option<f64>| floor.is_none_or(|f| rate.rate.is_some_and(|r| r >= f));
    #[allow(clippy::cast_precision_loss)]
    let per = |total: f64, each: f64| if n == 0 { 0.0 } else { total * each / n as f64 };
    Ring {
        from_days,
        to_days,
        people: n,
        opens,
        clicks: Rate::new(of.clicked, n),
        complaints: Rate::new(of.complained, n),
        withdrawals: Rate::new(of.withdrew, n),
        bounces: Rate::new(of.bounced, n),
        net_per_thousand: per(worth - cost, 1000.0),
        pays: n > 0 && worth >= cost && above(opens, costs.floor_ring) && above(window_opens, costs.floor_overall),
        mailed_since: per(money(of.mailed_since, 1.0), 1.0),
        window_opens,
    }
}

/// Works the guide out.
#[must_use]
pub fn guide(observed: &Observed, costs: &Costs) -> Guide {
    let (mut rings, mut window, mut from) = (Vec::new(), Sums::default(), 0);
    for (to, sums) in LADDER.into_iter().zip(&observed.rings) {
        window += *sums;
        rings.push(ring((from, to), sums, &window, costs));
        from = to;
    }
    window += observed.beyond;
    Guide {
        // A thin ring says too little to build a rule on.
        suggestion: rings.iter().filter(|r| r.pays && !r.opens.thin).map(|r| r.to_days).max(),
        beyond: ring((from, i64::MAX / DAY), &observed.beyond, &window, costs),
        open_blind: observed.open_blind.people,
        open_blind_clicks: Rate::new(observed.open_blind.clicked, observed.open_blind.people),
        rings,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn added(of: &[Observation]) -> Observed {
        let mut all = Observed::default();
        of.iter().for_each(|o| all.add(o));
        all
    }

    fn observation() -> impl Strategy<Value = Observation> {
        (prop::option::of(0i64..900 * DAY), 1u32..40, any::<[bool; 6]>()).prop_map(|(since_answer, mailed_since, b)| Observation {
            since_answer,
            mailed_since,
            open_blind: b[0],
            opened: b[1],
            clicked: b[2],
            complained: b[3],
            withdrew: b[4],
            bounced: b[5],
        })
    }

    proptest! {
        /// Everyone is in exactly one place, and windows add their rings up.
        #[test]
        fn rings_add_up(o in prop::collection::vec(observation(), 0..300)) {
            let g = guide(&added(&o), &Costs::default());
            let in_rings: u64 = g.rings.iter().map(|r| r.people).sum();
            prop_assert_eq!(in_rings + g.beyond.people + g.open_blind, o.len() as u64);
            let mut opened = 0;
            for r in &g.rings {
                opened += r.opens.count;
                prop_assert_eq!(r.window_opens.count, opened);
            }
        }

        /// In parts or at once.
        #[test]
        fn parts_add_up_to_the_whole(o in prop::collection::vec(observation(), 0..200), at in 0usize..200) {
            let (one, other) = o.split_at(at.min(o.len()));
            let mut both = added(one);
            both += added(other);
            prop_assert_eq!(both, added(&o));
        }

        /// Dearer losses never widen the suggestion.
        #[test]
        fn dearer_losses_never_widen_it(o in prop::collection::vec(observation(), 0..2_000), dearer in 1.0f64..20.0) {
            let cheap = Costs { open: 5.0, ..Costs::default() };
            let dear = Costs { complaint: cheap.complaint * dearer, withdrawal: cheap.withdrawal * dearer, bounce: cheap.bounce * dearer, ..cheap };
            prop_assert!(guide(&added(&o), &dear).suggestion.unwrap_or(0) <= guide(&added(&o), &cheap).suggestion.unwrap_or(0));
        }
    }

    /// 200 people in each ring: those of the last two months open, the rest only complain now and
    /// then. The suggestion ends where answers end; the edge of a window belongs to it.
    #[test]
    fn the_suggestion_ends_where_answers_end() {
        let quiet = Observation {
            since_answer: None,
            mailed_since: 9,
            open_blind: false,
            opened: false,
            clicked: false,
            complained: false,
            withdrew: false,
            bounced: false,
        };
        let mut all = Vec::new();
        for days in LADDER {
            for i in 0..200 {
                let answers = days <= 56;
                all.push(Observation {
                    since_answer: Some(days * DAY),
                    opened: answers && i < 40,
                    clicked: answers && i < 8,
                    complained: !answers && i < 1,
                    ..quiet
                });
            }
        }
        let g = guide(&added(&all), &Costs::default());
        assert_eq!(g.suggestion, Some(56));
        assert!((g.rings[0].net_per_thousand - 12.0).abs() < 1e-9, "40 opens at 0.02 and 8 clicks at 0.2 in 200 messages");
        assert!(g.rings[5].net_per_thousand < 0.0 && (g.rings[5].mailed_since - 9.0).abs() < 1e-9);
        let floored = Costs { floor_ring: Some(0.25), ..Costs::default() };
        assert_eq!(guide(&added(&all), &floored).suggestion, None, "20% is below the floor");
        let few = guide(&added(&all[..all.len() / 4]), &Costs::default());
        assert_eq!(guide(&added(&all[..50]), &Costs::default()).suggestion, None, "50 people are thin");
        assert_eq!(few.suggestion, Some(14));
        assert!(
            Costs { open: -1.0, ..Costs::default() }.check().is_err()
                && Costs { floor_ring: Some(2.0), ..Costs::default() }.check().is_err()
        );
    }
}
