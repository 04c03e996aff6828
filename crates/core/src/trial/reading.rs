//! The reading of a trial at its end, and the verdict by the sealed rule.

use super::decide::{Harm, arm, compare, decide, guard, harms};
use super::letter;
use super::looks::Stopped;
use super::plan::{Aim, Plan};
use crate::report::Rate;
use crate::stats::StatsError;
use crate::stats::beta_binomial::{Best, Prior, beta_binomial};
use crate::stats::goodness_of_fit::{ChiSquare, sample_ratio_mismatch};
use crate::stats::homogeneity::{Stratified, Stratum, chi_square_homogeneity, mantel_haenszel_difference};
use crate::stats::two_proportions::{Comparison, two_proportions};
use serde::{Deserialize, Serialize};

/// What was counted for an arm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, utoipa::ToSchema, Deserialize)]
pub struct ArmCounts {
    pub assigned: u64,
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
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Guardrail {
    pub name: &'static str,
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
    /// Planned to earn: the arm did better and goes out, unproven.
    Ahead(usize),
}

impl Verdict {
    /// The arm that goes out under this verdict.
    #[must_use]
    pub fn goes_out(self, plan: &Plan) -> Option<usize> {
        match self {
            Self::Called(arm) | Self::Ahead(arm) => Some(arm),
            _ => plan.on_no_call,
        }
    }
}

/// Two arms against each other; differences are arm less base.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Pair {
    pub base: usize,
    pub arm: usize,
    pub primary: Comparison,
    /// Holm's, over all comparisons.
    pub adjusted_p: f64,
    /// The interval that holds for all comparisons together.
    pub lower: f64,
    pub upper: f64,
    /// Machines included.
    pub reported: Comparison,
    /// Over the strata of the assignment (Mantel and Haenszel); it changes nothing.
    pub stratified: Option<Stratified>,
    pub guardrails: Vec<Guardrail>,
}

/// The whole reading: all that led to the verdict.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Reading {
    pub verdict: Verdict,
    /// Another arm that beat the control too; which of the two is better is open.
    pub also: Option<usize>,
    pub sentence: String,
    pub pairs: Vec<Pair>,
    /// All arms at once (chi-square).
    pub omnibus: ChiSquare,
    pub arms: Vec<ArmRow>,
    /// With a flat prior; it changes nothing.
    pub bayes: Best,
    /// Arm sizes as planned?
    pub sizes: ChiSquare,
    /// Was anybody lost between assignment and handover, more in one arm than another?
    pub loss_p: f64,
    /// Arms that a look stopped for harm.
    pub stopped: Vec<Stopped>,
    pub notes: Vec<String>,
}

/// An arm as the table shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct ArmRow {
    pub letter: char,
    pub counts: ArmCounts,
    pub rate: Rate,
    pub clicks: Rate,
}

/// What else a reading is made of.
#[derive(Debug, Clone, Default)]
pub struct Beside {
    /// The roster equals its recomputation, and everyone got their arm.
    pub assignment_holds: bool,
    /// What differs from the seal, in words.
    pub broken: Option<String>,
    pub stopped: Vec<Stopped>,
    /// Of each stratum, the primary of each arm.
    pub strata: Vec<Vec<crate::stats::Arm>>,
}

/// Under this p a difference in losses, or in arm sizes, makes the trial void.
const VOID_P: f64 = 0.001;

fn points(d: f64) -> String {
    format!("{:.1}", d.abs() * 100.0)
}

/// Reads a trial.
///
/// # Errors
/// When an arm is empty, or there is only one.
pub fn read(plan: &Plan, counts: &[ArmCounts], beside: &Beside) -> Result<Reading, StatsError> {
    let level = 1.0 - plan.alpha;
    let lost = |c: &ArmCounts| c.assigned - c.handed_over.min(c.assigned);
    let loss_p = chi_square_homogeneity(&counts.iter().map(|c| arm(c, lost)).collect::<Vec<_>>())?.p_value;
    let sizes = sample_ratio_mismatch(&counts.iter().map(|c| c.assigned).collect::<Vec<_>>(), &vec![1.0; counts.len()])?;
    let pairs = compare(plan, counts)?
        .into_iter()
        .map(|c| {
            let of = |f: fn(&ArmCounts) -> u64| two_proportions(arm(&counts[c.base], f), arm(&counts[c.arm], f), level);
            let (better, other) = if c.difference < 0.0 { (c.base, c.arm) } else { (c.arm, c.base) };
            let rail = |(name, f, margin): Harm| {
                let comparison = two_proportions(arm(&counts[other], f), arm(&counts[better], f), level)?;
                let state = guard(comparison.lower, comparison.upper, margin);
                Ok::<_, StatsError>(Guardrail { name, margin, arm: better, against: other, comparison, state })
            };
            let strata: Vec<Stratum> = beside.strata.iter().map(|s| Stratum { a: s[c.base], b: s[c.arm] }).collect();
            Ok(Pair {
                base: c.base,
                arm: c.arm,
                primary: of(|c| c.primary)?,
                adjusted_p: c.adjusted_p,
                lower: c.lower,
                upper: c.upper,
                reported: of(|c| c.reported)?,
                stratified: if strata.len() > 1 { mantel_haenszel_difference(&strata, level).ok() } else { None },
                guardrails: harms(plan).into_iter().map(rail).collect::<Result<_, _>>()?,
            })
        })
        .collect::<Result<Vec<Pair>, StatsError>>()?;
    let mut notes = Vec::new();
    let broken = if !beside.assignment_holds {
        Some("The roster differs from its recomputation from the seed.".to_owned())
    } else if let Some(words) = &beside.broken {
        Some(words.clone())
    } else if loss_p < VOID_P {
        Some(format!("More people were lost before handover in one arm than another (p {loss_p:.2e})."))
    } else if sizes.p_value < VOID_P {
        Some(format!("The arms are not as large as planned (chi-square p {:.2e}).", sizes.p_value))
    } else {
        None
    };
    let stopped: Vec<usize> = beside.stopped.iter().map(|s| s.arm).collect();
    let (verdict, also) = if broken.is_some() { (Verdict::Void, None) } else { decide(plan, counts, &stopped)? };
    notes.extend(broken);
    for s in &beside.stopped {
        notes.push(format!("{} was stopped at a look for {}: it can't be called.", letter(s.arm), s.harm));
    }
    for g in pairs.iter().flat_map(|p| &p.guardrails).filter(|g| g.state == Guard::Breached) {
        notes.push(format!(
            "The guardrail on {} is breached by {} against {}, which blocks a call for it.",
            g.name,
            letter(g.arm),
            letter(g.against)
        ));
    }
    let sentence = sentence(plan, verdict, also, &pairs, counts.len());
    let arms = counts
        .iter()
        .enumerate()
        .map(|(i, c)| ArmRow {
            letter: letter(i),
            counts: *c,
            rate: Rate::new(c.primary, c.assigned),
            clicks: Rate::new(c.clicked, c.assigned),
        })
        .collect();
    let primary: Vec<crate::stats::Arm> = counts.iter().map(|c| arm(c, |c| c.primary)).collect();
    let bayes = beta_binomial(&primary, Prior { alpha: 1.0, beta: 1.0 })?;
    let omnibus = chi_square_homogeneity(&primary)?;
    Ok(Reading { verdict, also, sentence, pairs, omnibus, arms, bayes, sizes, loss_p, stopped: beside.stopped.clone(), notes })
}

