//! The reading of a trial at its end, and the verdict by the sealed rule.

use super::letter;
use super::plan::Plan;
use crate::report::Rate;
use crate::stats::goodness_of_fit::{ChiSquare, sample_ratio_mismatch};
use crate::stats::two_proportions::{Comparison, two_proportions};
use crate::stats::{Arm, StatsError};
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

/// A guardrail of the challenger against the control.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Guardrail {
    pub name: &'static str,
    pub margin: f64,
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
}

impl Verdict {
    /// The arm that goes out under this verdict.
    #[must_use]
    pub fn goes_out(self, plan: &Plan) -> Option<usize> {
        match self {
            Self::Called(arm) => Some(arm),
            _ => plan.on_no_call,
        }
    }
}

/// The whole reading: all that led to the verdict.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Reading {
    pub verdict: Verdict,
    pub sentence: String,
    /// Arm B minus arm A on the primary metric.
    pub primary: Comparison,
    pub reported: Comparison,
    pub guardrails: Vec<Guardrail>,
    pub arms: Vec<ArmRow>,
    /// Arm sizes as planned?
    pub sizes: ChiSquare,
    /// Was anybody lost between assignment and handover, more in one arm than another?
    pub loss_p: f64,
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

/// Under this p a difference in losses, or in arm sizes, makes the trial void.
const VOID_P: f64 = 0.001;

fn points(d: f64) -> String {
    format!("{:.1}", d.abs() * 100.0)
}

/// Reads a two-arm trial. `assignment_holds` says whether the roster equals its recomputation.
///
/// # Errors
/// When an arm is empty.
pub fn read(plan: &Plan, counts: &[ArmCounts; 2], assignment_holds: bool) -> Result<Reading, StatsError> {
    let arm = |of: fn(&ArmCounts) -> u64, i: usize| Arm { successes: of(&counts[i]), trials: counts[i].assigned };
    let level = 1.0 - plan.alpha;
    let compare = |of: fn(&ArmCounts) -> u64| two_proportions(arm(of, 0), arm(of, 1), level);
    let primary = compare(|c| c.primary)?;
    let reported = compare(|c| c.reported)?;
    let loss_p = compare(|c| c.assigned - c.handed_over.min(c.assigned))?.p_value;
    let sizes = sample_ratio_mismatch(&[counts[0].assigned, counts[1].assigned], &[1.0, 1.0])?;
    let guardrails = vec![
        guardrail("leaving", plan.leaving_margin, compare(|c| c.left)?, primary.difference),
        guardrail("complaints", plan.complaint_margin, compare(|c| c.complained)?, primary.difference),
    ];
    let mut notes = Vec::new();
    let breached: Vec<&Guardrail> = guardrails.iter().filter(|g| g.state == Guard::Breached).collect();
    let verdict = if !assignment_holds || loss_p < VOID_P || sizes.p_value < VOID_P {
        notes.push(if !assignment_holds {
            "The roster differs from its recomputation from the seed.".to_owned()
        } else if loss_p < VOID_P {
            format!("More people were lost before handover in one arm than the other (p {loss_p:.2e}).")
        } else {
            format!("The arms are not as large as planned (chi-square p {:.2e}).", sizes.p_value)
        });
        Verdict::Void
    } else if primary.p_value < plan.alpha && breached.is_empty() {
        Verdict::Called(usize::from(primary.difference > 0.0))
    } else if primary.lower > -plan.effect && primary.upper < plan.effect && primary.p_value >= plan.alpha {
        Verdict::TooCloseToMatter
    } else {
        Verdict::CantTell
    };
    for g in &breached {
        notes.push(format!("The guardrail on {} is breached, which blocks a call.", g.name));
    }
    let sentence = sentence(plan, verdict, &primary);
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
    Ok(Reading { verdict, sentence, primary, reported, guardrails, arms, sizes, loss_p, notes })
}

/// Judges the better arm against the other: harm is a rise past the margin.
fn guardrail(name: &'static str, margin: f64, comparison: Comparison, primary: f64) -> Guardrail {
    // When A is the better arm, the harm to look for is A's, so the interval is mirrored.
    let (lower, upper) = if primary < 0.0 { (-comparison.upper, -comparison.lower) } else { (comparison.lower, comparison.upper) };
    let state = if lower > margin {
        Guard::Breached
    } else if upper <= margin {
        Guard::Within
    } else {
        Guard::CantTell
    };
    Guardrail { name, margin, comparison, state }
}

