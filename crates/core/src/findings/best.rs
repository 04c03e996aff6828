//! Is a group better than the others? Who got mail in which group was not left to chance, so this says what is so here, and never why.
//!
//! A group is held against all others together, with the mailing as the unit: a mailing that is in several groups (people of several domains)
//! counts in each, and its part in the difference once. The error of the difference is the jackknife's over mailings (Efron and Stein 1981, Annals
//! of Statistics 9:586-596); Student's t has as many degrees of freedom as the smaller side has mailings, less one. Of what is rare the jackknife
//! sees too little: a group in which nobody has left yet has no error at all. So p is never under Fisher's exact one among people (Fisher 1935,
//! *The Design of Experiments*, section 21). Holm over the groups. Held by `core/tests/simulated_best.rs`.

use super::LEAST_MAILINGS;
use crate::stats::Arm;
use crate::stats::adjust::{Adjustment, adjust_p_values};
use crate::stats::rare::chance_of_the_rare;
use crate::stats::welch::student_two_sided;
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Under this p a group is said to be better.
pub const ALPHA: f64 = 0.05;
/// On fewer days a group is a few mailings, and not what they have in common.
pub const LEAST_DAYS: usize = 6;

/// A group's part of each mailing, and on how many days it was sent.
#[derive(Debug, Clone, Default)]
pub struct Part {
    pub mailings: BTreeMap<crate::id::MailingId, Arm>,
    pub days: usize,
}

/// What can be said of a group.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[serde(tag = "told", rename_all = "snake_case")]
#[schema(as = BestOfGroups)]
pub enum Best {
    /// Better than the others together.
    Better { adjusted_p: f64, difference: f64 },
    /// It isn't shown to be.
    CantTell { adjusted_p: f64, difference: f64 },
    /// It is one mailing: whatever it is, it is that mailing's.
    OneMailing,
    /// It, or all others together, are too few mailings or days.
    TooFew,
}

impl Best {
    #[must_use]
    pub fn is_better(self) -> bool {
        matches!(self, Self::Better { .. })
    }
}

/// Of each group, whether it is better than all others together. `more_is_better`: of bounces and complaints fewer are.
#[must_use]
pub fn told(parts: &[Part], more_is_better: bool) -> Vec<Best> {
    let tests: Vec<Option<(f64, f64)>> = (0..parts.len()).map(|i| against_others(parts, i, more_is_better)).collect();
    let p: Vec<f64> = tests.iter().flatten().map(|t| t.1).collect();
    let mut adjusted = adjust_p_values(&p, Adjustment::Holm).unwrap_or_default().into_iter();
    let one = |(part, test): (&Part, &Option<(f64, f64)>)| match test {
        Some((difference, _)) => {
            let (adjusted_p, difference) = (adjusted.next().unwrap_or(1.0), *difference);
            if adjusted_p < ALPHA { Best::Better { adjusted_p, difference } } else { Best::CantTell { adjusted_p, difference } }
        }
        None if part.mailings.values().filter(|a| a.trials > 0).count() == 1 => Best::OneMailing,
        None => Best::TooFew,
    };
    parts.iter().zip(&tests).map(one).collect()
}

/// The difference of a group's rate to all others' together, and the one-sided p that it is no better.
fn against_others(parts: &[Part], which: usize, more_is_better: bool) -> Option<(f64, f64)> {
    let own = &parts[which];
    let mut both: BTreeMap<crate::id::MailingId, (Arm, Arm)> = BTreeMap::new();
    for (i, part) in parts.iter().enumerate() {
        for (mailing, arm) in &part.mailings {
            let slot = both.entry(*mailing).or_default();
            let side = if i == which { &mut slot.0 } else { &mut slot.1 };
            *side = *side + *arm;
        }
    }
    let counts = |side: fn(&(Arm, Arm)) -> Arm| {
        let all = both.values().map(side).filter(|a| a.trials > 0);
        (all.clone().sum::<Arm>(), all.count())
    };
    let ((here, mailings), (there, other_mailings)) = (counts(|b| b.0), counts(|b| b.1));
    if mailings < LEAST_MAILINGS || other_mailings < LEAST_MAILINGS || own.days < LEAST_DAYS {
        return None;
    }
    let counted = |a: Arm| (a.successes as f64, a.trials as f64);
    let ((x, n), (others_x, others_n)) = (counted(here), counted(there));
    let (rate, others) = (x / n, others_x / others_n);
    // Without one mailing after the other (the jackknife): with few mailings of very different size the linearised error is too small, and 6.4%
    // of simulated bases with no best group had one.
    let without = |(x, n): (f64, f64), a: Arm| (x - a.successes as f64) / (n - a.trials as f64);
    let moved = |(a, b): &(Arm, Arm)| (without((x, n), *a) - without((others_x, others_n), *b) - (rate - others)).powi(2);
    let all = both.len() as f64;
    let error = ((all - 1.0) / all * both.values().map(moved).sum::<f64>()).sqrt();
    if error == 0.0 {
        return None;
    }
    let difference = rate - others;
    let t = if more_is_better { difference } else { -difference } / error;
    let two_sided = student_two_sided(t.abs(), mailings.min(other_mailings) as f64 - 1.0);
    let p = if t > 0.0 { two_sided / 2.0 } else { 1.0 - two_sided / 2.0 };
    Some((difference, p.max(chance_of_the_rare(here, there, more_is_better))))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(rates: &[(i64, u64, u64)], days: usize) -> Part {
        Part {
            mailings: rates
                .iter()
                .map(|(m, successes, trials)| (crate::id::MailingId(*m), Arm { successes: *successes, trials: *trials }))
                .collect(),
            days,
        }
    }

    fn mailings(from: i64, rate: u64) -> Vec<(i64, u64, u64)> {
        (0..8).map(|i| (from + i, rate + u64::from(i % 3 == 0), 1_000)).collect()
    }

    #[test]
    fn a_group_far_ahead_is_better_and_one_mailing_never_is() {
        let groups = [part(&mailings(0, 300), 8), part(&mailings(10, 200), 8), part(&[(99, 900, 1_000)], 1), part(&mailings(20, 200), 2)];
        let two = told(&groups[..2], true);
        assert!(two[0].is_better(), "{:?}", two[0]);
        assert!(matches!(two[1], Best::CantTell { .. }));
        let said = told(&groups, true);
        assert_eq!(said[2], Best::OneMailing);
        assert_eq!(said[3], Best::TooFew, "eight mailings on two days");
        assert!(told(&groups[..2], false)[1].is_better(), "fewer complaints are better");
    }

    #[test]
    fn a_mailing_in_both_counts_once() {
        // Mailings differ widely, and the two domains of each are alike but for a point: seen within mailings that is plain.
        let rates = [100u64, 400, 250, 180, 320, 90, 280, 360];
        let of = |more: u64| part(&(0..8).map(|i| (i64::try_from(i).unwrap(), rates[i] + more, 1_000)).collect::<Vec<_>>(), 8);
        assert!(told(&[of(10), of(0)], true)[0].is_better());
    }
}
