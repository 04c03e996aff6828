//! Bounds for looks before the end (Lan and DeMets 1983, Biometrika 70:659-663), two-sided and symmetric.

use super::quadrature::{NODES, rule};
use super::special::{normal_sf, normal_upper_quantile};
use super::{StatsError, open_unit};
use serde::{Deserialize, Serialize};

/// How much of alpha may be spent by when.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Spending {
    /// Little early: `2(1 - Phi(z_{1-alpha/4}/sqrt t))` a side.
    ObrienFleming,
    /// Evenly: `(alpha/2) ln(1 + (e-1) t)` a side.
    Pocock,
}

/// The bounds of each look.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Bounds {
    pub z_bounds: Vec<f64>,
    pub cumulative_alpha: Vec<f64>,
}

/// What one side has spent by `t`.
fn spent(spending: Spending, alpha: f64, t: f64) -> f64 {
    match spending {
        Spending::ObrienFleming => 2.0 * normal_sf(normal_upper_quantile(alpha / 4.0) / t.sqrt()),
        Spending::Pocock => alpha / 2.0 * ((std::f64::consts::E - 1.0) * t).ln_1p(),
    }
}

/// What is left of alpha so early that it is no number any more.
const NOTHING: f64 = 1e-290;

/// `ln P(Z > x)` far out, by its asymptotic series.
fn ln_far_tail(x: f64) -> f64 {
    let s = 1.0 / (x * x);
    -x * x / 2.0 - x.ln() - (2.0 * std::f64::consts::PI).ln() / 2.0 + (-s * (1.0 - s * (3.0 - s * 15.0))).ln_1p()
}

/// The bound of O'Brien and Fleming's function where it spends next to nothing: what earlier looks took from it is far less still, so it is the
/// quantile of what is spent, by Newton's method on the logarithm.
fn far_bound(alpha: f64, t: f64) -> f64 {
    let x = normal_upper_quantile(alpha / 4.0) / t.sqrt();
    let ln_spent = 2.0_f64.ln() + ln_far_tail(x);
    let mut b = x - 2.0_f64.ln() / x;
    for _ in 0..5 {
        b += (ln_far_tail(b) - ln_spent) / (b + 1.0 / b);
    }
    b
}

/// The density of the score (`z sqrt t`) over those who haven't crossed a bound yet, on nodes with their weights.
struct Kept {
    nodes: Vec<f64>,
    /// Weight times density.
    mass: Vec<f64>,
}

/// Nodes over (-reach, reach), panels no wider than `step`.
fn grid(reach: f64, step: f64) -> (Vec<f64>, Vec<f64>) {
    let r = rule();
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    let panels = ((2.0 * reach / step).ceil() as usize).clamp(1, 4000);
    #[allow(clippy::cast_precision_loss)]
    let half = reach / panels as f64;
    let (mut nodes, mut weights) = (Vec::with_capacity(panels * NODES), Vec::with_capacity(panels * NODES));
    for p in 0..panels {
        #[allow(clippy::cast_precision_loss)]
        let middle = -reach + half * (2 * p + 1) as f64;
        for i in 0..NODES {
            nodes.push(middle + half * r.nodes[i]);
            weights.push(half * r.weights[i]);
        }
    }
    (nodes, weights)
}

impl Kept {
    /// The chance to be kept so far and to have a score of at least `s` at a look that is `dt` later.
    fn tail(&self, s: f64, dt: f64) -> f64 {
        let sd = dt.sqrt();
        self.nodes.iter().zip(&self.mass).map(|(x, m)| m * normal_sf((s - x) / sd)).sum()
    }

    fn density(&self, s: f64, dt: f64) -> f64 {
        let norm = (2.0 * std::f64::consts::PI * dt).sqrt();
        self.nodes.iter().zip(&self.mass).map(|(x, m)| m * (-(s - x) * (s - x) / (2.0 * dt)).exp()).sum::<f64>() / norm
    }

