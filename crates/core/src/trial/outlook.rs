//! What a plan can find with the people there are; it moves as the plan is edited.

use super::decide::pairs;
use super::guards::{GuardOutlook, NOTICES, guards};
use super::metric::Metric;
use super::plan::{Aim, LEAST_PER_ARM, Plan};
use crate::stats::best_power::{Truth, beats_all};
use crate::stats::planning::test_and_roll;
use crate::stats::sample_size::{minimum_detectable_effect, power_two_proportions, sample_size_two_proportions};
use crate::stats::special::normal_upper_quantile;
use crate::words::thousands;
use serde::Serialize;

/// Shares of people who leave and who complain, where no past mailing tells.
pub const USUAL_LEAVING: f64 = 0.003;
pub const USUAL_COMPLAINTS: f64 = 0.0005;

/// Enrolling for longer than this is warned about.
const LONG_DAYS: f64 = 120.0;

/// What a plan can find with the people there are; moves as the share moves.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct Outlook {
    pub cleared: u64,
    pub pilot: u64,
    /// People in the smallest arm that gets mail.
    pub per_arm: u64,
    /// People in each arm, those without mail last.
    pub sizes: Vec<u64>,
    pub rollout: u64,
    /// Rate of the metric in past mailings, over everyone handed over; of revenue, the mean a person.
    pub baseline: f64,
    /// Share of the audience for whom the metric can't be known, since machines open their mail. They take part, and count for
    /// everything else; what it finds is worked out from the others.
    pub unknown: Option<f64>,
    /// The smallest rise the pilot finds with the plan's power; null when none would be.
    pub smallest_effect: Option<f64>,
    /// People in the smallest arm needed for the smallest effect worth having.
    pub needed_per_arm: Option<u64>,
    /// Comparisons that alpha is shared between.
    pub comparisons: usize,
    /// The smallest rise of leaving that the pilot can rule out with the plan's power, when there is none.
    pub smallest_margin: Option<f64>,
    /// The guardrails, and whether they would notice a doubling.
    pub guards: Vec<GuardOutlook>,
    /// Share of the responses of 30 days that past mailings had by the end of the window.
    pub maturity: Option<f64>,
    /// The size of difference that half of past trials stayed under.
    pub typical_effect: Option<f64>,
    /// People per arm with which a plan to earn gets the most responses in all.
    pub earn_per_arm: Option<u64>,
    /// The share of people that using what they did before saves here, by past mailings.
    pub explained: Option<f64>,
    /// In a series: how many come a day, and in how many days the arms will be as large as planned at that rate.
    pub a_day: Option<f64>,
    pub days: Option<f64>,
    /// Why it is too small for what it wants to find: then only an approver lets it be sealed.
    pub too_small: Option<String>,
    pub warnings: Vec<String>,
}

/// What past mailings and trials say.
#[derive(Debug, Clone, Copy, Default)]
pub struct Known {
    /// Rate of the metric, over everyone handed over; of revenue, the mean a person.
    pub baseline: f64,
    /// Of revenue, how far people lie apart.
    pub sd: Option<f64>,
    /// Rate of leaving within the window.
    pub leaving: f64,
    /// Rate of complaints within the window.
    pub complaints: f64,
    /// The share of eventual responses that had come by the end of the window.
    pub maturity: Option<f64>,
    /// The share of opens taken for machines'.
    pub machine_share: Option<f64>,
    /// The share of people at domains where opens are mostly machines'.
    pub unknown: Option<f64>,
    /// The variance of true differences between variants.
    pub spread: Option<f64>,
    /// In a series: how many people come to the message a day.
    pub a_day: Option<f64>,
    /// The share of the metric's variance that what people did before explains.
    pub explained: Option<f64>,
}

/// How many of the people count, in people of a plain comparison: those whose response can be known, and more where the plan uses what people did
/// before.
fn effective(plan: &Plan, known: Known) -> f64 {
    let explained = known.explained.filter(|_| plan.uses_before).unwrap_or(0.0).clamp(0.0, 0.9);
    observed_share(plan, known.unknown) / (1.0 - explained)
}

