//! Version 5 of the rule, and 6, which differs by the limits where few did it ([`crate::stats::agreeing::LimitsOfFew`]). As the first four, and:
//!
//! * a call needs limits that exclude 0, by a test that fits what was counted ([`crate::trial::compare`]);
//! * it needs every comparator: all arms that are open, whether or not they were open at the same time, and each that it was compared with;
//! * planned to show that an arm is no worse, it is held against what it may lose;
//! * of two changes at once that don't add up, each arm is held against what goes out on no call.

use super::{earned, no_call};
use crate::stats::StatsError;
use crate::trial::crossed::{self, Margin};
use crate::trial::decide::{Compared, breached};
use crate::trial::no_worse;
use crate::trial::plan::{Aim, Plan};
use crate::trial::reading::Verdict;
use crate::trial::stretches::Counted;

/// The verdict on an unbroken trial, and another arm that beat the control too. `compared`: what it is decided by.
///
/// # Errors
/// When an arm is empty.
pub(super) fn decide(
    plan: &Plan,
    counted: Counted<'_>,
    (compared, margins): (&[Compared], &[Margin]),
    stopped: &[usize],
) -> Result<(Verdict, Option<usize>), StatsError> {
    if plan.crossed.is_some() {
        return crossed::decide(plan, counted, margins, compared, stopped);
    }
    if plan.aim == Aim::Earn {
        return Ok((earned(plan, counted.all, stopped)?, None));
    }
    if plan.aim == Aim::NoWorse {
        let found =
            no_worse::of(plan, counted, compared)?.zip(compared.first()).filter(|(n, c)| !stopped.contains(&n.arm) && n.holds(plan, c));
        let Some((n, _)) = found else { return Ok((Verdict::CantTell, None)) };
        let harms = breached(plan, &counted.concurrent(plan.control.unwrap_or(0), n.arm))?;
        return Ok((if harms { Verdict::CantTell } else { Verdict::NoWorse(n.arm) }, None));
    }
    let winners = winners(plan, counted, compared, stopped)?;
    match winners[..] {
        [] => Ok((no_call(plan, counted.all, compared), None)),
        [best, ..] => Ok((Verdict::Called(best), winners.get(1).copied())),
    }
}

/// The arms that are better than all they have to be better than, the one that is furthest ahead first.
///
/// # Errors
/// When an arm is empty.
fn winners(plan: &Plan, counted: Counted<'_>, compared: &[Compared], stopped: &[usize]) -> Result<Vec<usize>, StatsError> {
    let sign = plan.metric.sign();
    let closed = counted.closed();
    let open = |i: usize| !closed.contains(&i) && counted.all[i].observed() > 0;
    let mut out: Vec<(usize, f64)> = Vec::new();
    for i in (0..counted.all.len()).filter(|i| !stopped.contains(i)) {
        let mine: Vec<(usize, &Compared)> =
            compared.iter().filter(|c| c.arm == i || c.base == i).map(|c| (if c.arm == i { c.base } else { c.arm }, c)).collect();
        let needed = |other: usize| other != i && open(other) && plan.control.is_none_or(|c| c == i || c == other);
        let compared_with_all = (0..counted.all.len()).filter(|o| needed(*o)).all(|o| mine.iter().any(|(other, _)| *other == o));
        let mut wins = !mine.is_empty() && compared_with_all;
        let mut ahead = f64::INFINITY;
        for (other, c) in mine {
            let by = if c.arm == i { sign * c.difference } else { -sign * c.difference };
            let sure = c.adjusted_p < plan.level() && c.excludes_none();
            wins = wins && by > 0.0 && sure && !breached(plan, &counted.concurrent(other, i))?;
            ahead = ahead.min(by);
        }
        if wins {
            out.push((i, ahead));
        }
    }
    // Two can win over a control: the one that is further ahead of it goes out.
    out.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
    Ok(out.into_iter().map(|w| w.0).collect())
}
