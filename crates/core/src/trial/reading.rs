//! The reading of a trial at its end, and the verdict by the sealed rule.

use super::compare::{DRAWS as REDRAWS, Money};
use super::crossed::{self, Margin};
use super::decide::{Compared, contrast, guard_states, primaries, reported, tells};
use super::letter;
use super::looks::Stopped;
use super::metric::Metric;
use super::plan::Plan;
use super::rules::Rule;
use super::said::{company_remark, sentence, unknown_remark};
use super::soundness::{REMOVED_P, Soundness, soundness};
use super::stretches::Counted;
use crate::report::Rate;
use crate::stats::StatsError;
use crate::stats::agreeing::Test;
use crate::stats::beta_binomial::{Best, Prior, beta_binomial};
use crate::stats::bootstrap::{Values, bootstrap_difference};
use crate::stats::goodness_of_fit::ChiSquare;
use crate::stats::homogeneity::{Stratified, Stratum, chi_square_homogeneity, compare_strata, mantel_haenszel_difference};
use crate::stats::two_proportions::Comparison;
use serde::{Deserialize, Serialize};

pub use super::arm_counts::ArmCounts;
pub use super::beside::{Amounts, AtLook, BeforeGroup, Beside};

/// How a guardrail came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Guard {
    Within,
    Breached,
    CantTell,
}

/// What does harm when it rises: the arm that did better on the primary, less the other one.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Guardrail {
    pub name: String,
    pub margin: f64,
    /// Whose harm is looked at, and against whom.
    pub arm: usize,
    pub against: usize,
    pub comparison: Comparison,
    pub state: Guard,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case", tag = "kind", content = "arm")]
pub enum Verdict {
    /// The arm goes out.
    Called(usize),
    TooCloseToMatter,
    CantTell,
    /// The trial was broken.
    Void,
    /// Planned to show that it is no worse: it goes out.
    NoWorse(usize),
    /// Planned to earn: the arm did better and goes out, unproven.
    Ahead(usize),
}

impl Reading {
    /// What comes out otherwise when the trial is read again by the same rule, in words; none where it is the same to the last digits
    /// that a computer may round.
    #[must_use]
    pub fn differs_from(&self, again: &Self) -> Option<String> {
        let near = |a: f64, b: f64| (a - b).abs() <= 1e-9 * (1.0 + a.abs().max(b.abs())) || (a.is_nan() && b.is_nan());
        let same = |a: [f64; 4], b: [f64; 4]| a.into_iter().zip(b).all(|(a, b)| near(a, b));
        let of_pair = |p: &Pair| [p.difference, p.adjusted_p, p.lower, p.upper];
        let of_margin = |m: &Margin| [m.difference, m.adjusted_p, m.lower, m.upper];
        let pair = |a: &Pair, b: &Pair| (a.base, a.arm) == (b.base, b.arm) && same(of_pair(a), of_pair(b));
        let margin = |a: &Margin, b: &Margin| a.called == b.called && same(of_margin(a), of_margin(b));
        if self.verdict != again.verdict || self.also != again.also {
            return Some("the verdict".into());
        }
        if self.pairs.len() != again.pairs.len() || self.margins.len() != again.margins.len() {
            return Some("the number of comparisons".into());
        }
        let otherwise = self.pairs.iter().zip(&again.pairs).find(|(a, b)| !pair(a, b));
        if let Some((a, _)) = otherwise {
            return Some(format!("the comparison of {} with {}", letter(a.arm), letter(a.base)));
        }
        let otherwise = self.margins.iter().zip(&again.margins).find(|(a, b)| !margin(a, b));
        otherwise.map(|(a, _)| format!("what “{}” does", a.name))
    }
}

impl Verdict {
    /// The arm that goes out under this verdict.
    #[must_use]
    pub fn goes_out(self, plan: &Plan) -> Option<usize> {
        match self {
            Self::Called(arm) | Self::NoWorse(arm) | Self::Ahead(arm) => Some(arm),
            _ => plan.on_no_call,
        }
    }
}

/// The ends of an interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Limits {
    pub lower: f64,
    pub upper: f64,
}

/// What Welch's test says of two means; it changes nothing.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct WelchBeside {
    pub p_value: f64,
    pub lower: f64,
    pub upper: f64,
}

