//! Where a mailing, a trial, a series, a file that is brought and a change of many people stand, and what may become of them; an empty cell never
//! happens. (A message's life: [`crate::send`].)
//!
//! | mailing | planned | moved | taken back | begun | trial sealed | finished | series started | series ended |
//! |---|---|---|---|---|---|---|---|---|
//! | draft | planned |  |  |  | sending |  | series |  |
//! | planned |  | planned | draft | sending |  |  |  |  |
//! | sending |  |  |  |  |  | sent |  |  |
//! | sent |  |  |  |  |  |  | series |  |
//! | series |  |  |  |  |  |  |  | sent |
//!
//! | trial | sealed | read | given up | released | rolled out |
//! |---|---|---|---|---|---|
//! | planned | collecting |  |  |  |  |
//! | collecting |  | read | ended |  |  |
//! | read |  |  |  | rolling |  |
//! | rolling |  |  |  |  | ended |
//! | ended |  |  |  |  |  |
//!
//! | series | started | ended |
//! |---|---|---|
//! | draft | running |  |
//! | running |  | ended |
//! | ended |  |  |
//!
//! | file | changed | looked through | begun | finished | given up | taking back | taken back |
//! |---|---|---|---|---|---|---|---|
//! | staged | staged | checked |  |  | cancelled |  |  |
//! | checked | staged | checked | applying |  | cancelled |  |  |
//! | applying |  |  |  | applied | cancelled |  |  |
//! | applied |  |  |  |  |  | undoing | undone |
//! | cancelled |  |  |  |  |  | undoing | undone |
//! | undoing |  |  |  |  |  |  | undone |
//! | undone |  |  |  |  |  |  |  |
//!
//! | change | taking back | taken back |
//! |---|---|---|
//! | done | undoing |  |
//! | undoing |  | undone |
//! | undone |  |  |

use crate::code::worded;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a file stands that is brought: people, or what another system sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FileState {
    /// Its columns are told.
    Staged,
    /// What it would do was looked through.
    Checked,
    Applying,
    Applied,
    /// Given up, before anything of it was applied or in the middle of it.
    Cancelled,
    Undoing,
    Undone,
}

worded!(FileState, "state of a file", Staged => "staged", Checked => "checked", Applying => "applying", Applied => "applied", Cancelled => "cancelled",
    Undoing => "undoing", Undone => "undone");

/// What happens to a file that is brought.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileEvent {
    /// Its columns are told otherwise: it is to be looked through again.
    Changed,
    LookedThrough,
    Begun,
    /// Its last row is in.
    Finished,
    GivenUp,
    TakingBack,
    TakenBack,
}

worded!(FileEvent, "event of a file", Changed => "changed", LookedThrough => "looked_through", Begun => "begun", Finished => "finished",
    GivenUp => "given_up", TakingBack => "taking_back", TakenBack => "taken_back");

impl FileState {
    /// What it is after something happened; none: that doesn't happen to it here. What was given up in the middle is taken back as what was
    /// applied.
    #[must_use]
    pub fn next(self, event: FileEvent) -> Option<Self> {
        use FileEvent as E;
        match (self, event) {
            (Self::Staged | Self::Checked, E::Changed) => Some(Self::Staged),
            (Self::Staged | Self::Checked, E::LookedThrough) => Some(Self::Checked),
            (Self::Checked, E::Begun) => Some(Self::Applying),
            (Self::Applying, E::Finished) => Some(Self::Applied),
            (Self::Staged | Self::Checked | Self::Applying, E::GivenUp) => Some(Self::Cancelled),
            (Self::Applied | Self::Cancelled, E::TakingBack) => Some(Self::Undoing),
            // People of an import are put back by its change: it is taken back with the last of them.
            (Self::Undoing | Self::Applied | Self::Cancelled, E::TakenBack) => Some(Self::Undone),
            _ => None,
        }
    }

    /// Can what is in it still be told otherwise?
    #[must_use]
    pub fn can_be_changed(self) -> bool {
        self.next(FileEvent::Changed).is_some()
    }
}

/// Where a change of many people stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ChangeState {
    Done,
    Undoing,
    Undone,
}

worded!(ChangeState, "state of a change", Done => "done", Undoing => "undoing", Undone => "undone");

/// What happens to a change of many people.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangeEvent {
    TakingBack,
    TakenBack,
}

worded!(ChangeEvent, "event of a change", TakingBack => "taking_back", TakenBack => "taken_back");

impl ChangeState {
    /// What it is after something happened; none: that doesn't happen to it here.
    #[must_use]
    pub fn next(self, event: ChangeEvent) -> Option<Self> {
        match (self, event) {
            (Self::Done, ChangeEvent::TakingBack) => Some(Self::Undoing),
            (Self::Undoing, ChangeEvent::TakenBack) => Some(Self::Undone),
            _ => None,
        }
    }
}

/// Where a mailing stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MailingState {
    Draft,
    Planned,
    Sending,
    Sent,
    /// A series sends it, to each person in their time.
    Series,
}

