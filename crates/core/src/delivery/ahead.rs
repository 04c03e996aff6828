//! What hosts would make of a mailing that hasn't gone: the share that is let in, from what the same groups did with the mailings before.

use crate::stats::Arm;
use crate::stats::welch::student_quantile;
use serde::Serialize;
use utoipa::ToSchema;

/// So many mailings before it make a forecast.
const LEAST: usize = 5;
/// The share that a forecast's limits leave out.
const OUTSIDE: f64 = 0.05;

/// The share of a mailing that is let in, as a forecast.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = ExpectedAccepted)]
pub struct Expected {
    pub share: f64,
    /// 19 of 20 mailings like those before lie between these.
    pub lower: f64,
    pub upper: f64,
    /// Of so many mailings.
    pub mailings: usize,
}

/// A group with the people who would get the mailing, and what it did with each of the mailings before: accepted of sent.
#[derive(Debug, Clone)]
pub struct Group {
    pub people: u64,
    pub before: Vec<Arm>,
}

#[allow(clippy::cast_precision_loss)]
fn share(a: Arm) -> f64 {
    a.successes as f64 / a.trials.max(1) as f64
}

/// The forecast: each mailing before is weighed again by where this one goes, and the next one is predicted from those (a mailing is the unit: what
/// keeps one out keeps many). None of too few mailings. All groups have as many mailings, in the same order.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn expected(groups: &[Group]) -> Option<Expected> {
    let mailings = groups.iter().map(|g| g.before.len()).max()?;
    let usual: Vec<Option<f64>> = groups
        .iter()
        .map(|g| {
            let all: Arm = g.before.iter().copied().sum();
            (all.trials > 0).then(|| share(all))
        })
        .collect();
    let mut each = Vec::new();
    for m in 0..mailings {
        let (mut people, mut let_in, mut sent) = (0.0, 0.0, 0);
        for (g, usual) in groups.iter().zip(&usual) {
            let Some(usual) = usual else { continue };
            let of = g.before.get(m).copied().unwrap_or_default();
            // A group that a mailing didn't go to would have done as it usually does.
            people += g.people as f64;
            let_in += g.people as f64 * if of.trials > 0 { share(of) } else { *usual };
            sent += of.trials;
        }
        if people > 0.0 && sent > 0 {
            each.push(let_in / people);
        }
    }
    if each.len() < LEAST {
        return None;
    }
    let n = each.len() as f64;
    let mean = each.iter().sum::<f64>() / n;
    let variance = each.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / (n - 1.0);
    let half = student_quantile(OUTSIDE, n - 1.0) * (variance * (1.0 + 1.0 / n)).sqrt();
    Some(Expected { share: mean, lower: (mean - half).max(0.0), upper: (mean + half).min(1.0), mailings: each.len() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_distr::{Beta, Binomial, Distribution};

    fn arm(successes: u64, trials: u64) -> Arm {
        Arm { successes, trials }
    }

    #[test]
    fn it_is_weighed_by_where_the_mailing_goes() {
        let open = Group { people: 900, before: vec![arm(990, 1_000); 6] };
        let strict = Group { people: 100, before: vec![arm(50, 100); 6] };
        let said = expected(&[open.clone(), strict.clone()]).unwrap();
        assert!((said.share - (0.9 * 0.99 + 0.1 * 0.5)).abs() < 1e-12);
        assert_eq!((said.lower, said.upper, said.mailings), (said.share, said.share, 6));
        // Only where nobody is known nothing is said.
        let unknown = Group { people: 500, before: vec![arm(0, 0); 6] };
        assert_eq!(expected(&[open, strict, unknown.clone()]).map(|e| e.share), Some(said.share));
        assert_eq!(expected(&[unknown]), None);
        assert_eq!(expected(&[]), None);
    }

    /// The next mailing lies within the limits as often as they say, though mailings differ more than chance among people makes them.
    #[test]
    fn the_next_mailing_lies_within() {
        let mut r = chacha20::ChaCha12Rng::seed_from_u64(3);
        let runs = 2_000;
        let within = (0..runs)
            .filter(|_| {
                let rate = Beta::new(190.0, 6.0).unwrap();
                let mut draw = |n: u64| {
                    let p = rate.sample(&mut r);
                    arm(Binomial::new(n, p).unwrap().sample(&mut r), n)
                };
                let before: Vec<Arm> = (0..15).map(|_| draw(4_000)).collect();
                let next = share(draw(4_000));
                let said = expected(&[Group { people: 4_000, before }]).unwrap();
                (said.lower..=said.upper).contains(&next)
            })
            .count();
        assert!((1_840..=1_960).contains(&within), "{within} of {runs}");
    }
}
