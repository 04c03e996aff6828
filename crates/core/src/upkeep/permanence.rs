//! After how many permanent failures does nothing come through any more? Counted in the base's own history.
//!
//! Of the addresses whose mailings failed for good k times, over the policy's days and with no delivery or answer between, those that were
//! mailed again tell: to how many of them something was delivered later. Addresses that nobody mailed again tell nothing, and are left out.

use super::fold::{Happened, Outcome};
use super::policy::{Policy, days};
use crate::Instant;
use crate::bounce::{Category, FailureClass};
use crate::id::MailingId;
use crate::report::Rate;
use serde::{Deserialize, Serialize};

/// The most failures that the table looks at.
pub const MOST: usize = 6;
/// Fewer addresses than these, mailed again, refute nothing.
const TELLING: u64 = 30;
/// Fewer than this share, by the upper limit, must have been delivered to later.
pub const MAY_LIVE: f64 = 0.02;

/// What became of addresses after 1, 2, … [`MOST`] permanent failures.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Tally {
    /// Addresses that were mailed again, and those of them to which something was delivered.
    rows: [(u64, u64); MOST],
    /// Addresses that came so far at all.
    reached: [u64; MOST],
}

/// A line of the table.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = UpkeepPermanenceLine)]
pub struct Line {
    pub failures: u32,
    pub reached: u64,
    /// Delivered to later, of those mailed again.
    pub delivered: Rate,
}

impl Tally {
    /// Adds an address, by its outcomes in the order of time.
    pub fn add(&mut self, outcomes: &[Outcome], policy: &Policy, now: Instant) {
        let arrived = |o: &Outcome| match o.what {
            Happened::Answered => true,
            Happened::Accepted => now - o.at >= policy.delivered_after(),
            Happened::Failed(_) => false,
        };
        let permanent =
            |o: &Outcome| matches!(o.what, Happened::Failed(c) if c.class() == FailureClass::Permanent && c != Category::NoSuchAddress);
        let mut counted = [false; MOST];
        let mut run: Vec<(MailingId, Instant)> = Vec::new();
        for (i, o) in outcomes.iter().enumerate() {
            if arrived(o) {
                run.clear();
            } else if permanent(o) && run.iter().all(|(m, _)| *m != o.mailing) {
                run.push((o.mailing, o.at));
                let span = o.at - run[0].1;
                let newly = (1..=run.len().min(MOST)).filter(|k| !counted[k - 1] && (*k == 1 || span >= days(policy.permanent_days)));
                let newly: Vec<usize> = newly.collect();
                if newly.is_empty() {
                    continue;
                }
                // What is on its way tells nothing yet.
                let later =
                    outcomes[i + 1..].iter().filter(|l| l.mailing != o.mailing && (arrived(l) || matches!(l.what, Happened::Failed(_))));
                let (mut again, mut delivered) = (false, false);
                for l in later {
                    again = true;
                    delivered |= arrived(l);
                }
                for k in newly {
                    counted[k - 1] = true;
                    self.reached[k - 1] += 1;
                    self.rows[k - 1].0 += u64::from(again);
                    self.rows[k - 1].1 += u64::from(delivered);
                }
            }
        }
    }

    /// The table, from one failure on.
    #[must_use]
    pub fn lines(&self) -> Vec<Line> {
        let each = self.rows.iter().zip(self.reached).enumerate();
        each.map(|(i, ((again, delivered), reached))| Line {
            failures: u32::try_from(i + 1).unwrap_or(u32::MAX),
            reached,
            delivered: Rate::new(*delivered, *again),
        })
        .collect()
    }
}

/// How well the number of failures is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Known {
    /// Fewer than 2% were delivered to later, by the upper limit.
    Shown,
    /// Nothing speaks against it, and too few were mailed again to show it.
    NotRefuted,
    /// At each number of failures more than 2% were delivered to later.
    Refuted,
}

/// The smallest number of failures, 2 or more, after which fewer than 2% (upper limit) were delivered to later. Where none is shown, the
/// smallest that isn't refuted: fewer than 30 were mailed again, or the lower limit isn't over 2%. Where all are refuted, the largest.
#[must_use]
pub fn smallest(lines: &[Line]) -> (u32, Known) {
    let from_two = || lines.iter().filter(|l| l.failures >= 2);
    if let Some(l) = from_two().find(|l| l.delivered.upper.is_some_and(|u| u < MAY_LIVE)) {
        return (l.failures, Known::Shown);
    }
    match from_two().find(|l| l.delivered.of < TELLING || l.delivered.lower.is_none_or(|low| low <= MAY_LIVE)) {
        Some(l) => (l.failures, Known::NotRefuted),
        None => (u32::try_from(MOST).unwrap_or(6), Known::Refuted),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::DAY;

    fn o(mailing: MailingId, day: i64, what: Happened) -> Outcome {
        Outcome { mailing, at: Instant::of(day * DAY), what }
    }
    const DEAD: Happened = Happened::Failed(Category::MailboxDisabled);

    #[test]
    fn those_mailed_again_tell() {
        let mut t = Tally::default();
        let (p, now) = (Policy::default(), Instant::of(200 * DAY));
        // Fails twice within the week: two over a week are reached with the third; it lived.
        t.add(
            &[o(MailingId(1), 0, DEAD), o(MailingId(2), 3, DEAD), o(MailingId(3), 10, DEAD), o(MailingId(4), 20, Happened::Accepted)],
            &p,
            now,
        );
        // Never mailed again after two.
        t.add(&[o(MailingId(1), 0, DEAD), o(MailingId(2), 8, DEAD)], &p, now);
        // What was accepted yesterday may still come back.
        t.add(&[o(MailingId(1), 0, DEAD), o(MailingId(2), 199, Happened::Accepted)], &p, now);
        let lines = t.lines();
        let of = |k: usize| (lines[k - 1].reached, lines[k - 1].delivered.of, lines[k - 1].delivered.count);
        assert_eq!([of(1), of(2), of(3)], [(3, 2, 1), (2, 1, 1), (1, 1, 1)]);
        assert_eq!(smallest(&lines), (2, Known::NotRefuted), "one of one says little");
    }

    #[test]
    fn history_decides_where_it_is_thick() {
        let line = |failures, count, of| Line { failures, reached: of, delivered: Rate::new(count, of) };
        assert_eq!(smallest(&[line(1, 0, 400), line(2, 40, 400), line(3, 1, 400)]), (3, Known::Shown));
        assert_eq!(smallest(&[line(2, 40, 400), line(3, 1, 40), line(4, 0, 0)]), (3, Known::NotRefuted));
        assert_eq!(smallest(&[line(2, 40, 400), line(3, 40, 400)]), (6, Known::Refuted));
    }
}
