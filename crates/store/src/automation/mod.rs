//! What happens by itself: series, reactions, scores, what other systems are told.

pub(crate) mod deeds;
pub mod reactions;
pub mod scores;
pub mod series;
pub mod series_entry;
pub mod webhooks;
