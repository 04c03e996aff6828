//! What must hold of the statistics whatever the numbers are: symmetry, limits, and how often decisions are wrong.

use proptest::prelude::*;
use rinse_core::stats::adjust::{Adjustment, adjust_p_values};
use rinse_core::stats::beta_binomial::{Prior, beta_binomial};
use rinse_core::stats::calibration::{Looks, calibration};
use rinse_core::stats::homogeneity::{Stratum, chi_square_homogeneity, mantel_haenszel_difference};
use rinse_core::stats::hours::{Hour, hour_profile};
use rinse_core::stats::noninferiority::{BadWhen, noninferiority};
use rinse_core::stats::omnibus::{omnibus_power, omnibus_sample_size};
use rinse_core::stats::planning::test_and_roll as best_pilot;
use rinse_core::stats::shrink::{Effect, shrink_effects};
use rinse_core::stats::spending::{Spending, spending_bounds};
use rinse_core::stats::two_proportions::two_proportions;
use rinse_core::stats::{Arm, special};

fn arm() -> impl Strategy<Value = Arm> {
    (2u64..5_000).prop_flat_map(|trials| (1..trials, Just(trials)).prop_map(|(successes, trials)| Arm { successes, trials }))
}

fn close(a: f64, b: f64, within: f64) -> bool {
    (a - b).abs() <= within * (1.0 + b.abs())
}

proptest! {
    #[test]
    fn adjusting_never_makes_a_comparison_look_better(p in prop::collection::vec(0.0f64..=1.0, 0..12)) {
        let (holm, bh) = (adjust_p_values(&p, Adjustment::Holm).unwrap(), adjust_p_values(&p, Adjustment::BenjaminiHochberg).unwrap());
        for i in 0..p.len() {
            prop_assert!(p[i] <= bh[i] + 1e-15 && bh[i] <= holm[i] + 1e-15 && holm[i] <= 1.0);
            for j in 0..p.len() {
                prop_assert!(p[i] > p[j] || (holm[i] <= holm[j] && bh[i] <= bh[j]), "order is kept");
            }
        }
    }

    /// Names of arms don't matter, chances add up, and what is likelier the best costs less to choose.
    #[test]
    fn the_bayesian_reading_knows_no_names(arms in prop::collection::vec(arm(), 2..5)) {
        let prior = Prior { alpha: 1.0, beta: 1.0 };
        let read = beta_binomial(&arms, prior).unwrap();
        prop_assert!(close(read.prob_best.iter().sum::<f64>(), 1.0, 1e-9));
        let back: Vec<Arm> = arms.iter().rev().copied().collect();
        let turned = beta_binomial(&back, prior).unwrap();
        for (i, (p, l)) in read.prob_best.iter().zip(&read.expected_loss).enumerate() {
            let j = arms.len() - 1 - i;
            prop_assert!(close(*p, turned.prob_best[j], 1e-9) && close(*l, turned.expected_loss[j], 1e-9));
            prop_assert!(*l >= 0.0);
        }
    }

    /// One stratum is no stratum; the same stratum twice says the same with more certainty.
    #[test]
    fn strata_add_nothing_where_there_are_none(a in arm(), b in arm()) {
        let one = mantel_haenszel_difference(&[Stratum { a, b }], 0.95).unwrap();
        let plain = two_proportions(a, b, 0.95).unwrap();
        prop_assert!(close(one.difference, plain.difference, 1e-12));
        let two = mantel_haenszel_difference(&[Stratum { a, b }; 2], 0.95).unwrap();
        prop_assert!(close(two.difference, one.difference, 1e-12));
        prop_assert!(close(two.upper - two.lower, (one.upper - one.lower) / 2.0f64.sqrt(), 1e-9));
        prop_assert!(close(chi_square_homogeneity(&[a, b]).unwrap().statistic, plain.z * plain.z, 1e-9));
    }

    /// Harm by rising and harm by falling are the same question asked of successes and of failures.
    #[test]
    fn harm_has_two_sides(c in arm(), t in arm(), margin in 0.0f64..0.2) {
        let flip = |a: Arm| Arm { successes: a.trials - a.successes, trials: a.trials };
        let rises = noninferiority(c, t, margin, 0.05, BadWhen::Higher).unwrap();
        let falls = noninferiority(flip(c), flip(t), margin, 0.05, BadWhen::Lower).unwrap();
        prop_assert!(close(rises.p_value, falls.p_value, 1e-9) && close(rises.bound, -falls.bound, 1e-9));
        prop_assert_eq!(rises.p_value < 0.05, rises.bound < margin, "the test and the bound agree");
    }

    /// Shrinking draws every effect towards the mean, none past it, and the less certain ones further.
    #[test]
    fn shrinking_goes_towards_the_mean(effects in prop::collection::vec((-1.0f64..1.0, 0.01f64..0.5), 1..12)) {
        let given: Vec<Effect> = effects.iter().map(|(estimate, standard_error)| Effect { estimate: *estimate, standard_error: *standard_error }).collect();
        let s = shrink_effects(&given).unwrap();
        for ((y, _), shrunk) in effects.iter().zip(&s.shrunk) {
            let (low, high) = (y.min(s.mu), y.max(s.mu));
            prop_assert!(*shrunk >= low - 1e-12 && *shrunk <= high + 1e-12);
        }
        prop_assert!(s.tau2 >= 0.0 && s.shrunk_se.iter().all(|se| *se > 0.0));
    }

    /// Turning the clock turns the peak and the best hours with it, and changes nothing else.
    #[test]
    fn an_hour_profile_turns_with_the_clock(counts in prop::collection::vec((1u64..400, 400u64..800), 24), turn in 0u32..24) {
        let at = |turn: u32| -> Vec<Hour> { (0u32..).zip(&counts).map(|(h, (successes, trials))| Hour { hour: (h + turn) % 24, successes: *successes, trials: *trials }).collect() };
        let (still, turned) = (hour_profile(&at(0)).unwrap(), hour_profile(&at(turn)).unwrap());
        prop_assert!(close(still.omnibus_statistic, turned.omnibus_statistic, 1e-9) && close(still.harmonic.lr_statistic, turned.harmonic.lr_statistic, 1e-6));
        if let (Some(a), Some(b)) = (still.harmonic.peak_hour, turned.harmonic.peak_hour) {
            let apart = (b - a - f64::from(turn)).rem_euclid(24.0);
            prop_assert!(apart.min(24.0 - apart) < 1e-4, "{} {}", a, b);
        }
    }

    /// A more precise guess of how arms differ asks for a smaller pilot; it never takes more than everyone.
    #[test]
    fn the_best_pilot_shrinks_as_arms_differ_more(n in 100.0f64..1e7, s in 0.01f64..0.5, g in 1e-5f64..0.3) {
        let pilot = best_pilot(n, s, g).unwrap();
        prop_assert!(pilot > 0.0 && 2.0 * pilot < n);
        prop_assert!(best_pilot(n, s, g * 1.5).unwrap() < pilot);
    }

    #[test]
    fn the_people_an_hour_needs_give_the_power_asked_for(rates in prop::collection::vec(0.05f64..0.4, 24), power in 0.2f64..0.95) {
        let n = omnibus_sample_size(&rates, 0.05, power).unwrap();
        prop_assert!(close(omnibus_power(&rates, n, 0.05).unwrap().power, power, 1e-6));
    }
}

