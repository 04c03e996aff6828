//! Mail load: how much mail somebody gets, and how they answer it.
//!
//! Two axes that describe, and don't prove that mail caused anything. All history counts, with weights
//! that halve every six weeks.
//!
//! * **Mail**: messages delivered per 28 days; *usual* is the middle 60% of the people who can be mailed.
//! * **Answer**: *new* under four deliveries in all; *silent* without a human response in 90 days and in the last eight
//!   deliveries, or in those of 180 days (four at least) where they were fewer; else *rising*, *steady* or *slackening* by the chance, given what was seen,
//!   that the rate of the last six weeks is a fifth above or below the one before.
//!
//! Rates are shrunk to the base by a beta-binomial ([`crate::stats::beta_binomial_fit`]). People whose opens
//! can't be told from a machine's are *open-blind*: their opens are missing, not zero. Their answer rests on
//! clicks, replies and purchases, over twice the time, against a prior of their own.

use crate::stats::beta_binomial_fit::{Group, Prior};
use crate::stats::special::{beta_tails, digamma, normal_sf, trigamma};
use crate::{DAY, Instant};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Weights halve in this time.
pub const HALF_LIFE: i64 = 42 * DAY;
/// "Lately" is the last six weeks.
pub const LATELY: i64 = 42 * DAY;
/// A message this young may still be answered, so it doesn't count as unanswered yet.
pub const YOUNG: i64 = 2 * DAY;
/// Fewer deliveries than this: new. Unweighted: with weights somebody mailed once a month would be new for ever.
const NEW_UNDER: usize = 4;
/// So many deliveries, and this time, without a response: silent.
const SILENT_DELIVERIES: usize = 8;
const SILENT_FOR: i64 = 90 * DAY;
/// Who gets fewer is silent after the deliveries of this time, when they were so many at least.
const SELDOM_FOR: i64 = 180 * DAY;
const SELDOM_LEAST: usize = 4;
/// A fifth more or less is a change, when it is this sure.
const CHANGE: f64 = 0.2;
const SURE: f64 = 0.8;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = LoadMail)]
pub enum Mail {
    Sparse,
    Usual,
    Dense,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = LoadAnswer)]
pub enum Answer {
    New,
    Rising,
    Steady,
    Slackening,
    Silent,
}

impl Mail {
    pub const ALL: [Self; 3] = [Self::Sparse, Self::Usual, Self::Dense];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Sparse => "sparse",
            Self::Usual => "usual",
            Self::Dense => "dense",
        }
    }
}

impl Answer {
    pub const ALL: [Self; 5] = [Self::New, Self::Rising, Self::Steady, Self::Slackening, Self::Silent];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::New => "new",
            Self::Rising => "rising",
            Self::Steady => "steady",
            Self::Slackening => "slackening",
            Self::Silent => "silent",
        }
    }
}

/// How many cells there are.
pub const CELLS: u8 = 15;

/// The number of a cell, as segments and mailings name it.
#[must_use]
pub fn cell(mail: Mail, answer: Answer) -> u8 {
    5 * mail as u8 + answer as u8
}

/// "usual mail, slackening"
#[must_use]
pub fn cell_words(cell: u8) -> String {
    let (mail, answer) = (Mail::ALL[usize::from(cell / 5).min(2)], Answer::ALL[usize::from(cell % 5)]);
    format!("{} mail, {}", mail.words(), answer.words())
}

/// A delivered message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Delivery {
    pub at: Instant,
    /// The first human response to it; of open-blind people, the first but an open.
    pub answered: Option<Instant>,
}

/// Half-lives and windows: an open-blind person is watched over twice the time.
#[must_use]
fn stretch(blind: bool) -> i64 {
    if blind { 2 } else { 1 }
}

#[allow(clippy::cast_precision_loss)]
fn weight(age: i64, half_life: i64) -> f64 {
    (-(age.max(0) as f64) / half_life as f64 * std::f64::consts::LN_2).exp()
}

/// Messages per 28 days, weighted: what was delivered over the weight of the time in which it could have been.
#[must_use]
#[allow(clippy::cast_precision_loss)]
pub fn per_28_days(deliveries: &[Delivery], since: Instant, now: Instant) -> f64 {
    // Somebody who came yesterday has had no 28 days: their time counts as a week at least.
    let time = (now - since).max(7 * DAY);
    let exposure = HALF_LIFE as f64 / std::f64::consts::LN_2 * (1.0 - weight(time, HALF_LIFE)) / (28 * DAY) as f64;
    deliveries.iter().map(|d| weight(now - d.at, HALF_LIFE)).sum::<f64>() / exposure
}

