//! What is rare: hardly anybody complains, hardly anybody leaves. Errors that are estimated from what was seen see too little of it (of a group in
//! which nobody has done it yet, nothing at all), and normal limits around a mean under ten leave out too little above. Fisher's exact test (1935,
//! *The Design of Experiments*, section 21) knows how much of it is chance.

use super::Arm;
use libm::lgamma;

/// With so many of the rarer answer on a side the usual errors are right.
const RARE: u64 = 200;

/// The lower tail of the hypergeometric law: at most `x` of `drawn` are among the `such` of `all`.
#[allow(clippy::cast_precision_loss)]
fn at_most(x: u64, drawn: u64, such: u64, all: u64) -> f64 {
    let (drawn, such, all) = (drawn as f64, such as f64, all as f64);
    let choose = |n: f64, k: f64| lgamma(n + 1.0) - lgamma(k + 1.0) - lgamma(n - k + 1.0);
    let mut j = x as f64;
    let mut chance = (choose(such, j) + choose(all - such, drawn - j) - choose(all, drawn)).exp();
    let mut sum = chance;
    while j > 0.0 && chance > 0.0 {
        chance *= j * (all - such - drawn + j) / ((such - j + 1.0) * (drawn - j + 1.0));
        j -= 1.0;
        sum += chance;
    }
    sum.min(1.0)
}

/// How likely it is that so much, or so little, of what is rare would fall to one side by chance among people: Fisher's exact one-sided p. `more`:
/// that its rate is as high as this, or higher; else as low, or lower. 0 where nothing is rare.
#[must_use]
pub fn chance_of_the_rare(own: Arm, others: Arm, more: bool) -> f64 {
    let not = |a: Arm| a.trials.saturating_sub(a.successes);
    let all = own + others;
    let (did, didnt) = (all.successes, not(all));
    // Few did here, or few of the others didn't; where more is asked, the other way round.
    let sides = if more {
        [(not(own), own.trials, didnt), (others.successes, others.trials, did)]
    } else {
        [(own.successes, own.trials, did), (not(others), others.trials, didnt)]
    };
    let (x, drawn, such) = if sides[0].0 <= sides[1].0 { sides[0] } else { sides[1] };
    if x >= RARE { 0.0 } else { at_most(x, drawn, such, all.trials) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Fisher's lady: of eight cups she names three of four.
    #[test]
    fn the_lady_tasting_tea() {
        let (own, others) = (Arm { successes: 3, trials: 4 }, Arm { successes: 1, trials: 4 });
        assert!((chance_of_the_rare(own, others, true) - 17.0 / 70.0).abs() < 1e-9);
        assert!((chance_of_the_rare(own, others, false) - 69.0 / 70.0).abs() < 1e-9);
        assert_eq!(chance_of_the_rare(Arm { successes: 900, trials: 2_000 }, Arm { successes: 950, trials: 2_000 }, true), 0.0);
    }

    proptest! {
        /// The two directions share only what was seen, whichever of the four counts is the rarest.
        #[test]
        fn both_directions_make_one_and_what_was_seen((a, n) in (1u64..60).prop_flat_map(|n| (0..=n, Just(n))), (b, m) in (1u64..60).prop_flat_map(|m| (0..=m, Just(m)))) {
            let (own, others) = (Arm { successes: a, trials: n }, Arm { successes: b, trials: m });
            let (more, less) = (chance_of_the_rare(own, others, true), chance_of_the_rare(own, others, false));
            let choose = |n: u64, k: u64| (0..k).fold(1.0, |c, i| c * (n - i) as f64 / (i + 1) as f64);
            let seen = choose(n, a) * choose(m, b) / choose(n + m, a + b);
            prop_assert!((more + less - 1.0 - seen).abs() < 1e-6, "{} {} {}", more, less, seen);
            // What didn't happen here is what happened less.
            let not = |a: Arm| Arm { successes: a.trials - a.successes, ..a };
            prop_assert!((chance_of_the_rare(not(own), not(others), false) - more).abs() < 1e-6);
        }
    }
}
