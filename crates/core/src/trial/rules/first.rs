//! Versions 1 to 4 of the rule. Each arm against the control, or against every other arm: called when it is better in all of them, by
//! the score test adjusted by Holm (of money: Welch's test), and breaches no guardrail.
//!
//! 1 and 2 differ from 3 in the metrics they know, and 4 in whom a trial on opens is of; the verdict is the same.

use super::{earned, no_call};
use crate::stats::StatsError;
use crate::trial::crossed::{self, Margin};
use crate::trial::decide::{Compared, breached};
use crate::trial::plan::{Aim, Plan};
use crate::trial::reading::Verdict;
use crate::trial::stretches::Counted;

/// The verdict on an unbroken trial, and another arm that beat the control too, if there is one. `stopped`: arms
/// that a look stopped for harm; they are never called.
///
/// # Errors
/// When an arm is empty.
pub(super) fn decide(
    plan: &Plan,
    counted: Counted<'_>,
    (all, margins): (&[Compared], &[Margin]),
    stopped: &[usize],
) -> Result<(Verdict, Option<usize>), StatsError> {
    let counts = counted.all;
    if plan.crossed.is_some() {
        return crossed::decide(plan, counted, margins, all, stopped);
    }
    if plan.aim == Aim::Earn {
        return Ok((earned(plan, counts, stopped)?, None));
    }
    let sign = plan.metric.sign();
    let mut winners: Vec<(usize, f64)> = Vec::new();
    for i in (0..counts.len()).filter(|i| !stopped.contains(i)) {
        // Against its comparators: the control, or all others; the control itself against everyone.
        let mut mine = all.iter().filter(|c| c.arm == i || c.base == i).peekable();
        let mut wins = mine.peek().is_some();
        let mut ahead = f64::INFINITY;
        for c in mine {
            let (other, by) = if c.arm == i { (c.base, sign * c.difference) } else { (c.arm, -sign * c.difference) };
            wins = wins && by > 0.0 && c.adjusted_p < plan.alpha && !breached(plan, &counted.concurrent(other, i))?;
            ahead = ahead.min(by);
        }
        if wins {
            winners.push((i, ahead));
        }
    }
    // Two can win over a control: the one that is further ahead of it goes out.
    winners.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
    if let Some((best, _)) = winners.first() {
        return Ok((Verdict::Called(*best), winners.get(1).map(|w| w.0)));
    }
    Ok((no_call(plan, counts, all), None))
}
