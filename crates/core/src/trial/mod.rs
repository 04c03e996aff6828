//! Variant trials: the plan, the assignment, the reading and the verdict.

pub mod assign;
pub mod outside;
pub mod plan;
pub mod reading;

/// The letter of an arm, A for 0.
#[must_use]
pub fn letter(arm: usize) -> char {
    char::from(b'A' + u8::try_from(arm.min(25)).unwrap_or(25))
}
