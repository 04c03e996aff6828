//! A plan run many times on simulated answers, before it is sealed: how often it would call right, wrong, or not at all.

use super::compare::Money;
use super::plan::{Aim, Plan};
use super::reading::{Amounts, ArmCounts, Verdict};
use super::rules::decide;
use super::stretches::Counted;
use crate::stats::StatsError;
use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use rand_distr::{Binomial, Distribution, Normal};
use serde::Serialize;
use utoipa::ToSchema;

/// What is known of the people: their usual rates, over everyone handed over.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Usual<'a> {
    /// Of revenue, the mean a person.
    pub primary: f64,
    /// Of revenue, how far people lie apart.
    pub sd: f64,
    /// Of revenue, what those brought who brought anything; empty where nobody did yet.
    pub amounts: &'a [f64],
    pub leaving: f64,
    pub complaints: f64,
    /// The share of people whose primary response can't be known.
    pub unknown: f64,
}

/// A case that was run.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = RehearsedCase)]
pub struct Case {
    /// none, wanted, typical
    pub name: &'static str,
    /// By how much the last arm truly does better than the others; of two changes at once, what the first does.
    pub effect: f64,
    pub runs: u32,
    /// What truly is better went out as called (of no effect: nothing is right, but what was to be no worse is).
    pub right: u32,
    /// Another arm was called (of no effect: any).
    pub wrong: u32,
    pub too_close: u32,
    pub cant_tell: u32,
}

/// The whole rehearsal.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Rehearsal {
    pub per_arm: u64,
    pub baseline: f64,
    pub cases: Vec<Case>,
    /// What this plan will and won't be able to tell.
    pub sentence: String,
}

fn drawn(rng: &mut ChaCha12Rng, n: u64, p: f64) -> u64 {
    // Rates outside 0 to 1 can't be drawn from; the nearest that can is what the plan means.
    Binomial::new(n, p.clamp(0.0, 1.0)).map_or(0, |b| b.sample(rng))
}

/// An arm's money: many people's mean is near enough to normal, and their spread is taken as it is.
#[allow(clippy::cast_precision_loss)]
fn brought(rng: &mut ChaCha12Rng, n: u64, mean: f64, sd: f64) -> (f64, f64) {
    let n = n as f64;
    let mean = Normal::new(mean, sd / n.max(1.0).sqrt()).map_or(mean, |d| d.sample(rng));
    (n * mean, (n - 1.0) * sd * sd + n * mean * mean)
}

/// With so many buyers in every arm their mean is near enough to normal, and drawing each of them changes nothing.
const MANY_BUYERS: f64 = 1_000.0;
/// How many buyers a case draws again in all, and the fewest and most runs that are made of it.
const BUYERS_DRAWN: f64 = 1e8;
const RUNS_OF_MONEY: (f64, f64) = (200.0, 2_000.0);

/// How people buy, where what they brought is drawn one by one.
#[derive(Debug, Clone, Copy)]
struct Buying<'a> {
    amounts: &'a [f64],
    mean: f64,
    /// How often the arms are drawn again, and in how many runs.
    draws: u64,
    runs: u32,
}

impl<'a> Buying<'a> {
    #[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    fn of(plan: &Plan, sizes: &[u64], usual: Usual<'a>, runs: u32) -> Option<Self> {
        let mean = usual.amounts.iter().sum::<f64>() / usual.amounts.len().max(1) as f64;
        if !plan.metric.is_money() || mean <= 0.0 || usual.primary <= 0.0 {
            return None;
        }
        let buyers = |n: u64| n as f64 * (usual.primary / mean).min(1.0);
        if sizes.iter().all(|n| buyers(*n) >= MANY_BUYERS) {
            return None;
        }
        let pairs = plan.comparisons(sizes.len()) as f64;
        let draws = (20.0 * pairs / plan.alpha).clamp(400.0, 2_000.0).ceil();
        let each = pairs * draws * (20.0 + buyers(sizes.iter().copied().max().unwrap_or(0)));
        let runs = (BUYERS_DRAWN / each).clamp(RUNS_OF_MONEY.0, RUNS_OF_MONEY.1).min(f64::from(runs));
        Some(Self { amounts: usual.amounts, mean, draws: draws as u64, runs: runs as u32 })
    }

    /// What the buyers among so many people bring, when all bring so much a person.
    #[allow(clippy::cast_possible_truncation)]
    fn brought(self, rng: &mut ChaCha12Rng, n: u64, level: f64) -> Vec<f64> {
        let buyers = drawn(rng, n, level / self.mean);
        (0..buyers).map(|_| self.amounts[rng.random_range(0..self.amounts.len())]).collect()
    }
}

