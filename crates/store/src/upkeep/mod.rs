//! Upkeep of the base: the mail status of each address and what changes it. The rules are in [`rinse_core::upkeep`].
//!
//! - [`status`]: the stored status is the fold over the outcomes that count; what is due is worked out again.
//! - [`policy`]: the policy in its versions, previewed over the whole base.
//! - [`incidents`]: failures that wait for a person.
//! - [`runs`]: cleaning runs, proposed, applied and undone; [`effects`]: what they do to the figures.
//! - [`made_of`]: what the base is made of, day by day, and the people under upkeep.

pub mod effects;
pub mod incidents;
pub mod made_of;
pub mod policy;
pub mod runs;
pub mod status;
