//! Cleaning runs: what they are for, how far they are, and how far they are with each person.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a run is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = CleaningKind)]
pub enum Kind {
    /// Retires those whose address is due.
    Due,
    /// Brings a version of the policy into force.
    Policy,
}

/// How far a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RunState {
    /// People are being put on it.
    Proposing,
    Proposed,
    Applying,
    Applied,
    Undoing,
    /// Everybody who could be put back was.
    Undone,
    /// Nothing came of it.
    Dropped,
}

/// How far a run is with a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum MemberState {
    Proposed = 0,
    /// A person took them out: they stay as they are.
    TakenOut = 1,
    Applied = 2,
    PutBack = 3,
    /// Something happened to them since: they stay as the run left them.
    NotPutBack = 4,
    /// They stayed as they were when the run was applied.
    Stayed = 5,
    /// They had changed before the run was applied: it left them alone.
    Changed = 6,
    /// About to be put back.
    Undoing = 7,
}

impl MemberState {
    pub const ALL: [Self; 8] =
        [Self::Proposed, Self::TakenOut, Self::Applied, Self::PutBack, Self::NotPutBack, Self::Stayed, Self::Changed, Self::Undoing];
}

crate::code::coded!(MemberState, "state of somebody on a cleaning run");

crate::code::worded!(Kind, "kind of cleaning run", Due => "due", Policy => "policy");
crate::code::worded!(RunState, "state of a cleaning run", Proposing => "proposing", Proposed => "proposed", Applying => "applying", Applied => "applied",
    Undoing => "undoing", Undone => "undone", Dropped => "dropped");
