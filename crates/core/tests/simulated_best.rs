//! How often a group is said to be the best where none is: mailings differ from each other more than chance among people makes them, and who got
//! which was never left to chance.

use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use rand_distr::{Binomial, Distribution, Normal};
use rinse_core::findings::best::{Part, told};
use rinse_core::id::MailingId;
use rinse_core::stats::Arm;
use rstest::rstest;

const RUNS: u64 = 3_000;

/// Groups of mailings, each mailing with a rate of its own; `shared`: every mailing is in every group, as with domains.
fn runs(groups: usize, mailings: usize, spread: f64, shared: bool, ahead: f64) -> f64 {
    let mut called = 0u64;
    for run in 0..RUNS {
        let mut rng = ChaCha12Rng::seed_from_u64(run * 7919 + groups as u64 * 31 + mailings as u64);
        let (between, within) = (Normal::new(0.0, spread).unwrap(), Normal::new(0.0, spread / 2.0).unwrap());
        let mut parts = vec![Part { days: mailings, ..Part::default() }; groups];
        for m in 0..mailings * if shared { 1 } else { groups } {
            let of_mailing = between.sample(&mut rng);
            for (g, part) in parts.iter_mut().enumerate() {
                if !shared && m % groups != g {
                    continue;
                }
                let own = if shared { within.sample(&mut rng) } else { 0.0 };
                let ahead = if g == 0 { ahead } else { 0.0 };
                let p = 1.0 / (1.0 + (1.1 - of_mailing - own - ahead).exp());
                let trials = rng.random_range(200u64..6_000);
                let successes = Binomial::new(trials, p).unwrap().sample(&mut rng);
                part.mailings.insert(MailingId(i64::try_from(m).unwrap()), Arm { successes, trials });
            }
        }
        called += u64::from(told(&parts, true).iter().any(|b| b.is_better()));
    }
    called as f64 / RUNS as f64
}

#[rstest]
#[case::weekdays(7, 6, 0.3, false)]
#[case::weekdays_of_years(7, 25, 0.3, false)]
#[case::hours(12, 6, 0.1, false)]
#[case::two_letterheads(2, 20, 0.4, false)]
#[case::domains(6, 12, 0.3, true)]
fn none_is_called_best_where_none_is(#[case] groups: usize, #[case] mailings: usize, #[case] spread: f64, #[case] shared: bool) {
    let share = runs(groups, mailings, spread, shared, 0.0);
    // 5% and three standard errors of 3,000 runs.
    assert!(share <= 0.062, "{share} of runs call one");
}

/// What is rare: hardly anybody leaves, and small groups stand beside large ones, in which nobody has left by chance.
#[rstest]
#[case::mail_load(15, 40, 0.002)]
#[case::complaints(8, 20, 0.0004)]
#[case::nearly_all(8, 20, 0.998)]
fn of_what_is_rare_none_is_called_best_either(#[case] groups: u64, #[case] mailings: i64, #[case] rate: f64) {
    let mut called = 0;
    for run in 0..RUNS {
        let mut rng = ChaCha12Rng::seed_from_u64(run * 104_729 + groups);
        let between = Normal::new(0.0, 0.3).unwrap();
        let mut parts = vec![Part { days: 40, ..Part::default() }; groups as usize];
        for m in 0..mailings {
            let p = rate + rate.min(1.0 - rate) * f64::clamp(between.sample(&mut rng), -0.9, 0.9);
            for (g, part) in (0..).zip(&mut parts) {
                let trials = rng.random_range(10..60) * (1 + g * g);
                let successes = Binomial::new(trials, p).unwrap().sample(&mut rng);
                part.mailings.insert(MailingId(m), Arm { successes, trials });
            }
        }
        called += u64::from(told(&parts, rate > 0.5).iter().any(|b| b.is_better()));
    }
    let share = called as f64 / RUNS as f64;
    assert!(share <= 0.062, "{share} of runs call one");
}

#[test]
fn one_that_is_far_ahead_is_found() {
    assert!(runs(7, 12, 0.2, false, 0.6) > 0.9);
}
