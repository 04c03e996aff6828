//! The reading of a trial at its end, and the verdict by the sealed rule.

use super::companies::Design;
use super::compare::{DRAWS as REDRAWS, Money};
use super::crossed::{self, Margin};
use super::decide::{Compared, contrast, guard_states, primaries, reported, tells};
use super::letter;
use super::looks::Stopped;
use super::metric::Metric;
use super::plan::Plan;
use super::rules::Rule;
use super::said::sentence;
use super::soundness::{REMOVED_P, Soundness, soundness};
use super::stretches::{Counted, StretchCounts};
use crate::report::Rate;
use crate::stats::StatsError;
use crate::stats::agreeing::Test;
use crate::stats::beta_binomial::{Best, Prior, beta_binomial};
use crate::stats::bootstrap::{Values, bootstrap_difference};
use crate::stats::goodness_of_fit::ChiSquare;
use crate::stats::homogeneity::{Stratified, Stratum, chi_square_homogeneity, compare_strata, mantel_haenszel_difference};
use crate::stats::two_proportions::Comparison;
use serde::{Deserialize, Serialize};

/// What was counted for an arm.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, utoipa::ToSchema, Deserialize)]
pub struct ArmCounts {
    pub assigned: u64,
    /// Of them, people whose response can't be known: of opens, those of domains that fetch images by themselves. They are in no
    /// primary, and no part of what it is of.
    #[serde(default)]
    pub unknown: u64,
    pub handed_over: u64,
    pub accepted: u64,
    pub bounced: u64,
    /// People with the primary response, human, within their window.
    pub primary: u64,
    /// The same, machines' responses included.
    pub reported: u64,
    pub clicked: u64,
    pub left: u64,
    pub complained: u64,
    /// People of whose responses a machine's came first and was taken out.
    #[serde(default)]
    pub removed: u64,
    /// Of revenue: what all of them brought, and the sum of its squares person by person.
    #[serde(default)]
    pub sum: f64,
    #[serde(default)]
    pub squares: f64,
}

impl ArmCounts {
    /// Two arms together.
    #[must_use]
    pub fn with(&self, other: &Self) -> Self {
        Self {
            assigned: self.assigned + other.assigned,
            unknown: self.unknown + other.unknown,
            handed_over: self.handed_over + other.handed_over,
            accepted: self.accepted + other.accepted,
            bounced: self.bounced + other.bounced,
            primary: self.primary + other.primary,
            reported: self.reported + other.reported,
            clicked: self.clicked + other.clicked,
            left: self.left + other.left,
            complained: self.complained + other.complained,
            removed: self.removed + other.removed,
            sum: self.sum + other.sum,
            squares: self.squares + other.squares,
        }
    }

    /// Those whose primary response can be known: what a rate of it is of.
    #[must_use]
    pub fn observed(&self) -> u64 {
        self.assigned.saturating_sub(self.unknown)
    }

    /// Those with the primary, of those of whom it can be known.
    #[must_use]
    pub fn with_primary(&self) -> crate::stats::Arm {
        crate::stats::Arm { successes: self.primary, trials: self.observed() }
    }

    /// Those who aren't among `some` of them; only what a primary is made of.
    fn without(&self, some: &Self) -> Self {
        Self {
            assigned: self.assigned.saturating_sub(some.assigned),
            unknown: self.unknown.saturating_sub(some.unknown),
            primary: self.primary.saturating_sub(some.primary),
            sum: self.sum - some.sum,
            squares: (self.squares - some.squares).max(0.0),
            ..Self::default()
        }
    }
}

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

