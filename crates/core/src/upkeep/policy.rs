//! The upkeep policy: every number by which addresses are rested, observed and retired. It has versions; an older one is never changed.

use super::silence;
use crate::{DAY, HOUR, Instant};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Who retires an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Default, utoipa::ToSchema)]
#[serde(tag = "how", rename_all = "snake_case")]
pub enum Retires {
    /// The rules, as soon as an outcome says so.
    #[default]
    AtOnce,
    /// A cleaning run that a person has read: until then the address rests. What was retired before `since` stays so.
    InRuns { since: Instant },
}

/// All numbers, each with its unit in its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Policy {
    /// Accepted mail counts as delivered when no failure was reported for so long.
    pub delivered_after_days: u32,
    /// So long an address rests whose host says that there is none, until another mailing decides.
    pub no_such_address_rest_days: u32,
    /// The same answer to another mailing retires when it comes at least so long after the first.
    pub no_such_address_apart_hours: u32,
    /// Different mailings that must fail for good (other than "no such address"), with no delivery or answer between …
    pub permanent_mailings: u32,
    /// … over at least so long.
    pub permanent_days: u32,
    /// A person set the number of mailings; otherwise it is what the base's own history says.
    pub permanent_by_hand: bool,
    /// Mailings in a row that fail for now …
    pub temporary_mailings: u32,
    /// … over at least so long, before an address rests.
    pub temporary_days: u32,
    /// The first rest, the second and so on; who fails after the last is retired.
    pub rests_days: Vec<u32>,
    /// Mailings in a row that must arrive before an observed address is active.
    pub observed_mailings: u32,
    /// Failures among so many mailings that let it rest again.
    pub observed_failures: u32,
    /// A mailbox group's failures on a mailing wait for a person when they are over so many times its norm …
    pub incident_times: u32,
    /// … and over so many addresses.
    pub incident_addresses: u32,
    pub retires: Retires,
    /// Who is silent, and what is done about it.
    #[serde(default)]
    #[schema(required)]
    pub silence: silence::Numbers,
    /// Addresses retired for so long are deleted by the next cleaning run; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub delete_after_days: Option<u32>,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            delivered_after_days: 5,
            no_such_address_rest_days: 30,
            no_such_address_apart_hours: 24,
            permanent_mailings: 2,
            permanent_days: 7,
            permanent_by_hand: false,
            temporary_mailings: 3,
            temporary_days: 10,
            rests_days: vec![7, 21, 63],
            observed_mailings: 4,
            observed_failures: 2,
            incident_times: 10,
            incident_addresses: 20,
            retires: Retires::AtOnce,
            silence: silence::Numbers::default(),
            delete_after_days: None,
        }
    }
}

/// Why a policy can't hold.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PolicyError {
    #[error("{what} is {given}: it must be {lowest} to {highest}.")]
    Outside { what: &'static str, given: u32, lowest: u32, highest: u32 },
    #[error("There are {0} rests: give 1 to 6 of them, each of 1 to 365 days.")]
    Rests(usize),
    #[error("Rest {1} is {2} days, and the one before it {0}: each rest must be at least as long as the one before.")]
    ShorterRest(u32, usize, u32),
    #[error(
        "{0} failures among {1} mailings can't happen: the failures that let an observed address rest again must be no more than the mailings that it is watched for."
    )]
    FailuresOverMailings(u32, u32),
}

impl Policy {
    /// Can it hold?
    ///
    /// # Errors
    /// The first number that is outside its bounds, with what is allowed.
    pub fn check(&self) -> Result<(), PolicyError> {
        let bounds = [
            ("Days until accepted mail counts as delivered", self.delivered_after_days, 1, 14),
            ("The rest after “no such address”, in days,", self.no_such_address_rest_days, 1, 30),
            ("The time between two answers “no such address”, in hours,", self.no_such_address_apart_hours, 1, 720),
            ("The number of mailings that fail for good", self.permanent_mailings, 2, 6),
            ("The days over which mailings fail for good", self.permanent_days, 0, 365),
            ("The number of mailings in a row that fail for now", self.temporary_mailings, 2, 20),
            ("The days over which mailings fail for now", self.temporary_days, 0, 365),
            ("The number of mailings that an observed address is watched for", self.observed_mailings, 1, 20),
            ("The failures that let an observed address rest again", self.observed_failures, 1, 20),
            ("How many times its norm makes an incident", self.incident_times, 2, 1_000),
            ("The addresses that make an incident", self.incident_addresses, 5, 100_000),
            ("The time without an answer that makes silent, in days,", self.silence.window_days.unwrap_or(90), 90, 1_095),
            ("The time to answer a letter that asks, in days,", self.silence.asked_days, 7, 90),
            ("The share kept back, in percent,", self.silence.kept_back_percent, 1, 50),
            ("The time for which people are kept back, in days,", self.silence.kept_back_days, 28, 365),
            ("The time after which retired addresses are deleted, in days,", self.delete_after_days.unwrap_or(90), 90, 3_650),
        ];
        for (what, given, lowest, highest) in bounds {
            if !(lowest..=highest).contains(&given) {
                return Err(PolicyError::Outside { what, given, lowest, highest });
            }
        }
        if self.rests_days.is_empty() || self.rests_days.len() > 6 || self.rests_days.iter().any(|d| !(1..=365).contains(d)) {
            return Err(PolicyError::Rests(self.rests_days.len()));
        }
        for (i, pair) in self.rests_days.windows(2).enumerate() {
            if pair[1] < pair[0] {
                return Err(PolicyError::ShorterRest(pair[0], i + 2, pair[1]));
            }
        }
        if self.observed_failures > self.observed_mailings {
            return Err(PolicyError::FailuresOverMailings(self.observed_failures, self.observed_mailings));
        }
        Ok(())
    }

