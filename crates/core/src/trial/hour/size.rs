//! What an hour trial can find, and how many rounds it takes.

use super::plan::{HourPlan, LEAST_PER_HOUR};
use super::said::points;
use crate::stats::StatsError;
use crate::stats::omnibus::{omnibus_power, omnibus_sample_size};
use crate::trial::outlook::least;
use crate::words::{people, thousands};
use serde::Serialize;
use utoipa::ToSchema;

/// The same people are drawn again and again, so their answers say less than those of as many others: by this factor, where it isn't known
/// from hour trials before.
pub const AGAIN: f64 = 1.2;

/// By what factor people drawn again say less. `own`: how much people differ in which hour suits them, in units of the square of the mean rate
/// ([`own_hours`](crate::stats::hour_trial::own_hours)); none: not known. Those of one hour are then alike in up to `rounds` answers of a person.
fn again(own: Option<f64>, rate: f64, hours: usize, rounds: f64) -> f64 {
    #[allow(clippy::cast_precision_loss)]
    own.map_or(AGAIN, |own| 1.0 + (rounds - 1.0).max(0.0) * own.max(0.0) * rate / (hours as f64 * (1.0 - rate)))
}

/// What the rounds of a plan can find.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[schema(as = HourOutlook)]
pub struct Outlook {
    /// Of each round, those whose answers can be known.
    pub people: u64,
    /// At each hour of a round.
    pub per_hour: u64,
    /// At each hour, over all rounds.
    pub needed_per_hour: u64,
    pub rounds_needed: u64,
    /// The smallest difference between the best and the worst hour that the planned rounds find with the power asked for; none: not even 50 points.
    pub smallest_effect: Option<f64>,
    /// How likely the planned rounds find the difference wanted.
    pub power: f64,
    pub enough: bool,
    /// By what factor the answers of people who are drawn again and again say less than those of as many others.
    pub again: f64,
    /// An earlier trial told it; else it is assumed. Nothing of a confirming trial, which counts each person once.
    pub again_known: Option<bool>,
    pub sentence: String,
}

/// One hour up and one down, the others between: of all profiles with this difference the hardest to find.
fn hardest(rate: f64, effect: f64, hours: usize) -> Vec<f64> {
    let mut profile = vec![rate; hours];
    profile[0] = (rate + effect / 2.0).min(1.0);
    profile[hours - 1] = (rate - effect / 2.0).max(0.0);
    profile
}

/// How likely a difference is found by so many people at each hour, over all rounds.
#[allow(clippy::cast_precision_loss)]
fn power(plan: &HourPlan, rate: f64, own: Option<f64>, effect: f64, per_hour: f64) -> f64 {
    let rounds = plan.rounds.len().max(1) as f64;
    if plan.confirms.is_some() {
        // Of so many answers each person gives one a round, and counts once.
        return super::confirming::power(rate, effect, per_hour / rounds, rounds, plan.alpha);
    }
    let alone = per_hour / again(own, rate, plan.hours.len(), rounds);
    omnibus_power(&hardest(rate, effect, plan.hours.len()), alone, plan.alpha).map_or(0.0, |p| p.power)
}

/// The answers at each hour and the rounds that finding the difference takes: the more rounds, the less each says, where people differ.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn needs(plan: &HourPlan, rate: f64, own: Option<f64>, known: u64) -> Result<(f64, u64), StatsError> {
    let hours = plan.hours.len();
    let alone = omnibus_sample_size(&hardest(rate, plan.effect, hours), plan.alpha, plan.power)?;
    let at_hour = known.max(1) as f64 / hours as f64;
    let needed = |rounds: f64| alone * again(own, rate, hours, rounds);
    // What R rounds have less what they need falls by the same with each round, or never: R·at_hour = alone·(1 + (R−1)·more).
    let rounds = match own {
        None => needed(1.0) / at_hour,
        Some(_) => {
            let more = again(own, rate, hours, 2.0) - 1.0;
            let each = at_hour - alone * more;
            if each > 0.0 { alone * (1.0 - more) / each } else { f64::INFINITY }
        }
    };
    if rounds.is_nan() || rounds >= NEVER as f64 {
        return Ok((alone, NEVER));
    }
    let rounds = (rounds - 1e-9).ceil().max(2.0) as u64;
    Ok((needed(rounds as f64), rounds))
}

/// The answers at each hour and the rounds that a confirming trial takes: rounds make each person's mean surer, but no more people of them.
#[allow(clippy::cast_precision_loss)]
fn confirming_needs(plan: &HourPlan, rate: f64, known: u64) -> (f64, u64) {
    let each = known as f64 / 2.0;
    let shown = |rounds: u64| super::confirming::power(rate, plan.effect, each, rounds as f64, plan.alpha) >= plan.power;
    let rounds = (2..=TRIED).find(|r| shown(*r)).unwrap_or(NEVER);
    (each * rounds.min(TRIED) as f64, rounds)
}

/// So many rounds of a confirming trial are tried.
const TRIED: u64 = 1_000;

/// As many rounds as these stand for: no number is enough.
const NEVER: u64 = 1_000_000;