/// What else a reading is made of.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Beside {
    /// The roster equals its recomputation, and everyone got their arm.
    pub assignment_holds: bool,
    /// What differs from the seal, in words.
    pub broken: Option<String>,
    pub stopped: Vec<Stopped>,
    /// Of each stratum, the primary of each arm.
    pub strata: Vec<Vec<crate::stats::Arm>>,
    /// Of each subgroup, in the plan's order, the primary of its people in each arm.
    pub subgroups: Vec<Vec<ArmCounts>>,
    /// Of revenue before version 5 of the rule: what each arm's people brought who brought anything.
    pub values: Vec<Vec<f64>>,
    /// Of revenue since: the same, with all people, by the strata that they were drawn in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub amounts: Vec<Amounts>,
    /// Where the plan uses what people did before: of each arm, people by that, with those who have the primary.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<Vec<BeforeGroup>>,
    /// How much less sure comparisons are for companies whose people answer alike.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub design: Vec<Design>,
    /// In a series whose looks may call: where this reading stands among them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_look: Option<AtLook>,
    /// In a series: its enrolment was ended before the arms were as large as planned, by somebody who could see them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ended_on_sight: bool,
    /// In a series: what was counted of those who came in each stretch.
    #[serde(default)]
    pub stretches: Vec<StretchCounts>,
    /// What else has to be known to understand it.
    #[serde(default)]
    pub remarks: Vec<String>,
}

/// People who did the same before the trial: the share of their last messages that they answered by the plan's metric.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct BeforeGroup {
    pub share: f64,
    pub people: u64,
    pub primary: u64,
}

/// Where a reading stands among looks that may call: what of alpha it decides with, and what was spent by then.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct AtLook {
    /// From 1; the last is the end.
    pub look: usize,
    pub of: usize,
    pub information: f64,
    pub level: f64,
}