/// A pair turned so that it says how an arm stands to the other: difference, lower, upper, the other.
fn stands(p: &Pair, arm: usize) -> (f64, f64, f64, usize) {
    if p.arm == arm { (p.primary.difference, p.lower, p.upper, p.base) } else { (-p.primary.difference, -p.upper, -p.lower, p.arm) }
}

fn sentence(plan: &Plan, verdict: Verdict, also: Option<usize>, pairs: &[Pair], arms: usize) -> String {
    let metric = plan.metric.words();
    let fate = match plan.on_no_call {
        Some(arm) => format!("{} goes out, as sealed", letter(arm)),
        None => "nothing goes out, as sealed".to_owned(),
    };
    // The rival that came closest is what the arm has to be seen against.
    let closest = |arm: usize| {
        let mine = pairs.iter().filter(|p| p.arm == arm || p.base == arm).map(|p| stands(p, arm));
        mine.min_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or((0.0, 0.0, 0.0, arm))
    };
    match verdict {
        Verdict::Called(arm) => {
            let (difference, low, high, other) = closest(arm);
            let small = if low < plan.effect { ", so it may be too small to matter" } else { "" };
            let than = match (arms, plan.control) {
                (2, _) => String::new(),
                (_, Some(c)) if c != arm => format!(" than {}, the control", letter(c)),
                _ => format!(" than {}, and better than every other arm", letter(other)),
            };
            let rival = also.map_or_else(String::new, |b| {
                format!(" {} beat the control too; which of the two is better isn't decided, and the one with more goes out.", letter(b))
            });
            format!(
                "Called for {}: {} more {metric} per 100 people{than}, between {:.1} and {:.1}{small}.{rival}",
                letter(arm),
                points(difference),
                low * 100.0,
                high * 100.0
            )
        }
        Verdict::Ahead(arm) => {
            let (difference, low, high, other) = closest(arm);
            format!(
                "{} goes out: {} more {metric} per 100 people than {} in the pilot, between {:.1} and {:.1}. It was planned to earn, so nothing is proven.",
                letter(arm),
                points(difference),
                letter(other),
                low * 100.0,
                high * 100.0
            )
        }
        Verdict::TooCloseToMatter => format!(
            "Too close to matter: whatever the difference in {metric}, it is smaller than the {} points worth having; {fate}.",
            points(plan.effect)
        ),
        Verdict::CantTell if plan.aim == Aim::Earn => format!("Nothing goes ahead: every arm breaches a guardrail or was stopped; {fate}."),
        Verdict::CantTell if arms == 2 => {
            let p = &pairs[0];
            format!(
                "Can't tell: {} may have from {:.1} fewer to {:.1} more {metric} per 100 people than {}; {fate}.",
                letter(p.arm),
                -p.lower * 100.0,
                p.upper * 100.0,
                letter(p.base)
            )
        }
        Verdict::CantTell => {
            let than = plan.control.map_or_else(|| "every other".to_owned(), |c| format!("the control {}", letter(c)));
            format!("Can't tell: no arm is shown to have more {metric} than {than}; {fate}.")
        }
        Verdict::Void => format!("Void: the trial was broken, so nothing is read from it; {fate}."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
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
    fn close_arms_with_many_people_are_too_close_to_matter() {
        let r = read(&plan(), &counts(200_000, [40_000, 40_100], [9, 10], [200_000; 2]), &holds()).unwrap();
        assert_eq!(r.verdict, Verdict::TooCloseToMatter);
        assert!(r.sentence.contains("A goes out, as sealed"));
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
            prop_assert!((a.bayes.prob_best.iter().sum::<f64>() - 1.0).abs() < 1e-6);
        }
    }
}
