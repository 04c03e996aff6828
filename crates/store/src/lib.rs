//! The store: one SQLite file, one writer, many readers.
//!
//! It stands on floors; nothing names what stands above it, which a test of the core's holds.
//!
//! * At the bottom what knows no aggregate: `error`, the `writer` (group commit: a write is answered after its transaction is on disk), what is `kept`
//!   in memory, and `db`, the handle ([`Store`]; readers see the last committed state and never wait for the writer). Beside them how values stand in
//!   rows (`stored`, `codes`, `send_state`, `response_kinds`).
//! * Then one module per aggregate: [`contacts`], [`fields`], [`segments`], [`imports`], [`ledger`], [`mailings`], [`clearing`], [`sends`],
//!   [`responses`], [`trials`], [`findings`], [`settings`], [`tags`]. [`series`] move people on through steps; [`reactions`] act on responses, with
//!   [`scores`] and [`webhooks`]; [`attribution`] puts conversions down to mailings. [`tables`] reads the files that imports bring.
//! * [`runs`] keeps what was before a change of many people; [`merges`], [`erasure`] and [`base_check`] are such changes, and [`undo`] takes them back.
//! * At the top what knows many: [`uses`] (what uses what), `replay` (the journal, read again), `open`, which puts all of it together.
//!
//! [`rollups`] keeps what responses add up to per person.
//!
//! Rows are mapped here; no rule is decided here: those are in `rinse-core`.

#![cfg_attr(not(test), deny(clippy::unwrap_used))]

pub mod attribution;
pub mod audience;
pub mod backup;
pub mod base_check;
pub mod blocklists;
pub mod clearing;
mod codes;
pub mod cohorts;
pub mod consent;
pub mod contacts;
mod db;
mod deeds;
pub mod delivery;
pub mod departed;
pub mod do_not_write;
pub mod domains;
pub mod doors;
pub mod erasure;
mod error;
pub mod events;
pub mod fields;
pub mod figures;
mod files;
pub mod findings;
pub mod first_steps;
pub mod flow;
pub mod goals;
mod grant;
pub mod growth;
pub mod guides;
mod held;
pub mod history;
pub mod holdout;
pub mod hour_trials;
pub mod images;
pub mod imports;
pub mod journal;
mod kept;
pub mod kept_answers;
pub mod labels;
pub mod learned;
pub mod ledger;
pub mod letterheads;
pub mod load;
pub mod machines;
pub mod mailings;
pub mod merges;
mod naming;
pub mod near_misses;
pub mod notices;
pub mod numbers;
mod open;
pub mod parts;
pub mod purchases;
pub mod reactions;
mod replay;
mod response_kinds;
pub mod responses;
pub mod rollups;
pub mod rules;
pub mod runs;
pub mod scores;
pub mod segments;
pub mod self_check;
mod send_state;
pub mod sends;
pub mod series;
pub mod series_entry;
pub mod settings;
pub mod signups;
mod stored;
pub mod suppression;
pub mod tables;
pub mod tags;
pub mod team;
pub mod texts;
pub mod tombstones;
pub mod topics;
pub mod trials;
pub mod undo;
pub mod upkeep;
pub mod uses;
pub mod warm_up;
pub mod webhooks;
pub mod wordings;
pub mod writer;

pub use db::{Connection, Store};
pub use error::StoreError;
pub use rusqlite::trace::TraceEvent;

/// Result of a store call.
pub type Result<T> = std::result::Result<T, StoreError>;
