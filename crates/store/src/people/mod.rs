//! People: who they are, how they come in, and what becomes of their rows.

pub mod base_check;
pub mod contacts;
pub mod domains;
pub mod erasure;
pub mod events;
pub mod fields;
pub mod imports;
pub mod merges;
pub mod near_misses;
pub mod numbers;
pub mod purchases;
pub mod runs;
pub mod tables;
pub mod tombstones;
