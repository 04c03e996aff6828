//! How often an arm that truly is better than others is shown to be better than each of them.
//!
//! The comparisons share the better arm, so they succeed together more often than they would apart: given its result, those of the others are
//! independent, and the joint chance is one integral over it (as Hsu 1996, Multiple Comparisons, section 4.1, has it for the best of several).

use super::quadrature::{NODES, rule};
use super::special::normal_cdf;

/// An arm as it truly is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Truth {
    pub people: f64,
    pub mean: f64,
    /// How far people lie apart.
    pub sd: f64,
}

impl Truth {
    /// A share of people.
    #[must_use]
    pub fn share(people: f64, p: f64) -> Self {
        let p = p.clamp(0.0, 1.0);
        Self { people, mean: p, sd: (p * (1.0 - p)).sqrt() }
    }

    fn error(self) -> f64 {
        self.sd / self.people.sqrt()
    }
}

/// The standard error that a test of two arms goes by: pooled for shares, each arm's own for means.
fn tested_error(a: Truth, b: Truth, shares: bool) -> f64 {
    if shares {
        let p = (a.people * a.mean + b.people * b.mean) / (a.people + b.people);
        return (p * (1.0 - p) * (1.0 / a.people + 1.0 / b.people)).max(0.0).sqrt();
    }
    a.error().hypot(b.error())
}

/// The chance that `best` is shown to lie on the side of `sign` (1 above, -1 below) of each of the others, each at the bound `z`.
#[must_use]
pub fn beats_all(best: Truth, others: &[Truth], z: f64, sign: f64, shares: bool) -> f64 {
    // How far its result has to be ahead of each other's truth, and by how much that one strays.
    let each: Vec<(f64, f64)> =
        others.iter().map(|o| (sign * (best.mean - o.mean) - z * tested_error(best, *o, shares), o.error())).collect();
    if let [(ahead, error)] = each[..] {
        return normal_cdf(ahead / error.hypot(best.error()).max(1e-300));
    }
    let r = rule();
    let (mut sum, half) = (0.0, 0.5);
    for panel in 0..16 {
        let middle = f64::from(panel) - 7.5;
        for i in 0..NODES {
            let u = middle + half * r.nodes[i];
            let density = (-u * u / 2.0).exp() / (2.0 * std::f64::consts::PI).sqrt();
            let all: f64 = each.iter().map(|(ahead, error)| normal_cdf((ahead + best.error() * u) / error.max(1e-300))).product();
            sum += half * r.weights[i] * density * all;
        }
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::sample_size::power_two_proportions;
    use crate::stats::special::normal_upper_quantile;

    #[test]
    fn one_other_is_the_formula_and_others_far_behind_change_nothing() {
        let (a, b, z) = (Truth::share(4_000.0, 0.2), Truth::share(3_000.0, 0.225), normal_upper_quantile(0.025));
        let one = beats_all(b, &[a], z, 1.0, true);
        assert!((one - power_two_proportions(0.2, 0.025, 4_000.0, 3_000.0, 0.05, 2).unwrap()).abs() < 0.002, "{one}");
        let far = Truth::share(4_000.0, 0.05);
        assert!((beats_all(b, &[a, far], z, 1.0, true) - one).abs() < 1e-9);
        // Two alike are both beaten more often than by independent draws, and less often than one.
        let two = beats_all(b, &[a, a], z, 1.0, true);
        assert!(two > one * one + 0.01 && two < one, "{two} {one}");
        // Of harm, fewer is better.
        assert!((beats_all(a, &[b], z, -1.0, true) - one).abs() < 1e-12);
    }
}