/// Weighted deliveries and answers.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Counts {
    pub delivered: f64,
    pub answered: f64,
}

impl Counts {
    fn of<'a>(deliveries: impl Iterator<Item = &'a Delivery>, now: Instant, half_life: i64) -> Self {
        deliveries.fold(Self::default(), |sum, d| {
            let w = weight(now - d.at, half_life);
            Self { delivered: sum.delivered + w, answered: sum.answered + if d.answered.is_some() { w } else { 0.0 } }
        })
    }
}

/// How somebody answers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Answering {
    pub answer: Answer,
    /// All history, weighted.
    pub counts: Counts,
    /// Shrunk to the base.
    pub rate: f64,
    /// The chance that it rose by a fifth or more, and that it fell by a fifth or more.
    pub rose: f64,
    pub fell: f64,
}

/// The chance that a rate with posterior Beta(a) is more than `times` one with posterior Beta(b).
///
/// First by the logarithms, whose means `psi(alpha) - psi(alpha + beta)` and variances `psi1(alpha) -
/// psi1(alpha + beta)` are exact, their difference taken as normal: right to some six points. Where that could
/// decide otherwise than the chance itself, the integral.
fn chance_above(a: Prior, b: Prior, times: f64) -> f64 {
    let mean = |p: Prior| digamma(p.alpha) - digamma(p.alpha + p.beta);
    let variance = |p: Prior| trigamma(p.alpha) - trigamma(p.alpha + p.beta);
    let rough = normal_sf((times.ln() - mean(a) + mean(b)) / (variance(a) + variance(b)).sqrt());
    let near = |threshold: f64| (rough - threshold).abs() < 0.15;
    if near(SURE) || near(1.0 - SURE) { integral(a, b, times) } else { rough }
}

/// `P(A > times B)`, integrated over the logit of B, where its density is smooth and falls off on both sides:
/// there the trapezoid rule is right to nearly all digits.
fn integral(a: Prior, b: Prior, times: f64) -> f64 {
    const STEPS: i32 = 80;
    let (middle, sd) = (digamma(b.alpha) - digamma(b.beta), (trigamma(b.alpha) + trigamma(b.beta)).sqrt());
    let step = 18.0 * sd / f64::from(STEPS);
    let (mut above, mut all) = (0.0, 0.0);
    for i in 0..=STEPS {
        let z = middle - 9.0 * sd + step * f64::from(i);
        let x = 1.0 / (1.0 + (-z).exp());
        let density = (b.alpha * x.ln() - b.beta * z.exp().ln_1p() - b.alpha * middle_log(b) + b.beta * other_log(b)).exp();
        all += density;
        above += density * if times * x >= 1.0 { 0.0 } else { beta_tails(a.alpha, a.beta, times * x).1 };
    }
    above / all
}

/// Logarithms at the mean, which keep the densities of an integral near one.
fn middle_log(p: Prior) -> f64 {
    (p.alpha / (p.alpha + p.beta)).ln()
}

fn other_log(p: Prior) -> f64 {
    -(p.beta / (p.alpha + p.beta)).ln()
}

