//! Two changes at once, crossed 2 x 2: every person helps to read both. A has neither change, B the second, C the first,
//! D both. Each change is read by its margin, the half of the people with it against the half without, and the two
//! p-values are adjusted together by Holm. What goes out has each change that is called for the better, and on the
//! others stands as the choice for no call does. Since version 5 of the rule that holds only where the two add up: where what one does depends on
//! the other (the interaction's p under alpha) a margin is an average that nobody would be sent, and each arm is held against the choice for no
//! call instead.

use super::compare;
use super::decide::{Compared, breached, contrast, guard_states};
use super::plan::Plan;
use super::reading::{ArmCounts, Guardrail, Verdict};
use super::stretches::Counted;
use crate::stats::StatsError;
use crate::stats::adjust::{Adjustment, adjust_p_values};
use crate::stats::agreeing::{Test, Tested};
use crate::stats::special::{chi_square_sf, normal_sf, normal_upper_quantile};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The arms without and with each change.
const WITHOUT: [[usize; 2]; 2] = [[0, 1], [0, 2]];
const WITH: [[usize; 2]; 2] = [[2, 3], [1, 3]];

/// One of the two changes, over everybody: with it less without it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Margin {
    pub name: String,
    pub without: [usize; 2],
    pub with: [usize; 2],
    pub difference: f64,
    pub adjusted_p: f64,
    /// The interval that holds for both margins together.
    pub lower: f64,
    pub upper: f64,
    /// Of the half that did better.
    pub guardrails: Vec<Guardrail>,
    /// What is called: with the change, without it, or nothing.
    pub called: Option<bool>,
}

fn half(counts: &[ArmCounts], arms: [usize; 2]) -> ArmCounts {
    counts[arms[0]].with(&counts[arms[1]])
}

/// Both margins, as versions 1 to 4 of the rule read them. `counts`: of the four arms.
///
/// # Errors
/// When an arm is empty.
pub fn margins(plan: &Plan, counts: &[ArmCounts]) -> Result<Vec<Margin>, StatsError> {
    let of = |i: usize| {
        let c = contrast(plan, &half(counts, WITHOUT[i]), &half(counts, WITH[i]), 1.0 - plan.alpha / 2.0)?;
        Ok(Tested { difference: c.difference, p_value: c.p_value, lower: c.lower, upper: c.upper, test: Test::Score })
    };
    margins_of(plan, counts, [of(0)?, of(1)?], |_| true)
}

/// Both margins, each called only where its limits exclude 0.
///
/// # Errors
/// When an arm is empty.
pub(super) fn margins_by_limits(plan: &Plan, counted: Counted<'_>) -> Result<Vec<Margin>, StatsError> {
    let of = |i: usize| Ok(compare::contrast(plan, counted, (&WITHOUT[i], &WITH[i]), 1.0 - plan.alpha / 2.0)?.tested);
    margins_of(plan, counted.all, [of(0)?, of(1)?], Tested::excludes_none)
}

fn margins_of(plan: &Plan, counts: &[ArmCounts], found: [Tested; 2], sure: fn(&Tested) -> bool) -> Result<Vec<Margin>, StatsError> {
    let names = plan.crossed.clone().unwrap_or_default();
    let adjusted = adjust_p_values(&found.map(|c| c.p_value), Adjustment::Holm)?;
    let mut out = Vec::new();
    for (i, (name, c)) in names.into_iter().zip(&found).enumerate() {
        let (without, with) = (&half(counts, WITHOUT[i]), &half(counts, WITH[i]));
        let better = plan.metric.sign() * c.difference > 0.0;
        let (winner, loser, arm, against) =
            if better { (with, without, WITH[i], WITHOUT[i]) } else { (without, with, WITHOUT[i], WITH[i]) };
        let harms = breached(plan, &[(loser, winner)])?;
        out.push(Margin {
            name,
            without: WITHOUT[i],
            with: WITH[i],
            difference: c.difference,
            adjusted_p: adjusted[i],
            lower: c.lower,
            upper: c.upper,
            guardrails: guard_states(plan, (against[0], arm[0]), &[(loser, winner)])?,
            called: (c.difference != 0.0 && adjusted[i] < plan.alpha && sure(c) && !harms).then_some(better),
        });
    }
    Ok(out)
}