/// A share of some people, in whole ones.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn share(n: u64, share: f64) -> u64 {
    ((n as f64 * share).round() as u64).min(n)
}

/// Fills a case in that has its name, its effect and its number of runs.
fn run(plan: &Plan, sizes: &[u64], usual: Usual<'_>, mut case: Case, seed: u64) -> Result<Case, StatsError> {
    let mut rng = ChaCha12Rng::seed_from_u64(seed);
    // Of two changes at once the first has the effect, in both arms that have it.
    let last_open = sizes.iter().rposition(|n| *n > 0).unwrap_or(0);
    let first_with = if plan.crossed.is_some() { 2 } else { last_open };
    // What is to be no worse is worse by that, in the arm that isn't the control.
    let loses = plan.aim == Aim::NoWorse;
    let effect = plan.metric.sign() * if loses { -case.effect } else { case.effect };
    let buying = Buying::of(plan, sizes, usual, case.runs);
    case.runs = buying.map_or(case.runs, |b| b.runs);
    for _ in 0..case.runs {
        let mut amounts = Amounts { stretch: 0, people: sizes.to_vec(), brought: Vec::new() };
        let counts: Vec<ArmCounts> = sizes
            .iter()
            .enumerate()
            .map(|(i, &n)| {
                let has = if loses { Some(i) != plan.control } else { i >= first_with };
                let level = usual.primary + if has { effect } else { 0.0 };
                let money = plan.metric.is_money();
                let unknown = share(n, usual.unknown);
                let (sum, squares) = match buying {
                    Some(b) => {
                        let all = b.brought(&mut rng, n, level);
                        let sums = (all.iter().sum(), all.iter().map(|v| v * v).sum());
                        amounts.brought.push(all);
                        sums
                    }
                    None if money => brought(&mut rng, n, level, usual.sd),
                    None => (0.0, 0.0),
                };
                ArmCounts {
                    assigned: n,
                    unknown,
                    handed_over: n,
                    primary: if money { 0 } else { drawn(&mut rng, n - unknown, level) },
                    left: drawn(&mut rng, n, usual.leaving),
                    complained: drawn(&mut rng, n, usual.complaints),
                    sum,
                    squares,
                    ..ArmCounts::default()
                }
            })
            .collect();
        let amounts = [amounts];
        let money = buying.map(|b| Money { amounts: &amounts, draws: b.draws });
        match decide(plan, Counted { money, ..Counted::over(&counts, &[]) }, &[])?.0 {
            Verdict::NoWorse(_) if case.effect == 0.0 => case.right += 1,
            Verdict::NoWorse(_) => case.wrong += 1,
            Verdict::Called(a) | Verdict::Ahead(a) if effect != 0.0 && a >= first_with => case.right += 1,
            Verdict::Called(_) | Verdict::Ahead(_) => case.wrong += 1,
            Verdict::TooCloseToMatter => case.too_close += 1,
            Verdict::CantTell | Verdict::Void => case.cant_tell += 1,
        }
    }
    Ok(case)
}

