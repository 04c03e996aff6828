//! Gauss-Legendre quadrature on panels, with the integral up to each node.

use std::sync::OnceLock;

/// Nodes of a panel.
pub(super) const NODES: usize = 12;

/// The rule on -1 to 1: nodes, weights, and `upto[i][j]`, the weight of node j in the integral from -1 to node i.
pub(super) struct Rule {
    pub(super) nodes: [f64; NODES],
    pub(super) weights: [f64; NODES],
    pub(super) upto: [[f64; NODES]; NODES],
}

/// Legendre's polynomial of degree n and the one before, at x.
fn legendre(n: usize, x: f64) -> (f64, f64) {
    let (mut before, mut p) = (1.0, x);
    for k in 2..=n {
        #[allow(clippy::cast_precision_loss)]
        let k = k as f64;
        (before, p) = (p, ((2.0 * k - 1.0) * x * p - (k - 1.0) * before) / k);
    }
    (p, before)
}

/// The rule, worked out once: the roots by Newton's method from Tricomi's starting points.
#[allow(clippy::cast_precision_loss)]
pub(super) fn rule() -> &'static Rule {
    static RULE: OnceLock<Rule> = OnceLock::new();
    RULE.get_or_init(|| {
        let n = NODES as f64;
        let (mut nodes, mut weights) = ([0.0; NODES], [0.0; NODES]);
        for i in 0..NODES {
            let mut x = -(std::f64::consts::PI * (i as f64 + 0.75) / (n + 0.5)).cos();
            for _ in 0..50 {
                let (p, before) = legendre(NODES, x);
                let slope = n * (x * p - before) / (x * x - 1.0);
                let step = p / slope;
                x -= step;
                if step.abs() < 1e-16 {
                    break;
                }
            }
            let (p, before) = legendre(NODES, x);
            let slope = n * (x * p - before) / (x * x - 1.0);
            nodes[i] = x;
            weights[i] = 2.0 / ((1.0 - x * x) * slope * slope);
        }
        // The integral of the interpolating polynomial: w_j sum_k (2k+1)/2 P_k(x_j) int_-1^x P_k, and the inner integral is
        // (P_{k+1}(x) - P_{k-1}(x))/(2k+1).
        let mut upto = [[0.0; NODES]; NODES];
        for (i, row) in upto.iter_mut().enumerate() {
            for (j, cell) in row.iter_mut().enumerate() {
                let mut sum = 0.5 * (nodes[i] + 1.0);
                for k in 1..NODES {
                    let (next, _) = legendre(k + 1, nodes[i]);
                    let (at, _) = legendre(k, nodes[j]);
                    let (_, before) = legendre(k, nodes[i]);
                    sum += 0.5 * at * (next - before);
                }
                *cell = weights[j] * sum;
            }
        }
        Rule { nodes, weights, upto }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_integrates_what_is_known() {
        let r = rule();
        let whole: f64 = (0..NODES).map(|i| r.weights[i] * r.nodes[i].exp()).sum();
        assert!((whole - 2.0 * 1.0_f64.sinh()).abs() < 1e-14);
        for i in 0..NODES {
            let part: f64 = (0..NODES).map(|j| r.upto[i][j] * r.nodes[j].exp()).sum();
            assert!((part - (r.nodes[i].exp() - (-1.0_f64).exp())).abs() < 1e-13, "up to node {i}");
        }
    }
}