/// How somebody answers their mail. `deliveries` come oldest first.
#[must_use]
pub fn answering(deliveries: &[Delivery], blind: bool, prior: Prior, now: Instant) -> Answering {
    let stretch = stretch(blind);
    let half_life = HALF_LIFE * stretch;
    let ripe: Vec<&Delivery> = deliveries.iter().filter(|d| now - d.at >= YOUNG || d.answered.is_some()).collect();
    let counts = Counts::of(ripe.iter().copied(), now, half_life);
    let lately = |d: &&&Delivery| now - d.at < LATELY * stretch;
    // A recent message counts whole; the time before it is weighted from where it ends.
    let last = Counts::of(ripe.iter().filter(lately).copied(), now, i64::MAX);
    let before = Counts::of(ripe.iter().filter(|d| !lately(d)).copied(), now + -LATELY * stretch, half_life);
    let posterior = |c: Counts| Prior { alpha: prior.alpha + c.answered, beta: prior.beta + (c.delivered - c.answered).max(0.0) };
    let rose = chance_above(posterior(last), posterior(before), 1.0 + CHANGE);
    let fell = 1.0 - chance_above(posterior(last), posterior(before), 1.0 - CHANGE);
    let many = SILENT_DELIVERIES * usize::try_from(stretch).unwrap_or(1);
    let in_time = ripe.iter().filter(|d| now - d.at < SELDOM_FOR * stretch).count();
    let none_of = |last: usize| ripe.len() >= last && ripe[ripe.len() - last..].iter().all(|d| d.answered.is_none());
    let quiet = (none_of(many) || (SELDOM_LEAST..many).contains(&in_time) && none_of(in_time))
        && ripe.iter().filter_map(|d| d.answered).all(|t| now - t >= SILENT_FOR * stretch);
    let answer = if deliveries.len() < NEW_UNDER {
        Answer::New
    } else if quiet {
        Answer::Silent
    } else if rose > SURE {
        Answer::Rising
    } else if fell > SURE {
        Answer::Slackening
    } else {
        Answer::Steady
    };
    Answering { answer, counts, rate: prior.shrunk(counts.answered, counts.delivered), rose, fell }
}

/// The bounds of *usual*: a fifth of the mailable people lies under the first, a fifth over the second.
#[must_use]
pub fn usual_range(mut rates: Vec<f64>) -> (f64, f64) {
    if rates.is_empty() {
        return (0.0, 0.0);
    }
    rates.sort_by(f64::total_cmp);
    let at = |share: usize| rates[(rates.len() - 1) * share / 100];
    (at(20), at(80))
}

/// Where messages per 28 days lie in the base.
#[must_use]
pub fn mail(per_28_days: f64, (low, high): (f64, f64)) -> Mail {
    if per_28_days < low {
        Mail::Sparse
    } else if per_28_days > high {
        Mail::Dense
    } else {
        Mail::Usual
    }
}

