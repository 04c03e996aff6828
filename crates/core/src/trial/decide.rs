//! The sealed rule that turns counts into a verdict: one rule for the reading, the rehearsal and every simulation.
//!
//! Each arm is compared with the control, or with every other arm where there is none. The score test of the
//! primary decides, its p-values adjusted by Holm over the comparisons. Guardrails are read by Newcombe's
//! interval; only a breach blocks a call. Intervals are simultaneous: each at 1 − alpha / comparisons
//! (Bonferroni), so that all hold together at 1 − alpha.

use super::plan::{Aim, Plan};
use super::reading::{ArmCounts, Guard, Verdict};
use crate::stats::adjust::{Adjustment, adjust_p_values};
use crate::stats::two_proportions::{newcombe, score_test};
use crate::stats::{Arm, StatsError};

/// A comparison by the rule: arm less base.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Compared {
    pub base: usize,
    pub arm: usize,
    pub difference: f64,
    pub adjusted_p: f64,
    /// The simultaneous interval.
    pub lower: f64,
    pub upper: f64,
}

/// The pairs that are compared: each arm with the control, or all pairs.
#[must_use]
pub fn pairs(arms: usize, control: Option<usize>) -> Vec<(usize, usize)> {
    match control {
        Some(c) => (0..arms).filter(|a| *a != c).map(|a| (c, a)).collect(),
        None => (0..arms).flat_map(|b| (b + 1..arms).map(move |a| (b, a))).collect(),
    }
}

pub(super) fn arm(c: &ArmCounts, of: fn(&ArmCounts) -> u64) -> Arm {
    Arm { successes: of(c), trials: c.assigned }
}

/// The primary's rate over everyone assigned.
#[allow(clippy::cast_precision_loss)]
fn rate(c: &ArmCounts) -> f64 {
    c.primary as f64 / c.assigned.max(1) as f64
}

/// All comparisons of the primary.
///
/// # Errors
/// When an arm is empty.
#[allow(clippy::cast_precision_loss)]
pub fn compare(plan: &Plan, counts: &[ArmCounts]) -> Result<Vec<Compared>, StatsError> {
    let pairs = pairs(counts.len(), plan.control);
    let level = 1.0 - plan.alpha / pairs.len().max(1) as f64;
    let primary = |i: usize| arm(&counts[i], |c| c.primary);
    let p = pairs.iter().map(|(b, a)| Ok(score_test(primary(*b), primary(*a))?.1)).collect::<Result<Vec<f64>, StatsError>>()?;
    let adjusted = adjust_p_values(&p, Adjustment::Holm)?;
    pairs
        .iter()
        .zip(adjusted)
        .map(|(&(base, arm), adjusted_p)| {
            let (lower, upper) = newcombe(primary(base), primary(arm), level)?;
            Ok(Compared { base, arm, difference: rate(&counts[arm]) - rate(&counts[base]), adjusted_p, lower, upper })
        })
        .collect()
}

/// What does harm when it rises: its name, its count, and the margin.
pub(super) type Harm = (&'static str, fn(&ArmCounts) -> u64, f64);

pub(super) fn harms(plan: &Plan) -> [Harm; 2] {
    [("leaving", |c| c.left, plan.leaving_margin), ("complaints", |c| c.complained, plan.complaint_margin)]
}

/// How a rise of what does harm stands to its margin, by an interval of `arm` less `base`.
#[must_use]
pub fn guard(lower: f64, upper: f64, margin: f64) -> Guard {
    if lower > margin {
        Guard::Breached
    } else if upper <= margin {
        Guard::Within
    } else {
        Guard::CantTell
    }
}

/// Does an arm do more harm than its base by more than the margin, for certain?
///
/// # Errors
/// When an arm is empty.
pub fn breached(plan: &Plan, counts: &[ArmCounts], base: usize, arm_at: usize) -> Result<bool, StatsError> {
    for (_, of, margin) in harms(plan) {
        let (lower, upper) = newcombe(arm(&counts[base], of), arm(&counts[arm_at], of), 1.0 - plan.alpha)?;
        if guard(lower, upper, margin) == Guard::Breached {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The verdict on an unbroken trial, and another arm that beat the control too, if there is one. `stopped`: arms
/// that a look stopped for harm; they are never called.
///
/// # Errors
/// When an arm is empty.
pub fn decide(plan: &Plan, counts: &[ArmCounts], stopped: &[usize]) -> Result<(Verdict, Option<usize>), StatsError> {
    let by_rate = |a: &usize, b: &usize| rate(&counts[*a]).total_cmp(&rate(&counts[*b])).then(b.cmp(a));
    if plan.aim == Aim::Earn {
        // The better one goes out, whatever the difference; it is never called proven.
        let mut open = Vec::new();
        for i in (0..counts.len()).filter(|i| !stopped.contains(i)) {
            let mut harms = false;
            for j in (0..counts.len()).filter(|j| *j != i) {
                harms |= breached(plan, counts, j, i)?;
            }
            if !harms {
                open.push(i);
            }
        }
        return Ok((open.into_iter().max_by(by_rate).map_or(Verdict::CantTell, Verdict::Ahead), None));
    }
    let all = compare(plan, counts)?;
    let mut winners = Vec::new();
    for i in (0..counts.len()).filter(|i| !stopped.contains(i)) {
        // Against its comparators: the control, or all others; the control itself against everyone.
        let mut mine = all.iter().filter(|c| c.arm == i || c.base == i).peekable();
        let mut wins = mine.peek().is_some();
        for c in mine {
            let (other, better) = if c.arm == i { (c.base, c.difference > 0.0) } else { (c.arm, c.difference < 0.0) };
            wins = wins && better && c.adjusted_p < plan.alpha && !breached(plan, counts, other, i)?;
        }
        if wins {
            winners.push(i);
        }
    }
    winners.sort_by(|a, b| by_rate(b, a));
    if let Some(best) = winners.first() {
        return Ok((Verdict::Called(*best), winners.get(1).copied()));
    }
    let inside = all.iter().all(|c| c.lower > -plan.effect && c.upper < plan.effect);
    let quiet = all.iter().all(|c| c.adjusted_p >= plan.alpha);
    Ok((if inside && quiet { Verdict::TooCloseToMatter } else { Verdict::CantTell }, None))
}
