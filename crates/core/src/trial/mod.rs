//! Trials: of variants, and of hours ([`hour`]).
//!
//! * [`plan`]: what is asked, of which [`metric`]; [`outlook`]: what it can find; [`guards`]: what its guardrails would notice; [`rehearsal`]: how often it would be right.
//! * [`sealing`]: the seal over all that may not change; [`assign`]: who gets which arm.
//! * [`looks`]: before the end, for harm only; [`decide`] and `compare`: how arms are compared, [`companies`]: people who are not as many answers; [`rules`]: the verdict, by the version that was sealed; `no_worse`: whether a change loses no more than it may; [`crossed`]: two changes at once; [`reading`]: the verdict with all that led to it, from [`arm_counts`] and what is known [`beside`] them, `soundness`: whether it may be read at all, and `said`: its sentence; [`outside`]: another sender's table.
//! * [`stretches`]: people who come one by one in a series, and arms whose shares change on the way.
//! * [`course`]: how the answers come in over the window.
//! * [`learned`]: what past trials teach the next one.

pub mod arm_counts;
pub mod assign;
pub mod beside;
pub mod companies;
pub mod compare;
pub mod course;
pub mod crossed;
pub mod decide;
pub mod guards;
pub mod hour;
pub mod learned;
pub mod looks;
pub mod metric;
mod no_worse;
pub mod outlook;
pub mod outside;
pub mod plan;
pub mod reading;
pub mod rehearsal;
pub mod rules;
mod said;
pub mod sealing;
mod soundness;
pub mod stretches;

/// The letter of an arm, A for 0.
#[must_use]
pub fn letter(arm: usize) -> char {
    char::from(b'A' + u8::try_from(arm.min(25)).unwrap_or(25))
}
