//! Groups of people: by conditions, by hand, and what conditions ask.

pub mod labels;
pub mod rollups;
pub mod segments;
pub mod tags;