/// The prior to go on with: a new fit, when it explains the last four weeks better than the one there is.
#[must_use]
pub fn prior(kept: Option<Prior>, fitted: Option<Prior>, last_weeks: &[Group]) -> Option<Prior> {
    match (kept, fitted) {
        (Some(kept), Some(fitted)) if kept.log_likelihood(last_weeks) >= fitted.log_likelihood(last_weeks) => Some(kept),
        (_, Some(fitted)) => Some(fitted),
        (kept, None) => kept,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NOW: Instant = Instant::of(1_776_364_800_000);
    const BASE: Prior = Prior { alpha: 1.5, beta: 4.5 };

    /// Days ago, and whether it was answered within a day.
    fn sent(days: impl IntoIterator<Item = (i64, bool)>) -> Vec<Delivery> {
        let mut all: Vec<Delivery> =
            days.into_iter().map(|(d, yes)| Delivery { at: NOW + -d * DAY, answered: yes.then_some(NOW + -d * DAY + DAY / 2) }).collect();
        all.sort_by_key(|d| d.at);
        all
    }

    fn answer(days: impl IntoIterator<Item = (i64, bool)>) -> Answer {
        answering(&sent(days), false, BASE, NOW).answer
    }

    #[test]
    fn each_answer_by_its_story() {
        let weekly = |from: i64, to: i64| (from..=to).map(|w| 7 * w + 3);
        assert_eq!(answer(weekly(0, 2).map(|d| (d, true))), Answer::New);
        assert_eq!(answer(weekly(0, 25).map(|d| (d, d > 120))), Answer::Silent);
        assert_eq!(answer(weekly(0, 25).map(|d| (d, d < 42))), Answer::Rising);
        assert_eq!(answer(weekly(0, 25).map(|d| (d, d > 42))), Answer::Slackening);
        assert_eq!(answer(weekly(0, 25).map(|d| (d, d % 2 == 0))), Answer::Steady);
        // Anybody who is mailed once a month isn't new for ever, and is silent after a few; anybody who got three in half a year isn't.
        assert_eq!(answer((0..13).map(|month| (28 * month + 3, month % 3 == 0))), Answer::Steady);
        assert_eq!(answer((0..13).map(|month| (28 * month + 3, false))), Answer::Silent);
        assert_eq!(answer((0..6).map(|n| (40 * n + 3, false))), Answer::Silent);
        assert_ne!(answer((0..6).map(|n| (60 * n + 3, false))), Answer::Silent);
        assert_ne!(answer((0..6).map(|n| (40 * n + 3, n == 1))), Answer::Silent, "they answered 43 days ago");
        // Eight unanswered in a fortnight are not 90 days.
        assert_ne!(answer((0..8).map(|d| (d + 2, false)).chain([(30, true)])), Answer::Silent);
        // What came this morning says nothing yet.
        assert_eq!(answer(weekly(0, 25).map(|d| (d, d < 42)).chain([(0, false), (1, false)])), Answer::Rising);
    }

    /// An open-blind person is given twice as long before they are called silent.
    #[test]
    fn the_blind_are_watched_longer() {
        let story = || (0..20).map(|w| (7 * w + 3, w > 14));
        assert_eq!(answering(&sent(story()), false, BASE, NOW).answer, Answer::Silent);
        assert_ne!(answering(&sent(story()), true, BASE, NOW).answer, Answer::Silent);
    }

    #[test]
    fn mail_is_measured_by_the_time_there_was() {
        let weekly = |weeks: i64| sent((0..weeks).map(|w| (7 * w + 3, false)));
        for weeks in [4, 12, 52, 104] {
            let rate = per_28_days(&weekly(weeks), NOW + -weeks * 7 * DAY, NOW);
            assert!((rate - 4.0).abs() < 0.15, "{weeks} weeks: {rate}");
        }
        let range = usual_range((0..=100).map(f64::from).collect());
        assert_eq!(range, (20.0, 80.0));
        assert_eq!(
            [mail(19.9, range), mail(20.0, range), mail(80.0, range), mail(80.1, range)],
            [Mail::Sparse, Mail::Usual, Mail::Usual, Mail::Dense]
        );
        assert_eq!(mail(2.0, usual_range(vec![2.0; 9])), Mail::Usual, "where all get the same, it is usual");
        assert_eq!(cell_words(cell(Mail::Dense, Answer::Slackening)), "dense mail, slackening");
        assert_eq!((cell(Mail::Dense, Answer::Silent), cell_words(0).as_str()), (14, "sparse mail, new"));
    }

    proptest! {
        /// The chance against its integral.
        #[test]
        fn the_chance_is_close_to_the_integral(x1 in 0.0f64..12.0, n1 in 0.0f64..12.0, x0 in 0.0f64..20.0, n0 in 0.0f64..40.0, times in prop_oneof![Just(0.8), Just(1.2)]) {
            let of = |x: f64, n: f64| Prior { alpha: BASE.alpha + x, beta: BASE.beta + n };
            let (a, b) = (of(x1, n1), of(x0, n0));
            // P(A > tB) = sum over a grid of B's quantiles of P(A > t q).
            let steps = 4_000;
            let exact: f64 = (0..steps)
                .map(|i| {
                    let (lo, hi) = (f64::from(i) / f64::from(steps), f64::from(i + 1) / f64::from(steps));
                    let mass = beta_tails(b.alpha, b.beta, hi).0 - beta_tails(b.alpha, b.beta, lo).0;
                    mass * beta_tails(a.alpha, a.beta, (times * (lo + hi) / 2.0).min(1.0)).1
                })
                .sum();
            // The grid is right to about one in ten thousand.
            prop_assert!((integral(a, b, times) - exact).abs() < 5e-4, "{a:?} {b:?} {times}: {} {exact}", integral(a, b, times));
            let close = chance_above(a, b, times);
            prop_assert!((close - exact).abs() < 0.08, "{a:?} {b:?} {times}: {close} {exact}");
            if (exact - SURE).abs() > 1e-3 {
                prop_assert_eq!(close > SURE, exact > SURE, "{} {}", close, exact);
            }
        }

        /// More answers never make the chance of a rise smaller; an unanswered message never makes it larger.
        #[test]
        fn answers_only_help(days in prop::collection::vec((2i64..300, any::<bool>()), 5..40), at in any::<prop::sample::Index>()) {
            let now = answering(&sent(days.clone()), false, BASE, NOW);
            let i = at.index(days.len());
            let mut more = days.clone();
            more[i].1 = true;
            let then = answering(&sent(more), false, BASE, NOW);
            prop_assert!(then.rate >= now.rate - 1e-12);
            // Where the rough figure gives way to the integral it may step by some points.
            if days[i].0 < 42 { prop_assert!(then.rose >= now.rose - 0.08) } else { prop_assert!(then.fell >= now.fell - 0.08) }
        }
    }
}
