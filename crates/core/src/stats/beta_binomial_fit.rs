//! How much rates differ between units: the beta-binomial by maximum likelihood.
//!
//! Unit i has x of n successes with a rate of its own, drawn from Beta(alpha, beta). Maximises
//! `sum w [ln B(x + alpha, n - x + beta) - ln B(alpha, beta)]` (Griffiths 1973, Biometrics 29:637-648).
//! Without overdispersion the likelihood only grows as alpha + beta goes to infinity; that is told by the
//! sign of its slope there (Tarone 1979, Biometrika 66:585-590), and answered with `None`.

use super::special::{digamma, trigamma};

/// Units that share a pair of counts, and how many they are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Group {
    pub successes: f64,
    pub trials: f64,
    pub units: f64,
}

/// The distribution that rates are drawn from.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Prior {
    pub alpha: f64,
    pub beta: f64,
}

impl Prior {
    /// The mean of a rate after `successes` of `trials`.
    #[must_use]
    pub fn shrunk(self, successes: f64, trials: f64) -> f64 {
        (successes + self.alpha) / (trials + self.alpha + self.beta)
    }

    /// The log-likelihood of counts, without the binomial coefficients, which are the same for every prior.
    #[must_use]
    pub fn log_likelihood(self, groups: &[Group]) -> f64 {
        groups.iter().map(|g| g.units * self.of_one(g)).sum()
    }

    fn of_one(self, g: &Group) -> f64 {
        log_beta(g.successes + self.alpha, g.trials - g.successes + self.beta) - log_beta(self.alpha, self.beta)
    }
}

fn log_beta(a: f64, b: f64) -> f64 {
    libm::lgamma(a) + libm::lgamma(b) - libm::lgamma(a + b)
}

