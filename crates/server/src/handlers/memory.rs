//! What is held in memory: shown, and let go, the longest unused first, when it is more than may be ([`crate::memory`]).
//!
//! What is asked again and again about everybody (who may be mailed, in which order they stand) is answered from memory. Once it is let go, the next
//! question reads the data file again, which takes some seconds of a million people.

use crate::memory::private;
use crate::state::App;
use axum::Json;
use axum::extract::State;
use rinse_store::{Held, What};
use serde::Serialize;
use std::time::Duration;
use utoipa::ToSchema;

/// So often it is looked what is held.
const LOOKS: Duration = Duration::from_secs(5);

impl App {
    /// Holds no more than may be held, until Rinse ends.
    pub(crate) async fn keep_within(self) {
        let mut looks = tokio::time::interval(LOOKS);
        let mut closing = self.closing();
        loop {
            tokio::select! {
                _ = looks.tick() => {}
                _ = closing.wait_for(|over| *over) => return,
            }
            let app = self.clone();
            // What is let go may be in use, and waiting for it is no work for these threads.
            let _ = tokio::task::spawn_blocking(move || app.look()).await;
        }
    }

    fn look(&self) {
        self.store.rest();
        let over = self.memory.over(private(), &self.store.held());
        if over == 0 {
            return;
        }
        let gone = self.store.let_go(usize::try_from(over).unwrap_or(usize::MAX));
        if !gone.is_empty() {
            self.memory.has_let_go();
            tracing::info!("{over} bytes over what may be held in memory (--memory): let go of {gone:?}");
        }
    }
}

/// Something that is kept in memory, so that it needn't be read again.
#[derive(Serialize, ToSchema)]
#[schema(as = MemoryPart)]
pub(crate) struct Part {
    what: What,
    bytes: u64,
    /// Seconds since somebody asked for it.
    unused_for: u64,
}

/// What is held in memory.
#[derive(Serialize, ToSchema)]
pub(crate) struct Memory {
    /// Bytes that may be held (`--memory`).
    budget: u64,
    /// Bytes of this process that are in no file; none: this system doesn't tell.
    private: Option<u64>,
    kept: Vec<Part>,
    /// How often something was let go since the start because more was held than may be.
    let_go: u64,
}

/// How much memory Rinse holds, and for what.
#[utoipa::path(get, path = "/api/memory", responses((status = 200, body = Memory)))]
pub(crate) async fn memory(State(app): State<App>) -> Json<Memory> {
    let part = |h: Held| Part { what: h.what, bytes: h.bytes as u64, unused_for: h.unused.as_secs() };
    let kept = app.store.held().into_iter().map(part).collect();
    Json(Memory { budget: app.memory.bytes, private: private(), kept, let_go: app.memory.times() })
}
