//! A plan run many times on simulated answers, before it is sealed: how often it would call right, wrong, or not at all.

use super::decide::decide;
use super::plan::{Aim, Plan};
use super::reading::{ArmCounts, Verdict};
use crate::stats::StatsError;
use rand::SeedableRng;
use rand::rngs::StdRng;
use rand_distr::{Binomial, Distribution};
use serde::Serialize;
use utoipa::ToSchema;

/// What is known of the people: their usual rates, over everyone handed over.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Usual {
    pub primary: f64,
    pub leaving: f64,
    pub complaints: f64,
}

/// A case that was run.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = RehearsedCase)]
pub struct Case {
    /// none, wanted, typical
    pub name: &'static str,
    /// By how much the last arm truly differs from the others.
    pub effect: f64,
    pub runs: u32,
    /// The last arm went out as called (of no effect: nothing is right).
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

fn drawn(rng: &mut StdRng, n: u64, p: f64) -> u64 {
    // Rates outside 0 to 1 can't be drawn from; the nearest that can is what the plan means.
    Binomial::new(n, p.clamp(0.0, 1.0)).map_or(0, |b| b.sample(rng))
}

/// Fills a case in that has its name, its effect and its number of runs.
fn run(plan: &Plan, arms: usize, per_arm: u64, usual: Usual, mut case: Case, seed: u64) -> Result<Case, StatsError> {
    let mut rng = StdRng::seed_from_u64(seed);
    let (last, effect) = (arms - 1, case.effect);
    for _ in 0..case.runs {
        let counts: Vec<ArmCounts> = (0..arms)
            .map(|i| {
                let rate = usual.primary + if i == last { effect } else { 0.0 };
                ArmCounts {
                    assigned: per_arm,
                    handed_over: per_arm,
                    primary: drawn(&mut rng, per_arm, rate),
                    left: drawn(&mut rng, per_arm, usual.leaving),
                    complained: drawn(&mut rng, per_arm, usual.complaints),
                    ..ArmCounts::default()
                }
            })
            .collect();
        match decide(plan, &counts, &[])?.0 {
            Verdict::Called(a) | Verdict::Ahead(a) if effect != 0.0 && a == last => case.right += 1,
            Verdict::Called(_) | Verdict::Ahead(_) => case.wrong += 1,
            Verdict::TooCloseToMatter => case.too_close += 1,
            Verdict::CantTell | Verdict::Void => case.cant_tell += 1,
        }
    }
    Ok(case)
}

/// Runs the plan under no effect, the wanted effect, and the typical past effect (where there is one).
///
/// # Errors
/// When an arm would be empty.
pub fn rehearse(
    plan: &Plan,
    arms: usize,
    per_arm: u64,
    usual: Usual,
    typical: Option<f64>,
    runs: u32,
    seed: u64,
) -> Result<Rehearsal, StatsError> {
    let mut cases = Vec::new();
    for (i, (name, effect)) in [("none", Some(0.0)), ("wanted", Some(plan.effect)), ("typical", typical)].into_iter().enumerate() {
        if let Some(effect) = effect {
            let case = Case { name, effect, runs, right: 0, wrong: 0, too_close: 0, cant_tell: 0 };
            cases.push(run(plan, arms.max(2), per_arm, usual, case, seed.wrapping_add(i as u64))?);
        }
    }
    let sentence = sentence(plan, &cases);
    Ok(Rehearsal { per_arm, baseline: usual.primary, cases, sentence })
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn in_ten(n: u32, runs: u32) -> String {
    let share = f64::from(n) / f64::from(runs.max(1));
    if share > 0.0 && share < 0.05 { format!("{:.1} in 100", share * 100.0) } else { format!("{} in 10", (share * 10.0).round() as u32) }
}

fn sentence(plan: &Plan, cases: &[Case]) -> String {
    let points = |e: f64| format!("{:.1} points", e * 100.0);
    let find = |name: &str| cases.iter().find(|c| c.name == name);
    let (Some(none), Some(wanted)) = (find("none"), find("wanted")) else { return String::new() };
    if plan.aim == Aim::Earn {
        return format!(
            "The better one of the pilot goes out: with {} between them that is the right one in {} trials. It proves nothing either way.",
            points(wanted.effect),
            in_ten(wanted.right, wanted.runs)
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
    use crate::trial::plan::tests::plan;

    const USUAL: Usual = Usual { primary: 0.2, leaving: 0.003, complaints: 0.0005 };

    #[test]
    fn two_arms_are_called_as_often_as_the_formula_says() {
        let n = sample_size_two_proportions(0.2, 0.02, 0.05, 0.8, 1.0, 2).unwrap().n_a.ceil() as u64;
        let r = rehearse(&plan(), 2, n, USUAL, Some(0.01), 10_000, 7).unwrap();
        let [none, wanted, typical] = r.cases.as_slice() else { panic!("{r:?}") };
        // Three standard errors of 10,000 runs; a call the wrong way is a miss too.
        assert!(f64::from(none.wrong) < 500.0 + 3.0 * 21.8, "{none:?}");
        assert!((f64::from(wanted.right) / 10_000.0 - 0.8).abs() < 0.012, "{wanted:?}");
        let power = power_two_proportions(0.2, 0.01, n as f64, n as f64, 0.05, 2).unwrap();
        assert!((f64::from(typical.right) / 10_000.0 - power).abs() < 0.015, "{typical:?} {power}");
        assert!(r.sentence.contains("8 in 10") && r.sentence.contains("typically 1.0 points"), "{}", r.sentence);
        assert_eq!(r.cases[0], rehearse(&plan(), 2, n, USUAL, None, 10_000, 7).unwrap().cases[0], "the same seed, the same runs");
    }

    #[test]
    fn no_more_arms_raise_the_rate_of_wrong_calls() {
        for (arms, control) in [(3, None), (4, Some(0)), (6, None)] {
            let r = rehearse(&Plan { control, ..plan() }, arms, 2_000, USUAL, None, 4_000, 3).unwrap();
            // alpha 0.05 over all comparisons: 200 of 4,000, with three standard errors.
            assert!(r.cases[0].wrong <= 200 + 42, "{arms} arms: {:?}", r.cases[0]);
        }
    }

    #[test]
    fn earning_always_sends_something_and_mostly_the_better() {
        let r = rehearse(&Plan { aim: Aim::Earn, ..plan() }, 2, 1_000, USUAL, None, 2_000, 1).unwrap();
        assert!(r.cases.iter().all(|c| c.right + c.wrong == c.runs), "{r:?}");
        assert!(r.cases[1].right > 1_600 && r.sentence.contains("proves nothing"), "{r:?}");
    }
}
