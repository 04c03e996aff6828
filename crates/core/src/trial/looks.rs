//! Looks before the end. They can stop an arm for harm, and call nothing: a variant can't be called early, because
//! a faster response looks like a larger one.
//!
//! At each look every arm is held against its comparators on leaving and on complaints: is its rate above theirs by
//! more than the margin? The bound is that of a spending function (O'Brien and Fleming's, Lan & DeMets 1983) at the
//! information of the look, which comes from a forecast that was sealed: the share of the window's responses that
//! past mailings had by then.

use super::decide::{arm, harms, pairs};
use super::outlook::USUAL_LEAVING;
use super::plan::Plan;
use super::reading::ArmCounts;
use crate::HOUR;
use crate::stats::StatsError;
use crate::stats::noninferiority::{BadWhen, noninferiority};
use crate::stats::planning::odds_information;
use crate::stats::spending::{Spending, spending_bounds};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A look as it was sealed: so long after the last person's handover, at this bound.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = TrialLook)]
pub struct Look {
    /// Milliseconds after the last handover of the pilot.
    pub at: i64,
    pub information: f64,
    pub z_bound: f64,
}

/// Something a look found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Stopped {
    pub arm: usize,
    pub against: usize,
    /// leaving, complaints
    pub harm: String,
    pub z: f64,
    pub z_bound: f64,
    /// Milliseconds since 1970.
    pub at: i64,
}

/// When people left after past mailings, for forecasting when they will.
#[derive(Debug, Clone, Default)]
pub struct Leaving {
    /// Milliseconds after their handover, rising.
    pub after: Vec<i64>,
    /// All who got those mailings.
    pub people: u64,
}

/// With fewer who left, what is usual is assumed.
const LEAVES_TO_FORECAST: usize = 20;

impl Leaving {
    /// The share of people who have left by a time after their handover.
    #[must_use]
    #[allow(clippy::cast_precision_loss)]
    pub fn by(&self, at: i64) -> f64 {
        if self.after.len() < LEAVES_TO_FORECAST {
            // A new base: most who leave do so within a day or two.
            return USUAL_LEAVING * (1.0 - (-(at as f64) / (12.0 * HOUR as f64)).exp());
        }
        self.after.partition_point(|l| *l <= at) as f64 / self.people.max(1) as f64
    }
}

/// The looks of a plan. `by` gives the share of the people who had left by a time after their handover in past
/// mailings (see [`Leaving::by`]), in milliseconds; the last look is the reading, at all information.
///
/// # Errors
/// When the shares don't rise.
pub fn plan_looks(plan: &Plan, by: impl Fn(i64) -> f64) -> Result<Vec<Look>, StatsError> {
    let (n, window) = (i64::from(plan.harm_looks), plan.window_hours * HOUR);
    if n == 0 {
        return Ok(Vec::new());
    }
    let last = by(window).clamp(1e-6, 0.5);
    let mut fractions = Vec::new();
    let mut times = Vec::new();
    for k in 1..=n {
        let at = window * k / (n + 1);
        let t = odds_information(by(at).clamp(0.0, last), last)?;
        // A look that brings nothing new is none.
        if t > fractions.last().copied().unwrap_or(0.0) + 0.01 && t < 0.99 {
            fractions.push(t);
            times.push(at);
        }
    }
    let bounds = spending_bounds(plan.alpha, 2, &fractions.iter().copied().chain([1.0]).collect::<Vec<_>>(), Spending::ObrienFleming)?;
    Ok(times
        .into_iter()
        .zip(fractions)
        .zip(bounds.z_bounds)
        .map(|((at, information), z_bound)| Look { at, information, z_bound })
        .collect())
}

/// The arms that a look stops.
///
/// # Errors
/// When an arm is empty.
pub fn look(plan: &Plan, counts: &[ArmCounts], l: &Look, now: i64) -> Result<Vec<Stopped>, StatsError> {
    let mut out: Vec<Stopped> = Vec::new();
    for (base, other) in pairs(counts.len(), plan.control).into_iter().flat_map(|(b, a)| [(b, a), (a, b)]) {
        for (harm, of, margin) in harms(plan) {
            let (of_base, of_other) = (arm(&counts[base], of), arm(&counts[other], of));
            of_base.checked()?;
            of_other.checked()?;
            // Where nothing varies there is no test, and nothing to stop.
            let Ok(against) = noninferiority(of_base, of_other, margin, plan.alpha, BadWhen::Higher) else { continue };
            let z = against.z;
            if z >= l.z_bound && !out.iter().any(|s| s.arm == other) {
                out.push(Stopped { arm: other, against: base, harm: harm.into(), z, z_bound: l.z_bound, at: now });
            }
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::plan::tests::plan;

    #[test]
    fn a_look_stops_the_arm_that_drives_people_away_and_no_other() {
        let p = Plan { harm_looks: 3, ..plan() };
        // Half have left by a quarter of the window, nearly all by three quarters.
        let looks = plan_looks(&p, |t| 0.004 * (1.0 - (-(t as f64) / (12.0 * HOUR as f64)).exp())).unwrap();
        assert_eq!(looks.len(), 3);
        assert!(looks.windows(2).all(|w| w[0].information < w[1].information && w[0].z_bound > w[1].z_bound));
        let counts = |left: [u64; 3]| left.map(|left| ArmCounts { assigned: 4_000, handed_over: 4_000, left, ..ArmCounts::default() });
        let stopped = look(&p, &counts([12, 15, 140]), &looks[1], 7).unwrap();
        assert_eq!(stopped.iter().map(|s| (s.arm, s.harm.as_str())).collect::<Vec<_>>(), [(2, "leaving")]);
        assert!(look(&p, &counts([12, 15, 30]), &looks[1], 7).unwrap().is_empty(), "within the margin as far as can be told");
        assert!(plan_looks(&plan(), |_| 0.1).unwrap().is_empty(), "no look was planned");
    }
}
