//! How our mail is let in, and what other hosts report of mail in our name.

pub mod reports;
