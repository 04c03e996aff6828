//! Silent people: who is asked whether to go on, who let it pass, and who is kept back so that what that costs is known.
//!
//! Somebody is silent when their mail load says so and their last answer lies further back than the window; people whose opens can't be told
//! from a machine's are judged by clicks, replies, purchases and forms, over twice the time. They are asked before anything is done: only who
//! got the letters and let them pass becomes *sunset*. A share, drawn by hash, keeps getting mail: cleaning is an experiment, too.

use super::policy::days;
use crate::Instant;
use crate::report::Rate;
use crate::stats::Arm;
use crate::stats::two_proportions::newcombe;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The numbers of the policy on silence.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
#[schema(as = SilencePolicy)]
pub struct Numbers {
    /// Silent: no answer for so long. None: for as long as the recency guide suggests.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub window_days: Option<u32>,
    /// Who was asked has so long to answer, from the last letter that was delivered.
    #[schema(required)]
    pub asked_days: u32,
    /// Of those who let it pass, so many in a hundred keep getting mail …
    #[schema(required)]
    pub kept_back_percent: u32,
    /// … for so long.
    #[schema(required)]
    pub kept_back_days: u32,
}

impl Default for Numbers {
    fn default() -> Self {
        Self { window_days: None, asked_days: 14, kept_back_percent: 5, kept_back_days: 90 }
    }
}

/// The latest time that somebody was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asked {
    pub entered: Instant,
    /// More letters may come.
    pub inside: bool,
    /// When the last of its letters was delivered.
    pub delivered: Option<Instant>,
}

/// What is known of somebody.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Known {
    /// By their mail load.
    pub silent: bool,
    pub open_blind: bool,
    /// The last sign that a person reads: an open (where one can be told), a click, a reply, a purchase, a form.
    pub answered: Option<Instant>,
    /// The first message that was delivered to them: nobody is silent for longer than they were written to.
    pub first_delivered: Option<Instant>,
    pub asked: Option<Asked>,
    /// When a run, or a person who read one, left them as they are.
    pub left_alone: Option<Instant>,
}

/// How far it is with a silent person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
#[schema(as = SilenceStage)]
pub enum Stage {
    ToAsk = 0,
    /// Letters may still come, or their time to answer isn't over.
    BeingAsked = 1,
    LetPass = 2,
    /// Let it pass, and keeps getting mail: drawn to measure what sunset costs, or left as they are by a person.
    LeftAlone = 3,
}

impl Stage {
    pub const ALL: [Self; 4] = [Self::ToAsk, Self::BeingAsked, Self::LetPass, Self::LeftAlone];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::ToAsk => "to be asked",
            Self::BeingAsked => "being asked",
            Self::LetPass => "asked, and let it pass",
            Self::LeftAlone => "kept back, or left alone",
        }
    }
}

crate::code::coded!(Stage, "stage of a silent person");

/// How far it is with somebody; none: they aren't silent.
#[must_use]
pub fn stage(known: &Known, window_days: u32, numbers: &Numbers, now: Instant) -> Option<Stage> {
    let window = days(window_days) * if known.open_blind { 2 } else { 1 };
    let since = known.answered.max(known.first_delivered)?;
    if !known.silent || now - since <= window {
        return None;
    }
    if known.left_alone.is_some_and(|at| now - at < days(numbers.kept_back_days)) {
        return Some(Stage::LeftAlone);
    }
    // An answer since then ended that silence: this one is asked about again.
    let asked = known.asked.filter(|a| known.answered.is_none_or(|at| at < a.entered));
    Some(match asked {
        Some(a) if a.inside => Stage::BeingAsked,
        Some(Asked { delivered: Some(at), .. }) if now - at < days(numbers.asked_days) => Stage::BeingAsked,
        Some(Asked { delivered: Some(_), .. }) => Stage::LetPass,
        // Nobody is condemned by letters that never came.
        Some(Asked { delivered: None, .. }) | None => Stage::ToAsk,
    })
}

/// What speaks for taking somebody's marketing mail away, in a sentence.
#[must_use]
pub fn why(known: &Known) -> String {
    let answered = match known.answered {
        Some(at) => format!("The last answer was on {}", at.words()),
        None => "Nothing was ever answered".to_owned(),
    };
    let asked = match known.asked {
        Some(Asked { delivered: Some(at), .. }) => format!("; the last letter that asked was delivered on {}, and let pass", at.words()),
        _ => String::new(),
    };
    let blind =
        if known.open_blind { " Opens can’t be told here: clicks, replies, purchases and forms count, over twice the time." } else { "" };
    format!("{answered}{asked}.{blind}")
}

/// What became of people who let it pass: of those kept back, and of those who were sunset, as far as their time is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Became {
    pub kept: u64,
    /// Of them, who answered in any way.
    pub kept_answered: u64,
    pub kept_bought: u64,
    pub kept_complained: u64,
    pub sunset: u64,
    pub sunset_bought: u64,
}

/// A difference of two shares, with its limits at 95% (Newcombe 1998, hybrid score).
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = SilenceDifference)]
pub struct Difference {
    pub estimate: f64,
    pub lower: f64,
    pub upper: f64,
}

/// People, at least and at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = SilenceMissed)]
pub struct Missed {
    pub least: u64,
    pub most: u64,
}

/// What sunset costs, measured by those kept back.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
#[schema(as = SilenceReadout)]
pub struct Readout {
    pub days: u32,
    pub answered: Rate,
    pub bought: Rate,
    pub complained: Rate,
    pub sunset_bought: Rate,
    /// The share of those kept back who bought less that of those sunset; none until there are both.
    pub bought_more: Option<Difference>,
    /// So many of those sunset would have answered, by the limits of `answered`.
    pub missed: Option<Missed>,
}