/// The share of people whose response to the metric can be known. In a series the people per arm are those.
#[must_use]
pub fn observed_share(plan: &Plan, unknown: Option<f64>) -> f64 {
    if plan.metric == Metric::HumanOpen && plan.per_arm.is_none() { 1.0 - unknown.unwrap_or(0.0).clamp(0.0, 1.0) } else { 1.0 }
}

/// The smallest effect that people of two arms show, with the plan's power; none where none would be.
fn smallest(plan: &Plan, (a, b): (u64, u64), alpha: f64, known: Known) -> Option<f64> {
    let observed = effective(plan, known);
    let (a, b) = (count(a) * observed, count(b) * observed);
    if plan.metric.is_money() {
        let sd = known.sd.filter(|sd| *sd > 0.0)?;
        return (a > 0.0 && b > 0.0).then(|| steps(plan, alpha) * sd * (1.0 / a + 1.0 / b).sqrt());
    }
    if plan.aim == Aim::NoWorse {
        // Two arms alike: the smallest loss that is ruled out.
        let p = known.baseline;
        return (a > 0.0 && b > 0.0).then(|| steps(plan, alpha) * (p * (1.0 - p) * (1.0 / a + 1.0 / b)).sqrt());
    }
    if plan.metric.sign() > 0.0 {
        return minimum_detectable_effect(known.baseline, a, b, alpha, plan.power, 2).ok();
    }
    // A fall is found more surely the deeper it is, down to nobody.
    let finds = |d: f64| power_two_proportions(known.baseline, -d, a, b, alpha, 2).is_ok_and(|power| power >= plan.power);
    least(0.0, known.baseline * (1.0 - 1e-9), finds)
}

/// People in arm `a` needed to find the smallest effect worth having, where arm `b` has `ratio` times as many.
fn needed(plan: &Plan, ratio: f64, alpha: f64, known: Known) -> Option<f64> {
    if plan.metric.is_money() {
        let sd = known.sd.filter(|sd| *sd > 0.0)?;
        return Some((steps(plan, alpha) * sd / plan.effect).powi(2) * (1.0 + 1.0 / ratio));
    }
    let effect = plan.metric.sign() * plan.effect;
    let observed = effective(plan, known);
    if plan.aim == Aim::NoWorse {
        let p = known.baseline;
        return (observed > 0.0).then(|| (steps(plan, alpha) / plan.effect).powi(2) * p * (1.0 - p) * (1.0 + 1.0 / ratio) / observed);
    }
    sample_size_two_proportions(known.baseline, effect, alpha, plan.power, ratio, 2)
        .ok()
        .filter(|_| observed > 0.0)
        .map(|s| s.n_a / observed)
}

/// The sum of the two quantiles that a normal test is sized by.
fn steps(plan: &Plan, alpha: f64) -> f64 {
    normal_upper_quantile(alpha / 2.0) + normal_upper_quantile(1.0 - plan.power)
}

#[allow(clippy::cast_precision_loss)]
fn count(n: u64) -> f64 {
    n as f64
}

/// Without a control an arm is called when it is better than all others, so that is what the plan's power has to be of: each arm as the one that
/// truly is better, and all others. Empty where one comparison calls: against a control, of two arms, or of the halves of two changes.
fn contests(plan: &Plan, sizes: &[f64]) -> Vec<(f64, Vec<f64>)> {
    let open: Vec<f64> = sizes.iter().copied().filter(|n| *n > 0.0).collect();
    if open.len() < 3 || plan.control.is_some() || plan.crossed.is_some() {
        return Vec::new();
    }
    (0..open.len()).map(|i| (open[i], open.iter().enumerate().filter(|(j, _)| *j != i).map(|(_, n)| *n).collect())).collect()
}