/// Runs the plan under no effect, the wanted effect, and the typical past effect (where there is one). `pilot`: people who
/// take part in all.
///
/// # Errors
/// When an arm would be empty.
pub fn rehearse(
    plan: &Plan,
    arms: usize,
    pilot: u64,
    usual: Usual<'_>,
    typical: Option<f64>,
    runs: u32,
    seed: u64,
) -> Result<Rehearsal, StatsError> {
    let mut cases = Vec::new();
    // Those without mail call nothing.
    let arms = arms.max(2);
    let sizes = &plan.sizes(pilot, arms)[..arms];
    for (i, (name, effect)) in [("none", Some(0.0)), ("wanted", Some(plan.effect)), ("typical", typical)].into_iter().enumerate() {
        if let Some(effect) = effect {
            let case = Case { name, effect, runs, right: 0, wrong: 0, too_close: 0, cant_tell: 0 };
            cases.push(run(plan, sizes, usual, case, seed.wrapping_add(i as u64))?);
        }
    }
    let sentence = sentence(plan, &cases);
    let per_arm = sizes.iter().copied().filter(|n| *n > 0).min().unwrap_or(0);
    Ok(Rehearsal { per_arm, baseline: usual.primary, cases, sentence })
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn in_ten(n: u32, runs: u32) -> String {
    let share = f64::from(n) / f64::from(runs.max(1));
    if share > 0.0 && share < 0.05 { format!("{:.1} in 100", share * 100.0) } else { format!("{} in 10", (share * 10.0).round() as u32) }
}

fn sentence(plan: &Plan, cases: &[Case]) -> String {
    let points = |e: f64| plan.amount(e);
    let find = |name: &str| cases.iter().find(|c| c.name == name);
    let (Some(none), Some(wanted)) = (find("none"), find("wanted")) else { return String::new() };
    if plan.aim == Aim::Earn {
        return format!(
            "The better one of the pilot goes out: with {} between them that is the right one in {} trials. It proves nothing either way.",
            points(wanted.effect),
            in_ten(wanted.right, wanted.runs)
        );
    }
    if plan.aim == Aim::NoWorse {
        return format!(
            "With nothing between them it is shown to be no worse in {} trials; when it truly loses {}, in {}.",
            in_ten(none.right, none.runs),
            points(wanted.effect),
            in_ten(wanted.wrong, wanted.runs)
        );
    }
    let enough = f64::from(wanted.right) >= plan.power * f64::from(wanted.runs) * 0.98;
    let mut words = format!(
        "With {} between them it calls the right one in {} trials{}; with nothing between them it calls one in {}.",
        points(wanted.effect),
        in_ten(wanted.right, wanted.runs),
        if enough { "" } else { ", fewer than you ask for" },
        in_ten(none.wrong, none.runs)
    );
    if let Some(t) = find("typical").filter(|t| t.effect.abs() < wanted.effect) {
        words.push_str(&format!(
            " The effects of your past trials were typically {}: of those it would call {}.",
            points(t.effect),
            in_ten(t.right, t.runs)
        ));
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::sample_size::{power_two_proportions, sample_size_two_proportions};
    use crate::trial::metric::Metric;
    use crate::trial::outlook::{Known, outlook};
    use crate::trial::plan::tests::{goal, plan};

    const USUAL: Usual<'_> = Usual { primary: 0.2, sd: 0.0, amounts: &[], leaving: 0.003, complaints: 0.0005, unknown: 0.0 };

    #[test]
    fn two_arms_are_called_as_often_as_the_formula_says() {
        let n = sample_size_two_proportions(0.2, 0.02, 0.05, 0.8, 1.0, 2).unwrap().n_a.ceil() as u64;
        let r = rehearse(&plan(), 2, 2 * n, USUAL, Some(0.01), 10_000, 7).unwrap();
        let [none, wanted, typical] = r.cases.as_slice() else { panic!("{r:?}") };
        // Three standard errors of 10,000 runs; a call the wrong way is a miss too.
        assert!(f64::from(none.wrong) < 500.0 + 3.0 * 21.8, "{none:?}");
        assert!((f64::from(wanted.right) / 10_000.0 - 0.8).abs() < 0.012, "{wanted:?}");
        let power = power_two_proportions(0.2, 0.01, n as f64, n as f64, 0.05, 2).unwrap();
        assert!((f64::from(typical.right) / 10_000.0 - power).abs() < 0.015, "{typical:?} {power}");
        assert!(r.sentence.contains("8 in 10") && r.sentence.contains("typically 1.0 points"), "{}", r.sentence);
        assert_eq!(r.cases[0], rehearse(&plan(), 2, 2 * n, USUAL, None, 10_000, 7).unwrap().cases[0], "the same seed, the same runs");
    }

    #[test]
    fn no_more_arms_raise_the_rate_of_wrong_calls() {
        for (arms, control) in [(3, None), (4, Some(0)), (6, None)] {
            let r = rehearse(&Plan { control, ..plan() }, arms, 2_000 * arms as u64, USUAL, None, 4_000, 3).unwrap();
            // alpha 0.05 over all comparisons: 200 of 4,000, with three standard errors.
            assert!(r.cases[0].wrong <= 200 + 42, "{arms} arms: {:?}", r.cases[0]);
        }
    }

    #[test]
    fn money_leaving_and_two_changes_are_found_as_often_as_their_sizes_say() {
        let known = |baseline, sd| Known { baseline, sd, leaving: 0.003, ..Known::default() };
        let cases = [
            (Plan { metric: Metric::Revenue, effect: 2.0, goal: goal("GBP"), shares: vec![1, 3], ..plan() }, 2, 1.5, 20.0),
            (Plan { metric: Metric::Leaving, effect: 0.004, complaint_margin: 0.1, ..plan() }, 2, 0.008, 0.0),
            (Plan { crossed: Some(["Subject".into(), "Offer".into()]), ..plan() }, 4, 0.2, 0.0),
        ];
        for (plan, arms, base, sd) in cases {
            let least = outlook(&plan, arms, 10_000, known(base, Some(sd))).needed_per_arm.unwrap();
            let pilot = least * plan.parts(arms).iter().map(|p| u64::from(*p)).sum::<u64>();
            let r = rehearse(&plan, arms, pilot, Usual { primary: base, sd, ..USUAL }, None, 3_000, 9).unwrap();
            let [none, wanted] = r.cases.as_slice() else { panic!("{r:?}") };
            assert!(none.wrong <= 150 + 36, "{plan:?} {none:?}");
            // Holm's second step makes two changes a little surer than the formula, which shares alpha evenly.
            assert!((2_400 - 80..2_600).contains(&wanted.right), "{plan:?} {wanted:?}");
        }
    }

    #[test]
    fn no_worse_is_shown_as_often_as_planned_and_seldom_when_it_loses() {
        let plan = Plan { aim: Aim::NoWorse, control: Some(0), effect: 0.02, ..plan() };
        let least = outlook(&plan, 2, 1_000_000, Known { baseline: 0.2, leaving: 0.003, ..Known::default() }).needed_per_arm.unwrap();
        let r = rehearse(&plan, 2, 2 * least, USUAL, None, 4_000, 5).unwrap();
        // 0.8 and 0.025, with three standard errors.
        assert!((f64::from(r.cases[0].right) / 4_000.0 - 0.8).abs() < 0.02 && r.cases[1].wrong <= 100 + 30, "{r:?}");
        assert!(r.sentence.contains("no worse in 8 in 10"), "{}", r.sentence);
    }

    #[test]
    fn earning_always_sends_something_and_mostly_the_better() {
        let r = rehearse(&Plan { aim: Aim::Earn, ..plan() }, 2, 2_000, USUAL, None, 2_000, 1).unwrap();
        assert!(r.cases.iter().all(|c| c.right + c.wrong == c.runs), "{r:?}");
        assert!(r.cases[1].right > 1_600 && r.sentence.contains("proves nothing"), "{r:?}");
    }
}
