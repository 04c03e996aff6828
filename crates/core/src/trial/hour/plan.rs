//! What an hour trial asks, sealed before its first round is drawn.

use super::confirming::Confirms;
use crate::hours::Hours;
use crate::id::MailingId;
use crate::trial::metric::Metric;
use crate::trial::plan::PlanGoal;
use crate::words::listed;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A round: one mailing on one local date.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Round {
    pub mailing: MailingId,
    /// Days since 1970-01-01: the date on each person's own clock.
    #[schema(minimum = 0, maximum = 84_000)]
    pub day: i64,
}

/// The plan of an hour trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HourPlan {
    pub question: String,
    pub metric: Metric,
    /// The goal whose conversions are counted, whatever they followed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub goal: Option<PlanGoal>,
    /// Hours of the day that people are drawn to, ascending.
    #[schema(max_items = 24)]
    pub hours: Vec<u8>,
    #[schema(max_items = 60)]
    pub rounds: Vec<Round>,
    /// The hour as it is now: people who can't be drawn get the mailing then.
    #[schema(maximum = 23)]
    pub usual_hour: u8,
    /// The smallest difference between the best and the worst hour worth having, as a difference of rates.
    #[schema(minimum = 0.001, maximum = 0.5)]
    pub effect: f64,
    #[schema(minimum = 0.001, maximum = 0.2)]
    pub alpha: f64,
    #[schema(minimum = 0.5, maximum = 0.99)]
    pub power: f64,
    /// How long answers are counted from each handover.
    #[schema(minimum = 1, maximum = 28)]
    pub window_days: u8,
    /// A round of which more than this share wasn't handed over within the hour is left out whole.
    #[schema(minimum = 0.01, maximum = 0.5)]
    pub fail_loss: f64,
    /// It asks whether the best hour of another trial is worth having: two hours, each person's the same over all rounds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confirms: Option<Confirms>,
}

/// The most rounds of a trial: weekly for a year, and some.
pub const MOST_ROUNDS: usize = 60;
/// The longest question, in bytes.
const LONGEST: usize = 2_000;
/// Fewer people at an hour in a round can't be read.
pub const LEAST_PER_HOUR: u64 = 10;

/// Why a plan can't be sealed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HourPlanError {
    #[error("Write the question the trial answers, in a sentence.")]
    Question,
    #[error("An hour trial counts human opens, human clicks, replies, or people converting by a goal.")]
    Metric,
    #[error("Choose the goal that is counted: make one in Setup, under Goals, if there is none yet.")]
    NoGoal,
    #[error("Choose 2 to 24 hours of the day, each once.")]
    Hours,
    #[error(
        "A confirming trial has two hours: the best one that was found, and the usual one, which differs from it; or, of own hours, those of the trial that found them."
    )]
    Confirms,
    #[error("The usual hour is between 0 and 23.")]
    Usual,
    #[error(
        "An hour trial rides on 2 to {MOST_ROUNDS} mailings: everybody is drawn again in each, so that what is one person's way doesn't look like the hour's."
    )]
    Rounds,
    #[error("Each round is a mailing of its own on a day after the one before: put them in order, and take out what stands twice.")]
    Order,
    #[error("Rounds {0} and {1} are {2} days apart, and answers are counted for {3}: leave at least a window between them.")]
    Apart(usize, usize, i64, u8),
    #[error(
        "Rounds {0} and {1} are {2} days apart. A conversion belongs to no message, so that what round {1} brings would count for late hours of round {0}, too: leave at least {3} days, a day more than the window."
    )]
    ApartByGoal(usize, usize, i64, i64),
    #[error("A window is 1 to 28 days.")]
    Window,
    #[error(
        "A window of {0} days isn't whole weeks: late hours reach further into the next days than early ones, and those may be answered differently. Take 7 days, or rounds on all seven weekdays, each equally often."
    )]
    Weekdays(u8),
    #[error("The smallest difference worth having must be between 0.1 and 50 points.")]
    Effect,
    #[error("Alpha must be between 0.1% and 20%, the power between 50% and 99%.")]
    Errors,
    #[error("The share of a round that may be lost must be between 1% and 50%.")]
    Loss,
    #[error(
        "{0} lie outside this letterhead's sending hours ({1}): people drawn to them would get it later. Take other hours, or change the sending hours."
    )]
    Outside(String, String),
    #[error(
        "Each hour would have {0} people a round. At least {LEAST_PER_HOUR} are needed for any reading: take fewer hours, or a larger audience."
    )]
    TooFew(u64),
}

/// Monday 0 to Sunday 6.
#[must_use]
pub fn weekday(day: i64) -> usize {
    usize::try_from((day + 3).rem_euclid(7)).unwrap_or(0)
}

/// An hour as it is written, "09:00".
#[must_use]
pub fn clock(hour: u8) -> String {
    format!("{hour:02}:00")
}