/// The least chance of an arm, over which it may be, to be shown to be better than all others by `effect`.
fn joint_power(plan: &Plan, contests: &[(f64, Vec<f64>)], effect: f64, alpha: f64, known: Known) -> f64 {
    let z = normal_upper_quantile(alpha / 2.0);
    let (money, sign) = (plan.metric.is_money(), plan.metric.sign());
    let sd = known.sd.unwrap_or(0.0);
    let truth = |people: f64, level: f64| if money { Truth { people, mean: level, sd } } else { Truth::share(people, level) };
    let of = |(best, others): &(f64, Vec<f64>)| {
        let others: Vec<Truth> = others.iter().map(|n| truth(*n, known.baseline)).collect();
        beats_all(truth(*best, known.baseline + sign * effect), &others, z, sign, !money)
    };
    contests.iter().map(of).fold(1.0, f64::min)
}

/// The smallest number between two at which something holds from there on, to a thousand-millionth; none where it doesn't at the upper.
pub(super) fn least(low: f64, high: f64, holds: impl Fn(f64) -> bool) -> Option<f64> {
    if !holds(high) {
        return None;
    }
    let (mut low, mut high) = (low, high);
    while high - low > 1e-9 * high.max(1.0) {
        let middle = f64::midpoint(low, high);
        if holds(middle) { high = middle } else { low = middle }
    }
    Some(high)
}

/// The smallest effect that the best of several arms is called for with the plan's power.
fn smallest_of_several(plan: &Plan, contests: &[(f64, Vec<f64>)], alpha: f64, known: Known) -> Option<f64> {
    let most = match (plan.metric.is_money(), plan.metric.sign() > 0.0) {
        (true, _) => 100.0 * known.sd.filter(|sd| *sd > 0.0)?,
        (false, true) => 1.0 - known.baseline,
        (false, false) => known.baseline,
    };
    least(0.0, most * (1.0 - 1e-9), |d| joint_power(plan, contests, d, alpha, known) >= plan.power)
}

/// How many times the parts of several arms are needed, for the smallest effect worth having.
fn needed_of_several(plan: &Plan, contests: &[(f64, Vec<f64>)], alpha: f64, known: Known) -> Option<f64> {
    let there = known.baseline + plan.metric.sign() * plan.effect;
    if plan.metric.is_money() {
        known.sd.filter(|sd| *sd > 0.0)?;
    } else if !(0.0..1.0).contains(&there) || known.baseline <= 0.0 {
        return None;
    }
    let times = |t: f64| contests.iter().map(|(b, o)| (b * t, o.iter().map(|n| n * t).collect())).collect::<Vec<(f64, Vec<f64>)>>();
    least(1.0, 1e10, |t| joint_power(plan, &times(t), plan.effect, alpha, known) >= plan.power)
}

/// The arms that are compared, as pairs of people: of two changes at once, the halves of each.
fn compared(plan: &Plan, sizes: &[u64]) -> Vec<(u64, u64)> {
    if plan.crossed.is_some() && sizes.len() == 4 {
        return vec![(sizes[0] + sizes[1], sizes[2] + sizes[3]), (sizes[0] + sizes[2], sizes[1] + sizes[3])];
    }
    let open = |n: u64| plan.per_arm.is_none() || n > 0;
    pairs(sizes.len(), plan.control).into_iter().map(|(b, a)| (sizes[b], sizes[a])).filter(|(b, a)| open(*b) && open(*a)).collect()
}

