//! A plan tried on simulated answers before it is sealed: how often it would find something where there is nothing, the difference that is
//! wanted, and a daily wave of that height.

use super::plan::HourPlan;
use super::reading::{Answered, HourVerdict, verdict};
use crate::id::ContactId;
use crate::stats::{StatsError, open_unit};
use chacha20::ChaCha12Rng;
use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_distr::{Beta, Distribution};
use serde::Serialize;
use std::f64::consts::TAU;
use utoipa::ToSchema;

/// What became of the runs of one world.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = HourRehearsed)]
pub struct Rehearsed {
    pub runs: u32,
    /// The hour was said to matter.
    pub matters: u32,
    /// Of those, the best hour was in the set that can't be told from the best.
    pub best_in_set: u32,
}

/// A plan's runs in three worlds.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = HourRehearsal)]
pub struct Rehearsal {
    /// So many people took part in each round: of a large base a part, which finds less.
    pub people: u64,
    pub none: Rehearsed,
    /// One hour up, one down, by the difference that is wanted.
    pub wanted: Rehearsed,
    /// A wave over the day as high.
    pub wave: Rehearsed,
}

/// People's ways of answering spread as a beta of this many.
const ALIKE: f64 = 6.0;
/// Rows that are simulated for each world, and the runs they make at least and at most.
const ROWS: u64 = 8_000_000;
const RUNS: (u64, u64) = (40, 300);
/// Rows of one run at most.
const MOST_ROWS: u64 = 400_000;

/// What each hour adds in a world.
fn profile(plan: &HourPlan, world: usize) -> Vec<f64> {
    let hours = plan.compared();
    let k = hours.len();
    if let Some(c) = plan.confirms.filter(|_| world > 0) {
        let (better, _) = plan.compared_to_confirm(c);
        return hours.iter().map(|h| if *h == better { plan.effect } else { 0.0 }).collect();
    }
    match world {
        0 => vec![0.0; k],
        1 => (0..k)
            .map(|i| {
                if i == 0 {
                    plan.effect / 2.0
                } else if i == k - 1 {
                    -plan.effect / 2.0
                } else {
                    0.0
                }
            })
            .collect(),
        _ => {
            let wave: Vec<f64> = hours.iter().map(|h| (TAU * (f64::from(*h) - 8.0) / 24.0).cos()).collect();
            let (low, high) = wave.iter().fold((1.0_f64, -1.0_f64), |s, w| (s.0.min(*w), s.1.max(*w)));
            wave.iter().map(|w| plan.effect * ((w - low) / (high - low).max(1e-9) - 0.5)).collect()
        }
    }
}

/// Rehearses a plan: the same people drawn again in each round, who differ in how they answer, by the decision of the reading.
///
/// # Errors
/// A rate outside 0 to 1.
#[allow(clippy::cast_possible_truncation)]
pub fn rehearse(plan: &HourPlan, rate: f64, people: u64, seed: u64) -> Result<Rehearsal, StatsError> {
    let rate = open_unit("the usual rate", rate)?;
    let rounds = plan.rounds.len().max(1) as u64;
    let people = people.clamp(2, MOST_ROWS / rounds);
    let runs = (ROWS / (people * rounds)).clamp(RUNS.0, RUNS.1) as u32;
    let ways = Beta::new(rate * ALIKE, (1.0 - rate) * ALIKE).map_err(|_| StatsError::NoEffect)?;
    let hours = plan.compared();
    let world = |world: usize| {
        let adds = profile(plan, world);
        let best = adds.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let mut out = Rehearsed { runs, matters: 0, best_in_set: 0 };
        for run in 0..runs {
            let mut rng = ChaCha12Rng::seed_from_u64(seed ^ (u64::from(run) << 8) ^ world as u64);
            let ways: Vec<f64> = (0..people).map(|_| ways.sample(&mut rng)).collect();
            let mut rows = Vec::with_capacity(ways.len() * plan.rounds.len());
            let mut places: Vec<usize> = (0..ways.len()).map(|i| i % adds.len()).collect();
            for round in 0..plan.rounds.len() {
                // Of a confirming trial everybody keeps their hour.
                if round == 0 || plan.confirms.is_none() {
                    places.shuffle(&mut rng);
                }
                rows.extend(ways.iter().zip(&places).zip(0..).map(|((way, place), contact)| Answered {
                    contact: ContactId(contact),
                    round,
                    zone: 0,
                    stratum: 0,
                    hour: hours[*place],
                    opens_unknown: false,
                    lost: false,
                    machine: false,
                    did: rng.random::<f64>() < way + adds[*place],
                }));
            }
            let (found, set) = verdict(plan, &rows);
            if found == HourVerdict::Matters {
                out.matters += 1;
                out.best_in_set += u32::from(set.is_empty() || hours.iter().zip(&adds).any(|(h, add)| *add >= best && set.contains(h)));
            }
        }
        out
    };
    Ok(Rehearsal { people, none: world(0), wanted: world(1), wave: world(2) })
}
