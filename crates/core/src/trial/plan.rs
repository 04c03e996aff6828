//! A trial's plan. What it can find with the people there are is in [`super::outlook`].

use super::metric::{Change, Metric};
use crate::goal::Goal;
use crate::id::SegmentId;
use crate::stats::StatsError;
use crate::{HOUR, Instant};
use serde::{Deserialize, Serialize};

/// What the trial is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[schema(as = TrialAim)]
pub enum Aim {
    /// To know: alpha and power hold.
    #[default]
    Learn,
    /// To show that a change made for other reasons loses no more than the effect named: the other arm against the control.
    NoWorse,
    /// To earn: the better one goes out, sized so that the whole audience responds the most. Nothing is proven.
    Earn,
}

/// A goal as it was when the plan was made: changing it later doesn't change the trial.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct PlanGoal {
    pub name: String,
    pub goal: Goal,
}

/// People that are looked at apart, named before the trial; who they are is frozen with the roster.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Subgroup {
    pub name: String,
    pub segment: SegmentId,
}

/// The most variants a trial compares.
pub const MOST_ARMS: usize = 6;
/// The most looks before the end.
pub const MOST_LOOKS: u32 = 5;
/// The most subgroups: with more, one of them would differ by chance alone.
pub const MOST_SUBGROUPS: usize = 2;
/// The most parts that an arm has of a block.
pub const MOST_PARTS: u32 = 10;

/// A plan as it is written and, unchanged, sealed.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Plan {
    pub question: String,
    pub metric: Metric,
    /// Smallest effect worth having, as a difference of rates (0.01 is one point); of revenue, in its currency a person.
    pub effect: f64,
    pub alpha: f64,
    pub power: f64,
    /// Share of the cleared people who take part.
    pub pilot_share: f64,
    #[schema(minimum = 0, maximum = 100_000)]
    pub window_hours: i64,
    /// What goes out on no call: an arm, or nobody gets anything.
    pub on_no_call: Option<usize>,
    /// Largest tolerable rise of leaving and of complaints, as differences of rates.
    pub leaving_margin: f64,
    pub complaint_margin: f64,
    /// The same of bounces; none: they aren't a guardrail.
    #[serde(default)]
    pub bounce_margin: Option<f64>,
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
    /// What differs between the variants.
    #[serde(default)]
    pub change: Option<Change>,
    /// What counts as a conversion, or whose worth is revenue.
    #[serde(default)]
    pub goal: Option<PlanGoal>,
    /// How many parts of the pilot each arm has; empty: all the same.
    #[serde(default)]
    pub shares: Vec<u32>,
    /// Parts of people who take part and get nothing; 0: there is no such arm.
    #[serde(default)]
    pub no_mail: u32,
    #[serde(default)]
    pub subgroups: Vec<Subgroup>,
    /// Two changes at once: their names. A has neither, B the second, C the first, D both.
    #[serde(default)]
    pub crossed: Option<[String; 2]>,
    /// Of a message in a series: people who come to it are enrolled until each arm has so many. None: everybody is drawn
    /// from the mailing's audience.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(maximum = 1_000_000_000)]
    pub per_arm: Option<u64>,
    /// In a series: the looks before the end may call an arm, too. Alpha is spent over them and the end.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub looks_call: bool,
    /// The primary is adjusted by the share of each person's last messages that they answered by it, frozen at the seal.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub uses_before: bool,
    /// The level that a reading decides the primary at, where alpha was spent over looks; none: at alpha.
    #[serde(skip)]
    pub decides_at: Option<f64>,
    /// Its people get no other marketing mailing until its window ends: what is read is of this mailing alone.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub reserves: bool,
}

