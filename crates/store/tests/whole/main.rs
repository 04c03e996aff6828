//! The store on files of its own: one program of all these tests, since each would carry the whole of the store with it.

mod changes;
mod clearance;
mod common;
mod counts;
mod enrolment;
mod folder;
mod guides;
mod imports;
mod journal;
mod laws;
mod machines;
mod opens;
mod pages;
mod reactions;
mod reserved;
mod rollups;
mod segments;
mod series;
mod signups;
mod silence;
mod stored;
mod texts;
mod turns;
mod upgrade;
mod upkeep;
mod warm;