/// Two changes that don't add up: each arm against the one that goes out on no call. Which of them are looked at was chosen after the four were
/// seen, so p-values and limits are Scheffé's, which hold for every contrast of four arms (1953, Biometrika 40:87-104).
///
/// # Errors
/// When an arm is empty.
pub(super) fn arm_by_arm(plan: &Plan, counted: Counted<'_>) -> Result<Vec<Compared>, StatsError> {
    let usual = plan.on_no_call.unwrap_or(0);
    // The normal quantile whose square the chi-square with three degrees of freedom exceeds with chance alpha.
    let (mut low, mut high) = (0.0, 40.0);
    for _ in 0..80 {
        let z = f64::midpoint(low, high);
        if chi_square_sf(z * z, 3.0) > plan.alpha { low = z } else { high = z }
    }
    let level = 1.0 - 2.0 * normal_sf(low);
    let others = (0..counted.all.len()).filter(|i| *i != usual);
    others
        .map(|arm| {
            let c = compare::contrast(plan, counted, (&[usual], &[arm]), level)?;
            let adjusted_p = chi_square_sf(normal_upper_quantile((c.tested.p_value / 2.0).max(1e-300)).powi(2), 3.0);
            let Tested { difference, lower, upper, test, .. } = c.tested;
            Ok(Compared { base: usual, arm, difference, adjusted_p, lower, upper, test: Some(test), welch: c.welch })
        })
        .collect()
}

/// What is called of two changes, by their margins: the arm with each called change as it was called and the others as on no call; none: no change
/// is called.
fn by_margins(plan: &Plan, margins: &[Margin], stopped: &[usize]) -> Option<Verdict> {
    let usual = plan.on_no_call.unwrap_or(0);
    margins.iter().any(|m| m.called.is_some()).then(|| {
        // The first change is the bit of two, the second the bit of one.
        let has = |i: usize, bit: usize| margins[i].called.unwrap_or(usual & bit != 0);
        let arm = usize::from(has(0, 2)) * 2 + usize::from(has(1, 1));
        if stopped.contains(&arm) { Verdict::CantTell } else { Verdict::Called(arm) }
    })
}

fn no_call(plan: &Plan, counts: &[ArmCounts], margins: &[Margin]) -> Verdict {
    let inside = super::decide::tells(plan, counts) && margins.iter().all(|m| m.lower > -plan.effect && m.upper < plan.effect);
    let quiet = margins.iter().all(|m| m.adjusted_p >= plan.alpha);
    if inside && quiet { Verdict::TooCloseToMatter } else { Verdict::CantTell }
}

/// The verdict: by both margins where the changes add up, else by each arm against what goes out on no call. `compared`: by [`arm_by_arm`], empty
/// where they add up and before version 5 of the rule. With another arm that beat it too.
///
/// # Errors
/// When an arm is empty.
pub(super) fn decide(
    plan: &Plan,
    counted: Counted<'_>,
    margins: &[Margin],
    compared: &[Compared],
    stopped: &[usize],
) -> Result<(Verdict, Option<usize>), StatsError> {
    if compared.is_empty() {
        return Ok((by_margins(plan, margins, stopped).unwrap_or_else(|| no_call(plan, counted.all, margins)), None));
    }
    let sign = plan.metric.sign();
    let mut winners: Vec<&Compared> = Vec::new();
    for c in compared.iter().filter(|c| !stopped.contains(&c.arm)) {
        if c.excludes_none() && sign * c.difference > 0.0 && !breached(plan, &counted.concurrent(c.base, c.arm))? {
            winners.push(c);
        }
    }
    winners.sort_by(|a, b| (sign * b.difference).total_cmp(&(sign * a.difference)));
    // That they differ is known, so they aren't all too close to matter.
    Ok((winners.first().map_or(Verdict::CantTell, |w| Verdict::Called(w.arm)), winners.get(1).map(|w| w.arm)))
}