/// Why a plan can't be sealed.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum PlanError {
    #[error("Write the question the trial answers, in a sentence.")]
    Question,
    #[error(
        "The pilot would be {people} people, {per_arm} in the smallest arm. At least {least} in each are needed for any reading: raise the pilot share, or send without a trial."
    )]
    TooFew { people: u64, per_arm: u64, least: u64 },
    #[error("A window of {0} h is not between 1 and 720 hours.")]
    Window(i64),
    #[error("A pilot share of {0} is not between 1% and 100%.")]
    Share(f64),
    #[error("The smallest effect worth having must be between 0.1 and 50 points.")]
    Effect,
    #[error("The smallest effect worth having must be between 0.01 and 10,000 a person.")]
    MoneyEffect,
    #[error("A margin must be between 0 and 20 points.")]
    Margin,
    #[error("A trial compares two variants or more: give the mailing a second subject.")]
    OneArm,
    #[error("A trial compares at most {MOST_ARMS} variants, and this mailing has {0}: take some out.")]
    TooManyArms(usize),
    #[error("Arm {0} is to be the control, but the mailing has no such variant.")]
    NoControl(char),
    #[error("A trial to earn has two variants of the same size: take the others out, or plan it to learn.")]
    EarnTwo,
    #[error("At most {MOST_LOOKS} looks before the end.")]
    Looks,
    #[error("Arm {0} goes out on no call, but the mailing has no such variant.")]
    NoSuchArm(char),
    #[error("Choose the goal that is counted: make one in Setup, under Goals, if there is none yet.")]
    NoGoal,
    #[error("The goal {0} counts in no currency, so nothing adds up to revenue: name one in the goal, or count conversions.")]
    NoCurrency(String),
    #[error("Give each of the {0} arms 1 to {MOST_PARTS} parts of the pilot.")]
    Parts(usize),
    #[error("Those who get no mail can't open, follow, answer or leave it: count conversions or revenue, or plan no such arm.")]
    NoMailUnseen,
    #[error("At most {MOST_SUBGROUPS} subgroups, each with a name and a segment of its own.")]
    Subgroups,
    #[error(
        "Two changes at once take four variants (neither, the second, the first, both), two names, no control, and a choice for no call."
    )]
    Crossed,
    #[error(
        "In a series people come one by one and the message goes on: plan the trial to learn, with a choice for no call, and without arms that get no mail, subgroups or two crossed changes."
    )]
    InSeries,
    #[error(
        "Looks may call an arm only in a series, where people come for weeks; after one mailing a faster response looks like a larger one. Let them stop for harm only, or plan some."
    )]
    LooksCall,
    #[error(
        "What people did before sharpens a comparison of opens, clicks, replies or leaving after one mailing: not of goals or money, in a series, or of two crossed changes."
    )]
    Before,
    #[error(
        "“No worse” is asked of one arm against a control, of shares of people: name the control, and take other arms, money and looks that call out."
    )]
    NoWorse,
    #[error("Enrol between {LEAST_PER_ARM} and 1,000,000 people per arm: {0} can't be read.")]
    PerArm(u64),
    #[error("Give each of the {0} arms 0 to {MOST_PARTS} parts of those who come.")]
    StretchParts(usize),
    #[error("Two arms at least must be open: with one there is nothing to compare. To stop altogether, end the enrolment.")]
    OneOpen,
    #[error("Arm {0} is what the others are compared with, or what goes out on no call: it stays open.")]
    MustStayOpen(char),
    #[error(transparent)]
    Stats(#[from] StatsError),
}

/// Fewer people than this in an arm make the normal approximation of the test meaningless.
pub const LEAST_PER_ARM: u64 = 30;

impl Plan {
    /// A plan as most begin: opens, two points, 48 hours, against every other arm.
    #[must_use]
    pub fn usual(question: &str) -> Self {
        Self {
            question: question.to_owned(),
            metric: Metric::HumanOpen,
            effect: 0.02,
            alpha: 0.05,
            power: 0.8,
            pilot_share: 0.4,
            window_hours: 48,
            on_no_call: Some(0),
            leaving_margin: 0.005,
            complaint_margin: 0.002,
            bounce_margin: None,
            aim: Aim::Learn,
            control: None,
            harm_looks: 0,
            by_itself: false,
            change: None,
            goal: None,
            shares: Vec::new(),
            no_mail: 0,
            subgroups: Vec::new(),
            crossed: None,
            per_arm: None,
            looks_call: false,
            uses_before: false,
            decides_at: None,
            reserves: false,
        }
    }

    /// Is there something that people did before to adjust by?
    #[must_use]
    pub fn may_use_before(&self) -> bool {
        !self.metric.asks_goal() && self.per_arm.is_none() && self.crossed.is_none()
    }

    /// The level that all comparisons of the primary are decided at together.
    #[must_use]
    pub fn level(&self) -> f64 {
        self.decides_at.unwrap_or(self.alpha)
    }

