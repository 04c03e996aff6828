//! Is the best hour worth having? What it gains isn't known from the rounds that found it: the best of several is always ahead by chance, too.
//! A confirming trial holds it against the usual hour. Each person keeps one of the two over all its rounds, and counts once, by the mean of
//! what they did: so that nothing of people who come again and again is taken for more people (Welch 1947, Biometrika 34:28-35).

use super::plan::HourPlan;
use super::reading::{Answered, HourVerdict, Reading};
use crate::id::HourTrialId;
use crate::stats::shrink::Effect;
use crate::stats::shrink_averaged::{Mean, shrink_effects_averaged};
use crate::stats::special::{normal_cdf, normal_upper_quantile};
use crate::stats::welch::{Sample, welch};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// What is to be confirmed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Confirms {
    /// The hour trial that found it.
    pub trial: HourTrialId,
    #[schema(maximum = 23)]
    pub best: u8,
    /// It is each person's own hour that is held against the best one for all: of those alone who have another.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub own: bool,
}

/// The best hour less the usual one, a mean a person.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = HourGain)]
pub struct Gain {
    pub best: u8,
    pub usual: u8,
    /// Each person's own hour less the best one for all: that stands as the usual hour here, and as the best.
    #[serde(default)]
    pub own: bool,
    pub difference: f64,
    pub lower: f64,
    pub upper: f64,
    pub p_value: f64,
    /// Of each hour: the people, and the mean of their means.
    pub best_people: u64,
    pub best_rate: f64,
    pub usual_people: u64,
    pub usual_rate: f64,
}

/// The gain that the answers of the rounds that are read show; none where an hour has fewer than two people, or nothing varies.
pub(super) fn gain(plan: &HourPlan, of: Confirms, rows: &[Answered]) -> Option<Gain> {
    let mut people: HashMap<(i64, u8), (u32, u32)> = HashMap::new();
    for a in rows {
        let of = people.entry((a.contact.0, a.hour)).or_default();
        *of = (of.0 + u32::from(a.did), of.1 + 1);
    }
    let sample = |hour: u8| {
        let means = people.iter().filter(|(k, _)| k.1 == hour).map(|(_, (did, of))| f64::from(*did) / f64::from(*of));
        // Added up in an order of their own, so that the same answers give the same digits.
        let mut means: Vec<f64> = means.collect();
        means.sort_unstable_by(f64::total_cmp);
        Sample::of(means.len() as f64, means.iter().sum(), means.iter().map(|m| m * m).sum())
    };
    let (better, usual) = plan.compared_to_confirm(of);
    let (b, u) = (sample(better), sample(usual));
    let d = welch(u, b, 1.0 - plan.alpha).ok()?;
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    let whole = |n: f64| n as u64;
    Some(Gain {
        best: of.best,
        usual,
        own: of.own,
        difference: d.difference,
        lower: d.lower,
        upper: d.upper,
        p_value: d.p_value,
        best_people: whole(b.n),
        best_rate: b.mean,
        usual_people: whole(u.n),
        usual_rate: u.mean,
    })
}

/// How a confirming trial's sentence reads.
pub(super) fn sentence(g: &Gain) -> String {
    let clock = super::plan::clock;
    let limits = format!("({:.1} to {:.1})", 100.0 * g.lower, 100.0 * g.upper);
    let usual = clock(g.usual);
    let best = if g.own { "each person's own hour".to_owned() } else { clock(g.best) };
    if g.lower > 0.0 {
        format!("Confirmed: at {best} {:.1} points more answer than at {usual} {limits}, a mean a person.", 100.0 * g.difference)
    } else if g.upper < 0.0 {
        format!("Not so: at {best} {:.1} points fewer answer than at {usual} {limits}. Keep {usual}.", -100.0 * g.difference)
    } else {
        format!(
            "Not confirmed: {best} less {usual} is {:+.1} points {limits}, which takes in none. As far as this base can tell, {} worth a change.",
            100.0 * g.difference,
            if g.own { "own hours aren't" } else { "the hour isn't" }
        )
    }
}

/// Turns what was decided of a confirming trial into its reading: Welch alone decides.
pub(super) fn decided(plan: &HourPlan, found: Option<Gain>, reading: &mut Reading) {
    reading.gain = found;
    if reading.verdict == HourVerdict::Void {
        return;
    }
    let Some(g) = found else {
        reading.verdict = HourVerdict::CantTell;
        return;
    };
    let sure = g.p_value < plan.alpha;
    reading.verdict = if sure { HourVerdict::Matters } else { HourVerdict::NotShown };
    reading.p_value = Some(g.p_value);
    reading.best_set = match (sure, g.difference > 0.0) {
        (false, _) => plan.hours.clone(),
        // No one hour is the best: each person's own is.
        (true, true) if g.own => Vec::new(),
        (true, true) => vec![g.best],
        (true, false) => vec![g.usual],
    };
}

/// What is to be expected of the best hour against the usual one: their estimates among all the hours', drawn together, since the best was
/// picked for being ahead ([`shrink_effects_averaged`]). None where the reading has no estimates, or not of both.
#[must_use]
pub fn expected_gain(r: &Reading, best: u8, usual: u8) -> Option<f64> {
    let t = r.largest_t?;
    let place = |hour: u8| r.hours.iter().position(|h| h.hour == hour);
    let effects: Vec<Effect> = r
        .hours
        .iter()
        .map(|h| Some(Effect { estimate: h.estimate?, standard_error: (h.upper? - h.lower?) / (2.0 * t) }))
        .collect::<Option<_>>()?;
    let together = shrink_effects_averaged(&effects, Mean::Zero, USUAL_SPREAD).ok()?;
    Some(together.shrunk.get(place(best)?)? - together.shrunk.get(place(usual)?)?)
}

/// How far hours lie apart where nothing is known: a prior's scale, as a difference of rates.
const USUAL_SPREAD: f64 = 0.02;

/// People's means are as alike within a person as this share of their variance, where it isn't known: those who answer much do so again.
const LIKE_ONESELF: f64 = 0.25;

/// How likely a gain is shown by so many people at each hour in so many rounds.
pub(super) fn power(rate: f64, effect: f64, per_hour: f64, rounds: f64, alpha: f64) -> f64 {
    let variance = |p: f64| (p * (1.0 - p)).max(0.0) * (LIKE_ONESELF + (1.0 - LIKE_ONESELF) / rounds.max(1.0));
    let error = ((variance(rate) + variance((rate + effect).min(1.0))) / per_hour.max(1.0)).sqrt();
    if error > 0.0 { normal_cdf(effect / error - normal_upper_quantile(alpha / 2.0)) } else { 0.0 }
}
