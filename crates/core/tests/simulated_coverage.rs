//! Do the intervals without exact sums cover what they say? By simulation with fixed seeds: each share has to lie
//! within three standard errors of the level, or of what the method is known to lose at such sizes.

use chacha20::ChaCha12Rng;
use rand::{Rng, RngExt, SeedableRng};
use rand_distr::{Binomial, Distribution, LogNormal, Normal};
use rinse_core::stats::Arm;
use rinse_core::stats::beta_binomial::{Prior, beta_binomial};
use rinse_core::stats::homogeneity::{Stratum, mantel_haenszel_difference};
use rinse_core::stats::noninferiority::{BadWhen, noninferiority};
use rinse_core::stats::ratio_of_means::{Sums, ratio_of_means_delta};
use rinse_core::stats::welch::{Sample, welch};
use rinse_core::trial::learned::{Contrast, shrink};
use rinse_core::trial::plan::Plan;
use rinse_core::trial::reading::ArmCounts;
use rinse_core::trial::rules::Rule;
use rstest::rstest;

const RUNS: usize = 4_000;

/// How often something is so, run by run from one seed.
fn share(seed: u64, mut run: impl FnMut(&mut ChaCha12Rng) -> bool) -> f64 {
    let mut rng = ChaCha12Rng::seed_from_u64(seed);
    (0..RUNS).filter(|_| run(&mut rng)).count() as f64 / RUNS as f64
}

fn noise(level: f64) -> f64 {
    3.0 * (level * (1.0 - level) / RUNS as f64).sqrt()
}

fn arm(rng: &mut ChaCha12Rng, trials: u64, rate: f64) -> Arm {
    Arm { successes: Binomial::new(trials, rate).unwrap().sample(rng), trials }
}

/// Revenue a person: most buy nothing, the others very unequally.
fn revenue(rng: &mut impl Rng, people: usize, buys: f64) -> Sample {
    let spent = LogNormal::new(3.0, 0.8).unwrap();
    let (mut sum, mut squares) = (0.0, 0.0);
    for _ in 0..people {
        let x = if rng.random::<f64>() < buys { spent.sample(rng) } else { 0.0 };
        sum += x;
        squares += x * x;
    }
    Sample::of(people as f64, sum, squares)
}

#[rstest]
#[case(400, 400, 0.1, 0.1)]
#[case(600, 300, 0.05, 0.12)]
fn a_difference_of_revenue_is_covered(#[case] na: usize, #[case] nb: usize, #[case] a: f64, #[case] b: f64) {
    let mean = (3.0_f64 + 0.32).exp();
    let covered = share(1, |rng| {
        let d = welch(revenue(rng, na, a), revenue(rng, nb, b), 0.95).unwrap();
        d.lower <= (b - a) * mean && (b - a) * mean <= d.upper
    });
    // Skewed sums of few buyers lose up to a point.
    assert!(covered >= 0.94 - noise(0.95) && covered <= 0.95 + noise(0.95) + 0.005, "{covered}");
}

#[test]
fn a_difference_of_ratios_is_covered() {
    // Opens a person over several mailings, and clicks that depend on them.
    let sums = |rng: &mut ChaCha12Rng, clicks: f64| {
        let mut s = Sums { n: 500.0, sum_x: 0.0, sum_y: 0.0, sum_xx: 0.0, sum_yy: 0.0, sum_xy: 0.0 };
        for _ in 0..500 {
            let keen = 0.1 + 0.8 * rng.random::<f64>();
            let x = Binomial::new(6, keen).unwrap().sample(rng);
            let y = Binomial::new(x, clicks).unwrap().sample(rng) as f64;
            let x = x as f64;
            s.sum_x += x;
            s.sum_y += y;
            s.sum_xx += x * x;
            s.sum_yy += y * y;
            s.sum_xy += x * y;
        }
        s
    };
    let covered = share(2, |rng| {
        let d = ratio_of_means_delta(sums(rng, 0.2), sums(rng, 0.26), 0.95).unwrap();
        d.lower <= 0.06 && 0.06 <= d.upper
    });
    assert!((covered - 0.95).abs() <= noise(0.95) + 0.003, "{covered}");
}

#[test]
fn a_common_difference_over_strata_is_covered() {
    let covered = share(3, |rng| {
        let strata: Vec<Stratum> = [(80, 0.1), (150, 0.2), (60, 0.4), (200, 0.3)]
            .into_iter()
            .map(|(n, p)| Stratum { a: arm(rng, n, p), b: arm(rng, n + n / 3, p + 0.05) })
            .collect();
        let d = mantel_haenszel_difference(&strata, 0.95).unwrap();
        d.lower <= 0.05 && 0.05 <= d.upper
    });
    assert!((covered - 0.95).abs() <= noise(0.95) + 0.005, "{covered}");
}

