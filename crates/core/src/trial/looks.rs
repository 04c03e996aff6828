//! Looks before the end. They can stop an arm for harm, and call nothing: a variant can't be called early, because
//! a faster response looks like a larger one.
//!
//! At each look every arm is held against its comparators on leaving and on complaints: is its rate above theirs by
//! more than the margin? The bound is that of a spending function (O'Brien and Fleming's, Lan & DeMets 1983) at the
//! information of the look, which comes from a forecast that was sealed: the share of the window's responses that
//! past mailings had by then. In a series people come one by one: a look is held when a further share of the people
//! planned has been through its window, and that share is its information.

use super::decide::{arms_of, harms};
use super::outlook::USUAL_LEAVING;
use super::plan::Plan;
use super::stretches::Counted;
use crate::HOUR;
use crate::stats::StatsError;
use crate::stats::noninferiority::harm_over;
use crate::stats::planning::odds_information;
use crate::stats::special::normal_sf;
use crate::stats::spending::{Spending, spending_bounds};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A look as it was sealed: so long after the last person's handover, at this bound.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = TrialLook)]
pub struct Look {
    /// Milliseconds after the last handover of the pilot; in a series 0, its information says when it is held.
    pub at: i64,
    pub information: f64,
    pub z_bound: f64,
}

impl Look {
    /// In a series: have enough people of the smallest arm been through their window?
    #[must_use]
    #[allow(clippy::cast_precision_loss)]
    pub fn due(&self, through: u64, per_arm: u64) -> bool {
        through as f64 >= self.information * per_arm as f64
    }
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

/// The looks of a trial in a series: at equal steps of the people planned per arm.
///
/// # Errors
/// When the plan's alpha is no share.
pub fn looks_on_entry(plan: &Plan) -> Result<Vec<Look>, StatsError> {
    let n = plan.harm_looks;
    let fractions: Vec<f64> = (1..=n).map(|k| f64::from(k) / f64::from(n + 1)).collect();
    if n == 0 {
        return Ok(Vec::new());
    }
    let bounds = spending_bounds(plan.alpha, 2, &fractions.iter().copied().chain([1.0]).collect::<Vec<_>>(), Spending::ObrienFleming)?;
    Ok(fractions.into_iter().zip(bounds.z_bounds).map(|(information, z_bound)| Look { at: 0, information, z_bound }).collect())
}

/// What a look may call at: the bound of each comparison, and the level of all of them together.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CallBound {
    pub information: f64,
    pub z_bound: f64,
    pub level: f64,
}

/// The bounds of the looks that may call an arm, and of the end; empty where they may not. Alpha, shared between the comparisons, is spent over them
/// by O'Brien and Fleming's function, on the people planned per arm who are through their window: that was sealed with the plan.
///
/// # Errors
/// When the plan's alpha is no share.
#[allow(clippy::cast_precision_loss)]
pub fn call_bounds(plan: &Plan, arms: usize) -> Result<Vec<CallBound>, StatsError> {
    if !plan.looks_call || plan.per_arm.is_none() {
        return Ok(Vec::new());
    }
    let n = plan.harm_looks;
    let comparisons = plan.comparisons(arms) as f64;
    let fractions: Vec<f64> = (1..=n + 1).map(|k| f64::from(k) / f64::from(n + 1)).collect();
    let bounds = spending_bounds(plan.alpha / comparisons, 2, &fractions, Spending::ObrienFleming)?;
    let bound = |(information, z_bound): (f64, f64)| CallBound { information, z_bound, level: comparisons * 2.0 * normal_sf(z_bound) };
    Ok(fractions.into_iter().zip(bounds.z_bounds).map(bound).collect())
}

/// A call at a look, as it is kept.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CalledAtLook {
    /// Which look, from 1.
    pub look: usize,
    /// Those are read whose message was handed over by then: their window was over. Milliseconds since 1970.
    pub through: i64,
}

/// The arms that a look stops. `counted`: of those whose window is over, where people come one by one.
///
/// # Errors
/// When more people did harm than there are.
pub fn look(plan: &Plan, counted: Counted<'_>, l: &Look, now: i64) -> Result<Vec<Stopped>, StatsError> {
    let mut out: Vec<Stopped> = Vec::new();
    for (base, other) in counted.pairs(plan.control).into_iter().flat_map(|(b, a)| [(b, a), (a, b)]) {
        for (harm, of, margin) in harms(plan) {
            let strata = arms_of(&counted.concurrent(base, other), of);
            for (a, b) in &strata {
                a.checked()?;
                b.checked()?;
            }
            // Where nothing varies there is no test, and nothing to stop.
            let Some(z) = harm_over(&strata, margin) else { continue };
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
    use crate::trial::reading::ArmCounts;
    use crate::trial::stretches::StretchCounts;

    #[test]
    fn a_look_stops_the_arm_that_drives_people_away_and_no_other() {
        let p = Plan { harm_looks: 3, ..plan() };
        // Half have left by a quarter of the window, nearly all by three quarters.
        let looks = plan_looks(&p, |t| 0.004 * (1.0 - (-(t as f64) / (12.0 * HOUR as f64)).exp())).unwrap();
        assert_eq!(looks.len(), 3);
        assert!(looks.windows(2).all(|w| w[0].information < w[1].information && w[0].z_bound > w[1].z_bound));
        let counts = |left: [u64; 3]| left.map(|left| ArmCounts { assigned: 4_000, handed_over: 4_000, left, ..ArmCounts::default() });
        let stopped = look(&p, counts([12, 15, 140])[..].into(), &looks[1], 7).unwrap();
        assert_eq!(stopped.iter().map(|s| (s.arm, s.harm.as_str())).collect::<Vec<_>>(), [(2, "leaving")]);
        assert!(look(&p, counts([12, 15, 30])[..].into(), &looks[1], 7).unwrap().is_empty(), "within the margin as far as can be told");
        assert!(plan_looks(&plan(), |_| 0.1).unwrap().is_empty(), "no look was planned");
    }

    #[test]
    fn in_a_series_a_look_compares_those_who_came_together() {
        let p = Plan { harm_looks: 2, per_arm: Some(6_000), ..plan() };
        let looks = looks_on_entry(&p).unwrap();
        let third = looks[0].information;
        assert!((third - 1.0 / 3.0).abs() < 1e-12 && looks.len() == 2 && looks[0].z_bound > looks[1].z_bound && looks[1].z_bound > 1.9);
        // In the second month four times as many leave, whichever arm, and B has most of its people then.
        let of = |assigned, left| ArmCounts { assigned, handed_over: assigned, left, ..ArmCounts::default() };
        let month = |parts: [u32; 2], a, b| StretchCounts { parts: parts.to_vec(), counts: vec![a, b] };
        let with = |b_left| {
            let s = [month([1, 1], of(2_000, 20), of(2_000, 20)), month([1, 8], of(500, 20), of(4_000, b_left))];
            let all: Vec<ArmCounts> = (0..2).map(|i| s[0].counts[i].with(&s[1].counts[i])).collect();
            let pooled = look(&p, all[..].into(), &looks[1], 0).unwrap().len();
            (look(&p, Counted::over(&all, &s), &looks[1], 0).unwrap(), pooled)
        };
        let (none, pooled) = with(160);
        assert!(none.is_empty() && pooled == 1, "pooled, B would have been stopped for the month it was in");
        assert_eq!(with(520).0.iter().map(|s| s.arm).collect::<Vec<_>>(), [1]);
    }
}
