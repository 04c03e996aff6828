//! The Bayesian reading of arms: how likely each is the best, and what choosing it may cost.

use super::quadrature::{NODES, rule};
use super::special::{digamma, log_rates, trigamma};
use super::{Arm, StatsError};
use serde::{Deserialize, Serialize};

/// A beta prior, the same for every arm.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct Prior {
    pub alpha: f64,
    pub beta: f64,
}

/// What the posteriors say of each arm.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = ChanceToBeBest)]
pub struct Best {
    /// That its rate is the largest.
    pub prob_best: Vec<f64>,
    /// How much less its rate is than the largest, on average.
    pub expected_loss: Vec<f64>,
}

/// Where panels end, in standard deviations of an arm's log odds. Posteriors near 0 or 1 have long tails.
const ENDS: [f64; 23] =
    [-40.0, -25.0, -16.0, -11.0, -8.0, -6.0, -4.5, -3.5, -2.5, -1.7, -0.8, 0.0, 0.8, 1.7, 2.5, 3.5, 4.5, 6.0, 8.0, 11.0, 16.0, 25.0, 40.0];

/// How far a panel from `y` may reach, so that the log density of an arm with this posterior moves by no more than a few units in it. With a small
/// prior and nobody who responded, a posterior falls off slowly on one side and at once on the other, and its standard deviation, which is that
/// of the slow side, is far too wide for the other. Where there is nothing of the arm any width will do.
fn local_reach(y: f64, (a, b): (f64, f64)) -> f64 {
    let ln = |y: f64| {
        let (lp, lq) = log_rates(y);
        a * lp + b * lq
    };
    let peak = ln((a / b).ln());
    let moves = |y: f64| {
        let (lp, lq) = log_rates(y);
        (a * lq.exp() - b * lp.exp()).abs() + ((a + b) * (lp + lq).exp()).sqrt()
    };
    let nothing = |y: f64| ln(y) < peak - 90.0;
    let mut width = 1e6;
    // A panel that begins before the arm does may not reach past where it begins.
    while width > 1e-9
        && !(nothing(y) && nothing(y + width) && (y > (a / b).ln() || y + width < (a / b).ln()))
        && width * moves(y + width).max(moves(y)) > 4.0
    {
        width *= 0.75;
    }
    width
}

/// Where panels end, so that none is wider than any arm (mean and standard deviation of its log odds, and its posterior) bears there.
fn panels_for(arms: &[(f64, f64)], shapes: &[(f64, f64)]) -> Vec<f64> {
    // How far a panel that begins at `y` may reach for an arm: as far as its own would, no further into narrower ones.
    let reach = |y: f64, (mean, sd): (f64, f64)| {
        let x = (y - mean) / sd;
        let Some(next) = ENDS.iter().position(|e| *e > x + 1e-9) else { return f64::INFINITY };
        if next == 0 {
            return (ENDS[0] - x) * sd;
        }
        let own = ENDS[next] - ENDS[next - 1];
        let beyond = ENDS.get(next + 1).map_or(own, |e| e - ENDS[next]);
        own.min((ENDS[next] - x).max(beyond)) * sd
    };
    let last = arms.iter().map(|(mean, sd)| mean + ENDS[ENDS.len() - 1] * sd).fold(f64::NEG_INFINITY, f64::max);
    let mut ends = vec![arms.iter().map(|(mean, sd)| mean + ENDS[0] * sd).fold(f64::INFINITY, f64::min)];
    while let Some(y) = ends.last().copied().filter(|y| *y < last) {
        let spread = arms.iter().map(|a| reach(y, *a)).fold(f64::INFINITY, f64::min);
        ends.push((y + shapes.iter().map(|s| local_reach(y, *s)).fold(spread, f64::min)).min(last));
    }
    ends
}