/// A margin is wrongly said to be kept no more often than alpha, where the truth lies on it.
#[rstest]
#[case(BadWhen::Higher, 0.05)]
#[case(BadWhen::Lower, -0.05)]
fn a_margin_is_wrongly_kept_at_most_as_often_as_alpha(#[case] bad: BadWhen, #[case] beyond: f64) {
    let mut bounds = 0;
    let kept = share(4, |rng| {
        let r = noninferiority(arm(rng, 500, 0.2), arm(rng, 500, 0.2 + beyond), 0.05, 0.025, bad).unwrap();
        bounds += usize::from(if beyond > 0.0 { r.bound >= beyond } else { r.bound <= beyond });
        r.p_value < 0.025
    });
    assert!(kept <= 0.025 + noise(0.025) + 0.003, "{kept}");
    assert!(bounds as f64 / RUNS as f64 >= 0.975 - noise(0.975) - 0.003, "{bounds}");
}

/// Intervals of a trial hold all together as often as they say, whatever the number of arms.
#[rstest]
#[case(2, None)]
#[case(3, None)]
#[case(6, Some(0))]
fn a_trials_intervals_hold_together(#[case] arms: usize, #[case] control: Option<usize>) {
    let plan = Plan { on_no_call: None, control, ..Plan::usual("?") };
    let rates: Vec<f64> = (0..arms).map(|i| 0.2 + 0.01 * i as f64).collect();
    let covered = share(5, |rng| {
        let counts: Vec<ArmCounts> = rates
            .iter()
            .map(|p| {
                let a = arm(rng, 700, *p);
                ArmCounts { assigned: a.trials, primary: a.successes, ..ArmCounts::default() }
            })
            .collect();
        Rule::latest().compare(&plan, counts.as_slice().into()).unwrap().iter().all(|c| {
            let truth = rates[c.arm] - rates[c.base];
            c.lower <= truth && truth <= c.upper
        })
    });
    // Bonferroni's are wider than they need to be where comparisons share an arm.
    assert!(covered >= 0.95 - noise(0.95) && covered <= 0.985, "{arms} arms: {covered}");
}

/// Where effects come from one spread, the limits of shrunk ones hold them as often as they say, with few trials as with many, and they are
/// nearer the truth.
#[rstest]
#[case(3)]
#[case(5)]
#[case(20)]
fn shrunk_effects_are_covered_on_average(#[case] trials: usize) {
    let mut rng = ChaCha12Rng::seed_from_u64(6);
    let (apart, mut covered, mut all, mut raw, mut drawn) = (Normal::new(0.0, 0.15).unwrap(), 0, 0, 0.0, 0.0);
    for _ in 0..2_000 / trials {
        let truths: Vec<f64> = (0..trials).map(|_| apart.sample(&mut rng)).collect();
        let contrasts: Vec<Contrast> = truths
            .iter()
            .map(|t| {
                let odds = 0.25_f64 * t.exp();
                Contrast { base: arm(&mut rng, 900, 0.2), arm: arm(&mut rng, 900, odds / (1.0 + odds)), control: false }
            })
            .collect();
        for ((s, truth), c) in shrink(&contrasts).unwrap().iter().zip(&truths).zip(&contrasts) {
            covered += usize::from((s.lower..=s.upper).contains(truth));
            all += 1;
            raw += (c.log_odds().estimate - truth).powi(2);
            drawn += (s.estimate - truth).powi(2);
        }
    }
    let share = f64::from(u32::try_from(covered).unwrap()) / f64::from(all);
    // Those of one group share what is thought of their spread, so it strays more than so many apart would; 0.94 to 0.97 by longer runs.
    assert!((0.93..=0.985).contains(&share), "{share}");
    assert!(drawn < 0.95 * raw, "{drawn} {raw}");
}

/// Of arms whose rates the prior drew, those with a chance of x to be best are the best x of the time.
#[test]
fn the_chance_to_be_best_is_one() {
    let mut rng = ChaCha12Rng::seed_from_u64(7);
    let (mut said, mut was) = ([0.0; 5], [0.0; 5]);
    for _ in 0..1_500 {
        let rates: Vec<f64> = (0..3).map(|_| rng.random::<f64>()).collect();
        let arms: Vec<Arm> = rates.iter().map(|p| arm(&mut rng, 40, *p)).collect();
        let best = beta_binomial(&arms, Prior { alpha: 1.0, beta: 1.0 }).unwrap();
        let top = (0..3).max_by(|a, b| rates[*a].total_cmp(&rates[*b])).unwrap();
        for (i, p) in best.prob_best.iter().enumerate() {
            let bin = ((p * 5.0) as usize).min(4);
            said[bin] += p * (1.0 - p);
            was[bin] += f64::from(u8::from(i == top)) - p;
        }
    }
    for bin in 0..5 {
        assert!(was[bin].abs() <= 3.5 * said[bin].sqrt() + 1.0, "bin {bin}: off by {} with variance {}", was[bin], said[bin]);
    }
}
