//! A message's life: from its record in a mailing to its end.
//!
//! What may become of it in a state, by what happens; an empty cell never happens.
//!
//! | state | claimed | held back | stopped | returned | accepted | put off | failed | lost | sent again |
//! |---|---|---|---|---|---|---|---|---|---|
//! | held | handing over | held | not sent |  |  |  | failed |  |  |
//! | ready | handing over | held | not sent |  |  |  | failed |  |  |
//! | handing over |  |  | not sent | ready | accepted | deferred | failed | in doubt |  |
//! | accepted |  |  |  |  |  |  | failed |  |  |
//! | deferred | handing over | held | not sent |  |  |  | failed |  |  |
//! | failed |  |  |  |  |  |  |  |  |  |
//! | not sent |  |  |  |  |  |  | failed |  |  |
//! | in doubt |  |  |  |  | accepted |  | failed |  | ready |
//!
//! Whatever was handed over once may be reported as failed long after, also when it was put off and then stopped.

use crate::code::{coded, worded};

/// Where a message stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(i64)]
pub enum State {
    /// Clearance lets it go later: at an instant that it found.
    Held = 0,
    /// It goes when its turn comes.
    Due = 1,
    /// A host is being asked to take it.
    HandingOver = 2,
    Accepted = 3,
    /// The host asked to try again later.
    Deferred = 4,
    Failed = 5,
    /// Barred, cancelled, or nobody was left to send it to.
    NotSent = 6,
    /// Rinse stopped while it was handed over: nobody can tell whether the host has it.
    InDoubt = 7,
}

impl State {
    pub const ALL: [Self; 8] =
        [Self::Held, Self::Due, Self::HandingOver, Self::Accepted, Self::Deferred, Self::Failed, Self::NotSent, Self::InDoubt];

    /// What it is after something happened; none: that doesn't happen to it here.
    #[must_use]
    pub fn next(self, event: Event) -> Option<Self> {
        use Event as E;
        Some(match (self, event) {
            (Self::Failed, _) => return None,
            (_, E::Failed) => Self::Failed,
            (Self::Held | Self::Due | Self::Deferred, E::Claimed) => Self::HandingOver,
            (Self::Held | Self::Due | Self::Deferred, E::HeldBack) => Self::Held,
            (Self::Held | Self::Due | Self::Deferred | Self::HandingOver, E::Stopped) => Self::NotSent,
            (Self::HandingOver, E::Returned) | (Self::InDoubt, E::SentAgain) => Self::Due,
            (Self::HandingOver | Self::InDoubt, E::Accepted) => Self::Accepted,
            (Self::HandingOver, E::PutOff) => Self::Deferred,
            (Self::HandingOver, E::Lost) => Self::InDoubt,
            _ => return None,
        })
    }
}

coded!(State, "state of a message");

impl std::fmt::Display for State {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Held => "held",
            Self::Due => "ready",
            Self::HandingOver => "handing over",
            Self::Accepted => "accepted",
            Self::Deferred => "deferred",
            Self::Failed => "failed",
            Self::NotSent => "not sent",
            Self::InDoubt => "in doubt",
        })
    }
}

/// What happens to a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Event {
    /// Its turn has come, and clearance lets it go.
    Claimed,
    /// Clearance lets it go later.
    HeldBack,
    /// Clearance bars it, its mailing is cancelled, or they left its series.
    Stopped,
    /// It was claimed and not handed over.
    Returned,
    /// A host took it, or a person says that one has.
    Accepted,
    /// A host asks to try again later.
    PutOff,
    /// A host refused it for good, at once or by a report; or it was tried long enough.
    Failed,
    /// Rinse stopped while it was handed over.
    Lost,
    /// A person says that no host has it.
    SentAgain,
}

worded!(Event, "event of a message", Claimed => "claimed", HeldBack => "held_back", Stopped => "stopped", Returned => "returned",
    Accepted => "accepted", PutOff => "put_off", Failed => "failed", Lost => "lost", SentAgain => "sent_again");

impl Event {
    /// The states in which it happens.
    pub fn from(self) -> impl Iterator<Item = State> {
        State::ALL.into_iter().filter(move |s| s.next(self).is_some())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::code::{Word, drawn};

    /// The table above is drawn from the code.
    #[test]
    fn the_table_is_what_happens() {
        let table = drawn("state", &State::ALL, State::next);
        assert!(include_str!("send.rs").contains(&table), "the table should be:\n{table}");
    }

    /// Nothing is handed over twice but what a host put off or a person decided on; what is over isn't claimed again.
    #[test]
    fn nothing_is_handed_over_twice() {
        for state in [State::Accepted, State::Failed, State::NotSent, State::HandingOver, State::InDoubt] {
            assert_eq!(state.next(Event::Claimed), None, "{state:?}");
        }
        let waiting: Vec<State> = Event::Claimed.from().collect();
        for event in Event::all().iter().copied() {
            for state in State::ALL.into_iter().filter(|s| s.next(event).is_some_and(|n| waiting.contains(&n))) {
                let again = matches!(event, Event::HeldBack | Event::PutOff | Event::Returned | Event::SentAgain);
                assert!(again, "{state:?} is due again by {event:?}");
            }
        }
    }
}
