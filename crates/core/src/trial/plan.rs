//! A trial's plan, and what it can find with the people there are.

use crate::stats::StatsError;
use crate::stats::planning::test_and_roll;
use crate::stats::sample_size::{minimum_detectable_effect, sample_size_two_proportions};
use crate::stats::special::normal_upper_quantile;
use crate::{HOUR, Instant};
use serde::{Deserialize, Serialize};

/// What is compared. The denominator is always everyone assigned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Metric {
    HumanOpen,
    HumanClick,
    Reply,
}

impl Metric {
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::HumanOpen => "human opens",
            Self::HumanClick => "human clicks",
            Self::Reply => "replies",
        }
    }
}

/// What the trial is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[schema(as = TrialAim)]
pub enum Aim {
    /// To know: alpha and power hold.
    #[default]
    Learn,
    /// To earn: the better one goes out, sized so that the whole audience responds the most. Nothing is proven.
    Earn,
}

/// What differs between the variants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[schema(as = TrialChange)]
pub enum Change {
    Subject,
    Preheader,
    SenderName,
    Content,
}

/// Shares of people who leave and who complain, where no past mailing tells.
pub const USUAL_LEAVING: f64 = 0.003;
pub const USUAL_COMPLAINTS: f64 = 0.0005;
/// The most variants a trial compares.
pub const MOST_ARMS: usize = 6;
/// The most looks before the end.
pub const MOST_LOOKS: u32 = 5;

/// A plan as it is written and, unchanged, sealed.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Plan {
    pub question: String,
    pub metric: Metric,
    /// Smallest effect worth having, as a difference of rates (0.01 is one point).
    pub effect: f64,
    pub alpha: f64,
    pub power: f64,
    /// Share of the cleared people who take part.
    pub pilot_share: f64,
    pub window_hours: i64,
    /// What goes out on no call: an arm, or nobody gets anything.
    pub on_no_call: Option<usize>,
    /// Largest tolerable rise of leaving and of complaints, as differences of rates.
    pub leaving_margin: f64,
    pub complaint_margin: f64,
    #[serde(default)]
    pub aim: Aim,
    /// The arm that the others are compared with; none: all pairs.
    #[serde(default)]
    pub control: Option<usize>,
    /// So many equally spaced looks before the end, which can stop an arm for harm and call nothing.
    #[serde(default)]
    pub harm_looks: u32,
    /// The rollout goes by itself when the verdict is there; otherwise a person releases it.
    #[serde(default)]
    pub by_itself: bool,
}

/// Why a plan can't be sealed.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum PlanError {
    #[error("Write the question the trial answers, in a sentence.")]
    Question,
    #[error(
        "The pilot would be {people} people, {per_arm} in an arm. At least {least} in each are needed for any reading: raise the pilot share, or send without a trial."
    )]
    TooFew { people: u64, per_arm: u64, least: u64 },
    #[error("A window of {0} h is not between 1 and 720 hours.")]
    Window(i64),
    #[error("A pilot share of {0} is not between 1% and 100%.")]
    Share(f64),
    #[error("The smallest effect worth having must be between 0.1 and 50 points.")]
    Effect,
    #[error("A margin must be between 0 and 20 points.")]
    Margin,
    #[error("A trial compares two variants or more: give the mailing a second subject.")]
    OneArm,
    #[error("A trial compares at most {MOST_ARMS} variants, and this mailing has {0}: take some out.")]
    TooManyArms(usize),
    #[error("Arm {0} is to be the control, but the mailing has no such variant.")]
    NoControl(char),
    #[error("A trial to earn has two variants: take the others out, or plan it to learn.")]
    EarnTwo,
    #[error("At most {MOST_LOOKS} looks before the end.")]
    Looks,
    #[error("Arm {0} goes out on no call, but the mailing has no such variant.")]
    NoSuchArm(char),
    #[error(transparent)]
    Stats(#[from] StatsError),
}

/// Fewer people than this in an arm make the normal approximation of the test meaningless.
pub const LEAST_PER_ARM: u64 = 30;

impl Plan {
    /// Checks everything that doesn't depend on the audience.
    ///
    /// # Errors
    /// The first thing that is wrong, with what to do.
    pub fn check(&self, arms: usize) -> Result<(), PlanError> {
        if self.question.trim().is_empty() {
            return Err(PlanError::Question);
        }
        if arms < 2 {
            return Err(PlanError::OneArm);
        }
        if arms > MOST_ARMS {
            return Err(PlanError::TooManyArms(arms));
        }
        if self.aim == Aim::Earn && arms != 2 {
            return Err(PlanError::EarnTwo);
        }
        if self.harm_looks > MOST_LOOKS {
            return Err(PlanError::Looks);
        }
        if let Some(arm) = self.control.filter(|a| *a >= arms) {
            return Err(PlanError::NoControl(super::letter(arm)));
        }
        if !(1..=720).contains(&self.window_hours) {
            return Err(PlanError::Window(self.window_hours));
        }
        if !(0.01..=1.0).contains(&self.pilot_share) {
            return Err(PlanError::Share(self.pilot_share));
        }
        if !(0.001..=0.5).contains(&self.effect) {
            return Err(PlanError::Effect);
        }
        if ![self.leaving_margin, self.complaint_margin].iter().all(|m| (0.0..=0.2).contains(m)) {
            return Err(PlanError::Margin);
        }
        if let Some(arm) = self.on_no_call.filter(|a| *a >= arms) {
            return Err(PlanError::NoSuchArm(super::letter(arm)));
        }
        for (name, value) in [("alpha", self.alpha), ("power", self.power)] {
            crate::stats::open_unit(name, value)?;
        }
        Ok(())
    }

