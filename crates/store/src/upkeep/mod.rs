//! Upkeep of the base: the mail status of each address and what changes it. The rules are in [`rinse_core::upkeep`].
//!
//! - [`status`]: the stored status is the fold over the outcomes that count; what is due is worked out again.
//! - [`policy`]: the policy in its versions, previewed over the whole base.
//! - [`incidents`]: failures that wait for a person.
//! - [`runs`]: cleaning runs, proposed and read; [`applying`]: applied and undone; [`effects`]: what they do to the figures.
//! - [`silence`]: silent people, asked, sunset or kept back; [`return_lines`]: whom the system of record must not bring back.
//! - [`reasons`]: what hosts said; [`schedule`]: when a run is proposed by itself.
//! - [`evidence`]: what people are shown who have to believe it.
//! - [`made_of`]: what the base is made of, day by day, and the people under upkeep.

pub mod applying;
pub mod effects;
pub mod evidence;
pub mod incidents;
pub mod made_of;
pub mod policy;
pub mod readings;
pub mod reasons;
pub mod return_lines;
pub mod runs;
pub mod schedule;
pub mod silence;
pub mod status;