/// Two arms against each other; differences are arm less base.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Pair {
    pub base: usize,
    pub arm: usize,
    /// On the primary: a difference of rates, or of revenue a person.
    pub difference: f64,
    /// Of the people with the primary; of revenue, of those who brought any.
    pub primary: Comparison,
    /// Of revenue before version 5: limits by resampling, beside Welch's.
    pub resampled: Option<Limits>,
    /// By which test; none of readings by rules from before version 5.
    #[serde(default)]
    pub test: Option<Test>,
    /// Of revenue since version 5: Welch's test, beside the arms drawn again.
    #[serde(default)]
    pub welch: Option<WelchBeside>,
    /// Holm's, over all comparisons.
    pub adjusted_p: f64,
    /// The interval that holds for all comparisons together.
    pub lower: f64,
    pub upper: f64,
    /// Where some people's response can't be known: the difference if all of the base's had responded and none of the arm's, and the other way
    /// round.
    #[serde(default)]
    pub worst: Option<Limits>,
    /// Machines included.
    pub reported: Comparison,
    /// Over the strata of the assignment (Mantel and Haenszel); it changes nothing.
    pub stratified: Option<Stratified>,
    pub guardrails: Vec<Guardrail>,
}

/// An arm against those who took part and got no mail: what the mail as such does. It calls nothing.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Lift {
    pub arm: usize,
    pub difference: f64,
    pub lower: f64,
    pub upper: f64,
    /// Holm's, over all arms.
    pub adjusted_p: f64,
}

/// A comparison among the people of a subgroup, and among all others. It changes nothing.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct SubgroupRow {
    pub base: usize,
    pub arm: usize,
    pub inside: f64,
    pub inside_lower: f64,
    pub inside_upper: f64,
    pub outside: f64,
    pub outside_lower: f64,
    pub outside_upper: f64,
    /// The two-sided p that the difference is the same inside and outside.
    pub interaction_p: f64,
}

#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct SubgroupReading {
    pub name: String,
    pub people: u64,
    pub rows: Vec<SubgroupRow>,
}

/// The whole reading: all that led to the verdict.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Reading {
    pub verdict: Verdict,
    /// Another arm that beat the control too; which of the two is better is open.
    pub also: Option<usize>,
    pub sentence: String,
    pub pairs: Vec<Pair>,
    /// Planned to show that the other arm is no worse than the control: the test against what it may lose.
    #[serde(default)]
    pub no_worse: Option<NoWorse>,
    /// Of two changes at once: each over everybody. Then these decide.
    pub margins: Vec<Margin>,
    /// The p that the two changes add up.
    pub interaction_p: Option<f64>,
    /// All arms at once (chi-square); of revenue there is none.
    pub omnibus: Option<ChiSquare>,
    pub arms: Vec<ArmRow>,
    /// Those who took part and got nothing.
    pub no_mail: Option<ArmRow>,
    pub lift: Vec<Lift>,
    pub subgroups: Vec<SubgroupReading>,
    /// With a flat prior; it changes nothing. Of revenue there is none.
    pub bayes: Option<Best>,
    /// Arm sizes as planned?
    pub sizes: ChiSquare,
    /// Was anybody lost between assignment and handover, more in one arm than another?
    pub loss_p: f64,
    /// Arms that a look stopped for harm.
    pub stopped: Vec<Stopped>,
    /// In a series: what was counted stretch by stretch.
    pub stretches: Vec<StretchReading>,
    /// What speaks against it.
    pub notes: Vec<String>,
    /// What has to be known to read it.
    pub remarks: Vec<String>,
}

/// An arm against what it may lose: z and p of the test, and how much worse it may be for certain, as a rate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct NoWorse {
    pub arm: usize,
    pub margin: f64,
    pub z: f64,
    /// One-sided: it is no worse under half of alpha.
    pub p_value: f64,
    /// The one-sided limit at half of alpha; below 0 it loses nothing.
    pub may_lose: f64,
}

/// One stretch of a trial in a series.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct StretchReading {
    /// The parts that each arm had; 0: it was closed.
    pub parts: Vec<u32>,
    /// Of each arm, the people with the primary; of revenue, of those who brought any.
    pub rates: Vec<Rate>,
}

