//! How much memory Rinse holds, and what it lets go of when that is more than it may.
//!
//! What is asked again and again about everybody (who may be mailed, in which order they stand) is answered from memory. It is let go, the longest
//! unused first, when Rinse holds more than its budget: the next question reads the data file again, which takes some seconds of a million people.

use crate::state::App;
use axum::Json;
use axum::extract::State;
use rinse_store::{Held, What};
use serde::Serialize;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use utoipa::ToSchema;

/// A megabyte here.
const MEGABYTE: u64 = 1_000_000;
/// Megabytes that Rinse may hold when nothing else is said.
pub const USUAL_BUDGET: u32 = 600;
/// So often it is looked what is held.
const LOOKS: Duration = Duration::from_secs(5);
/// So many looks are a minute: the time after which what nobody asks for is looked for.
const A_MINUTE: u32 = 12;

/// What may be held; cheap to clone.
#[derive(Clone)]
pub(crate) struct Budget {
    bytes: u64,
    /// How often something was let go for it since the start.
    let_go: Arc<AtomicU64>,
}

impl Budget {
    pub(crate) fn megabytes(n: u32) -> Self {
        Self { bytes: u64::from(n) * MEGABYTE, let_go: Arc::default() }
    }

    /// So many bytes too many are held, where the process has so many of its own and keeps so many of them between questions.
    fn over(&self, private: Option<u64>, kept: u64) -> u64 {
        // Where the system doesn't tell, what is kept is known at least.
        private.unwrap_or(kept).saturating_sub(self.bytes)
    }
}

/// The memory of this process that is in no file, in bytes; none: the system doesn't tell.
fn private() -> Option<u64> {
    private_in(&std::fs::read_to_string("/proc/self/status").ok()?)
}

/// The same in what Linux says of a process (`proc_pid_status(5)`), in units of 1,024 bytes there.
fn private_in(status: &str) -> Option<u64> {
    let line = status.lines().find_map(|l| l.strip_prefix("RssAnon:"))?;
    line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()?.checked_mul(1024)
}

fn bytes_of(held: &[Held]) -> u64 {
    held.iter().map(|h| h.bytes as u64).sum()
}

impl App {
    /// Holds no more than may be held, until Rinse ends.
    pub(crate) async fn keep_within(self) {
        let mut looks = tokio::time::interval(LOOKS);
        let mut closing = self.closing();
        let mut minute = 0;
        loop {
            tokio::select! {
                _ = looks.tick() => {}
                _ = closing.wait_for(|over| *over) => return,
            }
            minute = (minute + 1) % A_MINUTE;
            let app = self.clone();
            // What is let go may be in use, and waiting for it is no work for these threads.
            let _ = tokio::task::spawn_blocking(move || app.look(minute == 0)).await;
        }
    }

    fn look(&self, rest: bool) {
        if rest {
            self.store.rest();
        }
        let over = self.memory.over(private(), bytes_of(&self.store.held()));
        if over == 0 {
            return;
        }
        let gone = self.store.let_go(usize::try_from(over).unwrap_or(usize::MAX));
        if !gone.is_empty() {
            self.memory.let_go.fetch_add(1, Ordering::Relaxed);
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
    Json(Memory { budget: app.memory.bytes, private: private(), kept, let_go: app.memory.let_go.load(Ordering::Relaxed) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_too_many_goes_by_the_process_and_by_what_is_kept_where_that_is_unknown() {
        let b = Budget::megabytes(600);
        assert_eq!(b.over(Some(700 * MEGABYTE), 50 * MEGABYTE), 100 * MEGABYTE);
        assert_eq!(b.over(Some(600 * MEGABYTE), 600 * MEGABYTE), 0);
        assert_eq!(b.over(None, 601 * MEGABYTE), MEGABYTE);
        assert_eq!(private_in("Name:\trinse\nVmRSS:\t 9 kB\nRssAnon:\t   52345 kB\nRssFile:\t 1 kB\n"), Some(52345 * 1024));
        assert_eq!(private_in("RssAnon:\tmany"), None);
        assert!(private().is_none_or(|p| p > MEGABYTE), "this process has some memory");
    }
}