/// Works out what the plan can do.
#[must_use]
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub fn outlook(plan: &Plan, arms: usize, cleared: u64, known: Known) -> Outlook {
    let pilot = plan.pilot_size(cleared, arms);
    // In a series there is no audience that the rest would be of: it goes on as people come.
    let cleared = if plan.per_arm.is_some() { pilot } else { cleared };
    let sizes = plan.sizes(pilot, arms);
    let mailed = &sizes[..arms.min(sizes.len())];
    let open = |n: &u64| plan.per_arm.is_none() || *n > 0;
    let per_arm = mailed.iter().copied().filter(open).min().unwrap_or(0);
    let comparisons = plan.comparisons(arms);
    // Where looks may call, the end has what they leave of alpha.
    let alpha = plan.at_end(arms).map_or(plan.alpha, |p| p.level()) / count(comparisons as u64);
    let (n, baseline) = (count(per_arm), known.baseline);
    // It finds what its weakest comparison finds.
    let weakest = |all: Option<Vec<f64>>| all.and_then(|all| all.into_iter().reduce(f64::max));
    let observed = effective(plan, known);
    let several = contests(plan, &mailed.iter().map(|n| count(*n) * observed).collect::<Vec<_>>());
    let smallest = if several.is_empty() {
        weakest(compared(plan, mailed).into_iter().map(|pair| smallest(plan, pair, alpha, known)).collect())
    } else {
        smallest_of_several(plan, &several, alpha, known)
    };
    let parts: Vec<u64> = plan.parts(arms)[..arms].iter().map(|p| u64::from(*p)).collect();
    let least_part = count(parts.iter().copied().filter(open).min().unwrap_or(1));
    let several = contests(plan, &parts.iter().map(|p| count(*p)).collect::<Vec<_>>());
    let needed = if several.is_empty() {
        let of = |(a, b): (u64, u64)| Some(needed(plan, count(b) / count(a), alpha, known)? * least_part / count(a));
        weakest(compared(plan, &parts).into_iter().map(of).collect())
    } else {
        needed_of_several(plan, &several, alpha, known).filter(|_| observed > 0.0).map(|t| t * least_part / observed)
    };
    let needed = needed.map(|n| n.ceil() as u64);
    // Two equal rates, and an upper limit that stays under the margin as often as the power asks.
    let smallest_margin = (per_arm > 0).then(|| steps(plan, plan.alpha) * (2.0 * known.leaving * (1.0 - known.leaving) / n).sqrt());
    let typical_effect = known.spread.map(super::learned::typical);
    let sd = known.sd.unwrap_or_else(|| (baseline * (1.0 - baseline)).max(0.0).sqrt());
    let earn_per_arm = known.spread.filter(|s| *s > 0.0).and_then(|s| {
        // The arms' means spread by half the variance of their differences.
        let observed = observed_share(plan, known.unknown);
        test_and_roll(count(cleared) * observed, sd, (s / 2.0).sqrt())
            .ok()
            .filter(|_| observed > 0.0)
            .map(|n| (n / observed).round() as u64)
    });
    let (mut warnings, mut too_small) = (Vec::new(), None);
    if let Err(e) = plan.check_size(cleared, arms) {
        warnings.push(e.to_string());
    } else if plan.aim != Aim::Earn
        && let Some(needed) = needed.filter(|needed| per_arm < *needed)
    {
        let fewer = if arms > 2 && plan.crossed.is_none() { " With fewer arms each would have more." } else { "" };
        let finds = smallest.map_or_else(|| "nothing that could be".to_owned(), |d| plan.amount(d));
        let words = format!(
            "Too few people for the effect you want: it finds {finds}, you want {}. {} {} would do; {} or accept a larger effect.{fewer}",
            plan.amount(plan.effect),
            thousands(needed),
            if parts.iter().all(|p| *p == parts[0]) { "per arm" } else { "in the smallest arm" },
            if plan.per_arm.is_some() { "enrol so many" } else { "raise the share" },
        );
        warnings.push(words.clone());
        too_small = Some(words);
    }
    let there = baseline + plan.metric.sign() * plan.effect;
    if plan.aim != Aim::NoWorse && !plan.metric.is_money() && !(0.0..1.0).contains(&there) {
        let words = format!(
            "The effect you want can't be: {} are {:.1} in 100 people as a rule. Ask for less than that.",
            plan.metric.words(),
            baseline * 100.0
        );
        warnings.push(words.clone());
        too_small = Some(words);
    }
    let days = plan.per_arm.and_then(|n| super::stretches::days_left(n, &plan.parts(arms), &vec![0; arms], known.a_day?));
    if plan.per_arm.is_some() {
        match days {
            None => warnings.push("Nobody has come to this message in the last 28 days: nothing says how long it will take.".into()),
            Some(days) if days > LONG_DAYS => warnings.push(format!(
                "At {:.1} people a day it takes {days:.0} days until the arms are full: months differ, and so may what works. Compare fewer arms, or accept a larger effect.",
                known.a_day.unwrap_or(0.0)
            )),
            Some(_) => {}
        }
    }
    warnings.extend(warned(plan, known));
    let guards = guards(plan, per_arm, known);
    let blind: Vec<&GuardOutlook> = guards.iter().filter(|g| g.notices < NOTICES && per_arm >= LEAST_PER_ARM).collect();
    if !blind.is_empty() {
        let each = |g: &&GuardOutlook| {
            format!("{} (usually {:.2} in 100) in {:.0} of 100 such trials", g.name, 100.0 * g.usual, 100.0 * g.notices)
        };
        warnings.push(format!(
            "The guardrails can't notice much with so few people. An arm with twice what is usual breaches that on {}. They still block what is surely worse.",
            blind.iter().map(each).collect::<Vec<_>>().join(", that on ")
        ));
    }
    Outlook {
        cleared,
        pilot,
        per_arm,
        sizes,
        rollout: cleared - pilot,
        baseline,
        unknown: known.unknown.filter(|_| plan.metric == Metric::HumanOpen),
        smallest_effect: smallest,
        needed_per_arm: needed,
        comparisons,
        smallest_margin,
        guards,
        maturity: known.maturity,
        typical_effect,
        earn_per_arm,
        explained: known.explained,
        a_day: known.a_day,
        days,
        too_small,
        warnings,
    }
}