worded!(MailingState, "state of a mailing", Draft => "draft", Planned => "planned", Sending => "sending", Sent => "sent", Series => "series");

/// What happens to a mailing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailingEvent {
    /// It gets an instant at which it goes out.
    Planned,
    /// It gets another one.
    Moved,
    TakenBack,
    /// That instant has come.
    Begun,
    /// Its trial goes out at once.
    TrialSealed,
    /// Its last message is out, and no trial of it runs.
    Finished,
    /// The series that it is a step of runs, or takes it in again.
    SeriesStarted,
    /// Its series has ended, or doesn't send it any more.
    SeriesEnded,
}

worded!(MailingEvent, "event of a mailing", Planned => "planned", Moved => "moved", TakenBack => "taken_back", Begun => "begun",
    TrialSealed => "trial_sealed", Finished => "finished",
    SeriesStarted => "series_started", SeriesEnded => "series_ended");

impl MailingState {
    /// What it is after something happened; none: that doesn't happen to it here.
    #[must_use]
    pub fn next(self, event: MailingEvent) -> Option<Self> {
        use MailingEvent as E;
        match (self, event) {
            (Self::Draft, E::Planned) | (Self::Planned, E::Moved) => Some(Self::Planned),
            (Self::Planned, E::TakenBack) => Some(Self::Draft),
            (Self::Planned, E::Begun) | (Self::Draft, E::TrialSealed) => Some(Self::Sending),
            (Self::Sending, E::Finished) | (Self::Series, E::SeriesEnded) => Some(Self::Sent),
            (Self::Draft | Self::Sent, E::SeriesStarted) => Some(Self::Series),
            _ => None,
        }
    }
}

/// Where a trial stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TrialState {
    Planned,
    /// Sealed: its people get their messages, and answer.
    Collecting,
    Read,
    /// What goes out goes out.
    Rolling,
    Ended,
}

worded!(TrialState, "state of a trial", Planned => "planned", Collecting => "collecting", Read => "read", Rolling => "rolling", Ended => "ended");

/// What happens to a trial.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TrialEvent {
    Sealed,
    Read,
    /// It ends without a reading: too few came.
    GivenUp,
    Released,
    RolledOut,
}

worded!(TrialEvent, "event of a trial", Sealed => "sealed", Read => "read", GivenUp => "given_up", Released => "released", RolledOut => "rolled_out");

impl TrialState {
    /// What it is after something happened; none: that doesn't happen to it here.
    #[must_use]
    pub fn next(self, event: TrialEvent) -> Option<Self> {
        use TrialEvent as E;
        match (self, event) {
            (Self::Planned, E::Sealed) => Some(Self::Collecting),
            (Self::Collecting, E::Read) => Some(Self::Read),
            (Self::Read, E::Released) => Some(Self::Rolling),
            (Self::Collecting, E::GivenUp) | (Self::Rolling, E::RolledOut) => Some(Self::Ended),
            _ => None,
        }
    }
}

/// Where a series stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SeriesState {
    Draft,
    Running,
    Ended,
}

worded!(SeriesState, "state of a series", Draft => "draft", Running => "running", Ended => "ended");

/// What happens to a series; a pause is none of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SeriesEvent {
    Started,
    Ended,
}

worded!(SeriesEvent, "event of a series", Started => "started", Ended => "ended");

impl SeriesState {
    /// What it is after something happened; none: that doesn't happen to it here. A draft is deleted instead of ended.
    #[must_use]
    pub fn next(self, event: SeriesEvent) -> Option<Self> {
        match (self, event) {
            (Self::Draft, SeriesEvent::Started) => Some(Self::Running),
            (Self::Running, SeriesEvent::Ended) => Some(Self::Ended),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::code::{Word, drawn};

    /// The tables above are drawn from the code.
    #[test]
    fn the_tables_are_what_happens() {
        for table in [
            drawn("mailing", MailingState::all(), MailingState::next),
            drawn("trial", TrialState::all(), TrialState::next),
            drawn("series", SeriesState::all(), SeriesState::next),
            drawn("file", FileState::all(), FileState::next),
            drawn("change", ChangeState::all(), ChangeState::next),
        ] {
            assert!(include_str!("standing.rs").contains(&table), "a table should be:\n{table}");
        }
    }

    /// What is kept is what the API says.
    #[test]
    fn words_are_told_as_they_are_kept() {
        fn told<S: Word + Serialize + for<'a> Deserialize<'a> + PartialEq + std::fmt::Debug>() {
            for s in S::all() {
                assert_eq!(serde_json::to_value(s).unwrap(), serde_json::json!(s.word()));
                assert_eq!(S::of_word(s.word()), Some(*s));
            }
            assert_eq!(S::of_word("sunk"), None);
        }
        told::<MailingState>();
        told::<TrialState>();
        told::<SeriesState>();
        told::<FileState>();
        told::<ChangeState>();
    }
}
