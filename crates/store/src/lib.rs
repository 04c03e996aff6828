//! The store: one SQLite file, one writer, many readers.
//!
//! It stands on floors; nothing names what stands above it, which a test of the core's holds.
//!
//! * At the bottom what knows no aggregate: `error`, the `readers` and the `writer` (group commit: a write is answered after its transaction is on disk), what is `kept`
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

mod automation;
pub mod consent;
mod db;
mod groups;
pub mod hour_trials;
mod house;
mod insight;
mod mail;
mod open;
mod people;
mod replay;
pub mod trials;
pub mod undo;
pub mod upkeep;
pub mod uses;

// Folders put them in order by their subject; by name each stands here.
pub(crate) use automation::deeds;
pub use automation::{reactions, scores, series, series_entry, webhooks};
pub(crate) use consent::grant;
pub use consent::{departed, do_not_write, ledger, signups, suppression, topics, wordings};
pub use db::{Connection, Held, Store, What};
pub use db::{backup, costly, journal, settings, writer};
pub(crate) use db::{codes, error, files, kept, naming, readers, stored, sweep};
pub use error::StoreError;
pub use groups::{labels, rollups, segments, tags};
pub use house::{first_steps, notices, team};
pub use insight::{attribution, cohorts, figures, findings, goals, growth, guides, kept_answers, per_person};
pub use mail::{
    audience, blocklists, clearing, delivery, doors, flow, held, history, holdout, images, letterheads, load, machines, mailings, parts,
    responses, rules, sends, texts, warm_up,
};
pub(crate) use mail::{response_kinds, send_state};
pub use people::{
    base_check, contacts, domains, erasure, events, fields, imports, merges, near_misses, numbers, purchases, runs, tables, tombstones,
};
pub use rusqlite::trace::TraceEvent;
pub use trials::{learned, self_check};

/// Result of a store call.
pub type Result<T> = std::result::Result<T, StoreError>;