    /// How many of `cleared` people take part: a whole number for every arm.
    #[must_use]
    #[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    pub fn pilot_size(&self, cleared: u64, arms: usize) -> u64 {
        let arms = arms as u64;
        ((cleared as f64 * self.pilot_share).round() as u64).min(cleared) / arms * arms
    }

    /// Refuses a pilot too small to read.
    ///
    /// # Errors
    /// [`PlanError::TooFew`] with the numbers.
    pub fn check_size(&self, cleared: u64, arms: usize) -> Result<u64, PlanError> {
        let people = self.pilot_size(cleared, arms);
        let per_arm = people / arms as u64;
        if per_arm < LEAST_PER_ARM {
            return Err(PlanError::TooFew { people, per_arm, least: LEAST_PER_ARM });
        }
        Ok(people)
    }

    /// When a person's responses stop counting.
    #[must_use]
    pub fn window_end(&self, handed_over: Instant) -> Instant {
        handed_over + self.window_hours * HOUR
    }
}

/// What a plan can find with the people there are; moves as the share moves.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct Outlook {
    pub cleared: u64,
    pub pilot: u64,
    pub per_arm: u64,
    pub rollout: u64,
    /// Rate of the metric in past mailings, over everyone handed over.
    pub baseline: f64,
    /// The smallest rise the pilot finds with the plan's power; null when none would be.
    pub smallest_effect: Option<f64>,
    /// People per arm needed for the smallest effect worth having.
    pub needed_per_arm: Option<u64>,
    /// Comparisons that alpha is shared between.
    pub comparisons: usize,
    /// The smallest rise of leaving that the pilot can rule out with the plan's power, when there is none.
    pub smallest_margin: Option<f64>,
    /// Share of the responses of 30 days that past mailings had by the end of the window.
    pub maturity: Option<f64>,
    /// The size of difference that half of past trials stayed under.
    pub typical_effect: Option<f64>,
    /// People per arm with which a plan to earn gets the most responses in all.
    pub earn_per_arm: Option<u64>,
    /// Why it is too small for what it wants to find: then only an approver lets it be sealed.
    pub too_small: Option<String>,
    pub warnings: Vec<String>,
}

/// What past mailings and trials say.
#[derive(Debug, Clone, Copy, Default)]
pub struct Known {
    /// Rate of the metric, over everyone handed over.
    pub baseline: f64,
    /// Rate of leaving within the window.
    pub leaving: f64,
    /// The share of eventual responses that had come by the end of the window.
    pub maturity: Option<f64>,
    /// The share of opens taken for machines'.
    pub machine_share: Option<f64>,
    /// The variance of true differences between variants.
    pub spread: Option<f64>,
}