/// Independent posteriors `Beta(alpha + x, beta + n - x)`, integrated on the log-odds scale on panels about every one of
/// them: `P(best) = int f_i prod F_j`, `loss = int F_i (1 - prod F_j) dp`.
///
/// # Errors
/// No arm, a prior that isn't positive, or more successes than trials.
#[allow(clippy::cast_precision_loss)]
pub fn beta_binomial(arms: &[Arm], prior: Prior) -> Result<Best, StatsError> {
    for (name, value) in [("alpha", prior.alpha), ("beta", prior.beta)] {
        if !(value > 0.0 && value.is_finite()) {
            return Err(StatsError::NotPositive { name, value });
        }
    }
    if arms.is_empty() {
        return Err(StatsError::Arguments("there is no arm to be the best".into()));
    }
    if let Some(a) = arms.iter().find(|a| a.successes > a.trials) {
        return Err(StatsError::Arm { successes: a.successes, trials: a.trials });
    }
    if arms.len() == 1 {
        return Ok(Best { prob_best: vec![1.0], expected_loss: vec![0.0] });
    }
    let shapes: Vec<(f64, f64)> =
        arms.iter().map(|a| (prior.alpha + a.successes as f64, prior.beta + (a.trials - a.successes) as f64)).collect();
    let spreads: Vec<(f64, f64)> = shapes.iter().map(|(a, b)| (digamma(*a) - digamma(*b), (trigamma(*a) + trigamma(*b)).sqrt())).collect();
    let ends = panels_for(&spreads, &shapes);
    let k = shapes.len();
    let constants: Vec<f64> = shapes.iter().map(|(a, b)| libm::lgamma(a + b) - libm::lgamma(*a) - libm::lgamma(*b)).collect();
    let r = rule();
    let panels = ends.len() - 1;
    // Densities of log odds and d p/d log odds at every node; the integral of each density over every panel.
    let mut density = vec![0.0; k * panels * NODES];
    let mut slope = vec![0.0; panels * NODES];
    let mut mass = vec![0.0; k * panels];
    for p in 0..panels {
        let (middle, half) = ((ends[p] + ends[p + 1]) / 2.0, (ends[p + 1] - ends[p]) / 2.0);
        for i in 0..NODES {
            let y = middle + half * r.nodes[i];
            let (lp, lq) = log_rates(y);
            slope[p * NODES + i] = (lp + lq).exp();
            for (j, (a, b)) in shapes.iter().enumerate() {
                let d = (constants[j] + a * lp + b * lq).exp();
                density[(j * panels + p) * NODES + i] = d;
                mass[j * panels + p] += half * r.weights[i] * d;
            }
        }
    }
    // What lies below each panel, and above it, summed from its own end so that small tails keep their digits.
    let (mut below, mut above) = (vec![0.0; k * panels], vec![0.0; k * panels]);
    let mut whole = vec![0.0; k];
    for j in 0..k {
        for p in 1..panels {
            below[j * panels + p] = below[j * panels + p - 1] + mass[j * panels + p - 1];
        }
        for p in (0..panels - 1).rev() {
            above[j * panels + p] = above[j * panels + p + 1] + mass[j * panels + p + 1];
        }
        whole[j] = below[(j + 1) * panels - 1] + mass[(j + 1) * panels - 1];
    }
    let (mut best, mut loss) = (vec![0.0; k], vec![0.0; k]);
    let (mut lower, mut upper, mut logs) = (vec![0.0; k], vec![0.0; k], vec![0.0; k]);
    // Outermost panels, where every arm has next to nothing on that side, have nothing to add: what both integrals take from
    // there falls off faster than any one arm's share.
    let negligible = |p: usize, beyond: &[f64]| (0..k).all(|j| beyond[j * panels + p] + mass[j * panels + p] < 1e-25 * whole[j]);
    let first = (0..panels).find(|p| !negligible(*p, &below)).unwrap_or(0);
    let last = (first..panels).rev().find(|p| !negligible(*p, &above)).unwrap_or(panels - 1);
    for p in first..=last {
        let half = (ends[p + 1] - ends[p]) / 2.0;
        for i in 0..NODES {
            for j in 0..k {
                let at = (j * panels + p) * NODES;
                let inside: f64 = half * (0..NODES).map(|n| r.upto[i][n] * density[at + n]).sum::<f64>();
                // A density this large loses a little to rounding of log gammas: what is kept is the share of the whole.
                lower[j] = ((below[j * panels + p] + inside).max(0.0) / whole[j]).min(1.0);
                upper[j] = ((above[j * panels + p] + (mass[j * panels + p] - inside)).max(0.0) / whole[j]).min(1.0);
            }
            let w = half * r.weights[i];
            for o in 0..k {
                logs[o] = if upper[o] < 0.5 { (-upper[o]).ln_1p() } else { lower[o].ln() };
            }
            for j in 0..k {
                let others: f64 = (0..k).filter(|o| *o != j).map(|o| logs[o]).sum();
                // The product and its distance from 1, each with all its digits.
                let (product, less) = if others > -0.5 {
                    let less = others.exp_m1();
                    (1.0 + less, less)
                } else {
                    let product = others.exp();
                    (product, product - 1.0)
                };
                best[j] += w * density[(j * panels + p) * NODES + i] / whole[j] * product;
                loss[j] += w * slope[p * NODES + i] * lower[j] * -less;
            }
        }
    }
    // The panels end where nothing of any arm lies beyond; what rounding leaves is shared out.
    let sum: f64 = best.iter().sum();
    Ok(Best { prob_best: best.iter().map(|b| b / sum).collect(), expected_loss: loss })
}