impl HourPlan {
    /// A plan as most begin.
    #[must_use]
    pub fn usual(question: &str) -> Self {
        Self {
            question: question.to_owned(),
            metric: Metric::HumanOpen,
            goal: None,
            hours: vec![8, 11, 14, 17, 20],
            rounds: Vec::new(),
            usual_hour: 10,
            effect: 0.03,
            alpha: 0.05,
            power: 0.8,
            window_days: 7,
            fail_loss: 0.2,
            confirms: None,
        }
    }

    /// # Errors
    /// With what is wrong and what to do.
    pub fn check(&self) -> Result<(), HourPlanError> {
        if self.question.trim().chars().count() < 10 {
            return Err(HourPlanError::Question);
        }
        self.check_numbers()?;
        self.check_rounds()
    }

    /// Everything but the question and the rounds, which may be missing while it is planned.
    ///
    /// # Errors
    /// With what is wrong and what to do.
    pub fn check_numbers(&self) -> Result<(), HourPlanError> {
        use HourPlanError as E;
        if !matches!(self.metric, Metric::HumanOpen | Metric::HumanClick | Metric::Reply | Metric::Conversion) {
            return Err(E::Metric);
        }
        if self.metric.asks_goal() && self.goal.is_none() {
            return Err(E::NoGoal);
        }
        if !(2..=24).contains(&self.hours.len()) || !self.hours.is_sorted_by(|a, b| a < b) || self.hours.iter().any(|h| *h > 23) {
            return Err(E::Hours);
        }
        if self.usual_hour > 23 {
            return Err(E::Usual);
        }
        if let Some(c) = self.confirms {
            let mut two = [c.best, self.usual_hour];
            two.sort_unstable();
            if !c.own && (two[0] == two[1] || self.hours != two) || !self.hours.contains(&c.best) {
                return Err(E::Confirms);
            }
        }
        let within = |x: f64, low: f64, high: f64| x.is_finite() && (low..=high).contains(&x);
        if !within(self.effect, 0.001, 0.5) {
            return Err(E::Effect);
        }
        if !within(self.alpha, 0.001, 0.2) || !within(self.power, 0.5, 0.99) {
            return Err(E::Errors);
        }
        if !within(self.fail_loss, 0.01, 0.5) {
            return Err(E::Loss);
        }
        if !(1..=28).contains(&self.window_days) {
            return Err(E::Window);
        }
        if self.rounds.len() > MOST_ROUNDS || self.question.len() > LONGEST {
            return Err(E::Rounds);
        }
        Ok(())
    }

    fn check_rounds(&self) -> Result<(), HourPlanError> {
        use HourPlanError as E;
        if !(2..=MOST_ROUNDS).contains(&self.rounds.len()) {
            return Err(E::Rounds);
        }
        let mut mailings: Vec<MailingId> = self.rounds.iter().map(|r| r.mailing).collect();
        mailings.sort_unstable();
        mailings.dedup();
        if mailings.len() < self.rounds.len() || !self.rounds.is_sorted_by(|a, b| a.day < b.day) {
            return Err(E::Order);
        }
        for (i, w) in self.rounds.windows(2).enumerate() {
            let apart = w[1].day - w[0].day;
            if apart < i64::from(self.window_days) {
                return Err(E::Apart(i + 1, i + 2, apart, self.window_days));
            }
            if apart < self.days_between() {
                return Err(E::ApartByGoal(i + 1, i + 2, apart, self.days_between()));
            }
        }
        let mut on = [0; 7];
        self.rounds.iter().for_each(|r| on[weekday(r.day)] += 1);
        if !self.window_days.is_multiple_of(7) && on.iter().any(|n| *n != on[0]) {
            return Err(E::Weekdays(self.window_days));
        }
        Ok(())
    }

    /// Can everybody have these hours, by the letterhead's sending hours?
    ///
    /// # Errors
    /// With the hours that nobody can have.
    pub fn check_sending_hours(&self, sending: &[Hours]) -> Result<(), HourPlanError> {
        for s in sending {
            let out: Vec<String> = self.hours.iter().filter(|h| !s.allows(u16::from(**h) * 60)).map(|h| clock(*h)).collect();
            if !out.is_empty() {
                return Err(HourPlanError::Outside(listed(&out), s.words()));
            }
        }
        Ok(())
    }

    /// The fewest days from a round to the next. Opens, clicks and replies belong to the message of a round; a conversion belongs to whatever
    /// came before it, so that the windows of all hours must be over before the first hour of the next round.
    #[must_use]
    pub fn days_between(&self) -> i64 {
        i64::from(self.window_days) + i64::from(self.metric.asks_goal())
    }

    /// The hours that are compared. Of a trial of own hours they are two in name: the best for all, and another one that stands for any of
    /// people's own.
    #[must_use]
    pub fn compared(&self) -> Vec<u8> {
        match self.of_own_hours() {
            Some(c) => {
                let (own, best) = self.compared_to_confirm(c);
                vec![own, best]
            }
            None => self.hours.clone(),
        }
    }

    /// The hour that may be better, in name where it is people's own, and the one that it is held against.
    pub(super) fn compared_to_confirm(&self, c: Confirms) -> (u8, u8) {
        if c.own { (self.hours.iter().copied().find(|h| *h != c.best).unwrap_or(c.best), c.best) } else { (c.best, self.usual_hour) }
    }

