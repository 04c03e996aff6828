//! The junk-folder sign: people of a mailbox group open a mailing far less than its own past and the mailing's opens elsewhere lead to expect.
//!
//! Each mailing has a difference of log odds, here less elsewhere: what a mailing's subject does is taken out by its opens elsewhere, what the
//! group's people are like by its own past. The next difference is predicted from those before (random effects: DerSimonian and Laird 1986,
//! Controlled Clinical Trials 7:177-188; prediction as Higgins, Thompson and Spiegelhalter 2009, JRSS A 172:137-159). One mailing under the lower
//! 99% limit may be chance, with ten mailings a month in one month of ten; two of three aren't. It is a sign, no proof: only a mailbox that you hold tells where mail lies.

use super::alert::Says;
use crate::stats::Arm;
use crate::stats::welch::student_quantile;

/// So many mailings before make a norm …
const NORM: usize = 8;
/// … the newest at most so many.
const NORM_MOST: usize = 24;
/// A mailing to fewer people whose opens can be known says nothing.
const LEAST: u64 = 40;
/// The lower limit leaves so much under it.
const UNDER: f64 = 0.01;
/// Two of so many.
const OF: usize = 3;

/// Opens of a mailing, of people whose opens can be known.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Opens {
    pub here: Arm,
    pub elsewhere: Arm,
}

/// What the past leads to expect of a mailing.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Expected {
    /// The share opened here.
    pub rate: f64,
    /// Its lower 99% limit.
    pub lower: f64,
    pub under: bool,
}

/// The log odds of an arm, and their variance (with a half added to each cell: Haldane 1956, Anscombe 1956).
#[allow(clippy::cast_precision_loss)]
fn log_odds(a: Arm) -> (f64, f64) {
    let (yes, no) = (a.successes as f64 + 0.5, a.trials.saturating_sub(a.successes) as f64 + 0.5);
    ((yes / no).ln(), 1.0 / yes + 1.0 / no)
}

fn tells(o: &Opens) -> bool {
    o.here.trials >= LEAST && o.elsewhere.trials >= LEAST
}

/// What some mailings before lead to expect of one; none where they are too few.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn expected(before: &[Opens], of: &Opens) -> Option<Expected> {
    if !tells(of) || before.len() < NORM {
        return None;
    }
    let past: Vec<(f64, f64)> = before
        .iter()
        .map(|o| {
            let (here, elsewhere) = (log_odds(o.here), log_odds(o.elsewhere));
            (here.0 - elsewhere.0, here.1 + elsewhere.1)
        })
        .collect();
    let n = past.len() as f64;
    // How far mailings differ by more than chance.
    let (w, wy, ww): (f64, f64, f64) =
        past.iter().fold((0.0, 0.0, 0.0), |(w, wy, ww), (d, v)| (w + 1.0 / v, wy + d / v, ww + 1.0 / (v * v)));
    let q: f64 = past.iter().map(|(d, v)| (d - wy / w).powi(2) / v).sum();
    let tau = ((q - (n - 1.0)) / (w - ww / w)).max(0.0);
    let (w, wy): (f64, f64) = past.iter().fold((0.0, 0.0), |(w, wy), (d, v)| (w + 1.0 / (v + tau), wy + d / (v + tau)));
    let mean = wy / w;
    let elsewhere = log_odds(of.elsewhere);
    let centre = mean + elsewhere.0;
    // How it would come out here when nothing is amiss.
    let rate = 1.0 / (1.0 + (-centre).exp());
    let of_chance = 1.0 / ((of.here.trials as f64 + 1.0) * rate * (1.0 - rate));
    let spread = (tau + of_chance + elsewhere.1 + 1.0 / w).sqrt();
    let limit = centre - student_quantile(2.0 * UNDER, n - 1.0) * spread;
    Some(Expected { rate, lower: 1.0 / (1.0 + (-limit).exp()), under: log_odds(of.here).0 < limit })
}