/// Do the two changes add up? The two-sided p that the effect of the first is the same with and without the second.
///
/// # Errors
/// When an arm is empty.
pub fn interaction(plan: &Plan, counts: &[ArmCounts]) -> Result<f64, StatsError> {
    let without = spread(plan, &counts[0], &counts[2])?;
    let with = spread(plan, &counts[1], &counts[3])?;
    Ok(differ(without, with))
}

/// A difference with its variance, by the unpooled normal approximation.
pub(super) fn spread(plan: &Plan, a: &ArmCounts, b: &ArmCounts) -> Result<(f64, f64), StatsError> {
    let difference = contrast(plan, a, b, 1.0 - plan.alpha)?.difference;
    let variance = |c: &ArmCounts| {
        if plan.metric.is_money() {
            let s = super::decide::money(c);
            return s.variance / s.n;
        }
        #[allow(clippy::cast_precision_loss)]
        let (x, n) = (c.primary as f64, c.observed().max(1) as f64);
        x / n * (1.0 - x / n) / n
    };
    Ok((difference, variance(a) + variance(b)))
}

/// The two-sided p that two independent differences are the same; 1 where nothing varies.
pub(super) fn differ(a: (f64, f64), b: (f64, f64)) -> f64 {
    let variance = a.1 + b.1;
    if variance > 0.0 { (2.0 * normal_sf((b.0 - a.0).abs() / variance.sqrt())).min(1.0) } else { 1.0 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::plan::tests::plan;
    use rstest::rstest;

    fn crossed() -> Plan {
        Plan { crossed: Some(["Subject".into(), "Offer".into()]), ..plan() }
    }

    fn counts(primary: [u64; 4], left: [u64; 4]) -> Vec<ArmCounts> {
        primary
            .iter()
            .zip(left)
            .map(|(p, left)| ArmCounts { assigned: 3_000, handed_over: 3_000, primary: *p, left, ..ArmCounts::default() })
            .collect()
    }

    fn decided(plan: &Plan, counts: &[ArmCounts], stopped: &[usize]) -> Verdict {
        decide(plan, counts.into(), &margins(plan, counts).unwrap(), &[], stopped).unwrap().0
    }

    #[rstest]
    // Both help; the first alone; the second alone hurts; neither; the first helps and drives people away.
    #[case([500, 620, 620, 740], [9; 4], 0, Verdict::Called(3))]
    #[case([500, 505, 640, 650], [9; 4], 0, Verdict::Called(2))]
    #[case([500, 505, 640, 650], [9; 4], 1, Verdict::Called(3))]
    #[case([600, 480, 605, 490], [9; 4], 3, Verdict::Called(2))]
    #[case([560, 605, 640, 580], [9; 4], 0, Verdict::CantTell)]
    #[case([600, 605, 610, 590], [9; 4], 0, Verdict::TooCloseToMatter)]
    #[case([500, 505, 640, 650], [9, 9, 90, 90], 0, Verdict::CantTell)]
    fn each_change_is_called_by_its_margin(#[case] primary: [u64; 4], #[case] left: [u64; 4], #[case] usual: usize, #[case] want: Verdict) {
        let p = Plan { on_no_call: Some(usual), ..crossed() };
        assert_eq!(decided(&p, &counts(primary, left), &[]), want);
    }

    #[test]
    fn changes_that_add_up_show_no_interaction() {
        let p = |primary| interaction(&crossed(), &counts(primary, [9; 4])).unwrap();
        assert!(p([500, 620, 620, 740]) > 0.9 && p([500, 500, 500, 740]) < 0.001);
        assert_eq!(p([0; 4]), 1.0);
        assert_eq!(decided(&crossed(), &counts([500, 620, 620, 740], [9; 4]), &[3]), Verdict::CantTell, "it was stopped");
    }
}