/// What a plan can find. `rate`: of those who usually answer; `known`: how many of a round's people are read; `own`: how much people were found
/// to differ in which hour suits them, in units of the square of the mean rate, where it is known.
///
/// # Errors
/// A rate outside 0 to 1.
#[allow(clippy::cast_precision_loss, clippy::cast_sign_loss, clippy::cast_possible_truncation)]
pub fn outlook(plan: &HourPlan, rate: f64, known: u64, own: Option<f64>) -> Result<Outlook, StatsError> {
    let rate = crate::stats::open_unit("the usual rate", rate)?;
    let hours = plan.compared().len();
    let per_hour = known / hours as u64;
    let (needed, rounds_needed) =
        if plan.confirms.is_some() { confirming_needs(plan, rate, known) } else { needs(plan, rate, own, known)? };
    let in_all = per_hour as f64 * plan.rounds.len() as f64;
    let found = |effect: f64| in_all >= 1.0 && power(plan, rate, own, effect, in_all) >= plan.power;
    let most = (2.0 * rate.min(1.0 - rate)).min(0.5);
    let smallest_effect = least(0.0, most, found);
    let a_year = 364 / plan.days_between().max(1).unsigned_abs();
    let enough = plan.rounds.len() as u64 >= rounds_needed && per_hour >= LEAST_PER_HOUR;
    let finds = smallest_effect.map_or_else(
        || "find no difference that there can be".to_owned(),
        |e| {
            let between = match plan.confirms {
                Some(c) if c.own => "people's own hours and the best one for all",
                Some(_) => "the best and the usual hour",
                None => "the best and the worst hour",
            };
            format!("find a difference of {} between {between}", points(e))
        },
    );
    let rounds = if plan.rounds.len() == 1 { "1 round".to_owned() } else { format!("{} rounds", plan.rounds.len()) };
    let here = format!("{rounds} of {} {finds} {:.0} times in 100.", people(known), 100.0 * plan.power);
    let wanted = if rounds_needed >= NEVER {
        format!(
            " For {} no number of rounds is enough: the same people would be asked again and again. Ask for a larger difference, or fewer hours.",
            points(plan.effect)
        )
    } else if rounds_needed > a_year {
        format!(
            " For {} this base is too small: it would take {} rounds, more than there are in a year. Ask for a larger difference, or fewer hours.",
            points(plan.effect),
            thousands(rounds_needed)
        )
    } else if enough {
        format!(" That is enough for the {} you want; {rounds_needed} would be.", points(plan.effect))
    } else {
        format!(" For {} it takes {rounds_needed} rounds.", points(plan.effect))
    };
    Ok(Outlook {
        people: known,
        per_hour,
        needed_per_hour: needed.ceil() as u64,
        rounds_needed,
        smallest_effect,
        power: if in_all >= 1.0 { power(plan, rate, own, plan.effect, in_all) } else { 0.0 },
        enough,
        again: again(own, rate, hours, plan.rounds.len() as f64),
        again_known: plan.confirms.is_none().then_some(own.is_some()),
        sentence: if per_hour < LEAST_PER_HOUR {
            format!(
                "Of the first round {} could be drawn and read: too few for {hours} hours, of which each needs {LEAST_PER_HOUR}.",
                people(known)
            )
        } else {
            here + &wanted
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::id::MailingId;
    use crate::trial::hour::plan::Round;
    use proptest::prelude::*;

    fn plan(rounds: i64, hours: u8) -> HourPlan {
        HourPlan {
            hours: (0..hours).map(|h| 6 + h).collect(),
            rounds: (0..rounds).map(|r| Round { mailing: MailingId(r), day: 20_000 + 7 * r }).collect(),
            ..HourPlan::usual("Does the hour matter?")
        }
    }

    proptest! {
        /// With the rounds that are needed the wanted difference is found as often as asked, with fewer it isn't; more people find more.
        #[test]
        fn what_is_needed_is_enough(rate in 0.05f64..0.6, hours in 2u8..18, known in 400u64..60_000, own in proptest::option::of(0.0f64..0.3)) {
            let o = outlook(&plan(4, hours), rate, known, own).unwrap();
            prop_assume!((3..60).contains(&o.rounds_needed));
            let with = |rounds: u64| outlook(&plan(rounds as i64, hours), rate, known, own).unwrap();
            prop_assert!(with(o.rounds_needed).power >= 0.8 - 0.01 && with(o.rounds_needed - 1).power < 0.8 + 0.01);
            prop_assert!(with(o.rounds_needed).enough && !with(o.rounds_needed - 1).enough);
            let more = outlook(&plan(4, hours), rate, known * 2, own).unwrap();
            prop_assert!(more.smallest_effect.unwrap_or(1.0) <= o.smallest_effect.unwrap_or(1.0));
        }
    }

    #[test]
    fn a_base_that_is_too_small_is_told() {
        assert!(outlook(&plan(4, 12), 0.2, 0, None).unwrap().sentence.starts_with("Of the first round 0 people could be drawn"));
        let o = outlook(&plan(4, 12), 0.2, 240, None).unwrap();
        assert!(!o.enough && o.sentence.contains("too small"), "{}", o.sentence);
    }
}
