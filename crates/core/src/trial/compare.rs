//! How arms are compared since version 5 of the rule: by a test and by limits that never contradict each other.
//!
//! Shares by [`compare_shares_by`]; money by drawing the arms again within the strata that they were drawn in, its limits by turning that test
//! around, Welch's beside it. P-values are adjusted by Holm over the comparisons, limits are simultaneous (each at 1 − alpha / comparisons), and
//! a call needs limits that exclude 0: see [`super::rules`].

use super::companies::{Design, widened};
use super::decide::{Compared, money};
use super::plan::Plan;
use super::reading::{Amounts, ArmCounts, BeforeGroup, WelchBeside};
use super::stretches::Counted;
use crate::stats::adjust::{Adjustment, adjust_p_values};
use crate::stats::adjusted_difference::{AdjustedDifference, Alike, adjusted_of_groups};
use crate::stats::agreeing::{Test, Tested, compare_shares_by, few};
use crate::stats::randomization::{Stratum, redraw};
use crate::stats::welch::{Sample, welch_over};
use crate::stats::{Arm, StatsError};

/// How often the arms are drawn again for a reading.
pub(super) const DRAWS: u64 = 10_000;
/// The same trial is always drawn again the same.
const SEED: u64 = 0x5EED;

/// What people brought, as [`Amounts`], and how often the arms are drawn again.
#[derive(Debug, Clone, Copy)]
pub struct Money<'a> {
    pub amounts: &'a [Amounts],
    pub draws: u64,
}

/// A comparison with what stands beside it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Contrast {
    pub tested: Tested,
    pub welch: Option<WelchBeside>,
}

/// Some arms together, in each stretch: those of the base and the others.
fn together(counted: Counted<'_>, base: &[usize], arms: &[usize]) -> Vec<(ArmCounts, ArmCounts)> {
    let sum = |of: &[ArmCounts], arms: &[usize]| arms.iter().filter_map(|i| of.get(*i)).fold(ArmCounts::default(), |sum, c| sum.with(c));
    let both = |of: &[ArmCounts]| Some((sum(of, base), sum(of, arms))).filter(|(b, a)| b.observed() > 0 && a.observed() > 0);
    match counted.stretches {
        [] => both(counted.all).into_iter().collect(),
        all => all.iter().filter_map(|s| both(&s.counts)).collect(),
    }
}

/// What the people of some arms brought, as blocks to be drawn again: the strata of each stretch.
fn blocks(amounts: &[Amounts], base: &[usize], arms: &[usize]) -> Vec<Vec<Stratum>> {
    let mut out: Vec<Vec<Stratum>> = Vec::new();
    for s in amounts {
        if out.len() <= s.stretch {
            out.resize(s.stretch + 1, Vec::new());
        }
        let people = |of: &[usize]| of.iter().filter_map(|i| s.people.get(*i)).sum::<u64>();
        let brought = |of: &[usize]| of.iter().filter_map(|i| s.brought.get(*i)).flatten().copied().collect::<Vec<f64>>();
        out[s.stretch].push(Stratum { people: [people(base), people(arms)], others: [brought(base), brought(arms)] });
    }
    out
}

/// The design effect of a pair, whichever was named first; of several arms together none is known.
fn design(of: &[Design], base: &[usize], arms: &[usize]) -> f64 {
    let ([b], [a]) = (base, arms) else { return 1.0 };
    of.iter().find(|d| (d.base, d.arm) == (*b, *a) || (d.base, d.arm) == (*a, *b)).map_or(1.0, |d| d.effect)
}

/// Lin's difference, adjusted for what people did before the trial; none where that isn't known, or is the same of all.
#[allow(clippy::cast_precision_loss)]
fn adjusted(before: &[Vec<BeforeGroup>], base: &[usize], arms: &[usize], level: f64) -> Option<Tested> {
    let groups = |of: &[usize]| -> Vec<Alike> {
        let all = of.iter().filter_map(|i| before.get(*i)).flatten();
        all.flat_map(|g| {
            [(1.0, g.primary), (0.0, g.people.saturating_sub(g.primary))].map(|(y, n)| Alike { y, x: g.share, people: n as f64 })
        })
        .filter(|g| g.people > 0.0)
        .collect()
    };
    let found = adjusted_of_groups([&groups(base), &groups(arms)], level).ok()?;
    let AdjustedDifference { difference, p_value, lower, upper, .. } = found;
    Some(Tested { difference, p_value, lower, upper, test: Test::Adjusted }.agreed(level))
}