    /// The same plan as it decides at its end: where looks may call, with what of alpha they leave.
    ///
    /// # Errors
    /// When alpha is no share.
    pub fn at_end(&self, arms: usize) -> Result<Self, StatsError> {
        let bounds = super::looks::call_bounds(self, arms)?;
        Ok(bounds.last().map_or_else(|| self.clone(), |b| Self { decides_at: Some(b.level), ..self.clone() }))
    }

    /// Checks everything that doesn't depend on the audience.
    ///
    /// # Errors
    /// The first thing that is wrong, with what to do.
    pub fn check(&self, arms: usize) -> Result<(), PlanError> {
        if self.question.trim().is_empty() {
            return Err(PlanError::Question);
        }
        self.check_arms(arms)?;
        self.check_series(arms)?;
        self.check_metric()?;
        if self.uses_before && !self.may_use_before() {
            return Err(PlanError::Before);
        }
        self.check_times()?;
        if !(0.01..=1.0).contains(&self.pilot_share) {
            return Err(PlanError::Share(self.pilot_share));
        }
        let margins = [Some(self.leaving_margin), Some(self.complaint_margin), self.bounce_margin];
        if !margins.iter().flatten().all(|m| (0.0..=0.2).contains(m)) {
            return Err(PlanError::Margin);
        }
        let mut segments: Vec<SegmentId> = self.subgroups.iter().map(|s| s.segment).collect();
        segments.sort_unstable();
        segments.dedup();
        let named = self.subgroups.iter().all(|s| !s.name.trim().is_empty());
        if self.subgroups.len() > MOST_SUBGROUPS || segments.len() < self.subgroups.len() || !named {
            return Err(PlanError::Subgroups);
        }
        self.check_levels()
    }

    /// Can it be computed with, while it is still being written? Its arms are there and its numbers are numbers; what it asks and
    /// counts may be missing.
    ///
    /// # Errors
    /// An arm that isn't there, or a number out of its range.
    pub fn check_numbers(&self, arms: usize) -> Result<(), PlanError> {
        if arms > MOST_ARMS {
            return Err(PlanError::TooManyArms(arms));
        }
        if !self.shares.is_empty() && (self.shares.len() != arms || self.shares.iter().any(|n| *n > MOST_PARTS))
            || self.no_mail > MOST_PARTS
        {
            return Err(PlanError::Parts(arms));
        }
        self.check_named_arms(arms)?;
        self.check_times()?;
        if !(0.0..=1.0).contains(&self.pilot_share) {
            return Err(PlanError::Share(self.pilot_share));
        }
        self.check_levels()
    }

    /// The looks and the window.
    fn check_times(&self) -> Result<(), PlanError> {
        if self.harm_looks > MOST_LOOKS {
            return Err(PlanError::Looks);
        }
        if !(1..=720).contains(&self.window_hours) {
            return Err(PlanError::Window(self.window_hours));
        }
        Ok(())
    }

    fn check_levels(&self) -> Result<(), PlanError> {
        for (name, value) in [("alpha", self.alpha), ("power", self.power)] {
            crate::stats::open_unit(name, value)?;
        }
        Ok(())
    }

    /// The control and what goes out on no call are arms that there are.
    fn check_named_arms(&self, arms: usize) -> Result<(), PlanError> {
        if let Some(arm) = self.control.filter(|a| *a >= arms) {
            return Err(PlanError::NoControl(super::letter(arm)));
        }
        if let Some(arm) = self.on_no_call.filter(|a| *a >= arms) {
            return Err(PlanError::NoSuchArm(super::letter(arm)));
        }
        Ok(())
    }

    fn check_arms(&self, arms: usize) -> Result<(), PlanError> {
        if arms < 2 {
            return Err(PlanError::OneArm);
        }
        if arms > MOST_ARMS {
            return Err(PlanError::TooManyArms(arms));
        }
        if self.aim == Aim::Earn && (arms != 2 || !self.shares.is_empty()) {
            return Err(PlanError::EarnTwo);
        }
        // In a series an arm may begin later.
        let least = u32::from(self.per_arm.is_none());
        let parts = |n: &u32| (least..=MOST_PARTS).contains(n);
        if !self.shares.is_empty() && (self.shares.len() != arms || !self.shares.iter().all(parts)) || self.no_mail > MOST_PARTS {
            return Err(PlanError::Parts(arms));
        }
        let one_other = arms == 2 && self.control.is_some() && self.crossed.is_none();
        if self.aim == Aim::NoWorse && (!one_other || self.metric.is_money() || self.looks_call) {
            return Err(PlanError::NoWorse);
        }
        self.check_named_arms(arms)?;
        if let Some(names) = &self.crossed {
            let named = names.iter().all(|n| !n.trim().is_empty()) && names[0] != names[1];
            if arms != 4 || !named || self.control.is_some() || self.on_no_call.is_none() || self.aim == Aim::Earn {
                return Err(PlanError::Crossed);
            }
        }
        Ok(())
    }

