//! Guardrails before a trial: which margins protect somebody, and whether they would notice anything.

use super::decide::guard;
use super::metric::Metric;
use super::outlook::Known;
use super::plan::Plan;
use super::reading::Guard;
use crate::stats::Arm;
use crate::stats::special::{normal_cdf, normal_upper_quantile};
use crate::stats::two_proportions::newcombe;
use serde::Serialize;

/// The largest margin on complaints, whatever the base's own rate.
const MOST_COMPLAINTS: f64 = 0.0005;
/// Margins are written to thousandths of a point.
const STEP: f64 = 1e-5;
/// A guardrail that notices a doubling less often protects nobody.
pub const NOTICES: f64 = 0.5;
/// With more expected cases in an arm the normal approximation is near enough.
const FEW: f64 = 40.0;

/// The margins that a plan begins with, of leaving and of complaints: half of what is usual here, and of complaints 0.05 points at most. A margin
/// far above the own rate would let an arm double what does harm and call it.
#[must_use]
pub fn usual_margins(leaving: f64, complaints: f64) -> (f64, f64) {
    let half = |rate: f64| (rate / 2.0 / STEP).ceil().max(1.0) * STEP;
    (half(leaving), half(complaints).min(MOST_COMPLAINTS))
}

/// A guardrail as the plan has it.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct GuardOutlook {
    pub name: String,
    /// The usual rate here, over everyone handed over.
    pub usual: f64,
    pub margin: f64,
    /// In what share of trials it is breached by an arm with twice the usual rate.
    pub notices: f64,
}

/// How often an arm with twice the usual rate breaches a margin, of so many people in each arm.
#[must_use]
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub fn notices(usual: f64, margin: f64, people: u64, alpha: f64) -> f64 {
    let (n, twice) = (people as f64, (2.0 * usual).min(1.0));
    if people == 0 || usual <= 0.0 {
        return 0.0;
    }
    if n * usual > FEW {
        let error = ((usual * (1.0 - usual) + twice * (1.0 - twice)) / n).sqrt();
        return normal_cdf((twice - usual - margin) / error - normal_upper_quantile(alpha / 2.0));
    }
    // Few: all that could be counted, weighed by Poisson's chances.
    let most = (4.0 * n * usual + 30.0).ceil() as u64;
    let chances = |mean: f64| {
        let mut p = (-mean).exp();
        (0..=most)
            .map(|x| {
                let here = p;
                p *= mean / (x + 1) as f64;
                here
            })
            .collect::<Vec<f64>>()
    };
    let (a, b) = (chances(n * usual), chances(n * twice));
    let arm = |x: u64| Arm { successes: x.min(people), trials: people };
    let mut sum = 0.0;
    for (x, p) in (0..).zip(&a) {
        // What breaches it does so with more, too.
        let breaches = |y: u64| newcombe(arm(x), arm(y), 1.0 - alpha).is_ok_and(|(low, high)| guard(low, high, margin) == Guard::Breached);
        let (mut low, mut high) = (0, most + 1);
        while low < high {
            let middle = u64::midpoint(low, high);
            if breaches(middle) { high = middle } else { low = middle + 1 }
        }
        sum += p * b.iter().skip(low as usize).sum::<f64>();
    }
    sum.min(1.0)
}

/// The guardrails of a plan whose usual rates are known, of so many people in the smallest arm.
#[must_use]
pub fn guards(plan: &Plan, people: u64, known: Known) -> Vec<GuardOutlook> {
    let of = |name: &str, usual: f64, margin: f64| GuardOutlook {
        name: name.into(),
        usual,
        margin,
        notices: notices(usual, margin, people, plan.alpha),
    };
    let mut out = Vec::new();
    if plan.metric != Metric::Leaving {
        out.push(of("leaving", known.leaving, plan.leaving_margin));
    }
    if plan.metric != Metric::Complaining {
        out.push(of("complaints", known.complaints, plan.complaint_margin));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn margins_come_from_what_is_usual_here() {
        assert_eq!(usual_margins(0.003, 0.0004), (0.0015, 0.0002));
        assert_eq!(usual_margins(0.02, 0.004), (0.01, 0.0005));
        assert!(usual_margins(0.0, 0.0).1 > 0.0);
    }

    #[test]
    fn a_doubling_is_noticed_with_many_people_and_by_no_margin_above_it() {
        assert!(notices(0.003, 0.0015, 1_000, 0.05) < 0.2 && notices(0.003, 0.0015, 60_000, 0.05) > 0.95);
        assert!(notices(0.0005, 0.002, 1_000_000, 0.05) < 1e-9, "a margin of four times the rate lets a doubling pass");
        // The counted and the approximated meet.
        let (few, many) = (notices(0.002, 0.001, 19_900, 0.05), notices(0.002, 0.001, 20_100, 0.05));
        assert!((few - many).abs() < 0.05, "{few} {many}");
        for w in [500, 2_000, 5_000, 10_000, 20_000, 50_000].windows(2) {
            assert!(notices(0.002, 0.001, w[0], 0.05) <= notices(0.002, 0.001, w[1], 0.05) + 0.02);
        }
    }
}