/// Reads those kept back against those sunset.
#[must_use]
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub fn readout(b: &Became, days: u32) -> Readout {
    let answered = Rate::new(b.kept_answered, b.kept);
    let share = |x: u64, n: u64| x as f64 / n as f64;
    let arm = |successes, trials| Arm { successes, trials };
    let (kept, gone) = (arm(b.kept_bought, b.kept), arm(b.sunset_bought, b.sunset));
    let bought_more = newcombe(gone, kept, 0.95).ok().map(|(lower, upper)| {
        let estimate = share(b.kept_bought, b.kept) - share(b.sunset_bought, b.sunset);
        Difference { estimate, lower, upper }
    });
    let of = |share: f64| (share * b.sunset as f64).round() as u64;
    let missed = answered.lower.zip(answered.upper).filter(|_| b.sunset > 0).map(|(low, high)| Missed { least: of(low), most: of(high) });
    Readout {
        days,
        answered,
        bought: Rate::new(b.kept_bought, b.kept),
        complained: Rate::new(b.kept_complained, b.kept),
        sunset_bought: Rate::new(b.sunset_bought, b.sunset),
        bought_more,
        missed,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::DAY;
    use proptest::prelude::*;

    const NOW: i64 = 3_000 * DAY;

    fn at() -> impl Strategy<Value = Instant> {
        (0i64..900).prop_map(|d| Instant::of(NOW - d * DAY))
    }

    fn known() -> impl Strategy<Value = Known> {
        let asked = (at(), any::<bool>(), prop::option::of(at())).prop_map(|(entered, inside, delivered)| Asked {
            entered,
            inside,
            delivered: delivered.map(|d| d.max(entered)),
        });
        let at = || prop::option::of(at());
        (any::<bool>(), any::<bool>(), at(), at(), prop::option::of(asked), at()).prop_map(
            |(silent, open_blind, answered, first_delivered, asked, left_alone)| Known {
                silent,
                open_blind,
                answered,
                first_delivered,
                asked,
                left_alone,
            },
        )
    }

    proptest! {
        /// Only who was asked since their last answer, got the letter and had their time is taken for having let it pass.
        #[test]
        fn nobody_is_condemned_unasked(k in known(), window in 90u32..800) {
            let n = Numbers::default();
            if stage(&k, window, &n, Instant::of(NOW)) == Some(Stage::LetPass) {
                let a = k.asked.unwrap();
                prop_assert!(!a.inside && k.silent);
                prop_assert!(k.answered.is_none_or(|at| at < a.entered && NOW - at.millis() > i64::from(window) * DAY));
                prop_assert!(k.answered.is_some() || NOW - k.first_delivered.unwrap().millis() > i64::from(window) * DAY);
                prop_assert!(NOW - a.delivered.unwrap().millis() >= 14 * DAY);
                prop_assert!(k.left_alone.is_none_or(|at| NOW - at.millis() >= 90 * DAY));
            }
        }

        /// A wider window takes nobody in, and being open-blind never does.
        #[test]
        fn more_time_never_makes_anybody_silent(k in known(), window in 90u32..800, more in 0u32..400) {
            let of = |k: &Known, w| stage(k, w, &Numbers::default(), Instant::of(NOW)).is_some();
            prop_assert!(!of(&k, window + more) || of(&k, window));
            let (blind, seen) = (Known { open_blind: true, ..k }, Known { open_blind: false, ..k });
            prop_assert!(!of(&blind, window) || of(&seen, window));
        }
    }

    #[test]
    fn an_answer_ends_what_was_asked_before_it() {
        let ago = |d: i64| Instant::of(NOW - d * DAY);
        let asked = Asked { entered: ago(300), inside: false, delivered: Some(ago(290)) };
        let of = |answered, asked| {
            stage(
                &Known { silent: true, answered, asked, first_delivered: Some(ago(500)), ..Known::default() },
                100,
                &Numbers::default(),
                Instant::of(NOW),
            )
        };
        assert_eq!(of(Some(ago(400)), Some(asked)), Some(Stage::LetPass));
        assert_eq!(of(Some(ago(200)), Some(asked)), Some(Stage::ToAsk), "asked before they answered");
        assert_eq!(of(None, Some(Asked { delivered: None, ..asked })), Some(Stage::ToAsk), "no letter came");
        assert_eq!(of(None, Some(Asked { delivered: Some(ago(13)), ..asked })), Some(Stage::BeingAsked));
        assert_eq!(of(Some(ago(99)), Some(asked)), None);
    }

    /// 9 of 412: Wilson's limits 1.15 to 4.10%; of 8,000 sunset people 92 to 328 answers were missed.
    #[test]
    fn the_readout_says_what_silence_costs() {
        let r = readout(&Became { kept: 412, kept_answered: 9, kept_bought: 4, kept_complained: 1, sunset: 8_000, sunset_bought: 40 }, 90);
        let share = |x: Option<f64>| (x.unwrap() * 10_000.0).round() / 100.0;
        assert_eq!((share(r.answered.lower), share(r.answered.upper)), (1.15, 4.1));
        assert_eq!(r.missed, Some(Missed { least: 92, most: 328 }));
        let more = r.bought_more.unwrap();
        assert!((more.estimate - (4.0 / 412.0 - 0.005)).abs() < 1e-12 && more.lower < more.estimate && more.estimate < more.upper);
        let none = readout(&Became::default(), 90);
        assert!(none.answered.rate.is_none() && none.bought_more.is_none() && none.missed.is_none());
    }
}