/// Welch's test over stretches; none where nothing varies.
fn by_welch(strata: &[(ArmCounts, ArmCounts)], level: f64) -> Option<Tested> {
    let samples: Vec<(Sample, Sample)> =
        strata.iter().map(|(a, b)| (money(a), money(b))).filter(|(a, b)| a.n >= 2.0 && b.n >= 2.0).collect();
    let w = welch_over(&samples, level).ok()?;
    Some(Tested { difference: w.difference, p_value: w.p_value, lower: w.lower, upper: w.upper, test: Test::Welch })
}

/// Some arms less some others on the primary.
///
/// # Errors
/// When they were never open together.
pub(super) fn contrast(plan: &Plan, counted: Counted<'_>, (base, arms): (&[usize], &[usize]), level: f64) -> Result<Contrast, StatsError> {
    let strata = together(counted, base, arms);
    if !plan.metric.is_money() {
        let shares: Vec<(Arm, Arm)> = strata.iter().map(|(a, b)| (a.with_primary(), b.with_primary())).collect();
        // Where few did it the exact test decides, and where what people did before says nothing of them there is nothing to adjust by.
        let effect = design(counted.design, base, arms);
        if let Some(tested) = adjusted(counted.before, base, arms, level).filter(|_| !few(&shares)) {
            return Ok(Contrast { tested: widened(tested, effect, level), welch: None });
        }
        return Ok(Contrast { tested: widened(compare_shares_by(&shares, level, counted.few)?, effect, level), welch: None });
    }
    let welch = by_welch(&strata, level);
    let tested = match counted.money {
        Some(m) => {
            let s = redraw(&blocks(m.amounts, base, arms), level, m.draws, SEED)?;
            Tested { difference: s.test.difference, p_value: s.test.p_value, lower: s.lower, upper: s.upper, test: Test::Redrawn }
        }
        // Nothing but sums is known of them, or nothing varies.
        None => welch.unwrap_or_else(|| nothing_varies(&strata)).agreed(level),
    };
    Ok(Contrast { tested, welch: welch.map(|w| WelchBeside { p_value: w.p_value, lower: w.lower, upper: w.upper }) })
}

/// Two arms of the same money each: there is nothing to tell apart.
fn nothing_varies(strata: &[(ArmCounts, ArmCounts)]) -> Tested {
    let (a, b) = strata.iter().fold((ArmCounts::default(), ArmCounts::default()), |sum, s| (sum.0.with(&s.0), sum.1.with(&s.1)));
    let difference = money(&b).mean - money(&a).mean;
    Tested { difference, p_value: 1.0, lower: difference, upper: difference, test: Test::Welch }
}

/// The comparisons of these pairs, their p-values and limits for all of them together.
///
/// # Errors
/// When an arm is empty.
#[allow(clippy::cast_precision_loss)]
pub(super) fn compare_pairs(plan: &Plan, counted: Counted<'_>, pairs: &[(usize, usize)]) -> Result<Vec<Compared>, StatsError> {
    let level = 1.0 - plan.level() / pairs.len().max(1) as f64;
    let found = pairs.iter().map(|(b, a)| contrast(plan, counted, (&[*b], &[*a]), level)).collect::<Result<Vec<_>, _>>()?;
    let adjusted = adjust_p_values(&found.iter().map(|c| c.tested.p_value).collect::<Vec<_>>(), Adjustment::Holm)?;
    let compared = |((&(base, arm), c), adjusted_p): ((&(usize, usize), Contrast), f64)| Compared {
        base,
        arm,
        difference: c.tested.difference,
        adjusted_p,
        lower: c.tested.lower,
        upper: c.tested.upper,
        test: Some(c.tested.test),
        welch: c.welch,
    };
    Ok(pairs.iter().zip(found).zip(adjusted).map(compared).collect())
}
