//! Each person's own hour, drawn towards what is common.
//!
//! A person's answers are too few to go by: the hour at which somebody answered most is mostly chance. What somebody does at an hour beyond the
//! common hours has three parts: how active they are, what the hour adds for them, and chance. How far the first two go is known from all people
//! together ([`own_hours`](super::own_hours)), so that each person's are predicted by the best linear predictor (Robinson 1991, Statistical
//! Science 6:15-32): the less somebody was asked, the nearer to what is common. By it the hour of the highest prediction is no winner's: what is
//! expected of it comes true on average.

use super::Design;
use super::own_hours::{Expected, OwnHours};

/// What is predicted of one person.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Predicted {
    /// The place of the hour that suits them best, by what is predicted.
    pub hour: usize,
    /// How likely they are to answer at it, and at the hour that is best for all.
    pub at_own: f64,
    pub at_common: f64,
}

/// The hours of everybody.
#[derive(Debug, Clone, PartialEq)]
pub struct EachOwn {
    /// The place of the hour that is best for all.
    pub common: usize,
    /// By the place of each person.
    pub people: Vec<Predicted>,
}

/// What a person's answers at one hour say.
#[derive(Debug, Clone, Copy, Default)]
struct AtHour {
    /// How surely they were asked: the squares of the means by the variances of chance.
    asked: f64,
    /// What they did beyond the common means, weighted likewise.
    beyond: f64,
}

/// Predicts each person's hour. `known`: by [`own_hours`](super::own_hours::own_hours) of the same answers.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn each_own_hour(d: &Design, Expected { means, factors }: &Expected, known: &OwnHours) -> EachOwn {
    let (own, active) = (known.relative.max(0.0), known.active.max(0.0));
    let k = d.hours.len();
    let mut of = vec![AtHour::default(); d.persons * k];
    for ((person, _, hour, y), mean) in d.rows.iter().zip(means) {
        // Of a yes or no, what people's differences don't explain is chance.
        let chance = (mean * (1.0 - mean) - mean * mean * (own + active)).max(1e-3 * mean);
        if chance > 0.0 {
            let at = &mut of[person * k + hour];
            at.asked += mean * mean / chance;
            at.beyond += mean * (y - mean) / chance;
        }
    }
    let common = (0..k).max_by(|a, b| factors[*a].total_cmp(&factors[*b])).unwrap_or(0);
    // A mean answer, had everybody been asked at an hour of factor 1.
    let usual = means.iter().zip(&d.rows).map(|(m, r)| m / factors[r.2].max(1e-300)).sum::<f64>() / d.rows.len().max(1) as f64;
    let predict = |at: &[AtHour]| {
        let (mut surely, mut sum) = (0.0, 0.0);
        for h in at {
            surely += h.asked / (1.0 + own * h.asked);
            sum += h.beyond / (1.0 + own * h.asked);
        }
        let more_active = active * sum / (1.0 + active * surely);
        let adds = |h: &AtHour| own * (h.beyond - h.asked * more_active) / (1.0 + own * h.asked);
        let likely: Vec<f64> = at.iter().zip(factors).map(|(h, f)| (usual * f * (1.0 + more_active + adds(h))).clamp(0.0, 1.0)).collect();
        // Of equal ones the common hour.
        let hour = (0..k).fold(common, |best, h| if likely[h] > likely[best] { h } else { best });
        Predicted { hour, at_own: likely[hour], at_common: likely[common] }
    };
    EachOwn { common, people: of.chunks(k.max(1)).map(predict).collect() }
}