    /// The bounds are symmetric, so the density is: half of it is worked out.
    fn next(&self, reach: f64, dt: f64, step: f64) -> Self {
        let (nodes, weights) = grid(reach, step);
        let half = nodes.len().div_ceil(2);
        let mut mass: Vec<f64> = nodes.iter().zip(&weights).take(half).map(|(s, w)| w * self.density(*s, dt)).collect();
        mass.extend_from_within(..nodes.len() - half);
        mass[half..].reverse();
        Self { nodes, mass }
    }
}

/// The bounds at these information fractions; what lies within (-bound, bound) goes on. They aren't capped: a very early
/// look has a bound that nothing crosses.
///
/// # Errors
/// Fractions that don't rise from above 0 to 1 at most, or sides other than 2.
pub fn spending_bounds(alpha: f64, sides: u32, fractions: &[f64], spending: Spending) -> Result<Bounds, StatsError> {
    let alpha = open_unit("alpha", alpha)?;
    if sides != 2 {
        return Err(StatsError::Arguments(format!("sides is {sides}: these bounds are two-sided")));
    }
    let rises = fractions.windows(2).all(|w| w[0] < w[1]);
    let within = |t: &f64| *t > 0.0 && *t <= 1.0;
    if fractions.is_empty() || !rises || !fractions.iter().all(within) {
        return Err(StatsError::Arguments("give the looks as fractions of information, rising from above 0 to 1 at most".into()));
    }
    let f: Vec<f64> = fractions.iter().map(|t| spent(spending, alpha, *t)).collect();
    let far = |k: usize| f[k] < NOTHING && spending == Spending::ObrienFleming;
    let mut z_bounds = vec![if far(0) { far_bound(alpha, fractions[0]) } else { normal_upper_quantile(f[0]) }];
    let mut kept: Option<Kept> = None;
    for k in 1..fractions.len() {
        let (before, t) = (fractions[k - 1], fractions[k]);
        let dt = t - before;
        // Fine enough for the density there is and for the step to come.
        let last_step = if k == 1 { before.sqrt() } else { (before - fractions[k - 2]).sqrt() };
        let step = 2.4 * last_step.min(dt.sqrt());
        let reach = z_bounds[k - 1] * before.sqrt();
        let now = match &kept {
            None => {
                let (nodes, weights) = grid(reach, step);
                let norm = (2.0 * std::f64::consts::PI * before).sqrt();
                let mass = nodes.iter().zip(&weights).map(|(s, w)| w * (-s * s / (2.0 * before)).exp() / norm).collect();
                Kept { nodes, mass }
            }
            Some(kept) => kept.next(reach, before - fractions[k - 2], step),
        };
        z_bounds.push(if far(k) { far_bound(alpha, t) } else { bound(&now, f[k] - f[k - 1], dt, t) });
        kept = Some(now);
    }
    Ok(Bounds { z_bounds, cumulative_alpha: f.iter().map(|f| 2.0 * f).collect() })
}

/// The bound whose tail is `spend`, by Newton's method on the logarithm, kept between what is known to be too low and too
/// high.
fn bound(kept: &Kept, spend: f64, dt: f64, t: f64) -> f64 {
    let root = t.sqrt();
    let (mut low, mut high) = (0.0, 60.0 * root);
    // A single look would need at least this; earlier ones have taken some of it away.
    let mut s = normal_upper_quantile(spend.max(1e-300)).max(0.1) * root;
    for _ in 0..100 {
        let tail = kept.tail(s, dt);
        if tail > spend {
            low = s
        } else {
            high = s
        }
        let step = if tail > 0.0 { (tail / spend).ln() * tail / kept.density(s, dt).max(1e-300) } else { f64::NAN };
        let newton = s + step;
        let within = newton > low && newton < high;
        let next = if within { newton } else { (low + high) / 2.0 };
        // A step of Newton's leaves about the square of its length: after one this short nothing is left to gain.
        if (next - s).abs() < if within { 1e-7 } else { 1e-12 } * s {
            return next / root;
        }
        s = next;
    }
    s / root
}