    /// What it says, in sentences for somebody outside.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let rests: Vec<String> = self.rests_days.iter().map(|d| format!("{d} days")).collect();
        let mut all = vec![
            format!(
                "Mail counts as delivered {} days after a host accepted it, when no failure was reported by then.",
                self.delivered_after_days
            ),
            format!(
                "“No such address”: the address rests for {} days; the same answer to another mailing, at least {} hours later and with no delivery between, retires it. One to which nothing was ever delivered is retired at once.",
                self.no_such_address_rest_days, self.no_such_address_apart_hours
            ),
            format!(
                "Other permanent failures of {} mailings over at least {} days, with no delivery or answer between, retire an address.",
                self.permanent_mailings, self.permanent_days
            ),
            format!(
                "Passing failures of {} mailings in a row over at least {} days let it rest: {}. Afterwards {} mailings are watched, and {} failures among them let it rest again; who fails after the last rest is retired.",
                self.temporary_mailings,
                self.temporary_days,
                rests.join(", then "),
                self.observed_mailings,
                self.observed_failures
            ),
            format!(
                "Failures at one domain over {} times its norm and over {} addresses wait for a person’s decision.",
                self.incident_times, self.incident_addresses
            ),
            format!(
                "Silent people ({}) are asked whether to go on; who lets it pass for {} days gets no marketing mail any more. {}% of them are kept back for {} days to measure what that costs.",
                self.silence
                    .window_days
                    .map_or_else(|| "by the recency of their last answer".to_owned(), |d| format!("no answer for {d} days")),
                self.silence.asked_days,
                self.silence.kept_back_percent,
                self.silence.kept_back_days
            ),
        ];
        all.push(match self.retires {
            Retires::AtOnce => "The rules retire addresses by themselves, as soon as an outcome says so.".to_owned(),
            Retires::InRuns { .. } => {
                "Addresses are retired by cleaning runs that a person has read; until then they are not mailed.".to_owned()
            }
        });
        all.push(match self.delete_after_days {
            Some(days) => format!("Retired addresses are deleted after {days} days; a keyed hash keeps them from coming back."),
            None => "Retired addresses are kept, and never mailed.".to_owned(),
        });
        all
    }

    pub(super) fn delivered_after(&self) -> i64 {
        days(self.delivered_after_days)
    }

    pub(super) fn no_such_address_apart(&self) -> i64 {
        i64::from(self.no_such_address_apart_hours) * HOUR
    }

    /// Does a failure at an instant retire an address by itself?
    pub(super) fn retires_at(&self, at: Instant) -> bool {
        match self.retires {
            Retires::AtOnce => true,
            Retires::InRuns { since } => at < since,
        }
    }
}

pub(super) fn days(n: u32) -> i64 {
    i64::from(n) * DAY
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Policy { permanent_mailings: 1, ..Policy::default() }, "must be 2 to 6")]
    #[case(Policy { delivered_after_days: 0, ..Policy::default() }, "must be 1 to 14")]
    #[case(Policy { rests_days: vec![], ..Policy::default() }, "0 rests")]
    #[case(Policy { rests_days: vec![7, 0], ..Policy::default() }, "1 to 365 days")]
    #[case(Policy { rests_days: vec![21, 7], ..Policy::default() }, "Rest 2 is 7 days")]
    #[case(Policy { observed_failures: 5, ..Policy::default() }, "no more than")]
    fn what_cannot_hold_is_refused(#[case] policy: Policy, #[case] says: &str) {
        let e = policy.check().unwrap_err().to_string();
        assert!(e.contains(says), "{e}");
        assert_eq!(Policy::default().check(), Ok(()));
    }
}