fn sentence(plan: &Plan, verdict: Verdict, c: &Comparison) -> String {
    let metric = plan.metric.words();
    let fate = match plan.on_no_call {
        Some(arm) => format!("{} goes out, as sealed", letter(arm)),
        None => "nothing goes out, as sealed".to_owned(),
    };
    let (mut low, mut high) = (c.lower * 100.0, c.upper * 100.0);
    if c.difference < 0.0 {
        (low, high) = (-high, -low);
    }
    match verdict {
        Verdict::Called(arm) => {
            let small = if low / 100.0 < plan.effect { ", so it may be too small to matter" } else { "" };
            format!(
                "Called for {}: {} more {metric} per 100 people, between {low:.1} and {high:.1}{small}.",
                letter(arm),
                points(c.difference)
            )
        }
        Verdict::TooCloseToMatter => format!(
            "Too close to matter: whatever the difference in {metric}, it is smaller than the {} points worth having; {fate}.",
            points(plan.effect)
        ),
        Verdict::CantTell => format!(
            "Can't tell: B may have from {:.1} fewer to {:.1} more {metric} per 100 people than A; {fate}.",
            -c.lower * 100.0,
            c.upper * 100.0
        ),
        Verdict::Void => format!("Void: the trial was broken, so nothing is read from it; {fate}."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::plan::Metric;
    use rstest::rstest;

    fn plan() -> Plan {
        Plan {
            question: "?".into(),
            metric: Metric::HumanOpen,
            effect: 0.01,
            alpha: 0.05,
            power: 0.8,
            pilot_share: 0.4,
            window_hours: 48,
            on_no_call: Some(0),
            leaving_margin: 0.005,
            complaint_margin: 0.002,
        }
    }

    fn counts(n: u64, opens: [u64; 2], left: [u64; 2], handed: [u64; 2]) -> [ArmCounts; 2] {
        [0, 1].map(|i| ArmCounts {
            assigned: n,
            handed_over: handed[i],
            accepted: handed[i],
            primary: opens[i],
            reported: opens[i],
            left: left[i],
            ..ArmCounts::default()
        })
    }

    #[rstest]
    #[case([589, 700], [9, 10], [3000, 3000], true, Verdict::Called(1))]
    #[case([700, 589], [9, 10], [3000, 3000], true, Verdict::Called(0))]
    #[case([600, 610], [9, 10], [3000, 3000], true, Verdict::CantTell)]
    #[case([589, 700], [9, 90], [3000, 3000], true, Verdict::CantTell)]
    #[case([589, 700], [9, 10], [3000, 2900], true, Verdict::Void)]
    #[case([589, 700], [9, 10], [3000, 3000], false, Verdict::Void)]
    fn verdicts(#[case] opens: [u64; 2], #[case] left: [u64; 2], #[case] handed: [u64; 2], #[case] holds: bool, #[case] want: Verdict) {
        let r = read(&plan(), &counts(3000, opens, left, handed), holds).unwrap();
        assert_eq!(r.verdict, want, "{}", r.sentence);
    }

    #[test]
    fn close_arms_with_many_people_are_too_close_to_matter() {
        let r = read(&plan(), &counts(200_000, [40_000, 40_100], [9, 10], [200_000; 2]), true).unwrap();
        assert_eq!(r.verdict, Verdict::TooCloseToMatter);
        assert!(r.sentence.contains("A goes out, as sealed"));
    }

    /// A trial with no true effect is called no more often than its alpha says.
    #[test]
    fn false_calls_keep_to_alpha() {
        // 2,000 trials of 400 a side at 20%, by a small deterministic generator.
        let mut state = 0x9E37_79B9_7F4A_7C15_u64;
        let mut opens = || {
            (0..400)
                .filter(|_| {
                    state ^= state << 13;
                    state ^= state >> 7;
                    state ^= state << 17;
                    state.is_multiple_of(5)
                })
                .count() as u64
        };
        let called = (0..2000)
            .filter(|_| {
                matches!(read(&plan(), &counts(400, [opens(), opens()], [0, 0], [400, 400]), true).unwrap().verdict, Verdict::Called(_))
            })
            .count();
        // Expected 100, sd 10: five sds above is 150.
        assert!(called <= 150, "{called} of 2000");
    }
}
