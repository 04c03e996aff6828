//! How our mail is let in, and what other hosts report of mail in our name.

pub mod ahead;
pub mod alerts;
pub mod names;
pub mod opened;
pub mod operators;
pub mod panel;
pub mod reports;