/// What each of a group's mailings, in the order of time, leads to expect of itself by those before it that weren't under their limits.
#[must_use]
pub fn each(mailings: &[Opens]) -> Vec<Option<Expected>> {
    let mut norm: Vec<Opens> = Vec::new();
    mailings
        .iter()
        .map(|m| {
            let said = expected(&norm[norm.len().saturating_sub(NORM_MOST)..], m);
            if tells(m) && said.is_none_or(|s| !s.under) {
                norm.push(*m);
            }
            said
        })
        .collect()
}

/// What each mailing says of a junk folder: two of three under their limits.
#[must_use]
pub fn says(mailings: &[Opens]) -> Vec<Says> {
    let mut last: Vec<bool> = Vec::new();
    each(mailings)
        .into_iter()
        .map(|said| {
            let Some(said) = said else { return Says::Nothing };
            last.push(said.under);
            let lately = last.iter().rev().take(OF).filter(|u| **u).count();
            match (said.under, lately) {
                (true, 2..) => Says::Outside,
                (true, _) => Says::Nothing,
                (false, _) => Says::Within,
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::alert::spans;
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_distr::{Binomial, Distribution, Normal};

    /// Mailings to a group of `people`, with subjects that differ, a group's own taste that wanders, and opens there multiplied by `less` from a
    /// mailing on.
    fn world(seed: u64, people: u64, n: usize, less: Option<(usize, f64)>) -> Vec<Opens> {
        let mut r = chacha20::ChaCha12Rng::seed_from_u64(seed);
        let base: f64 = r.random_range(0.08..0.45);
        let own: f64 = r.random_range(-0.6..0.6);
        (0..n)
            .map(|i| {
                let subject = Normal::new(0.0, 0.3).unwrap().sample(&mut r);
                let differs = Normal::new(0.0, 0.06).unwrap().sample(&mut r);
                let odds = (base / (1.0 - base)).ln() + subject;
                let p = |x: f64| 1.0 / (1.0 + (-x).exp());
                let here = p(odds + own + differs) * less.filter(|(from, _)| i >= *from).map_or(1.0, |(_, by)| by);
                let mut draw = |n: u64, p: f64| Arm { successes: Binomial::new(n, p).unwrap().sample(&mut r), trials: n };
                Opens { here: draw(people, here), elsewhere: draw(12_000, p(odds)) }
            })
            .collect()
    }

    /// Under one false alarm in a hundred group-months of ten mailings, whatever the group's size.
    #[test]
    fn it_seldom_cries_wolf() {
        for people in [60, 400, 4_000] {
            let (groups, mailings) = (1_500u64, 30usize);
            let alarms: usize = (0..groups).map(|g| spans(&says(&world(g * 31 + people, people, mailings + NORM, None))).len()).sum();
            let months = groups as f64 * mailings as f64 / 10.0;
            assert!((alarms as f64) < 0.01 * months, "{alarms} in {months} months of a group of {people}");
        }
    }

    /// Half as many opens are found by the third mailing, nearly always.
    #[test]
    fn a_halving_is_found_within_three_mailings() {
        for people in [400, 4_000] {
            let groups = 400;
            let found = (0..groups)
                .filter(|g| {
                    let from = 20;
                    says(&world(g * 7 + 5, people, from + 3, Some((from, 0.5))))[from..].contains(&Says::Outside)
                })
                .count();
            assert!(found * 100 >= groups as usize * 95, "{found} of {groups} groups of {people}");
        }
    }

    #[test]
    fn few_people_or_a_short_past_say_nothing() {
        let short = world(1, 400, NORM, Some((0, 0.2)));
        assert!(says(&short).iter().all(|s| *s == Says::Nothing));
        let few = world(1, LEAST - 1, 30, Some((20, 0.2)));
        assert!(says(&few).iter().all(|s| *s == Says::Nothing));
    }

    #[test]
    fn a_junk_folder_of_two_weeks_makes_no_norm() {
        let mut all = world(3, 2_000, 20, None);
        all.extend(world(3, 2_000, 40, Some((20, 0.5))).split_off(20));
        let said = says(&all);
        // It is told until the end: what lies under the limits is never taken for the norm.
        assert!(said[22..].iter().all(|s| *s == Says::Outside), "{said:?}");
    }
}