/// An arm as the table shows it.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ArmRow {
    pub letter: char,
    pub counts: ArmCounts,
    pub rate: Rate,
    pub clicks: Rate,
    /// Of revenue: the mean a person.
    pub mean: Option<f64>,
}

/// Resamples of revenue.
const DRAWS: usize = 2_000;

/// Reads a trial by the latest version of the rule. `counts`: of each arm, those without mail last.
///
/// # Errors
/// When an arm is empty, or there is only one.
pub fn read(plan: &Plan, counts: &[ArmCounts], beside: &Beside) -> Result<Reading, StatsError> {
    read_by(Rule::latest(), plan, counts, beside)
}

/// Reads a trial by the version of the rule that it was sealed with.
///
/// # Errors
/// As [`read`].
pub fn read_by(rule: Rule, plan: &Plan, counts: &[ArmCounts], beside: &Beside) -> Result<Reading, StatsError> {
    let level = beside.at_look.map(|l| l.level);
    let plan = &Plan { decides_at: level, ..plan.clone() };
    let (counts, quiet) = counts.split_at(counts.len() - usize::from(plan.no_mail > 0 && counts.len() > 2));
    let quiet = quiet.first();
    let known = rule.by_limits() && plan.metric.is_money() && !beside.amounts.is_empty();
    let money = known.then_some(Money { amounts: &beside.amounts, draws: REDRAWS });
    let before: &[Vec<BeforeGroup>] = if rule.by_limits() { &beside.before } else { &[] };
    let counted = Counted { money, before, design: &beside.design, ..Counted::over(counts, &beside.stretches) };
    let Soundness { sizes, loss_p, removed_p, broken } = soundness(plan, counted, quiet, beside)?;
    let compared = rule.compare(plan, counted)?;
    let margins = rule.margins(plan, counted)?;
    let stopped: Vec<usize> = beside.stopped.iter().map(|s| s.arm).chain(counted.closed()).collect();
    let (verdict, also) = match rule.decide(plan, counted, (&compared, &margins), &stopped)? {
        _ if broken.is_some() => (Verdict::Void, None),
        (Verdict::Called(_) | Verdict::NoWorse(_), _) if beside.ended_on_sight => (Verdict::CantTell, None),
        decided => decided,
    };
    let no_worse = super::no_worse::of(plan, counted, &compared)?;
    let pairs = pairs_of(rule, plan, counted, beside, compared)?;
    let interaction_p = if margins.is_empty() { None } else { Some(crossed::interaction(plan, counts)?) };
    let mut notes: Vec<String> = broken.into_iter().collect();
    for s in &beside.stopped {
        notes.push(format!("{} was stopped at a look for {}: it can't be called.", letter(s.arm), s.harm));
    }
    if beside.ended_on_sight {
        notes.push(
            "The enrolment was ended before the arms were as large as planned, after somebody had opened them: who stops when they like what they see finds something too often, so no arm can be called.".to_owned(),
        );
    }
    let mut remarks = beside.remarks.clone();
    remarks.extend(beside.at_look.map(|l| {
        let place = if l.look < l.of {
            format!("Read at look {} of {}, with {:.0}% of the people planned through their window", l.look, l.of - 1, 100.0 * l.information)
        } else {
            format!("Read at the end, after {} looks that might have called an arm", l.of - 1)
        };
        format!("{place}. Alpha {} is spent over them and the end: here all comparisons together are decided at {:.4}, and intervals are as wide as that.", plan.alpha, l.level)
    }));
    remarks.extend(unknown_remark(plan, &pairs, counts));
    remarks.extend(company_remark(&beside.design));
    if beside.stretches.len() > 1 {
        remarks.push(format!(
            "The arms' shares changed on the way: compared are those who came in the same of {} stretches, added up over them. The arms' own rates are of people of other months, too, and don't compare.",
            beside.stretches.len()
        ));
    }
    let by_hand = counted.closed().into_iter().filter(|arm| beside.stopped.iter().all(|s| s.arm != *arm));
    remarks.extend(by_hand.map(|arm| format!("{} was taken out on the way: it can't be called.", letter(arm))));
    for g in pairs.iter().flat_map(|p| &p.guardrails).filter(|g| g.state == Guard::Breached) {
        notes.push(format!(
            "The guardrail on {} is breached by {} against {}, which blocks a call for it.",
            g.name,
            letter(g.arm),
            letter(g.against)
        ));
    }
    for (m, g) in margins.iter().flat_map(|m| m.guardrails.iter().map(move |g| (m, g))).filter(|(_, g)| g.state == Guard::Breached) {
        notes.push(format!("The guardrail on {} is breached by the better side of “{}”, which blocks a call for it.", g.name, m.name));
    }
    if let Some(p) = removed_p.filter(|p| *p < REMOVED_P) {
        notes.push(format!(
            "More responses were taken out as machines' in one arm than another (p {p:.2e}): what is left may not be alike. Look at the responses as reported, too."
        ));
    }
    if interaction_p.is_some_and(|p| p < plan.alpha) {
        let by_arm = "The two changes don't simply add up: what one does depends on the other. So each arm is held against what goes out on no call, by Scheffé's limits, and the margins decide nothing.";
        let by_margin = "The two changes don't simply add up: what one does depends on the other. Look at the four arms, too.";
        notes.push(if rule.by_limits() { by_arm } else { by_margin }.to_owned());
    }
    let row = |(i, c): (usize, &ArmCounts)| ArmRow {
        letter: letter(i),
        counts: *c,
        rate: Rate::new(c.primary, c.observed()),
        clicks: Rate::new(c.clicked, c.assigned),
        mean: plan.metric.is_money().then(|| super::decide::money(c).mean),
    };
    // Everybody at once can be looked at only where all arms were open all the time.
    let at_once = beside.stretches.len() < 2 && counts.iter().all(|c| c.observed() > 0);
    let primary: Vec<crate::stats::Arm> = if at_once { counts.iter().map(ArmCounts::with_primary).collect() } else { Vec::new() };
    Ok(Reading {
        verdict,
        also,
        sentence: sentence(plan, verdict, also, (&pairs, &margins), (counts.len(), tells(plan, counts))),
        omnibus: if plan.metric.is_money() || !at_once { None } else { Some(chi_square_homogeneity(&primary)?) },
        bayes: if at_once { bayes(plan.metric, &primary)? } else { None },
        arms: counts.iter().enumerate().map(row).collect(),
        no_mail: quiet.map(|c| row((counts.len(), c))),
        lift: quiet.map(|quiet| lift(rule, plan, counts, quiet, money)).transpose()?.unwrap_or_default(),
        subgroups: subgroups(plan, counts, beside)?,
        no_worse,
        pairs,
        margins,
        interaction_p,
        sizes,
        loss_p,
        stopped: beside.stopped.clone(),
        stretches: beside
            .stretches
            .iter()
            .map(|s| StretchReading {
                parts: s.parts.clone(),
                rates: s.counts.iter().map(|c| Rate::new(c.primary, c.observed())).collect(),
            })
            .collect(),
        notes,
        remarks,
    })
}