/// What speaks against the plan whatever its size; each names its fix.
fn warned(plan: &Plan, known: Known) -> Vec<String> {
    let mut out = Vec::new();
    if let Some(m) = known.maturity.filter(|m| *m < 0.8) {
        out.push(format!(
            "By {} h past mailings had {:.0}% of their responses: under 80%, so a slower arm would look worse than it is. Lengthen the window.",
            plan.window_hours, m * 100.0
        ));
    }
    if let Some(m) = known.machine_share.filter(|m| *m > 1.0 / 3.0 && plan.metric == Metric::HumanOpen) {
        out.push(format!("{:.0}% of past opens were machines': clicks would be a surer metric than opens.", m * 100.0));
    }
    if let Some(u) = known.unknown.filter(|u| *u > 0.0 && plan.metric == Metric::HumanOpen) {
        out.push(format!(
            "Of {:.0}% of people opens can't be known, as their domains fetch images by themselves: they get their mail and count for the guardrails, and the opens are those of the others. Clicks would be known of everybody.",
            u * 100.0
        ));
    }
    if let Some((change, why)) = plan.change.and_then(|c| Some((c, c.cannot_move(plan.metric)?))) {
        out.push(format!("The variants differ in {}, which can't move {}: {why}.", change.words(), plan.metric.words()));
    }
    if plan.metric.is_money() && known.sd.is_none() {
        out.push(
            "Nothing was bought after past mailings, so nobody knows how far people lie apart: what it finds can't be said before.".into(),
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::metric::Change;
    use crate::trial::plan::tests::{goal, plan};
    use proptest::prelude::*;

    const USUAL: Known = Known {
        baseline: 0.2,
        sd: None,
        leaving: 0.003,
        complaints: 0.0005,
        maturity: None,
        machine_share: None,
        unknown: None,
        spread: None,
        a_day: None,
        explained: None,
    };

    proptest! {
        /// A larger share never finds less, and the people always add up.
        #[test]
        fn more_people_find_smaller_effects(cleared in 200u64..200_000, share in 0.02f64..0.9, more in 1.05f64..1.5, base in 0.02f64..0.5) {
            let of = |s: f64| outlook(&Plan { pilot_share: s, ..plan() }, 2, cleared, Known { baseline: base, ..USUAL });
            let (small, large) = (of(share), of((share * more).min(1.0)));
            prop_assert_eq!(small.pilot + small.rollout, cleared);
            prop_assert_eq!(small.per_arm * 2, small.pilot);
            // What is needed finds what is wanted, and one fewer doesn't.
            if let Some(n) = small.needed_per_arm.filter(|n| *n > 1) {
                let d = |n: u64| minimum_detectable_effect(base, n as f64, n as f64, 0.05, 0.8, 2).unwrap_or(1.0);
                prop_assert!(d(n) <= 0.02 + 1e-9 && d(n - 1) > 0.02 - 1e-9);
            }
            if let (Some(a), Some(b)) = (small.smallest_effect, large.smallest_effect) {
                prop_assert!(b <= a + 1e-9);
            }
        }

        /// The same people in uneven arms never find more than in even ones, and more comparisons never find more.
        #[test]
        fn even_arms_and_few_comparisons_find_the_most(a in 1u32..6, b in 1u32..6, cleared in 4_000u64..100_000) {
            let of = |shares: Vec<u32>, arms| outlook(&Plan { shares, ..plan() }, arms, cleared, USUAL).smallest_effect.unwrap();
            prop_assert!(of(vec![a, b], 2) >= of(vec![], 2) - 1e-4);
            prop_assert!(of(vec![], 3) >= of(vec![], 2));
        }
    }

    #[test]
    fn in_a_series_the_number_is_planned_and_the_days_are_worked_out() {
        let series = Plan { per_arm: Some(6_600), shares: vec![1, 2, 0], control: Some(0), ..plan() };
        let o = outlook(&series, 3, 0, Known { a_day: Some(330.0), ..USUAL });
        // C isn't open yet: one comparison, and the smaller arm gets a third of those who come.
        assert_eq!((&o.sizes[..], o.per_arm, o.comparisons, o.rollout), (&[6_600, 13_200, 0][..], 6_600, 1, 0));
        assert!(
            (o.days.unwrap() - 60.0).abs() < 1e-9 && o.too_small.is_none() && o.warnings.iter().all(|w| w.starts_with("The guardrail")),
            "{o:?}"
        );
        let few = outlook(&Plan { per_arm: Some(1_000), ..series.clone() }, 3, 0, Known { a_day: Some(10.0), ..USUAL });
        assert!(
            few.too_small.unwrap().contains("enrol so many") && few.warnings.iter().any(|w| w.contains("300 days")),
            "{:?}",
            few.warnings
        );
        assert!(outlook(&series, 3, 0, USUAL).warnings[0].contains("Nobody has come"));
    }

    #[test]
    fn money_and_leaving_and_two_changes_have_their_own_sizes() {
        // Two means with sd 20: (1.96 + 0.8416)² · 2 · 20² / 2² = 1,569.8 an arm.
        let money = Plan { metric: Metric::Revenue, effect: 2.0, goal: goal("GBP"), ..plan() };
        let o = outlook(&money, 2, 10_000, Known { baseline: 1.5, sd: Some(20.0), ..USUAL });
        assert_eq!((o.needed_per_arm, o.too_small.is_none()), (Some(1_570), true));
        assert!((o.smallest_effect.unwrap() - 2.0 * (1_569.8f64 / 2_000.0).sqrt()).abs() < 1e-3);
        assert!(outlook(&money, 2, 10_000, USUAL).warnings[0].contains("Nothing was bought"));
        let fewer = Plan { metric: Metric::Leaving, effect: 0.002, ..plan() };
        let o = outlook(&fewer, 2, 10_000, Known { baseline: 0.003, ..USUAL });
        assert!(o.too_small.is_some() && o.smallest_effect.is_none(), "leaving can't fall below nobody: {o:?}");
        // Each change is read on everybody: half of what four arms with all pairs would need in all.
        let crossed = Plan { crossed: Some(["Subject".into(), "Offer".into()]), ..plan() };
        let (four, both) = (outlook(&plan(), 4, 50_000, USUAL), outlook(&crossed, 4, 50_000, USUAL));
        assert!(both.needed_per_arm.unwrap() * 2 < four.needed_per_arm.unwrap() && both.comparisons == 2);
        let reply_to = Plan { change: Some(Change::ReplyTo), ..plan() };
        assert!(outlook(&reply_to, 2, 50_000, USUAL).warnings[0].contains("can't move human opens"));
    }
}