/// Works out what the plan can do.
#[must_use]
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
pub fn outlook(plan: &Plan, arms: usize, cleared: u64, known: Known) -> Outlook {
    let pilot = plan.pilot_size(cleared, arms);
    let per_arm = pilot / (arms.max(1) as u64);
    let comparisons = super::decide::pairs(arms, plan.control).len().max(1);
    let alpha = plan.alpha / comparisons as f64;
    let (n, baseline) = (per_arm as f64, known.baseline);
    let smallest = minimum_detectable_effect(baseline, n, n, alpha, plan.power, 2).ok();
    let needed = sample_size_two_proportions(baseline, plan.effect, alpha, plan.power, 1.0, 2).ok().map(|s| s.n_a.ceil() as u64);
    // Two equal rates, and an upper limit that stays under the margin as often as the power asks.
    let z = normal_upper_quantile(plan.alpha / 2.0) + normal_upper_quantile(1.0 - plan.power);
    let smallest_margin = (per_arm > 0).then(|| z * (2.0 * known.leaving * (1.0 - known.leaving) / n).sqrt());
    let typical_effect = known.spread.map(super::learned::typical);
    let earn_per_arm = known.spread.filter(|s| *s > 0.0).and_then(|s| {
        // The arms' means spread by half the variance of their differences.
        test_and_roll(cleared as f64, (baseline * (1.0 - baseline)).sqrt(), (s / 2.0).sqrt()).ok().map(|n| n.round() as u64)
    });
    let (mut warnings, mut too_small) = (Vec::new(), None);
    if let Err(e) = plan.check_size(cleared, arms) {
        warnings.push(e.to_string());
    } else if let (Some(d), Some(needed), Aim::Learn) = (smallest, needed, plan.aim)
        && d > plan.effect
    {
        let fewer = if arms > 2 { " With fewer arms each would have more." } else { "" };
        let words = format!(
            "Too few people for the effect you want: it finds {:.1} points, you want {:.1}. {} per arm would do; raise the share or accept a larger effect.{fewer}",
            d * 100.0,
            plan.effect * 100.0,
            thousands(needed)
        );
        warnings.push(words.clone());
        too_small = Some(words);
    }
    if let Some(m) = known.maturity.filter(|m| *m < 0.8) {
        warnings.push(format!(
            "By {} h past mailings had {:.0}% of their responses: under 80%, so a slower arm would look worse than it is. Lengthen the window.",
            plan.window_hours, m * 100.0
        ));
    }
    if let Some(m) = known.machine_share.filter(|m| *m > 1.0 / 3.0 && plan.metric == Metric::HumanOpen) {
        warnings.push(format!("{:.0}% of past opens were machines': clicks would be a surer metric than opens.", m * 100.0));
    }
    if let Some(m) = smallest_margin.filter(|m| *m > plan.leaving_margin && per_arm >= LEAST_PER_ARM) {
        warnings.push(format!(
            "The guardrail on leaving can't be shown to hold: with so few people only a margin of {:.2} points could be. It still blocks what is surely worse.",
            m * 100.0
        ));
    }
    Outlook {
        cleared,
        pilot,
        per_arm,
        rollout: cleared - pilot,
        baseline,
        smallest_effect: smallest,
        needed_per_arm: needed,
        comparisons,
        smallest_margin,
        maturity: known.maturity,
        typical_effect,
        earn_per_arm,
        too_small,
        warnings,
    }
}

/// A count with its thousands set apart.
#[must_use]
pub fn thousands(n: u64) -> String {
    let digits = n.to_string();
    let groups: Vec<&str> = digits.as_bytes().rchunks(3).rev().filter_map(|g| std::str::from_utf8(g).ok()).collect();
    groups.join(",")
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    pub(crate) fn plan() -> Plan {
        Plan {
            question: "Does it?".into(),
            metric: Metric::HumanOpen,
            effect: 0.02,
            alpha: 0.05,
            power: 0.8,
            pilot_share: 0.4,
            window_hours: 48,
            on_no_call: Some(0),
            leaving_margin: 0.005,
            complaint_margin: 0.002,
            aim: Aim::Learn,
            control: None,
            harm_looks: 0,
            by_itself: false,
        }
    }

    #[rstest]
    #[case(Plan { question: " ".into(), ..plan() }, 2, "question")]
    #[case(plan(), 1, "second subject")]
    #[case(Plan { window_hours: 0, ..plan() }, 2, "window")]
    #[case(Plan { pilot_share: 0.0, ..plan() }, 2, "pilot share")]
    #[case(Plan { effect: f64::NAN, ..plan() }, 2, "smallest effect")]
    #[case(Plan { leaving_margin: -0.1, ..plan() }, 2, "margin")]
    #[case(Plan { on_no_call: Some(2), ..plan() }, 2, "no such variant")]
    #[case(Plan { alpha: 1.0, ..plan() }, 2, "alpha")]
    #[case(plan(), 7, "at most 6")]
    #[case(Plan { aim: Aim::Earn, ..plan() }, 3, "to earn has two")]
    #[case(Plan { control: Some(3), ..plan() }, 3, "to be the control")]
    #[case(Plan { harm_looks: 6, ..plan() }, 2, "looks")]
    fn what_is_wrong_is_said(#[case] plan: Plan, #[case] arms: usize, #[case] want: &str) {
        let words = plan.check(arms).unwrap_err().to_string();
        assert!(words.contains(want), "{words}");
    }

    #[test]
    fn a_pilot_of_three_people_is_refused() {
        let words = plan().check_size(8, 2).unwrap_err().to_string();
        assert!(words.contains("raise the pilot share"), "{words}");
        assert!(plan().check(2).is_ok() && plan().check_size(150, 2) == Ok(60));
        assert_eq!((thousands(7), thousands(1234), thousands(1_000_000)), ("7".into(), "1,234".into(), "1,000,000".into()));
    }

    proptest! {
        /// A larger share never finds less, and the people always add up.
        #[test]
        fn more_people_find_smaller_effects(cleared in 200u64..200_000, share in 0.02f64..0.9, more in 1.05f64..1.5, base in 0.02f64..0.5) {
            let of = |s: f64| outlook(&Plan { pilot_share: s, ..plan() }, 2, cleared, Known { baseline: base, leaving: 0.003, ..Known::default() });
            let (small, large) = (of(share), of((share * more).min(1.0)));
            prop_assert_eq!(small.pilot + small.rollout, cleared);
            prop_assert_eq!(small.per_arm * 2, small.pilot);
            if let (Some(a), Some(b)) = (small.smallest_effect, large.smallest_effect) {
                prop_assert!(b <= a + 1e-9);
            }
        }
    }
}