/// The chance that each arm is the best; where fewer is better, the fewest.
fn bayes(metric: Metric, primary: &[crate::stats::Arm]) -> Result<Option<Best>, StatsError> {
    let turned = |a: &crate::stats::Arm| crate::stats::Arm { successes: a.trials.saturating_sub(a.successes), trials: a.trials };
    let flat = Prior { alpha: 1.0, beta: 1.0 };
    match metric {
        Metric::Revenue => Ok(None),
        _ if metric.is_loss() => beta_binomial(&primary.iter().map(turned).collect::<Vec<_>>(), flat).map(Some),
        _ => beta_binomial(primary, flat).map(Some),
    }
}

/// How far apart two arms would be if everybody whose response can't be known had responded in one of them and nobody in the other.
#[allow(clippy::cast_precision_loss)]
fn worst(plan: &Plan, base: &ArmCounts, arm: &ArmCounts) -> Option<Limits> {
    if base.unknown + arm.unknown == 0 || base.assigned == 0 || arm.assigned == 0 || plan.metric.is_money() {
        return None;
    }
    let share = |c: &ArmCounts, unknown: u64| (c.primary + unknown) as f64 / c.assigned as f64;
    Some(Limits { lower: share(arm, 0) - share(base, base.unknown), upper: share(arm, arm.unknown) - share(base, 0) })
}