    fn check_series(&self, arms: usize) -> Result<(), PlanError> {
        if self.looks_call && (self.per_arm.is_none() || self.harm_looks == 0) {
            return Err(PlanError::LooksCall);
        }
        let Some(per_arm) = self.per_arm else { return Ok(()) };
        let odd = self.no_mail > 0 || !self.subgroups.is_empty() || self.crossed.is_some();
        if odd || self.aim == Aim::Earn || self.on_no_call.is_none() {
            return Err(PlanError::InSeries);
        }
        super::stretches::check_number(per_arm)?;
        super::stretches::check_parts(&self.parts(arms), arms, &self.stays_open())
    }

    /// The arms that can't be closed on the way: what the others are compared with, and what goes out on no call.
    #[must_use]
    pub fn stays_open(&self) -> Vec<usize> {
        self.control.into_iter().chain(self.on_no_call).collect()
    }

    fn check_metric(&self) -> Result<(), PlanError> {
        if self.metric.asks_goal() {
            let goal = self.goal.as_ref().ok_or(PlanError::NoGoal)?;
            if self.metric.is_money() && goal.goal.currency.is_empty() {
                return Err(PlanError::NoCurrency(goal.name.clone()));
            }
        } else if self.no_mail > 0 {
            return Err(PlanError::NoMailUnseen);
        }
        if self.metric.is_money() {
            if !(0.01..=10_000.0).contains(&self.effect) {
                return Err(PlanError::MoneyEffect);
            }
        } else if !(0.001..=0.5).contains(&self.effect) {
            return Err(PlanError::Effect);
        }
        Ok(())
    }

    /// The parts of the pilot that each arm has, those without mail last.
    #[must_use]
    pub fn parts(&self, arms: usize) -> Vec<u32> {
        let mut parts = if self.shares.len() == arms { self.shares.clone() } else { vec![1; arms] };
        parts.extend((self.no_mail > 0).then_some(self.no_mail));
        parts
    }

    /// People in each arm of a pilot, those without mail last.
    #[must_use]
    pub fn sizes(&self, pilot: u64, arms: usize) -> Vec<u64> {
        let parts = self.parts(arms);
        let all: u64 = parts.iter().map(|p| u64::from(*p)).sum();
        parts.iter().map(|p| pilot * u64::from(*p) / all.max(1)).collect()
    }

