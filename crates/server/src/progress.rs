//! Progress of long work, as server-sent events; a page that is reloaded picks it up again.

use axum::response::sse::{Event, KeepAlive, Sse};
use futures::Stream;
use serde::Serialize;
use std::collections::HashMap;
use std::convert::Infallible;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::watch;
use tokio_stream::StreamExt;
use tokio_stream::wrappers::WatchStream;
use utoipa::ToSchema;

#[derive(Debug, Clone, Serialize, Default, ToSchema)]
pub(crate) struct Progress {
    pub(crate) running: bool,
    pub(crate) done: i64,
    pub(crate) total: i64,
    pub(crate) words: String,
    pub(crate) error: Option<String>,
    /// How often this work has ended. A watcher is told the newest state only, so work that is done
    /// at once may never be seen running: this is what shows that it ran.
    pub(crate) ended: u64,
}

impl Progress {
    /// The work is over, for good or with a reason.
    pub(crate) fn end(&mut self, error: Option<String>) {
        self.running = false;
        self.error = error;
        self.ended += 1;
    }
}

/// Work that can be followed; `/api/progress/` names it so.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Job {
    /// `clock`
    Clock,
    /// `import-7`
    Import(i64),
    /// A run that is taken back: `change-7`.
    Change(i64),
}

impl Job {
    /// The work of a name; none when there is no such work.
    pub(crate) fn named(name: &str) -> Option<Self> {
        match name.split_once('-') {
            None if name == "clock" => Some(Self::Clock),
            Some(("import", id)) => id.parse().ok().map(Self::Import),
            Some(("change", id)) => id.parse().ok().map(Self::Change),
            _ => None,
        }
    }
}

/// The work there is.
#[derive(Clone, Default)]
pub(crate) struct Jobs(Arc<Mutex<HashMap<Job, watch::Sender<Progress>>>>);

impl Jobs {
    pub(crate) fn sender(&self, job: Job) -> watch::Sender<Progress> {
        let mut jobs = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        jobs.entry(job).or_insert_with(|| watch::channel(Progress::default()).0).clone()
    }

    pub(crate) fn stream(&self, job: Job) -> Sse<impl Stream<Item = Result<Event, Infallible>> + use<>> {
        let stream = WatchStream::new(self.sender(job).subscribe()).map(|p| Ok(Event::default().json_data(p).unwrap_or_default()));
        Sse::new(stream).keep_alive(KeepAlive::default())
    }
}