    /// Is it of people's own hours, held against the best one for all?
    #[must_use]
    pub fn of_own_hours(&self) -> Option<Confirms> {
        self.confirms.filter(|c| c.own)
    }

    /// Is it of those alone whose opens can be known?
    #[must_use]
    pub fn leaves_unknown_out(&self) -> bool {
        self.metric == Metric::HumanOpen
    }

    /// The weekdays that were drawn, as words: what is found holds for no others.
    #[must_use]
    pub fn weekdays(&self, rounds: impl Iterator<Item = i64>) -> String {
        const NAMES: [&str; 7] = ["Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays"];
        let mut on: Vec<usize> = rounds.map(weekday).collect();
        on.sort_unstable();
        on.dedup();
        if on.len() == 7 {
            "every day of the week".to_owned()
        } else {
            listed(&on.iter().map(|d| NAMES[*d].to_owned()).collect::<Vec<_>>())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::id::HourTrialId;
    use rstest::rstest;

    fn rounds(days: &[i64]) -> Vec<Round> {
        days.iter().zip(1..).map(|(day, mailing)| Round { mailing: MailingId(mailing), day: *day }).collect()
    }

    fn plan() -> HourPlan {
        HourPlan { rounds: rounds(&[20_000, 20_007, 20_014]), ..HourPlan::usual("Does the hour matter?") }
    }

    #[rstest]
    #[case(HourPlan { question: "?".into(), ..plan() }, "Write the question")]
    #[case(HourPlan { metric: Metric::Revenue, ..plan() }, "human opens")]
    #[case(HourPlan { metric: Metric::Conversion, ..plan() }, "Choose the goal")]
    #[case(HourPlan { metric: Metric::Conversion, goal: crate::trial::plan::tests::goal(""), ..plan() }, "at least 8 days")]
    #[case(HourPlan { hours: vec![9], ..plan() }, "2 to 24 hours")]
    #[case(HourPlan { hours: vec![9, 9], ..plan() }, "each once")]
    #[case(HourPlan { hours: vec![9, 24], ..plan() }, "2 to 24 hours")]
    #[case(HourPlan { rounds: rounds(&[20_000]), ..plan() }, "rides on 2 to")]
    #[case(HourPlan { rounds: rounds(&[20_007, 20_000]), ..plan() }, "in order")]
    #[case(HourPlan { rounds: vec![Round { mailing: MailingId(1), day: 20_000 }, Round { mailing: MailingId(1), day: 20_010 }], ..plan() }, "mailing of its own")]
    #[case(HourPlan { rounds: rounds(&[20_000, 20_006]), ..plan() }, "6 days apart")]
    #[case(HourPlan { window_days: 3, ..plan() }, "isn't whole weeks")]
    #[case(HourPlan { effect: f64::NAN, ..plan() }, "0.1 and 50 points")]
    #[case(HourPlan { confirms: Some(Confirms { trial: HourTrialId(1), best: 8, own: false }), ..plan() }, "has two hours")]
    #[case(HourPlan { confirms: Some(Confirms { trial: HourTrialId(1), best: 10, own: false }), hours: vec![10, 10], ..plan() }, "2 to 24 hours")]
    #[case(HourPlan { fail_loss: 0.9, ..plan() }, "may be lost")]
    fn a_plan_that_would_mislead_is_refused(#[case] plan: HourPlan, #[case] words: &str) {
        let said = plan.check().unwrap_err().to_string();
        assert!(said.contains(words), "{said}");
    }

    #[test]
    fn own_hours_are_compared_with_the_best_one() {
        let own = HourPlan { confirms: Some(Confirms { trial: HourTrialId(1), best: 8, own: true }), ..plan() };
        assert_eq!((own.check(), own.compared()), (Ok(()), vec![11, 8]));
        let none = HourPlan { confirms: Some(Confirms { trial: HourTrialId(1), best: 9, own: true }), ..plan() };
        assert_eq!(none.check(), Err(HourPlanError::Confirms));
    }

    #[test]
    fn short_windows_take_every_weekday() {
        let plan = HourPlan { window_days: 1, rounds: rounds(&[20_000, 20_001, 20_002, 20_003, 20_004, 20_005, 20_006]), ..plan() };
        assert_eq!(plan.check(), Ok(()));
        assert_eq!(plan.weekdays(plan.rounds.iter().map(|r| r.day)), "every day of the week");
        // 1970-01-01 was a Thursday.
        assert_eq!(plan.weekdays([0, 7, 4].into_iter()), "Mondays and Thursdays");
    }

    #[test]
    fn hours_lie_within_the_sending_hours() {
        let day = Hours { from_minute: 9 * 60, until_minute: 20 * 60 };
        let said = plan().check_sending_hours(&[day]).unwrap_err().to_string();
        assert!(said.starts_with("08:00 and 20:00 lie outside"), "{said}");
        assert_eq!(HourPlan { hours: vec![9, 19], ..plan() }.check_sending_hours(&[day]), Ok(()));
    }
}
