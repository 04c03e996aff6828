//! The rules of the job and all of its computation, as pure functions.
//!
//! * [`stats`]: intervals, tests, sample sizes; [`trial`]: planning, assignment, reading, verdict.
//! * [`chain`]: the ledger that shows when it was touched; [`near_miss`]: what is close to what is barred.
//! * [`consent`], [`suppression`], [`caps`], [`clearance`]: who may get a mailing, and why not.
//! * [`bounce`], [`upkeep`]: what a failure means, and what it does to an address.
//! * [`response`]: human or machine; [`figure`]: what is counted, and of what; [`report`]: rates with their intervals.
//! * [`segment`]: who is meant, as a tree of conditions; [`load`]: how much mail they get, and how they answer.
//! * [`address`], [`base_check`], [`table`]: reading what people import; [`message`]: what a mailing must have.
//! * [`channel`]: by mail or as a text message; [`phone`], [`text`]: numbers, and what goes to them.
//! * [`purchase`], [`event`]: what people bought and did elsewhere; [`goal`]: what of it counts.
//! * [`reaction`], [`score`]: what follows when people do something; [`attribution`]: what a conversion is put down to.
//! * [`series`]: automated steps, and where somebody inside goes next.
//! * [`webhook`]: what other systems are told, signed.
//! * [`token`]: the signed links in messages; [`code`]: values that are kept as numbers; [`words`]: numbers in sentences.
//!
//! What it is not: no file, no socket, no database, no clock, no thread. Time comes in as an
//! [`Instant`], randomness as a seed, so every decision can be made again from its record.

#![cfg_attr(not(test), deny(clippy::unwrap_used))]

pub mod address;
pub mod attribution;
pub mod base_check;
pub mod bounce;
pub mod cap_guide;
pub mod caps;
pub mod chain;
pub mod channel;
pub mod clearance;
pub mod code;
pub mod cohort;
pub mod consent;
pub mod delivery;
pub mod event;
pub mod figure;
pub mod findings;
pub mod first_steps;
pub mod goal;
pub mod history;
pub mod holdout;
pub mod hours;
pub mod id;
mod instant;
pub mod invitation;
pub mod load;
pub mod message;
pub mod near_miss;
pub mod phone;
pub mod purchase;
pub mod reaction;
pub mod recency;
pub mod report;
pub mod response;
pub mod schedule;
pub mod score;
pub mod segment;
pub mod send;
pub mod series;
pub mod source;
pub mod standing;
pub mod stats;
pub mod suppression;
pub mod table;
pub mod text;
pub mod token;
pub mod trial;
pub mod upkeep;
pub mod webhook;
pub mod words;
pub mod zone;

pub use instant::{DAY, HOUR, Instant, MINUTE, SECOND};