/// Of revenue: the people of a stratum, arm by arm, those without mail last, and what those brought who brought anything.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Amounts {
    /// In a series, the stretch that they came in.
    #[serde(default)]
    pub stretch: usize,
    pub people: Vec<u64>,
    pub brought: Vec<Vec<f64>>,
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
    let counted = Counted { all: counts, stretches: &beside.stretches, money, before, design: &beside.design };
    let Soundness { sizes, loss_p, removed_p, broken } = soundness(plan, counted, quiet, beside)?;
    let compared = rule.compare(plan, counted)?;
    let margins = if plan.crossed.is_some() { rule.margins(plan, counted)? } else { Vec::new() };
    let stopped: Vec<usize> = beside.stopped.iter().map(|s| s.arm).chain(counted.closed()).collect();
    let (verdict, also) = match rule.decide(plan, counted, &compared, &stopped)? {
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
        let by_margin = "The two changes don't simply add up: what one does hangs on the other. Look at the four arms, too.";
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

/// What nobody can know, said beside the verdict: how many they are, and how far it could move what was found.
#[allow(clippy::cast_precision_loss)]
fn unknown_remark(plan: &Plan, pairs: &[Pair], counts: &[ArmCounts]) -> Option<String> {
    let (unknown, all) = counts.iter().fold((0, 0), |n, c| (n.0 + c.unknown, n.1 + c.assigned));
    let p = pairs.iter().find(|p| p.worst.is_some())?;
    let w = p.worst?;
    Some(format!(
        "Of {} of {} people ({:.0}%) the opens can't be known; the others decide. If all of {}'s unknown had opened and none of {}'s, {} would have {} than {}; the other way round {}.",
        crate::words::thousands(unknown),
        crate::words::thousands(all),
        100.0 * unknown as f64 / all.max(1) as f64,
        letter(p.base),
        letter(p.arm),
        letter(p.arm),
        plan.more(w.lower),
        letter(p.base),
        plan.more(w.upper)
    ))
    .filter(|_| plan.metric == Metric::HumanOpen)
}

/// Companies whose people aren't as many answers as they are people.
fn company_remark(design: &[Design]) -> Option<String> {
    let most = design.iter().map(|d| d.effect).fold(1.0, f64::max);
    (most > 1.05).then(|| {
        format!("People of one company answered alike in one arm more than in another: taken by company, the variance is {most:.2} times as large, and intervals and p go by that.")
    })
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
mod tests {
    use super::*;
    use crate::trial::plan::Aim;
    use crate::trial::plan::tests::plan as two_points;
    use proptest::prelude::*;
    use rstest::rstest;

    fn plan() -> Plan {
        Plan { effect: 0.01, ..two_points() }
    }

    fn holds() -> Beside {
        Beside { assignment_holds: true, ..Beside::default() }
    }

    fn counts<const N: usize>(n: u64, opens: [u64; N], left: [u64; N], handed: [u64; N]) -> Vec<ArmCounts> {
        (0..N)
            .map(|i| ArmCounts {
                assigned: n,
                handed_over: handed[i],
                accepted: handed[i],
                primary: opens[i],
                reported: opens[i],
                left: left[i],
                ..ArmCounts::default()
            })
            .collect()
    }

    #[rstest]
    #[case([589, 700], [9, 10], [3000, 3000], true, Verdict::Called(1))]
    #[case([700, 589], [9, 10], [3000, 3000], true, Verdict::Called(0))]
    #[case([600, 610], [9, 10], [3000, 3000], true, Verdict::CantTell)]
    #[case([589, 700], [9, 90], [3000, 3000], true, Verdict::CantTell)]
    #[case([589, 700], [9, 10], [3000, 2900], true, Verdict::Void)]
    #[case([589, 700], [9, 10], [3000, 3000], false, Verdict::Void)]
    fn verdicts(
        #[case] opens: [u64; 2],
        #[case] left: [u64; 2],
        #[case] handed: [u64; 2],
        #[case] assignment_holds: bool,
        #[case] want: Verdict,
    ) {
        let r = read(&plan(), &counts(3000, opens, left, handed), &Beside { assignment_holds, ..Beside::default() }).unwrap();
        assert_eq!(r.verdict, want, "{}", r.sentence);
    }

    #[rstest]
    // The best is better than every other, or it isn't called.
    #[case([589, 600, 720], None, Verdict::Called(2), None)]
    #[case([589, 700, 720], None, Verdict::CantTell, None)]
    // Against a control two may win; the one with more goes out.
    #[case([589, 700, 720], Some(0), Verdict::Called(2), Some(1))]
    #[case([720, 589, 600], Some(0), Verdict::Called(0), None)]
    #[case([720, 589, 719], Some(0), Verdict::CantTell, None)]
    fn three_arms(#[case] opens: [u64; 3], #[case] control: Option<usize>, #[case] want: Verdict, #[case] also: Option<usize>) {
        let r = read(&Plan { control, ..plan() }, &counts(3000, opens, [9; 3], [3000; 3]), &holds()).unwrap();
        assert_eq!((r.verdict, r.also), (want, also), "{}", r.sentence);
        assert!(r.pairs.iter().all(|p| p.lower <= p.primary.lower && p.upper >= p.primary.upper), "all together is wider than each alone");
    }

    #[test]
    fn a_stopped_arm_or_a_broken_seal_is_never_called() {
        let stopped = vec![Stopped { arm: 1, against: 0, harm: "leaving".into(), z: 4.0, z_bound: 3.0, at: 0 }];
        let better = counts(3000, [589, 700], [9, 10], [3000, 3000]);
        let r = read(&plan(), &better, &Beside { stopped, ..holds() }).unwrap();
        assert!(r.verdict == Verdict::CantTell && r.notes[0].contains("B was stopped"), "{:?}", r.notes);
        let r = read(&plan(), &better, &Beside { broken: Some("The plan differs from its seal.".into()), ..holds() }).unwrap();
        assert_eq!((r.verdict, r.notes), (Verdict::Void, vec!["The plan differs from its seal.".to_owned()]));
        let r = read(&Plan { aim: Aim::Earn, ..plan() }, &counts(3000, [600, 601], [9, 10], [3000, 3000]), &holds()).unwrap();
        assert!(r.verdict == Verdict::Ahead(1) && r.sentence.contains("nothing is proven"));
    }

    #[test]
    fn responses_taken_out_of_one_arm_more_are_a_warning_and_change_nothing() {
        let mut c = counts(3_000, [589, 700], [9, 10], [3_000; 2]);
        (c[0].removed, c[1].removed) = (700, 1_400);
        let r = read(&plan(), &c, &holds()).unwrap();
        assert!(r.verdict == Verdict::Called(1) && r.notes[0].contains("taken out as machines'"), "{:?}", r.notes);
    }

    #[test]
    fn close_arms_with_many_people_are_too_close_to_matter() {
        let r = read(&plan(), &counts(200_000, [40_000, 40_100], [9, 10], [200_000; 2]), &holds()).unwrap();
        assert_eq!(r.verdict, Verdict::TooCloseToMatter);
        assert!(r.sentence.contains("A goes out, as sealed"));
    }

    #[test]
    fn fewer_people_leaving_is_better_and_is_no_guardrail_besides() {
        let plan = Plan { metric: Metric::Leaving, effect: 0.002, ..plan() };
        let r = read(&plan, &counts(20_000, [160, 80], [160, 80], [20_000; 2]), &holds()).unwrap();
        assert_eq!(r.verdict, Verdict::Called(1));
        assert!(r.sentence.starts_with("Called for B: 0.4 fewer people leaving per 100 people, between 0.2 and 0.6"), "{}", r.sentence);
        assert!(r.pairs[0].guardrails.iter().all(|g| g.name != "leaving") && r.bayes.unwrap().prob_best[1] > 0.99);
    }

    #[test]
    fn money_is_read_by_the_arms_drawn_again_with_welch_beside() {
        let plan = Plan { metric: Metric::Revenue, effect: 0.5, goal: crate::trial::plan::tests::goal("GBP"), no_mail: 1, ..plan() };
        let values = |n: usize, each: f64| (0..n).map(|i| each + (i % 10) as f64).collect::<Vec<f64>>();
        let values = vec![values(300, 20.0), values(420, 22.0), values(100, 20.0)];
        let counts: Vec<ArmCounts> = values
            .iter()
            .zip([3_000, 3_000, 0])
            .map(|(v, handed_over)| ArmCounts {
                assigned: 3_000,
                handed_over,
                primary: v.len() as u64,
                reported: v.len() as u64,
                sum: v.iter().sum(),
                squares: v.iter().map(|x| x * x).sum(),
                ..ArmCounts::default()
            })
            .collect();
        // As rules before version 5 read it: by Welch's test, with limits by resampling beside.
        let before = read_by(Rule::of(4).unwrap(), &plan, &counts, &Beside { values: values.clone(), ..holds() }).unwrap();
        let (p, by_draws) = (&before.pairs[0], before.pairs[0].resampled.unwrap());
        assert!((by_draws.lower - p.lower).abs() < 0.1 && (by_draws.upper - p.upper).abs() < 0.1 && before.verdict == Verdict::Called(1));
        let amounts = vec![Amounts { stretch: 0, people: vec![3_000; 3], brought: values }];
        let r = read(&plan, &counts, &Beside { amounts, ..holds() }).unwrap();
        assert!(r.verdict == Verdict::Called(1) && r.sentence.contains("1.26 GBP more a person"), "{}", r.sentence);
        let (p, welch) = (&r.pairs[0], r.pairs[0].welch.unwrap());
        assert!(p.test == Some(Test::Redrawn) && (welch.lower - p.lower).abs() < 0.1 && (welch.upper - p.upper).abs() < 0.1);
        assert!(r.pairs[0].resampled.is_none() && r.bayes.is_none() && r.omnibus.is_none());
        // Those without mail are lost to nobody, and call nothing: they say what mail as such brings.
        assert!(r.loss_p > 0.99 && r.arms.len() == 2 && r.no_mail.unwrap().counts.primary == 100);
        assert!(r.lift.len() == 2 && r.lift.iter().all(|l| l.lower > 0.0 && l.adjusted_p < 0.001));
    }

    #[test]
    fn money_that_nobody_brought_is_not_too_close_to_matter() {
        let plan = Plan { metric: Metric::Revenue, effect: 0.5, goal: crate::trial::plan::tests::goal("GBP"), ..plan() };
        let r = read(&plan, &counts(3_000, [0, 0], [9, 9], [3_000; 2]), &holds()).unwrap();
        assert!(r.verdict == Verdict::CantTell && r.sentence.contains("nobody brought anything"), "{}", r.sentence);
    }

    #[test]
    fn what_cannot_be_known_is_bounded_and_who_stops_on_sight_calls_nothing() {
        let mut c = counts(3_000, [489, 600], [9, 10], [3_000; 2]);
        (c[0].unknown, c[1].unknown) = (500, 480);
        let r = read(&plan(), &c, &holds()).unwrap();
        let worst = r.pairs[0].worst.unwrap();
        assert!((worst.lower - (600.0 - 989.0) / 3_000.0).abs() < 1e-12 && (worst.upper - (1_080.0 - 489.0) / 3_000.0).abs() < 1e-12);
        assert!(r.verdict == Verdict::Called(1) && r.remarks[0].starts_with("Of 980 of 6,000 people (16%)"), "{:?}", r.remarks);
        let r = read(&plan(), &c, &Beside { ended_on_sight: true, ..holds() }).unwrap();
        assert!(r.verdict == Verdict::CantTell && r.notes[0].contains("ended before"), "{:?}", r.notes);
    }

    #[test]
    fn four_against_nobody_is_no_call() {
        let plan = Plan { metric: Metric::Reply, effect: 0.001, ..plan() };
        let r = read(&plan, &counts(1_000, [0, 4], [0, 0], [1_000; 2]), &holds()).unwrap();
        assert!(r.verdict == Verdict::CantTell && r.pairs[0].test == Some(Test::MidP) && r.pairs[0].lower <= 0.0, "{:?}", r.pairs[0]);
        // By version 4 it was one.
        let before = read_by(Rule::of(4).unwrap(), &plan, &counts(1_000, [0, 4], [0, 0], [1_000; 2]), &holds()).unwrap();
        assert_eq!(before.verdict, Verdict::Called(1));
    }

    #[test]
    fn a_subgroup_that_answers_otherwise_is_seen_and_changes_nothing() {
        let groups = vec![crate::trial::plan::Subgroup { name: "Members".into(), segment: 1 }];
        let plan = Plan { subgroups: groups, ..plan() };
        let all = counts(4_000, [800, 800], [9, 9], [4_000; 2]);
        let inside = vec![
            ArmCounts { assigned: 1_000, primary: 150, ..ArmCounts::default() },
            ArmCounts { assigned: 1_000, primary: 250, ..ArmCounts::default() },
        ];
        let r = read(&plan, &all, &Beside { subgroups: vec![inside], ..holds() }).unwrap();
        let row = &r.subgroups[0].rows[0];
        assert!(r.verdict == Verdict::CantTell && row.interaction_p < 0.001 && row.inside_lower > 0.0 && row.outside < 0.0);
        assert!((row.inside - 0.1).abs() < 1e-12 && (row.outside + 100.0 / 3_000.0).abs() < 1e-12);
    }

    proptest! {
        /// Names of arms decide nothing: turned around, the reading turns with them.
        #[test]
        fn turning_the_arms_turns_the_verdict(opens in prop::collection::vec(300u64..800, 2..6), by in 1usize..5, control in prop::option::of(0usize..6)) {
            let n = opens.len();
            let control = control.filter(|c| *c < n);
            let by = by % n;
            let of = |opens: &[u64], control| {
                let counts: Vec<ArmCounts> = opens.iter().map(|o| ArmCounts { assigned: 3000, handed_over: 3000, primary: *o, reported: *o, ..ArmCounts::default() }).collect();
                read(&Plan { control, on_no_call: None, ..plan() }, &counts, &holds()).unwrap()
            };
            let turned: Vec<u64> = (0..n).map(|i| opens[(i + by) % n]).collect();
            let (a, b) = (of(&opens, control), of(&turned, control.map(|c| (c + n - by) % n)));
            let back = |v: Verdict| match v { Verdict::Called(i) => Verdict::Called((i + by) % n), v => v };
            // Two arms with the same count are told apart by their place alone.
            let mut distinct = opens.clone();
            distinct.sort_unstable();
            distinct.dedup();
            if distinct.len() == n {
                prop_assert_eq!(a.verdict, back(b.verdict));
            }
            prop_assert!((a.bayes.unwrap().prob_best.iter().sum::<f64>() - 1.0).abs() < 1e-6);
        }
    }
}
