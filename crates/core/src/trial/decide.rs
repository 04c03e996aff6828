//! How arms are compared by versions 1 to 4 of the rule, and what all versions share; the verdict that follows is in [`super::rules`], how
//! arms are compared since in [`super::compare`].
//!
//! Each arm is compared with the control, or with every other arm where there is none. The score test of the
//! primary decides (Welch's test where it is money), its p-values adjusted by Holm over the comparisons. Guardrails are read by Newcombe's
//! interval; only a breach blocks a call. Intervals are simultaneous: each at 1 − alpha / comparisons
//! (Bonferroni), so that all hold together at 1 − alpha.

use super::metric::Metric;
use super::plan::Plan;
use super::reading::{ArmCounts, Guard, Guardrail, WelchBeside};
use super::stretches::Counted;
use crate::stats::adjust::{Adjustment, adjust_p_values};
use crate::stats::agreeing::Test;
use crate::stats::homogeneity::compare_strata;
use crate::stats::two_proportions::{newcombe, score_test};
use crate::stats::welch::{Sample, welch, welch_over};
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
    /// By which test; none: as versions 1 to 4 do.
    pub test: Option<Test>,
    /// Of revenue, what Welch's test says.
    pub welch: Option<WelchBeside>,
}

impl Compared {
    /// Do the limits exclude 0?
    #[must_use]
    pub fn excludes_none(&self) -> bool {
        self.lower > 0.0 || self.upper < 0.0
    }
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

/// The primary over everyone assigned of whom it can be known: a share, or a mean of money.
#[allow(clippy::cast_precision_loss)]
pub(super) fn level_of(plan: &Plan, c: &ArmCounts) -> f64 {
    (if plan.metric.is_money() { c.sum } else { c.primary as f64 }) / c.observed().max(1) as f64
}

/// An arm's money as a sample of people.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn money(c: &ArmCounts) -> Sample {
    Sample::of(c.assigned as f64, c.sum, c.squares)
}

/// Can anything be told? Where nobody of an arm brought money, nothing says how much the next one would.
pub(super) fn tells(plan: &Plan, counts: &[ArmCounts]) -> bool {
    !plan.metric.is_money() || counts.iter().all(|c| money(c).variance > 0.0)
}

/// `b` less `a` on the primary, with its test and its limits.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Contrast {
    pub difference: f64,
    pub p_value: f64,
    pub lower: f64,
    pub upper: f64,
}

/// Compares two arms, or two groups of arms, on the primary: shares by the pooled score test and Newcombe's limits, money
/// by Welch's.
///
/// # Errors
/// When one of them is empty.
pub fn contrast(plan: &Plan, a: &ArmCounts, b: &ArmCounts, level: f64) -> Result<Contrast, StatsError> {
    let difference = level_of(plan, b) - level_of(plan, a);
    if plan.metric.is_money() {
        let (a, b) = (money(a), money(b));
        if a.n >= 2.0 && b.n >= 2.0 && a.variance == 0.0 && b.variance == 0.0 {
            // Nothing varies: there is no test, and nothing to tell apart.
            return Ok(Contrast { difference, p_value: 1.0, lower: difference, upper: difference });
        }
        let w = welch(a, b, level)?;
        return Ok(Contrast { difference, p_value: w.p_value, lower: w.lower, upper: w.upper });
    }
    let (a, b) = (a.with_primary(), b.with_primary());
    let (lower, upper) = newcombe(a, b, level)?;
    Ok(Contrast { difference, p_value: score_test(a, b)?.1, lower, upper })
}

/// Compares two arms as [`contrast`] does, over the stretches in which both were open: base, arm.
///
/// # Errors
/// When there is no such stretch.
pub fn contrast_over(plan: &Plan, strata: &[(&ArmCounts, &ArmCounts)], level: f64) -> Result<Contrast, StatsError> {
    if let [(a, b)] = strata {
        return contrast(plan, a, b, level);
    }
    if plan.metric.is_money() {
        let samples: Vec<(Sample, Sample)> =
            strata.iter().map(|(a, b)| (money(a), money(b))).filter(|(a, b)| a.n >= 2.0 && b.n >= 2.0).collect();
        if samples.iter().all(|(a, b)| a.variance == 0.0 && b.variance == 0.0) {
            let (a, b) = strata.iter().fold((ArmCounts::default(), ArmCounts::default()), |sum, s| (sum.0.with(s.0), sum.1.with(s.1)));
            let difference = level_of(plan, &b) - level_of(plan, &a);
            return Ok(Contrast { difference, p_value: 1.0, lower: difference, upper: difference });
        }
        let w = welch_over(&samples, level)?;
        return Ok(Contrast { difference: w.difference, p_value: w.p_value, lower: w.lower, upper: w.upper });
    }
    let c = compare_strata(&primaries(strata), level)?;
    Ok(Contrast { difference: c.difference, p_value: c.p_value, lower: c.lower, upper: c.upper })
}