fn pairs_of(rule: Rule, plan: &Plan, counted: Counted<'_>, beside: &Beside, compared: Vec<Compared>) -> Result<Vec<Pair>, StatsError> {
    let level = 1.0 - plan.alpha;
    let together = 1.0 - plan.level() / compared.len().max(1) as f64;
    // People of several stretches are no one sample to draw from again.
    let sampled = |i: usize| beside.values.get(i).filter(|_| beside.stretches.len() < 2);
    let values = |i: usize| sampled(i).map(|others| Values { n: counted.all[i].observed(), others });
    compared
        .into_iter()
        .map(|c| {
            let behind = plan.metric.sign() * c.difference < 0.0;
            let (better, other) = if behind { (c.base, c.arm) } else { (c.arm, c.base) };
            let concurrent = counted.concurrent(c.base, c.arm);
            let strata: Vec<Stratum> = beside.strata.iter().map(|s| Stratum { a: s[c.base], b: s[c.arm] }).collect();
            let resampled = match (values(c.base), values(c.arm)) {
                // The same trial is always resampled the same.
                (Some(a), Some(b)) if plan.metric.is_money() && !rule.by_limits() => {
                    let (lower, upper) = bootstrap_difference(a, b, together, DRAWS, 0x5EED)?;
                    Some(Limits { lower, upper })
                }
                _ => None,
            };
            Ok(Pair {
                base: c.base,
                arm: c.arm,
                difference: c.difference,
                primary: compare_strata(&primaries(&concurrent), level)?,
                resampled,
                test: c.test,
                welch: c.welch,
                worst: if rule.by_limits() { worst(plan, &counted.all[c.base], &counted.all[c.arm]) } else { None },
                adjusted_p: c.adjusted_p,
                lower: c.lower,
                upper: c.upper,
                reported: compare_strata(&reported(&concurrent), level)?,
                stratified: if strata.len() > 1 && !plan.metric.is_money() {
                    mantel_haenszel_difference(&strata, level).ok()
                } else {
                    None
                },
                guardrails: guard_states(plan, (other, better), &counted.concurrent(other, better))?,
            })
        })
        .collect()
}

/// Each arm against those without mail.
fn lift(rule: Rule, plan: &Plan, counts: &[ArmCounts], quiet: &ArmCounts, money: Option<Money<'_>>) -> Result<Vec<Lift>, StatsError> {
    let all: Vec<ArmCounts> = counts.iter().chain([quiet]).copied().collect();
    let pairs: Vec<(usize, usize)> = (0..counts.len()).map(|a| (counts.len(), a)).collect();
    let found = rule.compare_pairs(plan, Counted { money, ..Counted::over(&all, &[]) }, &pairs)?;
    Ok(found
        .into_iter()
        .map(|c| Lift { arm: c.arm, difference: c.difference, lower: c.lower, upper: c.upper, adjusted_p: c.adjusted_p })
        .collect())
}

/// Every comparison inside and outside each subgroup.
fn subgroups(plan: &Plan, counts: &[ArmCounts], beside: &Beside) -> Result<Vec<SubgroupReading>, StatsError> {
    let mut out = Vec::new();
    for (group, inside) in plan.subgroups.iter().zip(&beside.subgroups) {
        let outside: Vec<ArmCounts> = counts.iter().zip(inside).map(|(all, some)| all.without(some)).collect();
        let mut rows = Vec::new();
        for (base, arm) in super::decide::pairs(counts.len(), plan.control) {
            // Too few on one side to say anything of them.
            if [&inside[base], &inside[arm], &outside[base], &outside[arm]].iter().any(|c| c.observed() < 2) {
                continue;
            }
            let (i, o) = (
                contrast(plan, &inside[base], &inside[arm], 1.0 - plan.alpha)?,
                contrast(plan, &outside[base], &outside[arm], 1.0 - plan.alpha)?,
            );
            let spread = |of: &[ArmCounts]| crossed::spread(plan, &of[base], &of[arm]);
            rows.push(SubgroupRow {
                base,
                arm,
                inside: i.difference,
                inside_lower: i.lower,
                inside_upper: i.upper,
                outside: o.difference,
                outside_lower: o.lower,
                outside_upper: o.upper,
                interaction_p: crossed::differ(spread(inside)?, spread(&outside)?),
            });
        }
        out.push(SubgroupReading { name: group.name.clone(), people: inside.iter().take(counts.len()).map(|c| c.assigned).sum(), rows });
    }
    Ok(out)
}

#[cfg(test)]
mod tests;
