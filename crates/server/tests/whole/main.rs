//! The real router and engine in process: one program of all these tests, since each would carry the whole of Rinse with it.

mod course;
mod delivery;
mod description;
mod doors;
mod figures;
mod holds;
mod hostile;
mod hour_trials;
mod inside;
mod letters;
mod lifecycle;
mod mail_in;
mod metrics;
mod outside_sender;
mod people;
mod proof;
mod public;
mod reactions;
mod record_system;
mod refusals;
mod series;
mod series_trials;
mod smtp;
mod texts;
mod upkeep;
mod walks;