    /// How many of `cleared` people take part: whole blocks. In a series, how many will have come in all.
    #[must_use]
    #[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    pub fn pilot_size(&self, cleared: u64, arms: usize) -> u64 {
        if let Some(per_arm) = self.per_arm {
            return super::stretches::people(per_arm, &self.parts(arms));
        }
        let block = self.parts(arms).iter().map(|p| u64::from(*p)).sum::<u64>().max(1);
        ((cleared as f64 * self.pilot_share).round() as u64).min(cleared) / block * block
    }

    /// Refuses a pilot too small to read.
    ///
    /// # Errors
    /// [`PlanError::TooFew`] with the numbers.
    pub fn check_size(&self, cleared: u64, arms: usize) -> Result<u64, PlanError> {
        let people = self.pilot_size(cleared, arms);
        let per_arm = self.sizes(people, arms).into_iter().filter(|n| self.per_arm.is_none() || *n > 0).min().unwrap_or(0);
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

    /// How many comparisons share alpha.
    #[must_use]
    pub fn comparisons(&self, arms: usize) -> usize {
        if self.crossed.is_some() {
            return 2;
        }
        let parts = self.parts(arms);
        let open = |arm: usize| parts.get(arm).is_none_or(|p| *p > 0);
        super::decide::pairs(arms, self.control).into_iter().filter(|(b, a)| open(*b) && open(*a)).count().max(1)
    }

    /// The currency of revenue.
    #[must_use]
    pub fn currency(&self) -> &str {
        self.goal.as_ref().map_or("", |g| &g.goal.currency)
    }

    /// A size of the metric: "2.1 points", "0.35 GBP a person".
    #[must_use]
    pub fn amount(&self, size: f64) -> String {
        if self.metric.is_money() {
            format!("{:.2} {} a person", size.abs(), self.currency())
        } else {
            format!("{:.1} points", size.abs() * 100.0)
        }
    }

    /// How an arm stands to another: "2.1 more human opens per 100 people", "0.35 GBP less a person".
    #[must_use]
    pub fn more(&self, difference: f64) -> String {
        if self.metric.is_money() {
            let word = if difference < 0.0 { "less" } else { "more" };
            return format!("{:.2} {} {word} a person", difference.abs(), self.currency());
        }
        let word = if difference < 0.0 { "fewer" } else { "more" };
        format!("{:.1} {word} {} per 100 people", difference.abs() * 100.0, self.metric.words())
    }

    /// A bound of an interval, in the unit of [`Plan::more`].
    #[must_use]
    pub fn bound(&self, value: f64) -> String {
        if self.metric.is_money() { format!("{value:.2}") } else { format!("{:.1}", value * 100.0) }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use rstest::rstest;

    pub(crate) fn plan() -> Plan {
        Plan::usual("Does it?")
    }
    pub(crate) fn goal(currency: &str) -> Option<PlanGoal> {
        let what = crate::goal::What::Purchase { product: None, category: None };
        Some(PlanGoal { name: "Shop".into(), goal: Goal { what, currency: currency.into() } })
    }

    fn group(segment: SegmentId) -> Subgroup {
        Subgroup { name: "Members".into(), segment }
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
    #[case(Plan { aim: Aim::NoWorse, ..plan() }, 2, "name the control")]
    #[case(Plan { aim: Aim::NoWorse, control: Some(0), ..plan() }, 3, "one arm against a control")]
    #[case(Plan { uses_before: true, metric: Metric::Conversion, goal: goal(""), ..plan() }, 2, "What people did before")]
    #[case(Plan { looks_call: true, harm_looks: 2, ..plan() }, 2, "only in a series")]
    #[case(Plan { looks_call: true, per_arm: Some(100), ..plan() }, 2, "or plan some")]
    #[case(Plan { metric: Metric::Conversion, ..plan() }, 2, "Choose the goal")]
    #[case(Plan { metric: Metric::Revenue, goal: goal(""), effect: 1.0, ..plan() }, 2, "no currency")]
    #[case(Plan { metric: Metric::Revenue, goal: goal("GBP"), effect: 0.0, ..plan() }, 2, "a person")]
    #[case(Plan { no_mail: 1, ..plan() }, 2, "count conversions or revenue")]
    #[case(Plan { shares: vec![1, 2], ..plan() }, 3, "parts of the pilot")]
    #[case(Plan { shares: vec![0, 2], ..plan() }, 2, "parts of the pilot")]
    #[case(Plan { shares: vec![1, 2], aim: Aim::Earn, ..plan() }, 2, "of the same size")]
    #[case(Plan { subgroups: vec![group(SegmentId(1)), group(SegmentId(1))], ..plan() }, 2, "subgroups")]
    #[case(Plan { crossed: Some(["Subject".into(), "Offer".into()]), ..plan() }, 2, "four variants")]
    #[case(Plan { crossed: Some(["Offer".into(), "Offer".into()]), ..plan() }, 4, "two names")]
    fn what_is_wrong_is_said(#[case] plan: Plan, #[case] arms: usize, #[case] want: &str) {
        let words = plan.check(arms).unwrap_err().to_string();
        assert!(words.contains(want), "{words}");
    }

    #[test]
    fn a_pilot_of_three_people_is_refused() {
        let words = plan().check_size(8, 2).unwrap_err().to_string();
        assert!(words.contains("raise the pilot share"), "{words}");
        assert!(plan().check(2).is_ok() && plan().check_size(150, 2) == Ok(60));
    }

    #[test]
    fn arms_of_other_sizes_have_their_parts() {
        let p = Plan { shares: vec![1, 2, 2], no_mail: 5, ..plan() };
        assert_eq!((p.parts(3), p.pilot_size(1_000, 3), p.sizes(400, 3)), (vec![1, 2, 2, 5], 400, vec![40, 80, 80, 200]));
        assert_eq!(plan().parts(2), [1, 1]);
    }
}
