//! Trials in a series, simulated: people come one by one, months differ, shares change and arms come and go on the way.
//! Without a true effect an arm is called no more often than alpha says, with the planned one as often as the power asks,
//! and the intervals hold the truth as often as they claim. Seeds are fixed.

use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use rinse_core::id::ContactId;
use rinse_core::trial::assign::on_entry;
use rinse_core::trial::decide::{compare, contrast};
use rinse_core::trial::metric::Metric;
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::{ArmCounts, Verdict};
use rinse_core::trial::rules::decide;
use rinse_core::trial::stretches::{Counted, StretchCounts, added_up};
use rstest::rstest;

/// A month: the parts of each arm, how many come, and how many in a hundred answer whatever they get.
type Month = (&'static [u32], i64, f64);

/// B gets more people as the season sets in.
const RAMPED: &[Month] = &[(&[1, 1], 1_200, 0.08), (&[1, 3], 1_800, 0.2), (&[1, 8], 2_000, 0.3)];
/// B is stopped, and C begins.
const SWAPPED: &[Month] = &[(&[1, 1, 0], 1_500, 0.1), (&[1, 1, 1], 900, 0.15), (&[1, 0, 1], 1_500, 0.25)];

fn run(months: &[Month], effect: f64, seed: u64, rng: &mut ChaCha12Rng) -> (Vec<ArmCounts>, Vec<StretchCounts>) {
    let (arms, mut next) = (months[0].0.len(), 0);
    let mut stretches = Vec::new();
    for (parts, people, base) in months {
        let mut counts = vec![ArmCounts::default(); arms];
        for contact in next..next + people {
            let arm = on_entry(seed, ContactId(contact), parts);
            let answers = rng.random::<f64>() < base + if arm == arms - 1 { effect } else { 0.0 };
            counts[arm].assigned += 1;
            counts[arm].handed_over += 1;
            counts[arm].primary += u64::from(answers);
        }
        next += people;
        stretches.push(StretchCounts { parts: parts.to_vec(), counts });
    }
    (added_up(&stretches), stretches)
}

#[rstest]
#[case(RAMPED, None, 0.05)]
#[case(SWAPPED, Some(0), 0.06)]
fn called_as_seldom_and_as_often_as_planned(#[case] months: &[Month], #[case] control: Option<usize>, #[case] effect: f64) {
    let plan = Plan { metric: Metric::HumanClick, effect, control, per_arm: Some(1_000), ..Plan::usual("?") };
    let (runs, mut rng) = (3_000u32, ChaCha12Rng::seed_from_u64(20_261_126));
    let (mut wrong, mut pooled_wrong, mut right, mut covered) = (0, 0, 0, 0);
    for n in 0..runs {
        let seed = u64::from(n) * 7 + 1;
        let (all, stretches) = run(months, 0.0, seed, &mut rng);
        let counted = Counted::over(&all, &stretches);
        let stopped = counted.closed();
        wrong += u32::from(matches!(decide(&plan, counted, &stopped).unwrap().0, Verdict::Called(_)));
        let last = all.len() - 1;
        pooled_wrong += u32::from(contrast(&plan, &all[0], &all[last], 0.95).unwrap().p_value < 0.05);
        let (all, stretches) = run(months, effect, seed, &mut rng);
        let counted = Counted::over(&all, &stretches);
        right += u32::from(decide(&plan, counted, &stopped).unwrap().0 == Verdict::Called(last));
        // All intervals together hold: what arms differ by is the effect where the last is one of them.
        let holds = |c: &rinse_core::trial::decide::Compared| {
            let truth = if c.arm == last { effect } else { 0.0 };
            c.lower <= truth && truth <= c.upper
        };
        covered += u32::from(compare(&plan, counted).unwrap().iter().all(holds));
    }
    let n = f64::from(runs);
    let three = |p: f64| 3.0 * (p * (1.0 - p) / n).sqrt();
    let share = |k: u32| f64::from(k) / n;
    assert!(share(wrong) <= 0.05 + three(0.05), "called without an effect: {}", share(wrong));
    assert!(share(right) >= 0.8 - three(0.8), "called right: {}", share(right));
    assert!(share(covered) >= 0.95 - three(0.95), "covered: {}", share(covered));
    assert!(share(pooled_wrong) > 0.3, "pooled, the months alone would have been called: {}", share(pooled_wrong));
}
