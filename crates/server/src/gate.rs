//! What is asked before each message is handed over.

use rinse_core::id::SendId;
use rinse_store::Store;
use rinse_store::sends::{self, Mark};
use tokio::sync::watch;

/// Asked before each message: does it still go? Somebody may have left since it was claimed, and been told so.
pub(crate) struct Gate {
    store: Store,
    since: Option<Mark>,
    sends: Vec<SendId>,
    ending: watch::Receiver<bool>,
}

impl Gate {
    /// For messages that nobody's leaving ends: invitations and tests.
    pub(crate) fn open_to_all(store: &Store, ending: &watch::Receiver<bool>) -> Self {
        Self { store: store.clone(), since: None, sends: Vec::new(), ending: ending.clone() }
    }

    /// For a batch that was claimed at a mark.
    pub(crate) fn of(store: &Store, ending: &watch::Receiver<bool>, since: Mark, sends: &[SendId]) -> Self {
        Self { store: store.clone(), since: Some(since), sends: sends.to_vec(), ending: ending.clone() }
    }

    /// Does the message of a place in the batch still go? What can't be asked doesn't.
    pub(crate) async fn lets(&self, place: usize) -> bool {
        if *self.ending.borrow() {
            return false;
        }
        let (Some(since), Some(send)) = (self.since, self.sends.get(place).copied()) else { return true };
        self.store.read(move |c| sends::still_go(c, since, &[send])).await.is_ok_and(|go| go == [true])
    }

    /// The same for all of them, where they are handed over in one moment.
    pub(crate) async fn lets_all(&self, n: usize) -> Vec<bool> {
        if *self.ending.borrow() {
            return vec![false; n];
        }
        let Some(since) = self.since else { return vec![true; n] };
        let sends = self.sends.clone();
        self.store.read(move |c| sends::still_go(c, since, &sends)).await.unwrap_or_else(|_| vec![false; n])
    }
}
