//! What it all comes to: figures, findings, cohorts, goals.

pub mod attribution;
pub mod cohorts;
pub mod figures;
pub mod findings;
pub mod goals;
pub mod growth;
pub mod guides;
pub mod kept_answers;
pub mod per_person;
