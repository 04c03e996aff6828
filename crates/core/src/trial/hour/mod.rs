//! Hour trials: does the hour of the day matter here, and which hours can't be told apart from the best?
//!
//! * [`plan`]: what is asked, in which rounds and at which hours; [`size`]: what the base can find in them; [`rehearsal`]: how often it would be right.
//! * [`draw`]: who may take part in a round, and at which hour each gets it.
//! * [`confirming`]: whether the best hour is worth having, against the usual one.
//! * [`own`]: the hour of each person's own, where people differ.
//! * [`reading`]: the verdict with all that led to it, and `said`: its sentences.
//!
//! Everybody is drawn again in each round: with one fixed hour a person, those who answer more would look like an hour that is answered more.

pub mod confirming;
pub mod draw;
pub mod own;
pub mod plan;
pub mod reading;
pub mod rehearsal;
mod said;
pub mod size;