#[test]
fn bounds_spend_what_they_say_and_no_more() {
    let one = spending_bounds(0.05, 2, &[1.0], Spending::ObrienFleming).unwrap();
    assert!(close(one.z_bounds[0], special::normal_upper_quantile(0.025), 1e-9), "one look is an ordinary test");
    for (looks, bounds) in [(3, Looks::ObrienFleming), (5, Looks::Pocock), (8, Looks::ObrienFleming)] {
        let rate = calibration(1500, 0.3, 0.05, looks, bounds).unwrap();
        assert!((rate - 0.05).abs() < 0.003, "{looks} looks: {rate}");
    }
    let (few, many) = (calibration(600, 0.3, 0.05, 2, Looks::None).unwrap(), calibration(600, 0.3, 0.05, 10, Looks::None).unwrap());
    assert!(few > 0.07 && many > few, "looking often without bounds calls too much: {few}, {many}");
}

/// Against mpmath in 30 digits: priors that leave all to what was seen, where nobody did it, and looks that come before anything can be known.
#[test]
fn the_far_ends_are_right_too() {
    for (prior, people, losses) in [
        (0.1, [50, 60], [0.001_447_553_983_75, 0.001_778_456_288_15]),
        (0.01, [20, 30], [0.000_327_528_613_012, 0.000_493_917_853_352]),
        (0.05, [50, 70], [0.000_659_813_749_79, 0.000_944_550_980_037]),
    ] {
        let arms = people.map(|trials| Arm { successes: 0, trials });
        let best = beta_binomial(&arms, Prior { alpha: prior, beta: prior }).unwrap();
        for (found, want) in best.expected_loss.iter().zip(losses) {
            assert!((found / want - 1.0).abs() < 1e-6, "{prior}: {found} {want}");
        }
    }
    for (alpha, at, z) in [
        (0.05, [0.003, 1.0], [40.905_296_251_568_4, 1.959_963_984_540_1]),
        (0.05, [0.0001, 1.0], [224.137_180_330_218, 1.959_963_984_540_1]),
        (0.01, [0.002, 0.3], [62.756_141_895_600_4, 4.992_725_563_943_1]),
    ] {
        let found = spending_bounds(alpha, 2, &at, Spending::ObrienFleming).unwrap().z_bounds;
        assert!(found.iter().zip(z).all(|(f, z)| close(*f, z, 1e-9)), "{found:?} {z:?}");
    }
}