/// The fit; `None` when units don't differ by more than chance, or nobody did it, or everybody.
///
/// Newton on the logarithms of alpha and beta, so that both stay positive; damped where the curve is not bent
/// the right way yet.
#[must_use]
pub fn fit(groups: &[Group]) -> Option<Prior> {
    let sum = |f: &dyn Fn(&Group) -> f64| groups.iter().map(|g| g.units * f(g)).sum::<f64>();
    let (x, n) = (sum(&|g| g.successes), sum(&|g| g.trials));
    let p = x / n;
    if !(p > 0.0 && p < 1.0) {
        return None;
    }
    let over = sum(&|g| {
        let (x, n) = (g.successes, g.trials);
        x * (x - 1.0) / (2.0 * p) + (n - x) * (n - x - 1.0) / (2.0 * (1.0 - p)) - n * (n - 1.0) / 2.0
    });
    if over <= 0.0 {
        return None;
    }
    // From the variance between units beyond the binomial's, kept within reason.
    let pairs = sum(&|g| g.trials * (g.trials - 1.0)).max(1.0);
    let rho = (2.0 * over * p * (1.0 - p) / pairs / (p * (1.0 - p))).clamp(1e-6, 0.9);
    let size = (1.0 / rho - 1.0).clamp(1e-2, 1e7);
    let mut at = [(p * size).ln(), ((1.0 - p) * size).ln()];
    let prior = |at: [f64; 2]| Prior { alpha: at[0].exp(), beta: at[1].exp() };
    let mut best = prior(at).log_likelihood(groups);
    for _ in 0..200 {
        let Prior { alpha: a, beta: b } = prior(at);
        let (mut slope, mut bend) = ([0.0; 2], [0.0; 3]);
        for g in groups.iter().filter(|g| g.trials > 0.0) {
            let (x, n, w) = (g.successes, g.trials, g.units);
            let whole = digamma(n + a + b) - digamma(a + b);
            slope[0] += w * (digamma(x + a) - digamma(a) - whole);
            slope[1] += w * (digamma(n - x + b) - digamma(b) - whole);
            let whole = trigamma(n + a + b) - trigamma(a + b);
            bend[0] += w * (trigamma(x + a) - trigamma(a) - whole);
            bend[1] += w * (trigamma(n - x + b) - trigamma(b) - whole);
            bend[2] -= w * whole;
        }
        // By the logarithms: d/d ln a = a d/da.
        let g = [a * slope[0], b * slope[1]];
        let h = [a * a * bend[0] + g[0], b * b * bend[1] + g[1], a * b * bend[2]];
        // Where the curve isn't bent downwards in every direction, it is bent so by so much (Levenberg).
        let middle = f64::midpoint(h[0], h[1]);
        let highest = middle + ((h[0] - h[1]) / 2.0).hypot(h[2]);
        let newton = highest < 0.0;
        let damp = if newton { 0.0 } else { highest + 1e-3 * (h[0].abs() + h[1].abs()).max(1e-12) };
        let h = [h[0] - damp, h[1] - damp, h[2]];
        let det = h[0] * h[1] - h[2] * h[2];
        let mut step = [(h[2] * g[1] - h[1] * g[0]) / det, (h[2] * g[0] - h[0] * g[1]) / det];
        let longest = step[0].abs().max(step[1].abs());
        if longest > 2.0 {
            step = [step[0] * 2.0 / longest, step[1] * 2.0 / longest];
        }
        let mut moved = false;
        for _ in 0..40 {
            let to = [at[0] + step[0], at[1] + step[1]];
            let there = prior(to).log_likelihood(groups);
            if there >= best {
                moved = to != at;
                (at, best) = (to, there);
                break;
            }
            step = [step[0] / 2.0, step[1] / 2.0];
        }
        if at[0] > 40.0 || at[1] > 40.0 {
            return None;
        }
        if !moved || (newton && longest < 1e-10) {
            break;
        }
    }
    Some(prior(at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::id::ContactId;
    use crate::segment::share;
    use proptest::prelude::*;

    proptest! {
        /// No prior nearby fits better, and the shrunk rates lie between the person's own and everybody's.
        #[test]
        fn the_fit_is_a_maximum(counts in prop::collection::vec((0u32..30, 0u32..30), 3..40)) {
            let groups: Vec<Group> = counts.iter().map(|(x, rest)| Group { successes: f64::from(*x), trials: f64::from(x + rest), units: 1.0 }).collect();
            if let Some(p) = fit(&groups) {
                let best = p.log_likelihood(&groups);
                for (a, b) in [(1.01, 1.0), (0.99, 1.0), (1.0, 1.01), (1.0, 0.99), (1.01, 1.01), (0.99, 0.99)] {
                    let other = Prior { alpha: p.alpha * a, beta: p.beta * b }.log_likelihood(&groups);
                    prop_assert!(other <= best + 1e-7 * best.abs().max(1.0), "{p:?}: {best} {other}");
                }
                let mean = p.alpha / (p.alpha + p.beta);
                for g in groups.iter().filter(|g| g.trials > 0.0) {
                    let (own, shrunk) = (g.successes / g.trials, p.shrunk(g.successes, g.trials));
                    prop_assert!(shrunk >= own.min(mean) - 1e-12 && shrunk <= own.max(mean) + 1e-12);
                }
            }
        }
    }

    /// From a known prior it comes back; from one common rate it says that there is none.
    #[test]
    fn finds_what_the_counts_were_drawn_from() {
        let mut drawn = 0;
        let mut uniform = || {
            drawn += 1;
            share::draw("rates", ContactId(drawn))
        };
        let mut draw = |uniforms: usize| -> Vec<Group> {
            (0..4_000)
                .map(|_| {
                    // The second smallest of seven uniform numbers is Beta(2, 6).
                    let mut u: Vec<f64> = (0..uniforms).map(|_| uniform()).collect();
                    u.sort_by(f64::total_cmp);
                    let rate = u.get(1).copied().unwrap_or(0.2);
                    let x = (0..25).filter(|_| uniform() < rate).count();
                    Group { successes: x as f64, trials: 25.0, units: 1.0 }
                })
                .collect()
        };
        let found = fit(&draw(7)).unwrap();
        // Their standard errors at 4,000 people are about 0.06 and 0.2: four of them.
        assert!((found.alpha - 2.0).abs() < 0.24 && (found.beta - 6.0).abs() < 0.8, "{found:?}");
        let common = fit(&draw(0));
        assert!(common.is_none_or(|p| p.alpha + p.beta > 500.0), "{common:?}");
        assert_eq!(fit(&[Group { successes: 0.0, trials: 9.0, units: 5.0 }]), None);
    }
}