/// The people with the primary in each stratum.
pub(super) fn primaries(strata: &[(&ArmCounts, &ArmCounts)]) -> Vec<(Arm, Arm)> {
    strata.iter().map(|(a, b)| (a.with_primary(), b.with_primary())).collect()
}

/// The same, machines' responses included.
pub(super) fn reported(strata: &[(&ArmCounts, &ArmCounts)]) -> Vec<(Arm, Arm)> {
    let of = |c: &ArmCounts| Arm { successes: c.reported, trials: c.observed() };
    strata.iter().map(|(a, b)| (of(a), of(b))).collect()
}

pub(super) fn arms_of(strata: &[(&ArmCounts, &ArmCounts)], of: fn(&ArmCounts) -> u64) -> Vec<(Arm, Arm)> {
    strata.iter().map(|(a, b)| (arm(a, of), arm(b, of))).collect()
}

/// All comparisons of the primary: of all pairs, or with the control, those that were open at the same time.
///
/// # Errors
/// When nothing can be computed of what was counted.
pub fn compare(plan: &Plan, counted: Counted<'_>) -> Result<Vec<Compared>, StatsError> {
    compare_pairs(plan, counted, &counted.pairs(plan.control))
}

/// These comparisons of the primary, their p-values adjusted together.
///
/// # Errors
/// When an arm is empty.
#[allow(clippy::cast_precision_loss)]
pub fn compare_pairs(plan: &Plan, counted: Counted<'_>, pairs: &[(usize, usize)]) -> Result<Vec<Compared>, StatsError> {
    let level = 1.0 - plan.alpha / pairs.len().max(1) as f64;
    let found = pairs.iter().map(|(b, a)| contrast_over(plan, &counted.concurrent(*b, *a), level)).collect::<Result<Vec<_>, _>>()?;
    let adjusted = adjust_p_values(&found.iter().map(|c| c.p_value).collect::<Vec<_>>(), Adjustment::Holm)?;
    Ok(pairs
        .iter()
        .zip(found)
        .zip(adjusted)
        .map(|((&(base, arm), c), adjusted_p)| Compared {
            base,
            arm,
            difference: c.difference,
            adjusted_p,
            lower: c.lower,
            upper: c.upper,
            test: None,
            welch: None,
        })
        .collect())
}

/// What does harm when it rises: its name, its count, and the margin.
pub(super) type Harm = (&'static str, fn(&ArmCounts) -> u64, f64);

/// The guardrails of a plan. What the trial is about isn't one besides.
pub(super) fn harms(plan: &Plan) -> Vec<Harm> {
    let mut out: Vec<Harm> = Vec::new();
    if plan.metric != Metric::Leaving {
        out.push(("leaving", |c| c.left, plan.leaving_margin));
    }
    if plan.metric != Metric::Complaining {
        out.push(("complaints", |c| c.complained, plan.complaint_margin));
    }
    if let Some(margin) = plan.bounce_margin {
        out.push(("bounces", |c| c.bounced, margin));
    }
    out
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

/// How the guardrails of `other` stand against `base`, places among the arms. `strata`: base and other, in each stretch.
///
/// # Errors
/// When an arm is empty.
pub(super) fn guard_states(
    plan: &Plan,
    (base, other): (usize, usize),
    strata: &[(&ArmCounts, &ArmCounts)],
) -> Result<Vec<Guardrail>, StatsError> {
    harms(plan)
        .into_iter()
        .map(|(name, of, margin)| {
            let comparison = compare_strata(&arms_of(strata, of), 1.0 - plan.alpha)?;
            let state = guard(comparison.lower, comparison.upper, margin);
            Ok(Guardrail { name: name.to_owned(), margin, arm: other, against: base, comparison, state })
        })
        .collect()
}

/// Does the other do more harm than the base by more than the margin, for certain? `strata`: base and other, in each stretch.
///
/// # Errors
/// When an arm is empty.
pub fn breached(plan: &Plan, strata: &[(&ArmCounts, &ArmCounts)]) -> Result<bool, StatsError> {
    for (_, of, margin) in harms(plan) {
        let (lower, upper) = match strata {
            [(base, other)] => newcombe(arm(base, of), arm(other, of), 1.0 - plan.alpha)?,
            all => compare_strata(&arms_of(all, of), 1.0 - plan.alpha).map(|c| (c.lower, c.upper))?,
        };
        if guard(lower, upper, margin) == Guard::Breached {
            return Ok(true);
        }
    }
    Ok(false)
}
