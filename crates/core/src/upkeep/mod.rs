//! Upkeep: when an address is rested, observed, retired, and why.
//!
//! - [`policy`]: every number of it, in one document with versions.
//! - [`fold`]: the status as the fold over what became of the mailings to an address; [`fold::next`] is the table of the machine.
//! - [`incident`]: failures that wait for a person, because a host failed and not its addresses.
//! - [`run`]: cleaning runs, by which a person decides on many.
//! - [`silence`]: who is asked whether to go on, who let it pass, and what that costs.
//! - [`evidence`]: rates week by week against marks and the base's own limits, for people who have to believe them.
//! - [`permanence`]: after how many permanent failures nothing comes through any more, from the base's own history.
//!
//! Consent is never touched here.

pub mod evidence;
pub mod fold;
pub mod incident;
pub mod permanence;
pub mod policy;
pub mod run;
pub mod silence;

pub use fold::{Cause, Happened, Outcome, Set, Standing, standing};
pub use policy::Policy;

use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum MailStatus {
    Active = 0,
    /// Not mailed until a date, or until a cleaning run decides.
    Resting = 1,
    /// Mailed and watched.
    Observed = 2,
    /// Never mailed again.
    Retired = 3,
}

impl MailStatus {
    pub const ALL: [Self; 4] = [Self::Active, Self::Resting, Self::Observed, Self::Retired];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Resting => "resting",
            Self::Observed => "observed",
            Self::Retired => "retired",
        }
    }
}

crate::code::coded!(MailStatus, "mail status");

/// What became of a phone number. It doesn't rest: a network either knows it or doesn't.
#[must_use]
pub fn of_number(failed: bool) -> MailStatus {
    if failed { MailStatus::Retired } else { MailStatus::Active }
}
