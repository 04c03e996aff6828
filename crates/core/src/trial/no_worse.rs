//! Is an arm no worse than the control, by more than it may lose? For changes that are made for other reasons: the new template, the cheaper picture.
//!
//! The difference with the margin against its unpooled standard error (STATS noninferiority: Wald's, one-sided at half of alpha); over stretches the
//! weighted one. Where the plan uses what people did before, the adjusted difference and its standard error. The limit has to say the same.

use super::decide::{Compared, primaries};
use super::plan::{Aim, Plan};
use super::reading::NoWorse;
use super::stretches::Counted;
use crate::stats::StatsError;
use crate::stats::agreeing::Test;
use crate::stats::noninferiority::harm;
use crate::stats::special::{normal_cdf, normal_upper_quantile};

/// The test of the arm that isn't the control; none where that isn't asked, or nothing varies.
///
/// # Errors
/// When an arm is empty.
pub(super) fn of(plan: &Plan, counted: Counted<'_>, compared: &[Compared]) -> Result<Option<NoWorse>, StatsError> {
    let (Aim::NoWorse, Some(control), Some(c)) = (plan.aim, plan.control, compared.first()) else { return Ok(None) };
    let arm = if c.arm == control { c.base } else { c.arm };
    let sign = plan.metric.sign();
    let z_level = normal_upper_quantile(plan.alpha / 2.0);
    // How much the arm loses, and how unsure that is.
    let lost = if c.base == control { -sign * c.difference } else { sign * c.difference };
    let error = if c.test == Some(Test::Adjusted) {
        (c.upper - c.lower) / 2.0 / z_level
    } else {
        // What does harm: where more is better, those who did it in the control and not in the arm.
        let strata = primaries(&counted.concurrent(control, arm));
        let turned: Vec<_> = strata.iter().map(|(a, b)| if sign > 0.0 { (*b, *a) } else { (*a, *b) }).collect();
        // By company where that is larger, as the interval is.
        harm(&turned).map_or(0.0, |h| h.1) * counted.design.iter().map(|d| d.effect).fold(1.0, f64::max).sqrt()
    };
    if !(error > 0.0 && error.is_finite()) {
        return Ok(None);
    }
    let z = (lost - plan.effect) / error;
    Ok(Some(NoWorse { arm, margin: plan.effect, z, p_value: normal_cdf(z), may_lose: lost + z_level * error }))
}

impl NoWorse {
    /// Is it shown to lose less than it may? The test and the interval of the comparison say so together.
    pub(super) fn holds(&self, plan: &Plan, c: &Compared) -> bool {
        let rises = (c.arm == self.arm) == (plan.metric.sign() < 0.0);
        let most = if rises { c.upper } else { -c.lower };
        self.p_value < plan.alpha / 2.0 && most < self.margin
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::metric::Metric;
    use crate::trial::plan::tests::plan;
    use crate::trial::reading::{ArmCounts, Beside, Verdict, read};
    use rstest::rstest;

    fn counts(primary: [u64; 2], n: u64) -> Vec<ArmCounts> {
        primary
            .map(|primary| ArmCounts { assigned: n, handed_over: n, accepted: n, primary, reported: primary, ..ArmCounts::default() })
            .to_vec()
    }

    #[rstest]
    // A point may be lost of 20: half of one with many people; the same with few; more than it may; better by far.
    #[case(Metric::HumanOpen, [8_000, 7_900], 40_000, 0, Verdict::NoWorse(1))]
    #[case(Metric::HumanOpen, [200, 198], 1_000, 0, Verdict::CantTell)]
    #[case(Metric::HumanOpen, [8_000, 7_500], 40_000, 0, Verdict::CantTell)]
    #[case(Metric::HumanOpen, [8_000, 9_000], 40_000, 0, Verdict::NoWorse(1))]
    // The control may be either, and of leaving less is better.
    #[case(Metric::HumanOpen, [7_900, 8_000], 40_000, 1, Verdict::NoWorse(0))]
    #[case(Metric::Leaving, [200, 230], 40_000, 0, Verdict::NoWorse(1))]
    #[case(Metric::Leaving, [200, 700], 40_000, 0, Verdict::CantTell)]
    fn what_loses_less_than_it_may_goes_out(
        #[case] metric: Metric,
        #[case] primary: [u64; 2],
        #[case] n: u64,
        #[case] control: usize,
        #[case] want: Verdict,
    ) {
        let plan = Plan { aim: Aim::NoWorse, control: Some(control), on_no_call: Some(control), effect: 0.01, metric, ..plan() };
        assert_eq!(plan.check(2), Ok(()));
        let r = read(&plan, &counts(primary, n), &Beside { assignment_holds: true, ..Beside::default() }).unwrap();
        let found = r.no_worse.unwrap();
        assert_eq!((r.verdict, found.arm), (want, 1 - control), "{} {found:?}", r.sentence);
        assert_eq!(want != Verdict::CantTell, found.may_lose < 0.01 && found.p_value < 0.025);
        assert!(r.sentence.contains("no worse"), "{}", r.sentence);
        // Turned around it is the same test as its own function has it.
        let (a, b) = (counts(primary, n)[control].with_primary(), counts(primary, n)[1 - control].with_primary());
        let bad =
            if metric.sign() > 0.0 { crate::stats::noninferiority::BadWhen::Lower } else { crate::stats::noninferiority::BadWhen::Higher };
        let alone = crate::stats::noninferiority::noninferiority(a, b, 0.01, 0.025, bad).unwrap();
        assert!((alone.p_value - found.p_value).abs() < 1e-12 && (alone.bound.abs() - found.may_lose.abs()).abs() < 1e-12);
    }
}
