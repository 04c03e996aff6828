//! Time: the machine's, or the demo clock that is moved forward by hand and kept in the store.

use rinse_core::Instant;
use std::sync::atomic::{AtomicI64, Ordering};

#[derive(Debug)]
pub(crate) enum Clock {
    Machine,
    Demo(AtomicI64),
}

impl Clock {
    pub(crate) fn now(&self) -> Instant {
        match self {
            Self::Machine => Instant::of(jiff::Timestamp::now().as_millisecond()),
            Self::Demo(at) => Instant::of(at.load(Ordering::Acquire)),
        }
    }

    /// Moves the demo clock, never backwards.
    pub(crate) fn move_to(&self, to: Instant) {
        if let Self::Demo(at) = self {
            at.fetch_max(to.millis(), Ordering::AcqRel);
        }
    }

    pub(crate) fn is_demo(&self) -> bool {
        matches!(self, Self::Demo(_))
    }
}
