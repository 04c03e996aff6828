//! The picture of a clearance: selected people, what each rule takes off, who is left.

use super::{Outcome, Reason};
use crate::Instant;
use serde::Serialize;

/// One step of the sluice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct Step {
    pub reason: Reason,
    /// People whose first reason this is.
    pub people: u64,
    /// People who would be cleared now were it not for this reason: others may be caught by
    /// several, so this is not the same as `people`.
    pub without_it: u64,
    /// The caps or the suppression lists behind it, when there can be several.
    pub parts: Vec<Part>,
}

/// One cap or list of a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct Part {
    /// Its place among the caps of the rules, or among the lists asked.
    pub index: usize,
    /// People of the step that it catches; several may catch the same person.
    pub people: u64,
    /// People who would be cleared now were it not for this one.
    pub without_it: u64,
}

/// How many stand where.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Sluice {
    pub selected: u64,
    pub cleared: u64,
    pub held: u64,
    pub steps: Vec<Step>,
    /// The last instant at which somebody held is released.
    pub last_release: Option<Instant>,
}

/// Adds up outcomes.
#[must_use]
pub fn tally(outcomes: impl IntoIterator<Item = Outcome>) -> Sluice {
    let mut sluice = Sluice { selected: 0, cleared: 0, held: 0, steps: Vec::new(), last_release: None };
    let (mut own, mut alone) = ([0u64; 32], [0u64; 32]);
    let mut parts = vec![[(0u64, 0u64); 64]; 32];
    for outcome in outcomes {
        sluice.selected += 1;
        let reasons = match outcome {
            Outcome::Cleared => {
                sluice.cleared += 1;
                continue;
            }
            Outcome::Held(until, reasons) => {
                sluice.held += 1;
                sluice.last_release = sluice.last_release.max(Some(until));
                reasons
            }
            Outcome::Barred(reasons) => reasons,
        };
        if let Some(first) = reasons.first() {
            own[first as usize] += 1;
        }
        for r in reasons.iter().filter(|r| reasons.only(*r)) {
            alone[r as usize] += 1;
        }
        for (reason, mask) in
            [(Reason::Suppressed, reasons.lists), (Reason::OverCap, u64::from(reasons.caps)), (Reason::HeldByCap, u64::from(reasons.caps))]
        {
            if !reasons.has(reason) {
                continue;
            }
            let mut left = mask;
            while left != 0 {
                let part = &mut parts[reason as usize][left.trailing_zeros() as usize];
                part.0 += u64::from(reasons.first() == Some(reason));
                part.1 += u64::from(reasons.only(reason) && mask.count_ones() == 1);
                left &= left - 1;
            }
        }
    }
    sluice.steps = Reason::ALL
        .into_iter()
        .filter(|&r| own[r as usize] > 0 || alone[r as usize] > 0)
        .map(|reason| {
            let parts = parts[reason as usize].iter().enumerate().filter(|(_, p)| p.0 > 0 || p.1 > 0);
            Step {
                reason,
                people: own[reason as usize],
                without_it: alone[reason as usize],
                parts: parts.map(|(index, p)| Part { index, people: p.0, without_it: p.1 }).collect(),
            }
        })
        .collect();
    sluice
}
